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
		j.LastError = store.Why{Reason: reason.Reason{Code: reason.CannotWrite, Value: err.Error()}}
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
