package template

import (
	"fmt"
	"html"
	"slices"
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
	tags     []string // folded; of docs
	docs     []doc
}

// doc is the template in one language.
type doc struct {
	locale    *value.Locale
	rtl       bool // lines run from right to left
	subject   []op
	preheader []op
	body      []op
	images    []*Image
	attached  []attachedDoc
	columns   []*sheet.Column // that its fields name, each once
}

// op is a step of rendering: fixed text for both twins, then at most one thing
// that depends on the row.
type op struct {
	html, text string
	field      *slot
	indent     string // of the text twin's further lines, where a value has several
	href       []hrefSlot
	behind     bool // the link's address stands behind its text in the text twin
	roundUp    *roundUp
	part       []op
	when       func(*writer) bool // whether part is shown
	isPart     bool               // part is one that is shown if a condition holds
}

// slot is a field bound to its column.
type slot struct {
	*Field
	col *sheet.Column
}

type hrefSlot struct {
	text  string
	field *slot
	plain bool // written as it is: an alternative text
}

// roundUp is a round-up's table, bound.
type roundUp struct {
	slots []slot
	order []sortingSlot
	limit int
	more  string
}

type sortingSlot struct {
	col        *sheet.Column
	descending bool
}

// Prepare makes a template ready for rendering many rows of a sheet.
func (t *Template) Prepare(s *sheet.Sheet) {
	c := &compiled{sheet: s}
	c.language, _ = s.Column(t.Language)
	for i, x := range t.texts() {
		l := s.Locale
		if tag := t.tag(i); tag != "" {
			if found, err := value.FindLocale(tag); err == nil {
				l = found
			} else if found, err := value.FindLocale(language(tag)); err == nil {
				l = found
			}
		}
		tag := t.tag(i)
		if tag == "" && l != nil {
			tag = l.Tag
		}
		c.tags = append(c.tags, value.Fold(tag))
		c.docs = append(c.docs, t.compileDoc(s, x, l))
	}
	t.ready = c
}

// tag gives the language tag of the template's i-th text; "" is the sheet's.
func (t *Template) tag(i int) string {
	if i == 0 {
		return t.FirstLanguage
	}
	return t.Variants[i-1].Language
}

// language gives the language of a tag, without script and region.
func language(tag string) string {
	tag, _, _ = strings.Cut(strings.ReplaceAll(tag, "_", "-"), "-")
	return tag
}

// meetLanguage finds a language among folded tags: the same tag, else the same
// language whatever the region; -1 where there is none.
func meetLanguage(have string, tags []string) int {
	if have == "" {
		return -1
	}
	if i := slices.Index(tags, have); i >= 0 {
		return i
	}
	return slices.IndexFunc(tags, func(tag string) bool { return language(tag) == language(have) })
}

// choose gives the text for a row: the variant whose tag is what the language column
// holds, else one whose language is the same, else the template's own. met tells
// whether the row's language is the text's, or the row has none to say.
func (c *compiled) choose(row *sheet.Row) (doc int, met bool) {
	if c.language == nil || len(c.docs) == 1 {
		return 0, true
	}
	have := value.Fold(c.sheet.Show(c.language, row.Cell(c.language)))
	// A variant comes before the template's own, should both be of one language.
	if i := meetLanguage(have, c.tags[1:]); i >= 0 {
		return i + 1, true
	}
	return 0, have == "" || meetLanguage(have, c.tags[:1]) == 0
}

func (t *Template) compileDoc(s *sheet.Sheet, x Text, l *value.Locale) doc {
	d := doc{locale: l, rtl: l.RightToLeft()}
	line := func(n *Node) []op {
		if len(n.Content) == 0 {
			return nil
		}
		w := &compiler{sheet: s, t: t, d: &d}
		w.sentences(n.Content[0].Content, "")
		return w.done()
	}
	d.subject, d.preheader = line(x.Subject), line(x.Preheader)
	ready := func(l Line) []op {
		w := &compiler{sheet: s, t: t, d: &d}
		w.line(l)
		return w.done()
	}
	for i := range t.Attachments {
		a := &t.Attachments[i]
		x := attachedDoc{name: ready(a.Name), title: ready(a.Title), place: ready(a.Place), note: ready(a.Note),
			calls: a.Cancel}
		x.start, _ = s.Column(a.Start)
		if a.Kind == ColumnKind {
			x.files, _ = s.Column(a.Column)
			x.optional = a.Optional
		}
		x.end, _ = s.Column(a.End)
		d.attached = append(d.attached, x)
	}
	w := &compiler{sheet: s, t: t, d: &d}
	w.blocks(x.Body.Content, "", bodyStyle)
	d.body = w.done()
	for _, n := range []*Node{x.Subject, x.Preheader, x.Body} {
		n.walk(func(n *Node) {
			for _, f := range n.fields() {
				if c, ok := s.Column(f.Column); ok && !slices.Contains(d.columns, c) {
					d.columns = append(d.columns, c)
				}
			}
		})
	}
	return d
}

