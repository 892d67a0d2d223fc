package plan

import (
	"fmt"
	"strings"
	"time"

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

// Foresee judges the occasions of a row between two instants, on the row as
// it is now.
func (s *Setting) Foresee(row *sheet.Row, from, to time.Time) []Foreseen {
	occ := s.Rule.Due(row.ID, s.Anchor(row), s.Env(), from, to, nil)
	out := make([]Foreseen, 0, len(occ))
	for i := range occ {
		out = append(out, Foreseen{occ[i], s.Judge(&occ[i], row, occ[i].Due)})
	}
	return out
}

// Holds tells whether the rule's condition holds for a row at an instant.
func (s *Setting) Holds(row *sheet.Row, at time.Time) bool {
	t, _ := s.Rule.Condition.Judge(s.facts(row, at))
	return t == rule.True
}

// pastSpan is how far back Past looks.
const pastSpan = 400 * 24 * time.Hour

// Past counts the row's due times up to an instant that would have been
// emails: the baseline that switching on leaves as it is.
func (s *Setting) Past(row *sheet.Row, at time.Time) int {
	return len(s.Rule.Due(row.ID, s.Anchor(row), s.Env(), at.Add(-pastSpan), at, nil))
}

// horizon is how far ahead Explain looks for the next email.
const horizon = 20 * 366 * 24 * time.Hour

// Explain explains the row's next email after now.
func (s *Setting) Explain(row *sheet.Row, now time.Time) Explanation {
	var e Explanation
	loc := s.Rule.Location(s.Sheet.Zone)
	at := now
	next := s.Next(row, now)
	if !next.IsZero() && next.Before(now.Add(horizon)) {
		for _, o := range s.Rule.Due(row.ID, s.Anchor(row), s.Env(), next.Add(-Tick), next, nil) {
			if !o.SameMoment {
				e.Next = &Foreseen{o, s.Judge(&o, row, next)}
				at = next
			}
		}
	}
	e.Clauses = append(e.Clauses, s.triggerClause(row, e.Next, loc))
	e.Clauses = append(e.Clauses, s.conditionClauses(s.facts(row, at))...)
	e.Clauses = append(e.Clauses, s.recipientClause(row))
	if c, ok := s.wordingClause(row, e.Next, at); ok {
		e.Clauses = append(e.Clauses, c)
	}
	e.Summary = s.summary(row, e, now, loc)
	return e
}

func (s *Setting) triggerClause(row *sheet.Row, next *Foreseen, loc *time.Location) Clause {
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
	return Clause{Holds: "yes", Text: text, Note: "next " + momentWords(next.Due.In(loc)) + ", " + offsetWords(next.N, next.Unit)}
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
	if bad := s.recipients(&v, row); bad != "" {
		return Clause{Holds: "no", Text: s.unreadable(row, bad)}
	}
	if len(v.To) == 0 {
		return Clause{Holds: "no", Text: s.emptyTo() + " can be used: it is empty"}
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
	o := &rule.Occasion{Offset: len(s.Rule.Trigger.Offsets)}
	if next != nil {
		o = &next.Occasion
	}
	facts := s.facts(row, at)
	t, ok := s.Templates[s.wording(o, facts)]
	if !ok {
		return Clause{Holds: "no", Text: "a wording fits"}, true
	}
	r := t.Render(template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today})
	if len(r.Missing) > 0 {
		return Clause{Holds: "no", Text: t.Name + " has all its values: " + s.missing(row, r.Missing)}, true
	}
	return Clause{Holds: "yes", Text: t.Name + " has all its values"}, true
}

func (s *Setting) summary(row *sheet.Row, e Explanation, now time.Time, loc *time.Location) string {
	var no []string
	for _, c := range e.Clauses {
		if c.Holds != "yes" {
			no = append(no, c.Text)
		}
	}
	switch {
	case row.Gone:
		return "Nothing goes out for this row: it is no longer in the file it came from."
	case e.Next == nil && s.Anchor(row).IsFilled():
		return "Nothing more goes out for this row: every due time has passed. A later date would make new ones."
	case e.Next == nil:
		return fmt.Sprintf("Nothing goes out for this row until %s holds a date.", s.name(s.Rule.Trigger.Column))
	case len(no) == 0:
		return fmt.Sprintf("As the row is now, “%s” goes out on %s.", e.Next.Subject, momentWords(e.Next.Due.In(loc)))
	case e.Next.Outcome == Incomplete:
		return fmt.Sprintf("The email due on %s cannot go out until this is mended: %s.", momentWords(e.Next.Due.In(loc)), e.Next.Verdict.Reason)
	case s.Rule.Condition != nil && strings.HasPrefix(e.Next.Verdict.Reason, "condition false"):
		return fmt.Sprintf("Nothing goes out for this row unless %s. If that is so on %s, the next email goes then.",
			s.Rule.Condition.Words(s.Sheet), momentWords(e.Next.Due.In(loc)))
	}
	return fmt.Sprintf("Nothing goes out on %s: %s.", momentWords(e.Next.Due.In(loc)), e.Next.Verdict.Reason)
}
