package store

import (
	"context"
	"crypto/sha256"
	"strings"
	"sync"
)

// Identity is what messages say of who sends them, and where their links lead: kept as it was
// for as long as they are shown.
type Identity struct {
	ID        int64 `gorm:"primaryKey"`
	Digest    []byte
	Name      string
	Address   string
	PublicURL string
}

// TableName implements GORM's tabler.
func (Identity) TableName() string { return "identities" }

// IdentityOf gives the id of an identity, which is kept where it is a new one.
func (s *Store) IdentityOf(ctx context.Context, i Identity) (id int64, err error) {
	sum := sha256.Sum256([]byte(strings.Join([]string{i.Name, i.Address, i.PublicURL}, "\x00")))
	find := func() error {
		return s.DB(ctx).Raw("SELECT id FROM identities WHERE digest = ?", sum[:]).Scan(&id).Error
	}
	if err = find(); err != nil || id != 0 {
		return id, err
	}
	err = s.DB(ctx).Exec("INSERT IGNORE INTO identities (name, digest, address, public_url) VALUES (?, ?, ?, ?)", i.Name,
		sum[:], i.Address, i.PublicURL).Error
	if err != nil {
		return 0, err
	}
	return id, find()
}

// Identity finds an identity; it never changes.
func (s *Store) Identity(ctx context.Context, id int64) (*Identity, error) {
	if i, ok := s.identities.Load(id); ok {
		return i.(*Identity), nil
	}
	var i Identity
	if err := first(s.DB(ctx).First(&i, "id = ?", id).Error); err != nil {
		return nil, err
	}
	s.identities.Store(id, &i)
	return &i, nil
}

// identityCache are identities by their ids.
type identityCache = sync.Map
