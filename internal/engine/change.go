package engine

import (
	"context"
	"encoding/json"
	"errors"

	"nivot/internal/core/delivery"
	"nivot/internal/store"
)

// Author is who changes rows. Columns that are locked are changed by those
// alone who may unlock them.
type Author struct {
	ID      string // of the person; "" for the application itself
	Name    string
	Unlocks bool
	Asks    bool // what the change sets off is held until somebody has reviewed it
}

// System is an author whom no lock stops.
func System(name string) Author { return Author{Name: name, Unlocks: true} }

// asks is how an entry that lets a row settle says that it holds.
func (a Author) asks() int64 {
	if a.Asks {
		return 1
	}
	return 0
}

// OpKind says what one step of a change does.
type OpKind string

// The kinds of steps. Gone and back are of imports and of undoing them.
const (
	OpEdit    OpKind = "edit"
	OpAdd     OpKind = "add"
	OpDelete  OpKind = "delete"
	OpRestore OpKind = "restore"
	OpPut     OpKind = "put" // edit the row with a key, or add one
	opGone    OpKind = "gone"
	opBack    OpKind = "back"
)

// Op is one step of a change of a sheet's rows.
type Op struct {
	Kind  OpKind
	Row   int64      // all but add
	Cells []CellEdit // edit, add, put
	After *int64     // add: the row after which it is to stand; 0 for the beginning, nil for the end
	// put; edit and delete where Row is 0: as a person would type it; where the row is new, its cells hold it too
	Key string
}

// RowConflict is a cell that somebody else has changed meanwhile.
type RowConflict struct {
	Row int64
	Conflict
}

// ChangeResult is what a change came to.
type ChangeResult struct {
	ID         int64 // by which it can be undone; 0 where nothing changed
	Rows       []int64
	Added      []int64 // by the steps that add, in their order; one that brought an old row back names that
	Cells      int     // that changed
	Unreadable int     // of those, that do not fit their column
	Conflicts  []RowConflict
	Existing   int64 // by a put: the row that was there
	Skipped    int   // steps of an undoing that had nothing to undo any more
}

// MaxOps bounds the steps of one change from outside.
const MaxOps = 20_000

// Change changes rows of a sheet in one transaction, in the order of its
// steps. An edit that meets something else than it expects is left out and
// told as a conflict; the others are done. kind says in the history what it
// was: "paste", "fill" and the like.
func (e *Engine) Change(ctx context.Context, sheetID string, ops []Op, kind string, by Author) (ChangeResult, error) {
	if len(ops) > MaxOps {
		return ChangeResult{}, refuse("a change has at most %d steps; do it in parts", MaxOps)
	}
	return e.change(ctx, sheetID, ops, store.Event{Kind: store.EventChanged,
		Detail: store.Detail(map[string]any{"kind": kind, "steps": len(ops)})}, by, reportConflicts)
}

// conflictPolicy is what a change does where it meets something else than it expects.
type conflictPolicy uint8

const (
	reportConflicts conflictPolicy = iota // leave the step out and tell
	refuseConflicts                       // change nothing and give the conflict as an error
	skipConflicts                         // leave the step out and count it: of an undoing
)

// change does the steps of a change. Where it comes to more than one row's
// event, head is written before them.
func (e *Engine) change(ctx context.Context, sheetID string, ops []Op, head store.Event, by Author,
	m conflictPolicy) (ChangeResult, error) {
	return e.changeWith(ctx, sheetID, ops, head, by, m, columnsOf{})
}

// changeWith does the steps of a change that brings columns back first, and
// takes those out at the end that nothing needs any more.
func (e *Engine) changeWith(ctx context.Context, sheetID string, ops []Op, head store.Event, by Author,
	m conflictPolicy, cols columnsOf) (ChangeResult, error) {
	c, err := e.tryChange(ctx, sheetID, ops, head, by, m, cols, false)
	var unsettled *settleError
	if errors.As(err, &unsettled) { // the edit counts all the same, and what it sets off is tried again and again
		e.log.Error("an edit could not be settled with its change; it is settled apart", "sheet", sheetID, "error", err)
		c, err = e.tryChange(ctx, sheetID, ops, head, by, m, cols, true)
	}
	if err != nil {
		return ChangeResult{}, err
	}
	wake(e.wakeAgenda)
	if c.w != nil && c.w.queued {
		wake(e.wakeQueue)
	}
	return c.out, nil
}

// tryChange does a change. apart has its edits settle in a transaction of their own.
func (e *Engine) tryChange(ctx context.Context, sheetID string, ops []Op, head store.Event, by Author,
	m conflictPolicy, cols columnsOf, apart bool) (c *changer, err error) {
	once, keyed := ctx.Value(onceKey{}).(store.Once)
	err = e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		c = &changer{e: e, tx: tx, by: by, meets: m, rows: map[int64]*changing{}, columns: cols, apart: apart}
		if keyed {
			if outcome, done, err := tx.Begin(ctx, once); err != nil {
				return err
			} else if done {
				return json.Unmarshal([]byte(outcome), &c.out)
			}
		}
		if c.rec, err = tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		if !cols.none() {
			if _, err := e.halt(ctx, tx, sheetID, nil); err != nil {
				return err
			}
		}
		// One instant for the whole step, taken once nobody else changes the sheet.
		if c.w, err = newWork(ctx, e, tx, e.now(), act{actor: by.Name, cause: delivery.Reviewing}); err != nil {
			return err
		}
		if err := c.reviveColumns(); err != nil {
			return err
		}
		if c.s, err = c.rec.Core(); err != nil {
			return err
		}
		if err := c.load(ctx, ops); err != nil {
			return err
		}
		for i := range ops {
			if err := c.do(ctx, ops[i]); err != nil {
				return &StepError{i, err}
			}
		}
		if err := c.write(ctx, head); err != nil || !keyed {
			return err
		}
		return tx.SetOutcome(ctx, once, store.Detail(c.out))
	})
	if keyed && store.Away(err) {
		// Whether it was committed is not known: the database is asked again.
		if outcome, done, e := e.Store.CameTo(ctx, once); e == nil && done {
			err = json.Unmarshal([]byte(outcome), &c.out)
		}
	}
	return c, err
}

type onceKey struct{}

// StepError says at which of its steps a change failed, counted from 0.
type StepError struct {
	Step int
	Err  error
}

// Error implements error.
func (e *StepError) Error() string { return e.Err.Error() }

// Unwrap gives what the step failed of.
func (e *StepError) Unwrap() error { return e.Err }

// WithOnce gives a context in which a change of rows is done once for a request
// with an idempotency key: a second time it answers what it came to the first.
func WithOnce(ctx context.Context, o store.Once) context.Context {
	return context.WithValue(ctx, onceKey{}, o)
}
