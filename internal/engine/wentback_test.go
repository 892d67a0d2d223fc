package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// copyTables makes a copy of all tables, as of one instant.
func (f *fixture) copyTables() {
	f.t.Helper()
	for _, t := range f.tables() {
		f.exec("DROP TABLE IF EXISTS copy_" + t)
		f.exec("CREATE TABLE copy_" + t + " LIKE " + t)
	}
	err := f.Store.Tx(f.ctx, func(tx *store.Store) error {
		for _, t := range f.tables() {
			var columns string // but those that the database makes
			if err := tx.DB(f.ctx).Raw(
				"SELECT GROUP_CONCAT('`', column_name, '`') FROM information_schema.columns WHERE table_schema = DATABASE() AND "+
					"table_name = ? AND is_generated = 'NEVER'", t).Scan(&columns).Error; err != nil {
				return err
			}
			if err := tx.DB(f.ctx).Exec("INSERT INTO copy_" + t + " (" + columns + ") SELECT " + columns + " FROM " + t +
				" LOCK IN SHARE MODE").Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		f.t.Fatal(err)
	}
}

// goBack puts the copy in the tables' place, at once.
func (f *fixture) goBack() {
	f.t.Helper()
	var swap, drop []string
	for _, t := range f.tables() {
		swap = append(swap, fmt.Sprintf("%s TO old_%s, copy_%s TO %s", t, t, t, t))
		drop = append(drop, "old_"+t)
	}
	f.exec("RENAME TABLE " + strings.Join(swap, ", "))
	f.exec("DROP TABLE " + strings.Join(drop, ", "))
}

func (f *fixture) exec(q string) {
	f.t.Helper()
	if err := f.Store.DB(f.ctx).Exec(q).Error; err != nil {
		f.t.Fatal(err)
	}
}

func (f *fixture) tables() (out []string) {
	f.t.Helper()
	q := "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name NOT LIKE " +
		"'goose%' AND table_name NOT LIKE 'copy\\_%' AND table_name NOT LIKE 'old\\_%' ORDER BY table_name"
	if err := f.Store.DB(f.ctx).Raw(q).Scan(&out).Error; err != nil {
		f.t.Fatal(err)
	}
	return out
}

// A.9: an older copy of the database, put under the program at ten random
// points, while it runs or while it is stopped: all sending stops by itself,
// rules are paused, what fell due since is held, and nothing goes twice; rows,
// deliveries and events that come afterwards have ids that nothing ever had.
func TestDatabaseWentBack(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	f.opts.MarkFile = filepath.Join(t.TempDir(), "key.mark")
	r := rand.New(rand.NewPCG(9, 1847))
	weekly := `{"name":"Read","state":"on","brake":{"count":10000,"share":1},"trigger":{"kind":"date","column":"Read","at":"09:00","offsets":[{"n":0,"unit":"days"}],"every":{"unit":"days","n":1}},
		"to":[{"column":"Email"}],"send":[{"template":"A"}],"then":{"steps":[{"after":"PT5H","template":"B"}]}}`
	edited := strings.Replace(humid, `"send"`, `"brake":{"count":10000,"share":1},"send"`, 1)
	var lines []string
	for i := range 40 {
		lines = append(lines, fmt.Sprintf("C-%02d,50,c%d@x.example,,2027-03-%02d", i, i, 15+i%3))
	}
	rec, rows := f.cases(weekly+","+edited, lines...)
	start := func() (stop func()) {
		ctx, cancel := context.WithCancel(f.ctx)
		done := make(chan struct{})
		go func() { defer close(done); _ = f.Run(ctx) }()
		return func() { cancel(); <-done }
	}
	stop := start()
	defer func() { stop() }()
	f.settled()
	highest := map[string]int64{}
	for round := range 10 {
		// Something happens, a copy is made, more happens.
		some := func() {
			for range 1 + r.IntN(4) {
				f.set(rec, rows[fmt.Sprintf("C-%02d", r.IntN(40))], "Humidity", fmt.Sprint(40+r.IntN(40)))
				f.advance(f.Now().Add(time.Duration(r.IntN(9*3600)) * time.Second))
			}
		}
		some()
		f.copyTables()
		some()
		if _, err := f.AddRow(f.ctx, rec.ID, []CellEdit{{Column: "c1", Text: fmt.Sprintf("N-%d", round)},
			{Column: "c3", Text: "new@x.example"}, {Column: "c5", Text: "2027-03-15"}}, System("test")); err != nil {
			t.Fatal(err)
		}
		f.advance(f.Now().Add(26 * time.Hour))
		for _, table := range []string{"sheet_rows", "deliveries", "events"} {
			highest[table] = max(highest[table], f.number("SELECT COALESCE(MAX(id), 0) FROM "+table))
		}
		before := len(f.subjects())

		stopped := round%2 == 1
		if stopped {
			stop()
		}
		f.goBack()
		if stopped {
			// Another process, whose memory is only the file.
			f.Engine = New(f.Store, f.Engine.now, Options{Poll: 20 * time.Millisecond, Lease: 3 * time.Second,
				MarkFile: f.opts.MarkFile})
			stop = start()
		}
		deadline := time.Now().Add(2 * time.Minute)
		for {
			sending, err := f.Store.Sending(f.ctx)
			if err != nil {
				t.Fatal(err)
			}
			paused := f.number("SELECT COUNT(*) FROM rules WHERE state = 'on'") == 0
			if !sending.On && !sending.Back.Until.IsZero() && paused {
				break
			}
			if time.Now().After(deadline) {
				t.Fatalf("round %d: nobody has noticed: sending %v, %+v, all paused %v", round, sending.On, sending.Back, paused)
			}
			time.Sleep(10 * time.Millisecond)
		}
		f.advance(f.Now().Add(3 * time.Hour))
		if after := len(f.subjects()); after != before {
			t.Errorf("round %d: %d emails went by themselves", round, after-before)
		}
		for table, n := range highest {
			if next := f.number(
				"SELECT auto_increment FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = '" + table +
					"'"); next <= n {
				t.Errorf("round %d: the next id of %s is %d; %d had been given", round, table, next, n)
			}
		}
		var held []store.Delivery
		if err := f.Store.DB(f.ctx).Raw("SELECT * FROM deliveries WHERE state = 'held'").Scan(&held).Error; err != nil {
			t.Fatal(err)
		}
		for i := range held {
			if held[i].Reason.Code != reason.Restored {
				t.Errorf("round %d: held because %s", round, held[i].Reason)
			}
		}
		// A person looks: what is held has gone, so it is left out; then on.
		if err := f.LookedBack(f.ctx, "Ines"); err != nil {
			t.Fatal(err)
		}
		rules, err := f.Store.Rules(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		for i := range rules {
			if _, err := f.Release(f.ctx, rec.ID, rules[i].ID, false, "Ines"); err != nil {
				t.Fatal(err)
			}
			if _, err := f.SetRuleState(f.ctx, rec.ID, rules[i].ID, rule.On, "Ines"); err != nil {
				t.Fatal(err)
			}
		}
		if err := f.SetSending(f.ctx, true, "Ines"); err != nil {
			t.Fatal(err)
		}
		f.settled()
	}
	f.advance(f.Now().Add(26 * time.Hour))
	seen := map[string]int{}
	for _, m := range f.mails {
		if seen[m.MessageID]++; seen[m.MessageID] > 1 {
			t.Errorf("%s (%s) arrived %d times", m.MessageID, m.Subject, seen[m.MessageID])
		}
	}
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil || counts[delivery.Queued]+counts[delivery.Claimed]+counts[delivery.Sending] > 0 {
		t.Errorf("%v %v", counts, err)
	}
	t.Logf("%d emails, %v", len(f.mails), counts)
}

func (f *fixture) number(q string) (n int64) {
	f.t.Helper()
	if err := f.Store.DB(f.ctx).Raw(q).Scan(&n).Error; err != nil {
		f.t.Fatal(err)
	}
	return n
}

// A fresh database, or another one, has no past that could be missing.
func TestAnotherDatabase(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	path := filepath.Join(t.TempDir(), "key.mark")
	f.opts.MarkFile = path
	if err := f.witness.open(path); err != nil {
		t.Fatal(err)
	}
	f.cases(humid, "C-1,50,a@x.example,,")
	if err := f.begin(f.ctx); err != nil {
		t.Fatal(err)
	}
	g := stillFixture(t, "2027-03-15T08:30:00Z")
	if err := g.witness.open(path); err != nil {
		t.Fatal(err)
	}
	if err := g.begin(g.ctx); err != nil {
		t.Fatal(err)
	}
	if now, err := g.Store.Sending(g.ctx); !now.On || !now.Back.Until.IsZero() || err != nil {
		t.Errorf("%+v %v", now, err)
	}
}
