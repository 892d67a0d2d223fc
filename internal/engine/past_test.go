package engine

import (
	"errors"
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// held counts the emails of a rule that wait to be looked through.
func (f *fixture) held(ruleID string) int {
	f.t.Helper()
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: ruleID})
	if err != nil {
		f.t.Fatal(err)
	}
	return int(counts[delivery.Held])
}

func (f *fixture) include(rec *store.Sheet, r *store.Rule, want int) {
	f.t.Helper()
	if n, err := f.IncludePast(f.ctx, rec.ID, r.ID, nil, "Ines"); err != nil || n != want {
		f.t.Fatalf("%d were past, %v; want %d", n, err, want)
	}
}

// Section 3, baseline: due times past fire nothing at switching on; they may be
// included, held, and go once; what falls due later goes by itself.
func TestPastDates(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(5, func(r *rule.Rule) {
		r.Trigger = rule.Trigger{Kind: rule.Date, Column: "c3", Offsets: []rule.Offset{{N: -14, Unit: rule.Days},
			{N: -1, Unit: rule.Days}}, At: "09:00"}
	})
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	for i := range rules { // the sheet's first rule has no part in this
		if _, err := f.SetRuleState(f.ctx, rec.ID, rules[i].ID, rule.Paused, "Ines"); err != nil {
			t.Fatal(err)
		}
	}
	f.edit(rec, rows[:3], "2027-03-25") // 14 days before is past, 1 day before is to come
	f.advance(at("2027-03-15T08:40:00Z"))
	var refusal *Refusal
	if _, err := f.IncludePast(f.ctx, rec.ID, r.ID, nil, "Ines"); !errors.As(err, &refusal) {
		t.Errorf("a paused rule: %v", err)
	}
	if err := f.Store.DB(f.ctx).Exec("UPDATE rules SET paused_at = NULL WHERE id = ?", r.ID).Error; err != nil {
		t.Fatal(err) // as a rule that was never on before
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.On, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-16T12:00:00Z"))
	if got := len(f.subjects()); got != 0 || f.held(r.ID) != 0 {
		t.Fatalf("switching on sent %d", got)
	}
	if err := f.SetSending(f.ctx, false, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.include(rec, r, 3)
	f.include(rec, r, 0)
	if err := f.SetSending(f.ctx, true, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-20T12:00:00Z"))
	if got := len(f.subjects()); got != 0 || f.held(r.ID) != 3 {
		t.Fatalf("%d went though nobody had looked, %d held", got, f.held(r.ID))
	}
	if d, err := f.Decide(f.ctx, f.delivery(rows[0]).ID, Drop, "Ines"); err != nil || d.State != delivery.Dropped {
		t.Fatal(d, err)
	}
	if n, err := f.Release(f.ctx, rec.ID, r.ID, true, "Ines"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	f.advance(at("2027-03-20T13:00:00Z"))
	if got := len(f.subjects()); got != 2 {
		t.Fatalf("%d went, want the 2 let go", got)
	}
	f.advance(at("2027-03-26T12:00:00Z"))
	if got := len(f.subjects()); got != 5 {
		t.Errorf("%d went, want 2 and the 3 of the day before", got)
	}
	f.include(rec, r, 0)
}

// Section 3, baseline and pause: a state reached before is no occasion of its
// own; after a pause only what passed meanwhile is offered, and the brake does
// not count it.
func TestPastStates(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	day := "2031-01-01"
	rec, r, rows := f.reacting(60, func(r *rule.Rule) {
		r.Trigger = rule.Trigger{Kind: rule.Change, Column: "c3", To: []rule.Operand{{Text: &day}}}
	})
	f.edit(rec, rows[:2], day)
	f.advance(at("2027-03-15T08:40:00Z"))
	f.include(rec, r, 0) // these have gone, and no other stands in the state
	if got := len(f.subjects()); got != 2 {
		t.Fatalf("%d went, want 2", got)
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.edit(rec, rows[2:42], day)
	f.advance(at("2027-03-15T08:50:00Z"))
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.On, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T09:00:00Z"))
	f.include(rec, r, 40)
	f.include(rec, r, 0)
	f.edit(rec, rows[42:43], day)
	f.advance(at("2027-03-15T09:10:00Z"))
	if got := len(f.subjects()); got != 3 || f.held(r.ID) != 40 {
		t.Fatalf("%d went, want 3; %d held, want 40", got, f.held(r.ID))
	}
	// Leaving and coming back is another episode.
	f.edit(rec, rows[2:3], "2030-01-01")
	f.advance(at("2027-03-15T09:20:00Z"))
	f.edit(rec, rows[2:3], day)
	f.advance(at("2027-03-15T09:30:00Z"))
	if got := len(f.subjects()); got != 4 {
		t.Errorf("%d went, want 4", got)
	}
}

// What is counted as past beside a rule that is not on is what its list shows, while rows settle too.
func TestPastWhileRowsSettle(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(`{"name":"Due","state":"draft","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}]},"send":[{"template":"B"}],"to":[{"column":"Email"}]}`,
		"C-1,50,a@x.example,,2027-05-20", "C-2,50,b@x.example,,2027-03-16")
	f.set(rec, rows["C-1"], "Read", "2027-03-18") // and has not settled
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	core, err := rules[0].Core()
	if err != nil {
		t.Fatal(err)
	}
	effect, err := f.Effect(f.ctx, rec.ID, EffectAsk{Rule: core})
	if err != nil {
		t.Fatal(err)
	}
	lines, total, err := f.Past(f.ctx, rec.ID, core, rules[0].ID)
	if err != nil || total != 2 || len(lines) != 2 || effect.Past != total {
		t.Errorf("%d are counted, and %d listed (%v), want 2", effect.Past, total, err)
	}
}
