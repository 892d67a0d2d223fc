package engine

import (
	"strconv"
	"strings"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/mail"
	"nivot/internal/store"
)

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
			return d.put(j, out.Refused, reason.Reason{Code: putOffFor(out.Step, out.Refused)})
		}
		return j.refusedFor(out.Step, out.Refused)
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
			return j.refusedFor(mail.NamingRecipient, mail.Reply{Code: n, Text: text})
		}
	}
	return j.refusedFor(mail.NamingRecipient, mail.Reply{Code: 550, Text: "no recipient was taken"})
}

// refusedFor ends a try that the mail server has refused for good.
func (j *job) refusedFor(step mail.Step, r mail.Reply) delivery.State {
	why := reason.Reason{Code: mail.ReplyFault(step, "", r).Code}
	if why.Code == reason.Refused || why.Code.OfSender() {
		why = reason.Reason{Code: reason.Refused, Value: r.Text}
	}
	j.Reply, j.LastError = r.String(), store.Why{Reason: why}
	return delivery.Failed
}

// putOffFor says what a refusal is that asks for another try.
func putOffFor(step mail.Step, r mail.Reply) reason.Code {
	if code := mail.ReplyFault(step, "", r).Code; code == reason.MailboxFull {
		return code
	}
	return reason.PutOff
}

// forget takes back what this try noted as accepted: no message followed.
func (d *dispatcher) forget(j *job) {
	for _, k := range j.pending {
		if r := &j.recipients[k]; r.State == string(delivery.Accepted) {
			r.State, r.Reply = "", ""
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
		return d.put(j, reply, reason.Reason{Code: putOffFor(mail.HandingOver, reply)})
	}
	d.forget(j)
	return j.refusedFor(mail.HandingOver, reply)
}

// put puts a try off, or ends it where the tries are used up.
func (d *dispatcher) put(j *job, reply mail.Reply, why reason.Reason) delivery.State {
	now := d.e.now()
	j.LastError, j.Reply = store.Why{Reason: why}, ""
	if reply.Code != 0 {
		j.Reply = reply.String()
	}
	if j.FirstTry == nil {
		j.FirstTry = &now
	}
	next, ok := delivery.NextTry(*j.FirstTry, now, j.Tries+1)
	if !ok {
		j.LastError = store.Why{Reason: reason.Reason{Code: reason.GivenUp, Of: &why}}
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
	if st == delivery.Accepted && j.LastError.Code != reason.GivenUp {
		j.LastError = store.Why{} // that of an earlier try is over
	}
	d.commit.result(j)
}
