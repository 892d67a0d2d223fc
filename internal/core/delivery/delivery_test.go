package delivery

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

func TestRetryTimes(t *testing.T) {
	first := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	now, n := first, 0
	var waits []string
	for {
		n++
		next, ok := NextTry(first, now, n)
		if !ok {
			break
		}
		waits = append(waits, next.Sub(now).String())
		now = next
	}
	want := []string{"1m0s", "5m0s", "15m0s", "1h0m0s", "1h0m0s"}
	for i, w := range want {
		if waits[i] != w {
			t.Errorf("wait %d: %s, want %s", i+1, waits[i], w)
		}
	}
	if d := now.Sub(first); d > 24*time.Hour || d < 23*time.Hour {
		t.Errorf("the last try is %s after the first, want just under 24 hours", d)
	}
}

// Nothing leads out of an outcome that would send a second time by itself:
// only a person's decision leads back to queued.
func TestNoArrowBackToSending(t *testing.T) {
	for by, from := range arrows {
		for s, tos := range from {
			for _, to := range tos {
				if !slices.Contains(States, to) || s != "" && !slices.Contains(States, s) {
					t.Errorf("%s leads from %q to %q, which is no state", by, s, to)
				}
				switch {
				case to == Sending && (s != Claimed && s != Queued || by != Marking):
					t.Errorf("%s leads from %s to sending", by, s)
				case to == Claimed && (s != Queued && s != Deferred || by != Claiming):
					t.Errorf("%s claims what is %s", by, s)
				case to == Queued && by != Deciding && s != "" && s != Incomplete && s != Held && s != Claimed && s != Queued:
					t.Errorf("%s puts back what is %s", by, s)
				case (s == Sending || s == InDoubt) && to == Queued && by != Deciding:
					t.Errorf("%s queues what may have left", by)
				case s == Skipped || s == Dropped:
					t.Errorf("%s is an end, but leads to %s", s, to)
				}
			}
		}
	}
	if Can(Sending, Queued, Deciding) {
		t.Error("a person can queue what is being sent")
	}
}

func TestFrom(t *testing.T) {
	for want, got := range map[string][]State{
		"[sending in-doubt]":                From(Failed, Answering)[2:],
		"[queued claimed]":                  From(Sending, Marking),
		"[queued deferred]":                 From(Claimed, Claiming),
		"[]":                                From(Sending, Answering),
		"[queued claimed sending in-doubt]": From(Accepted, Answering),
	} {
		if fmt.Sprint(got) != want {
			t.Errorf("%v, want %s", got, want)
		}
	}
}

func TestMessageID(t *testing.T) {
	if got := MessageID("7f3a", 2, "loans.marrowby.example"); got != "<7f3a.2@loans.marrowby.example>" {
		t.Error(got)
	}
}

// Section 5: daily cap and pace.
func TestAllowance(t *testing.T) {
	a := NewAllowance(Limits{Cap: 10}, Sent{Day: 3}, time.Time{})
	for i, c := range []struct {
		n    int
		want Admission
	}{{4, Goes}, {3, Goes}, {1, WaitsDay}, {0, WaitsDay}} {
		if got, _ := a.Admit(c.n); got != c.want {
			t.Errorf("cap, email %d: %d, want %d", i, got, c.want)
		}
	}
	if got, _ := NewAllowance(Limits{Cap: 10}, Sent{Day: 8}, time.Time{}).Admit(3); got != WaitsDay {
		t.Error("an email goes whole or not at all")
	}
	if n := NextRoom(10, 4, []int{7, 10, 6, 0}); n != 3 {
		t.Errorf("room on day %d, want 3", n)
	}
	if n := NextRoom(10, 14, []int{7, 0}); n != 2 {
		t.Errorf("room for more than the cap on day %d, want the first that is free", n)
	}
	if n := NextRoom(10, 4, []int{7, 8}); n != 0 {
		t.Errorf("room on day %d, want none", n)
	}
}

// Section 5, pace: evenly spaced, whatever has not gone before.
func TestPaceIsEven(t *testing.T) {
	now := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name  string
		pace  int
		next  time.Duration // from when the next may go, from now
		goes  int           // how many go now
		after time.Duration // when the one after them may
	}{
		{"nothing has gone", 30, -time.Hour, 1, 2 * time.Second},
		{"one has just gone", 30, 2 * time.Second, 0, 2 * time.Second},
		{"its turn has come", 30, 0, 1, 2 * time.Second},
		{"looked at a little late", 600, -250 * time.Millisecond, 3, 50 * time.Millisecond},
		{"one a minute", 1, -time.Second, 1, 59 * time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := NewAllowance(Limits{Pace: c.pace}, Sent{Next: now.Add(c.next)}, now)
			n := 0
			for {
				what, wait := a.Admit(1)
				if what == Goes {
					n++
					continue
				}
				if n != c.goes || what != WaitsTurn || wait != c.after {
					t.Errorf("%d go and the next waits %s (%d), want %d and %s", n, wait, what, c.goes, c.after)
				}
				return
			}
		})
	}
}

