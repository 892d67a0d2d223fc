// Package formula works out columns: an expression over the row's other
// columns, checked and typed when it is saved, exact in its numbers, with
// faults told by their position. It knows whether a result moves while the row
// rests, and finds the instant at which a comparison with it can turn.
package formula

import (
	"sort"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

// Moving tells whether a value changes while its row rests.
type Moving uint8

// Still values change by edits alone, Daily ones at midnight too (today()),
// and Always ones at any instant (now()).
const (
	Still Moving = iota
	Daily
	Always
)

// trend is how a value moves with time: not at all, up, down, one way or the
// other, or anyhow.
type trend uint8

const (
	level trend = iota
	up
	down
	oneWay
	anyhow
)

// Column is a column that a formula may name.
type Column struct {
	ID     string
	Name   string // as formulas know it; "" for one that cannot be named yet
	Type   value.Type
	Moving Moving
	Group  string // of the columns that it belongs together with
	Label  string // what people call it
	Open   bool   // a formula whose type is not known yet
	trend  trend
}

// Scope is the columns that a formula may name.
type Scope []Column

// Find finds a column by its name in formulas. A name whose underscore at
// either end comes from a dot or bracket may be written without it.
func (s Scope) Find(n string) (*Column, bool) {
	for i := range s {
		if s[i].Name == n {
			return &s[i], true
		}
	}
	for i := range s {
		if strings.Trim(s[i].Name, "_") == n {
			return &s[i], true
		}
	}
	return nil, false
}

// near names the columns that are there, for an error.
func (s Scope) near(string) string {
	names := make([]string, 0, len(s))
	for _, c := range s {
		if c.Name != "" {
			names = append(names, c.Name)
		}
	}
	sort.Strings(names)
	if len(names) > 12 {
		names = append(names[:12], "...")
	}
	if len(names) == 0 {
		return ""
	}
	return "; there are " + strings.Join(names, ", ")
}

// Program is a formula that has been checked.
type Program struct {
	Source  string
	Type    value.Type // text, number, date, moment or yes/no
	Moving  Moving
	Columns []string // ids of the columns it names, in order
	root    *node
}

// Compile checks a formula. Its error is an *Error.
func Compile(src string, scope Scope) (*Program, error) {
	p := &parser{lexer: lexer{src: src}, scope: scope, uses: map[string]bool{}}
	if len(src) > maxSource {
		return nil, p.fail(0, "a formula has at most %d bytes", maxSource)
	}
	if err := p.step(); err != nil {
		return nil, err
	}
	root, err := p.expression()
	if err != nil {
		return nil, err
	}
	if p.tok.kind != end {
		return nil, p.fail(p.tok.at, "%q stands where the formula should end or a sign is wanted", p.tok.str)
	}
	out := &Program{Source: src, Type: root.typ, Moving: p.move, root: root}
	for id := range p.uses {
		out.Columns = append(out.Columns, id)
	}
	sort.Strings(out.Columns)
	return out, nil
}

// Result gives a formula's column c as other formulas see it, its type and
// movement those of the program's result.
func (p *Program) Result(c Column) Column {
	c.Type, c.Moving, c.trend = p.Type, p.Moving, p.root.trend
	return c
}

// Context is the row that a formula is worked out for, and the time.
type Context struct {
	Cell     func(column string) value.Value
	Now      value.Wall // in the sheet's zone
	Instant  time.Time  // the same
	Zone     *time.Location
	Calendar calendar.Calendar
	Locale   *value.Locale
}

// Eval works the formula out: empty where it rests on something empty,
// unreadable where it rests on something unreadable.
func (p *Program) Eval(c *Context) value.Value {
	v := p.root.eval(c)
	if !v.IsEmpty() {
		v.Type = p.Type
	}
	if v.IsFilled() && v.Type == value.Text && value.Trim(v.Str) == "" {
		return value.Value{}
	}
	return v
}

// lastYear bounds the search for a turn: no database keeps what comes later.
const lastYear = 9990

const quarter = 15 * time.Minute

// NextLook gives the next instant at which a moving value is looked at where
// nothing is known of how it moves: midnight, or the next quarter of an hour.
func (p *Program) NextLook(from time.Time, zone *time.Location) time.Time {
	switch p.Moving {
	case Daily:
		return calendar.Resolve(value.Wall{Day: value.DayAt(from.In(zone)) + 1}, zone)
	case Always:
		return from.Truncate(quarter).Add(quarter)
	}
	return time.Time{}
}

// NextTurn gives the first instant after from at which test, asked of the
// formula's value, can give another answer than it gives now: exactly where
// the value moves one way only, so that it turns at most once; else the next
// midnight, or the next quarter of an hour. The zero time means never.
func (p *Program) NextTurn(from time.Time, zone *time.Location, test func(at time.Time) bool) time.Time {
	if p.Moving == Still || p.root.trend == level {
		return time.Time{}
	}
	if p.root.trend == anyhow {
		return p.NextLook(from, zone)
	}
	// The instants at which the value may change: midnights, or seconds.
	day := value.DayAt(from.In(zone))
	step := func(i int) time.Time { return calendar.Resolve(value.Wall{Day: day + value.Day(i+1)}, zone) }
	steps := int(value.DayOf(lastYear, 1, 1) - day)
	if p.Moving == Always {
		start := from.UTC().Truncate(time.Second).Add(time.Second)
		step = func(i int) time.Time { return start.Add(time.Duration(i%86400)*time.Second).AddDate(0, 0, i/86400) }
		steps *= 86400
	}
	if steps <= 0 {
		return time.Time{}
	}
	now := test(from)
	n := sort.Search(steps, func(i int) bool { return test(step(i)) != now })
	if n == steps {
		return time.Time{}
	}
	return step(n)
}
