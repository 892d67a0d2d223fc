package template

import (
	"encoding/json"
	"fmt"

	"nivot/internal/core/value"
)

// Piece is a text that many templates use, of all sheets: opening hours, say.
// It names no columns. A sender's signature is one too.
type Piece struct {
	ID       string         `json:"id,omitempty"`
	Name     string         `json:"name"`
	Body     Node           `json:"body"`
	Variants []PieceVariant `json:"variants,omitempty"`
}

// PieceVariant is a piece in another language.
type PieceVariant struct {
	Language string `json:"language"` // BCP 47 tag
	Body     Node   `json:"body"`
}

// Validate checks a piece's tree.
func (p *Piece) Validate() error {
	if err := value.CheckName("a piece of text", p.Name); err != nil {
		return in("/name", err)
	}
	seen := map[string]bool{}
	bodies := []*Node{&p.Body}
	for i := range p.Variants {
		tag := value.Fold(p.Variants[i].Language)
		if tag == "" || seen[tag] {
			return in(fmt.Sprintf("/variants/%d/language", i), fmt.Errorf("each variant has a language of its own"))
		}
		seen[tag] = true
		bodies = append(bodies, &p.Variants[i].Body)
	}
	for i, b := range bodies {
		at := "/body"
		if i > 0 {
			at = fmt.Sprintf("/variants/%d/body", i-1)
		}
		if err := validatePiece(b); err != nil {
			return in(at, err)
		}
	}
	return nil
}

func validatePiece(b *Node) error {
	if b.Type != Doc {
		return fmt.Errorf("a piece of text is a document")
	}
	var fault error
	b.walk(func(n *Node) {
		switch n.Type {
		case Part, RowTable, RoundUp, PieceNode, Signature:
			fault = fmt.Errorf("a %s belongs into a template, not into a text that many use", n.Type)
		}
	})
	if fault != nil {
		return fault
	}
	return b.validate(&place{}, 0)
}

// Images lists the piece's images, of all languages.
func (p *Piece) Images() (out []*Image) {
	bodies := []*Node{&p.Body}
	for i := range p.Variants {
		bodies = append(bodies, &p.Variants[i].Body)
	}
	for _, b := range bodies {
		b.walk(func(n *Node) {
			if n.Image != nil {
				out = append(out, n.Image)
			}
		})
	}
	return out
}

// Clone gives a copy that shares nothing with the piece.
func (p *Piece) Clone() (*Piece, error) {
	b, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	out := &Piece{}
	return out, json.Unmarshal(b, out)
}

// in gives the piece in a language, or as it was first written.
func (p *Piece) in(l *value.Locale) *Node {
	tags := make([]string, len(p.Variants))
	for i, v := range p.Variants {
		tags[i] = value.Fold(v.Language)
	}
	if i := meetLanguage(value.Fold(l.Tag), tags); i >= 0 {
		return &p.Variants[i].Body
	}
	return &p.Body
}

// From is who an email is from, as far as letters say it.
type From struct {
	Name      string
	Address   string
	Signature *Piece
}

// Rests is what the emails of a sheet's templates rest on outside these.
type Rests struct {
	Pieces map[string]*Piece // by id
	From   From              // who they are from
	Shelf  Shelf             // the files that rows name
}

// RestsOn gives what the template was given by Use and says: the pieces in it, who its emails
// are from, and the shelf where it looks for files there.
func (t *Template) RestsOn() (pieces []*Piece, from From, shelf Shelf) {
	for _, id := range t.PieceIDs() {
		pieces = append(pieces, t.rests.Pieces[id])
	}
	for i := range t.Attachments {
		if t.Attachments[i].Kind == ColumnKind {
			shelf = t.rests.Shelf
		}
	}
	return pieces, t.rests.From, shelf
}

// Use gives a template what it rests on outside itself. It stands for itself only until it
// changes.
func (t *Template) Use(r Rests) { t.rests, t.ready = r, nil }
