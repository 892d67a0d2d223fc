package rule

import (
	"fmt"
	"strings"
	"time"
)

// ParseDuration reads an ISO 8601 duration of weeks, days, hours and minutes
// (P3D, PT1H, P1W, P1DT12H); days count 24 hours.
func ParseDuration(s string) (time.Duration, error) {
	fail := fmt.Errorf("%q is not a duration; write it as P3D, PT12H or P1W", s)
	rest, ok := strings.CutPrefix(s, "P")
	if !ok || rest == "" || strings.HasSuffix(rest, "T") {
		return 0, fail
	}
	var total time.Duration
	n, have, inTime, rank := 0, false, false, 0
	units := map[string]struct {
		d    time.Duration
		rank int
	}{"W": {7 * 24 * time.Hour, 1}, "D": {24 * time.Hour, 2}, "TH": {time.Hour, 3}, "TM": {time.Minute, 4}}
	for _, c := range rest {
		switch {
		case c >= '0' && c <= '9':
			if n = n*10 + int(c-'0'); n > 1_000_000 {
				return 0, fail
			}
			have = true
		case c == 'T' && !inTime && !have:
			inTime = true
		default:
			key := string(c)
			if inTime {
				key = "T" + key
			}
			u, ok := units[key]
			if !ok || !have || u.rank <= rank {
				return 0, fail
			}
			total += time.Duration(n) * u.d
			n, have, rank = 0, false, u.rank
		}
	}
	if have || total <= 0 {
		return 0, fail
	}
	return total, nil
}
