package engine

import (
	"context"
	"errors"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// Decision is what a person says of an email that is in doubt or has failed.
type Decision string

// The decisions on what is in doubt or has failed, and on what is held.
const (
	ItWent    Decision = "it-went"
	SendAgain Decision = "send-again"
	LeaveIt   Decision = "leave-it"
	Approve   Decision = "approve" // held: let it go
	Drop      Decision = "drop"    // held or incomplete: leave it out
)

// Decide carries out a person's decision on a delivery. Sending again is a new
// attempt at the same occasion, written and addressed as the row is now.
func (e *Engine) Decide(ctx context.Context, id int64, what Decision, actor string) (*store.Delivery, error) {
	var d *store.Delivery
	now := e.now()
	err := e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		if d, err = tx.LockDelivery(ctx, id); err != nil {
			return err
		}
		from := d.State
		detail := map[string]any{"decision": what, "from": from}
		switch what {
		case ItWent:
			if from != delivery.InDoubt {
				return refuse("only an email in doubt can be said to have gone; this one is %s", from)
			}
			if err := d.Become(delivery.Accepted, delivery.Deciding); err != nil {
				return err
			}
			d.Decision, d.Worker = string(what), 0
			if err := tx.WakeFollows(ctx, d.ID, now); err != nil {
				return err
			}
		case LeaveIt:
			if !delivery.Resendable(from) && from != delivery.Incomplete {
				return refuse("there is nothing to decide: this email is %s", from)
			}
			if err := d.Become(from, delivery.Deciding); err != nil {
				return err
			}
			d.Decision = "left"
		case SendAgain:
			if !delivery.Resendable(from) {
				return refuse("this email is %s and cannot be sent again", from)
			}
			detail["was"] = d.Reason // the delivery has the one for which it goes now
			if err := e.requeue(ctx, tx, d); err != nil {
				return err
			}
			detail["attempt"] = d.Attempt
		case Approve, Drop:
			if from != delivery.Held && (what == Approve || from != delivery.Incomplete) {
				return refuse("this email is %s; only a held one can be sent or not sent", from)
			}
			w, err := newWork(ctx, e, tx, now, deciding(actor))
			if err != nil {
				return err
			}
			if err := w.lookThrough(ctx, d, what == Approve, reason.Reason{Code: reason.LeftOut}); err != nil {
				return err
			}
			return w.flush(ctx)
		default:
			return refuse("%q is no decision; use it-went, send-again, leave-it, approve or drop", what)
		}
		if err := tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.DeliveryEvent(d, now, actor, detail))
	})
	if err == nil {
		wake(e.wakeAgenda)
		wake(e.wakeQueue)
	}
	return d, err
}

// lookThrough lets a held email go, judged and written anew on the row as it is
// now, or leaves it out.
func (w *work) lookThrough(ctx context.Context, d *store.Delivery, approve bool, dropped reason.Reason) error {
	m, err := w.take(d)
	if err != nil {
		return err
	}
	if !approve {
		return w.amend(ctx, nil, plan.LeaveOut(m, dropped))
	}
	sb, err := w.cache.sheet(ctx, d.SheetID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err != nil || sb.rule(d.RuleID) == nil {
		return w.orphan(ctx, d.ID, reason.RuleGone)
	}
	var row *store.Row
	if d.RowID != 0 {
		if row, err = w.tx.Row(ctx, d.RowID); err != nil {
			return err
		}
		if err := w.loadRowStates(ctx, []int64{d.RowID}); err != nil {
			return err
		}
	}
	l, err := w.timeline(ctx, sb, sb.rule(d.RuleID), row)
	if err != nil {
		return err
	}
	l.Approve(m, w.now)
	return w.carryOut(ctx, l)
}

// Release lets the brake of a rule go, and its first run, and lets all that is
// held for it go or drops it. It gives how many emails that were.
func (e *Engine) Release(ctx context.Context, sheetID, ruleID string, approve bool, actor string) (n int, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		rec, err := tx.LockRule(ctx, ruleID)
		if err != nil {
			return err
		}
		if rec.SheetID != sheetID {
			return store.ErrNotFound
		}
		now := e.now()
		if rec.BrakedAt, rec.ReleasedAt = nil, &now; !approve {
			rec.ReleasedAt = nil
		}
		if err := tx.SaveRule(ctx, rec); err != nil {
			return err
		}
		held, err := tx.LockHeld(ctx, ruleID)
		if err != nil {
			return err
		}
		n = len(held)
		w, err := newWork(ctx, e, tx, now, deciding(actor))
		if err != nil {
			return err
		}
		for i := range held {
			if err := w.lookThrough(ctx, &held[i], approve, reason.Reason{Code: reason.LookedThrough}); err != nil {
				return err
			}
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventRuleState, SheetID: sheetID,
			RuleID: ruleID,
			Detail: store.Detail(map[string]any{"released": approve, "emails": n})})
	})
	if err == nil {
		wake(e.wakeQueue)
	}
	return n, err
}

// requeue puts a delivery back into the queue as its next attempt.
func (e *Engine) requeue(ctx context.Context, tx *store.Store, d *store.Delivery) error {
	now := e.now()
	if err := d.Become(delivery.Queued, delivery.Deciding); err != nil {
		return err
	}
	d.NextTry, d.FinishedAt, d.Worker = &now, nil, 0
	d.Attempt, d.Tries, d.FirstTry = d.Attempt+1, 0, nil
	d.Decision, d.LastError, d.Reply, d.FaultyColumn = "", store.Why{}, "", ""
	if d.RowID == 0 { // a round-up goes again as it was written
		_, err := tx.Letter(ctx, d.ID)
		if errors.Is(err, store.ErrNotFound) {
			return refuse("this round-up was never written; the next one says it")
		}
		return err
	}
	sb, err := newRuleCache(tx).sheet(ctx, d.SheetID)
	if err != nil {
		return err
	}
	rb := sb.rule(d.RuleID)
	if rb == nil {
		return refuse("the rule of this email is not there any more")
	}
	rec, err := tx.Row(ctx, d.RowID)
	if errors.Is(err, store.ErrNotFound) || err == nil && rec.DeletedAt != nil {
		return refuse("the row of this email has been deleted")
	}
	if err != nil {
		return err
	}
	row, err := rec.Core(sb.sheet)
	if err != nil {
		return err
	}
	occ, err := occasionOf(d)
	if err != nil {
		return err
	}
	v := rb.compiled.JudgeToResend(*occ, row, now, plan.Memory{})
	if v.Outcome != plan.Send {
		return refuse("it cannot be sent again as the row is now: %s", v.Reason.Words())
	}
	d.Reason, d.TemplateID, d.Subject = store.Why{Reason: v.Reason}, v.Template, v.Subject
	d.Recipients, d.ReplyTo, d.Facts = recipientsOf(v), lines(v.ReplyTo), rb.factsOf(rb.compiled.Compute(row, now))
	if err := writeMade(ctx, tx, &v.Rendered, now); err != nil {
		return err
	}
	letter := store.NewLetter(&v.Rendered)
	letter.DeliveryID = d.ID
	return tx.PutLetters(ctx, []store.Letter{*letter})
}

// SetSending moves the lever. Switching sending on again has everything that
// was held because of it judged anew.
func (e *Engine) SetSending(ctx context.Context, on bool, actor string) error {
	now := e.now()
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SetSetting(ctx, store.SettingSending, on); err != nil {
			return err
		}
		if on {
			if err := tx.ReviewHeld(ctx, reason.SendingOff, now); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"sending": on})})
	})
	if err == nil {
		e.Wake()
	}
	return err
}
