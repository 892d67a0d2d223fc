package engine

import (
	"context"
	"time"

	"nivot/internal/store"
)

// tickBatch is how many agenda entries one transaction considers.
const tickBatch = 500

// clearBatch is how many stale entries one transaction removes.
const clearBatch = 5000

// Tick considers what is due, one batch, and says how many entries that were.
// A tick costs what is due, not what is stored.
func (e *Engine) Tick(ctx context.Context) (int, error) {
	now := e.now()
	due, err := e.Store.HasDueAgenda(ctx, now, false)
	if err != nil || !due {
		return 0, err
	}
	n, err := e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) {
		return tx.ClaimAgenda(ctx, now, tickBatch, e.mine())
	})
	if err != nil || n > 0 {
		return n, err
	}
	if n, err = e.goOnByHand(ctx, now); err != nil || n > 0 {
		return n, err
	}
	return e.clearStale(ctx, now)
}

// clearStale removes some of what rules' earlier generations have left on the agenda, when
// nothing is due.
func (e *Engine) clearStale(ctx context.Context, now time.Time) (n int, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		some, err := tx.ClearStale(ctx, now, clearBatch)
		if some {
			n = 1
		}
		return err
	})
	return n, err
}

// tick considers the entries that claim locks and gives.
func (e *Engine) tick(ctx context.Context, now time.Time,
	claim func(*store.Store) ([]store.Entry, error)) (n int, err error) {
	queued := false
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		entries, err := claim(tx)
		if err != nil {
			return err
		}
		n = len(entries)
		w, err := newWork(ctx, e, tx, now, itself)
		if err != nil {
			return err
		}
		if err := w.consider(ctx, entries); err != nil {
			return err
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		queued = w.queued
		return nil
	})
	if queued {
		wake(e.wakeQueue)
	}
	return n, err
}
