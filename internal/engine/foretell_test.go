package engine

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// What is foretold of a change is what the engine then does: random changes of
// several rows at once, on random sheets with random rules, both ways.
func TestForetoldIsDone(t *testing.T) {
	set, trials := 0, 12
	if n, err := strconv.Atoi(os.Getenv("NIVOT_TRIALS")); err == nil {
		trials = n // for hours, by hand
	}
	for trial := range uint64(trials) {
		t.Run(fmt.Sprint("trial ", trial), func(t *testing.T) {
			g := exchangetest.New(trial, 453)
			b, err := exchange.ReadBundle(g.Bundle())
			if err != nil {
				t.Fatal(err)
			}
			f := newFixture(t, "2027-03-15T08:40:00Z")
			rec, err := f.Install(f.ctx, b, true, "test")
			if err != nil {
				t.Fatal(err)
			}
			f.settled()
			rec.SettleSeconds = 0
			if err := f.Store.SaveSheet(f.ctx, rec); err != nil {
				t.Fatal(err)
			}
			s, err := rec.Core()
			if err != nil {
				t.Fatal(err)
			}
			for step := range 14 {
				f.advance(f.Now().Add(time.Duration(1+g.R.IntN(30*3600)) * time.Second))
				rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 100)
				if err != nil {
					t.Fatal(err)
				}
				var ops []Op
				for i := range rows {
					switch n := g.R.IntN(8); {
					case n == 0 && len(rows) > 3:
						ops = append(ops, Op{Kind: OpDelete, Row: rows[i].ID})
					case n < 5:
						var cells []CellEdit
						for range 1 + g.R.IntN(3) {
							name := g.One("State", "State", "Humidity", "Humidity", "Email", "Name", "Open", "Due", "Limit", "Read", "Copy")
							c, _ := s.ColumnNamed(name)
							cells = append(cells, CellEdit{Column: c.ID, Text: g.Cell(name)})
						}
						ops = append(ops, Op{Kind: OpEdit, Row: rows[i].ID, Cells: cells})
					}
				}
				if g.Maybe(3) {
					ops = append(ops, Op{Kind: OpAdd, Cells: []CellEdit{{Column: "c1", Text: fmt.Sprint("N-", step)},
						{Column: "c2", Text: g.Cell("Due")}, {Column: "c4", Text: g.Cell("State")},
						{Column: "c5", Text: g.Cell("Humidity")}}})
				}
				told, err := f.ForetellChange(f.ctx, rec.ID, ops, System("test"))
				if err != nil {
					t.Fatal(err)
				}
				before := f.states()
				if _, err := f.Change(f.ctx, rec.ID, ops, "paste", System("test")); err != nil {
					t.Fatal(err)
				}
				f.settled()
				got := map[string][3]int{}
				for id, d := range f.states() {
					if was, ok := before[id]; ok && was.State == d.State {
						continue
					}
					n := got[d.RuleID]
					switch d.State {
					case delivery.Skipped, delivery.Missed, delivery.Dropped:
						continue
					case delivery.Incomplete:
						n[2]++
					case delivery.Held:
						n[0]++
						n[1]++
					default:
						if was, ok := before[id]; ok && was.State != delivery.Incomplete && was.State != delivery.Held {
							continue // it was on its way already
						}
						n[0]++
					}
					got[d.RuleID] = n
				}
				want := map[string][3]int{}
				for _, r := range told.Rules {
					if n := [3]int{r.Now, r.Held, r.Incomplete}; n != [3]int{} {
						want[r.ID] = n
					}
				}
				for id, n := range got {
					if n == [3]int{} {
						delete(got, id)
					}
					set += n[0]
				}
				if fmt.Sprint(got) != fmt.Sprint(want) {
					for id, d := range f.states() {
						if was, ok := before[id]; !ok || was.State != d.State {
							r, _ := f.Store.Rule(f.ctx, d.RuleID)
							t.Logf("%d: %s to %s, %s, %s\n%s", id, was.State, d.State, d.DueAt, d.Reason.Words(), r.Body)
						}
					}
					t.Fatalf("trial %d, step %d: foretold %v, done %v (now, held, incomplete)\n%v", trial, step, want, got, ops)
				}
			}
		})
	}
	if set < 15 {
		t.Errorf("only %d emails were set off", set)
	}
}

func (f *fixture) states() map[int64]store.Delivery {
	f.t.Helper()
	page, err := f.Store.Log(f.ctx, store.LogFilter{}, "", 100_000)
	ds := page.Lines
	if err != nil {
		f.t.Fatal(err)
	}
	out := map[int64]store.Delivery{}
	for _, d := range ds {
		out[d.ID] = d
	}
	return out
}

// The emails that are new and no longer go by a change are those that the forecast
// gains and loses.
func TestForetoldComing(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.install("loans")
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.On, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 100)
	if err != nil {
		t.Fatal(err)
	}
	coming := func() int {
		fc, err := f.Forecast(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		return len(fc.Coming)
	}
	was := coming()
	ops := []Op{{Kind: OpDelete, Row: rows[0].ID}, {Kind: OpEdit, Row: rows[1].ID,
		Cells: []CellEdit{{Column: "c6", Text: "05/04/2027"}}}}
	told, err := f.ForetellChange(f.ctx, rec.ID, ops, System("Ines"))
	if err != nil || told.Rows != 2 || told.Looked != 2 || len(told.Rules) != 2 {
		t.Fatalf("%+v %v", told, err)
	}
	if now := coming(); now != was {
		t.Fatalf("foretelling has changed what comes: %d, then %d", was, now)
	}
	if _, err := f.Change(f.ctx, rec.ID, ops, "paste", System("Ines")); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T08:50:00Z"))
	want := 0
	for _, l := range told.Coming {
		if l.OutlookLine.Due.Before(at("2027-04-12T00:00:00Z")) { // as far as the forecast looks
			want++
			if l.Gone {
				want -= 2
			}
		}
	}
	if got := coming() - was; got != want {
		t.Errorf("%d come more than before, foretold %d", got, want)
	}
	for _, l := range told.Coming {
		if l.To == nil && l.OutlookLine.Outcome == "send" {
			t.Errorf("%+v", l)
		}
	}
}

// What is held has no follow-ups before somebody has let it go: foretelling an
// edit of its row comes to an end, and foresees none of them.
func TestForetellWhatIsHeld(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(2, func(r *rule.Rule) {
		r.Hold = rule.HoldAlways
		r.Then = &rule.Then{Steps: []rule.Step{{After: "P3D", Template: r.Send[0].Template}}}
	})
	f.alone(rec, r)
	f.edit(rec, rows, "2031-01-01")
	f.advance(at("2027-03-15T08:40:00Z"))
	if got := f.held(r.ID); got != 2 {
		t.Fatalf("%d are held, want 2", got)
	}
	ctx, cancel := context.WithTimeout(f.ctx, 2*time.Minute)
	defer cancel()
	done := make(chan *Consequences, 1)
	go func() {
		told, err := f.ForetellChange(ctx, rec.ID, []Op{{Kind: OpDelete, Row: rows[0]}, {Kind: OpDelete, Row: rows[1]}},
			System("Ines"))
		if err != nil {
			t.Error(err)
		}
		done <- told
	}()
	select {
	case told := <-done:
		if told != nil && (len(told.Coming) > 0 || told.Looked != 2) {
			t.Errorf("foretold: %+v", told)
		}
	case <-time.After(2 * time.Minute):
		t.Fatal("foretelling does not come to an end")
	}
}
