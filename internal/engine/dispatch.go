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
	// It is known whether a rule asks for same words; of claimLoop.
	compares bool

	shared time.Time // when who else sends was last looked at; of claimLoop
	commit *committer
	lost   chan struct{} // closed when the worker gives up
	once   sync.Once
	inner  context.Context // of the connections, which outlive the claiming; set by run
	lines  sync.WaitGroup  // the connections

	mu    sync.Mutex
	pools map[string]*pool // by sender; guarded by mu
	hand  map[int64]*pool  // what is on its way, by delivery; guarded by mu
	freed chan struct{}    // says that something has left the hand
	since time.Time        // when something last was in hand, or nothing was due; of claimLoop
}

// job is one delivery on its way.
type job struct {
	store.Delivery
	letter     *store.Letter
	recipients []store.Recipient
	pending    []int            // indexes of recipients that this try goes to
	unclaimed  *store.Unclaimed // as it was read, where it has not been claimed
	queuedFor  time.Time        // when it was to be tried
	probe      bool             // its sender rests, and is tried by it
	began      time.Time
}

func newDispatcher(ctx context.Context, e *Engine) (*dispatcher, error) {
	id, err := e.Store.RegisterWorker(ctx, e.opts.Name, e.opts.Lease)
	if err != nil {
		return nil, err
	}
	e.worker.Store(id)
	d := &dispatcher{e: e, worker: id, lost: make(chan struct{}), pools: map[string]*pool{},
		hand: map[int64]*pool{}, freed: make(chan struct{}, 1), since: time.Now()}
	d.commit = newCommitter(e, id, d.release, d.giveUp)
	return d, nil
}

func (d *dispatcher) run(ctx context.Context) {
	// The sending side outlives ctx until what is under way has ended.
	inner, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	d.inner = inner
	var helpers sync.WaitGroup
	helpers.Go(func() { d.heartbeat(inner) })
	helpers.Go(func() { d.commit.run() })
	d.claimLoop(ctx)
	d.mu.Lock()
	for _, p := range d.pools {
		close(p.jobs)
	}
	d.mu.Unlock()
	d.lines.Wait()
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
		case <-d.freed:
			pause(ctx, gather) // so that a claim takes many at once rather than each as it comes
		case <-d.e.wakeQueue:
		case <-time.After(d.e.opts.Poll):
		}
	}
}

// gather is how long a claim waits for more room.
const gather = 15 * time.Millisecond

// shareFresh is for how long it is known who else sends.
const shareFresh = 200 * time.Millisecond

// claim takes as many deliveries of each sender as there is room for and hands them to its connections.
func (d *dispatcher) claim(ctx context.Context) (int, error) {
	now := d.e.now()
	d.e.SendersChanged() // what limits them counts from the moment at which it is saved, whoever saves it
	senders, err := d.e.senders.all(ctx, d.e)
	if err != nil {
		return 0, err
	}
	share, err := d.share(ctx)
	if err != nil {
		return 0, err
	}
	asks, of := d.asks(senders, share, now)
	candidates, err := d.candidates(ctx, asks, now)
	if err == nil && len(candidates) == 0 && share.Of > 1 { // one's own is done: others' too, claimed first
		for i := range asks {
			asks[i].Share = store.Share{}
		}
		candidates, err = d.candidates(ctx, asks, now)
	}
	if err != nil || len(candidates) == 0 {
		d.since = time.Now()
		return 0, err
	}
	sending, err := d.e.Store.Sending(ctx)
	if err != nil || !sending.On || d.e.ClockOff() > ClockMost {
		d.since = time.Now()
		return 0, err
	}
	d.compares = sending.Compares
	n, err := d.claimOf(ctx, candidates, of, share.Of < 2, now)
	if err == nil && n == 0 && d.idleFor(d.e.opts.Lease) {
		d.e.log.Error(
			"this worker has sent nothing for a whole lease while something was due; it gives up, and another begins")
		d.giveUp()
	}
	return n, err
}

// idleFor reports whether a worker has had nothing in hand for so long, while something was due: it is of no use.
func (d *dispatcher) idleFor(most time.Duration) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.hand) == 0 && time.Since(d.since) > most
}

