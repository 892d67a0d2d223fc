package engine

import (
	"context"
	"errors"
	"fmt"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/store"
)

// Refusal is an answer to a person: what they asked for cannot be done, and
// why. Field names the part at fault as a JSON pointer, where there is one.
type Refusal struct {
	Field   string
	Message string
}

func (r *Refusal) Error() string { return r.Message }

func refuse(format string, args ...any) error { return &Refusal{Message: fmt.Sprintf(format, args...)} }

// Decision is what a person says of an email that is in doubt or has failed.
type Decision string

// The decisions.
const (
	ItWent    Decision = "it-went"
	SendAgain Decision = "send-again"
	LeaveIt   Decision = "leave-it"
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
			d.State, d.Decision, d.Worker = delivery.Accepted, string(what), nil
		case LeaveIt:
			if !delivery.Resendable(from) && from != delivery.Incomplete {
				return refuse("there is nothing to decide: this email is %s", from)
			}
			d.Decision = "left"
		case SendAgain:
			if !delivery.Resendable(from) {
				return refuse("this email is %s and cannot be sent again", from)
			}
			if err := e.again(ctx, tx, d); err != nil {
				return err
			}
			detail["attempt"] = d.Attempt
		default:
			return refuse("%q is no decision; use it-went, send-again or leave-it", what)
		}
		if err := tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.DeliveryEvent(d, now, actor, detail))
	})
	if err == nil && what == SendAgain {
		poke(e.wakeQueue)
	}
	return d, err
}

// again puts a delivery back into the queue as its next attempt.
func (e *Engine) again(ctx context.Context, tx *store.Store, d *store.Delivery) error {
	sb, err := newBook(tx).sheet(ctx, d.SheetID)
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
	now := e.now()
	v := rb.setting.Again(*occ, row, now, plan.Memory{})
	if v.Outcome != plan.Send {
		return refuse("it cannot be sent again as the row is now: %s", v.Reason)
	}
	d.State, d.NextTry, d.FinishedAt, d.Worker = delivery.Queued, &now, nil, nil
	d.Attempt, d.Tries, d.FirstTry = d.Attempt+1, 0, nil
	d.Decision, d.Trouble, d.Reply, d.Blame = "", "", "", ""
	d.Reason, d.TemplateID, d.Subject = v.Reason, v.Template, v.Subject
	d.Recipients, d.ReplyTo, d.Facts = recipientsOf(v), lines(v.ReplyTo), rb.factsOf(row, now)
	return tx.PutLetter(ctx, &store.Letter{DeliveryID: d.ID, HTML: v.HTML, Text: v.Text})
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
			if err := tx.ReviewHeld(ctx, heldOff, now); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSettingSaved, Detail: store.Detail(map[string]any{"sending": on})})
	})
	if err == nil {
		e.Wake()
	}
	return err
}
