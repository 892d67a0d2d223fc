package template

import (
	"encoding/json"
	"fmt"
	"html"
	"regexp"
	"slices"
	"strconv"
	"strings"

	xhtml "golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// ToHTML writes a letter as HTML to be edited by hand: what HTML has no element for stands in
// div elements with its attributes as JSON, fields in square brackets. name gives a column's name.
func ToHTML(body Node, name func(column string) string) string {
	w := &htmlWriter{name: name}
	for i := range body.Content {
		w.block(&body.Content[i], "")
	}
	return w.b.String()
}

type htmlWriter struct {
	b    strings.Builder
	name func(string) string
}

// tagOf are the elements of blocks.
var tagOf = map[string]string{Paragraph: "p", BulletList: "ul", OrderedList: "ol", ListItem: "li", Quote: "blockquote",
	Table: "table", TableRow: "tr", TableHeader: "th", TableCell: "td"}

func (w *htmlWriter) block(n *Node, indent string) {
	align := ""
	if n.Align != "" {
		align = ` style="text-align:` + n.Align + `"`
	}
	switch n.Type {
	case Paragraph, Heading:
		tag := "p"
		if n.Type == Heading {
			tag = "h" + strconv.Itoa(n.Level)
		}
		w.b.WriteString(indent + "<" + tag + align + ">")
		w.inline(n.Content)
		w.b.WriteString("</" + tag + ">\n")
	case Divider:
		w.b.WriteString(indent + "<hr>\n")
	case Button:
		w.b.WriteString(indent + "<p" + align + `><a class="button" href="` + w.line(n.Href) + `">`)
		w.inline(n.Content)
		w.b.WriteString("</a></p>\n")
	case ImageNode:
		width := ""
		if n.Image.Width > 0 {
			width = ` width="` + strconv.Itoa(n.Image.Width) + `"`
		}
		w.b.WriteString(indent + "<p" + align + `><img src="file:` + n.Image.ID() + `" data-type="` + n.Image.Type +
			`" alt="` + w.line(n.Image.Alt) + `"` + width + "></p>\n")
	case RowTable, RoundUp, PieceNode, Signature, Part:
		w.b.WriteString(indent + `<div data-block="` + n.Type + `"`)
		if a := n.attrs(); a != nil {
			j, _ := json.Marshal(a)
			w.b.WriteString(` data-attrs="` + html.EscapeString(string(j)) + `"`)
		}
		w.b.WriteString(">")
		if n.Type == Part {
			w.b.WriteString("\n")
			w.inner(n, indent)
			w.b.WriteString(indent)
		}
		w.b.WriteString("</div>\n")
	default:
		tag := tagOf[n.Type]
		w.b.WriteString(indent + "<" + tag + ">\n")
		w.inner(n, indent)
		w.b.WriteString(indent + "</" + tag + ">\n")
	}
}

func (w *htmlWriter) inner(n *Node, indent string) {
	for i := range n.Content {
		w.block(&n.Content[i], indent+"  ")
	}
}

func (w *htmlWriter) line(l Line) string {
	var nodes []Node
	for _, p := range l {
		if p.Field != nil {
			nodes = append(nodes, Node{Type: FieldNode, Field: p.Field})
		} else {
			nodes = append(nodes, Node{Type: TextNode, Text: p.Text})
		}
	}
	return html.EscapeString(FormatInline(nodes, w.name))
}

func (w *htmlWriter) inline(nodes []Node) {
	for i := range nodes {
		n := &nodes[i]
		after := ""
		for _, m := range n.Marks {
			open, end := w.mark(m)
			w.b.WriteString(open)
			after = end + after
		}
		if n.Type == HardBreak {
			w.b.WriteString("<br>")
		} else {
			w.b.WriteString(html.EscapeString(FormatInline(nodes[i:i+1], w.name)))
		}
		w.b.WriteString(after)
	}
}

func (w *htmlWriter) mark(m Mark) (open, end string) {
	switch m.Type {
	case "bold":
		return "<strong>", "</strong>"
	case "italic":
		return "<em>", "</em>"
	case "underline":
		return "<u>", "</u>"
	case "colour":
		return `<span style="color:` + m.Colour + `">`, "</span>"
	}
	return `<a href="` + w.line(m.Href) + `">`, "</a>"
}

// maxHTML bounds what is read as HTML, in bytes.
const maxHTML = 1 << 20

// FromHTML reads a letter that has been written as HTML. What a letter cannot have is taken out,
// and named in removed, each once; a bracket that names no field is an error with its text.
func FromHTML(src string, cols Columns) (body Node, removed []string, err error) {
	if len(src) > maxHTML {
		return body, nil, fmt.Errorf("it has %d kB; the HTML of an email has up to %d kB", len(src)>>10, maxHTML>>10)
	}
	root, err := xhtml.Parse(strings.NewReader(src))
	if err != nil {
		return body, nil, fmt.Errorf("it cannot be read: %w", err)
	}
	r := &htmlReader{cols: cols}
	blocks := r.blocks(root, Doc, 0)
	if r.err != nil {
		return body, nil, r.err
	}
	if len(blocks) == 0 {
		blocks = []Node{{Type: Paragraph}}
	}
	slices.Sort(r.removed)
	return Node{Type: Doc, Content: blocks}, slices.Compact(r.removed), nil
}

type htmlReader struct {
	cols    Columns
	removed []string
	err     error
}

func (r *htmlReader) remove(what string) { r.removed = append(r.removed, what) }

// dropped are elements that go with all that is in them.
var dropped = []atom.Atom{atom.Script, atom.Style, atom.Iframe, atom.Object, atom.Embed, atom.Form, atom.Input,
	atom.Select, atom.Textarea, atom.Svg, atom.Math, atom.Video, atom.Audio,
	atom.Template, atom.Noscript, atom.Title, atom.Meta, atom.Link, atom.Base}

// blocks reads the blocks in an element that stands for a node of a type.
func (r *htmlReader) blocks(n *xhtml.Node, in string, depth int) (out []Node) {
	var loose []Node // inline nodes between blocks
	flush := func() {
		if loose = trimmed(loose); len(loose) > 0 {
			out = append(out, r.fit(Node{Type: Paragraph, Content: loose}, in)...)
		}
		loose = nil
	}
	if depth > 4*maxDepth {
		r.remove("elements nested too deeply")
		return nil
	}
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if b, ok := r.block(c, in, depth); ok {
			flush()
			out = append(out, b...)
			continue
		}
		loose = append(loose, r.inline(c, nil, depth)...)
	}
	flush()
	return out
}

