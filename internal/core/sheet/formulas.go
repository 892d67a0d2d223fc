package sheet

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/formula"
	"nivot/internal/core/value"
)

// ValueType is the type of a column's values: of a formula, its result's.
func (c *Column) ValueType() value.Type {
	if c.Type == value.Formula && c.program != nil {
		return c.program.Type
	}
	return c.Type
}

// Moving tells whether a column changes while its row rests.
func (c *Column) Moving() formula.Moving {
	if c.program == nil {
		return formula.Still
	}
	return c.program.Moving
}

// Program is the column's formula, nil where it has none or the sheet has not
// been compiled.
func (c *Column) Program() *formula.Program { return c.program }

// FormulaError is a fault in a column's formula.
type FormulaError struct {
	Column int // index into the sheet's columns
	Name   string
	Err    error // a *formula.Error, or what is wrong with it as a whole
}

func (e *FormulaError) Error() string { return fmt.Sprintf("the formula of %s, %v", e.Name, e.Err) }

// Unwrap gives the fault itself.
func (e *FormulaError) Unwrap() error { return e.Err }

// Compile checks the formulas. Formulas may rest on other formulas, not on
// themselves. A formula's error is a *FormulaError.
func (s *Sheet) Compile() error {
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
		s.Columns[i].program = nil
	}
	names = formula.Names(names)
	s.worked, s.derived = nil, nil
	left := map[int]bool{}
	for i := range s.Columns {
		if s.Columns[i].Type == value.Formula {
			left[i] = true
		}
	}
	for len(left) > 0 {
		progress := false
		var first *FormulaError
		for i := range s.Columns {
			if !left[i] {
				continue
			}
			p, err := formula.Compile(s.Columns[i].Formula, s.scope(names, left))
			if err != nil {
				if first == nil {
					first = &FormulaError{i, s.Columns[i].Name, err}
				}
				continue
			}
			s.Columns[i].program = p
			s.worked = append(s.worked, i)
			delete(left, i)
			progress = true
		}
		if !progress {
			return s.stuck(names, left, first)
		}
	}
	s.derive(names)
	return nil
}

// stuck says why the formulas left cannot be compiled: one of them is faulty
// by itself, or they go round in a circle.
func (s *Sheet) stuck(names []string, left map[int]bool, first *FormulaError) error {
	for i := range s.Columns {
		if !left[i] {
			continue
		}
		if _, err := formula.Compile(s.Columns[i].Formula, s.scope(names, nil)); err != nil {
			return &FormulaError{i, s.Columns[i].Name, err}
		}
	}
	first.Err = errors.New("rests on itself by way of other formulas")
	return first
}

// scope is what a formula may name: all columns but the formulas that are left
// to be compiled; with nil those too, as text.
func (s *Sheet) scope(names []string, left map[int]bool) formula.Scope {
	out := make(formula.Scope, 0, len(s.Columns))
	for i := range s.Columns {
		c := &s.Columns[i]
		x := formula.Column{ID: c.ID, Name: names[i], Type: c.Type, Group: c.Group, Label: c.Name}
		switch {
		case c.program != nil:
			x = c.program.Result(x)
		case left[i]:
			x.Name, x.Open = "", true
		case c.Type == value.Formula:
			x.Type, x.Open = value.Text, true
		}
		out = append(out, x)
	}
	return out
}

// HasFormulas tells whether any column is worked out.
func (s *Sheet) HasFormulas() bool { return len(s.worked)+len(s.derived) > 0 }

// Formulas gives the columns that are worked out, each after those it rests on:
// formulas and what is derived from groups.
func (s *Sheet) Formulas() []*Column {
	out := make([]*Column, 0, len(s.worked)+len(s.derived))
	for _, i := range s.worked {
		out = append(out, &s.Columns[i])
	}
	for i := range s.derived {
		out = append(out, &s.derived[i])
	}
	return out
}

// Compute gives the row with its formulas worked out at an instant. Where the
// sheet has none it is the row itself.
func (s *Sheet) Compute(r *Row, at time.Time, c calendar.Calendar) *Row {
	if !s.HasFormulas() || r == nil {
		return r
	}
	out := *r
	out.Cells = append(make([]value.Value, 0, len(s.Columns)+len(s.derived)), r.Cells...)
	for _, i := range s.worked {
		s.computeOne(&s.Columns[i], &out, at, c)
	}
	for i := range s.derived {
		s.computeOne(&s.derived[i], &out, at, c)
	}
	return &out
}

func (s *Sheet) computeOne(col *Column, r *Row, at time.Time, c calendar.Calendar) {
	x := formula.Context{Now: value.WallAt(at.In(s.Zone)), Instant: at, Zone: s.Zone, Calendar: c, Locale: s.Locale,
		Cell: func(id string) value.Value {
			cc, _ := s.Column(id)
			v := r.Cell(cc)
			if v.IsFilled() && v.Type == value.Choice {
				return value.OfText(s.Show(cc, v))
			}
			return v
		}}
	r.Set(col, col.program.Eval(&x))
}

// Rename gives columns, by id, new names. Formulas that name them follow.
func (s *Sheet) Rename(names map[string]string) error {
	plain := func() []string {
		out := make([]string, len(s.Columns))
		for i := range s.Columns {
			out[i] = s.Columns[i].Name
		}
		return formula.Names(out)
	}
	before := plain()
	for id, name := range names {
		c, ok := s.Column(id)
		if !ok {
			return fmt.Errorf("the column is not there")
		}
		c.Name = value.Trim(name)
	}
	after := plain()
	changed := map[string]string{}
	for i := range before {
		if before[i] != after[i] {
			changed[before[i]] = after[i]
			if short := strings.Trim(before[i], "_"); short != before[i] {
				changed[short] = after[i]
			}
		}
	}
	for i := range s.Columns {
		if c := &s.Columns[i]; c.Formula != "" && len(changed) > 0 {
			c.Formula = formula.Rename(c.Formula, changed)
		}
	}
	return s.Validate()
}
