package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm/clause"

	"nivot/internal/core/value"
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

// May reports whether r includes what need asks for. A role that is not known
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
	Epoch        int // counts what ends the person's sessions, links and tokens
	CreatedAt    time.Time
	DeletedAt    *time.Time
	DeletedBy    string
	EmailKey     []byte // by which the person is found: value.Identifier
	NameKey      []byte
}

// EndAccess ends, once the person is saved, every session, link and token that they have.
func (p *Person) EndAccess() { p.Epoch++ }

// Out reports whether the person may not sign in.
func (p *Person) Out() bool { return p.Disabled || p.DeletedAt != nil }

// Link is a one-time link: its token is kept as a hash only.
type Link struct {
	TokenHash []byte `gorm:"primaryKey"`
	PersonID  string
	Purpose   string
	Epoch     int // of the person, when the link was made
	ExpiresAt time.Time
	UsedAt    *time.Time
}

// HashToken is the form in which a token is kept.
func HashToken(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}

// NewToken makes a token for an address that must not be guessed: 160 random bits.
func NewToken() string { return NewID() + NewID() }

// PeopleNames gives the names of people, by id.
func (s *Store) PeopleNames(ctx context.Context) (map[string]string, error) {
	rows, err := s.DB(ctx).Raw("SELECT id, name FROM people").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var id, name string
		if err := rows.Scan(&id, &name); err != nil {
			return nil, err
		}
		out[id] = name
	}
	return out, rows.Err()
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

// LockPerson finds a person by id, for a change to them in this transaction: nobody else
// changes them meanwhile.
func (s *Store) LockPerson(ctx context.Context, id string) (*Person, error) {
	var p Person
	return &p, first(s.DB(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).First(&p, "id = ?", id).Error)
}

// LockAdministrators finds those who are let in as administrators, and nobody else changes them in this transaction.
func (s *Store) LockAdministrators(ctx context.Context) (out []Person, err error) {
	err = s.DB(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("role = ? AND NOT disabled AND deleted_at IS NULL",
		Administrator).Order("id").Find(&out).Error
	return out, err
}

// PersonByEmail finds a person by address, as value.Identifier compares it.
func (s *Store) PersonByEmail(ctx context.Context, email string) (*Person, error) {
	var p Person
	return &p, first(s.DB(ctx).First(&p, "email_key = ?", []byte(value.Identifier(email))).Error)
}

// PersonByName finds a person by name, as value.Identifier compares it.
func (s *Store) PersonByName(ctx context.Context, name string) (*Person, error) {
	var p Person
	return &p, first(s.DB(ctx).First(&p, "name_key = ?", []byte(value.Identifier(name))).Error)
}

// SavePerson writes a person, new or not. One that is there already has been locked in the
// same transaction (LockPerson).
func (s *Store) SavePerson(ctx context.Context, p *Person) error {
	p.EmailKey, p.NameKey = []byte(value.Identifier(p.Email)), []byte(value.Identifier(p.Name))
	// GORM's Save would write over whoever has the same address or name.
	r := s.DB(ctx).Model(&Person{}).Where("id = ?", p.ID).Select("*").Omit("id").Updates(p)
	if r.Error != nil || r.RowsAffected > 0 {
		return r.Error
	}
	return s.DB(ctx).Create(p).Error
}

// keyPeople gives everybody who has no keys yet theirs, after an upgrade. Of people of one
// name, all but the first are numbered.
func (s *Store) keyPeople(ctx context.Context) error {
	return s.Tx(ctx, func(tx *Store) error {
		var people []Person
		if err := tx.DB(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("email_key IS NULL").Order(
			"created_at, id").Find(&people).Error; err != nil {
			return err
		}
		for i := range people {
			p := &people[i]
			name := p.Name
			for n := 2; ; n++ {
				_, err := tx.PersonByName(ctx, p.Name)
				if err == ErrNotFound {
					break
				}
				if err != nil {
					return err
				}
				p.Name = fmt.Sprintf("%s (%d)", name, n)
			}
			if err := tx.SavePerson(ctx, p); err != nil {
				return fmt.Errorf("the address %s stands for two people: %w", p.Email, err)
			}
		}
		return nil
	})
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
	return &l, first(s.DB(ctx).First(&l, "token_hash = ? AND used_at IS NULL AND expires_at > ?", HashToken(token),
		now).Error)
}

// UseLink marks a link used; ErrNotFound says that somebody was faster.
func (s *Store) UseLink(ctx context.Context, l *Link, now time.Time) error {
	r := s.DB(ctx).Model(&Link{}).Where("token_hash = ? AND used_at IS NULL", l.TokenHash).Update("used_at", now)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
