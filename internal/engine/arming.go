package engine

import (
	"context"
	"errors"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// armBatch is how many rows one transaction arms.
const armBatch = 10000

// armAgain is after which time rows are looked through once more in a cluster: no transaction lasts
// as long.
const armAgain = 15 * time.Second

// Horizon says how far ahead the agenda is made for a sheet of many rows. All rows are looked
// through again a fifth of it before it ends.
type Horizon struct {
	Ahead time.Duration // default five weeks
	Rows  int64         // a sheet of no more has all on its agenda; default 20,000
}

func (h Horizon) orDefault() Horizon {
	if h.Ahead == 0 {
		h = Horizon{Ahead: 5 * 7 * 24 * time.Hour, Rows: 20_000}
	}
	return h
}

// again is when rows are to be looked through for what lies beyond an instant.
func (h Horizon) again(until time.Time) time.Time { return until.Add(-h.Ahead / 5) }

// armAll has a rule, which is to be saved, look through all rows of its sheet. since is up to
// when those that are not on the agenda have been judged.
func armAll(ctx context.Context, tx *store.Store, r *store.Rule, since, now time.Time) error {
	start := int64(0)
	r.ArmingAfter, r.ArmedRows, r.ArmingSince, r.ArmedUntil, r.BeyondAt = &start, 0, &since, nil, nil
	return tx.PutEntries(ctx, []store.Entry{{Kind: store.Arm, DueAt: now, SheetID: r.SheetID, RuleID: r.ID,
		Generation: r.Generation}})
}

// arm computes the entries of a batch of rows for a rule that has been switched on, or whose
// horizon comes near, and comes back for the rest.
func (w *work) arm(ctx context.Context, en store.Entry) error {
	rec, err := w.tx.LockRule(ctx, en.RuleID)
	if errors.Is(err, store.ErrNotFound) ||
		err == nil && (rec.State != rule.On || rec.Generation != en.Generation ||
			rec.ArmingAfter == nil && rec.ArmedUntil == nil && en.DoneRows == 0) {
		w.drop(en.ID)
		return nil
	}
	if err != nil {
		return err
	}
	sb, rb, err := w.find(ctx, en)
	if err != nil {
		return err
	}
	if rb == nil {
		w.drop(en.ID)
		return nil
	}
	if over, err := w.beginArming(ctx, rec, rb, &en); err != nil || over {
		return err
	}
	last, n, put, err := w.armRows(ctx, sb, rb, rec)
	if err != nil {
		return err
	}
	if err := w.tx.PutArmed(ctx, put, w.now); err != nil {
		return err
	}
	rec.ArmedRows += int64(n)
	switch {
	case n == armBatch:
		rec.ArmingAfter = &last
	case w.tx.Clustered() && en.DoneRows == 0:
		// A row that another node was settling meanwhile, and did not know of the rule, is found then.
		rec.ArmingAfter, en.DueAt, en.DoneRows = nil, w.now.Add(armAgain), 1
		w.put(en)
	case rec.ArmedUntil != nil:
		rec.ArmingAfter, en.DoneRows = nil, 0
		en.DueAt = w.e.opts.Horizon.again(*rec.ArmedUntil)
		w.put(en)
	default:
		rec.ArmingAfter = nil
		w.drop(en.ID)
	}
	return w.tx.SaveArming(ctx, rec)
}

// beginArming prepares looking through a rule's rows, where that has not begun. It reports whether there
// is nothing to look through, and has written so then.
func (w *work) beginArming(ctx context.Context, rec *store.Rule, rb *cachedRule, en *store.Entry) (over bool,
	err error) {
	switch {
	case rec.ArmingAfter == nil && en.DoneRows > 0: // looked through once more, as of the same instant
		rec.ArmingAfter, rec.ArmedRows = new(int64), 0
	case rec.ArmingAfter == nil: // the horizon comes near
		since := rb.judgedBy(0, time.Time{}, w.now)
		rec.ArmingAfter, rec.ArmedRows, rec.ArmingSince = new(int64), 0, &since
	}
	if *rec.ArmingAfter > 0 {
		return false, nil
	}
	n, err := w.tx.CountRows(ctx, rec.SheetID)
	if err != nil {
		return false, err
	}
	if next := rb.compiled.NextRound(rb.since(rec.ArmingSince, plan.Tick)); !next.IsZero() && en.DoneRows == 0 {
		w.put(store.Entry{Kind: store.RoundDue, DueAt: next, SheetID: rec.SheetID, RuleID: rec.ID,
			Generation: rec.Generation})
	}
	if rb.compiled.Rule.Trigger.Kind != rule.Date && !rb.compiled.Moving() { // nothing falls due row by row
		rec.ArmingAfter, rec.ArmedRows = nil, n
		w.drop(en.ID)
		return true, w.tx.SaveArming(ctx, rec)
	}
	rec.ArmedUntil, rec.BeyondAt = nil, nil
	if h := w.e.opts.Horizon; n > h.Rows {
		until := w.now.Add(h.Ahead)
		rec.ArmedUntil = &until
	}
	return false, nil
}

// armRows works out the entries of a batch of rows: the rule's that is locked, rec, which is
// told what lies beyond its horizon. The earliest beyond it, all that are due then, are among
// them, so that the next instant is on the agenda however far away it is.
func (w *work) armRows(ctx context.Context, sb *cachedSheet, rb *cachedRule, rec *store.Rule) (last int64, n int,
	put []store.Entry, err error) {
	decoder := sb.sheet.Decoder(rb.compiled.NextReads()...)
	known, from := rb.baseline(), rb.since(rec.ArmingSince, plan.Tick)
	var cells []value.Value
	err = w.tx.LockSettledAfter(ctx, rec.SheetID, *rec.ArmingAfter, armBatch, func(r store.SettledRow) error {
		last, n = r.ID, n+1
		if r.Cells == nil {
			return nil // it is considered when it first settles
		}
		if cells, err = decoder.Decode(r.Cells, cells); err != nil {
			return err
		}
		since := from
		if r.SettledAt != nil && r.SettledAt.After(known) && r.SettledAt.After(since) {
			since = *r.SettledAt // settling has judged up to there
		}
		next := rb.compiled.Next(&sheet.Row{Cells: cells}, known, since)
		if next.IsZero() {
			return nil
		}
		if rec.ArmedUntil != nil && next.After(*rec.ArmedUntil) {
			if rec.BeyondAt != nil && next.After(*rec.BeyondAt) {
				return nil
			}
			rec.BeyondAt = &next
		}
		put = append(put, store.Entry{Kind: store.Due, DueAt: next, SheetID: rec.SheetID, RuleID: rec.ID, RowID: r.ID,
			Since: &since, Known: &known, Generation: rec.Generation})
		return nil
	})
	return last, n, put, err
}

// judgedBy gives up to when what falls due by itself of a row has been judged, where the agenda
// holds nothing of it. settled is when the row last settled, or zero.
func (rb *cachedRule) judgedBy(row int64, settled, now time.Time) time.Time {
	r := rb.record
	at := now
	switch {
	case r.ArmingAfter != nil && *r.ArmingAfter < row: // its entry has not been computed yet
		at = rb.since(r.ArmingSince, plan.Tick)
	case r.ArmedUntil != nil:
		at = *r.ArmedUntil
	}
	if settled.After(at) && settled.After(rb.baseline()) {
		at = settled
	}
	if at.After(now) {
		return now
	}
	return at
}
