package template

import (
	"encoding/hex"
	"fmt"
	"mime"
	"strings"
)

// Attachment is a file that goes with the email.
type Attachment struct {
	Kind string `json:"kind"`           // FileKind
	Name Line   `json:"name,omitempty"` // its file name
	File string `json:"file,omitempty"` // of a file: its content, as Image.File names one
	Type string `json:"type,omitempty"` // its media type
	Size int    `json:"size,omitempty"` // bytes
}

// The kinds of attachments.
const (
	FileKind = "file" // the same file for every row
)

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
func (a *Attachment) columns() []*string { return nil }

// attach gives the attachments of an email, their names written for its row.
func (w *writer) attach(t *Template, d *doc) (out []Attached) {
	for i := range t.Attachments {
		a := &t.Attachments[i]
		out = append(out, Attached{Name: FileName(w.line(d.names[i]), a.Type), Type: a.Type, File: a.File, Size: a.Size})
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
