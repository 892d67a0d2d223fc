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
	Place string `json:"place"` // the part of the rule's sentence it is of, a JSON pointer
	Holds string `json:"holds"` // yes, no or unknown
	Text  string `json:"text"`
	Note  string `json:"note,omitempty"`
	Mend  string `json:"mend,omitempty"` // what would have to change
}

// Explanation says clause by clause why a row gets or does not get its next
// email, and what comes.
type Explanation struct {
	Clauses []Clause   `json:"clauses"`
	Summary string     `json:"summary"`
	Next    *Foreseen  // the next occasion, whatever becomes of it
	Coming  []Foreseen // the next emails, follow-ups among them
}

// shownComing is how many emails an explanation foresees, and comingSpan how far.
const (
	shownComing = 6
	comingSpan  = 400 * 24 * time.Hour
)

// Foreseen is a coming email: an occasion with the outcome it would have if
// the row stayed as it is.
type Foreseen struct {
	rule.Occasion
	Decision
}

// Foresee judges what would come of a row between two instants, on the row as
// it is now: its dates and schedules, each with its follow-ups. Reactions come
// of edits, which nobody can foresee. What people have said of its emails
// counts: one that is left out is skipped.
func (s *CompiledRule) Foresee(row *sheet.Row, known, from, to time.Time, asides ...Aside) (out []Foreseen) {
	if s.IsRoundUp() || s.Rule.Trigger.Kind.Reaction() || s.Rule.Trigger.Kind == rule.ByHand {
		return nil
	}
	p := &foresight{Timeline: Timeline{CompiledRule: s, ID: row.ID, Row: row, On: true, Since: from, Known: known,
		Circumstances: Circumstances{Released: true, Nobody: true}}}
	p.Ledger, p.Asides = p, AsidesOf(asides)
	for _, a := range asides {
		if o := a.Of; o.Base == "" && a.To.After(from) && s.Stands(&o, row) {
			o.Due = a.To
			p.Coming = append(p.Coming, &Pending{Kind: Moved, Occasion: o, At: a.To})
		}
	}
	p.Advance(to)
	for _, x := range p.Effects {
		if x.Kind == Write && len(out) < maxForeseen {
			out = append(out, Foreseen{x.As.Occasion, x.As.Decision})
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Due.Before(out[j].Due) })
	return out
}

// maxForeseen bounds what is foreseen of one row by one rule.
const maxForeseen = 400

// foresight is a Timeline without a past: nothing has been judged, and every email
// is supposed to be accepted.
type foresight struct {
	Timeline
	entered []rule.ID
}

// Ask implements Ledger.
func (p *foresight) Ask([]rule.Occasion) {}

