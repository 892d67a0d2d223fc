package engine

import (
	"context"
	"errors"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// CellEdit is one cell as a person typed it.
type CellEdit = sheet.CellEdit

// Conflict says that somebody else changed a cell meanwhile.
type Conflict = sheet.Conflict

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
func (e *Engine) EditRow(ctx context.Context, sheetID string, rowID int64, edits []CellEdit,
	by Author) (ChangeResult, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpEdit, Row: rowID, Cells: edits}}, store.Event{Kind: store.EventChanged},
		by, refuseConflicts)
}

// AddRow adds a row at the end of a sheet. A key that a deleted row had makes
// it the old row again.
func (e *Engine) AddRow(ctx context.Context, sheetID string, edits []CellEdit, by Author) (ChangeResult, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpAdd, Cells: edits}}, store.Event{Kind: store.EventChanged}, by,
		refuseConflicts)
}

// PutRow changes the row with a key, or adds one, and gives its id.
func (e *Engine) PutRow(ctx context.Context, sheetID, key string, edits []CellEdit, by Author) (int64, error) {
	c, err := e.change(ctx, sheetID, []Op{{Kind: OpPut, Key: key, Cells: edits}}, store.Event{Kind: store.EventChanged},
		by, refuseConflicts)
	if len(c.Added) > 0 {
		return c.Added[0], err
	}
	return c.Existing, err
}

// EditByKey changes the first row with a key, and gives its id.
func (e *Engine) EditByKey(ctx context.Context, sheetID, key string, edits []CellEdit, by Author) (int64, error) {
	c, err := e.change(ctx, sheetID, []Op{{Kind: OpEdit, Key: key, Cells: edits}}, store.Event{Kind: store.EventChanged},
		by, refuseConflicts)
	return c.Existing, err
}

// DeleteByKey takes the first row with a key out.
func (e *Engine) DeleteByKey(ctx context.Context, sheetID, key string, by Author) error {
	_, err := e.change(ctx, sheetID, []Op{{Kind: OpDelete, Key: key}}, store.Event{Kind: store.EventChanged}, by,
		refuseConflicts)
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
func (e *Engine) DeleteRow(ctx context.Context, sheetID string, rowID int64, by Author) (ChangeResult, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpDelete, Row: rowID}}, store.Event{Kind: store.EventChanged}, by,
		refuseConflicts)
}

// RestoreRow brings a deleted row back, as an edit of the old row.
func (e *Engine) RestoreRow(ctx context.Context, sheetID string, rowID int64, by Author) (ChangeResult, error) {
	return e.change(ctx, sheetID, []Op{{Kind: OpRestore, Row: rowID}}, store.Event{Kind: store.EventChanged}, by,
		refuseConflicts)
}

// asEditRefusal turns the core's refusal of an edit into an answer to a person.
func asEditRefusal(err error) error {
	var fault *sheet.EditError
	if errors.As(err, &fault) {
		return &Refusal{Field: "/cells/" + fault.Column, Message: fault.Message}
	}
	return err
}

// unsettle notes an edit on a row at an instant: what it was as it last
// settled, and when the edits began. What had rested by then has been settled.
func unsettle(row *store.Row, before []byte, at time.Time) {
	if row.FirstEdit == nil {
		row.FirstEdit, row.Settled = &at, before
	}
	row.LastEdit = &at
}
