// Package plan works out what goes out, and when: it judges occasions, says
// when each row must be considered next, explains, and rehearses. The running
// server and the rehearsal decide with the same functions.
package plan

import (
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Setting is all that a rule's rows are judged with.
type Setting struct {
	Sheet     *sheet.Sheet
	Rule      *rule.Rule
	Templates map[string]*template.Template
	Calendar  calendar.Calendar
	Silenced  func(mailboxKey string) bool // the do-not-email list; nil is an empty one
}

// Env gives the time a rule's trigger is computed with.
func (s *Setting) Env() rule.Env {
	return rule.Env{Zone: s.Rule.Location(s.Sheet.Zone), SheetZone: s.Sheet.Zone, Calendar: s.Calendar}
}

// Anchor is the cell that the rule's dates hang on.
func (s *Setting) Anchor(row *sheet.Row) value.Value {
	c, ok := s.Sheet.Column(s.Rule.Trigger.Column)
	if !ok {
		return value.Value{}
	}
	return row.Cell(c)
}

// Outcome is what judging an occasion says.
type Outcome string

// The outcomes.
const (
	Send       Outcome = "send"
	Skip       Outcome = "skip"
	Incomplete Outcome = "incomplete"
)

// Verdict is an occasion judged: whether its email goes, why, and the email.
type Verdict struct {
	Outcome  Outcome
	Reason   string // why it goes, or why it does not
	Blame    string // incomplete: the column to mend
	Template string
	To       []value.Mailbox
	Cc       []value.Mailbox
	Bcc      []value.Mailbox
	ReplyTo  []value.Mailbox
	template.Rendered
}

// Judge decides an occasion on a row as it is at an instant. The first that
// applies is the answer: same moment, condition false, condition unknown, no
// wording fits, recipients, fields.
func (s *Setting) Judge(o *rule.Occasion, row *sheet.Row, at time.Time) Verdict {
	facts := s.facts(row, at)
	if row.Gone {
		return Verdict{Outcome: Skip, Reason: "the row is gone: it is no longer in the file it came from"}
	}
	if o.SameMoment {
		return Verdict{Outcome: Skip, Reason: "same moment: another email of this rule goes to the row then"}
	}
	holds, blame := s.Rule.Condition.Judge(facts)
	if holds == rule.False {
		return Verdict{Outcome: Skip, Reason: "condition false: " + s.failing(facts)}
	}
	return s.write(o, row, facts, holds, blame)
}

// Again judges an occasion that a person wants sent again: without its
// condition, with recipients and wording as they are now.
func (s *Setting) Again(o *rule.Occasion, row *sheet.Row, at time.Time) Verdict {
	return s.write(o, row, s.facts(row, at), rule.True, "")
}

// write finds wording and recipients and renders the email.
func (s *Setting) write(o *rule.Occasion, row *sheet.Row, facts rule.Facts, holds rule.Truth, blame string) Verdict {
	tpl := s.wording(o, facts)
	v := Verdict{Outcome: Send, Reason: s.why(o, row), Template: tpl}
	bad := s.recipients(&v, row)
	if holds == rule.Unknown {
		return s.incomplete(v, blame, s.unreadable(row, blame))
	}
	t, ok := s.Templates[tpl]
	if !ok {
		return Verdict{Outcome: Skip, Reason: "no wording fits"}
	}
	if bad != "" {
		return s.incomplete(v, bad, s.unreadable(row, bad))
	}
	if len(v.To) == 0 {
		return s.incomplete(v, s.firstColumn(s.Rule.To), "no usable address: "+s.emptyTo()+" is empty")
	}
	if s.silence(&v); len(v.To) == 0 {
		return Verdict{Outcome: Skip, Reason: "do-not-email: every recipient is on the do-not-email list"}
	}
	v.Rendered = t.Render(template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today})
	if len(v.Missing) > 0 {
		return s.incomplete(v, v.Missing[0], s.missing(row, v.Missing))
	}
	return v
}

func (s *Setting) facts(row *sheet.Row, at time.Time) rule.Facts {
	return rule.Facts{Sheet: s.Sheet, Row: row, Today: value.DayAt(at.In(s.Rule.Location(s.Sheet.Zone)))}
}

func (s *Setting) incomplete(v Verdict, blame, reason string) Verdict {
	v.Outcome, v.Blame, v.Reason = Incomplete, blame, reason
	v.Rendered = template.Rendered{Missing: v.Missing}
	return v
}

