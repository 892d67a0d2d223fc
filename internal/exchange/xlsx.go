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
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/shopspring/decimal"
	"github.com/xuri/excelize/v2"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// The bounds of a workbook: the bytes that it unpacks to, and of the worksheet that is read its
// cells, the bytes of their texts together, and how long reading them may take.
const (
	maxUnpacked = 300 << 20
	maxCells    = 20_000_000
	maxText     = 512 << 20
	maxReading  = 2 * time.Minute
)

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
	f, err = excelize.OpenReader(bytes.NewReader(b), excelize.Options{UnzipSizeLimit: maxUnpacked,
		UnzipXMLSizeLimit: maxUnpacked, RawCellValue: true})
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
	r := &sheetReader{f: f, locale: l, styles: readStyles(f)}
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
		t.Rounded = r.rounded
		t.Encoding, t.Worksheets, t.Worksheet = "workbook", names, worksheet
	}
	return t, err
}

type sheetReader struct {
	f        *excelize.File
	locale   *value.Locale
	kinds    map[int][]cellKind // by row, from 1
	styles   []cellKind         // what a number is, by its style
	from1904 bool
	rounded  []int // lines of numbers that may have been rounded
}

type cellKind uint8

const (
	plain cellKind = iota
	number
	date
	moment   // with a time of day
	duration // elapsed hours
	yesNo
	fault
	lost   // a text that the workbook has not
	padded // a number that keeps its zeros; plus how many digits, from the second on
)

// readRaw reads the texts of a worksheet's rows as they are kept.
func (r *sheetReader) readRaw(worksheet string) ([][]string, error) {
	rows, err := r.f.Rows(worksheet)
	if err != nil {
		return nil, &FileError{Message: fmt.Sprintf("the workbook has no worksheet %q", worksheet)}
	}
	defer rows.Close()
	var out [][]string
	cells, text, began := 0, 0, time.Now()
	for rows.Next() {
		rec, err := rows.Columns()
		if err != nil {
			return nil, &FileError{Line: len(out) + 1, Message: "the row cannot be read: " + err.Error()}
		}
		for k, c := range rec {
			if len(c) > sheet.MaxCell {
				return nil, &FileError{Line: len(out) + 1, Column: k + 1, Message: fmt.Sprintf("the cell holds more than %d kB",
					sheet.MaxCell>>10)}
			}
			if strings.IndexByte(c, 0) >= 0 {
				return nil, &FileError{Line: len(out) + 1, Column: k + 1, Message: "the cell holds a NUL character"}
			}
			text += len(c)
		}
		if text > maxText || time.Since(began) > maxReading {
			return nil,
				&FileError{Line: len(out) + 1,
					Message: fmt.Sprintf("the worksheet holds more than %d MB of text, or takes longer than %s to read", maxText>>20,
						maxReading)}
		}
		if cells += len(rec); len(out) > MaxRows || cells > maxCells {
			return nil, &FileError{Line: len(out) + 1, Message: fmt.Sprintf("the worksheet has more than %d rows or %d cells",
				MaxRows, maxCells)}
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
		for k, kind := range r.kinds[line] {
			for kind == lost && len(rec) <= k {
				rec = append(rec, "")
			}
		}
		if t.Heading == nil && line < heading {
			continue
		}
		var err error
		for k, c := range rec {
			if rec[k], err = r.text(line, k, c); err != nil {
				return nil, &FileError{Line: line, Column: k + 1, Message: err.Error()}
			}
		}
		if i := slices.Index(r.kinds[line], lost); i >= 0 && t.Heading == nil {
			return nil, &FileError{Line: line, Column: i + 1, Message: "the workbook has not the text that names this column"}
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
		return nil, &FileError{Message: fmt.Sprintf("the worksheet %s is empty; its first row should name the columns",
			worksheet)}
	}
	t.even()
	return t, nil
}

// text writes a cell so that it reads back as what it is.
func (r *sheetReader) text(line, i int, raw string) (string, error) {
	kind := plain
	if k := r.kinds[line]; i < len(k) {
		kind = k[i]
	}
	if kind == lost {
		return string(value.Lost) + " a text that the workbook has not", nil
	}
	if raw == "" {
		return "", nil
	}
	switch kind {
	case yesNo:
		return r.locale.YesNo(raw == "1" || strings.EqualFold(raw, "true")), nil
	case plain, fault:
		return raw, nil
	default:
		x, err := strconv.ParseFloat(raw, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
			return raw, nil
		}
		switch {
		case kind == date || kind == moment:
			if s, ok := r.day(x, kind == moment); ok {
				return s, nil
			}
		case kind == duration && x >= 0 && x < maxElapsed:
			return elapsed(x), nil
		case kind > padded && x >= 0 && x == math.Trunc(x) && x < 1e15:
			return fmt.Sprintf("%0*.0f", int(kind-padded), x), nil
		}
		if math.Abs(x) >= 1e15 && x == math.Trunc(x) {
			r.rounded = append(r.rounded, line)
		}
		// Workbooks keep binary floats and show fifteen digits of them.
		d, err := decimal.NewFromString(strconv.FormatFloat(x, 'g', 15, 64))
		if err != nil {
			return raw, nil
		}
		return value.FormatNumber(d, value.NumberFormat{}, r.locale), nil
	}
}

// maxElapsed bounds, in days, what is read as elapsed time.
const maxElapsed = 1e6

// elapsed writes days as the hours, minutes and, where there are any, seconds that they are.
func elapsed(days float64) string {
	s := int64(math.Round(days * 24 * 3600))
	if s%60 != 0 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/3600, s/60%60)
}

// day writes a serial date, with its time of day where that is shown or not midnight; one below
// a day is a time alone.
func (r *sheetReader) day(x float64, timed bool) (string, bool) {
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
	case at.Equal(at.Truncate(24*time.Hour)) && !timed:
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
	texts := sharedTexts(r.f)
	set := func(row, col int, k cellKind) {
		if k == plain || col > MaxColumns {
			return
		}
		for len(out[row]) < col {
			out[row] = append(out[row], plain)
		}
		out[row][col-1] = k
	}
	row, col, cells := 0, 0, 0
	shared := false // the cell is the number of a text
	for {
		tok, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, &FileError{Line: row, Message: "the worksheet is damaged: " + err.Error()}
		}
		if s, ok := tok.(xml.CharData); ok && shared {
			if n, err := strconv.Atoi(strings.TrimSpace(string(s))); err == nil && (n < 0 || n >= texts) {
				set(row, col, lost)
			}
			continue
		}
		start, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		switch start.Name.Local {
		case "row":
			before := row
			row++
			col, shared = 0, false
			if n, ok := intAttr(start, "r"); ok {
				row = n
			}
			if row <= before {
				return nil, &FileError{Line: row, Column: 1,
					Message: "the rows stand out of order; open the workbook in a spreadsheet program and save it again"}
			}
			if row > MaxRows+1 {
				return nil, &FileError{Line: row, Message: fmt.Sprintf("the worksheet has more than %d rows", MaxRows)}
			}
		case "c":
			before := col
			if col, err = r.at(start, col); err != nil {
				return nil, err
			}
			if col <= before {
				return nil, &FileError{Line: row, Column: col,
					Message: "the cells stand out of order; open the workbook in a spreadsheet program and save it again"}
			}
			shared = slices.ContainsFunc(start.Attr, func(a xml.Attr) bool { return a.Name.Local == "t" && a.Value == "s" })
			if cells++; cells > maxCells {
				return nil, &FileError{Line: row, Message: fmt.Sprintf("the worksheet has more than %d cells", maxCells)}
			}
			set(row, col, r.kind(start))
		}
	}
}

