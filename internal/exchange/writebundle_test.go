package exchange

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"nivot/internal/core/template"
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
