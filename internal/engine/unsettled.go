package engine

import (
	"context"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// maxUnsettled bounds the rows of which a forecast works out what their edits will bring.
const maxUnsettled = 2000

// unsettledEmail is an email that an edit will bring when it settles.
type unsettledEmail struct {
	plan.Foreseen
	at time.Time
	rb *cachedRule
}

// emailsOfEdits returns what the edits of rows will bring, by row, if they settle as they are: each email at the
// instant at which the row settles, or at which a window or a delay lets it go. Nothing is locked or written.
func (e *Engine) emailsOfEdits(ctx context.Context, sheetID string,
	rows []store.Row) (map[int64][]unsettledEmail, error) {
	out := map[int64][]unsettledEmail{}
	var unsettled []*store.Row
	for i := range rows {
		if r := &rows[i]; r.FirstEdit != nil && r.LastEdit != nil && r.DeletedAt == nil {
			unsettled = append(unsettled, r)
		}
	}
	if len(unsettled) == 0 {
		return out, nil
	}
	sending, err := e.Store.Sending(ctx)
	if err != nil {
		return nil, err
	}
	w := &work{e: e, tx: e.Store, now: e.now(), act: itself, sending: sending, loaded: newLoaded(e.Store, e.sheets),
		timelines: map[timelineKey]*timeline{}, outbox: newOutbox()}
	if err := w.loadRows(ctx, unsettled); err != nil {
		return nil, err
	}
	if err := w.readIncomplete(ctx, unsettled); err != nil {
		return nil, err
	}
	sb, err := w.cache.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	for _, row := range unsettled {
		for _, rb := range sb.rules {
			if rb.record.State != rule.On {
				continue
			}
			rb.compiled.Light = true
			list, err := w.bySettling(ctx, sb, rb, row)
			if err != nil {
				return nil, err
			}
			out[row.ID] = append(out[row.ID], list...)
		}
	}
	return out, w.failed
}

// comingOfEdits returns the same as lists and tracks show it.
func (e *Engine) comingOfEdits(ctx context.Context, s *sheet.Sheet, sheetID string,
	rows []store.Row) (map[int64][]Coming, error) {
	all, err := e.emailsOfEdits(ctx, sheetID, rows)
	if err != nil {
		return nil, err
	}
	out := map[int64][]Coming{}
	for i := range rows {
		list := all[rows[i].ID]
		if len(list) == 0 {
			continue
		}
		row, err := rows[i].Core(s)
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			if x.Outcome == plan.Skip {
				continue
			}
			c := coming(s, x.rb, row, x.Foreseen)
			c.At = x.at
			out[rows[i].ID] = append(out[rows[i].ID], c)
		}
	}
	return out, nil
}

// comingOfUnsettled returns the same of those rows that wait to settle.
func (e *Engine) comingOfUnsettled(ctx context.Context, s *sheet.Sheet, sheetID string,
	rows []int64) (map[int64][]Coming, error) {
	unsettled, err := e.Store.UnsettledOf(ctx, rows)
	if err != nil || len(unsettled) == 0 {
		return nil, err
	}
	recs, err := e.Store.RowsByID(ctx, sheetID, unsettled)
	if err != nil {
		return nil, err
	}
	return e.comingOfEdits(ctx, s, sheetID, recs)
}

// readIncomplete reads the incomplete emails of rows, for their timelines, without locking them.
func (w *work) readIncomplete(ctx context.Context, rows []*store.Row) error {
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	ds, err := w.tx.IncompleteOf(ctx, ids)
	if err != nil {
		return err
	}
	for i := range ds {
		m, err := w.take(&ds[i])
		if err != nil {
			return err
		}
		k := timelineKey{ds[i].RuleID, ds[i].RowID}
		w.waiting[k] = append(w.waiting[k], m)
	}
	return nil
}

// bySettling returns what a row's settling brings by one rule, what somebody has left out among it.
func (w *work) bySettling(ctx context.Context, sb *cachedSheet, rb *cachedRule,
	row *store.Row) (out []unsettledEmail, err error) {
	cur, err := row.Core(sb.sheet)
	if err != nil {
		return nil, err
	}
	l, err := w.timeline(ctx, sb, rb, row)
	if err != nil {
		return nil, err
	}
	first, at := *row.FirstEdit, sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle)
	l.Circumstances.Now = time.Time{}
	l.Settle(cur, first, at)
	add := func(o rule.Occasion, v plan.Decision, at time.Time) {
		if v.Outcome != plan.Skip || v.Reason.Code == reason.LeftOut {
			out = append(out, unsettledEmail{plan.Foreseen{Occasion: o, Decision: v}, at, rb})
		}
	}
	for _, x := range l.Effects {
		switch {
		case x.Kind == plan.Write,
			x.Kind == plan.Amend && (x.As.State == delivery.Queued || x.As.State == delivery.Held):
			add(x.As.Occasion, x.As.Decision, at)
		case x.Kind == plan.Expect && x.Pending.Kind == plan.Moved:
			for _, c := range rb.compiled.Judge(x.Pending.Occasion, cur, x.Pending.At, plan.Memory{RowState: l.RowState}) {
				add(c.Occasion, c.Decision, x.Pending.At)
			}
		}
	}
	return out, nil
}

// joinComing puts what rows' edits will bring before what is foreseen besides, each email once.
func joinComing(edits, foreseen []Coming) []Coming {
	have := map[rule.ID]bool{}
	out := make([]Coming, 0, len(edits)+len(foreseen))
	for _, list := range [][]Coming{edits, foreseen} {
		for _, c := range list {
			if !have[c.Occasion] {
				have[c.Occasion] = true
				out = append(out, c)
			}
		}
	}
	return out
}
