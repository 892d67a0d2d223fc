package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// On several machines the database may be a cluster, each of whose nodes takes writes (Galera). What a
// transaction locks it locks on its own node alone; that two nodes have written the same rows is found
// when the later one commits: it fails as a deadlock does, with 1213, and is tried again (Tx). So what
// two must not decide at the same time has to write a common row; and who has just been told of another
// node's commit must read what it wrote (wsrep_sync_wait).

// clusterReads has each transaction, and each statement outside one, see what any node has committed
// before it: 1 reads and BEGIN, 2 updates and deletions, 4 insertions.
const clusterReads = "7"

// isCluster reports whether the server is a node of a cluster.
func isCluster(db *gorm.DB) (bool, error) {
	var on struct{ Value string }
	err := db.Raw("SHOW VARIABLES LIKE 'wsrep_on'").Scan(&on).Error
	return on.Value == "ON", err
}

// Clustered reports whether the database is a cluster of nodes that all take writes.
func (s *Store) Clustered() bool { return s.clustered }

// guard lets one transaction of the whole cluster go on at a time, by a name. Where there is no
// cluster the locks do that.
func (s *Store) guard(ctx context.Context, name string) error {
	if !s.clustered {
		return nil
	}
	return s.DB(ctx).Exec("INSERT INTO guards (name, n) VALUES (?, 1) ON DUPLICATE KEY UPDATE n = n + 1", name).Error
}

// Share is a process's part of what is due: of Of processes the one with the number Mine, from 0.
// None where Of is less than two.
type Share struct{ Of, Mine int }

// shareGrace is how long something must have been due for everybody to take it, not only the process
// whose share it is.
const shareGrace = 10 * time.Second

// of gives the condition that something is of a share, by a number of its own, or has been due for
// long; "" for everything.
func (s Share) of(number, due string, now time.Time) (string, []any) {
	if s.Of < 2 {
		return "", nil
	}
	return fmt.Sprintf(" AND ((%s) %% %d = %d OR %s < ?)", number, s.Of, s.Mine, due), []any{now.Add(-shareGrace)}
}

// ShareOf returns a worker's share of what is due, by who is at work. ok is false where the worker itself is
// not: its lease has run out, or its clock is further off the database's than most.
func (s *Store) ShareOf(ctx context.Context, worker int64, most time.Duration) (out Share, ok bool, err error) {
	var ids []int64
	err = s.DB(ctx).Raw(
		"SELECT id FROM workers WHERE lease_until > UTC_TIMESTAMP(6) AND ABS(clock_off_ms) <= ? ORDER BY id",
		most.Milliseconds()).Scan(&ids).Error
	for i, id := range ids {
		if id == worker {
			out, ok = Share{Of: len(ids), Mine: i}, true
		}
	}
	return out, ok, err
}
