package template

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// CheckCode says what may be wrong with a template's emails.
type CheckCode string

// What is looked for. The first are of rows, the others of the template as a whole.
const (
	AddressEmpty      CheckCode = "address-empty"
	AddressUnreadable CheckCode = "address-unreadable"
	AddressDoubtful   CheckCode = "address-doubtful" // Value is what it may be meant to be, "" where it is not known
	AddressDoubled    CheckCode = "address-doubled"
	WordsDoubled      CheckCode = "words-doubled" // a row's email says what another row's says, to the same people
	FieldEmpty        CheckCode = "field-empty"
	FieldUnreadable   CheckCode = "field-unreadable"
	FieldMarkup       CheckCode = "field-markup"
	FieldControls     CheckCode = "field-controls" // a value has control characters, which are left out
	SubjectEmpty      CheckCode = "subject-empty"
	SubjectLong       CheckCode = "subject-long"
	LanguageUnmet     CheckCode = "language-unmet" // Value is the row's language
	TooLarge          CheckCode = "too-large"
	OverServer        CheckCode = "over-server" // Value is how much the sender's mail server takes
	FileMissing       CheckCode = "file-missing"

	ColumnGone  CheckCode = "column-gone"
	LinkNowhere CheckCode = "link-nowhere"
	ImageSilent CheckCode = "image-silent"
	TextPoor    CheckCode = "text-poor"
	VariantOld  CheckCode = "variant-old" // Value is the language
)

// Check is one thing that may be wrong, of one row or of all.
type Check struct {
	Code   CheckCode
	Column string // of addresses and fields: its id
	Value  string
	Count  int // of what is wrong with the template as a whole: how often
}

// Stops reports whether emails cannot go out for it.
func (c Check) Stops() bool {
	switch c.Code {
	case AddressEmpty, AddressUnreadable, TooLarge, OverServer, FileMissing, ColumnGone, LinkNowhere:
		return true
	}
	return false
}

// Key names a check among those of a template.
func (c Check) Key() string { return string(c.Code) + ":" + c.Column + ":" + c.Value }

// Words says a check in plain English.
func (c Check) Words(s *sheet.Sheet) string {
	name := ""
	col, ok := s.Column(c.Column)
	if ok {
		name = col.Name
	}
	times := func(one, many string) string {
		if c.Count == 1 {
			return one
		}
		return strconv.Itoa(c.Count) + " " + many
	}
	switch c.Code {
	case AddressEmpty:
		return name + " is empty; these cannot go out"
	case AddressUnreadable:
		return name + " is no address; these cannot go out"
	case AddressDoubtful:
		if c.Value == "" {
			return name + " has an address without a dot behind the @"
		}
		return name + " may have a typing error: is " + c.Value + " meant?"
	case AddressDoubled:
		return "The same " + name + " stands in several rows"
	case WordsDoubled:
		return "The same words go to the same " + name + " for several rows"
	case FieldEmpty:
		if col != nil && col.Type == value.File {
			return name + " names no file"
		}
		return name + " is empty and has no fallback"
	case FieldUnreadable:
		return name + " cannot be read and has no fallback"
	case FieldMarkup:
		return name + " has words that look like markup"
	case FieldControls:
		return name + " holds control characters, which nobody sees; they are left out"
	case SubjectEmpty:
		return "The subject is empty"
	case SubjectLong:
		return fmt.Sprintf("The subject has more than %d characters; mailboxes cut it", maxSubject)
	case LanguageUnmet:
		return fmt.Sprintf("The email is not written in “%s”; they get its first language", c.Value)
	case TooLarge:
		return fmt.Sprintf("The email is larger than %d MB", MaxAttached>>20)
	case OverServer:
		return "The email is larger than the sender’s mail server takes: " + c.Value
	case FileMissing:
		return name + " names a file that is not among the files of the sheet"
	case ColumnGone:
		return times("A field names a column that this sheet does not have",
			"fields name columns that this sheet does not have")
	case LinkNowhere:
		return times("A link or button leads nowhere", "links and buttons lead nowhere")
	case ImageSilent:
		return times("An image has no words for those who do not see it",
			"images have no words for those who do not see them")
	case TextPoor:
		return "As plain text the email says next to nothing"
	case VariantOld:
		return "The text in " + languageName(c.Value) + " is older than the first one"
	}
	return string(c.Code)
}

