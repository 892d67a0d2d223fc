package exchange

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"fmt"
	"io"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func museum(t testing.TB, locale string) *sheet.Sheet {
	t.Helper()
	l, err := value.FindLocale(locale)
	if err != nil {
		t.Fatal(err)
	}
	two := 2
	return &sheet.Sheet{Name: "Loans: out/back", Zone: time.UTC, Locale: l, Key: "c1", Columns: []sheet.Column{
		{ID: "c1", Name: "Loan", Type: value.Text, Pos: 0},
		{ID: "c2", Name: "Return due", Type: value.Date, Pos: 1, Order: value.DayMonthYear},
		{ID: "c3", Name: "Insured value", Type: value.Number, Pos: 2, Format: value.NumberFormat{Decimals: &two,
			Currency: "£", Thousands: true}},
		{ID: "c4", Name: "State", Type: value.Choice, Pos: 3, Options: []value.Option{{ID: "o1", Name: "out"},
			{ID: "o2", Name: "back"}}},
		{ID: "c5", Name: "Read at", Type: value.Moment, Pos: 4},
		{ID: "c6", Name: "Open", Type: value.YesNo, Pos: 5},
		{ID: "c7", Name: "Email", Type: value.Email, Pos: 6},
	}}
}

var museumRows = [][]string{
	{"LN-1", "29/03/2027", "1550.5", "out", "2027-03-15 08:40", "yes", "ada@fenwick.example"},
	{"=1+1", "soon", "-12", "Back", "", "no", "'@ida"},
	{"'=quoted", "", "0.1", "lent", "2027-03-15 08:40:30", "", "+44 20"},
	{"-", "01/02/1890", "12345678901234567890.5", "", "", "maybe", "ben@x.example; cass@y.example"},
	{"007", "28/02/2028", "", "out", "15/03/2027", "yes", ""},
}

func rowOf(s *sheet.Sheet, cells []string) *sheet.Row {
	r := &sheet.Row{}
	for i, c := range cells {
		r.Set(&s.Columns[i], value.Parse(c, s.Reading(&s.Columns[i])))
	}
	return r
}

// What goes out as CSV or as a workbook comes back the same, cell by cell,
// whatever it looks like, in any locale.
func TestOutAndIn(t *testing.T) {
	for _, locale := range []string{"en-GB", "de", "fr"} {
		s := museum(t, locale)
		var rows []*sheet.Row
		for _, cells := range museumRows {
			cells = append([]string(nil), cells...)
			if locale != "en-GB" {
				cells[2] = strings.ReplaceAll(cells[2], ".", ",")
			}
			rows = append(rows, rowOf(s, cells))
		}
		for kind, open := range map[string]func(*bytes.Buffer) (Writer, error){
			"CSV":  func(b *bytes.Buffer) (Writer, error) { return CSVWriter(b, outOf(s)) },
			"XLSX": func(b *bytes.Buffer) (Writer, error) { return XLSXWriter(b, outOf(s)) },
		} {
			var b bytes.Buffer
			w, err := open(&b)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range rows {
				if err := w.Row(r, nil); err != nil {
					t.Fatal(err)
				}
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			got, err := ReadTable(b.Bytes(), Choice{}, s.Locale)
			if err != nil {
				t.Fatalf("%s %s: %v", locale, kind, err)
			}
			if len(got.Rows) != len(rows) || got.Heading[2] != "Insured value" {
				t.Fatalf("%s %s: %v", locale, kind, got)
			}
			for i, cells := range got.Rows {
				back := rowOf(s, cells)
				for k := range s.Columns {
					if c := &s.Columns[k]; !value.Identical(rows[i].Cell(c), back.Cell(c)) {
						t.Errorf("%s %s, %s of row %d: %q became %q", locale, kind, c.Name, i+1, s.Input(c, rows[i].Cell(c)), cells[k])
					}
				}
			}
		}
	}
}

func outOf(s *sheet.Sheet) Out {
	o := Out{Sheet: s}
	for i := range s.Columns {
		o.Columns = append(o.Columns, &s.Columns[i])
	}
	return o
}

// In a CSV nothing but a number begins as a formula does.
func TestCSVIsHarmless(t *testing.T) {
	s := museum(t, "en-GB")
	var b bytes.Buffer
	w, _ := CSVWriter(&b, outOf(s))
	for _, cells := range museumRows {
		_ = w.Row(rowOf(s, cells), nil)
	}
	_ = w.Close()
	for _, want := range []string{"'=1+1,", ",-12,", "''=quoted,", ",''@ida", ",'+44 20"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("%q is not in\n%s", want, b.String())
		}
	}
}

