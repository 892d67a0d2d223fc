// Package mail turns a rendered letter into a message and hands it to a mail
// server by SMTP.
package mail

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"mime"
	netmail "net/mail"
	"regexp"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"nivot/internal/core/value"
)

// Message is an email to be composed.
type Message struct {
	From    value.Mailbox
	To      []value.Mailbox
	Cc      []value.Mailbox
	ReplyTo []value.Mailbox
	Subject string
	HTML    string
	Text    string
	Files   []File
	// Unsubscribe is where the recipient stops such emails, "" for nowhere; with OneClick
	// a POST there is enough (RFC 8058).
	Unsubscribe string
	OneClick    bool
	MessageID   string // with its angle brackets
	Date        time.Time
}

// File is an attachment, or an image that the HTML shows.
type File struct {
	Name string
	Type string // a media type
	CID  string // of an image: its Content-ID without angle brackets (RFC 2392)
	Data []byte
}

// Compose writes the message as RFC 5322 and MIME text with CRLF line ends:
// multipart/alternative, the plain text first, within multipart/related where it shows
// images, within multipart/mixed where there are attachments. The boundaries are of the
// Message-ID: the same message is the same bytes. Bcc recipients are named in the envelope only.
func Compose(m *Message) ([]byte, error) {
	for _, list := range [][]value.Mailbox{{m.From}, m.To, m.Cc, m.ReplyTo} {
		for _, b := range list {
			if _, err := netmail.ParseAddress("<" + b.ASCII() + ">"); err != nil {
				return nil, fmt.Errorf("the address %q cannot be used: %w", b.Address(), err)
			}
		}
	}
	var h header
	h.field("Date", date(m.Date))
	h.field("From", mailboxes([]value.Mailbox{m.From}, len("From: ")))
	for _, list := range []struct {
		name  string
		boxes []value.Mailbox
	}{{"Reply-To", m.ReplyTo}, {"To", m.To}, {"Cc", m.Cc}} {
		if len(list.boxes) > 0 {
			h.field(list.name, mailboxes(list.boxes, len(list.name)+2))
		}
	}
	h.field("Subject", text(m.Subject, len("Subject: ")))
	h.field("Message-ID", "<"+strings.Trim(m.MessageID, "<>")+">")
	// RFC 3834, section 5: an automatic mail that is no answer to another.
	h.field("Auto-Submitted", "auto-generated")
	if m.Unsubscribe != "" {
		// RFC 2369, section 3.2.
		h.field("List-Unsubscribe", "<"+m.Unsubscribe+">")
		if m.OneClick {
			h.field("List-Unsubscribe-Post", "List-Unsubscribe=One-Click")
		}
	}
	g := gomail.NewMsg(gomail.WithCharset(gomail.CharsetUTF8), gomail.WithEncoding(gomail.EncodingQP),
		gomail.WithNoDefaultUserAgent())
	g.SetBodyString(gomail.TypeTextPlain, m.Text)
	g.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	for i := range m.Files {
		if err := m.Files[i].add(g); err != nil {
			return nil, fmt.Errorf("%s cannot be attached: %w", m.Files[i].Name, err)
		}
	}
	var b bytes.Buffer
	if _, err := g.WriteTo(&b); err != nil {
		return nil, err
	}
	return append([]byte(h.String()), bound(contentOf(b.Bytes()), m.MessageID)...), nil
}

// contentOf leaves of what the library wrote what says how the content is to be read (RFC 2045),
// and the content.
func contentOf(msg []byte) []byte {
	head, body, _ := bytes.Cut(msg, []byte("\r\n\r\n"))
	var out []byte
	keep := false
	for line := range bytes.Lines(append(head, '\r', '\n')) {
		if line[0] != ' ' && line[0] != '\t' {
			name, _, _ := bytes.Cut(bytes.ToLower(line), []byte(":"))
			keep = bytes.HasPrefix(name, []byte("mime-")) || bytes.HasPrefix(name, []byte("content-"))
		}
		if keep {
			out = append(out, line...)
		}
	}
	return append(append(out, '\r', '\n'), body...)
}

