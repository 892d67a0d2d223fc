package template

import (
	"encoding/base64"
	"fmt"
	"html"
	"strings"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// compiled is a template made ready for rendering many rows: what is the same
// for all of them has been written and escaped once.
type compiled struct {
	sheet    *sheet.Sheet
	language *sheet.Column
	tags     []string // folded; of docs[1:]
	docs     []doc
}

// doc is the template in one language.
type doc struct {
	locale  *value.Locale
	subject []op
	body    []op
}

// op is a step of rendering: fixed text for both twins, then at most one thing
// that depends on the row.
type op struct {
	html, text string
	field      *slot
	indent     string // of the text twin's further lines, where a value has several
	href       []hrefSlot
	behind     bool // the link's address stands behind its text in the text twin
	table      []slot
	roundUp    bool
	part       []op
	cond       *rule.Condition
}

// slot is a field bound to its column.
type slot struct {
	*Field
	col *sheet.Column
}

type hrefSlot struct {
	text  string
	field *slot
}

// Prepare makes a template ready for rendering many rows of a sheet.
func (t *Template) Prepare(s *sheet.Sheet) {
	c := &compiled{sheet: s}
	c.language, _ = s.Column(t.Language)
	c.docs = append(c.docs, compileDoc(s, t.Subject, t.Body, s.Locale))
	for _, v := range t.Variants {
		l := s.Locale
		for _, tag := range []string{v.Language, strings.SplitN(v.Language, "-", 2)[0]} {
			if found, err := value.FindLocale(tag); err == nil {
				l = found
				break
			}
		}
		c.tags = append(c.tags, value.Fold(v.Language))
		c.docs = append(c.docs, compileDoc(s, v.Subject, v.Body, l))
	}
	t.ready = c
}

// choose gives the variant for a row: the one whose tag is what the language
// column holds, else one whose language is the same, else the template's own.
func (c *compiled) choose(row *sheet.Row) *doc {
	if c.language == nil {
		return &c.docs[0]
	}
	have := value.Fold(c.sheet.Show(c.language, row.Cell(c.language)))
	for _, whole := range []bool{true, false} {
		for i, tag := range c.tags {
			if have == tag || !whole && have != "" && strings.SplitN(have, "-", 2)[0] == strings.SplitN(tag, "-", 2)[0] {
				return &c.docs[i+1]
			}
		}
	}
	return &c.docs[0]
}

func compileDoc(s *sheet.Sheet, subject, body Node, l *value.Locale) doc {
	d := doc{locale: l}
	if len(subject.Content) > 0 {
		w := &compiler{sheet: s}
		w.inline(subject.Content[0].Content, "")
		d.subject = w.done()
	}
	w := &compiler{sheet: s}
	for i := range body.Content {
		w.block(&body.Content[i], "", bodyStyle)
	}
	d.body = w.done()
	return d
}

// compiler gathers fixed text and closes an op at each thing that moves.
type compiler struct {
	sheet *sheet.Sheet
	html  strings.Builder
	text  strings.Builder
	ops   []op
}

func (w *compiler) close(o op) {
	o.html, o.text = w.html.String(), w.text.String()
	w.html.Reset()
	w.text.Reset()
	w.ops = append(w.ops, o)
}

func (w *compiler) done() []op {
	if w.html.Len() > 0 || w.text.Len() > 0 {
		w.close(op{})
	}
	return w.ops
}

func (w *compiler) both(html, text string) {
	w.html.WriteString(html)
	w.text.WriteString(text)
}

func (w *compiler) slot(f *Field) *slot {
	c, _ := w.sheet.Column(f.Column)
	return &slot{f, c}
}

const (
	bodyStyle   = "margin:0 0 14px 0"
	cellStyle   = "padding:5px 14px 5px 0;border-bottom:1px solid #e4e0d6;text-align:left;vertical-align:top"
	buttonStyle = "display:inline-block;padding:10px 18px;background:#1e5557;color:#ffffff;text-decoration:none;font-weight:bold;border-radius:3px"
)

// block writes a block to both twins; indent heads the lines of the text one.
func (w *compiler) block(n *Node, indent, style string) {
	switch n.Type {
	case Paragraph:
		w.both(`<p style="`+style+`">`, indent)
		w.inline(n.Content, indent)
		w.both("</p>", "\n\n")
	case Heading:
		size := [...]int{22, 19, 17}[max(0, min(n.Level-1, 2))]
		w.both(fmt.Sprintf(`<h%d style="margin:0 0 12px 0;font-size:%dpx;line-height:1.35">`, n.Level, size), indent)
		w.inline(n.Content, indent)
		w.both(fmt.Sprintf(`</h%d>`, n.Level), "\n\n")
	case BulletList, OrderedList:
		w.list(n, indent)
		if indent == "" {
			w.text.WriteByte('\n')
		}
	case Divider:
		w.both(`<hr style="border:0;border-top:1px solid #dcd7cb;margin:18px 0">`, indent+"----\n\n")
	case Button:
		w.button(n, indent)
	case ImageNode:
		w.image(n.Image, indent)
	case RowTable:
		w.rowTable(n)
	case RoundUp:
		w.roundUp(n)
	case Part:
		inner := &compiler{sheet: w.sheet}
		for i := range n.Content {
			inner.block(&n.Content[i], indent, style)
		}
		cond := *n.If
		cond.Prepare(w.sheet)
		w.close(op{part: inner.done(), cond: &cond})
	}
}

func (w *compiler) list(n *Node, indent string) {
	tag := "ul"
	if n.Type == OrderedList {
		tag = "ol"
	}
	w.html.WriteString(`<` + tag + ` style="margin:0 0 14px 0;padding-left:24px">`)
	for i := range n.Content {
		bullet := "- "
		if n.Type == OrderedList {
			bullet = fmt.Sprintf("%d. ", i+1)
		}
		w.item(&n.Content[i], indent, bullet)
	}
	w.html.WriteString(`</` + tag + `>`)
}

func (w *compiler) item(n *Node, indent, bullet string) {
	w.html.WriteString(`<li style="margin:0 0 4px 0">`)
	deeper := indent + strings.Repeat(" ", len(bullet))
	for i := range n.Content {
		c := &n.Content[i]
		if c.Type != Paragraph {
			w.block(c, deeper, "margin:0")
			continue
		}
		head := deeper
		if i == 0 {
			head = indent + bullet
		}
		w.both(`<p style="margin:0">`, head)
		w.inline(c.Content, deeper)
		w.both("</p>", "\n")
	}
	w.html.WriteString(`</li>`)
}

func (w *compiler) button(n *Node, indent string) {
	w.both(`<p style="`+bodyStyle+`"><a href="`, indent)
	w.target(n.Href)
	w.html.WriteString(`" style="` + buttonStyle + `">`)
	w.inline(n.Content, indent)
	w.html.WriteString("</a></p>")
	w.behind(n.Href)
	w.text.WriteString("\n\n")
}

// target writes a link's address into the HTML.
func (w *compiler) target(h Href) {
	for _, p := range h {
		if p.Field == nil {
			w.html.WriteString(html.EscapeString(p.Text))
			continue
		}
		w.close(op{href: []hrefSlot{{field: w.slot(p.Field)}}})
	}
}

// behind writes a link's address behind its text in the text twin.
func (w *compiler) behind(h Href) {
	parts := make([]hrefSlot, len(h))
	for i, p := range h {
		parts[i].text = p.Text
		if p.Field != nil {
			parts[i] = hrefSlot{field: w.slot(p.Field)}
		}
	}
	w.close(op{href: parts, behind: true})
}

func (w *compiler) image(i *Image, indent string) {
	width := ""
	if i.Width > 0 {
		width = fmt.Sprintf(` width="%d"`, i.Width)
	}
	alt := html.EscapeString(clean(i.Alt))
	w.html.WriteString(`<p style="` + bodyStyle + `"><img src="data:` + i.Type + `;base64,` + base64.StdEncoding.EncodeToString(i.Data) +
		`" alt="` + alt + `"` + width + ` style="max-width:100%;border:0"></p>`)
	if i.Alt != "" {
		w.text.WriteString(indent + "[" + oneLine(i.Alt) + "]\n\n")
	}
}

func (w *compiler) rowTable(n *Node) {
	w.html.WriteString(`<table cellpadding="0" cellspacing="0" border="0" style="margin:0 0 14px 0;border-collapse:collapse">`)
	for i := range n.Fields {
		s := w.slot(&n.Fields[i])
		name := ""
		if s.col != nil {
			name = s.col.Name
		}
		w.both(`<tr><td style="`+cellStyle+`">`+html.EscapeString(name)+`</td><td style="`+cellStyle+`">`, name+": ")
		w.close(op{field: s, indent: "  "})
		w.both(`</td></tr>`, "\n")
	}
	w.both(`</table>`, "\n")
}

func (w *compiler) roundUp(n *Node) {
	slots := make([]slot, len(n.Fields))
	w.html.WriteString(`<table cellpadding="0" cellspacing="0" border="0" style="margin:0 0 14px 0;border-collapse:collapse"><tr>`)
	for i := range n.Fields {
		slots[i] = *w.slot(&n.Fields[i])
		name := ""
		if slots[i].col != nil {
			name = slots[i].col.Name
		}
		w.html.WriteString(`<th style="` + cellStyle + `">` + html.EscapeString(name) + `</th>`)
	}
	w.html.WriteString(`</tr>`)
	w.close(op{table: slots, roundUp: true})
	w.both(`</table>`, "\n")
}

// inline writes inline nodes to both twins.
func (w *compiler) inline(nodes []Node, indent string) {
	for i := range nodes {
		n := &nodes[i]
		after := w.marks(n)
		switch n.Type {
		case TextNode:
			w.both(escape(n.Text), strings.ReplaceAll(clean(n.Text), "\n", "\n"+indent))
		case FieldNode:
			w.close(op{field: w.slot(n.Field), indent: indent})
		case HardBreak:
			w.both("<br>", "\n"+indent)
		}
		w.html.WriteString(after)
		// A link's address stands behind its text, once it ends.
		if h := link(n); h != nil && (i+1 == len(nodes) || !sameHref(link(&nodes[i+1]), h)) {
			if !(len(h) == 1 && h[0].Field == nil && strings.HasSuffix(w.text.String(), h[0].Text)) {
				w.behind(h)
			}
		}
	}
}

// marks opens a node's marks and gives what closes them.
func (w *compiler) marks(n *Node) string {
	after := ""
	for i := len(n.Marks) - 1; i >= 0; i-- {
		switch m := n.Marks[i]; m.Type {
		case "bold":
			w.html.WriteString("<strong>")
			after = "</strong>" + after
		case "italic":
			w.html.WriteString("<em>")
			after = "</em>" + after
		case "underline":
			w.html.WriteString("<u>")
			after = "</u>" + after
		case "colour":
			w.html.WriteString(`<span style="color:` + m.Colour + `">`)
			after = "</span>" + after
		case "link":
			w.html.WriteString(`<a href="`)
			w.target(m.Href)
			w.html.WriteString(`" style="color:#1e5557">`)
			after = "</a>" + after
		}
	}
	return after
}

func link(n *Node) Href {
	for _, m := range n.Marks {
		if m.Type == "link" {
			return m.Href
		}
	}
	return nil
}

func sameHref(a, b Href) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Text != b[i].Text || (a[i].Field == nil) != (b[i].Field == nil) || a[i].Field != nil && a[i].Field.Column != b[i].Field.Column {
			return false
		}
	}
	return true
}