// share returns the part of the queue that this worker takes first. It depends on how many workers there are.
func (d *dispatcher) share(ctx context.Context) (store.Share, error) {
	if time.Since(d.shared) > shareFresh {
		if err := d.e.watchShare(ctx); err != nil {
			return store.Share{}, err
		}
		d.shared = time.Now()
	}
	return d.e.queueShare(), nil
}

// asks lists what may be taken now, of which sender: not of one that rests, waits for its pace, or has
// its hands full.
func (d *dispatcher) asks(senders []*senderNow, share store.Share, now time.Time) (asks []store.QueueAsk,
	of []*senderNow) {
	for _, s := range senders {
		if !s.mayGo(now) {
			continue
		}
		p := d.pool(s.id)
		p.allow(s.state.Connections(s.most, share.Of, now))
		room := p.room()
		if s.rests() {
			room = min(room, 1)
		}
		if room > 0 {
			asks = append(asks, store.QueueAsk{Senders: s.ids, Share: share, Limit: room + p.inHand()})
			of = append(of, s)
		}
	}
	return asks, of
}

// mayGo reports whether anything of the sender may go at an instant: its pace lets it, and it does not rest,
// or is to be tried again.
func (s *senderNow) mayGo(now time.Time) bool {
	if at := s.state.AvailableAt; at != nil && at.After(now) {
		return false
	}
	return !s.rests() || s.state.ProbeAt == nil || !s.state.ProbeAt.After(now)
}

// claimOf takes what has been found. What limits count, or has been tried before, is claimed; and all where
// others send too, so that two do not begin the same email.
func (d *dispatcher) claimOf(ctx context.Context, candidates []store.Candidate, of []*senderNow, alone bool,
	now time.Time) (int, error) {
	limited, err := d.e.personLimited(ctx)
	if err != nil {
		return 0, err
	}
	var claim, take []int64
	probes := map[int64]string{} // delivery to sender
	taken := map[int]int{}
	for _, c := range candidates {
		s := of[c.Ask]
		if s.rests() {
			if taken[c.Ask] > 0 {
				continue
			}
			probes[c.ID] = s.id
			claim = append(claim, c.ID) // so that it is seen to be under way
			taken[c.Ask]++
			continue
		}
		if taken[c.Ask]++; taken[c.Ask] > d.pool(s.id).room() {
			continue
		}
		if limited || s.limited || !alone || c.State != delivery.Queued {
			claim = append(claim, c.ID)
		} else {
			take = append(take, c.ID)
		}
	}
	claimed, err := d.claimThese(ctx, claim, probes, now)
	if err != nil {
		return 0, err
	}
	n, err := d.take(ctx, take, now)
	return len(claimed) + n, err
}

// candidates lists what waits to be sent and is not in hand, as much as may be taken at once.
func (d *dispatcher) candidates(ctx context.Context, asks []store.QueueAsk, now time.Time) ([]store.Candidate, error) {
	all, err := d.e.Store.QueuedNow(ctx, now, asks)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.DeleteFunc(all, func(c store.Candidate) bool { return d.hand[c.ID] != nil }), nil
}

// take hands deliveries that no limit counts to the connections without having claimed them: their mark,
// which only one worker's can be, claims them. What another worker that has just begun takes at the same
// time is begun twice and handed over once.
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
	if taken, err = d.settled(ctx, d.e.Store, taken, now); err != nil {
		return 0, err
	}
	if err := d.date(ctx, d.e.Store, taken, now); err != nil {
		return 0, err
	}
	return len(taken), d.start(ctx, taken, nil)
}

