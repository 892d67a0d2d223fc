package template

import (
	"fmt"
	"mime"
	"strings"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Attachment is a file that goes with the email.
type Attachment struct {
	Kind string `json:"kind"`           // FileKind, ColumnKind, RowsKind or InvitationKind
	Name Line   `json:"name,omitempty"` // its file name
	File string `json:"file,omitempty"` // of a file: its content, as Image.File names one
	Type string `json:"type,omitempty"` // its media type
	Size int    `json:"size,omitempty"` // bytes

	Format  string   `json:"format,omitempty"`  // of rows: CSV or XLSX
	Columns []string `json:"columns,omitempty"` // of rows: their ids

	Column   string `json:"column,omitempty"`   // of the row's files: the column that names them
	Optional bool   `json:"optional,omitempty"` // a row that names none gets the email without

	// Of an invitation: the columns of its start and, perhaps, its end; else how many minutes
	// it lasts (one that starts on a date is of the whole day); what it says; and whether a row
	// without a start calls it off, rather than wait for one.
	Start  string `json:"start,omitempty"`
	End    string `json:"end,omitempty"`
	Lasts  int    `json:"lasts,omitempty"`
	Title  Line   `json:"title,omitempty"`
	Place  Line   `json:"place,omitempty"`
	Note   Line   `json:"note,omitempty"`
	Cancel bool   `json:"cancel,omitempty"`
}

// The kinds of attachments.
const (
	FileKind       = "file"       // the same file for every row
	InvitationKind = "invitation" // to an event of the row, for the recipients' calendars
	ColumnKind     = "column"     // the files that the row names in a column of files
	RowsKind       = "rows"       // the rows of a round-up, or the one row of another email, as a table
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
var endings = map[string]string{"application/pdf": ".pdf", "image/png": ".png", "image/jpeg": ".jpg",
	"image/gif": ".gif", "text/plain": ".txt", "text/csv": ".csv",
	"text/calendar": ".ics", "application/zip": ".zip",
	"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet":       ".xlsx",
	"application/vnd.openxmlformats-officedocument.wordprocessingml.document": ".docx"}

// Ending gives the ending of the name of a file of a common type; "" for others.
func Ending(typ string) string {
	typ, _, _ = strings.Cut(typ, ";")
	return endings[typ]
}

// Attached is an attachment as it goes with one email.
type Attached struct {
	Name  string
	Type  string
	File  string // its content, as Image.File names one
	Size  int
	Rows  *Rows  // in place of File, while they have not been written as one
	Event *Event // the same
}

// Event is what an invitation is to. Sent again for the same row it has the same UID, so that
// calendars move it, or call it off, rather than show a second one.
type Event struct {
	UID    string
	Start  value.Wall
	End    value.Wall // of a day: the day behind the last
	AllDay bool
	Zone   *time.Location
	Title  string
	Place  string
	Note   string
	Cancel bool
	From   From
	To     []value.Mailbox
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
		return in("/name", err)
	}
	switch a.Kind {
	case FileKind:
		if !isContentID(a.File) {
			return in("/file", fmt.Errorf("an attachment names its file"))
		}
		if a.Size <= 0 || a.Size > MaxAttachment {
			return in("/size", fmt.Errorf("a file has up to %d MB", MaxAttachment>>20))
		}
		if _, _, err := mime.ParseMediaType(a.Type); err != nil {
			return in("/type", fmt.Errorf("%q is not a media type", a.Type))
		}
		return nil
	case RowsKind:
		if formatTypes[a.Format] == "" {
			return in("/format", fmt.Errorf("rows are written as csv or xlsx, not as %q", a.Format))
		}
		if len(a.Columns) == 0 {
			return in("/columns", fmt.Errorf("rows need at least one column"))
		}
		for i, id := range a.Columns {
			if _, ok := p.sheet.Column(id); !ok && !p.draft {
				return in(fmt.Sprintf("/columns/%d", i), fmt.Errorf("rows have a column that is not there any more"))
			}
		}
		return nil
	case ColumnKind:
		return in("/column", a.validateColumn(p))
	case InvitationKind:
		return a.validateInvitation(p)
	}
	return in("/kind", fmt.Errorf("%q is not a kind of attachment", a.Kind))
}

func (a *Attachment) validateInvitation(p *place) error {
	for at, l := range map[string]Line{"/title": a.Title, "/place": a.Place, "/note": a.Note} {
		if err := l.validate(p); err != nil {
			return in(at, err)
		}
	}
	if p.draft {
		return nil
	}
	for i, id := range []string{a.Start, a.End} {
		c, ok := p.sheet.Column(id)
		if id == "" && a.End == "" && a.Start != "" {
			continue
		}
		if !ok || c.ValueType() != value.Date && c.ValueType() != value.Moment {
			return in([]string{"/start", "/end"}[i],
				fmt.Errorf("an invitation starts, and ends, in columns of dates, or of dates and times"))
		}
	}
	if len(a.Title) == 0 {
		return in("/title", fmt.Errorf("an invitation needs a title"))
	}
	if a.Lasts < 0 || a.Lasts > 7*24*60 {
		return in("/lasts", fmt.Errorf("an event lasts up to a week"))
	}
	return nil
}

// validateAttachments checks the attachments of a template together.
func (t *Template) validateAttachments(p *place) error {
	if len(t.Attachments) > maxAttachment {
		return in("/attachments", fmt.Errorf("an email has up to %d attachments", maxAttachment))
	}
	size := 0
	for i := range t.Attachments {
		if err := t.Attachments[i].validate(p); err != nil {
			return in(fmt.Sprintf("/attachments/%d", i), fmt.Errorf("attachment %d: %w", i+1, err))
		}
		size += t.Attachments[i].Size
	}
	if size > MaxAttached {
		return in("/attachments", fmt.Errorf("the attachments have %d MB together; an email carries up to %d MB",
			(size+1<<20-1)>>20, MaxAttached>>20))
	}
	return nil
}

func (a *Attachment) fields() (out []*Field) {
	for _, l := range []Line{a.Name, a.Title, a.Place, a.Note} {
		out = append(out, l.fields()...)
	}
	return out
}

// columns points at the ids of the columns that it names outside fields.
func (a *Attachment) columns() (out []*string) {
	for i := range a.Columns {
		out = append(out, &a.Columns[i])
	}
	return append(out, &a.Start, &a.End, &a.Column)
}

// attach gives the attachments of an email, their names written for its row.
func (w *writer) attach(t *Template, d *doc) (out []Attached) {
	for i := range t.Attachments {
		a := &t.Attachments[i]
		if a.Kind == ColumnKind {
			out = append(out, w.ofRow(t, a, d.attached[i].name)...)
			continue
		}
		x := Attached{Type: a.Type, File: a.File, Size: a.Size}
		if a.Kind == RowsKind {
			x.Type, x.Rows = formatTypes[a.Format], &Rows{Sheet: w.c.Sheet, Format: a.Format}
			for _, id := range a.Columns {
				if c, ok := w.c.Sheet.Column(id); ok {
					x.Rows.Columns = append(x.Rows.Columns, c)
				}
			}
			x.Rows.Rows = w.c.rows()
		}
		if a.Kind == InvitationKind {
			x.Type, x.Event = invitationType, w.event(a, &d.attached[i])
			if x.Event.Cancel {
				x.Type = cancelType
			}
		}
		x.Name = FileName(w.line(d.attached[i].name), x.Type)
		out = append(out, x)
	}
	return out
}

// The media types of an invitation and of its calling off (RFC 6047, section 2.4).
const (
	invitationType = "text/calendar; charset=UTF-8; method=REQUEST"
	cancelType     = "text/calendar; charset=UTF-8; method=CANCEL"
)

// attachedDoc is an attachment's lines, made ready.
type attachedDoc struct {
	name, title, place, note []op
	start, end               *sheet.Column
	calls                    bool // off, without a start
	files                    *sheet.Column
	optional                 bool // a row may name none
}

func (d *attachedDoc) lines() [][]op { return [][]op{d.name, d.title, d.place, d.note} }

// wants gives the column, by id, that keeps the email from going out: an invitation needs a
// start, unless it is called off without one; the files that a row names have to be there, and to
// fit into the email.
func (d *attachedDoc) wants(w *writer) string {
	if d.start != nil && !d.calls && !w.c.Row.Cell(d.start).IsFilled() {
		return d.start.ID
	}
	if d.files == nil {
		return ""
	}
	cell := w.c.Row.Cell(d.files)
	if cell.IsEmpty() && d.optional {
		return ""
	}
	if !cell.IsFilled() || len(w.t.Absent(cell)) > 0 || w.t.Oversize(w.c.rows(), w.c.Sheet) {
		return d.files.ID
	}
	return ""
}

// event is a row's event. Its UID is of the row and of the column of its start.
func (w *writer) event(a *Attachment, d *attachedDoc) *Event {
	s := w.c.Sheet
	e := &Event{UID: ContentID([]byte(s.ID + "\x00" + w.c.Row.ID + "\x00" + a.Start))[:32], Zone: s.Zone,
		Title: w.line(d.title), Place: w.line(d.place), Note: w.line(d.note),
		From: w.c.sender, To: w.c.To}
	start := w.c.Row.Cell(d.start)
	if !start.IsFilled() {
		e.Cancel = a.Cancel
		return e
	}
	e.Start, e.AllDay = start.Wall, start.Type == value.Date
	end := w.c.Row.Cell(d.end)
	switch {
	case end.IsFilled() && e.AllDay:
		e.End = value.Wall{Day: max(end.Wall.Day, e.Start.Day) + 1}
	case end.IsFilled() && end.Type == value.Moment && end.Wall.Compare(e.Start) > 0:
		e.End = end.Wall
	case e.AllDay:
		e.End = value.Wall{Day: e.Start.Day + 1}
	default:
		second := int64(e.Start.Second) + int64(a.Lasts)*60
		e.End = value.Wall{Day: e.Start.Day + value.Day(second/86400), Second: int32(second % 86400)}
	}
	return e
}

// FileName makes a file's name of a text: without what parts folders, never empty, and
// with an ending that tells its type.
func FileName(s, typ string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case strings.ContainsRune(`/\:*?"<>|`, r):
			return '-'
		case turns(r): // a name that reads otherwise hides what it is of
			return -1
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
		s += Ending(typ)
	}
	return s
}

// Words returns all that the event says, for telling whether two say the same.
func (e *Event) Words() string {
	return fmt.Sprintf("%q %v %v %t %v %q %q %q %t %v %v", e.UID, e.Start, e.End, e.AllDay, e.Zone, e.Title, e.Place,
		e.Note, e.Cancel, e.From, e.To)
}

// Words returns all that the rows say, for telling whether two tables say the same.
func (r *Rows) Words() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%q", r.Format)
	for _, c := range r.Columns {
		fmt.Fprintf(&b, " %q", c.Name)
	}
	for _, row := range r.Rows {
		b.WriteByte('\n')
		for _, c := range r.Columns {
			fmt.Fprintf(&b, " %q", r.Sheet.Show(c, row.Cell(c)))
		}
	}
	return b.String()
}
