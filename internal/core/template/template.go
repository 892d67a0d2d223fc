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
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Template is a wording: a subject of one line and a body.
type Template struct {
	ID      string `json:"id,omitempty"`
	Name    string `json:"name"`
	Subject Node   `json:"subject"` // doc of one paragraph
	Body    Node   `json:"body"`    // doc
}

// Node is one node of the tree.
type Node struct {
	Type    string `json:"type"`
	Text    string `json:"text,omitempty"`
	Level   int    `json:"-"`
	Marks   []Mark `json:"marks,omitempty"`
	Content []Node `json:"content,omitempty"`
	Field   *Field `json:"-"`
}

// Mark is bold, italic or link.
type Mark struct {
	Type string `json:"type"`
	Href string `json:"-"`
}

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
)

// children says which nodes may stand in which.
var children = map[string][]string{
	Doc:         {Paragraph, Heading, BulletList, OrderedList},
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
	switch r.Type {
	case FieldNode:
		n.Field = &Field{}
		if err := strict(r.Attrs, n.Field); err != nil {
			return fmt.Errorf("field: %w", err)
		}
	case Heading:
		var a struct {
			Level int `json:"level"`
		}
		if err := json.Unmarshal(r.Attrs, &a); err != nil {
			return fmt.Errorf("heading: %w", err)
		}
		n.Level = a.Level
	}
	for _, m := range r.Marks {
		mark := Mark{Type: m.Type}
		if m.Type == "link" {
			var a struct {
				Href string `json:"href"`
			}
			if err := json.Unmarshal(m.Attrs, &a); err != nil {
				return fmt.Errorf("link: %w", err)
			}
			mark.Href = a.Href
		}
		n.Marks = append(n.Marks, mark)
	}
	return nil
}

func strict(b []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// MarshalJSON writes what UnmarshalJSON reads.
func (n Node) MarshalJSON() ([]byte, error) {
	r := rawNode{Type: n.Type, Text: n.Text, Content: n.Content}
	var err error
	switch {
	case n.Field != nil:
		r.Attrs, err = json.Marshal(n.Field)
	case n.Type == Heading:
		r.Attrs, err = json.Marshal(map[string]int{"level": n.Level})
	}
	if err != nil {
		return nil, err
	}
	for _, m := range n.Marks {
		rm := rawMark{Type: m.Type}
		if m.Type == "link" {
			if rm.Attrs, err = json.Marshal(map[string]string{"href": m.Href}); err != nil {
				return nil, err
			}
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
	if len(t.Subject.Content) > 1 || len(t.Subject.Content) == 1 && t.Subject.Content[0].Type != Paragraph {
		return fmt.Errorf("the subject is one line")
	}
	for _, part := range []struct {
		name string
		n    *Node
	}{{"subject", &t.Subject}, {"body", &t.Body}} {
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
		case "bold", "italic":
		case "link":
			if err := CheckLink(m.Href); err != nil {
				return err
			}
		default:
			return fmt.Errorf("mark %q is not known", m.Type)
		}
	}
	if n.Type == Heading && (n.Level < 1 || n.Level > 3) {
		return fmt.Errorf("a heading has level 1 to 3")
	}
	if n.Type == FieldNode {
		return n.Field.validate(s)
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
	day := c.Type == value.Date || c.Type == value.Moment
	switch {
	case f.Style != "" && !value.DateStyle(f.Style).Valid():
		return fmt.Errorf("%s: %q is not a date style", c.Name, f.Style)
	case (f.Style != "" || f.FromNow) && !day:
		return fmt.Errorf("%s: only dates and moments have a date style or days from now", c.Name)
	case f.Decimals != nil && c.Type != value.Number:
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

// Fields lists the fields of subject and body in order.
func (t *Template) Fields() []*Field {
	var out []*Field
	var walk func(n *Node)
	walk = func(n *Node) {
		if n.Field != nil {
			out = append(out, n.Field)
		}
		for i := range n.Content {
			walk(&n.Content[i])
		}
	}
	walk(&t.Subject)
	walk(&t.Body)
	return out
}
