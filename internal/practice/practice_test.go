package practice

import (
	"context"
	"errors"
	"net"
	"net/smtp"
	"strings"
	"sync"
	"testing"
	"time"
)

func TestWishes(t *testing.T) {
	for address, want := range map[string]string{
		"ada@x.example": "", "ada.refuse@x.example": "refuse", "Ada+REFUSE@x.example": "refuse",
		"refuse@x.example": "refuse", "defer-2@x.example": "defer",
		"a.defer-11.b@x.example": "defer", "drop-after.ada@x.example": "drop-after", "ada_slow@x.example": "slow",
		"fail-ada@x.example": "fail",
		"refused@x.example":  "", "slowly@x.example": "", "ada@refuse.example": "", "defer@x.example": "",
	} {
		if got, _ := wishOf(address); got != want {
			t.Errorf("%s asks for %q, want %q", address, got, want)
		}
	}
	if _, n := wishOf("a.defer-11.b@x.example"); n != 11 {
		t.Errorf("deferred %d times", n)
	}
}

// The server takes a mail as it is, and behaves as its addresses ask.
func TestServer(t *testing.T) {
	var mu sync.Mutex
	var kept []*Message
	full := false
	s := New(func(_ context.Context, m *Message) error {
		mu.Lock()
		defer mu.Unlock()
		if full {
			return errors.New("no room")
		}
		kept = append(kept, m)
		return nil
	})
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(kept)
	}
	s.Slow = 30 * time.Millisecond
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = s.Serve(l) }()
	defer s.Close()
	letter := "Message-ID: <a1@marrowby.example>\r\nSubject: =?UTF-8?q?R=C3=BCckgabe?=\r\nFrom: " +
		"desk@marrowby.example\r\nContent-Type: multipart/alternative; boundary=b\r\n\r\n" +
		"--b\r\nContent-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: " +
		"quoted-printable\r\n\r\nZur=FCck\r\n--b\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<p>Zurück</p>\r\n--b--\r\n"
	send := func(to ...string) error {
		return smtp.SendMail(l.Addr().String(), nil, "desk@marrowby.example", to, []byte(letter))
	}
	if err := send("ada@x.example", "ben@x.example"); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	m := kept[0]
	mu.Unlock()
	if m.From != "desk@marrowby.example" || strings.Join(m.To, " ") != "ada@x.example ben@x.example" ||
		m.MessageID != "a1@marrowby.example" || m.Subject != "Rückgabe" {
		t.Errorf("%+v", m)
	}
	c, err := Open(m.Raw)
	if err != nil || strings.TrimSpace(c.Text) != "Zurück" || strings.TrimSpace(c.HTML) != "<p>Zurück</p>" ||
		len(c.Headers) != 4 || c.Headers[1][1] != "Rückgabe" {
		t.Errorf("%+v %v", c, err)
	}
	for to, want := range map[string]string{"refuse@x.example": "550", "fail@x.example": "554",
		"drop-before@x.example": "EOF"} {
		if err := send(to); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", to, err, want)
		}
	}
	for i := range 3 {
		err := send("defer-2@x.example")
		if (err == nil) != (i == 2) || err != nil && !strings.Contains(err.Error(), "450") {
			t.Errorf("try %d: %v", i+1, err)
		}
	}
	before := time.Now()
	if err := send("slow@x.example"); err != nil || time.Since(before) < s.Slow {
		t.Errorf("slow: %v", err)
	}
	if n := count(); n != 3 {
		t.Errorf("%d kept", n)
	}
	if err := send("drop-after@x.example"); err == nil || count() != 4 {
		t.Errorf("hung up after the message: %v, %d kept", err, count())
	}
	mu.Lock()
	full = true
	mu.Unlock()
	if err := send("ada@x.example"); err == nil || !strings.Contains(err.Error(), "451") {
		t.Errorf("no room: %v", err)
	}
}
