package mail

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"nivot/internal/core/value"
)

func box(t *testing.T, s string) value.Mailbox {
	t.Helper()
	boxes, err := value.ParseMailboxes(s)
	if err != nil || len(boxes) != 1 {
		t.Fatal(s, err)
	}
	return boxes[0]
}

// Whatever the values hold, the message has the headers it was given and no
// others, and its addresses are those it was given.
func TestComposeHeaders(t *testing.T) {
	m := &Message{From: value.Mailbox{Name: "Loans desk", Local: "loans", Domain: "marrowby.example"},
		To: []value.Mailbox{{Name: "Ada \r\nBcc: eve@evil.example", Local: "ada", Domain: "fenwick-hall.example"},
			box(t, "Zoë <zoe@bücher.example>")},
		Cc:      []value.Mailbox{box(t, `"R. Moss, registrar" <r.moss@marrowby.example>`)},
		ReplyTo: []value.Mailbox{box(t, "Zoë Jarrow <zoe@marrowby.example>"), box(t, "desk@marrowby.example")},
		Subject: "Oak bellows\r\nX-Evil: yes", HTML: "<p>Dear Ada</p>", Text: "Dear Ada",
		MessageID: "<0a.1@marrowby.example>", Date: time.Unix(1805000000, 0)}
	b, err := Compose(m)
	if err != nil {
		t.Fatal(err)
	}
	got, err := netmail.ReadMessage(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	for name := range got.Header {
		switch name {
		case "From", "To", "Cc", "Reply-To", "Subject", "Date", "Message-Id", "Auto-Submitted", "Mime-Version",
			"Content-Type":
		default:
			t.Errorf("an extra header %s: %q", name, got.Header[name])
		}
	}
	for header, want := range map[string]string{
		"To": "ada@fenwick-hall.example zoe@xn--bcher-kva.example", "Cc": "r.moss@marrowby.example",
		"Reply-To": "zoe@marrowby.example desk@marrowby.example",
	} {
		list, err := got.Header.AddressList(header)
		if err != nil {
			t.Errorf("%s: %v (%q)", header, err, got.Header.Get(header))
			continue
		}
		var a []string
		for _, x := range list {
			a = append(a, x.Address)
		}
		if strings.Join(a, " ") != want {
			t.Errorf("%s holds %v, want %s", header, a, want)
		}
	}
	if id := got.Header.Get("Message-Id"); id != m.MessageID {
		t.Errorf("Message-ID %q", id)
	}
	if strings.Contains(strings.ReplaceAll(string(b), "\r\n", ""), "\n") {
		t.Error("a bare line feed")
	}
}

// peer is a mail server played by hand: it answers each line with the next of
// its replies, and after DATA calls then.
func peer(t *testing.T, then func(conn net.Conn, in *bufio.Reader)) Server {
	t.Helper()
	return played(t, func(conn net.Conn, in *bufio.Reader) {
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			switch {
			case strings.HasPrefix(line, "EHLO"):
				_, _ = io.WriteString(conn, "250-peer\r\n250 PIPELINING\r\n")
			case strings.HasPrefix(line, "DATA"):
				_, _ = io.WriteString(conn, "354 go on\r\n")
				then(conn, in)
				return
			default:
				_, _ = io.WriteString(conn, "250 yes\r\n")
			}
		}
	})
}

// played is a mail server that greets its first caller, and leaves the talk to talk.
func played(t *testing.T, talk func(conn net.Conn, in *bufio.Reader)) Server {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		_, _ = io.WriteString(conn, "220 peer\r\n")
		talk(conn, bufio.NewReader(conn))
	}()
	return Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Security: Plain}
}

func begin(t *testing.T, s Server) *Client {
	t.Helper()
	c, err := Dial(context.Background(), s, "localhost")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Drop)
	out, ready, err := c.Begin("loans@marrowby.example", []string{"ada@fenwick-hall.example"}, 0,
		func(rs []Reply) bool { return rs[0].Positive() })
	if err != nil || !ready || len(out.Recipients) != 1 {
		t.Fatal(out, ready, err)
	}
	return c
}

