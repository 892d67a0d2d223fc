package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/database"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// startCluster starts three nodes; `make soak` does, since it takes minutes.
func startCluster(t *testing.T) *database.Cluster {
	t.Helper()
	if os.Getenv("NIVOT_SOAK") == "" {
		t.Skip("make soak plays it")
	}
	dir, err := os.MkdirTemp("", "cluster") // the sockets' paths must be short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	c, err := database.StartCluster(context.Background(), dir, 3)
	if errors.Is(err, database.ErrNoGalera) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Stop)
	return c
}

// onNode makes a fixture on a database of the first node.
func onNode(t *testing.T, c *database.Cluster, name, start string) *fixture {
	t.Helper()
	return fixtureOn(t, dsnOf(t, c, 0, name), start)
}

func dsnOf(t *testing.T, c *database.Cluster, node int, name string) string {
	t.Helper()
	dsn, err := c.DSN(context.Background(), node, name)
	if err != nil {
		t.Fatal(err)
	}
	return dsn
}

// engineOn makes an engine on another node of a fixture's database, which does nothing by itself.
func (f *fixture) engineOn(c *database.Cluster, node int, name string) *Engine {
	f.t.Helper()
	s, err := store.Open(dsnOf(f.t, c, node, name))
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(func() { s.Close() })
	if !s.Clustered() {
		f.t.Fatal("a node is not known as one of a cluster")
	}
	return New(s, f.now, f.opts)
}

// Two nodes are written at once: what is done under one key is done once, and the brake counts what the
// other has counted.
func TestNodesAtOnce(t *testing.T) {
	c := startCluster(t)

	t.Run("a key", func(t *testing.T) {
		f := onNode(t, c, "onekey", "2027-03-15T08:30:00Z")
		rec := &store.Sheet{Name: "Loans", Zone: "UTC", Locale: "en-GB", SettleSeconds: 120}
		if err := f.CreateSheet(f.ctx, rec, []sheet.Column{{Name: "Loan", Type: value.Text}}, 0, -1, "test"); err != nil {
			t.Fatal(err)
		}
		other := f.engineOn(c, 1, "onekey")
		const n = 40
		for i := range n {
			key := sha256.Sum256(fmt.Append(nil, i))
			ctx := WithOnce(f.ctx, store.Once{Key: key[:], Request: key[:]})
			var wg sync.WaitGroup
			var came [2]ChangeResult
			var errs [2]error
			for k, e := range []*Engine{f.Engine, other} {
				wg.Go(func() {
					came[k], errs[k] = e.AddRow(ctx, rec.ID, []CellEdit{{Column: "c1", Text: fmt.Sprint("LN-", i)}},
						System("test"))
				})
			}
			wg.Wait()
			if err := errors.Join(errs[:]...); err != nil {
				t.Fatal(err)
			}
			if fmt.Sprint(came[0].Added) != fmt.Sprint(came[1].Added) {
				t.Errorf("key %d: one came to row %v, the other to %v", i, came[0].Added, came[1].Added)
			}
		}
		if got, err := f.Store.CountRows(f.ctx, rec.ID); err != nil || got != n {
			t.Errorf("%d rows of %d keys, %v", got, n, err)
		}
	})

	t.Run("the brake", func(t *testing.T) {
		f := onNode(t, c, "brake", "2027-03-15T08:30:00Z")
		const n, most = 40, 30
		rec, r, rows := f.still(n, func(r *rule.Rule) { r.Brake = &rule.Brake{Count: most, Share: decimal.NewFromInt(1)} })
		f.edit(rec, rows, "2027-06-01")
		f.clock = f.clock.Add(2 * time.Minute)
		f.tickAll() // the first letter is kept for good; now the brake has nothing to do with it
		f.clock = f.clock.Add(time.Hour)
		if err := f.Store.SaveBrake(f.ctx, r.ID, nil); err != nil {
			t.Fatal(err)
		}
		before, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
		if err != nil {
			t.Fatal(err)
		}
		f.edit(rec, rows, "2027-06-02")
		f.clock = f.clock.Add(2*time.Minute + 5*time.Second) // short enough for each to take its own share only
		var wg sync.WaitGroup
		for k, e := range []*Engine{f.Engine, f.engineOn(c, 1, "brake")} {
			e.share.Store(&store.Share{Of: 2, Mine: k})
			wg.Go(func() {
				for range 200 {
					if k, err := e.Tick(f.ctx); err != nil || k == 0 {
						if err != nil {
							t.Error(err)
						}
						return
					}
				}
			})
		}
		wg.Wait()
		counts, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
		if err != nil {
			t.Fatal(err)
		}
		queued, held := counts[delivery.Queued]-before[delivery.Queued], counts[delivery.Held]-before[delivery.Held]
		if queued+held != n || queued > most {
			t.Errorf("%d go and %d are held, want no more than %d to go, and %d in all", queued, held, most, n)
		}
	})
}

