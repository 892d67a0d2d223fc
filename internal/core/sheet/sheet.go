// Package sheet holds the structure of shared rows: columns with opaque ids
// and types, rows whose id never changes, their compact encoding, when edits
// settle, and how an import meets the rows that are there.
package sheet

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"nivot/internal/core/formula"
	"nivot/internal/core/value"
)

// Column is one column. Its id never changes or comes back; its name may
// change at will; Pos is the place of its cells in the encoding of a row.
type Column struct {
	ID      string         `json:"id"`
	Name    string         `json:"name"`
	Type    value.Type     `json:"type"`
	Pos     int            `json:"pos"`
	Order   value.Order    `json:"order,omitempty"`
	Options []value.Option `json:"options,omitempty"`
	// LastOption counts the options the column ever had: their ids never come back.
	LastOption int                `json:"lastOption,omitempty"`
	Format     value.NumberFormat `json:"format,omitzero"`
	Formula    string             `json:"formula,omitempty"`
	Width      int                `json:"width,omitempty"` // pixels in the grid
	Hidden     bool               `json:"hidden,omitempty"`
	Locked     bool               `json:"locked,omitempty"`  // changed by coordinators alone
	Written    value.DateStyle    `json:"written,omitempty"` // how dates stand in the grid; "" is medium
	// Group names the columns that it belongs together with; GroupID is that
	// group's id, which stays when it is renamed.
	Group   string `json:"group,omitempty"`
	GroupID string `json:"groupId,omitempty"`

	program *formula.Program // of a formula column, once the sheet has been compiled
}

// Asked reports whether a form may ask strangers for a column: not for what is calculated or hidden, and not for
// files, whose names emails carry.
func (c *Column) Asked() bool { return c.Type != value.Formula && c.Type != value.File && !c.Hidden }

// Sheet is what is needed to read and judge rows.
type Sheet struct {
	ID      string
	Name    string
	Zone    *time.Location
	Locale  *value.Locale
	Settle  time.Duration
	Key     string // id of the key column, or ""
	Address string // id of the column that carries the address by default, or ""
	Columns []Column

	worked  []int    // indexes of the formula columns, each after those it rests on
	derived []Column // what may be meant of its groups
}

// Row is one row as it is.
type Row struct {
	ID     string
	Number int64 // order of entry, from 1; names a row without a key
	Cells  []value.Value
	Gone   bool
}

// Column finds a column by id, a derived one too.
func (s *Sheet) Column(id string) (*Column, bool) {
	for _, list := range [2][]Column{s.Columns, s.derived} {
		for i := range list {
			if list[i].ID == id {
				return &list[i], true
			}
		}
	}
	return nil, false
}

// ColumnNamed finds a column by name, by text comparison, a derived one too.
func (s *Sheet) ColumnNamed(name string) (*Column, bool) {
	f := value.Fold(name)
	for _, list := range [2][]Column{s.Columns, s.derived} {
		for i := range list {
			if value.Fold(list[i].Name) == f {
				return &list[i], true
			}
		}
	}
	return nil, false
}

// ColumnNames lists ids and names of all that rules and letters may name:
// columns, and what is derived from their groups.
func (s *Sheet) ColumnNames() (ids, names []string) {
	for _, list := range [2][]Column{s.Columns, s.derived} {
		for i := range list {
			ids, names = append(ids, list[i].ID), append(names, list[i].Name)
		}
	}
	return ids, names
}

// Cell gives a row's cell in a column; a column without a cell is empty.
func (r *Row) Cell(c *Column) value.Value {
	if c == nil || c.Pos >= len(r.Cells) {
		return value.Value{}
	}
	return r.Cells[c.Pos]
}

// Set puts a cell, growing the row where it is short.
func (r *Row) Set(c *Column, v value.Value) {
	for len(r.Cells) <= c.Pos {
		r.Cells = append(r.Cells, value.Value{})
	}
	r.Cells[c.Pos] = v
}

// Reading says how text typed into a column is read.
func (s *Sheet) Reading(c *Column) value.Reading {
	return value.Reading{Type: c.Type, Locale: s.Locale, Order: c.Order, Options: c.Options, Zone: s.Zone,
		Format: c.Format}
}

// RowName is how a row is called: its key, or #n where it has none.
func (s *Sheet) RowName(r *Row) string {
	if c, ok := s.Column(s.Key); ok {
		if v := r.Cell(c); !v.IsEmpty() {
			return s.Show(c, v)
		}
	}
	return fmt.Sprintf("#%d", r.Number)
}

// Show writes a cell as the grid does: dates medium, numbers by the column's
// format, unreadable text as it is.
func (s *Sheet) Show(c *Column, v value.Value) string {
	if c.Written != "" {
		return s.write(c, v, c.Written)
	}
	return s.write(c, v, value.Medium)
}

// Input writes a cell as a person would type it, so that reading it again
// gives the same value.
func (s *Sheet) Input(c *Column, v value.Value) string {
	if v.IsFilled() && v.Type == value.Number {
		return value.FormatNumber(v.Num, value.NumberFormat{}, s.Locale)
	}
	if v.IsFilled() && v.Type == value.Moment {
		h, m, sec := v.Wall.Clock()
		day := value.FormatDay(v.Wall.Day, value.Short, s.Locale, c.Order)
		if sec != 0 {
			return fmt.Sprintf("%s %02d:%02d:%02d", day, h, m, sec)
		}
		return fmt.Sprintf("%s %02d:%02d", day, h, m)
	}
	return s.write(c, v, value.Short)
}

