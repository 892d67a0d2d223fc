package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
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
	n := 0
	queued := false
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		entries, err := tx.ClaimAgenda(ctx, now, tickBatch)
		if err != nil {
			return err
		}
		n = len(entries)
		w := newWork(e, tx, now)
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

// work is one transaction's considering. What it decides is gathered and
// written at the end in few statements.
type work struct {
	e    *Engine
	tx   *store.Store
	book *book
	now  time.Time

	rows    map[int64]*store.Row
	entries map[int64][]store.Entry // what the agenda holds of settling rows
	done    map[int64]bool          // entries that need no look of their own any more

	put     []store.Entry
	drop    []int64
	written []*pendingDelivery
	changed []*store.Delivery // saved one by one
	events  []store.Event

	actor     string // who has it done
	approved  bool   // a person lets it go: nothing but the lever holds it
	past      bool   // what is recorded now was past at the baseline
	spared    bool   // what is recorded now was held: its late limit has stood still
	sendingOn *bool
	queued    bool
	asked     map[rule.ID]bool // occasions the ledger has been asked for
	judged    map[rule.ID]bool // those of them it knows

	standings map[store.StandingKey]*rule.Standing
	baselines map[store.StandingKey]time.Time
	loaded    map[int64]bool // rows whose standings have been loaded
	touched   map[store.StandingKey]*rule.Standing
	failed    error // the first error of a question that judging asked of the ledger
}

// pendingDelivery is a delivery to be written, with what hangs on it.
type pendingDelivery struct {
	*store.Delivery
	letter  *store.Letter
	rb      *ruleBook
	at      time.Time // the instant it was judged at
	occ     rule.Occasion
	first   bool // with each: the first mailbox
	follows bool // it goes: follow-ups come of it
	spared  bool // it was held: the late limit has stood still
}

func newWork(e *Engine, tx *store.Store, now time.Time) *work {
	return &work{e: e, tx: tx, book: newBook(tx), now: now, actor: "nivot", done: map[int64]bool{}, asked: map[rule.ID]bool{}, judged: map[rule.ID]bool{},
		standings: map[store.StandingKey]*rule.Standing{}, baselines: map[store.StandingKey]time.Time{}, loaded: map[int64]bool{},
		touched: map[store.StandingKey]*rule.Standing{}}
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
	for _, en := range entries {
		if en.Kind == store.Settle {
			if err := w.settle(ctx, en, w.rows[en.RowID]); err != nil {
				return err
			}
		}
	}
	for _, en := range entries {
		if w.done[en.ID] || en.Kind == store.Settle {
			continue
		}
		if err := w.one(ctx, en); err != nil {
			return fmt.Errorf("agenda entry %d (%s): %w", en.ID, en.Kind, err)
		}
	}
	return nil
}

func (w *work) one(ctx context.Context, en store.Entry) error {
	switch en.Kind {
	case store.Due:
		return w.due(ctx, en, w.rows[en.RowID])
	case store.Moved:
		return w.moved(ctx, en, w.rows[en.RowID])
	case store.Follow:
		return w.follow(ctx, en, w.rows[en.RowID])
	case store.RoundDue:
		return w.round(ctx, en)
	case store.Arm:
		return w.arm(ctx, en)
	}
	return w.review(ctx, en)
}

// load locks the batch's rows and reads at once what its judging will ask for.
func (w *work) load(ctx context.Context, entries []store.Entry) error {
	var ids, settling []int64
	seen := map[int64]bool{}
	for _, en := range entries {
		if en.RowID != 0 && !seen[en.RowID] {
			seen[en.RowID] = true
			ids = append(ids, en.RowID)
		}
		if en.Kind == store.Settle {
			settling = append(settling, en.RowID)
		}
	}
	var err error
	if w.rows, err = w.tx.LockRowsIn(ctx, ids); err != nil {
		return err
	}
	if w.entries, err = w.tx.RowEntries(ctx, settling...); err != nil {
		return err
	}
	if err := w.loadStandings(ctx, ids); err != nil {
		return err
	}
	return w.prefetch(ctx, entries)
}

