package plan

import (
	"cmp"
	"slices"
	"strings"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// alike is one email of an outlook whose rule asks whether another says the same. Letters are written only for
// those that go to the same people, by the same template, close to each other.
type alike struct {
	event
	place   int64
	whole   func() *sheet.Row
	mailbox string // with each
	taken   bool   // it does not go: it says what one before it says
}

// gather keeps an email that is to be compared.
func (o *Outlook) gather(e event, place int64, whole func() *sheet.Row) {
	if o.Rule.SameWords != rule.SkipSame || e.group != nil || e.outcome != Send && e.outcome != Hold {
		return
	}
	if !o.Rule.Each || e.emails < 2 {
		o.alike = append(o.alike, alike{event: e, place: place, whole: whole})
		return
	}
	boxes := strings.Fields(e.who)
	for _, b := range boxes[:min(e.to, len(boxes))] {
		one := alike{event: e, place: place, whole: whole, mailbox: b}
		one.who, one.to, one.emails, one.people = b, 1, 1, e.people/e.emails
		o.alike = append(o.alike, one)
	}
}

// countSame counts each email that says what another row's email says as skipped, and takes out its follow-ups.
func (o *Outlook) countSame() {
	by := map[string][]*alike{}
	for i := range o.alike {
		a := &o.alike[i]
		boxes := strings.Fields(a.who)
		to := slices.Clone(boxes[:min(a.to, len(boxes))])
		slices.Sort(to)
		k := a.wording + "\x00" + strings.Join(to, " ")
		by[k] = append(by[k], a)
	}
	type first struct {
		place, due int64
		mailbox    string
	}
	skipped := map[first]bool{}
	for _, list := range by {
		slices.SortStableFunc(list, func(a, b *alike) int {
			return cmp.Or(a.due.Compare(b.due), cmp.Compare(a.place, b.place), cmp.Compare(a.step, b.step))
		})
		for i, a := range list {
			if o.saysTheSame(a, list[:i]) {
				a.taken = true
				skipped[first{a.place, a.base.UnixNano(), a.mailbox}] = a.step == 0
				o.takeOut(a)
			}
		}
	}
	for i := range o.alike { // what follows an email that does not go
		a := &o.alike[i]
		if a.step > 0 && !a.taken && skipped[first{a.place, a.base.UnixNano(), a.mailbox}] {
			o.uncount(a)
		}
	}
}

// saysTheSame reports whether one of the emails before this one, of another row, says the same.
func (o *Outlook) saysTheSame(a *alike, before []*alike) bool {
	var mine Words
	for i := len(before) - 1; i >= 0; i-- {
		b := before[i]
		if a.due.Sub(b.due) > SameWordsSpan {
			return false
		}
		if b.place == a.place || b.taken {
			continue
		}
		if mine == (Words{}) {
			mine = o.wordsOf(a)
		}
		if o.wordsOf(b) == mine {
			return true
		}
	}
	return false
}

// wordsOf writes an email of an outlook and returns what it says, but for whom it says it to.
func (o *Outlook) wordsOf(a *alike) Words {
	t, ok := o.Templates[a.wording]
	if !ok {
		return Words{}
	}
	row := o.Sheet.Compute(a.whole(), a.due, o.Calendar)
	facts := o.facts(row, a.due, Memory{})
	return WordsOf(&Decision{Rendered: t.Render(template.Context{Sheet: o.Sheet, Row: row, Today: facts.Today,
		Facts: facts})})
}

// takeOut counts an email as skipped.
func (o *Outlook) takeOut(a *alike) {
	o.Skipped[reason.SameWords] += a.emails
	o.uncount(a)
	for i := range o.First {
		if l := &o.First[i]; l.Place == a.place && l.Step == a.step && l.Due.Equal(a.due) && l.Emails == a.emails {
			l.Outcome, l.Code = Skip, reason.SameWords
		}
	}
}

// uncount takes an email that has been counted out of the counts.
func (o *Outlook) uncount(a *alike) {
	o.Emails -= a.emails
	if a.outcome == Hold {
		o.Held -= a.emails
	}
	if a.moved {
		o.Moved -= a.emails
	}
	if day := int(value.DayAt(a.due.In(o.Zone)) - o.midnight); day >= 0 && day < len(o.Days) {
		d := &o.Days[day]
		d.Emails[Wording{a.wording, a.step}] -= a.emails
		d.People -= a.people
	}
	if o.Gets == nil {
		return
	}
	boxes := strings.Fields(a.who)
	for _, b := range boxes[:min(a.to, len(boxes))] {
		if i := slices.IndexFunc(o.Gets[b], a.due.Equal); i >= 0 {
			o.Gets[b] = slices.Delete(o.Gets[b], i, i+1)
		}
	}
}