// Judged implements Ledger.
func (p *foresight) Judged(o *rule.Occasion) bool {
	return len(p.entered) > 0 && (len(p.entered) >= maxForeseen || slices.Contains(p.entered, o.Identity()))
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
// The memory is of what went before; an empty one is of a rule that begins now.
func (s *CompiledRule) Explain(row *sheet.Row, now time.Time, m Memory) Explanation {
	var e Explanation
	at := now
	if o, ok := s.nextOccasion(row, now); ok {
		c := s.Judge(o, row, o.Due, m)[0]
		e.Next = &Foreseen{c.Occasion, c.Decision}
		at = o.Due
	}
	for _, f := range s.Foresee(row, now, now, now.Add(comingSpan)) {
		if f.Outcome != Skip && len(e.Coming) < shownComing {
			e.Coming = append(e.Coming, f)
		}
	}
	row = s.Sheet.Compute(row, at, s.Calendar)
	if row.Gone {
		e.Clauses = append(e.Clauses, Clause{Holds: "no", Text: "the row is in the file it came from: it is gone",
			Mend: "restore the row with its file, or delete it"})
	}
	e.Clauses = append(e.Clauses, s.triggerClause(row, e.Next, now, m))
	e.Clauses = append(e.Clauses, s.conditionClauses(s.facts(row, at, m))...)
	e.Clauses = append(e.Clauses, s.recipientClause(row))
	if c, ok := s.wordingClause(row, e.Next, at, m); ok {
		e.Clauses = append(e.Clauses, c)
	}
	if c, ok := s.repeatClause(at, m); ok {
		e.Clauses = append(e.Clauses, c)
	}
	e.Summary = s.summary(row, e, now)
	return e
}

// repeatClause says whether the row may have another first email.
func (s *CompiledRule) repeatClause(at time.Time, m Memory) (Clause, bool) {
	r := s.Rule.Repeat
	if r == nil || !r.Once && r.Apart == "" {
		return Clause{}, false
	}
	c := Clause{Place: "/repeat", Holds: "yes", Text: "it has had no email of this rule yet"}
	if m.Last == nil {
		return c, true
	}
	last, ok := m.Last()
	if !ok {
		return c, true
	}
	c.Text = "the last went on " + momentWords(last.In(s.Zone))
	if why := s.repeated(at, m); !why.IsZero() {
		c.Holds = "no"
		if r.Apart != "" {
			c.Note = "again from " + momentWords(s.apart.After(last, s.Zone)) + " on"
		}
	}
	return c, true
}

// nextOccasion gives the next occasion that can be foreseen. For a reaction
// that is one of now, as if the row settled now having been empty.
func (s *CompiledRule) nextOccasion(row *sheet.Row, now time.Time) (o rule.Occasion, ok bool) {
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

func (s *CompiledRule) triggerClause(row *sheet.Row, next *Foreseen, now time.Time, m Memory) Clause {
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		return s.dateClause(row, next)
	case rule.Schedule:
		c := Clause{Place: "/trigger/rrule", Holds: "yes", Text: s.Rule.When(s.Sheet)}
		if next == nil {
			c.Holds, c.Note, c.Mend = "no", "it has ended", "let the schedule go on, in the rule"
		} else {
			c.Note = "next " + momentWords(next.Due.In(s.Zone))
		}
		return c
	case rule.Change:
		st := rule.RowState{}
		_, is := s.Settle(nil, row, now, &st)
		c := Clause{Place: "/trigger/to", Text: s.Rule.When(s.Sheet) + ": " + s.cellIs(row, s.Rule.Trigger.Column)}
		if is {
			c.Holds, c.Note = "yes", "it is so already; it goes when it becomes so again"
		} else {
			c.Holds, c.Mend = "no", "edit "+s.name(s.Rule.Trigger.Column)+" so that it does"
		}
		return c
	case rule.Threshold:
		return s.thresholdClause(row, now, m)
	case rule.ByHand:
		return Clause{Place: "/trigger/kind", Holds: "yes", Text: "somebody sends it to the row by hand"}
	}
	return Clause{Place: "/trigger/kind", Holds: "yes", Text: s.Rule.When(s.Sheet), Note: "at the next such edit"}
}

// thresholdClause says whether the limit is passed, and whether the rule is armed.
func (s *CompiledRule) thresholdClause(row *sheet.Row, now time.Time, m Memory) Clause {
	st := rule.RowState{}
	_, passed := s.Settle(nil, row, now, &st)
	c := Clause{Place: "/trigger/limit", Holds: "no", Text: s.Rule.When(s.Sheet) + ": " +
		s.cellIs(row, s.Rule.Trigger.Column)}
	if l := s.Rule.Trigger.Limit.Column; l != "" {
		c.Text += ", " + s.cellIs(row, l)
	}
	disarmed := m.RowState != nil && m.RowState.Armed != nil && !*m.RowState.Armed
	switch {
	case passed:
		c.Holds, c.Note = "yes", "it is so already; it goes when it passes the limit again"
	case disarmed:
		c.Note, c.Mend = "not armed: it has not come back far enough since the last", s.name(s.Rule.Trigger.Column)+
			" has to come back to the re-arm level first"
	default:
		c.Mend = s.name(s.Rule.Trigger.Column) + " has to pass the limit"
	}
	return c
}

// cellIs says what a cell holds: "state is out".
func (s *CompiledRule) cellIs(row *sheet.Row, column string) string {
	c := s.cell(row, column)
	if c.Value == "" {
		return c.Name + " is empty"
	}
	return c.Name + " is " + c.Value
}

func (s *CompiledRule) dateClause(row *sheet.Row, next *Foreseen) Clause {
	a, name := s.Anchor(row), s.name(s.Rule.Trigger.Column)
	switch {
	case a.IsEmpty():
		return Clause{Place: "/trigger/column", Holds: "no", Text: name + " is filled: it is empty",
			Mend: "enter a date in " + name}
	case a.IsUnreadable():
		return Clause{Place: "/trigger/column", Holds: "no", Text: fmt.Sprintf("%s is a date: %q cannot be read", name,
			a.Str), Mend: "write the date in " + name + " in digits"}
	}
	c, _ := s.Sheet.Column(s.Rule.Trigger.Column)
	text := name + " is a date: " + s.Sheet.Show(c, a)
	if next == nil {
		return Clause{Place: "/trigger/offsets", Holds: "no", Text: text, Note: "every due time has passed",
			Mend: "enter a later date in " + name}
	}
	return Clause{Place: "/trigger/offsets", Holds: "yes", Text: text, Note: "next " + momentWords(next.Due.In(s.Zone)) +
		", " + offsetWords(next.N, next.Unit)}
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

func (s *CompiledRule) conditionClauses(f rule.Facts) []Clause {
	var out []Clause
	for _, c := range s.Rule.Condition.Clauses() {
		t, faulty := c.Judge(f)
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
		x := Clause{Place: "/condition", Holds: "yes", Text: text}
		switch t {
		case rule.False:
			x.Holds, x.Mend = "no", "it has to be so that "+c.Words(s.Sheet)
		case rule.Unknown:
			x.Holds, x.Note, x.Mend = "unknown", s.name(faulty)+" cannot be read", "fix "+s.name(faulty)
		}
		out = append(out, x)
	}
	return out
}

func (s *CompiledRule) cellWords(row *sheet.Row, column string) string {
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

func (s *CompiledRule) recipientClause(row *sheet.Row) Clause {
	var v Decision
	if bad := s.recipients(&v, row, s.Rule.To, s.Rule.Cc, s.Rule.Bcc); bad != "" {
		return Clause{Place: "/to", Holds: "no", Text: s.unreadable(row, bad).Words(), Mend: "fix " + s.name(bad)}
	}
	if len(v.To) == 0 {
		return Clause{Place: "/to", Holds: "no", Text: s.emptyTo(s.Rule.To) + " can be used: it is empty",
			Mend: "enter an address in " + s.emptyTo(s.Rule.To)}
	}
	before := v.To
	if s.silence(&v); len(v.To) == 0 {
		return Clause{Place: "/to", Holds: "no", Text: list(before) + " may be written to: on the do-not-email list",
			Mend: "take " + list(before) + " off the do-not-email list, if they want it"}
	}
	text := "to " + list(v.To)
	if len(v.Cc) > 0 {
		text += ", Cc " + list(v.Cc)
	}
	return Clause{Place: "/to", Holds: "yes", Text: text}
}

func list(boxes []value.Mailbox) string {
	var a []string
	for _, b := range boxes {
		a = append(a, b.Address())
	}
	return strings.Join(a, ", ")
}

func (s *CompiledRule) wordingClause(row *sheet.Row, next *Foreseen, at time.Time, m Memory) (Clause, bool) {
	o := &rule.Occasion{}
	if next != nil {
		o = &next.Occasion
	}
	facts := s.facts(row, at, m)
	t, ok := s.Templates[s.wording(o, facts)]
	if !ok {
		return Clause{Place: "/send/0/if", Holds: "no", Text: "a template fits",
			Mend: "one of the templates' conditions has to hold, or the last to go without"}, true
	}
	r := t.Check(template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today, Facts: facts})
	if len(r.Missing) > 0 {
		return Clause{Place: "/send/0/template", Holds: "no", Text: t.Name + " has all its values: " +
			s.missing(t, row, r.Missing).Words(),
			Mend: "fill " + s.name(r.Missing[0]) + ", or give its field in " + t.Name + " a fallback"}, true
	}
	return Clause{Place: "/send/0/template", Holds: "yes", Text: t.Name + " has all its values"}, true
}

func (s *CompiledRule) summary(row *sheet.Row, e Explanation, now time.Time) string {
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
		return fmt.Sprintf("The email due on %s cannot go out until this is fixed: %s.", momentWords(e.Next.Due.In(loc)),
			e.Next.Decision.Reason.Words())
	case s.Rule.Condition != nil && e.Next.Decision.Reason.Code == reason.ConditionFalse:
		return fmt.Sprintf("Nothing goes out for this row unless %s. If that is so on %s, the next email goes then.",
			s.Rule.Condition.Words(s.Sheet), momentWords(e.Next.Due.In(loc)))
	}
	return fmt.Sprintf("Nothing goes out on %s: %s.", momentWords(e.Next.Due.In(loc)), e.Next.Decision.Reason.Words())
}

// reactionSummary says what an edit would bring.
func (s *CompiledRule) reactionSummary(e Explanation, no []string) string {
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
