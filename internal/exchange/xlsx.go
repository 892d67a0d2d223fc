package exchange

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/shopspring/decimal"
	"github.com/xuri/excelize/v2"

	"nivot/internal/core/value"
)

// maxUnpacked bounds the bytes that a workbook unpacks to.
const maxUnpacked = 400 << 20

// maxCells bounds the cells of a worksheet that are read.
const maxCells = 20_000_000

// visible lists the worksheets that can be seen.
func visible(f *excelize.File) (out []string) {
	for _, name := range f.GetSheetList() {
		if ok, err := f.GetSheetVisible(name); err == nil && ok {
			out = append(out, name)
		}
	}
	return out
}

func openWorkbook(b []byte) (f *excelize.File, err error) {
	if len(b) > MaxBytes {
		return nil, &FileError{Message: fmt.Sprintf("the file is larger than %d MB", MaxBytes>>20)}
	}
	defer func() {
		if p := recover(); p != nil {
			f, err = nil, &FileError{Message: "the workbook is damaged and cannot be opened"}
		}
	}()
	f, err = excelize.OpenReader(bytes.NewReader(b), excelize.Options{UnzipSizeLimit: maxUnpacked, UnzipXMLSizeLimit: maxUnpacked, RawCellValue: true})
	switch {
	case err == nil:
		return f, nil
	case errors.Is(err, excelize.ErrWorkbookFileFormat), errors.Is(err, excelize.ErrWorkbookPassword):
		return nil, &FileError{Message: "the workbook cannot be opened: " + err.Error()}
	case strings.Contains(err.Error(), "unzip size"):
		return nil, &FileError{Message: fmt.Sprintf("the workbook unpacks to more than %d MB", maxUnpacked>>20)}
	}
	return nil, &FileError{Message: "this is not a workbook, or it is damaged: " + err.Error()}
}

// ReadXLSX reads a worksheet (ECMA-376 part 1, 18.3) of a workbook, "" for the
// first that can be seen. The heading is in row heading, 0 for the first row
// that holds anything. Dates come out in ISO form, numbers and yes or no in the
// words of the locale, all else as it stands, so that each reads back as what
// it is. A line is a row of the worksheet.
func ReadXLSX(b []byte, worksheet string, heading int, l *value.Locale) (t *Table, err error) {
	f, err := openWorkbook(b)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	defer func() {
		if p := recover(); p != nil {
			t, err = nil, &FileError{Message: "the workbook is damaged and cannot be read"}
		}
	}()
	names := visible(f)
	if len(names) == 0 {
		return nil, &FileError{Message: "the workbook has no worksheet"}
	}
	if worksheet == "" {
		worksheet = names[0]
	}
	r := &sheetReader{f: f, locale: l, dates: map[int]bool{}}
	if props, err := f.GetWorkbookProps(); err == nil && props.Date1904 != nil {
		r.from1904 = *props.Date1904
	}
	// What the cells hold and what they are is read side by side.
	kinds := make(chan error, 1)
	go func() {
		defer func() {
			if p := recover(); p != nil {
				kinds <- &FileError{Message: "the workbook is damaged and cannot be read"}
			}
		}()
		var err error
		r.kinds, err = r.readKinds(worksheet)
		kinds <- err
	}()
	raw, rawErr := r.readRaw(worksheet)
	if err := <-kinds; err != nil {
		return nil, err
	}
	if rawErr != nil {
		return nil, rawErr
	}
	t, err = r.read(raw, worksheet, heading)
	if err == nil {
		t.Encoding, t.Worksheets, t.Worksheet = "workbook", names, worksheet
	}
	return t, err
}

type sheetReader struct {
	f        *excelize.File
	locale   *value.Locale
	kinds    map[int][]cellKind // by row, from 1
	dates    map[int]bool       // by style: whether it writes a date
	from1904 bool
}

type cellKind uint8

const (
	plain cellKind = iota
	number
	date
	yesNo
	fault
)

