package engine

import (
	"errors"
	"testing"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
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
		_, n, err := f.SendByHand(f.ctx, rec.ID, r.ID, batch, ids, "Ines")
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
	events, err := f.Store.DeliveryEvents(f.ctx, f.delivery(rows[3]))
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
		if _, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, c.batch, c.rows, "Ines"); !errors.As(err, &refusal) {
			t.Errorf("%q: %v", c.batch, err)
		}
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, "paused", rows[:1], "Ines"); !errors.As(err, &refusal) {
		t.Errorf("paused: %v", err)
	}
}

// A sending of many rows goes on by itself, can be stopped half way, and what
// was stopped stays unsent; what failed of it goes again as the next attempt.
func TestBatch(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	const n = 250
	rec, r, rows := f.reacting(n, func(r *rule.Rule) { r.Trigger = rule.Trigger{Kind: rule.ByHand} })
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		t.Fatal(err)
	}
	paced := func(n int) {
		for i := range senders {
			senders[i].Pace = n
			if err := f.Store.SaveSender(f.ctx, &senders[i]); err != nil {
				t.Fatal(err)
			}
		}
	}
	paced(1)
	b, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, "spring", rows, "Ines")
	if err != nil || b.Total != n || b.Done < handBatch || !b.Running() {
		t.Fatalf("%+v %v", b, err)
	}
	core, err := r.Core()
	if err != nil {
		t.Fatal(err)
	}
	preview, err := f.PreviewByHand(f.ctx, rec.ID, core, rows[:20], calendar.Duration{Days: 7})
	if err != nil || preview.Emails != 20 || len(preview.Recent) != 20 || len(preview.Lines) != maxFirst ||
		preview.Lines[0].Subject == "" {
		t.Fatalf("%+v %v", preview, err)
	}
	f.advance(at("2027-03-15T08:33:00Z")) // one a minute
	stopped, err := f.StopBatch(f.ctx, rec.ID, b.ID, "Tom")
	if err != nil || stopped < 190 {
		counts, _ := f.Store.CountOfBatch(f.ctx, b)
		t.Fatalf("%d stopped of %v: %v %s", stopped, counts, err, b.At)
	}
	went := len(f.subjects())
	f.advance(at("2027-03-15T09:30:00Z"))
	if got := len(f.subjects()); got != went || went == 0 {
		t.Errorf("%d had gone when the sending was stopped, then %d", went, got)
	}
	counts, err := f.Store.CountOfBatch(f.ctx, b)
	if err != nil || counts[delivery.Dropped] != stopped || counts[delivery.Accepted] != went || len(counts) != 2 {
		t.Errorf("%v %v, %d went", counts, err, went)
	}
	paced(0)
	// Another goes whole, without anybody asking again.
	b, _, err = f.SendByHand(f.ctx, rec.ID, r.ID, "summer", rows, "Ines")
	if err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T10:30:00Z"))
	if b, err = f.Store.Batch(f.ctx, b.ID); err != nil || b.Done != n || b.Running() {
		t.Errorf("%+v %v", b, err)
	}
	if got := len(f.subjects()); got != went+n {
		t.Errorf("%d went, want %d", got, went+n)
	}
}
