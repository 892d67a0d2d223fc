package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/value"
	"nivot/internal/mail"
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
	id, err := e.Store.Hire(ctx, e.opts.Name, e.opts.Lease)
	if err != nil {
		return nil, err
	}
	d := &dispatcher{e: e, worker: id, jobs: make(chan *job, 4*e.opts.Connections), lost: make(chan struct{}), hand: map[int64]bool{},
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
		if claimed, err = tx.LockQueued(ctx, now, room); err != nil {
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
		if !j.Trouble.IsZero() && j.Trouble.Code == reason.CannotRead {
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
	poke(d.freed)
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
			d.e.log.Error("this worker has sent nothing for a whole lease while something was due; it gives up, and another begins")
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
			j.Trouble = store.Why{Reason: reason.Reason{Code: reason.CannotRead, Value: err.Error()}}
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

// idleConnection is how long a connection is kept without work.
const idleConnection = 20 * time.Second

// send is one connection's loop.
func (d *dispatcher) send(ctx context.Context) {
	l := &line{d: d}
	defer l.close()
	timer := time.NewTimer(idleConnection)
	for {
		timer.Reset(idleConnection)
		select {
		case j, ok := <-d.jobs:
			if !ok {
				return
			}
			l.attempt(ctx, j)
		case <-timer.C:
			l.close()
		}
	}
}

// line is one connection to a mail server, kept over deliveries.
type line struct {
	d      *dispatcher
	client *mail.Client
	server mail.Server // that it is connected to, as whom
}

func (l *line) close() {
	if l.client != nil {
		l.client.Close()
		l.client = nil
	}
}

func (l *line) drop() {
	if l.client != nil {
		l.client.Drop()
		l.client = nil
	}
}

// connect makes sure that the line goes to where the delivery's sender sends now.
func (l *line) connect(ctx context.Context, by *senderNow) error {
	if l.client != nil && l.server == by.server {
		return nil
	}
	l.close()
	client, err := mail.Dial(ctx, by.server, helo())
	if err != nil {
		return err
	}
	l.client, l.server = client, by.server
	return nil
}

// attempt tries a delivery once. Nothing that a mail server says, and no single
// delivery, ends a worker: a fault makes this delivery failed, or in doubt
// where its mark was set, and never queued.
func (l *line) attempt(ctx context.Context, j *job) {
	j.began = time.Now()
	defer func() {
		fault := recover()
		if fault == nil {
			return
		}
		l.d.e.log.Error("a fault in sending", "delivery", j.ID, "fault", fault, "stack", string(debug.Stack()))
		l.drop()
		j.Trouble = store.Why{Reason: reason.Reason{Code: reason.ProgramFault}}
		st := delivery.Failed
		if j.SendingAt != nil {
			st = delivery.InDoubt
		}
		l.d.finish(j, st)
	}()
	l.try(ctx, j)
}

// try tries a delivery once. What can be lost on the way has an order: until
// the mark is durable nothing binding has left, so a failure means "again";
// after the final dot a failure means "in doubt".
func (l *line) try(ctx context.Context, j *job) {
	by, err := l.d.e.senders.now(ctx, l.d.e, j.SenderID)
	if err == nil {
		if err := l.d.says(ctx, j, by); err != nil {
			// Whose it is now is not known; nothing has been begun.
			l.d.e.log.Warn("what a message says of its sender could not be noted", "delivery", j.ID, "error", err)
			l.d.forget(j)
			l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.LostLedger}))
			return
		}
		err = l.connect(ctx, by)
	}
	if err != nil {
		l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.Unreachable, Value: err.Error()}))
		l.drop()
		return
	}
	msg, err := l.compose(j)
	if err != nil {
		j.Trouble = store.Why{Reason: reason.Reason{Code: reason.CannotWrite, Value: err.Error()}}
		l.d.finish(j, delivery.Failed)
		return
	}
	to := make([]string, len(j.pending))
	for i, k := range j.pending {
		to[i] = j.recipients[k].Address
	}
	out, ready, err := l.client.Begin(by.from.ASCII(), to, func(rs []mail.Reply) bool { return l.d.mayGo(j, rs) })
	if err == nil && ready {
		err = l.client.Body(msg)
	}
	if err != nil {
		l.drop()
		l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.LostBefore}))
		return
	}
	l.d.noteRecipients(j, out.Recipients)
	if !ready {
		if len(out.Recipients) > 0 {
			l.drop() // a server that was waiting for the message has been hung up on
		}
		l.d.finish(j, l.d.refused(j, out))
		return
	}
	marked := l.d.e.now()
	if l.d.commit.mark(j.ID) {
		j.SendingAt = &marked
	} else {
		// Not marked: the lease is lost, or whether the mark was committed is
		// not known. Without the dot nothing has been handed over.
		l.drop()
		l.d.forget(j)
		l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.LostLedger}))
		return
	}
	reply, err := l.client.Finish()
	if errors.Is(err, mail.ErrHungUp) {
		l.drop()
		l.d.forget(j)
		l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.LostBefore}))
		return
	}
	if err != nil {
		l.drop()
		j.Trouble = store.Why{Reason: reason.Reason{Code: reason.LostAfter}}
		l.d.finish(j, delivery.InDoubt)
		return
	}
	l.d.finish(j, l.d.answered(j, reply))
}

