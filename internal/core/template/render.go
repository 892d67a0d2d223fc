package template

import (
	"fmt"
	"html"
	"strings"
	"unicode"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Context is the row a template is rendered for.
type Context struct {
	Sheet *sheet.Sheet
	Row   *sheet.Row
	Today value.Day // in the rule's zone
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
	w := &writer{c: c, missing: map[string]bool{}}
	subject := ""
	if len(t.Subject.Content) > 0 {
		subject = oneLine(w.plain(t.Subject.Content[0].Content))
	}
	for i := range t.Body.Content {
		w.block(&t.Body.Content[i], "", bodyStyle)
	}
	return Rendered{
		Subject: subject,
		HTML:    page(w.html.String()),
		Text:    strings.TrimRight(w.text.String(), "\n") + "\n",
		Missing: w.order,
	}
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

const bodyStyle = "margin:0 0 14px 0"

// page wraps the body in what common mail readers show alike: one table, all
// styles inline, nothing remote.
func page(body string) string {
	return `<!DOCTYPE html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"></head>` +
		`<body style="margin:0;padding:0;background:#ffffff"><table role="presentation" width="100%" cellpadding="0" cellspacing="0" border="0"><tr>` +
		`<td style="padding:24px 20px;font-family:Georgia,'Times New Roman',serif;font-size:16px;line-height:25px;color:#20242c"><div style="max-width:640px">` +
		body + `</div></td></tr></table></body></html>`
}

type writer struct {
	c       Context
	html    strings.Builder
	text    strings.Builder
	missing map[string]bool
	order   []string
}

// block writes a block to both twins; indent heads the lines of the text one.
func (w *writer) block(n *Node, indent, style string) {
	switch n.Type {
	case Paragraph:
		fmt.Fprintf(&w.html, `<p style="%s">%s</p>`, style, w.inline(n.Content))
		w.lines(indent, w.plain(n.Content))
		w.text.WriteByte('\n')
	case Heading:
		size := [...]int{22, 19, 17}[max(0, min(n.Level-1, 2))]
		fmt.Fprintf(&w.html, `<h%d style="margin:0 0 12px 0;font-size:%dpx;line-height:1.35">%s</h%d>`, n.Level, size, w.inline(n.Content), n.Level)
		w.lines(indent, w.plain(n.Content))
		w.text.WriteByte('\n')
	case BulletList, OrderedList:
		tag := map[string]string{BulletList: "ul", OrderedList: "ol"}[n.Type]
		fmt.Fprintf(&w.html, `<%s style="margin:0 0 14px 0;padding-left:24px">`, tag)
		for i := range n.Content {
			bullet := "- "
			if n.Type == OrderedList {
				bullet = fmt.Sprintf("%d. ", i+1)
			}
			w.item(&n.Content[i], indent, bullet)
		}
		fmt.Fprintf(&w.html, `</%s>`, tag)
		if indent == "" {
			w.text.WriteByte('\n')
		}
	}
}

func (w *writer) item(n *Node, indent, bullet string) {
	w.html.WriteString(`<li style="margin:0 0 4px 0">`)
	deeper := indent + strings.Repeat(" ", len(bullet))
	for i := range n.Content {
		c := &n.Content[i]
		if c.Type == Paragraph {
			fmt.Fprintf(&w.html, `<p style="margin:0">%s</p>`, w.inline(c.Content))
			head := deeper
			if i == 0 {
				head = indent + bullet
			}
			for k, line := range strings.Split(w.plain(c.Content), "\n") {
				if k > 0 {
					head = deeper
				}
				w.text.WriteString(head + line + "\n")
			}
			continue
		}
		w.block(c, deeper, "margin:0")
	}
	w.html.WriteString(`</li>`)
}

func (w *writer) lines(indent, s string) {
	for _, line := range strings.Split(s, "\n") {
		w.text.WriteString(indent + line + "\n")
	}
}

func (w *writer) inline(nodes []Node) string {
	var b strings.Builder
	for i := range nodes {
		n := &nodes[i]
		s := ""
		switch n.Type {
		case TextNode:
			s = escape(n.Text)
		case FieldNode:
			s = escape(w.field(n.Field))
		case HardBreak:
			s = "<br>"
		}
		for _, m := range n.Marks {
			switch m.Type {
			case "bold":
				s = "<strong>" + s + "</strong>"
			case "italic":
				s = "<em>" + s + "</em>"
			case "link":
				s = `<a href="` + html.EscapeString(m.Href) + `" style="color:#1e5557">` + s + `</a>`
			}
		}
		b.WriteString(s)
	}
	return b.String()
}

func escape(s string) string {
	s = strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
	return strings.ReplaceAll(html.EscapeString(clean(s)), "\n", "<br>")
}

// clean drops control characters that have no place in an email's text.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, s)
}

func (w *writer) plain(nodes []Node) string {
	var b strings.Builder
	for i := range nodes {
		n := &nodes[i]
		switch n.Type {
		case TextNode:
			b.WriteString(clean(n.Text))
		case FieldNode:
			b.WriteString(clean(w.field(n.Field)))
		case HardBreak:
			b.WriteByte('\n')
		}
		// A link's address stands behind its text, once it ends.
		if href := link(n); href != "" && (i+1 == len(nodes) || link(&nodes[i+1]) != href) {
			if !strings.HasSuffix(b.String(), href) {
				b.WriteString(" (" + href + ")")
			}
		}
	}
	return b.String()
}

func link(n *Node) string {
	for _, m := range n.Marks {
		if m.Type == "link" {
			return m.Href
		}
	}
	return ""
}

func (w *writer) field(f *Field) string {
	s, ok := f.Write(w.c)
	if !ok && !w.missing[f.Column] {
		w.missing[f.Column] = true
		w.order = append(w.order, f.Column)
	}
	return s
}

// Write gives the field's text for a row; ok is false where the cell has no
// value (an unreadable one has none) and the field no fallback.
func (f *Field) Write(c Context) (s string, ok bool) {
	col, found := c.Sheet.Column(f.Column)
	v := value.Value{}
	if found {
		v = c.Row.Cell(col)
	}
	if !v.IsFilled() {
		if f.Fallback != nil {
			return *f.Fallback, true
		}
		return "", false
	}
	s = f.format(c, col, v)
	switch f.Part {
	case "first word":
		s, _, _ = strings.Cut(s, " ")
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

func (f *Field) format(c Context, col *sheet.Column, v value.Value) string {
	switch v.Type {
	case value.Date, value.Moment:
		if f.FromNow {
			n := int(v.Wall.Day - c.Today)
			if n == 1 || n == -1 {
				return fmt.Sprintf("%d day", n)
			}
			return fmt.Sprintf("%d days", n)
		}
		style := value.DateStyle(f.Style)
		if style == "" {
			style = value.Medium
		}
		if v.Type == value.Moment {
			return value.FormatMoment(v.Wall, style, c.Sheet.Locale, col.Order)
		}
		return value.FormatDay(v.Wall.Day, style, c.Sheet.Locale, col.Order)
	case value.Number:
		format := col.Format
		if f.Decimals != nil {
			format.Decimals = f.Decimals
		}
		return value.FormatNumber(v.Num, format, c.Sheet.Locale)
	}
	return c.Sheet.Show(col, v)
}
