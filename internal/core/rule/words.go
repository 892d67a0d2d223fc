package rule

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func durationWords(iso string) string {
	d, err := calendar.ParseDuration(iso)
	if err != nil {
		return iso
	}
	return d.Words()
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

func columnName(s *sheet.Sheet, id string) string {
	if c, ok := s.Column(id); ok {
		return ColumnWord(c.Name)
	}
	return Open
}

func columnNames(s *sheet.Sheet, ids []string, word string) string {
	names := make([]string, len(ids))
	for i, id := range ids {
		names[i] = columnName(s, id)
	}
	return join2(names, word)
}

// ColumnWord writes a column's name inside a sentence: its first letter small,
// unless the word is an abbreviation.
func ColumnWord(n string) string {
	r := []rune(n)
	if len(r) > 1 && strings.ToUpper(string(r[1])) == string(r[1]) && strings.ToLower(string(r[1])) != string(r[1]) {
		return n
	}
	if len(r) == 0 {
		return n
	}
	return strings.ToLower(string(r[0])) + string(r[1:])
}

func operandWords(list []Operand, s *sheet.Sheet, column string) string {
	col, _ := s.Column(column)
	var out []string
	for i := range list {
		out = append(out, list[i].words(s, col))
	}
	return join2(out, "or")
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

func join2(items []string, word string) string {
	switch len(items) {
	case 0:
		return ""
	case 1:
		return items[0]
	}
	return strings.Join(items[:len(items)-1], ", ") + " " + word + " " + items[len(items)-1]
}

func (e *Every) words() string {
	unit := strings.TrimSuffix(e.Unit, "s")
	s := "every " + unit
	if e.N > 1 {
		s = fmt.Sprintf("every %d %s", e.N, e.Unit)
	}
	if e.Times > 0 {
		s += fmt.Sprintf(", %d times in all", e.Times)
	}
	return s
}

func addresses(s *sheet.Sheet, list []Address) string {
	var parts []string
	for _, a := range list {
		if a.Column != "" {
			parts = append(parts, columnName(s, a.Column))
		} else if who := a.Address + a.Person; who != "" {
			parts = append(parts, who)
		}
	}
	return join2(parts, "and")
}

// Words writes a condition in English: "state is out or extended".
func (c *Condition) Words(s *sheet.Sheet) string {
	switch c.form {
	case 'a', 'y':
		items, word := c.All, "and"
		if c.form == 'y' {
			items, word = c.Any, "or"
		}
		var parts []string
		for i := range items {
			w := items[i].Words(s)
			if (items[i].form == 'a' || items[i].form == 'y') && len(items) > 1 {
				w = "(" + w + ")"
			}
			parts = append(parts, w)
		}
		if len(parts) == 0 {
			return map[byte]string{'a': "anything", 'y': "nothing"}[c.form]
		}
		return strings.Join(parts, " "+word+" ")
	case 'n':
		return "it is not so that " + c.Not.Words(s)
	}
	name := columnName(s, c.Column)
	vals := c.valueWords(s)
	one := ""
	if len(vals) > 0 {
		one = vals[0]
	}
	switch c.Op {
	case Is, OneOf:
		return name + " is " + join2(vals, "or")
	case IsNot, NoneOf:
		return name + " is not " + join2(vals, "or")
	case IsEmpty:
		return name + " is empty"
	case IsFilled:
		return name + " is filled"
	case IsBad:
		return name + " cannot be read"
	case Contains:
		return name + " contains " + one
	case StartsWith:
		return name + " starts with " + one
	case EndsWith:
		return name + " ends with " + one
	case Less:
		return name + " is below " + one
	case AtMost:
		return name + " is at most " + one
	case More:
		return name + " is above " + one
	case AtLeast:
		return name + " is at least " + one
	case Before, After, OnDay:
		return name + " is " + string(c.Op) + " " + one
	case Between:
		return name + " is between " + join2(vals, "and")
	case DaysAway:
		return name + " is " + join2(vals, "to") + " days away"
	case ChangedIn:
		if d, err := calendar.ParseDuration(one); err == nil {
			return name + " has changed within " + d.Words()
		}
	}
	return name + " " + string(c.Op) + " " + one
}

func (c *Condition) valueWords(s *sheet.Sheet) []string {
	if c.Value == nil {
		return nil
	}
	items := c.Value.List
	if !c.Value.isList {
		items = []Operand{*c.Value}
	}
	col, _ := s.Column(c.Column)
	out := make([]string, 0, len(items))
	for _, it := range items {
		out = append(out, it.words(s, col))
	}
	return out
}

// numberWords writes a number as the column that it is compared with shows its
// own.
func numberWords(n decimal.Decimal, col *sheet.Column, s *sheet.Sheet) string {
	var format value.NumberFormat
	if col != nil && col.ValueType() == value.Number {
		format = col.Format
	}
	if format.Decimals != nil && !n.Equal(n.Round(int32(*format.Decimals))) {
		format.Decimals = nil // what is compared with is said whole
	}
	return value.FormatNumber(n, format, s.Locale)
}

func (o *Operand) words(s *sheet.Sheet, col *sheet.Column) string {
	switch {
	case o.Column != "":
		return columnName(s, o.Column)
	case o.Number != nil:
		return numberWords(*o.Number, col, s)
	case o.Yes != nil:
		return map[bool]string{true: "yes", false: "no"}[*o.Yes]
	case o.Text == nil:
		return "…"
	}
	if col != nil {
		switch col.ValueType() {
		case value.Choice:
			return s.Show(col, value.Value{State: value.Filled, Type: value.Choice, Str: *o.Text})
		case value.Date, value.Moment:
			if d, err := value.ParseDay(*o.Text, value.YearMonthDay); err == nil {
				return value.FormatDay(d, value.Medium, s.Locale, "")
			}
		}
	}
	return *o.Text
}

// Leaves lists the leaves of a condition in order.
func (c *Condition) Leaves() []*Condition {
	if c == nil {
		return nil
	}
	switch c.form {
	case 'a', 'y':
		var out []*Condition
		for _, list := range [][]Condition{c.All, c.Any} {
			for i := range list {
				out = append(out, list[i].Leaves()...)
			}
		}
		return out
	case 'n':
		return c.Not.Leaves()
	}
	return []*Condition{c}
}

// Clauses parts a condition into what has to hold together: the members of a
// top "all", or the condition itself.
func (c *Condition) Clauses() []*Condition {
	if c == nil {
		return nil
	}
	if c.form != 'a' {
		return []*Condition{c}
	}
	out := make([]*Condition, len(c.All))
	for i := range c.All {
		out[i] = &c.All[i]
	}
	return out
}
