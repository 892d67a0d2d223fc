package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// Intake is what somebody sent by a form, kept until the owner of its address confirms it, or two days have passed.
type Intake struct {
	TokenHash   []byte `gorm:"primaryKey"`
	SheetID     string
	AddressKey  []byte // by value.Identifier
	Answers     string // JSON: texts by column; "" once it has become a row
	At          time.Time
	ConfirmedAt *time.Time
}

// LockForm lets nobody else count what the form of a sheet has sent, in this transaction.
func (s *Store) LockForm(ctx context.Context, sheetID string) error {
	var f Form
	return first(s.DB(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).First(&f, "sheet_id = ?", sheetID).Error)
}

// AddIntake keeps what was sent by a form.
func (s *Store) AddIntake(ctx context.Context, i *Intake) error { return s.DB(ctx).Create(i).Error }

// Intake finds what was sent by a form since an instant and waits to be confirmed.
func (s *Store) Intake(ctx context.Context, token string, since time.Time) (*Intake, error) {
	var i Intake
	return &i, first(s.DB(ctx).First(&i, "token_hash = ? AND confirmed_at IS NULL AND at > ?", HashToken(token),
		since).Error)
}

// ConfirmIntake says that the owner of an address has confirmed it; ErrNotFound that somebody
// was faster.
func (s *Store) ConfirmIntake(ctx context.Context, hash []byte, now time.Time) error {
	r := s.DB(ctx).Exec("UPDATE intakes SET answers = '', confirmed_at = ? WHERE token_hash = ? AND confirmed_at IS NULL",
		now, hash)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

// DropIntake forgets what was sent by a form.
func (s *Store) DropIntake(ctx context.Context, hash []byte) error {
	return s.DB(ctx).Delete(&Intake{}, "token_hash = ?", hash).Error
}

// DropIntakes forgets what was sent before an instant, confirmed or not.
func (s *Store) DropIntakes(ctx context.Context, before time.Time) error {
	return s.DB(ctx).Exec("DELETE FROM intakes WHERE at < ?", before).Error
}

// IntakesSince counts what was sent by the form of a sheet since an instant and had to be
// confirmed: in all, and for one address.
func (s *Store) IntakesSince(ctx context.Context, sheetID string, address []byte,
	since time.Time) (all, ofAddress int64, err error) {
	var r struct {
		All       int64
		OfAddress int64
	}
	err = s.DB(ctx).Raw(`SELECT (SELECT COUNT(*) FROM intakes WHERE sheet_id = ? AND at > ?) AS `+"`all`"+`,
		(SELECT COUNT(*) FROM intakes WHERE sheet_id = ? AND address_key = ? AND at > ?) AS of_address`,
		sheetID, since, sheetID, address, since).Scan(&r).Error
	return r.All, r.OfAddress, err
}
