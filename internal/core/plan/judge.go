package plan

import (
	"slices"
	"strings"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Outcome is what judging an occasion says.
type Outcome string

// The outcomes.
const (
	Send       Outcome = "send"
	Hold       Outcome = "hold"
	Skip       Outcome = "skip"
	Incomplete Outcome = "incomplete"
)

// Decision is an occasion judged: whether its email goes, why, and the email.
type Decision struct {
	Outcome      Outcome
	Reason       reason.Reason // why it goes, or why it does not
	FaultyColumn string        // incomplete: the column to mend
	Template     string
	To           []value.Mailbox
	Cc           []value.Mailbox
	Bcc          []value.Mailbox
	ReplyTo      []value.Mailbox
	template.Rendered
}

// Considered is an occasion that has been judged.
type Considered struct {
	rule.Occasion
	Decision
	At time.Time  // the instant it was judged at
	On *sheet.Row // the row it was judged on, with its formulas worked out
}

// Compute works a row's formulas out at an instant; nil stays nil.
func (s *CompiledRule) Compute(row *sheet.Row, at time.Time) *sheet.Row {
	if row == nil {
		return nil
	}
	return s.Sheet.Compute(row, at, s.Calendar)
}

// Memory is what judging needs to know of what went before.
type Memory struct {
	Last     func() (at time.Time, ok bool) // when the rule's last first email to the row went or was held
	RowState *rule.RowState
}

func (m Memory) changed(column string) (time.Time, bool) {
	if m.RowState == nil {
		return time.Time{}, false
	}
	at, ok := m.RowState.Changed[column]
	return at, ok
}

func skip(why reason.Code) Decision { return skipped(reason.Reason{Code: why}) }

func skipped(why reason.Reason) Decision { return Decision{Outcome: Skip, Reason: why} }

// Judge decides an occasion on a row as it is at an instant: one decision, or
// with each one for every mailbox. The first that applies is the answer: same
// moment, left again, condition false, condition unknown, no template fits, repeat,
// recipients, fields. Follow-ups are judged in their own way.
func (s *CompiledRule) Judge(o rule.Occasion, row *sheet.Row, at time.Time, m Memory) []Considered {
	row = s.Sheet.Compute(row, at, s.Calendar)
	facts := s.facts(row, at, m)
	one := func(v Decision) []Considered { return []Considered{{o, v, at, row}} }
	if row.Gone {
		return one(skip(reason.RowGone))
	}
	if o.Base != "" {
		return one(s.judgeStep(&o, row, facts))
	}
	if o.SameMoment {
		return one(skip(reason.SameMoment))
	}
	if s.Rule.Left(s.Sheet, row, &o, m.RowState) {
		return one(skip(reason.LeftAgain))
	}
	holds, faulty := s.Rule.Condition.Judge(facts)
	if holds == rule.False {
		return one(skipped(s.failing(facts)))
	}
	v := Decision{Outcome: s.sends(), Template: s.wording(&o, facts), Reason: s.why(&o, row)}
	bad := s.recipients(&v, row, s.Rule.To, s.Rule.Cc, s.Rule.Bcc)
	if holds == rule.Unknown {
		return one(s.incomplete(v, faulty, s.unreadable(row, faulty)))
	}
	if _, ok := s.Templates[v.Template]; !ok {
		return one(skip(reason.NoWording))
	}
	if why := s.repeated(at, m); !why.IsZero() {
		return one(skipped(why))
	}
	if v, done := s.address(&v, row, bad, s.Rule.To); done {
		return one(v)
	}
	if !s.Rule.Each && !s.IsRoundUp() {
		return one(s.written(v, row, facts))
	}
	return s.each(o, v, row, facts, at)
}

// Mend judges an occasion that was incomplete again. With each, one that was
// incomplete as a whole comes back as its mailboxes', and a mailbox's alone.
func (s *CompiledRule) Mend(o rule.Occasion, row *sheet.Row, at time.Time, m Memory) []Considered {
	cs := s.Judge(o.Whole(), row, at, m)
	if o.Mailbox == "" || o.Base != "" {
		return cs
	}
	var out []Considered
	for _, c := range cs {
		if c.Mailbox == o.Mailbox || c.Mailbox == "" {
			out = append(out, c)
		}
	}
	return out
}

// Opens gives the instant at which what has been mended goes: at once, or at
// the start of the next window.
func (s *CompiledRule) Opens(at time.Time) time.Time { return s.timing.MoveLater(at) }

// JudgeToResend judges an occasion that a person wants sent again: without its
// condition, with recipients and wording as they are now.
func (s *CompiledRule) JudgeToResend(o rule.Occasion, row *sheet.Row, at time.Time, m Memory) Decision {
	row = s.Sheet.Compute(row, at, s.Calendar)
	facts := s.facts(row, at, m)
	if o.Base != "" {
		return s.step(&o, row, facts)
	}
	v := Decision{Outcome: Send, Template: s.wording(&o, facts), Reason: s.why(&o, row)}
	bad := s.recipients(&v, row, s.Rule.To, s.Rule.Cc, s.Rule.Bcc)
	if _, ok := s.Templates[v.Template]; !ok {
		return skip(reason.NoWording)
	}
	if v, done := s.address(&v, row, bad, s.Rule.To); done {
		return v
	}
	if !v.only(o.Mailbox) {
		return skipped(reason.Reason{Code: reason.NotRecipient, Mailbox: o.Mailbox})
	}
	return s.written(v, row, facts)
}

// only leaves the one mailbox that each has given an occasion, if it has, and
// tells whether it is still there.
func (v *Decision) only(mailbox string) bool {
	if mailbox == "" {
		return true
	}
	v.To = slices.DeleteFunc(slices.Clone(v.To), func(m value.Mailbox) bool { return m.Key() != mailbox })
	return len(v.To) > 0
}

// sends is the outcome of an email that goes.
func (s *CompiledRule) sends() Outcome {
	if s.Rule.Hold == rule.HoldAlways {
		return Hold
	}
	return Send
}

// each gives every To mailbox an email of its own; what is in To is dropped
// from Cc and Bcc of all of them.
func (s *CompiledRule) each(o rule.Occasion, v Decision, row *sheet.Row, facts rule.Facts, at time.Time) []Considered {
	out := make([]Considered, 0, len(v.To))
	for _, m := range v.To {
		single := v
		single.To = []value.Mailbox{m}
		occ := o
		occ.Mailbox = m.Key()
		out = append(out, Considered{occ, s.written(single, row, facts), at, row})
	}
	return out
}

// address settles what stands against the recipients. done says that there is
// a decision.
func (s *CompiledRule) address(v *Decision, row *sheet.Row, bad string, to []rule.Address) (Decision, bool) {
	if bad != "" {
		return s.incomplete(*v, bad, s.unreadable(row, bad)), true
	}
	if len(v.To) == 0 {
		return s.incomplete(*v, rule.FirstColumn(to), s.noAddress(to)), true
	}
	if s.silence(v); len(v.To) == 0 {
		return skip(reason.DoNotEmail), true
	}
	return Decision{}, false
}

// written writes the letter.
func (s *CompiledRule) written(v Decision, row *sheet.Row, facts rule.Facts) Decision {
	t := s.Templates[v.Template]
	c := template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today, Facts: facts, To: v.To}
	if s.Light {
		v.Rendered = t.Check(c)
	} else {
		v.Rendered = t.Render(c)
	}
	v.OptOut = s.Rule.OptOut
	if len(v.Missing) > 0 {
		return s.incomplete(v, v.Missing[0], s.missing(t, row, v.Missing))
	}
	return v
}