func (s *Sheet) write(c *Column, v value.Value, style value.DateStyle) string {
	if !v.IsFilled() {
		return v.Str
	}
	switch v.Type {
	case value.Number:
		return value.FormatNumber(v.Num, c.Format, s.Locale)
	case value.Date:
		return value.FormatDay(v.Wall.Day, style, s.Locale, c.Order)
	case value.Moment:
		return value.FormatMoment(v.Wall, style, s.Locale, c.Order)
	case value.YesNo:
		return s.Locale.YesNo(v.Yes)
	case value.Choice:
		for _, o := range c.Options {
			if o.ID == v.Str {
				return o.Name
			}
		}
	}
	return v.Str
}

// Validate checks a sheet's columns: names filled and different by text
// comparison, types known, options given for a choice, the key column there.
func (s *Sheet) Validate() error {
	seen := map[string]string{}
	for i, c := range s.Columns {
		at := fmt.Sprintf("column %d", i+1)
		f := value.Fold(c.Name)
		if f == "" {
			return fmt.Errorf("%s has no name", at)
		}
		if strings.ContainsAny(c.Name, "\r\n") {
			return fmt.Errorf("%s: a name has no line breaks", at)
		}
		if other, ok := seen[f]; ok {
			return fmt.Errorf("%s: the name %q is already that of %s", at, c.Name, other)
		}
		seen[f] = at
		if !known(c.Type) {
			return fmt.Errorf("%s: type %q is not known", at, c.Type)
		}
		if c.Order != "" && !c.Order.Valid() {
			return fmt.Errorf("%s: order %q is not known; use day-month-year, month-day-year or year-month-day", at, c.Order)
		}
		if c.Written != "" && !c.Written.Valid() {
			return fmt.Errorf("%s: the way %q of writing dates is not known", at, c.Written)
		}
		if strings.ContainsAny(c.Group, "\r\n") || utf8.RuneCountInString(c.Group) > maxGroup {
			return fmt.Errorf("%s: the name of a group is one line of at most %d characters", at, maxGroup)
		}
		if err := c.Format.Validate(); err != nil {
			return fmt.Errorf("%s: %w", at, err)
		}
		if c.Type == value.Choice && len(c.Options) == 0 {
			return fmt.Errorf("%s: a choice needs at least one option", at)
		}
		if err := differ(c.Options); err != nil {
			return fmt.Errorf("%s: %w", at, err)
		}
		if (c.Formula != "") != (c.Type == value.Formula) {
			return fmt.Errorf("%s: a formula goes with a column of type formula, and with no other", at)
		}
	}
	if err := s.Compile(); err != nil {
		return err
	}
	for i := range s.derived {
		if at, ok := seen[value.Fold(s.derived[i].Name)]; ok {
			return fmt.Errorf("%s: the name %q is what is said of a group of columns; choose another", at, s.derived[i].Name)
		}
	}
	for _, id := range []string{s.Key, s.Address} {
		if _, ok := s.Column(id); id != "" && !ok {
			return fmt.Errorf("the key or address column is not among the columns")
		}
	}
	return nil
}

// MaxOptions is how many options a choice has at most.
const MaxOptions = 1000

// differ refuses options that have no name or one that is another's by text comparison: what
// is typed would mean either.
func differ(options []value.Option) error {
	if len(options) > MaxOptions {
		return fmt.Errorf("a choice has at most %d options; this one has %d", MaxOptions, len(options))
	}
	seen := make(map[string]bool, len(options))
	for i, o := range options {
		f := value.Fold(o.Name)
		switch {
		case f == "":
			return fmt.Errorf("option %d has no name", i+1)
		case strings.ContainsAny(o.Name, "\r\n"):
			return fmt.Errorf("option %d: a name has no line breaks", i+1)
		case seen[f]:
			return fmt.Errorf("option %d, %q, stands there twice", i+1, o.Name)
		}
		seen[f] = true
	}
	return nil
}

func known(t value.Type) bool {
	for _, k := range value.Types {
		if k == t {
			return true
		}
	}
	return false
}

// Less orders two cells of a column as a sorted view does: empty ones last,
// unreadable ones before them, options by their place in the list.
func (s *Sheet) Less(c *Column, a, b value.Value) bool {
	if a.State != b.State {
		return rank(a.State) < rank(b.State)
	}
	if a.State != value.Filled {
		return value.Fold(a.Str) < value.Fold(b.Str)
	}
	if a.Type == value.Choice {
		return optionRank(c, a.Str) < optionRank(c, b.Str)
	}
	n, _ := value.Compare(a, b)
	return n < 0
}

func rank(s value.State) int {
	switch s {
	case value.Filled:
		return 0
	case value.Unreadable:
		return 1
	}
	return 2
}

func optionRank(c *Column, id string) int {
	for i, o := range c.Options {
		if o.ID == id {
			return i
		}
	}
	return len(c.Options)
}

// SettlesAt gives the instant at which a row's edits count: the settle time
// after the last edit, or ten times that after the first unsettled one.
func SettlesAt(first, last time.Time, settle time.Duration) time.Time {
	rest, longest := last.Add(settle), first.Add(10*settle)
	if longest.Before(rest) {
		return longest
	}
	return rest
}