// A server that hangs up in the middle of the message has not been given it.
func TestHangUpBeforeTheDot(t *testing.T) {
	gone := make(chan struct{})
	c := begin(t, peer(t, func(conn net.Conn, in *bufio.Reader) {
		_, _ = io.CopyN(io.Discard, in, 10)
		conn.Close()
		close(gone)
	}))
	_ = c.Body([]byte("Subject: a\r\n\r\n" + strings.Repeat("text\r\n", 50)))
	<-gone
	for i := 0; c.Open() && i < 1000; i++ {
		time.Sleep(time.Millisecond) // the end of the connection is on its way
	}
	if _, err := c.Finish(); !errors.Is(err, ErrHungUp) {
		t.Errorf("hung up before the dot: %v", err)
	}
}

// One that hangs up after the dot may have it: that is another error.
func TestHangUpAfterTheDot(t *testing.T) {
	var got string
	done := make(chan struct{})
	c := begin(t, peer(t, func(_ net.Conn, in *bufio.Reader) {
		defer close(done)
		for !strings.HasSuffix(got, "\r\n.\r\n") {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			got += line
		}
	}))
	if err := c.Body([]byte("Subject: a\r\n\r\n.dots\r\nno end of line")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Finish(); err == nil || errors.Is(err, ErrHungUp) {
		t.Errorf("hung up after the dot: %v", err)
	}
	<-done
	if got != "Subject: a\r\n\r\n..dots\r\nno end of line\r\n.\r\n" {
		t.Errorf("sent %q", got)
	}
}

type backend struct{ got chan string }

func (b backend) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (backend) Reset()                                        {}
func (backend) Logout() error                                 { return nil }
func (backend) Mail(string, *smtp.MailOptions) error          { return nil }
func (backend) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "no") {
		return &smtp.SMTPError{Code: 550, Message: "no such mailbox"}
	}
	return nil
}
func (b backend) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	b.got <- string(raw)
	return err
}

// Against another's server: one connection serves many messages, and one that
// may not go leaves nothing behind.
func TestRealServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := backend{make(chan string, 10)}
	srv := smtp.NewServer(b)
	go func() { _ = srv.Serve(l) }()
	defer srv.Close()
	c, err := Dial(context.Background(), Server{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, Security: Plain},
		"localhost")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for range 3 {
		_, ready, err := c.Begin("a@x.example", []string{"b@x.example", "no@x.example"}, 0,
			func(rs []Reply) bool { return rs[0].Positive() })
		if err != nil || !ready {
			t.Fatal(ready, err)
		}
		if err := c.Body([]byte("A: b\r\n\r\n.x\r\n")); err != nil {
			t.Fatal(err)
		}
		if r, err := c.Finish(); err != nil || !r.Positive() {
			t.Fatal(r, err)
		}
		if got := <-b.got; got != "A: b\r\n\r\n.x\r\n" {
			t.Errorf("arrived as %q", got)
		}
	}
	out, ready, err := c.Begin("a@x.example", []string{"no@x.example"}, 0, func(rs []Reply) bool { return rs[0].Positive() })
	if err != nil || ready || out.Recipients[0].Code != 550 {
		t.Error(out, ready, err)
	}
	if _, _, err := c.Begin("a@x.example\r\nRCPT TO:<eve@x.example>", nil, 0, nil); err == nil {
		t.Error("a line break in an address was let through")
	}
}

// part is a leaf of a message, as RFC 2045 to 2049 read it.
type part struct {
	path, typ, disposition, name, cid, body string
}

