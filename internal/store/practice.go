package store

import (
	"context"
	"time"
)

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
func (s *Store) PracticeMessages(ctx context.Context, before int64, limit int,
	find string) (out []PracticeMessage, total int64, err error) {
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
