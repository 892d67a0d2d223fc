package exchange

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Invitation writes an event as an invitation, or its calling off, for calendars (RFC 5545, RFC
// 5546 sections 3.2.2 and 3.2.5). Of two for one event the one made later counts: its sequence is
// the time, in seconds.
func Invitation(e *template.Event, made time.Time) ([]byte, error) {
	c := ics.NewCalendarFor("Nivot")
	method, status := ics.MethodRequest, ics.ObjectStatusConfirmed
	if e.Cancel {
		method, status = ics.MethodCancel, ics.ObjectStatusCancelled
	}
	c.SetMethod(method)
	_, host, _ := strings.Cut(e.From.Address, "@")
	ev := ics.NewEvent(e.UID + "@" + host)
	ev.SetDtStampTime(made)
	ev.SetSequence(int(made.Unix()))
	ev.SetStatus(status)
	ev.SetSummary(plainLine(e.Title))
	if e.Place != "" {
		ev.SetLocation(plainLine(e.Place))
	}
	if e.Note != "" {
		lines := strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(e.Note), "\n")
		for i := range lines {
			lines[i] = plainLine(lines[i])
		}
		ev.SetDescription(strings.Join(lines, "\n"))
	}
	ev.SetOrganizer("mailto:"+e.From.Address, ics.WithCN(paramText(e.From.Name)))
	for _, to := range e.To {
		ev.AddAttendee("mailto:"+to.ASCII(), ics.WithCN(paramText(to.Name)), ics.ParticipationStatusNeedsAction,
			ics.WithRSVP(true))
	}
	switch {
	case e.Cancel:
	case e.AllDay:
		ev.SetProperty(ics.ComponentPropertyDtStart, day(e.Start), ics.WithValue("DATE"))
		ev.SetProperty(ics.ComponentPropertyDtEnd, day(e.End), ics.WithValue("DATE"))
	default:
		zone := e.Zone.String()
		c.AddVTimezone(timezone(e.Zone, e.Start.Time(), e.End.Time()))
		ev.SetProperty(ics.ComponentPropertyDtStart, wall(e.Start), ics.WithTZID(zone))
		ev.SetProperty(ics.ComponentPropertyDtEnd, wall(e.End), ics.WithTZID(zone))
	}
	c.AddVEvent(ev)
	var b bytes.Buffer
	err := c.SerializeTo(&b, ics.WithNewLineWindows)
	return b.Bytes(), err
}

// paramText makes a name fit for a parameter (RFC 5545, section 3.2) without what would have to be
// quoted there: the library escapes it, as only values of properties may be.
func paramText(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r < ' ' || r == 0x7f:
			return -1
		case r == '\'':
			return '’'
		case strings.ContainsRune(`",;:\`, r):
			return ' '
		}
		return r
	}, s)
	return strings.Join(strings.Fields(s), " ")
}

func day(w value.Wall) string { return w.Time().Format("20060102") }

func wall(w value.Wall) string { return w.Time().Format("20060102T150405") }

// timezone describes a zone by its changes from a year before a span to a year behind it (RFC
// 5545, section 3.6.5): what its rule is by then, whatever becomes of it.
func timezone(zone *time.Location, from, to time.Time) *ics.VTimezone {
	z := ics.NewTimezone(zone.String())
	first := from.AddDate(-1, 0, 0).In(zone)
	add := func(at time.Time, before, after int, name string, summer bool) {
		var part ics.Component
		base := ics.ComponentBase{}
		// A change is at the time that clocks showed before it.
		base.SetProperty(ics.ComponentPropertyDtStart,
			at.UTC().Add(time.Duration(before)*time.Second).Format("20060102T150405"))
		base.SetProperty(ics.ComponentProperty("TZOFFSETFROM"), offset(before))
		base.SetProperty(ics.ComponentProperty("TZOFFSETTO"), offset(after))
		base.SetProperty(ics.ComponentProperty("TZNAME"), name)
		if part = (&ics.Standard{ComponentBase: base}); summer {
			part = &ics.Daylight{ComponentBase: base}
		}
		z.Components = append(z.Components, part)
	}
	name, off := first.Zone()
	start, end := first.ZoneBounds()
	if start.IsZero() {
		start = time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	before := off
	if t := start.Add(-time.Second).In(zone); !start.IsZero() {
		_, before = t.Zone()
	}
	add(start, before, off, name, first.IsDST())
	for n := 0; !end.IsZero() && end.Before(to.AddDate(1, 0, 0)) && n < 20; n++ {
		was := off
		here := end.In(zone)
		name, off = here.Zone()
		add(end, was, off, name, here.IsDST())
		_, end = here.ZoneBounds()
	}
	return z
}

// offset writes an offset from UTC in seconds (RFC 5545, section 3.3.14).
func offset(s int) string {
	sign := '+'
	if s < 0 {
		sign, s = '-', -s
	}
	out := fmt.Sprintf("%c%02d%02d", sign, s/3600, s/60%60)
	if s%60 != 0 {
		out += fmt.Sprintf("%02d", s%60)
	}
	return out
}
