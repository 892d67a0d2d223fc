// Package exchange reads and writes the open formats that rows and rules come
// in and go out by: CSV and the bundle.
package exchange

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"nivot/internal/core/value"
)

// Limits of a file of rows.
const (
	MaxBytes   = 64 << 20
	MaxRows    = 1_000_000
	MaxColumns = 300
)

// Table is a file of rows as text: its heading and its rows, none longer than
// the heading; Lines gives the line each row begins in, from 1.
type Table struct {
	Heading   []string
	Rows      [][]string
	Lines     []int
	Encoding  string // "UTF-8", "UTF-16" or "Windows-1252"; "workbook"
	Separator rune   // 0 for a workbook
	Blank     int    // lines between the rows that hold nothing

	Worksheets []string // of a workbook: those that can be seen
	Worksheet  string   // and the one that was read

	blanks int // since the last row; those at the end are none
}

// Choice says which part of a workbook is the table.
type Choice struct {
	Worksheet string // "" for the first
	Heading   int    // the row that names the columns; 0 for the first that is filled
}

// ReadTable reads a file of rows, whichever it is: a workbook or text. What
// WriteCSV made harmless is as it was.
func ReadTable(b []byte, c Choice, l *value.Locale) (*Table, error) {
	if bytes.HasPrefix(b, []byte("PK\x03\x04")) {
		return ReadXLSX(b, c.Worksheet, c.Heading, l)
	}
	if bytes.HasPrefix(b, []byte("\xD0\xCF\x11\xE0")) {
		return nil, &FileError{Message: "this is a workbook of the old binary form, or one with a password; save it as .xlsx or .csv"}
	}
	t, err := ReadCSV(b)
	if err != nil {
		return nil, err
	}
	for _, r := range append([][]string{t.Heading}, t.Rows...) {
		for i := range r {
			r[i] = original(r[i])
		}
	}
	return t, nil
}

// add adds a row, the first as the heading. col is where its first cell too
// many stands.
func (t *Table) add(rec []string, line, col int) error {
	if t.Heading == nil {
		if t.Heading = trimEnd(rec); len(t.Heading) > MaxColumns {
			return &FileError{Line: line, Message: fmt.Sprintf("the file has more than %d columns", MaxColumns)}
		}
		return nil
	}
	if n := len(t.Heading); len(rec) > n {
		if !blank(rec[n:]) {
			return &FileError{Line: line, Column: max(col, n+1), Message: fmt.Sprintf("the line has %d cells, the heading only %d%s", len(rec), n,
				map[bool]string{true: "; is a separator not in quotes?"}[t.Separator != 0])}
		}
		rec = rec[:n]
	}
	for len(rec) < len(t.Heading) {
		rec = append(rec, "")
	}
	if len(t.Rows) == MaxRows {
		return &FileError{Line: line, Message: fmt.Sprintf("the file has more than %d rows", MaxRows)}
	}
	t.Blank, t.blanks = t.Blank+t.blanks, 0
	t.Rows = append(t.Rows, rec)
	t.Lines = append(t.Lines, line)
	return nil
}

// FileError is a fault in a file of rows, with its place.
type FileError struct {
	Line, Column int // from 1; 0 where it has no place
	Message      string
}

