package store

import (
	"bytes"
	"context"
	"errors"
	mrand "math/rand/v2"
	"time"
)

// Once is a request with an idempotency key: it is done once, however often it
// comes, by whichever process.
type Once struct {
	Key     []byte // hashed, of its person
	Request []byte // hashed
}

// Answer is what a request with an idempotency key came to.
type Answer struct {
	KeyHash     []byte `gorm:"primaryKey"`
	RequestHash []byte
	Outcome     string // of the change, as JSON; written with it
	Status      int    // of the answer; 0 while none has been kept
	Body        string
	At          time.Time
}

// ErrKeyUsed says that an idempotency key was used for another request.
var ErrKeyUsed = errors.New("this idempotency key was used for another request")

// Begin takes a request's key inside the transaction of its change. done says
// that it has been done before, and gives what it came to then. A request of
// the same key that is under way is waited for.
func (s *Store) Begin(ctx context.Context, o Once) (outcome string, done bool, err error) {
	if err := s.DB(ctx).Exec("DELETE FROM answers WHERE key_hash = ? AND at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY",
		o.Key).Error; err != nil {
		return "", false, err
	}
	r := s.DB(ctx).Exec(
		"INSERT IGNORE INTO answers (outcome, key_hash, request_hash, at) VALUES ('', ?, ?, UTC_TIMESTAMP(6))", o.Key,
		o.Request)
	if r.Error != nil || r.RowsAffected == 1 {
		return "", false, r.Error
	}
	return s.CameTo(ctx, o)
}

// CameTo gives what a request came to, if it has been done. A transaction that
// may be doing it is waited for.
func (s *Store) CameTo(ctx context.Context, o Once) (outcome string, done bool, err error) {
	var a Answer
	err = first(s.DB(ctx).Raw("SELECT * FROM answers WHERE key_hash = ? LOCK IN SHARE MODE", o.Key).Take(&a).Error)
	switch {
	case err == ErrNotFound:
		return "", false, nil
	case err == nil && !bytes.Equal(a.RequestHash, o.Request):
		return "", false, ErrKeyUsed
	}
	return a.Outcome, err == nil, err
}

// SetOutcome writes what a request has come to, inside its transaction.
func (s *Store) SetOutcome(ctx context.Context, o Once, outcome string) error {
	return s.DB(ctx).Exec("UPDATE answers SET outcome = ? WHERE key_hash = ?", outcome, o.Key).Error
}

// KeptAnswer gives the answer that a request was given; nil for none.
func (s *Store) KeptAnswer(ctx context.Context, o Once) (*Answer, error) {
	if mrand.IntN(100) == 0 {
		if err := s.DB(ctx).Exec(
			"DELETE FROM answers WHERE at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY LIMIT 1000").Error; err != nil {
			return nil, err
		}
	}
	var a Answer
	err := first(s.DB(ctx).Take(&a, "key_hash = ? AND status <> 0 AND at >= UTC_TIMESTAMP(6) - INTERVAL 1 DAY",
		o.Key).Error)
	switch {
	case err == ErrNotFound:
		return nil, nil
	case err == nil && !bytes.Equal(a.RequestHash, o.Request):
		return nil, ErrKeyUsed
	}
	return &a, err
}

// KeepAnswer keeps the first answer to a request that has been done.
func (s *Store) KeepAnswer(ctx context.Context, o Once, status int, body string) error {
	return s.DB(ctx).Exec("UPDATE answers SET status = ?, body = ? WHERE key_hash = ? AND status = 0", status, body,
		o.Key).Error
}
