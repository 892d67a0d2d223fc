package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// mend judges the row's incomplete emails again.
func (w *work) mend(ctx context.Context, sb *sheetBook, rowID int64, row *sheet.Row, at time.Time) error {
	waiting, err := w.tx.LockRowDeliveries(ctx, delivery.Incomplete, rowID)
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

// again judges a delivery that waited once more, on the row as it is now: it
// goes at once, or at the start of the next window.
func (w *work) again(ctx context.Context, sb *sheetBook, d *store.Delivery, row *sheet.Row, at time.Time) error {
	rb := sb.rule(d.RuleID)
	if rb == nil {
		return w.end(d, delivery.Skipped, "the rule is not there any more")
	}
	occ, err := occasionOf(d)
	if err != nil {
		return err
	}
	if !rb.setting.Stands(occ, row) {
		return w.end(d, delivery.Skipped, "the date it hung on has been moved")
	}
	m := w.memory(ctx, rb, row)
	if d.State == delivery.Held && d.Reason != heldWindow {
		m.Last = nil // it counts already: it is no repetition of itself
	}
	cs := rb.setting.Mend(*occ, row, at, m)
	if w.failed != nil {
		return w.failed
	}
	late := at.After(rb.setting.Late(d.DueAt)) && d.State == delivery.Incomplete
	switch {
	case late:
		return w.end(d, delivery.Missed, "was not mended within the late limit: "+d.Reason)
	case len(cs) == 0:
		return w.end(d, delivery.Skipped, occ.Mailbox+" is no longer among the recipients")
	case cs[0].Outcome == plan.Incomplete && d.State == delivery.Incomplete:
		d.Reason, d.Blame = cs[0].Verdict.Reason, cs[0].Blame
		w.changed = append(w.changed, d)
		return nil
	}
	if opens := rb.setting.Opens(at); opens.After(at) && d.State == delivery.Incomplete {
		d.State, d.Reason, d.Blame = delivery.Held, heldWindow, ""
		w.changed = append(w.changed, d)
		w.events = append(w.events, store.DeliveryEvent(d, w.now, w.actor, map[string]any{"reason": d.Reason}))
		w.put = append(w.put, store.Entry{Kind: store.Review, DueAt: opens, SheetID: d.SheetID, DeliveryID: d.ID})
		return nil
	}
	if occ.Mailbox == "" && cs[0].Mailbox != "" { // with each, the whole becomes its mailboxes' emails
		w.spared = d.State == delivery.Held
		for i, c := range cs {
			if err := w.record(ctx, sb, rb, row, c, i == 0); err != nil {
				return err
			}
		}
		w.spared = false
		return w.end(d, delivery.Skipped, "mended: each address has an email of its own now")
	}
	return w.anew(ctx, sb, rb, d, row, cs[0])
}

// anew puts a new verdict into a delivery that is in the ledger.
func (w *work) anew(ctx context.Context, sb *sheetBook, rb *ruleBook, d *store.Delivery, row *sheet.Row, c plan.Considered) error {
	p := &pendingDelivery{Delivery: d, rb: rb, at: c.At, occ: c.Occasion, first: true, spared: d.State == delivery.Held}
	d.Facts = rb.factsOf(row, c.At)
	if err := w.decide(ctx, p, sb, c.Verdict); err != nil {
		return err
	}
	if p.letter != nil {
		p.letter.DeliveryID = d.ID
		if err := w.tx.PutLetter(ctx, p.letter); err != nil {
			return err
		}
	}
	w.put = append(w.put, w.hangsOn(p)...)
	w.changed = append(w.changed, d)
	w.events = append(w.events, store.DeliveryEvent(d, w.now, w.actor, map[string]any{"reason": d.Reason, "again": true}))
	return nil
}

// approve judges a held delivery again and lets it go.
func (w *work) approve(ctx context.Context, d *store.Delivery) error {
	sb, err := w.book.sheet(ctx, d.SheetID)
	if err != nil {
		return err
	}
	rb := sb.rule(d.RuleID)
	if rb == nil {
		return w.end(d, delivery.Skipped, "the rule is not there any more")
	}
	if d.RowID == 0 {
		d.State, d.NextTry = delivery.Queued, &w.now
		w.queued = true
		w.changed = append(w.changed, d)
		w.events = append(w.events, store.DeliveryEvent(d, w.now, w.actor, map[string]any{"decision": Approve}))
		return nil
	}
	rec, err := w.tx.Row(ctx, d.RowID)
	if err != nil {
		return err
	}
	row, err := rec.SettledCore(sb.sheet)
	if err != nil {
		return err
	}
	if rec.DeletedAt != nil || row == nil {
		return w.end(d, delivery.Skipped, "row deleted")
	}
	occ, err := occasionOf(d)
	if err != nil {
		return err
	}
	// It is no repetition of itself.
	m := w.memory(ctx, rb, row)
	m.Last = nil
	for _, c := range rb.setting.Mend(*occ, row, w.now, m) {
		if occ.Mailbox == "" || c.Mailbox == occ.Mailbox || c.Mailbox == "" {
			w.approved = true
			err := w.anew(ctx, sb, rb, d, row, c)
			w.approved = false
			return err
		}
	}
	return w.end(d, delivery.Skipped, occ.Mailbox+" is no longer among the recipients")
}

func (w *work) end(d *store.Delivery, st delivery.State, reason string) error {
	if !delivery.Can(d.State, st) {
		return fmt.Errorf("an email that is %s cannot become %s", d.State, st)
	}
	d.State, d.Reason, d.NextTry = st, reason, nil
	w.changed = append(w.changed, d)
	w.events = append(w.events, store.DeliveryEvent(d, w.now, w.actor, map[string]any{"reason": reason}))
	return nil
}

// occasionOf reads back the occasion that a delivery is about.
func occasionOf(d *store.Delivery) (*rule.Occasion, error) {
	var o rule.Occasion
	if err := json.Unmarshal([]byte(d.Origin), &o); err != nil {
		return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	return &o, o.Restore()
}

// review looks at a delivery that waited: its late limit has passed, or what
// held it is gone.
func (w *work) review(ctx context.Context, en store.Entry) error {
	w.drop = append(w.drop, en.ID)
	d, err := w.tx.LockDelivery(ctx, en.DeliveryID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil || d.State != delivery.Incomplete && !(d.State == delivery.Held && byItself(d.Reason)) {
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
	if d.RowID == 0 {
		return w.reviewRoundUp(en, d)
	}
	rec, err := w.tx.Row(ctx, d.RowID)
	if err != nil {
		return err
	}
	if rec.DeletedAt != nil {
		return w.end(d, delivery.Skipped, "row deleted")
	}
	if d.State == delivery.Held && rec.FirstEdit != nil && !en.DueAt.Before(*rec.FirstEdit) {
		w.drop = w.drop[:len(w.drop)-1] // it waits until the row settles
		en.DueAt = sheet.SettlesAt(*rec.FirstEdit, *rec.LastEdit, sb.sheet.Settle)
		if !en.DueAt.After(w.now) {
			en.DueAt = w.now.Add(plan.Tick)
		}
		w.put = append(w.put, en)
		return nil
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

// byItself tells whether what holds an email passes without a person.
func byItself(reason string) bool {
	return reason == heldOff || reason == heldCap || reason == heldWindow
}

// reviewRoundUp lets a round-up that was held go as it was written; one that is
// incomplete is missed in the end: the next round says it anew.
func (w *work) reviewRoundUp(en store.Entry, d *store.Delivery) error {
	if en.Kind == store.Late {
		return w.end(d, delivery.Missed, "was not mended within the late limit: "+d.Reason)
	}
	if d.State == delivery.Held {
		d.State, d.NextTry = delivery.Queued, &w.now
		d.Reason = "sending was switched on again"
		w.queued = true
		w.changed = append(w.changed, d)
		w.events = append(w.events, store.DeliveryEvent(d, w.now, w.actor, map[string]any{"reason": d.Reason}))
	}
	return nil
}

func (w *work) missed(sb *sheetBook, d *store.Delivery, row *sheet.Row) error {
	if rb := sb.rule(d.RuleID); rb != nil {
		if occ, err := occasionOf(d); err == nil && !rb.setting.Stands(occ, row) {
			return w.end(d, delivery.Skipped, "the date it hung on has been moved")
		}
	}
	return w.end(d, delivery.Missed, "was not mended within the late limit: "+d.Reason)
}

// fact is one cell of a row as it was.
type fact struct {
	Column string `json:"column"`
	Name   string `json:"name"`
	Value  string `json:"value"`
}

// factsOf writes a row's values as they were at an instant.
func (rb *ruleBook) factsOf(row *sheet.Row, at time.Time) string {
	s := rb.setting.Sheet
	out := make([]fact, 0, len(s.Columns))
	if row == nil {
		return store.Detail(out)
	}
	row = s.Compute(row, at, rb.setting.Calendar)
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
