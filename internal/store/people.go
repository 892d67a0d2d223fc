package store

import (
	"context"
	"crypto/sha256"
	"slices"
	"time"

	"gorm.io/gorm/clause"
)

// Role says what a person may do; each includes the ones after it.
type Role string

// The roles.
const (
	Administrator Role = "administrator"
	Coordinator   Role = "coordinator"
	Editor        Role = "editor"
	Reader        Role = "reader"
)

// Roles lists the roles from the one that may do all.
var Roles = []Role{Administrator, Coordinator, Editor, Reader}

// May tells whether r includes what need asks for. A role that is not known
// includes nothing, and is included in none.
func (r Role) May(need Role) bool {
	mine, asked := slices.Index(Roles, r), slices.Index(Roles, need)
	return mine >= 0 && mine <= asked
}

// Person is somebody who signs in.
type Person struct {
	ID           string `gorm:"primaryKey"`
	Email        string
	Name         string
	Role         Role
	PasswordHash string
	Disabled     bool
	Failures     int
	LockedUntil  *time.Time
	CreatedAt    time.Time
	DeletedAt    *time.Time
	DeletedBy    string
}

// Out reports whether the person may not sign in.
func (p *Person) Out() bool { return p.Disabled || p.DeletedAt != nil }

// Link is a one-time link: its token is kept as a hash only.
type Link struct {
	TokenHash []byte `gorm:"primaryKey"`
	PersonID  string
	Purpose   string
	ExpiresAt time.Time
	UsedAt    *time.Time
}

// HashToken is the form in which a token is kept.
func HashToken(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}

// People lists everybody by name, those who have been deleted too: their names stand in
// what they did.
func (s *Store) People(ctx context.Context) (out []Person, err error) {
	err = s.DB(ctx).Order("name, id").Find(&out).Error
	return out, err
}

// CountPeople counts those who have a password.
func (s *Store) CountPeople(ctx context.Context) (n int64, err error) {
	err = s.DB(ctx).Model(&Person{}).Where("password_hash <> ''").Count(&n).Error
	return n, err
}

// Person finds a person by id.
func (s *Store) Person(ctx context.Context, id string) (*Person, error) {
	var p Person
	return &p, first(s.DB(ctx).First(&p, "id = ?", id).Error)
}

// PersonByEmail finds a person by address, without case.
func (s *Store) PersonByEmail(ctx context.Context, email string) (*Person, error) {
	var p Person
	return &p, first(s.DB(ctx).First(&p, "email = ?", email).Error)
}

// SavePerson writes a person, new or not.
func (s *Store) SavePerson(ctx context.Context, p *Person) error {
	return s.DB(ctx).Save(p).Error
}

// SaveLink keeps a one-time link.
func (s *Store) SaveLink(ctx context.Context, l *Link) error { return s.DB(ctx).Create(l).Error }

// DropLinks forgets the unused links of a person.
func (s *Store) DropLinks(ctx context.Context, person string) error {
	return s.DB(ctx).Where("person_id = ? AND used_at IS NULL", person).Delete(&Link{}).Error
}

// FindLink finds an unused link that has not expired.
func (s *Store) FindLink(ctx context.Context, token string, now time.Time) (*Link, error) {
	var l Link
	return &l, first(s.DB(ctx).First(&l, "token_hash = ? AND used_at IS NULL AND expires_at > ?", HashToken(token), now).Error)
}

// UseLink marks a link used; ErrNotFound says that somebody was faster.
func (s *Store) UseLink(ctx context.Context, l *Link, now time.Time) error {
	r := s.DB(ctx).Model(&Link{}).Where("token_hash = ? AND used_at IS NULL", l.TokenHash).Update("used_at", now)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}

type session struct {
	TokenHash []byte `gorm:"primaryKey"`
	Data      []byte
	Expiry    time.Time
}

// Sessions keeps signed-in sessions; it is the store that scs asks for.
type Sessions struct{ S *Store }

// Find implements scs.Store.
func (x Sessions) Find(token string) ([]byte, bool, error) {
	var r session
	err := first(x.S.db.First(&r, "token_hash = ? AND expiry > UTC_TIMESTAMP(6)", HashToken(token)).Error)
	if err == ErrNotFound {
		return nil, false, nil
	}
	return r.Data, err == nil, err
}

// Commit implements scs.Store.
func (x Sessions) Commit(token string, b []byte, expiry time.Time) error {
	return x.S.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&session{HashToken(token), b, expiry.UTC()}).Error
}

// Delete implements scs.Store.
func (x Sessions) Delete(token string) error {
	return x.S.db.Delete(&session{}, "token_hash = ?", HashToken(token)).Error
}

// DropExpiredSessions forgets sessions that are over.
func (s *Store) DropExpiredSessions(ctx context.Context) error {
	return s.DB(ctx).Delete(&session{}, "expiry < UTC_TIMESTAMP(6)").Error
}