// maxSubject is how many letters of a subject mailboxes show.
const maxSubject = 78

// markup is what a program left in a value that people are to read.
var markup = regexp.MustCompile(`</?[a-zA-Z][^<>]{0,80}>|&(?:[a-zA-Z]{2,8}|#\d{2,5});|\{\{|\}\}|\$\{|<%|%>`)

// Row finds, without writing the letter, what may be wrong with a row's email to the sheet's
// address column. What compares rows (a doubled or misspelt address) is not among it: see
// Addresses.
func (t *Template) Row(c Context) (out []Check) {
	if a, ok := c.Sheet.Column(c.Sheet.Address); ok {
		switch v := c.Row.Cell(a); {
		case v.IsEmpty():
			out = append(out, Check{Code: AddressEmpty, Column: a.ID})
		case v.IsUnreadable():
			out = append(out, Check{Code: AddressUnreadable, Column: a.ID})
		}
	}
	w, d := t.begin(c)
	subject := w.line(d.subject)
	w.checks = true
	w.run(d.preheader)
	w.run(d.body)
	w.attachedChecks(d)
	for _, id := range w.missing {
		col, ok := c.Sheet.Column(id)
		if !ok {
			continue // it is told of the template
		}
		code, cell := FieldEmpty, c.Row.Cell(col)
		switch {
		case cell.IsUnreadable():
			code = FieldUnreadable
		case len(t.Absent(cell)) > 0:
			code = FileMissing
		case cell.IsFilled(): // its files are there, and too much
			code = TooLarge
		}
		out = append(out, Check{Code: code, Column: id})
	}
	switch {
	case len(d.subject) == 0: // one of the template as a whole
	case subject == "":
		out = append(out, Check{Code: SubjectEmpty})
	case len(subject) > maxSubject && len([]rune(subject)) > maxSubject:
		out = append(out, Check{Code: SubjectLong})
	}
	if w.unmet {
		out = append(out, Check{Code: LanguageUnmet, Value: c.Sheet.Show(t.ready.language, c.Row.Cell(t.ready.language))})
	}
	return append(out, w.marked(d)...)
}

// marked finds the columns in the text whose values look like markup, or hold control characters.
func (w *writer) marked(d *doc) (out []Check) {
	for _, col := range d.columns {
		v := w.c.Row.Cell(col)
		if v.IsFilled() && v.Type == value.Text && strings.ContainsAny(v.Str, "<&{$}%") && markup.MatchString(v.Str) {
			out = append(out, Check{Code: FieldMarkup, Column: col.ID})
		}
		if v.IsFilled() && v.Type == value.Text && !plainText(v.Str) && strings.IndexFunc(v.Str, controls) >= 0 {
			out = append(out, Check{Code: FieldControls, Column: col.ID})
		}
	}
	return out
}

// Variant gives the text that a row gets, 1 being the template's own.
func (t *Template) VariantOf(c Context) int {
	w, _ := t.begin(c)
	return w.variant
}

// Whole finds what may be wrong with the template, whatever the row.
func (t *Template) Whole(s *sheet.Sheet) (out []Check) {
	add := func(code CheckCode, n int) {
		if n > 0 {
			out = append(out, Check{Code: code, Count: n})
		}
	}
	add(ColumnGone, t.Strangers(s))
	nowhere, silent, poor, unnamed := 0, 0, 0, 0
	for _, x := range t.texts() {
		subject := false
		x.Subject.walk(func(n *Node) { subject = subject || n.Type == FieldNode || value.Trim(n.Text) != "" })
		if !subject {
			unnamed++
		}
		said, shown := 0, 0
		x.Body.walk(func(n *Node) {
			said += len([]rune(value.Trim(n.Text)))
			switch n.Type {
			case FieldNode, RowTable, RoundUp, PieceNode:
				said += 10
			case Button:
				shown++
				if n.Href.validateLink(&place{sheet: s}) != nil {
					nowhere++
				}
			case ImageNode:
				shown++
				if len(n.Image.Alt) == 0 {
					silent++
				}
			}
			for _, m := range n.Marks {
				if m.Type == "link" && m.Href.validateLink(&place{sheet: s}) != nil {
					nowhere++
				}
			}
		})
		if said < 20 && (shown > 0 || said == 0) {
			poor++
		}
	}
	add(SubjectEmpty, unnamed)
	add(LinkNowhere, nowhere)
	add(ImageSilent, silent)
	if poor > 0 {
		add(TextPoor, 1)
	}
	for _, language := range t.Older() {
		out = append(out, Check{Code: VariantOld, Value: language, Count: 1})
	}
	size := 0
	for i := range t.Attachments {
		size += t.Attachments[i].Size
	}
	if size > MaxAttached {
		add(TooLarge, 1)
	}
	return out
}

