package calendar

import (
	"testing"
	"time"

	"nivot/internal/core/value"
)

func TestResolveDST(t *testing.T) {
	for _, c := range []struct{ zone, wall, want string }{
		{"Europe/London", "2027-03-28T01:30", "2027-03-28T02:30:00+01:00"}, // skipped: offset before it
		{"Europe/London", "2027-03-28T00:59", "2027-03-28T00:59:00Z"},
		{"Europe/London", "2027-03-28T02:00", "2027-03-28T02:00:00+01:00"},
		{"Europe/London", "2027-10-31T01:30", "2027-10-31T01:30:00+01:00"}, // repeated: the first
		{"Europe/Berlin", "2027-03-28T02:30", "2027-03-28T03:30:00+02:00"},
		{"Europe/Berlin", "2027-10-31T02:00", "2027-10-31T02:00:00+02:00"},
		{"America/New_York", "2027-03-14T02:30", "2027-03-14T03:30:00-04:00"},
		{"America/New_York", "2027-11-07T01:30", "2027-11-07T01:30:00-04:00"},
		{"Australia/Lord_Howe", "2027-10-03T02:15", "2027-10-03T02:45:00+11:00"}, // half an hour
		{"Australia/Lord_Howe", "2027-04-04T01:45", "2027-04-04T01:45:00+11:00"},
		{"Pacific/Apia", "2011-12-30T12:00", "2011-12-31T12:00:00+14:00"}, // a skipped day
		{"UTC", "2027-03-28T01:30", "2027-03-28T01:30:00Z"},
		{"Asia/Kolkata", "2027-03-28T01:30", "2027-03-28T01:30:00+05:30"},
	} {
		loc, err := time.LoadLocation(c.zone)
		if err != nil {
			t.Fatal(err)
		}
		w, err := value.ParseMoment(c.wall, value.YearMonthDay, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := Resolve(w, loc).Format(time.RFC3339); got != c.want {
			t.Errorf("%s %s: %s, want %s", c.zone, c.wall, got, c.want)
		}
	}
}

// Resolve never goes backwards as wall time goes forward outside a repeated
// hour, and a wall time that exists maps back to itself.
func TestResolveEveryQuarterHour(t *testing.T) {
	for _, zone := range []string{"Europe/London", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca"} {
		loc, _ := time.LoadLocation(zone)
		start := value.DayOf(2027, 1, 1)
		for d := start; d < start+366; d++ {
			for s := int32(0); s < 86400; s += 900 {
				w := value.Wall{Day: d, Second: s}
				got := Resolve(w, loc)
				back := value.WallAt(got)
				if back == w {
					if o := value.WallAt(got.Add(-time.Hour).In(loc)); o == w {
						t.Fatalf("%s %s: not the first reading", zone, w)
					}
					continue
				}
				if back.Compare(w) < 0 {
					t.Fatalf("%s %s: resolved before itself, %s", zone, w, back)
				}
			}
		}
	}
}

func TestWorkingDays(t *testing.T) {
	c, err := New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range []struct {
		from string
		n    int
		want string
	}{
		{"2027-03-29", -1, "2027-03-25"},
		{"2027-03-29", 0, "2027-03-30"},
		{"2027-03-30", 0, "2027-03-30"},
		{"2027-03-25", 1, "2027-03-30"},
		{"2027-03-27", 1, "2027-03-30"},
		{"2027-03-30", -10, "2027-03-12"},
	} {
		d, _ := value.ParseDay(k.from, value.YearMonthDay)
		if got := c.Add(d, k.n).String(); got != k.want {
			t.Errorf("%s %+d: %s, want %s", k.from, k.n, got, k.want)
		}
	}
	if _, err := New(nil, nil); err == nil {
		t.Error("a calendar without weekdays was taken")
	}
}
