package sheet

import (
	"fmt"
	"strings"

	"nivot/internal/core/value"
)

// CellEdit is one cell as somebody typed it, or as a file holds it. Expected,
// where given, is what they saw there before.
type CellEdit struct {
	Column   string
	Text     string
	Expected *string
}

// CellChange is one cell's change, as the history keeps it.
type CellChange struct {
	Column string `json:"column"`
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
	Bad    bool   `json:"bad,omitempty"` // what it holds after does not fit its column
}

// Conflict says that somebody else changed a cell meanwhile.
type Conflict struct {
	Column string
	Name   string
	Theirs string // what stands there now, as typed
	Yours  string
}

// Error implements error.
func (c *Conflict) Error() string {
	return fmt.Sprintf("%s has been changed meanwhile: it now holds %q", c.Name, c.Theirs)
}

// EditError says why a cell cannot be edited. Column is its id.
type EditError struct{ Column, Message string }

// Error implements error.
func (e *EditError) Error() string { return e.Message }

// MaxCell is the most bytes a cell holds.
const MaxCell = 32 << 10

// Put decides what becomes of a cell into which a value is put: nothing, where
// it holds just that already. settles reports whether it is more than a change
// of case or outer space.
func (s *Sheet) Put(row *Row, c *Column, now value.Value) (ch CellChange, settles, changed bool) {
	was := row.Cell(c)
	if value.Identical(was, now) {
		return ch, false, false
	}
	row.Set(c, now)
	return CellChange{c.ID, c.Name, s.Input(c, was), s.Input(c, now), now.IsUnreadable()}, !value.Same(was, now), true
}

// Edit decides what becomes of a cell as somebody typed it: it is read, and
// refused (EditError) or found to be somebody else's by now (Conflict), or put.
// A locked column is changed by those alone who may unlock it.
func (s *Sheet) Edit(row *Row, ed CellEdit, unlocks bool) (ch CellChange, settles, changed bool, err error) {
	c, ok := s.Column(ed.Column)
	switch {
	case !ok:
		return ch, false, false, &EditError{ed.Column, "the column is not there"}
	case c.Type == value.Formula:
		return ch, false, false, &EditError{ed.Column, c.Name + " is calculated and cannot be typed into"}
	case len(ed.Text) > MaxCell:
		return ch, false, false, &EditError{ed.Column, fmt.Sprintf("a cell holds at most %d bytes", MaxCell)}
	case strings.IndexByte(ed.Text, 0) >= 0:
		return ch, false, false, &EditError{ed.Column, "a cell holds no NUL character"}
	}
	// A line break is one character, as it comes back from files.
	ed.Text = strings.ReplaceAll(ed.Text, "\r\n", "\n")
	was, now := row.Cell(c), value.Parse(ed.Text, s.Reading(c))
	switch {
	case value.Identical(was, now):
		return ch, false, false, nil
	case c.Locked && !unlocks:
		return ch, false, false, &EditError{ed.Column, c.Name + " is locked; a coordinator changes it"}
	case ed.Expected != nil && s.Input(c, was) != *ed.Expected &&
		!value.Identical(was, value.Parse(*ed.Expected, s.Reading(c))):
		return ch, false, false, &Conflict{Column: c.ID, Name: c.Name, Theirs: s.Input(c, was), Yours: ed.Text}
	}
	ch, settles, changed = s.Put(row, c, now)
	return ch, settles, changed, nil
}
