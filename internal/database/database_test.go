package database

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A server survives its own kill -9 and that of the program: starting again on
// the same folder finds everything, also where the old server still runs.
func TestStartAgain(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	s, err := Start(ctx, Options{Dir: dir, Durable: true})
	if err != nil {
		t.Fatal(err)
	}
	dsn, err := s.DSN(ctx, "x")
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE t (n INT)"); err != nil {
		t.Fatal(err)
	}
	count := func() (n int) {
		if err := db.QueryRow("SELECT COUNT(*) FROM t").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	for i, end := range []func(){s.Kill, func() {}} {
		if _, err := db.Exec("INSERT INTO t VALUES (1)"); err != nil {
			t.Fatal(err)
		}
		end() // killed, or left running as a killed program leaves it
		if s, err = Start(ctx, Options{Dir: dir, Durable: true}); err != nil {
			t.Fatal(err)
		}
		if n := count(); n != i+1 {
			t.Errorf("after start %d: %d rows", i+2, n)
		}
	}
	s.Stop()
}

// A server that starts clears what looks like tables of its own from where it
// keeps temporary ones. In a folder that is common to all, those would be
// those of another server that is at work.
func TestLeavesOtherServersTables(t *testing.T) {
	common := t.TempDir()
	t.Setenv("TMPDIR", common)
	another := filepath.Join(common, "#sql-temptable-1-1-1.MAI")
	if err := os.WriteFile(another, []byte("in use"), 0o600); err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("/tmp", "nivot-db")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	s, err := Start(context.Background(), Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	s.Stop()
	if _, err := os.Stat(another); err != nil {
		t.Error(err)
	}
}

func TestRefusesStandardPort(t *testing.T) {
	if _, err := Start(context.Background(), Options{Dir: t.TempDir(), Port: 3306}); err == nil ||
		!strings.Contains(err.Error(), "NIVOT_DB_PORT") {
		t.Error(err)
	}
}
