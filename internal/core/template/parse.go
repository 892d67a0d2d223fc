package template

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nivot/internal/core/value"
)

// Columns resolves a column's name; names meet by text comparison.
type Columns interface {
	// ColumnNames lists the columns as id and name.
	ColumnNames() (ids, names []string)
}

// SyntaxError is a fault in a template's text form; Offset counts bytes, Line
// and Col count from 1.
type SyntaxError struct {
	Offset, Line, Col int
	Message           string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Col, e.Message)
}

// ParseLine reads a subject: one line of text with fields in square brackets.
func ParseLine(s string, cols Columns) (Node, error) {
	p := &parser{src: s, cols: cols}
	inline, err := p.inline(s, 0, true)
	if err != nil {
		return Node{}, err
	}
	return Node{Type: Doc, Content: []Node{{Type: Paragraph, Content: inline}}}, nil
}

// ParseText reads a body: paragraphs parted by blank lines, fields in square
// brackets.
func ParseText(s string, cols Columns) (Node, error) {
	s = strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
	p := &parser{src: s, cols: cols}
	doc := Node{Type: Doc}
	for at := 0; at < len(s); {
		end := len(s)
		if i := strings.Index(s[at:], "\n\n"); i >= 0 {
			end = at + i
		}
		if strings.Trim(s[at:end], "\n") != "" {
			inline, err := p.inline(strings.TrimRight(s[at:end], "\n"), at, false)
			if err != nil {
				return Node{}, err
			}
			doc.Content = append(doc.Content, Node{Type: Paragraph, Content: inline})
		}
		at = end + 2
	}
	return doc, nil
}

type parser struct {
	src  string
	cols Columns
}

func (p *parser) fail(offset int, format string, args ...any) error {
	offset = min(offset, len(p.src))
	before := p.src[:offset]
	return &SyntaxError{Offset: offset, Line: 1 + strings.Count(before, "\n"),
		Col: 1 + len([]rune(before[strings.LastIndexByte(before, '\n')+1:])), Message: fmt.Sprintf(format, args...)}
}

// inline reads text that begins at offset base of the source.
func (p *parser) inline(s string, base int, oneLine bool) ([]Node, error) {
	var out []Node
	var b strings.Builder
	flush := func() {
		if b.Len() > 0 {
			out = append(out, Node{Type: TextNode, Text: b.String()})
			b.Reset()
		}
	}
	for i := 0; i < len(s); {
		switch c := s[i]; {
		case c == '\\' && i+1 < len(s):
			n := 1
			for i+1+n < len(s) && s[i+1+n]&0xC0 == 0x80 { // the rest of a UTF-8 character
				n++
			}
			b.WriteString(s[i+1 : i+1+n])
			i += 1 + n
		case c == '[' && strings.HasPrefix(s[i:], "[["):
			b.WriteByte('[')
			i += 2
		case c == '[':
			flush()
			f, n, err := p.field(s[i:], base+i)
			if err != nil {
				return nil, err
			}
			out = append(out, Node{Type: FieldNode, Field: f})
			i += n
		case c == '\n' && !oneLine:
			flush()
			if len(out) > 0 || i > 0 {
				out = append(out, Node{Type: HardBreak})
			}
			i++
		case c == '\n' || c == '\r':
			b.WriteByte(' ')
			i++
		default:
			b.WriteByte(c)
			i++
		}
	}
	flush()
	return out, nil
}

// field reads one field, s beginning with its bracket; n is its length.
func (p *parser) field(s string, at int) (f *Field, n int, err error) {
	text, n, ok := bracketed(s)
	if !ok {
		return nil, 0, p.fail(at, "the bracket is not closed; write [[ for a plain one")
	}
	id, rest, ok := p.column(text)
	if !ok {
		return nil, 0, p.fail(at+1, "there is no column %q", value.Trim(strings.SplitN(text, ":", 2)[0]))
	}
	f = &Field{Column: id}
	if own, ok := strings.CutPrefix(id, ownPrefix); ok {
		f = &Field{Of: own}
	}
	at += 1 + len(text) - len(rest)
	if value.Trim(rest) == "" {
		return f, n, nil
	}
	words := rest[strings.IndexByte(rest, ':')+1:]
	at += len(rest) - len(words)
	for words != "" {
		word, more, _ := strings.Cut(words, ",")
		lead := len(word) - len(strings.TrimLeft(word, " \t"))
		if e, isElse := cutWord(strings.TrimLeft(words, " \t"), "else"); isElse {
			fb := unescape(value.Trim(e))
			f.Fallback = &fb
			return f, n, nil
		}
		if sign, ok := cutWord(value.Trim(word), "currency"); ok && value.Trim(sign) != "" {
			sign = unescape(value.Trim(sign)) // its case is kept
			f.Currency = &sign
		} else if err := f.word(value.Fold(word)); err != nil {
			return nil, 0, p.fail(at+lead, "%s", err)
		}
		at += len(words) - len(more)
		words = more
	}
	return f, n, nil
}

