package mail

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/wneessen/go-mail/smtp"

	"nivot/internal/core/reason"
)

// Security says how a connection to a mail server is protected.
type Security string

// The kinds of protection. Plain is for loopback, and elsewhere only where a
// person has switched protection off by name.
const (
	StartTLS Security = "starttls"
	TLS      Security = "tls"
	Plain    Security = "none"
)

// Server is a mail server and how to sign in to it.
type Server struct {
	Host     string
	Port     int
	Security Security
	Username string
	Password string
}

// Reply is what a server answered (RFC 5321, section 4.2).
type Reply struct {
	Code int
	Text string
}

func (r Reply) String() string { return fmt.Sprintf("%d %s", r.Code, r.Text) }

// Temporary tells whether the reply is 4yz: try again later.
func (r Reply) Temporary() bool { return r.Code >= 400 && r.Code < 500 }

// Positive tells whether the reply is 2yz.
func (r Reply) Positive() bool { return r.Code >= 200 && r.Code < 300 }

// ReplyError is a reply that refuses.
type ReplyError struct{ Reply Reply }

func (e *ReplyError) Error() string { return e.Reply.String() }

// Timeouts of RFC 5321, section 4.5.3.2, shortened where a person would have
// given up; what follows the final dot keeps its ten minutes.
const (
	connectTimeout = 30 * time.Second
	commandTimeout = 2 * time.Minute
	dataTimeout    = 3 * time.Minute
	finishTimeout  = 10 * time.Minute
	tlsTimeout     = 5 * time.Second
)

// Client is one SMTP connection (RFC 5321) that sends one message after the
// other. It is not safe for concurrent use.
type Client struct {
	server     Server
	conn       net.Conn
	r          *textproto.Reader
	w          *bufio.Writer
	pipelining bool // RFC 2920
	extensions map[string]string
}

// Dial connects, says EHLO, protects the connection and signs in. An error is a *Fault. It ends when the
// context does.
func Dial(ctx context.Context, s Server, helo string) (*Client, error) {
	d := net.Dialer{Timeout: connectTimeout}
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
	if err != nil {
		return nil, dialFault(Connecting, s.Place(), err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c := &Client{server: s}
	if err := c.greet(ctx, conn, helo); err != nil {
		conn.Close()
		f := dialFault(Connecting, s.Place(), err)
		if ctx.Err() != nil && f.Reply.Code == 0 {
			f.Code = reason.NoAnswer
		}
		if f.Code == reason.NoAnswer && s.Security != TLS && f.Step == Connecting && beginsWithTLS(ctx, s) {
			f.Code = reason.BeginsWithTLS
		}
		return nil, f
	}
	return c, nil
}

// beginsWithTLS reports whether a server that has not greeted anybody waits for TLS to begin.
func beginsWithTLS(ctx context.Context, s Server) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), tlsTimeout)
	defer cancel()
	// Whose certificate it is does not matter here: nothing is said.
	d := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}} //nolint:gosec // see above
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

func (c *Client) use(conn net.Conn) {
	c.conn = conn
	c.r = textproto.NewReader(bufio.NewReaderSize(conn, 4096))
	c.w = bufio.NewWriterSize(conn, 32<<10)
}

// greet is the talk before the first message. Where the context ends at some instant, the greeting is
// waited for so long that there is time left to find out why there is none.
func (c *Client) greet(ctx context.Context, conn net.Conn, helo string) error {
	s := c.server
	wait := commandTimeout
	if until, ok := ctx.Deadline(); ok {
		wait = min(wait, time.Until(until)/2)
	}
	if s.Security == TLS {
		t := tls.Client(conn, &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12})
		_ = conn.SetDeadline(time.Now().Add(wait))
		if err := t.HandshakeContext(ctx); err != nil {
			return dialFault(Protecting, s.Place(), err)
		}
		conn = t
	}
	c.use(conn)
	c.deadline(wait)
	if _, err := c.expect(220); err != nil {
		return err
	}
	c.deadline(commandTimeout)
	if err := c.ehlo(helo); err != nil {
		return err
	}
	if s.Security == StartTLS {
		if err := c.startTLS(ctx, helo); err != nil {
			return dialFault(Protecting, s.Place(), err)
		}
	}
	if s.Username == "" {
		return nil
	}
	if _, protected := c.conn.(*tls.Conn); !protected && !loopback(s.Host) {
		return &Fault{Step: SigningIn, Code: reason.Unprotected, Place: s.Place()}
	}
	if err := c.signIn(s); err != nil {
		return dialFault(SigningIn, s.Place(), err)
	}
	return nil
}