// prefetch asks the ledger once for all that a batch's due entries will judge.
func (w *work) prefetch(ctx context.Context, entries []store.Entry) error {
	var all []rule.Occasion
	for _, en := range entries {
		row := w.rows[en.RowID]
		if en.Kind != store.Due || row == nil || row.FirstEdit != nil {
			continue
		}
		sb, rb, err := w.find(ctx, en)
		if err != nil {
			return err
		}
		if rb == nil {
			continue
		}
		core, err := row.Core(sb.sheet)
		if err != nil {
			return err
		}
		all = append(all, rb.setting.Dates(core, w.known(en.Known, rb), w.since(en.Since, rb), w.now, nil)...)
	}
	return w.ask(ctx, all)
}

// ask learns which occasions the ledger knows, of those it has not been asked
// for yet.
func (w *work) ask(ctx context.Context, occ []rule.Occasion) error {
	var keys [][]byte
	for i := range occ {
		whole := occ[i].Whole()
		if id := whole.Identity(); !w.asked[id] {
			w.asked[id] = true
			keys = append(keys, id[:])
		}
	}
	known, err := w.tx.Judged(ctx, keys)
	for id := range known {
		w.judged[id] = true
	}
	return err
}

func (w *work) find(ctx context.Context, en store.Entry) (*sheetBook, *ruleBook, error) {
	sb, err := w.book.sheet(ctx, en.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	return sb, sb.rule(en.RuleID), nil
}

// since is up to where a rule's occasions have been judged: what the entry
// says, never before the rule's baseline.
func (w *work) since(known *time.Time, rb *ruleBook) time.Time {
	base := rb.baseline().Add(-plan.Tick)
	if known != nil && known.After(base) {
		return *known
	}
	return base
}

// known is since when a row's date has been known: what the entry says, never
// before the rule's baseline.
func (w *work) known(known *time.Time, rb *ruleBook) time.Time {
	if base := rb.baseline(); known == nil || known.Before(base) {
		return base
	}
	return *known
}

// due judges what of one rule has fallen due on one row, and looks at what may
// have turned by itself.
func (w *work) due(ctx context.Context, en store.Entry, row *store.Row) error {
	sb, rb, err := w.find(ctx, en)
	if err != nil {
		return err
	}
	if rb == nil || rb.record.State != rule.On || row == nil || row.DeletedAt != nil {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	since, known := w.since(en.Since, rb), w.known(en.Known, rb)
	at := w.now
	if row.FirstEdit != nil {
		// Up to the first unsettled edit the row was as it last settled; from
		// then on its occasions wait until it settles.
		at = row.FirstEdit.Add(-plan.Tick)
	}
	core, err := row.SettledCore(sb.sheet)
	if err != nil {
		return err
	}
	if core != nil && at.After(since) {
		if err := w.advance(ctx, sb, rb, row, core, known, since, at); err != nil {
			return err
		}
		since = at
	}
	if row.FirstEdit != nil {
		en.DueAt, en.Since = sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle), &since
		w.put = append(w.put, en)
		return nil
	}
	w.next(sb, rb, core, en.RowID, known, since, en.ID)
	return nil
}

// advance judges what falls due on a settled row, and what turns by itself.
func (w *work) advance(ctx context.Context, sb *sheetBook, rb *ruleBook, row *store.Row, core *sheet.Row, known, since, to time.Time) error {
	for rb.setting.Moving() {
		look := rb.setting.Next(core, known, since)
		if look.IsZero() || look.After(to) {
			return nil
		}
		st := w.standing(rb, row.ID)
		o, fires := rb.setting.Settle(core, core, look, st)
		w.touch(rb, row.ID, st)
		if fires {
			if err := w.react(ctx, sb, rb, core, o, look); err != nil {
				return err
			}
		}
		since = look
	}
	return w.judge(ctx, sb, rb, core, known, since, to, time.Time{})
}

// next writes the entry for when the rule must look at the row again; old is
// the id of the one there is, or 0.
func (w *work) next(sb *sheetBook, rb *ruleBook, row *sheet.Row, rowID int64, known, since time.Time, old int64) {
	next := time.Time{}
	if rb.record.State == rule.On {
		next = rb.setting.Next(row, known, since)
	}
	if !next.IsZero() {
		w.put = append(w.put, store.Entry{Kind: store.Due, DueAt: next, SheetID: sb.record.ID, RuleID: rb.record.ID, RowID: rowID, Since: &since, Known: &known})
	} else if old != 0 {
		w.drop = append(w.drop, old)
	}
}

// judge considers a row's dates, due after since and not after to, each at its
// instant, or all at the instant the row settles. Occasions that the ledger
// knows, or that this transaction is about to write, take no part.
func (w *work) judge(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, known, since, to, settles time.Time) error {
	if rb.record.State != rule.On || rb.setting.IsRoundUp() {
		return nil
	}
	occ := rb.setting.Dates(row, known, since, to, nil)
	if len(occ) == 0 {
		return nil
	}
	if err := w.ask(ctx, occ); err != nil {
		return err
	}
	// Marked anew without those that are known already.
	for _, o := range rb.setting.Dates(row, known, since, to, func(id rule.ID) bool { return w.judged[id] }) {
		if w.judged[o.Identity()] {
			continue
		}
		at := o.Due
		if !settles.IsZero() {
			at = settles
		}
		if err := w.take(ctx, sb, rb, row, o, at); err != nil {
			return err
		}
	}
	return nil
}

// take judges an occasion and gathers what becomes of it. A schedule says
// nothing of rows for which its condition is false.
func (w *work) take(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, o rule.Occasion, at time.Time) error {
	m := w.memory(ctx, rb, row)
	if o.Kind == rule.Schedule && o.Base == "" && !rb.setting.Concerns(row, at, m) {
		return nil
	}
	for i, c := range rb.setting.Judge(o, row, at, m) {
		if err := w.record(ctx, sb, rb, row, c, i == 0); err != nil {
			return err
		}
	}
	return w.failed
}

// react takes up a reaction: now, or when the window opens. A paused rule has
// counted it, and nothing falls due.
func (w *work) react(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, o rule.Occasion, at time.Time) error {
	if rb.record.State != rule.On {
		return nil
	}
	if !o.Due.After(at) {
		return w.take(ctx, sb, rb, row, o, at)
	}
	id, err := strconv.ParseInt(row.ID, 10, 64)
	if err != nil {
		return err
	}
	w.put = append(w.put, store.Entry{Kind: store.Moved, DueAt: o.Due, SheetID: sb.record.ID, RuleID: rb.record.ID, RowID: id, Nr: int64(o.N), Origin: store.Detail(o)})
	return nil
}

// record gathers the delivery of an occasion that has been judged.
func (w *work) record(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, c plan.Considered, first bool) error {
	id, whole := c.Identity(), c.Occasion.Whole()
	wid := whole.Identity()
	if w.judged[id] && c.Mailbox == "" {
		return nil
	}
	w.judged[id], w.judged[wid], w.asked[id], w.asked[wid] = true, true, true, true
	rowID := int64(0)
	if row != nil && c.Row != "" {
		n, err := strconv.ParseInt(row.ID, 10, 64)
		if err != nil {
			return err
		}
		rowID = n
	}
	origin, err := json.Marshal(c.Occasion)
	if err != nil {
		return err
	}
	d := &store.Delivery{Occasion: id[:], SheetID: sb.record.ID, RuleID: rb.record.ID, RowID: rowID, Step: c.Step, Reaction: c.Kind.Reaction() && c.Base == "" && !w.past,
		SenderID: sb.record.SenderID, DueAt: c.Due, JudgedAt: w.now, Origin: string(origin), Facts: rb.factsOf(row, c.At), Attempt: 1}
	if wid != id {
		d.Base = wid[:]
	}
	p := &pendingDelivery{Delivery: d, rb: rb, at: c.At, occ: c.Occasion, first: first, spared: w.spared}
	if err := w.decide(ctx, p, sb, c.Verdict); err != nil {
		return err
	}
	w.written = append(w.written, p)
	return nil
}

// decide puts a verdict into a delivery, with its letter where one goes.
func (w *work) decide(ctx context.Context, p *pendingDelivery, sb *sheetBook, v plan.Verdict) error {
	d := p.Delivery
	d.Reason, d.Blame, d.TemplateID, d.Subject = v.Reason, v.Blame, v.Template, v.Subject
	d.Recipients, d.ReplyTo = recipientsOf(v), lines(v.ReplyTo)
	wentAt := &p.at
	if p.spared && d.WentAt != nil {
		wentAt = d.WentAt // it counts from when it was held
	}
	d.NextTry, d.FinishedAt, d.Worker, d.WentAt = nil, nil, nil, nil
	p.letter, p.follows = nil, false
	switch {
	case v.Outcome == plan.Skip:
		d.State = delivery.Skipped
		return nil
	case !p.spared && w.now.After(p.rb.setting.Late(d.DueAt)):
		d.State, d.Reason = delivery.Missed, "was due at "+d.DueAt.In(sb.sheet.Zone).Format("Mon 2 Jan 15:04")+
			", could not go then, and the late limit has passed"
		return nil
	case v.Outcome == plan.Incomplete:
		d.State = delivery.Incomplete
		return nil
	}
	hold, err := w.holds(ctx, p, v)
	if err != nil {
		return err
	}
	d.WentAt, p.follows = wentAt, true
	p.letter = &store.Letter{HTML: v.HTML, Text: v.Text}
	if hold != "" {
		d.State, d.Reason = delivery.Held, hold
		return nil
	}
	d.State, d.NextTry = delivery.Queued, &w.now
	w.queued = true
	return nil
}

// holds says why an email is held, or "".
func (w *work) holds(ctx context.Context, p *pendingDelivery, v plan.Verdict) (string, error) {
	on, err := w.sending(ctx)
	switch {
	case err != nil:
		return "", err
	case w.past: // even while sending is off: switching it on must not let it go
		return heldPast, nil
	case !on:
		return heldOff, nil
	case w.approved:
		return "", nil
	case v.Outcome == plan.Hold:
		return heldAsks, nil
	case p.rb.setting.Rule.Hold == rule.HoldFirstRun && p.rb.record.ReleasedAt == nil:
		return heldFirst, nil
	}
	return "", nil
}

// Why emails are held.
const (
	heldOff    = "all sending is switched off"
	heldAsks   = "the rule asks first"
	heldFirst  = "the rule's first run waits to be looked through"
	heldWindow = "mended, and waits for its send window"
	heldPast   = "was past when the rule was switched on"
	heldBrake  = "the brake holds the rule: more emails at once than expected"
)

func (w *work) sending(ctx context.Context) (bool, error) {
	if w.sendingOn == nil {
		on, err := w.tx.SendingOn(ctx)
		if err != nil {
			return false, err
		}
		w.sendingOn = &on
	}
	return *w.sendingOn, nil
}

// brake counts each rule's emails from reactions, all that fall due at one
// instant before any is decided, and holds what is more than expected.
func (w *work) brake(ctx context.Context) error {
	by := map[*ruleBook][]*pendingDelivery{}
	var order []*ruleBook
	for _, p := range w.written {
		if p.Reaction && p.follows {
			if by[p.rb] == nil {
				order = append(order, p.rb)
			}
			by[p.rb] = append(by[p.rb], p)
		}
	}
	for _, rb := range order {
		if err := w.brakeRule(ctx, rb, by[rb]); err != nil {
			return err
		}
	}
	return nil
}

func (w *work) brakeRule(ctx context.Context, rb *ruleBook, ps []*pendingDelivery) error {
	rec, err := w.tx.LockRule(ctx, rb.record.ID) // one process counts at a time
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	rows, err := w.tx.CountRows(ctx, rb.record.SheetID)
	if err != nil {
		return err
	}
	sort.SliceStable(ps, func(i, j int) bool { return ps[i].at.Before(ps[j].at) })
	braked := rec.BrakedAt
	for i := 0; i < len(ps); {
		at, j := ps[i].at, i
		for j < len(ps) && ps[j].at.Equal(at) {
			j++
		}
		if braked == nil {
			n, err := w.tx.CountReactions(ctx, rec.ID, at.Add(-rule.BrakeSpan), at)
			if err != nil {
				return err
			}
			for _, p := range ps[:j] {
				if at.Sub(p.at) <= rule.BrakeSpan {
					n++
				}
			}
			if rb.setting.Rule.Trips(n, int(rows)) {
				braked = &at
			}
		}
		for _, p := range ps[i:j] {
			if braked != nil && p.State == delivery.Queued {
				p.State, p.Reason, p.NextTry = delivery.Held, heldBrake, nil
			}
		}
		i = j
	}
	if braked != rec.BrakedAt {
		rec.BrakedAt = braked
		w.events = append(w.events, store.Event{At: w.now, Actor: "nivot", Kind: store.EventRuleState, SheetID: rec.SheetID, RuleID: rec.ID,
			Detail: store.Detail(map[string]any{"braked": braked})})
		return w.tx.SaveBrake(ctx, rec.ID, braked)
	}
	return nil
}

// flush writes what has been gathered.
func (w *work) flush(ctx context.Context) error {
	if err := w.brake(ctx); err != nil {
		return err
	}
	if err := w.saveStandings(ctx); err != nil {
		return err
	}
	slices.Sort(w.drop)
	if err := w.tx.DropEntries(ctx, slices.Compact(w.drop)); err != nil {
		return err
	}
	if err := w.tx.PutEntries(ctx, w.put); err != nil {
		return err
	}
	ds := make([]*store.Delivery, len(w.written))
	for i, p := range w.written {
		ds[i] = p.Delivery
	}
	if err := w.tx.InsertDeliveries(ctx, ds); err != nil {
		return err
	}
	var letters []store.Letter
	var after []store.Entry
	for _, p := range w.written {
		if p.ID == 0 {
			continue // another process has written this occasion
		}
		w.events = append(w.events, store.DeliveryEvent(p.Delivery, w.now, w.actor, map[string]any{"reason": p.Reason}))
		if p.letter != nil {
			p.letter.DeliveryID = p.ID
			letters = append(letters, *p.letter)
		}
		after = append(after, w.hangsOn(p)...)
	}
	if err := w.tx.InsertLetters(ctx, letters); err != nil {
		return err
	}
	if err := w.tx.PutEntries(ctx, after); err != nil {
		return err
	}
	for _, d := range w.changed {
		if err := w.tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
	}
	return w.tx.AddEvents(ctx, w.events...)
}

// hangsOn gives the entries that hang on a delivery: its late limit while it is
// incomplete, and the follow-ups of one that goes.
func (w *work) hangsOn(p *pendingDelivery) []store.Entry {
	if p.State == delivery.Incomplete {
		return []store.Entry{{Kind: store.Late, DueAt: p.rb.setting.Late(p.DueAt).Add(plan.Tick), SheetID: p.SheetID, DeliveryID: p.ID}}
	}
	if !p.follows {
		return nil
	}
	var out []store.Entry
	for _, f := range p.rb.setting.FollowUps(&p.occ, p.first, p.at) {
		out = append(out, followEntry(p.Delivery, f))
	}
	return out
}

// followEntry is the agenda entry of a follow-up of a first email.
func followEntry(d *store.Delivery, f rule.Occasion) store.Entry {
	return store.Entry{Kind: store.Follow, DueAt: f.Due, SheetID: d.SheetID, RuleID: d.RuleID, RowID: d.RowID, DeliveryID: d.ID,
		Nr: int64(f.Step)*1_000_000 + int64(f.Again), Origin: store.Detail(f)}
}
