package engine

import (
	"context"
	"slices"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// maxHeldShown bounds how many held emails are looked through at a time.
const maxHeldShown = 2000

// HeldEmail is one email that waits for review, and what would become
// of it if it were let go now.
type HeldEmail struct {
	store.Delivery
	RowName string
	Now     plan.Decision // as its row is now
	Changed []FactChange  // what its row's cells held when it was held, and hold now
	Differs bool          // the email would not be the one that was held
}

// FactChange is a cell that has changed since an email was held.
type FactChange struct{ Name, Was, Is string }

// Held gives what is held of a rule, in the order in which it fell due, with
// what is incomplete of it; and how many there are in all.
func (e *Engine) Held(ctx context.Context, sheetID, ruleID string) (out []HeldEmail, total int, err error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, 0, err
	}
	rb := sb.rule(ruleID)
	if rb == nil {
		return nil, 0, store.ErrNotFound
	}
	rb.compiled.Light = true
	ds, total, err := e.Store.Waiting(ctx, ruleID, maxHeldShown)
	if err != nil {
		return nil, 0, err
	}
	ids := make([]int64, len(ds))
	for i := range ds {
		ids[i] = ds[i].RowID
	}
	found, err := e.Store.RowsByID(ctx, sheetID, ids)
	if err != nil {
		return nil, 0, err
	}
	rows := map[int64]*store.Row{}
	for i := range found {
		rows[found[i].ID] = &found[i]
	}
	for i := range ds {
		h, err := e.heldNow(sb, rb, ds[i], rows[ds[i].RowID])
		if err != nil {
			return nil, 0, err
		}
		out = append(out, *h)
	}
	return out, total, nil
}

// Double is a person who would get several of the held emails with one subject.
type Double struct {
	Address string
	Subject string
	Emails  []int64 // deliveries, in the order in which they fell due
}

// Doubles finds who would get several emails with one subject, if all that may go went.
func Doubles(held []HeldEmail) (out []Double) {
	type key struct{ mailbox, subject string }
	at := map[key]int{}
	for i := range held {
		h := &held[i]
		if h.State != delivery.Held || h.Now.Outcome != plan.Send {
			continue
		}
		for _, m := range h.Now.To {
			k := key{m.Key(), h.Now.Subject}
			n, ok := at[k]
			if !ok {
				n = len(out)
				at[k] = n
				out = append(out, Double{Address: m.Address(), Subject: h.Now.Subject})
			}
			out[n].Emails = append(out[n].Emails, h.ID)
		}
	}
	return slices.DeleteFunc(out, func(d Double) bool { return len(d.Emails) < 2 })
}

// heldNow judges a held email anew on its row as it is now.
func (e *Engine) heldNow(sb *cachedSheet, rb *cachedRule, d store.Delivery, rec *store.Row) (*HeldEmail, error) {
	h := &HeldEmail{Delivery: d}
	if d.RowID == 0 { // a round-up goes as it was written
		h.Now = plan.Decision{Outcome: plan.Send, Template: d.TemplateID, Reason: d.Reason.Reason}
		h.Now.Subject = d.Subject
		return h, nil
	}
	if rec == nil || rec.DeletedAt != nil {
		h.Now = plan.Decision{Outcome: plan.Skip, Reason: reason.Reason{Code: reason.RowDeleted}}
		return h, nil
	}
	row, err := rec.SettledCore(sb.sheet)
	if err != nil {
		return nil, err
	}
	if row == nil {
		if row, err = rec.Core(sb.sheet); err != nil {
			return nil, err
		}
	}
	h.RowName = sb.sheet.RowName(row)
	occ, err := occasionOf(&d)
	if err != nil {
		return nil, err
	}
	now := e.now()
	if !rb.compiled.Stands(occ, row) {
		h.Now = plan.Decision{Outcome: plan.Skip, Reason: reason.Reason{Code: reason.DateMoved}}
	} else if cs := rb.compiled.Mend(*occ, row, now, plan.Memory{}); len(cs) > 0 {
		h.Now = cs[0].Decision
	} else {
		h.Now = plan.Decision{Outcome: plan.Skip, Reason: reason.Reason{Code: reason.NotRecipient, Mailbox: occ.Mailbox}}
	}
	if h.Now.Outcome == plan.Hold {
		h.Now.Outcome = plan.Send // it has been looked at then
	}
	was, err := d.ReadFacts()
	if err != nil {
		return nil, err
	}
	held := map[string]string{}
	for _, f := range was {
		held[f.Column] = f.Value
	}
	for _, f := range rb.facts(rb.compiled.Compute(row, now)) {
		if before, ok := held[f.Column]; ok && before != f.Value {
			h.Changed = append(h.Changed, FactChange{f.Name, before, f.Value})
		}
	}
	h.Differs = d.State == delivery.Held && (h.Now.Outcome != plan.Send || h.Now.Subject != d.Subject ||
		recipientsOf(h.Now) != d.Recipients)
	return h, nil
}

