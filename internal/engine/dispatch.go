package engine

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// runDispatch sends what is queued. One loop claims, several connections send,
// and one committer makes marks and outcomes durable for all of them, one
// transaction a round.
func (e *Engine) runDispatch(ctx context.Context) {
	for ctx.Err() == nil {
		d, err := newDispatcher(ctx, e)
		if err != nil {
			if ctx.Err() == nil {
				e.log.Error("the dispatcher cannot start; trying again", "error", err)
			}
			pause(ctx, time.Second)
			continue
		}
		d.run(ctx)
	}
}

// dispatcher is one worker's life: it ends when its lease is lost.
type dispatcher struct {
	e      *Engine
	worker int64
	jobs   chan *job
	commit *committer
	lost   chan struct{} // closed when the worker gives up
	once   sync.Once

	mu    sync.Mutex
	hand  map[int64]bool // what is on its way, by delivery; guarded by mu
	freed chan struct{}  // says that something has left the hand
	since time.Time      // when something last was in hand, or nothing was due; of claimLoop
}

// job is one delivery on its way.
type job struct {
	store.Delivery
	letter     *store.Letter
	recipients []store.Recipient
	pending    []int // indexes of recipients that this try goes to
	began      time.Time
}

func newDispatcher(ctx context.Context, e *Engine) (*dispatcher, error) {
	id, err := e.Store.RegisterWorker(ctx, e.opts.Name, e.opts.Lease)
	if err != nil {
		return nil, err
	}
	e.worker.Store(id)
	d := &dispatcher{e: e, worker: id, jobs: make(chan *job, 4*e.opts.Connections), lost: make(chan struct{}),
		hand:  map[int64]bool{},
		freed: make(chan struct{}, 1), since: time.Now()}
	d.commit = newCommitter(e, id, d.release, d.giveUp)
	return d, nil
}

func (d *dispatcher) run(ctx context.Context) {
	// The sending side outlives ctx until what is under way has ended.
	inner, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	var senders, helpers sync.WaitGroup
	helpers.Go(func() { d.heartbeat(inner) })
	helpers.Go(func() { d.commit.run() })
	for range d.e.opts.Connections {
		senders.Go(func() { d.send(inner) })
	}
	d.claimLoop(ctx)
	close(d.jobs)
	senders.Wait()
	d.commit.close()
	if err := d.e.Store.Release(inner, d.worker, d.e.now()); err != nil {
		d.e.log.Warn("giving back what was claimed failed; it goes back by itself", "error", err)
	}
	cancel()
	helpers.Wait()
}

func (d *dispatcher) giveUp() { d.once.Do(func() { close(d.lost) }) }

// heartbeat renews the lease well before it runs out.
func (d *dispatcher) heartbeat(ctx context.Context) {
	last := time.Now()
	for ctx.Err() == nil {
		pause(ctx, d.e.opts.Lease/7)
		ok, err := d.e.Store.Renew(ctx, d.worker, d.e.opts.Lease, d.e.clockOff.Load())
		switch {
		case err == nil && ok:
			last = time.Now()
		case err == nil, time.Since(last) > d.e.opts.Lease:
			d.giveUp()
			return
		}
	}
}

func (d *dispatcher) claimLoop(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-d.lost:
			return
		default:
		}
		n, err := d.claim(ctx)
		if err != nil && ctx.Err() == nil {
			d.e.log.Error("claiming what is queued failed; trying again", "error", err)
			pause(ctx, time.Second)
			n += d.recover(ctx)
		}
		if n > 0 {
			continue
		}
		select {
		case <-ctx.Done():
		case <-d.lost:
		case <-d.e.wakeQueue:
		case <-time.After(d.e.opts.Poll):
		}
	}
}

// claim takes as many deliveries as there is room for and hands them to the
// connections. A claim counts only once it has been committed.
func (d *dispatcher) claim(ctx context.Context) (int, error) {
	now := d.e.now()
	if queued, err := d.e.Store.Queued(ctx, now); err != nil || !queued {
		d.since = time.Now()
		return 0, err
	}
	if on, _, err := d.e.Store.Lever(ctx); err != nil || !on || d.e.ClockOff() > ClockMost {
		d.since = time.Now()
		return 0, err
	}
	room := d.room(ctx)
	if room == 0 {
		return 0, nil
	}
	var claimed []store.Delivery
	err := d.e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		if err := d.e.holds(ctx, tx); err != nil {
			return err
		}
		if claimed, err = tx.LockQueued(ctx, now, room, d.e.mine()); err != nil {
			return err
		}
		if claimed, err = d.e.withinLimits(ctx, tx, claimed, now); err != nil {
			return err
		}
		if claimed, err = d.e.withinPersonLimit(ctx, tx, claimed, now); err != nil {
			return err
		}
		return d.mark(ctx, tx, claimed, now.Truncate(time.Second)) // as a header says it
	})
	if err != nil {
		return 0, err
	}
	return len(claimed), d.start(ctx, claimed)
}

