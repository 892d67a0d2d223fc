package template

import "nivot/internal/core/sheet"

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