// A workbook as a person makes it: titles above the heading, several
// worksheets, a hidden one, formats of dates of all kinds.
func TestReadXLSX(t *testing.T) {
	f := excelize.NewFile()
	defer f.Close()
	for _, n := range []string{"Loans", "Hidden"} {
		if _, err := f.NewSheet(n); err != nil {
			t.Fatal(err)
		}
	}
	_ = f.SetSheetVisible("Hidden", false)
	custom := `[$-809]dddd d" of "mmmm yyyy;@`
	kilos := `0.0" dwt"`
	day, _ := f.NewStyle(&excelize.Style{NumFmt: 14})
	spelt, _ := f.NewStyle(&excelize.Style{CustomNumFmt: &custom})
	clock, _ := f.NewStyle(&excelize.Style{NumFmt: 22})
	weight, _ := f.NewStyle(&excelize.Style{CustomNumFmt: &kilos})
	set := func(cell string, v any, style int) {
		if err := f.SetCellValue("Loans", cell, v); err != nil {
			t.Fatal(err)
		}
		_ = f.SetCellStyle("Loans", cell, cell, style)
	}
	set("A1", "Outgoing loans, spring", 0)
	for i, h := range []string{"Loan", "Due", "Spelt", "Read at", "Weight", "Open", "Code", "Share", "Note"} {
		c, _ := excelize.CoordinatesToCellName(i+1, 3)
		set(c, h, 0)
	}
	at := time.Date(2027, 3, 29, 10, 15, 0, 0, time.UTC)
	set("A5", 12, 0)
	set("B5", at.Truncate(24*time.Hour), day)
	set("C5", at.Truncate(24*time.Hour), spelt)
	set("D5", at, clock)
	set("E5", 0.1+0.2, weight)
	set("F5", true, 0)
	set("G5", "007", 0)
	set("H5", 1e-7, 0)
	set("I5", " a\nb ", 0)
	b, err := f.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	de, _ := value.FindLocale("de")
	got, err := ReadXLSX(b.Bytes(), "Loans", 3, de)
	if err != nil {
		t.Fatal(err)
	}
	want := [][]string{{"12", "2027-03-29", "2027-03-29", "2027-03-29 10:15", "0,3", "ja", "007", "0,0000001", " a\nb "}}
	if !reflect.DeepEqual(got.Rows, want) || got.Lines[0] != 5 || got.Heading[3] != "Read at" {
		t.Errorf("%q line %v, want %q", got.Rows, got.Lines, want)
	}
	if fmt.Sprint(got.Worksheets) != "[Sheet1 Loans]" {
		t.Errorf("worksheets %v", got.Worksheets)
	}
	for want, try := range map[string]func() error{
		"is empty":            func() error { _, err := ReadXLSX(b.Bytes(), "", 0, de); return err },
		"no worksheet \"No\"": func() error { _, err := ReadXLSX(b.Bytes(), "No", 0, de); return err },
		"line 4":              func() error { _, err := ReadXLSX(b.Bytes(), "Loans", 4, de); return err },
		"line 3, column 2":    func() error { _, err := ReadXLSX(b.Bytes(), "Loans", 1, de); return err },
	} {
		if err := try(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// A small file that claims to be large is refused before it is unpacked.
func TestHostileWorkbooks(t *testing.T) {
	en, _ := value.FindLocale("en-GB")
	bomb := func(sheetXML string, fill int) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for name, body := range map[string]string{
			"[Content_Types].xml":        `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/></Types>`,
			"_rels/.rels":                `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
			"xl/workbook.xml":            `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="A" sheetId="1" r:id="r1"/></sheets></workbook>`,
			"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`,
			"xl/worksheets/sheet1.xml":   `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>` + sheetXML + `</sheetData></worksheet>`,
		} {
			w, _ := z.Create(name)
			_, _ = w.Write([]byte(body))
		}
		if fill > 0 {
			// A megabyte packed once and repeated: blocks of DEFLATE can stand behind each other.
			var part bytes.Buffer
			d, _ := flate.NewWriter(&part, flate.BestSpeed)
			_, _ = d.Write(bytes.Repeat([]byte{' '}, 1<<20))
			_ = d.Flush()
			packed := part.Len()
			_ = d.Close()
			body := append(bytes.Repeat(part.Bytes()[:packed], fill), part.Bytes()[packed:]...)
			w, _ := z.CreateRaw(&zip.FileHeader{Name: "xl/media/fill.xml", Method: zip.Deflate,
				CompressedSize64: uint64(len(body)), UncompressedSize64: uint64(fill) << 20})
			_, _ = w.Write(body)
		}
		_ = z.Close()
		return b.Bytes()
	}
	for want, data := range map[string][]byte{
		"unpacks to more":          bomb("", maxUnpacked>>20+1),
		"more than 300 columns":    bomb(`<row r="1"><c r="XFA1"><v>1</v></c></row>`, 0),
		"more than 1000000 rows":   bomb(`<row r="1048576"><c r="A1048576"><v>1</v></c></row>`, 0),
		"there is no cell":         bomb(`<row r="1"><c r="??"><v>1</v></c></row>`, 0),
		"damaged":                  bomb(`<row r="1"><c`, 0),
		"not a workbook":           []byte("PK\x03\x04 and no more"),
		"old binary form":          []byte("\xD0\xCF\x11\xE0rest"),
		"the worksheet A is empty": bomb("", 0),
	} {
		if _, err := ReadTable(data, Choice{}, en); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func FuzzReadXLSX(f *testing.F) {
	s := museum(f, "en-GB")
	var b bytes.Buffer
	w, _ := XLSXWriter(&b, outOf(s))
	for _, cells := range museumRows {
		_ = w.Row(rowOf(s, cells), nil)
	}
	_ = w.Close()
	f.Add(b.Bytes())
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := ReadXLSX(data, "", 0, s.Locale)
		if err != nil {
			return
		}
		for _, r := range got.Rows {
			if len(r) != len(got.Heading) {
				t.Fatalf("a row of %d cells under %d", len(r), len(got.Heading))
			}
		}
	})
}

// workbook packs a worksheet's rows and the texts that its cells share, as they are.
func workbook(t *testing.T, texts, rows string) []byte {
	t.Helper()
	const main, office, pack = "http://schemas.openxmlformats.org/spreadsheetml/2006/main",
		"http://schemas.openxmlformats.org/officeDocument/2006/relationships", "http://schemas.openxmlformats.org/package/2006/"
	const types = "application/vnd.openxmlformats-officedocument.spreadsheetml."
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, part := range [][2]string{
		{"[Content_Types].xml", `<Types xmlns="` + pack + `content-types"><Default Extension="rels" ContentType="application/vnd.` +
			`openxmlformats-package.relationships+xml"/><Override PartName="/xl/workbook.xml" ContentType="` + types +
			`sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="` + types + `worksheet+xml"/>` +
			`<Override PartName="/xl/sharedStrings.xml" ContentType="` + types + `sharedStrings+xml"/></Types>`},
		{"_rels/.rels", `<Relationships xmlns="` + pack + `relationships"><Relationship Id="r1" Type="` + office +
			`/officeDocument" Target="xl/workbook.xml"/></Relationships>`},
		{"xl/workbook.xml", `<workbook xmlns="` + main + `" xmlns:r="` + office +
			`"><sheets><sheet name="S" sheetId="1" r:id="r1"/></sheets></workbook>`},
		{"xl/_rels/workbook.xml.rels", `<Relationships xmlns="` + pack + `relationships"><Relationship Id="r1" Type="` + office +
			`/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="` + office +
			`/sharedStrings" Target="sharedStrings.xml"/></Relationships>`},
		{"xl/sharedStrings.xml", `<sst xmlns="` + main + `">` + texts + `</sst>`},
		{"xl/worksheets/sheet1.xml", `<worksheet xmlns="` + main + `"><sheetData>` + rows + `</sheetData></worksheet>`},
	} {
		w, err := z.Create(part[0])
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write([]byte(`<?xml version="1.0"?>` + part[1]))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// A workbook that is not as it should be is read right, or refused with the place.
func TestOddWorkbooks(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	texts := "<si><t>Key</t></si><si><t>Name</t></si><si><t>A</t></si>"
	cell := func(at string, n int) string { return fmt.Sprintf(`<c r="%s" t="s"><v>%d</v></c>`, at, n) }
	head := `<row r="1">` + cell("A1", 0) + cell("B1", 1) + `</row>`
	lost := string(value.Lost) + " a text that the workbook has not"
	for _, x := range []struct {
		name, rows string
		want       any // the rows, or what is said
	}{
		{"a text is missing", head + `<row r="2">` + cell("A2", 9) + `</row><row r="3">` + cell("A3", 2) + cell("B3", 77) + `</row>`,
			[][]string{{lost, ""}, {"A", lost}}},
		{"the text of a heading is missing", `<row r="1">` + cell("A1", 0) + cell("B1", 9) + `</row>`, "line 1, column 2: "},
		{"cells out of order", head + `<row r="2">` + cell("B2", 2) + cell("A2", 2) + `</row>`, "line 2, column 1: the cells stand"},
		{"rows out of order", `<row r="2">` + cell("A2", 2) + `</row>` + head, "line 1, column 1: the rows stand"},
		{"an empty last heading", head + `<row r="2">` + cell("A2", 2) + cell("C2", 2) + `</row>`, [][]string{{"A", "", "A"}}},
		{"an empty first column", `<row r="1">` + cell("B1", 0) + cell("C1", 1) + `</row><row r="2">` + cell("B2", 2) + cell("C2", 2) +
			`</row>`, [][]string{{"A", "A"}}},
	} {
		t.Run(x.name, func(t *testing.T) {
			got, err := ReadTable(workbook(t, texts, x.rows), Choice{}, l)
			if says, ok := x.want.(string); ok {
				if err == nil || !strings.Contains(err.Error(), says) {
					t.Errorf("got %v, want %q", err, says)
				}
				return
			}
			if err != nil || !reflect.DeepEqual(got.Rows, x.want) {
				t.Errorf("got %+v %v, want %q", got, err, x.want)
			}
		})
	}
	if _, err := ReadTable(workbook(t, "", head), Choice{}, l); err == nil || !strings.Contains(err.Error(), "line 1, column 1") {
		t.Errorf("without any texts: %v", err)
	}
}

// A cell that a workbook cannot hold is named; nothing is cut short.
func TestTooLongForAWorkbook(t *testing.T) {
	s := &sheet.Sheet{Columns: []sheet.Column{{ID: "c1", Name: "Key", Type: value.Text}, {ID: "c2", Name: "Note", Type: value.Text, Pos: 1}},
		Key: "c1"}
	write := func(text string) error {
		w, err := XLSXWriter(io.Discard, Out{Sheet: s, Columns: []*sheet.Column{&s.Columns[0], &s.Columns[1]}})
		if err != nil {
			t.Fatal(err)
		}
		return w.Row(&sheet.Row{Cells: []value.Value{value.OfText("LN-1"), value.OfText(text)}}, nil)
	}
	if err := write(strings.Repeat("é", 32_767/2)); err != nil {
		t.Error(err)
	}
	if err := write(strings.Repeat("x", 32_768)); err == nil || !strings.Contains(err.Error(), "“Note” of row LN-1") {
		t.Errorf("got %v", err)
	}
}
