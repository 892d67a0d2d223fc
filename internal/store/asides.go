package store

import (
	"context"
	"time"
)

// SetAside is what a person has said of an email that is to come.
type SetAside struct {
	Occasion []byte `gorm:"primaryKey"` // its identity
	SheetID  string
	RuleID   string
	RowID    int64
	DueAt    time.Time  // as it was foreseen
	MovedTo  *time.Time // when it goes instead; nil: it does not go
	Ends     bool       // nor do the follow-ups after it
	Why      string
	Origin   string // the occasion as it was foreseen, as JSON
	Actor    string
	At       time.Time
}

// SetAsides gives what has been said of rows' emails to come.
func (s *Store) SetAsides(ctx context.Context, rowIDs []int64) (out []SetAside, err error) {
	err = chunks(rowIDs, 1000, func(c []int64) error {
		var part []SetAside
		err := s.DB(ctx).Raw("SELECT * FROM set_asides WHERE row_id IN ?", c).Scan(&part).Error
		out = append(out, part...)
		return err
	})
	return out, err
}

// SheetSetAsides gives what has been said of a sheet's emails that were or are
// due after an instant.
func (s *Store) SheetSetAsides(ctx context.Context, sheetID string, after time.Time) (out []SetAside, err error) {
	err = s.DB(ctx).Raw(
		"SELECT * FROM set_asides WHERE sheet_id = ? AND (due_at > ? OR moved_to > ?) ORDER BY due_at, occasion", sheetID,
		after, after).Scan(&out).Error
	return out, err
}

// RoundUpsAside gives what has been said of a rule's round-ups to come.
func (s *Store) RoundUpsAside(ctx context.Context, ruleID string) (out []SetAside, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM set_asides WHERE rule_id = ? AND row_id = 0", ruleID).Scan(&out).Error
	return out, err
}

// SaveSetAside writes what a person says of an email, in the place of what was
// said of it before.
func (s *Store) SaveSetAside(ctx context.Context, a *SetAside) error { return s.DB(ctx).Save(a).Error }

// RemoveSetAside takes back what was said of an email.
func (s *Store) RemoveSetAside(ctx context.Context, occasion []byte) error {
	return s.DB(ctx).Exec("DELETE FROM set_asides WHERE occasion = ?", occasion).Error
}
