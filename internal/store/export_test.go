package store

import (
	"context"

	"github.com/pressly/goose/v3"
)

// MigrateUpTo and MigrateDownTo bring a database to a version of its schema.
func (s *Store) MigrateUpTo(ctx context.Context, version int64) error {
	return s.migrate(ctx, func(p *goose.Provider) error {
		_, err := p.UpTo(ctx, version)
		return err
	})
}

// MigrateDownTo is for going back.
func (s *Store) MigrateDownTo(ctx context.Context, version int64) error {
	return s.migrate(ctx, func(p *goose.Provider) error {
		_, err := p.DownTo(ctx, version)
		return err
	})
}

// PendingCodes are the codes of the states that are not over.
var PendingCodes = pendingCode
