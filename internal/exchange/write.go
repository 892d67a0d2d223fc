package exchange

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"time"

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
	c := &csvWriter{w: csv.NewWriter(w), o: o}
	c.w.UseCRLF = true
	heading := o.heading()
	for i := range heading {
		heading[i] = harmless(heading[i])
	}
	return c, c.w.Write(heading)
}

type csvWriter struct {
	w *csv.Writer
	o Out
}

func (c *csvWriter) Row(r *sheet.Row, more []value.Value) error {
	rec := make([]string, 0, len(c.o.Columns)+len(more))
	for _, col := range c.o.Columns {
		v := r.Cell(col)
		text := c.o.Sheet.Input(col, v)
		if !v.IsFilled() || v.Type != value.Number {
			text = harmless(text)
		}
		rec = append(rec, text)
	}
	for _, v := range more {
		rec = append(rec, harmless(moreText(v)))
	}
	return c.w.Write(rec)
}

func moreText(v value.Value) string {
	if v.IsFilled() && v.Type == value.Moment {
		return v.Wall.Time().Format("2006-01-02 15:04")
	}
	return v.Str
}

func (c *csvWriter) Close() error {
	c.w.Flush()
	return c.w.Error()
}

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
	for _, c := range x.o.Columns {
		cells = append(cells, x.cell(r.Cell(c), x.o.Sheet.Input(c, r.Cell(c))))
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
		return text
	}
	switch v.Type {
	case value.Number:
		// A binary float would change what does not fit fifteen digits.
		if n, exact := v.Num.Float64(); exact || len(v.Num.Coefficient().String()) <= 15 {
			return n
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
	return text
}

func (x *xlsxWriter) Close() error {
	err := x.s.Flush()
	if err == nil {
		err = x.f.Write(x.w)
	}
	return errors.Join(err, x.f.Close())
}

// Stamp names a file by the day it was written on.
func Stamp(name string, at time.Time, ext string) string {
	return fmt.Sprintf("%s %s.%s", notInName.ReplaceAllString(name, " "), at.Format("2006-01-02"), ext)
}
