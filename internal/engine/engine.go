// Package engine is what runs by itself: rows settle, rules fall due, emails
// are sent, and what a crash left is put right. Everything it does goes
// through two queues in the database, the agenda (what must be considered)
// and the deliveries (what must be sent), so that any number of engines may
// run on one database.
package engine

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"nivot/internal/store"
)

// Options configure an engine.
type Options struct {
	Name        string        // of the process, in logs and leases
	Connections int           // to mail servers at once; default 8
	Poll        time.Duration // how often the queues are looked at; default 250 ms
	Lease       time.Duration // how long a silent process keeps what it has; default 7 s
	Wall        Clock         // the process's own clock, which must agree with the database's; default time.Now
	Real        bool          // rules are judged by the wall clock, not by a practice clock
	// Monotonic is how long the process has run, by a clock that nobody sets; default Go's own.
	Monotonic func() time.Duration
	Key       *Key    // opens sealed mail passwords; may be nil
	MarkFile  string  // keeps how far the database has come, outside it; "" for nowhere
	PublicURL string  // of the application, in links that recipients follow
	Sources   string  // the folder in which sheets may follow files; "" for none
	Horizon   Horizon // how far ahead the agenda is made for large sheets
}

// Engine runs on one database. The methods that change rows, rules and
// decisions may be called whether or not Run runs.
type Engine struct {
	Store *store.Store
	now   Clock
	opts  Options
	log   *slog.Logger

	wakeAgenda  chan struct{}
	wakeQueue   chan struct{}
	wakeRefresh chan struct{}

	witness   witness
	trouble   atomic.Pointer[troubled]
	fetching  atomic.Int64                // sources that are being fetched
	noting    atomic.Int64                // senders whose rest is being noted
	worker    atomic.Int64                // by which it sends
	share     atomic.Pointer[store.Share] // of what is due; nil: not known
	steady    *steadyClock                // where rules are judged by the wall clock; else nil
	clockOff  atomic.Int64                // by how many milliseconds the process's clock is off the database's
	forecasts forecasts
	kept      rowKeeper
	doubles   doubles
	unjudged  unjudgedRows
	files     fileCache
	views     viewKeeper
	sheets    *sheetCache
	senders   sendersKept
	checked   checkedKeeper
	secrets   sync.Map       // by the name of their setting: []byte, once it is known
	jobs      sync.WaitGroup // work that goes on when its request is over
	apartFrom int            // so many due entries are considered in several transactions at once
}

// New makes an engine.
func New(s *store.Store, now Clock, opts Options) *Engine {
	if opts.Connections == 0 {
		opts.Connections = 8
	}
	if opts.Poll == 0 {
		opts.Poll = 250 * time.Millisecond
	}
	if opts.Lease == 0 {
		opts.Lease = 7 * time.Second
	}
	opts.Horizon = opts.Horizon.orDefault()
	if opts.Wall == nil {
		opts.Wall = time.Now
	}
	if opts.Name == "" {
		opts.Name, _ = os.Hostname()
	}
	var steady *steadyClock
	if opts.Real {
		if opts.Monotonic == nil {
			began := time.Now()
			opts.Monotonic = func() time.Duration { return time.Since(began) }
		}
		steady = newSteadyClock(now, opts.Monotonic)
		now = func() time.Time { at, _ := steady.now(); return at }
	}
	return &Engine{Store: s, now: func() time.Time { return now().UTC().Truncate(time.Microsecond) }, opts: opts,
		log: slog.Default(), steady: steady,
		wakeAgenda: make(chan struct{}, 1), wakeQueue: make(chan struct{}, 1), wakeRefresh: make(chan struct{}, 1),
		sheets: newSheetCache(), apartFrom: apartFrom}
}

// Folder is the folder in which sheets may follow files; "" for none.
func (e *Engine) Folder() string { return e.opts.Sources }

// Wake makes a running engine look at its queues at once.
func (e *Engine) Wake() {
	wake(e.wakeAgenda)
	wake(e.wakeQueue)
	wake(e.wakeRefresh)
}

func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Run considers, sends and sweeps until the context ends; then it finishes
// what is under way and gives the rest back. A database that is away is waited
// for.
func (e *Engine) Run(ctx context.Context) error {
	defer func() { e.trouble.Store(&troubled{errEnded}) }()
	e.openWitness(ctx)
	for ctx.Err() == nil {
		err := errors.Join(e.begin(ctx), e.mendWaits(ctx))
		if err == nil || ctx.Err() != nil {
			break
		}
		e.log.Error("the database cannot be looked at; trying again", "error", err)
		pause(ctx, time.Second)
	}
	var wg sync.WaitGroup
	for _, f := range []func(context.Context){e.runAgenda, e.runDispatch, e.runSweep, e.runRefresh, e.runNightly} {
		wg.Go(func() { f(ctx) })
	}
	wg.Wait()
	e.jobs.Wait()
	e.leave(context.WithoutCancel(ctx))
	if ctx.Err() == nil {
		return errEnded
	}
	return nil
}

