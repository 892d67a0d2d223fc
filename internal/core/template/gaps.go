package template

import (
	"slices"

	"nivot/internal/core/sheet"
)

// Gap is what is wrong with a template's email for one row.
type Gap struct {
	Stops bool // the email cannot go out
	Text  string
}

// Gaps finds, without writing the letter, what keeps a row's email from going
// to the sheet's address column, and what it lacks.
func (t *Template) Gaps(c Context) []Gap {
	var out []Gap
	if a, ok := c.Sheet.Column(c.Sheet.Address); ok {
		switch v := c.Row.Cell(a); {
		case v.IsEmpty():
			out = append(out, Gap{true, a.Name + " is empty; these cannot go out"})
		case v.IsUnreadable():
			out = append(out, Gap{true, a.Name + " is no address; these cannot go out"})
		}
	}
	checked := t.Check(c)
	for _, id := range checked.Missing {
		if col, ok := c.Sheet.Column(id); ok {
			out = append(out, Gap{false, col.Name + lack(col, c.Row)})
		}
	}
	if checked.Subject == "" {
		out = append(out, Gap{false, "The subject is empty"})
	}
	return out
}

func lack(c *sheet.Column, row *sheet.Row) string {
	if row.Cell(c).IsUnreadable() {
		return " cannot be read and has no other words"
	}
	return " is empty and has no other words"
}

// Lacks reports whether a field of the letter has neither value nor fallback: the
// email would be incomplete. It is Check without the words.
func (t *Template) Lacks(c Context) bool {
	w, d := t.begin(c)
	return w.lacks(d.subject) || w.lacks(d.preheader) || w.lacks(d.body) || slices.ContainsFunc(d.names, w.lacks)
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
	for _, c := range t.conditions() {
		out = append(out, c.Columns()...)
	}
	return out
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
