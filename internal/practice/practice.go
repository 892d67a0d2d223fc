// Package practice is the practice mail server: it takes mail by real SMTP on
// loopback, hands it to a keeper, and behaves badly where the address of a
// recipient asks for it.
//
// What an address asks for stands in its local part, behind a plus sign or as
// a word of its own parted by dots or dashes:
//
//	refuse            550 at RCPT, always
//	defer-2           450 at RCPT, the first two times
//	drop-before       hangs up at RCPT, before the message
//	drop-after        takes the message, then hangs up without a reply
//	slow              takes three seconds over the message
//	fail              554 after the message
package practice

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/mail"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Message is a mail that was taken.
type Message struct {
	From      string
	To        []string
	Subject   string
	MessageID string // without angle brackets
	Raw       []byte
}

// Keeper keeps what the server takes. An error makes the server answer 451.
type Keeper func(ctx context.Context, m *Message) error

// Server is a practice mail server.
type Server struct {
	Slow time.Duration // how long "slow" takes

	keep   Keeper
	smtp   *smtp.Server
	mu     sync.Mutex
	defers map[string]int // how often an address has been put off
}

// maxBytes is the largest message the server takes.
const maxBytes = 30 << 20

// New makes a server that hands what it takes to keep.
func New(keep Keeper) *Server {
	s := &Server{keep: keep, defers: map[string]int{}, Slow: 3 * time.Second}
	s.smtp = smtp.NewServer(s)
	s.smtp.Domain = "practice.marrowby.example"
	s.smtp.MaxMessageBytes = maxBytes
	s.smtp.MaxRecipients = 200
	s.smtp.AllowInsecureAuth = true
	s.smtp.ErrorLog = quiet{}
	return s
}

type quiet struct{}

func (quiet) Printf(format string, v ...any) { slog.Debug("practice mail server", "what", format) }
func (quiet) Println(v ...any)               {}

// Serve takes mail on a listener until Close.
func (s *Server) Serve(l net.Listener) error {
	err := s.smtp.Serve(l)
	if errors.Is(err, smtp.ErrServerClosed) {
		return nil
	}
	return err
}

// Close stops the server and hangs up on everybody.
func (s *Server) Close() error { return s.smtp.Close() }

// NewSession implements smtp.Backend.
func (s *Server) NewSession(c *smtp.Conn) (smtp.Session, error) {
	return &session{server: s, conn: c}, nil
}

type session struct {
	server *Server
	conn   *smtp.Conn
	from   string
	to     []string
}

func (x *session) Reset()        { x.from, x.to = "", nil }
func (x *session) Logout() error { return nil }

func (x *session) Mail(from string, _ *smtp.MailOptions) error {
	x.from = from
	return nil
}

// wish is one of the words that an address may hold.
var wish = regexp.MustCompile(`(?:^|[.+_-])(refuse|defer-(\d+)|drop-before|drop-after|slow|fail)(?:$|[.+_-])`)

// wishOf gives what an address asks for, "" for nothing, and n of defer-n.
func wishOf(address string) (what string, n int) {
	local, _, _ := strings.Cut(strings.ToLower(address), "@")
	m := wish.FindStringSubmatch(local)
	if m == nil {
		return "", 0
	}
	if m[2] != "" {
		n, _ = strconv.Atoi(m[2])
		return "defer", n
	}
	return m[1], 0
}

func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	what, n := wishOf(to)
	switch what {
	case "drop-before":
		x.conn.Conn().Close()
		return errors.New("hung up")
	case "refuse":
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such mailbox here"}
	case "defer":
		if x.server.countDefer(to) <= n {
			return &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 1},
				Message: "mailbox is busy, try again later"}
		}
	}
	x.to = append(x.to, to)
	return nil
}

func (s *Server) countDefer(address string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := strings.ToLower(address)
	s.defers[k]++
	return s.defers[k]
}

func (x *session) wants(what string) bool {
	for _, t := range x.to {
		if w, _ := wishOf(t); w == what {
			return true
		}
	}
	return false
}

func (x *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if x.wants("slow") {
		time.Sleep(x.server.Slow)
	}
	if x.wants("fail") {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "the message is not wanted"}
	}
	m := &Message{From: x.from, To: append([]string(nil), x.to...), Raw: raw}
	if parsed, err := mail.ReadMessage(bytes.NewReader(raw)); err == nil {
		m.MessageID = strings.Trim(parsed.Header.Get("Message-Id"), "<> ")
		m.Subject = decodeHeader(parsed.Header.Get("Subject"))
	}
	if err := x.server.keep(context.Background(), m); err != nil {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "cannot keep the message now"}
	}
	if x.wants("drop-after") {
		x.conn.Conn().Close()
		return errors.New("hung up")
	}
	return nil
}
