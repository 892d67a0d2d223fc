package calendar

import (
	"testing"
	"time"

	"nivot/internal/core/value"
)

func TestParseDuration(t *testing.T) {
	for in, want := range map[string]Duration{"P3D": {Days: 3}, "PT1H": {Time: time.Hour}, "P1W": {Days: 7},
		"P1W2D":      {Days: 9},
		"P1DT12H30M": {1, 12*time.Hour + 30*time.Minute}, "PT90S": {Time: 90 * time.Second}} {
		if got, err := ParseDuration(in); got != want || err != nil {
			t.Errorf("%q: %v, %v", in, got, err)
		}
	}
	for _, in := range []string{"", "P", "PT", "3D", "P3", "P3H", "PT1D", "P1D2W", "P0D", "P99999999D", "P1Y", "P1M",
		"PT1H2H"} {
		if got, err := ParseDuration(in); err == nil {
			t.Errorf("%q was read as %v", in, got)
		}
	}
}

// Section 3: days and weeks count in wall time, hours as they elapse.
func TestDurationOverTheClockChange(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	at := time.Date(2027, 3, 27, 9, 0, 0, 0, london) // the clocks change on the 28th
	for in, want := range map[string]string{"P1D": "2027-03-28T09:00:00+01:00", "PT24H": "2027-03-28T10:00:00+01:00",
		"P1W": "2027-04-03T09:00:00+01:00"} {
		d, _ := ParseDuration(in)
		got := d.After(at, london)
		if got.In(london).Format(time.RFC3339) != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
		if back := d.Before(got, london); !back.Equal(at) {
			t.Errorf("%s and back: %s", in, back)
		}
	}
	for in, want := range map[string]string{"P1D": "a day", "P1W": "a week", "P3D": "3 days", "PT24H": "a day",
		"PT90M": "an hour and 30 minutes"} {
		if d, _ := ParseDuration(in); d.Words() != want {
			t.Errorf("%s: %s", in, d.Words())
		}
	}
}

// Section 3: send windows and where they move what falls due outside.
func TestWindow(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	cal, err := New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
	if err != nil {
		t.Fatal(err)
	}
	all := [7]bool{true, true, true, true, true, true, true}
	office := &Window{Weekdays: all, Working: true, From: 8 * 3600, Until: 17 * 3600}
	night := &Window{Weekdays: all, From: 22 * 3600, Until: 24 * 3600}
	for _, c := range []struct {
		w     *Window
		s     Shift
		t     string
		want  string
		about string
	}{
		{office, Later, "2027-03-15T08:00", "2027-03-15T08:00", "from counts"},
		{office, Later, "2027-03-15T17:00", "2027-03-16T08:00", "until does not"},
		{office, Later, "2027-03-15T03:00", "2027-03-15T08:00", "before it, the same day"},
		{office, Later, "2027-03-26T09:00", "2027-03-30T08:00", "over closed days and a weekend"},
		{office, Earlier, "2027-03-28T09:00", "2027-03-25T09:00", "back to the last working day, at its own time"},
		{office, Earlier, "2027-03-28T07:00", "2027-03-25T08:00", "whose time lies outside: the start"},
		{office, Earlier, "2027-03-15T18:00", "2027-03-15T08:00", "the same day's window counts"},
		{office, Earlier, "2027-03-15T07:00", "2027-03-12T08:00", "that has ended, not one that begins"},
		{office, NoShift, "2027-03-28T09:00", "2027-03-28T09:00", "none goes all the same"},
		{night, Later, "2027-03-15T23:59", "2027-03-15T23:59", "absent until is midnight"},
		{night, Later, "2027-03-16T00:00", "2027-03-16T22:00", "which does not count"},
		{nil, Later, "2027-03-28T03:00", "2027-03-28T03:00", "no window"},
	} {
		w, err := value.ParseMoment(c.t, value.YearMonthDay, nil)
		if err != nil {
			t.Fatal(err)
		}
		got := c.w.Move(Resolve(w, london), c.s, london, cal)
		if s := value.WallAt(got.In(london)).String(); s != c.want {
			t.Errorf("%s: %s, want %s", c.about, s, c.want)
		}
	}
	never := &Window{Weekdays: [7]bool{time.Sunday: true}, Working: true, Until: 86400}
	at := time.Date(2027, 3, 15, 9, 0, 0, 0, london)
	if got := never.Move(at, Later, london, cal); !got.Equal(at) {
		t.Errorf("a window that never opens moved it to %s", got)
	}
}

func TestWorkingDaysBetween(t *testing.T) {
	cal, _ := New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
	for from := value.DayOf(2027, 3, 1); from < value.DayOf(2027, 4, 20); from++ {
		for to := from - 40; to < from+40; to++ {
			want := 0
			for d := from + 1; d <= to; d++ {
				if cal.Working(d) {
					want++
				}
			}
			for d := to; d < from; d++ {
				if cal.Working(d) {
					want--
				}
			}
			if got := cal.Between(from, to); got != want {
				t.Fatalf("%s to %s: %d, want %d", from, to, got, want)
			}
		}
	}
}