// repeated gives why the row may not have another first email yet, if so.
func (s *CompiledRule) repeated(at time.Time, m Memory) (why reason.Reason) {
	r := s.Rule.Repeat
	if r == nil || !r.Once && r.Apart == "" || m.Last == nil {
		return why
	}
	last, ok := m.Last()
	switch {
	case !ok:
	case r.Once:
		why.Code = reason.RepeatOnce
	case at.Before(s.apart.After(last, s.Zone)):
		why.Code, why.Value = reason.RepeatApart, r.Apart
	}
	return why
}

func (s *CompiledRule) facts(row *sheet.Row, at time.Time, m Memory) rule.Facts {
	return rule.Facts{Sheet: s.Sheet, Row: row, Today: value.DayAt(at.In(s.Zone)), At: at, Zone: s.Zone,
		Changed: m.changed}
}

// Holds tells whether the rule's condition holds for a row at an instant.
func (s *CompiledRule) Holds(row *sheet.Row, at time.Time, m Memory) bool {
	t, _ := s.Rule.Condition.Judge(s.facts(s.Sheet.Compute(row, at, s.Calendar), at, m))
	return t == rule.True
}

// MayApply tells whether a schedule has anything to say of a row: its
// condition holds or is unknown.
func (s *CompiledRule) MayApply(row *sheet.Row, at time.Time, m Memory) bool {
	t, _ := s.Rule.Condition.Judge(s.facts(s.Sheet.Compute(row, at, s.Calendar), at, m))
	return t != rule.False
}

