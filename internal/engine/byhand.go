package engine

import (
	"context"
	"slices"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// maxByHand bounds how many rows one batch by hand may have.
const maxByHand = 1000

// SendByHand has a rule that is sent by hand write to the rows a person has
// picked, each as it is now. batch names the sending: asked for again, say
// because the answer to the first asking was lost, it sends nothing twice. It
// gives how many emails have been queued or held.
func (e *Engine) SendByHand(ctx context.Context, sheetID, ruleID, batch string, ids []int64, actor string) (n int, err error) {
	if len(ids) == 0 || len(ids) > maxByHand {
		return 0, refuse("pick 1 to %d rows; these are %d", maxByHand, len(ids))
	}
	if batch == "" {
		return 0, &Refusal{Field: "/batch", Message: "the sending needs a name of its own, so that asking again does not send twice"}
	}
	ids = slices.Clone(ids)
	slices.Sort(ids) // rows are locked in one order
	ids = slices.Compact(ids)
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		n = 0
		a := deciding(actor)
		a.looked = true
		w, err := newWork(ctx, e, tx, e.now(), a)
		if err != nil {
			return err
		}
		sb, err := w.book.sheet(ctx, sheetID)
		if err != nil {
			return err
		}
		rb := sb.rule(ruleID)
		switch {
		case rb == nil:
			return store.ErrNotFound
		case rb.setting.Rule.Trigger.Kind != rule.ByHand:
			return refuse("this rule is not one that is sent by hand")
		case rb.record.State != rule.On:
			return refuse("this rule is not on; switch it on first")
		}
		if w.rows, err = tx.LockRowsIn(ctx, ids); err != nil {
			return err
		}
		if err := w.loadStandings(ctx, ids); err != nil {
			return err
		}
		occ := make([]rule.Occasion, len(ids))
		for i, id := range ids {
			row := w.rows[id]
			if row == nil || row.SheetID != sheetID || row.DeletedAt != nil {
				return refuse("row %d is not there any more; look at the rows again", id)
			}
			occ[i] = rule.Occasion{Rule: ruleID, Row: store.RowID(id), Kind: rule.ByHand, Batch: ruleID + " " + batch, Due: w.now}
		}
		w.ask(ctx, occ)
		for i, id := range ids {
			row, err := w.rows[id].Core(sb.sheet)
			if err != nil {
				return err
			}
			l, err := w.life(ctx, sb, rb, w.rows[id])
			if err != nil {
				return err
			}
			l.Take(occ[i], row, w.now)
			if err := w.carryOut(ctx, l); err != nil {
				return err
			}
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		n = w.entered[delivery.Queued] + w.entered[delivery.Held]
		return nil
	})
	if err == nil {
		poke(e.wakeQueue)
	}
	return n, err
}
