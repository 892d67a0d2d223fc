package template

import (
	"fmt"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Field is a value of the row in the text, or one that has no column.
type Field struct {
	Column string `json:"column,omitempty"`
	Of     string `json:"of,omitempty"` // what it names in place of a column

	Name      bool    `json:"name,omitempty"`      // the column's name, not its value
	Style     string  `json:"style,omitempty"`     // date style
	Part      string  `json:"part,omitempty"`      // "first word" or "last word"
	Case      string  `json:"case,omitempty"`      // "upper" or "lower"
	FromNow   bool    `json:"fromNow,omitempty"`   // days from now
	Decimals  *int    `json:"decimals,omitempty"`  // number
	Thousands *bool   `json:"thousands,omitempty"` // number: with signs for thousands, or without
	Currency  *string `json:"currency,omitempty"`  // number: its sign; "" for none

	Fallback *string `json:"fallback,omitempty"` // written where the cell has no value
	Omit     bool    `json:"omit,omitempty"`     // where it has none, the sentence is left out
}

// Elsewhere begins what a field of a draft names in place of a column that the sheet does not
// have: its name in the sheet that the template was written for.
const Elsewhere = "?"

// What a field may name in place of a column.
const (
	RowKey = "key"     // the row's key, or its number
	Today  = "today"   // in the rule's zone
	Sender = "sender"  // the name of the sheet's sender
	OptOut = "opt-out" // the link with which the recipient stops these emails
)

// ownNames are their names in the text form.
var ownNames = []struct{ of, name string }{{RowKey, "row key"}, {Today, "today"}, {Sender, "sender"},
	{OptOut, "opt-out link"}}

// OptOutMark stands for the link that stops these emails, until the email goes: only then
// is it known whose they are.
const OptOutMark = "nivot:opt-out"

// OptOutWord stands in its place where others than the recipient read the email: the link is the recipient's alone.
const OptOutWord = "unsubscribe-link"

// ForOthers returns a letter's HTML or text as others than its recipient may read it.
func ForOthers(letter string) string { return strings.ReplaceAll(letter, OptOutMark, OptOutWord) }

func (f *Field) validate(p *place) error {
	if f.Fallback != nil && f.Omit {
		return fmt.Errorf("a field has a fallback, or its sentence is left out, not both")
	}
	if f.Of != "" {
		return f.validateOwn()
	}
	if p.sheet == nil {
		return fmt.Errorf("a text that many sheets use names no columns")
	}
	c, ok := p.sheet.Column(f.Column)
	if !ok && p.draft {
		return nil
	}
	if !ok {
		return fmt.Errorf("a field names a column that is not there any more")
	}
	return f.validateAs(c.Name, c.ValueType())
}

func (f *Field) validateOwn() error {
	for _, o := range ownNames {
		if o.of == f.Of {
			if f.Column != "" || f.Name {
				return fmt.Errorf("%s is no column", o.name)
			}
			typ := value.Text
			if f.Of == Today {
				typ = value.Date
			}
			return f.validateAs(o.name, typ)
		}
	}
	return fmt.Errorf("a field is of a column, or of key, today, sender or opt-out, not of %q", f.Of)
}

func (f *Field) validateAs(name string, typ value.Type) error {
	day := typ == value.Date || typ == value.Moment
	switch {
	case f.Style != "" && !value.DateStyle(f.Style).Valid():
		return fmt.Errorf("%s: %q is not a date style", name, f.Style)
	case (f.Style != "" || f.FromNow) && !day:
		return fmt.Errorf("%s: only dates, and dates and times, have a date style or days from now", name)
	case (f.Decimals != nil || f.Thousands != nil || f.Currency != nil) && typ != value.Number:
		return fmt.Errorf("%s: only numbers have decimals, thousands and a currency", name)
	case f.Decimals != nil && (*f.Decimals < 0 || *f.Decimals > 12):
		return fmt.Errorf("%s: decimals go from 0 to 12", name)
	case f.Currency != nil && (len([]rune(*f.Currency)) > 8 || strings.ContainsAny(*f.Currency, ",[]\\") ||
		value.Trim(*f.Currency) != *f.Currency):
		return fmt.Errorf("%s: a currency has up to 8 characters, without commas and brackets", name)
	case f.Part != "" && f.Part != "first word" && f.Part != "last word":
		return fmt.Errorf("%s: %q is not a part", name, f.Part)
	case f.Case != "" && f.Case != "upper" && f.Case != "lower":
		return fmt.Errorf("%s: %q is not a case", name, f.Case)
	}
	return nil
}

// filled reports whether there is a value to write for a row.
func (f *Field) filled(col *sheet.Column, row *sheet.Row) bool {
	return f.Of != "" || f.Name || row.Cell(col).IsFilled()
}

// write gives the field's text for a row; ok is false where the cell has no
// value (an unreadable one has none) and the field no fallback.
func (f *Field) write(col *sheet.Column, row *sheet.Row, c *Context, l *value.Locale) (s string, ok bool) {
	if !f.filled(col, row) {
		if f.Fallback != nil {
			return *f.Fallback, true
		}
		return "", false
	}
	switch {
	case f.Of != "":
		s = f.own(row, c, l)
	case f.Name:
		if col != nil {
			s = col.Name
		}
	default:
		s = f.format(col, row.Cell(col), c, l)
	}
	switch f.Part {
	case "first word":
		if w := strings.Fields(s); len(w) > 0 {
			s = w[0]
		}
	case "last word":
		if w := strings.Fields(s); len(w) > 0 {
			s = w[len(w)-1]
		}
	}
	switch f.Case {
	case "upper":
		s = strings.ToUpper(s)
	case "lower":
		s = strings.ToLower(s)
	}
	return s, true
}

func (f *Field) own(row *sheet.Row, c *Context, l *value.Locale) string {
	switch f.Of {
	case RowKey:
		return c.Sheet.RowName(row)
	case Today:
		return f.day(c.Today, c, l)
	case Sender:
		return c.sender.Name
	case OptOut:
		return OptOutMark
	}
	return ""
}

func (f *Field) day(d value.Day, c *Context, l *value.Locale) string {
	if f.FromNow {
		return l.DayCount(int(d - c.Today))
	}
	return value.FormatDay(d, f.style(), l, "")
}

func (f *Field) style() value.DateStyle {
	if f.Style == "" {
		return value.Medium
	}
	return value.DateStyle(f.Style)
}

func (f *Field) format(col *sheet.Column, v value.Value, c *Context, l *value.Locale) string {
	switch v.Type {
	case value.Date:
		return f.day(v.Wall.Day, c, l)
	case value.Moment:
		if f.FromNow {
			return f.day(v.Wall.Day, c, l)
		}
		return value.FormatMoment(v.Wall, f.style(), l, "")
	case value.Number:
		return value.FormatNumber(v.Num, f.number(col.Format), l)
	case value.YesNo:
		return l.YesNo(v.Yes)
	}
	return c.Sheet.Show(col, v)
}

// number gives the format of the field's numbers: the column's, with what the
// field says otherwise.
func (f *Field) number(n value.NumberFormat) value.NumberFormat {
	if f.Decimals != nil {
		n.Decimals = f.Decimals
	}
	if f.Thousands != nil {
		n.Thousands = *f.Thousands
	}
	if f.Currency != nil {
		if n.Currency = *f.Currency; n.Currency != "" {
			n.Unit, n.Percent = "", false
		}
	}
	return n
}
