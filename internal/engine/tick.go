package engine

import (
	"context"
	"errors"
	"maps"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// tickBatch is how many agenda entries one transaction considers.
const tickBatch = 500

// mostWays is how many transactions consider what is due at once, at the most: they share one database.
const mostWays = 4

// apartFrom is how many due entries are worth being considered in several transactions at once.
const apartFrom = 100

// clearBatch is how many stale entries one transaction removes.
const clearBatch = 5000

// Tick considers what is due, one batch, and says how many entries that were.
// A tick costs what is due, not what is stored.
func (e *Engine) Tick(ctx context.Context) (int, error) {
	now := e.now()
	ways := min(runtime.GOMAXPROCS(0), mostWays)
	due, err := e.Store.DueAgenda(ctx, now, ways*tickBatch)
	if err != nil || len(due) == 0 {
		return 0, err
	}
	var n int
	if ways > 1 && len(due) >= e.apartFrom && apart(due) {
		n, err = e.tickApart(ctx, now, due, ways)
	}
	// What is due first may all be other processes'; this one's share may lie behind it.
	if err == nil && n == 0 {
		n, err = e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) {
			return tx.ClaimAgenda(ctx, now, tickBatch, e.mine())
		})
	}
	if err != nil || n > 0 {
		return n, err
	}
	if n, err = e.goOnByHand(ctx, now); err != nil || n > 0 {
		return n, err
	}
	return e.clearStale(ctx, now)
}

// apart reports whether each of some entries is about its row alone. What reacts to edits is not: what
// falls due together is counted together; nor is a round, which takes rows as they were before.
func apart(due []store.Entry) bool {
	return !slices.ContainsFunc(due, func(en store.Entry) bool {
		return !slices.Contains([]store.AgendaKind{store.Due, store.Follow, store.Late, store.Review}, en.Kind)
	})
}

// tickApart considers entries in several transactions at once, all those of a row in one.
func (e *Engine) tickApart(ctx context.Context, now time.Time, due []store.Entry, ways int) (int, error) {
	parts := make([][]store.Entry, ways)
	for _, en := range due {
		i := en.RowID % int64(ways)
		parts[i] = append(parts[i], en)
	}
	var n atomic.Int64
	var g errgroup.Group
	for _, part := range parts {
		if len(part) == 0 {
			continue
		}
		g.Go(func() error {
			k, err := e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) {
				return e.claimRows(ctx, tx, now, part)
			})
			n.Add(int64(k))
			return err
		})
	}
	err := g.Wait()
	return int(n.Load()), err
}

// claimRows locks and gives entries. Where one of a row is not to be had, the row's others are left for
// the next tick with it: what falls due of a row is considered in its order.
func (e *Engine) claimRows(ctx context.Context, tx *store.Store, now time.Time,
	due []store.Entry) ([]store.Entry, error) {
	ids := make([]int64, len(due))
	for i := range due {
		ids[i] = due[i].ID
	}
	claimed, err := tx.ClaimEntries(ctx, now, ids, e.mine())
	if err != nil || len(claimed) == len(due) {
		return claimed, err
	}
	had, left := map[int64]bool{}, map[int64]bool{}
	for _, en := range claimed {
		had[en.ID] = true
	}
	for _, en := range due {
		if !had[en.ID] {
			left[en.RowID] = true
		}
	}
	return slices.DeleteFunc(claimed, func(en store.Entry) bool { return left[en.RowID] }), nil
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
	same := map[rule.ID]reason.Reason{}
	once := func(tx *store.Store) error {
		entries, err := claim(tx)
		if err != nil {
			return err
		}
		if entries, err = judgeable(ctx, tx, entries); err != nil {
			return err
		}
		n = len(entries)
		queued, err = e.judge(ctx, tx, now, entries, same)
		return err
	}
	var again *judgeAgain
	for err = e.Store.Tx(ctx, once); errors.As(err, &again); err = e.Store.Tx(ctx, once) {
		same = again.same
	}
	if queued {
		wake(e.wakeQueue)
	}
	return n, err
}

// judge considers entries that a transaction has locked, and reports whether emails have been queued. same has the
// emails that are known to say what another says. Its error is a *judgeAgain where more of them have been found by
// which others were judged; never where same is nil.
func (e *Engine) judge(ctx context.Context, tx *store.Store, now time.Time, entries []store.Entry,
	same map[rule.ID]reason.Reason) (bool, error) {
	w, err := newWork(ctx, e, tx, now, itself)
	if err != nil {
		return false, err
	}
	w.same, w.mayRepeat = same, same != nil
	if err := w.consider(ctx, entries); err != nil {
		return false, err
	}
	return w.queued, w.flush(ctx)
}

// judgeable keeps those entries whose sheets nobody is just changing, and has the sheets stay as they are
// until the transaction ends. The others are left for the next tick. Arming writes how far it has come
// into the rule, so that it needs its sheet for itself.
func judgeable(ctx context.Context, tx *store.Store, entries []store.Entry) ([]store.Entry, error) {
	if len(entries) == 0 {
		return nil, nil
	}
	var sheets, arming []string
	for _, en := range entries {
		list := &sheets
		if en.Kind == store.Arm {
			list = &arming
		}
		if !slices.Contains(*list, en.SheetID) {
			*list = append(*list, en.SheetID)
		}
	}
	sheets = slices.DeleteFunc(sheets, func(id string) bool { return slices.Contains(arming, id) })
	stays := map[string]bool{}
	for _, x := range []struct {
		ids       []string
		exclusive bool
	}{{arming, true}, {sheets, false}} {
		if len(x.ids) == 0 {
			continue
		}
		had, err := tx.Judging(ctx, x.ids, x.exclusive)
		if err != nil {
			return nil, err
		}
		maps.Copy(stays, had)
	}
	return slices.DeleteFunc(entries, func(en store.Entry) bool { return !stays[en.SheetID] }), nil
}
