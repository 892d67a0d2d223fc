// Package demo is Marrowby Museum, the scenario that Nivot is shown with, and
// the practice clock.
package demo

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// Clock is the practice clock: it starts where it is told, ticks in real time,
// and can be played forward. Where it stands is kept in the database, so that
// every process on it has the same time.
type Clock struct {
	s    *store.Store
	wall engine.Clock

	mu     sync.Mutex
	offset time.Duration // guarded by mu: practice time minus wall time
	frozen time.Time     // guarded by mu: while playing, the time stands still here

	moving  atomic.Bool // somebody plays it forward, or waits to
	playing sync.Mutex  // held while it is played forward, and for the moments in which it is kept or followed
	eng     *engine.Engine
}

// reading is where the clock stands, as it is kept.
type reading struct {
	Practice time.Time `json:"practice"`
	Wall     time.Time `json:"wall"`
	Frozen   bool      `json:"frozen,omitempty"` // somebody is playing it forward
}

// OpenClock reads the clock; one that has never been set stands at start. With
// resume it goes on from where it was last saved: the time in which nothing
// ran has not passed.
func OpenClock(ctx context.Context, s *store.Store, wall engine.Clock, start time.Time, resume bool) (*Clock, error) {
	c := &Clock{s: s, wall: wall}
	var r reading
	ok, err := s.Setting(ctx, store.SettingClock, &r)
	if err != nil {
		return nil, err
	}
	if !ok {
		return c, c.set(ctx, start, false)
	}
	if resume {
		return c, c.set(ctx, r.Practice, false)
	}
	c.take(r)
	return c, nil
}

// Keep saves where the clock stands now and then, for resume.
func (c *Clock) Keep(ctx context.Context) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Second):
		}
		_ = c.keep(context.WithoutCancel(ctx))
	}
}

// keep saves where the clock stands, unless somebody plays it forward, here or in another process.
func (c *Clock) keep(ctx context.Context) error {
	if !c.playing.TryLock() {
		return nil
	}
	defer c.playing.Unlock()
	return c.s.Tx(ctx, func(tx *store.Store) error {
		var r reading
		ok, err := tx.LockSetting(ctx, store.SettingClock, &r)
		if err != nil || !ok || r.Frozen {
			return err
		}
		wall := c.wall().UTC()
		return tx.SetSetting(ctx, store.SettingClock, reading{Practice: r.Practice.Add(wall.Sub(r.Wall)), Wall: wall})
	})
}

// Use tells the clock which engine to wait for while it plays.
func (c *Clock) Use(e *engine.Engine) { c.eng = e }

// Now is the practice time.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.frozen.IsZero() {
		return c.frozen
	}
	return c.wall().Add(c.offset).UTC()
}

func (c *Clock) take(r reading) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.offset, c.frozen = r.Practice.Sub(r.Wall), time.Time{}
	if r.Frozen {
		c.frozen = r.Practice
	}
}

func (c *Clock) set(ctx context.Context, at time.Time, frozen bool) error {
	r := reading{Practice: at.UTC(), Wall: c.wall().UTC(), Frozen: frozen}
	if err := c.s.SetSetting(ctx, store.SettingClock, r); err != nil {
		return err
	}
	c.take(r)
	return nil
}

// Follow keeps up with other processes that move the clock.
func (c *Clock) Follow(ctx context.Context) {
	for ctx.Err() == nil {
		c.follow(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(250 * time.Millisecond):
		}
	}
}

// follow takes what is kept, unless it is this process that plays the clock forward. It is read while
// nobody here can: what was read before has gone by when the playing ends.
func (c *Clock) follow(ctx context.Context) {
	if !c.playing.TryLock() {
		return
	}
	defer c.playing.Unlock()
	var r reading
	if ok, err := c.s.Setting(ctx, store.SettingClock, &r); ok && err == nil {
		c.take(r)
	}
}

// restLimit is how long one instant may take until everything due at it has
// been done.
const restLimit = 5 * time.Minute

// Advance plays the time forward to an instant: it stops at every instant at
// which something is to be considered or sent, and goes on when that is done.
// It returns an engine.Refusal while somebody else does so.
func (c *Clock) Advance(ctx context.Context, to time.Time) (time.Time, error) {
	if !c.moving.CompareAndSwap(false, true) {
		return c.Now(), &engine.Refusal{Message: "somebody else is moving the practice clock; try again when they are done"}
	}
	defer c.moving.Store(false)
	c.playing.Lock()
	defer c.playing.Unlock()
	at, err := c.play(ctx, to)
	// It ticks on, wherever it was stopped.
	return at, errors.Join(err, c.set(context.WithoutCancel(ctx), at, false))
}

// play returns the instant that it has come to, at which the clock stands still.
func (c *Clock) play(ctx context.Context, to time.Time) (at time.Time, err error) {
	at = c.Now()
	for {
		if err := c.set(ctx, at, true); err != nil {
			return at, err
		}
		c.eng.Wake()
		if err := c.rest(ctx); err != nil || !at.Before(to) {
			return at, err
		}
		next, err := c.s.NextInstant(ctx)
		if err != nil {
			return at, err
		}
		if next.IsZero() || next.After(to) || !next.After(at) {
			next = to
		}
		at = next
	}
}

// rest waits until the engine has nothing more to do at this instant.
func (c *Clock) rest(ctx context.Context) error {
	for deadline := time.Now().Add(restLimit); time.Now().Before(deadline); {
		idle, err := c.eng.Idle(ctx)
		if err != nil || idle {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(4 * time.Millisecond):
		}
	}
	return &engine.Refusal{Message: fmt.Sprintf("what is due takes longer than %v; the practice clock has stopped at it, "+
		"and can be moved on when that is done", restLimit)}
}