// compiler gathers fixed text and closes an op at each thing that moves.
type compiler struct {
	sheet *sheet.Sheet
	t     *Template
	d     *doc
	html  strings.Builder
	text  strings.Builder
	ops   []op
}

// inner gives a compiler for a part of the same text.
func (w *compiler) inner() *compiler { return &compiler{sheet: w.sheet, t: w.t, d: w.d} }

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

func (w *compiler) slots(fs []*Field) []slot {
	out := make([]slot, len(fs))
	for i, f := range fs {
		out[i] = *w.slot(f)
	}
	return out
}

const (
	bodyStyle   = "margin:0 0 14px 0"
	tableStyle  = `<table cellpadding="0" cellspacing="0" border="0" style="margin:0 0 14px 0;border-collapse:collapse">`
	buttonStyle = "display:inline-block;padding:10px 18px;color:#ffffff;text-decoration:none;font-weight:bold"
)

// cellStyle is that of a table's cell. Mail readers know left and right alone, not where
// lines begin.
func (d *doc) cellStyle() string {
	if d.rtl {
		return "padding:5px 0 5px 14px;border-bottom:1px solid #e4e0d6;text-align:right;vertical-align:top"
	}
	return "padding:5px 14px 5px 0;border-bottom:1px solid #e4e0d6;text-align:left;vertical-align:top"
}

// start is the side on which lines begin.
func (d *doc) start() string {
	if d.rtl {
		return "right"
	}
	return "left"
}

// aligned adds an alignment to a style.
func aligned(style, align string) string {
	if align == "" {
		return style
	}
	return style + ";text-align:" + align
}

func (w *compiler) blocks(nodes []Node, indent, style string) {
	for i := range nodes {
		w.block(&nodes[i], indent, style)
	}
}

// block writes a block to both twins; indent heads the lines of the text one.
func (w *compiler) block(n *Node, indent, style string) {
	switch n.Type {
	case Paragraph:
		w.worded(n.Content, indent, indent, `<p style="`+aligned(style, n.Align)+`">`, "</p>", "\n\n")
	case Heading:
		size := [...]int{22, 19, 17}[max(0, min(n.Level-1, 2))]
		style := aligned(fmt.Sprintf("margin:0 0 12px 0;font-size:%dpx;line-height:1.35", size), n.Align)
		w.worded(n.Content, indent, indent, fmt.Sprintf(`<h%d style="%s">`, n.Level, style), fmt.Sprintf(`</h%d>`, n.Level),
			"\n\n")
	case BulletList, OrderedList:
		w.list(n, indent)
		if indent == "" {
			w.text.WriteByte('\n')
		}
	case Quote:
		w.html.WriteString(`<blockquote class="nv-line" style="margin:0 0 14px 0;padding:0 14px;border-` + w.d.start() +
			`:3px solid #dcd7cb">`)
		w.blocks(n.Content, indent+"> ", "margin:0 0 8px 0")
		w.html.WriteString(`</blockquote>`)
	case Divider:
		w.both(`<hr class="nv-line" style="border:0;border-top:1px solid #dcd7cb;margin:18px 0">`, indent+"----\n\n")
	case Button:
		w.button(n, indent)
	case ImageNode:
		w.image(n, indent)
	case Table:
		w.table(n)
	case RowTable:
		w.rowTable(n)
	case RoundUp:
		w.roundUp(n)
	case Part:
		w.part(n, indent, style)
	case PieceNode:
		if p := w.t.rests.Pieces[n.Piece]; p != nil {
			w.blocks(p.in(w.d.locale).Content, indent, style)
		}
	case Signature:
		if p := w.t.rests.From.Signature; p != nil {
			w.blocks(p.in(w.d.locale).Content, indent, style)
		}
	}
}

func (w *compiler) part(n *Node, indent, style string) {
	inner := w.inner()
	inner.blocks(n.Content, indent, style)
	cond := *n.If
	if cond.Validate("", rule.SheetScope{Sheet: w.sheet}) != nil {
		w.close(op{isPart: true, when: func(*writer) bool { return false }})
		return // of a draft: nothing can be said of it yet
	}
	cond.Prepare(w.sheet)
	w.close(op{isPart: true, part: inner.done(), when: func(w *writer) bool {
		t, _ := cond.Judge(w.c.Facts)
		return t == rule.True
	}})
}

