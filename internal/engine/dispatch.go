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
	pending    []int            // indexes of recipients that this try goes to
	unclaimed  *store.Unclaimed // as it was read, where it has not been claimed
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
		if isClock(err) {
			n, err = 0, nil // told already
		}
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
// connections.
func (d *dispatcher) claim(ctx context.Context) (int, error) {
	now := d.e.now()
	candidates, err := d.candidates(ctx, now)
	if err != nil || len(candidates) == 0 {
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
	limited, err := d.e.limited(ctx)
	if err != nil {
		return 0, err
	}
	var claim, take []int64
	for _, c := range candidates[:min(len(candidates), room)] {
		if limited || c.State != delivery.Queued {
			claim = append(claim, c.ID)
		} else {
			take = append(take, c.ID)
		}
	}
	claimed, err := d.claimThese(ctx, claim, now)
	if err != nil {
		return 0, err
	}
	taken, err := d.take(ctx, take, now)
	return len(claimed) + taken, err
}

// candidates lists what waits to be sent and is not in hand, as much as may be taken at once.
func (d *dispatcher) candidates(ctx context.Context, now time.Time) ([]store.Candidate, error) {
	d.mu.Lock()
	inHand := len(d.hand)
	d.mu.Unlock()
	all, err := d.e.Store.QueuedNow(ctx, now, cap(d.jobs)/2+inHand, d.e.mine())
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.DeleteFunc(all, func(c store.Candidate) bool { return d.hand[c.ID] }), nil
}

// take hands deliveries that no limit counts to the connections without having claimed them: their mark,
// which only one worker's can be, claims them. What two read at the same time is begun twice and handed
// over once.
func (d *dispatcher) take(ctx context.Context, ids []int64, now time.Time) (int, error) {
	if len(ids) == 0 {
		return 0, nil
	}
	if err := d.e.mayJudge(ctx, d.e.Store, now, true); err != nil {
		return 0, err
	}
	taken, err := d.e.Store.ReadQueued(ctx, ids, now)
	if err != nil {
		return 0, err
	}
	taken = slices.DeleteFunc(taken, func(x store.Delivery) bool { return x.State != delivery.Queued })
	if err := d.date(ctx, d.e.Store, taken, now); err != nil {
		return 0, err
	}
	return len(taken), d.start(ctx, taken)
}

// claimThese claims of deliveries what the limits let go, and hands it to the connections.
func (d *dispatcher) claimThese(ctx context.Context, ids []int64, now time.Time) (claimed []store.Delivery, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	err = d.e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		if err := d.e.mayJudge(ctx, tx, now, true); err != nil {
			return err
		}
		if claimed, err = tx.LockQueued(ctx, ids, now); err != nil {
			return err
		}
		if claimed, err = d.e.withinLimits(ctx, tx, claimed, now); err != nil {
			return err
		}
		if claimed, err = d.e.withinPersonLimit(ctx, tx, claimed, now); err != nil {
			return err
		}
		if err := d.date(ctx, tx, claimed, now); err != nil {
			return err
		}
		return tx.Claim(ctx, d.worker, claimed)
	})
	if err != nil {
		return nil, err
	}
	for i := range claimed {
		claimed[i].State = delivery.Claimed
	}
	return claimed, d.start(ctx, claimed)
}

// date sets what deliveries' messages say of when and by whom they are sent.
func (d *dispatcher) date(ctx context.Context, s *store.Store, ds []store.Delivery, now time.Time) error {
	dated := now.Truncate(time.Second) // as a header says it
	by := map[string]int64{}           // by sender
	for i := range ds {
		x := &ds[i]
		if _, known := by[x.SenderID]; !known {
			identity, err := d.e.identity(ctx, s, x.SenderID)
			if err != nil {
				return err
			}
			by[x.SenderID] = identity
		}
		x.DatedAt, x.IdentityID = &dated, by[x.SenderID]
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

// start hands deliveries to the connections. One delivery that
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
		if j.State == delivery.Queued {
			j.unclaimed = &store.Unclaimed{Attempt: j.Attempt, Tries: j.Tries, NextTry: *j.NextTry, Dated: *j.DatedAt,
				Identity: j.IdentityID}
		}
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
