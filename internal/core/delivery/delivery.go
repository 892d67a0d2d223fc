// Package delivery is the state machine of one occasion's email, and the
// arithmetic of trying again.
package delivery

import (
	"fmt"
	"slices"
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

// Cause is what changes a state.
type Cause string

// The causes of a change of state.
const (
	Considering Cause = "considering" // an occasion is judged for the first time
	Reviewing   Cause = "reviewing"   // what waited is judged again
	Deciding    Cause = "deciding"    // a person says what is to become of it
	Comparing   Cause = "comparing"   // another email, judged at the same instant or before, says the same
	Limiting    Cause = "limiting"    // a sender's daily cap or pace, or the limit per person, lets it wait
	Claiming    Cause = "claiming"    // a worker takes it, to send it, and limits count it from then on
	GivingBack  Cause = "giving back" // a worker that stops, or has stopped, had not begun it
	Marking     Cause = "marking"     // just before the final dot
	Answering   Cause = "answering"   // a try has ended
	Sweeping    Cause = "sweeping"    // a worker stopped in the middle of it
	Restoring   Cause = "restoring"   // the database went back in time
	Bouncing    Cause = "bouncing"    // a report of non-delivery has come
)

// arrows says which state may follow which, and by what. There are no others:
// every write of a state is checked against them, and a forbidden one refused.
// "" stands for due, the instant before anything is stored.
var arrows = map[Cause]map[State][]State{
	Considering: {
		"":     {Skipped, Incomplete, Missed, Held, Queued},
		Queued: {Held}, // the brake, before it is written
	},
	Reviewing: {
		Incomplete: {Incomplete, Queued, Held, Skipped, Missed},
		Held:       {Held, Queued, Skipped, Incomplete, Missed},
	},
	Deciding: {
		Held:       {Held, Queued, Dropped, Skipped, Incomplete, Missed},
		Queued:     {Dropped},                      // a sending by hand is stopped
		Deferred:   {Dropped, Skipped},             // a later sending by hand takes its place
		Incomplete: {Incomplete, Skipped, Dropped}, // left as it is; replaced; not to be sent
		InDoubt:    {InDoubt, Accepted, Queued},
		Failed:     {Failed, Queued},
		Missed:     {Missed, Queued},
		Bounced:    {Bounced, Queued},
	},
	Comparing: {Queued: {Skipped}, Held: {Skipped}},
	// What finds no room under the daily cap for seven days is missed without
	// having been held once more. What is over the limit per person may be skipped.
	Limiting: {Queued: {Queued, Held, Missed, Skipped}, Deferred: {Deferred, Held, Missed, Skipped}},
	Claiming: {Queued: {Claimed}, Deferred: {Claimed}},
	// Claimed can end accepted without a mark: the recipients that had been put
	// off are refused for good now, and the others have had it.
	// What no limit counts is sent without having been claimed.
	Answering: {
		Queued:  {Deferred, Failed, Accepted},
		Claimed: {Deferred, Failed, Accepted},
		Sending: {Accepted, Deferred, Failed, InDoubt},
		InDoubt: {Accepted, Deferred, Failed}, // its worker was given up, and the reply came after all
	},
	GivingBack: {Claimed: {Queued}},
	Marking:    {Claimed: {Sending}, Queued: {Sending}},
	Sweeping:   {Sending: {InDoubt}},
	Restoring:  {Queued: {Held}, Deferred: {Held}, Claimed: {Held}, Sending: {InDoubt}},
	Bouncing:   {Accepted: {Bounced}},
}

// Can reports whether an email may go from one state to another by a cause.
func Can(from, to State, by Cause) bool { return slices.Contains(arrows[by][from], to) }

// From lists the states from which a cause may lead to a state.
func From(to State, by Cause) (from []State) {
	for _, s := range States {
		if Can(s, to, by) {
			from = append(from, s)
		}
	}
	return from
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

// Speaks lists the states of an email that others which say the same are compared with: it has gone, is on its way,
// or is held.
var Speaks = []State{Held, Queued, Claimed, Sending, Accepted, Deferred, InDoubt}

// UnderWay reports whether an email of the state is to go by itself and has not gone.
func UnderWay(s State) bool {
	switch s {
	case Queued, Claimed, Sending, Deferred:
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
