package engine

import (
	"context"
	"encoding/json"
	"errors"
	"sort"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// settle lets a row's edits count: the rules judge what has waited, react to
// what has changed, and what was incomplete is judged again.
func (w *work) settle(ctx context.Context, en store.Entry, row *store.Row) error {
	if row == nil || row.FirstEdit == nil || row.DeletedAt != nil {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	sb, err := w.book.sheet(ctx, row.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	if err != nil {
		return err
	}
	x := settling{row: row, first: *row.FirstEdit, at: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle)}
	if x.at.After(w.now) {
		en.DueAt = x.at
		w.put = append(w.put, en)
		return nil
	}
	if x.before, err = row.SettledCore(sb.sheet); err != nil {
		return err
	}
	if x.cur, err = row.Core(sb.sheet); err != nil {
		return err
	}
	if err := w.mend(ctx, sb, row.ID, x.cur, x.at); err != nil {
		return err
	}
	for _, rb := range sb.rules {
		if rb.record.State == rule.Draft {
			continue
		}
		if err := w.settleRule(ctx, sb, rb, x); err != nil {
			return err
		}
	}
	row.Settled, row.FirstEdit, row.LastEdit, row.SettledAt = nil, nil, nil, &x.at
	w.drop = append(w.drop, en.ID)
	return w.tx.SaveRow(ctx, row)
}

// settling is a row that settles: as it last settled, and as it is.
type settling struct {
	row         *store.Row
	before, cur *sheet.Row
	first, at   time.Time
}

// mine gives what the agenda holds of the row by a rule.
func (w *work) mine(rowID int64, ruleID string) (due *store.Entry, waiting []store.Entry) {
	for i := range w.entries[rowID] {
		en := &w.entries[rowID][i]
		if en.RuleID != ruleID || w.done[en.ID] {
			continue
		}
		if en.Kind == store.Due {
			due = en
		} else {
			waiting = append(waiting, *en)
		}
	}
	return due, waiting
}

func (w *work) settleRule(ctx context.Context, sb *sheetBook, rb *ruleBook, x settling) error {
	due, waiting := w.mine(x.row.ID, rb.record.ID)
	beforeFirst := x.first.Add(-plan.Tick)
	since, known := w.since(&beforeFirst, rb), w.known(nil, rb)
	if due != nil {
		since, known = w.since(due.Since, rb), w.known(due.Known, rb)
		w.done[due.ID] = true
	} else if after := rb.record.ArmingAfter; after != nil && *after < x.row.ID {
		since = w.since(nil, rb) // its entry has not been computed yet
	}
	// What fell due before the first edit is judged on the row as it was then.
	if x.before != nil && beforeFirst.After(since) {
		if err := w.advance(ctx, sb, rb, x.row, x.before, known, since, beforeFirst); err != nil {
			return err
		}
		since = beforeFirst
	}
	if since.Before(beforeFirst) {
		since = beforeFirst
	}
	moved := x.before == nil || !value.Same(rb.setting.Anchor(x.before), rb.setting.Anchor(x.cur))
	if moved {
		known = w.known(&x.first, rb)
	}
	if err := w.waited(ctx, sb, rb, x, waiting, moved, since, known); err != nil {
		return err
	}
	st := w.standing(rb, x.row.ID)
	o, fires := rb.setting.Settle(x.before, x.cur, x.at, st)
	w.touch(rb, x.row.ID, st)
	if fires {
		if err := w.react(ctx, sb, rb, x.cur, o, x.at); err != nil {
			return err
		}
	}
	old := int64(0)
	if due != nil {
		old = due.ID
	}
	w.next(sb, rb, x.cur, x.row.ID, known, x.at, old)
	return nil
}

// waited judges what has waited for the row to settle, in the order in which
// it fell due: dates, moved reactions, follow-ups.
func (w *work) waited(ctx context.Context, sb *sheetBook, rb *ruleBook, x settling, waiting []store.Entry, moved bool, since, known time.Time) error {
	type item struct {
		at   time.Time
		step int
		run  func() error
	}
	var items []item
	for _, en := range waiting {
		o, err := originOf(en)
		if err != nil {
			return err
		}
		if moved && x.before != nil && !rb.setting.Stands(o, x.cur) {
			w.done[en.ID] = true
			w.drop = append(w.drop, en.ID)
			continue
		}
		if en.DueAt.After(x.at) {
			continue
		}
		w.done[en.ID] = true
		row, at := x.cur, x.at
		if en.DueAt.Before(x.first) && x.before != nil {
			row, at = x.before, en.DueAt
		}
		items = append(items, item{o.Due, o.Step, func() error {
			if en.Kind == store.Moved {
				return w.movedNow(ctx, sb, rb, en, o, row, at)
			}
			return w.followNow(ctx, sb, rb, en, o, row, at)
		}})
	}
	if rb.record.State == rule.On && !rb.setting.IsRoundUp() {
		occ := rb.setting.Dates(x.cur, known, since, x.at, nil)
		if err := w.ask(ctx, occ); err != nil {
			return err
		}
		for _, o := range rb.setting.Dates(x.cur, known, since, x.at, func(id rule.ID) bool { return w.judged[id] }) {
			if !w.judged[o.Identity()] {
				items = append(items, item{o.Due, 0, func() error { return w.take(ctx, sb, rb, x.cur, o, x.at) }})
			}
		}
	}
	sort.SliceStable(items, func(i, j int) bool {
		if !items[i].at.Equal(items[j].at) {
			return items[i].at.Before(items[j].at)
		}
		return items[i].step < items[j].step
	})
	for _, it := range items {
		if err := it.run(); err != nil {
			return err
		}
	}
	return nil
}

// originOf reads the occasion that an entry carries.
func originOf(en store.Entry) (*rule.Occasion, error) {
	var o rule.Occasion
	if err := json.Unmarshal([]byte(en.Origin), &o); err != nil {
		return nil, err
	}
	return &o, o.Restore()
}

// moved judges a reaction that a window had moved; while the row has unsettled
// edits it waits.
func (w *work) moved(ctx context.Context, en store.Entry, row *store.Row) error {
	sb, rb, o, core, err := w.pending(ctx, en, row)
	if err != nil || core == nil {
		return err
	}
	return w.movedNow(ctx, sb, rb, en, o, core, en.DueAt)
}

// pending finds what a moved reaction or a follow-up is about. core is nil
// where there is nothing to judge now: the entry has been dropped, or waits.
func (w *work) pending(ctx context.Context, en store.Entry, row *store.Row) (sb *sheetBook, rb *ruleBook, o *rule.Occasion, core *sheet.Row, err error) {
	if sb, rb, err = w.find(ctx, en); err != nil {
		return
	}
	if rb == nil || row == nil || row.DeletedAt != nil {
		w.drop = append(w.drop, en.ID)
		return
	}
	if row.FirstEdit != nil && !en.DueAt.Before(*row.FirstEdit) {
		en.DueAt = sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle) // settling takes it along
		if !en.DueAt.After(w.now) {
			en.DueAt = w.now.Add(plan.Tick)
		}
		// Its own instant stays in the occasion.
		w.put = append(w.put, en)
		return
	}
	if o, err = originOf(en); err != nil {
		return
	}
	core, err = row.SettledCore(sb.sheet)
	return
}

func (w *work) movedNow(ctx context.Context, sb *sheetBook, rb *ruleBook, en store.Entry, o *rule.Occasion, row *sheet.Row, at time.Time) error {
	w.drop = append(w.drop, en.ID)
	if rb.record.State != rule.On || o.Due.Before(rb.baseline()) {
		return nil // nothing falls due while it is paused, and what passed then stays passed
	}
	return w.take(ctx, sb, rb, row, *o, at)
}

// underWay is how often a follow-up looks whether its first email has been
// accepted.
const underWay = 5 * time.Minute

// follow judges a follow-up; while the row has unsettled edits it waits.
func (w *work) follow(ctx context.Context, en store.Entry, row *store.Row) error {
	if en.RowID == 0 {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	sb, rb, o, core, err := w.pending(ctx, en, row)
	if err != nil || core == nil {
		return err
	}
	at := o.Due
	if at.After(w.now) { // it was brought forward too far
		en.DueAt = at
		w.put = append(w.put, en)
		return nil
	}
	if w.now.After(at) {
		at = w.now
	}
	return w.followNow(ctx, sb, rb, en, o, core, at)
}

// followNow judges a follow-up on a row. It goes only if the first email was
// accepted: while that is under way it waits, within its late limit.
func (w *work) followNow(ctx context.Context, sb *sheetBook, rb *ruleBook, en store.Entry, o *rule.Occasion, row *sheet.Row, at time.Time) error {
	w.drop = append(w.drop, en.ID)
	if rb.record.State != rule.On || o.Due.Before(rb.baseline()) {
		return nil
	}
	first, err := w.tx.Delivery(ctx, en.DeliveryID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	switch first.State {
	case delivery.Accepted, delivery.Bounced:
	case delivery.Failed, delivery.Dropped, delivery.Skipped, delivery.Missed:
		return w.recordStep(ctx, sb, rb, row, o, plan.Verdict{Outcome: plan.Skip, Reason: "the first email did not go"}, at, first)
	default:
		if w.now.After(rb.setting.Late(o.Due)) {
			return w.recordStep(ctx, sb, rb, row, o, plan.Verdict{Outcome: plan.Send}, at, first) // missed
		}
		w.drop = w.drop[:len(w.drop)-1]
		if en.DueAt = w.now.Add(underWay); first.State == delivery.Held || first.State == delivery.InDoubt {
			en.DueAt = rb.setting.Late(o.Due).Add(plan.Tick) // a person's decision brings it forward
		}
		w.put = append(w.put, en)
		return nil
	}
	if later, ok := w.countAnew(rb, first, o); ok && later.Due.After(at) {
		w.drop = w.drop[:len(w.drop)-1]
		en.DueAt, en.Origin = later.Due, store.Detail(later)
		w.put = append(w.put, en)
		return nil
	}
	cs := rb.setting.Judge(*o, row, at, w.memory(ctx, rb, row))
	if w.failed != nil {
		return w.failed
	}
	for _, c := range cs {
		if err := w.recordStep(ctx, sb, rb, row, &c.Occasion, c.Verdict, c.At, first); err != nil {
			return err
		}
	}
	return nil
}

// countAnew moves a follow-up whose first email was accepted more than an hour
// after it was due: it counts from then.
func (w *work) countAnew(rb *ruleBook, first *store.Delivery, o *rule.Occasion) (rule.Occasion, bool) {
	if first.FinishedAt == nil || o.Again > 0 || first.FinishedAt.Sub(o.BaseDue) <= time.Hour {
		return *o, false
	}
	occ, err := occasionOf(first)
	if err != nil {
		return *o, false
	}
	for _, f := range rb.setting.FollowUps(occ, true, *first.FinishedAt) {
		if f.Step == o.Step {
			return f, true
		}
	}
	return *o, false
}

// recordStep gathers a follow-up's delivery, and what comes after it in its
// chain.
func (w *work) recordStep(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, o *rule.Occasion, v plan.Verdict, at time.Time, first *store.Delivery) error {
	id := o.Identity()
	if err := w.ask(ctx, []rule.Occasion{*o}); err != nil || w.judged[id] {
		return err
	}
	if err := w.record(ctx, sb, rb, row, plan.Considered{Occasion: *o, Verdict: v, At: at}, true); err != nil {
		return err
	}
	if v.Outcome == plan.Skip && plan.IsStopped(v.Reason) {
		return w.stop(ctx, first, o.Base)
	}
	if next, ok := rb.setting.NextAgain(*o); ok {
		w.put = append(w.put, followEntry(first, next))
	}
	return nil
}

// stop ends a chain of follow-ups.
func (w *work) stop(ctx context.Context, first *store.Delivery, base string) error {
	es, err := w.tx.FollowEntries(ctx, first.ID)
	if err != nil {
		return err
	}
	for _, en := range es {
		if o, err := originOf(en); err == nil && o.Base == base {
			w.done[en.ID] = true
			w.drop = append(w.drop, en.ID)
		}
	}
	kept := w.put[:0]
	for _, en := range w.put {
		if en.Kind == store.Follow && en.DeliveryID == first.ID {
			if o, err := originOf(en); err == nil && o.Base == base {
				continue
			}
		}
		kept = append(kept, en)
	}
	w.put = kept
	return nil
}
