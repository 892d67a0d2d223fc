package engine

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/value"
	"nivot/internal/database/dbtest"
	"nivot/internal/exchange"
	"nivot/internal/practice"
	"nivot/internal/store"
)

func TestMain(m *testing.M) {
	if dsn := os.Getenv(peerDSN); dsn != "" { // this process is the second server of a test
		if err := runPeer(dsn); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	dbtest.Main(m)
}

// fixture is an engine on a database of its own, with a clock that the test
// moves and a practice mail server.
type fixture struct {
	*Engine
	t     *testing.T
	ctx   context.Context
	mu    sync.Mutex
	clock time.Time
	mails []*practice.Message
	// arrived holds when each of them did; dsn is the database.
	arrived []time.Time
	dsn     string
	peer    interface{ tell(time.Time) } // the second server, if there is one
	// its clock is wrong now and then
	peerJumps bool
	doubts    int           // that have been decided
	slow      time.Duration // how long the mail server takes at the most
	// how long it may take until nothing is left to be done; 20 s where it is 0
	patience time.Duration
	// states have been written behind the program's back, or the database is closed
	unchecked bool
	// called when nothing is left to be done at an instant; reports whether it has made more
	atRest func() bool
}

func at(s string) time.Time {
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		panic(err)
	}
	return t
}

// newFixture makes a fixture whose engine runs.
func newFixture(t *testing.T, start string) *fixture {
	t.Helper()
	f := stillFixture(t, start)
	f.run()
	return f
}

// run lets the engine run until the test ends.
func (f *fixture) run() {
	ctx, cancel := context.WithCancel(f.ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = f.Run(ctx) }()
	f.t.Cleanup(func() {
		cancel()
		<-done
	})
}

// stillFixture makes a fixture whose engine does nothing by itself.
func stillFixture(t *testing.T, start string) *fixture {
	t.Helper()
	return fixtureOn(t, dbtest.Migrated(t), start)
}

// fixtureOn makes a fixture on a database that is there, whose engine does nothing by itself.
func fixtureOn(t *testing.T, dsn, start string) *fixture {
	t.Helper()
	f := &fixture{t: t, clock: at(start), ctx: context.Background(), dsn: dsn}
	ctx := f.ctx
	s, err := store.Open(f.dsn)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	srv := practice.New(func(_ context.Context, m *practice.Message) error {
		if f.slow > 0 {
			time.Sleep(rand.N(f.slow))
		}
		f.mu.Lock()
		defer f.mu.Unlock()
		f.mails, f.arrived = append(f.mails, m), append(f.arrived, f.clock.UTC())
		return nil
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = srv.Serve(l) }()
	if err := s.SaveSender(ctx, &store.Sender{ID: "sender", Name: "Loans desk", Address: "loans@marrowby.example",
		Host: "127.0.0.1",
		Port: l.Addr().(*net.TCPAddr).Port, Security: "none", CreatedAt: f.clock}); err != nil {
		t.Fatal(err)
	}
	f.Engine = New(s, func() time.Time { f.mu.Lock(); defer f.mu.Unlock(); return f.clock },
		Options{Poll: 20 * time.Millisecond, Lease: 3 * time.Second})
	t.Cleanup(func() {
		if !f.unchecked { // whatever the test did, the counts are right
			if wrong, err := s.WrongCounts(ctx); err != nil || len(wrong) > 0 {
				t.Error(wrong, err)
			}
		}
		srv.Close()
		s.Close()
	})
	return f
}

// advance plays the clock forward to an instant, stopping at everything that
// is to be considered or sent on the way.
func (f *fixture) advance(to time.Time) {
	f.t.Helper()
	for {
		f.settled()
		var next time.Time
		f.persist(func(ctx context.Context) (err error) { next, err = f.Store.NextInstant(ctx); return err })
		if next.IsZero() || next.After(to) {
			next = to
		}
		f.mu.Lock()
		if next.After(f.clock) {
			f.clock = next
		}
		now, end := f.clock, !f.clock.Before(to)
		f.mu.Unlock()
		if f.peer != nil {
			f.peer.tell(now)
		}
		f.Wake()
		if end {
			f.settled()
			return
		}
	}
}

// persist does something, once. Where nodes of a cluster fall silent meanwhile it is tried until it has
// been done, as who gets a 503 does.
func (f *fixture) persist(do func(ctx context.Context) error) {
	f.t.Helper()
	key := []byte(store.NewID() + "0123456789abcdef")
	ctx := WithOnce(f.ctx, store.Once{Key: key, Request: key})
	for deadline := time.Now().Add(f.patience); ; time.Sleep(50 * time.Millisecond) {
		err := do(ctx)
		if err == nil {
			return
		}
		if !store.Away(err) || time.Now().After(deadline) {
			f.t.Fatal(err)
		}
	}
}

func (f *fixture) settled() {
	f.t.Helper()
	for deadline := time.Now().Add(cmp.Or(f.patience, 2*time.Minute)); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		idle := false
		f.persist(func(ctx context.Context) (err error) { idle, err = f.Idle(ctx); return err })
		if idle && f.atRest != nil && f.atRest() {
			continue
		}
		if idle {
			return
		}
	}
	f.t.Fatal("the engine does not come to rest")
}

