package store

import (
	"context"
	mrand "math/rand/v2"
	"time"

	"gorm.io/gorm/clause"
)

// View is a way of looking at a sheet that somebody has kept.
type View struct {
	ID        string `gorm:"primaryKey"`
	SheetID   string
	PersonID  string
	Name      string
	Shared    bool
	Spec      string // JSON
	CreatedAt time.Time
}

// Views lists the views of a sheet that a person has, and those that others share.
func (s *Store) Views(ctx context.Context, sheetID, person string) (out []View, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND (shared OR person_id = ?)", sheetID, person).Order("name, id").Find(&out).Error
	return out, err
}

// View finds a view.
func (s *Store) View(ctx context.Context, id string) (*View, error) {
	var v View
	return &v, first(s.DB(ctx).First(&v, "id = ?", id).Error)
}

// SaveView writes a view.
func (s *Store) SaveView(ctx context.Context, v *View) error { return s.DB(ctx).Save(v).Error }

// DropView forgets a view.
func (s *Store) DropView(ctx context.Context, id string) error {
	return s.DB(ctx).Delete(&View{}, "id = ?", id).Error
}

// Presence is a page on which somebody has a sheet open.
type Presence struct {
	Page     string `gorm:"primaryKey"`
	SheetID  string
	PersonID string
	RowID    int64
	ColumnID string
	SeenAt   time.Time
}

// TableName implements GORM's tabler.
func (Presence) TableName() string { return "presence" }

// presenceLife is for how many seconds a page that is silent still counts.
const presenceLife = 12

// BePresent notes that a page is there, and where in the sheet.
func (s *Store) BePresent(ctx context.Context, p Presence) error {
	return s.DB(ctx).Exec(`INSERT INTO presence (page, sheet_id, person_id, row_id, column_id, seen_at) VALUES (?,?,?,?,?,UTC_TIMESTAMP(6))
		ON DUPLICATE KEY UPDATE sheet_id = VALUES(sheet_id), person_id = VALUES(person_id), row_id = VALUES(row_id), column_id = VALUES(column_id), seen_at = VALUES(seen_at)`,
		p.Page, p.SheetID, p.PersonID, p.RowID, p.ColumnID).Error
}

// Present lists the other pages that have a sheet open.
func (s *Store) Present(ctx context.Context, sheetID, page string) (out []Presence, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM presence WHERE sheet_id = ? AND page <> ? AND seen_at > UTC_TIMESTAMP(6) - INTERVAL ? SECOND ORDER BY page",
		sheetID, page, presenceLife).Scan(&out).Error
	return out, err
}

// DropPresence forgets a page, and those that have been silent for long.
func (s *Store) DropPresence(ctx context.Context, page string) error {
	return s.DB(ctx).Exec("DELETE FROM presence WHERE page = ? OR seen_at < UTC_TIMESTAMP(6) - INTERVAL 1 HOUR", page).Error
}

// Token lets a program in. It is kept as a hash only.
type Token struct {
	ID        string `gorm:"primaryKey"`
	TokenHash []byte
	Name      string
	PersonID  string
	SheetID   string // "" for all that its person may see
	Role      Role
	CreatedAt time.Time
	UsedAt    *time.Time
	RevokedAt *time.Time
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

// UseToken finds a token that has not been revoked, and notes its use, to the
// minute.
func (s *Store) UseToken(ctx context.Context, secret string, now time.Time) (*Token, error) {
	var t Token
	if err := first(s.DB(ctx).First(&t, "token_hash = ? AND revoked_at IS NULL", HashToken(secret)).Error); err != nil {
		return nil, err
	}
	if t.UsedAt == nil || now.Sub(*t.UsedAt) > time.Minute {
		t.UsedAt = &now
		return &t, s.DB(ctx).Exec("UPDATE tokens SET used_at = ? WHERE id = ?", now, t.ID).Error
	}
	return &t, nil
}

// Answer is what a request with an idempotency key was answered.
type Answer struct {
	KeyHash     []byte `gorm:"primaryKey"`
	RequestHash []byte
	Status      int // 0 while it is worked on
	Body        string
	At          time.Time
}

// answerLife is for how long a key is remembered.
const answerLife = 24 * time.Hour

// answerLost is after how long a request that was begun and never answered may
// be done again.
const answerLost = time.Minute

// ClaimAnswer takes a key for a request. Where it is taken already, the answer
// that was given is given again; its status is 0 while it is worked on.
func (s *Store) ClaimAnswer(ctx context.Context, key, request []byte, now time.Time) (*Answer, error) {
	if mrand.IntN(100) == 0 {
		if err := s.DB(ctx).Exec("DELETE FROM answers WHERE at < ? LIMIT 1000", now.Add(-answerLife)).Error; err != nil {
			return nil, err
		}
	}
	now = now.Truncate(time.Microsecond)
	r := s.DB(ctx).Clauses(clause.Insert{Modifier: "IGNORE"}).Create(&Answer{KeyHash: key, RequestHash: request, At: now})
	if r.Error != nil || r.RowsAffected == 1 {
		return nil, r.Error
	}
	var a Answer
	if err := first(s.DB(ctx).First(&a, "key_hash = ?", key).Error); err != nil {
		return nil, err
	}
	if a.Status == 0 && now.Sub(a.At) > answerLost || now.Sub(a.At) > answerLife {
		r := s.DB(ctx).Exec("UPDATE answers SET request_hash = ?, status = 0, body = NULL, at = ? WHERE key_hash = ? AND at = ?", request, now, key, a.At)
		if r.Error != nil || r.RowsAffected == 1 {
			return nil, r.Error
		}
		a.Status = 0 // somebody else has just taken it
	}
	return &a, nil
}

// KeepAnswer keeps an answer; one of status 0 frees the key.
func (s *Store) KeepAnswer(ctx context.Context, key []byte, status int, body string) error {
	if status == 0 {
		return s.DB(ctx).Delete(&Answer{}, "key_hash = ?", key).Error
	}
	return s.DB(ctx).Exec("UPDATE answers SET status = ?, body = ? WHERE key_hash = ?", status, body, key).Error
}
