// Package template holds what an email says: a document tree whose inline
// fields name a column and how its value is written, the text form of that
// tree in square brackets, and its rendering to HTML and a plain-text twin.
//
// The tree's JSON has the shape that the editor of the interface works on:
// nodes with type, attrs, content, text and marks.
package template

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Template is a wording: a subject of one line and a body, and perhaps the
// same in other languages.
type Template struct {
	ID       string    `json:"id,omitempty"`
	Name     string    `json:"name"`
	Subject  Node      `json:"subject"`            // doc of one paragraph
	Body     Node      `json:"body"`               // doc
	Language string    `json:"language,omitempty"` // the column that chooses a variant
	Variants []Variant `json:"variants,omitempty"`

	ready *compiled // where Prepare has been called
}

// Variant is a template in another language.
type Variant struct {
	Language string `json:"language"` // BCP 47 tag, met by what the language column holds
	Subject  Node   `json:"subject"`
	Body     Node   `json:"body"`
}

// Node is one node of the tree.
type Node struct {
	Type    string          `json:"type"`
	Text    string          `json:"text,omitempty"`
	Level   int             `json:"-"` // heading
	Marks   []Mark          `json:"marks,omitempty"`
	Content []Node          `json:"content,omitempty"`
	Field   *Field          `json:"-"` // field
	Href    Href            `json:"-"` // button
	Fields  []Field         `json:"-"` // rowTable, roundUpTable
	If      *rule.Condition `json:"-"` // part
	Image   *Image          `json:"-"` // image
}

// Mark is bold, italic, underline, colour or link.
type Mark struct {
	Type   string `json:"type"`
	Href   Href   `json:"-"`
	Colour string `json:"-"` // #rrggbb
}

// Href is a link's target: text and fields in turn, the fields' values escaped
// for URLs. Its first part holds scheme and host, which no value can change.
type Href []HrefPart

// HrefPart is text or a field.
type HrefPart struct {
	Text  string
	Field *Field
}

// Image is a picture shipped inside the email.
type Image struct {
	Type  string `json:"type"` // image/png, image/jpeg or image/gif
	Data  []byte `json:"data"` // base64 in JSON
	Alt   string `json:"alt"`
	Width int    `json:"width,omitempty"` // pixels; 0 for its own
}

// maxImage bounds a picture, in bytes.
const maxImage = 1 << 20

// Field is a value of the row in the text.
type Field struct {
	Column   string  `json:"column"`
	Style    string  `json:"style,omitempty"`    // date style
	Part     string  `json:"part,omitempty"`     // "first word" or "last word"
	Case     string  `json:"case,omitempty"`     // "upper" or "lower"
	FromNow  bool    `json:"fromNow,omitempty"`  // days from now
	Decimals *int    `json:"decimals,omitempty"` // number
	Fallback *string `json:"fallback,omitempty"` // written where the cell has no value
}

// The node types. A block holds blocks or inline nodes as blocks says.
const (
	Doc         = "doc"
	Paragraph   = "paragraph"
	Heading     = "heading"
	BulletList  = "bulletList"
	OrderedList = "orderedList"
	ListItem    = "listItem"
	HardBreak   = "hardBreak"
	TextNode    = "text"
	FieldNode   = "field"
	Divider     = "divider"
	Button      = "button"
	ImageNode   = "image"
	RowTable    = "rowTable"     // names and values of the row's fields, one below the other
	RoundUp     = "roundUpTable" // a line for each row of a round-up
	Part        = "part"         // shown only if its condition holds
)

// children says which nodes may stand in which.
var children = map[string][]string{
	Doc:         {Paragraph, Heading, BulletList, OrderedList, Divider, Button, ImageNode, RowTable, RoundUp, Part},
	Part:        {Paragraph, Heading, BulletList, OrderedList, Divider, Button, ImageNode, RowTable, RoundUp},
	Button:      {TextNode, FieldNode},
	ListItem:    {Paragraph, BulletList, OrderedList},
	BulletList:  {ListItem},
	OrderedList: {ListItem},
	Paragraph:   {TextNode, FieldNode, HardBreak},
	Heading:     {TextNode, FieldNode, HardBreak},
}

// rawNode is a node's JSON: attributes stand under attrs.
type rawNode struct {
	Type    string          `json:"type"`
	Text    string          `json:"text,omitempty"`
	Marks   []rawMark       `json:"marks,omitempty"`
	Attrs   json.RawMessage `json:"attrs,omitempty"`
	Content []Node          `json:"content,omitempty"`
}

