package store

import (
	"context"
	mrand "math/rand/v2"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
)

// Worker is a process that sends. Leases run by the database's clock, so that
// processes need not agree on the time.
type Worker struct {
	ID         int64 `gorm:"primaryKey"`
	Name       string
	LeaseUntil time.Time
	ClockOffMs int64 // how far its clock is ahead of the database's
}

// RegisterWorker registers a worker with a lease. Its id is drawn, not counted: in a
// database that went back in time a counted one would be given twice.
func (s *Store) RegisterWorker(ctx context.Context, name string, lease time.Duration) (id int64, err error) {
	id = 1 + mrand.Int64N(1<<62)
	return id,
		s.DB(ctx).Exec(
			"INSERT INTO workers (id, name, lease_until) VALUES (?, ?, UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND)",
			id, name, lease.Microseconds()).Error
}

// Renew renews a lease that still runs; false means that it has run out, and
// it never runs again.
// It asks on a connection of its own, so that a busy process does not lose its
// lease waiting for one. off is how far its clock is off the database's, in
// milliseconds.
func (s *Store) Renew(ctx context.Context, id int64, lease time.Duration, off int64) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, lease/2)
	defer cancel()
	r, err := s.beat.ExecContext(ctx,
		"UPDATE workers SET lease_until = UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND, clock_off_ms = ? WHERE id = ? AND "+
			"lease_until > UTC_TIMESTAMP(6)",
		lease.Microseconds(), off, id)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// Clock gives the database's time.
func (s *Store) Clock(ctx context.Context) (at time.Time, err error) {
	err = s.beat.QueryRowContext(ctx, "SELECT UTC_TIMESTAMP(6)").Scan(&at)
	return at, err
}

// WrongClocks lists the workers whose clocks are further off the database's
// than they may be.
func (s *Store) WrongClocks(ctx context.Context, most time.Duration) (out []Worker, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM workers WHERE lease_until > UTC_TIMESTAMP(6) AND ABS(clock_off_ms) > ?",
		most.Milliseconds()).Scan(&out).Error
	return out, err
}

// Release gives a stopping worker's unsent deliveries back to the queue and
// forgets the worker.
func (s *Store) Release(ctx context.Context, id int64, now time.Time) error {
	return s.Tx(ctx, func(tx *Store) error {
		if err := tx.giveBack(ctx, []int64{id}, now); err != nil {
			return err
		}
		return tx.DB(ctx).Exec("UPDATE workers SET lease_until = UTC_TIMESTAMP(6) WHERE id = ?", id).Error
	})
}

// giveBack puts what workers had only claimed back into the queue.
func (s *Store) giveBack(ctx context.Context, workers []int64, now time.Time) error {
	return s.DB(ctx).Exec("UPDATE deliveries SET state = ?, worker = 0, next_try = ? WHERE "+
		pendingIn(delivery.Claimed)+" AND worker IN ? AND state IN ?",
		delivery.Queued, now, workers, delivery.From(delivery.Queued, delivery.GivingBack)).Error
}

// Sweep gives up workers whose lease has run out: what they had only claimed
// goes back to the queue, what they were sending is in doubt and never queued
// by itself. It gives those in doubt.
func (s *Store) Sweep(ctx context.Context, now time.Time) (doubted []Delivery, err error) {
	err = s.Tx(ctx, func(tx *Store) error {
		doubted = nil
		var dead []int64
		if err := tx.DB(ctx).Raw("SELECT id FROM workers WHERE lease_until <= UTC_TIMESTAMP(6) FOR UPDATE SKIP LOCKED").Scan(
			&dead).Error; err != nil || len(dead) == 0 {
			return err
		}
		if err := tx.giveBack(ctx, dead, now); err != nil {
			return err
		}
		if err := tx.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(delivery.Claimed, delivery.Sending)+
			" AND worker IN ? AND state IN ? FOR UPDATE", dead, delivery.From(delivery.InDoubt,
			delivery.Sweeping)).Scan(&doubted).Error; err != nil {
			return err
		}
		var events []Event
		for i := range doubted {
			d := &doubted[i]
			if d.SendingAt != nil {
				events = append(events, DeliveryEvent(d, *d.SendingAt, "nivot", map[string]any{}))
			}
			if err := d.Become(delivery.InDoubt, delivery.Sweeping); err != nil {
				return err
			}
			d.LastError, d.Decision, d.FinishedAt = Why{reason.Reason{Code: reason.ProgramStopped}}, "", &now
			if err := tx.SaveDelivery(ctx, d); err != nil {
				return err
			}
			events = append(events, DeliveryEvent(d, now, "nivot", map[string]any{"reason": d.LastError}))
		}
		if err := tx.AddEvents(ctx, events...); err != nil {
			return err
		}
		return tx.DB(ctx).Exec("DELETE FROM workers WHERE id IN ?", dead).Error
	})
	return doubted, err
}

// Busy tells whether anything is being sent at this moment.
func (s *Store) Busy(ctx context.Context) (bool, error) {
	var n int64
	err := s.DB(ctx).Raw("SELECT COUNT(*) FROM (SELECT id FROM deliveries WHERE " + pendingIn(delivery.Claimed,
		delivery.Sending) + " LIMIT 1) x").Scan(&n).Error
	return n > 0, err
}

// MendWaits has what waits to be sent for longer than anything may wait, because a clock was wrong, sent at
// once. It returns how many emails that were. Nothing is put off by more than an hour between two tries, or
// by its sender's pause.
func (s *Store) MendWaits(ctx context.Context, now time.Time) (int64, error) {
	senders, err := s.Senders(ctx)
	if err != nil {
		return 0, err
	}
	most := time.Hour
	for i := range senders {
		most = max(most, senders[i].Limits().Pause)
	}
	r := s.DB(ctx).Exec("UPDATE deliveries SET next_try = ? WHERE next_try > ? AND next_try < '"+never+"' AND state IN ?",
		now, now.Add(most+time.Minute), []delivery.State{delivery.Queued, delivery.Deferred})
	return r.RowsAffected, r.Error
}

// GiveBackClaimed puts deliveries that a worker has claimed, and has not begun, back into the queue, each
// with the instant at which it was to be tried: nobody has tried them.
func (s *Store) GiveBackClaimed(ctx context.Context, worker int64, next map[int64]time.Time) error {
	return s.Tx(ctx, func(tx *Store) error {
		for id, at := range next {
			if err := tx.DB(ctx).Exec("UPDATE deliveries SET state = ?, worker = 0, next_try = ? WHERE id = ? AND worker = ? "+
				"AND state IN ?", delivery.Queued, at, id, worker, delivery.From(delivery.Queued, delivery.GivingBack)).
				Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// LockQueuedOf locks and returns what is queued of senders, by id from behind after; what others have is
// passed over.
func (s *Store) LockQueuedOf(ctx context.Context, senders []string, after int64,
	limit int) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE id > ? AND "+pendingIn(delivery.Queued)+
		" AND sender_id IN ? AND state = ? ORDER BY id LIMIT ? FOR UPDATE SKIP LOCKED", after, senders, delivery.Queued,
		limit).Scan(&out).Error
	return out, err
}