// fit lets a block stand where it is allowed to.
func (r *htmlReader) fit(b Node, in string) []Node {
	switch {
	case slices.Contains(children[in], b.Type):
		return []Node{b}
	case in == BulletList || in == OrderedList:
		return []Node{{Type: ListItem, Content: []Node{b}}}
	case b.Type == Heading && slices.Contains(children[in], Paragraph):
		return []Node{{Type: Paragraph, Content: b.Content}}
	}
	r.remove("a " + b.Type + " inside a " + in)
	return nil
}

// block reads an element that is a block; ok is false for inline ones.
func (r *htmlReader) block(n *xhtml.Node, in string, depth int) (out []Node, ok bool) {
	switch n.Type {
	case xhtml.CommentNode, xhtml.DoctypeNode:
		return nil, true
	case xhtml.ElementNode:
	default:
		return nil, false
	}
	if slices.Contains(dropped, n.DataAtom) {
		r.remove("<" + n.Data + ">")
		return nil, true
	}
	r.attributes(n)
	switch n.DataAtom {
	case atom.Html, atom.Head, atom.Body, atom.Main, atom.Section, atom.Article, atom.Header, atom.Footer, atom.Center,
		atom.Tbody, atom.Thead, atom.Tfoot:
		return r.blocks(n, in, depth+1), true
	case atom.Div:
		return r.div(n, in, depth), true
	case atom.P, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6:
		return r.worded(n, in, depth), true
	case atom.Ul, atom.Ol:
		typ := BulletList
		if n.DataAtom == atom.Ol {
			typ = OrderedList
		}
		return r.holder(typ, n, in, depth), true
	case atom.Li:
		items := r.blocks(n, ListItem, depth+1)
		return r.fit(Node{Type: ListItem, Content: items}, in), true
	case atom.Blockquote:
		return r.holder(Quote, n, in, depth), true
	case atom.Hr:
		return r.fit(Node{Type: Divider}, in), true
	case atom.Table:
		return r.table(n, in, depth), true
	case atom.Img:
		return r.image(n, in, ""), true
	}
	return nil, false
}

func (r *htmlReader) holder(typ string, n *xhtml.Node, in string, depth int) []Node {
	if inner := r.blocks(n, typ, depth+1); len(inner) > 0 {
		return r.fit(Node{Type: typ, Content: inner}, in)
	}
	return nil
}

