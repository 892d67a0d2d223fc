package engine

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nivot/internal/store"
)

// peerDSN names the environment variable that makes the test binary run as a
// second server on a test's database.
const peerDSN = "NIVOT_TEST_PEER"

// peerAhead names the one that says how far ahead its agenda is made; "" for as far as usual.
const peerAhead = "NIVOT_TEST_AHEAD"

// peerJumps names the one that has its clock jump now and then.
const peerJumps = "NIVOT_TEST_JUMPS"

// jumpingWall is the second server's own clock: nil for the machine's, else one that is hours off for a
// part of each second.
func jumpingWall() Clock {
	if os.Getenv(peerJumps) == "" {
		return nil
	}
	began := time.Now()
	return func() time.Time {
		now := time.Now()
		switch time.Since(began) / (150 * time.Millisecond) % 7 {
		case 2:
			return now.Add(5 * time.Hour)
		case 5:
			return now.Add(-5 * time.Hour)
		}
		return now
	}
}

// peer is a second server, a process of its own, whose clock the test moves
// through a pipe.
type peer struct {
	t   *testing.T
	in  io.WriteCloser
	out *bufio.Reader
}

func startPeer(f *fixture, dsn string, now time.Time) *peer {
	f.t.Helper()
	t := f.t
	p, cmd := launchPeer(f, dsn)
	t.Cleanup(func() {
		p.in.Close()
		if err := cmd.Wait(); err != nil {
			t.Errorf("the second server: %v", err)
		}
	})
	p.tell(now)
	return p
}

func launchPeer(f *fixture, dsn string) (*peer, *exec.Cmd) {
	f.t.Helper()
	t := f.t
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), peerDSN+"="+dsn)
	if f.peerJumps {
		cmd.Env = append(cmd.Env, peerJumps+"=1")
	}
	if f.opts.Horizon.Rows == 0 {
		cmd.Env = append(cmd.Env, peerAhead+"="+f.opts.Horizon.Ahead.String())
	}
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
	return &peer{t, in, bufio.NewReader(out)}, cmd
}

// victim is a second server that is killed again and again, and started anew.
type victim struct {
	f     *fixture
	mu    sync.Mutex // held while it is told the time, or killed
	peer  *peer
	cmd   *exec.Cmd
	kills int
	stop  chan struct{}
	ended chan struct{}
}

// startVictim starts a second server and kills it at random moments, until the
// test ends or end is called.
func startVictim(f *fixture) *victim {
	f.t.Helper()
	v := &victim{f: f, stop: make(chan struct{}), ended: make(chan struct{})}
	v.start()
	go func() {
		defer close(v.ended)
		for {
			select {
			case <-v.stop:
				return
			case <-time.After(time.Duration(20+rand.IntN(250)) * time.Millisecond):
			}
			v.mu.Lock()
			_ = v.cmd.Process.Kill()
			_ = v.cmd.Wait()
			v.kills++
			v.start()
			v.mu.Unlock()
		}
	}()
	return v
}

func (v *victim) start() {
	v.peer, v.cmd = launchPeer(v.f, v.f.dsn)
	v.peer.tell(v.f.Now())
}

func (v *victim) tell(now time.Time) {
	v.f.t.Helper()
	v.mu.Lock()
	defer v.mu.Unlock()
	v.peer.tell(now)
}

func (v *victim) end() {
	close(v.stop)
	<-v.ended
	v.peer.in.Close()
	_ = v.cmd.Wait()
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
	var horizon Horizon
	if ahead := os.Getenv(peerAhead); ahead != "" {
		if horizon.Ahead, err = time.ParseDuration(ahead); err != nil {
			return err
		}
	}
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
			e = New(s, func() time.Time { return time.UnixMicro(clock.Load()).UTC() }, Options{Poll: 20 * time.Millisecond,
				Lease: 3 * time.Second, Name: "second", Horizon: horizon, Wall: jumpingWall()})
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
