// Package dbtest gives each test a database of its own on a private MariaDB
// server that the test binary starts once.
package dbtest

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"testing"

	"nivot/internal/database"
)

var (
	once   sync.Once
	server *database.Server
	dir    string
	failed error
	count  atomic.Int64
)

// DSN gives the data source name of an empty database for the test.
func DSN(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		if dir, failed = os.MkdirTemp("", "nivot-db"); failed == nil {
			server, failed = database.Start(context.Background(), database.Options{Dir: dir, Bound: true})
		}
	})
	if failed != nil {
		t.Fatal(failed)
	}
	dsn, err := server.DSN(context.Background(), fmt.Sprintf("t%d", count.Add(1)))
	if err != nil {
		t.Fatal(err)
	}
	return dsn
}

// Main runs a package's tests and stops the server behind them.
func Main(m *testing.M) {
	slog.SetLogLoggerLevel(slog.LevelWarn) // a line for each request would hide what failed
	code := m.Run()
	if server != nil {
		server.Stop()
		os.RemoveAll(dir)
	}
	os.Exit(code)
}
