// Package template holds what an email says: a document tree whose inline
// fields name a column and how its value is written, the text form of that
// tree in square brackets, and its rendering to HTML and a plain-text twin.
//
// The tree's JSON has the shape that the editor of the interface works on:
// nodes with type, attrs, content, text and marks.
package template

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	bcp47 "golang.org/x/text/language"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Template is a wording: a subject of one line and a body, and perhaps the
// same in other languages.
type Template struct {
	ID            string       `json:"id,omitempty"`
	Name          string       `json:"name"`
	Subject       Node         `json:"subject"`                 // doc of one paragraph
	Preheader     Node         `json:"preheader,omitzero"`      // the same: what a mailbox shows behind the subject
	Body          Node         `json:"body"`                    // doc
	Language      string       `json:"language,omitempty"`      // the column that chooses a variant
	FirstLanguage string       `json:"firstLanguage,omitempty"` // BCP 47 tag of Subject and Body; "" is the sheet's
	Variants      []Variant    `json:"variants,omitempty"`
	Attachments   []Attachment `json:"attachments,omitempty"`
	Version       int64        `json:"-"`                 // that is kept of it; 0 of a draft
	Written       int64        `json:"written,omitempty"` // the version in which Subject, Preheader and Body last changed

	rests Rests     // where Use has been called
	ready *compiled // where Prepare has been called
}

// UnmarshalJSON reads a template. What cannot be read of it is said with its place.
func (t *Template) UnmarshalJSON(b []byte) error {
	type plain Template
	err := json.Unmarshal(b, (*plain)(t))
	if err == nil {
		return nil
	}
	var parts map[string]json.RawMessage
	if json.Unmarshal(b, &parts) != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(parts)) { // one part alone is what cannot be read
		one, merr := json.Marshal(map[string]json.RawMessage{name: parts[name]})
		if merr != nil {
			return err
		}
		if one := json.Unmarshal(one, &plain{}); one != nil {
			return in("/"+name, one)
		}
	}
	return err
}

// Variant is a template in another language.
type Variant struct {
	Language  string `json:"language"` // BCP 47 tag, met by what the language column holds
	Subject   Node   `json:"subject"`
	Preheader Node   `json:"preheader,omitzero"`
	Body      Node   `json:"body"`
	Of        int64  `json:"of,omitempty"` // the version of the template that it was last brought up to
}

// Text is what a template says in one language.
type Text struct{ Subject, Preheader, Body *Node }

// texts lists the template's texts, its own first.
func (t *Template) texts() []Text {
	out := []Text{{&t.Subject, &t.Preheader, &t.Body}}
	for i := range t.Variants {
		v := &t.Variants[i]
		out = append(out, Text{&v.Subject, &v.Preheader, &v.Body})
	}
	return out
}

func (x Text) docs() []*Node { return []*Node{x.Subject, x.Preheader, x.Body} }

// maxVariants is how many other languages a template has at most.
const maxVariants = 50

// Validate checks a template against its sheet: the tree's shape, its columns
// and what each field asks of its column's type.
func (t *Template) Validate(s *sheet.Sheet) error { return t.validate(&place{sheet: s}) }

// ValidateDraft is Validate for a template that is being written: a link may lead nowhere
// yet, a field name a column that another sheet has.
func (t *Template) ValidateDraft(s *sheet.Sheet) error {
	return t.validate(&place{sheet: s, draft: true})
}

func (t *Template) validate(p *place) error {
	s := p.sheet
	if err := value.CheckName("a template", t.Name); err != nil {
		return in("/name", err)
	}
	if c, ok := s.Column(t.Language); t.Language != "" && (!ok || c.ValueType() != value.Text &&
		c.ValueType() != value.Choice) {
		return in("/language", fmt.Errorf("the language comes from a column of type text or choice"))
	}
	if len(t.Variants) > 0 && t.Language == "" && !p.draft {
		return in("/language", fmt.Errorf("a template in several languages needs a column that chooses"))
	}
	if t.rests.Pieces != nil {
		p.known = func(id string) bool { return t.rests.Pieces[id] != nil }
	}
	if len(t.Variants) > maxVariants {
		return in("/variants", fmt.Errorf("a template is written in at most %d languages", maxVariants))
	}
	if _, err := bcp47.Parse(t.FirstLanguage); t.FirstLanguage != "" && err != nil {
		return in("/firstLanguage", fmt.Errorf("%q is no language; write it as a tag such as de or en-GB", t.FirstLanguage))
	}
	seen := map[string]bool{}
	for i, x := range t.texts() {
		err := x.validate(p)
		if i > 0 {
			at := fmt.Sprintf("/variants/%d", i-1)
			err = in(at, err)
			tag := value.Fold(t.Variants[i-1].Language)
			if tag == "" || seen[tag] {
				return in(at+"/language", fmt.Errorf("each variant has a language of its own"))
			}
			seen[tag] = true
			if _, unknown := bcp47.Parse(t.Variants[i-1].Language); unknown != nil {
				return in(at+"/language",
					fmt.Errorf("%q is no language; write it as a tag such as de or en-GB", t.Variants[i-1].Language))
			}
			if err != nil {
				err = fmt.Errorf("in %s: %w", t.Variants[i-1].Language, err)
			}
		}
		if err != nil {
			return err
		}
	}
	return t.validateAttachments(p)
}