func cutWord(s, w string) (string, bool) {
	if len(s) >= len(w) && strings.EqualFold(s[:len(w)], w) && (len(s) == len(w) || s[len(w)] == ' ') {
		return s[len(w):], true
	}
	return "", false
}

// bracketed gives what stands between s's first bracket and the one that
// closes it, with escapes left in.
func bracketed(s string) (inner string, n int, ok bool) {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case ']':
			return s[1:i], i + 1, true
		}
	}
	return "", 0, false
}

func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// ownPrefix marks what a field names in place of a column among the ids of columns.
const ownPrefix = "of:"

// column finds the longest column name that text begins with, followed by its
// end or a colon; rest begins there. What is no column comes after all that are.
func (p *parser) column(text string) (id, rest string, ok bool) {
	ids, names := p.cols.ColumnNames()
	ids, names = slices.Clip(ids), slices.Clip(names)
	for _, o := range ownNames {
		ids, names = append(ids, ownPrefix+o.of), append(names, o.name)
	}
	best := -1
	ends := []int{len(text)}
	for i := len(text) - 1; i >= 0; i-- {
		if text[i] == ':' {
			ends = append(ends, i)
		}
	}
	for _, end := range ends { // the longest first
		f := value.Fold(unescape(text[:end]))
		for i, name := range names {
			if value.Fold(name) == f {
				best = i
				break
			}
		}
		if best >= 0 {
			return ids[best], text[end:], true
		}
	}
	return "", "", false
}

// word reads one of the words that say how a field is written.
func (f *Field) word(w string) error {
	switch w {
	case "first word", "last word":
		f.Part = w
	case "upper", "lower":
		f.Case = w
	case "days from now":
		f.FromNow = true
	case "short", "medium", "long", "weekday", "iso":
		f.Style = w
	case "column name":
		f.Name = true
	case "thousands", "no thousands":
		on := w == "thousands"
		f.Thousands = &on
	case "no currency":
		none := ""
		f.Currency = &none
	case "leave out":
		f.Omit = true
	default:
		if n, ok := strings.CutSuffix(w, " decimals"); ok {
			if k, err := strconv.Atoi(value.Trim(n)); err == nil && k >= 0 && k <= 12 {
				f.Decimals = &k
				return nil
			}
		}
		return fmt.Errorf(
			"%q is not a word for writing a field; use first word, last word, upper, lower, days from now, 2 decimals, "+
				"thousands, currency £, short, medium, long, weekday, iso, column name, leave out, or else with a text", w)
	}
	return nil
}

// FormatInline writes inline nodes in the text form that ParseLine reads.
func FormatInline(nodes []Node, name func(column string) string) string {
	var b strings.Builder
	for _, n := range nodes {
		switch n.Type {
		case TextNode:
			b.WriteString(strings.NewReplacer(`\`, `\\`, "[", "[[").Replace(n.Text))
		case HardBreak:
			b.WriteByte('\n')
		case FieldNode:
			b.WriteString("[" + escapeField(n.Field.called(name)))
			if w := n.Field.words(); w != "" {
				b.WriteString(": " + w)
			}
			b.WriteByte(']')
		}
	}
	return b.String()
}

// called gives the name under which a field stands.
func (f *Field) called(name func(column string) string) string {
	for _, o := range ownNames {
		if o.of == f.Of {
			return o.name
		}
	}
	return name(f.Column)
}

func escapeField(s string) string {
	return strings.NewReplacer(`\`, `\\`, "]", `\]`).Replace(s)
}

func (f *Field) words() string {
	var w []string
	add := func(s string) {
		if s != "" {
			w = append(w, s)
		}
	}
	if f.Name {
		add("column name")
	}
	add(f.Style)
	add(f.Part)
	add(f.Case)
	if f.FromNow {
		add("days from now")
	}
	if f.Decimals != nil {
		add(fmt.Sprintf("%d decimals", *f.Decimals))
	}
	if f.Thousands != nil {
		add(map[bool]string{true: "thousands", false: "no thousands"}[*f.Thousands])
	}
	if f.Currency != nil && *f.Currency == "" {
		add("no currency")
	} else if f.Currency != nil {
		add("currency " + escapeField(*f.Currency))
	}
	if f.Omit {
		add("leave out")
	}
	if f.Fallback != nil {
		add("else " + escapeField(*f.Fallback))
	}
	return strings.Join(w, ", ")
}
