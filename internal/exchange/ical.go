package exchange

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"nivot/internal/core/value"
)

// FeedEntry is one coming email in a feed.
type FeedEntry struct {
	ID      string // of its occasion: the same for as long as it comes
	At      time.Time
	Row     string
	Rule    string
	To      string
	Subject string
	Fault   string // why it cannot go as its row is; "" where it can
	Link    string
}

// WriteFeed writes coming emails as a calendar (RFC 5545), each an event of no
// length. made is when, and host the part of the identifiers after the @.
func WriteFeed(w io.Writer, name, host string, made time.Time, entries []FeedEntry) error {
	c := ics.NewCalendarFor("Nivot")
	c.SetMethod(ics.MethodPublish)
	c.SetName(name)
	c.SetXWRCalName(name)
	for _, e := range entries {
		ev := c.AddEvent(e.ID + "@" + host)
		ev.SetDtStampTime(made)
		ev.SetStartAt(e.At)
		ev.SetSummary(strings.TrimPrefix(e.Row+": "+e.Subject, ": "))
		lines := []string{"To " + e.To, "By " + e.Rule}
		if e.To == "" {
			lines[0] = "To nobody yet"
		}
		if e.Fault != "" {
			ev.SetSummary("Cannot go: " + e.Row)
			lines = append(lines, "It cannot go as the row is: "+e.Fault)
		}
		ev.SetDescription(strings.Join(lines, "\n"))
		if e.Link != "" {
			ev.SetURL(e.Link)
		}
		ev.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return c.SerializeTo(w, ics.WithNewLineWindows)
}

// maxClosed bounds the days that a calendar file gives.
const maxClosed = 2000

// ReadClosedDays reads the days that the events of a calendar (RFC 5545) cover:
// whole days, an event of several each of them. Events that come round again
// give their first day alone.
func ReadClosedDays(r io.Reader) (days []value.Day, err error) {
	c, err := ics.ParseCalendar(r)
	if err != nil {
		return nil, fmt.Errorf("this is no calendar file (.ics): %w", err)
	}
	seen := map[value.Day]bool{}
	for _, ev := range c.Events() {
		from, err := ev.GetAllDayStartAt()
		if err != nil {
			if from, err = ev.GetStartAt(); err != nil {
				return nil, fmt.Errorf("the event %q has no day that can be read", summary(ev))
			}
		}
		first := value.DayOf(from.Year(), from.Month(), from.Day())
		last := first
		if to, err := ev.GetAllDayEndAt(); err == nil { // the day after the last (RFC 5545, 3.6.1)
			last = max(first, value.DayOf(to.Year(), to.Month(), to.Day())-1)
		}
		for d := first; d <= last; d++ {
			if seen[d] {
				continue
			}
			if seen[d] = true; len(seen) > maxClosed {
				return nil, fmt.Errorf("the calendar covers more than %d days; take one that has closed days alone", maxClosed)
			}
			days = append(days, d)
		}
	}
	if len(days) == 0 {
		return nil, fmt.Errorf("the calendar has no events, so no day is closed")
	}
	slices.Sort(days)
	return days, nil
}

func summary(ev *ics.VEvent) string {
	if p := ev.GetProperty(ics.ComponentPropertySummary); p != nil {
		return p.Value
	}
	return "without a name"
}
