package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
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
	due, err := e.Store.HasDueAgenda(ctx, now)
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
		w := &work{e: e, tx: tx, book: newBook(tx), now: now}
		if err := w.consider(ctx, entries); err != nil {
			return err
		}
		queued = w.queued
		return w.flush(ctx)
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

	put        []store.Entry
	drop       []int64
	deliveries []*store.Delivery
	letters    []*store.Letter // beside deliveries; nil where there is none
	lates      []time.Duration
	changed    []*store.Delivery // saved one by one
	events     []store.Event
	sendingOn  *bool
	queued     bool
	asked      map[rule.ID]bool // identities the ledger has been asked for
	judged     map[rule.ID]bool // those of them it holds
}

func (w *work) consider(ctx context.Context, entries []store.Entry) error {
	var ids []int64
	seen := map[int64]bool{}
	for _, en := range entries {
		if en.RowID != 0 && !seen[en.RowID] {
			seen[en.RowID] = true
			ids = append(ids, en.RowID)
		}
	}
	rows, err := w.tx.LockRowsIn(ctx, ids)
	if err != nil {
		return err
	}
	// What settles comes before what is due: it judges for all rules of its
	// row, whose entries then need no look of their own.
	settled := map[int64]bool{}
	if err := w.prefetch(ctx, entries, rows); err != nil {
		return err
	}
	for _, en := range entries {
		if en.Kind != store.Settle {
			continue
		}
		done, err := w.settle(ctx, en, rows[en.RowID])
		if err != nil {
			return err
		}
		settled[en.RowID] = done
	}
	for _, en := range entries {
		switch {
		case en.Kind == store.Due && !settled[en.RowID]:
			err = w.due(ctx, en, rows[en.RowID])
		case en.Kind == store.Arm:
			err = w.arm(ctx, en)
		case en.Kind == store.Late || en.Kind == store.Review:
			err = w.review(ctx, en)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// due judges what of one rule has fallen due on one row.
func (w *work) due(ctx context.Context, en store.Entry, row *store.Row) error {
	sb, rb, err := w.find(ctx, en)
	if err != nil {
		return err
	}
	if rb == nil || rb.record.State != rule.On || row == nil || row.DeletedAt != nil {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	since := w.since(en.Since, rb)
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
		if err := w.judge(ctx, sb, rb, core, plan.Window{Since: since, At: at}, false); err != nil {
			return err
		}
		since = at
	}
	if row.FirstEdit != nil {
		en.DueAt, en.Since = sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle), &since
		w.put = append(w.put, en)
		return nil
	}
	w.next(sb, rb, core, en.RowID, since, &en)
	return nil
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
	base := time.Time{}
	if rb.record.BaselineAt != nil {
		base = rb.record.BaselineAt.Add(-plan.Tick)
	}
	if known != nil && known.After(base) {
		return *known
	}
	return base
}

// next writes the entry for when the rule must look at the row again.
func (w *work) next(sb *sheetBook, rb *ruleBook, row *sheet.Row, rowID int64, since time.Time, old *store.Entry) {
	next := rb.setting.Next(row, since)
	if !next.IsZero() {
		w.put = append(w.put, store.Entry{Kind: store.Due, DueAt: next, SheetID: sb.record.ID, RuleID: rb.record.ID, RowID: rowID, Since: &since})
	} else if old != nil && old.ID != 0 {
		w.drop = append(w.drop, old.ID)
	}
}

// settle lets a row's edits count: the rules judge what has waited, and what
// was incomplete is judged again. done says that the row has settled.
func (w *work) settle(ctx context.Context, en store.Entry, row *store.Row) (done bool, err error) {
	if row == nil || row.FirstEdit == nil || row.DeletedAt != nil {
		w.drop = append(w.drop, en.ID)
		return false, nil
	}
	sb, err := w.book.sheet(ctx, row.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		w.drop = append(w.drop, en.ID)
		return false, nil
	}
	if err != nil {
		return false, err
	}
	first, at := *row.FirstEdit, sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, sb.sheet.Settle)
	if at.After(w.now) {
		en.DueAt = at
		w.put = append(w.put, en)
		return false, nil
	}
	before, err := row.SettledCore(sb.sheet)
	if err != nil {
		return false, err
	}
	cur, err := row.Core(sb.sheet)
	if err != nil {
		return false, err
	}
	if err := w.mend(ctx, sb, row.ID, cur, at); err != nil {
		return false, err
	}
	entries, err := w.tx.RowEntries(ctx, row.ID)
	if err != nil {
		return false, err
	}
	for _, rb := range sb.rules {
		if rb.record.State != rule.On {
			continue
		}
		if err := w.settleRule(ctx, sb, rb, row, before, cur, entries, first, at); err != nil {
			return false, err
		}
	}
	row.Settled, row.FirstEdit, row.LastEdit, row.SettledAt = nil, nil, nil, &at
	w.drop = append(w.drop, en.ID)
	return true, w.tx.SaveRow(ctx, row)
}

func (w *work) settleRule(ctx context.Context, sb *sheetBook, rb *ruleBook, row *store.Row, before, cur *sheet.Row,
	entries map[string]store.Entry, first, at time.Time) error {
	en, has := entries[rb.record.ID]
	beforeFirst := first.Add(-plan.Tick)
	since := w.since(&beforeFirst, rb)
	if has || rb.record.ArmingAfter != nil && *rb.record.ArmingAfter < row.ID {
		since = w.since(en.Since, rb)
	}
	var was value.Value
	if before != nil {
		was = rb.setting.Anchor(before)
		if beforeFirst.After(since) {
			if err := w.judge(ctx, sb, rb, before, plan.Window{Since: since, At: beforeFirst}, false); err != nil {
				return err
			}
			since = beforeFirst
		}
	}
	win := plan.SettleWindow(since, first, at, was, rb.setting.Anchor(cur))
	win.Since = w.since(&win.Since, rb)
	if err := w.judge(ctx, sb, rb, cur, win, true); err != nil {
		return err
	}
	w.next(sb, rb, cur, row.ID, at, &en)
	return nil
}

// judge considers a row's occasions in a window and gathers what becomes of
// them. Identities that the ledger holds, or that this transaction is about
// to write, take no part.
func (w *work) judge(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, win plan.Window, waited bool) error {
	s := rb.setting
	occ := s.Rule.Due(row.ID, s.Anchor(row), s.Env(), win.Since, win.At, nil)
	if len(occ) == 0 {
		return nil
	}
	if err := w.ask(ctx, occ); err != nil {
		return err
	}
	for _, c := range s.Consider(row, win, waited, func(id rule.ID) bool { return w.judged[id] }) {
		w.judged[c.Identity()] = true
		if err := w.record(ctx, sb, rb, row, c); err != nil {
			return err
		}
	}
	return nil
}

// ask learns which occasions the ledger holds, of those it has not been asked
// for yet.
func (w *work) ask(ctx context.Context, occ []rule.Occasion) error {
	if w.asked == nil {
		w.asked, w.judged = map[rule.ID]bool{}, map[rule.ID]bool{}
	}
	var keys [][]byte
	for i := range occ {
		if id := occ[i].Identity(); !w.asked[id] {
			w.asked[id] = true
			keys = append(keys, id[:])
		}
	}
	held, err := w.tx.Judged(ctx, keys)
	for id := range held {
		w.judged[id] = true
	}
	return err
}

// prefetch asks the ledger once for all that a batch's due entries will judge.
func (w *work) prefetch(ctx context.Context, entries []store.Entry, rows map[int64]*store.Row) error {
	var all []rule.Occasion
	for _, en := range entries {
		row := rows[en.RowID]
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
		all = append(all, rb.setting.Rule.Due(core.ID, rb.setting.Anchor(core), rb.setting.Env(), w.since(en.Since, rb), w.now, nil)...)
	}
	return w.ask(ctx, all)
}

// record gathers the delivery of an occasion that has been judged.
func (w *work) record(ctx context.Context, sb *sheetBook, rb *ruleBook, row *sheet.Row, c plan.Considered) error {
	id := c.Identity()
	rowID, err := strconv.ParseInt(row.ID, 10, 64)
	if err != nil {
		return err
	}
	origin, err := json.Marshal(c.Occasion)
	if err != nil {
		return err
	}
	d := &store.Delivery{Occasion: id[:], SheetID: sb.record.ID, RuleID: rb.record.ID, RowID: rowID, SenderID: sb.record.SenderID,
		DueAt: c.Due, JudgedAt: w.now, Origin: string(origin), Attempt: 1}
	late, err := rb.setting.Rule.LateLimit()
	if err != nil {
		return err
	}
	l, err := w.decide(ctx, d, sb, row, c.Verdict, w.now.After(c.Due.Add(late)))
	if err != nil {
		return err
	}
	w.deliveries, w.letters, w.lates = append(w.deliveries, d), append(w.letters, l), append(w.lates, late)
	return nil
}

// decide puts a verdict into a delivery and gives its letter where one goes.
func (w *work) decide(ctx context.Context, d *store.Delivery, sb *sheetBook, row *sheet.Row, v plan.Verdict, tooLate bool) (*store.Letter, error) {
	d.Reason, d.Blame, d.TemplateID, d.Subject = v.Reason, v.Blame, v.Template, v.Subject
	d.Facts = factsOf(sb.sheet, row)
	d.Recipients, d.ReplyTo = recipientsOf(v), lines(v.ReplyTo)
	d.NextTry, d.FinishedAt, d.Worker = nil, nil, nil
	switch {
	case v.Outcome == plan.Skip:
		d.State = delivery.Skipped
	case tooLate:
		d.State, d.Reason = delivery.Missed, "was due at "+d.DueAt.In(sb.sheet.Zone).Format("Mon 2 Jan 15:04")+
			", could not go then, and the late limit has passed"
		return nil, nil
	case v.Outcome == plan.Incomplete:
		d.State = delivery.Incomplete
	default:
		on, err := w.sending(ctx)
		if err != nil {
			return nil, err
		}
		if !on {
			d.State, d.Reason = delivery.Held, heldOff
			return nil, nil
		}
		d.State, d.NextTry = delivery.Queued, &w.now
		w.queued = true
		return &store.Letter{HTML: v.HTML, Text: v.Text}, nil
	}
	return nil, nil
}

// heldOff is the reason of what fell due while the lever was off.
const heldOff = "all sending is switched off"

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

// fact is one cell of a row as it was.
type fact struct {
	Column string `json:"column"`
	Name   string `json:"name"`
	Value  string `json:"value"`
}

func factsOf(s *sheet.Sheet, row *sheet.Row) string {
	out := make([]fact, 0, len(s.Columns))
	for i := range s.Columns {
		c := &s.Columns[i]
		out = append(out, fact{c.ID, c.Name, s.Show(c, row.Cell(c))})
	}
	return store.Detail(out)
}

func recipientsOf(v plan.Verdict) string {
	out := []store.Recipient{}
	for _, l := range []struct {
		role  string
		boxes []value.Mailbox
	}{{"to", v.To}, {"cc", v.Cc}, {"bcc", v.Bcc}} {
		for _, m := range l.boxes {
			out = append(out, store.Recipient{Role: l.role, Mailbox: m.String(), Address: m.ASCII()})
		}
	}
	return store.Detail(out)
}

func lines(boxes []value.Mailbox) string {
	var out []string
	for _, m := range boxes {
		out = append(out, m.String())
	}
	return strings.Join(out, "\n")
}

// mend judges the row's incomplete emails again.
func (w *work) mend(ctx context.Context, sb *sheetBook, rowID int64, row *sheet.Row, at time.Time) error {
	waiting, err := w.tx.LockRowDeliveries(ctx, rowID, delivery.Incomplete)
	if err != nil {
		return err
	}
	for i := range waiting {
		if err := w.again(ctx, sb, &waiting[i], row, at); err != nil {
			return err
		}
	}
	return nil
}

// again judges a delivery that waited once more, on the row as it is now.
func (w *work) again(ctx context.Context, sb *sheetBook, d *store.Delivery, row *sheet.Row, at time.Time) error {
	rb := sb.rule(d.RuleID)
	if rb == nil {
		return w.end(d, delivery.Skipped, "the rule is not there any more")
	}
	occ, err := occasionOf(d)
	if err != nil {
		return err
	}
	late, err := rb.setting.Rule.LateLimit()
	if err != nil {
		return err
	}
	v, done := rb.setting.Mend(occ, row, at)
	if !done && !at.After(d.DueAt.Add(late)) && d.State == delivery.Incomplete {
		d.Reason, d.Blame = v.Reason, v.Blame
		w.changed = append(w.changed, d)
		return nil
	}
	l, err := w.decide(ctx, d, sb, row, v, at.After(d.DueAt.Add(late)))
	if err != nil {
		return err
	}
	if l != nil {
		l.DeliveryID = d.ID
		if err := w.tx.PutLetter(ctx, l); err != nil {
			return err
		}
	}
	w.changed = append(w.changed, d)
	w.events = append(w.events, store.DeliveryEvent(d, w.now, "nivot", map[string]any{"reason": d.Reason, "again": true}))
	return nil
}

func (w *work) end(d *store.Delivery, st delivery.State, reason string) error {
	if !delivery.Can(d.State, st) {
		return fmt.Errorf("an email that is %s cannot become %s", d.State, st)
	}
	d.State, d.Reason, d.NextTry = st, reason, nil
	w.changed = append(w.changed, d)
	w.events = append(w.events, store.DeliveryEvent(d, w.now, "nivot", map[string]any{"reason": reason}))
	return nil
}

// occasionOf reads back the occasion that a delivery is about.
func occasionOf(d *store.Delivery) (*rule.Occasion, error) {
	var o rule.Occasion
	if err := json.Unmarshal([]byte(d.Origin), &o); err != nil {
		return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	if strings.Contains(o.AnchorText, "T") {
		m, err := value.ParseMoment(o.AnchorText, value.YearMonthDay, nil)
		o.Anchor = m
		return &o, err
	}
	day, err := value.ParseDay(o.AnchorText, value.YearMonthDay)
	o.Anchor = value.Wall{Day: day}
	return &o, err
}

// review looks at a delivery that waited: its late limit has passed, or what
// held it is gone.
func (w *work) review(ctx context.Context, en store.Entry) error {
	w.drop = append(w.drop, en.ID)
	d, err := w.tx.LockDelivery(ctx, en.DeliveryID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil || d.State != delivery.Incomplete && !(d.State == delivery.Held && d.Reason == heldOff) {
		return err
	}
	if en.Kind == store.Late && d.State == delivery.Held {
		return nil // the late limit stands still while it is held
	}
	sb, err := w.book.sheet(ctx, d.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		return w.end(d, delivery.Skipped, "the sheet is not there any more")
	}
	if err != nil {
		return err
	}
	rec, err := w.tx.Row(ctx, d.RowID)
	if err != nil {
		return err
	}
	if rec.DeletedAt != nil {
		return w.end(d, delivery.Skipped, "row deleted")
	}
	row, err := rec.SettledCore(sb.sheet)
	if err != nil {
		return err
	}
	if row == nil {
		row = &sheet.Row{ID: store.RowID(rec.ID), Number: rec.Number}
	}
	if en.Kind == store.Late {
		return w.missed(sb, d, row)
	}
	return w.again(ctx, sb, d, row, w.now)
}

func (w *work) missed(sb *sheetBook, d *store.Delivery, row *sheet.Row) error {
	if rb := sb.rule(d.RuleID); rb != nil {
		if occ, err := occasionOf(d); err == nil && !rb.setting.Stands(occ, row) {
			return w.end(d, delivery.Skipped, "the date it hung on has been moved")
		}
	}
	return w.end(d, delivery.Missed, "was not mended within the late limit: "+d.Reason)
}

// arm computes the entries of a batch of rows for a rule that has been
// switched on, and comes back for the rest.
func (w *work) arm(ctx context.Context, en store.Entry) error {
	rec, err := w.tx.LockRule(ctx, en.RuleID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (rec.State != rule.On || rec.ArmingAfter == nil) {
		w.drop = append(w.drop, en.ID)
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
		w.drop = append(w.drop, en.ID)
		return nil
	}
	rows, err := w.tx.LockRowsAfter(ctx, rec.SheetID, *rec.ArmingAfter, armBatch)
	if err != nil {
		return err
	}
	var put []store.Entry
	for i := range rows {
		row, err := rows[i].SettledCore(sb.sheet)
		if err != nil {
			return err
		}
		if row == nil {
			continue // it is considered when it first settles
		}
		since := w.since(en.Since, rb)
		if at := rows[i].SettledAt; at != nil && at.After(since) {
			since = *at
		}
		if next := rb.setting.Next(row, since); !next.IsZero() {
			put = append(put, store.Entry{Kind: store.Due, DueAt: next, SheetID: rec.SheetID, RuleID: rec.ID, RowID: rows[i].ID, Since: &since})
		}
	}
	if err := w.tx.PutArmed(ctx, put, w.now); err != nil {
		return err
	}
	rec.ArmedRows += int64(len(rows))
	if len(rows) < armBatch {
		rec.ArmingAfter = nil
		w.drop = append(w.drop, en.ID)
	} else {
		rec.ArmingAfter = &rows[len(rows)-1].ID
	}
	return w.tx.SaveArming(ctx, rec)
}

// flush writes what has been gathered.
func (w *work) flush(ctx context.Context) error {
	if err := w.tx.DropEntries(ctx, w.drop); err != nil {
		return err
	}
	if err := w.tx.PutEntries(ctx, w.put); err != nil {
		return err
	}
	if err := w.tx.InsertDeliveries(ctx, w.deliveries); err != nil {
		return err
	}
	var letters []store.Letter
	var lates []store.Entry
	for i, d := range w.deliveries {
		if d.ID == 0 {
			continue // another process has written this occasion
		}
		w.events = append(w.events, store.DeliveryEvent(d, w.now, "nivot", map[string]any{"reason": d.Reason}))
		if w.letters[i] != nil {
			w.letters[i].DeliveryID = d.ID
			letters = append(letters, *w.letters[i])
		}
		if d.State == delivery.Incomplete {
			lates = append(lates, store.Entry{Kind: store.Late, DueAt: d.DueAt.Add(w.lates[i] + plan.Tick), SheetID: d.SheetID, DeliveryID: d.ID})
		}
	}
	if err := w.tx.InsertLetters(ctx, letters); err != nil {
		return err
	}
	if err := w.tx.PutEntries(ctx, lates); err != nil {
		return err
	}
	for _, d := range w.changed {
		if err := w.tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
	}
	return w.tx.AddEvents(ctx, w.events...)
}
