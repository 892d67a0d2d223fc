package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// loaded is what a work has read: sheets and rules, rows, what the agenda and
// the ledger hold of them, and what rules remember of them.
type loaded struct {
	cache    *ruleCache
	rows     map[int64]*store.Row
	entries  map[int64][]store.Entry // of the agenda, by row
	emails   map[int64]*plan.Email   // of the ledger, locked; nil for one that is not there
	records  map[*plan.Email]*store.Delivery
	waiting  map[timelineKey][]*plan.Email
	memories map[store.RowStateKey]*memory
	known    map[int64]bool // rows whose states have been read
	asides   map[timelineKey][]plan.Aside
	rounds   map[string]map[string]time.Time // when schedules come round next, by sheet and rule
	asked    map[rule.ID]bool                // occasions the ledger has been asked for
	judged   map[rule.ID]bool                // those of them it knows, and those being written
}

// memory is what a rule remembers of a row, and how it was read.
type memory struct {
	*rule.RowState
	baseline time.Time
	was      string
}

type timelineKey struct {
	rule string
	row  int64
}

func newLoaded(tx *store.Store, shared *sheetCache) loaded {
	cache := newRuleCache(tx)
	cache.shared = shared
	return loaded{cache: cache, rows: map[int64]*store.Row{}, entries: map[int64][]store.Entry{},
		emails:  map[int64]*plan.Email{},
		records: map[*plan.Email]*store.Delivery{}, waiting: map[timelineKey][]*plan.Email{},
		memories: map[store.RowStateKey]*memory{}, known: map[int64]bool{}, asides: map[timelineKey][]plan.Aside{},
		rounds: map[string]map[string]time.Time{}, asked: map[rule.ID]bool{}, judged: map[rule.ID]bool{}}
}

// load locks a batch's rows and reads at once what its considering will ask
// for. Of rows that only a date is due of, the entries given are all it takes.
// It gives those entries that count: not those of rules' earlier generations.
func (w *work) load(ctx context.Context, entries []store.Entry) ([]store.Entry, error) {
	var ids, whole []int64
	seen, more := map[int64]bool{}, map[int64]bool{}
	for _, en := range entries {
		if en.RowID == 0 {
			continue
		}
		if !seen[en.RowID] {
			seen[en.RowID] = true
			ids = append(ids, en.RowID)
		}
		if en.Kind != store.Due && !more[en.RowID] {
			more[en.RowID] = true
			whole = append(whole, en.RowID)
		}
	}
	rows, err := w.tx.LockRowsIn(ctx, ids)
	if err != nil {
		return nil, err
	}
	for id, row := range rows {
		w.rows[id] = row
	}
	if entries, err = w.current(ctx, entries); err != nil {
		return nil, err
	}
	held, err := w.tx.RowEntries(ctx, whole...)
	if err != nil {
		return nil, err
	}
	for id, es := range held {
		w.entries[id] = es
	}
	for _, en := range entries {
		if en.RowID != 0 && !more[en.RowID] {
			w.entries[en.RowID] = append(w.entries[en.RowID], en)
		}
	}
	if err := w.loadRowStates(ctx, ids); err != nil {
		return nil, err
	}
	return entries, w.prefetch(ctx, entries)
}

// current drops the entries of rules' earlier generations, and gives the others.
func (w *work) current(ctx context.Context, entries []store.Entry) ([]store.Entry, error) {
	out := make([]store.Entry, 0, len(entries))
	for _, en := range entries {
		if en.Generation > 0 {
			_, rb, err := w.find(ctx, en)
			if err != nil {
				return nil, err
			}
			if rb == nil || rb.record.Generation != en.Generation {
				w.drop(en.ID)
				continue
			}
		}
		out = append(out, en)
	}
	return out, nil
}

// loadRows takes rows that are locked already, and reads the rest.
func (w *work) loadRows(ctx context.Context, rows []*store.Row) error {
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
		w.rows[row.ID] = row
	}
	held, err := w.tx.RowEntries(ctx, ids...)
	if err != nil {
		return err
	}
	for _, id := range ids {
		w.entries[id] = held[id]
	}
	return w.loadRowStates(ctx, ids)
}

// loadRowStates reads what rules remember of rows, and what people have said of
// their emails to come.
func (w *work) loadRowStates(ctx context.Context, rows []int64) error {
	var ids []int64
	for _, id := range rows {
		if !w.known[id] {
			w.known[id] = true
			ids = append(ids, id)
		}
	}
	sts, baselines, err := w.tx.RowStates(ctx, ids)
	if err != nil {
		return err
	}
	for k, st := range sts {
		w.memories[k] = &memory{RowState: st, baseline: baselines[k], was: store.Detail(st)}
	}
	said, err := w.tx.SetAsides(ctx, ids)
	if err != nil {
		return err
	}
	return gatherAsides(w.asides, said)
}

