package exchange

import (
	"archive/zip"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"nivot/internal/core/calendar"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// BundleWriter writes a bundle as a .zip, with its rows one after the other.
type BundleWriter struct {
	z    *zip.Writer
	rows *csv.Writer
	s    *sheet.Sheet
}

// Letters is what a sheet's emails say and carry.
type Letters struct {
	Templates []*template.Template
	Pieces    map[string]*template.Piece           // by id
	Shelf     template.Shelf                       // the files that rows name
	File      func(content string) ([]byte, error) // what a content's name stands for
}

// Names that a bundle puts in place of ids.
type bundleNames struct {
	s         *sheet.Sheet
	templates map[string]string // names by id
	pieces    map[string]*template.Piece
	files     map[string]string // names by content
	taken     map[string]bool   // those names, in lower case
}

// file gives a content a name in the folder of files: the one it goes by, with a number
// where that is taken.
func (n bundleNames) file(content, name string) string {
	if have, ok := n.files[content]; ok {
		return have
	}
	ending := path.Ext(name)
	stem := strings.TrimSuffix(name, ending)
	for k := 2; n.taken[strings.ToLower(name)]; k++ {
		name = fmt.Sprintf("%s-%d%s", stem, k, ending)
	}
	n.files[content], n.taken[strings.ToLower(name)] = name, true
	return name
}

// images names the files of images.
func (n bundleNames) images(list []*template.Image) {
	for _, i := range list {
		if i.File != "" {
			i.File = n.file(i.File, "image"+template.Ending(i.Type))
		}
	}
}

// attachments names the files of attachments; one whose name is that of its file needs none.
func (n bundleNames) attachments(list []template.Attachment) {
	for k := range list {
		a := &list[k]
		if a.Kind != template.FileKind {
			continue
		}
		name := ""
		for _, p := range a.Name {
			name += p.Text
		}
		a.File = n.file(a.File, template.FileName(name, a.Type))
		if len(a.Name) == 1 && a.Name[0].Text == a.File {
			a.Name = nil
		}
		a.Type, a.Size = "", 0
	}
}

func (n bundleNames) piece(id string) (string, error) {
	if p := n.pieces[id]; p != nil {
		return p.Name, nil
	}
	return "", fmt.Errorf("piece of text %s is not there", id)
}

// pieceFiles writes the pieces that templates use.
func (n bundleNames) pieceFiles(list []*template.Template) ([]map[string]any, error) {
	used := map[string]bool{}
	for _, t := range list {
		for _, id := range t.PieceIDs() {
			used[id] = true
		}
	}
	out := []map[string]any{}
	for _, id := range slices.Sorted(maps.Keys(used)) {
		p := n.pieces[id]
		if p == nil {
			return nil, fmt.Errorf("piece of text %s is not there", id)
		}
		c, err := p.Clone()
		if err != nil {
			return nil, err
		}
		n.images(c.Images())
		x := map[string]any{"name": c.Name, "body": c.Body}
		if c.Variants != nil {
			x["variants"] = c.Variants
		}
		out = append(out, x)
	}
	return out, nil
}

func (n bundleNames) column(id string) (string, error) {
	c, ok := n.s.Column(id)
	if !ok {
		return "", fmt.Errorf("column %s is not there", id)
	}
	return c.Name, nil
}

func (n bundleNames) template(id string) (string, error) {
	name, ok := n.templates[id]
	if !ok {
		return "", fmt.Errorf("template %s is not there", id)
	}
	return name, nil
}

func (n bundleNames) option(column, id string) (string, error) {
	// By the time an operand is written its column has its name already.
	c, ok := n.s.Column(column)
	if !ok {
		c, ok = n.s.ColumnNamed(column)
	}
	if ok {
		for _, o := range c.Options {
			if o.ID == id {
				return o.Name, nil
			}
		}
	}
	return id, nil
}

// NewBundleWriter writes everything of a bundle but its rows, which follow by
// Row.
func NewBundleWriter(w io.Writer, s *sheet.Sheet, l Letters, rules []*rule.Rule,
	c calendar.Calendar) (*BundleWriter, error) {
	b := &BundleWriter{z: zip.NewWriter(w), s: s}
	n := bundleNames{s, map[string]string{}, l.Pieces, map[string]string{}, map[string]bool{}}
	for _, t := range l.Templates {
		n.templates[t.ID] = t.Name
	}
	ts, err := n.templateFiles(l.Templates)
	if err != nil {
		return nil, err
	}
	ps, err := n.pieceFiles(l.Templates)
	if err != nil {
		return nil, err
	}
	rs, err := n.ruleFiles(rules)
	if err != nil {
		return nil, err
	}
	weekdays, closed := c.Names()
	for _, f := range []struct {
		name string
		body any
	}{{"sheet.json", sheetOut(s)}, {"templates.json", ts}, {"pieces.json", ps}, {"rules.json", rs},
		{"calendar.json", calendarFile{weekdays, orEmpty(closed)}}} {
		if list, ok := f.body.([]map[string]any); ok && f.name == "pieces.json" && len(list) == 0 {
			continue
		}
		if err := b.file(f.name, f.body); err != nil {
			return nil, err
		}
	}
	contents := map[string]string{} // by path
	for id, name := range n.files {
		contents["files/"+name] = id
	}
	for _, f := range l.Shelf {
		contents["shelf/"+f.Name] = f.File
	}
	for _, name := range slices.Sorted(maps.Keys(contents)) {
		data, err := l.File(contents[name])
		if err != nil {
			return nil, err
		}
		part, err := b.z.Create(name)
		if err != nil {
			return nil, err
		}
		if _, err := part.Write(data); err != nil {
			return nil, err
		}
	}
	part, err := b.z.Create("rows.csv")
	if err != nil {
		return nil, err
	}
	b.rows = csv.NewWriter(part)
	heading := []string{}
	for _, c := range s.Columns {
		if c.Type != value.Formula {
			heading = append(heading, harmless(c.Name))
		}
	}
	return b, b.rows.Write(heading)
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func (b *BundleWriter) file(name string, body any) error {
	part, err := b.z.Create(name)
	if err != nil {
		return err
	}
	e := json.NewEncoder(part)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	return e.Encode(body)
}

// Row writes a row.
func (b *BundleWriter) Row(r *sheet.Row) error {
	rec := []string{}
	for i := range b.s.Columns {
		if c := &b.s.Columns[i]; c.Type != value.Formula {
			rec = append(rec, cellText(b.s, c, r.Cell(c)))
		}
	}
	return b.rows.Write(rec)
}

// Close ends the bundle.
func (b *BundleWriter) Close() error {
	b.rows.Flush()
	if err := b.rows.Error(); err != nil {
		return err
	}
	return b.z.Close()
}

func sheetOut(s *sheet.Sheet) map[string]any {
	cols := []map[string]any{}
	for _, c := range s.Columns {
		x := map[string]any{"name": c.Name, "type": c.Type}
		if c.Order != "" {
			x["order"] = c.Order
		}
		if c.Formula != "" {
			x["formula"] = c.Formula
		}
		if c.Group != "" {
			x["group"] = c.Group
		}
		if c.Format != (value.NumberFormat{}) {
			x["format"] = c.Format
		}
		var options []string
		for _, o := range c.Options {
			options = append(options, o.Name)
		}
		if options != nil {
			x["options"] = options
		}
		cols = append(cols, x)
	}
	out := map[string]any{"format": format, "name": s.Name, "zone": s.Zone.String(), "locale": s.Locale.Tag,
		"settle":  fmt.Sprintf("PT%dS", int(s.Settle.Seconds())),
		"columns": cols}
	if key, ok := s.Column(s.Key); ok {
		out["key"] = key.Name
	}
	return out
}

func (n bundleNames) templateFiles(list []*template.Template) ([]map[string]any, error) {
	sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name })
	out := []map[string]any{}
	for _, t := range list {
		c, err := t.Clone()
		if err != nil {
			return nil, err
		}
		if err := c.Rename(n.column, n.option); err != nil {
			return nil, fmt.Errorf("template %s: %w", t.Name, err)
		}
		if err := c.RenamePieces(n.piece); err != nil {
			return nil, fmt.Errorf("template %s: %w", t.Name, err)
		}
		n.images(c.Images())
		n.attachments(c.Attachments)
		x := n.wordingOut(c.Subject, c.Preheader, c.Body)
		x["name"] = c.Name
		if c.FirstLanguage != "" {
			x["firstLanguage"] = c.FirstLanguage
		}
		if c.Attachments != nil {
			x["attachments"] = c.Attachments
		}
		if c.Language != "" {
			x["language"] = c.Language
		}
		var variants []map[string]any
		for _, v := range c.Variants {
			y := n.wordingOut(v.Subject, v.Preheader, v.Body)
			y["language"] = v.Language
			variants = append(variants, y)
		}
		if variants != nil {
			x["variants"] = variants
		}
		out = append(out, x)
	}
	return out, nil
}

