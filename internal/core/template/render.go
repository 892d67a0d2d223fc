package template

import (
	"html"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Context is the row a template is rendered for, with its formulas worked out.
type Context struct {
	Sheet *sheet.Sheet
	Row   *sheet.Row
	Rows  []*sheet.Row // of a round-up: all of them, Row being the first
	Today value.Day    // in the rule's zone
	Facts rule.Facts   // for parts shown only if a condition holds
}

// Rendered is an email's content.
type Rendered struct {
	Subject string // one line
	HTML    string
	Text    string
	Missing []string // ids of columns whose fields have neither value nor fallback, each once
}

// Render writes the template for a row. Values are escaped where they land:
// none can add a tag or a line to the subject.
func (t *Template) Render(c Context) Rendered {
	w, d := t.begin(c)
	subject := w.subject(d)
	w.html.WriteString(pageHead)
	w.run(d.body)
	w.html.WriteString(pageFoot)
	return Rendered{Subject: subject, HTML: w.html.String(), Text: strings.TrimRight(w.text.String(), "\n") + "\n", Missing: w.missing}
}

// Check gives the subject and what is missing, without writing the letter.
func (t *Template) Check(c Context) Rendered {
	w, d := t.begin(c)
	out := Rendered{Subject: w.subject(d)}
	w.checks = true
	w.run(d.body)
	out.Missing = w.missing
	return out
}

// Outside writes what the fields outside a round-up's table come to, for
// telling whether they are the same for all of its rows.
func (t *Template) Outside(c Context) string {
	w, d := t.begin(c)
	w.outside = true
	w.run(d.subject)
	w.run(d.body)
	return w.text.String()
}

func (t *Template) begin(c Context) (*writer, *doc) {
	if t.ready == nil || t.ready.sheet != c.Sheet {
		t.Prepare(c.Sheet)
	}
	if c.Facts.Sheet == nil {
		c.Facts = rule.Facts{Sheet: c.Sheet, Row: c.Row, Today: c.Today, Zone: c.Sheet.Zone}
	}
	d := t.ready.choose(c.Row)
	return &writer{c: c, locale: d.locale}, d
}

// oneLine turns line breaks into one space and drops control characters.
func oneLine(s string) string {
	var b strings.Builder
	gap := false
	for _, r := range s {
		switch {
		case r == '\n' || r == '\r' || r == '\u2028' || r == '\u2029' || r == '\t':
			gap = true
		case unicode.IsControl(r):
		default:
			if gap && b.Len() > 0 && r != ' ' {
				b.WriteByte(' ')
			}
			gap = false
			b.WriteRune(r)
		}
	}
	return value.Trim(b.String())
}

// The page is what common mail readers show alike: one table, all styles
// inline, nothing remote.
const (
	pageHead = `<!DOCTYPE html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"></head>` +
		`<body style="margin:0;padding:0;background:#ffffff"><table role="presentation" width="100%" cellpadding="0" cellspacing="0" border="0"><tr>` +
		`<td style="padding:24px 20px;font-family:Georgia,'Times New Roman',serif;font-size:16px;line-height:25px;color:#20242c"><div style="max-width:640px">`
	pageFoot = `</div></td></tr></table></body></html>`
)

type writer struct {
	c       Context
	locale  *value.Locale
	html    strings.Builder
	text    strings.Builder
	missing []string
	checks  bool // only what is missing is wanted
	outside bool // only the values outside a round-up's table are wanted
}

func (w *writer) subject(d *doc) string {
	w.run(d.subject)
	s := oneLine(w.text.String())
	w.text.Reset()
	w.html.Reset()
	return s
}

func (w *writer) run(ops []op) {
	for i := range ops {
		o := &ops[i]
		if !w.checks && !w.outside {
			w.html.WriteString(o.html)
			w.text.WriteString(o.text)
		}
		switch {
		case o.field != nil:
			w.value(o)
		case o.href != nil:
			w.link(o)
		case o.roundUp:
			w.table(o)
		case o.cond != nil:
			if t, _ := o.cond.Judge(w.c.Facts); t == rule.True {
				w.run(o.part)
			}
		}
	}
}

func (w *writer) value(o *op) {
	s := w.field(o.field)
	switch {
	case w.checks:
	case w.outside:
		w.text.WriteString(s + "\x00")
	default:
		w.html.WriteString(escape(s))
		if s = clean(s); strings.Contains(s, "\n") {
			s = strings.ReplaceAll(s, "\n", "\n"+o.indent)
		}
		w.text.WriteString(s)
	}
}

// link writes an address: its values escaped for URLs, and the whole for HTML.
func (w *writer) link(o *op) {
	var b strings.Builder
	for _, p := range o.href {
		if p.field == nil {
			b.WriteString(p.text)
			continue
		}
		s := w.field(p.field)
		if w.outside {
			w.text.WriteString(s + "\x00")
		}
		b.WriteString(strings.ReplaceAll(url.QueryEscape(s), "+", "%20"))
	}
	switch {
	case w.checks || w.outside:
	case o.behind:
		w.text.WriteString(" (" + b.String() + ")")
	default:
		w.html.WriteString(html.EscapeString(b.String()))
	}
}

// table writes a line for each row of a round-up. An empty cell there is an
// empty cell.
func (w *writer) table(o *op) {
	if w.checks || w.outside {
		return
	}
	rows := w.c.Rows
	if rows == nil {
		rows = []*sheet.Row{w.c.Row}
	}
	for _, row := range rows {
		w.html.WriteString(`<tr>`)
		for i := range o.table {
			s, _ := o.table[i].write(w, row)
			w.html.WriteString(`<td style="` + cellStyle + `">` + escape(s) + `</td>`)
			if i > 0 {
				w.text.WriteString(" · ")
			} else {
				w.text.WriteString("- ")
			}
			w.text.WriteString(oneLine(s))
		}
		w.html.WriteString(`</tr>`)
		w.text.WriteByte('\n')
	}
}

func escape(s string) string {
	if plainText(s) {
		return s
	}
	s = strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
	return strings.ReplaceAll(html.EscapeString(clean(s)), "\n", "<br>")
}

// plainText tells whether a text needs neither escaping nor cleaning.
func plainText(s string) bool {
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c < 0x20 || c >= 0x7f, c == '<', c == '>', c == '&', c == '"', c == '\'':
			return false
		}
	}
	return true
}

