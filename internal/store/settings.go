package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"nivot/internal/core/delivery"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

type setting struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// The names of settings.
const (
	SettingSending    = "sending"        // bool: the lever
	SettingColumnsFit = "columns-fit"    // with two sheets' ids: map, which column of the second stands for one of the first
	SettingOptOutKey  = "opt-out-key"    // bytes: signs the tokens of unsubscribe links
	SettingClock      = "practice-clock" // the practice clock's offset
	SettingWentBack   = "went-back"      // WentBack
)

// Setting reads a setting into v; ok is false where it has never been set.
func (s *Store) Setting(ctx context.Context, name string, v any) (ok bool, err error) {
	var r setting
	err = first(s.DB(ctx).First(&r, "name = ?", name).Error)
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

// SendingOn reads the lever: on unless somebody has switched it off.
func (s *Store) SendingOn(ctx context.Context) (bool, error) {
	on := true
	_, err := s.Setting(ctx, SettingSending, &on)
	return on, err
}

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
	return delivery.Limits{Cap: x.DailyCap, Pace: x.Pace, Batch: x.Batch, Pause: time.Duration(x.PauseSeconds) * time.Second}
}

// Senders lists the senders, the oldest (the default) first.
func (s *Store) Senders(ctx context.Context) (out []Sender, err error) {
	err = s.DB(ctx).Order("created_at, id").Find(&out).Error
	return out, err
}

// LockLimits locks the senders that have limits, so that one process at a time counts what
// they have sent and takes what fits.
func (s *Store) LockLimits(ctx context.Context) error {
	var ids []string
	return s.DB(ctx).Raw("SELECT id FROM senders WHERE daily_cap > 0 OR pace > 0 OR batch > 0 ORDER BY id FOR UPDATE").Scan(&ids).Error
}

// SaveSender writes a sender, new or not.
func (s *Store) SaveSender(ctx context.Context, x *Sender) error { return s.DB(ctx).Save(x).Error }

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

// PracticeMessage is a mail that the practice mail server took.
type PracticeMessage struct {
	ID           int64 `gorm:"primaryKey"`
	ReceivedAt   time.Time
	EnvelopeFrom string
	EnvelopeTo   string // addresses, one a line
	Subject      string
	MessageID    string
	Raw          []byte
}

// AddPracticeMessage keeps a mail.
func (s *Store) AddPracticeMessage(ctx context.Context, m *PracticeMessage) error {
	return s.DB(ctx).Create(m).Error
}

// PracticeMessages lists mails without their content, the newest first.
// before is the id to start below, 0 for the newest.
func (s *Store) PracticeMessages(ctx context.Context, before int64, limit int, find string) (out []PracticeMessage, total int64, err error) {
	q := s.DB(ctx).Model(&PracticeMessage{})
	if find != "" {
		like := "%" + escapeLike(find) + "%"
		q = q.Where("envelope_to LIKE ? OR subject LIKE ?", like, like)
	}
	if err = q.Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	err = q.Omit("raw").Order("id DESC").Limit(limit).Find(&out).Error
	return out, total, err
}

// PracticeMessage gives one mail with its content.
func (s *Store) PracticeMessage(ctx context.Context, id int64) (*PracticeMessage, error) {
	var m PracticeMessage
	return &m, first(s.DB(ctx).First(&m, "id = ?", id).Error)
}
