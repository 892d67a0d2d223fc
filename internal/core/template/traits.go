package template

import (
	"strings"
	"unicode/utf8"

	bcp47 "golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"nivot/internal/core/value"
)

// Trait is something by which a template's emails differ from one another, and by which rows are
// picked to try it.
type Trait struct {
	Kind   TraitKind
	Text   int    // 1 being the template's own; of InLanguage, PartShown and PartHidden
	Part   int    // PartShown, PartHidden: the part of the text, from 1
	Column string // OtherWords, SentenceOut: the empty column's id
}

// TraitKind says by what emails differ.
type TraitKind string

// The kinds of traits, in the order in which they are told.
const (
	InLanguage  TraitKind = "language"
	PartShown   TraitKind = "part-shown"
	PartHidden  TraitKind = "part-hidden"
	OtherWords  TraitKind = "other-words"  // a field is empty, and its other words stand there
	SentenceOut TraitKind = "sentence-out" // a field is empty, and its sentence is left out
	Longest     TraitKind = "longest"      // no other row's values are longer
)

// TraitKinds lists the kinds in their order.
var TraitKinds = []TraitKind{InLanguage, PartShown, PartHidden, OtherWords, SentenceOut, Longest}

// Traits gives what a row's email has of what others have not, and how many characters its
// values come to. A row whose email would be incomplete has none.
func (t *Template) Traits(c Context) (out []Trait, length int) {
	w, d := t.begin(c)
	if t.Lacks(c) {
		return nil, 0
	}
	if len(t.Variants) > 0 {
		out = append(out, Trait{Kind: InLanguage, Text: w.variant})
	}
	part := 0
	seen := map[Trait]bool{}
	note := func(x Trait) {
		if !seen[x] {
			seen[x] = true
			out = append(out, x)
		}
	}
	var walk func(ops []op, shown bool)
	walk = func(ops []op, shown bool) {
		for i := range ops {
			o := &ops[i]
			within := shown
			switch {
			case o.isPart:
				part++
				if within = shown && o.when(w); within {
					note(Trait{Kind: PartShown, Text: w.variant, Part: part})
				} else if shown {
					note(Trait{Kind: PartHidden, Text: w.variant, Part: part})
				}
			case o.field != nil && shown && o.field.Fallback != nil && !o.field.filled(o.field.col, w.c.Row):
				note(Trait{Kind: OtherWords, Column: o.field.Column})
			}
			walk(o.part, within)
		}
	}
	for _, ops := range [][]op{d.subject, d.preheader, d.body} {
		walk(ops, true)
	}
	for _, f := range t.fieldsOf(w.variant - 1) {
		if col, ok := c.Sheet.Column(f.Column); ok && f.Omit && c.Row.Cell(col).IsEmpty() {
			note(Trait{Kind: SentenceOut, Column: f.Column})
		}
	}
	for _, col := range d.columns {
		if v := c.Row.Cell(col); v.IsFilled() && (v.Type == value.Text || v.Type == value.Email) {
			length += utf8.RuneCountInString(v.Str)
		}
	}
	return out, length
}

// languageName is a language's English name (CLDR); of a tag that says none, the tag.
func languageName(tag string) string {
	parsed, err := bcp47.Parse(tag)
	if err != nil {
		return tag
	}
	if name := display.English.Tags().Name(parsed); name != "" {
		return name
	}
	return tag
}

// TraitWords says a trait in plain English.
func (t *Template) TraitWords(x Trait, c Context) string {
	name := func() string {
		if col, ok := c.Sheet.Column(x.Column); ok {
			return col.Name
		}
		return "a column"
	}
	switch x.Kind {
	case InLanguage:
		if x.Text > 1 && x.Text-2 < len(t.Variants) {
			return "in " + languageName(t.Variants[x.Text-2].Language)
		}
		return "in the first language"
	case PartShown, PartHidden:
		words := "a part"
		if cs, _ := t.Parts(c); x.Part-1 < len(cs) {
			words = "the part shown if " + strings.TrimSuffix(cs[x.Part-1].Words(c.Sheet), ".")
		}
		if x.Kind == PartHidden {
			return "without " + words
		}
		return "with " + words
	case OtherWords:
		return name() + " is empty: its other words"
	case SentenceOut:
		return name() + " is empty: its sentence is left out"
	case Longest:
		return "the longest values"
	}
	return string(x.Kind)
}
