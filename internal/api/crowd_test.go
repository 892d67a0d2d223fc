package api

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"strings"
	"testing"
	"time"
)

// crowded serves a site with few connections, and returns its address.
func crowded(t *testing.T, s *site, most, ofPlace int) (c *crowd, address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c = s.h.s.listen(l, most, ofPlace)
	srv := &http.Server{}
	done := make(chan error)
	go func() { done <- s.h.serve(srv, c) }()
	t.Cleanup(func() { srv.Close(); <-done })
	return c, l.Addr().String()
}

// says opens a connection and sends a beginning.
func says(t *testing.T, address, text string) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	if _, err := io.WriteString(conn, text); err != nil {
		t.Fatal(err)
	}
	return conn
}

func (c *crowd) size() (all, ofPlaces int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, of := range c.places {
		ofPlaces += len(of)
	}
	return len(c.all), ofPlaces
}

// Connections that say nothing, or say it slowly, keep nobody out.
func TestCrowd(t *testing.T) {
	const ofPlace = 20
	for _, k := range []struct{ name, text string }{
		{"silent", ""},
		{"slow headers", "GET / HTTP/1.1\r\nHost: x\r\nX-A: "},
		{"idle", "GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n"},
		{"slow bodies", "POST /api/session HTTP/1.1\r\nHost: x\r\nSec-Fetch-Site: same-origin\r\n" +
			"Content-Type: application/json\r\nContent-Length: 1000\r\n\r\n{"},
		{"slow forms", "POST /forms/x HTTP/1.1\r\nHost: x\r\nContent-Type: application/x-www-form-urlencoded\r\n" +
			"Content-Length: 1000\r\n\r\na"},
	} {
		t.Run(k.name, func(t *testing.T) {
			s := newSite(t, true)
			c, address := crowded(t, s, 1000, ofPlace)
			for i := range 3 * ofPlace {
				says(t, address, k.text)
				if i < ofPlace { // one after the other, so that it is known who is there
					until(t, "it is let in", func() bool { all, _ := c.size(); return all >= min(i+1, ofPlace) })
				}
			}
			for range 3 {
				fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
				until(t, "somebody else is answered", func() bool {
					res, err := fresh.Get("http://" + address + "/healthz")
					if err != nil {
						return false // it was the silent one itself, before it could ask
					}
					return body(res) == "ok\n"
				})
			}
			if _, n := c.size(); n > ofPlace {
				t.Errorf("%d connections of one place", n)
			}
		})
	}
	t.Run("who is signed in", func(t *testing.T) {
		s := newSite(t, true)
		c, address := crowded(t, s, 1000, ofPlace)
		jar, _ := cookiejar.New(nil)
		me := &http.Client{Jar: jar}
		there := *s
		there.srv.URL = "http://" + address
		there.want(me, "POST", "/session", fmt.Sprintf(`{"email":"reader@marrowby.example","password":%q}`, password), 200, nil)
		there.want(me, "GET", "/sheets", "", 200, nil)
		if all, of := c.size(); all != 1 || of != 0 {
			t.Errorf("%d connections, of which %d count for their place", all, of)
		}
		for range 2 * ofPlace {
			says(t, address, "")
		}
		until(t, "they are there", func() bool { _, n := c.size(); return n == ofPlace })
		there.want(me, "GET", "/sheets", "", 200, nil)
		until(t, "those that gave way are gone", func() bool { all, _ := c.size(); return all <= ofPlace+1 })
	})
	t.Run("in all", func(t *testing.T) {
		s := newSite(t, false)
		s.h.s.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} // no one place
		c, address := crowded(t, s, 50, ofPlace)
		for range 60 {
			says(t, address, "")
		}
		until(t, "they are there", func() bool { all, of := c.size(); return all == 50 && of == 0 })
	})
	t.Run("who is being answered stays", func(t *testing.T) {
		c := &crowd{most: 10, ofPlace: 2, all: map[*guest]bool{}, places: map[string]map[*guest]bool{}}
		a, b, x := &guest{c: c, place: "p"}, &guest{c: c, place: "p"}, &guest{c: c, place: "p"}
		for _, g := range []*guest{a, b} {
			if leaves, goes, in := c.enter(g); leaves != nil || goes != nil || !in {
				t.Fatal(leaves, goes, in)
			}
			g.works(1)
		}
		if _, _, in := c.enter(x); in {
			t.Error("let in though nobody is silent")
		}
		b.works(1)
		b.works(-1)
		if _, _, in := c.enter(x); in {
			t.Error("let in though the other still has a request under way")
		}
		a.works(-1)
		if leaves, _, in := c.enter(x); leaves != a || !in {
			t.Error("the silent one has not given way")
		}
	})
}

// A request's headers have to be there soon.
func TestSlowHeadersEnd(t *testing.T) {
	s := newSite(t, false)
	_, address := crowded(t, s, 10, 10)
	conn := says(t, address, "GET / HTTP/1.1\r\nHost: x\r\n")
	_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
	if _, err := bufio.NewReader(conn).ReadString('x'); !errors.Is(err, io.EOF) && (err == nil ||
		strings.Contains(err.Error(), "timeout")) {
		t.Errorf("still open: %v", err)
	}
}
