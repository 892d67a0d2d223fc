package engine

import (
	"context"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// pool is what goes by one sender: its connections, and what is in hand for them. Senders share nothing, so
// that one whose server hangs or refuses holds up no other.
type pool struct {
	d      *dispatcher
	sender string
	jobs   chan *job
	first  chan struct{} // held by who tries while the server has taken nothing, so that one refusal is enough

	hand int // what is on its way; guarded by the dispatcher's mu

	mu    sync.Mutex
	lines int // goroutines that send; guarded by mu, as all below
	live  int // of those, how many are connected
	most  int // how many there may be

	opening int        // how many are being connected
	opened  *sync.Cond // that fewer are

	proven bool // the server has taken what was last offered to it
}

// handPerLine is how many deliveries are in hand for each connection. What a claim asks of the database it asks
// once however much it takes, and that weighs most where connections are few.
const handPerLine = 8

// pool gives a sender's pool.
func (d *dispatcher) pool(sender string) *pool {
	d.mu.Lock()
	defer d.mu.Unlock()
	p := d.pools[sender]
	if p == nil {
		n := d.e.opts.Connections
		p = &pool{d: d, sender: sender, jobs: make(chan *job, handPerLine*n), first: make(chan struct{}, 1), most: n}
		p.opened = sync.NewCond(&p.mu)
		d.pools[sender] = p
	}
	return p
}

// allow sets how many connections there may be; 0 stands for as many as a process has to one server.
func (p *pool) allow(most int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.most = p.d.e.opts.Connections; most > 0 {
		p.most = min(most, p.most)
	}
}

// inHand is how many deliveries are on their way.
func (p *pool) inHand() int {
	p.d.mu.Lock()
	defer p.d.mu.Unlock()
	return p.hand
}

// room is how many deliveries may be taken at once: half of what fits in hand at the most, and none where
// only a few would fit.
func (p *pool) room() int {
	p.mu.Lock()
	fits := handPerLine * p.most
	p.mu.Unlock()
	free := fits - p.inHand()
	if free < fits/4 {
		return 0
	}
	return min(free, max(1, fits/2))
}

// put hands a job to the pool's connections, and opens one more where that helps.
func (p *pool) put(j *job) {
	p.mu.Lock()
	more := p.lines < p.most
	if more {
		p.lines++
	}
	p.mu.Unlock()
	if more {
		p.d.lines.Go(func() { p.send(p.d.inner) })
	}
	p.jobs <- j
}

// leaves reports whether a line is one too many, and counts it out then.
func (p *pool) leaves(always bool) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !always && p.lines <= p.most {
		return false
	}
	p.lines--
	return true
}

// send is one connection's loop.
func (p *pool) send(ctx context.Context) {
	l := &line{d: p.d, p: p}
	defer l.close()
	timer := time.NewTimer(idleConnection)
	for !p.leaves(false) {
		timer.Reset(idleConnection)
		select {
		case j, ok := <-p.jobs:
			if !ok {
				p.leaves(true)
				return
			}
			l.attempt(ctx, j)
		case <-timer.C:
			l.close()
		}
	}
}

// ended counts a connection out.
func (p *pool) ended() {
	p.mu.Lock()
	p.live--
	p.mu.Unlock()
}

// opens says that a connection is being made; what it returns is called once it is, or is not.
func (p *pool) opens() (done func(is bool)) {
	p.mu.Lock()
	p.opening++
	p.mu.Unlock()
	return func(is bool) {
		p.mu.Lock()
		p.opening--
		if is {
			p.live++
		}
		p.opened.Broadcast()
		p.mu.Unlock()
	}
}

// inTurn waits until a delivery may be tried, and returns what is to be called once it is known whether the
// server takes it. Until the server has taken one, one at a time is tried: the others go by what it met. ok is
// false where the sender has come to rest meanwhile.
func (p *pool) inTurn(ctx context.Context, j *job, by *senderNow) (over func(), ok bool) {
	p.mu.Lock()
	proven := p.proven
	p.mu.Unlock()
	if proven {
		return func() {}, true
	}
	p.first <- struct{}{}
	over = sync.OnceFunc(func() { <-p.first })
	if now, err := p.d.e.senders.now(ctx, p.d.e, by.id); err != nil || now.rests() && !j.probe {
		over()
		return nil, false
	}
	return over, true
}

// proves notes whether the server has last taken what it was offered by the sender.
func (p *pool) proves(it bool) {
	p.mu.Lock()
	p.proven = it
	p.mu.Unlock()
}

// dialTimeout bounds how long connecting, being greeted and signing in may take.
const dialTimeout = 100 * time.Second

// probeHeld is for how long nobody else tries a resting sender that is being tried.
const probeHeld = 2 * time.Minute

// soon is after how long a server that has allowed none of its connections to this process is tried again.
const soon = 15 * time.Second

