package plan

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Clause is one thing that has to be so for an email to go.
type Clause struct {
	Holds string `json:"holds"` // yes, no or unknown
	Text  string `json:"text"`
	Note  string `json:"note,omitempty"`
}

// Explanation says clause by clause why a row gets or does not get its next
// email.
type Explanation struct {
	Clauses []Clause `json:"clauses"`
	Summary string   `json:"summary"`
	Next    *Foreseen
}

// Foreseen is a coming email: an occasion with the outcome it would have if
// the row stayed as it is.
type Foreseen struct {
	rule.Occasion
	Verdict
}

// Foresee judges what would come of a row between two instants, on the row as
// it is now: its dates and schedules, each with its follow-ups. Reactions come
// of edits, which nobody can foresee.
func (s *Setting) Foresee(row *sheet.Row, known, from, to time.Time) (out []Foreseen) {
	if s.IsRoundUp() || s.Rule.Trigger.Kind.Reaction() || s.Rule.Trigger.Kind == rule.ByHand {
		return nil
	}
	p := &foresight{Life: Life{Setting: s, ID: row.ID, Row: row, On: true, Since: from, Known: known, Circumstances: Circumstances{Released: true, Nobody: true}}}
	p.Ledger = p
	p.Advance(to)
	for _, x := range p.Effects {
		if x.Kind == Write && len(out) < maxForeseen {
			out = append(out, Foreseen{x.As.Occasion, x.As.Verdict})
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Due.Before(out[j].Due) })
	return out
}

// maxForeseen bounds what is foreseen of one row by one rule.
const maxForeseen = 400

// foresight is a Life without a past: nothing has been judged, and every email
// is supposed to be accepted.
type foresight struct {
	Life
	entered []rule.ID
}

// Ask implements Ledger.
func (p *foresight) Ask([]rule.Occasion) {}

// Judged implements Ledger.
func (p *foresight) Judged(id rule.ID) bool {
	return len(p.entered) >= maxForeseen || slices.Contains(p.entered, id)
}

// Enter implements Ledger.
func (p *foresight) Enter(e *Email) { p.entered = append(p.entered, e.Identity()) }

// Last implements Ledger.
func (p *foresight) Last() (time.Time, bool) { return time.Time{}, false }

// FirstOf implements Ledger.
func (p *foresight) FirstOf(x *Pending) *Email { return accepted(x.Hangs) }

// horizon is how far ahead Explain looks for the next email.
const horizon = 20 * 366 * 24 * time.Hour

// Explain explains the row's next email after now: clause by clause what must
// be so, with the row's values, what would have to change, and what comes next.
func (s *Setting) Explain(row *sheet.Row, now time.Time) Explanation {
	var e Explanation
	at := now
	if o, ok := s.nextOccasion(row, now); ok {
		c := s.Judge(o, row, o.Due, Memory{})[0]
		e.Next = &Foreseen{c.Occasion, c.Verdict}
		at = o.Due
	}
	row = s.Sheet.Compute(row, at, s.Calendar)
	e.Clauses = append(e.Clauses, s.triggerClause(row, e.Next, now))
	e.Clauses = append(e.Clauses, s.conditionClauses(s.facts(row, at, Memory{}))...)
	e.Clauses = append(e.Clauses, s.recipientClause(row))
	if c, ok := s.wordingClause(row, e.Next, at); ok {
		e.Clauses = append(e.Clauses, c)
	}
	e.Summary = s.summary(row, e, now)
	return e
}

// nextOccasion gives the next occasion that can be foreseen. For a reaction
// that is one of now, as if the row settled now having been empty.
func (s *Setting) nextOccasion(row *sheet.Row, now time.Time) (o rule.Occasion, ok bool) {
	next := time.Time{}
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		next = s.Next(row, now, now)
	case rule.Schedule:
		next = s.NextRound(now)
	default:
		return o, false
	}
	if next.IsZero() || !next.Before(now.Add(horizon)) {
		return o, false
	}
	for _, x := range s.Dates(row, now, next.Add(-Tick), next, nil) {
		if !x.SameMoment {
			return x, true
		}
	}
	return o, false
}