// Three servers, each on a node of its own, play random rules over random edits, while nodes are killed
// and cut off in turn and come back: what arrives is what the rehearsal printed, nothing twice.
func TestNodesFallSilent(t *testing.T) {
	c := startCluster(t)
	from, to := at("2027-03-15T08:40:00Z"), at("2027-04-05T08:40:00Z")
	for seed, played := uint64(100), 0; played < 3; seed++ {
		g := exchangetest.New(seed, 9)
		b, err := exchange.ReadBundle(g.Bundle())
		if err != nil {
			t.Fatal(err)
		}
		edits, err := b.ReadEdits([]byte(g.Edits(b, from, to)))
		if err != nil {
			t.Fatal(err)
		}
		want := rehearsed(t, b, edits, from, to)
		if len(want) < 25 {
			continue
		}
		played++
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			name := fmt.Sprint("silent", seed)
			f := onNode(t, c, name, from.Format(time.RFC3339))
			f.run()
			rec, err := f.Install(f.ctx, b, true, "test")
			if err != nil {
				t.Fatal(err)
			}
			f.settled()
			f.slow, f.atRest, f.patience = 300*time.Millisecond, f.decideDoubts, time.Minute
			f.peer = told{startPeer(f, dsnOf(t, c, 1, name), from), startPeer(f, dsnOf(t, c, 2, name), from)}
			ctx, stop := context.WithCancel(f.ctx)
			silences := 0
			done := make(chan error, 1)
			go func() {
				var err error
				for ctx.Err() == nil && err == nil {
					silences++
					err = fallSilent(c, silences)
				}
				done <- err
			}()
			f.play(b, rec, edits)
			f.advance(to.Add(-time.Second))
			stop()
			if err := <-done; err != nil {
				t.Fatal(err)
			}
			got := f.timed()
			sort.Strings(want)
			if a, w := strings.Join(got, "\n"), strings.Join(want, "\n"); a != w {
				t.Errorf("after %d silences, arrived and not rehearsed:\n%s\nrehearsed and not arrived:\n%s\n%s", silences,
					without(got, want), without(want, got), f.ledger())
			}
			t.Logf("%d emails, nodes silent %d times, %d in doubt", len(got), silences, f.doubts)
		})
	}
}

// fallSilent kills a node, or cuts one off, for a moment, and waits until all are one again.
func fallSilent(c *database.Cluster, n int) error {
	ctx := context.Background()
	node := 1 + n%2
	time.Sleep(time.Duration(rand.IntN(2000)) * time.Millisecond)
	if rand.IntN(2) == 0 {
		c.Kill(node)
		time.Sleep(time.Duration(500+rand.IntN(2000)) * time.Millisecond)
		if err := c.Restart(ctx, node); err != nil {
			return err
		}
		return c.Await(ctx)
	}
	if err := c.CutOff(ctx, node, true); err != nil {
		return err
	}
	time.Sleep(time.Duration(500+rand.IntN(4000)) * time.Millisecond)
	if err := c.CutOff(ctx, node, false); err != nil {
		return err
	}
	return c.Await(ctx)
}

// told is several servers that are told the time.
type told []*peer

func (all told) tell(now time.Time) {
	for _, p := range all {
		p.tell(now)
	}
}
