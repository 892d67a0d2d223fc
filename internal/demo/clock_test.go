package demo

import (
	"context"
	"errors"
	"testing"
	"time"

	"nivot/internal/database/dbtest"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// newClock returns a clock that stands at Start on a database of its own, whose engine does nothing.
func newClock(t *testing.T) *Clock {
	t.Helper()
	st, err := store.Open(dbtest.Migrated(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	c, err := OpenClock(context.Background(), st, time.Now, Start, false)
	if err != nil {
		t.Fatal(err)
	}
	c.Use(engine.New(st, c.Now, engine.Options{}))
	return c
}

// held keeps others from writing the clock until the function that it returns is called.
func held(t *testing.T, c *Clock) func() {
	t.Helper()
	locked, free, done := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		done <- c.s.Tx(context.Background(), func(tx *store.Store) error {
			var r reading
			_, err := tx.LockSetting(context.Background(), store.SettingClock, &r)
			close(locked)
			<-free
			return err
		})
	}()
	<-locked
	return func() {
		close(free)
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
}

// Who moves the clock waits while it is being kept, and is refused while somebody else moves it.
func TestClockIsMovedByOne(t *testing.T) {
	ctx := context.Background()
	c := newClock(t)
	release := held(t, c)
	go func() { _ = c.keep(ctx) }()
	for c.playing.TryLock() { // until the keeper has it
		c.playing.Unlock()
		time.Sleep(time.Millisecond)
	}
	to := Start.Add(24 * time.Hour)
	type answer struct {
		at  time.Time
		err error
	}
	moved := make(chan answer, 1)
	go func() {
		at, err := c.Advance(ctx, to)
		moved <- answer{at, err}
	}()
	for !c.moving.Load() && len(moved) == 0 {
		time.Sleep(time.Millisecond)
	}
	var refusal *engine.Refusal
	if _, err := c.Advance(ctx, to); !errors.As(err, &refusal) {
		t.Errorf("a second who moves it: %v, want a refusal", err)
	}
	release()
	if got := <-moved; got.err != nil || !got.at.Equal(to) {
		t.Errorf("moved to %v, %v, want %v", got.at, got.err, to)
	}
	if now := c.Now(); now.Before(to) || now.After(to.Add(time.Hour)) {
		t.Errorf("it stands at %v, want %v", now, to)
	}
}

// A clock whose move is given up goes on from where it has come to.
func TestClockTicksAfterGivingUp(t *testing.T) {
	c := newClock(t)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := c.Advance(ctx, Start.Add(time.Hour)); !errors.Is(err, context.Canceled) {
		t.Errorf("%v, want it given up", err)
	}
	a := c.Now()
	time.Sleep(2 * time.Millisecond)
	if b := c.Now(); !b.After(a) {
		t.Errorf("it stands still at %v", b)
	}
}

// Another process's keeping does not touch a clock that is being played forward, and what is kept
// goes on with the time.
func TestClockKeeps(t *testing.T) {
	ctx := context.Background()
	c := newClock(t)
	other, err := OpenClock(ctx, c.s, time.Now, Start, false)
	if err != nil {
		t.Fatal(err)
	}
	kept := func() (r reading) {
		if _, err := c.s.Setting(ctx, store.SettingClock, &r); err != nil {
			t.Fatal(err)
		}
		return r
	}
	to := Start.Add(time.Hour)
	if err := c.set(ctx, to, true); err != nil {
		t.Fatal(err)
	}
	if err := other.keep(ctx); err != nil {
		t.Fatal(err)
	}
	if r := kept(); !r.Frozen || !r.Practice.Equal(to) {
		t.Errorf("kept is %+v, want it standing at %v", r, to)
	}
	if err := c.set(ctx, to, false); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Millisecond)
	if err := other.keep(ctx); err != nil {
		t.Fatal(err)
	}
	if r := kept(); r.Frozen || !r.Practice.After(to) || r.Practice.After(to.Add(time.Minute)) {
		t.Errorf("kept is %+v, want a little after %v", r, to)
	}
	other.follow(ctx)
	if d := other.Now().Sub(c.Now()).Abs(); d > time.Second {
		t.Errorf("the other's clock is %v away", d)
	}
}
