package rule

import (
	"strings"
	"testing"
	"time"
)

// Section 2: a recurrence without an instant is refused, with why.
func TestRecurrenceWithoutInstant(t *testing.T) {
	for _, c := range []struct{ rrule, want string }{
		{"FREQ=DAILY;UNTIL=20270318", "ends before it begins"},
		{"FREQ=WEEKLY;UNTIL=20270319T092900", "ends before it begins"},
		{"FREQ=YEARLY;UNTIL=20270319T092959Z", "ends before it begins"},
		{"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "no day fits it"},
		{"FREQ=DAILY;UNTIL=20270319", ""},
		{"FREQ=WEEKLY;UNTIL=20270319T093000", ""},
	} {
		tr := Trigger{Kind: Schedule, Start: "2027-03-19T09:30", RRule: c.rrule}
		err := tr.validateSchedule(time.UTC)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: got %v, want %q", c.rrule, err, c.want)
		}
	}
}
