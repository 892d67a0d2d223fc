package store

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
)

// Batch is one sending by hand.
type Batch struct {
	ID        int64 `gorm:"primaryKey"`
	SheetID   string
	RuleID    string
	Name      string
	At        time.Time // the instant that all of its emails were due
	Actor     string
	Picked    string // ids of the rows, as JSON
	Total     int
	Done      int // rows that have been judged
	StoppedAt *time.Time
	StoppedBy string
	SameWords rule.SameWords // what becomes of what says what another says; "" is as the rule has it
}

// Rows gives the ids of the rows that were picked.
func (b *Batch) Rows() (ids []int64, err error) {
	err = json.Unmarshal([]byte(b.Picked), &ids)
	return ids, err
}

// Add adds rows that the batch does not have yet, and reports whether there were
// any.
func (b *Batch) Add(ids []int64) (more bool, err error) {
	have, err := b.Rows()
	if err != nil {
		return false, err
	}
	known := len(have)
	for _, id := range ids {
		if !slices.Contains(have[:known], id) {
			have = append(have, id)
		}
	}
	b.Picked, b.Total = Detail(have), len(have)
	return len(have) > known, nil
}

// Running reports whether rows of it are still to be judged.
func (b *Batch) Running() bool { return b.StoppedAt == nil && b.Done < b.Total }

// AddBatch writes a batch; of a name that the rule has had before it gives that
// one, and reports that it is not new.
func (s *Store) AddBatch(ctx context.Context, b *Batch) (fresh bool, err error) {
	res := s.DB(ctx).Exec(
		"INSERT IGNORE INTO batches (sheet_id, rule_id, name, at, actor, picked, total, same_words) "+
			"VALUES (?,?,?,?,?,?,?,?)",
		b.SheetID, b.RuleID, b.Name, b.At, b.Actor, b.Picked, b.Total, b.SameWords)
	if res.Error != nil {
		return false, res.Error
	}
	name := b.Name
	return res.RowsAffected == 1, first(s.DB(ctx).Raw("SELECT * FROM batches WHERE rule_id = ? AND name = ?", b.RuleID,
		name).Take(b).Error)
}

// Batch finds a batch.
func (s *Store) Batch(ctx context.Context, id int64) (*Batch, error) {
	var b Batch
	return &b, first(s.DB(ctx).Raw("SELECT * FROM batches WHERE id = ?", id).Take(&b).Error)
}

// BatchNamed finds a rule's batch by its name.
func (s *Store) BatchNamed(ctx context.Context, ruleID, name string) (*Batch, error) {
	var b Batch
	return &b, first(s.DB(ctx).Raw("SELECT * FROM batches WHERE rule_id = ? AND name = ?", ruleID, name).Take(&b).Error)
}

// LockBatch finds a batch and locks it.
func (s *Store) LockBatch(ctx context.Context, id int64) (*Batch, error) {
	var b Batch
	return &b, first(s.DB(ctx).Raw("SELECT * FROM batches WHERE id = ? FOR UPDATE", id).Take(&b).Error)
}

// Batches lists a sheet's batches, the latest first.
func (s *Store) Batches(ctx context.Context, sheetID string, limit int) (out []Batch, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM batches WHERE sheet_id = ? ORDER BY at DESC, id DESC LIMIT ?", sheetID,
		limit).Scan(&out).Error
	return out, err
}

// SaveBatch writes a batch's rows, how far it has come, and whether it is stopped.
func (s *Store) SaveBatch(ctx context.Context, b *Batch) error {
	return s.DB(ctx).Exec(
		"UPDATE batches SET picked = ?, total = ?, done = ?, stopped_at = ?, stopped_by = ? WHERE id = ?", b.Picked, b.Total,
		b.Done, b.StoppedAt, b.StoppedBy, b.ID).Error
}

// ClaimHand locks and gives an entry of a batch that is to go on; nil where
// there is none that no other process has.
func (s *Store) ClaimHand(ctx context.Context, now time.Time) (*Entry, error) {
	var out []Entry
	err := s.DB(ctx).Raw(
		"SELECT * FROM agenda WHERE kind = 'hand' AND due_at <= ? ORDER BY due_at, id LIMIT 1 FOR UPDATE SKIP LOCKED",
		now).Scan(&out).Error
	if err != nil || len(out) == 0 {
		return nil, err
	}
	return &out[0], nil
}

// LockHand locks and gives the entry of a batch, waiting for who else has it.
func (s *Store) LockHand(ctx context.Context, batch int64) (*Entry, error) {
	var en Entry
	return &en, first(s.DB(ctx).Raw("SELECT * FROM agenda WHERE kind = 'hand' AND nr = ? FOR UPDATE", batch).
		Take(&en).Error)
}

// LockOfBatch locks and gives what a batch has in some states.
func (s *Store) LockOfBatch(ctx context.Context, b *Batch, in []delivery.State) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE rule_id = ? AND due_at = ? AND state IN ? ORDER BY id FOR UPDATE",
		b.RuleID, b.At, in).Scan(&out).Error
	return out, err
}

// CountOfBatch counts what has become of a batch's emails, by state.
func (s *Store) CountOfBatch(ctx context.Context, b *Batch) (map[delivery.State]int, error) {
	var found []struct {
		State delivery.State
		N     int
	}
	err := s.DB(ctx).Raw("SELECT state, COUNT(*) AS n FROM deliveries WHERE rule_id = ? AND due_at = ? GROUP BY state",
		b.RuleID, b.At).Scan(&found).Error
	out := map[delivery.State]int{}
	for _, f := range found {
		out[f.State] = f.N
	}
	return out, err
}

// Recently gives which of some rows have been written to with a template since
// an instant, and when last.
func (s *Store) Recently(ctx context.Context, rows []int64, template string,
	since time.Time) (map[int64]time.Time, error) {
	out := map[int64]time.Time{}
	err := chunks(rows, 1000, func(c []int64) error {
		var found []struct {
			RowID int64
			At    time.Time
		}
		err := s.DB(ctx).Raw(
			`SELECT row_id, MAX(IF(finished_at < '`+never+`', finished_at, due_at)) AS at FROM deliveries
			WHERE row_id IN ? AND template_id = ? AND due_at >= ?
			AND state IN ('queued','claimed','sending','accepted','deferred','in-doubt','bounced') GROUP BY row_id`, c,
			template, since).Scan(&found).Error
		for _, f := range found {
			out[f.RowID] = f.At
		}
		return err
	})
	return out, err
}

// WaitingIn returns what waits for rows in a template's words: incomplete, held, or put off.
func (s *Store) WaitingIn(ctx context.Context, rows []int64, template string) (out []Delivery, err error) {
	err = chunks(rows, 1000, func(c []int64) error {
		var found []Delivery
		err := s.DB(ctx).Raw("SELECT id, rule_id, row_id, state, origin FROM deliveries "+
			"WHERE row_id IN ? AND template_id = ? AND state IN ?", c, template,
			[]delivery.State{delivery.Incomplete, delivery.Held, delivery.Deferred}).Scan(&found).Error
		out = append(out, found...)
		return err
	})
	return out, err
}