func (s *Setting) triggerClause(row *sheet.Row, next *Foreseen, now time.Time) Clause {
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		return s.dateClause(row, next)
	case rule.Schedule:
		if next == nil {
			return Clause{Holds: "no", Text: "the schedule comes round", Note: "it has ended"}
		}
		return Clause{Holds: "yes", Text: "the schedule comes round", Note: "next " + momentWords(next.Due.In(s.Zone))}
	case rule.Change, rule.Threshold:
		st := rule.Standing{}
		_, is := s.Settle(nil, row, now, &st)
		text := s.Rule.When(s.Sheet) + ": " + s.cellIs(row, s.Rule.Trigger.Column)
		if is {
			return Clause{Holds: "yes", Text: text, Note: "it is so already; it goes when it becomes so again"}
		}
		return Clause{Holds: "no", Text: text}
	}
	return Clause{Holds: "yes", Text: s.Rule.When(s.Sheet)}
}

// cellIs says what a cell holds: "state is out".
func (s *Setting) cellIs(row *sheet.Row, column string) string {
	c := s.cell(row, column)
	if c.Value == "" {
		return c.Name + " is empty"
	}
	return c.Name + " is " + c.Value
}

func (s *Setting) dateClause(row *sheet.Row, next *Foreseen) Clause {
	a, name := s.Anchor(row), s.name(s.Rule.Trigger.Column)
	switch {
	case a.IsEmpty():
		return Clause{Holds: "no", Text: name + " is filled: it is empty"}
	case a.IsUnreadable():
		return Clause{Holds: "no", Text: fmt.Sprintf("%s is a date: %q cannot be read", name, a.Str)}
	}
	c, _ := s.Sheet.Column(s.Rule.Trigger.Column)
	text := name + " is a date: " + s.Sheet.Show(c, a)
	if next == nil {
		return Clause{Holds: "no", Text: text, Note: "every due time has passed"}
	}
	return Clause{Holds: "yes", Text: text, Note: "next " + momentWords(next.Due.In(s.Zone)) + ", " + offsetWords(next.N, next.Unit)}
}

func momentWords(t time.Time) string { return t.Format("Mon 2 January 15:04") }

func offsetWords(n int, u rule.Unit) string {
	unit := strings.ReplaceAll(string(u), "-", " ")
	if n == 1 || n == -1 {
		unit = strings.TrimSuffix(unit, "s")
	}
	switch {
	case n < 0:
		return fmt.Sprintf("%d %s before", -n, unit)
	case n > 0:
		return fmt.Sprintf("%d %s after", n, unit)
	}
	return "on the day"
}

func (s *Setting) conditionClauses(f rule.Facts) []Clause {
	var out []Clause
	for _, c := range s.Rule.Condition.Clauses() {
		t, blame := c.Judge(f)
		var is []string
		seen := map[string]bool{}
		for _, l := range c.Leaves() {
			if seen[l.Column] {
				continue
			}
			seen[l.Column] = true
			is = append(is, s.cellWords(f.Row, l.Column))
		}
		text := c.Words(s.Sheet) + ": " + strings.Join(is, ", ")
		switch t {
		case rule.True:
			out = append(out, Clause{Holds: "yes", Text: text})
		case rule.False:
			out = append(out, Clause{Holds: "no", Text: text})
		default:
			out = append(out, Clause{Holds: "unknown", Text: text, Note: s.name(blame) + " cannot be read"})
		}
	}
	return out
}

func (s *Setting) cellWords(row *sheet.Row, column string) string {
	c, ok := s.Sheet.Column(column)
	if !ok {
		return "the column is not there any more"
	}
	v := row.Cell(c)
	switch {
	case v.IsEmpty():
		return "it is empty"
	case v.IsUnreadable():
		return fmt.Sprintf("%q cannot be read", v.Str)
	}
	return "it is " + s.Sheet.Show(c, v)
}

