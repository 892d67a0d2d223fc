// Package jsoncheck refuses JSON texts (RFC 8259) that would be costly or ambiguous to read,
// before anything of them is read: nested too deep, with text that is no Unicode, with a name
// that stands twice in one object, or no JSON at all.
package jsoncheck

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"
)

// MaxDepth is how deep objects and lists may stand in one another.
const MaxDepth = 64

// Error says what is wrong with a text, and where.
type Error struct {
	Offset  int // in bytes
	Message string
}

// Error implements error.
func (e *Error) Error() string { return fmt.Sprintf("%s, at byte %d", e.Message, e.Offset+1) }

// Check reports the first fault of a text; nil for none.
func Check(b []byte) error {
	if at := notUTF8(b); at >= 0 {
		return &Error{at, "it holds a byte that is no UTF-8"}
	}
	if at := tooDeep(b); at >= 0 {
		return &Error{at, fmt.Sprintf("it is nested deeper than %d", MaxDepth)}
	}
	var x json.RawMessage
	if err := json.Unmarshal(b, &x); err != nil {
		at := len(b)
		var se *json.SyntaxError
		if errors.As(err, &se) {
			at = int(se.Offset) - 1
		}
		return &Error{max(at, 0), "it is no JSON"}
	}
	if at := loneSurrogate(b); at >= 0 {
		return &Error{at, "it holds half a character (a lone surrogate)"}
	}
	return twice(b)
}

func notUTF8(b []byte) int {
	if utf8.Valid(b) {
		return -1
	}
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n <= 1 {
			return i
		}
		i += n
	}
	return -1
}

// tooDeep gives where the text opens one object or list too many; -1 for nowhere.
func tooDeep(b []byte) int {
	depth, inText := 0, false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case inText && c == '\\':
			i++
		case c == '"':
			inText = !inText
		case inText:
		case c == '{' || c == '[':
			if depth++; depth > MaxDepth {
				return i
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return -1
}

// loneSurrogate gives where an escape is half of a pair without the other half; -1 for nowhere.
// The text is JSON.
func loneSurrogate(b []byte) int {
	unit := func(i int) (u int, ok bool) {
		if i+6 > len(b) || b[i] != '\\' || b[i+1] != 'u' {
			return 0, false
		}
		for _, c := range b[i+2 : i+6] {
			d := int(c|0x20) - 'a' + 10
			if c <= '9' {
				d = int(c - '0')
			}
			u = u<<4 | d
		}
		return u, true
	}
	for i := bytes.IndexByte(b, '\\'); i >= 0 && i < len(b); {
		u, ok := unit(i)
		switch {
		case !ok:
			i += 2
		case u >= 0xd800 && u < 0xdc00:
			if low, ok := unit(i + 6); !ok || low < 0xdc00 || low > 0xdfff {
				return i
			}
			i += 12
		case u >= 0xdc00 && u <= 0xdfff:
			return i
		default:
			i += 6
		}
		next := bytes.IndexByte(b[min(i, len(b)):], '\\')
		if next < 0 {
			return -1
		}
		i += next
	}
	return -1
}

// twice refuses a name that stands twice in one object: who reads which is not said
// (RFC 8259, section 4).
func twice(b []byte) error {
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.UseNumber()
	type level struct {
		names map[string]bool // nil in a list
		value bool            // a name has been read, and its value comes
	}
	var open []level
	for {
		t, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return &Error{int(dec.InputOffset()), "it is no JSON"}
		}
		switch t := t.(type) {
		case json.Delim:
			switch t {
			case '{':
				open = append(open, level{names: map[string]bool{}})
			case '[':
				open = append(open, level{})
			default:
				open = open[:len(open)-1]
				if n := len(open); n > 0 {
					open[n-1].value = false
				}
			}
			continue
		case string:
			if n := len(open); n > 0 && open[n-1].names != nil && !open[n-1].value {
				if open[n-1].names[t] {
					return &Error{int(dec.InputOffset()) - 1, fmt.Sprintf("the name %q stands twice in one object", t)}
				}
				open[n-1].names[t], open[n-1].value = true, true
				continue
			}
		}
		if n := len(open); n > 0 {
			open[n-1].value = false
		}
	}
}