func (l *line) compose(j *job) ([]byte, error) {
	m, err := l.d.e.Message(context.Background(), &j.Delivery, j.letter, j.recipients)
	if err != nil {
		return nil, err
	}
	return mail.Compose(m)
}

// mayGo tells from the replies to the recipients whether the email goes: a
// first try needs one To mailbox that is taken, a later one, for those who
// were put off, any.
func (d *dispatcher) mayGo(j *job, rs []mail.Reply) bool {
	went := false
	for _, r := range j.recipients {
		went = went || r.Role == "to" && r.State == string(delivery.Accepted)
	}
	for i, r := range rs {
		if r.Positive() && (went || j.recipients[j.pending[i]].Role == "to") {
			return true
		}
	}
	return false
}

func (d *dispatcher) noteRecipients(j *job, rs []mail.Reply) {
	for i, r := range rs {
		to := &j.recipients[j.pending[i]]
		to.Reply = r.String()
		switch {
		case r.Positive():
			to.State = string(delivery.Accepted)
		case r.Temporary():
			to.State = string(delivery.Deferred)
		default:
			to.State = string(delivery.Bounced)
		}
	}
}

// refused settles a try that was refused before the message: as a whole, or
// at every recipient that counts.
func (d *dispatcher) refused(j *job, out mail.Outcome) delivery.State {
	d.forget(j)
	if out.Refused.Code != 0 {
		if out.Refused.Temporary() {
			return d.put(j, out.Refused, reason.Reason{Code: reason.PutOff})
		}
		return j.refusedFor(out.Refused)
	}
	var temporary mail.Reply
	hope := false // a To mailbox may still be taken
	for i, r := range out.Recipients {
		if r.Temporary() {
			temporary = r
			hope = hope || j.recipients[j.pending[i]].Role == "to"
		}
	}
	switch {
	case d.went(j):
		if temporary.Code != 0 {
			return d.put(j, temporary, reason.Reason{Code: reason.SomePutOff})
		}
		return delivery.Accepted
	case hope:
		return d.put(j, temporary, reason.Reason{Code: reason.PutOff})
	}
	// No To is left: whom it was meant for does not get it, so nobody does.
	for _, r := range j.recipients {
		if r.Role == "to" && r.State == string(delivery.Bounced) {
			code, text, _ := strings.Cut(r.Reply, " ")
			n, _ := strconv.Atoi(code)
			return j.refusedFor(mail.Reply{Code: n, Text: text})
		}
	}
	return j.refusedFor(mail.Reply{Code: 550, Text: "no recipient was taken"})
}

// refusedFor ends a try that the mail server has refused for good.
func (j *job) refusedFor(r mail.Reply) delivery.State {
	j.Reply, j.Trouble = r.String(), store.Why{Reason: reason.Reason{Code: reason.Refused, Value: r.Text}}
	return delivery.Failed
}