// clean drops control characters that have no place in an email's text.
func clean(s string) string {
	if plainText(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, s)
}

func (w *writer) field(f *slot) string {
	s, ok := f.write(w, w.c.Row)
	if !ok && !slices.Contains(w.missing, f.Column) {
		w.missing = append(w.missing, f.Column)
	}
	return s
}

func (f *slot) write(w *writer, row *sheet.Row) (string, bool) {
	return f.Field.write(f.col, row, w.c.Sheet, w.locale, w.c.Today)
}

// Write gives the field's text for a row; ok is false where the cell has no
// value (an unreadable one has none) and the field no fallback.
func (f *Field) Write(c Context) (s string, ok bool) {
	col, _ := c.Sheet.Column(f.Column)
	return f.write(col, c.Row, c.Sheet, c.Sheet.Locale, c.Today)
}

func (f *Field) write(col *sheet.Column, row *sheet.Row, sh *sheet.Sheet, l *value.Locale, today value.Day) (s string, ok bool) {
	v := row.Cell(col)
	if !v.IsFilled() {
		if f.Fallback != nil {
			return *f.Fallback, true
		}
		return "", false
	}
	s = f.format(col, v, sh, l, today)
	switch f.Part {
	case "first word":
		if w := strings.Fields(s); len(w) > 0 {
			s = w[0]
		}
	case "last word":
		if w := strings.Fields(s); len(w) > 0 {
			s = w[len(w)-1]
		}
	}
	switch f.Case {
	case "upper":
		s = strings.ToUpper(s)
	case "lower":
		s = strings.ToLower(s)
	}
	return s, true
}

func (f *Field) format(col *sheet.Column, v value.Value, sh *sheet.Sheet, l *value.Locale, today value.Day) string {
	switch v.Type {
	case value.Date, value.Moment:
		if f.FromNow {
			return l.DayCount(int(v.Wall.Day - today))
		}
		style := value.DateStyle(f.Style)
		if style == "" {
			style = value.Medium
		}
		if v.Type == value.Moment {
			return value.FormatMoment(v.Wall, style, l, "")
		}
		return value.FormatDay(v.Wall.Day, style, l, "")
	case value.Number:
		format := col.Format
		if f.Decimals != nil {
			format.Decimals = f.Decimals
		}
		return value.FormatNumber(v.Num, format, l)
	case value.YesNo:
		return l.YesNo(v.Yes)
	}
	return sh.Show(col, v)
}