// Addresses gathers the addresses of a sheet's rows, to find those that stand in several rows
// and those that may be misspelt.
type Addresses struct {
	by      map[string][]int64 // rows by mailbox
	domains map[string][]int64 // rows by domain
	dotless []int64
}

// Add takes up a row's address cell.
func (a *Addresses) Add(row int64, cell value.Value) {
	if !cell.IsFilled() {
		return
	}
	if a.by == nil {
		a.by, a.domains = map[string][]int64{}, map[string][]int64{}
	}
	boxes, err := value.ParseMailboxes(cell.Str)
	if err != nil {
		return
	}
	for _, b := range boxes {
		a.by[string(b.Key())] = append(a.by[string(b.Key())], row)
		domain := strings.ToLower(b.Domain)
		a.domains[domain] = append(a.domains[domain], row)
		if !strings.Contains(domain, ".") {
			a.dotless = append(a.dotless, row)
		}
	}
}

// Merge takes over what another one has gathered.
func (a *Addresses) Merge(o *Addresses) {
	if a.by == nil {
		*a = *o
		return
	}
	for k, rows := range o.by {
		a.by[k] = append(a.by[k], rows...)
	}
	for k, rows := range o.domains {
		a.domains[k] = append(a.domains[k], rows...)
	}
	a.dotless = append(a.dotless, o.dotless...)
}

// common are the domains at which most people have their mail. A sheet's own common ones count too.
var common = []string{"gmail.com", "googlemail.com", "outlook.com", "hotmail.com", "live.com", "yahoo.com",
	"icloud.com", "gmx.de", "web.de", "t-online.de", "orange.fr", "free.fr"}

// manyRows is how many rows make a domain a common one of its sheet.
const manyRows = 5

// Shared lists the rows whose addresses stand in other rows too, in order.
func (a *Addresses) Shared() (rows []int64) {
	for _, ids := range a.by {
		if len(ids) > 1 {
			rows = append(rows, ids...)
		}
	}
	slices.Sort(rows)
	return slices.Compact(rows)
}

// Found gives the checks of addresses in a column, with the rows of each in order.
func (a *Addresses) Found(column string) (out []Check, rows [][]int64) {
	add := func(c Check, ids []int64) {
		slices.Sort(ids)
		out, rows = append(out, c), append(rows, slices.Compact(ids))
	}
	if doubled := a.Shared(); len(doubled) > 0 {
		add(Check{Code: AddressDoubled, Column: column}, doubled)
	}
	if len(a.dotless) > 0 {
		add(Check{Code: AddressDoubtful, Column: column}, slices.Clone(a.dotless))
	}
	known := slices.Clone(common)
	for d, ids := range a.domains {
		if len(ids) >= manyRows {
			known = append(known, d)
		}
	}
	slices.Sort(known)
	meant := map[string][]int64{}
	for d, ids := range a.domains {
		if slices.Contains(known, d) && len(ids) >= manyRows || slices.Contains(common, d) || !strings.Contains(d, ".") {
			continue
		}
		for _, k := range known {
			if len(ids)*manyRows <= max(len(a.domains[k]), manyRows) && nearly(d, k) {
				meant[k] = append(meant[k], ids...)
				break
			}
		}
	}
	keys := make([]string, 0, len(meant))
	for k := range meant {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(x, y string) int { return cmp.Compare(x, y) })
	for _, k := range keys {
		add(Check{Code: AddressDoubtful, Column: column, Value: k}, meant[k])
	}
	return out, rows
}

// nearly reports whether one typing error makes b of a: a letter too much, missing, wrong, or
// two that have changed places.
func nearly(a, b string) bool {
	if a == b || len(a) < 6 {
		return false
	}
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	switch {
	case len(a) == len(b)+1:
		return a[i+1:] == b[i:]
	case len(b) == len(a)+1:
		return a[i:] == b[i+1:]
	case len(a) != len(b):
		return false
	}
	return a[i+1:] == b[i+1:] || i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
