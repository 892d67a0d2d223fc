package template

import (
	"slices"

	"nivot/internal/core/sheet"
)

// Lacks reports whether a field of the letter has neither value nor fallback: the
// email would be incomplete. It is Check without the words.
func (t *Template) Lacks(c Context) bool {
	w, d := t.begin(c)
	return w.lacks(d.subject) || w.lacks(d.preheader) || w.lacks(d.body) ||
		slices.ContainsFunc(d.attached, w.attachedLacks)
}

func (w *writer) lacks(ops []op) bool {
	for i := range ops {
		o := &ops[i]
		switch {
		case o.field != nil:
			if o.field.lacks(w.c.Row) {
				return true
			}
		case o.when != nil:
			if o.when(w) && w.lacks(o.part) {
				return true
			}
		}
		for k := range o.href {
			if f := o.href[k].field; f != nil && f.lacks(w.c.Row) {
				return true
			}
		}
	}
	return false
}

func (w *writer) attachedLacks(d attachedDoc) bool {
	return d.wants(w) != "" || slices.ContainsFunc(d.lines(), w.lacks)
}

func (f *slot) lacks(row *sheet.Row) bool { return f.Fallback == nil && !f.filled(f.col, row) }

// Columns lists the columns that a template looks at.
func (t *Template) Columns() []string {
	out := []string{t.Language}
	for _, f := range t.Fields() {
		if f.Column != "" {
			out = append(out, f.Column)
		}
	}
	for _, x := range t.texts() {
		x.Body.walk(func(n *Node) {
			if n.List != nil {
				for _, o := range n.List.Order {
					out = append(out, o.Column)
				}
			}
		})
	}
	for i := range t.Attachments {
		for _, id := range t.Attachments[i].columns() {
			if *id != "" {
				out = append(out, *id)
			}
		}
	}
	for _, c := range t.conditions() {
		out = append(out, c.Columns()...)
	}
	return out
}

// Strangers counts the fields that name a column which the sheet does not have.
func (t *Template) Strangers(s *sheet.Sheet) (n int) {
	for _, f := range t.Fields() {
		if _, ok := s.Column(f.Column); f.Of == "" && !ok {
			n++
		}
	}
	return n
}

// LooksAtTime reports whether a part is shown or not by the time.
func (t *Template) LooksAtTime() bool {
	for _, c := range t.conditions() {
		if c.LooksAtTime() {
			return true
		}
	}
	return false
}
