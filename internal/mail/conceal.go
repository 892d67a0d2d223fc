package mail

import (
	"regexp"
	"strings"
)

// soft is a soft line break of quoted-printable (RFC 2045, 6.7), which may stand anywhere in an address.
const soft = `(?:=\r?\n)?`

// Concealer hides the links of messages that are for their recipients alone.
type Concealer struct {
	links *regexp.Regexp
	word  []byte
}

// NewConcealer returns a concealer of the links whose path begins with a prefix such as /stop/ and goes on with a
// secret. A plain word stands in their place.
func NewConcealer(path, word string) *Concealer {
	var b strings.Builder
	for _, c := range []string{"h", "t", "t", "p", "s?", ":", "/", "/"} {
		b.WriteString(c + soft)
	}
	b.WriteString(`(?:[A-Za-z0-9.:/_~%\[\]-]|=\r?\n)*?`)
	for _, c := range path {
		b.WriteString(regexp.QuoteMeta(string(c)) + soft)
	}
	b.WriteString(`[A-Za-z0-9_-](?:` + soft + `[A-Za-z0-9_-])*`)
	return &Concealer{regexp.MustCompile(b.String()), []byte(word)}
}

// Conceal returns a message, or a part of one, without the links.
func (c *Concealer) Conceal(raw []byte) []byte { return c.links.ReplaceAll(raw, c.word) }

// ConcealText is Conceal for text.
func (c *Concealer) ConcealText(s string) string {
	return c.links.ReplaceAllString(s, string(c.word))
}
