package mail

import (
	"strings"
	"testing"
	"time"

	"nivot/internal/core/value"
)

// A link is hidden wherever quoted-printable breaks it, and what is around it stays.
func TestConceal(t *testing.T) {
	c := NewConcealer("/stop/", "unsubscribe-link")
	token := strings.Repeat("aZ0_-", 8)
	for _, k := range []struct{ name, raw, want string }{
		{"text", "Stop: http://127.0.0.1:8420/stop/" + token + "\r\n", "Stop: unsubscribe-link\r\n"},
		{"a path", "https://a.example/nivot/stop/" + token + ".", "unsubscribe-link."},
		{"IPv6", "http://[::1]:8420/stop/" + token, "unsubscribe-link"},
		{"HTML", `<a href=3D"https://a.example/stop/` + token + `">x</a>`, `<a href=3D"unsubscribe-link">x</a>`},
		{"broken lines", "<https://a.exa=\r\nmple/st=\r\nop/aZ=\r\n0_-> and more", "<unsubscribe-link> and more"},
		{"a break behind it", "https://a.example/stop/aZ=\r\n and", "unsubscribe-link=\r\n and"},
		{"another link first", "https://a.example/x https://a.example/stop/aZ", "https://a.example/x unsubscribe-link"},
		{"no secret", "https://a.example/stop/ ", "https://a.example/stop/ "},
		{"another path", "https://a.example/stops/aZ", "https://a.example/stops/aZ"},
		{"no address", "/stop/aZ", "/stop/aZ"},
	} {
		t.Run(k.name, func(t *testing.T) {
			if got := c.ConcealText(k.raw); got != k.want {
				t.Errorf("got %q, want %q", got, k.want)
			}
		})
	}
	for n := range 120 { // wherever the composer breaks its lines
		link := "https://nivot.marrowby.example/stop/" + token
		before := strings.Repeat("é", n%7) + strings.Repeat("x", n)
		m := &Message{From: value.Mailbox{Local: "loans", Domain: "marrowby.example"}, Date: time.Unix(1800000000, 0),
			To:      []value.Mailbox{{Local: "ines", Domain: "marrowby.example"}},
			Subject: "Due", MessageID: "x@marrowby.example", Unsubscribe: link,
			Text: before + link + " bye", HTML: "<p>" + before + `<a href="` + link + `">` + link + "</a> bye</p>"}
		raw, err := Compose(m)
		if err != nil {
			t.Fatal(err)
		}
		got := string(c.Conceal(raw))
		if plain := strings.NewReplacer("=\r\n", "").Replace(got); strings.Contains(plain, token) ||
			strings.Count(plain, "unsubscribe-link") != 4 {
			t.Fatalf("%d: %s", n, got)
		}
	}
}

func FuzzConceal(f *testing.F) {
	f.Add([]byte("Stop: http://127.0.0.1:8420/sto=\r\np/aZ0=\n_-\r\n"))
	c := NewConcealer("/stop/", "unsubscribe-link")
	f.Fuzz(func(t *testing.T, raw []byte) {
		got := c.Conceal(raw)
		if string(c.Conceal(got)) != string(got) {
			t.Errorf("hidden twice is not hidden once: %q", raw)
		}
	})
}
