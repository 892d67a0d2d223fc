package mail

import (
	"math/rand/v2"
	"mime"
	netmail "net/mail"
	"strings"
	"testing"
	"unicode/utf8"

	"nivot/internal/core/value"
)

var hardTexts = []string{
	"", "Oak bellows", " outer  and  double spaces ", "=?utf-8?q?looks_like_one?=", "not =? quite",
	"a\"b\\c, (d) <e>; f:g", "Ida\u200dFell\u200c",
	"soft\u00adhyphen", "\u202eright to left\u202c", "\u2066isolated\u2069", "Zo\u00eb", "\u200b",
	strings.Repeat("word ", 300) + "end", strings.Repeat("x", 1500),
	strings.Repeat("\u00e9\u4e16\U0001f3db", 300), "tab\tand\nline", "\U0001f468\u200d\U0001f469\u200d\U0001f467",
	"%s %q \\u200d",
}

// randomText puts runes of all kinds together.
func randomText(r *rand.Rand) string {
	kinds := []rune("  aZ09=?_\"\\<>@,;:()\u00e9\u00df\u200d\u200c\u00ad\u202e\u4e16\U0001f3db\n\t")
	var b strings.Builder
	for range r.IntN(400) {
		b.WriteRune(kinds[r.IntN(len(kinds))])
	}
	return b.String()
}

func unfolded(t *testing.T, field string) string {
	t.Helper()
	for _, line := range strings.Split(field, "\r\n") {
		if len(line) > 78 || strings.TrimSpace(line) == "" && field != "" {
			t.Fatalf("a line of %d characters: %q", len(line), line)
		}
	}
	return strings.ReplaceAll(field, "\r\n", "")
}

// Whatever a subject and a name are, they are read again to the letter, and no line is long.
func TestTextsComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	texts := hardTexts
	for range 2000 {
		texts = append(texts, randomText(r))
	}
	dec := &mime.WordDecoder{}
	for _, s := range texts {
		want := strings.Map(printable, s)
		if want == "" {
			continue
		}
		got, err := dec.DecodeHeader(unfolded(t, "Subject: "+text(s, len("Subject: ")))[len("Subject: "):])
		if err != nil || got != want {
			t.Fatalf("subject %q: got %q %v", want, got, err)
		}
		boxes := []value.Mailbox{{Name: s, Local: "ida", Domain: "fell.example"},
			{Local: "desk", Domain: "marrowby.example"}, {Name: s, Local: "otto", Domain: "grange.example"}}
		list, err := netmail.ParseAddressList(unfolded(t, "To: "+mailboxes(boxes, len("To: ")))[len("To: "):])
		if err != nil || len(list) != 3 {
			t.Fatalf("name %q: %v in %q", want, err, mailboxes(boxes, 4))
		}
		for i, a := range list {
			name := want
			if boxes[i].Name == "" {
				name = ""
			}
			if a.Name != name || a.Address != boxes[i].ASCII() {
				t.Fatalf("got %q %s, want %q %s", a.Name, a.Address, name, boxes[i].ASCII())
			}
		}
	}
}

func TestBearable(t *testing.T) {
	for _, x := range []struct{ name, host, field string }{
		{"Loans desk", "mail.marrowby.example", ""},
		{"Zo\u00eb \u200d", "b\u00fccher.example", ""},
		{"Desk", "127.0.0.1", ""}, {"Desk", "::1", ""}, {"Desk", "localhost", ""},
		{"", "mail.marrowby.example", "/name"}, {"\u200b", "localhost", "/name"}, {"a\nb", "localhost", "/name"},
		{"a\x00b", "localhost", "/name"},
		{"Desk", "", "/host"}, {"Desk", "mail marrowby", "/host"}, {"Desk", "mail.marrowby.example:25", "/host"},
		{"Desk", "-a.example", "/host"},
		{"Desk", "a..b", "/host"}, {"Desk", strings.Repeat("a", 64) + ".example", "/host"}, {"Desk", "smtp://mail.example",
			"/host"},
	} {
		err := Bearable(x.name, x.host)
		if (err == nil) != (x.field == "") || err != nil && err.Field != x.field {
			t.Errorf("%q at %q: got %v, want %q", x.name, x.host, err, x.field)
		}
	}
}

func FuzzTexts(f *testing.F) {
	for _, s := range hardTexts {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) {
			return
		}
		want := strings.Map(printable, s)
		got, err := (&mime.WordDecoder{}).DecodeHeader(unfolded(t, "Subject: "+text(s, 9))[9:])
		if err != nil || got != want {
			t.Fatalf("%q: got %q %v", want, got, err)
		}
	})
}