// startTLS protects a connection that has begun without (RFC 3207).
func (c *Client) startTLS(ctx context.Context, helo string) error {
	s := c.server
	if _, ok := c.extensions["STARTTLS"]; !ok {
		return &Fault{Step: Protecting, Code: reason.NoStartTLS, Place: s.Place()}
	}
	if _, err := c.command(220, "STARTTLS"); err != nil {
		return err
	}
	t := tls.Client(c.conn, &tls.Config{ServerName: s.Host, MinVersion: tls.VersionTLS12})
	if err := t.HandshakeContext(ctx); err != nil {
		return err
	}
	c.use(t)
	return c.ehlo(helo)
}

// signIn signs in by the first of the ways that the server offers (RFC 4954) and that are known
// here; those that do not show it the password come first.
func (c *Client) signIn(s Server) error {
	offered, ok := c.extensions["AUTH"]
	none := &Fault{Step: SigningIn, Code: reason.NoSignIn, Place: s.Place()}
	if !ok {
		return none
	}
	ways := strings.Fields(strings.ToUpper(offered))
	for _, way := range []struct {
		name string
		auth smtp.Auth
	}{
		{"SCRAM-SHA-256", smtp.ScramSHA256Auth(s.Username, s.Password)},
		{"SCRAM-SHA-1", smtp.ScramSHA1Auth(s.Username, s.Password)},
		{"PLAIN", smtp.PlainAuth("", s.Username, s.Password, s.Host, true)},
		{"LOGIN", smtp.LoginAuth(s.Username, s.Password, s.Host, true)},
	} {
		if !slices.Contains(ways, way.name) {
			continue
		}
		return c.authenticate(s, way.auth)
	}
	none.Err = fmt.Errorf("the mail server offers signing in by %s; Nivot knows SCRAM, PLAIN and LOGIN", offered)
	return none
}

