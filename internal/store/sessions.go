package store

import (
	"context"
	"time"
)

// Session is a browser in which somebody has signed in.
type Session struct {
	TokenHash []byte `gorm:"primaryKey"`
	Data      []byte
	Expiry    time.Time
	PersonID  string
	CreatedAt time.Time
	SeenAt    time.Time // to the minute
	Network   string    // address that it was begun from
	Agent     string    // what the browser calls itself
	EndedAt   *time.Time
}

// A session that is not used goes on for this many seconds.
const idleSeconds = 3 * 24 * 60 * 60

const goesOn = "ended_at IS NULL AND expiry > UTC_TIMESTAMP(6) AND seen_at > UTC_TIMESTAMP(6) - INTERVAL ? SECOND"

// Opening says whose a session that is about to be kept is, and in which browser it was begun;
// from where, the context's Doer says.
type Opening struct{ Person, Agent string }

type openingKey struct{}

// WithOpening tells the sessions that are kept under the context whose they are.
func WithOpening(ctx context.Context, o *Opening) context.Context {
	return context.WithValue(ctx, openingKey{}, o)
}

// OpeningOf gives what WithOpening has told; nil for nothing.
func OpeningOf(ctx context.Context) *Opening {
	o, _ := ctx.Value(openingKey{}).(*Opening)
	return o
}

// Sessions keeps signed-in sessions; it is the store that scs asks for. A session that has
// ended stays as a mark until it would have expired, so that a request that was begun before
// does not bring it back.
type Sessions struct{ S *Store }

// FindCtx implements scs.CtxStore.
func (x Sessions) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	var r struct {
		Data  []byte
		Stale bool
	}
	hash := HashToken(token)
	err := first(
		x.S.DB(ctx).Raw(
			"SELECT data, seen_at < UTC_TIMESTAMP(6) - INTERVAL 1 MINUTE AS stale FROM sessions WHERE token_hash = ? AND "+
				goesOn, hash, idleSeconds).Take(&r).Error)
	if err == ErrNotFound {
		return nil, false, nil
	}
	if err != nil || !r.Stale {
		return r.Data, err == nil, err
	}
	return r.Data, true, x.S.DB(ctx).Exec("UPDATE sessions SET seen_at = UTC_TIMESTAMP(6) WHERE token_hash = ?",
		hash).Error
}

// SessionGoesOn reports whether a session has not ended; that is no use of it.
func (s *Store) SessionGoesOn(ctx context.Context, hash []byte) (on bool, err error) {
	err = s.DB(ctx).Raw("SELECT EXISTS (SELECT 1 FROM sessions WHERE token_hash = ? AND "+goesOn+")", hash,
		idleSeconds).Scan(&on).Error
	return on, err
}

// CommitCtx implements scs.CtxStore.
func (x Sessions) CommitCtx(ctx context.Context, token string, b []byte, expiry time.Time) error {
	o := OpeningOf(ctx)
	if o == nil {
		o = &Opening{}
	}
	return x.S.DB(ctx).Exec(
		`INSERT INTO sessions (person_id, data, token_hash, expiry, network, agent, created_at, seen_at)
		VALUES (?, ?, ?, ?, ?, ?, UTC_TIMESTAMP(6), UTC_TIMESTAMP(6))
		ON DUPLICATE KEY UPDATE data = IF(ended_at IS NULL, VALUES(data), data),
			expiry = IF(ended_at IS NULL, VALUES(expiry), expiry)`,
		o.Person, b, HashToken(token), expiry.UTC(), DoerOf(ctx).Network, o.Agent).Error
}

// DeleteCtx implements scs.CtxStore.
func (x Sessions) DeleteCtx(ctx context.Context, token string) error {
	return x.S.EndSession(ctx, HashToken(token))
}

// Find implements scs.Store.
func (x Sessions) Find(token string) ([]byte, bool, error) {
	return x.FindCtx(context.Background(), token)
}

// Commit implements scs.Store.
func (x Sessions) Commit(token string, b []byte, expiry time.Time) error {
	return x.CommitCtx(context.Background(), token, b, expiry)
}

// Delete implements scs.Store.
func (x Sessions) Delete(token string) error { return x.DeleteCtx(context.Background(), token) }

// SessionsOf lists the sessions of a person that go on, the one used last first.
func (s *Store) SessionsOf(ctx context.Context, person string) (out []Session, err error) {
	err = s.DB(ctx).Where("person_id = ? AND "+goesOn, person, idleSeconds).
		Order("seen_at DESC, created_at DESC").Find(&out).Error
	return out, err
}

// EndSession ends a session by the hash of its token.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return s.DB(ctx).Exec(
		"UPDATE sessions SET ended_at = UTC_TIMESTAMP(6), data = '' WHERE token_hash = ? AND ended_at IS NULL", hash).Error
}

// EndSessions ends the sessions of a person but one, and gives how many.
func (s *Store) EndSessions(ctx context.Context, person string, but []byte) (int64, error) {
	r := s.DB(ctx).Exec(
		"UPDATE sessions SET ended_at = UTC_TIMESTAMP(6), data = '' WHERE person_id = ? AND token_hash <> ? AND ended_at "+
			"IS NULL", person, but)
	return r.RowsAffected, r.Error
}

// KnownFrom reports whether a person has signed in from a network address of late.
func (s *Store) KnownFrom(ctx context.Context, person, network string) (known bool, err error) {
	err = s.DB(ctx).Raw("SELECT EXISTS (SELECT 1 FROM sessions WHERE person_id = ? AND network = ?)", person,
		network).Scan(&known).Error
	return known, err
}