// why says what made the occasion and what the condition's columns held.
func (s *Setting) why(o *rule.Occasion, row *sheet.Row) string {
	parts := []string{o.Reason(s.name(o.Column), s.Rule.Trigger.Every, s.Rule.Location(s.Sheet.Zone))}
	seen := map[string]bool{}
	for _, l := range s.Rule.Condition.Leaves() {
		if !seen[l.Column] {
			seen[l.Column] = true
			parts = append(parts, s.nameIs(row, l.Column))
		}
	}
	return strings.Join(parts, "; ")
}

// failing names the first clause of the condition that does not hold.
func (s *Setting) failing(f rule.Facts) string {
	for _, c := range s.Rule.Condition.Clauses() {
		if t, _ := c.Judge(f); t == rule.False {
			var is []string
			for _, l := range c.Leaves() {
				is = append(is, s.nameIs(f.Row, l.Column))
			}
			return strings.Join(is, ", ") + ", not so that " + c.Words(s.Sheet)
		}
	}
	return s.Rule.Condition.Words(s.Sheet)
}

func (s *Setting) name(column string) string {
	if c, ok := s.Sheet.Column(column); ok {
		return rule.ColumnWord(c.Name)
	}
	return "a column that is not there any more"
}

func (s *Setting) nameIs(row *sheet.Row, column string) string {
	c, ok := s.Sheet.Column(column)
	if !ok {
		return s.name(column)
	}
	v := row.Cell(c)
	if v.IsEmpty() {
		return s.name(column) + " is empty"
	}
	return s.name(column) + " is " + s.Sheet.Show(c, v)
}

func (s *Setting) unreadable(row *sheet.Row, column string) string {
	c, ok := s.Sheet.Column(column)
	if !ok {
		return "a column that the rule names is not there any more"
	}
	return fmt.Sprintf("unreadable cell: %s holds %q, which is no %s", s.name(column), row.Cell(c).Str, typeWord(c.Type))
}

func typeWord(t value.Type) string {
	if t == value.Email {
		return "address"
	}
	return string(t)
}

func (s *Setting) missing(row *sheet.Row, columns []string) string {
	var parts []string
	for _, id := range columns {
		c, ok := s.Sheet.Column(id)
		if ok && row.Cell(c).IsUnreadable() {
			parts = append(parts, s.unreadable(row, id))
			continue
		}
		parts = append(parts, s.name(id)+" is empty and the template has no other words for it")
	}
	return strings.Join(parts, "; ")
}

// wording takes the offset's own template, else the first whose condition
// holds; unknown counts as false.
func (s *Setting) wording(o *rule.Occasion, f rule.Facts) string {
	if o.Offset < len(s.Rule.Trigger.Offsets) {
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

// recipients reads To, Cc, Bcc and Reply-To. Doubles are dropped without
// case, To before Cc before Bcc, the first writing kept. bad is the column of
// an unreadable cell among To, Cc and Bcc.
func (s *Setting) recipients(v *Verdict, row *sheet.Row) (bad string) {
	seen := map[string]bool{}
	read := func(list []rule.Address, seen map[string]bool) (out []value.Mailbox, bad string) {
		for _, a := range list {
			text := a.Address
			if a.Column != "" {
				c, ok := s.Sheet.Column(a.Column)
				if !ok {
					continue
				}
				cell := row.Cell(c)
				if cell.IsUnreadable() && bad == "" {
					bad = a.Column
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
		return out, bad
	}
	var b1, b2, b3 string
	v.To, b1 = read(s.Rule.To, seen)
	v.Cc, b2 = read(s.Rule.Cc, seen)
	v.Bcc, b3 = read(s.Rule.Bcc, seen)
	v.ReplyTo, _ = read(s.Rule.ReplyTo, map[string]bool{})
	for _, b := range []string{b1, b2, b3} {
		if b != "" {
			return b
		}
	}
	return ""
}

// silence drops the addresses on the do-not-email list.
func (s *Setting) silence(v *Verdict) {
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

func (s *Setting) firstColumn(list []rule.Address) string {
	for _, a := range list {
		if a.Column != "" {
			return a.Column
		}
	}
	return ""
}

func (s *Setting) emptyTo() string {
	if c := s.firstColumn(s.Rule.To); c != "" {
		return s.name(c)
	}
	return "the recipient"
}
