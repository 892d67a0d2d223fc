package exchange

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// What a workbook's number formats say of its numbers.
func TestNumberFormats(t *testing.T) {
	l, err := value.FindLocale("en-GB")
	if err != nil {
		t.Fatal(err)
	}
	code := func(s string) *excelize.Style { return &excelize.Style{CustomNumFmt: &s} }
	for _, x := range []struct {
		name  string
		style *excelize.Style
		value any
		want  string
	}{
		{"a moment at midnight", code("yyyy-mm-dd hh:mm"), 46465.0, "2027-03-19 00:00"},
		{"a moment at midnight, built in", &excelize.Style{NumFmt: 22}, 46465.0, "2027-03-19 00:00"},
		{"a moment", code("dd/mm/yyyy hh:mm"), 46465.65625, "2027-03-19 15:45"},
		{"a day", code("dd.mm.yyyy"), 46465.0, "2027-03-19"},
		{"a day with a time that is not shown", code("dd.mm.yyyy"), 46465.5, "2027-03-19 12:00"},
		{"a time of day", code("hh:mm"), 0.65625, "15:45"},
		{"elapsed hours", code("[h]:mm"), 1.5, "36:00"},
		{"elapsed hours with seconds", code("[hh]:mm:ss"), 0.0423726851851852, "1:01:01"},
		{"elapsed hours, built in", &excelize.Style{NumFmt: 46}, 10.0, "240:00"},
		{"elapsed minutes", code("[mm]:ss"), 0.0625, "1:30"},
		{"a post code", code("00000"), 1234.0, "01234"},
		{"a longer one", code("0000000"), 42.0, "0000042"},
		{"a colour and a literal", code(`[Red]0.00"h"`), 2.5, "2.5"},
		{"decimals", code("#,##0.00"), 1240.5, "1240.5"},
		{"months in a day's format", code("mmm yyyy"), 46465.0, "2027-03-19"},
	} {
		t.Run(x.name, func(t *testing.T) {
			f := excelize.NewFile()
			id, err := f.NewStyle(x.style)
			if err != nil {
				t.Fatal(err)
			}
			_ = f.SetCellValue("Sheet1", "A1", "Head")
			_ = f.SetCellValue("Sheet1", "A2", x.value)
			_ = f.SetCellStyle("Sheet1", "A2", "A2", id)
			var b bytes.Buffer
			if err := f.Write(&b); err != nil {
				t.Fatal(err)
			}
			tab, err := ReadTable(b.Bytes(), Choice{}, l)
			if err != nil {
				t.Fatal(err)
			}
			if got := tab.Rows[0][0]; got != x.want {
				t.Errorf("got %q, want %q", got, x.want)
			}
		})
	}
}

// Six thousand styles with a format each are read once, not looked up for each cell.
func TestManyStyles(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	f := excelize.NewFile()
	_ = f.SetCellValue("Sheet1", "A1", "Head")
	_ = f.SetCellValue("Sheet1", "A2", 1234.0)
	code := "00000"
	id, err := f.NewStyle(&excelize.Style{CustomNumFmt: &code})
	if err != nil {
		t.Fatal(err)
	}
	_ = f.SetCellStyle("Sheet1", "A2", "A2", id)
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	var formats, styles strings.Builder
	for i := range 6_000 {
		fmt.Fprintf(&formats, `<numFmt numFmtId="%d" formatCode="0.%d"/>`, 1000+i, i)
		fmt.Fprintf(&styles, `<xf numFmtId="%d"/>`, 1000+i)
	}
	many := rewritten(t, b.Bytes(), "xl/styles.xml", "</numFmts>", formats.String()+"</numFmts>")
	many = rewritten(t, many, "xl/styles.xml", "</cellXfs>", styles.String()+"</cellXfs>")
	tab, err := ReadTable(many, Choice{}, l)
	if err != nil || tab.Rows[0][0] != "01234" {
		t.Errorf("%v %v", tab, err)
	}
}

// Post codes that a workbook shows with their zeros are proposed as text.
func TestPostCodesAreText(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	if g := sheet.GuessColumn([]string{"01234", "02345", "00017"}, []int{2, 3, 4}, l); g.Type != value.Text {
		t.Errorf("proposed as %s", g.Type)
	}
}