// readRaw reads the texts of a worksheet's rows as they are kept.
func (r *sheetReader) readRaw(worksheet string) ([][]string, error) {
	rows, err := r.f.Rows(worksheet)
	if err != nil {
		return nil, &FileError{Message: fmt.Sprintf("the workbook has no worksheet %q", worksheet)}
	}
	defer rows.Close()
	var out [][]string
	cells := 0
	for rows.Next() {
		rec, err := rows.Columns()
		if err != nil {
			return nil, &FileError{Line: len(out) + 1, Message: "the row cannot be read: " + err.Error()}
		}
		if cells += len(rec); len(out) > MaxRows || cells > maxCells {
			return nil, &FileError{Line: len(out) + 1, Message: fmt.Sprintf("the worksheet has more than %d rows or %d cells", MaxRows, maxCells)}
		}
		out = append(out, rec)
	}
	if err := rows.Error(); err != nil {
		return nil, &FileError{Message: "the worksheet cannot be read: " + err.Error()}
	}
	return out, nil
}

func (r *sheetReader) read(rows [][]string, worksheet string, heading int) (*Table, error) {
	t := &Table{}
	for i, rec := range rows {
		line := i + 1
		if t.Heading == nil && line < heading {
			continue
		}
		var err error
		for k, c := range rec {
			if rec[k], err = r.text(line, k, c); err != nil {
				return nil, &FileError{Line: line, Column: k + 1, Message: err.Error()}
			}
		}
		if blank(rec) {
			if heading == line {
				return nil, &FileError{Line: line, Message: "the row that should name the columns is empty"}
			}
			if t.Heading != nil {
				t.blanks++
			}
			continue
		}
		if err := t.add(rec, line, 0); err != nil {
			return nil, err
		}
	}
	if t.Heading == nil {
		return nil, &FileError{Message: fmt.Sprintf("the worksheet %s is empty; its first row should name the columns", worksheet)}
	}
	return t, nil
}

// text writes a cell so that it reads back as what it is.
func (r *sheetReader) text(line, i int, raw string) (string, error) {
	kind := plain
	if k := r.kinds[line]; i < len(k) {
		kind = k[i]
	}
	if raw == "" {
		return "", nil
	}
	switch kind {
	case yesNo:
		return r.locale.YesNo(raw == "1" || strings.EqualFold(raw, "true")), nil
	case number, date:
		x, err := strconv.ParseFloat(raw, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
			return raw, nil
		}
		if kind == date {
			if s, ok := r.day(x); ok {
				return s, nil
			}
		}
		// Workbooks keep binary floats and show fifteen digits of them.
		d, err := decimal.NewFromString(strconv.FormatFloat(x, 'g', 15, 64))
		if err != nil {
			return raw, nil
		}
		return value.FormatNumber(d, value.NumberFormat{}, r.locale), nil
	}
	if len(raw) > 32<<10 {
		return "", errors.New("the cell holds more than 32 kB")
	}
	return raw, nil
}

// day writes a serial date; one below a day is a time alone.
func (r *sheetReader) day(x float64) (string, bool) {
	if x < 0 || x > 2_958_466 {
		return "", false
	}
	at, err := excelize.ExcelDateToTime(x, r.from1904)
	if err != nil {
		return "", false
	}
	at = at.Round(time.Second)
	switch {
	case x < 1 && !r.from1904:
		return at.Format("15:04"), true
	case at.Equal(at.Truncate(24 * time.Hour)):
		return at.Format("2006-01-02"), true
	case at.Second() != 0:
		return at.Format("2006-01-02 15:04:05"), true
	}
	return at.Format("2006-01-02 15:04"), true
}

