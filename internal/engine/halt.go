package engine

import (
	"context"
	"time"

	"nivot/internal/store"
)

// What a sheet's emails rest on (its rules, columns, zone, calendar, letters) is changed at one instant.
// All that fell due up to that instant is judged as things were, by the transaction of the change where
// nobody has come to it yet; what falls due after it is judged as things are then. Nothing lies between.

// catchUp considers, each batch in a transaction of its own, what is due of a sheet by now. What is left
// for halt then is what has fallen due meanwhile. With rules it considers theirs and what settles.
func (e *Engine) catchUp(ctx context.Context, sheetID string, rules []string) error {
	now := e.now()
	for {
		n, err := e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) {
			return tx.ClaimSheet(ctx, sheetID, rules, now, tickBatch)
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// halt begins a change of what a sheet's emails rest on, in the change's transaction: it keeps everybody
// from judging by it, considers all that is due, and returns the instant up to which that is. The sheet's
// row is locked first, if it is, and the rules after.
func (e *Engine) halt(ctx context.Context, tx *store.Store, sheetID string, rules []string) (at time.Time,
	err error) {
	if err := tx.Halt(ctx, sheetID); err != nil {
		return at, err
	}
	at = e.now()
	for {
		entries, err := tx.ClaimSheet(ctx, sheetID, rules, at, tickBatch)
		if err != nil {
			return at, err
		}
		if len(entries) > 0 {
			if _, err := e.judge(ctx, tx, at, entries, nil); err != nil {
				return at, err
			}
			continue
		}
		if due, err := tx.HasDueOf(ctx, sheetID, rules, at); err != nil || !due {
			return at, err
		}
	}
}
