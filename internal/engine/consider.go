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
	"nivot/internal/store"
)

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

// work is one transaction's considering: what it has read, the timelines that
// decide, and what is to be written at the end in few statements.
type work struct {
	e       *Engine
	tx      *store.Store
	now     time.Time
	act     act
	sending store.Sending

	loaded
	timelines map[timelineKey]*timeline
	order     []*timeline
	outbox    outbox
	queued    bool
	entered   map[delivery.State]int    // emails that have entered the ledger, by state
	batches   map[string]rule.SameWords // of sendings by hand, by the batch of their occasions
	same      map[rule.ID]reason.Reason // emails that are known to say what another says
	mayRepeat bool                      // who does the work does it again where it says so
	asking    map[int64]bool            // rows whose settling is to be looked at
	failed    error                     // the first error of a question that a timeline asked of the ledger
}

func newWork(ctx context.Context, e *Engine, tx *store.Store, now time.Time, a act) (*work, error) {
	if err := e.mayJudge(ctx, tx, now, a.actor == itself.actor); err != nil {
		return nil, err
	}
	sending, err := tx.Sending(ctx)
	return &work{e: e, tx: tx, now: now, act: a, sending: sending, loaded: newLoaded(tx, e.sheets),
		timelines: map[timelineKey]*timeline{}, outbox: newOutbox(),
		entered: map[delivery.State]int{}, batches: map[string]rule.SameWords{}, same: map[rule.ID]reason.Reason{},
		asking: map[int64]bool{}}, err
}

// consider takes entries in the order of their instants; what settles comes
// before what is due.
func (w *work) consider(ctx context.Context, entries []store.Entry) error {
	entries, err := w.load(ctx, entries)
	if err != nil {
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

// entry runs the timeline that an entry is about, up to now.
func (w *work) entry(ctx context.Context, en store.Entry) error {
	sb, err := w.cache.sheet(ctx, en.SheetID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var rb *cachedRule
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
		l, err := w.timeline(ctx, sb, rb, row)
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
		l, err := w.timeline(ctx, sb, rb, row)
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
