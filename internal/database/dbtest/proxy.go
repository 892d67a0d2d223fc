package dbtest

import (
	"bytes"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// Proxy stands between a program and the database, and can lose answers: what
// was asked for is done, and the connection is cut before the answer.
type Proxy struct {
	DSN  string       // of the database, through the proxy
	lose atomic.Int64 // how many commits' answers are still to be lost
	Lost atomic.Int64 // how many have been
	cut  atomic.Int64 // so many times more the program may ask; 0 for as often as it likes
	away atomic.Bool
	open sync.Map // net.Conn
}

// NewProxy starts a proxy before a database for the time of the test.
func NewProxy(t testing.TB, dsn string) *Proxy {
	t.Helper()
	user, rest, _ := strings.Cut(dsn, "@")
	network, rest, _ := strings.Cut(rest, "(")
	addr, rest, ok := strings.Cut(rest, ")")
	if !ok {
		t.Fatalf("%s names no address", dsn)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	p := &Proxy{DSN: user + "@tcp(" + l.Addr().String() + ")" + rest}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.carry(c, network, addr)
		}
	}()
	return p
}

// LoseCommits has the answers of the next n commits lost.
func (p *Proxy) LoseCommits(n int) { p.lose.Store(int64(n)) }

// CutAfter has the connection cut on which the program asks for the n-th time from now, as if it were killed
// right after. 0 cuts none.
func (p *Proxy) CutAfter(n int) { p.cut.Store(int64(n)) }

// Cut reports whether the connection has been cut since CutAfter.
func (p *Proxy) Cut() bool { return p.cut.Load() == 0 }

func (p *Proxy) carry(c net.Conn, network, addr string) {
	defer c.Close()
	if p.away.Load() {
		return
	}
	p.open.Store(c, nil)
	defer p.open.Delete(c)
	s, err := net.Dial(network, addr)
	if err != nil {
		return
	}
	defer s.Close()
	var cut atomic.Bool
	go func() { // what the server answers
		defer c.Close()
		b := make([]byte, 64<<10)
		for {
			n, err := s.Read(b)
			if err != nil || cut.Load() {
				return
			}
			if _, err := c.Write(b[:n]); err != nil {
				return
			}
		}
	}()
	b := make([]byte, 64<<10)
	for {
		n, err := c.Read(b)
		if err != nil {
			return
		}
		if bytes.Contains(b[:n], []byte("COMMIT")) && p.lose.Add(-1) >= 0 {
			p.Lost.Add(1)
			cut.Store(true)
		}
		if _, err := s.Write(b[:n]); err != nil {
			return
		}
		if p.cut.Load() > 0 && p.cut.Add(-1) == 0 {
			return
		}
	}
}

// Stop cuts every connection and takes no new ones, as a database that is away.
func (p *Proxy) Stop() {
	p.away.Store(true)
	p.open.Range(func(c, _ any) bool {
		c.(net.Conn).Close()
		return true
	})
}

// Start ends what Stop began.
func (p *Proxy) Start() { p.away.Store(false) }
