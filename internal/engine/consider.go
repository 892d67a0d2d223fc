package engine

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// tickBatch is how many agenda entries one transaction considers.
const tickBatch = 500

// armBatch is how many rows one transaction arms.
const armBatch = 2000

// Tick considers what is due, one batch, and says how many entries that were.
// A tick costs what is due, not what is stored.
func (e *Engine) Tick(ctx context.Context) (int, error) {
	now := e.now()
	due, err := e.Store.HasDueAgenda(ctx, now, false)
	if err != nil || !due {
		return 0, err
	}
	n, err := e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) { return tx.ClaimAgenda(ctx, now, tickBatch) })
	if err != nil || n > 0 {
		return n, err
	}
	n, _, err = e.goOnByHand(ctx, now)
	return n, err
}

// tick considers the entries that claim locks and gives.
func (e *Engine) tick(ctx context.Context, now time.Time, claim func(*store.Store) ([]store.Entry, error)) (n int, err error) {
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
		poke(e.wakeQueue)
	}
	return n, err
}

// act is on whose behalf something is considered, and what that changes.
type act struct {
	actor  string
	cause  delivery.Cause // of what changes in the ledger
	looked bool           // they have looked: neither a first run nor a question holds it
	passed bool           // what is taken up was past at the baseline
}

// itself is the engine's own considering.
var itself = act{actor: "nivot", cause: delivery.Reviewing}

// deciding is a person's decision.
func deciding(actor string) act { return act{actor: actor, cause: delivery.Deciding} }

// work is one transaction's considering: what it has read, the lives that
// decide, and what is to be written at the end in few statements.
type work struct {
	e    *Engine
	tx   *store.Store
	now  time.Time
	act  act
	off  bool // all sending is switched off
	back store.WentBack

	loaded
	lives   map[lifeKey]*life
	order   []*life
	outbox  outbox
	queued  bool
	entered map[delivery.State]int // emails that have entered the ledger, by state
	asking  map[int64]bool         // rows whose settling is to be looked at
	failed  error                  // the first error of a question that a life asked of the ledger
}

func newWork(ctx context.Context, e *Engine, tx *store.Store, now time.Time, a act) (*work, error) {
	if err := e.holds(ctx, tx); err != nil {
		return nil, err
	}
	on, back, err := tx.Lever(ctx)
	return &work{e: e, tx: tx, now: now, act: a, off: !on, back: back, loaded: newLoaded(tx), lives: map[lifeKey]*life{}, outbox: newOutbox(),
		entered: map[delivery.State]int{}, asking: map[int64]bool{}}, err
}

// consider takes entries in the order of their instants; what settles comes
// before what is due.
func (w *work) consider(ctx context.Context, entries []store.Entry) error {
	if err := w.load(ctx, entries); err != nil {
		return err
	}
	sort.SliceStable(entries, func(i, j int) bool {
		a, b := &entries[i], &entries[j]
		if !a.DueAt.Equal(b.DueAt) {
			return a.DueAt.Before(b.DueAt)
		}
		return a.Kind == store.Settle && b.Kind != store.Settle
	})
	// What settles takes along all that waits for it. A round before it takes
	// the rows as they were.
	for _, en := range entries {
		var err error
		switch en.Kind {
		case store.Settle:
			err = w.settleEntry(ctx, en)
		case store.RoundDue:
			err = w.round(ctx, en)
		case store.Arm:
			err = w.arm(ctx, en)
		}
		if err != nil {
			return fmt.Errorf("agenda entry %d (%s): %w", en.ID, en.Kind, err)
		}
	}
	for _, en := range entries {
		switch en.Kind {
		case store.Due, store.Moved, store.Follow, store.Late, store.Review:
			if err := w.entry(ctx, en); err != nil {
				return fmt.Errorf("agenda entry %d (%s): %w", en.ID, en.Kind, err)
			}
		}
	}
	return nil
}

// entry runs the life that an entry is about, up to now.
func (w *work) entry(ctx context.Context, en store.Entry) error {
	sb, err := w.book.sheet(ctx, en.SheetID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var rb *ruleBook
	why := reason.SheetGone
	if err == nil {
		rb, why = sb.rule(en.RuleID), reason.RuleGone
	}
	waits := en.Kind == store.Late || en.Kind == store.Review
	switch row := w.rows[en.RowID]; {
	case rb == nil, row == nil && en.RowID != 0:
		w.drop(en.ID)
		if rb != nil {
			why = reason.RowDeleted
		}
		if waits {
			return w.orphan(ctx, en.DeliveryID, why)
		}
	case waits && (en.RowID == 0 || row.DeletedAt != nil):
		l, err := w.life(ctx, sb, rb, row)
		if err != nil {
			return err
		}
		p, err := w.pending(ctx, en)
		if err != nil || p == nil {
			w.drop(en.ID)
			return err
		}
		l.Review(p, w.now)
		return w.carryOut(ctx, l)
	case en.RowID == 0, row.DeletedAt != nil:
		w.drop(en.ID)
	default:
		l, err := w.life(ctx, sb, rb, row)
		if err != nil || l.ran {
			return err
		}
		l.ran = true
		l.Run(w.now)
		return w.carryOut(ctx, l)
	}
	return nil
}

// orphan ends an email that waits and whose rule, row or sheet is not there any
// more.
func (w *work) orphan(ctx context.Context, id int64, why reason.Code) error {
	m, err := w.email(ctx, id)
	if err != nil || m == nil {
		return err
	}
	if x, ok := plan.Orphan(m, why); ok {
		return w.amend(ctx, nil, x)
	}
	return nil
}

// settleEntry lets a row's edits count, once it has rested.
func (w *work) settleEntry(ctx context.Context, en store.Entry) error {
	row := w.rows[en.RowID]
	if row == nil || row.FirstEdit == nil || row.DeletedAt != nil {
		w.drop(en.ID)
		return nil
	}
	sb, err := w.book.sheet(ctx, row.SheetID)
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
func (w *work) settle(ctx context.Context, sb *sheetBook, row *store.Row) error {
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
		l, err := w.life(ctx, sb, rb, row)
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
		sb, err := w.book.sheet(ctx, row.SheetID)
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
		sb, err := w.book.sheet(ctx, row.SheetID)
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
		sb, err := w.book.sheet(ctx, row.SheetID)
		if err != nil {
			return err
		}
		if err := w.loadWaiting(ctx, sb, []delivery.State{delivery.Incomplete, delivery.Held}, row.ID); err != nil {
			return err
		}
		for _, rb := range sb.rules {
			l, err := w.life(ctx, sb, rb, row)
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
