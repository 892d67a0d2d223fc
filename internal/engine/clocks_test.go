package engine

import (
	"sync/atomic"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/store"
)

// A wall clock that jumps is not believed until it has stood for a while and the database agrees.
func TestSteadyClock(t *testing.T) {
	begin := at("2027-03-15T08:40:00Z")
	var mono, jump time.Duration
	c := newSteadyClock(func() time.Time { return begin.Add(mono + jump) }, func() time.Duration { return mono })
	want := func(what string, want time.Duration) {
		t.Helper()
		if got, _ := c.now(); !got.Equal(begin.Add(want)) {
			t.Errorf("%s: got %s, want %s", what, got.Sub(begin), want)
		}
	}
	mono = time.Minute
	want("as ever", time.Minute)
	jump = 2 * time.Second // as somebody who sets clocks does
	want("a little ahead", time.Minute+2*time.Second)
	jump = 24 * time.Hour
	mono += time.Second
	want("a day ahead", time.Minute+3*time.Second)
	mono += 4 * time.Second
	if c.confirm(begin.Add(mono + jump)) {
		t.Error("adopted after four seconds")
	}
	jump = 0
	want("back", time.Minute+5*time.Second)
	jump = -3 * time.Hour
	mono += time.Minute
	want("three hours behind", 2*time.Minute+5*time.Second)
	mono += secondLook
	if c.confirm(begin.Add(mono)) {
		t.Error("adopted though the database's clock is another")
	}
	if !c.confirm(begin.Add(mono + jump)) {
		t.Error("not adopted though the database's clock agrees")
	}
	want("three hours behind, confirmed", mono+jump)
}

// jumping is an engine by the wall clock, whose clock the test lets jump.
func (f *fixture) jumping(jump *atomic.Int64) *Engine {
	clock := func() time.Time { return time.Now().Add(time.Duration(jump.Load())) }
	return New(f.Store, clock, Options{Real: true, Wall: clock, Name: "jumping"})
}

// One of two servers' clocks jumps ahead by a day: nothing goes early, nothing is put off, and what is edited
// by it has its right time.
func TestClockJumpsAhead(t *testing.T) {
	f := stillFixture(t, time.Now().UTC().Format(time.RFC3339))
	var jump atomic.Int64
	e := f.jumping(&jump)
	f.Engine = e
	second := time.Now().UTC().Truncate(time.Second)
	soon, later := second.Add(-time.Minute), second.Add(3*time.Hour)
	rec, _, _ := f.busySheet([]time.Time{later, later.Add(time.Hour)})
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	f.tickAll()

	jump.Store(int64(24 * time.Hour))
	for range 5 {
		_, _ = e.Tick(f.ctx)
	}
	if _, err := e.EditRow(f.ctx, rec.ID, rows[0].ID, []CellEdit{{Column: "c3", Text: soon.Format("2006-01-02 15:04:05")}},
		System("test")); err != nil {
		t.Fatal(err)
	}
	edited, err := f.Store.Row(f.ctx, rows[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	when := edited.SettledAt
	if edited.FirstEdit != nil {
		when = edited.FirstEdit
	}
	if when == nil || time.Since(*when).Abs() > time.Minute {
		t.Errorf("edited at %v, want about %s", when, time.Now().UTC())
	}
	if counts, err := f.Store.CountStates(f.ctx, store.LogFilter{}); err != nil || len(counts) != 0 {
		t.Errorf("by a clock that is a day ahead: %v, %v", counts, err)
	}

	// One that begins with a wrong clock has nothing to go by but the database's.
	wrong := f.jumping(&jump)
	if _, err := wrong.Tick(f.ctx); !isClock(err) {
		t.Errorf("a tick by a clock that was wrong from the start: %v; want the clock's error", err)
	}
	if _, err := wrong.EditRow(f.ctx, rec.ID, rows[1].ID, []CellEdit{{Column: "c1", Text: "other"}},
		System("test")); !isClock(err) {
		t.Errorf("an edit by a clock that was wrong from the start: %v; want the clock's error", err)
	}
	// What such a clock has put off goes once it is right.
	jump.Store(0)
	d := f.waiting(rec, rows[1].ID, time.Now().UTC().Add(23*time.Hour))
	if err := e.mendWaits(f.ctx); err != nil {
		t.Fatal(err)
	}
	if got := f.delivery(rows[1].ID); got.NextTry == nil || time.Until(*got.NextTry) > time.Minute {
		t.Errorf("delivery %d is tried at %v, want now", d, got.NextTry)
	}
}

// waiting puts a delivery of a row into the queue, to be tried at an instant.
func (f *fixture) waiting(rec *store.Sheet, row int64, next time.Time) int64 {
	f.t.Helper()
	d := &store.Delivery{Occasion: []byte("0123456789abcdef"), SheetID: rec.ID, RowID: row, DueAt: next, JudgedAt: next,
		State: delivery.Deferred, Origin: "{}", Facts: "[]", Recipients: "[]", Attempt: 1, NextTry: &next}
	if err := f.Store.Tx(f.ctx, func(tx *store.Store) error {
		return tx.InsertDeliveries(f.ctx, []*store.Delivery{d})
	}); err != nil {
		f.t.Fatal(err)
	}
	return d.ID
}