// loadWaiting locks a row's emails in some states, for its timelines.
func (w *work) loadWaiting(ctx context.Context, sb *cachedSheet, in []delivery.State, row int64) error {
	ds, err := w.tx.LockRowDeliveries(ctx, in, row)
	if err != nil {
		return err
	}
	for i := range ds {
		m, err := w.take(&ds[i])
		if err != nil {
			return err
		}
		if rb := sb.rule(ds[i].RuleID); rb == nil || rb.record.State == rule.Draft {
			if x, ok := plan.Orphan(m, reason.RuleGone); ok {
				if err := w.amend(ctx, nil, x); err != nil {
					return err
				}
			}
			continue
		}
		k := timelineKey{ds[i].RuleID, row}
		w.waiting[k] = append(w.waiting[k], m)
	}
	return nil
}

// email locks and gives an email of the ledger; nil where it is not there.
func (w *work) email(ctx context.Context, id int64) (*plan.Email, error) {
	if m, ok := w.emails[id]; ok {
		return m, nil
	}
	d, err := w.tx.LockDelivery(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		w.emails[id] = nil
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return w.take(d)
}

// take makes a locked delivery an email of the ledger, once.
func (w *work) take(d *store.Delivery) (*plan.Email, error) {
	if m := w.emails[d.ID]; m != nil {
		return m, nil
	}
	m, err := emailOf(d)
	if err != nil {
		return nil, err
	}
	w.emails[d.ID], w.records[m] = m, d
	return m, nil
}

// emailOf turns a delivery into what its timeline needs of it.
func emailOf(d *store.Delivery) (*plan.Email, error) {
	o, err := occasionOf(d)
	if err != nil {
		return nil, err
	}
	m := &plan.Email{Ref: d.ID, Occasion: *o, State: d.State, Why: d.Reason.Reason, At: d.DueAt, Single: true}
	m.FaultyColumn = d.FaultyColumn
	if d.WentAt != nil {
		m.WentAt = *d.WentAt
	}
	if d.FinishedAt != nil {
		m.FinishedAt = *d.FinishedAt
	}
	return m, nil
}

// occasionOf reads back the occasion that a delivery is about.
func occasionOf(d *store.Delivery) (*rule.Occasion, error) {
	var o rule.Occasion
	if err := json.Unmarshal([]byte(d.Origin), &o); err != nil {
		return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	return &o, o.Restore()
}

// prefetch asks the ledger once for all that a batch's due entries will judge.
func (w *work) prefetch(ctx context.Context, entries []store.Entry) error {
	var all []rule.Occasion
	for _, en := range entries {
		row := w.rows[en.RowID]
		if en.Kind != store.Due || row == nil || row.FirstEdit != nil {
			continue
		}
		sb, err := w.cache.sheet(ctx, en.SheetID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		rb := sb.rule(en.RuleID)
		if rb == nil {
			continue
		}
		core, err := row.Core(sb.sheet)
		if err != nil {
			return err
		}
		all = append(all, rb.compiled.Dates(core, rb.since(en.Known, 0), rb.since(en.Since, plan.Tick), w.now, nil)...)
	}
	w.ask(ctx, all)
	return w.failed
}

// ask learns which occasions the ledger knows, of those it has not been asked
// for yet.
func (w *work) ask(ctx context.Context, occ []rule.Occasion) {
	var keys [][]byte
	inherited := map[rule.ID]rule.ID{} // an occasion of the rule whose history one has, and its own
	for i := range occ {
		whole := occ[i].Whole()
		id := whole.Identity()
		if w.asked[id] {
			continue
		}
		w.asked[id] = true
		keys = append(keys, id[:])
		if from := w.cache.historyOf(whole.Rule); from != "" && whole.Base == "" {
			whole.Rule = from
			old := whole.Identity()
			keys = append(keys, old[:])
			inherited[old] = id
		}
	}
	if len(keys) == 0 {
		return
	}
	known, err := w.tx.Judged(ctx, keys)
	for id := range known {
		w.judged[id] = true
		if now, ok := inherited[id]; ok {
			w.judged[now] = true
		}
	}
	w.fail(err)
}

func (w *work) fail(err error) {
	if w.failed == nil {
		w.failed = err
	}
}

// since gives an instant up to which something is known, never before the
// rule's baseline less a bit.
func (rb *cachedRule) since(at *time.Time, less time.Duration) time.Time {
	base := rb.baseline().Add(-less)
	if at != nil && at.After(base) {
		return *at
	}
	return base
}

// timeline is a row's timeline by a rule, kept in the database.
type timeline struct {
	plan.Timeline
	w       *work
	ctx     context.Context
	sb      *cachedSheet
	rb      *cachedRule
	row     int64
	due     *store.Entry // the entry by which the rule looks at the row
	ran     bool         // up to now
	settled bool         // by this work
	memory  *memory
	facts   func(*plan.Email) string // of a round-up: the rows it is about
}

// timeline gives a row's timeline by a rule, each once; row is nil for round-ups, which
// are of no single row.
func (w *work) timeline(ctx context.Context, sb *cachedSheet, rb *cachedRule, row *store.Row) (*timeline, error) {
	k := timelineKey{rule: rb.record.ID}
	if row != nil {
		k.row = row.ID
	}
	if l := w.timelines[k]; l != nil {
		return l, nil
	}
	r := rb.record
	l := &timeline{w: w, ctx: ctx, sb: sb, rb: rb, row: k.row}
	l.CompiledRule, l.Ledger, l.On, l.Baseline = rb.compiled, l, r.State == rule.On, rb.baseline()
	l.Circumstances = plan.Circumstances{Now: w.now, Off: !w.sending.On, Released: r.ReleasedAt != nil,
		Looked: w.act.looked, Passed: w.act.passed, Restored: w.sending.Back.Until}
	if r.PausedAt != nil && r.ResumedAt != nil {
		l.PausedAt, l.ResumedAt = *r.PausedAt, *r.ResumedAt
	}
	l.Same = w.same
	w.timelines[k] = l
	w.order = append(w.order, l)
	if row == nil {
		return l, nil
	}
	l.ID, l.Deleted = store.RowID(row.ID), row.DeletedAt != nil
	l.memory = w.memory(rb, row.ID)
	l.RowState = l.memory.RowState
	var err error
	if l.Row, err = row.SettledCore(sb.sheet); err != nil {
		return nil, err
	}
	if row.SettledAt != nil {
		l.SettledAt = *row.SettledAt
	}
	if err := w.begin(ctx, l, row); err != nil {
		return nil, err
	}
	l.Waiting, l.Asides = w.waiting[k], plan.AsidesOf(w.asides[k])
	return l, w.foresee(ctx, l)
}

// begin sets since when a rule has looked at a row.
func (w *work) begin(ctx context.Context, l *timeline, row *store.Row) error {
	rb, sb := l.rb, l.sb
	l.Known, l.Since = rb.since(nil, 0), rb.judgedBy(row.ID, l.SettledAt, w.now)
	if row.FirstEdit != nil {
		l.First, l.SettlesAt = *row.FirstEdit, sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle)
		if before := l.First.Add(-plan.Tick); before.Before(l.Since) {
			l.Since = before
		}
	}
	if isSchedule := rb.compiled.Rule.Trigger.Kind == rule.Schedule; isSchedule {
		// A round that has not been taken yet takes the row as it is now, before
		// it settles anew.
		at, err := w.roundDue(ctx, sb.record.ID, rb.record.ID)
		if err != nil {
			return err
		}
		if !at.IsZero() && !at.After(l.Since) {
			l.Since = at.Add(-plan.Tick)
		}
		if l.SettledAt.After(l.Since) {
			l.Since = l.SettledAt
		}
	}
	if base := rb.since(nil, plan.Tick); l.Since.Before(base) {
		l.Since = base
	}
	return nil
}

// foresee gives a timeline what the agenda has of it.
func (w *work) foresee(ctx context.Context, l *timeline) error {
	for i := range w.entries[l.row] {
		en := &w.entries[l.row][i]
		if en.RuleID != l.rb.record.ID {
			continue
		}
		if en.Kind == store.Due {
			l.due, l.Since, l.Known = en, l.rb.since(en.Since, plan.Tick), l.rb.since(en.Known, 0)
			continue
		}
		p, err := w.pending(ctx, *en)
		if err != nil {
			return err
		}
		if p != nil {
			l.Coming = append(l.Coming, p)
		} else if !en.DueAt.After(w.now) {
			w.drop(en.ID) // what it was about is not there
		}
	}
	return nil
}

// roundDue gives the first round of a schedule that has not been taken by all
// rows; the zero time for none.
func (w *work) roundDue(ctx context.Context, sheetID, ruleID string) (time.Time, error) {
	if w.rounds[sheetID] == nil {
		found, err := w.tx.RoundsDue(ctx, sheetID)
		if err != nil {
			return time.Time{}, err
		}
		w.rounds[sheetID] = found
	}
	return w.rounds[sheetID][ruleID], nil
}

// pending turns an entry into something known to come; nil where it does not
// matter yet, or where what it is about is not there.
func (w *work) pending(ctx context.Context, en store.Entry) (*plan.Pending, error) {
	p := &plan.Pending{Ref: en.ID, Kind: plan.PendingKind(en.Kind), At: en.DueAt, First: en.DeliveryID}
	switch en.Kind {
	case store.Moved, store.Follow:
		o, err := originOf(en)
		if err != nil {
			return nil, err
		}
		p.Occasion = *o
	default:
		if en.DueAt.After(w.now) {
			return nil, nil
		}
		var err error
		if p.Hangs, err = w.email(ctx, en.DeliveryID); err != nil || p.Hangs == nil {
			return nil, err
		}
	}
	return p, nil
}

// originOf reads the occasion that an entry carries.
func originOf(en store.Entry) (*rule.Occasion, error) {
	var o rule.Occasion
	if err := json.Unmarshal([]byte(en.Origin), &o); err != nil {
		return nil, err
	}
	return &o, o.Restore()
}

// memory gives what a rule remembers of a row. What a newer baseline of the
// rule makes void is forgotten.
func (w *work) memory(rb *cachedRule, row int64) *memory {
	k := store.RowStateKey{RuleID: rb.record.ID, RowID: row}
	m := w.memories[k]
	if m == nil {
		m = &memory{RowState: &rule.RowState{}, baseline: rb.baseline()}
		w.memories[k] = m
	}
	if base := rb.baseline(); m.baseline.Before(base) {
		m.Baseline(base)
		m.baseline = base
	}
	m.Number = max(m.Number, int(rb.record.CountsFrom))
	if rb.compiled.Moving() && m.Looked.IsZero() {
		m.Looked = rb.baseline()
	}
	return m
}

// Ask implements plan.Ledger.
func (l *timeline) Ask(occ []rule.Occasion) { l.w.ask(l.ctx, occ) }

// Judged implements plan.Ledger.
func (l *timeline) Judged(o *rule.Occasion) bool {
	id := o.Identity()
	if !l.w.asked[id] {
		l.w.ask(l.ctx, []rule.Occasion{*o})
	}
	return l.w.judged[id]
}

// Enter implements plan.Ledger.
func (l *timeline) Enter(m *plan.Email) {
	for _, id := range []rule.ID{m.Identity(), m.WholeIdentity()} {
		l.w.judged[id], l.w.asked[id] = true, true
	}
}

// Last implements plan.Ledger.
func (l *timeline) Last() (time.Time, bool) {
	at, ok, err := l.w.tx.LastFirst(l.ctx, l.rb.record.ID, l.row)
	l.w.fail(err)
	if from := l.rb.record.HistoryOf; from != "" {
		before, had, err := l.w.tx.LastFirst(l.ctx, from, l.row)
		l.w.fail(err)
		if had && (!ok || before.After(at)) {
			return before, true
		}
	}
	return at, ok
}

// FirstOf implements plan.Ledger.
func (l *timeline) FirstOf(p *plan.Pending) *plan.Email {
	if p.Hangs != nil {
		return p.Hangs
	}
	if m := l.w.emails[p.First]; m != nil {
		return m
	}
	d, err := l.w.tx.Delivery(l.ctx, p.First)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		l.w.fail(err)
		return nil
	}
	m, err := emailOf(d)
	l.w.fail(err)
	return m
}

// wake writes the entry for when the rule must look at the row again.
func (l *timeline) wake() {
	if l.due == nil && !l.settled {
		return
	}
	at := l.Wake()
	switch {
	case !at.IsZero():
		since, known := l.Since, l.Known
		l.w.put(store.Entry{Kind: store.Due, DueAt: at, SheetID: l.sb.record.ID, RuleID: l.rb.record.ID, RowID: l.row,
			Since: &since, Known: &known, Generation: l.rb.record.Generation})
	case l.due != nil:
		l.w.drop(l.due.ID)
	}
}

// rowID reads the id of a row as the core has it.
func rowID(name string) (int64, error) {
	if name == "" {
		return 0, nil
	}
	return strconv.ParseInt(name, 10, 64)
}
