package template

import (
	"html"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/bidi"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Context is the row a template is rendered for, with its formulas worked out.
type Context struct {
	Sheet    *sheet.Sheet
	Row      *sheet.Row
	Rows     []*sheet.Row    // of a round-up: all of them, Row being the first
	Today    value.Day       // in the rule's zone
	Facts    rule.Facts      // for parts shown only if a condition holds
	To       []value.Mailbox // whom it goes to, for invitations
	Note     string          // a line above the letter that is not its own: that it is a test
	Pointing bool            // to be looked at: each value says, under the pointer, of which field it is
	// Variant is the text to write, 1 being the template's own; 0 is the one for the row.
	Variant int

	sender From
}

// rows are those that the email is about.
func (c *Context) rows() []*sheet.Row {
	if c.Rows != nil {
		return c.Rows
	}
	return []*sheet.Row{c.Row}
}

// Rendered is an email's content.
type Rendered struct {
	Subject     string // one line
	HTML        string
	Text        string
	Missing     []string // ids of columns whose fields have neither value nor fallback, each once
	Images      []*Image // that the HTML shows by their CID, each once
	Attachments []Attached
	Variant     int    // the text that was written, 1 being the template's own
	Template    string // its id
	Version     int64  // that was written, as Template.Version says it
	RightToLeft bool   // its lines run from right to left
	OptOut      bool   // mail readers are to offer to unsubscribe
	Unmet       bool   // the row's language has no variant
}

// Bytes returns about how large the email's message is: its texts, and its files in lines of base64 (RFC 2045,
// section 6.8). Pictures that are kept elsewhere, and tables and invitations that are yet to be written, are small
// and not counted.
func (r *Rendered) Bytes() int64 {
	n := int64(len(r.HTML) + len(r.Text))
	lines := func(size int) int64 { return (int64(size) + 56) / 57 * 78 }
	for _, i := range r.Images {
		n += lines(len(i.Data))
	}
	for _, a := range r.Attachments {
		n += lines(a.Size)
	}
	return n
}

// Carries reports whether files go with the template's emails.
func (t *Template) Carries() bool { return len(t.Attachments) > 0 }

// CID gives the Content-ID of an image, without angle brackets (RFC 2392).
func CID(id string) string { return id + "@image.nivot" }

// Render writes the template for a row. Values are escaped where they land:
// none can add a tag or a line to the subject.
func (t *Template) Render(c Context) Rendered {
	w, d := t.begin(c)
	out := Rendered{Subject: w.line(d.subject), Images: d.images, Template: t.ID, Version: t.Version, Variant: w.variant,
		Unmet: w.unmet, RightToLeft: w.rtl}
	preheader := w.line(d.preheader)
	w.head(d, preheader)
	w.run(d.body)
	w.html.WriteString(pageFoot)
	out.HTML, out.Text = w.html.String(), strings.TrimRight(w.text.String(), "\n")+"\n"
	w.html.Reset()
	w.text.Reset()
	out.Attachments = w.attach(t, d)
	w.attachedWants(d)
	out.Missing = w.missing
	return out
}

// Check gives the subject and what is missing, without writing the letter.
func (t *Template) Check(c Context) Rendered {
	w, d := t.begin(c)
	out := Rendered{Subject: w.line(d.subject), Variant: w.variant, Unmet: w.unmet}
	w.checks = true
	w.run(d.preheader)
	w.run(d.body)
	w.attachedChecks(d)
	out.Missing = w.missing
	return out
}

// Outside writes what the fields outside a round-up's table come to, for
// telling whether they are the same for all of its rows.
func (t *Template) Outside(c Context) string {
	w, d := t.begin(c)
	w.outside = true
	w.run(d.subject)
	w.run(d.preheader)
	w.run(d.body)
	return w.text.String()
}

// Values gives what each field of the text that is shown comes to; fields without
// value and other words are not among them.
func (t *Template) Values(c Context) map[*Field]string {
	w, d := t.begin(c)
	out := map[*Field]string{}
	for _, f := range t.fieldsOf(w.variant - 1) {
		col, _ := c.Sheet.Column(f.Column)
		if s, ok := f.write(col, c.Row, &w.c, d.locale); ok {
			out[f] = s
		}
	}
	return out
}

// Parts gives for each part of the text that is shown whether its condition holds, in order.
func (t *Template) Parts(c Context) (conditions []*rule.Condition, shown []bool) {
	w, _ := t.begin(c)
	t.texts()[w.variant-1].Body.walk(func(n *Node) {
		if n.If != nil {
			own := *n.If
			if own.Validate("", rule.SheetScope{Sheet: c.Sheet}) != nil {
				conditions, shown = append(conditions, n.If), append(shown, false)
				return
			}
			own.Prepare(c.Sheet)
			truth, _ := own.Judge(w.c.Facts)
			conditions, shown = append(conditions, n.If), append(shown, truth == rule.True)
		}
	})
	return conditions, shown
}

// attachedChecks finds what the attachments lack.
func (w *writer) attachedChecks(d *doc) {
	for i := range d.attached {
		for _, l := range d.attached[i].lines() {
			w.run(l)
		}
	}
	w.attachedWants(d)
}

// attachedWants notes the columns for which attachments keep the email from going out.
func (w *writer) attachedWants(d *doc) {
	for i := range d.attached {
		if id := d.attached[i].wants(w); id != "" && !slices.Contains(w.missing, id) {
			w.missing = append(w.missing, id)
		}
	}
}

func (t *Template) begin(c Context) (*writer, *doc) {
	if t.ready == nil || t.ready.sheet != c.Sheet {
		t.Prepare(c.Sheet)
	}
	if c.Facts.Sheet == nil {
		c.Facts = rule.Facts{Sheet: c.Sheet, Row: c.Row, Today: c.Today, Zone: c.Sheet.Zone}
	}
	c.sender = t.rests.From
	i, met := t.ready.choose(c.Row)
	if c.Variant > 0 && c.Variant <= len(t.ready.docs) {
		i = c.Variant - 1
	}
	d := &t.ready.docs[i]
	return &writer{t: t, c: c, locale: d.locale, rtl: d.rtl, variant: i + 1, unmet: !met}, d
}

// oneLine turns line breaks into one space, drops control characters and closes what turns the direction.
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
	return closed(value.Trim(b.String()))
}

