package rule

import (
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/formula"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Truth is a value of three-valued logic.
type Truth int8

// The three values: what rests on an unreadable cell is unknown.
const (
	False   Truth = -1
	Unknown Truth = 0
	True    Truth = 1
)

// Facts is the row a condition is judged on, with its formulas worked out, and
// the time.
type Facts struct {
	Sheet   *sheet.Sheet
	Row     *sheet.Row
	Today   value.Day // in the rule's zone
	At      time.Time
	Zone    *time.Location                              // the rule's
	Changed func(column string) (at time.Time, ok bool) // when a cell's change last settled; nil: never
}

// SheetScope lets rules be checked against a sheet.
type SheetScope struct {
	Sheet     *sheet.Sheet
	Templates map[string]bool
	Calendar  calendar.Calendar // the sheet's; one without weekdays is not known
}

// Opens implements Scope.
func (s SheetScope) Opens(w *calendar.Window) bool {
	for d, worked := range s.Calendar.Weekdays {
		if w.Weekdays[d] && (worked || !w.Working) {
			return true
		}
	}
	return s.Calendar.Weekdays == [7]bool{}
}

// ColumnType implements Scope.
func (s SheetScope) ColumnType(id string) (value.Type, bool) {
	c, ok := s.Sheet.Column(id)
	if !ok {
		return "", false
	}
	return c.ValueType(), true
}

// IsFormula implements Scope.
func (s SheetScope) IsFormula(id string) bool {
	c, ok := s.Sheet.Column(id)
	return ok && c.Type == value.Formula
}

// IsMoving implements Scope.
func (s SheetScope) IsMoving(id string) bool {
	c, ok := s.Sheet.Column(id)
	return ok && c.Moving() != formula.Still
}

// OptionID implements Scope: it meets an option by id, else by name.
func (s SheetScope) OptionID(column, name string) (string, bool) {
	c, ok := s.Sheet.Column(column)
	if !ok {
		return "", false
	}
	for _, o := range c.Options {
		if o.ID == name {
			return o.ID, true
		}
	}
	for _, o := range c.Options {
		if value.Fold(o.Name) == value.Fold(name) {
			return o.ID, true
		}
	}
	return "", false
}

// HasTemplate implements Scope.
func (s SheetScope) HasTemplate(id string) bool { return s.Templates[id] }

// DefaultZone implements Scope.
func (s SheetScope) DefaultZone() *time.Location { return s.Sheet.Zone }

// Judge tells whether the condition holds. faulty is the column of the first
// unreadable cell that made the answer unknown. A nil condition holds.
func (c *Condition) Judge(f Facts) (t Truth, faulty string) {
	if c == nil {
		return True, ""
	}
	switch c.form {
	case 'a':
		return join(c.All, f, False)
	case 'y':
		return join(c.Any, f, True)
	case 'n':
		t, faulty = c.Not.Judge(f)
		return -t, faulty
	}
	return c.leaf(f)
}

// join is "all" with decisive False and "any" with decisive True.
func join(cs []Condition, f Facts, decisive Truth) (Truth, string) {
	out, faulty := -decisive, ""
	for i := range cs {
		t, b := cs[i].Judge(f)
		if t == decisive {
			return decisive, ""
		}
		if t == Unknown {
			if out != Unknown {
				faulty = b
			}
			out = Unknown
		}
	}
	return out, faulty
}

func truth(b bool) Truth {
	if b {
		return True
	}
	return False
}

func (c *Condition) leaf(f Facts) (Truth, string) {
	p := c.ready
	if p == nil || p.sheet != f.Sheet {
		if p = c.prepare(f.Sheet); p == nil {
			return Unknown, c.Column
		}
	}
	v := f.Row.Cell(p.col)
	switch c.Op {
	case IsBad:
		return truth(v.IsUnreadable()), ""
	case ChangedIn:
		if f.Changed == nil {
			return False, ""
		}
		at, ok := f.Changed(c.Column)
		return truth(ok && !at.Before(p.within.Before(f.At, f.Zone))), ""
	}
	if v.IsUnreadable() {
		return Unknown, c.Column
	}
	switch c.Op {
	case IsEmpty:
		return truth(v.IsEmpty()), ""
	case IsFilled:
		return truth(v.IsFilled()), ""
	}
	want, faulty := c.wanted(f, p)
	if faulty != "" {
		return Unknown, faulty
	}
	return c.compare(v, want, p, f.Today), ""
}

// wanted resolves the leaf's value on the row; an empty {column} inside a list
// is passed over.
func (c *Condition) wanted(f Facts, p *prepared) (want []value.Value, faulty string) {
	if p.fixed != nil {
		return p.fixed, ""
	}
	want = make([]value.Value, 0, len(p.ops))
	for _, o := range p.ops {
		v := o.v
		if o.column != "" {
			oc, _ := f.Sheet.Column(o.column)
			if v = f.Row.Cell(oc); v.IsUnreadable() {
				return nil, o.column
			}
			if v.Type == value.Choice {
				v = value.OfText(f.Sheet.Show(oc, v))
			}
			if v.IsEmpty() && c.Value.isList {
				if c.Op == OneOf || c.Op == NoneOf {
					continue
				}
			}
		}
		want = append(want, v)
	}
	return want, ""
}

// compare judges a readable cell; empty, on either side, satisfies only
// is-not and none-of.
func (c *Condition) compare(v value.Value, want []value.Value, p *prepared, today value.Day) Truth {
	col := p.col
	switch c.Op {
	case OneOf, NoneOf:
		in := false
		for _, w := range want {
			in = in || v.IsFilled() && equal(v, w, col)
		}
		return truth(in == (c.Op == OneOf))
	case IsNot:
		return truth(v.IsEmpty() || want[0].IsEmpty() || !equal(v, want[0], col))
	}
	if v.IsEmpty() {
		return False
	}
	for _, w := range want {
		if w.IsEmpty() {
			return False
		}
	}
	switch c.Op {
	case Is, OnDay:
		if c.Op == OnDay {
			v.Type, v.Wall.Second = value.Date, 0
		}
		return truth(equal(v, want[0], col))
	case Contains, StartsWith, EndsWith:
		text, part := value.Fold(v.Str), p.folded
		if p.fixed == nil {
			part = value.Fold(want[0].Str)
		}
		switch c.Op {
		case Contains:
			return truth(strings.Contains(text, part))
		case StartsWith:
			return truth(strings.HasPrefix(text, part))
		}
		return truth(strings.HasSuffix(text, part))
	case DaysAway:
		away := value.OfNumber(decimal.NewFromInt(int64(v.Wall.Day) - int64(today)))
		return within(away, want, col)
	case Between:
		return within(v, want, col)
	}
	n, ok := order(v, want[0], col)
	if !ok {
		return False
	}
	switch c.Op {
	case Less, Before:
		return truth(n < 0)
	case AtMost:
		return truth(n <= 0)
	case More, After:
		return truth(n > 0)
	case AtLeast:
		return truth(n >= 0)
	}
	return False
}

func within(v value.Value, want []value.Value, col *sheet.Column) Truth {
	lo, ok1 := order(v, want[0], col)
	hi, ok2 := order(v, want[1], col)
	return truth(ok1 && ok2 && lo >= 0 && hi <= 0)
}

func equal(v, w value.Value, col *sheet.Column) bool {
	n, ok := order(v, w, col)
	return ok && n == 0
}

// order compares; options rank by their list, and meet text by their name.
func order(v, w value.Value, col *sheet.Column) (int, bool) {
	if v.Type != value.Choice {
		return value.Compare(v, w)
	}
	a, b := -1, -1
	for i, o := range col.Options {
		if o.ID == v.Str {
			a = i
		}
		if w.Type == value.Choice && o.ID == w.Str || w.Type != value.Choice && value.Fold(o.Name) == value.Fold(w.Str) {
			b = i
		}
	}
	if b < 0 {
		return 1, true
	}
	return a - b, true
}