func (x Text) validate(p *place) error {
	for _, part := range []struct {
		name, at string
		n        *Node
		line     bool
	}{{"subject", "/subject", x.Subject, true}, {"preview text", "/preheader", x.Preheader, true},
		{"body", "/body", x.Body, false}} {
		if part.n.Type == "" && part.n == x.Preheader {
			continue
		}
		if part.n.Type != Doc {
			return in(part.at, fmt.Errorf("the %s is not a document", part.name))
		}
		if c := part.n.Content; part.line && (len(c) > 1 || len(c) == 1 && c[0].Type != Paragraph) {
			return in(part.at, fmt.Errorf("the %s is one line", part.name))
		}
		if err := part.n.validate(p, 0); err != nil {
			return in(part.at, fmt.Errorf("%s: %w", part.name, err))
		}
	}
	return nil
}

// Follow notes what has changed since the template was as before (nil for a new one), as its
// given version: when its first text was written, and up to which version each variant was brought.
// A variant that is said to follow a later version than before is brought up to this one.
func (t *Template) Follow(before *Template, version int64) {
	if before == nil {
		before = &Template{}
	}
	was := before.texts()
	if t.Written = before.Written; !was[0].same(t.texts()[0]) {
		t.Written = version
	}
	for i := range t.Variants {
		v := &t.Variants[i]
		k := slices.IndexFunc(before.Variants,
			func(b Variant) bool { return value.Fold(b.Language) == value.Fold(v.Language) })
		if k < 0 || !was[k+1].same(t.texts()[i+1]) || v.Of > before.Variants[k].Of {
			v.Of = version
		} else {
			v.Of = before.Variants[k].Of
		}
	}
}

func (x Text) same(y Text) bool {
	a, _ := json.Marshal(x)
	b, _ := json.Marshal(y)
	return string(a) == string(b)
}

// Older lists the languages of the variants that are older than the first text.
func (t *Template) Older() []string {
	out := []string{}
	for _, v := range t.Variants {
		if v.Of > 0 && v.Of < t.Written {
			out = append(out, v.Language)
		}
	}
	return out
}

// Fields lists the fields of subject, body and attachments in order, of all
// languages.
func (t *Template) Fields() []*Field {
	var out []*Field
	for i := range t.texts() {
		out = append(out, t.fieldsOf(i)...)
	}
	for i := range t.Attachments {
		out = append(out, t.Attachments[i].fields()...)
	}
	return out
}

// fieldsOf lists the fields of the template's i-th text.
func (t *Template) fieldsOf(i int) (out []*Field) {
	for _, d := range t.texts()[i].docs() {
		d.walk(func(n *Node) { out = append(out, n.fields()...) })
	}
	return out
}

// RightToLeft reports whether the lines of one of its texts run from right to left; 0 is its own,
// and so is nil.
func (t *Template) RightToLeft(s *sheet.Sheet, text *int) bool {
	t.Prepare(s)
	i := 0
	if text != nil && *text < len(t.ready.docs) {
		i = *text
	}
	return t.ready.docs[i].rtl
}

// Images lists the images of all languages.
func (t *Template) Images() (out []*Image) {
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.Image != nil {
				out = append(out, n.Image)
			}
		})
	}
	return out
}

// RenamePieces puts other ids in place of the pieces that the template uses.
func (t *Template) RenamePieces(to func(string) (string, error)) (err error) {
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.Type == PieceNode && err == nil {
				n.Piece, err = to(n.Piece)
			}
		})
	}
	return err
}

// PieceIDs lists the pieces that the template uses, each once.
func (t *Template) PieceIDs() (out []string) {
	seen := map[string]bool{}
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.Type == PieceNode && !seen[n.Piece] {
				seen[n.Piece] = true
				out = append(out, n.Piece)
			}
		})
	}
	return out
}

// Rename puts other ids in place of the columns (and options) that a template
// names.
func (t *Template) Rename(column func(string) (string, error),
	option func(column, name string) (string, error)) error {
	put := func(id *string) error {
		if *id == "" {
			return nil
		}
		to, err := column(*id)
		if err == nil {
			*id = to
		}
		return err
	}
	for _, f := range t.Fields() {
		if err := put(&f.Column); err != nil {
			return err
		}
	}
	if err := put(&t.Language); err != nil {
		return err
	}
	for i := range t.Attachments {
		for _, id := range t.Attachments[i].columns() {
			if err := put(id); err != nil {
				return err
			}
		}
	}
	var fault error
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.If != nil && fault == nil {
				fault = n.If.Rename(column, option)
			}
			if n.List != nil && fault == nil {
				for i := range n.List.Order {
					if err := put(&n.List.Order[i].Column); err != nil {
						fault = err
					}
				}
			}
		})
	}
	return fault
}

// conditions lists the conditions of a template's parts, of all languages.
func (t *Template) conditions() (out []*rule.Condition) {
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.If != nil {
				out = append(out, n.If)
			}
		})
	}
	return out
}

// Clone gives a copy that shares nothing with the template but what it rests on.
func (t *Template) Clone() (*Template, error) {
	b, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	out := &Template{Version: t.Version, rests: t.rests}
	return out, json.Unmarshal(b, out)
}
