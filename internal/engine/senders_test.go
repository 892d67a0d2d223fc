package engine

import (
	"context"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/practice"
	"nivot/internal/store"
)

// A sender's new server and name hold at once, also while connections to the old one are kept.
func TestSenderChangesWhileMailFlows(t *testing.T) {
	f := stillFixture(t, "2027-03-12T08:00:00Z")
	var mu sync.Mutex
	var there []*practice.Message
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	other := practice.New(func(_ context.Context, m *practice.Message) error {
		mu.Lock()
		defer mu.Unlock()
		there = append(there, m)
		return nil
	})
	go func() { _ = other.Serve(l) }()
	t.Cleanup(func() { other.Close() })
	var port int
	f.sender(func(s *store.Sender) { port = s.Port })
	const all = 60
	manyLoans(t, f.Engine, all, "2027-03-19", port)
	f.slow = 40 * time.Millisecond
	f.run()
	f.mu.Lock()
	f.clock = at("2027-03-12T09:00:00Z")
	f.mu.Unlock()
	f.Wake()
	arrived := func() int {
		f.mu.Lock()
		defer f.mu.Unlock()
		return len(f.mails)
	}
	until := func(what string, ok func() bool) {
		t.Helper()
		for end := time.Now().Add(2 * time.Minute); !ok(); time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s did not come", what)
			}
		}
	}
	until("mail", func() bool { return arrived() >= 3 })
	f.sender(func(s *store.Sender) {
		s.Port, s.Name = l.Addr().(*net.TCPAddr).Port, "Registrar"
	})
	f.SendersChanged()
	before := arrived()
	until("the rest", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return arrived()+len(there) == all
	})
	// What was being handed over goes where it was begun.
	if got := arrived(); got > before+f.opts.Connections {
		t.Errorf("%d emails went to the old server after the change, with %d connections", got-before, f.opts.Connections)
	}
	for _, m := range there {
		if !strings.Contains(string(m.Raw), "From: \"Registrar\"") && !strings.Contains(string(m.Raw), "From: Registrar") {
			t.Fatalf("an email over the new server under the old name:\n%.300s", m.Raw)
		}
	}
}