var boundary = regexp.MustCompile(`(?i)boundary="?([0-9a-z]+)"?`)

// bound puts boundaries made of the Message-ID in place of the library's random ones, from the
// outermost multipart to the innermost, each the first part of the one around it.
func bound(msg []byte, messageID string) []byte {
	sum := sha256.Sum256([]byte(messageID))
	for at, depth := 0, byte('a'); ; depth++ {
		end := bytes.Index(msg[at:], []byte("\r\n\r\n"))
		if end < 0 {
			return msg
		}
		found := boundary.FindSubmatch(msg[at : at+end])
		if found == nil {
			return msg
		}
		to := fmt.Appendf(nil, "=_%c%x", depth, sum[:16])
		old := bytes.Clone(found[1])
		// A boundary is quoted where it has characters of its own (RFC 2045, section 5.1).
		head := bytes.Replace(msg[at:at+end], found[0], fmt.Appendf(nil, `boundary="%s"`, to), 1)
		rest := bytes.ReplaceAll(msg[at+end:], append([]byte("--"), old...), append([]byte("--"), to...))
		msg = append(append(bytes.Clone(msg[:at]), head...), rest...)
		k := bytes.Index(msg[at:], append(append([]byte("\r\n--"), to...), '\r', '\n'))
		if k < 0 {
			return msg
		}
		at += k + 2
	}
}

// add puts a file into the message: in base64, its name by RFC 2231 where it is not
// ASCII, and by RFC 2047 for readers that know no better.
func (f *File) add(g *gomail.Msg) error {
	name := strings.Map(printable, f.Name)
	typ := f.Type
	if _, _, err := mime.ParseMediaType(typ); err != nil {
		return err
	}
	disposition, put := "attachment", g.AttachReader
	if f.CID != "" {
		disposition, put = "inline", g.EmbedReader
	}
	return put(name, bytes.NewReader(f.Data), func(x *gomail.File) {
		x.Header.Set("Content-Type", typ+"; name="+oldName(name))
		x.Header.Set("Content-Disposition", disposition+parameter("filename", name))
		if f.CID != "" {
			x.Header.Set("Content-ID", "<"+f.CID+">")
		}
	})
}

// oldName writes a name as a quoted string, its other characters as encoded words: nothing
// that RFC 2047 allows, and what old readers look for.
func oldName(name string) string {
	encoded := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(mime.QEncoding.Encode("utf-8", name))
	return `"` + strings.ReplaceAll(encoded, "?= =?", "?=\r\n =?") + `"`
}

// parameter writes a parameter of a header field: as a quoted string where it is short
// ASCII, else by RFC 2231, sections 3 and 4, in pieces that fit on a line.
func parameter(name, v string) string {
	if len(v) < 60 && strings.IndexFunc(v, func(r rune) bool { return r > 0x7e }) < 0 {
		return "; " + name + `="` + quoting.Replace(v) + `"`
	}
	var pieces []string
	piece := "utf-8''"
	for _, b := range []byte(v) {
		c := string(rune(b))
		if !attrChar(b) {
			c = fmt.Sprintf("%%%02X", b)
		}
		if len(piece)+len(c) > 56 {
			pieces, piece = append(pieces, piece), ""
		}
		piece += c
	}
	pieces = append(pieces, piece)
	if len(pieces) == 1 {
		return ";\r\n " + name + "*=" + piece
	}
	var b strings.Builder
	for i, p := range pieces {
		fmt.Fprintf(&b, ";\r\n %s*%d*=%s", name, i, p)
	}
	return b.String()
}

// attrChar reports whether a byte stands for itself in RFC 2231's extended values.
func attrChar(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' ||
		strings.IndexByte("!#$&+-.^_`{|}~", b) >= 0
}
