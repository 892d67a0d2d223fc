package engine

import (
	"context"
	"strconv"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// loadStandings reads what rules remember of rows.
func (w *work) loadStandings(ctx context.Context, rows []int64) error {
	var ids []int64
	for _, id := range rows {
		if !w.loaded[id] {
			w.loaded[id] = true
			ids = append(ids, id)
		}
	}
	sts, baselines, err := w.tx.Standings(ctx, ids)
	if err != nil {
		return err
	}
	for k, st := range sts {
		w.standings[k] = st
		w.baselines[k] = baselines[k]
	}
	return nil
}

// standing gives what a rule remembers of a row. What a newer baseline of the
// rule makes void is forgotten.
func (w *work) standing(rb *ruleBook, rowID int64) *rule.Standing {
	k := store.StandingKey{RuleID: rb.record.ID, RowID: rowID}
	st := w.standings[k]
	if st == nil {
		st = &rule.Standing{}
		w.standings[k] = st
		w.baselines[k] = rb.baseline()
	}
	if base := rb.baseline(); w.baselines[k].Before(base) {
		st.Baseline(base)
		w.baselines[k] = base
	}
	if rb.setting.Moving() && st.Looked.IsZero() {
		st.Looked = rb.baseline()
	}
	return st
}

// touch notes that a standing may have changed.
func (w *work) touch(rb *ruleBook, rowID int64, st *rule.Standing) {
	if k := (store.StandingKey{RuleID: rb.record.ID, RowID: rowID}); rb.setting.Remembers() && !st.IsZero() || w.touched[k] != nil {
		w.touched[k] = st
	}
}

func (w *work) saveStandings(ctx context.Context) error {
	return w.tx.SaveStandings(ctx, w.touched, func(ruleID string) *time.Time {
		for _, sb := range w.book.sheets {
			if rb := sb.rule(ruleID); rb != nil {
				base := rb.baseline()
				return &base
			}
		}
		return nil
	})
}

// memory is what judging a row needs to know of what went before.
func (w *work) memory(ctx context.Context, rb *ruleBook, row *sheet.Row) plan.Memory {
	id, err := strconv.ParseInt(row.ID, 10, 64)
	if err != nil {
		return plan.Memory{}
	}
	return plan.Memory{Standing: w.standing(rb, id), Last: func() (time.Time, bool) {
		last, ok, err := w.tx.LastFirst(ctx, rb.record.ID, id)
		if err != nil && w.failed == nil {
			w.failed = err
		}
		// What this transaction is about to write counts too.
		for _, d := range w.unwritten() {
			if d.RowID == id && d.RuleID == rb.record.ID && d.Step == 0 && (d.State == delivery.Queued || d.State == delivery.Held) &&
				d.WentAt != nil && (!ok || d.WentAt.After(last)) {
				last, ok = *d.WentAt, true
			}
		}
		return last, ok
	}}
}

// unwritten gives the deliveries that this transaction has decided and not
// written yet.
func (w *work) unwritten() []*store.Delivery {
	out := make([]*store.Delivery, 0, len(w.written)+len(w.changed))
	for _, p := range w.written {
		out = append(out, p.Delivery)
	}
	return append(out, w.changed...)
}
