package rule

import (
	"bytes"
	"encoding/json"
	"fmt"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Op is an operator of a condition's leaf.
type Op string

// The operators of a leaf.
const (
	Is         Op = "is"
	IsNot      Op = "is-not"
	OneOf      Op = "one-of"
	NoneOf     Op = "none-of"
	IsEmpty    Op = "empty"
	IsFilled   Op = "filled"
	IsBad      Op = "unreadable"
	Contains   Op = "contains"
	StartsWith Op = "starts-with"
	EndsWith   Op = "ends-with"
	Less       Op = "<"
	AtMost     Op = "<="
	More       Op = ">"
	AtLeast    Op = ">="
	Between    Op = "between"
	Before     Op = "before"
	After      Op = "after"
	OnDay      Op = "on"
	DaysAway   Op = "days-away"
	ChangedIn  Op = "changed-within"
)

// Condition is a tree: exactly one of All, Any, Not or a leaf of Column, Op
// and Value.
type Condition struct {
	All    []Condition
	Any    []Condition
	Not    *Condition
	Column string
	Op     Op
	Value  *Operand
	form   byte // 'a'll, an'y', 'n'ot, 'l'eaf

	ready *prepared // of a leaf, where Prepare has been called
}

// prepared is a leaf made ready for judging many rows of a sheet.
type prepared struct {
	sheet  *sheet.Sheet
	col    *sheet.Column
	ops    []operand
	fixed  []value.Value // what it is compared with, where no column is
	folded string        // the first of them, folded, of a text
	within calendar.Duration
}

// Prepare makes a condition ready for judging many rows of a sheet. It must
// have been validated, and must not be shared while this runs.
func (c *Condition) Prepare(s *sheet.Sheet) {
	if c == nil {
		return
	}
	for i := range c.All {
		c.All[i].Prepare(s)
	}
	for i := range c.Any {
		c.Any[i].Prepare(s)
	}
	c.Not.Prepare(s)
	if c.form == 'l' {
		c.ready = c.prepare(s)
	}
}

func (c *Condition) prepare(s *sheet.Sheet) *prepared {
	col, ok := s.Column(c.Column)
	if !ok {
		return nil
	}
	ops, err := c.operands("", col.ValueType(), SheetScope{Sheet: s})
	if err != nil {
		return nil
	}
	p := &prepared{sheet: s, col: col, ops: ops, fixed: make([]value.Value, 0, len(ops))}
	for _, o := range ops {
		if o.column != "" {
			p.fixed = nil
			break
		}
		p.fixed = append(p.fixed, o.v)
	}
	if len(p.fixed) > 0 {
		p.folded = value.Fold(p.fixed[0].Str)
	}
	if c.Op == ChangedIn {
		p.within, _ = calendar.ParseDuration(*c.Value.Text)
	}
	return p
}

// Columns lists the columns that a condition looks at.
func (c *Condition) Columns() []string {
	var out []string
	for _, l := range c.Leaves() {
		out = append(out, l.Column)
		if l.Value == nil {
			continue
		}
		for _, o := range append([]Operand{*l.Value}, l.Value.List...) {
			if o.Column != "" {
				out = append(out, o.Column)
			}
		}
	}
	return out
}

// Watches lists the columns whose changes a condition looks back at.
func (c *Condition) Watches() []string {
	var out []string
	for _, l := range c.Leaves() {
		if l.Op == ChangedIn {
			out = append(out, l.Column)
		}
	}
	return out
}

// LooksAtTime reports whether an answer depends on when it is asked, formulas
// left aside.
func (c *Condition) LooksAtTime() bool {
	for _, l := range c.Leaves() {
		if l.Op == DaysAway || l.Op == ChangedIn {
			return true
		}
	}
	return false
}

// Operand is what a leaf compares with: text, number, yes or no, another
// column, or a list of these.
type Operand struct {
	Text   *string
	Number *decimal.Decimal
	Yes    *bool
	Column string
	List   []Operand
	isList bool
}

// Leaf and AllOf build conditions in code.
func Leaf(column string, op Op, v *Operand) Condition {
	return Condition{Column: column, Op: op, Value: v, form: 'l'}
}
func AllOf(cs ...Condition) Condition { return Condition{All: cs, form: 'a'} }

// TextOperand, NumberOperand and ListOperand build operands in code.
func TextOperand(s string) *Operand            { return &Operand{Text: &s} }
func NumberOperand(d decimal.Decimal) *Operand { return &Operand{Number: &d} }
func ListOperand(items ...*Operand) *Operand {
	o := &Operand{isList: true}
	for _, i := range items {
		o.List = append(o.List, *i)
	}
	return o
}

// UnmarshalJSON reads one of the four forms and refuses any other name.
func (c *Condition) UnmarshalJSON(b []byte) error {
	*c = Condition{}
	var m map[string]json.RawMessage
	if err := json.Unmarshal(b, &m); err != nil || m == nil {
		return fault("", "a condition is an object with all, any, not, or column and op, not %s", brief(b))
	}
	for _, g := range []struct {
		name string
		form byte
		into any
	}{{"all", 'a', list(&c.All)}, {"any", 'y', list(&c.Any)}, {"not", 'n', &c.Not}} {
		if _, ok := m[g.name]; !ok {
			continue
		}
		if len(m) != 1 {
			return fault("/"+g.name, "it stands alone in a condition")
		}
		c.form = g.form
		return under("/"+g.name, read(m[g.name], g.into))
	}
	c.form = 'l'
	return object(b, map[string]any{"column": &c.Column, "op": &c.Op, "value": &c.Value}, "column", "op")
}

// MarshalJSON writes the form that UnmarshalJSON reads.
func (c Condition) MarshalJSON() ([]byte, error) {
	switch c.form {
	case 'a':
		return json.Marshal(map[string]any{"all": nonNil(c.All)})
	case 'y':
		return json.Marshal(map[string]any{"any": nonNil(c.Any)})
	case 'n':
		return json.Marshal(map[string]any{"not": c.Not})
	}
	type leaf struct {
		Column string   `json:"column"`
		Op     Op       `json:"op"`
		Value  *Operand `json:"value,omitempty"`
	}
	return json.Marshal(leaf{c.Column, c.Op, c.Value})
}

func nonNil(cs []Condition) []Condition {
	if cs == nil {
		return []Condition{}
	}
	return cs
}

// UnmarshalJSON reads a number, a boolean, text, {"column": ...} or a list.
func (o *Operand) UnmarshalJSON(b []byte) error {
	*o = Operand{}
	b = bytes.TrimSpace(b)
	switch {
	case len(b) == 0:
		return fmt.Errorf("a value is missing")
	case b[0] == '"':
		o.Text = new(string)
		return json.Unmarshal(b, o.Text)
	case b[0] == '[':
		o.isList = true
		return read(b, list(&o.List))
	case b[0] == '{':
		return object(b, map[string]any{"column": &o.Column}, "column")
	case b[0] == 't' || b[0] == 'f':
		o.Yes = new(bool)
		return json.Unmarshal(b, o.Yes)
	}
	d, err := number(b)
	if err != nil {
		return fault("", "%s is not a value of a condition", brief(b))
	}
	o.Number = &d
	return nil
}

// MarshalJSON writes the form that UnmarshalJSON reads.
func (o Operand) MarshalJSON() ([]byte, error) {
	switch {
	case o.isList:
		if o.List == nil {
			return []byte("[]"), nil
		}
		return json.Marshal(o.List)
	case o.Column != "":
		return json.Marshal(map[string]string{"column": o.Column})
	case o.Text != nil:
		return json.Marshal(*o.Text)
	case o.Yes != nil:
		return json.Marshal(*o.Yes)
	case o.Number != nil:
		return []byte(o.Number.String()), nil
	}
	return []byte("null"), nil
}

// OpsFor lists the operators that a column's type offers.
func OpsFor(t value.Type) []Op {
	any := []Op{Is, IsNot, OneOf, NoneOf, IsEmpty, IsFilled, IsBad, ChangedIn}
	switch t {
	case value.Text, value.Email, value.File:
		return append(any, Contains, StartsWith, EndsWith)
	case value.Choice, value.Number:
		return append(any, Less, AtMost, More, AtLeast, Between)
	case value.Date, value.Moment:
		return append(any, Less, AtMost, More, AtLeast, Between, Before, After, OnDay, DaysAway)
	case value.YesNo:
		return []Op{Is, IsNot, IsEmpty, IsFilled, IsBad, ChangedIn}
	}
	return any
}

// Validate checks a condition: columns are there, operators belong to their
// types, values are of the column's type. Depth is bounded.
func (c *Condition) Validate(at string, s Scope) error {
	var n size
	return c.validate(at, s, 0, &n)
}

// The bounds of a condition: how deep its parts are in one another, how many they are, and how many values they
// compare with together.
const (
	maxDepth  = 12
	maxParts  = 500
	maxValues = 2000
)

// size counts what a condition has.
type size struct{ parts, values int }

func (c *Condition) validate(at string, s Scope, depth int, n *size) error {
	if depth > maxDepth {
		return fault(at, "conditions are nested deeper than %d", maxDepth)
	}
	if n.parts++; n.parts > maxParts {
		return fault(at, "a condition has more than %d parts", maxParts)
	}
	for _, g := range []struct {
		name  string
		items []Condition
	}{{"all", c.All}, {"any", c.Any}} {
		for i := range g.items {
			if err := g.items[i].validate(fmt.Sprintf("%s/%s/%d", at, g.name, i), s, depth+1, n); err != nil {
				return err
			}
		}
	}
	switch c.form {
	case 'a', 'y':
		return nil
	case 'n':
		if c.Not == nil {
			return fault(at+"/not", "a condition is missing")
		}
		return c.Not.validate(at+"/not", s, depth+1, n)
	}
	t, ok := s.ColumnType(c.Column)
	if !ok {
		return fault(at+"/column", "the column is not there")
	}
	found := false
	for _, op := range OpsFor(t) {
		found = found || op == c.Op
	}
	if !found {
		return fault(at+"/op", "%q does not go with a column of type %s", c.Op, t)
	}
	if c.Op == ChangedIn && s.IsFormula(c.Column) {
		return fault(at+"/column", "a formula is calculated, not changed; name the columns it rests on")
	}
	values, err := c.operands(at+"/value", t, s)
	if n.values += len(values); err == nil && n.values > maxValues {
		return fault(at+"/value", "a condition compares with more than %d values", maxValues)
	}
	return err
}

// operands checks a leaf's value and gives it as typed values; a {column}
// stays as such.
func (c *Condition) operands(at string, t value.Type, s Scope) ([]operand, error) {
	switch c.Op {
	case IsEmpty, IsFilled, IsBad:
		if c.Value != nil {
			return nil, fault(at, "%q takes no value", c.Op)
		}
		return nil, nil
	}
	if c.Value == nil {
		return nil, fault(at, "a value is missing")
	}
	list := c.Op == OneOf || c.Op == NoneOf || c.Op == Between || c.Op == DaysAway
	if list != c.Value.isList {
		if list {
			return nil, fault(at, "%q takes a list", c.Op)
		}
		return nil, fault(at, "%q takes one value", c.Op)
	}
	items := c.Value.List
	if !list {
		items = []Operand{*c.Value}
	}
	if (c.Op == Between || c.Op == DaysAway) && len(items) != 2 {
		return nil, fault(at, "%q takes the lowest and the highest value", c.Op)
	}
	switch c.Op {
	case DaysAway:
		t = value.Number
	case ChangedIn:
		if c.Value.Text == nil {
			return nil, fault(at, "a duration is wanted, such as P3D")
		}
		if _, err := calendar.ParseDuration(*c.Value.Text); err != nil {
			return nil, fault(at, "%s", err)
		}
		return nil, nil
	}
	out := make([]operand, 0, len(items))
	for i, it := range items {
		p := at
		if list {
			p = fmt.Sprintf("%s/%d", at, i)
		}
		o, err := it.typed(p, c.Column, c.Op, t, s)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// operand is a typed value or a column.
type operand struct {
	v      value.Value
	column string
}

func (o *Operand) typed(at, column string, op Op, t value.Type, s Scope) (operand, error) {
	if o.Column != "" {
		ct, ok := s.ColumnType(o.Column)
		if !ok {
			return operand{}, fault(at+"/column", "the column is not there")
		}
		if !comparable(t, ct) {
			return operand{}, fault(at+"/column", "a column of type %s cannot be compared with one of type %s", t, ct)
		}
		return operand{column: o.Column}, nil
	}
	switch t {
	case value.Number:
		if o.Number != nil {
			return operand{v: value.OfNumber(*o.Number)}, nil
		}
		return operand{}, fault(at, "a number is wanted")
	case value.YesNo:
		if o.Yes != nil {
			return operand{v: value.OfYesNo(*o.Yes)}, nil
		}
		return operand{}, fault(at, "true or false is wanted")
	}
	if o.Text == nil {
		return operand{}, fault(at, "text is wanted")
	}
	switch t {
	case value.Date, value.Moment:
		if d, err := value.ParseDay(*o.Text, value.YearMonthDay); err == nil {
			return operand{v: value.OfDay(d)}, nil
		}
		w, err := value.ParseMoment(*o.Text, value.YearMonthDay, nil)
		if err != nil {
			return operand{}, fault(at, "a day (2027-03-29) or a date and time (2027-03-29T14:30) is wanted")
		}
		return operand{v: value.OfMoment(w)}, nil
	case value.Choice:
		id, ok := s.OptionID(column, *o.Text)
		if !ok {
			return operand{}, fault(at, "%q is none of the column's options", *o.Text)
		}
		return operand{v: value.Value{State: value.Filled, Type: value.Choice, Str: id}}, nil
	}
	if (op == Contains || op == StartsWith || op == EndsWith) && value.Trim(*o.Text) == "" {
		return operand{}, fault(at, "text is wanted")
	}
	return operand{v: value.OfText(*o.Text)}, nil
}

func comparable(a, b value.Type) bool {
	day := func(t value.Type) bool { return t == value.Date || t == value.Moment }
	text := func(t value.Type) bool {
		return t == value.Text || t == value.Email || t == value.Choice || t == value.File
	}
	return a == b || day(a) && day(b) || text(a) && text(b)
}
