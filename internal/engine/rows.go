package engine

import (
	"context"
	"fmt"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Conflict says that somebody else changed a cell meanwhile.
type Conflict struct {
	Column string
	Name   string
	Theirs string // what stands there now, as typed
	Yours  string
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("%s has been changed meanwhile: it now holds %q", c.Name, c.Theirs)
}

// CellEdit is one cell as a person typed it. Expected, where given, is what
// they saw there before.
type CellEdit struct {
	Column   string
	Text     string
	Expected *string
}

// change is one cell's change, as the history keeps it.
type change struct {
	Column string `json:"column"`
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
	Bad    bool   `json:"bad,omitempty"` // what it holds after does not fit its column
}

func changed(s *sheet.Sheet, c *sheet.Column, was, now value.Value) change {
	return change{c.ID, c.Name, s.Input(c, was), s.Input(c, now), now.IsUnreadable()}
}

// coreSheet finds a sheet and its core form inside a transaction.
func coreSheet(ctx context.Context, tx *store.Store, id string) (*store.Sheet, *sheet.Sheet, error) {
	rec, err := tx.Sheet(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	s, err := rec.Core()
	return rec, s, err
}

// EditRow changes cells of a row. An edit that changes nothing is none. A cell
// that holds something else than was expected makes a Conflict and changes
// nothing.
func (e *Engine) EditRow(ctx context.Context, sheetID string, rowID int64, edits []CellEdit, by Author) (Changed, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpEdit, Row: rowID, Cells: edits}}, store.Event{Kind: store.EventChanged}, by, refute)
}

// AddRow adds a row at the end of a sheet. A key that a deleted row had makes
// it the old row again.
func (e *Engine) AddRow(ctx context.Context, sheetID string, edits []CellEdit, by Author) (Changed, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpAdd, Cells: edits}}, store.Event{Kind: store.EventChanged}, by, refute)
}

// PutRow changes the row with a key, or adds one, and gives its id.
func (e *Engine) PutRow(ctx context.Context, sheetID, key string, edits []CellEdit, by Author) (int64, error) {
	c, err := e.change(ctx, sheetID, []Op{{Kind: OpPut, Key: key, Cells: edits}}, store.Event{Kind: store.EventChanged}, by, refute)
	if len(c.Added) > 0 {
		return c.Added[0], err
	}
	return c.Met, err
}

// EditByKey changes the first row with a key, and gives its id.
func (e *Engine) EditByKey(ctx context.Context, sheetID, key string, edits []CellEdit, by Author) (int64, error) {
	c, err := e.change(ctx, sheetID, []Op{{Kind: OpEdit, Key: key, Cells: edits}}, store.Event{Kind: store.EventChanged}, by, refute)
	return c.Met, err
}

// DeleteByKey takes the first row with a key out.
func (e *Engine) DeleteByKey(ctx context.Context, sheetID, key string, by Author) error {
	_, err := e.change(ctx, sheetID, []Op{{Kind: OpDelete, Key: key}}, store.Event{Kind: store.EventChanged}, by, refute)
	return err
}

// FindByKey finds the first row with a key that is there.
func (e *Engine) FindByKey(ctx context.Context, sheetID, key string) (*store.Row, error) {
	_, s, err := coreSheet(ctx, e.Store, sheetID)
	if err != nil {
		return nil, err
	}
	col, ok := s.Column(s.Key)
	if !ok {
		return nil, refuse("the sheet has no key column, so its rows have no keys")
	}
	row, err := e.Store.RowByKey(ctx, sheetID, string(foldedKey(s.Show(col, value.Parse(key, s.Reading(col))))))
	if err == nil && row.DeletedAt != nil {
		err = store.ErrNotFound
	}
	return row, err
}

// DeleteRow takes a row out. Nothing more goes out for it: what was due and
// waited is skipped, what is coming is dropped.
func (e *Engine) DeleteRow(ctx context.Context, sheetID string, rowID int64, by Author) (Changed, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpDelete, Row: rowID}}, store.Event{Kind: store.EventChanged}, by, refute)
}

// RestoreRow brings a deleted row back, as an edit of the old row.
func (e *Engine) RestoreRow(ctx context.Context, sheetID string, rowID int64, by Author) (Changed, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpRestore, Row: rowID}}, store.Event{Kind: store.EventChanged}, by, refute)
}

// applyEdits puts edits into a row. settles says whether one of them is more
// than a change of case or outer space.
func applyEdits(s *sheet.Sheet, row *sheet.Row, edits []CellEdit, by Author) (changes []change, settles bool, err error) {
	for _, ed := range edits {
		c, ok := s.Column(ed.Column)
		if !ok {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: "the column is not there"}
		}
		if c.Type == value.Formula {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: c.Name + " is worked out and cannot be typed into"}
		}
		if len(ed.Text) > maxCell {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: fmt.Sprintf("a cell holds at most %d bytes", maxCell)}
		}
		was := row.Cell(c)
		now := value.Parse(ed.Text, s.Reading(c))
		if value.Identical(was, now) {
			continue
		}
		if c.Locked && !by.Unlocks {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: c.Name + " is locked; a coordinator changes it"}
		}
		if ed.Expected != nil && s.Input(c, was) != *ed.Expected && !value.Identical(was, value.Parse(*ed.Expected, s.Reading(c))) {
			return nil, false, &Conflict{Column: c.ID, Name: c.Name, Theirs: s.Input(c, was), Yours: ed.Text}
		}
		settles = settles || !value.Same(was, now)
		changes = append(changes, changed(s, c, was, now))
		row.Set(c, now)
	}
	return changes, settles, nil
}

// maxCell is the most bytes a cell holds.
const maxCell = 32 << 10

// unsettle notes an edit on a row at an instant: what it was as it last
// settled, and when the edits began. What had rested by then has been settled.
func unsettle(row *store.Row, before []byte, at time.Time) {
	if row.FirstEdit == nil {
		row.FirstEdit, row.Settled = &at, before
	}
	row.LastEdit = &at
}