func (e *FileError) Error() string {
	switch {
	case e.Line == 0:
		return e.Message
	case e.Column == 0:
		return fmt.Sprintf("line %d: %s", e.Line, e.Message)
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
}

// ReadCSV reads RFC 4180 text parted by comma, semicolon or tab, in UTF-8
// with or without byte order mark, UTF-16 or Windows-1252; which, it finds
// out. A line of nothing but white space and separators is no row, a short
// one ends in empty cells, a long one is an error.
func ReadCSV(b []byte) (*Table, error) {
	if len(b) > MaxBytes {
		return nil, &FileError{Message: fmt.Sprintf("the file is larger than %d MB", MaxBytes>>20)}
	}
	text, enc, err := decodeText(b)
	if err != nil {
		return nil, err
	}
	t := &Table{Encoding: enc, Separator: separator(text)}
	next, offset := 1, int64(0) // the line at which the next record begins, if none is empty
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = t.Separator
	r.FieldsPerRecord = -1
	for {
		rec, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, csvError(err)
		}
		line, _ := r.FieldPos(0)
		empty := line - next
		next, offset = next+strings.Count(text[offset:r.InputOffset()], "\n"), r.InputOffset()
		if t.Heading == nil {
			empty = 0
		}
		if t.blanks += empty; blank(rec) {
			if t.Heading != nil {
				t.blanks++
			}
			continue
		}
		col := 0
		if t.Heading != nil && len(rec) > len(t.Heading) {
			line, col = r.FieldPos(len(t.Heading))
		}
		if err := t.add(rec, line, col); err != nil {
			return nil, err
		}
	}
	if t.Heading == nil {
		return nil, &FileError{Message: "the file is empty; its first line should name the columns"}
	}
	return t, nil
}

// Column gives the cells of one column.
func (t *Table) Column(i int) []string {
	out := make([]string, len(t.Rows))
	for k, r := range t.Rows {
		out[k] = r[i]
	}
	return out
}

func csvError(err error) error {
	var p *csv.ParseError
	if !errors.As(err, &p) {
		return &FileError{Message: err.Error()}
	}
	msg := p.Err.Error()
	switch {
	case errors.Is(p.Err, csv.ErrQuote):
		msg = "a quote is not closed, or something stands between it and the next separator"
	case errors.Is(p.Err, csv.ErrBareQuote):
		msg = "a quote stands inside a cell that is not in quotes; write it twice and put the cell in quotes"
	}
	return &FileError{Line: p.Line, Column: p.Column, Message: msg}
}

func blank(rec []string) bool {
	for _, c := range rec {
		if value.Trim(c) != "" {
			return false
		}
	}
	return true
}

func trimEnd(rec []string) []string {
	n := len(rec)
	for n > 0 && value.Trim(rec[n-1]) == "" {
		n--
	}
	return append([]string(nil), rec[:n]...)
}

// separator takes the one of comma, semicolon and tab that the first line
// with text has most of, outside quotes.
func separator(text string) rune {
	count := map[rune]int{}
	quoted := false
	for _, c := range text {
		switch {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '\n' && (count[','] > 0 || count[';'] > 0 || count['\t'] > 0):
			return most(count)
		default:
			count[c]++
		}
	}
	return most(count)
}

func most(count map[rune]int) rune {
	best := ','
	for _, c := range []rune{';', '\t'} {
		if count[c] > count[best] {
			best = c
		}
	}
	return best
}

// decodeText finds the encoding: a byte order mark says it, else zero bytes
// in every second place mean UTF-16, text that is valid UTF-8 is that, and
// the rest is Windows-1252.
func decodeText(b []byte) (text, name string, err error) {
	decode := func(e encoding.Encoding, name string) (string, string, error) {
		out, err := e.NewDecoder().Bytes(b)
		if err != nil {
			return "", "", &FileError{Message: "the file is not valid " + name}
		}
		return strings.TrimPrefix(string(out), "\ufeff"), name, nil
	}
	switch {
	case bytes.HasPrefix(b, []byte{0xEF, 0xBB, 0xBF}):
		b = b[3:]
	case len(b) >= 2 && (binary.BigEndian.Uint16(b) == 0xFEFF || binary.BigEndian.Uint16(b) == 0xFFFE):
		return decode(unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), "UTF-16")
	case zeros(b, 1) > min(len(b), 1<<16)/4:
		return decode(unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM), "UTF-16")
	case zeros(b, 0) > min(len(b), 1<<16)/4:
		return decode(unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), "UTF-16")
	}
	if i := bytes.IndexByte(b, 0); i >= 0 {
		return "", "", &FileError{Line: 1 + bytes.Count(b[:i], []byte("\n")), Message: "this is not a text file"}
	}
	if utf8.Valid(b) {
		return string(b), "UTF-8", nil
	}
	return decode(charmap.Windows1252, "Windows-1252")
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