func (s *Setting) recipientClause(row *sheet.Row) Clause {
	var v Verdict
	if bad := s.recipients(&v, row, s.Rule.To, s.Rule.Cc, s.Rule.Bcc); bad != "" {
		return Clause{Holds: "no", Text: s.unreadable(row, bad).Words()}
	}
	if len(v.To) == 0 {
		return Clause{Holds: "no", Text: s.emptyTo(s.Rule.To) + " can be used: it is empty"}
	}
	before := v.To
	if s.silence(&v); len(v.To) == 0 {
		return Clause{Holds: "no", Text: list(before) + " may be written to: on the do-not-email list"}
	}
	text := "to " + list(v.To)
	if len(v.Cc) > 0 {
		text += ", copy to " + list(v.Cc)
	}
	return Clause{Holds: "yes", Text: text}
}

func list(boxes []value.Mailbox) string {
	var a []string
	for _, b := range boxes {
		a = append(a, b.Address())
	}
	return strings.Join(a, ", ")
}

func (s *Setting) wordingClause(row *sheet.Row, next *Foreseen, at time.Time) (Clause, bool) {
	o := &rule.Occasion{}
	if next != nil {
		o = &next.Occasion
	}
	facts := s.facts(row, at, Memory{})
	t, ok := s.Templates[s.wording(o, facts)]
	if !ok {
		return Clause{Holds: "no", Text: "a wording fits"}, true
	}
	r := t.Check(template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today, Facts: facts})
	if len(r.Missing) > 0 {
		return Clause{Holds: "no", Text: t.Name + " has all its values: " + s.missing(row, r.Missing).Words()}, true
	}
	return Clause{Holds: "yes", Text: t.Name + " has all its values"}, true
}

func (s *Setting) summary(row *sheet.Row, e Explanation, now time.Time) string {
	loc := s.Zone
	var no []string
	for _, c := range e.Clauses {
		if c.Holds != "yes" {
			no = append(no, c.Text)
		}
	}
	switch {
	case row.Gone:
		return "Nothing goes out for this row: it is no longer in the file it came from."
	case s.Rule.Trigger.Kind.Reaction() || s.Rule.Trigger.Kind == rule.ByHand:
		return s.reactionSummary(e, no)
	case e.Next == nil && s.Rule.Trigger.Kind == rule.Schedule:
		return "Nothing more goes out by this rule: its schedule has ended."
	case e.Next == nil && s.Anchor(row).IsFilled():
		return "Nothing more goes out for this row: every due time has passed. A later date would make new ones."
	case e.Next == nil:
		return fmt.Sprintf("Nothing goes out for this row until %s holds a date.", s.name(s.Rule.Trigger.Column))
	case len(no) == 0:
		return fmt.Sprintf("As the row is now, “%s” goes out on %s.", e.Next.Subject, momentWords(e.Next.Due.In(loc)))
	case e.Next.Outcome == Incomplete:
		return fmt.Sprintf("The email due on %s cannot go out until this is mended: %s.", momentWords(e.Next.Due.In(loc)), e.Next.Verdict.Reason.Words())
	case s.Rule.Condition != nil && e.Next.Verdict.Reason.Code == reason.ConditionFalse:
		return fmt.Sprintf("Nothing goes out for this row unless %s. If that is so on %s, the next email goes then.",
			s.Rule.Condition.Words(s.Sheet), momentWords(e.Next.Due.In(loc)))
	}
	return fmt.Sprintf("Nothing goes out on %s: %s.", momentWords(e.Next.Due.In(loc)), e.Next.Verdict.Reason.Words())
}

// reactionSummary says what an edit would bring.
func (s *Setting) reactionSummary(e Explanation, no []string) string {
	rest := e.Clauses[1:]
	for _, c := range rest {
		if c.Holds != "yes" {
			return fmt.Sprintf("Even then nothing would go out for this row: %s.", c.Text)
		}
	}
	when := s.Rule.When(s.Sheet)
	if len(no) == 0 && e.Clauses[0].Note != "" {
		return "It is so already, and was when the rule last looked. It goes out " + when + " anew."
	}
	return "An email goes out " + when + "."
}
