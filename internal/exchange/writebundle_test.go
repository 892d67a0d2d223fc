package exchange

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// A bundle that is read, written and read again is the same.
func TestBundleThereAndBack(t *testing.T) {
	dirs, err := filepath.Glob("testdata/*/sheet.json")
	if err != nil {
		t.Fatal(err)
	}
	demo, _ := filepath.Glob("../demo/bundles/*/sheet.json")
	for _, f := range append(dirs, demo...) {
		dir := filepath.Dir(f)
		b, err := ReadBundle(os.DirFS(dir))
		if err != nil {
			t.Fatalf("%s: %v", dir, err)
		}
		var out bytes.Buffer
		var tpls []*template.Template
		for _, tpl := range b.Templates {
			tpls = append(tpls, tpl)
		}
		w, err := NewBundleWriter(&out, b.Sheet, Letters{Templates: tpls, Pieces: b.Pieces,
			File: func(id string) ([]byte, error) { return b.Files[id].Data, nil }}, b.Rules, b.Calendar)
		if err != nil {
			t.Fatalf("%s: %v", dir, err)
		}
		for _, r := range b.Rows {
			if err := w.Row(r); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		back, err := ReadZip(out.Bytes())
		if err != nil {
			t.Fatalf("%s: %v", dir, err)
		}
		same := func(what string, x, y any) {
			a, _ := json.Marshal(x)
			c, _ := json.Marshal(y)
			if !bytes.Equal(a, c) {
				t.Errorf("%s: %s became\n%s\nand was\n%s", dir, what, c, a)
			}
		}
		same("columns", b.Sheet.Columns, back.Sheet.Columns)
		same("rows", b.Rows, back.Rows)
		same("rules", b.Rules, back.Rules)
		same("templates", b.Templates, back.Templates)
		same("pieces", b.Pieces, back.Pieces)
		for id, f := range b.Files {
			if got := back.Files[id]; got == nil || got.Type != f.Type || !bytes.Equal(got.Data, f.Data) {
				t.Errorf("%s: the file %s is not the same", dir, f.Name)
			}
		}
		if b.Sheet.Settle != back.Sheet.Settle || b.Sheet.Key != back.Sheet.Key || b.Sheet.Name != back.Sheet.Name {
			t.Errorf("%s: the sheet is another", dir)
		}
	}
}

// Rows in a bundle carry no live formulas, and come back as they were.
func TestBundleHoldsNoFormulas(t *testing.T) {
	l, _ := value.FindLocale("en-GB")
	s := &sheet.Sheet{Name: "Loans", Zone: time.UTC, Locale: l, Key: "c1", Columns: []sheet.Column{
		{ID: "c1", Name: "=Loan", Type: value.Text}, {ID: "c2", Name: "Value", Type: value.Number, Pos: 1}}}
	var b bytes.Buffer
	w, err := NewBundleWriter(&b, s, Letters{}, nil, calendar.Default())
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{"=1+1", "+44 20", "-x", "@sum", "'=quoted", "'plain", "\tx"}
	for _, text := range texts {
		if err := w.Row(&sheet.Row{Cells: []value.Value{value.OfText(text), value.OfNumber(decimal.NewFromInt(-5))}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	f, err := z.Open("rows.csv")
	if err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(f)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(raw)), "\n") {
		if strings.ContainsAny(strings.Trim(line, `"`)[:1], "=+-@\t") {
			t.Errorf("a live formula: %s", line)
		}
		if !strings.HasSuffix(strings.TrimSpace(line), "-5") && !strings.HasSuffix(strings.TrimSpace(line), "Value") {
			t.Errorf("a number is not what it was: %s", line)
		}
	}
	back, err := ReadZip(b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	for i, r := range back.Rows {
		if got := r.Cell(&back.Sheet.Columns[0]).Str; got != value.Trim(texts[i]) {
			t.Errorf("got %q, want %q", got, texts[i])
		}
	}
}
