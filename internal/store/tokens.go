package store

import (
	"context"
	"time"
)

// Token lets a program in. It is kept as a hash only.
type Token struct {
	ID        string `gorm:"primaryKey"`
	TokenHash []byte
	Name      string
	PersonID  string
	SheetID   string // "" for all that its person may see
	Role      Role
	Epoch     int // of the person, when the token was made
	CreatedAt time.Time
	ExpiresAt *time.Time // nil for tokens of before they expired
	UsedAt    *time.Time
	RevokedAt *time.Time
}

// Works reports whether a token of a person lets somebody in.
func (t *Token) Works(p *Person, now time.Time) bool {
	return t.RevokedAt == nil && t.Epoch == p.Epoch && !p.Out() && (t.ExpiresAt == nil || t.ExpiresAt.After(now))
}

// Tokens lists tokens: a person's, or with "" everybody's.
func (s *Store) Tokens(ctx context.Context, person string) (out []Token, err error) {
	q := s.DB(ctx).Order("created_at DESC, id")
	if person != "" {
		q = q.Where("person_id = ?", person)
	}
	err = q.Find(&out).Error
	return out, err
}

// Token finds a token by id.
func (s *Store) Token(ctx context.Context, id string) (*Token, error) {
	var t Token
	return &t, first(s.DB(ctx).First(&t, "id = ?", id).Error)
}

// SaveToken writes a token.
func (s *Store) SaveToken(ctx context.Context, t *Token) error { return s.DB(ctx).Save(t).Error }

// UseToken finds a token that has not been revoked and not expired, and notes its use, to
// the minute.
func (s *Store) UseToken(ctx context.Context, secret string, now time.Time) (*Token, error) {
	var t Token
	if err := first(s.DB(ctx).First(&t,
		"token_hash = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", HashToken(secret),
		now).Error); err != nil {
		return nil, err
	}
	if t.UsedAt == nil || now.Sub(*t.UsedAt) > time.Minute {
		t.UsedAt = &now
		return &t, s.DB(ctx).Exec("UPDATE tokens SET used_at = ? WHERE id = ?", now, t.ID).Error
	}
	return &t, nil
}