// claimThese claims of deliveries what the limits let go, and hands it to the connections.
func (d *dispatcher) claimThese(ctx context.Context, ids []int64, probes map[int64]string,
	now time.Time) (claimed []store.Delivery, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	next := map[int64]time.Time{}
	err = d.e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		if err := d.e.mayJudge(ctx, tx, now, true); err != nil {
			return err
		}
		if claimed, err = tx.LockQueued(ctx, ids, now); err != nil {
			return err
		}
		if claimed, err = d.settled(ctx, tx, claimed, now); err != nil {
			return err
		}
		for i := len(claimed) - 1; i >= 0; i-- {
			by, probe := probes[claimed[i].ID]
			if !probe {
				continue
			}
			mine, err := tx.ClaimProbe(ctx, by, now, now.Add(probeHeld))
			if err != nil {
				return err
			}
			if !mine {
				claimed = slices.Delete(claimed, i, i+1)
			}
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
		for i := range claimed {
			next[claimed[i].ID] = *claimed[i].NextTry
		}
		return tx.Claim(ctx, d.worker, claimed)
	})
	if err != nil {
		return nil, err
	}
	for i := range claimed {
		at := next[claimed[i].ID]
		claimed[i].State, claimed[i].NextTry = delivery.Claimed, &at
	}
	return claimed, d.start(ctx, claimed, probes)
}

// settled leaves out what may yet be skipped for another email that says the same.
func (d *dispatcher) settled(ctx context.Context, s *store.Store, ds []store.Delivery,
	now time.Time) ([]store.Delivery, error) {
	if !d.compares || len(ds) == 0 {
		return ds, nil
	}
	n := len(ds)
	ds, err := d.e.settledWords(ctx, s, ds, now)
	if len(ds) < n {
		d.since = time.Now() // there is nothing to do yet
	}
	return ds, err
}

// date sets what deliveries' messages say of when and by whom they are sent.
func (d *dispatcher) date(ctx context.Context, s *store.Store, ds []store.Delivery, now time.Time) error {
	dated := now.Truncate(time.Second) // as a header says it
	by := map[string]int64{}           // by sender
	for i := range ds {
		x := &ds[i]
		// Who has had it has had it as it was: the same email stays the same, byte for byte.
		if x.DatedAt != nil && x.IdentityID != 0 && x.Tries > 0 {
			reached, err := x.Reached()
			if err != nil {
				return err
			}
			if reached {
				continue
			}
		}
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
	claimed = slices.DeleteFunc(claimed, func(x store.Delivery) bool { return d.hand[x.ID] != nil })
	d.mu.Unlock()
	if len(claimed) == 0 {
		return 0
	}
	d.e.log.Warn("found what had been claimed by a transaction whose answer was lost", "count", len(claimed))
	if err := d.start(ctx, claimed, nil); err != nil {
		return 0
	}
	return len(claimed)
}

// start hands deliveries to their senders' connections. One delivery that
// cannot be read fails, and the others go on.
func (d *dispatcher) start(ctx context.Context, claimed []store.Delivery, probes map[int64]string) error {
	if len(claimed) == 0 {
		return nil
	}
	jobs, err := d.load(context.WithoutCancel(ctx), claimed)
	if err != nil {
		return err // they are found again
	}
	senders, err := d.e.senders.all(context.WithoutCancel(ctx), d.e)
	if err != nil {
		return err
	}
	d.since = time.Now()
	for _, j := range jobs {
		_, j.probe = probes[j.ID]
		p := d.pool(senderIn(senders, j.SenderID))
		d.mu.Lock()
		d.hand[j.ID] = p
		p.hand++
		d.mu.Unlock()
		if !j.LastError.IsZero() && j.LastError.Code == reason.CannotRead {
			d.finish(j, delivery.Failed)
			continue
		}
		p.put(j)
	}
	return nil
}

// senderIn returns the id of the sender that sends the deliveries of a sender id, which is "" for the default one.
func senderIn(senders []*senderNow, id string) string {
	for _, s := range senders {
		if slices.Contains(s.ids, id) {
			return s.id
		}
	}
	return id
}

// release says that a job is over: its outcome is durable, or it has been given back.
func (d *dispatcher) release(j *job) {
	d.mu.Lock()
	if p := d.hand[j.ID]; p != nil {
		p.hand--
		delete(d.hand, j.ID)
	}
	d.mu.Unlock()
	wake(d.freed)
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
		if j.NextTry != nil {
			j.queuedFor = *j.NextTry
		}
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
