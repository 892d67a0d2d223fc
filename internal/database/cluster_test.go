package database_test

import (
	"context"
	"database/sql"
	"errors"
	"testing"

	"nivot/internal/database"
)

// Three servers are one: what is written at one is read at the others, also by one that was killed and
// by one that was cut off, once they are back.
func TestCluster(t *testing.T) {
	ctx := context.Background()
	c, err := database.StartCluster(ctx, t.TempDir(), 3)
	if errors.Is(err, database.ErrNoGalera) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Stop)
	at := func(i int) *sql.DB {
		dsn, err := c.DSN(ctx, i, "told")
		if err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("mysql", dsn+"?wsrep_sync_wait=7")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		return db
	}
	if _, err := at(0).ExecContext(ctx, "CREATE TABLE t (id BIGINT AUTO_INCREMENT PRIMARY KEY, n INT)"); err != nil {
		t.Fatal(err)
	}
	say := func(i, n int) {
		t.Helper()
		if _, err := at(i).ExecContext(ctx, "INSERT INTO t (n) VALUES (?)", n); err != nil {
			t.Fatal(err)
		}
	}
	wantSum := func(i, want int) {
		t.Helper()
		var got int
		if err := at(i).QueryRowContext(ctx, "SELECT SUM(n) FROM t").Scan(&got); err != nil || got != want {
			t.Errorf("node %d: %d %v, want %d", i, got, err, want)
		}
	}
	say(0, 1)
	say(2, 10)
	wantSum(1, 11)
	c.Kill(2)
	say(0, 100)
	if err := c.Restart(ctx, 2); err != nil {
		t.Fatal(err)
	}
	if err := c.Await(ctx); err != nil {
		t.Fatal(err)
	}
	wantSum(2, 111)
	if err := c.CutOff(ctx, 1, true); err != nil {
		t.Fatal(err)
	}
	say(0, 1000)
	if err := c.CutOff(ctx, 1, false); err != nil {
		t.Fatal(err)
	}
	if err := c.Await(ctx); err != nil {
		t.Fatal(err)
	}
	wantSum(1, 1111)
}
