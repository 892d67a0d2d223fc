package store

import (
	"context"
	"time"
)

// Feed is a feed of what is coming, of a sheet or of one of its rules.
type Feed struct {
	ID        string `gorm:"primaryKey"`
	TokenHash []byte
	SheetID   string
	RuleID    string // "" for all rules
	MadeBy    string
	PersonID  string // who made it
	Epoch     int    // of the person, when the feed was made
	MadeAt    time.Time
}

// Works reports whether a feed of a person is answered.
func (f *Feed) Works(p *Person) bool { return f.Epoch == p.Epoch && !p.Out() }

// Feeds lists the feeds of a sheet.
func (s *Store) Feeds(ctx context.Context, sheetID string) (out []Feed, err error) {
	err = s.DB(ctx).Where("sheet_id = ?", sheetID).Order("made_at, id").Find(&out).Error
	return out, err
}

// FeedOf finds a feed by its secret.
func (s *Store) FeedOf(ctx context.Context, secret string) (*Feed, error) {
	var f Feed
	return &f, first(s.DB(ctx).First(&f, "token_hash = ?", HashToken(secret)).Error)
}

// AddFeed writes a new feed.
func (s *Store) AddFeed(ctx context.Context, f *Feed) error { return s.DB(ctx).Create(f).Error }

// RemoveFeed takes a feed of a sheet back.
func (s *Store) RemoveFeed(ctx context.Context, sheetID, id string) error {
	res := s.DB(ctx).Exec("DELETE FROM feeds WHERE id = ? AND sheet_id = ?", id, sheetID)
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrNotFound
	}
	return res.Error
}