// worded writes inline nodes between an opening and a closing tag, in the text twin behind
// head, its further lines behind indent. Where all of its sentences are left out, so is the block.
func (w *compiler) worded(nodes []Node, head, indent, open, end, after string) {
	parts := sentences(nodes)
	var all [][]slot // of each sentence, what it must not want for
	for _, p := range parts {
		all = append(all, w.slots(omits(p)))
	}
	always := len(parts) == 0 || slices.ContainsFunc(all, func(s []slot) bool { return len(s) == 0 })
	if always {
		w.both(open, head)
		if len(nodes) == 0 {
			end = "<br>" + end // an empty line has a height
		}
		w.sentences(nodes, indent)
		w.both(end, after)
		return
	}
	inner := w.inner()
	inner.both(open, head)
	inner.sentences(nodes, indent)
	inner.both(end, after)
	w.close(op{part: inner.done(), when: func(w *writer) bool {
		return slices.ContainsFunc(all, func(s []slot) bool { return w.have(s) })
	}})
}

// sentences writes inline nodes, those of each sentence that may be left out as a part.
func (w *compiler) sentences(nodes []Node, indent string) {
	if len(omits(nodes)) == 0 {
		w.inline(nodes, indent)
		return
	}
	for _, p := range sentences(nodes) {
		need := w.slots(omits(p))
		if len(need) == 0 {
			w.inline(p, indent)
			continue
		}
		inner := w.inner()
		inner.inline(p, indent)
		w.close(op{part: inner.done(), when: func(w *writer) bool { return w.have(need) }})
	}
}

func (w *compiler) list(n *Node, indent string) {
	tag := "ul"
	if n.Type == OrderedList {
		tag = "ol"
	}
	w.html.WriteString(`<` + tag + ` style="margin:0 0 14px 0;padding-` + w.d.start() + `:24px">`)
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
	deeper := indent + strings.Repeat(" ", len(bullet))
	// An item of one paragraph goes with it where that is left out.
	if len(n.Content) == 1 && n.Content[0].Type == Paragraph {
		p := &n.Content[0]
		w.worded(p.Content, indent+bullet, deeper, `<li style="`+aligned("margin:0 0 4px 0", p.Align)+`">`, `</li>`, "\n")
		return
	}
	w.html.WriteString(`<li style="margin:0 0 4px 0">`)
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
		w.worded(c.Content, head, deeper, `<p style="`+aligned("margin:0", c.Align)+`">`, "</p>", "\n")
	}
	w.html.WriteString(`</li>`)
}

// button is a table of one cell, which mail readers colour as a whole.
func (w *compiler) button(n *Node, indent string) {
	align := ""
	if n.Align != "" {
		align = ` align="` + n.Align + `"`
	}
	w.both(`<table role="presentation" cellpadding="0" cellspacing="0" border="0"`+align+
		` style="margin:0 0 14px 0"><tr><td style="background:#1e5557;border-radius:3px"><a href="`, indent)
	w.target(n.Href)
	w.html.WriteString(`" style="` + buttonStyle + `">`)
	w.inline(n.Content, indent)
	w.html.WriteString("</a></td></tr></table>")
	if align != "" {
		w.html.WriteString(`<div style="clear:both"></div>`)
	}
	w.behind(n.Href)
	w.text.WriteString("\n\n")
}

// target writes a link's address into the HTML.
func (w *compiler) target(h Line) {
	for _, p := range h {
		if p.Field == nil {
			w.html.WriteString(html.EscapeString(p.Text))
			continue
		}
		w.close(op{href: []hrefSlot{{field: w.slot(p.Field)}}})
	}
}

// behind writes a link's address behind its text in the text twin.
func (w *compiler) behind(h Line) {
	parts := make([]hrefSlot, len(h))
	for i, p := range h {
		parts[i].text = p.Text
		if p.Field != nil {
			parts[i] = hrefSlot{field: w.slot(p.Field)}
		}
	}
	w.close(op{href: parts, behind: true})
}

// line writes a line as a value of an attribute.
func (w *compiler) line(l Line) {
	for _, p := range l {
		if p.Field == nil {
			w.both(html.EscapeString(clean(p.Text)), p.Text)
			continue
		}
		w.close(op{field: w.slot(p.Field)})
	}
}

func (w *compiler) image(n *Node, indent string) {
	i := n.Image
	if !slices.ContainsFunc(w.d.images, func(x *Image) bool { return x.ID() == i.ID() }) {
		w.d.images = append(w.d.images, i)
	}
	width := ""
	if i.Width > 0 {
		width = fmt.Sprintf(` width="%d"`, i.Width)
	}
	w.html.WriteString(`<p style="` + aligned(bodyStyle, n.Align) + `"><img src="cid:` + CID(i.ID()) + `" alt="`)
	if len(i.Alt) == 0 {
		w.html.WriteString(`"` + width + ` style="max-width:100%;height:auto;border:0"></p>`)
		return
	}
	w.text.WriteString(indent + "[")
	w.alt(i.Alt)
	w.both(`"`+width+` style="max-width:100%;height:auto;border:0"></p>`, "]\n\n")
}

