package calendar

import (
	"time"

	"nivot/internal/core/value"
)

// Window is when emails may go: on some weekdays, on working days only, from a
// time of day (which counts) until another (which does not).
type Window struct {
	Weekdays [7]bool // by time.Weekday
	Working  bool
	From     int32 // seconds since midnight
	Until    int32 // the same; 86400 is midnight at the day's end
}

// Shift says where what falls due outside a window goes.
type Shift string

// The shifts.
const (
	Later   Shift = "later"
	Earlier Shift = "earlier"
	NoShift Shift = "none"
)

// dayEnd is midnight at a day's end, in seconds.
const dayEnd = 24 * 3600

// reach is how many days are looked at for a window; where none is found
// nothing is moved.
const reach = 800

// open gives the window of a day, if it has one.
func (w *Window) open(d value.Day, loc *time.Location, c Calendar) (start, end time.Time, ok bool) {
	if !w.Weekdays[d.Weekday()] || w.Working && !c.Working(d) {
		return start, end, false
	}
	start = Resolve(value.Wall{Day: d, Second: w.From}, loc)
	last := value.Wall{Day: d, Second: w.Until}
	if w.Until >= dayEnd {
		last = value.Wall{Day: d + 1}
	}
	end = Resolve(last, loc)
	return start, end, start.Before(end)
}

// Contains tells whether an instant lies in the window.
func (w *Window) Contains(t time.Time, loc *time.Location, c Calendar) bool {
	start, end, ok := w.open(value.DayAt(t.In(loc)), loc, c)
	return ok && !t.Before(start) && t.Before(end)
}

// Next gives an instant that lies in the window, or else the start of the
// next one.
func (w *Window) Next(t time.Time, loc *time.Location, c Calendar) time.Time {
	d := value.DayAt(t.In(loc))
	for i := value.Day(0); i < reach; i++ {
		if start, end, ok := w.open(d+i, loc, c); ok && t.Before(end) {
			if t.Before(start) {
				return start
			}
			return t
		}
	}
	return t
}

// Last gives the latest window that ends at or before an instant: at the
// instant's time of day if that lies inside, else its start.
func (w *Window) Last(t time.Time, loc *time.Location, c Calendar) time.Time {
	wall := value.WallAt(t.In(loc))
	d := wall.Day
	for i := value.Day(0); i < reach; i++ {
		start, end, ok := w.open(d-i, loc, c)
		if !ok || end.After(t) {
			continue
		}
		if x := Resolve(value.Wall{Day: d - i, Second: wall.Second}, loc); !x.Before(start) && x.Before(end) {
			return x
		}
		return start
	}
	return t
}

// Move gives the instant at which something due at t goes: t itself inside the
// window, else as the shift says.
func (w *Window) Move(t time.Time, s Shift, loc *time.Location, c Calendar) time.Time {
	if w == nil || s == NoShift || w.Contains(t, loc, c) {
		return t
	}
	if s == Earlier {
		return w.Last(t, loc, c)
	}
	return w.Next(t, loc, c)
}

// Slack is by how many days a window may move something.
func (w *Window) Slack(c Calendar) int {
	switch {
	case w == nil:
		return 0
	case w.Working:
		return 15 + 7*min(len(c.Closed), reach/7)
	}
	return 8
}
