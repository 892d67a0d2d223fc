// Package delivery is the state machine of one occasion's email, and the
// arithmetic of trying again.
package delivery

import (
	"fmt"
	"time"
)

// State is what has become of an occasion.
type State string

// The states. Foreseen occasions are computed, not stored, and have none.
const (
	Skipped    State = "skipped"
	Incomplete State = "incomplete"
	Missed     State = "missed"
	Held       State = "held"
	Dropped    State = "dropped"
	Queued     State = "queued"
	Claimed    State = "claimed" // a dispatcher has it; nothing that binds has left yet
	Sending    State = "sending" // durable before the final dot leaves
	Accepted   State = "accepted"
	Deferred   State = "deferred"
	Failed     State = "failed"
	InDoubt    State = "in-doubt"
	Bounced    State = "bounced"
)

// States lists every state.
var States = []State{Skipped, Incomplete, Missed, Held, Dropped, Queued, Claimed, Sending, Accepted, Deferred,
	Failed, InDoubt, Bounced}

// arrows are the changes that may happen. "" stands for due, the instant
// before anything is stored.
var arrows = map[State][]State{
	"":         {Skipped, Incomplete, Missed, Held, Queued},
	Incomplete: {Queued, Held, Skipped, Missed},
	Held:       {Queued, Dropped, Skipped, Incomplete, Missed, Held},
	Queued:     {Claimed, Held},
	Claimed:    {Sending, Queued, Deferred, Failed},
	Sending:    {Accepted, Deferred, Failed, InDoubt},
	Deferred:   {Claimed, Failed, Held},
	InDoubt:    {Accepted, Queued},
	Failed:     {Queued},
	Missed:     {Queued},
	Bounced:    {Queued},
	Accepted:   {Bounced},
}

// Can tells whether an email may go from one state to another.
func Can(from, to State) bool {
	for _, s := range arrows[from] {
		if s == to {
			return true
		}
	}
	return false
}

// Resendable tells whether a person may have the email sent again, as a new
// attempt at the same occasion.
func Resendable(s State) bool {
	switch s {
	case Failed, Bounced, Missed, InDoubt:
		return true
	}
	return false
}

// NeedsSomebody tells whether the state waits for a person.
func NeedsSomebody(s State) bool {
	switch s {
	case Incomplete, Missed, Held, Failed, InDoubt, Bounced:
		return true
	}
	return false
}

// giveUp is how long an email is tried.
const giveUp = 24 * time.Hour

// waits are the first pauses between tries; after them it is hourly.
var waits = [...]time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, 60 * time.Minute}

// NextTry gives the instant of the next try after n of them have been put
// off, the last at now and the first at first. ok is false once the tries are
// used up: 24 hours after the first.
func NextTry(first, now time.Time, n int) (next time.Time, ok bool) {
	wait := time.Hour
	if n >= 1 && n <= len(waits) {
		wait = waits[n-1]
	}
	next = now.Add(wait)
	return next, !next.After(first.Add(giveUp))
}

// MessageID makes an email's Message-ID (RFC 5322, section 3.6.4) from its
// occasion and the attempt a person asked for, so that a second copy can be
// recognised anywhere.
func MessageID(occasion string, attempt int, domain string) string {
	return fmt.Sprintf("<%s.%d@%s>", occasion, attempt, domain)
}
