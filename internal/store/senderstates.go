package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
)

// SenderState is how a sender does, for all processes.
type SenderState struct {
	SenderID string `gorm:"primaryKey"`
	// AvailableAt is before when its pace, or its pause, lets nothing go; nil: at any time.
	AvailableAt *time.Time
	// RestsSince is since when nothing of it goes, because it or its server cannot; nil: it does.
	RestsSince *time.Time
	ProbeAt    *time.Time // when it is tried again
	Probes     int        // how often it has been
	Trouble    Why        // why it rests
	Reply      string     // what the server said
	// MostConnections is how many connections its server has been found to allow, to all processes
	// together; 0: it has refused none. LearnedAt is when.
	MostConnections int
	LearnedAt       *time.Time
	MostBytes       int64 // how large a message its server takes; 0: it does not say
}

// Connections returns how many connections each of so many processes may have by a sender at an instant; 0 for as
// many as it likes. set is what a person has allowed, 0 for any number.
func (x *SenderState) Connections(set, processes int, now time.Time) int {
	var since time.Duration
	if x.LearnedAt != nil {
		since = now.Sub(*x.LearnedAt)
	}
	return delivery.Connections(set, x.MostConnections, since, processes)
}

// SenderStates returns how the senders do, by id; those of which nothing is known are not there.
func (s *Store) SenderStates(ctx context.Context) (map[string]SenderState, error) {
	var found []SenderState
	if err := s.DB(ctx).Find(&found).Error; err != nil {
		return nil, err
	}
	out := make(map[string]SenderState, len(found))
	for _, x := range found {
		out[x.SenderID] = x
	}
	return out, nil
}

// upsertState writes some columns of a sender's state.
func (s *Store) upsertState(ctx context.Context, id, set string, args ...any) error {
	return s.DB(ctx).Exec("INSERT INTO sender_states (sender_id, trouble, reply) VALUES (?, '', '') "+
		"ON DUPLICATE KEY UPDATE sender_id = sender_id", id).Exec("UPDATE sender_states SET "+set+" WHERE sender_id = ?",
		append(args, id)...).Error
}

// Rest has a sender rest, or go on resting, until it is to be tried again.
func (s *Store) Rest(ctx context.Context, id string, now, probe time.Time, probes int, why reason.Reason,
	reply string) error {
	return s.upsertState(ctx, id,
		"trouble = ?, reply = ?, probe_at = ?, probes = ?, rests_since = COALESCE(rests_since, ?)",
		Why{why}, clip(reply, maxKept), probe, probes, now)
}

// ClaimProbe reports whether the caller is the one that is to try a resting sender again. Until then nobody
// else is.
func (s *Store) ClaimProbe(ctx context.Context, id string, now, until time.Time) (bool, error) {
	r := s.DB(ctx).Exec("UPDATE sender_states SET probe_at = ? WHERE sender_id = ? AND rests_since IS NOT NULL AND "+
		"probe_at <= ?", until, id, now)
	return r.RowsAffected > 0, r.Error
}

// Wakes ends a sender's rest. It reports whether there was one.
func (s *Store) Wakes(ctx context.Context, id string) (bool, error) {
	r := s.DB(ctx).Exec("UPDATE sender_states "+
		"SET rests_since = NULL, probe_at = NULL, probes = 0, trouble = '', reply = '' "+
		"WHERE sender_id = ? AND rests_since IS NOT NULL", id)
	return r.RowsAffected > 0, r.Error
}

// AllowConnections notes how many connections a sender's server has been found to allow.
func (s *Store) AllowConnections(ctx context.Context, id string, most int, now time.Time) error {
	return s.upsertState(ctx, id, "most_connections = ?, learned_at = ?", max(1, most), now)
}

// AllowBytes notes how large a message a sender's server takes.
func (s *Store) AllowBytes(ctx context.Context, id string, most int64) error {
	return s.upsertState(ctx, id, "most_bytes = ?", most)
}

// SetAvailable notes from when a sender may send again, by its pace.
func (s *Store) SetAvailable(ctx context.Context, id string, at time.Time) error {
	return s.upsertState(ctx, id, "available_at = ?", at)
}

// QueueAsk asks for what waits to be sent of a sender.
type QueueAsk struct {
	Senders []string // under which ids its deliveries stand
	Share   Share    // of them, by the delivery's number
	Limit   int
}

// QueuedNow returns, without locking, what waits to be sent, of each sender the longest waiting first.
func (s *Store) QueuedNow(ctx context.Context, now time.Time, asks []QueueAsk) (out []Candidate, err error) {
	var parts []string
	var args []any
	for i, a := range asks {
		for _, id := range a.Senders {
			mine := ""
			if a.Share.Of > 1 {
				mine = fmt.Sprintf(" AND id %% %d = %d", a.Share.Of, a.Share.Mine)
			}
			parts = append(parts, fmt.Sprintf("(SELECT id, state, next_try, %d AS ask FROM deliveries FORCE INDEX (queue) "+
				"WHERE sender_id = ? AND next_try <= ?%s ORDER BY next_try, id LIMIT %d)", i, mine, a.Limit))
			args = append(args, id, now)
		}
	}
	if len(parts) == 0 {
		return nil, nil
	}
	err = s.DB(ctx).Raw("SELECT id, state, ask FROM ("+strings.Join(parts, " UNION ALL ")+
		") q ORDER BY ask, next_try, id", args...).Scan(&out).Error
	return out, err
}

// nextSending is the SQL of the next instant at which anything may be sent. What a sender has waiting waits
// for the sender too.
const nextSending = `SELECT MIN(GREATEST(q.t, IFNULL(x.available_at, q.t), IFNULL(x.probe_at, q.t))) FROM
	(SELECT sender_id, MIN(next_try) AS t FROM deliveries GROUP BY sender_id HAVING t < '` + never + `') q
	LEFT JOIN sender_states x ON x.sender_id = IF(q.sender_id = '', (SELECT id FROM senders ORDER BY ` + senderOrder +
	` LIMIT 1), q.sender_id)`

// NextSending returns the next instant at which anything may be sent; the zero time where nothing waits.
func (s *Store) NextSending(ctx context.Context) (time.Time, error) {
	var t sql.NullTime
	err := s.DB(ctx).Raw(nextSending).Scan(&t).Error
	return t.Time, err
}

// CountWaiting counts what waits to be sent of a sender.
func (s *Store) CountWaiting(ctx context.Context, senders []string) (n int64, err error) {
	err = s.DB(ctx).Raw("SELECT COUNT(*) FROM deliveries FORCE INDEX (queue) "+
		"WHERE sender_id IN ? AND next_try < '"+never+"'", senders).Scan(&n).Error
	return n, err
}