// sharedTexts counts the texts that the cells of a workbook share (ECMA-376 part 1, 18.4.9).
func sharedTexts(f *excelize.File) (n int) {
	part, ok := f.Pkg.Load("xl/sharedStrings.xml")
	data, is := part.([]byte)
	if !ok || !is {
		return 0
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	for {
		tok, err := d.RawToken()
		if err != nil {
			return n
		}
		if start, ok := tok.(xml.StartElement); ok && start.Name.Local == "si" {
			n++
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
				return 0, &FileError{Line: row, Column: col, Message: fmt.Sprintf("the worksheet has more than %d columns",
					MaxColumns)}
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
	if style < 0 || style >= len(r.styles) {
		return number
	}
	return r.styles[style]
}

// What stands for itself in a number format, what counts elapsed time, and one that is nothing
// but zeros (ECMA-376 part 1, 18.8.31).
var (
	quoted  = regexp.MustCompile(`"[^"]*"|\\.|_.|\*.|\[[^\]]*\]`)
	counted = regexp.MustCompile(`(?i)\[(h+|m+|s+)\]`)
	zeroed  = regexp.MustCompile(`^0{2,30}$`)
)

// readStyles says for each style of a workbook what a number of it is. It reads the part by
// itself and once: the library looks each style's format up among all of them.
func readStyles(f *excelize.File) []cellKind {
	b, ok := f.Pkg.Load("xl/styles.xml")
	if !ok {
		return nil
	}
	var part struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Styles []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if data, ok := b.([]byte); !ok || xml.Unmarshal(data, &part) != nil {
		return nil
	}
	own := map[int]cellKind{}
	for _, n := range part.Formats {
		own[n.ID] = kindOfCode(n.Code)
	}
	out := make([]cellKind, len(part.Styles))
	for i, s := range part.Styles {
		if k, ok := own[s.Format]; ok {
			out[i] = k
		} else {
			out[i] = kindOfBuiltIn(s.Format)
		}
	}
	return out
}

// kindOfCode says what a number is that a format of the workbook's own writes.
func kindOfCode(format string) cellKind {
	whole, _, _ := strings.Cut(format, ";")
	if zeroed.MatchString(whole) {
		return padded + cellKind(len(whole))
	}
	if counted.MatchString(whole) {
		return duration
	}
	code, _, _ := strings.Cut(strings.ToLower(quoted.ReplaceAllString(format, "")), ";")
	switch {
	case strings.ContainsAny(code, "hs"):
		return moment
	case strings.ContainsAny(code, "yd"), strings.Contains(code, "m") && !strings.ContainsAny(code, "0#?"):
		return date
	}
	return number
}

// kindOfBuiltIn says what a number is that a format writes which every workbook has (ECMA-376
// part 1, 18.8.30).
func kindOfBuiltIn(n int) cellKind {
	switch {
	case n == 46:
		return duration
	case n >= 18 && n <= 22, n == 45, n == 47, n >= 32 && n <= 35:
		return moment
	case n >= 14 && n <= 17, n >= 27 && n <= 36, n >= 50 && n <= 58:
		return date
	}
	return number
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
