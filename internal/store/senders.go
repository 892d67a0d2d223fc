package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
	"nivot/internal/core/template"
)

// Sender is an address emails go from, and the mail server they go by.
type Sender struct {
	ID             string `gorm:"primaryKey"`
	Name           string
	Address        string
	Host           string
	Port           int
	Security       string // "starttls", "tls" or "none"
	Username       string
	SealedPassword []byte
	DailyCap       int     // recipients a day at the most; 0 for no cap
	Pace           int     // emails a minute at the most; 0 for no limit
	Batch          int     // emails after which it pauses; 0 for no pause
	PauseSeconds   int     // for how long
	Zone           string  // whose midnight begins the cap's day
	MaxConnections int     // to its server, of all processes together; 0 for what is found to work
	Position       int     // in the list; the first is used by default
	Signature      *string // under its letters: the core's piece as JSON
	CreatedAt      time.Time
}

// Signs gives the sender's signature; nil for none.
func (x *Sender) Signs() (*template.Piece, error) {
	if x.Signature == nil {
		return nil, nil
	}
	p := &template.Piece{}
	if err := json.Unmarshal([]byte(*x.Signature), p); err != nil {
		return nil, fmt.Errorf("the signature of %s: %w", x.Address, err)
	}
	return p, nil
}

// Limits gives what the sender may send.
func (x *Sender) Limits() delivery.Limits {
	return delivery.Limits{Cap: x.DailyCap, Pace: x.Pace, Batch: x.Batch,
		Pause: time.Duration(x.PauseSeconds) * time.Second}
}

// StandsUnder lists the sender ids under which the sender's deliveries stand: those of the default one may
// stand under none.
func (x *Sender) StandsUnder(isDefault bool) []string {
	if isDefault {
		return []string{x.ID, ""}
	}
	return []string{x.ID}
}

// senderOrder is the order of the senders. When they were made takes no part: instants of the wall clock and
// of a practice clock cannot be compared.
const senderOrder = "position, id"

// Senders lists the senders in their order, the default first.
func (s *Store) Senders(ctx context.Context) (out []Sender, err error) {
	err = s.DB(ctx).Order(senderOrder).Find(&out).Error
	return out, err
}

// LockLimits locks the senders that have limits, so that one process at a time counts what
// they have sent and takes what fits.
func (s *Store) LockLimits(ctx context.Context) error {
	if err := s.guard(ctx, "limits"); err != nil {
		return err
	}
	var ids []string
	return s.DB(ctx).Raw(
		"SELECT id FROM senders WHERE daily_cap > 0 OR pace > 0 OR batch > 0 ORDER BY id FOR UPDATE").Scan(&ids).Error
}

// SaveSender writes a sender, new or not. How it did before is forgotten: what has changed may be what
// kept it from sending.
func (s *Store) SaveSender(ctx context.Context, x *Sender) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error {
		if err := db.Save(x).Error; err != nil {
			return err
		}
		return db.Exec("DELETE FROM sender_states WHERE sender_id = ?", x.ID).Error
	})
}

// PlaceSender gives a sender its place in the list; the first is the default one.
func (s *Store) PlaceSender(ctx context.Context, id string, position int) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error {
		return db.Exec("UPDATE senders SET position = ? WHERE id = ?", position, id).Error
	})
}

// DropSender deletes a sender.
func (s *Store) DropSender(ctx context.Context, id string) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error {
		if err := db.Exec("DELETE FROM sender_states WHERE sender_id = ?", id).Error; err != nil {
			return err
		}
		return db.Exec("DELETE FROM senders WHERE id = ?", id).Error
	})
}

// CountPendingOf counts what of senders is not over: queued, put off, held, on its way.
func (s *Store) CountPendingOf(ctx context.Context, senders []string) (n int64, err error) {
	err = s.DB(ctx).Raw("SELECT COUNT(*) FROM deliveries WHERE "+pendingIn(delivery.Queued, delivery.Claimed,
		delivery.Sending, delivery.Deferred, delivery.Held, delivery.Incomplete)+" AND sender_id IN ?", senders).
		Scan(&n).Error
	return n, err
}
