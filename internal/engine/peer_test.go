package engine

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync/atomic"
	"testing"
	"time"

	"nivot/internal/store"
)

// peerDSN names the environment variable that makes the test binary run as a
// second server on a test's database.
const peerDSN = "NIVOT_TEST_PEER"

// peer is a second server, a process of its own, whose clock the test moves
// through a pipe.
type peer struct {
	t   *testing.T
	in  io.WriteCloser
	out *bufio.Reader
}

func startPeer(t *testing.T, dsn string, now time.Time) *peer {
	t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), peerDSN+"="+dsn)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		if err := cmd.Wait(); err != nil {
			t.Errorf("the second server: %v", err)
		}
	})
	p := &peer{t, in, bufio.NewReader(out)}
	p.tell(now)
	return p
}

// tell moves the peer's clock and waits until it has done so.
func (p *peer) tell(now time.Time) {
	p.t.Helper()
	if _, err := fmt.Fprintln(p.in, now.UnixMicro()); err != nil {
		p.t.Fatal(err)
	}
	if _, err := p.out.ReadString('\n'); err != nil {
		p.t.Fatalf("the second server does not answer: %v", err)
	}
}

// runPeer is the second server: it runs until its standard input ends.
func runPeer(dsn string) error {
	s, err := store.Open(dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	var clock atomic.Int64
	var e *Engine
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
		var micro int64
		if _, err := fmt.Sscan(lines.Text(), &micro); err != nil {
			cancel()
			return err
		}
		clock.Store(micro)
		if e == nil {
			e = New(s, func() time.Time { return time.UnixMicro(clock.Load()).UTC() }, Options{Poll: 20 * time.Millisecond, Lease: 3 * time.Second, Name: "second"})
			go func() { done <- e.Run(ctx) }()
		}
		e.Wake()
		fmt.Println("told")
	}
	cancel()
	if e != nil {
		<-done
	}
	return nil
}
