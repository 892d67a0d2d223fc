package template

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
)

// Node is one node of the tree.
type Node struct {
	Type    string          `json:"type"`
	Text    string          `json:"text,omitempty"`
	Level   int             `json:"-"` // heading
	Align   string          `json:"-"` // paragraph, heading, button, image: "center" or "right"; "" is where lines begin
	Marks   []Mark          `json:"marks,omitempty"`
	Content []Node          `json:"content,omitempty"`
	Field   *Field          `json:"-"` // field
	Href    Line            `json:"-"` // button
	List    *FieldList      `json:"-"` // rowTable, roundUpTable
	If      *rule.Condition `json:"-"` // part
	Image   *Image          `json:"-"` // image
	Piece   string          `json:"-"` // piece: its id
}

// Mark is bold, italic, underline, colour or link.
type Mark struct {
	Type   string `json:"type"`
	Href   Line   `json:"-"`
	Colour string `json:"-"` // #rrggbb
}

// FieldList is what a table of values shows.
type FieldList struct {
	Fields []Field `json:"fields"`
	// Of a row's table: each column's name over its value, not beside it.
	Over bool `json:"over,omitempty"`
	// Of a round-up's: by which columns its rows are ordered, how many at most, and what
	// is written below where there are more, with MoreNumber in it.
	Order []Sorting `json:"order,omitempty"`
	Limit int       `json:"limit,omitempty"`
	More  string    `json:"more,omitempty"`
}

// Sorting is one column by which rows are ordered.
type Sorting struct {
	Column     string `json:"column"`
	Descending bool   `json:"descending,omitempty"`
}

// MoreNumber stands for how many rows there are beyond a round-up table's limit.
const MoreNumber = "[number]"

// The node types. A block holds blocks or inline nodes as children says.
const (
	Doc         = "doc"
	Paragraph   = "paragraph"
	Heading     = "heading"
	BulletList  = "bulletList"
	OrderedList = "orderedList"
	ListItem    = "listItem"
	Quote       = "quote"
	HardBreak   = "hardBreak"
	TextNode    = "text"
	FieldNode   = "field"
	Divider     = "divider"
	Button      = "button"
	ImageNode   = "image"
	Table       = "table" // written by hand
	TableRow    = "tableRow"
	TableHeader = "tableHeader" // a cell that heads its column or row
	TableCell   = "tableCell"
	RowTable    = "rowTable"     // names and values of the row's fields
	RoundUp     = "roundUpTable" // a line for each row of a round-up
	Part        = "part"         // shown only if its condition holds
	PieceNode   = "piece"        // a text that many templates use
	Signature   = "signature"    // the sender's
)

// wording is what a piece or a quote may hold too; blocks is all that may stand in a letter.
var (
	wording = []string{Paragraph, Heading, BulletList, OrderedList, Quote, Divider, Button, ImageNode, Table}
	blocks  = append(slices.Clone(wording), RowTable, RoundUp, PieceNode, Signature)
)

