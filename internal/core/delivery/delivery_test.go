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
				case to == Sending && (s != Claimed || by != Marking):
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
		"[sending in-doubt]":         From(Failed, Answering)[1:],
		"[claimed]":                  From(Sending, Marking),
		"[queued deferred]":          From(Claimed, Claiming),
		"[]":                         From(Sending, Answering),
		"[claimed sending in-doubt]": From(Accepted, Answering),
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
	a := NewAllowance(10, 3, 0, 0)
	for i, c := range []struct {
		n    int
		want Admission
	}{{4, Goes}, {3, Goes}, {1, WaitsDay}, {0, WaitsDay}} {
		if got, _ := a.Admit(c.n); got != c.want {
			t.Errorf("cap, email %d: %d, want %d", i, got, c.want)
		}
	}
	if got, _ := NewAllowance(10, 8, 0, 0).Admit(3); got != WaitsDay {
		t.Error("an email goes whole or not at all")
	}
	a = NewAllowance(0, 99, 4, 2)
	for i, want := range []time.Duration{0, 0, 15 * time.Second, 30 * time.Second, 45 * time.Second} {
		if what, wait := a.Admit(1); wait != want || (what == Goes) != (want == 0) {
			t.Errorf("pace, email %d: %d after %s, want %s", i, what, wait, want)
		}
	}
}
