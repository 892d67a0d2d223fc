package engine

import (
	"context"
	"fmt"
	"testing"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// An import whose reader is slow, and one that loses its connection to the database, come in whole, and once.
func TestSlowAndBrokenImports(t *testing.T) {
	t.Parallel() // it waits most of the time
	for _, c := range []struct {
		name  string
		meets func(p *dbtest.Proxy) // in the middle of the first try
	}{
		{"a reader that stands still", func(*dbtest.Proxy) { time.Sleep(5 * time.Second) }}, // longer than transactions may
		{"a connection that is lost", func(p *dbtest.Proxy) { p.Stop(); p.Start() }},
		{"a commit whose answer is lost", func(p *dbtest.Proxy) { p.LoseCommits(1) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dsn := dbtest.Migrated(t)
			p := dbtest.NewProxy(t, dsn)
			direct, err := store.Open(dsn)
			if err != nil {
				t.Fatal(err)
			}
			defer direct.Close()
			through, err := store.Open(p.DSN)
			if err != nil {
				t.Fatal(err)
			}
			defer through.Close()
			ctx, now := context.Background(), at("2027-03-15T08:40:00Z")
			e := New(through, func() time.Time { return now }, Options{})
			rec := &store.Sheet{Name: "Objects", Zone: "UTC", Locale: "en-GB"}
			if err := e.CreateSheet(ctx, rec, []sheet.Column{{Name: "Object", Type: value.Text}}, -1, -1, "test"); err != nil {
				t.Fatal(err)
			}
			const rows = 9000
			in := Incoming{Columns: []string{"c1"}}
			for i := range rows {
				in.Rows = append(in.Rows, []string{fmt.Sprint("object ", i)})
			}
			tries := 0
			j, err := e.Start(ctx, rec.ID, "import", "Ines", rows, func(ctx context.Context, told Progress) (any, error) {
				tries++
				met := tries > 1
				return e.Import(ctx, rec.ID, in, ImportOptions{Quiet: true, Progress: func(done, total int) error {
					if !met && done > rows/3 {
						met = true
						c.meets(p)
					}
					return nil
				}}, System("test"))
			}, nil)
			if err != nil {
				t.Fatal(err)
			}
			e.jobs.Wait()
			got, err := direct.Job(ctx, j.ID)
			if err != nil || got.State != store.JobDone {
				t.Errorf("the job is %s: %s (%v), want done", got.State, got.Result, err)
			}
			if n, err := direct.CountRows(ctx, rec.ID); err != nil || n != rows {
				t.Errorf("%d rows, %v; want %d", n, err, rows)
			}
		})
	}
}
