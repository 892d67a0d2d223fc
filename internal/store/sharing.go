package store

import (
	"bytes"
	"context"
	"errors"
	mrand "math/rand/v2"
	"time"
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
	DeletedAt *time.Time
}

// Views lists the views of a sheet that a person has, and those that others share; with
// those that have been deleted since an instant.
func (s *Store) Views(ctx context.Context, sheetID, person string, since time.Time) (out []View, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND (shared OR person_id = ?) AND (deleted_at IS NULL OR deleted_at > ?)", sheetID, person, since).Order("name, id").Find(&out).Error
	return out, err
}

// View finds a view, deleted or not.
func (s *Store) View(ctx context.Context, id string) (*View, error) {
	var v View
	return &v, first(s.DB(ctx).First(&v, "id = ?", id).Error)
}

// CountViews counts the views that a person has.
func (s *Store) CountViews(ctx context.Context, person string) (n int64, err error) {
	err = s.DB(ctx).Model(&View{}).Where("person_id = ? AND deleted_at IS NULL", person).Count(&n).Error
	return n, err
}

// SaveView writes a view.
func (s *Store) SaveView(ctx context.Context, v *View) error { return s.DB(ctx).Save(v).Error }

// Presence is a page on which somebody has a sheet open.
type Presence struct {
	Page     string `gorm:"primaryKey"`
	SheetID  string
	PersonID string
	RowID    int64
	ColumnID string
	Thing    string // what of the sheet is open, such as "rule:" with its id; "" for its rows
	SeenAt   time.Time
}

// TableName implements GORM's tabler.
func (Presence) TableName() string { return "presence" }

// presenceLife is for how many seconds a page that is silent still counts.
const presenceLife = 12

// BePresent notes that a page is there, and where in the sheet.
func (s *Store) BePresent(ctx context.Context, p Presence) error {
	return s.DB(ctx).Exec(`INSERT INTO presence (page, sheet_id, person_id, row_id, column_id, thing, seen_at) VALUES (?,?,?,?,?,?,UTC_TIMESTAMP(6))
		ON DUPLICATE KEY UPDATE sheet_id = VALUES(sheet_id), person_id = VALUES(person_id), row_id = VALUES(row_id), column_id = VALUES(column_id), thing = VALUES(thing), seen_at = VALUES(seen_at)`,
		p.Page, p.SheetID, p.PersonID, p.RowID, p.ColumnID, p.Thing).Error
}

// Present lists the other pages that have a sheet open, or something of it.
func (s *Store) Present(ctx context.Context, sheetID, thing, page string) (out []Presence, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM presence WHERE sheet_id = ? AND thing = ? AND page <> ? AND seen_at > UTC_TIMESTAMP(6) - INTERVAL ? SECOND ORDER BY page",
		sheetID, thing, page, presenceLife).Scan(&out).Error
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
	if err := first(s.DB(ctx).First(&t, "token_hash = ? AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > ?)", HashToken(secret), now).Error); err != nil {
		return nil, err
	}
	if t.UsedAt == nil || now.Sub(*t.UsedAt) > time.Minute {
		t.UsedAt = &now
		return &t, s.DB(ctx).Exec("UPDATE tokens SET used_at = ? WHERE id = ?", now, t.ID).Error
	}
	return &t, nil
}

// Once is a request with an idempotency key: it is done once, however often it
// comes, by whichever process.
type Once struct {
	Key     []byte // hashed, of its person
	Request []byte // hashed
}

// Answer is what a request with an idempotency key came to.
type Answer struct {
	KeyHash     []byte `gorm:"primaryKey"`
	RequestHash []byte
	Outcome     string // of the change, as JSON; written with it
	Status      int    // of the answer; 0 while none has been kept
	Body        string
	At          time.Time
}

// ErrKeyUsed says that an idempotency key was used for another request.
var ErrKeyUsed = errors.New("this idempotency key was used for another request")

// Begin takes a request's key inside the transaction of its change. done says
// that it has been done before, and gives what it came to then. A request of
// the same key that is under way is waited for.
func (s *Store) Begin(ctx context.Context, o Once) (outcome string, done bool, err error) {
	if err := s.DB(ctx).Exec("DELETE FROM answers WHERE key_hash = ? AND at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY", o.Key).Error; err != nil {
		return "", false, err
	}
	r := s.DB(ctx).Exec("INSERT IGNORE INTO answers (outcome, key_hash, request_hash, at) VALUES ('', ?, ?, UTC_TIMESTAMP(6))", o.Key, o.Request)
	if r.Error != nil || r.RowsAffected == 1 {
		return "", false, r.Error
	}
	return s.CameTo(ctx, o)
}

// CameTo gives what a request came to, if it has been done. A transaction that
// may be doing it is waited for.
func (s *Store) CameTo(ctx context.Context, o Once) (outcome string, done bool, err error) {
	var a Answer
	err = first(s.DB(ctx).Raw("SELECT * FROM answers WHERE key_hash = ? LOCK IN SHARE MODE", o.Key).Take(&a).Error)
	switch {
	case err == ErrNotFound:
		return "", false, nil
	case err == nil && !bytes.Equal(a.RequestHash, o.Request):
		return "", false, ErrKeyUsed
	}
	return a.Outcome, err == nil, err
}

// SetOutcome writes what a request has come to, inside its transaction.
func (s *Store) SetOutcome(ctx context.Context, o Once, outcome string) error {
	return s.DB(ctx).Exec("UPDATE answers SET outcome = ? WHERE key_hash = ?", outcome, o.Key).Error
}

// KeptAnswer gives the answer that a request was given; nil for none.
func (s *Store) KeptAnswer(ctx context.Context, o Once) (*Answer, error) {
	if mrand.IntN(100) == 0 {
		if err := s.DB(ctx).Exec("DELETE FROM answers WHERE at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY LIMIT 1000").Error; err != nil {
			return nil, err
		}
	}
	var a Answer
	err := first(s.DB(ctx).Take(&a, "key_hash = ? AND status <> 0 AND at >= UTC_TIMESTAMP(6) - INTERVAL 1 DAY", o.Key).Error)
	switch {
	case err == ErrNotFound:
		return nil, nil
	case err == nil && !bytes.Equal(a.RequestHash, o.Request):
		return nil, ErrKeyUsed
	}
	return &a, err
}

// KeepAnswer keeps the first answer to a request that has been done.
func (s *Store) KeepAnswer(ctx context.Context, o Once, status int, body string) error {
	return s.DB(ctx).Exec("UPDATE answers SET status = ?, body = ? WHERE key_hash = ? AND status = 0", status, body, o.Key).Error
}
