package store_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var noon = time.Date(2027, 3, 15, 12, 0, 0, 0, time.UTC)

func open(t *testing.T) *store.Store {
	t.Helper()
	return openAt(t, dbtest.Migrated(t))
}

// openAt opens a database that may be there, and brings it up to date.
func openAt(t *testing.T, dsn string) *store.Store {
	t.Helper()
	st, err := store.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	if err := st.Migrate(context.Background()); err != nil {
		t.Fatal(err)
	}
	return st
}

// Several processes that start at once migrate once.
func TestMigrateAtOnce(t *testing.T) {
	st, err := store.Open(dbtest.DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	var wg sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		wg.Go(func() { errs[i] = st.Migrate(context.Background()) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
}

func identity(n int) []byte {
	h := sha256.Sum256([]byte(fmt.Sprint(n)))
	return h[:len(rule.ID{})]
}

func letters(from, to int) []*store.Delivery {
	var out []*store.Delivery
	for n := from; n < to; n++ {
		out = append(out, &store.Delivery{Occasion: identity(n), SheetID: "s", RuleID: "r", RowID: int64(n + 1),
			SenderID: "d", DueAt: noon.Add(time.Duration(n/3) * time.Minute),
			JudgedAt: noon, State: delivery.Queued, NextTry: &noon, Subject: fmt.Sprintf("100%% of no. %d", n),
			Recipients: "[]", Origin: "{}", Facts: "[]", Attempt: 1})
	}
	return out
}

// Section 4: the database holds each identity once, for ever, however many
// write it at the same time; each knows which it has written.
func TestIdentityOnce(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	const writers, all = 6, 300
	wrote := make([][]*store.Delivery, writers)
	errs := make([]error, writers)
	var wg sync.WaitGroup
	for w := range writers {
		wg.Go(func() {
			errs[w] = st.Tx(ctx, func(tx *store.Store) error {
				wrote[w] = letters(w*20, all-w*10) // ranges that overlap
				return tx.InsertDeliveries(ctx, wrote[w])
			})
		})
	}
	wg.Wait()
	by := map[int64]int{}
	for w := range writers {
		if errs[w] != nil {
			t.Fatal(errs[w])
		}
		for _, d := range wrote[w] {
			if d.ID != 0 {
				by[d.RowID]++
			}
		}
	}
	for n := int64(1); n <= all; n++ {
		if by[n] != 1 {
			t.Errorf("occasion %d has been written %d times", n, by[n])
		}
	}
	known, err := st.Judged(ctx, [][]byte{identity(0), identity(299), identity(300)})
	if err != nil || len(known) != 2 {
		t.Errorf("%v, %v", known, err)
	}
}

// claim claims what waits at noon for a worker.
func claim(ctx context.Context, tx *store.Store, worker int64, limit int) ([]store.Delivery, error) {
	waiting, err := tx.QueuedNow(ctx, noon, []store.QueueAsk{{Senders: []string{"d"}, Limit: limit}})
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(waiting))
	for i := range waiting {
		ids[i] = waiting[i].ID
	}
	ds, err := tx.LockQueued(ctx, ids, noon)
	return ds, errors.Join(err, tx.Claim(ctx, worker, ds))
}

// Section 5: of several workers each delivery is claimed by one.
func TestClaimOnce(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	const all = 400
	if err := st.InsertDeliveries(ctx, letters(0, all)); err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	claimed := map[int64]int64{}
	var wg sync.WaitGroup
	for w := range int64(5) {
		wg.Go(func() {
			for {
				var got []store.Delivery
				if err := st.Tx(ctx, func(tx *store.Store) (err error) {
					got, err = claim(ctx, tx, w+1, 17)
					return err
				}); err != nil {
					t.Error(err)
					return
				}
				if len(got) == 0 {
					return
				}
				mu.Lock()
				for _, d := range got {
					if was, twice := claimed[d.ID]; twice {
						t.Errorf("delivery %d is claimed by %d and %d", d.ID, was, w+1)
					}
					claimed[d.ID] = w + 1
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	// A worker that met only locked rows stops early; nothing stays behind for all.
	var left []store.Delivery
	if err := st.Tx(ctx, func(tx *store.Store) (err error) {
		left, err = claim(ctx, tx, 9, all)
		return err
	}); err != nil || len(claimed)+len(left) != all {
		t.Errorf("%d claimed and %d left of %d, %v", len(claimed), len(left), all, err)
	}
	waits, err := st.QueuedNow(ctx, noon, []store.QueueAsk{{Senders: []string{"d"}, Limit: 1}})
	if len(waits) > 0 || err != nil {
		t.Errorf("something still waits: %v, %v", waits, err)
	}
}

// The log leafs through all lines once, the newest first, many of one instant
// included, while new ones come in.
func TestLogPages(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	const all = 100
	if err := st.InsertDeliveries(ctx, letters(0, all)); err != nil {
		t.Fatal(err)
	}
	seen := map[int64]bool{}
	cursor, last := "", noon.Add(time.Hour*24)
	for k := 0; ; k++ {
		page, err := st.Log(ctx, store.LogFilter{}, cursor, 7)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range page.Lines {
			if seen[d.ID] || d.DueAt.After(last) {
				t.Fatalf("line %d, due %s, comes after %s", d.ID, d.DueAt, last)
			}
			seen[d.ID], last = true, d.DueAt
		}
		if k == 2 {
			if err := st.InsertDeliveries(ctx, letters(1000, 1003)); err != nil { // due later: before the first page
				t.Fatal(err)
			}
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	if len(seen) != all {
		t.Errorf("%d lines seen, want %d", len(seen), all)
	}
	for text, want := range map[string]int{"100% of": all + 3, "no. 42": 1, "100_": 0, `\`: 0, "%%": 0} {
		page, err := st.Log(ctx, store.LogFilter{Text: text}, "", 200)
		if err != nil || len(page.Lines) != want {
			t.Errorf("%q finds %d, want %d, %v", text, len(page.Lines), want, err)
		}
	}
	if _, err := st.Log(ctx, store.LogFilter{}, "made up", 5); err == nil {
		t.Error("a made-up cursor is accepted")
	}
}

// The agenda holds one entry of a kind for a row and a rule: the newest.
func TestAgendaEntryOnce(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	put := func(at time.Time) {
		t.Helper()
		if err := st.PutEntries(ctx, []store.Entry{{Kind: store.Due, DueAt: at, SheetID: "s", RuleID: "r",
			RowID: 7}}); err != nil {
			t.Fatal(err)
		}
	}
	put(noon)
	put(noon.Add(time.Hour))
	if due, err := st.DueAgenda(ctx, noon.Add(59*time.Minute), 1); len(due) > 0 || err != nil {
		t.Errorf("the entry that was replaced is still due: %v", err)
	}
	entries, err := st.RowEntries(ctx, 7)
	if err != nil || len(entries[7]) != 1 || !entries[7][0].DueAt.Equal(noon.Add(time.Hour)) {
		t.Fatalf("%+v, %v", entries, err)
	}
	// What one process has claimed another passes over.
	err = st.Tx(ctx, func(tx *store.Store) error {
		mine, err := tx.ClaimAgenda(ctx, noon.Add(2*time.Hour), 10, store.Share{})
		if err != nil || len(mine) != 1 {
			t.Errorf("%v, %v", mine, err)
		}
		return st.Tx(ctx, func(other *store.Store) error {
			theirs, err := other.ClaimAgenda(ctx, noon.Add(2*time.Hour), 10, store.Share{})
			if len(theirs) != 0 {
				t.Errorf("claimed twice: %v", theirs)
			}
			return err
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := st.DropRowEntries(ctx, 7); err != nil {
		t.Fatal(err)
	}
	if entries, err = st.RowEntries(ctx, 7); err != nil || len(entries[7]) != 0 {
		t.Errorf("%v, %v", entries, err)
	}
}

// An idempotency key is one request's for a day: what it came to is written
// with the change, and given from then on; a change that is rolled back frees it.
func TestOnce(t *testing.T) {
	st, ctx := open(t), context.Background()
	o := store.Once{Key: store.HashToken("key"), Request: store.HashToken("request")}
	do := func(outcome string, fail error) (was string, done bool, err error) {
		err = st.Tx(ctx, func(tx *store.Store) (err error) {
			if was, done, err = tx.Begin(ctx, o); err != nil || done {
				return err
			}
			return errors.Join(tx.SetOutcome(ctx, o, outcome), fail)
		})
		return was, done, err
	}
	if _, done, err := do("lost", errors.New("rolled back")); done || err == nil {
		t.Errorf("%v %v", done, err)
	}
	if _, done, err := do("one", nil); done || err != nil {
		t.Errorf("%v %v", done, err)
	}
	if was, done, err := do("two", nil); was != "one" || !done || err != nil {
		t.Errorf("%q %v %v", was, done, err)
	}
	if a, err := st.KeptAnswer(ctx, o); a != nil || err != nil {
		t.Errorf("%+v %v", a, err)
	}
	for _, body := range []string{"first", "second"} {
		if err := st.KeepAnswer(ctx, o, 201, body); err != nil {
			t.Fatal(err)
		}
	}
	if a, err := st.KeptAnswer(ctx, o); err != nil || a.Status != 201 || a.Body != "first" {
		t.Errorf("%+v %v", a, err)
	}
	other := store.Once{Key: o.Key, Request: store.HashToken("another")}
	if _, err := st.KeptAnswer(ctx, other); !errors.Is(err, store.ErrKeyUsed) {
		t.Error(err)
	}
	if _, _, err := st.CameTo(ctx, other); !errors.Is(err, store.ErrKeyUsed) {
		t.Error(err)
	}
	if err := st.DB(ctx).Exec("UPDATE answers SET at = at - INTERVAL 25 HOUR").Error; err != nil {
		t.Fatal(err)
	}
	if _, done, err := do("three", nil); done || err != nil {
		t.Errorf("a day later: %v %v", done, err)
	}
}

// An id in an address may hold anything: the database refuses to compare it with those it has, however
// many they are, and that says that it is not there.
func TestMissing(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	for name, ask := range map[string]func() error{
		"alone":      func() error { _, err := st.SheetVersion(ctx, "\u00e9\u202e"); return err },
		"beside one": func() error { _, err := st.Stamp(ctx, "\u00e9\u202e"); return err },
		"not known":  func() error { _, err := st.SheetVersion(ctx, "nothing"); return err },
		"among several": func() error {
			return st.DB(ctx).Where("id IN ?", []string{"a", "b", "c", "\u00e9"}).Find(&[]store.Sheet{}).Error
		},
	} {
		t.Run(name, func(t *testing.T) {
			if err := ask(); !store.Missing(err) {
				t.Errorf("got %v, want that it is missing", err)
			}
		})
	}
	if store.Missing(nil) || store.Missing(context.Canceled) {
		t.Error("whatever else there is, is missing")
	}
}