// children says which nodes may stand in which.
var children = map[string][]string{
	Doc:         append(slices.Clone(blocks), Part),
	Part:        blocks,
	Quote:       {Paragraph, BulletList, OrderedList},
	Button:      {TextNode, FieldNode},
	ListItem:    {Paragraph, BulletList, OrderedList},
	BulletList:  {ListItem},
	OrderedList: {ListItem},
	Table:       {TableRow},
	TableRow:    {TableHeader, TableCell},
	TableHeader: {Paragraph},
	TableCell:   {Paragraph},
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

// textAttrs are the attributes of a paragraph, a heading and a button.
type textAttrs struct {
	Level int    `json:"level,omitempty"`
	Align string `json:"align,omitempty"`
	Href  Line   `json:"href,omitempty"`
}

type partAttrs struct {
	If *rule.Condition `json:"if"`
}

type pieceAttrs struct {
	Piece string `json:"piece"`
}

type imageAttrs struct {
	Image
	Align string `json:"align,omitempty"`
}

// UnmarshalJSON reads a node and refuses types and attributes it does not know.
func (n *Node) UnmarshalJSON(b []byte) error {
	var r struct {
		rawNode
		Content []json.RawMessage `json:"content,omitempty"`
	}
	if err := strict(b, &r); err != nil {
		return err
	}
	*n = Node{Type: r.Type, Text: r.Text, Content: make([]Node, len(r.Content))}
	if len(n.Content) == 0 {
		n.Content = nil
	}
	for i, c := range r.Content {
		if err := json.Unmarshal(c, &n.Content[i]); err != nil {
			return in(fmt.Sprintf("/content/%d", i), err)
		}
	}
	if err := n.readAttrs(r.Attrs); err != nil {
		return in("/attrs", fmt.Errorf("%s: %w", r.Type, err))
	}
	for i, m := range r.Marks {
		mark, err := m.read()
		if err != nil {
			return in(fmt.Sprintf("/marks/%d", i), fmt.Errorf("%s: %w", m.Type, err))
		}
		n.Marks = append(n.Marks, mark)
	}
	return nil
}

func (n *Node) readAttrs(b json.RawMessage) error {
	if len(b) == 0 && (n.Type == Paragraph || n.Type == Signature) {
		return nil
	}
	switch n.Type {
	case FieldNode:
		n.Field = &Field{}
		return strict(b, n.Field)
	case Paragraph, Heading, Button:
		var a textAttrs
		err := strict(b, &a)
		n.Level, n.Align, n.Href = a.Level, a.Align, a.Href
		return err
	case RowTable, RoundUp:
		n.List = &FieldList{}
		return strict(b, n.List)
	case Part:
		var a partAttrs
		err := strict(b, &a)
		n.If = a.If
		return err
	case PieceNode:
		var a pieceAttrs
		err := strict(b, &a)
		n.Piece = a.Piece
		return err
	case ImageNode:
		var a imageAttrs
		err := strict(b, &a)
		n.Image, n.Align = &a.Image, a.Align
		return err
	}
	return nil // what the editor adds to others is nothing that is kept
}

// attrs gives what readAttrs reads; nil for a node without.
func (n *Node) attrs() any {
	switch n.Type {
	case FieldNode:
		return n.Field
	case Paragraph:
		if n.Align == "" {
			return nil
		}
		return textAttrs{Align: n.Align}
	case Heading, Button:
		return textAttrs{Level: n.Level, Align: n.Align, Href: n.Href}
	case RowTable, RoundUp:
		return n.List
	case Part:
		return partAttrs{n.If}
	case PieceNode:
		return pieceAttrs{n.Piece}
	case ImageNode:
		return imageAttrs{*n.Image, n.Align}
	}
	return nil
}

func (m rawMark) read() (Mark, error) {
	mark := Mark{Type: m.Type}
	switch m.Type {
	case "link":
		var a struct {
			Href Line `json:"href"`
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

func strict(b []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// MarshalJSON writes what UnmarshalJSON reads.
func (n Node) MarshalJSON() ([]byte, error) {
	r := rawNode{Type: n.Type, Text: n.Text, Content: n.Content}
	var err error
	if a := n.attrs(); a != nil {
		if r.Attrs, err = json.Marshal(a); err != nil {
			return nil, err
		}
	}
	for _, m := range n.Marks {
		rm := rawMark{Type: m.Type}
		switch m.Type {
		case "link":
			rm.Attrs, err = json.Marshal(map[string]Line{"href": m.Href})
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

// The bounds of a tree: how deep, how many nodes, and how wide a table. They are
// far above any letter, and keep one that is not from costing everybody else.
const (
	maxDepth  = 12
	maxNodes  = 20_000
	maxText   = 500_000 // bytes
	maxFields = 30      // columns of a table
)

// place is where a node stands: what its fields may name.
type place struct {
	sheet *sheet.Sheet // nil in a piece and in a signature, which belong to no sheet
	known func(piece string) bool
	draft bool // what is written is not whole yet
	nodes int
	bytes int
}

func (n *Node) validate(p *place, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("nested too deeply")
	}
	if p.nodes++; p.nodes > maxNodes {
		return fmt.Errorf("it has more than %d parts", maxNodes)
	}
	if p.bytes += len(n.Text); p.bytes > maxText {
		return fmt.Errorf("its text is longer than %d kB", maxText/1000)
	}
	for i := range n.Content {
		c := &n.Content[i]
		if !slices.Contains(children[n.Type], c.Type) {
			return in(fmt.Sprintf("/content/%d/type", i), fmt.Errorf("a %s cannot stand in a %s", c.Type, n.Type))
		}
		if err := c.validate(p, depth+1); err != nil {
			return in(fmt.Sprintf("/content/%d", i), err)
		}
	}
	if err := n.validateMarks(p); err != nil {
		return err
	}
	if n.Align != "" && n.Align != "center" && n.Align != "right" {
		return in("/attrs/align", fmt.Errorf("%q is not an alignment; it is center or right", n.Align))
	}
	return n.validateOwn(p)
}

func (n *Node) validateMarks(p *place) error {
	for i, m := range n.Marks {
		at := fmt.Sprintf("/marks/%d", i)
		switch m.Type {
		case "bold", "italic", "underline":
		case "link":
			if err := m.Href.validateLink(p); err != nil {
				return in(at+"/attrs/href", err)
			}
		case "colour":
			if !colour.MatchString(m.Colour) {
				return in(at+"/attrs/colour", fmt.Errorf("%q is not a colour; write it as #a63a2b", m.Colour))
			}
		default:
			return in(at+"/type", fmt.Errorf("mark %q is not known", m.Type))
		}
	}
	return nil
}

// validateOwn checks what is a node's own by its type.
func (n *Node) validateOwn(p *place) error {
	switch n.Type {
	case Heading:
		if n.Level < 1 || n.Level > 3 {
			return in("/attrs/level", fmt.Errorf("a heading has level 1 to 3"))
		}
	case FieldNode:
		return in("/attrs", n.Field.validate(p))
	case Button:
		return in("/attrs/href", n.Href.validateLink(p))
	case RowTable, RoundUp:
		return in("/attrs", n.List.validate(p, n.Type == RoundUp))
	case Table:
		return in("/content", n.validateTable())
	case Part:
		if n.If == nil {
			return in("/attrs/if", fmt.Errorf("a part needs the condition under which it is shown"))
		}
		if p.draft {
			return nil // it is not shown while its condition cannot be judged
		}
		return in("/attrs/if", n.If.Validate("", rule.SheetScope{Sheet: p.sheet}))
	case ImageNode:
		return in("/attrs", n.Image.validate(p))
	case PieceNode:
		if p.known != nil && !p.known(n.Piece) {
			return in("/attrs/piece", fmt.Errorf("a piece of text is not there any more"))
		}
	}
	return nil
}

func (n *Node) validateTable() error {
	if len(n.Content) == 0 {
		return fmt.Errorf("a table needs a row")
	}
	width := len(n.Content[0].Content)
	for i := range n.Content {
		switch have := len(n.Content[i].Content); {
		case have == 0 || have != width:
			return fmt.Errorf("a table has as many cells in each row, and one at least")
		case have > maxFields:
			return fmt.Errorf("a table in an email has up to %d columns, not %d", maxFields, have)
		}
	}
	return nil
}

func (l *FieldList) validate(p *place, roundUp bool) error {
	if p.sheet == nil {
		return fmt.Errorf("a table of a row's values belongs into a template, not here")
	}
	if len(l.Fields) == 0 {
		return in("/fields", fmt.Errorf("a table needs at least one field"))
	}
	if len(l.Fields) > maxFields {
		return in("/fields", fmt.Errorf("a table in an email has up to %d columns, not %d", maxFields, len(l.Fields)))
	}
	for i := range l.Fields {
		if err := l.Fields[i].validate(p); err != nil {
			return in(fmt.Sprintf("/fields/%d", i), err)
		}
	}
	if !roundUp && (len(l.Order) > 0 || l.Limit != 0 || l.More != "") || roundUp && l.Over {
		return fmt.Errorf("order, limit and more are of a round-up's table, over of a row's")
	}
	for i, o := range l.Order {
		if _, ok := p.sheet.Column(o.Column); !ok && !p.draft {
			return in(fmt.Sprintf("/order/%d/column", i), fmt.Errorf("a table is sorted by a column that is not there any more"))
		}
	}
	switch {
	case l.Limit < 0:
		return in("/limit", fmt.Errorf("a table has at least one row"))
	case l.Limit > 0 && !p.draft && !bytes.Contains([]byte(l.More), []byte(MoreNumber)):
		return in("/more", fmt.Errorf("a table of at most %d rows needs words for the others, with %s in them: and %s more",
			l.Limit, MoreNumber, MoreNumber))
	}
	return nil
}

// walk visits a node and all below it, in order.
func (n *Node) walk(visit func(*Node)) {
	visit(n)
	for i := range n.Content {
		n.Content[i].walk(visit)
	}
}

// fields lists the node's own fields.
func (n *Node) fields() (out []*Field) {
	if n.Field != nil {
		out = append(out, n.Field)
	}
	if n.List != nil {
		for i := range n.List.Fields {
			out = append(out, &n.List.Fields[i])
		}
	}
	lines := []Line{n.Href}
	for _, m := range n.Marks {
		lines = append(lines, m.Href)
	}
	if n.Image != nil {
		lines = append(lines, n.Image.Alt)
	}
	for _, l := range lines {
		out = append(out, l.fields()...)
	}
	return out
}
