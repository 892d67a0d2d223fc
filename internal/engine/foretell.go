package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// maxForetold bounds the changed rows of which the consequences are calculated.
const maxForetold = 5000

// ForetoldFrom is how many rows a change may touch without being looked at
// before it is made.
const ForetoldFrom = 10

// foretellBatch is how many rows are worked out with one reading of the ledger.
const foretellBatch = 500

// Consequences is what a change of rows would set off, if it settled at once.
type Consequences struct {
	Rows    int // that change
	Looked  int // of these, the ones that were worked out
	Rules   []RuleConsequence
	Now     []EffectLine // the first emails that go or are held at once
	Coming  []EffectLine // the first that are new or no longer go in 60 days
	Settles time.Duration
}

// RuleConsequence is what a change sets off by one rule.
type RuleConsequence struct {
	ID, Letter, Name string
	Now, Held        int  // emails at once, and of these those that are held
	Incomplete       int  // that would go at once, and cannot
	Brake            bool // the brake would hold them
	New, Gone        int  // in the coming 60 days
}

// foreteller works out the consequences of a change that is then rolled back.
type foreteller struct {
	e     *Engine
	tx    *store.Store
	now   time.Time
	until time.Time
	out   Consequences
	by    map[string]*foretold
	batch []changedRow
	order []string
	rows  int // of the sheet
}

// foretold is what is counted of one rule.
type foretold struct {
	*RuleConsequence
	diff plan.Difference
}

// changedRow is a row as it settled last and as it would settle; nil is one that
// is not there.
type changedRow struct {
	rec   store.Row // as it is; its id is 0 for one that would be added
	after []byte
	cells bool // after holds cells
	gone  bool
}

func newForeteller(e *Engine, tx *store.Store, now time.Time, rec *store.Sheet) *foreteller {
	f := &foreteller{e: e, tx: tx, now: now, until: now.AddDate(0, 0, EffectDays), by: map[string]*foretold{},
		rows: int(rec.LiveRows)}
	f.out.Settles = time.Duration(rec.SettleSeconds) * time.Second
	return f
}

// take notes a row that the change would leave with other cells; deleted where
// it would not be there any more.
func (f *foreteller) take(ctx context.Context, sheetID string, rec store.Row, after []byte, deleted, gone bool) error {
	f.out.Rows++
	if f.out.Looked+len(f.batch) >= maxForetold {
		return nil
	}
	rec.SheetID = sheetID
	f.batch = append(f.batch, changedRow{rec: rec, after: after, cells: !deleted, gone: gone})
	if len(f.batch) >= foretellBatch {
		return f.work(ctx, sheetID)
	}
	return nil
}

// supposing is a timeline's ledger that supposes every first email that is on its way
// to be accepted. What waits for a person has no follow-ups until that person has
// decided.
type supposing struct{ *timeline }

// FirstOf implements plan.Ledger.
func (s supposing) FirstOf(p *plan.Pending) *plan.Email {
	m := s.timeline.FirstOf(p)
	if m == nil {
		return nil
	}
	switch m.State {
	case delivery.Queued, delivery.Claimed, delivery.Sending, delivery.Deferred:
		x := *m
		x.State = delivery.Accepted
		return &x
	case delivery.Held, delivery.Incomplete, delivery.InDoubt:
		return nil
	}
	return m
}

// work works the gathered rows out.
func (f *foreteller) work(ctx context.Context, sheetID string) error {
	batch := f.batch
	f.batch = nil
	if len(batch) == 0 {
		return nil
	}
	f.out.Looked += len(batch)
	before, err := f.load(ctx, sheetID, batch)
	if err != nil {
		return err
	}
	after, err := f.load(ctx, sheetID, batch)
	if err != nil {
		return err
	}
	sb, err := before.cache.sheet(ctx, sheetID)
	if err != nil {
		return err
	}
	if err := f.ask(ctx, sb, batch, before, after); err != nil {
		return err
	}
	for i := range batch {
		for _, rb := range sb.rules {
			if rb.record.State != rule.On {
				continue
			}
			if err := f.foretell(ctx, &batch[i], rb, before, after, int64(i)); err != nil {
				return err
			}
		}
	}
	return errors.Join(before.failed, after.failed)
}

