package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

// right fails where the counts that are kept are not those of the deliveries.
func right(t *testing.T, st *store.Store) {
	t.Helper()
	wrong, err := st.WrongCounts(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range wrong {
		t.Error(w)
	}
}

// The counts stay those of the deliveries whatever several processes write at the same time, what
// is rolled back, alone or within a transaction that is not, and what is tried again.
func TestCountsKeepUp(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	undone := errors.New("undone")
	var all sync.WaitGroup
	for w := range 4 {
		all.Go(func() {
			random := rand.New(rand.NewPCG(7, uint64(w)))
			for k := range 25 {
				err := st.Tx(ctx, func(tx *store.Store) error {
					ds := letters(1000*w+10*k, 1000*w+10*k+10)
					for _, d := range ds {
						d.RuleID, d.DueAt = fmt.Sprint("rule", random.IntN(3)), noon.Add(time.Duration(random.IntN(90))*time.Minute)
						d.Recipients = fmt.Sprintf(`[{"role":"to","mailbox":"keeper%d@marrowby.example"}]`, random.IntN(20))
					}
					if err := tx.InsertDeliveries(ctx, ds); err != nil {
						return err
					}
					inner := tx.Tx(ctx, func(tx *store.Store) error {
						for _, d := range ds[:5] {
							if err := d.Become(delivery.Held, delivery.Limiting); err != nil {
								return err
							}
							if err := tx.SaveDelivery(ctx, d); err != nil {
								return err
							}
						}
						if k%3 == 0 {
							return undone
						}
						return nil
					})
					if inner != nil && !errors.Is(inner, undone) {
						return inner
					}
					if k%5 == 0 {
						return undone
					}
					return nil
				})
				if err != nil && !errors.Is(err, undone) {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	right(t, st)
	counts, err := st.CountStates(ctx, store.LogFilter{})
	// Of each writer's 25 transactions 5 are undone, and of the other 20 the holding of 7.
	if want := map[delivery.State]int64{delivery.Queued: 4 * (20*5 + 7*5), delivery.Held: 4 * 13 * 5}; err != nil ||
		!reflect.DeepEqual(counts, want) {
		t.Errorf("%v, want %v, %v", counts, want, err)
	}
	worker, err := st.RegisterWorker(ctx, "test", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	var claimed []store.Delivery
	if err := st.Tx(ctx, func(tx *store.Store) (err error) {
		claimed, err = claim(ctx, tx, worker, 60)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	r := store.Round{Worker: worker, Now: noon}
	later := noon.Add(time.Hour)
	for i := range claimed[:50] {
		d := claimed[i]
		d.Tries = 1
		if i < 40 {
			d.State, d.Reply = delivery.Accepted, fmt.Sprint("250 ok ", i/3)
		} else {
			d.State, d.NextTry = delivery.Deferred, &later
		}
		r.Outcomes = append(r.Outcomes, store.Outcome{Delivery: &d, Detail: "{}", Plain: i < 40})
	}
	for range 2 { // written again, because its first answer was lost, it counts nothing twice
		if _, err := st.Commit(ctx, r); err != nil {
			t.Fatal(err)
		}
		right(t, st)
	}
	counts, err = st.CountStates(ctx, store.LogFilter{States: []delivery.State{delivery.Accepted, delivery.Deferred,
		delivery.Claimed}})
	if want := map[delivery.State]int64{delivery.Accepted: 40, delivery.Deferred: 10, delivery.Claimed: 10}; err != nil ||
		!reflect.DeepEqual(counts, want) {
		t.Errorf("%v, want %v, %v", counts, want, err)
	}
	// An outcome that comes after its worker was given up is counted as what it is.
	if err := st.DB(ctx).Exec("UPDATE deliveries SET state = 'sending', sending_at = ? WHERE state = 'claimed'",
		noon).Error; err != nil {
		t.Fatal(err)
	}
	if err := st.DB(ctx).Exec("UPDATE workers SET lease_until = '2000-01-01'").Error; err != nil {
		t.Fatal(err)
	}
	if doubted, err := st.Sweep(ctx, noon); err != nil || len(doubted) != 10 {
		t.Fatalf("%d in doubt, %v", len(doubted), err)
	}
	right(t, st)
	late := claimed[55]
	late.State, late.Tries, late.Reply = delivery.Accepted, 1, "250 late"
	if w, err := st.Commit(ctx, store.Round{Worker: worker, Now: noon,
		Outcomes: []store.Outcome{{Delivery: &late, Detail: "{}", Plain: true}}}); err != nil || w.Unmet != 0 {
		t.Errorf("%d unmet, %v", w.Unmet, err)
	}
	right(t, st)
	if d, err := st.Delivery(ctx, late.ID); err != nil || d.State != delivery.Accepted || d.Reply != "250 late" {
		t.Errorf("%s %q, %v", d.State, d.Reply, err)
	}
}

// Whatever the filter, the log gives the same lines in pages as one that reads them all, whether an
// index answers or windows are looked through, and its counts are those of its lines.
func TestLogByEveryFilter(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	random := rand.New(rand.NewPCG(3, 1))
	ending := []delivery.State{delivery.Accepted, delivery.Skipped, delivery.Failed, delivery.Held, delivery.Queued}
	var all []*store.Delivery
	for n := range 600 {
		d := letters(n, n+1)[0]
		d.DueAt = noon.Add(-time.Duration(random.IntN(60*24*40)) * time.Minute)
		d.SheetID, d.RuleID, d.RowID = fmt.Sprint("s", random.IntN(2)), fmt.Sprint("r", random.IntN(3)),
			int64(1+random.IntN(30))
		d.Subject = fmt.Sprintf("Loan %d is due back", n%7)
		d.Recipients = fmt.Sprintf(
			`[{"role":"to","mailbox":"Keeper <keeper%d@marrowby.example>","address":"keeper%d@marrowby.example"},{"role":"cc","mailbox":"desk%d@marrowby.example"}]`, n%40, n%40, n%3)
		if d.State = ending[random.IntN(len(ending))]; d.State == delivery.Skipped && n%20 != 0 {
			d.State = delivery.Accepted // few, and far apart
		}
		if d.State != delivery.Queued {
			d.NextTry = nil
		}
		all = append(all, d)
	}
	if err := st.InsertDeliveries(ctx, all); err != nil {
		t.Fatal(err)
	}
	right(t, st)
	day := func(back int) *time.Time { at := noon.AddDate(0, 0, -back).Truncate(24 * time.Hour); return &at }
	tests := map[string]struct {
		f    store.LogFilter
		want func(d *store.Delivery) bool
	}{
		"everything": {store.LogFilter{}, func(*store.Delivery) bool { return true }},
		"a sheet":    {store.LogFilter{SheetID: "s1"}, func(d *store.Delivery) bool { return d.SheetID == "s1" }},
		"a rule in a span": {store.LogFilter{RuleID: "r2", Since: day(20), Until: day(5)}, func(d *store.Delivery) bool {
			return d.RuleID == "r2" && !d.DueAt.Before(*day(20)) && d.DueAt.Before(*day(5))
		}},
		"a row": {store.LogFilter{RowID: 7}, func(d *store.Delivery) bool { return d.RowID == 7 }},
		"skipped, which is rare": {store.LogFilter{States: []delivery.State{delivery.Skipped, delivery.Dropped}},
			func(d *store.Delivery) bool { return d.State == delivery.Skipped }},
		"accepted of a sheet": {store.LogFilter{SheetID: "s0", States: []delivery.State{delivery.Accepted}},
			func(d *store.Delivery) bool { return d.SheetID == "s0" && d.State == delivery.Accepted }},
		"held, failed": {store.LogFilter{States: []delivery.State{delivery.Held, delivery.Failed}},
			func(d *store.Delivery) bool { return d.State == delivery.Held || d.State == delivery.Failed }},
		"dropped, of which is none": {store.LogFilter{States: []delivery.State{delivery.Dropped}},
			func(*store.Delivery) bool { return false }},
		"an address": {store.LogFilter{To: "keeper7@marrowby.example"}, func(d *store.Delivery) bool {
			return d.RowID > 0 && strings.Contains(d.Recipients, "keeper7@marrowby.example")
		}},
		"a part of many addresses": {store.LogFilter{To: "KEEPER1"}, func(d *store.Delivery) bool {
			return strings.Contains(d.Recipients, "keeper1")
		}},
		"an address of nobody": {store.LogFilter{To: "curator@"}, func(*store.Delivery) bool { return false }},
		"a subject": {store.LogFilter{Text: "loan 3"}, func(d *store.Delivery) bool {
			return strings.Contains(d.Subject, "Loan 3")
		}},
		"a subject, held": {store.LogFilter{Text: "loan 3", States: []delivery.State{delivery.Held}},
			func(d *store.Delivery) bool { return d.State == delivery.Held && strings.Contains(d.Subject, "Loan 3") }},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			want := map[int64]bool{}
			states := map[delivery.State]int64{}
			for _, d := range all {
				if test.want(d) {
					want[d.ID] = true
					states[d.State]++
				}
			}
			last := noon.Add(time.Hour)
			for cursor := ""; ; {
				p, err := st.Log(ctx, test.f, cursor, 37)
				if err != nil {
					t.Fatal(err)
				}
				for _, d := range p.Lines {
					if !want[d.ID] {
						t.Fatalf("delivery %d comes, which it should not, or not again", d.ID)
					}
					if d.DueAt.After(last) {
						t.Fatalf("delivery %d of %s comes after %s", d.ID, d.DueAt, last)
					}
					last = d.DueAt
					delete(want, d.ID)
				}
				if cursor = p.Next; cursor == "" {
					break
				}
			}
			if len(want) > 0 {
				t.Errorf("%d are missing", len(want))
			}
			counts, err := st.CountStates(ctx, test.f)
			if err != nil {
				t.Fatal(err)
			}
			if counts != nil && !reflect.DeepEqual(counts, states) {
				t.Errorf("counted %v, want %v", counts, states)
			}
			if counts == nil && test.f.Text == "" {
				t.Error("there are no counts")
			}
		})
	}
}

// What needs somebody comes in the order of how much it does, and not once a person has decided.
func TestNeeding(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	in := []delivery.State{delivery.Missed, delivery.Held, delivery.Accepted, delivery.InDoubt, delivery.Failed,
		delivery.Queued, delivery.Incomplete, delivery.Bounced, delivery.Held}
	var all []*store.Delivery
	for n, state := range in {
		d := letters(n, n+1)[0]
		d.DueAt, d.State = noon.Add(time.Duration(n)*time.Hour), state
		all = append(all, d)
	}
	if err := st.InsertDeliveries(ctx, all); err != nil {
		t.Fatal(err)
	}
	names := func() (out []string) {
		ds, err := st.Needing(ctx, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range ds {
			out = append(out, fmt.Sprint(d.State, " ", d.RowID))
		}
		return out
	}
	if got, want := names(), []string{"in-doubt 4", "held 9", "held 2", "bounced 8", "failed 5", "incomplete 7",
		"missed 1"}; !reflect.DeepEqual(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	all[3].Decision = "left"
	if err := st.SaveDelivery(ctx, all[3]); err != nil {
		t.Fatal(err)
	}
	if got := names(); len(got) != 6 || got[0] != "held 9" {
		t.Errorf("%v", got)
	}
	if n, err := st.CountNeeding(ctx, "s"); err != nil || n != 6 {
		t.Errorf("%d, %v", n, err)
	}
}

// What is judged again and goes to somebody else is found by the new address, and by the old one
// no more.
func TestAddresseesFollow(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	d := letters(0, 1)[0]
	d.State, d.NextTry, d.Recipients = delivery.Held, nil,
		`[{"role":"to","mailbox":"Zoë Moss <zoe@marrowby.example>","address":"zoe@marrowby.example"}]`
	if err := st.InsertDeliveries(ctx, []*store.Delivery{d}); err != nil {
		t.Fatal(err)
	}
	found := func(to string) int {
		t.Helper()
		p, err := st.Log(ctx, store.LogFilter{To: to}, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		counts, err := st.CountStates(ctx, store.LogFilter{To: to})
		if n := counts[delivery.Held] + counts[delivery.Queued]; err != nil || int(n) != len(p.Lines) {
			t.Errorf("%s: %d lines, counted %v, %v", to, len(p.Lines), counts, err)
		}
		return len(p.Lines)
	}
	for to, want := range map[string]int{"zoe@marrowby.example": 1, "ZOE MOSS": 1, "zoë": 1, "ada@": 0} {
		if got := found(to); got != want {
			t.Errorf("before, %s finds %d, want %d", to, got, want)
		}
	}
	if err := d.Become(delivery.Queued, delivery.Reviewing); err != nil {
		t.Fatal(err)
	}
	d.Recipients = `[{"role":"to","mailbox":"ada@borrower.example"},{"role":"cc","mailbox":"ada@borrower.example"}]`
	if err := st.SaveDelivery(ctx, d); err != nil {
		t.Fatal(err)
	}
	for to, want := range map[string]int{"zoe@marrowby.example": 0, "ada@": 1} {
		if got := found(to); got != want {
			t.Errorf("behind, %s finds %d, want %d", to, got, want)
		}
	}
	right(t, st)
}

// The codes that the condition of what needs somebody spans are those of the states that do.
func TestPendingCodes(t *testing.T) {
	for _, st := range delivery.States {
		code := store.PendingCodes[st]
		if needs := code >= 1 && code <= 6; needs != delivery.NeedsSomebody(st) {
			t.Errorf("%s has the code %d, and needs somebody: %v", st, code, delivery.NeedsSomebody(st))
		}
	}
}

// Whatever ends a round between two of its statements, state and count part nowhere.
func TestRoundStoppedAnywhere(t *testing.T) {
	ctx := context.Background()
	for how, stop := range map[string]func(st *store.Store, p *dbtest.Proxy, connection int64) error{
		"its process is killed": func(_ *store.Store, p *dbtest.Proxy, _ int64) error { p.Stop(); p.Start(); return nil },
		"its connection is killed": func(st *store.Store, _ *dbtest.Proxy, id int64) error {
			return st.DB(ctx).Exec(fmt.Sprint("KILL ", id)).Error
		},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel() // it waits most of the time
			dsn := dbtest.Migrated(t)
			p := dbtest.NewProxy(t, dsn)
			direct, through := openAt(t, dsn), openAt(t, p.DSN)
			worker, err := direct.RegisterWorker(ctx, "test", time.Hour)
			if err != nil {
				t.Fatal(err)
			}
			statements := 1
			for n := 1; n <= statements; n++ {
				if err := direct.InsertDeliveries(ctx, letters(100*n, 100*n+9)); err != nil {
					t.Fatal(err)
				}
				var claimed []store.Delivery
				if err := direct.Tx(ctx, func(tx *store.Store) (err error) {
					claimed, err = claim(ctx, tx, worker, 9)
					return err
				}); err != nil {
					t.Fatal(err)
				}
				r := store.Round{Worker: worker, Now: noon}
				later := noon.Add(time.Hour)
				for i := range claimed {
					d := claimed[i]
					if i > 6 {
						r.Marks = append(r.Marks, store.Marking{ID: d.ID})
						continue
					}
					d.Tries = 1
					if d.State, d.Reply = delivery.Accepted, "250 ok"; i == 3 {
						d.State, d.NextTry = delivery.Deferred, &later
					}
					r.Outcomes = append(r.Outcomes, store.Outcome{Delivery: &d, Detail: "{}", Plain: i != 3})
				}
				statements = store.StatementsOf(direct, r)
				var connection int64
				if err := store.CommitStopping(ctx, through, r, n, func(id int64) {
					connection = id
					if err := stop(direct, p, id); err != nil {
						t.Error(err)
					}
				}); err == nil && connection != 0 {
					t.Logf("before statement %d it was not stopped", n)
				}
				for there := connection != 0; there; { // until the server has done with it
					if err := direct.DB(ctx).Raw("SELECT COUNT(*) > 0 FROM information_schema.processlist WHERE id = ? AND command <> 'Sleep'",
						connection).Scan(&there).Error; err != nil {
						t.Fatal(err)
					}
				}
				right(t, direct)
			}
			t.Logf("%d statements", statements)
		})
	}
}

// A process that is killed after any of its statements leaves the counts as the deliveries are, whatever it
// was doing to them.
func TestKilledAfterAnyStatement(t *testing.T) {
	ctx := context.Background()
	for _, c := range []struct {
		name string
		do   func(st *store.Store, worker int64, n int) error
	}{
		{"judging", func(st *store.Store, _ int64, n int) error {
			return st.Tx(ctx, func(tx *store.Store) error {
				ds := letters(1000*n, 1000*n+6)
				if err := tx.InsertDeliveries(ctx, ds); err != nil {
					return err
				}
				if err := ds[0].Become(delivery.Held, delivery.Limiting); err != nil {
					return err
				}
				return tx.SaveDelivery(ctx, ds[0])
			})
		}},
		{"claiming what was put off", func(st *store.Store, worker int64, n int) error {
			return st.Tx(ctx, func(tx *store.Store) error {
				_, err := claim(ctx, tx, worker, 5)
				return err
			})
		}},
		{"giving back", func(st *store.Store, worker int64, n int) error { return st.Release(ctx, worker, noon) }},
		{"giving workers up", func(st *store.Store, worker int64, n int) error {
			_, err := st.Sweep(ctx, noon)
			return err
		}},
		{"what comes too late", func(st *store.Store, worker int64, n int) error {
			var ds []store.Delivery
			if err := st.DB(ctx).Order("id DESC").Limit(2).Find(&ds, "state = 'in-doubt'").Error; err != nil {
				return err
			}
			for i := range ds {
				d := ds[i]
				d.State, d.Tries = delivery.Accepted, d.Tries+1
				if _, err := st.Commit(ctx, store.Round{Worker: d.Worker, Now: noon,
					Outcomes: []store.Outcome{{Delivery: &d, Detail: "{}"}}}); err != nil {
					return err
				}
			}
			return nil
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // it waits most of the time
			dsn := dbtest.Migrated(t)
			p := dbtest.NewProxy(t, dsn)
			direct, through := openAt(t, dsn), openAt(t, p.DSN)
			for n, cut := 1, true; cut; n++ {
				worker := someInHand(t, direct, 100_000+100*n)
				if _, err := through.Clock(ctx); err != nil { // the connection is there
					t.Log(err)
				}
				_ = through.Ping(ctx)
				p.CutAfter(n)
				err := c.do(through, worker, n)
				if cut = p.Cut(); !cut && err != nil {
					t.Fatal(err)
				}
				p.CutAfter(0)
				settle(t, direct)
				right(t, direct)
				if n > 60 {
					t.Fatal("it does not come to an end")
				}
				if !cut {
					t.Logf("%d times", n-1)
				}
			}
		})
	}
}

// someInHand makes deliveries that wait, have been put off, claimed, marked and are in doubt, of a worker
// whose lease has run out.
func someInHand(t *testing.T, st *store.Store, from int) (worker int64) {
	t.Helper()
	ctx := context.Background()
	worker, err := st.RegisterWorker(ctx, "test", time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if err := st.InsertDeliveries(ctx, letters(from, from+30)); err != nil {
		t.Fatal(err)
	}
	for k, st2 := range []delivery.State{delivery.Deferred, delivery.Sending, delivery.InDoubt} {
		var claimed []store.Delivery
		if err := st.Tx(ctx, func(tx *store.Store) (err error) {
			claimed, err = claim(ctx, tx, worker, 5)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		r := store.Round{Worker: worker, Now: noon}
		for i := range claimed {
			d := claimed[i]
			if st2 != delivery.Deferred {
				r.Marks = append(r.Marks, store.Marking{ID: d.ID})
				continue
			}
			d.State, d.Tries, d.NextTry = st2, 1, &noon
			r.Outcomes = append(r.Outcomes, store.Outcome{Delivery: &d, Detail: "{}"})
		}
		if _, err := st.Commit(ctx, r); err != nil {
			t.Fatal(k, err)
		}
		if st2 != delivery.Sending {
			continue
		}
		if err := st.DB(ctx).Exec("UPDATE workers SET lease_until = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND").Error; err != nil {
			t.Fatal(err)
		}
		if _, err := st.Sweep(ctx, noon); err != nil { // what has been marked so far is in doubt
			t.Fatal(err)
		}
		if worker, err = st.RegisterWorker(ctx, "test", time.Hour); err != nil {
			t.Fatal(err)
		}
	}
	if err := st.DB(ctx).Exec("UPDATE workers SET lease_until = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND").Error; err != nil {
		t.Fatal(err)
	}
	return worker
}

// settle waits until the server has done with connections that were cut.
func settle(t *testing.T, st *store.Store) {
	t.Helper()
	for busy := true; busy; {
		if err := st.DB(context.Background()).Raw("SELECT COUNT(*) > 0 FROM information_schema.processlist WHERE " +
			"db = DATABASE() AND id <> CONNECTION_ID() AND command <> 'Sleep'").Scan(&busy).Error; err != nil {
			t.Fatal(err)
		}
	}
}

// What is wrong with the counts is named, and mended while others write.
func TestMendCounts(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	if err := st.InsertDeliveries(ctx, letters(0, 12)); err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"UPDATE delivery_counts SET n = n + 1 WHERE state = 'queued' LIMIT 2",
		"INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n) VALUES (7, 'r', 's', 'held', 3, -2)"} {
		if err := st.DB(ctx).Exec(q).Error; err != nil {
			t.Fatal(err)
		}
	}
	if wrong, err := st.WrongCounts(ctx); err != nil || len(wrong) != 3 {
		t.Errorf("wrong are %v, %v; want three", wrong, err)
	}
	var writing sync.WaitGroup
	writing.Go(func() {
		for k := range 20 {
			if err := st.InsertDeliveries(ctx, letters(100*k+100, 100*k+110)); err != nil {
				t.Error(err)
			}
		}
	})
	n, err := st.MendCounts(ctx)
	writing.Wait()
	if err != nil || n != 3 {
		t.Errorf("mended %d, %v; want 3", n, err)
	}
	right(t, st)
	if n, err := st.MendCounts(ctx); err != nil || n != 0 {
		t.Errorf("once more: %d, %v", n, err)
	}
}

// Rounds that are cut off at any moment: a server that cannot answer a statement goes on with the next, and
// must not count wrongly then.
func TestRoundsCutOffAtRandom(t *testing.T) {
	ctx := context.Background()
	dsn := dbtest.Migrated(t)
	p := dbtest.NewProxy(t, dsn)
	direct, through := openAt(t, dsn), openAt(t, p.DSN)
	random := rand.New(rand.NewPCG(23, 5))
	later := noon.Add(time.Hour)
	for k := range 150 {
		worker, err := direct.RegisterWorker(ctx, "test", time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		if err := direct.InsertDeliveries(ctx, letters(1000*k, 1000*k+40)); err != nil {
			t.Fatal(err)
		}
		var claimed []store.Delivery
		if err := direct.Tx(ctx, func(tx *store.Store) (err error) {
			claimed, err = claim(ctx, tx, worker, 40)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		var rounds sync.WaitGroup
		for w := range 4 {
			rounds.Go(func() {
				for i := range 10 {
					d := claimed[(10*w+i)%len(claimed)]
					d.Tries = 1
					if d.State, d.Reply = delivery.Accepted, "250 ok"; i%2 == 0 {
						d.State, d.NextTry = delivery.Deferred, &later
					}
					o := store.Outcome{Delivery: &d, Detail: "{}", Plain: i%2 > 0}
					if i%3 == 0 {
						o.Unclaimed = &store.Unclaimed{Attempt: 1, NextTry: noon, Dated: noon}
					}
					for range 3 { // written again where the answer was lost, and met by nothing then
						_, _ = through.Commit(ctx, store.Round{Worker: worker, Now: noon, Outcomes: []store.Outcome{o}})
					}
				}
			})
		}
		time.Sleep(time.Duration(random.IntN(8000)) * time.Microsecond)
		p.Stop()
		p.Start()
		rounds.Wait()
		settle(t, direct)
		if right(t, direct); t.Failed() {
			return
		}
	}
}
