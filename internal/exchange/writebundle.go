package exchange

import (
	"archive/zip"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"sort"

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

// Names that a bundle puts in place of ids.
type bundleNames struct {
	s         *sheet.Sheet
	templates map[string]string // names by id
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
func NewBundleWriter(w io.Writer, s *sheet.Sheet, templates []*template.Template, rules []*rule.Rule, c calendar.Calendar) (*BundleWriter, error) {
	b := &BundleWriter{z: zip.NewWriter(w), s: s}
	n := bundleNames{s, map[string]string{}}
	for _, t := range templates {
		n.templates[t.ID] = t.Name
	}
	ts, err := n.templateFiles(templates)
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
	}{{"sheet.json", sheetOut(s)}, {"templates.json", ts}, {"rules.json", rs}, {"calendar.json", calendarFile{weekdays, orEmpty(closed)}}} {
		if err := b.file(f.name, f.body); err != nil {
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
			heading = append(heading, c.Name)
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
			rec = append(rec, b.s.Input(c, r.Cell(c)))
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
	out := map[string]any{"format": format, "name": s.Name, "zone": s.Zone.String(), "locale": s.Locale.Tag, "settle": fmt.Sprintf("PT%dS", int(s.Settle.Seconds())),
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
		x := wordingOut(c.Subject, c.Body)
		x["name"] = c.Name
		if c.Language != "" {
			x["language"] = c.Language
		}
		var variants []map[string]any
		for _, v := range c.Variants {
			y := wordingOut(v.Subject, v.Body)
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

func wordingOut(subject, body template.Node) map[string]any {
	var inline []template.Node
	for _, p := range subject.Content {
		inline = append(inline, p.Content...)
	}
	return map[string]any{"subject": template.FormatInline(inline, func(name string) string { return name }), "body": body}
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
