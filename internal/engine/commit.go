package engine

import (
	"context"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/store"
)

// committer makes marks ("sending") and outcomes durable. Connections hand in
// what they have; each round one transaction takes all that has gathered. So
// a mark costs a share of a commit, and only the final dot waits for it.
type committer struct {
	e       *Engine
	worker  int64
	marks   chan mark
	results chan *job
	done    chan struct{}
	written func(*job) // what is durable
	giveUp  func()     // outcomes cannot be written
}

type mark struct {
	store.Marking
	ok chan bool
}

func newCommitter(e *Engine, worker int64, written func(*job), giveUp func()) *committer {
	return &committer{e: e, worker: worker, written: written, giveUp: giveUp, marks: make(chan mark, 256),
		results: make(chan *job, 256), done: make(chan struct{})}
}

// mark makes "sending" durable for a delivery. True means that it is, that
// the lease ran when it took effect, and so that the final dot may go.
func (c *committer) mark(j *job) bool {
	m := mark{store.Marking{ID: j.ID, Unclaimed: j.unclaimed}, make(chan bool, 1)}
	c.marks <- m
	return <-m.ok
}

func (c *committer) result(j *job) { c.results <- j }

// close waits until everything handed in is durable. Nothing may be handed in
// any more.
func (c *committer) close() {
	close(c.results)
	<-c.done
}

func (c *committer) run() {
	defer close(c.done)
	for {
		var marks []mark
		var results []*job
		select {
		case m := <-c.marks:
			marks = append(marks, m)
		case j, ok := <-c.results:
			if !ok {
				return
			}
			results = append(results, j)
		}
		open := true
		for more := true; more && open && len(marks)+len(results) < 512; {
			select {
			case m := <-c.marks:
				marks = append(marks, m)
			case j, ok := <-c.results:
				if open = ok; ok {
					results = append(results, j)
				}
			default:
				more = false
			}
		}
		c.round(marks, results)
		if !open {
			return
		}
	}
}

// commitTries bounds how often a round's outcomes are tried while the database
// is away. What is not written then becomes in doubt when the lease runs out.
const commitTries = 40

func (c *committer) round(marks []mark, results []*job) {
	ctx := context.Background()
	for try := 0; ; try++ {
		now := c.e.now()
		w, err := c.write(ctx, now, marks, results)
		if err == nil {
			for _, m := range marks {
				if w.Marked[m.ID] {
					c.e.witness.sent(m.ID, now)
				}
				m.ok <- w.Marked[m.ID]
			}
			for _, j := range results {
				c.written(j)
			}
			if w.Unmet > 0 && try == 0 {
				c.e.log.Warn("outcomes came too late: somebody else had decided them", "count", w.Unmet)
			}
			return
		}
		// Whether a mark took effect is not known now: none may go.
		for _, m := range marks {
			m.ok <- false
		}
		marks = nil
		if len(results) == 0 {
			return
		}
		if try == commitTries {
			c.e.log.Error("outcomes could not be written; they will be in doubt", "count", len(results), "error", err)
			c.giveUp()
			return
		}
		time.Sleep(time.Duration(min(try+1, 10)) * 100 * time.Millisecond)
	}
}

// write is one round's transaction.
func (c *committer) write(ctx context.Context, now time.Time, marks []mark,
	results []*job) (w store.Written, err error) {
	r := store.Round{Worker: c.worker, Now: now}
	for _, m := range marks {
		r.Marks = append(r.Marks, m.Marking)
	}
	for _, j := range results {
		plain := j.plainAccept()
		if !plain {
			j.Recipients = store.Detail(j.recipients)
		}
		r.Outcomes = append(r.Outcomes, store.Outcome{Delivery: &j.Delivery, Detail: outcomeDetail(j),
			Unclaimed: j.unclaimed, Plain: plain})
	}
	return c.e.Store.Commit(ctx, r)
}

// plainAccept tells whether the outcome is the common one: taken whole, by
// everybody, at the first try.
func (j *job) plainAccept() bool {
	if j.State != delivery.Accepted || j.Tries != 1 || !j.LastError.IsZero() {
		return false
	}
	for _, r := range j.recipients {
		if r.State != string(delivery.Accepted) {
			return false
		}
	}
	return true
}

func outcomeDetail(j *job) string {
	detail := map[string]any{"attempt": j.Attempt, "try": j.Tries}
	if j.Reply != "" {
		detail["reply"] = j.Reply
	}
	if !j.LastError.IsZero() && j.State != delivery.Accepted {
		detail["reason"] = j.LastError
	}
	if j.NextTry != nil {
		detail["nextTry"] = j.NextTry
	}
	var refused []store.Recipient
	for _, r := range j.recipients {
		if r.State == string(delivery.Bounced) || r.State == string(delivery.Deferred) {
			refused = append(refused, r)
		}
	}
	if len(refused) > 0 {
		detail["recipients"] = refused
	}
	return store.Detail(detail)
}
