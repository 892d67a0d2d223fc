package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"nivot/internal/core/value"
)

// DoNotEmail is an address that gets nothing more.
type DoNotEmail struct {
	AddressKey string `gorm:"primaryKey"`
	Address    string
	Reason     string
	AddedBy    string
	AddedAt    time.Time
}

// TableName implements GORM's tabler.
func (DoNotEmail) TableName() string { return "do_not_email" }

// DoNotEmailList lists the do-not-email list.
func (s *Store) DoNotEmailList(ctx context.Context) (out []DoNotEmail, err error) {
	err = s.DB(ctx).Order("address").Find(&out).Error
	return out, err
}

// AddDoNotEmail puts an address on the list; one that is there stays.
func (s *Store) AddDoNotEmail(ctx context.Context, m value.Mailbox, reason, by string, now time.Time) error {
	return s.DB(ctx).Clauses(clause.OnConflict{DoNothing: true}).
		Create(&DoNotEmail{m.Key(), m.Address(), reason, by, now}).Error
}

// OnDoNotEmail reports whether an address is on the list.
func (s *Store) OnDoNotEmail(ctx context.Context, m value.Mailbox) (on bool, err error) {
	err = s.DB(ctx).Raw("SELECT EXISTS (SELECT 1 FROM do_not_email WHERE address_key = ?)", m.Key()).Scan(&on).Error
	return on, err
}

// RemoveDoNotEmail takes an address off the list.
func (s *Store) RemoveDoNotEmail(ctx context.Context, m value.Mailbox) error {
	return s.DB(ctx).Delete(&DoNotEmail{}, "address_key = ?", m.Key()).Error
}