// forget takes back what this try noted as accepted: no message followed.
func (d *dispatcher) forget(j *job) {
	for _, k := range j.pending {
		if r := &j.recipients[k]; r.State == string(delivery.Accepted) {
			r.State = ""
		}
	}
}

// went tells whether an earlier try reached a To mailbox.
func (d *dispatcher) went(j *job) bool {
	for _, r := range j.recipients {
		if r.Role == "to" && r.State == string(delivery.Accepted) {
			return true
		}
	}
	return false
}

// answered settles a try by the reply to the final dot.
func (d *dispatcher) answered(j *job, reply mail.Reply) delivery.State {
	j.Reply = reply.String()
	switch {
	case reply.Positive():
		for _, r := range j.recipients {
			if r.State == string(delivery.Deferred) {
				return d.put(j, reply, reason.Reason{Code: reason.SomePutOff})
			}
		}
		return delivery.Accepted
	case reply.Temporary():
		d.forget(j)
		return d.put(j, reply, reason.Reason{Code: reason.PutOff})
	}
	d.forget(j)
	return j.refusedFor(reply)
}

// put puts a try off, or ends it where the tries are used up.
func (d *dispatcher) put(j *job, reply mail.Reply, why reason.Reason) delivery.State {
	now := d.e.now()
	j.Trouble, j.Reply = store.Why{Reason: why}, ""
	if reply.Code != 0 {
		j.Reply = reply.String()
	}
	if j.FirstTry == nil {
		j.FirstTry = &now
	}
	next, ok := delivery.NextTry(*j.FirstTry, now, j.Tries+1)
	if !ok {
		j.Trouble = store.Why{Reason: reason.Reason{Code: reason.GivenUp, Of: &why}}
		if d.went(j) {
			return delivery.Accepted
		}
		return delivery.Failed
	}
	j.NextTry = &next
	return delivery.Deferred
}

// finish hands a try's outcome to the committer.
func (d *dispatcher) finish(j *job, st delivery.State) {
	j.State = st
	j.Tries++
	if !j.began.IsZero() {
		tried(j.began, st)
	}
	if st != delivery.Deferred {
		now := d.e.now()
		j.FinishedAt, j.NextTry = &now, nil
	}
	if st == delivery.Accepted && j.Trouble.Code != reason.GivenUp {
		j.Trouble = store.Why{} // that of an earlier try is over
	}
	d.commit.result(j)
}

// SendOne sends a message that is no occasion, such as a test email, at once
// and once. The sender's domain takes the place of the Message-ID's.
func (e *Engine) SendOne(ctx context.Context, senderID string, m *mail.Message, messageID string) error {
	sender, server, err := e.Sender(ctx, senderID)
	if err != nil {
		return err
	}
	return SendBy(ctx, sender, server, m, messageID)
}

// SendBy sends one message at once by a sender that need not be saved.
func SendBy(ctx context.Context, sender *store.Sender, server mail.Server, m *mail.Message, messageID string) error {
	boxes, err := value.ParseMailboxes(sender.Address)
	if err != nil || len(boxes) != 1 {
		return fmt.Errorf("the sender's address %q cannot be used", sender.Address)
	}
	m.From = boxes[0]
	m.From.Name = sender.Name
	_, domain, _ := strings.Cut(m.From.ASCII(), "@")
	m.MessageID = messageID[:strings.IndexByte(messageID, '@')+1] + domain + ">"
	msg, err := mail.Compose(m)
	if err != nil {
		return err
	}
	c, err := mail.Dial(ctx, server, helo())
	if err != nil {
		return err
	}
	defer c.Close()
	var to []string
	for _, b := range m.To {
		to = append(to, b.ASCII())
	}
	out, ready, err := c.Begin(m.From.ASCII(), to, func(rs []mail.Reply) bool { return rs[0].Positive() })
	if err != nil {
		return err
	}
	if !ready {
		if out.Refused.Code != 0 {
			return &mail.ReplyError{Reply: out.Refused}
		}
		return &mail.ReplyError{Reply: out.Recipients[0]}
	}
	if err := c.Body(msg); err != nil {
		return err
	}
	reply, err := c.Finish()
	if err == nil && !reply.Positive() {
		err = &mail.ReplyError{Reply: reply}
	}
	return err
}
