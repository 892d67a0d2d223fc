package engine

import (
	"context"
	"errors"
	"slices"
	"sort"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// settleEntry lets a row's edits count, once it has rested.
func (w *work) settleEntry(ctx context.Context, en store.Entry) error {
	row := w.rows[en.RowID]
	if row == nil || row.FirstEdit == nil || row.DeletedAt != nil {
		w.drop(en.ID)
		return nil
	}
	sb, err := w.cache.sheet(ctx, row.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		w.drop(en.ID)
		return nil
	}
	if err != nil {
		return err
	}
	if at := sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle); at.After(w.now) {
		en.DueAt = at
		w.put(en)
		return nil
	}
	w.drop(en.ID)
	w.asking[row.ID] = en.DoneRows == 1
	if err := w.settle(ctx, sb, row); err != nil {
		return err
	}
	return w.tx.SaveRow(ctx, row)
}

// settle lets a row's edits count: every rule of its sheet takes it up, as of
// the instant at which it had rested. It changes the row and does not write it.
func (w *work) settle(ctx context.Context, sb *cachedSheet, row *store.Row) error {
	first, at := *row.FirstEdit, sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle)
	cur, err := row.Core(sb.sheet)
	if err != nil {
		return err
	}
	if err := w.loadWaiting(ctx, sb, []delivery.State{delivery.Incomplete}, row.ID); err != nil {
		return err
	}
	for _, rb := range sb.rules {
		if rb.record.State == rule.Draft {
			continue
		}
		l, err := w.timeline(ctx, sb, rb, row)
		if err != nil {
			return err
		}
		l.Asks = w.asking[row.ID]
		l.Settle(cur, first, at)
		l.Asks = false
		l.ran, l.settled = true, true
		if err := w.carryOut(ctx, l); err != nil {
			return err
		}
	}
	row.Settled, row.FirstEdit, row.LastEdit, row.SettledAt = nil, nil, nil, &at
	return nil
}

// settleOverdue settles those of rows that had rested by now: what is edited
// anew must not swallow what was to count before.
func (w *work) settleOverdue(ctx context.Context, rows []*store.Row) error {
	var over []*store.Row
	var ids []int64
	for _, row := range rows {
		if row.FirstEdit == nil || row.DeletedAt != nil {
			continue
		}
		sb, err := w.cache.sheet(ctx, row.SheetID)
		if err != nil {
			return err
		}
		if !sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle).After(w.now) {
			over, ids = append(over, row), append(ids, row.ID)
		}
	}
	if len(over) == 0 {
		return nil
	}
	if err := w.loadRows(ctx, over); err != nil {
		return err
	}
	asking, err := w.tx.Asking(ctx, ids)
	if err != nil {
		return err
	}
	for _, id := range asking {
		w.asking[id] = true
	}
	sort.SliceStable(over, func(i, j int) bool { return over[i].LastEdit.Before(*over[j].LastEdit) })
	for _, row := range over {
		sb, err := w.cache.sheet(ctx, row.SheetID)
		if err != nil {
			return err
		}
		if err := w.settle(ctx, sb, row); err != nil {
			return err
		}
		if err := w.tx.SaveRow(ctx, row); err != nil {
			return err
		}
	}
	if err := w.tx.DropSettling(ctx, ids); err != nil {
		return err
	}
	return w.flush(ctx)
}

// ripeMost is how many rows settle with their change, where the sheet gives them no time to rest.
const ripeMost = 20

// settleError says that what a change sets off could not be worked out.
type settleError struct{ err error }

func (e *settleError) Error() string { return e.err.Error() }
func (e *settleError) Unwrap() error { return e.err }

// atOnce reports whether the rows of a change settle with it, in its transaction: where they need not
// rest, are few, and none waits to settle. A process whose clock is wrong considers nothing.
func (c *changer) atOnce() bool {
	waits := func(r *changing) bool { return r.row.FirstEdit != nil }
	return !slices.ContainsFunc(c.order, waits) && c.s.Settle == 0 &&
		len(c.order)+len(c.added) <= ripeMost && c.columns.none() && len(c.w.timelines) == 0 &&
		c.e.ClockOff() <= ClockMost
}

// settle lets the rows that need not rest count, and writes them.
func (c *changer) settle(ctx context.Context) error {
	if len(c.ripe) == 0 {
		return nil
	}
	w := c.w
	by := w.act
	w.act = itself
	defer func() { w.act = by }()
	if err := w.loadRows(ctx, c.ripe); err != nil {
		return err
	}
	for _, row := range c.ripe {
		sb, err := w.cache.sheet(ctx, row.SheetID)
		if err != nil {
			return &settleError{err}
		}
		w.asking[row.ID] = c.by.asks() == 1
		if err := w.settle(ctx, sb, row); err != nil {
			return &settleError{err}
		}
		if err := w.tx.SaveRow(ctx, row); err != nil {
			return err
		}
	}
	if err := w.flush(ctx); err != nil {
		return &settleError{err}
	}
	return nil
}

// remove settles the rules' business with rows that are deleted, and marks
// them so. It writes all but the rows.
func (w *work) remove(ctx context.Context, rows []*store.Row) error {
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	if err := w.loadRows(ctx, rows); err != nil {
		return err
	}
	for _, row := range rows {
		sb, err := w.cache.sheet(ctx, row.SheetID)
		if err != nil {
			return err
		}
		if err := w.loadWaiting(ctx, sb, []delivery.State{delivery.Incomplete, delivery.Held}, row.ID); err != nil {
			return err
		}
		for _, rb := range sb.rules {
			l, err := w.timeline(ctx, sb, rb, row)
			if err != nil {
				return err
			}
			l.Remove(w.now)
			if err := w.carryOut(ctx, l); err != nil {
				return err
			}
		}
		if row.FirstEdit != nil {
			// What had not settled never was: coming back is compared with what
			// had, or with nothing.
			if row.Settled == nil {
				row.Settled = sheet.Encode(nil)
			}
			row.FirstEdit, row.LastEdit = nil, nil
		}
		row.DeletedAt = &w.now
	}
	if err := w.flush(ctx); err != nil {
		return err
	}
	return w.tx.DropRowEntries(ctx, ids...)
}
