package delivery

import (
	"testing"
	"time"
)

func TestPersonLimit(t *testing.T) {
	noon := time.Date(2027, 3, 19, 12, 0, 0, 0, time.UTC)
	ago := func(hours ...int) (out []time.Time) {
		for _, h := range hours {
			out = append(out, noon.Add(-time.Duration(h)*time.Hour))
		}
		return out
	}
	for _, c := range []struct {
		name string
		l    PersonLimit
		had  []time.Time
		want time.Duration // until there is room
	}{
		{"no limit", PersonLimit{}, ago(3, 2, 1), 0},
		{"none yet", PersonLimit{N: 1, Within: "P1D"}, nil, 0},
		{"below it", PersonLimit{N: 3, Within: "P1D"}, ago(2, 1), 0},
		{"at it", PersonLimit{N: 2, Within: "P1D"}, ago(20, 1), 4 * time.Hour},
		{"over it, as after the limit was lowered", PersonLimit{N: 1, Within: "P1D"}, ago(20, 1), 23 * time.Hour},
		{"exactly the time ago", PersonLimit{N: 1, Within: "P1D"}, ago(24), 0},
		{"long ago", PersonLimit{N: 1, Within: "PT6H"}, ago(30, 7), 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := c.l.Room(c.had, noon).Sub(noon); got != c.want {
				t.Errorf("room in %v, want %v", got, c.want)
			}
		})
	}
	three := []time.Time{noon, noon.Add(time.Hour), noon.Add(30 * time.Hour)}
	for _, c := range []struct {
		name   string
		l      PersonLimit
		had    []time.Time
		others []time.Time
		want   int
	}{
		// the second waits, and is in the way of the third
		{"nothing before", PersonLimit{N: 1, Within: "P1D"}, nil, nil, 2},
		{"nothing before, skipped", PersonLimit{N: 1, Within: "P1D", Skip: true}, nil, nil, 1},
		{"one before", PersonLimit{N: 2, Within: "P1D"}, ago(1), nil, 1},
		{"another rule's in between", PersonLimit{N: 2, Within: "P1D"}, nil, []time.Time{noon.Add(30 * time.Minute)}, 1},
		{"another rule's at the same instant goes first", PersonLimit{N: 1, Within: "P1D", Skip: true}, nil,
			[]time.Time{noon}, 2},
		{"only another rule's is over it", PersonLimit{N: 3, Within: "P1D", Skip: true}, nil,
			[]time.Time{noon.Add(2 * time.Hour), noon.Add(3 * time.Hour)}, 0},
	} {
		t.Run("over, "+c.name, func(t *testing.T) {
			if got := c.l.Over(c.had, c.others, three); got != c.want {
				t.Errorf("%d are over it, want %d", got, c.want)
			}
		})
	}
	for _, bad := range []PersonLimit{{N: -1}, {N: 1}, {N: 1, Within: "a week"}, {N: 1, Within: "P400D"}} {
		if bad.Validate() == nil {
			t.Errorf("%+v is let through", bad)
		}
	}
	if err := (PersonLimit{N: 2, Within: "P1W"}).Validate(); err != nil {
		t.Error(err)
	}
}