// mark claims deliveries, and notes what their messages say of when and by whom they are sent.
func (d *dispatcher) mark(ctx context.Context, tx *store.Store, claimed []store.Delivery, dated time.Time) error {
	by := map[string][]*store.Delivery{} // by sender
	for i := range claimed {
		claimed[i].DatedAt = &dated
		by[claimed[i].SenderID] = append(by[claimed[i].SenderID], &claimed[i])
	}
	for sender, ds := range by {
		identity, err := d.e.identity(ctx, tx, sender)
		if err != nil {
			return err
		}
		for _, x := range ds {
			x.IdentityID = identity
		}
		if err := tx.Claim(ctx, d.worker, ds, dated, identity); err != nil {
			return err
		}
	}
	return nil
}

// recover finds what this worker has claimed and does not know of: the claim
// was committed, and its answer was lost.
func (d *dispatcher) recover(ctx context.Context) int {
	if d.e.holds(ctx, d.e.Store) != nil {
		return 0
	}
	claimed, err := d.e.Store.ClaimedBy(ctx, d.worker)
	if err != nil {
		return 0
	}
	d.mu.Lock()
	claimed = slices.DeleteFunc(claimed, func(x store.Delivery) bool { return d.hand[x.ID] })
	d.mu.Unlock()
	if len(claimed) == 0 {
		return 0
	}
	d.e.log.Warn("found what had been claimed by a transaction whose answer was lost", "count", len(claimed))
	if err := d.start(ctx, claimed); err != nil {
		return 0
	}
	return len(claimed)
}

// start hands what has been claimed to the connections. One delivery that
// cannot be read fails, and the others go on.
func (d *dispatcher) start(ctx context.Context, claimed []store.Delivery) error {
	if len(claimed) == 0 {
		return nil
	}
	jobs, err := d.load(context.WithoutCancel(ctx), claimed)
	if err != nil {
		return err // they are found again
	}
	d.mu.Lock()
	for _, j := range jobs {
		d.hand[j.ID] = true
	}
	d.since = time.Now()
	d.mu.Unlock()
	for _, j := range jobs {
		if !j.LastError.IsZero() && j.LastError.Code == reason.CannotRead {
			d.finish(j, delivery.Failed)
			continue
		}
		d.jobs <- j
	}
	return nil
}

// release says that a job is over: its outcome is durable.
func (d *dispatcher) release(j *job) {
	d.mu.Lock()
	delete(d.hand, j.ID)
	d.mu.Unlock()
	wake(d.freed)
}

// gather is how long a claim waits for more room, so that it takes many at
// once rather than each as it comes.
const gather = 15 * time.Millisecond

// room gives how many deliveries may be claimed, half of what fits in hand at
// the most: it waits for the first, and a moment for the others. A worker that
// has had nothing in hand for a whole lease while something is due is of no use
// and gives up.
func (d *dispatcher) room(ctx context.Context) int {
	most := cap(d.jobs)
	var enough <-chan time.Time
	for {
		d.mu.Lock()
		free := most - len(d.hand)
		d.mu.Unlock()
		if free == most && time.Since(d.since) > d.e.opts.Lease {
			d.e.log.Error(
				"this worker has sent nothing for a whole lease while something was due; it gives up, and another begins")
			d.giveUp()
			return 0
		}
		switch {
		case free >= most/2:
			return most / 2
		case free > 0 && enough == nil:
			enough = time.After(gather)
		}
		select {
		case <-ctx.Done():
			return 0
		case <-d.lost:
			return 0
		case <-enough:
			return free
		case <-d.freed:
		}
	}
}

// load reads what sending asks for. A delivery that cannot be read has that for
// its trouble.
func (d *dispatcher) load(ctx context.Context, claimed []store.Delivery) ([]*job, error) {
	ids := make([]int64, len(claimed))
	for i := range claimed {
		ids[i] = claimed[i].ID
	}
	letters, err := d.e.Store.Letters(ctx, ids)
	if err != nil {
		return nil, err
	}
	jobs := make([]*job, len(claimed))
	for i := range claimed {
		j := &job{Delivery: claimed[i], letter: letters[claimed[i].ID]}
		jobs[i] = j
		j.State, j.SendingAt = delivery.Claimed, nil // that of an earlier try has its event
		err := json.Unmarshal([]byte(j.Recipients), &j.recipients)
		if err == nil && j.letter == nil {
			err = errors.New("its text is not there")
		}
		if err != nil {
			d.e.log.Error("a delivery cannot be read", "delivery", j.ID, "error", err)
			j.LastError = store.Why{Reason: reason.Reason{Code: reason.CannotRead, Value: err.Error()}}
			continue
		}
		for k, r := range j.recipients {
			if r.State == "" || r.State == string(delivery.Deferred) {
				j.pending = append(j.pending, k)
			}
		}
	}
	return jobs, nil
}
