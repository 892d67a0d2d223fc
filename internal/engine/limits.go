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
	ids    []string // under which its deliveries stand
	zone   *time.Location
	today  value.Day
	taken  []int         // recipients that wait for room, by day, from tomorrow on
	went   bool          // something goes now
	waits  time.Duration // until anything more of it may
}

// availableAt is before when nothing more of the sender goes; the zero time where its pace and its pauses
// say nothing of that.
func (a *allowance) availableAt(now time.Time) time.Time {
	switch {
	case a.waits > 0:
		return now.Add(a.waits)
	case a.went && a.Pace > 0:
		return a.Next()
	}
	return time.Time{}
}

// withinLimits keeps of what waits to be sent what the senders' daily caps,
// paces and pauses let go now, in order. What does not fit today waits for a day with room,
// judged and written anew then; what is too fast waits in the queue until its sender may send again.
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
		if a == nil {
			kept = append(kept, *d)
			continue
		}
		if a.waits > 0 { // nor does anything behind it go
			continue
		}
		n, err := countRecipients(d)
		if err != nil {
			return nil, err
		}
		switch what, wait := a.Admit(n); what {
		case delivery.Goes:
			kept = append(kept, *d)
			a.went = true
		case delivery.WaitsDay:
			if err := e.waitForRoom(ctx, tx, d, a, n, now); err != nil {
				return nil, err
			}
		case delivery.WaitsTurn:
			a.waits = wait
		}
	}
	for _, a := range by {
		if a == nil {
			continue
		}
		if at := a.availableAt(now); !at.IsZero() {
			if err := tx.SetAvailable(ctx, a.sender.ID, at); err != nil {
				return nil, err
			}
		}
	}
	return kept, nil
}

// personLimited reports whether there is a limit per person.
func (e *Engine) personLimited(ctx context.Context) (bool, error) {
	l, err := e.Store.PersonLimit(ctx, false)
	return l.N > 0, err
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
		if by[x.ID] != nil { // asked for as the default one, or by its id
			by[id] = by[x.ID]
			return by[id], nil
		}
		a, err := e.newAllowance(ctx, tx, x, i == 0, queued, batch, now)
		if err != nil {
			return nil, err
		}
		by[id], by[x.ID] = a, a
		return a, nil
	}
	by[id] = nil
	return nil, nil
}

// newAllowance works out what a sender may still send.
func (e *Engine) newAllowance(ctx context.Context, tx *store.Store, x *store.Sender, isDefault bool,
	queued []store.Delivery, batch []int64, now time.Time) (*allowance, error) {
	a := &allowance{sender: x, ids: x.StandsUnder(isDefault), zone: zoneOf(x)}
	a.today = value.DayAt(now.In(a.zone))
	midnight := calendar.Resolve(value.Wall{Day: a.today}, a.zone)
	var sent delivery.Sent
	var err error
	if sent.Day, _, err = tx.SentBy(ctx, a.ids, batch, midnight, now.Add(-time.Minute)); err != nil {
		return nil, err
	}
	again, err := reachedBefore(queued, a.ids, midnight)
	if err != nil {
		return nil, err
	}
	sent.Day += again
	l := x.Limits()
	if l.Cap > 0 {
		waits, err := tx.WaitForRoom(ctx, a.ids)
		if err != nil {
			return nil, err
		}
		a.taken = make([]int, int(delivery.CapSpan/(24*time.Hour)))
		for _, w := range waits {
			switch day := int(value.DayAt(w.At.In(a.zone)) - a.today); {
			case day == 0 && w.At.After(now):
				sent.Day += w.Recipients // who has waited since yesterday goes first
			case day > 0 && day <= len(a.taken):
				a.taken[day-1] += w.Recipients
			}
		}
	}
	if l.Batch > 0 {
		if sent.Lately, err = tx.LatelySentBy(ctx, a.ids, batch, now, l.Batch); err != nil {
			return nil, err
		}
	}
	states, err := tx.SenderStates(ctx)
	if err != nil {
		return nil, err
	}
	if at := states[x.ID].AvailableAt; at != nil {
		sent.Next = *at
	}
	a.Allowance = delivery.NewAllowance(l, sent, now)
	return a, nil
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

// waitForRoom holds an email until the next day with room, at the time of day at which it was due, for seven
// days at the most.
func (e *Engine) waitForRoom(ctx context.Context, tx *store.Store, d *store.Delivery, a *allowance, recipients int,
	now time.Time) error {
	goes := d.Reason.Reason
	day := delivery.NextRoom(a.sender.DailyCap, recipients, a.taken)
	if day == 0 {
		return overLimit(ctx, tx, d, delivery.Missed, reason.Reason{Code: reason.NoRoom}, now, now)
	}
	wall := value.WallAt(d.DueAt.In(a.zone))
	next := calendar.Resolve(value.Wall{Day: a.today + value.Day(day), Second: wall.Second}, a.zone)
	st, why := delivery.Waits(d.DueAt, next), reason.Reason{Code: reason.DailyCap, Of: &goes, At: &next,
		Zone: a.zone.String()}
	if st == delivery.Missed {
		why = reason.Reason{Code: reason.NoRoom}
	} else {
		a.taken[day-1] += recipients
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
