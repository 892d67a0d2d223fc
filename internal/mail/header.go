package mail

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"

	"nivot/internal/core/value"
)

// header writes the fields of a message (RFC 5322, sections 2.2 and 3.6), in their order. Every
// line is shorter than 79 characters, but for a word that has no place to be folded at and is
// no text of a person's.
type header struct{ strings.Builder }

func (h *header) field(name, v string) { h.WriteString(name + ": " + v + "\r\n") }

// lineLength is how long a line of a header is at the most (RFC 5322, section 2.1.1).
const lineLength = 76

// date writes an instant (RFC 5322, section 3.3).
func date(t time.Time) string { return t.Format(time.RFC1123Z) }

// plain reports whether text is printable ASCII that nobody takes for something else: no
// encoded word in it, and no white space that folding would lose.
func plain(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return !strings.Contains(s, "=?") && !strings.Contains(s, "  ") && s == strings.TrimSpace(s)
}

// text writes unstructured text that begins at a column of its line: as it is, folded before a
// space, or as encoded words; read again it is the same to the letter.
func text(s string, at int) string {
	s = strings.Map(printable, s)
	if s == "" {
		return ""
	}
	if !plain(s) {
		return words(s, at)
	}
	var b strings.Builder
	for i, w := range strings.SplitAfter(s, " ") {
		word := strings.TrimSuffix(w, " ")
		if len(word) > lineLength-2 {
			return words(s, at)
		}
		switch {
		case i == 0:
		case at+1+len(word) > lineLength:
			b.WriteString("\r\n ")
			at = 1
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += len(word)
	}
	return b.String()
}

// words writes text as encoded words (RFC 2047), of 75 characters at the most and each of whole
// characters, one to a line after the first, which begins at a column.
func words(s string, at int) string {
	const start, end = "=?utf-8?b?", "?="
	var b strings.Builder
	for len(s) > 0 {
		// Three bytes become four letters.
		room := (lineLength - 1 - at - len(start) - len(end)) / 4 * 3
		n := min(len(s), max(room, utf8.UTFMax))
		for n < len(s) && n > 0 && !utf8.RuneStart(s[n]) {
			n--
		}
		if b.Len() > 0 {
			b.WriteString("\r\n ")
		}
		b.WriteString(start + base64.StdEncoding.EncodeToString([]byte(s[:n])) + end)
		s, at = s[n:], 1
	}
	return b.String()
}

// quoting writes what means something in a quoted string (RFC 5322, section 3.2.4).
var quoting = strings.NewReplacer(`\`, `\\`, `"`, `\"`)

// mailboxes writes a list of mailboxes with ASCII domains (RFC 5322, section 3.4), each on a line
// of its own where it does not fit behind the one before; the first begins at a column.
func mailboxes(boxes []value.Mailbox, at int) string {
	var b strings.Builder
	for i, box := range boxes {
		name := strings.Map(printable, box.Name)
		if i > 0 {
			b.WriteByte(',')
			at++
			if at+1+len(name)+len(box.ASCII())+5 > lineLength {
				b.WriteString("\r\n ")
				at = 1
			} else {
				b.WriteByte(' ')
				at++
			}
		}
		address := box.ASCII()
		if name != "" {
			phrase := `"` + quoting.Replace(name) + `"`
			if !plain(name) || len(phrase) > lineLength-20 {
				phrase = words(name, at)
			}
			b.WriteString(phrase)
			at += len(phrase)
			if k := strings.LastIndexByte(phrase, '\n'); k >= 0 {
				at = len(phrase) - k - 1
			}
			address = "<" + address + ">"
			if at+1+len(address) > lineLength {
				b.WriteString("\r\n ")
				at = 1
			} else {
				b.WriteByte(' ')
				at++
			}
		}
		b.WriteString(address)
		at += len(address)
	}
	return b.String()
}

// A FieldError says which field of a sender no email can bear, and why.
type FieldError struct{ Field, Message string }

// Error implements error.
func (e *FieldError) Error() string { return e.Message }

// Bearable refuses a sender's name that cannot stand in a From header, and a name of a mail
// server that is neither a host's (RFC 1123, section 2.1) nor an address; nil for neither.
func Bearable(name, host string) *FieldError {
	if strings.IndexFunc(name, func(r rune) bool { return unicode.IsGraphic(r) && !unicode.IsSpace(r) }) < 0 {
		return &FieldError{"/name", "the name is empty; recipients see it beside the address"}
	}
	if strings.Map(printable, name) != name || !utf8.ValidString(name) {
		return &FieldError{"/name", "the name holds a line break or another character that no email can bear"}
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	ascii, err := idna.Lookup.ToASCII(host)
	if err != nil || len(ascii) > 253 || !hostName.MatchString(ascii) {
		return &FieldError{"/host", fmt.Sprintf("%q is no name of a mail server; write it as mail.place.example", host)}
	}
	return nil
}

var hostName = regexp.MustCompile(`(?i)^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)*$`)

// printable puts a space where a character has no place in a header: a line break or another
// control character.
func printable(r rune) rune {
	if r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0x2028 || r == 0x2029 {
		return ' '
	}
	return r
}