func (s *CompiledRule) incomplete(v Decision, faulty string, why reason.Reason) Decision {
	v.Outcome, v.FaultyColumn, v.Reason = Incomplete, faulty, why
	v.Rendered = template.Rendered{Missing: v.Missing}
	return v
}

// why gives what made the occasion and what the condition's columns held.
func (s *CompiledRule) why(o *rule.Occasion, row *sheet.Row) reason.Reason {
	r := o.Reason(s.name(o.Column), s.Rule.Trigger.Every, s.Zone)
	r.Cells = s.cells(row, s.Rule.Condition.Leaves())
	return r
}

// failing gives the first clause of the condition that does not hold.
func (s *CompiledRule) failing(f rule.Facts) reason.Reason {
	for _, c := range s.Rule.Condition.Clauses() {
		if t, _ := c.Judge(f); t == rule.False {
			return reason.Reason{Code: reason.ConditionFalse, Clause: c.Words(s.Sheet), Cells: s.cells(f.Row, c.Leaves())}
		}
	}
	return reason.Reason{Code: reason.ConditionFalse, Clause: s.Rule.Condition.Words(s.Sheet)}
}

// cells gives what the columns of conditions held, each once.
func (s *CompiledRule) cells(row *sheet.Row, leaves []*rule.Condition) (out []reason.Cell) {
	for i, l := range leaves {
		if !slices.ContainsFunc(leaves[:i], func(x *rule.Condition) bool { return x.Column == l.Column }) {
			out = append(out, s.cell(row, l.Column))
		}
	}
	return out
}

func (s *CompiledRule) cell(row *sheet.Row, column string) reason.Cell {
	out := reason.Cell{Column: column, Name: s.name(column)}
	if c, ok := s.Sheet.Column(column); ok {
		if v := row.Cell(c); !v.IsEmpty() {
			out.Value, out.Bad = s.Sheet.Show(c, v), v.IsUnreadable()
			if out.Bad {
				out.Value, out.Kind = v.Str, typeWord(c.ValueType())
			}
		}
	}
	return out
}

func (s *CompiledRule) name(column string) string {
	if c, ok := s.Sheet.Column(column); ok {
		return rule.ColumnWord(c.Name)
	}
	return "a column that is not there any more"
}

func (s *CompiledRule) unreadable(row *sheet.Row, column string) reason.Reason {
	c, ok := s.Sheet.Column(column)
	if !ok {
		return reason.Reason{Code: reason.ColumnGone, Column: column}
	}
	return reason.Reason{Code: reason.Unreadable, Column: column, Name: s.name(column), Value: row.Cell(c).Str,
		Unit: typeWord(c.ValueType())}
}

func typeWord(t value.Type) string {
	if t == value.Email {
		return "address"
	}
	return string(t)
}

