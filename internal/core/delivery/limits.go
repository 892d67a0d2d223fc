package delivery

import "time"

// CapSpan is how long an email waits for room under a daily cap. It does not
// count towards the late limit.
const CapSpan = 7 * 24 * time.Hour

// Allowance is what a sender may still send: recipients on this day, and
// emails in this minute. A cap or pace of 0 is none.
type Allowance struct {
	cap, pace  int
	room, left int
	full       bool
	behind     int
}

// NewAllowance gives what is left of a daily cap (recipients a day) after used,
// and of a pace (emails a minute) after recent.
func NewAllowance(cap, used, pace, recent int) *Allowance {
	return &Allowance{cap: cap, pace: pace, room: cap - used, left: pace - recent}
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
	case a.cap > 0 && (a.full || recipients > a.room):
		a.full = true
		return WaitsDay, 0
	case a.pace > 0 && a.left <= 0:
		a.behind++
		return WaitsTurn, time.Duration(a.behind) * time.Minute / time.Duration(a.pace)
	}
	a.room -= recipients
	a.left--
	return Goes, 0
}