// alt writes an alternative text: escaped in the HTML, on one line in the text twin.
func (w *compiler) alt(l Line) {
	parts := make([]hrefSlot, len(l))
	for i, p := range l {
		parts[i] = hrefSlot{text: p.Text, plain: true}
		if p.Field != nil {
			parts[i].field = w.slot(p.Field)
		}
	}
	w.close(op{href: parts})
}

// table writes a table written by hand: in the text twin a line for each of its rows.
func (w *compiler) table(n *Node) {
	w.html.WriteString(tableStyle)
	for i := range n.Content {
		w.html.WriteString(`<tr>`)
		for k := range n.Content[i].Content {
			cell := &n.Content[i].Content[k]
			tag := "td"
			if cell.Type == TableHeader {
				tag = "th"
			}
			align := ""
			if len(cell.Content) > 0 {
				align = cell.Content[0].Align
			}
			lead := " · "
			if k == 0 {
				lead = "- "
			}
			w.both(`<`+tag+` class="nv-line" style="`+aligned(w.d.cellStyle(), align)+`">`, lead)
			for j := range cell.Content {
				if j > 0 {
					w.both("<br>", " ")
				}
				w.sentences(cell.Content[j].Content, " ")
			}
			w.html.WriteString(`</` + tag + `>`)
		}
		w.both(`</tr>`, "\n")
	}
	w.both(`</table>`, "\n")
}

func (w *compiler) rowTable(n *Node) {
	w.html.WriteString(tableStyle)
	for i := range n.List.Fields {
		f := &n.List.Fields[i]
		s := w.slot(f)
		name := s.title()
		between := `</td><td class="nv-line" style="` + w.d.cellStyle() + `">`
		if n.List.Over {
			between = `</span><br>`
		}
		row := w.inner()
		open := `<tr><td class="nv-line" style="` + w.d.cellStyle() + `">`
		if n.List.Over {
			open += `<span class="nv-soft" style="font-size:13px;color:#5a5f69">`
		}
		row.both(open+html.EscapeString(name)+between, name+": ")
		row.close(op{field: s, indent: "  "})
		row.both(`</td></tr>`, "\n")
		if !f.Omit {
			w.splice(row)
			continue
		}
		need := []slot{*s}
		w.close(op{part: row.done(), when: func(w *writer) bool { return w.have(need) }})
	}
	w.both(`</table>`, "\n")
}

// splice takes over what another compiler of the same text has written.
func (w *compiler) splice(inner *compiler) {
	ops := inner.done()
	for _, o := range ops {
		w.both(o.html, o.text)
		w.close(o)
	}
}

// title is what heads a field in a table.
func (s *slot) title() string {
	if s.col != nil {
		return s.col.Name
	}
	for _, o := range ownNames {
		if o.of == s.Of {
			return o.name
		}
	}
	return ""
}

func (w *compiler) roundUp(n *Node) {
	t := &roundUp{limit: n.List.Limit, more: n.List.More}
	w.html.WriteString(tableStyle + `<tr>`)
	for i := range n.List.Fields {
		s := w.slot(&n.List.Fields[i])
		t.slots = append(t.slots, *s)
		w.html.WriteString(`<th class="nv-line" style="` + w.d.cellStyle() + `">` + html.EscapeString(s.title()) + `</th>`)
	}
	for _, o := range n.List.Order {
		if c, ok := w.sheet.Column(o.Column); ok {
			t.order = append(t.order, sortingSlot{c, o.Descending})
		}
	}
	w.html.WriteString(`</tr>`)
	w.close(op{roundUp: t})
	w.text.WriteByte('\n')
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
		if h := link(n); h != nil && (i+1 == len(nodes) || !sameLine(link(&nodes[i+1]), h)) {
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
			w.html.WriteString(`<span ` + dark(m.Colour) + `style="color:` + m.Colour + `">`)
			after = "</span>" + after
		case "link":
			w.html.WriteString(`<a class="nv-link" href="`)
			w.target(m.Href)
			w.html.WriteString(`" style="color:#1e5557">`)
			after = "</a>" + after
		}
	}
	return after
}

func link(n *Node) Line {
	for _, m := range n.Marks {
		if m.Type == "link" {
			return m.Href
		}
	}
	return nil
}