// After each batch a sender pauses; a batch is a run of emails without a pause
// between them.
func TestBatches(t *testing.T) {
	now := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	ago := func(minutes ...float64) (out []time.Time) {
		for _, m := range minutes {
			out = append(out, now.Add(-time.Duration(m*float64(time.Minute))))
		}
		return out
	}
	min := func(minutes ...float64) (out []time.Duration) {
		for _, m := range minutes {
			out = append(out, time.Duration(m*float64(time.Minute)))
		}
		return out
	}
	for _, c := range []struct {
		name   string
		lately []time.Time
		want   []time.Duration // how long each of the next emails waits
	}{
		{"nothing has gone", nil, min(0, 0, 0, 10, 10, 10)},
		{"two have gone", ago(1, 2), min(0, 10, 10, 10)},
		{"a full batch", ago(4, 5, 5.5), min(6, 6, 6)},
		{"a full batch, a pause ago", ago(10, 11, 12), min(0, 0, 0, 10)},
		{"a batch with a pause in it", ago(1, 12, 13), min(0, 0, 10)},
		{"slower than the pause", ago(10, 20, 30), min(0, 0, 0, 10)},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := NewAllowance(Limits{Batch: 3, Pause: 10 * time.Minute}, Sent{Lately: c.lately}, now)
			for i, want := range c.want {
				if what, wait := a.Admit(1); wait != want || (what == Goes) != (want == 0) {
					t.Errorf("email %d: %d after %s, want %s", i, what, wait, want)
				}
			}
		})
	}
	if (Limits{Batch: 3}).Limited() || !(Limits{Batch: 3, Pause: 1}).Limited() {
		t.Error("a batch without a pause is no limit")
	}
}

// What a limit has no room for within a week of its due time is missed.
func TestWaits(t *testing.T) {
	due := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for after, want := range map[time.Duration]State{time.Hour: Held, CapSpan: Held, CapSpan + time.Second: Missed} {
		if got := (PersonLimit{N: 1, Within: "P1D"}).Becomes(due, due.Add(after)); got != want ||
			Waits(due, due.Add(after)) != want {
			t.Errorf("room after %s: %s, want %s", after, got, want)
		}
		if got := (PersonLimit{N: 1, Within: "P1D", Skip: true}).Becomes(due, due.Add(after)); got != Skipped {
			t.Errorf("room after %s: %s, want skipped", after, got)
		}
	}
}

func TestThrough(t *testing.T) {
	first := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name    string
		limits  Limits
		waiting int
		want    time.Duration // after the first
	}{
		{"nothing waits", Limits{Pace: 30}, 0, 0},
		{"the last of one goes with the first", Limits{Pace: 30}, 1, 0},
		{"one every two seconds", Limits{Pace: 30}, 31, time.Minute},
		{"a pause after each batch", Limits{Batch: 10, Pause: 5 * time.Minute}, 21, 10 * time.Minute},
		{"a full batch pauses only before the next", Limits{Batch: 10, Pause: 5 * time.Minute}, 10, 0},
		{"both", Limits{Pace: 60, Batch: 10, Pause: time.Minute}, 11, 70 * time.Second},
		{"no limit", Limits{}, 1000, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := c.limits.Through(first, c.waiting).Sub(first); got != c.want {
				t.Errorf("%v after the first, want %v", got, c.want)
			}
		})
	}
}

func TestConnections(t *testing.T) {
	for _, c := range []struct {
		name         string
		set, learned int
		since        time.Duration
		processes    int
		want         int
	}{
		{"nothing is known", 0, 0, 0, 2, 0},
		{"a person allows some", 6, 0, 0, 2, 3},
		{"the server has allowed fewer", 6, 2, 0, 1, 2},
		{"it is given one more an hour", 6, 2, 2*time.Hour + time.Minute, 1, 4},
		{"never more than a person allows", 6, 2, 9 * time.Hour, 1, 6},
		{"each process has one", 0, 2, 0, 4, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := Connections(c.set, c.learned, c.since, c.processes); got != c.want {
				t.Errorf("%d, want %d", got, c.want)
			}
		})
	}
}

func TestProbeAfter(t *testing.T) {
	for n, want := range map[int]time.Duration{1: time.Minute, 2: 5 * time.Minute, 3: 15 * time.Minute, 4: time.Hour,
		99: time.Hour} {
		if got := ProbeAfter(n); got != want {
			t.Errorf("try %d after %v, want %v", n, got, want)
		}
	}
}
