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
	"time"

	"nivot/internal/store"
)

// Clock gives the time by which rules are judged. It is the wall clock, or in
// the demo and in tests the practice clock.
type Clock func() time.Time

// Options configure an engine.
type Options struct {
	Name        string        // of the process, in logs and leases
	Connections int           // to mail servers at once; default 8
	Poll        time.Duration // how often the queues are looked at; default 250 ms
	Lease       time.Duration // how long a silent process keeps what it has; default 15 s
	Key         *Key          // opens sealed mail passwords; may be nil
	Sources     string        // the folder in which sheets may follow files; "" for none
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

	viewMu sync.Mutex
	views  map[string]*view // guarded by viewMu

	forecasts forecasts
	jobs      sync.WaitGroup // work that goes on when its request is over
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
		opts.Lease = 15 * time.Second
	}
	if opts.Name == "" {
		opts.Name, _ = os.Hostname()
	}
	return &Engine{Store: s, now: func() time.Time { return now().UTC().Truncate(time.Microsecond) }, opts: opts, log: slog.Default(),
		wakeAgenda: make(chan struct{}, 1), wakeQueue: make(chan struct{}, 1), wakeRefresh: make(chan struct{}, 1), views: map[string]*view{}}
}

// Now is the engine's time, to the microsecond, in UTC.
func (e *Engine) Now() time.Time { return e.now() }

// Folder is the folder in which sheets may follow files; "" for none.
func (e *Engine) Folder() string { return e.opts.Sources }

// Wake makes a running engine look at its queues at once.
func (e *Engine) Wake() {
	poke(e.wakeAgenda)
	poke(e.wakeQueue)
	poke(e.wakeRefresh)
}

func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Run considers, sends and sweeps until the context ends; then it finishes
// what is under way and gives the rest back. A database that is away is waited
// for.
func (e *Engine) Run(ctx context.Context) error {
	var wg sync.WaitGroup
	for _, f := range []func(context.Context){e.runAgenda, e.runDispatch, e.runSweep, e.runRefresh} {
		wg.Go(func() { f(ctx) })
	}
	wg.Wait()
	e.jobs.Wait()
	return nil
}

func (e *Engine) runAgenda(ctx context.Context) {
	for ctx.Err() == nil {
		n, err := e.Tick(ctx)
		if err != nil && !errors.Is(err, context.Canceled) {
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
const sweepEvery = 2 * time.Second

func (e *Engine) runSweep(ctx context.Context) {
	for ctx.Err() == nil {
		doubted, err := e.Store.Sweep(ctx, e.now())
		switch {
		case err != nil && !errors.Is(err, context.Canceled):
			e.log.Error("sweeping failed; trying again", "error", err)
		case len(doubted) > 0:
			e.log.Warn("a process stopped while it was sending", "in doubt", len(doubted))
		}
		poke(e.wakeQueue)
		pause(ctx, min(sweepEvery, e.opts.Lease/3))
	}
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
	if due, err := e.Store.HasDueAgenda(ctx, now, true); err != nil || due {
		return false, err
	}
	on, err := e.Store.SendingOn(ctx)
	if err != nil {
		return false, err
	}
	if on {
		if queued, err := e.Store.Queued(ctx, now); err != nil || queued {
			return false, err
		}
	}
	busy, err := e.Store.Busy(ctx)
	return err == nil && !busy, err
}
