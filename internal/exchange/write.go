package exchange

import (
	"archive/zip"
	"bufio"
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// formulaLike is text that a spreadsheet program would take for a formula,
// made harmless already or not.
var formulaLike = regexp.MustCompile(`^'*[=+\-@\t\r]`)

// harmless puts an apostrophe before text that looks like a formula; original
// takes it away again.
func harmless(s string) string {
	if formulaLike.MatchString(s) {
		return "'" + s
	}
	return s
}

func original(s string) string {
	if len(s) > 1 && s[0] == '\'' && formulaLike.MatchString(s) {
		return s[1:]
	}
	return s
}

// Out is a table on its way out: columns of a sheet, and more that are worked
// out of each row.
type Out struct {
	Sheet   *sheet.Sheet
	Columns []*sheet.Column
	More    []string // headings
}

// Writer writes rows one after the other.
type Writer interface {
	// Row writes a row, with the cells of the columns besides.
	Row(r *sheet.Row, more []value.Value) error
	Close() error
}

func (o *Out) heading() []string {
	var out []string
	for _, c := range o.Columns {
		out = append(out, c.Name)
	}
	return append(out, o.More...)
}

// CSVWriter writes RFC 4180 text in UTF-8, cells as a person would type them.
// Text that looks like a formula is made harmless; ReadTable gives it back as
// it was.
func CSVWriter(w io.Writer, o Out) (Writer, error) {
	c := &csvWriter{w: bufio.NewWriter(w), o: o}
	heading := o.heading()
	for i := range heading {
		heading[i] = harmless(heading[i])
	}
	return c, c.write(heading)
}

type csvWriter struct {
	w *bufio.Writer
	o Out
}

// write writes a record. A cell that holds what means something, or white space at an end, is
// put in quotes and stands in them as it is, its breaks too.
func (c *csvWriter) write(rec []string) error {
	for i, cell := range rec {
		if i > 0 {
			_ = c.w.WriteByte(',') // an error stays with the writer
		}
		if len(rec) > 1 && cell == "" || cell != "" && !strings.ContainsAny(cell, ",;\t|\"\r\n") &&
			value.Trim(cell) == cell && !strings.HasPrefix(cell, "\ufeff") {
			_, _ = c.w.WriteString(cell)
			continue
		}
		_, _ = c.w.WriteString(`"` + strings.ReplaceAll(cell, `"`, `""`) + `"`)
	}
	_, err := c.w.WriteString("\r\n")
	return err
}

func (c *csvWriter) Row(r *sheet.Row, more []value.Value) error {
	rec := make([]string, 0, len(c.o.Columns)+len(more))
	for _, col := range c.o.Columns {
		rec = append(rec, cellText(c.o.Sheet, col, r.Cell(col)))
	}
	for _, v := range more {
		rec = append(rec, harmless(moreText(v)))
	}
	return c.write(rec)
}

// cellText is a cell as it stands in CSV. A number is no formula, even below zero.
func cellText(s *sheet.Sheet, c *sheet.Column, v value.Value) string {
	if v.IsFilled() && v.Type == value.Number {
		return s.Input(c, v)
	}
	return harmless(s.Input(c, v))
}

func moreText(v value.Value) string {
	if v.IsFilled() && v.Type == value.Moment {
		return v.Wall.Time().Format("2006-01-02 15:04")
	}
	return v.Str
}

func (c *csvWriter) Close() error { return c.w.Flush() }

// XLSXWriter writes a workbook of one worksheet (ECMA-376) whose cells are
// what they are: numbers, dates, yes or no, text.
func XLSXWriter(w io.Writer, o Out) (Writer, error) {
	f := excelize.NewFile()
	name := worksheetName(o.Sheet.Name)
	if err := f.SetSheetName("Sheet1", name); err != nil {
		return nil, err
	}
	x := &xlsxWriter{f: f, w: w, o: o, line: 1}
	var err error
	if x.s, err = f.NewStreamWriter(name); err != nil {
		return nil, err
	}
	for _, st := range []struct {
		id   *int
		code string
	}{{&x.day, "yyyy-mm-dd"}, {&x.moment, "yyyy-mm-dd hh:mm"}} {
		if *st.id, err = f.NewStyle(&excelize.Style{CustomNumFmt: &st.code}); err != nil {
			return nil, err
		}
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	for i := range o.heading() {
		if err := x.s.SetColWidth(i+1, i+1, 18); err != nil {
			return nil, err
		}
	}
	var head []any
	for _, h := range o.heading() {
		head = append(head, excelize.Cell{StyleID: bold, Value: h})
	}
	return x, x.write(head)
}

var notInName = regexp.MustCompile(`[:\\/?*\[\]']`)

func worksheetName(s string) string {
	r := []rune(notInName.ReplaceAllString(s, " "))
	if len(r) == 0 {
		return "Rows"
	}
	return string(r[:min(31, len(r))])
}

type xlsxWriter struct {
	f           *excelize.File
	s           *excelize.StreamWriter
	w           io.Writer
	o           Out
	line        int
	day, moment int
	coded       bool   // something stands in for a character
	mark        string // and begins so
}

func (x *xlsxWriter) write(cells []any) error {
	if x.line > excelize.TotalRows {
		return fmt.Errorf("a worksheet holds at most %d rows; export CSV", excelize.TotalRows)
	}
	at, err := excelize.CoordinatesToCellName(1, x.line)
	if err != nil {
		return err
	}
	x.line++
	return x.s.SetRow(at, cells)
}

func (x *xlsxWriter) Row(r *sheet.Row, more []value.Value) error {
	cells := make([]any, 0, len(x.o.Columns)+len(more))
	for i, c := range x.o.Columns {
		text := x.o.Sheet.Input(c, r.Cell(c))
		if len(text) > excelize.TotalCellChars && len(utf16.Encode([]rune(text))) > excelize.TotalCellChars {
			return &FileError{Line: x.line, Column: i + 1, Message: fmt.Sprintf(
				"the cell “%s” of row %s has more characters than the %d that a workbook holds; export CSV", c.Name,
				x.o.Sheet.RowName(r), excelize.TotalCellChars)}
		}
		cells = append(cells, x.cell(r.Cell(c), text))
	}
	for _, v := range more {
		cells = append(cells, x.cell(v, v.Str))
	}
	return x.write(cells)
}

// firstDay is the first that workbooks count right: they take 1900 for a leap
// year.
var firstDay = value.DayOf(1900, 3, 1)

func (x *xlsxWriter) cell(v value.Value, text string) any {
	if !v.IsFilled() {
		if v.IsEmpty() {
			return nil
		}
		return x.text(text)
	}
	switch v.Type {
	case value.Number:
		// A binary float would change what does not fit fifteen digits.
		if len(strings.TrimRight(v.Num.Coefficient().String(), "0")) <= 15 {
			return v.Num.InexactFloat64()
		}
	case value.YesNo:
		return v.Yes
	case value.Date, value.Moment:
		if v.Wall.Day < firstDay {
			return text
		}
		style := x.day
		if v.Type == value.Moment {
			style = x.moment
		}
		return excelize.Cell{StyleID: style, Value: v.Wall.Time()}
	}
	return x.text(text)
}

// text stands in for characters that XML cannot carry, until the worksheet is written; workbooks
// write them as _xHHHH_ (ECMA-376 part 1, 22.9.2.19), which the library would take for text.
func (x *xlsxWriter) text(s string) string {
	if strings.IndexFunc(s, notInXML) < 0 {
		return s
	}
	x.coded = true
	var b strings.Builder
	for _, r := range s {
		if notInXML(r) {
			fmt.Fprintf(&b, "%s%04X;", x.standIn(), r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func notInXML(r rune) bool {
	return r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff
}

// standIn gives what nobody writes, of this writer alone.
func (x *xlsxWriter) standIn() string {
	if x.mark == "" {
		x.mark = "\ue0f1" + rand.Text()
	}
	return x.mark
}

func (x *xlsxWriter) Close() error {
	err := x.s.Flush()
	switch {
	case err != nil:
	case x.coded:
		err = x.decode()
	default:
		err = x.f.Write(x.w)
	}
	return errors.Join(err, x.f.Close())
}

// decode writes the workbook with what stands in for characters as workbooks write them.
func (x *xlsxWriter) decode() error {
	var b bytes.Buffer
	if err := x.f.Write(&b); err != nil {
		return err
	}
	in, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		return err
	}
	coded := regexp.MustCompile(regexp.QuoteMeta(x.mark) + "([0-9A-F]{4});")
	out := zip.NewWriter(x.w)
	for _, f := range in.File {
		if !strings.HasPrefix(f.Name, "xl/worksheets/") {
			if err := out.Copy(f); err != nil {
				return err
			}
			continue
		}
		part, err := f.Open()
		if err != nil {
			return err
		}
		data, err := io.ReadAll(part)
		if err != nil {
			return err
		}
		to, err := out.Create(f.Name)
		if err != nil {
			return err
		}
		if _, err := to.Write(coded.ReplaceAll(data, []byte("_x${1}_"))); err != nil {
			return err
		}
	}
	return out.Close()
}

// Stamp names a file by the day it was written on.
func Stamp(name string, at time.Time, ext string) string {
	return fmt.Sprintf("%s %s.%s", notInName.ReplaceAllString(name, " "), at.Format("2006-01-02"), ext)
}
