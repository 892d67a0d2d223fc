package plan

import (
	"fmt"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// piece is what one row adds to one recipient's round-up.
type piece struct {
	to, cc  []value.Mailbox
	bcc     []value.Mailbox
	replyTo []value.Mailbox
	subject string
	outside string         // what the fields outside the table come to
	missing *reason.Reason // what is missing outside the table
	silent  bool           // the recipient is on the do-not-email list
}

// IsRoundUp tells whether the rule sends round-ups.
func (s *CompiledRule) IsRoundUp() bool { return s.Rule.GroupBy != "" }

// pieces gives what a row adds to each recipient's round-up, or, where
// something stands against the row, its own decision: nothing where the
// condition is false.
func (s *CompiledRule) pieces(o rule.Occasion, row *sheet.Row, at time.Time,
	m Memory) (out []piece, own []Considered) {
	row = s.Sheet.Compute(row, at, s.Calendar)
	facts := s.facts(row, at, m)
	holds, faulty := s.Rule.Condition.Judge(facts)
	if holds == rule.False {
		return nil, nil
	}
	if row.Gone {
		return nil, []Considered{{o, skip(reason.RowGone), at, row}}
	}
	v := Decision{Outcome: s.sends(), Template: s.wording(&o, facts)}
	bad := s.recipients(&v, row, s.Rule.To, s.Rule.Cc, s.Rule.Bcc)
	switch {
	case holds == rule.Unknown:
		return nil, []Considered{{o, s.incomplete(v, faulty, s.unreadable(row, faulty)), at, row}}
	case bad != "":
		return nil, []Considered{{o, s.incomplete(v, bad, s.unreadable(row, bad)), at, row}}
	case len(v.To) == 0:
		return nil, []Considered{{o, s.incomplete(v, rule.FirstColumn(s.Rule.To), s.noAddress(s.Rule.To)), at, row}}
	}
	t := s.Templates[v.Template]
	if t == nil {
		return nil, []Considered{{o, skip(reason.NoWording), at, row}}
	}
	c := template.Context{Sheet: s.Sheet, Row: row, Today: facts.Today, Facts: facts}
	checked := t.Check(c)
	p := piece{subject: checked.Subject, outside: t.Outside(c), replyTo: v.ReplyTo}
	if len(checked.Missing) > 0 {
		why := s.missing(t, row, checked.Missing)
		p.missing = &why
	}
	all := v.To
	s.silence(&v)
	p.cc, p.bcc = v.Cc, v.Bcc
	for _, m := range all {
		q := p
		q.to = []value.Mailbox{m}
		q.silent = s.Silenced != nil && s.Silenced(m.Key())
		out = append(out, q)
	}
	return out, nil
}

// gather puts a recipient's pieces together. names are those of the rows, in
// order.
func (s *CompiledRule) gather(round rule.Occasion, ps []piece, names []string, at time.Time) Considered {
	round.Row, round.Mailbox = "", ps[0].to[0].Key()
	v := Decision{Outcome: s.sends(), Template: s.Rule.Send[0].Template, To: ps[0].to, ReplyTo: ps[0].replyTo}
	seen := map[string]bool{ps[0].to[0].Key(): true}
	add := func(into *[]value.Mailbox, boxes []value.Mailbox) {
		for _, m := range boxes {
			if !seen[m.Key()] {
				seen[m.Key()] = true
				*into = append(*into, m)
			}
		}
	}
	for _, p := range ps {
		add(&v.Cc, p.cc)
	}
	for _, p := range ps {
		add(&v.Bcc, p.bcc)
	}
	v.Subject = ps[0].subject
	v.Reason = reason.Reason{Code: reason.Round, N: len(ps)}
	if ps[0].silent {
		return Considered{round, skip(reason.DoNotEmail), at, nil}
	}
	for i, p := range ps {
		if p.missing != nil {
			return Considered{round, s.incomplete(v, p.missing.Column, reason.Reason{Code: reason.OfRow, Rows: names[i : i+1],
				Of: p.missing}), at, nil}
		}
		if p.outside != ps[0].outside {
			return Considered{round,
				s.incomplete(v, "", reason.Reason{Code: reason.RowsDiffer, Rows: []string{names[0], names[i]}}), at, nil}
		}
	}
	return Considered{round, v, at, nil}
}

// RoundUp is one recipient's round-up with the rows it is about.
type RoundUp struct {
	Considered
	Rows []*sheet.Row
}

// RoundUps judges a round of a schedule over all rows, each as it last settled
// and in the order of the sheet: the round-ups by recipient, and what stands
// against single rows. memory gives what is remembered of a row.
func (s *CompiledRule) RoundUps(round rule.Occasion, rows []*sheet.Row, at time.Time,
	memory func(*sheet.Row) Memory) (ups []RoundUp, own []Considered) {
	by := map[string]int{}
	var ps [][]piece
	for _, row := range rows {
		o := round
		o.Row = row.ID
		pieces, single := s.pieces(o, row, at, memory(row))
		own = append(own, single...)
		for _, p := range pieces {
			k := p.to[0].Key()
			i, ok := by[k]
			if !ok {
				i = len(ups)
				by[k] = i
				ups, ps = append(ups, RoundUp{}), append(ps, nil)
			}
			ps[i] = append(ps[i], p)
			ups[i].Rows = append(ups[i].Rows, row)
		}
	}
	for i := range ups {
		names := make([]string, len(ups[i].Rows))
		computed := make([]*sheet.Row, len(ups[i].Rows))
		for k, row := range ups[i].Rows {
			names[k] = s.Sheet.RowName(row)
			computed[k] = s.Sheet.Compute(row, at, s.Calendar)
		}
		c := s.gather(round, ps[i], names, at)
		if c.Outcome == Send || c.Outcome == Hold {
			c.Rendered = s.letterOfRound(&c.Decision, computed, at)
			c.OptOut = s.Rule.OptOut
			if large := c.Rendered.Missing; len(large) > 0 { // each row by itself was complete
				c.Decision = s.incomplete(c.Decision, large[0], s.missing(s.Templates[c.Template], computed[0], large))
			}
		}
		ups[i].Considered = c
	}
	return ups, own
}

// letterOfRound writes a round-up about rows whose formulas have been worked out.
func (s *CompiledRule) letterOfRound(v *Decision, computed []*sheet.Row, at time.Time) template.Rendered {
	facts := s.facts(computed[0], at, Memory{})
	return s.Templates[v.Template].Render(template.Context{Sheet: s.Sheet, Row: computed[0], Rows: computed,
		Today: facts.Today, Facts: facts, To: v.To})
}

// wordsOfRound returns what a round-up about rows says.
func (s *CompiledRule) wordsOfRound(v *Decision, rows []*sheet.Row, at time.Time) Words {
	computed := make([]*sheet.Row, len(rows))
	for i, row := range rows {
		computed[i] = s.Sheet.Compute(row, at, s.Calendar)
	}
	written := *v
	written.Rendered = s.letterOfRound(v, computed, at)
	return WordsOf(&written)
}

// CheckRoundUp tells whether the fields outside a round-up's table are the
// same for all rows of each recipient; else which rows differ.
func (s *CompiledRule) CheckRoundUp(rows []*sheet.Row, at time.Time) error {
	if !s.IsRoundUp() {
		return nil
	}
	type first struct{ row, outside string }
	seen := map[string]first{}
	for _, row := range rows {
		ps, _ := s.pieces(rule.Occasion{Row: row.ID}, row, at, Memory{})
		for _, p := range ps {
			k, name := p.to[0].Key(), s.Sheet.RowName(row)
			if f, ok := seen[k]; !ok {
				seen[k] = first{name, p.outside}
			} else if f.outside != p.outside {
				return fmt.Errorf(
					"a field outside the round-up's table differs between %s and %s, which go to %s in one email; put it into the "+
						"table", f.row, name, p.to[0].Address())
			}
		}
	}
	return nil
}
