package engine

import (
	"context"
	"slices"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// IncludePast takes up what the baseline of a rule that is on has left as it
// is, as emails that are held until somebody looks them through: after a pause
// what passed meanwhile, else what was past when the rule was switched on.
// only, where not empty, are the rows that are meant. Asking again adds nothing.
// It gives how many emails it has held.
func (e *Engine) IncludePast(ctx context.Context, sheetID, ruleID string, only []int64,
	actor string) (n int, err error) {
	for after := int64(0); ; {
		var last int64
		var held int
		err := e.Store.Tx(ctx, func(tx *store.Store) error {
			last, held = 0, 0
			rec, err := tx.LockRule(ctx, ruleID)
			if err != nil {
				return err
			}
			if rec.SheetID != sheetID {
				return store.ErrNotFound
			}
			if rec.State != rule.On {
				return refuse("this rule is not on; switch it on first")
			}
			rows, err := tx.LockRowsAfter(ctx, sheetID, after, roundBatch)
			if err != nil {
				return err
			}
			if len(rows) == roundBatch {
				last = rows[len(rows)-1].ID
			}
			if len(only) > 0 {
				rows = slices.DeleteFunc(rows, func(r store.Row) bool { return !slices.Contains(only, r.ID) })
			}
			a := deciding(actor)
			a.passed = true
			w, err := newWork(ctx, e, tx, e.now(), a)
			if err != nil {
				return err
			}
			if err := w.takePast(ctx, rec, rows); err != nil {
				return err
			}
			if err := w.flush(ctx); err != nil {
				return err
			}
			held = w.entered[delivery.Held]
			return nil
		})
		if err == nil {
			n += held
		}
		if err != nil || last == 0 {
			return n, err
		}
		after = last
	}
}

func (w *work) takePast(ctx context.Context, rec *store.Rule, rows []store.Row) error {
	sb, err := w.cache.sheet(ctx, rec.SheetID)
	if err != nil {
		return err
	}
	rb := sb.rule(rec.ID)
	since := time.Time{}
	if rec.PausedAt != nil {
		since = *rec.PausedAt
	}
	ids := make([]int64, len(rows))
	for i := range rows {
		ids[i] = rows[i].ID
	}
	if err := w.loadRowStates(ctx, ids); err != nil {
		return err
	}
	for i := range rows {
		l, err := w.timeline(ctx, sb, rb, &rows[i])
		if err != nil {
			return err
		}
		l.TakePast(since, w.now)
		if err := w.carryOut(ctx, l); err != nil {
			return err
		}
	}
	return nil
}
