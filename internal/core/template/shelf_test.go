package template

import (
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func TestFilesOfARow(t *testing.T) {
	s := loans()
	s.Columns = append(s.Columns, sheet.Column{ID: "agr", Name: "Agreement", Type: value.File, Pos: len(s.Columns)})
	file := func(name string, size int) Kept {
		return Kept{Name: name, File: ContentID([]byte(name)), Type: "application/pdf", Size: size}
	}
	shelf := Shelf{"ln-1.pdf": file("LN-1.pdf", 1000), "plan.pdf": file("Plan.pdf", 2000),
		"big.pdf": file("big.pdf", MaxAttached)}
	for _, c := range []struct {
		name, cell string
		optional   bool
		called     string
		want       []string // names, or
		absent     []string
		missing    bool
		check      CheckCode
	}{
		{name: "one", cell: "LN-1.pdf", want: []string{"LN-1.pdf"}},
		{name: "by another case", cell: "ln-1.PDF", want: []string{"LN-1.pdf"}},
		{name: "two", cell: "LN-1.pdf; plan.pdf", want: []string{"LN-1.pdf", "Plan.pdf"}},
		{name: "of a path", cell: `C:\loans\LN-1.pdf`, want: []string{"LN-1.pdf"}},
		{name: "under a name", cell: "LN-1.pdf; Plan.pdf", called: "Agreement Bell.pdf", want: []string{"Agreement Bell.pdf",
			"Agreement Bell 2.pdf"}},
		{name: "not there", cell: "LN-2.pdf", absent: []string{"LN-2.pdf"}, missing: true, check: FileMissing},
		{name: "one not there", cell: "LN-1.pdf;LN-2.pdf", absent: []string{"LN-2.pdf"}, missing: true, check: FileMissing},
		{name: "none", missing: true, check: FieldEmpty},
		{name: "none, and need not", optional: true},
		{name: "not there, though it need not", cell: "LN-2.pdf", optional: true, absent: []string{"LN-2.pdf"},
			missing: true, check: FileMissing},
		{name: "a folder", cell: "loans/", missing: true, check: FieldUnreadable},
		{name: "too large together", cell: "LN-1.pdf; big.pdf", missing: true, check: TooLarge},
	} {
		t.Run(c.name, func(t *testing.T) {
			tpl := &Template{Name: "x", Subject: lineOf(t, "Hello", s), Body: para(t, "Your agreement comes with this.")}
			tpl.Attachments = []Attachment{{Kind: ColumnKind, Column: "agr", Optional: c.optional}}
			if c.called != "" {
				tpl.Attachments[0].Name = Line{{Text: c.called}}
			}
			tpl.Use(Rests{Shelf: shelf})
			if err := tpl.Validate(s); err != nil {
				t.Fatal(err)
			}
			row := &sheet.Row{ID: "r"}
			col, _ := s.Column("agr")
			row.Set(col, value.Parse(c.cell, s.Reading(col)))
			cx := Context{Sheet: s, Row: row}
			r := tpl.Render(cx)
			if got := slices.Equal(r.Missing, []string{"agr"}); got != c.missing || tpl.Lacks(cx) != c.missing ||
				!slices.Equal(tpl.Check(cx).Missing, r.Missing) {
				t.Errorf("missing %v, lacks %v, checked %v; want missing %v", r.Missing, tpl.Lacks(cx), tpl.Check(cx).Missing,
					c.missing)
			}
			if got := tpl.Absent(row.Cell(col)); !slices.Equal(got, c.absent) {
				t.Errorf("absent %v, want %v", got, c.absent)
			}
			var names []string
			for _, a := range r.Attachments {
				names = append(names, a.Name)
			}
			if !c.missing && !slices.Equal(names, c.want) {
				t.Errorf("attachments %v, want %v", names, c.want)
			}
			var found CheckCode
			for _, k := range tpl.Row(cx) {
				if k.Column == "agr" {
					found = k.Code
				}
			}
			if found != c.check {
				t.Errorf("check %q, want %q", found, c.check)
			}
		})
	}
}

func TestFilesOfARoundUp(t *testing.T) {
	s := loans()
	s.Columns = append(s.Columns, sheet.Column{ID: "agr", Name: "Agreement", Type: value.File, Pos: len(s.Columns)})
	col, _ := s.Column("agr")
	var rows []*sheet.Row
	for _, names := range []string{"a.pdf; b.pdf", "b.pdf", "c.pdf"} {
		row := &sheet.Row{ID: names}
		row.Set(col, value.Parse(names, s.Reading(col)))
		rows = append(rows, row)
	}
	shelf := Shelf{}
	for _, n := range []string{"a.pdf", "b.pdf", "c.pdf"} {
		shelf[n] = Kept{Name: n, File: ContentID([]byte(n)), Type: "application/pdf", Size: 1}
	}
	tpl := &Template{Name: "x", Subject: lineOf(t, "Hello", s), Body: para(t, "Your agreements.")}
	tpl.Attachments = []Attachment{{Kind: ColumnKind, Column: "agr"}}
	tpl.Use(Rests{Shelf: shelf})
	together := Context{Sheet: s, Row: rows[0], Rows: rows}
	shelf["c.pdf"] = Kept{Name: "c.pdf", File: shelf["c.pdf"].File, Type: "application/pdf", Size: MaxAttached - 1}
	if r := tpl.Render(together); !slices.Equal(r.Missing, []string{"agr"}) {
		t.Errorf("too large together: missing %v", r.Missing)
	}
	shelf["c.pdf"] = Kept{Name: "c.pdf", File: shelf["c.pdf"].File, Type: "application/pdf", Size: MaxAttached - 2}
	if r := tpl.Render(together); len(r.Missing) > 0 {
		t.Errorf("a file that two rows name counts twice: missing %v", r.Missing)
	}
	var names []string
	for _, a := range tpl.Render(together).Attachments {
		names = append(names, a.Name)
	}
	if got := strings.Join(names, " "); got != "a.pdf b.pdf c.pdf" {
		t.Errorf("a round-up carries %q, want each file of its rows once", got)
	}
}

func TestFileColumnIsOfFiles(t *testing.T) {
	s := loans()
	tpl := &Template{Name: "x", Subject: lineOf(t, "Hello", s), Body: para(t, "Text.")}
	tpl.Attachments = []Attachment{{Kind: ColumnKind, Column: s.Columns[0].ID}}
	if err := tpl.Validate(s); err == nil || !strings.Contains(err.Error(), "column of type file") {
		t.Errorf("files of a column of text: %v", err)
	}
}