// authenticate leads the talk of AUTH (RFC 4954, section 4).
func (c *Client) authenticate(s Server, auth smtp.Auth) error {
	_, protected := c.conn.(*tls.Conn)
	name, first, err := auth.Start(&smtp.ServerInfo{Name: s.Host, TLS: protected,
		Auth: strings.Fields(c.extensions["AUTH"])})
	if err != nil {
		return err
	}
	line := "AUTH " + name
	switch {
	case first != nil && len(first) == 0:
		line += " ="
	case first != nil:
		line += " " + base64.StdEncoding.EncodeToString(first)
	}
	for {
		r, err := c.step(line)
		if err != nil {
			return err
		}
		if r.Code != 334 && r.Code != 235 {
			return &ReplyError{r}
		}
		var said []byte
		if r.Code == 334 {
			if said, err = base64.StdEncoding.DecodeString(r.Text); err != nil {
				return fmt.Errorf("the mail server said %q, which cannot be read", r.Text)
			}
		}
		answer, err := auth.Next(said, r.Code == 334)
		if err != nil {
			if r.Code == 334 {
				_, _ = c.step("*")
			}
			return err
		}
		if r.Code == 235 {
			return nil
		}
		line = base64.StdEncoding.EncodeToString(answer)
	}
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (c *Client) ehlo(helo string) error {
	r, err := c.command(250, "EHLO "+helo)
	if err != nil {
		return err
	}
	c.extensions = map[string]string{}
	for _, line := range strings.Split(r.Text, "\n")[1:] {
		name, args, _ := strings.Cut(line, " ")
		c.extensions[strings.ToUpper(name)] = args
	}
	_, c.pipelining = c.extensions["PIPELINING"]
	return nil
}

func (c *Client) deadline(d time.Duration) { _ = c.conn.SetDeadline(time.Now().Add(d)) }

func (c *Client) command(want int, line string) (Reply, error) {
	if _, err := c.w.WriteString(line + "\r\n"); err != nil {
		return Reply{}, err
	}
	if err := c.w.Flush(); err != nil {
		return Reply{}, err
	}
	return c.expect(want)
}

func (c *Client) read() (Reply, error) {
	code, text, err := c.r.ReadResponse(0)
	var pe *textproto.Error
	if errors.As(err, &pe) {
		return Reply{pe.Code, pe.Msg}, nil
	}
	return Reply{code, text}, err
}

func (c *Client) expect(want int) (Reply, error) {
	r, err := c.read()
	if err == nil && r.Code != want {
		err = &ReplyError{r}
	}
	return r, err
}

// Outcome is what the server said to a message's envelope.
type Outcome struct {
	Recipients []Reply // one for each recipient, in order
	Refused    Reply   // set where MAIL or DATA was refused: then nothing may be sent
	Step       Step    // at which it was
	HungUp     bool    // the server has hung up after it
}

// closes notes a reply after which a server hangs up (RFC 5321, section 3.8), and reports whether r is one.
func (o *Outcome) closes(step Step, r Reply) bool {
	if r.Code != 421 {
		return false
	}
	o.Refused, o.Step, o.HungUp, o.Recipients = r, step, true, nil
	return true
}

// SizeLimit returns how many bytes a message may have (RFC 1870); 0 where the server does not say.
func (c *Client) SizeLimit() int {
	n, err := strconv.Atoi(strings.TrimSpace(c.extensions["SIZE"]))
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// Begin gives the envelope: MAIL, RCPT and DATA, in one round trip where the
// server knows PIPELINING. ready says that the server waits for the message.
// An error means that contact is lost and nothing was handed over.
//
// allowed decides from the replies to the recipients whether the message may
// go; where it may not, nothing is handed over and the connection is closed
// if the server already waits for the message. size is how many bytes the message has.
func (c *Client) Begin(from string, to []string, size int, allowed func([]Reply) bool) (out Outcome, ready bool,
	err error) {
	c.deadline(commandTimeout)
	lines := make([]string, 0, len(to)+2)
	mailFrom := "MAIL FROM:<" + from + ">"
	if _, ok := c.extensions["SIZE"]; ok {
		mailFrom += " SIZE=" + strconv.Itoa(size)
	}
	lines = append(lines, mailFrom)
	for _, t := range to {
		lines = append(lines, "RCPT TO:<"+t+">")
	}
	for _, l := range lines {
		if strings.ContainsAny(l, "\r\n") {
			return out, false, errors.New("an address holds a line break")
		}
	}
	if c.pipelining {
		return c.pipeline(lines, allowed)
	}
	mail, err := c.step(lines[0])
	if err != nil || !mail.Positive() {
		if err != nil || !out.closes(NamingSender, mail) {
			out.Refused, out.Step = mail, NamingSender
		}
		return out, false, err
	}
	for _, l := range lines[1:] {
		r, err := c.step(l)
		if err != nil || out.closes(NamingRecipient, r) {
			return out, false, err
		}
		out.Recipients = append(out.Recipients, r)
	}
	if !allowed(out.Recipients) {
		_, err := c.step("RSET")
		return out, false, err
	}
	data, err := c.step("DATA")
	if err == nil && data.Code != 354 {
		if !out.closes(HandingOver, data) {
			out.Refused, out.Step = data, HandingOver
		}
		return out, false, nil
	}
	return out, err == nil, err
}

func (c *Client) step(line string) (Reply, error) {
	if _, err := c.w.WriteString(line + "\r\n"); err != nil {
		return Reply{}, err
	}
	if err := c.w.Flush(); err != nil {
		return Reply{}, err
	}
	return c.read()
}

func (c *Client) pipeline(lines []string, allowed func([]Reply) bool) (out Outcome, ready bool, err error) {
	for _, l := range append(lines, "DATA") {
		if _, err := c.w.WriteString(l + "\r\n"); err != nil {
			return out, false, err
		}
	}
	if err := c.w.Flush(); err != nil {
		return out, false, err
	}
	mail, err := c.read()
	if err != nil || out.closes(NamingSender, mail) {
		return out, false, err
	}
	for range lines[1:] {
		r, err := c.read()
		if err != nil || out.closes(NamingRecipient, r) {
			return out, false, err
		}
		out.Recipients = append(out.Recipients, r)
	}
	data, err := c.read()
	if err != nil || out.closes(HandingOver, data) {
		return out, false, err
	}
	switch {
	case !mail.Positive():
		out.Refused, out.Step, out.Recipients = mail, NamingSender, nil
	case data.Code != 354 && allowed(out.Recipients):
		out.Refused, out.Step = data, HandingOver
	case data.Code == 354 && allowed(out.Recipients):
		return out, true, nil
	}
	if data.Code == 354 {
		// The server waits for a message that must not go. Only hanging up
		// before the final dot hands nothing over (RFC 5321, section 4.1.1.4).
		c.conn.Close()
		return out, false, nil
	}
	_, err = c.step("RSET")
	return out, false, err
}

// Body sends the message's text without its final dot. What the server has
// then is no message yet.
func (c *Client) Body(msg []byte) error {
	c.deadline(dataTimeout)
	for len(msg) > 0 {
		i := 0
		for i < len(msg) && msg[i] != '\n' {
			i++
		}
		line := msg[:min(i+1, len(msg))]
		msg = msg[len(line):]
		if line[0] == '.' {
			if err := c.w.WriteByte('.'); err != nil {
				return err
			}
		}
		if _, err := c.w.Write(line); err != nil {
			return err
		}
		if len(msg) == 0 && line[len(line)-1] != '\n' {
			if _, err := c.w.WriteString("\r\n"); err != nil {
				return err
			}
		}
	}
	return c.w.Flush()
}

// ErrHungUp says that the server had hung up before the final dot was sent:
// nothing was handed over.
var ErrHungUp = errors.New("the mail server hung up before the email was handed over")

// Open tells, without waiting, whether the server still listens. Asked just
// before the final dot it tells most losses of contact before the hand-over
// from those after it.
func (c *Client) Open() bool {
	conn := c.conn
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	sc, ok := conn.(syscall.Conn)
	if !ok {
		return true
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return false
	}
	open := false
	var b [1]byte
	err = raw.Read(func(fd uintptr) bool {
		n, _, err := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		// Nothing to read is what is expected; 0 bytes are the other end's end.
		open = errors.Is(err, syscall.EAGAIN) || err == nil && n > 0
		return true
	})
	return err == nil && open
}

// Finish sends the final dot and reads the reply. ErrHungUp means that the dot
// was not sent. Any other error means that contact was lost after the
// hand-over: whether the server took the message cannot be known.
func (c *Client) Finish() (Reply, error) {
	if !c.Open() {
		return Reply{}, ErrHungUp
	}
	c.deadline(finishTimeout)
	if _, err := c.w.WriteString(".\r\n"); err != nil {
		return Reply{}, err
	}
	if err := c.w.Flush(); err != nil {
		return Reply{}, err
	}
	return c.read()
}

// Close hangs up, politely where the connection still works.
func (c *Client) Close() {
	_ = c.conn.SetDeadline(time.Now().Add(200 * time.Millisecond))
	_, _ = io.WriteString(c.conn, "QUIT\r\n")
	c.conn.Close()
}

// Drop hangs up at once.
func (c *Client) Drop() { c.conn.Close() }