func (n bundleNames) wordingOut(subject, preheader, body template.Node) map[string]any {
	out := map[string]any{"subject": n.lineOut(subject), "body": body}
	if preheader.Type != "" {
		out["preheader"] = n.lineOut(preheader)
	}
	return out
}

// names lists what is derived and what is not by name, which is what a line's fields name by
// the time it is written.
type names struct{ s *sheet.Sheet }

func (x names) ColumnNames() (ids, list []string) {
	_, list = x.s.ColumnNames()
	return list, list
}

// lineOut writes a line in its text form; as a tree where that would be read as something
// else.
func (n bundleNames) lineOut(line template.Node) any {
	var inline []template.Node
	for _, p := range line.Content {
		inline = append(inline, p.Content...)
	}
	text := template.FormatInline(inline, func(name string) string { return name })
	if again, err := template.ParseLine(text, names{n.s}); err == nil {
		a, _ := json.Marshal(again.Content[0].Content)
		b, _ := json.Marshal(inline)
		if string(a) == string(b) || len(inline) == 0 {
			return text
		}
	}
	return line
}

func (n bundleNames) ruleFiles(list []*rule.Rule) ([]json.RawMessage, error) {
	out := []json.RawMessage{}
	for _, r := range list {
		c, err := r.Clone()
		if err != nil {
			return nil, err
		}
		if err := c.Rename(n.column, n.template, n.option); err != nil {
			return nil, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		b, err := json.Marshal(c)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, nil
}
