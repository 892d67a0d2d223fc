package mail

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"mime"
	netmail "net/mail"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset"
	gomessage "github.com/emersion/go-message/mail"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

var update = flag.Bool("update", false, "write the golden messages anew")

// hard are the twelve hard letters.
var hard = []struct {
	name          string
	subject, body string // in the text form of templates
	object        string // what its field comes to
	to, cc, reply string
	from          string
	files         []File
	unsubscribe   bool
}{
	{name: "plain", subject: "[Object] is due", body: "Dear colleague,\n\n[Object] is due.", object: "Oak bellows"},
	{name: "long subject in many scripts", subject: "[Object] – [Object]", body: "[Object]",
		object: "Grüße an das Museum für Früh- und Vorgeschichte, 博物館の皆様、 متحف 🕰️ " + strings.Repeat("öäü", 20)},
	{name: "names", subject: "Names", body: "Text.",
		to: `"Fell, Ida \"the Bell\"" <ida@fell.example>, Jörg Müller-Lüdenscheidt <joerg@lender.example>`,
		cc: "山田太郎 <yamada@lender.example>", from: `"Leihverkehr, Größe & Söhne" <loans@marrowby.example>`,
		reply: `Rösle Ä. <r@marrowby.example>, "O'Hara; desk" <desk@marrowby.example>`},
	{name: "domains of other letters", subject: "IDN", body: "Text.", to: "ida@bücher.example, post@例え.example",
		from: "Loans <loans@müseum.example>"},
	{name: "many recipients", subject: "To all", body: "Text.",
		to: strings.TrimSuffix(strings.Repeat("Somebody Longname of the Borrowers <somebody.longname@borrower.example>, ",
			40), ", ")},
	{name: "lines without end", subject: "Long lines", body: "[Object]\n\nend", object: strings.Repeat("x", 5000) + " " +
		strings.Repeat("日本", 900)},
	{name: "lines that mean something", subject: "=?utf-8?q?not=20a=20word?= ?=",
		body:   "From here on\n\n.\n\n..two\n\n- one =20 two = three=\n\nends in spaces   \n\n[Object]",
		object: "=C3=A4 \t=\t. \nFrom x"},
	{name: "boundaries in the text", subject: "--=_a",
		body: "--=_a\n\n--=_a--\n\nContent-Type: text/html; boundary=\"abc\"\n\n[Object]", object: "--=_b00\r\n--abc--"},
	{name: "attachments", subject: "Files", body: "They come with this.", files: []File{
		{Name: "Leihvertrag für das Märzhausener Glockenspiel, zweite und letzte Fassung vom 29. März 2027.pdf",
			Type: "application/pdf", Data: bytes.Repeat([]byte("%PDF\r\n\x00\xff\n."), 999)},
		{Name: `a "quoted" \ name; filename=evil.exe.txt`, Type: "text/plain; charset=UTF-8",
			Data: []byte("Ü\r\n.\r\nFrom\n")}, {Name: "leer.bin", Type: "application/octet-stream"}}},
	{name: "image attachment and invitation", subject: "All", body: "Look.", files: []File{
		{Name: "image.png", Type: "image/png", CID: "abc@image.nivot", Data: []byte("\x89PNG\r\n\x1a\n\x00")},
		{Name: "Rückgabe.ics", Type: "text/calendar; charset=UTF-8; method=REQUEST",
			Data: []byte("BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n")},
		{Name: "plan.pdf", Type: "application/pdf", Data: []byte("%PDF-1.4")}}, unsubscribe: true},
	{name: "from right to left", subject: "موعد إعادة [Object]", body: "عزيزي،\n\nموعد إعادة [Object] قريب.",
		object: "ساعة \u202eevil\u202c الحائط"},
	{name: "control characters", subject: "[Object]", body: "[Object]",
		object: "a\x00b\x07c\x1b[31m\r\nBcc: eve@evil.example\r\n\r\n<script>alert(1)</script>\u2028--\x7f"},
}