// missing gives which fields of a letter have no value.
func (s *CompiledRule) missing(t *template.Template, row *sheet.Row, columns []string) reason.Reason {
	r := reason.Reason{Code: reason.FieldEmpty, Column: columns[0]}
	for _, id := range columns {
		c := s.cell(row, id)
		if col, ok := s.Sheet.Column(id); ok && col.Type == value.File && !c.Bad {
			c.Kind, c.Value = reason.Files, strings.Join(t.Absent(row.Cell(col)), ", ")
			if row.Cell(col).IsFilled() && c.Value == "" {
				c.Kind = reason.TooLarge
			}
		} else if !c.Bad {
			c.Value = ""
		}
		r.Cells = append(r.Cells, c)
	}
	return r
}

func (s *CompiledRule) noAddress(to []rule.Address) reason.Reason {
	return reason.Reason{Code: reason.NoAddress, Column: rule.FirstColumn(to), Name: s.emptyTo(to)}
}

// wording takes the offset's own template, else the first whose condition
// holds; unknown counts as false.
func (s *CompiledRule) wording(o *rule.Occasion, f rule.Facts) string {
	if o.AnchorText != "" && o.Offset < len(s.Rule.Trigger.Offsets) {
		if own := s.Rule.Trigger.Offsets[o.Offset].Template; own != "" {
			return own
		}
	}
	for _, w := range s.Rule.Send {
		if t, _ := w.If.Judge(f); t == rule.True {
			return w.Template
		}
	}
	return ""
}

// WordingOf gives the template in whose words a row would be written to at an instant, where the
// rule's condition holds and no date has a template of its own; "" for none.
func (s *CompiledRule) WordingOf(row *sheet.Row, at time.Time, m Memory) string {
	f := s.facts(s.Sheet.Compute(row, at, s.Calendar), at, m)
	if t, _ := s.Rule.Condition.Judge(f); t != rule.True {
		return ""
	}
	return s.wording(&rule.Occasion{}, f)
}

// recipients reads To, Cc, Bcc and Reply-To. Doubles are dropped without
// case, To before Cc before Bcc, the first writing kept. bad is the column of
// an unreadable cell among To, Cc and Bcc.
func (s *CompiledRule) recipients(v *Decision, row *sheet.Row, to, cc, bcc []rule.Address) (bad string) {
	seen := map[string]bool{}
	v.To = s.mailboxes(to, row, seen, &bad)
	v.Cc = s.mailboxes(cc, row, seen, &bad)
	v.Bcc = s.mailboxes(bcc, row, seen, &bad)
	var ignored string
	v.ReplyTo = s.mailboxes(s.Rule.ReplyTo, row, map[string]bool{}, &ignored)
	return bad
}

func (s *CompiledRule) mailboxes(list []rule.Address, row *sheet.Row, seen map[string]bool,
	bad *string) (out []value.Mailbox) {
	for _, a := range list {
		text := a.Address + a.Person
		if a.Column != "" {
			c, ok := s.Sheet.Column(a.Column)
			if !ok {
				continue
			}
			cell := row.Cell(c)
			if cell.IsUnreadable() && *bad == "" {
				*bad = a.Column
			}
			if !cell.IsFilled() {
				continue
			}
			text = cell.Str
		}
		boxes, err := value.ParseMailboxes(text)
		if err != nil {
			continue
		}
		for _, m := range boxes {
			if k := m.Key(); !seen[k] {
				seen[k] = true
				out = append(out, m)
			}
		}
	}
	return out
}

// silence drops the addresses on the do-not-email list.
func (s *CompiledRule) silence(v *Decision) {
	if s.Silenced == nil {
		return
	}
	for _, list := range []*[]value.Mailbox{&v.To, &v.Cc, &v.Bcc} {
		kept := (*list)[:0:0]
		for _, m := range *list {
			if !s.Silenced(m.Key()) {
				kept = append(kept, m)
			}
		}
		*list = kept
	}
}

func (s *CompiledRule) emptyTo(list []rule.Address) string {
	if c := rule.FirstColumn(list); c != "" {
		return s.name(c)
	}
	return "the recipient"
}
