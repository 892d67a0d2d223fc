package exchange

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"nivot/internal/core/value"
)

// Encodings are those that a text is read in.
var Encodings = []string{"UTF-8", "UTF-16", "Windows-1252", "ISO-8859-1"}

// spot is a place in a text, from 1.
type spot struct{ Line, Column int }

// String writes it.
func (p spot) String() string { return fmt.Sprintf("line %d, column %d", p.Line, p.Column) }

// decodeText decodes a text. Where its encoding has not been chosen it is found: a byte order
// mark says it, else zero bytes in every second place mean UTF-16, text that is valid UTF-8 is
// that, and the rest is Windows-1252, unless what is not ASCII is UTF-8 but for a few bytes: these
// become value.Lost, which makes their cells unreadable. What stands for no character in another encoding is
// refused with its line.
func decodeText(b []byte, chosen string) (text, name string, err error) {
	if chosen != "" && !slices.Contains(Encodings, chosen) {
		return "", "", &FileError{Message: fmt.Sprintf("the encoding %q is not known; there are %s", chosen,
			strings.Join(Encodings, ", "))}
	}
	name = chosen
	if name == "" {
		name = encodingOf(b)
	}
	switch name {
	case "UTF-16":
		text, err = fromUTF16(b)
	case "UTF-8":
		text = fromUTF8(bytes.TrimPrefix(b, []byte("\xEF\xBB\xBF")))
	default:
		text, err = fromBytes(b, name)
	}
	if err != nil {
		return "", "", err
	}
	if i := strings.IndexByte(text, 0); i >= 0 {
		return "", "", &FileError{Line: lineAt([]byte(text[:i])),
			Message: "it holds a NUL character, so this is not a text file"}
	}
	return text, name, nil
}

func encodingOf(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte("\xEF\xBB\xBF")):
		return "UTF-8"
	case len(b) >= 2 && (binary.BigEndian.Uint16(b) == 0xFEFF || binary.BigEndian.Uint16(b) == 0xFFFE):
		return "UTF-16"
	case zeros(b, 1) > min(len(b), 1<<16)/4, zeros(b, 0) > min(len(b), 1<<16)/4:
		return "UTF-16"
	case utf8.Valid(b):
		return "UTF-8"
	}
	whole, broken := 0, 0
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			broken++
		case n > 1:
			whole++
		}
		i += n
	}
	if whole >= broken || whole > 0 && broken <= fewBroken {
		return "UTF-8"
	}
	return "Windows-1252"
}

// fewBroken is how many bytes may be wrong in a text in UTF-8, however short it is: letters of Windows-1252 hardly
// ever stand together so that they are a character of UTF-8.
const fewBroken = 3

// lineAt gives the line that what follows b is in.
func lineAt(b []byte) int {
	return 1 + bytes.Count(b, []byte("\n")) + bytes.Count(b, []byte("\r")) - bytes.Count(b, []byte("\r\n"))
}

func fromUTF8(b []byte) string { return strings.ToValidUTF8(string(b), string(value.Lost)) }

func fromBytes(b []byte, name string) (string, error) {
	table := charmap.Windows1252
	if name == "ISO-8859-1" {
		table = charmap.ISO8859_1
	}
	var out strings.Builder
	out.Grow(len(b) + len(b)/8)
	for i, c := range b {
		r := table.DecodeByte(c)
		if r == utf8.RuneError {
			return "", &FileError{Line: lineAt(b[:i]),
				Message: fmt.Sprintf(
					"the byte %#02x stands for no character in %s; mend it there, or choose the encoding that the file has", c, name)}
		}
		out.WriteRune(r)
	}
	return out.String(), nil
}

func fromUTF16(b []byte) (string, error) {
	var order binary.ByteOrder = binary.LittleEndian
	switch {
	case len(b) >= 2 && binary.BigEndian.Uint16(b) == 0xFEFF:
		order, b = binary.BigEndian, b[2:]
	case len(b) >= 2 && binary.LittleEndian.Uint16(b) == 0xFEFF:
		b = b[2:]
	case zeros(b, 0) > zeros(b, 1):
		order = binary.BigEndian
	}
	var out strings.Builder
	out.Grow(len(b) * 3 / 4)
	half := func() error {
		return &FileError{Line: lineAt([]byte(out.String())),
			Message: "half a character of UTF-16 stands there; the file is cut off or damaged"}
	}
	for i := 0; i < len(b); i += 2 {
		if i+1 == len(b) {
			return "", half()
		}
		r := rune(order.Uint16(b[i:]))
		if utf16.IsSurrogate(r) {
			if i+3 >= len(b) {
				return "", half()
			}
			if r = utf16.DecodeRune(r, rune(order.Uint16(b[i+2:]))); r == utf8.RuneError {
				return "", half()
			}
			i += 2
		}
		out.WriteRune(r)
	}
	return out.String(), nil
}

// zeros counts zero bytes at every second place from start, over the head of
// the file.
func zeros(b []byte, start int) int {
	n := 0
	for i := start; i < min(len(b), 1<<16); i += 2 {
		if b[i] == 0 {
			n++
		}
	}
	return n
}
