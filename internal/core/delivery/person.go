package delivery

import (
	"fmt"
	"slices"
	"time"

	"nivot/internal/core/calendar"
)

// PersonLimit is how many emails one mailbox gets in To within a time, over all
// rules.
type PersonLimit struct {
	N      int    `json:"n"`      // 0 for no limit
	Within string `json:"within"` // ISO 8601 duration
	Skip   bool   `json:"skip"`   // what is over it is skipped; else it waits, as over the daily cap
}

// Validate reports what is wrong with the limit.
func (l PersonLimit) Validate() error {
	if l.N < 0 {
		return fmt.Errorf("the number of emails is at least 1, or 0 for no limit")
	}
	if l.N == 0 {
		return nil
	}
	d, err := calendar.ParseDuration(l.Within)
	if err != nil {
		return err
	}
	if longest := time.Duration(d.Days)*24*time.Hour + d.Time; longest > maxWithin {
		return fmt.Errorf("the time is a year at the most")
	}
	return nil
}

const maxWithin = 366 * 24 * time.Hour

// Since gives the instant from which on emails count at now. An email that went
// exactly the time before counts no more.
func (l PersonLimit) Since(now time.Time) time.Time {
	d, err := calendar.ParseDuration(l.Within)
	if err != nil {
		return now
	}
	return d.Before(now, time.UTC)
}

// Becomes gives what becomes of an email, due at an instant, for whose mailboxes
// there is room at another.
func (l PersonLimit) Becomes(due, room time.Time) State {
	if l.Skip {
		return Skipped
	}
	return Waits(due, room)
}

// Over counts of the emails that a mailbox is to get, in time order, those that
// do not go when they are due, by what it had before and what others send it
// meanwhile, in time order too.
func (l PersonLimit) Over(had, others, gets []time.Time) (n int) {
	had = slices.Clone(had)
	for len(gets) > 0 || len(others) > 0 {
		ours := len(others) == 0 || len(gets) > 0 && gets[0].Before(others[0])
		from := &others
		if ours {
			from = &gets
		}
		t := (*from)[0]
		*from = (*from)[1:]
		at := l.Room(had, t)
		if ours && at.After(t) {
			n++
		}
		if !l.Skip || !at.After(t) {
			had = append(had, at)
		}
	}
	return n
}

// Room gives when a mailbox may have another email that has had some, in time
// order: now, or later.
func (l PersonLimit) Room(had []time.Time, now time.Time) time.Time {
	d, err := calendar.ParseDuration(l.Within)
	if l.N == 0 || err != nil || len(had) < l.N {
		return now
	}
	if at := d.After(had[len(had)-l.N], time.UTC); at.After(now) {
		return at
	}
	return now
}
