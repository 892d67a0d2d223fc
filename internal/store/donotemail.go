package store

import (
	"context"
	"time"

	"gorm.io/gorm"
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
	return s.changeDoNotEmail(ctx, func(db *gorm.DB) error {
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&DoNotEmail{m.Key(), m.Address(), reason, by,
			now}).Error
	})
}

// OnDoNotEmail reports whether an address is on the list.
func (s *Store) OnDoNotEmail(ctx context.Context, m value.Mailbox) (on bool, err error) {
	err = s.DB(ctx).Raw("SELECT EXISTS (SELECT 1 FROM do_not_email WHERE address_key = ?)", m.Key()).Scan(&on).Error
	return on, err
}

// RemoveDoNotEmail takes an address off the list.
func (s *Store) RemoveDoNotEmail(ctx context.Context, m value.Mailbox) error {
	return s.changeDoNotEmail(ctx, func(db *gorm.DB) error {
		return db.Delete(&DoNotEmail{}, "address_key = ?",
			m.Key()).Error
	})
}

// changeDoNotEmail changes the list and, in the same transaction, its stamp. Stamps are drawn, not
// counted: in a database that went back in time a counted one would stand for two lists.
func (s *Store) changeDoNotEmail(ctx context.Context, change func(*gorm.DB) error) error {
	return s.Tx(ctx, func(tx *Store) error {
		if err := tx.renewing(ctx, common, change); err != nil {
			return err
		}
		return tx.SetSetting(ctx, SettingDoNotEmail, NewID())
	})
}

// silenced is the list as it was under a stamp.
type silenced struct {
	stamp string
	keys  map[string]bool
}

// Silenced gives the keys of the addresses on the list, which must not be changed. It is read once
// for as long as its stamp stands: every piece of work asks for it, and it may be long.
func (s *Store) Silenced(ctx context.Context) (map[string]bool, error) {
	// The stamp first: a list that is newer than its stamp is read again, one that is older never.
	var stamp string
	if _, err := s.Setting(ctx, SettingDoNotEmail, &stamp); err != nil {
		return nil, err
	}
	if known := s.silenced.Load(); known != nil && stamp != "" && known.stamp == stamp {
		return known.keys, nil
	}
	var keys []string
	if err := s.DB(ctx).Model(&DoNotEmail{}).Pluck("address_key", &keys).Error; err != nil {
		return nil, err
	}
	now := &silenced{stamp, make(map[string]bool, len(keys))}
	for _, k := range keys {
		now.keys[k] = true
	}
	s.silenced.Store(now)
	return now.keys, nil
}
