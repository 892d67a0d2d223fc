package exchange

import (
	"bytes"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
)

// A feed is read back as it was written, whatever the texts hold.
func TestFeed(t *testing.T) {
	at := time.Date(2027, 3, 29, 9, 0, 0, 0, time.FixedZone("BST", 3600))
	entries := []FeedEntry{
		{ID: "00ff", At: at, Row: "LN-0412", Rule: "Return reminder", To: "ada@x.example, desk@x.example",
			Subject: "Tin weathercock; due, \"soon\"\\ " + strings.Repeat("é", 90)},
		{ID: "01ff", At: at.Add(time.Hour), Row: "LN-0413", Rule: "Return reminder", Fault: "contact email is empty",
			Link: "https://nivot.example/sheets/x"},
	}
	var b bytes.Buffer
	if err := WriteFeed(&b, "Outgoing loans", "nivot.example", at, entries); err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSuffix(b.String(), "\r\n"), "\r\n") {
		if len(line) > 75 {
			t.Errorf("a line of %d bytes: %s", len(line), line)
		}
	}
	c, err := ics.ParseCalendar(&b)
	if err != nil {
		t.Fatal(err)
	}
	events := c.Events()
	if len(events) != 2 {
		t.Fatalf("%d events", len(events))
	}
	text := func(i int, p ics.ComponentProperty) string { return ics.FromText(events[i].GetProperty(p).Value) }
	start, err := events[0].GetStartAt()
	if err != nil || !start.Equal(at) || events[0].Id() != "00ff@nivot.example" {
		t.Errorf("%s %s %v", start, events[0].Id(), err)
	}
	if got, want := text(0, ics.ComponentPropertySummary), "LN-0412: "+entries[0].Subject; got != want {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	if got, want := text(0, ics.ComponentPropertyDescription),
		"To ada@x.example, desk@x.example\nBy Return reminder"; got != want {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	if got := text(1, ics.ComponentPropertySummary); got != "Cannot go: LN-0413" {
		t.Error(got)
	}
}

// The closed days of a calendar file: single days, several, and what is no
// calendar.
func TestClosedDays(t *testing.T) {
	const head, tail = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n", "END:VCALENDAR\r\n"
	event := func(lines string) string { return "BEGIN:VEVENT\r\nUID:1\r\n" + lines + "END:VEVENT\r\n" }
	for _, c := range []struct{ in, want string }{
		{head + event("DTSTART;VALUE=DATE:20270326\r\nDTEND;VALUE=DATE:20270327\r\n") + tail, "2027-03-26"},
		{head + event("DTSTART;VALUE=DATE:20271224\r\nDTEND;VALUE=DATE:20271227\r\n") + event(
			"DTSTART;VALUE=DATE:20270101\r\n") + tail, "2027-01-01 2027-12-24 2027-12-25 2027-12-26"},
		{head + event("DTSTART:20270503T090000Z\r\nDTEND:20270503T100000Z\r\n") + tail, "2027-05-03"},
		{head + tail, "!no events"},
		{head + event("SUMMARY:Feast\r\n") + tail, "!Feast"},
		{"Loan,Object\n", "!no calendar file"},
		{"", "!"},
	} {
		days, err := ReadClosedDays(strings.NewReader(c.in))
		var got []string
		for _, d := range days {
			got = append(got, d.String())
		}
		if says, wrong := strings.CutPrefix(c.want, "!"); wrong {
			if err == nil || !strings.Contains(err.Error(), says) {
				t.Errorf("%q: %v %v", c.in, got, err)
			}
		} else if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%q: %v %v, want %s", c.in, got, err, c.want)
		}
	}
}

func FuzzReadClosedDays(f *testing.F) {
	f.Add([]byte("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART;VALUE=DATE:20270326\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) { _, _ = ReadClosedDays(bytes.NewReader(b)) })
}

// A file that would cost much is refused before it is parsed, however its lines are folded.
func TestBoundedCalendar(t *testing.T) {
	const head, tail = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n", "END:VCALENDAR\r\n"
	alarm := "BEGIN:VEVENT\r\nDTSTART;VALUE=DATE:20271225\r\nBEGIN:VALARM\r\nACTION:DISPLAY\r\nEND:VALARM\r\nEND:VEVENT\r\n"
	if days, err := ReadClosedDays(strings.NewReader(head + strings.Repeat(alarm, 20) + tail)); err != nil || len(days) != 1 {
		t.Errorf("events with alarms: %v %v", days, err)
	}
	for _, c := range []struct{ name, in, want string }{
		{"nested events", head + strings.Repeat("BEGIN:VEVENT\r\n", 40_000), "nested"},
		{"nested, in small letters", head + strings.Repeat("begin:vevent\n", 40_000), "nested"},
		{"nested, folded", head + strings.Repeat("BEG\r\n IN:VEV\r\n\tENT\r\n", 20_000), "nested"},
		{"parameters", head + "BEGIN:VEVENT\r\nDTSTART" + strings.Repeat(";X=1", 1000) + ":20271225\r\nEND:VEVENT\r\n" + tail,
			"line 5 has more than 20 parameters"},
		{"parameters, folded", head + "BEGIN:VEVENT\r\nDTSTART" + strings.Repeat(";X=1\r\n ", 1000) +
			":20271225\r\nEND:VEVENT\r\n" + tail, "more than 20 parameters"},
		{"a long line", head + "X:" + strings.Repeat("y", maxLine) + "\r\n" + tail, "line 4 is longer"},
		{"a long line, folded", head + "X:" + strings.Repeat("y\r\n ", maxLine) + "\r\n" + tail, "is longer than"},
		{"many lines", head + strings.Repeat("\r\n", maxLines+1) + tail, "more than 100000 lines"},
		{"large", head + strings.Repeat("X:"+strings.Repeat("y", 1000)+"\r\n", maxCalendar/1000) + tail, "larger than 2 MB"},
		{"no calendar", strings.Repeat("nonsense ", 1000), "no calendar file"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := ReadClosedDays(strings.NewReader(c.in))
			if err == nil || !strings.Contains(err.Error(), c.want) || len(err.Error()) > 400 {
				t.Errorf("got %v, want %q", err, c.want)
			}
		})
	}
}

// A lone CR ends no line of a calendar, and makes none.
func TestNoLoneCR(t *testing.T) {
	var b bytes.Buffer
	at := time.Date(2027, 3, 29, 9, 0, 0, 0, time.UTC)
	if err := WriteFeed(&b, "Loans\rX-EVIL:1", "nivot.example", at, []FeedEntry{{ID: "00ff", At: at,
		Row: "LN\r1", Rule: "R\rule\x00", To: "a\r@x.example", Subject: "Tin\rATTENDEE:mailto:x@y.example\u2028z"}}); err != nil {
		t.Fatal(err)
	}
	if text := strings.ReplaceAll(b.String(), "\r\n", ""); strings.ContainsAny(text, "\r\n\x00\u2028") {
		t.Errorf("%q", b.String())
	}
}
