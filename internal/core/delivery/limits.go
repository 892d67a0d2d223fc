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
	Day    int         // recipients, since its midnight, and those that wait for room later on this day
	Next   time.Time   // from when its pace lets the next email go; zero: at any time
	Lately []time.Time // when its last emails went, the latest first, as many as a batch holds
}

// Allowance is what a sender may still send: recipients on this day, emails of this batch, and when the next
// may go by its pace.
type Allowance struct {
	Limits
	now     time.Time
	room    int
	next    time.Time
	inBatch int
	pause   time.Duration // until the next batch may begin, once this one is full
	full    bool
}

// paceBehind is how much a sender makes up for that was looked at too late for its pace.
const paceBehind = 2 * time.Second

// NewAllowance gives what is left of a sender's limits at an instant.
func NewAllowance(l Limits, sent Sent, now time.Time) *Allowance {
	a := &Allowance{Limits: l, now: now, room: l.Cap - sent.Day, next: sent.Next, pause: l.Pause}
	if a.next.Before(now.Add(-paceBehind)) {
		a.next = now // what could have gone and did not is not made up for: emails are evenly spaced
	}
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
// how long the sender waits before its next one, where this one waits its turn.
func (a *Allowance) Admit(recipients int) (what Admission, wait time.Duration) {
	switch {
	case a.Cap > 0 && (a.full || recipients > a.room):
		a.full = true
		return WaitsDay, 0
	case a.Batch > 0 && a.Pause > 0 && a.inBatch >= a.Batch:
		return WaitsTurn, a.pause
	case a.Pace > 0 && a.next.After(a.now):
		return WaitsTurn, a.next.Sub(a.now)
	}
	a.room -= recipients
	a.inBatch++
	if a.Pace > 0 {
		a.next = a.next.Add(time.Minute / time.Duration(a.Pace))
	}
	return Goes, 0
}

// Next returns from when the sender's pace lets the next email go.
func (a *Allowance) Next() time.Time { return a.next }

// NextRoom returns the first of the days after today, counted from 1, that has room for so many recipients
// under a cap; taken are those that wait for each day already. It is 0 where none of them has.
func NextRoom(limit, recipients int, taken []int) int {
	for i, n := range taken {
		// An email to more than the cap holds goes on a day of its own.
		if n+recipients <= limit || n == 0 {
			return i + 1
		}
	}
	return 0
}

// Waits gives what becomes of an email, due at an instant, for which a limit has
// room at another: it is held until then, or missed where that is too long.
func Waits(due, room time.Time) State {
	if room.After(due.Add(CapSpan)) {
		return Missed
	}
	return Held
}

// Through returns about when so many emails that wait have gone, the first of them at an instant, by pace and
// pauses alone.
func (l Limits) Through(first time.Time, waiting int) time.Time {
	behind := time.Duration(max(0, waiting-1))
	if l.Pace > 0 {
		first = first.Add(behind * time.Minute / time.Duration(l.Pace))
	}
	if l.Batch > 0 {
		first = first.Add(behind / time.Duration(l.Batch) * l.Pause)
	}
	return first
}

// Connections returns how many connections each of so many processes may have to a sender's mail server; 0 for
// as many as it likes. set is what a person has allowed, learned what the server has, 0 for any number. What was
// learned a while since is forgotten by one an hour.
func Connections(set, learned int, since time.Duration, processes int) int {
	most := 0
	if learned > 0 {
		most = learned + max(0, int(since/time.Hour))
	}
	if set > 0 && (most == 0 || set < most) {
		most = set
	}
	if most == 0 {
		return 0
	}
	return max(1, most/max(1, processes))
}

// probeAfter are the pauses before the tries of a sender that rests; after them it is tried hourly.
var probeAfter = [...]time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// ProbeAfter returns after how long a sender that rests is tried for the n-th time, counted from 1.
func ProbeAfter(n int) time.Duration { return probeAfter[min(n, len(probeAfter))-1] }
