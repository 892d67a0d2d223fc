package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// toOf gives the mailboxes that a delivery is to in To.
func toOf(d *store.Delivery) (out []string, err error) {
	var rs []store.Recipient
	if err := json.Unmarshal([]byte(d.Recipients), &rs); err != nil {
		return nil, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	for _, r := range rs {
		if r.Role == "to" && !slices.Contains(out, r.Mailbox) {
			out = append(out, r.Mailbox)
		}
	}
	return out, nil
}

// withinPersonLimit keeps of what is about to be claimed what the limit per
// person lets go, and notes who gets it. Those that count go one after the
// other, so that two workers do not let the last one go twice.
func (e *Engine) withinPersonLimit(ctx context.Context, tx *store.Store, queued []store.Delivery,
	now time.Time) ([]store.Delivery, error) {
	l, err := tx.PersonLimit(ctx, true)
	if err != nil || l.N == 0 || len(queued) == 0 {
		return queued, err
	}
	to := make([][]string, len(queued))
	batch := make([]int64, len(queued))
	var all []string
	for i := range queued {
		if to[i], err = toOf(&queued[i]); err != nil {
			return nil, err
		}
		all, batch[i] = append(all, to[i]...), queued[i].ID
	}
	slices.Sort(all)
	all = slices.Compact(all)
	if err := tx.ForgetHadBy(ctx, all, l.Since(now)); err != nil {
		return nil, err
	}
	had, err := tx.HadSince(ctx, all, batch, l.Since(now))
	if err != nil {
		return nil, err
	}
	var kept []store.Delivery
	var gets []store.Had
	for i := range queued {
		d := &queued[i]
		full, from := "", now
		for _, m := range to[i] {
			if at := l.Room(had[m], now); at.After(from) {
				full, from = m, at
			}
		}
		if full != "" {
			if err := overPersonLimit(ctx, tx, d, l, full, from, now); err != nil {
				return nil, err
			}
			continue
		}
		for _, m := range to[i] {
			had[m] = append(had[m], now)
			gets = append(gets, store.Had{Mailbox: m, DeliveryID: d.ID, At: now})
		}
		kept = append(kept, *d)
	}
	return kept, tx.PutHad(ctx, gets)
}

// overPersonLimit lets an email wait until there is room, for seven days at the
// most, or skips it.
func overPersonLimit(ctx context.Context, tx *store.Store, d *store.Delivery, l delivery.PersonLimit, mailbox string,
	from, now time.Time) error {
	goes := d.Reason.Reason
	st, why := l.Becomes(d.DueAt, from), reason.Reason{Code: reason.PersonLimit, Mailbox: mailbox, N: l.N,
		Value: l.Within}
	if st == delivery.Held {
		why.Of, why.At = &goes, &from
	}
	return overLimit(ctx, tx, d, st, why, from, now)
}

// SetPersonLimit sets the limit per person. What has gone within its time
// counts; what waits by the limit there was is looked at anew.
func (e *Engine) SetPersonLimit(ctx context.Context, l delivery.PersonLimit, actor string) error {
	if err := l.Validate(); err != nil {
		return &Refusal{Message: err.Error()}
	}
	now := e.now()
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SetSetting(ctx, store.SettingPersonLimit, l); err != nil {
			return err
		}
		if err := tx.ForgetHad(ctx, now); err != nil {
			return err
		}
		if l.N > 0 {
			var all []store.Had
			if err := tx.WentSince(ctx, l.Since(now), func(d *store.Delivery) error {
				to, err := toOf(d)
				for _, m := range to {
					all = append(all, store.Had{Mailbox: m, DeliveryID: d.ID, At: *d.SendingAt})
				}
				return err
			}); err != nil {
				return err
			}
			if err := tx.PutHad(ctx, all); err != nil {
				return err
			}
		}
		if err := tx.WakeHeld(ctx, reason.PersonLimit, now); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"personLimit": l})})
	})
	if err == nil {
		wake(e.wakeAgenda)
	}
	return err
}