// errEnded says that the engine does not run any more.
var errEnded = errors.New("the engine has ended")

// troubled is what keeps the engine from working.
type troubled struct{ err error }

// Trouble returns what keeps the engine from judging and sending anything: it cannot begin, or it has
// ended. It returns nil where nothing does, and where Run has not been called.
func (e *Engine) Trouble() error {
	if t := e.trouble.Load(); t != nil {
		return t.err
	}
	return nil
}

// openWitness reads the mark file. One that cannot be read is waited for, and told of.
func (e *Engine) openWitness(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.witness.open(e.opts.MarkFile)
		if err == nil {
			e.trouble.Store(nil)
			return
		}
		if was := e.Trouble(); was == nil || was.Error() != err.Error() {
			e.log.Error(err.Error())
		}
		e.trouble.Store(&troubled{err})
		pause(ctx, time.Second)
	}
}

func (e *Engine) runAgenda(ctx context.Context) {
	for ctx.Err() == nil {
		if e.ClockOff() > ClockMost {
			pause(ctx, time.Second)
			continue
		}
		n, err := e.Tick(ctx)
		if isClock(err) {
			n, err = 0, nil // told already
		}
		if err != nil && ctx.Err() == nil {
			e.log.Error("considering what is due failed; trying again", "error", err)
			n = 0
			pause(ctx, time.Second)
		}
		if n > 0 {
			continue
		}
		select {
		case <-ctx.Done():
		case <-e.wakeAgenda:
		case <-time.After(e.opts.Poll):
		}
	}
}

// sweepEvery is how often crashed workers are looked for.
const sweepEvery = time.Second

func (e *Engine) runSweep(ctx context.Context) {
	for ctx.Err() == nil {
		if err := e.watchClock(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("the database's clock cannot be read", "error", err)
		}
		if err := e.watchTime(ctx); err != nil && ctx.Err() == nil {
			e.log.Error("whether the database has gone back in time cannot be told", "error", err)
		}
		if err := e.watchShare(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("who else is at work cannot be told", "error", err)
		}
		doubted, err := e.Store.Sweep(ctx, e.now())
		switch {
		case err != nil && ctx.Err() == nil:
			e.log.Error("sweeping failed; trying again", "error", err)
		case len(doubted) > 0:
			e.log.Warn("a process stopped while it was sending", "in doubt", len(doubted))
		}
		wake(e.wakeQueue)
		pause(ctx, min(sweepEvery, e.opts.Lease/3))
	}
}

// watchShare reads which part of the queue this process sends and, in a cluster, which part of the agenda it
// considers. Without shares two processes do the same work, one of them in vain.
func (e *Engine) watchShare(ctx context.Context) error {
	share, ok, err := e.Store.ShareOf(ctx, e.worker.Load(), ClockMost)
	if err == nil && ok {
		e.share.Store(&share)
	}
	return err
}

// queueShare is this process's share of what waits to be sent.
func (e *Engine) queueShare() store.Share {
	if s := e.share.Load(); s != nil {
		return *s
	}
	return store.Share{}
}

// mine is this process's share of what is to be considered. Where there is no cluster the locks part the work.
func (e *Engine) mine() store.Share {
	if s := e.share.Load(); s != nil && e.Store.Clustered() {
		return *s
	}
	return store.Share{}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Idle tells whether nothing is due, waiting to be sent now, or being sent.
// It asks in the order in which an email goes through these, so that none
// slips past between two questions.
func (e *Engine) Idle(ctx context.Context) (bool, error) {
	now := e.now()
	// A source that is being fetched is not due meanwhile; what it has brought is, once it has been.
	for range 2 {
		if due, err := e.Store.HasDueAgenda(ctx, now); err != nil || due {
			return false, err
		}
		if e.fetching.Load() > 0 {
			return false, nil
		}
	}
	on, err := e.Store.SendingOn(ctx)
	if err != nil {
		return false, err
	}
	if on {
		if next, err := e.Store.NextSending(ctx); err != nil || !next.IsZero() && !next.After(now) {
			return false, err
		}
	}
	busy, err := e.Store.Busy(ctx)
	return err == nil && !busy && e.noting.Load() == 0, err
}
