package mail

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"golang.org/x/net/html"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// everywhere is a template in which one value stands in every place where a value can stand.
const everywhere = `{"name":"T",
 "subject":{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"About "},{"type":"field","attrs":{"column":"v"}}]}]},
 "preheader":{"type":"doc","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"v"}}]}]},
 "body":{"type":"doc","content":[
  {"type":"heading","attrs":{"level":2},"content":[{"type":"field","attrs":{"column":"v"}}]},
  {"type":"paragraph","content":[{"type":"text","text":"Dear "},{"type":"field","attrs":{"column":"v","part":"first word","case":"upper"}},{"type":"field","attrs":{"column":"v"},"marks":[{"type":"bold"},{"type":"link","attrs":{"href":["https://marrowby.example/?q=",{"column":"v"}]}}]}]},
  {"type":"button","attrs":{"href":["https://marrowby.example/",{"column":"v"}]},"content":[{"type":"field","attrs":{"column":"v"}}]},
  {"type":"image","attrs":{"file":"%064d","type":"image/png","alt":[{"column":"v"}]}},
  {"type":"bulletList","content":[{"type":"listItem","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"v"}}]}]}]},
  {"type":"rowTable","attrs":{"fields":[{"column":"v"}]}},
  {"type":"quote","content":[{"type":"paragraph","content":[{"type":"field","attrs":{"column":"v"}}]}]}]},
 "attachments":[{"kind":"file","name":[{"column":"v"}],"file":"%064d","type":"application/pdf","size":3}]}`

// written is a row's message in the words of everywhere, to somebody called as the value.
func written(t testing.TB, v string) (*Message, []byte) {
	t.Helper()
	locale, err := value.FindLocale("en-GB")
	if err != nil {
		t.Fatal(err)
	}
	s := &sheet.Sheet{Zone: time.UTC, Locale: locale, Columns: []sheet.Column{{ID: "v", Name: "Value", Type: value.Text}}}
	tpl := &template.Template{}
	if err := json.Unmarshal(fmt.Appendf(nil, everywhere, 1, 2), tpl); err != nil {
		t.Fatal(err)
	}
	if err := tpl.Validate(s); err != nil {
		t.Fatal(err)
	}
	row := &sheet.Row{ID: "1"}
	row.Set(&s.Columns[0], value.Parse(v, s.Reading(&s.Columns[0])))
	r := tpl.Render(template.Context{Sheet: s, Row: row})
	m := &Message{From: value.Mailbox{Name: v, Local: "loans", Domain: "marrowby.example"},
		To:      []value.Mailbox{{Name: v, Local: "ida", Domain: "fell.example"}},
		ReplyTo: []value.Mailbox{{Name: v, Local: "desk", Domain: "marrowby.example"}}, Subject: r.Subject, HTML: r.HTML,
		Text: r.Text,
		Date: time.Date(2027, 3, 29, 9, 0, 0, 0, time.UTC), MessageID: "<a.1@marrowby.example>"}
	for _, i := range r.Images {
		m.Files = append(m.Files, File{Name: "image.png", Type: i.Type, CID: template.CID(i.ID()), Data: []byte("png")})
	}
	for _, a := range r.Attachments {
		m.Files = append(m.Files, File{Name: a.Name, Type: a.Type, Data: []byte("pdf")})
	}
	raw, err := Compose(m)
	if err != nil {
		t.Fatalf("%q: %v", v, err)
	}
	return m, raw
}

// shape is what no value may change: the fields of every header by name, the recipients, the
// parts, the tags of the HTML with their attributes' names, and where its links lead to.
func shape(t testing.TB, raw []byte) string {
	t.Helper()
	e, err := readEntity(string(raw))
	if err != nil {
		t.Fatalf("%v\n%s", err, raw)
	}
	var b strings.Builder
	names := func(e *entity) {
		var list []string
		for _, f := range e.fields {
			list = append(list, strings.ToLower(f[0]))
		}
		slices.Sort(list)
		fmt.Fprintln(&b, list)
	}
	names(e)
	for _, field := range []string{"From", "To", "Reply-To"} {
		v := e.get(field)
		fmt.Fprintln(&b, field, v[strings.LastIndexByte(v, '<'):])
	}
	e.walk("", func(within string, leaf *entity) {
		typ, _ := leaf.media("Content-Type")
		fmt.Fprintln(&b, within, typ)
		names(leaf)
		if typ != "text/html" {
			return
		}
		z := html.NewTokenizer(strings.NewReader(string(leaf.body)))
		for {
			kind := z.Next()
			if kind == html.ErrorToken {
				return
			}
			if kind == html.TextToken {
				continue
			}
			tok := z.Token()
			if tok.Data == "br" { // a value may have lines
				continue
			}
			fmt.Fprint(&b, tok.Type, tok.Data)
			for _, a := range tok.Attr {
				fmt.Fprint(&b, " ", a.Key)
				if a.Key == "href" {
					fmt.Fprint(&b, "=", a.Val[:len("https://marrowby.example/")])
				}
			}
			fmt.Fprintln(&b)
		}
	})
	return b.String()
}

// hostile are pieces of values that mean something somewhere on the way.
var hostile = []string{"\r\nBcc: eve@evil.example\r\n", "\n\n", "<script>alert(1)</script>",
	`"><img src=x onerror=alert(1)>`, "'", `"`, "--=_a", "=?utf-8?q?=0D=0ABcc:=20eve@evil.example?=", "<!--", "-->",
	"]]>",
	"</td></tr></table>", "javascript:alert(1)", "https://evil.example/", "&lt;", "&#60;b&#62;", "\x00", "\x1b[2J",
	"\u2028", "\u202e", "\ufeff", "/../", "%0d%0a", "//evil.example", "eve@evil.example", ", Eve <eve@evil.example>",
	";", ":", ">", "<", "@", "\\", "\t", "  ", ".\r\n", "From ", "Ü", "日本", "🕰", "{{x}}", "${x}", "[Value]", "cid:", "a",
	"b c"}

// No value adds a header field, a recipient, a part, a tag or another place for a link, wherever
// it stands.
func TestNoValueAdds(t *testing.T) {
	_, raw := written(t, "Bell")
	want := shape(t, raw)
	if strings.Count(want, "<a") < 2 && !strings.Contains(want, "a href") {
		t.Fatalf("the harmless letter has no links:\n%s", want)
	}
	random := rand.New(rand.NewSource(5))
	for range 1000 {
		v := "x"
		for range 1 + random.Intn(6) {
			v += hostile[random.Intn(len(hostile))]
		}
		_, raw := written(t, v)
		if got := shape(t, raw); got != want {
			t.Fatalf("%q changes the message:\n%s\nwant\n%s", v, got, want)
		}
	}
}

func FuzzNoValueAdds(f *testing.F) {
	_, raw := written(f, "Bell")
	want := shape(f, raw)
	for _, h := range hostile {
		f.Add(h)
	}
	f.Fuzz(func(t *testing.T, v string) {
		if !utf8.ValidString(v) {
			return // a cell cannot be read then, and nothing is written
		}
		v = "x" + v // an empty one has no row in the table
		_, raw := written(t, v)
		if got := shape(t, raw); got != want {
			t.Errorf("%q changes the message:\n%s\nwant\n%s", v, got, want)
		}
	})
}
