// Package mail turns a rendered letter into a message and hands it to a mail
// server by SMTP.
package mail

import (
	"bytes"
	"fmt"
	"html"
	netmail "net/mail"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"nivot/internal/core/value"
)

// Message is an email to be composed.
type Message struct {
	From      value.Mailbox
	To        []value.Mailbox
	Cc        []value.Mailbox
	ReplyTo   []value.Mailbox
	Subject   string
	HTML      string
	Text      string
	MessageID string // with its angle brackets
	Date      time.Time
}

// Compose writes the message as RFC 5322 and MIME text with CRLF line ends:
// multipart/alternative, the plain text first. Bcc recipients are named in the
// envelope only.
func Compose(m *Message) ([]byte, error) {
	g := gomail.NewMsg(gomail.WithCharset(gomail.CharsetUTF8), gomail.WithEncoding(gomail.EncodingQP), gomail.WithNoDefaultUserAgent())
	if err := g.FromFormat(m.From.Name, m.From.ASCII()); err != nil {
		return nil, fmt.Errorf("the sender's address %q cannot be used: %w", m.From.Address(), err)
	}
	for _, list := range []struct {
		header gomail.AddrHeader
		boxes  []value.Mailbox
	}{{gomail.HeaderTo, m.To}, {gomail.HeaderCc, m.Cc}} {
		if len(list.boxes) == 0 {
			continue
		}
		if err := g.SetAddrHeader(list.header, formatted(list.boxes)...); err != nil {
			return nil, fmt.Errorf("a recipient cannot be used: %w", err)
		}
	}
	if len(m.ReplyTo) > 0 {
		// Written by net/mail: the library would encode the addresses together
		// with a name that is not ASCII.
		var list []string
		for _, b := range m.ReplyTo {
			list = append(list, (&netmail.Address{Name: strings.Map(printable, b.Name), Address: b.ASCII()}).String())
		}
		g.SetGenHeaderPreformatted("Reply-To", strings.Join(list, ",\r\n "))
	}
	g.Subject(m.Subject)
	g.SetDateWithValue(m.Date)
	g.SetMessageIDWithValue(strings.Trim(m.MessageID, "<>"))
	// RFC 3834, section 5: an automatic mail that is no answer to another.
	g.SetGenHeader("Auto-Submitted", "auto-generated")
	g.SetBodyString(gomail.TypeTextPlain, m.Text)
	g.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	var b bytes.Buffer
	if _, err := g.WriteTo(&b); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// formatted writes mailboxes with ASCII domains for a header.
func formatted(boxes []value.Mailbox) []string {
	out := make([]string, len(boxes))
	for i, b := range boxes {
		out[i] = b.ASCII()
		if b.Name != "" {
			out[i] = fmt.Sprintf("%q <%s>", strings.Map(printable, b.Name), b.ASCII())
		}
	}
	return out
}

// printable drops what has no place in a header.
func printable(r rune) rune {
	if r < 0x20 || r == 0x7f || r == 0x2028 || r == 0x2029 {
		return -1
	}
	return r
}

// WithNote puts a line of text at the head of an HTML letter.
func WithNote(page, note string) string {
	p := `<p style="margin:0 0 18px 0;padding:0 0 10px 0;border-bottom:1px solid #dcd7cb;font-size:14px;color:#5a5f69">` + html.EscapeString(note) + `</p>`
	if i := strings.Index(page, `<div style="max-width:640px">`); i >= 0 {
		i += len(`<div style="max-width:640px">`)
		return page[:i] + p + page[i:]
	}
	return p + page
}
