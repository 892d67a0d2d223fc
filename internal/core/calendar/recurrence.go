package calendar

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"nivot/internal/core/value"
)

// Recurrence is the instants of an RFC 5545 recurrence rule (section 3.3.10)
// with a start wall time. The rule runs in wall time, each time is then read
// as Resolve reads it: none that the spring change skips is left out, and two
// that fall together are one.
//
// What has been computed is kept, so a Recurrence is for one goroutine.
type Recurrence struct {
	zone    *time.Location
	start   value.Wall
	until   time.Time  // an instant; zero for none
	last    value.Wall // the last wall time; Day 0 for none
	hasLast bool

	next  func() (time.Time, bool) // wall times as UTC
	known []time.Time              // instants in order
	to    time.Time                // all instants up to here are known
	ended bool
}

// reachYears is how far after its start a recurrence is followed: a rule that
// matches nothing must end some day.
const reachYears = 120

var part = regexp.MustCompile(`^[A-Z]+=[A-Z0-9+,:-]+$`)

// NewRecurrence reads a rule such as FREQ=MONTHLY;BYDAY=2SA. An empty rule is
// the start alone. Refused are INTERVAL=0, COUNT with UNTIL, and rules finer
// than hourly.
func NewRecurrence(start value.Wall, rule string, zone *time.Location) (*Recurrence, error) {
	r := &Recurrence{zone: zone, start: start}
	begin := asUTC(start)
	if rule == "" {
		done := false
		r.next = func() (time.Time, bool) { first := !done; done = true; return begin, first }
		return r, nil
	}
	rest, err := r.read(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:"))
	if err != nil {
		return nil, err
	}
	if strings.Contains(rest, "BYWEEKNO=") && !strings.Contains(rest, "BYDAY=") &&
		!strings.Contains(rest, "BYMONTHDAY=") && !strings.Contains(rest, "BYYEARDAY=") {
		// What the rule does not say comes from the start: of a week its weekday.
		rest += ";BYDAY=" + [7]string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}[start.Day.Weekday()]
	}
	opt, err := rrule.StrToROption(rest)
	if err != nil {
		return nil, fmt.Errorf("%q is not a recurrence rule of RFC 5545: %w", rule, err)
	}
	opt.Dtstart = begin
	if opt.Until = begin.AddDate(reachYears, 0, 0); r.hasLast && asUTC(r.last).Before(opt.Until) {
		opt.Until = asUTC(r.last)
	}
	rr, err := rrule.NewRRule(*opt)
	if err != nil {
		return nil, fmt.Errorf("%q is not a recurrence rule of RFC 5545: %w", rule, err)
	}
	r.next = rr.Iterator()
	return r, nil
}

// read checks the rule's parts and takes UNTIL out, whose forms mean
// different things: with Z an instant, without it wall time, as a day all of
// that day.
func (r *Recurrence) read(rule string) (rest string, err error) {
	seen := map[string]bool{}
	var kept []string
	for _, p := range strings.Split(strings.TrimSuffix(rule, ";"), ";") {
		if !part.MatchString(p) {
			return "", fmt.Errorf("%q is not a part of a recurrence rule; write it as FREQ=WEEKLY", p)
		}
		name, v, _ := strings.Cut(p, "=")
		if seen[name] {
			return "", fmt.Errorf("%s stands there twice", name)
		}
		seen[name] = true
		switch name {
		case "FREQ":
			switch v {
			case "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY":
			case "MINUTELY", "SECONDLY":
				return "", errors.New("a schedule comes round hourly at the most")
			default:
				return "", fmt.Errorf("FREQ is YEARLY, MONTHLY, WEEKLY, DAILY or HOURLY, not %s", v)
			}
		case "INTERVAL":
			if strings.Trim(v, "0") == "" {
				return "", errors.New("INTERVAL is at least 1")
			}
		case "DTSTART", "TZID":
			return "", errors.New("the start stands beside the rule, not in it")
		case "UNTIL":
			if err := r.readUntil(v); err != nil {
				return "", err
			}
			continue
		}
		kept = append(kept, p)
	}
	if !seen["FREQ"] {
		return "", errors.New("FREQ is missing; write FREQ=WEEKLY")
	}
	if seen["COUNT"] && seen["UNTIL"] {
		return "", errors.New("COUNT and UNTIL do not go together")
	}
	return strings.Join(kept, ";"), nil
}

func (r *Recurrence) readUntil(v string) error {
	if t, err := time.Parse("20060102T150405Z", v); err == nil {
		r.until = t
		return nil
	}
	if t, err := time.Parse("20060102T150405", v); err == nil {
		r.last, r.hasLast = value.WallAt(t), true
		return nil
	}
	t, err := time.Parse("20060102", v)
	if err != nil {
		return fmt.Errorf("UNTIL is %s; write it as 20270331, 20270331T170000 or 20270331T170000Z", v)
	}
	r.last, r.hasLast = value.Wall{Day: value.DayAt(t), Second: dayEnd - 1}, true
	return nil
}

func asUTC(w value.Wall) time.Time {
	y, m, d := w.Day.Date()
	h, mi, s := w.Clock()
	return time.Date(y, m, d, h, mi, s, 0, time.UTC)
}

// ahead is how far beyond an instant wall times are generated, so that one
// that the spring change moves does not come after its successors.
const ahead = 50 * time.Hour

// grow makes all instants up to an instant known.
func (r *Recurrence) grow(to time.Time) {
	if r.ended || !to.After(r.to) {
		return
	}
	// A year at a time keeps the number of sorts small.
	to = to.Add(366 * 24 * time.Hour)
	for {
		wall, ok := r.next()
		if !ok {
			r.ended = true
			break
		}
		at := Resolve(value.WallAt(wall), r.zone)
		if r.until.IsZero() || !at.After(r.until) {
			r.known = append(r.known, at)
		}
		if wall.After(to.UTC().Add(ahead)) {
			break
		}
	}
	slices.SortFunc(r.known, time.Time.Compare)
	r.known = slices.CompactFunc(r.known, time.Time.Equal)
	r.to = to
}

// EndsBefore reports whether the rule says UNTIL an instant that lies before its start.
func (r *Recurrence) EndsBefore() bool {
	return r.hasLast && asUTC(r.last).Before(asUTC(r.start)) ||
		!r.until.IsZero() && r.until.Before(Resolve(r.start, r.zone))
}

// Empty reports whether no time fits the rule at all.
func (r *Recurrence) Empty() bool {
	return r.Next(asUTC(r.start).Add(-ahead)).IsZero()
}

// Between gives the instants after from and not after to.
func (r *Recurrence) Between(from, to time.Time) []time.Time {
	r.grow(to)
	i, _ := slices.BinarySearchFunc(r.known, from.Add(1), time.Time.Compare)
	j, _ := slices.BinarySearchFunc(r.known, to.Add(1), time.Time.Compare)
	if i >= j {
		return nil
	}
	return slices.Clone(r.known[i:j])
}

// Next gives the first instant after from; the zero time means never.
func (r *Recurrence) Next(from time.Time) time.Time {
	for to := from; ; to = to.Add(2 * 366 * 24 * time.Hour) {
		r.grow(to)
		i, _ := slices.BinarySearchFunc(r.known, from.Add(1), time.Time.Compare)
		if i < len(r.known) && (r.ended || !r.known[i].After(r.to)) {
			return r.known[i]
		}
		if r.ended {
			return time.Time{}
		}
	}
}
