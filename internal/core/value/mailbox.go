package value

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// Mailbox is one mailbox of RFC 5322, section 3.4: an address and perhaps the
// name that stands before it.
type Mailbox struct {
	Name   string
	Local  string // local part as typed; quoted where it was
	Domain string // as typed; ToASCII gives the A-label form
}

// Address is local@domain as typed.
func (m Mailbox) Address() string { return m.Local + "@" + m.Domain }

// ASCII is the address with its domain in A-labels (RFC 5890), the form in
// which it goes to a mail server.
func (m Mailbox) ASCII() string {
	if plainDomain(m.Domain) {
		return m.Local + "@" + m.Domain
	}
	d, err := idna.Lookup.ToASCII(m.Domain)
	if err != nil {
		d = m.Domain
	}
	return m.Local + "@" + d
}

// plainDomain tells whether a domain is its own A-label form: small letters,
// digits and single hyphens inside labels of up to 63 bytes.
func plainDomain(d string) bool {
	if d == "" || len(d) > 253 {
		return false
	}
	start := 0
	for i := 0; i <= len(d); i++ {
		if i == len(d) || d[i] == '.' {
			if n := i - start; n == 0 || n > 63 || d[start] == '-' || d[i-1] == '-' {
				return false
			}
			start = i + 1
			continue
		}
		c := d[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-') || c == '-' && (i == start || d[i-1] == '-') {
			return false
		}
	}
	return true
}

// PlainAddress reports whether a text is one address that is its own key: small
// letters, digits, dots and hyphens with one @.
func PlainAddress(s string) bool {
	at := -1
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9':
		case c == '@' && at < 0:
			at = i
		case c == '.' && i > 0 && s[i-1] != '.' && s[i-1] != '@' || c == '-':
		default:
			return false
		}
	}
	return at > 0 && at <= 64 && s[at-1] != '.' && plainDomain(s[at+1:])
}

// Key is what two mailboxes have in common when they are the same one:
// without case, the domain in A-labels.
func (m Mailbox) Key() string { return strings.ToLower(m.ASCII()) }

// String writes "name <address>", the name quoted where RFC 5322 asks for it.
func (m Mailbox) String() string {
	if m.Name == "" {
		return m.Address()
	}
	return quotePhrase(m.Name) + " <" + m.Address() + ">"
}

// quotePhrase quotes a display name unless it is a run of atoms.
func quotePhrase(s string) string {
	for _, r := range s {
		if r != ' ' && r < 0x80 && !isAtext(r) {
			return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
		}
	}
	return s
}

// isAtext is atext of RFC 5322, section 3.2.3.
func isAtext(r rune) bool {
	switch {
	case 'a' <= r && r <= 'z', 'A' <= r && r <= 'Z', '0' <= r && r <= '9':
		return true
	}
	return strings.ContainsRune("!#$%&'*+-/=?^_`{|}~", r)
}

// ParseMailboxes reads a mailbox list: mailboxes parted by comma, semicolon
// or line break, empty parts passed over. Display names may hold dots without
// quotes. One bad mailbox makes the whole list an error that names it.
func ParseMailboxes(s string) ([]Mailbox, error) {
	parts, err := splitMailboxes(s)
	if err != nil {
		return nil, err
	}
	var out []Mailbox
	for _, p := range parts {
		if p = Trim(p); p == "" {
			continue
		}
		m, err := parseMailbox(p)
		if err != nil {
			return nil, fmt.Errorf("%q is not an address: %w", p, err)
		}
		out = append(out, m)
	}
	if len(out) == 0 {
		return nil, errors.New("there is no address")
	}
	return out, nil
}

// splitMailboxes parts the list at separators outside quotes, comments and
// angle brackets, and drops comments (RFC 5322, section 3.2.2).
func splitMailboxes(s string) ([]string, error) {
	if !strings.ContainsAny(s, "\"\\(<>,;\r\n") && utf8.ValidString(s) {
		return []string{s}, nil // one plain address, as nearly all are
	}
	var parts []string
	var b strings.Builder
	quoted, escaped, angle, depth := false, false, false, 0
	for _, r := range s {
		switch {
		case escaped:
			escaped = false
		case (quoted || depth > 0) && r == '\\':
			escaped = true
		case quoted:
			quoted = r != '"'
		case r == '(':
			depth++
			continue
		case depth > 0:
			if r == ')' {
				depth--
			}
			continue
		case r == '"':
			quoted = true
		case r == '<':
			angle = true
		case r == '>':
			angle = false
		case r == '\n' || r == '\r' || (!angle && (r == ',' || r == ';')):
			parts = append(parts, b.String())
			b.Reset()
			angle = false
			continue
		}
		if depth == 0 {
			b.WriteRune(r)
		}
	}
	if quoted || depth > 0 {
		return nil, fmt.Errorf("%q has a quote or bracket that is not closed", s)
	}
	return append(parts, b.String()), nil
}

