package value

import (
	"fmt"
	"time"
)

// Day is a calendar day of the proleptic Gregorian calendar, counted from
// 1970-01-01 (day 0). It has no zone.
type Day int32

// DayOf gives the day of a date; a day of the month out of range is carried
// over as time.Date does.
func DayOf(year int, month time.Month, day int) Day {
	return Day(time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// DayAt gives the calendar day of an instant in the instant's own zone.
func DayAt(t time.Time) Day {
	y, m, d := t.Date()
	return DayOf(y, m, d)
}

// Date gives year, month and day of the month.
func (d Day) Date() (int, time.Month, int) { return d.utc().Date() }

// Weekday gives the day of the week.
func (d Day) Weekday() time.Weekday { return d.utc().Weekday() }

func (d Day) utc() time.Time { return time.Unix(int64(d)*86400, 0).UTC() }

// String writes the day as ISO 8601 does: 2027-03-29.
func (d Day) String() string {
	y, m, dd := d.Date()
	return fmt.Sprintf("%04d-%02d-%02d", y, m, dd)
}

// AddMonths moves by n months and clamps to the month's end: 31 January and
// one month is 28 February.
func (d Day) AddMonths(n int) Day {
	y, m, dd := d.Date()
	first := time.Date(y, m+time.Month(n), 1, 0, 0, 0, 0, time.UTC)
	last := first.AddDate(0, 1, -1).Day()
	return DayOf(first.Year(), first.Month(), min(dd, last))
}

// Wall is a wall time: a day and the seconds since its midnight, without a
// zone.
type Wall struct {
	Day    Day
	Second int32
}

// WallAt gives the wall time of an instant in its own zone.
func WallAt(t time.Time) Wall {
	h, m, s := t.Clock()
	return Wall{Day: DayAt(t), Second: int32(h*3600 + m*60 + s)}
}

// Compare orders wall times.
func (w Wall) Compare(o Wall) int {
	if w.Day != o.Day {
		return int(sign(int64(w.Day) - int64(o.Day)))
	}
	return int(sign(int64(w.Second) - int64(o.Second)))
}

// Time gives the wall time as an instant of UTC.
func (w Wall) Time() time.Time { return w.Day.utc().Add(time.Duration(w.Second) * time.Second) }

// Clock gives hour, minute and second.
func (w Wall) Clock() (h, m, s int) {
	return int(w.Second) / 3600, int(w.Second) / 60 % 60, int(w.Second) % 60
}

// String writes the wall time as ISO 8601 does, with seconds only where there
// are any: 2027-03-29T14:30.
func (w Wall) String() string {
	h, m, s := w.Clock()
	if s == 0 {
		return fmt.Sprintf("%sT%02d:%02d", w.Day, h, m)
	}
	return fmt.Sprintf("%sT%02d:%02d:%02d", w.Day, h, m, s)
}