// div is one of the blocks that HTML has no element for, or holds others.
func (r *htmlReader) div(n *xhtml.Node, in string, depth int) []Node {
	typ := attr(n, "data-block")
	if typ == "" {
		return r.blocks(n, in, depth+1)
	}
	b := Node{Type: typ}
	if !slices.Contains([]string{RowTable, RoundUp, PieceNode, Signature, Part}, typ) || typ != Signature &&
		b.readAttrs(json.RawMessage(attr(n, "data-attrs"))) != nil {
		r.remove("a div whose data-block or data-attrs say nothing")
		return r.blocks(n, in, depth+1)
	}
	if typ == Part {
		b.Content = r.blocks(n, Part, depth+1)
	}
	return r.fit(b, in)
}

// worded reads a paragraph or heading; one that holds a button or images alone is these.
func (r *htmlReader) worded(n *xhtml.Node, in string, depth int) (out []Node) {
	align := textAlign(n)
	b := Node{Type: Paragraph, Align: align}
	if n.DataAtom != atom.P {
		level, _ := strconv.Atoi(n.Data[1:])
		b.Type, b.Level = Heading, min(level, 3)
	}
	var inline []Node
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		switch {
		case c.DataAtom == atom.Img && c.Type == xhtml.ElementNode:
			r.attributes(c)
			out = append(out, r.image(c, in, align)...)
		case c.DataAtom == atom.A && attr(c, "class") == "button":
			button := Node{Type: Button, Href: r.line(attr(c, "href")), Align: align}
			for _, x := range r.children(c, nil, depth) {
				if x.Marks = nil; x.Type != HardBreak {
					button.Content = append(button.Content, x)
				}
			}
			out = append(out, r.fit(button, in)...)
		default:
			inline = append(inline, r.inline(c, nil, depth)...)
		}
	}
	if b.Content = trimmed(inline); len(b.Content) > 0 || len(out) == 0 {
		out = append(r.fit(b, in), out...)
	}
	return out
}

func (r *htmlReader) table(n *xhtml.Node, in string, depth int) []Node {
	t := Node{Type: Table}
	width := 0
	var rows func(*xhtml.Node)
	rows = func(n *xhtml.Node) {
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			switch c.DataAtom {
			case atom.Tr:
				row := Node{Type: TableRow}
				for d := c.FirstChild; d != nil; d = d.NextSibling {
					if d.DataAtom != atom.Td && d.DataAtom != atom.Th {
						continue
					}
					cell := Node{Type: TableCell, Content: r.blocks(d, TableCell, depth+1)}
					if d.DataAtom == atom.Th {
						cell.Type = TableHeader
					}
					if len(cell.Content) == 0 {
						cell.Content = []Node{{Type: Paragraph}}
					}
					row.Content = append(row.Content, cell)
				}
				if len(row.Content) > 0 {
					t.Content = append(t.Content, row)
					width = max(width, len(row.Content))
				}
			case atom.Tbody, atom.Thead, atom.Tfoot:
				rows(c)
			}
		}
	}
	rows(n)
	for i := range t.Content { // as many cells in each row
		for len(t.Content[i].Content) < width {
			t.Content[i].Content = append(t.Content[i].Content, Node{Type: TableCell, Content: []Node{{Type: Paragraph}}})
		}
	}
	if len(t.Content) == 0 {
		return nil
	}
	return r.fit(t, in)
}

func (r *htmlReader) image(n *xhtml.Node, in, align string) []Node {
	file, ok := strings.CutPrefix(attr(n, "src"), "file:")
	typ := attr(n, "data-type")
	if _, known := ImageTypes[typ]; !ok || !known {
		r.remove("an image from elsewhere; upload it to use it")
		return nil
	}
	width, _ := strconv.Atoi(attr(n, "width"))
	return r.fit(Node{Type: ImageNode, Align: align, Image: &Image{File: file, Type: typ, Alt: r.line(attr(n, "alt")),
		Width: max(0, min(width, PageWidth))}}, in)
}

func (r *htmlReader) children(n *xhtml.Node, marks []Mark, depth int) (out []Node) {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		out = append(out, r.inline(c, marks, depth+1)...)
	}
	return out
}

var spaces = regexp.MustCompile(`[ \t\r\n\f]+`)