func (f *foreteller) load(ctx context.Context, sheetID string, batch []changedRow) (*work, error) {
	w, err := newWork(ctx, f.e, f.tx, f.now, act{actor: "nivot", cause: delivery.Reviewing})
	if err != nil {
		return nil, err
	}
	rows := make([]*store.Row, len(batch))
	for i := range batch {
		row := batch[i].rec
		if row.ID == 0 {
			row.ID = -int64(i) - 1 // it is not there yet
		}
		if row.Settled != nil {
			row.Cells = row.Settled
		}
		row.FirstEdit, row.LastEdit, row.Settled = nil, nil, nil
		rows[i] = &row
	}
	if err := w.loadRows(ctx, rows); err != nil {
		return nil, err
	}
	sb, err := w.cache.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	for _, rb := range sb.rules {
		rb.compiled.Light = true
	}
	for _, row := range rows {
		if row.ID > 0 {
			if err := w.loadWaiting(ctx, sb, []delivery.State{delivery.Incomplete}, row.ID); err != nil {
				return nil, err
			}
		}
	}
	return w, nil
}

// ask asks the ledger once for all that the batch's dates come to.
func (f *foreteller) ask(ctx context.Context, sb *cachedSheet, batch []changedRow, works ...*work) error {
	var occ []rule.Occasion
	for i := range batch {
		was, is, err := batch[i].cores(sb.sheet, int64(i))
		if err != nil {
			return err
		}
		for _, rb := range sb.rules {
			for _, row := range []*sheet.Row{was, is} {
				if row != nil && rb.record.State == rule.On && !rb.compiled.IsRoundUp() {
					occ = append(occ, rb.compiled.Dates(row, f.now, f.now, f.until, nil)...)
				}
			}
		}
	}
	for _, w := range works {
		w.ask(ctx, occ)
	}
	return nil
}

// cores gives the row as it settled last and as it would settle.
func (c *changedRow) cores(s *sheet.Sheet, i int64) (was, is *sheet.Row, err error) {
	id := c.rec.ID
	if id == 0 {
		id = -i - 1
	}
	if c.rec.ID != 0 && c.rec.DeletedAt == nil && (c.rec.FirstEdit == nil || c.rec.Settled != nil) {
		if was, err = c.rec.SettledCore(s); err != nil {
			return nil, nil, err
		}
	}
	if c.cells {
		cells, err := s.Decode(c.after, nil)
		if err != nil {
			return nil, nil, err
		}
		is = &sheet.Row{ID: store.RowID(id), Number: c.rec.Number, Cells: cells, Gone: c.gone}
	}
	return was, is, nil
}

// foretell works out what one rule makes of one row's change.
func (f *foreteller) foretell(ctx context.Context, c *changedRow, rb *cachedRule, before, after *work, i int64) error {
	id := c.rec.ID
	if id == 0 {
		id = -i - 1
	}
	sb, err := before.cache.sheet(ctx, c.rec.SheetID)
	if err != nil {
		return err
	}
	was, is, err := c.cores(sb.sheet, i)
	if err != nil {
		return err
	}
	l, err := f.timelineOf(ctx, before, c.rec.SheetID, rb.record.ID, id, was)
	if err != nil {
		return err
	}
	if was != nil {
		l.Advance(f.until)
	}
	old, _ := f.emails(l, f.until)
	if l, err = f.timelineOf(ctx, after, c.rec.SheetID, rb.record.ID, id, was); err != nil {
		return err
	}
	if is != nil {
		l.Settle(is, f.now, f.now)
	} else {
		l.Remove(f.now)
	}
	now, rest := f.emails(l, f.now)
	if len(rest) > 0 {
		return errors.New("what settles at once looks ahead")
	}
	n := len(l.Effects)
	if is != nil {
		l.Advance(f.until)
	}
	l.Effects = l.Effects[n:]
	coming, _ := f.emails(l, f.until)
	t := f.of(rb)
	whole := func(row *sheet.Row) func() *sheet.Row {
		return func() *sheet.Row {
			if row == nil {
				return &sheet.Row{ID: store.RowID(id)}
			}
			return row
		}
	}
	f.note(t, now, whole(is)(), sb.sheet)
	t.diff.Look(plan.EventsOf(old), plan.EventsOf(coming), i, whole(was), whole(is))
	return nil
}

// timelineOf gives a row's timeline by a rule as it would be if the row were settled as it was and nothing
// were due yet.
func (f *foreteller) timelineOf(ctx context.Context, w *work, sheetID, ruleID string, row int64,
	was *sheet.Row) (*timeline, error) {
	sb, err := w.cache.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	l, err := w.timeline(ctx, sb, sb.rule(ruleID), w.rows[row])
	if err != nil {
		return nil, err
	}
	l.Ledger, l.Row, l.Deleted = supposing{l}, was, false
	l.Circumstances.Now, l.Nobody = time.Time{}, true
	l.First, l.Since = time.Time{}, f.now.Add(-plan.Tick)
	return l, nil
}

