package formula

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error is a fault in a formula; Offset counts bytes from 0, Col characters
// from 1.
type Error struct {
	Offset, Col int
	Message     string
}

func (e *Error) Error() string { return fmt.Sprintf("at character %d: %s", e.Col, e.Message) }

type kind uint8

const (
	end kind = iota
	number
	text
	name
	sign // an operator, bracket or comma
)

// token is a piece of the source; str is a text's content, else the piece.
type token struct {
	kind kind
	str  string
	at   int
}

// maxSource bounds a formula's length in bytes.
const maxSource = 4000

type lexer struct {
	src string
	pos int
}

func (l *lexer) fail(at int, format string, args ...any) error {
	at = min(at, len(l.src))
	return &Error{Offset: at, Col: 1 + utf8.RuneCountInString(l.src[:at]), Message: fmt.Sprintf(format, args...)}
}

func wordRune(r rune) bool {
	return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)
}

// next gives the next token. A word may begin with a digit, as a column's name
// may; digits alone, or with a decimal point between them, are a number.
func (l *lexer) next() (token, error) {
	for l.pos < len(l.src) {
		r, n := utf8.DecodeRuneInString(l.src[l.pos:])
		if !unicode.IsSpace(r) {
			break
		}
		l.pos += n
	}
	at := l.pos
	if at >= len(l.src) {
		return token{end, "", at}, nil
	}
	r, n := utf8.DecodeRuneInString(l.src[at:])
	switch {
	case r == utf8.RuneError && n == 1:
		return token{}, l.fail(at, "this is not text")
	case r == '"':
		return l.text(at)
	case wordRune(r):
		return l.word(at), nil
	}
	for _, op := range []string{"<=", ">=", "!=", "<>", "=="} {
		if strings.HasPrefix(l.src[at:], op) {
			l.pos += 2
			return token{sign, op, at}, nil
		}
	}
	if strings.ContainsRune("+-*/&=<>(),", r) {
		l.pos++
		return token{sign, l.src[at : at+1], at}, nil
	}
	return token{}, l.fail(at, "%q has no place in a formula", r)
}

func (l *lexer) word(at int) token {
	digitsOnly := true
	for l.pos < len(l.src) {
		r, n := utf8.DecodeRuneInString(l.src[l.pos:])
		if r == '.' && digitsOnly && l.pos+1 < len(l.src) && l.src[l.pos+1] >= '0' && l.src[l.pos+1] <= '9' &&
			!strings.Contains(l.src[at:l.pos], ".") {
			l.pos++
			continue
		}
		if !wordRune(r) {
			break
		}
		digitsOnly = digitsOnly && r >= '0' && r <= '9'
		l.pos += n
	}
	k := name
	if digitsOnly {
		k = number
	}
	return token{k, l.src[at:l.pos], at}
}

// text reads text in quotes; two quotes inside stand for one.
func (l *lexer) text(at int) (token, error) {
	var b strings.Builder
	for i := at + 1; i < len(l.src); i++ {
		if l.src[i] != '"' {
			b.WriteByte(l.src[i])
			continue
		}
		if i+1 < len(l.src) && l.src[i+1] == '"' {
			b.WriteByte('"')
			i++
			continue
		}
		l.pos = i + 1
		return token{text, b.String(), at}, nil
	}
	return token{}, l.fail(at, "the text has no closing quote")
}

// Name writes a column's name as formulas know it: lower case, every run of
// characters that are neither letters nor digits one underscore.
func Name(column string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(column) {
		if r != '_' && wordRune(r) {
			b.WriteRune(r)
			gap = false
		} else if !gap {
			b.WriteByte('_')
			gap = true
		}
	}
	return b.String()
}

// Names gives the names of columns in formulas; of two equal ones the later
// has _2, the next _3.
func Names(columns []string) []string {
	out := make([]string, len(columns))
	taken := map[string]bool{}
	for i, c := range columns {
		n := Name(c)
		out[i] = n
		for k := 2; taken[out[i]]; k++ {
			out[i] = fmt.Sprintf("%s_%d", n, k)
		}
		taken[out[i]] = true
	}
	return out
}

// Rename puts new names in place of the columns' old ones in a formula's
// source. What cannot be read stays as it is.
func Rename(src string, names map[string]string) string {
	l := lexer{src: src}
	var b strings.Builder
	copied := 0
	var last *token
	put := func() {
		if last == nil {
			return
		}
		if to, ok := names[strings.ToLower(last.str)]; ok {
			b.WriteString(src[copied:last.at])
			b.WriteString(to)
			copied = last.at + len(last.str)
		}
		last = nil
	}
	for {
		t, err := l.next()
		if err != nil {
			return src
		}
		if last != nil && t.kind == sign && t.str == "(" {
			last = nil // a function's name
		}
		put()
		switch t.kind {
		case end:
			b.WriteString(src[copied:])
			return b.String()
		case name:
			last = &t
		}
	}
}
