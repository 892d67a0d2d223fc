package calendar

import (
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/value"
)

// Duration is a span as ISO 8601 writes it: days and weeks are of the
// calendar, hours and minutes elapse.
type Duration struct {
	Days int
	Time time.Duration
}

// maxDuration bounds a number in a duration.
const maxDuration = 1_000_000

// ParseDuration reads a duration of weeks, days, hours, minutes and seconds:
// P3D, PT1H, P1W, P1DT12H. It is longer than nothing.
func ParseDuration(s string) (Duration, error) {
	var out Duration
	fail := fmt.Errorf("%q is not a duration; write it as P3D, PT12H or P1W", s)
	rest, ok := strings.CutPrefix(s, "P")
	if !ok || rest == "" || strings.HasSuffix(rest, "T") {
		return out, fail
	}
	n, have, inTime, rank := 0, false, false, 0
	for _, c := range rest {
		if c >= '0' && c <= '9' {
			if n = n*10 + int(c-'0'); n > maxDuration {
				return out, fail
			}
			have = true
			continue
		}
		if c == 'T' && !inTime && !have {
			inTime = true
			continue
		}
		r := strings.IndexRune("WD", c) + 1
		if inTime {
			if r = strings.IndexRune("HMS", c) + 1; r > 0 {
				r += 2
			}
		}
		if r == 0 || !have || r <= rank {
			return out, fail
		}
		switch r {
		case 1:
			out.Days += 7 * n
		case 2:
			out.Days += n
		case 3:
			out.Time += time.Duration(n) * time.Hour
		case 4:
			out.Time += time.Duration(n) * time.Minute
		case 5:
			out.Time += time.Duration(n) * time.Second
		}
		n, have, rank = 0, false, r
	}
	if have || out == (Duration{}) {
		return out, fail
	}
	return out, nil
}

// After gives the instant a duration after t: the days in wall time of the
// zone, then the rest as it elapses.
func (d Duration) After(t time.Time, loc *time.Location) time.Time {
	if d.Days != 0 {
		w := value.WallAt(t.In(loc))
		part := t.Sub(t.Truncate(time.Second))
		w.Day += value.Day(d.Days)
		t = Resolve(w, loc).Add(part)
	}
	return t.Add(d.Time)
}

// Before gives the instant a duration before t.
func (d Duration) Before(t time.Time, loc *time.Location) time.Time {
	return Duration{-d.Days, -d.Time}.After(t, loc)
}

// Words writes a duration as one says it: "a day", "3 hours".
func (d Duration) Words() string {
	var parts []string
	say := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, one)
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	days, t := d.Days, d.Time
	if t%(24*time.Hour) == 0 {
		days, t = days+int(t/(24*time.Hour)), 0
	}
	if days%7 == 0 {
		say(days/7, "a week", "weeks")
	} else {
		say(days, "a day", "days")
	}
	say(int(t/time.Hour), "an hour", "hours")
	say(int(t/time.Minute)%60, "a minute", "minutes")
	say(int(t/time.Second)%60, "a second", "seconds")
	return strings.Join(parts, " and ")
}
