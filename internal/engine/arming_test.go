package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// loansDue makes a sheet whose rule writes seven days before a loan is due, switched on.
func (f *fixture) loansDue(dates ...string) (*store.Sheet, *store.Rule) {
	f.t.Helper()
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		f.t.Fatal(err)
	}
	rec := manyLoans(f.t, f.Engine, 0, "", senders[0].Port)
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	f.switchTo(&rules[0], rule.Paused)
	in := Incoming{Columns: []string{"c1", "c2", "c3"}}
	for i, d := range dates {
		in.Rows = append(in.Rows, []string{fmt.Sprint("LN-", i), fmt.Sprintf("c%d@borrower.example", i), d})
	}
	if _, err := f.Import(f.ctx, rec.ID, in, ImportOptions{Quiet: true}, System("test")); err != nil {
		f.t.Fatal(err)
	}
	return rec, f.switchTo(&rules[0], rule.On)
}

func (f *fixture) switchTo(r *store.Rule, st rule.State) *store.Rule {
	f.t.Helper()
	out, err := f.SetRuleState(f.ctx, r.SheetID, r.ID, st, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	return out
}

// tickAll considers all that is due, by an engine that does not run.
func (f *fixture) tickAll() {
	f.t.Helper()
	for {
		n, err := f.Tick(f.ctx)
		if err != nil {
			f.t.Fatal(err)
		}
		if n == 0 {
			return
		}
	}
}

// wantAgenda compares the days on which a rule is to look at rows, those that count, and how many
// entries earlier generations have left.
func (f *fixture) wantAgenda(ruleID, current string, stale int) {
	f.t.Helper()
	r, err := f.Store.Rule(f.ctx, ruleID)
	if err != nil {
		f.t.Fatal(err)
	}
	var es []store.Entry
	if err := f.Store.DB(f.ctx).Raw("SELECT * FROM agenda WHERE rule_id = ? AND kind = 'due' ORDER BY due_at, id",
		ruleID).Scan(&es).Error; err != nil {
		f.t.Fatal(err)
	}
	var days []string
	left := 0
	for _, en := range es {
		if en.Generation == r.Generation {
			days = append(days, en.DueAt.Format("01-02"))
		} else {
			left++
		}
	}
	if got := strings.Join(days, " "); got != current || left != stale {
		f.t.Errorf("on the agenda are %q and %d of earlier generations, want %q and %d", got, left, current, stale)
	}
}

// Saving, pausing and switching on touch none of the rule's entries: a new generation begins, and
// what the last one has left counts for nothing, and is cleared away when nothing is due.
func TestGenerations(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, r := f.loansDue("2027-03-24", "2027-03-25", "2027-03-26")
	f.tickAll()
	f.wantAgenda(r.ID, "03-17 03-18 03-19", 0)

	core, err := r.Core()
	if err != nil {
		t.Fatal(err)
	}
	core.Trigger.At = "10:00"
	if _, err := f.SaveRule(f.ctx, rec.ID, r.ID, core, 0, "test"); err != nil {
		t.Fatal(err)
	}
	f.wantAgenda(r.ID, "", 3)
	f.tickAll()
	f.wantAgenda(r.ID, "03-17 03-18 03-19", 0)

	f.switchTo(r, rule.Paused)
	f.wantAgenda(r.ID, "", 3)
	// Due before they are cleared away, they bring nothing.
	f.clock = at("2027-03-17T11:00:00Z")
	if n, err := f.Tick(f.ctx); err != nil || n != 1 {
		t.Fatalf("%d entries considered, %v", n, err)
	}
	f.wantAgenda(r.ID, "", 2)
	f.switchTo(r, rule.On)
	f.tickAll()
	f.wantAgenda(r.ID, "03-18 03-19", 0)
	if counts, err := f.Store.CountStates(f.ctx, store.LogFilter{}); err != nil || len(counts) != 0 {
		t.Errorf("%v %v", counts, err)
	}
	// Put away, nothing of the sheet is to come.
	if err := f.PutSheetAway(f.ctx, rec.ID, "test"); err != nil {
		t.Fatal(err)
	}
	f.tickAll()
	var left int64
	if err := f.Store.DB(f.ctx).Raw("SELECT COUNT(*) FROM agenda").Scan(&left).Error; err != nil || left != 0 {
		t.Errorf("%d entries are left; %v", left, err)
	}
}

// An entry that is being considered while its rule is paused is waited for: once the rule is
// paused, nothing more comes of it.
func TestPauseWaitsForWhoConsiders(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	_, r := f.loansDue("2027-03-24")
	f.tickAll()
	f.clock = at("2027-03-17T08:59:30Z") // half a minute before it is due
	var paused chan error
	err := f.Store.Tx(f.ctx, func(tx *store.Store) error {
		es, err := tx.ClaimAgenda(f.ctx, at("2027-03-17T09:00:00Z"), 10, store.Share{})
		if err != nil || len(es) != 1 {
			t.Fatalf("%v %v", es, err)
		}
		paused = make(chan error, 1)
		go func() {
			_, err := f.SetRuleState(f.ctx, r.SheetID, r.ID, rule.Paused, "test")
			paused <- err
		}()
		select {
		case err := <-paused:
			t.Errorf("the rule was paused meanwhile: %v", err)
		case <-time.After(300 * time.Millisecond):
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := <-paused; err != nil {
		t.Fatal(err)
	}
}

// Of a sheet of many rows the agenda holds what comes up to the horizon, and the first day beyond it;
// the rest as its time comes near. Every email goes at its instant.
func TestHorizon(t *testing.T) {
	dates := []string{"2027-06-01", "2027-03-24", "2027-04-07", "2027-03-26", "2027-04-07", "2027-05-01"}
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	f.opts.Horizon = near
	_, r := f.loansDue(dates...)
	f.tickAll()
	f.wantAgenda(r.ID, "03-17 03-19 03-31 03-31 05-25", 0) // the first row came first
	if at, n, err := f.Store.NextRuleDue(f.ctx, mustRule(f, r.ID)); err != nil || n != 1 || at.Day() != 17 {
		t.Errorf("next: %s, %d rows, %v", at, n, err)
	}
	f.run()
	f.advance(at("2027-03-19T08:40:00Z")) // looked through again, a day before the horizon ends
	f.wantAgenda(r.ID, "03-19 03-31 03-31 05-25", 0)
	f.advance(at("2027-06-10T08:30:00Z"))
	f.wantAgenda(r.ID, "", 0)
	var got []string
	for _, m := range f.timed() {
		got = append(got, m[:14]+" "+strings.TrimSpace(m[15:16]))
	}
	const want = "03-17 09:00:00 c,03-19 09:00:00 c,03-31 09:00:00 c,03-31 09:00:00 c,04-24 09:00:00 c,05-25 09:00:00 c"
	if g := strings.Join(got, ","); g != want {
		t.Errorf("arrived at %s, want %s", g, want)
	}
}

// Whoever comes back after the horizon has ended finds all that fell due meanwhile; edits and a
// new zone made before all rows have been looked through lose nothing.
func TestHorizonPassed(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	f.opts.Horizon = near
	rec, r := f.loansDue("2027-03-24", "2027-04-07", "2027-04-12", "2027-05-01", "2027-06-01")
	f.tickAll()
	f.clock = at("2027-05-10T08:30:00Z") // nothing has run since
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.EditRow(f.ctx, rec.ID, rows[2].ID, []CellEdit{{Column: "c2", Text: "ada@x.example"}},
		System("test")); err != nil {
		t.Fatal(err)
	}
	zone := "Europe/London"
	if _, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{Zone: &zone}, "test"); err != nil {
		t.Fatal(err)
	}
	f.run()
	f.advance(at("2027-05-10T09:30:00Z"))
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
	if err != nil || counts["missed"] != 4 || len(counts) != 1 {
		t.Errorf("%v %v, want four missed\n%s", counts, err, f.ledger())
	}
	f.advance(at("2027-06-10T09:30:00Z"))
	if got := f.timed(); len(got) != 1 || !strings.HasPrefix(got[0], "05-25 08:00:00") {
		t.Errorf("%v", got)
	}
}

func mustRule(f *fixture, id string) *store.Rule {
	f.t.Helper()
	r, err := f.Store.Rule(f.ctx, id)
	if err != nil {
		f.t.Fatal(err)
	}
	return r
}