type writer struct {
	t       *Template
	c       Context
	locale  *value.Locale
	rtl     bool
	variant int
	unmet   bool
	html    strings.Builder
	text    strings.Builder
	missing []string
	checks  bool // only what is missing is wanted
	outside bool // only the values outside a round-up's table are wanted
}

// line writes a subject or another text of one line.
func (w *writer) line(ops []op) string {
	w.run(ops)
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
		case o.roundUp != nil:
			w.table(o.roundUp)
		case o.when != nil:
			if o.when(w) {
				w.run(o.part)
			}
		}
	}
}

// have reports whether all of the fields have a value for the row.
func (w *writer) have(slots []slot) bool {
	for i := range slots {
		if !slots[i].filled(slots[i].col, w.c.Row) {
			return false
		}
	}
	return true
}

func (w *writer) value(o *op) {
	s := w.field(o.field)
	switch {
	case w.checks:
	case w.outside:
		w.text.WriteString(s + "\x00")
	default:
		w.html.WriteString(w.pointed(o.field, w.isolated(o.field, s)))
		if s = clean(s); strings.Contains(s, "\n") {
			s = strings.ReplaceAll(s, "\n", "\n"+o.indent)
		}
		w.text.WriteString(s)
	}
}

// pointed lets a value that is looked at say of which field it is.
func (w *writer) pointed(f *slot, written string) string {
	if !w.c.Pointing {
		return written
	}
	words := FormatInline([]Node{{Type: FieldNode, Field: f.Field}}, func(id string) string {
		if f.col != nil {
			return f.col.Name
		}
		return strings.TrimPrefix(id, Elsewhere)
	})
	return `<span style="cursor:help" title="` + html.EscapeString(words) + `">` + written + `</span>`
}

// isolated writes a value into the HTML; one that reads in the other direction than the
// letter in an element of its own, so that it moves nothing beside it (UAX 9).
func (w *writer) isolated(f *slot, s string) string {
	if f.Of == OptOut {
		return `<a href="` + html.EscapeString(s) + `" class="nv-link" style="color:#1e5557">` + escape(s) + `</a>`
	}
	switch d := direction(s); {
	case w.rtl && d == bidi.L:
		return `<span dir="ltr">` + escape(s) + `</span>`
	case !w.rtl && d == bidi.R:
		return `<span dir="rtl">` + escape(s) + `</span>`
	}
	return escape(s)
}

// direction gives the direction of a text's first strong character: L, R or ON.
func direction(s string) bidi.Class {
	if plainText(s) && strings.IndexFunc(s, letter) < 0 {
		return bidi.ON
	}
	for _, r := range s {
		p, _ := bidi.LookupRune(r)
		switch p.Class() {
		case bidi.L:
			return bidi.L
		case bidi.R, bidi.AL:
			return bidi.R
		}
	}
	return bidi.ON
}

func letter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }

// link writes an address: its values escaped for URLs, and the whole for HTML; or an
// alternative text.
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
		switch {
		case p.plain || p.field.Of == OptOut:
			b.WriteString(s)
		default:
			b.WriteString(strings.ReplaceAll(url.QueryEscape(s), "+", "%20"))
		}
	}
	switch {
	case w.checks || w.outside:
	case o.behind:
		w.text.WriteString(" (" + b.String() + ")")
	case o.href[0].plain:
		s := oneLine(b.String())
		w.html.WriteString(html.EscapeString(s))
		w.text.WriteString(s)
	default:
		w.html.WriteString(html.EscapeString(b.String()))
	}
}

// table writes a line for each row of a round-up. An empty cell there is an
// empty cell.
func (w *writer) table(t *roundUp) {
	if w.checks || w.outside {
		return
	}
	rows, rest := t.rows(&w.c)
	style := w.cellStyle()
	for _, row := range rows {
		w.html.WriteString(`<tr>`)
		for i := range t.slots {
			f := &t.slots[i]
			s, _ := f.write(f.col, row, &w.c, w.locale)
			w.html.WriteString(`<td class="nv-line" style="` + style + `">` + w.isolated(f, s) + `</td>`)
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
	w.html.WriteString(`</table>`)
	if rest > 0 {
		s := strings.ReplaceAll(t.more, MoreNumber, strconv.Itoa(rest))
		w.html.WriteString(`<p style="` + bodyStyle + `">` + escape(s) + `</p>`)
		w.text.WriteString(oneLine(s) + "\n")
	}
}

func (w *writer) cellStyle() string { return (&doc{rtl: w.rtl}).cellStyle() }

// rows gives a round-up's rows in the table's order, as many as it shows, and how many
// are left.
func (t *roundUp) rows(c *Context) (rows []*sheet.Row, rest int) {
	rows = c.rows()
	if len(t.order) > 0 {
		rows = slices.Clone(rows)
		slices.SortStableFunc(rows, func(a, b *sheet.Row) int {
			for _, o := range t.order {
				if n := o.compare(c.Sheet, a, b); n != 0 {
					return n
				}
			}
			return 0
		})
	}
	if t.limit > 0 && len(rows) > t.limit {
		return rows[:t.limit], len(rows) - t.limit
	}
	return rows, 0
}

// compare orders two rows as the grid does: what has no value comes last, either way.
func (o sortingSlot) compare(s *sheet.Sheet, a, b *sheet.Row) int {
	x, y := a.Cell(o.col), b.Cell(o.col)
	switch {
	case !x.IsFilled() && !y.IsFilled():
		return 0
	case !x.IsFilled():
		return 1
	case !y.IsFilled():
		return -1
	}
	n, ok := value.Compare(x, y)
	if !ok || x.Type == value.Choice {
		n = strings.Compare(value.Fold(s.Show(o.col, x)), value.Fold(s.Show(o.col, y)))
	}
	if o.descending {
		n = -n
	}
	return n
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

// clean drops control characters that have no place in an email's text, and closes what turns the direction.
func clean(s string) string {
	if plainText(s) {
		return s
	}
	return closed(strings.Map(func(r rune) rune {
		if controls(r) || r == '\r' {
			return -1
		}
		return r
	}, s))
}

// controls reports whether a character has no place in an email's text.
func controls(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' }

// maxTurns is how deep turns of the direction are in one another (UAX 9, BD2).
const maxTurns = 125

// closed returns a text that turns the direction of nothing behind it: what it opens of embeddings, overrides and
// isolates (UAX 9, 2.1 to 2.4) is closed at its end, and what it would close of others' is dropped.
func closed(s string) string {
	if strings.IndexFunc(s, turns) < 0 {
		return s
	}
	const pop, popIsolate = '\u202c', '\u2069'
	var open []rune // what closes each
	var b strings.Builder
	for _, r := range s {
		switch {
		case !turns(r):
		case r == pop:
			if len(open) == 0 || open[len(open)-1] != pop {
				continue
			}
			open = open[:len(open)-1]
		case r == popIsolate:
			i := slices.Index(open, popIsolate)
			if i < 0 {
				continue
			}
			for len(open) > i && open[len(open)-1] != popIsolate { // it closes the embeddings within, too
				open = open[:len(open)-1]
			}
			open = open[:len(open)-1]
		case len(open) == maxTurns:
			continue
		case r >= 0x2066:
			open = append(open, popIsolate)
		default:
			open = append(open, pop)
		}
		b.WriteRune(r)
	}
	for i := len(open) - 1; i >= 0; i-- {
		b.WriteRune(open[i])
	}
	return b.String()
}

// turns reports whether a character opens or closes an embedding, an override or an isolate.
func turns(r rune) bool { return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 }

func (w *writer) field(f *slot) string {
	s, ok := f.write(f.col, w.c.Row, &w.c, w.locale)
	if !ok && !slices.Contains(w.missing, f.Column) {
		w.missing = append(w.missing, f.Column)
	}
	return s
}
