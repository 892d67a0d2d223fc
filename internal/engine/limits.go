package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// allowance is what a sender may still send now.
type allowance struct {
	*delivery.Allowance
	sender *store.Sender
}

// withinLimits keeps of what waits to be sent what the senders' daily caps,
// paces and pauses let go now, in order. What does not fit today waits for the next day,
// judged and written anew then; what is too fast waits its turn.
func (e *Engine) withinLimits(ctx context.Context, tx *store.Store, queued []store.Delivery,
	now time.Time) ([]store.Delivery, error) {
	senders, err := tx.Senders(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(senders, func(s store.Sender) bool { return s.Limits().Limited() }) {
		return queued, nil
	}
	if err := tx.LockLimits(ctx); err != nil {
		return nil, err
	}
	by := map[string]*allowance{}
	batch := make([]int64, len(queued))
	for i := range queued {
		batch[i] = queued[i].ID
	}
	var kept []store.Delivery
	for i := range queued {
		d := &queued[i]
		a, err := e.allowanceOf(ctx, tx, senders, queued, batch, by, d.SenderID, now)
		if err != nil {
			return nil, err
		}
		n, err := countRecipients(d)
		if err != nil {
			return nil, err
		}
		what, wait := delivery.Goes, time.Duration(0)
		if a != nil {
			what, wait = a.Admit(n)
		}
		switch what {
		case delivery.Goes:
			kept = append(kept, *d)
		case delivery.WaitsDay:
			err = e.waitForRoom(ctx, tx, d, a.sender, now)
		case delivery.WaitsTurn:
			next := now.Add(wait)
			if err = d.Become(delivery.Queued, delivery.Limiting); err == nil {
				d.NextTry = &next
				err = tx.SaveDelivery(ctx, d)
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return kept, nil
}

// limited reports whether anything limits how much is sent: a sender's daily cap or pace, or the limit
// per person.
func (e *Engine) limited(ctx context.Context) (bool, error) {
	if l, err := e.Store.PersonLimit(ctx, false); err != nil || l.N > 0 {
		return true, err
	}
	senders, err := e.Store.Senders(ctx)
	return slices.ContainsFunc(senders, func(s store.Sender) bool { return s.Limits().Limited() }), err
}

func (e *Engine) allowanceOf(ctx context.Context, tx *store.Store, senders []store.Sender, queued []store.Delivery,
	batch []int64, by map[string]*allowance, id string, now time.Time) (*allowance, error) {
	if a, ok := by[id]; ok {
		return a, nil
	}
	for i := range senders {
		x := &senders[i]
		if id != "" && x.ID != id {
			continue
		}
		ids := []string{x.ID}
		if i == 0 {
			ids = append(ids, "") // the default sender
		}
		zone, err := time.LoadLocation(x.Zone)
		if err != nil {
			zone = time.UTC
		}
		midnight := calendar.Resolve(value.Wall{Day: value.DayAt(now.In(zone))}, zone)
		var sent delivery.Sent
		if sent.Day, sent.Minute, err = tx.SentBy(ctx, ids, batch, midnight, now.Add(-time.Minute)); err != nil {
			return nil, err
		}
		again, err := reachedBefore(queued, ids, midnight)
		if err != nil {
			return nil, err
		}
		sent.Day += again
		l := x.Limits()
		if l.Batch > 0 {
			if sent.Lately, err = tx.LatelySentBy(ctx, ids, batch, now, l.Batch); err != nil {
				return nil, err
			}
		}
		by[id] = &allowance{delivery.NewAllowance(l, sent, now), x}
		return by[id], nil
	}
	by[id] = nil
	return nil, nil
}

// reachedBefore counts the recipients whom emails that wait to be tried again have reached
// since midnight.
func reachedBefore(queued []store.Delivery, senders []string, midnight time.Time) (n int, err error) {
	for i := range queued {
		d := &queued[i]
		if d.SendingAt == nil || d.SendingAt.Before(midnight) || !slices.Contains(senders, d.SenderID) {
			continue
		}
		var rs []store.Recipient
		if err := json.Unmarshal([]byte(d.Recipients), &rs); err != nil {
			return 0, fmt.Errorf("delivery %d: %w", d.ID, err)
		}
		for _, r := range rs {
			if r.State == string(delivery.Accepted) {
				n++
			}
		}
	}
	return n, nil
}

func countRecipients(d *store.Delivery) (int, error) {
	var rs []store.Recipient
	if err := json.Unmarshal([]byte(d.Recipients), &rs); err != nil {
		return 0, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	n := 0
	for _, r := range rs {
		if r.State == "" || r.State == string(delivery.Deferred) {
			n++
		}
	}
	return n, nil
}

// waitForRoom holds an email until the next day begins, for seven days at the
// most.
func (e *Engine) waitForRoom(ctx context.Context, tx *store.Store, d *store.Delivery, s *store.Sender,
	now time.Time) error {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		zone = time.UTC
	}
	next := calendar.Resolve(value.Wall{Day: value.DayAt(now.In(zone)) + 1}, zone)
	goes := d.Reason.Reason
	st, why := delivery.Waits(d.DueAt, next), reason.Reason{Code: reason.DailyCap, Of: &goes}
	if st == delivery.Missed {
		why = reason.Reason{Code: reason.NoRoom}
	}
	return overLimit(ctx, tx, d, st, why, next, now)
}

// overLimit writes what becomes of an email that a limit does not let go now:
// what is held is looked at again at an instant.
func overLimit(ctx context.Context, tx *store.Store, d *store.Delivery, st delivery.State, why reason.Reason, again,
	now time.Time) error {
	if err := d.Become(st, delivery.Limiting); err != nil {
		return err
	}
	d.Worker, d.Reason = 0, store.Why{Reason: why}
	if err := tx.SaveDelivery(ctx, d); err != nil {
		return err
	}
	if st == delivery.Held {
		en := store.Entry{Kind: store.Review, DueAt: again, SheetID: d.SheetID, RuleID: d.RuleID, RowID: d.RowID,
			DeliveryID: d.ID}
		if err := tx.PutEntries(ctx, []store.Entry{en}); err != nil {
			return err
		}
	}
	return tx.AddEvents(ctx, store.DeliveryEvent(d, now, "nivot", map[string]any{"reason": d.Reason}))
}
