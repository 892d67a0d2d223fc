package store

import (
	"context"
	"database/sql/driver"
	"strings"

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

// StatementsOf is how many statements a round has.
func StatementsOf(s *Store, r Round) int {
	q, _, _ := r.script(s.shard)
	return q.n
}

// CommitStopping writes a round once, and stands still for a while before its n-th statement, from 1; it
// calls stands then, with the connection's id. It is none before what asks how many the last one met.
func CommitStopping(ctx context.Context, s *Store, r Round, n int, stands func(connection int64)) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var id int64
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id); err != nil {
		return err
	}
	q, _, _ := r.script(s.shard)
	parts := strings.SplitAfter(q.b.String(), ";")
	if !strings.HasPrefix(parts[n-1], "SET @") {
		parts[n-1] = "DO SLEEP(1);" + parts[n-1]
	}
	done := make(chan error, 1)
	go func() {
		done <- conn.Raw(func(dc any) error {
			_, err := dc.(driver.ExecerContext).ExecContext(ctx, strings.Join(parts, ""), q.args)
			if err != nil {
				_, _ = dc.(driver.ExecerContext).ExecContext(ctx, "ROLLBACK", nil)
			}
			return err
		})
	}()
	for asleep := false; !asleep; {
		select {
		case err := <-done: // before anybody could stop it
			return err
		default:
			if err := s.DB(ctx).Raw("SELECT COUNT(*) > 0 FROM information_schema.processlist WHERE id = ? AND state = 'User sleep'",
				id).Scan(&asleep).Error; err != nil {
				return err
			}
		}
	}
	stands(id)
	return <-done
}

// AgedTables lists the tables whose rows have an age.
func AgedTables() (out []string) {
	for _, a := range aged {
		out = append(out, a.table)
	}
	return out
}
