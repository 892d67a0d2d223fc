package template

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Kept is a file on a sheet's shelf, which rows name.
type Kept struct {
	Name string
	File string // its content, as Image.File names one
	Type string // its media type
	Size int    // bytes
}

// Shelf are the files of a sheet by their names, folded (value.Fold).
type Shelf map[string]Kept

// Met gives the files that a cell names, and the names that are not there.
func (s Shelf) Met(cell value.Value) (met []Kept, absent []string) {
	for _, name := range cell.Files() {
		if f, ok := s[value.Fold(name)]; ok {
			met = append(met, f)
		} else {
			absent = append(absent, name)
		}
	}
	return met, absent
}

// Absent lists the files that a cell names and the sheet's shelf does not have.
func (t *Template) Absent(cell value.Value) []string {
	_, absent := t.rests.Shelf.Met(cell)
	return absent
}

// Oversize reports whether the files that an email's rows name, each once, make it larger than
// MaxAttached.
func (t *Template) Oversize(rows []*sheet.Row, s *sheet.Sheet) bool {
	size, named := 0, map[string]bool{}
	for i := range t.Attachments {
		a := &t.Attachments[i]
		size += a.Size
		c, ok := s.Column(a.Column)
		if a.Kind != ColumnKind || !ok {
			continue
		}
		for _, row := range rows {
			met, _ := t.rests.Shelf.Met(row.Cell(c))
			for _, f := range met {
				if !named[f.File] {
					named[f.File] = true
					size += f.Size
				}
			}
		}
	}
	return len(named) > 0 && size > MaxAttached
}

func (a *Attachment) validateColumn(p *place) error {
	if p.draft {
		return nil
	}
	if c, ok := p.sheet.Column(a.Column); !ok || c.Type != value.File {
		return fmt.Errorf("the files of a row come from a column of type file")
	}
	return nil
}

// ofRow gives the files that the rows of an email name, each once. Where the attachment has a
// name of its own they are called so, numbered from the second on.
func (w *writer) ofRow(t *Template, a *Attachment, name []op) (out []Attached) {
	c, ok := w.c.Sheet.Column(a.Column)
	if !ok {
		return nil
	}
	own := w.line(name)
	for _, row := range w.c.rows() {
		met, _ := t.rests.Shelf.Met(row.Cell(c))
		for _, f := range met {
			if slices.ContainsFunc(out, func(o Attached) bool { return o.File == f.File }) {
				continue
			}
			x := Attached{Name: f.Name, Type: f.Type, File: f.File, Size: f.Size}
			if own != "" {
				ending := path.Ext(f.Name)
				x.Name = strings.TrimSuffix(own, ending)
				if len(out) > 0 {
					x.Name += " " + strconv.Itoa(len(out)+1)
				}
				x.Name += ending
			}
			x.Name = FileName(x.Name, x.Type)
			out = append(out, x)
		}
	}
	return out
}