func parseMailbox(p string) (Mailbox, error) {
	for _, r := range p {
		if unicode.IsControl(r) {
			return Mailbox{}, errors.New("it holds a control character")
		}
	}
	spec, name := p, ""
	if i := indexOutsideQuotes(p, '<'); i >= 0 {
		if !strings.HasSuffix(p, ">") {
			return Mailbox{}, errors.New("something stands behind the closing bracket")
		}
		var err error
		if name, err = unquotePhrase(Trim(p[:i])); err != nil {
			return Mailbox{}, err
		}
		spec = Trim(p[i+1 : len(p)-1])
	}
	local, domain, err := splitAddress(spec)
	return Mailbox{Name: name, Local: local, Domain: domain}, err
}

func indexOutsideQuotes(s string, c rune) int {
	quoted, escaped := false, false
	for i, r := range s {
		switch {
		case escaped:
			escaped = false
		case quoted && r == '\\':
			escaped = true
		case r == '"':
			quoted = !quoted
		case !quoted && r == c:
			return i
		}
	}
	return -1
}

// unquotePhrase reads a display name: words and quoted strings (RFC 5322,
// section 3.2.5), with dots allowed in words.
func unquotePhrase(s string) (string, error) {
	var b strings.Builder
	quoted, escaped := false, false
	for _, r := range s {
		switch {
		case escaped:
			escaped = false
			b.WriteRune(r)
		case quoted && r == '\\':
			escaped = true
		case r == '"':
			quoted = !quoted
		case quoted || isAtext(r) || r == '.' || r >= 0x80 || r == ' ' || r == '\t':
			b.WriteRune(r)
		default:
			return "", fmt.Errorf("the name before it holds %q, which needs quotes", r)
		}
	}
	return strings.Join(strings.Fields(b.String()), " "), nil
}

// splitAddress reads an addr-spec (RFC 5322, section 3.4.1) with the limits
// of RFC 5321, section 4.5.3.1.
func splitAddress(s string) (local, domain string, err error) {
	at := strings.LastIndexByte(s, '@')
	if at <= 0 || at == len(s)-1 {
		return "", "", errors.New("it needs a name, an @ and a domain")
	}
	local, domain = s[:at], s[at+1:]
	if len(local) > 64 {
		return "", "", errors.New("the part before the @ is longer than 64 bytes")
	}
	if local[0] == '"' {
		if !validQuoted(local) {
			return "", "", errors.New("the quotes before the @ do not close")
		}
	} else {
		for _, atom := range strings.Split(local, ".") {
			if atom == "" {
				return "", "", errors.New("a dot before the @ stands at an end or beside another")
			}
			for _, r := range atom {
				if !isAtext(r) {
					return "", "", fmt.Errorf("%q cannot stand before the @", r)
				}
			}
		}
	}
	if plainDomain(domain) {
		return local, domain, nil
	}
	if i := strings.IndexFunc(domain, invisible); i >= 0 {
		return "", "", fmt.Errorf("%q is not a domain: a character in it is not seen", domain)
	}
	ascii, err := idna.Lookup.ToASCII(domain)
	if err != nil || len(ascii) > 253 || ascii == "" {
		return "", "", fmt.Errorf("%q is not a domain", domain)
	}
	for _, label := range strings.Split(ascii, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return "", "", fmt.Errorf("%q is not a domain", domain)
		}
		for _, r := range label {
			if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-') {
				return "", "", fmt.Errorf("%q is not a domain", domain)
			}
		}
	}
	return local, domain, nil
}

// invisible reports whether a character takes no room: in a domain it makes an address another one that looks the
// same, or is silently left out (UTS 46, section 4).
func invisible(r rune) bool {
	return unicode.In(r, unicode.Cf, unicode.Cc, unicode.Variation_Selector, unicode.Other_Default_Ignorable_Code_Point) ||
		r == 0x00ad
}

func validQuoted(s string) bool {
	if len(s) < 2 || s[len(s)-1] != '"' {
		return false
	}
	escaped := false
	for i := 1; i < len(s)-1; i++ {
		switch c := s[i]; {
		case c < 0x20 || c >= 0x7f:
			return false
		case escaped:
			escaped = false
		case c == '\\':
			escaped = true
		case c == '"':
			return false
		}
	}
	return !escaped
}
