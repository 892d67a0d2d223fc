package exchange

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"

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
	c.SetName(plainLine(name))
	c.SetXWRCalName(plainLine(name))
	for _, e := range entries {
		ev := c.AddEvent(e.ID + "@" + host)
		ev.SetDtStampTime(made)
		ev.SetStartAt(e.At)
		ev.SetSummary(plainLine(strings.TrimPrefix(e.Row+": "+e.Subject, ": ")))
		lines := []string{"To " + e.To, "By " + e.Rule}
		if e.To == "" {
			lines[0] = "To nobody yet"
		}
		if e.Fault != "" {
			ev.SetSummary(plainLine("Cannot go: " + e.Row))
			lines = append(lines, "It cannot go as the row is: "+e.Fault)
		}
		for i := range lines {
			lines[i] = plainLine(lines[i])
		}
		ev.SetDescription(strings.Join(lines, "\n"))
		if e.Link != "" {
			ev.SetURL(e.Link)
		}
		ev.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return c.SerializeTo(w, ics.WithNewLineWindows)
}

// plainLine is a text without what would end a line of a calendar, or is no text there: CR, LF and other control
// characters (RFC 5545, 3.1).
func plainLine(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return r
		case unicode.IsControl(r), r == '\u2028', r == '\u2029':
			return ' '
		}
		return r
	}, s)
}

// maxClosed bounds the days that a calendar file gives.
const maxClosed = 2000

// Bounds of a calendar file, which are seen to before it is parsed: its bytes, its lines, the bytes of a line that is
// unfolded (RFC 5545, 3.1), the parameters of a property, and how deep components are in one another.
const (
	maxCalendar = 2 << 20
	maxLines    = 100_000
	maxLine     = 16 << 10
	maxParams   = 20
	maxNested   = 4
)

// boundedCalendar reads a calendar file and refuses what is larger than the bounds.
func boundedCalendar(r io.Reader) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, maxCalendar+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxCalendar {
		return nil, fmt.Errorf("the calendar is larger than %d MB", maxCalendar>>20)
	}
	var line struct { // unfolded, as far as it is known
		name         []byte // its first bytes
		long, params int
		past, quoted bool // the colon before its value; and, before that, within quotes
	}
	depth, number := 0, 0
	ends := func() error {
		switch name, _, _ := bytes.Cut(bytes.ToUpper(line.name), []byte(":")); string(name) {
		case "BEGIN":
			depth++
		case "END":
			depth--
		}
		if depth > maxNested {
			return fmt.Errorf("line %d: components are nested deeper than %d", number, maxNested)
		}
		return nil
	}
	for text := range bytes.Lines(b) {
		text = bytes.TrimRight(text, "\r\n")
		if len(text) > 0 && (text[0] == ' ' || text[0] == '\t') { // it goes on
			text = text[1:]
		} else if err := ends(); err != nil {
			return nil, err
		} else {
			line.name, line.long, line.params, line.past, line.quoted = nil, 0, 0, false, false
		}
		number++
		line.name = append(line.name, text[:min(len(text), len("BEGIN:")-min(len(line.name), len("BEGIN:")))]...)
		line.long += len(text)
		for _, c := range text {
			switch {
			case line.past:
			case c == '"':
				line.quoted = !line.quoted
			case c == ':' && !line.quoted:
				line.past = true
			case c == ';' && !line.quoted:
				line.params++
			}
		}
		switch {
		case number > maxLines:
			return nil, fmt.Errorf("the calendar has more than %d lines", maxLines)
		case line.long > maxLine:
			return nil, fmt.Errorf("line %d is longer than %d kB", number, maxLine>>10)
		case line.params > maxParams:
			return nil, fmt.Errorf("line %d has more than %d parameters", number, maxParams)
		}
	}
	return b, ends()
}

// brief is a text of a file as a message shows it.
func brief(s string) string {
	if r := []rune(s); len(r) > 160 {
		return string(r[:160]) + "…"
	}
	return s
}

// ReadClosedDays reads the days that the events of a calendar (RFC 5545) cover:
// whole days, an event of several each of them. Events that come round again
// give their first day alone.
func ReadClosedDays(r io.Reader) (days []value.Day, err error) {
	b, err := boundedCalendar(r)
	if err != nil {
		return nil, fmt.Errorf("this is no calendar file (.ics) that is read here: %w", err)
	}
	c, err := ics.ParseCalendar(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("this is no calendar file (.ics): %s", brief(err.Error()))
	}
	seen := map[value.Day]bool{}
	for _, ev := range c.Events() {
		from, err := ev.GetAllDayStartAt()
		if err != nil {
			if from, err = ev.GetStartAt(); err != nil {
				return nil, fmt.Errorf("the event %q has no day that can be read", brief(summary(ev)))
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
