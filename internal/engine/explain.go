package engine

import (
	"context"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// Explained is why a row gets or does not get its next email by a rule.
type Explained struct {
	plan.Explanation
	Row string // its name
}

// unsaved makes a rule ready that is a sheet's, saved or not.
func (e *Engine) unsaved(ctx context.Context, sheetID string, r *rule.Rule) (*cachedSheet, *plan.CompiledRule, error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, nil, err
	}
	if err := r.Validate(sb.scope()); err != nil {
		return nil, nil, asRefusal(err)
	}
	set, err := b.compile(sb, r)
	return sb, set, err
}

// Explain explains a row by a rule, saved or not. ruleID is the saved rule that
// it is, or is to become: what that remembers of the row counts; "" for none.
func (e *Engine) Explain(ctx context.Context, sheetID string, r *rule.Rule, ruleID string,
	rowID int64) (*Explained, error) {
	sb, set, err := e.unsaved(ctx, sheetID, r)
	if err != nil {
		return nil, err
	}
	rec, err := e.Store.Row(ctx, rowID)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != sheetID {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(sb.sheet)
	if err != nil {
		return nil, err
	}
	var memory plan.Memory
	if rb := sb.rule(ruleID); rb != nil {
		if memory, err = memoryOf(ctx, e.Store, rb, rowID); err != nil {
			return nil, err
		}
	}
	return &Explained{set.Explain(row, e.now(), memory), sb.sheet.RowName(row)}, nil
}

// memoryOf gives what a saved rule remembers of a row.
func memoryOf(ctx context.Context, tx *store.Store, rb *cachedRule, rowID int64) (plan.Memory, error) {
	rowStates, baselines, err := tx.RowStates(ctx, []int64{rowID})
	if err != nil {
		return plan.Memory{}, err
	}
	k := store.RowStateKey{RuleID: rb.record.ID, RowID: rowID}
	st := rowStates[k]
	if st != nil && baselines[k].Before(rb.baseline()) {
		st.Baseline(rb.baseline())
	}
	at, ok, err := tx.LastFirst(ctx, rb.record.ID, rowID)
	return plan.Memory{RowState: st, Last: func() (time.Time, bool) { return at, ok }}, err
}