// leaves reads a message's parts with the standard library alone.
func leaves(t *testing.T, raw []byte) (header netmail.Header, out []part) {
	t.Helper()
	m, err := netmail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	var read func(h textproto.MIMEHeader, body io.Reader, path string)
	read = func(h textproto.MIMEHeader, body io.Reader, path string) {
		typ, params, err := mime.ParseMediaType(h.Get("Content-Type"))
		if err != nil {
			t.Fatalf("%s: %v", h.Get("Content-Type"), err)
		}
		if strings.HasPrefix(typ, "multipart/") {
			r := multipart.NewReader(body, params["boundary"])
			for {
				p, err := r.NextRawPart()
				if err == io.EOF {
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				read(p.Header, p, path+"/"+strings.TrimPrefix(typ, "multipart/"))
			}
		}
		switch strings.ToLower(h.Get("Content-Transfer-Encoding")) {
		case "base64":
			body = base64.NewDecoder(base64.StdEncoding, body)
		case "quoted-printable":
			body = quotedprintable.NewReader(body)
		}
		b, err := io.ReadAll(body)
		if err != nil {
			t.Fatal(err)
		}
		x := part{path: path, typ: typ, cid: h.Get("Content-ID"), body: string(b)}
		if d, p, err := mime.ParseMediaType(h.Get("Content-Disposition")); err == nil {
			x.disposition, x.name = d, p["filename"]
		}
		out = append(out, x)
	}
	read(textproto.MIMEHeader(m.Header), m.Body, "")
	return m.Header, out
}

// Images stand inside what shows them, attachments beside it; names are read back whole,
// whatever their letters; and the same message is the same bytes.
func TestComposeFiles(t *testing.T) {
	pdf, picture := strings.Repeat("%PDF\r\n.\r\n", 400), "GIF89a\x00\xff"
	for _, name := range []string{"notes.pdf", "Vermerk für Märzhausen.pdf", "注意書き" + strings.Repeat("あ", 40) + ".pdf",
		`a "quoted" \ name;.pdf`, "x\r\nBcc: eve@x.example.pdf"} {
		m := &Message{From: value.Mailbox{Local: "loans", Domain: "marrowby.example"},
			To: []value.Mailbox{{Local: "a", Domain: "b.example"}}, Subject: "S",
			HTML: `<img src="cid:pic@image.nivot">`, Text: "boundary=abc\n", Date: time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC),
			MessageID: "<x@marrowby.example>",
			Files: []File{{Name: "image.gif", Type: "image/gif", CID: "pic@image.nivot", Data: []byte(picture)},
				{Name: name, Type: "application/pdf", Data: []byte(pdf)}}}
		raw, err := Compose(m)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		again, err := Compose(m)
		if err != nil || !bytes.Equal(raw, again) {
			t.Errorf("%s: composed twice it is not the same", name)
		}
		for _, l := range bytes.Split(raw, []byte("\r\n")) {
			if len(l) > 998 || bytes.ContainsAny(l, "\r\n") {
				t.Errorf("%s: a line of %d bytes", name, len(l))
			}
		}
		h, got := leaves(t, raw)
		clean := strings.Map(printable, name)
		want := []part{{path: "/mixed/related/alternative", typ: "text/plain", body: "boundary=abc\r\n"},
			{path: "/mixed/related/alternative", typ: "text/html", body: m.HTML},
			{path: "/mixed/related", typ: "image/gif", disposition: "inline", name: "image.gif", cid: "<pic@image.nivot>",
				body: picture},
			{path: "/mixed", typ: "application/pdf", disposition: "attachment", name: clean, body: pdf}}
		if h.Get("Bcc") != "" || len(got) != len(want) {
			t.Fatalf("%s: %v, %d parts", name, h, len(got))
		}
		for i := range want {
			got[i].body = strings.TrimSuffix(got[i].body, "\r\n")
			want[i].body = strings.TrimSuffix(want[i].body, "\r\n")
			if got[i] != want[i] {
				t.Errorf("%s, part %d: %+v\nwant %+v", name, i, got[i], want[i])
			}
		}
	}
}

func TestComposeUnsubscribe(t *testing.T) {
	m := &Message{From: value.Mailbox{Local: "a", Domain: "b.example"},
		To: []value.Mailbox{{Local: "c", Domain: "d.example"}}, Text: "x", HTML: "x", MessageID: "<x@b.example>",
		Unsubscribe: "https://nivot.marrowby.example/stop/" + strings.Repeat("x", 40)}
	for _, one := range []bool{false, true} {
		m.OneClick = one
		raw, err := Compose(m)
		if err != nil {
			t.Fatal(err)
		}
		h, _ := leaves(t, raw)
		if h.Get("List-Unsubscribe") != "<"+m.Unsubscribe+">" ||
			(h.Get("List-Unsubscribe-Post") == "List-Unsubscribe=One-Click") != one {
			t.Errorf("%v: %v", one, h)
		}
	}
}