type rawMark struct {
	Type  string          `json:"type"`
	Attrs json.RawMessage `json:"attrs,omitempty"`
}

// UnmarshalJSON reads a node and refuses types and attributes it does not know.
func (n *Node) UnmarshalJSON(b []byte) error {
	var r rawNode
	if err := strict(b, &r); err != nil {
		return err
	}
	*n = Node{Type: r.Type, Text: r.Text, Content: r.Content}
	var err error
	switch r.Type {
	case FieldNode:
		n.Field = &Field{}
		err = strict(r.Attrs, n.Field)
	case Heading:
		var a struct {
			Level int `json:"level"`
		}
		err = json.Unmarshal(r.Attrs, &a)
		n.Level = a.Level
	case Button:
		var a struct {
			Href Href `json:"href"`
		}
		err = strict(r.Attrs, &a)
		n.Href = a.Href
	case RowTable, RoundUp:
		var a struct {
			Fields []Field `json:"fields"`
		}
		err = strict(r.Attrs, &a)
		n.Fields = a.Fields
	case Part:
		var a struct {
			If *rule.Condition `json:"if"`
		}
		err = strict(r.Attrs, &a)
		n.If = a.If
	case ImageNode:
		n.Image = &Image{}
		err = strict(r.Attrs, n.Image)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", r.Type, err)
	}
	for _, m := range r.Marks {
		mark, err := m.read()
		if err != nil {
			return fmt.Errorf("%s: %w", m.Type, err)
		}
		n.Marks = append(n.Marks, mark)
	}
	return nil
}

func (m rawMark) read() (Mark, error) {
	mark := Mark{Type: m.Type}
	switch m.Type {
	case "link":
		var a struct {
			Href Href `json:"href"`
		}
		err := json.Unmarshal(m.Attrs, &a) // the editor adds attributes of its own
		mark.Href = a.Href
		return mark, err
	case "colour":
		var a struct {
			Colour string `json:"colour"`
		}
		err := strict(m.Attrs, &a)
		mark.Colour = a.Colour
		return mark, err
	}
	return mark, nil
}

// UnmarshalJSON reads a link's target: text, or a list of texts and fields.
func (h *Href) UnmarshalJSON(b []byte) error {
	*h = nil
	var text string
	if json.Unmarshal(b, &text) == nil {
		*h = Href{{Text: text}}
		return nil
	}
	var raw []json.RawMessage
	if err := json.Unmarshal(b, &raw); err != nil {
		return fmt.Errorf("a link's target is text, or a list of texts and fields")
	}
	for _, r := range raw {
		var p HrefPart
		if json.Unmarshal(r, &p.Text) != nil {
			p.Field = &Field{}
			if err := strict(r, p.Field); err != nil {
				return err
			}
		}
		*h = append(*h, p)
	}
	return nil
}

// MarshalJSON writes what UnmarshalJSON reads.
func (h Href) MarshalJSON() ([]byte, error) {
	if len(h) == 1 && h[0].Field == nil {
		return json.Marshal(h[0].Text)
	}
	parts := make([]any, len(h))
	for i, p := range h {
		if parts[i] = p.Text; p.Field != nil {
			parts[i] = p.Field
		}
	}
	return json.Marshal(parts)
}