// HeldEmailNow gives one held email of a rule as it would go now, whole.
func (e *Engine) HeldEmailNow(ctx context.Context, sheetID, ruleID string, id int64) (*HeldEmail, error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	d, err := e.Store.Delivery(ctx, id)
	if err != nil {
		return nil, err
	}
	rb := sb.rule(ruleID)
	if rb == nil || d.RuleID != ruleID {
		return nil, store.ErrNotFound
	}
	if d.RowID == 0 {
		h, err := e.heldNow(sb, rb, *d, nil)
		if err != nil {
			return nil, err
		}
		letter, err := e.Store.Letter(ctx, d.ID)
		if err == nil {
			h.Now.HTML, h.Now.Text = letter.HTML, letter.Text
		}
		return h, err
	}
	rec, err := e.Store.Row(ctx, d.RowID)
	if err != nil {
		return nil, err
	}
	return e.heldNow(sb, rb, *d, rec)
}

// LookedThrough is what came of looking through held emails.
type LookedThrough struct{ Sent, LeftOut, Other int }

// lookBatch is how many held emails one transaction looks through.
const lookBatch = 100

// LookThrough lets held emails of a rule go, each judged and written anew on its
// row as it is now, and leaves others out. because is why they are left out, ""
// where nobody said. Once nothing of the rule is held, its brake and its first
// run are let go. What is not held any more is passed over.
func (e *Engine) LookThrough(ctx context.Context, sheetID, ruleID string, send, leaveOut []int64, because,
	actor string) (out LookedThrough, err error) {
	type one struct {
		id   int64
		goes bool
	}
	all := make([]one, 0, len(send)+len(leaveOut))
	for _, id := range send {
		all = append(all, one{id, true})
	}
	for _, id := range leaveOut {
		all = append(all, one{id, false})
	}
	for len(all) > 0 {
		next := all[:min(lookBatch, len(all))]
		all = all[len(next):]
		var part LookedThrough
		err := e.Store.Tx(ctx, func(tx *store.Store) error {
			part = LookedThrough{}
			rec, err := tx.LockRule(ctx, ruleID)
			if err != nil {
				return err
			}
			if rec.SheetID != sheetID {
				return store.ErrNotFound
			}
			w, err := newWork(ctx, e, tx, e.now(), deciding(actor))
			if err != nil {
				return err
			}
			var looked []one
			for _, x := range next {
				d, err := tx.LockDelivery(ctx, x.id)
				if err != nil {
					return err
				}
				if d.RuleID != ruleID || d.State != delivery.Held && (x.goes || d.State != delivery.Incomplete) {
					part.Other++
					continue
				}
				if err := w.lookThrough(ctx, d, x.goes, reason.Reason{Code: reason.LeftOut, Value: because,
					Mailbox: actor}); err != nil {
					return err
				}
				looked = append(looked, x)
			}
			if err := w.flush(ctx); err != nil {
				return err
			}
			for _, x := range looked {
				switch m := w.emails[x.id]; {
				case !x.goes:
					part.LeftOut++
				case m != nil && m.State == delivery.Queued:
					part.Sent++
				default:
					part.Other++
				}
			}
			return w.letGo(ctx, rec)
		})
		if err != nil {
			return out, err
		}
		out.Sent, out.LeftOut, out.Other = out.Sent+part.Sent, out.LeftOut+part.LeftOut, out.Other+part.Other
	}
	wake(e.wakeAgenda)
	wake(e.wakeQueue)
	return out, nil
}

// letGo lets a rule's brake and first run go once nothing of it is held.
func (w *work) letGo(ctx context.Context, rec *store.Rule) error {
	_, n, err := w.tx.Waiting(ctx, rec.ID, 1)
	if err != nil || n > 0 {
		return err
	}
	if rec.BrakedAt == nil && rec.ReleasedAt != nil {
		return nil
	}
	rec.BrakedAt, rec.ReleasedAt = nil, &w.now
	if err := w.tx.SaveRule(ctx, rec); err != nil {
		return err
	}
	return w.tx.AddEvents(ctx, store.Event{At: w.now, Actor: w.act.actor, Kind: store.EventRuleState,
		SheetID: rec.SheetID, RuleID: rec.ID,
		Detail: store.Detail(map[string]any{"released": true})})
}
