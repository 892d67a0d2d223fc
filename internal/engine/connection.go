package engine

import (
	"context"
	"errors"
	"runtime/debug"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// idleConnection is how long a connection is kept without work.
const idleConnection = 20 * time.Second

// line is one connection to a mail server, kept over deliveries.
type line struct {
	d      *dispatcher
	p      *pool
	client *mail.Client
	server mail.Server // that it is connected to, as whom
}

func (l *line) close() { l.end((*mail.Client).Close) }
func (l *line) drop()  { l.end((*mail.Client).Drop) }

func (l *line) end(how func(*mail.Client)) {
	if l.client != nil {
		how(l.client)
		l.client = nil
		l.p.ended()
	}
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
		j.LastError = store.Why{Reason: reason.Reason{Code: reason.ProgramFault}}
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
	if err != nil { // it is not there, or the database cannot be asked
		l.d.giveBack(ctx, j)
		return
	}
	if by.rests() && !j.probe {
		l.d.giveBack(ctx, j)
		return
	}
	if err := l.d.says(ctx, j, by); err != nil {
		// Whose it is now is not known; nothing has been begun.
		l.d.e.log.Warn("what a message says of its sender could not be noted", "delivery", j.ID, "error", err)
		l.d.forget(j)
		l.d.finish(j, l.d.put(j, mail.Reply{}, reason.Reason{Code: reason.LostLedger}))
		return
	}
	over, ok := l.p.inTurn(ctx, j, by)
	if !ok {
		l.d.giveBack(ctx, j)
		return
	}
	defer over()
	if !l.connect(ctx, j, by) {
		return
	}
	msg, err := l.compose(j)
	if err != nil {
		j.LastError = store.Why{Reason: reason.Reason{Code: reason.CannotWrite, Value: err.Error()}}
		l.d.finish(j, delivery.Failed)
		return
	}
	if !l.fits(ctx, j, by, len(msg)) {
		return
	}
	to := make([]string, len(j.pending))
	for i, k := range j.pending {
		to[i] = j.recipients[k].Address
	}
	out, ready, err := l.client.Begin(by.from.ASCII(), to, len(msg),
		func(rs []mail.Reply) bool { return l.d.mayGo(j, rs) })
	if f := faultOf(out, by.server.Place()); err == nil && f != nil {
		if l.drop(); f.Code != reason.ServerBusy { // which puts this email off, as any 421 in its midst
			l.p.meets(ctx, j, by, f)
			return
		}
	}
	if err == nil {
		l.p.proves(true)
		over()
		if by.rests() {
			l.p.goes(ctx, by)
		}
	}
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
		if len(out.Recipients) > 0 || out.HungUp {
			l.drop() // a server that was waiting for the message has been hung up on
		}
		l.d.finish(j, l.d.refused(j, out))
		return
	}
	marked := l.d.e.now()
	if l.d.commit.mark(j) {
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
		l.d.forget(j)
		j.LastError = store.Why{Reason: reason.Reason{Code: reason.LostAfter}}
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

// connect makes sure that the line goes to where the delivery's sender sends now. Where it does not, the
// delivery is given back, and it reports false.
func (l *line) connect(ctx context.Context, j *job, by *senderNow) bool {
	if l.client != nil && l.server == by.server {
		return true
	}
	l.close()
	fault := by.err
	if fault == nil {
		ctx, cancel := context.WithTimeout(ctx, dialTimeout)
		defer cancel()
		done := l.p.opens()
		client, err := mail.Dial(ctx, by.server, helo())
		done(err == nil)
		if err == nil {
			l.client, l.server = client, by.server
			return true
		}
		if !errors.As(err, &fault) {
			fault = &mail.Fault{Code: reason.Unreachable, Place: by.server.Place(), Err: err}
		}
	}
	l.p.meets(ctx, j, by, fault)
	return false
}

// fits reports whether the mail server takes a message of so many bytes. One that is too large fails, and is
// not transferred.
func (l *line) fits(ctx context.Context, j *job, by *senderNow, size int) bool {
	most := l.client.SizeLimit()
	if int64(most) != by.state.MostBytes {
		if err := l.d.e.Store.AllowBytes(ctx, by.id, int64(most)); err != nil {
			l.d.e.log.Warn("how large a message a server takes could not be noted", "sender", by.id, "error", err)
		}
		l.d.e.SendersChanged()
	}
	if most == 0 || size <= most {
		return true
	}
	j.LastError = store.Why{Reason: reason.Reason{Code: reason.MessageTooLarge, Value: by.server.Place()}}
	l.d.finish(j, delivery.Failed)
	return false
}

// faultOf is what the answers to an envelope have against the sender, not against the email; nil for nothing.
func faultOf(out mail.Outcome, place string) *mail.Fault {
	if out.Refused.Code != 0 {
		if f := mail.ReplyFault(out.Step, place, out.Refused); f.OfSender() {
			return f
		}
		return nil
	}
	var first *mail.Fault
	for _, r := range out.Recipients {
		f := mail.ReplyFault(mail.NamingRecipient, place, r)
		if r.Positive() || !f.OfSender() {
			return nil // some are taken, or refused for what they are
		}
		if first == nil {
			first = f
		}
	}
	return first
}
