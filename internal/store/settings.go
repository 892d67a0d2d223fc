package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

type setting struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// The names of settings.
const (
	SettingSending = "sending" // bool: all sending is on
	// with two sheets' ids: map, which column of the second stands for one of the first
	SettingColumnsFit = "columns-fit"
	SettingOptOutKey  = "opt-out-key"    // bytes: signs the tokens of unsubscribe links; sealed
	SettingFormKey    = "form-key"       // bytes: signs who has confirmed an address for a form; sealed
	SettingClock      = "practice-clock" // the practice clock's offset
	SettingWentBack   = "went-back"      // WentBack
	SettingDoNotEmail = "do-not-email"   // string: the stamp of the do-not-email list
	SettingCompares   = "compares-words" // bool: a rule asks, or has asked, for same words
	SettingNight      = "night"          // string: the last day whose nightly work has been done
)

// Setting reads a setting into v; ok is false where it has never been set.
func (s *Store) Setting(ctx context.Context, name string, v any) (ok bool, err error) {
	return readSetting(s.DB(ctx), name, v)
}

// LockSetting is Setting, and keeps others from writing it until the transaction ends.
func (s *Store) LockSetting(ctx context.Context, name string, v any) (ok bool, err error) {
	return readSetting(s.DB(ctx).Clauses(clause.Locking{Strength: "UPDATE"}), name, v)
}

func readSetting(db *gorm.DB, name string, v any) (ok bool, err error) {
	var r setting
	err = first(db.First(&r, "name = ?", name).Error)
	if err == ErrNotFound {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, json.Unmarshal([]byte(r.Value), v)
}

// SetSetting writes a setting.
func (s *Store) SetSetting(ctx context.Context, name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.DB(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&setting{name, string(b)}).Error
}

// SetSettingOnce writes a setting that is not there yet.
func (s *Store) SetSettingOnce(ctx context.Context, name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.DB(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&setting{name, string(b)}).Error
}

// SendingOn reports whether sending is on: it is unless somebody has switched it off.
func (s *Store) SendingOn(ctx context.Context) (bool, error) {
	on := true
	_, err := s.Setting(ctx, SettingSending, &on)
	return on, err
}