func (f *fixture) subjects() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []string
	for _, m := range f.mails {
		out = append(out, strings.Join(m.To, ",")+" | "+m.Subject)
	}
	sort.Strings(out)
	return out
}

// The running engine does with a bundle exactly what the rehearsal says: the
// same emails, and for every occasion the same outcome.
func TestLiveEqualsRehearsal(t *testing.T) {
	b, err := exchange.OpenBundle("../exchange/testdata/loans")
	if err != nil {
		t.Fatal(err)
	}
	data := readFile(t, "../exchange/testdata/loans/edits.jsonl")
	edits, err := b.ReadEdits(data)
	if err != nil {
		t.Fatal(err)
	}
	from, to := at("2027-03-15T08:40:00Z"), at("2027-06-15T00:00:00+01:00")
	var lines []*exchange.RehearsalLine
	if err := b.Rehearse(false, edits, from, to, func(l *exchange.RehearsalLine) error {
		lines = append(lines, l)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	f.settled()
	f.play(b, rec, edits)
	f.advance(to.Add(-time.Second))

	var want []string
	outcomes := map[string]int{}
	for _, l := range lines {
		outcomes[l.Outcome]++
		if l.Outcome == string(plan.Send) {
			want = append(want, strings.Join(addresses(t, append(append([]string{}, l.To...), l.Cc...)), ",")+" | "+l.Subject)
		}
	}
	sort.Strings(want)
	got := f.subjects()
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("emails:\n%s\nwant:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil {
		t.Fatal(err)
	}
	if int(counts["accepted"]) != outcomes["send"] || int(counts["skipped"]) != outcomes["skip"] {
		t.Errorf("log %v, rehearsal %v", counts, outcomes)
	}
}

// addresses gives what a mail server is told of mailboxes.
func addresses(t testing.TB, boxes []string) (out []string) {
	for _, b := range boxes {
		list, err := value.ParseMailboxes(b)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range list {
			out = append(out, m.ASCII())
		}
	}
	return out
}

// play does a bundle's edits on the live sheet at their instants.
func (f *fixture) play(b *exchange.Bundle, rec *store.Sheet, edits []plan.Edit) {
	f.t.Helper()
	s, err := rec.Core()
	if err != nil {
		f.t.Fatal(err)
	}
	for _, ed := range edits {
		f.advance(ed.At)
		var cells []CellEdit
		for id, v := range ed.Set {
			old, _ := b.Sheet.Column(id)
			c, _ := s.ColumnNamed(old.Name)
			cells = append(cells, CellEdit{Column: c.ID, Text: b.Sheet.Input(old, v)})
		}
		if ed.Add {
			f.persist(func(ctx context.Context) error {
				_, err := f.AddRow(ctx, rec.ID, cells, System("test"))
				return err
			})
			continue
		}
		var row *store.Row
		f.persist(func(ctx context.Context) (err error) {
			row, err = f.Store.RowByKey(ctx, rec.ID, strings.ToLower(ed.Row))
			return err
		})
		f.persist(func(ctx context.Context) (err error) {
			if ed.Delete {
				_, err = f.DeleteRow(ctx, rec.ID, row.ID, System("test"))
			} else {
				_, err = f.EditRow(ctx, rec.ID, row.ID, cells, System("test"))
			}
			return err
		})
	}
}
