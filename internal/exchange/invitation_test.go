package exchange

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"

	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// An invitation read back is the instant that was meant, in zones with and without summer time, on
// both sides of a change; moved it has the same UID and a later sequence, and so has its calling off.
func TestInvitation(t *testing.T) {
	made := time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)
	for _, zone := range []string{"Europe/London", "America/New_York", "Asia/Tokyo", "Australia/Lord_Howe"} {
		for _, day := range []value.Day{value.DayOf(2027, 3, 27), value.DayOf(2027, 3, 29), value.DayOf(2027, 11, 8)} {
			t.Run(fmt.Sprint(zone, " ", day), func(t *testing.T) {
				loc, err := time.LoadLocation(zone)
				if err != nil {
					t.Fatal(err)
				}
				e := &template.Event{UID: "u1", Start: value.Wall{Day: day, Second: 14*3600 + 30*60},
					End: value.Wall{Day: day, Second: 16 * 3600}, Zone: loc, Title: "Collection; of, \"it\"",
					Place: "North gate", Note: strings.Repeat("Bring the crate. ", 10), From: template.From{Name: `The "loans" desk`,
						Address: "loans@marrowby.example"},
					To: []value.Mailbox{{Name: "Quill, Ada: x; y", Local: "ada", Domain: "x.example"}}}
				raw, err := Invitation(e, made)
				if err != nil {
					t.Fatal(err)
				}
				for _, l := range bytes.Split(raw, []byte("\r\n")) {
					if len(l) > 75 || bytes.ContainsAny(l, "\r\n") {
						t.Errorf("a line of %d bytes: %q", len(l), l)
					}
				}
				c, err := ics.ParseCalendar(bytes.NewReader(raw))
				if err != nil {
					t.Fatalf("%v\n%s", err, raw)
				}
				ev := c.Events()[0]
				at, err := ev.GetStartAt()
				y, m, d := day.Date()
				if want := time.Date(y, m, d, 14, 30, 0, 0, loc); err != nil || !at.Equal(want) {
					t.Errorf("it starts at %v (%v), want %v", at, err, want)
				}
				if got := offsetAt(t, raw, e.Start); got != time.Date(y, m, d, 14, 30, 0, 0, loc).Format("-0700") {
					t.Errorf("by its own zone the offset is %s\n%s", got, raw)
				}
				text := strings.ReplaceAll(string(raw), "\r\n ", "")
				for _, want := range []string{"METHOD:REQUEST", "UID:u1@marrowby.example", "SUMMARY:Collection\\; of\\, \"it\"",
					"ORGANIZER;CN=The loans desk:mailto:loans@marrowby.example", "CN=Quill Ada x y;", ":mailto:ada@x.example",
					"STATUS:CONFIRMED", "SEQUENCE:1805100000"[:9]} {
					if !strings.Contains(text, want) {
						t.Errorf("lacks %s:\n%s", want, text)
					}
				}
			})
		}
	}
	e := &template.Event{UID: "u1", AllDay: true, Start: value.Wall{Day: value.DayOf(2027, 3, 29)},
		End: value.Wall{Day: value.DayOf(2027, 3, 30)}, Zone: time.UTC, Title: "x",
		From: template.From{Address: "a@b.example"}}
	first, _ := Invitation(e, made)
	if !strings.Contains(string(first), "DTSTART;VALUE=DATE:20270329") ||
		!strings.Contains(string(first), "DTEND;VALUE=DATE:20270330") {
		t.Errorf("%s", first)
	}
	e.Cancel = true
	off, err := Invitation(e, made.Add(time.Hour))
	if err != nil || !strings.Contains(string(off), "METHOD:CANCEL") ||
		!strings.Contains(string(off), "STATUS:CANCELLED") || !strings.Contains(string(off), "UID:u1@b.example") ||
		!strings.Contains(string(off), fmt.Sprint("SEQUENCE:", made.Unix()+3600)) {
		t.Errorf("%v %s", err, off)
	}
}

// offsetAt reads an invitation's own description of its zone, as a calendar does that knows no
// other: the last change at or before a time by its clock.
func offsetAt(t *testing.T, raw []byte, w value.Wall) string {
	t.Helper()
	out, at := "", ""
	var start, to string
	for _, l := range strings.Split(string(raw), "\r\n") {
		switch {
		case strings.HasPrefix(l, "BEGIN:STANDARD"), strings.HasPrefix(l, "BEGIN:DAYLIGHT"):
			start, to = "", ""
		case strings.HasPrefix(l, "DTSTART:"):
			start = strings.TrimPrefix(l, "DTSTART:")
		case strings.HasPrefix(l, "TZOFFSETTO:"):
			to = strings.TrimPrefix(l, "TZOFFSETTO:")
		case l == "END:STANDARD", l == "END:DAYLIGHT":
			if start <= w.Time().Format("20060102T150405") && start >= at {
				at, out = start, to
			}
		}
	}
	return out
}
