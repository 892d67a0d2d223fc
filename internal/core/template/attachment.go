package template

import (
	"encoding/hex"
	"fmt"
	"mime"
	"strings"

	"nivot/internal/core/sheet"
)

// Attachment is a file that goes with the email.
type Attachment struct {
	Kind string `json:"kind"`           // FileKind or RowsKind
	Name Line   `json:"name,omitempty"` // its file name
	File string `json:"file,omitempty"` // of a file: its content, as Image.File names one
	Type string `json:"type,omitempty"` // its media type
	Size int    `json:"size,omitempty"` // bytes

	Format  string   `json:"format,omitempty"`  // of rows: CSV or XLSX
	Columns []string `json:"columns,omitempty"` // of rows: their ids
}

// The kinds of attachments.
const (
	FileKind = "file" // the same file for every row
	RowsKind = "rows" // the rows of a round-up, or the one row of another email, as a table
)

// The formats of rows.
const (
	CSV  = "csv"
	XLSX = "xlsx"
)

var formatTypes = map[string]string{CSV: "text/csv", XLSX: openXML + "spreadsheetml.sheet"}

// The bounds of attachments, in bytes: of one, and of an email's together with its images.
const (
	MaxAttachment = 10 << 20
	MaxAttached   = 20 << 20
	maxAttachment = 20 // how many
)

// endings are those of the names of files whose type is common.
var endings = map[string]string{"application/pdf": ".pdf", "image/png": ".png", "image/jpeg": ".jpg", "image/gif": ".gif", "text/plain": ".txt", "text/csv": ".csv",
	"text/calendar": ".ics", "application/zip": ".zip", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet": ".xlsx",
	"application/vnd.openxmlformats-officedocument.wordprocessingml.document": ".docx"}

// Ending gives the ending of the name of a file of a common type; "" for others.
func Ending(typ string) string { return endings[typ] }

// Attached is an attachment as it goes with one email.
type Attached struct {
	Name string
	Type string
	File string // its content, as Image.File names one
	Size int
	Rows *Rows // in place of File, while they have not been written as one
}

// Rows are a table that is to be written as a file.
type Rows struct {
	Sheet   *sheet.Sheet
	Format  string
	Columns []*sheet.Column
	Rows    []*sheet.Row
}

func (a *Attachment) validate(p *place) error {
	if err := a.Name.validate(p); err != nil {
		return err
	}
	switch a.Kind {
	case FileKind:
		if b, err := hex.DecodeString(a.File); err != nil || len(b) != 32 {
			return fmt.Errorf("an attachment names its file")
		}
		if a.Size <= 0 || a.Size > MaxAttachment {
			return fmt.Errorf("a file has up to %d MB", MaxAttachment>>20)
		}
		if _, _, err := mime.ParseMediaType(a.Type); err != nil {
			return fmt.Errorf("%q is not a media type", a.Type)
		}
		return nil
	case RowsKind:
		if formatTypes[a.Format] == "" {
			return fmt.Errorf("rows are written as csv or xlsx, not as %q", a.Format)
		}
		if len(a.Columns) == 0 {
			return fmt.Errorf("rows need at least one column")
		}
		for _, id := range a.Columns {
			if _, ok := p.sheet.Column(id); !ok && !p.draft {
				return fmt.Errorf("rows have a column that is not there any more")
			}
		}
		return nil
	}
	return fmt.Errorf("%q is not a kind of attachment", a.Kind)
}

// validateAttachments checks the attachments of a template together.
func (t *Template) validateAttachments(p *place) error {
	if len(t.Attachments) > maxAttachment {
		return fmt.Errorf("an email has up to %d attachments", maxAttachment)
	}
	size := 0
	for i := range t.Attachments {
		if err := t.Attachments[i].validate(p); err != nil {
			return fmt.Errorf("attachment %d: %w", i+1, err)
		}
		size += t.Attachments[i].Size
	}
	if size > MaxAttached {
		return fmt.Errorf("the attachments have %d MB together; an email carries up to %d MB", (size+1<<20-1)>>20, MaxAttached>>20)
	}
	return nil
}

func (a *Attachment) fields() []*Field { return a.Name.fields() }

// columns points at the ids of the columns that it names outside fields.
func (a *Attachment) columns() (out []*string) {
	for i := range a.Columns {
		out = append(out, &a.Columns[i])
	}
	return out
}

// attach gives the attachments of an email, their names written for its row.
func (w *writer) attach(t *Template, d *doc) (out []Attached) {
	for i := range t.Attachments {
		a := &t.Attachments[i]
		x := Attached{Type: a.Type, File: a.File, Size: a.Size}
		if a.Kind == RowsKind {
			x.Type, x.Rows = formatTypes[a.Format], &Rows{Sheet: w.c.Sheet, Format: a.Format}
			for _, id := range a.Columns {
				if c, ok := w.c.Sheet.Column(id); ok {
					x.Rows.Columns = append(x.Rows.Columns, c)
				}
			}
			if x.Rows.Rows = w.c.Rows; x.Rows.Rows == nil {
				x.Rows.Rows = []*sheet.Row{w.c.Row}
			}
		}
		x.Name = FileName(w.line(d.names[i]), x.Type)
		out = append(out, x)
	}
	return out
}

// FileName makes a file's name of a text: without what parts folders, never empty, and
// with an ending that tells its type.
func FileName(s, typ string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) {
			return '-'
		}
		return r
	}, oneLine(s))
	s = strings.Trim(s, " .")
	if r := []rune(s); len(r) > 120 {
		s = string(r[:60]) + "…" + string(r[len(r)-59:])
	}
	if s == "" {
		s = "attachment"
	}
	if !strings.Contains(s, ".") {
		s += endings[typ]
	}
	return s
}
