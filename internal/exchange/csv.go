// Package exchange reads and writes the open formats that rows and rules come
// in and go out by: CSV and the bundle.
package exchange

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"

	"nivot/internal/core/sheet"
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
	Encoding  string // one of Encodings; "workbook"
	Separator rune   // 0 for a workbook
	Blank     int    // lines between the rows that hold nothing
	Rounded   []int  // lines of a workbook with numbers of more than fifteen digits, which it rounds

	Worksheets []string // of a workbook: those that can be seen
	Worksheet  string   // and the one that was read

	headed int // cells of the heading, empty ones at its end too
	blanks int // since the last row; those at the end are none
}

// Choice says which part of a workbook is the table, and how a text is to be read where what
// would be found out is wrong.
type Choice struct {
	Worksheet string // "" for the first
	Heading   int    // the row that names the columns; 0 for the first that is filled
	Separator rune   // of a text; 0 to find out
	Encoding  string // of a text: one of Encodings; "" to find out
}

// ReadTable reads a file of rows, whichever it is: a workbook or text. What
// WriteCSV made harmless is as it was.
func ReadTable(b []byte, c Choice, l *value.Locale) (*Table, error) {
	if bytes.HasPrefix(b, []byte("PK\x03\x04")) {
		return ReadXLSX(b, c.Worksheet, c.Heading, l)
	}
	if isMarkup(b) {
		return nil, &FileError{Line: 1, Column: 1, Message: "this is a web page or another text in markup, whatever its " +
			"name says; open it in a spreadsheet program and save it as .xlsx or .csv"}
	}
	if bytes.HasPrefix(b, []byte("\xD0\xCF\x11\xE0")) {
		return nil,
			&FileError{Message: "this is a workbook of the old binary form, or one with a password; save it as .xlsx or .csv"}
	}
	t, err := ReadCSV(b, c)
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

// isMarkup reports whether a file is a page, as some programs write tables under the name of a workbook.
func isMarkup(b []byte) bool {
	head := bytes.ToLower(bytes.TrimLeft(bytes.TrimPrefix(b[:min(len(b), 1024)], []byte("\xEF\xBB\xBF")), " \t\r\n"))
	for _, h := range []string{"<!doctype", "<html", "<head", "<body", "<table", "<?xml", "<meta", "<style",
		"mime-version:"} {
		if bytes.HasPrefix(head, []byte(h)) {
			return true
		}
	}
	return false
}

// add adds a row, the first as the heading. col is where its first cell too
// many stands. A heading may end in empty cells, under which something stands; a workbook leaves out the last of them.
func (t *Table) add(rec []string, line, col int) error {
	if t.Heading == nil {
		if t.Heading = trimEnd(rec); len(t.Heading) > MaxColumns {
			return &FileError{Line: line, Message: fmt.Sprintf("the file has more than %d columns", MaxColumns)}
		}
		if t.headed = len(rec); t.Separator == 0 && len(t.Heading) > 1 {
			t.headed = max(t.headed, len(t.Heading)+1)
		}
		return nil
	}
	for n := min(len(trimEnd(rec)), t.headed, MaxColumns); len(t.Heading) < n; {
		t.Heading = append(t.Heading, "")
	}
	if n := len(t.Heading); len(rec) > n {
		if !blank(rec[n:]) {
			return &FileError{Line: line, Column: max(col, n+1),
				Message: fmt.Sprintf("the line has %d cells, the heading only %d%s", len(rec), n,
					map[bool]string{true: "; is a separator not in quotes?"}[t.Separator != 0])}
		}
		rec = rec[:n]
	}
	for len(rec) < len(t.Heading) {
		rec = append(rec, "")
	}
	for i, c := range rec {
		if len(c) > sheet.MaxCell {
			return &FileError{Line: line, Column: i + 1, Message: fmt.Sprintf("the cell holds more than %d kB",
				sheet.MaxCell>>10)}
		}
	}
	if len(t.Rows) == MaxRows {
		return &FileError{Line: line, Message: fmt.Sprintf("the file has more than %d rows", MaxRows)}
	}
	t.Blank, t.blanks = t.Blank+t.blanks, 0
	t.Rows = append(t.Rows, rec)
	t.Lines = append(t.Lines, line)
	return nil
}

// even gives all rows as many cells as the heading has come to have, and leaves out columns that have neither a name
// nor a cell.
func (t *Table) even() {
	for i, r := range t.Rows {
		for len(r) < len(t.Heading) {
			r = append(r, "")
		}
		t.Rows[i] = r
	}
	for k := len(t.Heading) - 1; k >= 0; k-- {
		holds := func(r []string) bool { return value.Trim(r[k]) != "" }
		if holds(t.Heading) || len(t.Rows) == 0 || slices.ContainsFunc(t.Rows, holds) {
			continue
		}
		t.Heading = slices.Delete(t.Heading, k, k+1)
		for i, r := range t.Rows {
			t.Rows[i] = slices.Delete(r, k, k+1)
		}
	}
}

// Unnamed lists the columns, from 1, that hold something and have no heading.
func (t *Table) Unnamed() []int {
	out := []int{}
	for i, h := range t.Heading {
		if value.Trim(h) == "" && slices.ContainsFunc(t.Rows, func(r []string) bool { return value.Trim(r[i]) != "" }) {
			out = append(out, i+1)
		}
	}
	return out
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

// ReadCSV reads RFC 4180 text: separated by whatever parts it evenly, or by what its first line
// says ("sep=;"); its lines ended by CR, LF or both; in UTF-8 with or without byte order mark,
// UTF-16 or Windows-1252. Which, it finds out, unless it has been chosen. A line of nothing but
// white space and separators is no row, a short one ends in empty cells, a long one is an error.
func ReadCSV(b []byte, c Choice) (*Table, error) {
	if len(b) > MaxBytes {
		return nil, &FileError{Message: fmt.Sprintf("the file is larger than %d MB", MaxBytes>>20)}
	}
	text, enc, err := decodeText(b, c.Encoding)
	if err != nil {
		return nil, err
	}
	s := scanner{text: text, line: 1}
	said := s.saidSeparator()
	if s.sep = c.Separator; s.sep == 0 {
		if s.sep = said; said == 0 {
			s.sep = separator(text)
		}
	}
	t := &Table{Encoding: enc, Separator: s.sep}
	for {
		rec, line, err := s.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if t.Heading == nil && line < c.Heading {
			continue
		}
		if blank(rec) {
			if t.Heading != nil {
				t.blanks++
			}
			continue
		}
		if err := t.add(rec, line, 0); err != nil {
			var fe *FileError
			if errors.As(err, &fe) && t.Heading != nil && len(rec) > len(t.Heading) {
				at := s.place(s.starts[len(t.Heading)])
				fe.Line, fe.Column = at.Line, at.Column
			}
			return nil, err
		}
	}
	if t.Heading == nil {
		return nil, &FileError{Message: "the file is empty; its first line should name the columns"}
	}
	t.even()
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