func strict(b []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// MarshalJSON writes what UnmarshalJSON reads.
func (n Node) MarshalJSON() ([]byte, error) {
	r := rawNode{Type: n.Type, Text: n.Text, Content: n.Content}
	var attrs any
	switch n.Type {
	case FieldNode:
		attrs = n.Field
	case Heading:
		attrs = map[string]int{"level": n.Level}
	case Button:
		attrs = map[string]Href{"href": n.Href}
	case RowTable, RoundUp:
		attrs = map[string][]Field{"fields": n.Fields}
	case Part:
		attrs = map[string]*rule.Condition{"if": n.If}
	case ImageNode:
		attrs = n.Image
	}
	var err error
	if attrs != nil {
		if r.Attrs, err = json.Marshal(attrs); err != nil {
			return nil, err
		}
	}
	for _, m := range n.Marks {
		rm := rawMark{Type: m.Type}
		switch m.Type {
		case "link":
			rm.Attrs, err = json.Marshal(map[string]Href{"href": m.Href})
		case "colour":
			rm.Attrs, err = json.Marshal(map[string]string{"colour": m.Colour})
		}
		if err != nil {
			return nil, err
		}
		r.Marks = append(r.Marks, rm)
	}
	return json.Marshal(r)
}

// Validate checks a template against its sheet: the tree's shape, its columns
// and what each field asks of its column's type.
func (t *Template) Validate(s *sheet.Sheet) error {
	if value.Trim(t.Name) == "" {
		return fmt.Errorf("a template needs a name")
	}
	if c, ok := s.Column(t.Language); t.Language != "" && (!ok || c.ValueType() != value.Text && c.ValueType() != value.Choice) {
		return fmt.Errorf("the language comes from a column of type text or choice")
	}
	if len(t.Variants) > 0 && t.Language == "" {
		return fmt.Errorf("a template in several languages needs a column that chooses")
	}
	if err := validateDocs(t.Subject, t.Body, s); err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, v := range t.Variants {
		tag := value.Fold(v.Language)
		if tag == "" || seen[tag] {
			return fmt.Errorf("each variant has a language of its own")
		}
		seen[tag] = true
		if err := validateDocs(v.Subject, v.Body, s); err != nil {
			return fmt.Errorf("in %s: %w", v.Language, err)
		}
	}
	return nil
}

func validateDocs(subject, body Node, s *sheet.Sheet) error {
	if len(subject.Content) > 1 || len(subject.Content) == 1 && subject.Content[0].Type != Paragraph {
		return fmt.Errorf("the subject is one line")
	}
	for _, part := range []struct {
		name string
		n    *Node
	}{{"subject", &subject}, {"body", &body}} {
		if part.n.Type != Doc {
			return fmt.Errorf("the %s is not a document", part.name)
		}
		if err := part.n.validate(s, 0); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

const maxDepth = 12

func (n *Node) validate(s *sheet.Sheet, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("nested too deeply")
	}
	for i := range n.Content {
		c := &n.Content[i]
		if !contains(children[n.Type], c.Type) {
			return fmt.Errorf("a %s cannot stand in a %s", c.Type, n.Type)
		}
		if err := c.validate(s, depth+1); err != nil {
			return err
		}
	}
	for _, m := range n.Marks {
		switch m.Type {
		case "bold", "italic", "underline":
		case "link":
			if err := m.Href.validate(s); err != nil {
				return err
			}
		case "colour":
			if !colour.MatchString(m.Colour) {
				return fmt.Errorf("%q is not a colour; write it as #a63a2b", m.Colour)
			}
		default:
			return fmt.Errorf("mark %q is not known", m.Type)
		}
	}
	if n.Type == Heading && (n.Level < 1 || n.Level > 3) {
		return fmt.Errorf("a heading has level 1 to 3")
	}
	switch n.Type {
	case FieldNode:
		return n.Field.validate(s)
	case Button:
		return n.Href.validate(s)
	case RowTable, RoundUp:
		if len(n.Fields) == 0 {
			return fmt.Errorf("a table needs at least one field")
		}
		for i := range n.Fields {
			if err := n.Fields[i].validate(s); err != nil {
				return err
			}
		}
	case Part:
		if n.If == nil {
			return fmt.Errorf("a part needs the condition under which it is shown")
		}
		return n.If.Validate("", rule.SheetScope{Sheet: s})
	case ImageNode:
		return n.Image.validate()
	}
	return nil
}

var colour = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func (i *Image) validate() error {
	head, ok := map[string]string{"image/png": "\x89PNG\r\n\x1a\n", "image/jpeg": "\xff\xd8\xff", "image/gif": "GIF8"}[i.Type]
	if !ok {
		return fmt.Errorf("an image is a PNG, JPEG or GIF, not %q", i.Type)
	}
	if len(i.Data) == 0 || len(i.Data) > maxImage {
		return fmt.Errorf("an image has up to %d kB", maxImage>>10)
	}
	if !bytes.HasPrefix(i.Data, []byte(head)) {
		return fmt.Errorf("the image is not of type %s", i.Type)
	}
	if i.Width < 0 || i.Width > 640 {
		return fmt.Errorf("an image is at most 640 pixels wide")
	}
	return nil
}

func (h Href) validate(s *sheet.Sheet) error {
	if len(h) == 0 || h[0].Field != nil {
		return fmt.Errorf("a link begins with its address, not with a field")
	}
	whole := ""
	for _, p := range h {
		if p.Field != nil {
			if err := p.Field.validate(s); err != nil {
				return err
			}
			whole += "x"
			continue
		}
		whole += p.Text
	}
	if err := CheckLink(whole); err != nil {
		return err
	}
	if u, err := url.Parse(whole); len(h) > 1 && err == nil && u.Host != "" {
		head := u.Scheme + "://" + u.Host
		if rest, ok := strings.CutPrefix(strings.ToLower(h[0].Text), strings.ToLower(head)); !ok || rest == "" || !strings.ContainsAny(rest[:1], "/?#") {
			return fmt.Errorf("a field in a link stands behind its host")
		}
	}
	return nil
}

func contains(list []string, s string) bool {
	for _, l := range list {
		if l == s {
			return true
		}
	}
	return false
}

// CheckLink allows links that a mail reader may follow: http, https, mailto
// and tel.
func CheckLink(href string) error {
	u, err := url.Parse(href)
	if err != nil || strings.ContainsAny(href, " \t\r\n<>\"") {
		return fmt.Errorf("%q is not a link", href)
	}
	switch u.Scheme {
	case "http", "https":
		if u.Host == "" {
			return fmt.Errorf("the link %q has no address", href)
		}
		return nil
	case "mailto", "tel":
		return nil
	}
	return fmt.Errorf("the link %q has to begin with https://, http://, mailto: or tel:", href)
}

func (f *Field) validate(s *sheet.Sheet) error {
	c, ok := s.Column(f.Column)
	if !ok {
		return fmt.Errorf("a field names a column that is not there any more")
	}
	typ := c.ValueType()
	day := typ == value.Date || typ == value.Moment
	switch {
	case f.Style != "" && !value.DateStyle(f.Style).Valid():
		return fmt.Errorf("%s: %q is not a date style", c.Name, f.Style)
	case (f.Style != "" || f.FromNow) && !day:
		return fmt.Errorf("%s: only dates and moments have a date style or days from now", c.Name)
	case f.Decimals != nil && typ != value.Number:
		return fmt.Errorf("%s: only numbers have decimals", c.Name)
	case f.Decimals != nil && (*f.Decimals < 0 || *f.Decimals > 12):
		return fmt.Errorf("%s: decimals go from 0 to 12", c.Name)
	case f.Part != "" && f.Part != "first word" && f.Part != "last word":
		return fmt.Errorf("%s: %q is not a part", c.Name, f.Part)
	case f.Case != "" && f.Case != "upper" && f.Case != "lower":
		return fmt.Errorf("%s: %q is not a case", c.Name, f.Case)
	}
	return nil
}

// Fields lists the fields of subject and body in order, of all languages.
func (t *Template) Fields() []*Field {
	var out []*Field
	var walk func(n *Node)
	walk = func(n *Node) {
		if n.Field != nil {
			out = append(out, n.Field)
		}
		for i := range n.Fields {
			out = append(out, &n.Fields[i])
		}
		hrefs := []Href{n.Href}
		for _, m := range n.Marks {
			hrefs = append(hrefs, m.Href)
		}
		for _, h := range hrefs {
			for i := range h {
				if h[i].Field != nil {
					out = append(out, h[i].Field)
				}
			}
		}
		for i := range n.Content {
			walk(&n.Content[i])
		}
	}
	walk(&t.Subject)
	walk(&t.Body)
	for i := range t.Variants {
		walk(&t.Variants[i].Subject)
		walk(&t.Variants[i].Body)
	}
	return out
}

// Rename puts other ids in place of the columns (and options) that a template
// names.
func (t *Template) Rename(column func(string) (string, error), option func(column, name string) (string, error)) error {
	for _, f := range t.Fields() {
		id, err := column(f.Column)
		if err != nil {
			return err
		}
		f.Column = id
	}
	if t.Language != "" {
		id, err := column(t.Language)
		if err != nil {
			return err
		}
		t.Language = id
	}
	var walk func(n *Node) error
	walk = func(n *Node) error {
		if n.If != nil {
			if err := n.If.Rename(column, option); err != nil {
				return err
			}
		}
		for i := range n.Content {
			if err := walk(&n.Content[i]); err != nil {
				return err
			}
		}
		return nil
	}
	docs := []*Node{&t.Body}
	for i := range t.Variants {
		docs = append(docs, &t.Variants[i].Body)
	}
	for _, d := range docs {
		if err := walk(d); err != nil {
			return err
		}
	}
	return nil
}

// Clone gives a copy that shares nothing with the template.
func (t *Template) Clone() (*Template, error) {
	b, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	out := &Template{}
	return out, json.Unmarshal(b, out)
}