// meets does what a fault of the sender asks for, and gives the delivery that met it back: it has not been tried.
func (p *pool) meets(ctx context.Context, j *job, by *senderNow, f *mail.Fault) {
	p.d.e.noting.Add(1)
	defer p.d.e.noting.Add(-1)
	now := p.d.e.now()
	p.proves(false)
	if f.Code == reason.TooManyConnections && !j.probe {
		p.fewer(ctx, by, now)
		p.d.giveBack(ctx, j)
		return
	}
	probes := 1
	if j.probe {
		probes = by.state.Probes + 1
	}
	next := now.Add(delivery.ProbeAfter(probes))
	p.d.e.log.Warn("a sender rests", "sender", by.id, "for", f.Code, "until", next, "error", f)
	if err := p.d.e.Store.Rest(ctx, by.id, now, next, probes, f.Reason(), f.Said()); err != nil {
		p.d.e.log.Error("that a sender rests could not be noted", "sender", by.id, "error", err)
	}
	p.d.e.SendersChanged()
	p.d.giveBack(ctx, j)
	if err := p.d.e.missRested(ctx, by, now); err != nil {
		p.d.e.log.Error("what has waited for too long for a sender could not be ended", "sender", by.id, "error", err)
	}
}

// fewer has fewer connections opened to a server that has allowed no more: as many as there are, or, where
// none was allowed, one less than was thought. How many there are is known once those that are being made at the
// same time have been, or have been refused too.
func (p *pool) fewer(ctx context.Context, by *senderNow, now time.Time) {
	processes := max(1, p.d.e.queueShare().Of)
	p.mu.Lock()
	for p.opening > 0 {
		p.opened.Wait()
	}
	live := p.live
	p.most = max(1, live)
	p.mu.Unlock()
	most := live * processes
	if live == 0 {
		if most = by.state.Connections(by.most, 1, now) - 1; by.state.MostConnections == 0 {
			most = processes
		}
		if err := p.d.e.Store.SetAvailable(ctx, by.id, now.Add(soon)); err != nil {
			p.d.e.log.Error("that a sender waits could not be noted", "sender", by.id, "error", err)
		}
	}
	if err := p.d.e.Store.AllowConnections(ctx, by.id, most, now); err != nil {
		p.d.e.log.Error("how many connections a server allows could not be noted", "sender", by.id, "error", err)
	}
	p.d.e.SendersChanged()
}

// goes ends the rest of a sender that has come to its turn: its server takes emails. What has waited for too
// long meanwhile is missed first.
func (p *pool) goes(ctx context.Context, by *senderNow) {
	if err := p.d.e.missRested(ctx, by, p.d.e.now()); err != nil {
		p.d.e.log.Error("what has waited for too long for a sender could not be ended", "sender", by.id, "error", err)
		return
	}
	woke, err := p.d.e.Store.Wakes(ctx, by.id)
	if err != nil {
		p.d.e.log.Error("that a sender sends again could not be noted", "sender", by.id, "error", err)
	}
	if woke {
		p.d.e.log.Info("a sender sends again", "sender", by.id)
	}
	p.d.e.SendersChanged()
	wake(p.d.e.wakeQueue)
}

// giveBack puts a job back as it was: nothing has been tried.
func (d *dispatcher) giveBack(ctx context.Context, j *job) {
	defer d.release(j)
	if j.unclaimed != nil {
		return // nothing has been written of it
	}
	err := d.e.Store.GiveBackClaimed(context.WithoutCancel(ctx), d.worker, map[int64]time.Time{j.ID: j.queuedFor})
	if err != nil {
		d.e.log.Error("what was claimed could not be given back; it goes back by itself", "delivery", j.ID, "error", err)
	}
}

// missBatch is how many waiting emails one transaction looks at.
const missBatch = 500

// missRested ends what waits for a sender that rests and is too late by now.
func (e *Engine) missRested(ctx context.Context, by *senderNow, now time.Time) error {
	cache := e.reading()
	for after := int64(0); ; {
		n := 0
		err := e.Store.Tx(ctx, func(tx *store.Store) error {
			waiting, err := tx.LockQueuedOf(ctx, by.ids, after, missBatch)
			if err != nil {
				return err
			}
			if n = len(waiting); n > 0 {
				after = waiting[n-1].ID
			}
			for i := range waiting {
				d := &waiting[i]
				sb, err := cache.sheet(ctx, d.SheetID)
				if err != nil {
					continue // it cannot be read any more, and says so elsewhere
				}
				rb := sb.rule(d.RuleID)
				if rb == nil || d.NextTry == nil {
					continue
				}
				decided := d.JudgedAt
				if d.WentAt != nil && d.WentAt.After(decided) { // it had been incomplete
					decided = *d.WentAt
				}
				if !rb.compiled.TooLate(d.DueAt, decided, *d.NextTry, now) {
					continue
				}
				due := d.DueAt
				why := reason.Reason{Code: reason.TooLate, At: &due, Zone: rb.compiled.Zone.String()}
				if err := overLimit(ctx, tx, d, delivery.Missed, why, now, now); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || n < missBatch {
			return err
		}
	}
}