// hardMessage writes one of the hard letters.
func hardMessage(t *testing.T, i int) *Message {
	t.Helper()
	h := hard[i]
	locale, err := value.FindLocale("en-GB")
	if err != nil {
		t.Fatal(err)
	}
	s := &sheet.Sheet{Zone: time.UTC, Locale: locale,
		Columns: []sheet.Column{{ID: "o", Name: "Object", Type: value.Text}}}
	tpl := &template.Template{Name: h.name}
	if tpl.Subject, err = template.ParseLine(h.subject, s); err != nil {
		t.Fatal(err)
	}
	if tpl.Body, err = template.ParseText(h.body, s); err != nil {
		t.Fatal(err)
	}
	row := &sheet.Row{ID: "1"}
	if h.object != "" {
		row.Set(&s.Columns[0], value.OfText(h.object))
	}
	r := tpl.Render(template.Context{Sheet: s, Row: row})
	boxes := func(text, otherwise string) []value.Mailbox {
		if text == "" {
			text = otherwise
		}
		if text == "" {
			return nil
		}
		list, err := value.ParseMailboxes(text)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	m := &Message{From: boxes(h.from, "Loans desk <loans@marrowby.example>")[0], To: boxes(h.to, "ida@fell.example"),
		Cc: boxes(h.cc, ""), ReplyTo: boxes(h.reply, ""),
		Subject: r.Subject, HTML: r.HTML, Text: r.Text, Files: h.files, Date: time.Date(2027, 3, 29, 9, 0, 0, 0, time.UTC),
		MessageID: fmt.Sprintf("<hard-%d.1@marrowby.example>", i)}
	if h.unsubscribe {
		m.Unsubscribe, m.OneClick = "https://mail.marrowby.example/stop/"+strings.Repeat("a", 38), true
	}
	return m
}

// content is what a reader finds in a message.
type content struct {
	Subject, From, To, Cc, Reply string
	Text, HTML                   string
	Files                        []string // name, type, disposition, Content-ID, content
}

func told(list []*netmail.Address) string {
	var out []string
	for _, a := range list {
		out = append(out, fmt.Sprintf("%q %s", a.Name, a.Address))
	}
	return strings.Join(out, ", ")
}

func wanted(m *Message) content {
	c := content{Subject: m.Subject, Text: strings.ReplaceAll(m.Text, "\n", "\r\n"), HTML: strings.ReplaceAll(m.HTML,
		"\n", "\r\n")}
	list := func(boxes []value.Mailbox) string {
		var out []*netmail.Address
		for _, b := range boxes {
			out = append(out, &netmail.Address{Name: b.Name, Address: b.ASCII()})
		}
		return told(out)
	}
	c.From, c.To, c.Cc, c.Reply = list([]value.Mailbox{m.From}), list(m.To), list(m.Cc), list(m.ReplyTo)
	for _, inline := range []bool{true, false} { // images stand before attachments
		for _, f := range m.Files {
			if (f.CID != "") == inline {
				disposition := "attachment"
				if inline {
					disposition = "inline"
				}
				typ, _, _ := strings.Cut(f.Type, ";")
				c.Files = append(c.Files, fmt.Sprintf("%q %s %s %q %q", f.Name, typ, disposition, f.CID, f.Data))
			}
		}
	}
	return c
}

// byOurselves reads a message by the RFCs alone.
func byOurselves(t *testing.T, raw []byte) (c content) {
	t.Helper()
	for _, line := range strings.Split(string(raw), "\r\n") {
		if len(line) > 998 || strings.ContainsAny(line, "\r\n\x00") {
			t.Errorf("a line of %d characters, or a bare CR or LF: %.60q", len(line), line)
		}
	}
	e, err := readEntity(string(raw))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, f := range e.fields {
		seen[strings.ToLower(f[0])]++
	}
	for _, name := range []string{"from", "to", "date", "message-id", "subject", "mime-version", "content-type",
		"auto-submitted"} {
		if seen[name] != 1 {
			t.Errorf("%d fields %s", seen[name], name)
		}
	}
	if seen["bcc"] > 0 {
		t.Error("a Bcc field")
	}
	if _, err := time.Parse(time.RFC1123Z, e.get("Date")); err != nil {
		t.Errorf("the date %q", e.get("Date"))
	}
	field := func(name string) string {
		v, err := unword(e.get(name))
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		return v
	}
	c.Subject = field("Subject")
	e.walk("", func(within string, leaf *entity) {
		typ, params := leaf.media("Content-Type")
		disposition, d := leaf.media("Content-Disposition")
		switch {
		case disposition == "attachment" || disposition == "inline":
			c.Files = append(c.Files, fmt.Sprintf("%q %s %s %q %q", d["filename"], typ, disposition,
				strings.Trim(leaf.get("Content-ID"), "<>"), leaf.body))
			if old, err := unword(params["name"]); err != nil || old != d["filename"] {
				t.Errorf("the old name %q (%v), the new one %q", old, err, d["filename"])
			}
			if inline := strings.HasSuffix(within, "/related"); inline != (disposition == "inline") {
				t.Errorf("%s stands in %s", d["filename"], within)
			}
		case typ == "text/plain":
			c.Text += string(leaf.body)
		case typ == "text/html":
			c.HTML += string(leaf.body)
		default:
			t.Errorf("a part of type %s", typ)
		}
		if strings.HasPrefix(typ, "text/") && disposition == "" && !strings.EqualFold(params["charset"], "utf-8") {
			t.Errorf("the charset %q", params["charset"])
		}
	})
	return c
}

// byGoMessage reads a message with another library.
func byGoMessage(t *testing.T, raw []byte) (c content) {
	t.Helper()
	r, err := gomessage.CreateReader(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	if c.Subject, err = r.Header.Subject(); err != nil {
		t.Error(err)
	}
	for name, into := range map[string]*string{"From": &c.From, "To": &c.To, "Cc": &c.Cc, "Reply-To": &c.Reply} {
		list, err := r.Header.AddressList(name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		var plain []*netmail.Address
		for _, a := range list {
			plain = append(plain, &netmail.Address{Name: a.Name, Address: a.Address})
		}
		*into = told(plain)
	}
	entity, err := message.Read(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	err = entity.Walk(func(_ []int, e *message.Entity, err error) error {
		typ, _, _ := e.Header.ContentType()
		if err != nil || strings.HasPrefix(typ, "multipart/") {
			return err
		}
		b, err := io.ReadAll(e.Body)
		if err != nil {
			return err
		}
		disposition, params, _ := e.Header.ContentDisposition()
		switch {
		case disposition != "":
			c.Files = append(c.Files, fmt.Sprintf("%q %s %s %q %q", params["filename"], typ, disposition,
				strings.Trim(e.Header.Get("Content-Id"), "<>"), b))
		case typ == "text/plain":
			c.Text += string(b)
		default:
			c.HTML += string(b)
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
	return c
}

// byNetMail reads the header with the standard library, the body by its leaves.
func byNetMail(t *testing.T, raw []byte) (c content) {
	t.Helper()
	h, parts := leaves(t, raw)
	var err error
	if c.Subject, err = unwordStandard(h.Get("Subject")); err != nil {
		t.Error(err)
	}
	for name, into := range map[string]*string{"From": &c.From, "To": &c.To, "Cc": &c.Cc, "Reply-To": &c.Reply} {
		if h.Get(name) == "" {
			continue
		}
		list, err := h.AddressList(name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		*into = told(list)
	}
	for _, p := range parts {
		switch {
		case p.disposition != "":
			c.Files = append(c.Files, fmt.Sprintf("%q %s %s %q %q", p.name, p.typ, p.disposition, strings.Trim(p.cid, "<>"),
				p.body))
		case p.typ == "text/plain":
			c.Text += p.body
		case p.typ == "text/html":
			c.HTML += p.body
		}
	}
	return c
}

// Twelve hard letters say the same to three readers, and are the same bytes as ever.
func TestHardLetters(t *testing.T) {
	for i, h := range hard {
		t.Run(h.name, func(t *testing.T) {
			m := hardMessage(t, i)
			raw, err := Compose(m)
			if err != nil {
				t.Fatal(err)
			}
			golden := filepath.Join("testdata", strings.ReplaceAll(h.name, " ", "-")+".eml")
			if *update {
				if err := os.WriteFile(golden, raw, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			if before, err := os.ReadFile(golden); err != nil || !bytes.Equal(before, raw) {
				t.Errorf("the message is not that of %s (%v); look at both, and write it anew with -update if this one is right",
					golden, err)
			}
			want := wanted(m)
			readers := []struct {
				name string
				got  content
			}{{"go-message", byGoMessage(t, raw)}, {"net/mail", byNetMail(t, raw)}, {"the RFCs", byOurselves(t, raw)}}
			for _, r := range readers {
				if r.name == "the RFCs" { // addresses are read by the two libraries
					r.got.From, r.got.To, r.got.Cc, r.got.Reply = want.From, want.To, want.Cc, want.Reply
				}
				g, w := reflect.ValueOf(r.got), reflect.ValueOf(want)
				for k := range g.NumField() {
					if !reflect.DeepEqual(g.Field(k).Interface(), w.Field(k).Interface()) {
						t.Errorf("%s, %s:\n%.400q\nwant\n%.400q", r.name, g.Type().Field(k).Name, fmt.Sprint(g.Field(k).Interface()),
							fmt.Sprint(w.Field(k).Interface()))
					}
				}
			}
		})
	}
}

func unwordStandard(s string) (string, error) {
	return (&mime.WordDecoder{}).DecodeHeader(s)
}