// note counts what goes now, and keeps the first of it.
func (f *foreteller) note(t *foretold, now []plan.Email, row *sheet.Row, of *sheet.Sheet) {
	for k := range now {
		m := &now[k]
		switch m.State {
		case delivery.Incomplete:
			t.Incomplete++
		case delivery.Held:
			t.Held++
			fallthrough
		case delivery.Queued:
			t.Now++
		default:
			continue
		}
		if len(f.out.Now) < maxFirst {
			f.out.Now = append(f.out.Now, EffectLine{plan.OutlookLine{Row: row, Due: f.now, Step: m.Step, Outcome: m.Outcome,
				Wording: m.Template, Emails: 1},
				plan.Foreseen{Occasion: m.Occasion, Decision: m.Decision}, of.RowName(row)})
		}
	}
}

// emails gives what has been written up to an instant, and what after it.
func (f *foreteller) emails(l *timeline, to time.Time) (out, rest []plan.Email) {
	for _, x := range l.Effects {
		if x.Kind != plan.Write && (x.Kind != plan.Amend || x.As.State == delivery.Incomplete) { // it was before
			continue
		}
		if x.As.At.After(to) {
			rest = append(rest, *x.As)
		} else {
			out = append(out, *x.As)
		}
	}
	return out, rest
}

func (f *foreteller) of(rb *cachedRule) *foretold {
	t := f.by[rb.record.ID]
	if t == nil {
		t = &foretold{RuleConsequence: &RuleConsequence{ID: rb.record.ID, Letter: rb.record.Letter, Name: rb.record.Name},
			diff: plan.Difference{Keep: maxFirst}}
		f.by[rb.record.ID] = t
		f.order = append(f.order, rb.record.ID)
	}
	return t
}

// done gives what it all comes to.
func (f *foreteller) done(ctx context.Context, sheetID string) (*Consequences, error) {
	if err := f.work(ctx, sheetID); err != nil {
		return nil, err
	}
	sb, err := newRuleCache(f.tx).sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	for _, id := range f.order {
		t := f.by[id]
		rb := sb.rule(id)
		if t.New, t.Gone = t.diff.New, t.diff.Gone; t.Now+t.New+t.Gone+t.Incomplete == 0 {
			continue
		}
		if rb.compiled.Rule.Trigger.Kind.Reaction() {
			t.Brake = rb.record.BrakedAt != nil || rb.compiled.Rule.Trips(t.Now, f.rows)
		}
		f.out.Rules = append(f.out.Rules, *t.RuleConsequence)
		rb.compiled.Light = true
		for _, l := range t.diff.Lines {
			f.out.Coming = append(f.out.Coming, EffectLine{l, rb.compiled.ForeseeOne(l.Row, f.now, l), sb.sheet.RowName(l.Row)})
		}
	}
	slices.SortStableFunc(f.out.Coming, func(a, b EffectLine) int { return a.OutlookLine.Due.Compare(b.OutlookLine.Due) })
	f.out.Coming = f.out.Coming[:min(len(f.out.Coming), maxFirst)]
	return &f.out, nil
}

// ForetellChange works out what a change of rows would set off, and changes
// nothing.
func (e *Engine) ForetellChange(ctx context.Context, sheetID string, ops []Op,
	by Author) (out *Consequences, err error) {
	if len(ops) > MaxOps {
		return nil, refuse("a change has at most %d steps; do it in parts", MaxOps)
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		c := &changer{e: e, tx: tx, by: by, meets: reportConflicts, rows: map[int64]*changing{}}
		if c.rec, err = tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		if c.w, err = newWork(ctx, e, tx, e.now(), act{actor: by.Name, cause: delivery.Reviewing}); err != nil {
			return err
		}
		if c.s, err = c.rec.Core(); err != nil {
			return err
		}
		if err := c.load(ctx, ops); err != nil {
			return err
		}
		f := newForeteller(e, tx, c.w.now, c.rec)
		were := map[int64]store.Row{}
		for id, r := range c.rows {
			were[id] = *r.row
		}
		for i := range ops {
			if err := c.do(ctx, ops[i]); err != nil {
				return &StepError{i, err}
			}
		}
		for _, r := range c.order {
			if !r.settles && !r.deleted && len(r.kinds) == 0 {
				continue
			}
			if err := f.take(ctx, sheetID, were[r.row.ID], sheet.Encode(r.core.Cells), r.deleted, r.row.Gone); err != nil {
				return err
			}
		}
		for _, a := range c.added {
			if a.row.ID == 0 {
				if err := f.take(ctx, sheetID, store.Row{Number: a.row.Number}, a.row.Cells, false, false); err != nil {
					return err
				}
			}
		}
		if out, err = f.done(ctx, sheetID); err != nil {
			return err
		}
		return errDry
	})
	if errors.Is(err, errDry) {
		err = nil
	}
	return out, err
}