// inline reads what stands in a line, under marks.
func (r *htmlReader) inline(n *xhtml.Node, marks []Mark, depth int) []Node {
	if n.Type == xhtml.TextNode {
		return r.text(spaces.ReplaceAllString(n.Data, " "), marks)
	}
	if n.Type != xhtml.ElementNode || depth > 4*maxDepth {
		return nil
	}
	if slices.Contains(dropped, n.DataAtom) {
		r.remove("<" + n.Data + ">")
		return nil
	}
	r.attributes(n)
	with := func(m Mark) []Node { return r.children(n, append(slices.Clone(marks), m), depth) }
	switch n.DataAtom {
	case atom.Br:
		return []Node{{Type: HardBreak}}
	case atom.Strong, atom.B:
		return with(Mark{Type: "bold"})
	case atom.Em, atom.I:
		return with(Mark{Type: "italic"})
	case atom.U, atom.Ins:
		return with(Mark{Type: "underline"})
	case atom.Span, atom.Font:
		if c := style(n)["color"]; colour.MatchString(c) {
			return with(Mark{Type: "colour", Colour: strings.ToLower(c)})
		}
	case atom.A:
		href := r.line(attr(n, "href"))
		if len(href) == 0 || href[0].Field == nil && CheckLink(strings.TrimRight(href[0].Text, "?&=/")) != nil &&
			CheckLink(href[0].Text) != nil {
			r.remove("a link to nowhere, or of a kind that email programs do not follow")
			return r.children(n, marks, depth)
		}
		return with(Mark{Type: "link", Href: href})
	case atom.Img:
		r.remove("an image in the middle of a line")
		return nil
	}
	return r.children(n, marks, depth)
}

// text reads text with fields in square brackets.
func (r *htmlReader) text(s string, marks []Mark) []Node {
	p := &parser{src: s, cols: r.cols}
	nodes, err := p.inline(s, 0, false)
	if err != nil && r.err == nil {
		r.err = fmt.Errorf("in “%s”: %w", beginning(s), err)
	}
	for i := range nodes {
		if len(marks) > 0 {
			nodes[i].Marks = slices.Clone(marks)
		}
	}
	return nodes
}

// beginning gives the first letters of a text, for an error to say where it is.
func beginning(s string) string {
	if r := []rune(strings.TrimSpace(s)); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return strings.TrimSpace(s)
}

func (r *htmlReader) line(s string) Line {
	var out Line
	for _, n := range r.text(strings.TrimSpace(s), nil) {
		out = append(out, LinePart{Text: n.Text, Field: n.Field})
	}
	return out
}

// attributes notes those that are not kept.
func (r *htmlReader) attributes(n *xhtml.Node) {
	kept := []string{"href", "src", "alt", "width", "data-block", "data-attrs", "data-type", "align", "class", "dir",
		"colspan", "rowspan", "border", "cellpadding", "cellspacing", "target", "rel", "title", "id", "lang"}
	for _, a := range n.Attr {
		switch {
		case strings.HasPrefix(a.Key, "on"):
			r.remove(a.Key)
		case a.Key == "style":
			for k := range style(n) {
				if k != "text-align" && k != "color" {
					r.remove("style " + k)
				}
			}
		case !slices.Contains(kept, a.Key):
			r.remove("the attribute " + a.Key)
		case (a.Key == "colspan" || a.Key == "rowspan") && a.Val != "1":
			r.remove("cells that are joined")
		}
	}
}

func attr(n *xhtml.Node, key string) string {
	for _, a := range n.Attr {
		if a.Key == key {
			return a.Val
		}
	}
	return ""
}

// style reads an element's own style.
func style(n *xhtml.Node) map[string]string {
	out := map[string]string{}
	for _, d := range strings.Split(attr(n, "style"), ";") {
		if k, v, ok := strings.Cut(d, ":"); ok {
			out[strings.ToLower(strings.TrimSpace(k))] = strings.TrimSpace(v)
		}
	}
	return out
}

func textAlign(n *xhtml.Node) string {
	a := style(n)["text-align"]
	if a == "" {
		a = attr(n, "align")
	}
	if a == "center" || a == "right" {
		return a
	}
	return ""
}

// trimmed takes away the space at both ends of a line, and joins what has the same marks.
func trimmed(nodes []Node) []Node {
	var out []Node
	for _, n := range nodes {
		if k := len(out) - 1; n.Type == TextNode && k >= 0 && out[k].Type == TextNode && sameMarks(out[k].Marks, n.Marks) {
			out[k].Text += n.Text
			continue
		}
		out = append(out, n)
	}
	for len(out) > 0 && out[0].Type == TextNode {
		if out[0].Text = strings.TrimLeft(out[0].Text, " "); out[0].Text != "" {
			break
		}
		out = out[1:]
	}
	for len(out) > 0 && out[len(out)-1].Type == TextNode {
		last := &out[len(out)-1]
		if last.Text = strings.TrimRight(last.Text, " "); last.Text != "" {
			break
		}
		out = out[:len(out)-1]
	}
	return out
}

func sameMarks(a, b []Mark) bool {
	x, _ := json.Marshal(Node{Type: TextNode, Marks: a})
	y, _ := json.Marshal(Node{Type: TextNode, Marks: b})
	return string(x) == string(y)
}
