package engine

import (
	"errors"
	"testing"

	"nivot/internal/core/rule"
)

// Section 3, by hand: the rows a person picked get their email once, when that
// person says so; a sending asked for twice is one, another sending is another.
func TestByHand(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(6, func(r *rule.Rule) {
		r.Trigger = rule.Trigger{Kind: rule.ByHand}
		r.Hold = rule.HoldFirstRun // who sends by hand has looked
	})
	f.advance(at("2027-03-15T08:40:00Z"))
	if got := len(f.subjects()); got != 0 {
		t.Fatalf("%d went before anybody said so", got)
	}
	send := func(batch string, want int, ids ...int64) {
		t.Helper()
		n, err := f.SendByHand(f.ctx, rec.ID, r.ID, batch, ids, "Ines")
		if err != nil || n != want {
			t.Fatalf("%s: %d, %v; want %d", batch, n, err, want)
		}
	}
	send("first", 3, rows[2], rows[0], rows[1], rows[0])
	send("first", 0, rows[0], rows[1], rows[2])
	send("first", 1, rows[0], rows[3])
	f.advance(at("2027-03-15T08:45:00Z"))
	if got := len(f.subjects()); got != 4 {
		t.Fatalf("%d went, want 4", got)
	}
	send("second", 1, rows[0])
	f.advance(at("2027-03-15T08:50:00Z"))
	if got := len(f.subjects()); got != 5 {
		t.Fatalf("%d went, want 5", got)
	}
	events, err := f.Store.DeliveryEvents(f.ctx, f.delivery(rows[3]).ID)
	if err != nil || len(events) == 0 || events[0].Actor != "Ines" {
		t.Fatalf("it does not stand on record who sent it: %+v, %v", events, err)
	}
	var refusal *Refusal
	if _, err := f.DeleteRow(f.ctx, rec.ID, rows[5], System("Ines")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		batch string
		rows  []int64
	}{{"", rows[:1]}, {"none", nil}, {"gone", rows[4:6]}} {
		if _, err := f.SendByHand(f.ctx, rec.ID, r.ID, c.batch, c.rows, "Ines"); !errors.As(err, &refusal) {
			t.Errorf("%q: %v", c.batch, err)
		}
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.SendByHand(f.ctx, rec.ID, r.ID, "paused", rows[:1], "Ines"); !errors.As(err, &refusal) {
		t.Errorf("paused: %v", err)
	}
}