// A number of more digits than a workbook keeps is named; one that is text is not.
func TestRoundedNumbers(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	f := excelize.NewFile()
	for cell, v := range map[string]any{"A1": "Head", "A2": 123456789012345.0, "A3": 1234567890123456.0,
		"A4": "1234567890123456"} {
		_ = f.SetCellValue("Sheet1", cell, v)
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	tab, err := ReadTable(b.Bytes(), Choice{}, l)
	if err != nil || !reflect.DeepEqual(tab.Rounded, []int{3}) {
		t.Errorf("got %v %v, want [3]", tab, err)
	}
}

// A text that is used many times is refused at the first cell that it is too long for.
func TestSharedTextTooLong(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	f := excelize.NewFile()
	_ = f.SetCellValue("Sheet1", "A1", "Head")
	for i := range 50 {
		_ = f.SetCellValue("Sheet1", fmt.Sprintf("A%d", i+2), "shared")
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	long := rewritten(t, b.Bytes(), "xl/sharedStrings.xml", ">shared<", ">"+strings.Repeat("x", 1<<20)+"<")
	if _, err := ReadTable(long, Choice{}, l); err == nil ||
		!strings.Contains(err.Error(), "line 2, column 1: the cell holds more than 32 kB") {
		t.Errorf("got %v", err)
	}
	nul := rewritten(t, b.Bytes(), "xl/sharedStrings.xml", ">shared<", ">a_x0000_b<")
	if _, err := ReadTable(nul, Choice{}, l); err == nil || !strings.Contains(err.Error(), "NUL") {
		t.Errorf("NUL: got %v", err)
	}
}

// rewritten puts something in the place of something else in a part of a workbook.
func rewritten(t *testing.T, b []byte, part, old, new string) []byte {
	t.Helper()
	r, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range r.File {
		in, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(in)
		if err != nil {
			t.Fatal(err)
		}
		if f.Name == part {
			if !bytes.Contains(data, []byte(old)) {
				t.Fatalf("%s has no %s: %s", part, old, data)
			}
			data = bytes.ReplaceAll(data, []byte(old), []byte(new))
		}
		to, err := w.Create(f.Name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = to.Write(data)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Whatever cells hold comes back to the letter by CSV and by workbook, in every locale.
func TestRandomOutAndIn(t *testing.T) {
	r := rand.New(rand.NewPCG(20270315, 12))
	signs := []rune("aZ09 =+-@'\"\\,;|\t\n\r\x1b\x07\u00a0\u200b\u202e\u00e9\u4e16\U0001f3db_x001B_.:/&<>%")
	text := func() string {
		var b strings.Builder
		for range r.IntN(12) {
			b.WriteRune(signs[r.IntN(len(signs))])
		}
		return strings.ReplaceAll(b.String(), "\r\n", "\n")
	}
	for _, locale := range []string{"en-GB", "en-US", "de", "fr", "nl", "pl"} {
		s := museum(t, locale)
		var rows []*sheet.Row
		for i := range 60 {
			cells := make([]string, len(s.Columns))
			for k := range cells {
				switch r.IntN(4) {
				case 0:
					cells[k] = museumRows[r.IntN(len(museumRows))][k]
				case 1:
					cells[k] = fmt.Sprint(r.Int64N(1<<60) - 1<<59)
				case 2:
					cells[k] = fmt.Sprintf("20%02d-%02d-%02d %02d:%02d", r.IntN(100), 1+r.IntN(12), 1+r.IntN(28),
						r.IntN(2)*r.IntN(24), r.IntN(2)*r.IntN(60))
				default:
					cells[k] = text()
				}
			}
			cells[0] = fmt.Sprintf("k%d %s", i, cells[0]) // a row of nothing is none
			rows = append(rows, rowOf(s, cells))
		}
		same := func(kind string, i int, back *sheet.Row) {
			t.Helper()
			for k := range s.Columns {
				if c := &s.Columns[k]; !value.Identical(rows[i].Cell(c), back.Cell(c)) {
					t.Errorf("%s %s, %s of row %d: %q became %q", locale, kind, c.Name, i+1, s.Input(c, rows[i].Cell(c)),
						s.Input(c, back.Cell(c)))
				}
			}
		}
		var bundle bytes.Buffer
		bw, err := NewBundleWriter(&bundle, s, Letters{}, nil, calendar.Default())
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			if err := bw.Row(row); err != nil {
				t.Fatal(err)
			}
		}
		if err := bw.Close(); err != nil {
			t.Fatal(err)
		}
		back, err := ReadZip(bundle.Bytes())
		if err != nil || len(back.Rows) != len(rows) {
			t.Fatalf("%s bundle: %v", locale, err)
		}
		for i, row := range back.Rows { // whose options have ids of their own
			for k := range s.Columns {
				c, d := &s.Columns[k], &back.Sheet.Columns[k]
				was, is := rows[i].Cell(c), row.Cell(d)
				if was.IsFilled() != is.IsFilled() || s.Input(c, was) != back.Sheet.Input(d, is) {
					t.Errorf("%s bundle, %s of row %d: %q became %q", locale, c.Name, i+1, s.Input(c, was), back.Sheet.Input(d, is))
				}
			}
		}
		for kind, open := range map[string]func(io.Writer, Out) (Writer, error){"CSV": CSVWriter, "XLSX": XLSXWriter} {
			var b bytes.Buffer
			w, err := open(&b, outOf(s))
			if err != nil {
				t.Fatal(err)
			}
			for _, row := range rows {
				if err := w.Row(row, nil); err != nil {
					t.Fatal(err)
				}
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			got, err := ReadTable(b.Bytes(), Choice{}, s.Locale)
			if err != nil || len(got.Rows) != len(rows) {
				t.Fatalf("%s %s: %d rows, %v", locale, kind, len(got.Rows), err)
			}
			for i, cells := range got.Rows {
				same(kind, i, rowOf(s, cells))
			}
		}
	}
}