// readKinds goes through the worksheet's own XML for what the rows do not
// tell: each cell's type and style.
func (r *sheetReader) readKinds(worksheet string) (map[int][]cellKind, error) {
	data, err := r.part(worksheet)
	if err != nil {
		return nil, err
	}
	out := map[int][]cellKind{}
	d := xml.NewDecoder(bytes.NewReader(data))
	row, col, cells := 0, 0, 0
	for {
		tok, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, &FileError{Line: row, Message: "the worksheet is damaged: " + err.Error()}
		}
		start, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		switch start.Name.Local {
		case "row":
			row++
			col = 0
			if n, ok := intAttr(start, "r"); ok {
				row = n
			}
			if row > MaxRows+1 {
				return nil, &FileError{Line: row, Message: fmt.Sprintf("the worksheet has more than %d rows", MaxRows)}
			}
		case "c":
			if col, err = r.at(start, col); err != nil {
				return nil, err
			}
			if cells++; cells > maxCells {
				return nil, &FileError{Line: row, Message: fmt.Sprintf("the worksheet has more than %d cells", maxCells)}
			}
			if k := r.kind(start); k != plain && col <= MaxColumns {
				for len(out[row]) < col {
					out[row] = append(out[row], plain)
				}
				out[row][col-1] = k
			}
		}
	}
}

// at gives the column of a cell, from 1.
func (r *sheetReader) at(c xml.StartElement, before int) (int, error) {
	for _, a := range c.Attr {
		if a.Name.Local == "r" {
			col, row, err := excelize.CellNameToCoordinates(a.Value)
			if err != nil {
				return 0, &FileError{Message: fmt.Sprintf("the worksheet is damaged: there is no cell %q", a.Value)}
			}
			if col > MaxColumns {
				return 0, &FileError{Line: row, Column: col, Message: fmt.Sprintf("the worksheet has more than %d columns", MaxColumns)}
			}
			return col, nil
		}
	}
	return before + 1, nil
}

func intAttr(e xml.StartElement, name string) (int, bool) {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			n, err := strconv.Atoi(a.Value)
			return n, err == nil
		}
	}
	return 0, false
}

func (r *sheetReader) kind(c xml.StartElement) cellKind {
	for _, a := range c.Attr {
		if a.Name.Local != "t" {
			continue
		}
		switch a.Value {
		case "b":
			return yesNo
		case "n":
		case "e":
			return fault
		default:
			return plain
		}
	}
	style, ok := intAttr(c, "s")
	if !ok {
		return number
	}
	dated, known := r.dates[style]
	if !known {
		s, err := r.f.GetStyle(style)
		dated = err == nil && isDate(s)
		r.dates[style] = dated
	}
	if dated {
		return date
	}
	return number
}

// quoted is what stands for itself in a number format (ECMA-376 part 1, 18.8.31).
var quoted = regexp.MustCompile(`"[^"]*"|\\.|_.|\*.|\[[^\]]*\]`)

// isDate tells whether a number format writes a date or a time.
func isDate(s *excelize.Style) bool {
	if s.CustomNumFmt != nil {
		code, _, _ := strings.Cut(quoted.ReplaceAllString(*s.CustomNumFmt, ""), ";")
		return strings.ContainsAny(strings.ToLower(code), "ydhs") || strings.Contains(strings.ToLower(code), "m") && !strings.ContainsAny(code, "0#?")
	}
	n := s.NumFmt
	return n >= 14 && n <= 22 || n >= 27 && n <= 36 || n >= 45 && n <= 47 || n >= 50 && n <= 58
}

// part gives the XML of a worksheet, found by the workbook's relationships
// (ECMA-376 part 2, 9.3).
func (r *sheetReader) part(worksheet string) ([]byte, error) {
	var rels struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	missing := &FileError{Message: fmt.Sprintf("the workbook has no worksheet %q", worksheet)}
	b, ok := r.f.Pkg.Load("xl/_rels/workbook.xml.rels")
	if !ok || xml.Unmarshal(b.([]byte), &rels) != nil || r.f.WorkBook == nil {
		return nil, missing
	}
	for _, s := range r.f.WorkBook.Sheets.Sheet {
		if s.Name != worksheet {
			continue
		}
		for _, rel := range rels.List {
			if rel.ID != s.ID {
				continue
			}
			name := strings.TrimPrefix(rel.Target, "/")
			if !strings.HasPrefix(rel.Target, "/") {
				name = path.Join("xl", rel.Target)
			}
			if data, ok := r.f.Pkg.Load(name); ok {
				return data.([]byte), nil
			}
		}
	}
	return nil, missing
}
