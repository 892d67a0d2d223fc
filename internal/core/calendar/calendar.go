// Package calendar answers questions about time that a rule asks: at which
// instant a wall time falls in a zone, and which days are working days.
package calendar

import (
	"fmt"
	"slices"
	"time"

	"nivot/internal/core/value"
)

// Resolve gives the instant of a wall time in a zone as RFC 5545, section
// 3.3.5, reads it: a time that the spring change skips is read with the offset
// before it (02:30 becomes 03:30), one that the autumn change repeats is its
// first.
func Resolve(w value.Wall, loc *time.Location) time.Time {
	y, m, d := w.Day.Date()
	h, mi, s := w.Clock()
	t := time.Date(y, m, d, h, mi, s, 0, loc)
	// Far from any change of the zone's offset there is but one reading.
	const near = 27 * time.Hour
	if start, end := t.ZoneBounds(); (start.IsZero() || t.Sub(start) > near) && (end.IsZero() || end.Sub(t) > near) {
		return t
	}
	// The offsets in force on either side of the wall time decide: one that
	// maps it back to itself is a true reading, the earlier instant wins.
	utc := time.Date(y, m, d, h, mi, s, 0, time.UTC)
	_, before := t.Add(-26 * time.Hour).Zone()
	start, end := t.ZoneBounds()
	offsets := []int{before}
	if !start.IsZero() {
		_, o := start.Add(-time.Second).Zone()
		offsets = append(offsets, o)
	}
	_, here := t.Zone()
	offsets = append(offsets, here)
	if !end.IsZero() {
		_, o := end.Zone()
		offsets = append(offsets, o)
	}
	var first time.Time
	for _, o := range offsets {
		c := utc.Add(-time.Duration(o) * time.Second).In(loc)
		if value.WallAt(c) == w && (first.IsZero() || c.Before(first)) {
			first = c
		}
	}
	if !first.IsZero() {
		return first
	}
	// Skipped: read it with the offset before the change it falls into.
	change := start
	if change.IsZero() || value.WallAt(change.Add(-time.Second).In(loc)).Compare(w) > 0 {
		change = end
	}
	if value.WallAt(t).Compare(w) < 0 && !end.IsZero() {
		change = end
	}
	_, o := change.Add(-time.Second).Zone()
	return utc.Add(-time.Duration(o) * time.Second).In(loc)
}

// Calendar is a working calendar: the weekdays that are worked, and closed
// days.
type Calendar struct {
	Weekdays [7]bool // by time.Weekday
	Closed   map[value.Day]bool
}

// Default is Monday to Friday without closed days.
func Default() Calendar {
	return Calendar{Weekdays: [7]bool{false, true, true, true, true, true, false}}
}

// names of the weekdays in the bundle, by time.Weekday.
var names = [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// New builds a calendar from weekday names ("mon" to "sun"; at least one) and
// closed days (YYYY-MM-DD).
func New(weekdays, closed []string) (Calendar, error) {
	c := Calendar{Closed: map[value.Day]bool{}}
	for _, w := range weekdays {
		found := false
		for i, n := range names {
			if n == value.Fold(w) {
				c.Weekdays[i], found = true, true
			}
		}
		if !found {
			return c, fmt.Errorf("weekday %q is not known; use mon, tue, wed, thu, fri, sat or sun", w)
		}
	}
	if c.Weekdays == [7]bool{} {
		return c, fmt.Errorf("a working calendar needs at least one weekday")
	}
	for _, s := range closed {
		d, err := value.ParseDay(s, value.YearMonthDay)
		if err != nil {
			return c, fmt.Errorf("closed day: %w", err)
		}
		c.Closed[d] = true
	}
	return c, nil
}

// Names gives the weekdays and closed days in the form New takes, weekdays
// from Monday on, days in order.
func (c Calendar) Names() (weekdays, closed []string) {
	for i := 1; i <= 7; i++ {
		if c.Weekdays[i%7] {
			weekdays = append(weekdays, names[i%7])
		}
	}
	days := make([]value.Day, 0, len(c.Closed))
	for d := range c.Closed {
		days = append(days, d)
	}
	slices.Sort(days)
	for _, d := range days {
		closed = append(closed, d.String())
	}
	return weekdays, closed
}

// Working tells whether d is a working day.
func (c Calendar) Working(d value.Day) bool { return c.Weekdays[d.Weekday()] && !c.Closed[d] }

// limit bounds the search for a working day: a calendar may close every day
// of a lifetime, and the answer is then the day itself.
const limit = 366 * 200

// Add counts n working days from d: -1 is the last working day before d, +1
// the first after it, 0 is d or, if that is none, the next working day.
func (c Calendar) Add(d value.Day, n int) value.Day {
	step := value.Day(1)
	if n < 0 {
		step = -1
	}
	if n == 0 {
		for i := 0; i < limit; i++ {
			if c.Working(d + value.Day(i)) {
				return d + value.Day(i)
			}
		}
		return d
	}
	left, x := n, d
	for i := 0; i < limit && left != 0; i++ {
		if x += step; c.Working(x) {
			left -= int(step)
		}
	}
	return x
}

// Between counts the working days after from up to and with to; where to lies
// before from, the working days from to up to the day before from, negative.
func (c Calendar) Between(from, to value.Day) int {
	lo, hi, sign := from+1, to, 1
	if to < from {
		lo, hi, sign = to, from-1, -1
	}
	span := int(hi-lo) + 1
	if span <= 0 {
		return 0
	}
	n := span / 7 * c.week()
	for d := hi - value.Day(span%7) + 1; d <= hi; d++ {
		if c.Weekdays[d.Weekday()] {
			n++
		}
	}
	for d := range c.Closed {
		if d >= lo && d <= hi && c.Weekdays[d.Weekday()] {
			n--
		}
	}
	return sign * n
}

// week counts the weekdays that are worked.
func (c Calendar) week() int {
	n := 0
	for _, on := range c.Weekdays {
		if on {
			n++
		}
	}
	return n
}
