package store

import (
	"context"
	"fmt"
	"time"
)

// TestEmail is an email that somebody sent to colleagues to look at a template. It is no
// occasion and no delivery.
type TestEmail struct {
	ID           int64 `gorm:"primaryKey"`
	SheetID      string
	TemplateID   string // "" of one that was not saved
	TemplateName string
	Version      int64 // of the template, on which the words were based
	RowID        int64
	RowName      string
	Why          string // the row was picked
	SentBy       string
	SentAt       time.Time
	SenderID     string
	IdentityID   int64
	Recipients   []string `gorm:"serializer:json"` // mailboxes
	Subject      string
	MessageID    string
	Pack         []byte // its letter
}

// AddTestEmail notes that a test email has gone, with what it said.
func (s *Store) AddTestEmail(ctx context.Context, t *TestEmail, letter *Letter) error {
	t.Pack = plain().pack(letter)
	return s.DB(ctx).Create(t).Error
}

// TestEmail finds a test email and what it said.
func (s *Store) TestEmail(ctx context.Context, id int64) (*TestEmail, *Letter, error) {
	var t TestEmail
	if err := first(s.DB(ctx).First(&t, "id = ?", id).Error); err != nil {
		return nil, nil, err
	}
	l := &Letter{}
	if err := l.unpack(plain(), t.Pack); err != nil {
		return nil, nil, fmt.Errorf("test email %d: %w", id, err)
	}
	return &t, l, nil
}

// TestLog gives test emails without their letters, the newest first, after a cursor that an
// earlier call gave ("" for the newest). Of a rule, or in a state, there
// are none.
func (s *Store) TestLog(ctx context.Context, f LogFilter, cursor string, limit int) (out []TestEmail, err error) {
	if f.RuleID != "" || len(f.States) > 0 {
		return nil, nil
	}
	f.at = "sent_at"
	q := f.where(s.DB(ctx).Model(&TestEmail{})).Omit("pack")
	if cursor != "" {
		var id int64
		if _, err := fmt.Sscanf(cursor, "%d", &id); err != nil {
			return nil, ErrNotFound
		}
		q = q.Where("id < ?", id)
	}
	err = q.Order("id DESC").Limit(limit).Find(&out).Error
	return out, err
}
