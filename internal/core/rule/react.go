package rule

import (
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// RowState is what a rule that reacts remembers of one row beyond what the row
// itself tells. Its number never goes down, over pause, undo and restore too.
type RowState struct {
	Number int `json:"n,omitempty"` // episodes, or settled changes, so far
	// threshold, where it is not simply that the comparison is false
	Armed   *bool                `json:"armed,omitempty"`
	Was     *string              `json:"was,omitempty"`     // change: what the cell held before it became unreadable
	Looked  time.Time            `json:"looked,omitzero"`   // when a moving column was last looked at
	Changed map[string]time.Time `json:"changed,omitempty"` // when cells that conditions look back at changed
}

// IsZero tells whether there is nothing to remember.
func (s *RowState) IsZero() bool {
	return s.Number == 0 && s.Armed == nil && s.Was == nil && s.Looked.IsZero() && len(s.Changed) == 0
}

// Baseline forgets what a new baseline makes void, and keeps the counters.
func (s *RowState) Baseline(at time.Time) {
	s.Armed, s.Was, s.Changed = nil, nil, nil
	if !s.Looked.IsZero() {
		s.Looked = at
	}
}

// Settled is a row as it last settled and as it settles now, both with their
// formulas worked out at their instants. Before is nil for a row that has been
// added.
type Settled struct {
	Sheet         *sheet.Sheet
	Before, After *sheet.Row
	At            time.Time
}

// React tells whether a settling row makes an occasion of a reaction, and
// brings the row state up to date.
func (r *Rule) React(x Settled, st *RowState) (o Occasion, ok bool) {
	o = Occasion{Kind: r.Trigger.Kind, Rule: r.ID, Row: x.After.ID, Column: r.Trigger.Column, Due: x.At}
	switch r.Trigger.Kind {
	case Change:
		ok = r.changed(x, st, &o)
	case Threshold:
		ok = r.crossed(x, st, &o)
	case Added:
		ok = x.Before == nil
	case Edited:
		if ok = x.Before != nil && r.edited(x, &o); ok {
			st.Number++
		}
	}
	o.N = st.Number
	return o, ok
}

// Left reports whether what a delayed reaction was about is over by the time it is due: the value is none of
// those that it became, the comparison is false, or another episode has begun since. Unreadable text
// leaves nothing; nor does what is no state.
func (r *Rule) Left(s *sheet.Sheet, row *sheet.Row, o *Occasion, st *RowState) bool {
	t := &r.Trigger
	if t.Delay == "" || o.Kind != t.Kind {
		return false
	}
	over := false
	switch {
	case t.Kind == Threshold:
		over = r.beyond(s, row) == False
	case t.Kind == Change && t.To != nil:
		c, ok := s.Column(t.Column)
		over = ok && !row.Cell(c).IsUnreadable() && !r.among(t.To, row.Cell(c), c, s)
	default:
		return false
	}
	return over || st != nil && st.Number > o.N
}

// Watch notes the changes of cells that conditions look back at. Adding a row
// changes every filled cell.
func Watch(columns []string, x Settled, st *RowState) {
	for _, id := range columns {
		c, ok := x.Sheet.Column(id)
		if !ok {
			continue
		}
		before := value.Value{}
		if x.Before != nil {
			before = x.Before.Cell(c)
		}
		if !value.Same(before, x.After.Cell(c)) {
			if st.Changed == nil {
				st.Changed = map[string]time.Time{}
			}
			st.Changed[id] = x.At
		}
	}
}

func (r *Rule) edited(x Settled, o *Occasion) bool {
	for _, id := range r.Trigger.Columns {
		if c, ok := x.Sheet.Column(id); ok && !value.Same(x.Before.Cell(c), x.After.Cell(c)) {
			o.Column = id
			return true
		}
	}
	return false
}

// changed tells whether the column's settled value becomes one of To, coming
// from one of From, having been none of To. Unreadable text neither enters nor
// leaves; at the baseline it counts as empty.
func (r *Rule) changed(x Settled, st *RowState, o *Occasion) bool {
	c, ok := x.Sheet.Column(r.Trigger.Column)
	if !ok {
		return false
	}
	before, after := value.Value{}, x.After.Cell(c)
	if x.Before != nil {
		before = x.Before.Cell(c)
	}
	o.Before, o.After = x.Sheet.Show(c, before), x.Sheet.Show(c, after)
	if r.Trigger.To == nil {
		if value.Same(before, after) || r.Trigger.From != nil && !r.among(r.Trigger.From, before, c, x.Sheet) {
			return false
		}
		st.Number++
		return true
	}
	effective := before
	if before.IsUnreadable() {
		effective = value.Value{}
		if st.Was != nil {
			effective = value.Parse(*st.Was, x.Sheet.Reading(c))
		}
	}
	if after.IsUnreadable() {
		was := x.Sheet.Input(c, effective)
		st.Was = &was
		return false
	}
	st.Was = nil
	if r.among(r.Trigger.To, effective, c, x.Sheet) || !r.among(r.Trigger.To, after, c, x.Sheet) {
		return false
	}
	st.Number++
	return r.Trigger.From == nil || r.among(r.Trigger.From, effective, c, x.Sheet)
}

func (r *Rule) among(list []Operand, v value.Value, c *sheet.Column, s *sheet.Sheet) bool {
	if !v.IsFilled() {
		return false
	}
	for i := range list {
		w, err := list[i].typed("", c.ID, Is, c.ValueType(), SheetScope{Sheet: s})
		if err == nil && equal(v, w.v, c) {
			return true
		}
	}
	return false
}

// level gives a level's number on a row; ok is false where it has none.
func (l *Level) level(s *sheet.Sheet, row *sheet.Row) (decimal.Decimal, bool) {
	if l.Number != nil {
		return *l.Number, true
	}
	c, ok := s.Column(l.Column)
	if !ok {
		return decimal.Decimal{}, false
	}
	v := row.Cell(c)
	return v.Num, v.IsFilled() && v.Type == value.Number
}

// beyond compares the column with its limit; Unknown where the comparison
// cannot be made.
func (r *Rule) beyond(s *sheet.Sheet, row *sheet.Row) Truth {
	if row == nil {
		return Unknown
	}
	c, ok := s.Column(r.Trigger.Column)
	if !ok {
		return Unknown
	}
	v := row.Cell(c)
	limit, ok := r.Trigger.Limit.level(s, row)
	if !ok || !v.IsFilled() || v.Type != value.Number {
		return Unknown
	}
	n := v.Num.Cmp(limit)
	switch r.Trigger.Op {
	case AtLeast:
		return truth(n >= 0)
	case More:
		return truth(n > 0)
	case AtMost:
		return truth(n <= 0)
	}
	return truth(n < 0)
}

// crossed tells whether the threshold fires: the comparison is true and the
// row is armed.
func (r *Rule) crossed(x Settled, st *RowState, o *Occasion) bool {
	armed := r.beyond(x.Sheet, x.Before) != True
	if st.Armed != nil {
		armed = *st.Armed
	}
	fires := false
	switch r.beyond(x.Sheet, x.After) {
	case Unknown: // changes nothing
		if st.Armed = nil; !armed {
			st.Armed = &armed
		}
		return false
	case True:
		fires, armed = armed, false
		st.Armed = nil
	case False:
		if !armed {
			armed = r.rearmed(x)
		}
		if st.Armed = nil; !armed {
			st.Armed = &armed
		}
	}
	if fires {
		st.Number++
		if c, ok := x.Sheet.Column(r.Trigger.Column); ok {
			o.After = x.Sheet.Show(c, x.After.Cell(c))
		}
	}
	return fires
}

// rearmed tells whether a row whose comparison is false has come back far
// enough to be armed.
func (r *Rule) rearmed(x Settled) bool {
	l := r.Trigger.Rearm
	if l == nil {
		return true
	}
	above := r.Trigger.Op == More || r.Trigger.Op == AtLeast
	c, ok := x.Sheet.Column(r.Trigger.Column)
	if !ok {
		return false
	}
	level, ok := decimal.Decimal{}, false
	if l.Percent != nil {
		if level, ok = r.Trigger.Limit.level(x.Sheet, x.After); ok {
			away := level.Abs().Mul(*l.Percent).Shift(-2)
			if above {
				away = away.Neg()
			}
			level = level.Add(away)
		}
	} else {
		level, ok = l.level(x.Sheet, x.After)
	}
	if !ok {
		return false
	}
	n := x.After.Cell(c).Num.Cmp(level)
	if above {
		return n <= 0
	}
	return n >= 0
}

// NextLook gives the instant after from at which a reaction to a moving column
// must be looked at again, or the zero time. compute works the row's formulas
// out at an instant.
func (r *Rule) NextLook(s *sheet.Sheet, from time.Time, compute func(at time.Time) *sheet.Row) time.Time {
	if r.Trigger.Kind != Change && r.Trigger.Kind != Threshold {
		return time.Time{}
	}
	ids := []string{r.Trigger.Column}
	for _, l := range []*Level{r.Trigger.Limit, r.Trigger.Rearm} {
		if l != nil && l.Column != "" {
			ids = append(ids, l.Column)
		}
	}
	var moving []*sheet.Column
	for _, id := range ids {
		if c, ok := s.Column(id); ok && c.Program() != nil && c.Moving() != 0 {
			moving = append(moving, c)
		}
	}
	if len(moving) == 0 {
		return time.Time{}
	}
	var next time.Time
	for _, c := range moving {
		for _, test := range r.turns(s, compute, len(moving) > 1) {
			p := c.Program()
			var at time.Time
			if test == nil {
				at = p.NextLook(from, s.Zone)
			} else {
				at = p.NextTurn(from, s.Zone, test)
			}
			if !at.IsZero() && (next.IsZero() || at.Before(next)) {
				next = at
			}
		}
	}
	return next
}

// turns gives the comparisons whose turning a reaction waits for; nil stands
// for one that is not of a single value against something at rest.
func (r *Rule) turns(s *sheet.Sheet, compute func(time.Time) *sheet.Row, several bool) []func(time.Time) bool {
	c, _ := s.Column(r.Trigger.Column)
	if several || c == nil {
		return []func(time.Time) bool{nil}
	}
	if r.Trigger.Kind == Change {
		if r.Trigger.To == nil || c.ValueType() != value.YesNo {
			return []func(time.Time) bool{nil}
		}
		return []func(time.Time) bool{func(at time.Time) bool { return r.among(r.Trigger.To, compute(at).Cell(c), c, s) }}
	}
	out := []func(time.Time) bool{func(at time.Time) bool { return r.beyond(s, compute(at)) == True }}
	if r.Trigger.Rearm != nil {
		out = append(out, func(at time.Time) bool { return r.rearmed(Settled{Sheet: s, After: compute(at), At: at}) })
	}
	return out
}
