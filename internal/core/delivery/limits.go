package delivery

import "time"

// CapSpan is how long an email waits for room under a daily cap. It does not
// count towards the late limit.
const CapSpan = 7 * 24 * time.Hour

// Limits is what a sender may send; 0 is no limit.
type Limits struct {
	Cap   int           // recipients a day
	Pace  int           // emails a minute
	Batch int           // emails, after which it pauses
	Pause time.Duration // for so long
}

// Limited reports whether there is any limit.
func (l Limits) Limited() bool { return l.Cap > 0 || l.Pace > 0 || l.Batch > 0 && l.Pause > 0 }

// Sent is what a sender has sent.
type Sent struct {
	Day    int         // recipients, since its midnight
	Minute int         // emails, in the last minute
	Lately []time.Time // when its last emails went, the latest first, as many as a batch holds
}

// Allowance is what a sender may still send: recipients on this day, emails in
// this minute, emails of this batch.
type Allowance struct {
	Limits
	room, left int
	inBatch    int
	pause      time.Duration // until the next batch may begin, once this one is full
	full       bool
	behind     int // emails that wait for the pace
	later      int // emails that wait for the next batches
}

// NewAllowance gives what is left of a sender's limits at an instant.
func NewAllowance(l Limits, sent Sent, now time.Time) *Allowance {
	a := &Allowance{Limits: l, room: l.Cap - sent.Day, left: l.Pace - sent.Minute, pause: l.Pause}
	// A batch is a run of emails without a pause between them.
	before := now
	for _, t := range sent.Lately {
		if l.Batch == 0 || a.inBatch == l.Batch || before.Sub(t) >= l.Pause {
			break
		}
		a.inBatch++
		before = t
	}
	if a.inBatch > 0 && a.inBatch == l.Batch {
		a.pause = sent.Lately[0].Add(l.Pause).Sub(now)
	}
	return a
}

// Admission is what an allowance says of an email.
type Admission int

// An email goes now, waits its turn, or waits for the next day.
const (
	Goes Admission = iota
	WaitsTurn
	WaitsDay
)

// Admit takes the next email, in order of due time, to so many recipients.
// Once one does not fit the day, those behind it do not overtake it. wait is
// how long one that waits its turn waits.
func (a *Allowance) Admit(recipients int) (what Admission, wait time.Duration) {
	switch {
	case a.Cap > 0 && (a.full || recipients > a.room):
		a.full = true
		return WaitsDay, 0
	case a.Batch > 0 && a.Pause > 0 && a.inBatch >= a.Batch:
		a.later++
		return WaitsTurn, a.pause + time.Duration((a.later-1)/a.Batch)*a.Pause
	case a.Pace > 0 && a.left <= 0:
		a.behind++
		return WaitsTurn, time.Duration(a.behind) * time.Minute / time.Duration(a.Pace)
	}
	a.room -= recipients
	a.left--
	a.inBatch++
	return Goes, 0
}

// Waits gives what becomes of an email, due at an instant, for which a limit has
// room at another: it is held until then, or missed where that is too long.
func Waits(due, room time.Time) State {
	if room.After(due.Add(CapSpan)) {
		return Missed
	}
	return Held
}
