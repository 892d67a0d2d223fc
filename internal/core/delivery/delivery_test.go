package delivery

import (
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
	for _, s := range States {
		if Can(s, Sending) && s != Claimed {
			t.Errorf("%s leads to sending", s)
		}
		if Can(s, Claimed) && s != Queued && s != Deferred {
			t.Errorf("%s can be claimed", s)
		}
		if Can(s, Queued) && !Resendable(s) && s != Incomplete && s != Held && s != Claimed {
			t.Errorf("%s goes back to queued", s)
		}
	}
	if Can(Sending, Queued) {
		t.Error("sending goes back to queued: after a crash it has to be in doubt")
	}
	for _, end := range []State{Skipped, Dropped} {
		for _, s := range States {
			if Can(end, s) {
				t.Errorf("%s is an end, but leads to %s", end, s)
			}
		}
	}
	for from, tos := range arrows {
		for _, to := range tos {
			known := false
			for _, s := range States {
				known = known || s == to
			}
			if !known {
				t.Errorf("%q leads to %q, which is no state", from, to)
			}
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
