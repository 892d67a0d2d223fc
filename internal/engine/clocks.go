package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"nivot/internal/store"
)

// Clock returns the time by which rules are judged. It is the wall clock, or in
// the demo and in tests the practice clock.
type Clock func() time.Time

// A machine's clock may be wrong, and may jump. Nothing is judged, sent or written by one that is:
//   - The wall clock is read against the machine's monotonic clock. A jump counts only once it has stood
//     for a while and the database's clock confirms it; until then time goes on as if it had not been.
//   - A transaction that judges or claims reads the database's clock, and fails where the
//     process's own is too far off it, or where it would judge what is still to come.

// ClockMost is how far a process's clock may be off the database's. One that is
// further off considers nothing and sends nothing: it would be wrong about what
// is due.
const ClockMost = 30 * time.Second

// secondLook is after how long a jump of the wall clock is looked at again.
const secondLook = 30 * time.Second

// jumpLeast is how far the wall clock and the monotonic one may part between two looks.
const jumpLeast = 5 * time.Second

// steadyClock is the wall clock without its jumps.
type steadyClock struct {
	wall Clock
	mono func() time.Duration // since the process began

	mu      sync.Mutex
	base    time.Time     // what the wall clock said; guarded by mu, as all below
	at      time.Duration // when, by the monotonic clock
	noticed time.Duration // when it was found to have jumped; valid where jumped
	jumped  bool
}

func newSteadyClock(wall Clock, mono func() time.Duration) *steadyClock {
	return &steadyClock{wall: wall, mono: mono, base: wall(), at: mono()}
}

// now returns the time, and by how much the wall clock is off it.
func (c *steadyClock) now() (now time.Time, off time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	wall, mono := c.wall(), c.mono()
	// Without the monotonic reading, which would hide a jump.
	expected := c.base.Round(0).Add(mono - c.at)
	off = wall.Round(0).Sub(expected)
	if off.Abs() <= jumpLeast {
		c.base, c.at, c.jumped = wall, mono, false
		return wall, 0
	}
	if !c.jumped {
		c.jumped, c.noticed = true, mono
	}
	return expected, off
}

// confirm looks at a jump again, if there is one that has stood for long enough, and reports whether it is
// the time now: where the database's clock says so.
func (c *steadyClock) confirm(database time.Time) (adopted bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	wall, mono := c.wall(), c.mono()
	if !c.jumped || mono-c.noticed < secondLook || wall.Round(0).Sub(database).Abs() > ClockMost {
		return false
	}
	c.base, c.at, c.jumped = wall, mono, false
	return true
}

// ClockError says that the time cannot be relied on.
type ClockError struct {
	Off time.Duration // by how much the process's clock is ahead of the database's
}

// Error implements error.
func (e *ClockError) Error() string {
	return fmt.Sprintf("the clock of this server is %s off the database's; until they agree it judges and changes nothing",
		e.Off.Abs().Round(time.Second))
}

// Now is the engine's time, to the microsecond, in UTC.
func (e *Engine) Now() time.Time { return e.now() }

// ClockOff is how far this process's clock is off the database's, either way.
func (e *Engine) ClockOff() time.Duration {
	return (time.Duration(e.clockOff.Load()) * time.Millisecond).Abs()
}

// WrongClocks lists the running workers whose clocks are too far off the
// database's.
func (e *Engine) WrongClocks(ctx context.Context) ([]store.Worker, error) {
	return e.Store.WrongClocks(ctx, ClockMost)
}

// watchClock compares the clocks, and takes up a jump that has turned out to be the time. What a wrong
// clock has written is put right.
func (e *Engine) watchClock(ctx context.Context) error {
	before := e.opts.Wall()
	at, err := e.Store.Clock(ctx)
	if err != nil {
		return err
	}
	now := e.opts.Wall()
	was := e.ClockOff()
	off := now.Add(-now.Sub(before) / 2).Sub(at)
	e.noteClock(off)
	if e.steady != nil && e.steady.confirm(at) {
		e.log.Warn("this machine's clock has been set, and the database's agrees; that is the time now", "now", e.now())
		was = 2 * ClockMost
	}
	if was > ClockMost && off.Abs() <= ClockMost {
		return e.mendWaits(ctx)
	}
	return nil
}

// noteClock notes how far the process's clock is ahead of the database's.
func (e *Engine) noteClock(off time.Duration) {
	was := time.Duration(e.clockOff.Swap(off.Milliseconds())) * time.Millisecond
	clockOff.Set(off.Seconds())
	if was.Abs() <= ClockMost && off.Abs() > ClockMost {
		e.log.Error(
			"this process's clock is too far off the database's; it considers nothing and sends nothing until they agree",
			"off", off.Round(time.Second))
	}
}

// mendWaits has looked at soon what waits to be sent for longer than anything may: a clock that was ahead
// has put it off.
func (e *Engine) mendWaits(ctx context.Context) error {
	n, err := e.Store.MendWaits(ctx, e.now())
	if n > 0 {
		e.log.Warn("a wrong clock had put emails off; they go now", "emails", n)
	}
	return err
}

// mayJudge fails where what is done in a transaction, or outside one, at an instant must not be done: the
// database has gone back in time, the process's own clock is too far off its clock, or, by the wall clock,
// the instant has not come. by the engine itself is who judges what is due.
func (e *Engine) mayJudge(ctx context.Context, s *store.Store, now time.Time, byItself bool) error {
	before := e.opts.Wall().Round(0)
	at, err := e.holdsAt(ctx, s)
	if err != nil {
		return err
	}
	off := e.opts.Wall().Round(0).Sub(at)
	wrong := byItself && off.Abs() > ClockMost
	if early := before.Sub(at); byItself && early > ClockMost { // it has just been put back
		wrong, off = true, early
	}
	if early := now.Sub(at); e.opts.Real && early > ClockMost {
		wrong, off = true, early
	}
	if !wrong {
		return nil
	}
	e.noteClock(off)
	return &ClockError{off}
}

// isClock reports whether an error says that the time cannot be relied on.
func isClock(err error) bool {
	var wrong *ClockError
	return errors.As(err, &wrong)
}
