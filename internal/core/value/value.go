// Package value holds what a cell can be: how each type is read from what a
// person typed, compared, and written again. A cell is empty, filled with a
// value of its column's type, or unreadable: raw text that does not parse,
// kept as it is.
package value

import (
	"strings"
	"unicode"

	"github.com/shopspring/decimal"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Type is the type of a column.
type Type string

// The types a column can have.
const (
	Text    Type = "text"
	Number  Type = "number"
	Date    Type = "date"
	Moment  Type = "moment"
	YesNo   Type = "yes/no"
	Choice  Type = "choice"
	Email   Type = "email"
	File    Type = "file" // names of files on the sheet's shelf
	Formula Type = "formula"
)

// Types lists every type in the order in which they are offered.
var Types = []Type{Text, Number, Date, Moment, YesNo, Choice, Email, File, Formula}

// State says which of the three things a cell is.
type State uint8

// A cell's three states.
const (
	Empty State = iota
	Filled
	Unreadable
)

// Value is the content of one cell. The zero Value is an empty cell.
//
// Str carries text, the option id of a choice, the mailbox list of an email
// column as typed, the names of files parted by "; ", and the raw text of an unreadable cell; the other fields
// carry the value of their type.
type Value struct {
	State State
	Type  Type
	Str   string
	Num   decimal.Decimal
	Wall  Wall // date (Second 0) and moment
	Yes   bool
}

// IsEmpty, IsFilled and IsUnreadable tell the state of a cell.
func (v Value) IsEmpty() bool      { return v.State == Empty }
func (v Value) IsFilled() bool     { return v.State == Filled }
func (v Value) IsUnreadable() bool { return v.State == Unreadable }

// Of makes filled values.
func OfText(s string) Value            { return Value{State: Filled, Type: Text, Str: s} }
func OfNumber(d decimal.Decimal) Value { return Value{State: Filled, Type: Number, Num: d} }
func OfDay(d Day) Value                { return Value{State: Filled, Type: Date, Wall: Wall{Day: d}} }
func OfMoment(w Wall) Value            { return Value{State: Filled, Type: Moment, Wall: w} }
func OfYesNo(b bool) Value             { return Value{State: Filled, Type: YesNo, Yes: b} }

// Raw makes an unreadable cell of a column of type t.
func Raw(t Type, s string) Value { return Value{State: Unreadable, Type: t, Str: s} }

// Same tells whether a and b are the same cell content for the purpose of
// settling: a change only of case or outer space is none.
func Same(a, b Value) bool {
	if a.State != b.State {
		return false
	}
	if a.State == Empty {
		return true
	}
	if a.Type != b.Type {
		return false
	}
	if a.State == Unreadable {
		return Fold(a.Str) == Fold(b.Str)
	}
	switch a.Type {
	case Number:
		return a.Num.Equal(b.Num)
	case Date, Moment:
		return a.Wall == b.Wall
	case YesNo:
		return a.Yes == b.Yes
	case Choice:
		return a.Str == b.Str
	}
	return Fold(a.Str) == Fold(b.Str)
}

// Identical tells whether a and b are the same to the letter.
func Identical(a, b Value) bool {
	return Same(a, b) && a.Str == b.Str
}

// Compare orders two filled values of comparable types: -1, 0 or 1. A moment
// against a day counts as its day. ok is false where the types have no order
// in common.
func Compare(a, b Value) (c int, ok bool) {
	if a.State != Filled || b.State != Filled {
		return 0, false
	}
	switch {
	case a.Type == Number && b.Type == Number:
		return a.Num.Cmp(b.Num), true
	case a.Type == Moment && b.Type == Moment:
		return a.Wall.Compare(b.Wall), true
	case (a.Type == Date || a.Type == Moment) && (b.Type == Date || b.Type == Moment):
		return int(sign(int64(a.Wall.Day) - int64(b.Wall.Day))), true
	case a.Type == YesNo && b.Type == YesNo:
		switch {
		case a.Yes == b.Yes:
			return 0, true
		case b.Yes:
			return -1, true
		}
		return 1, true
	case isString(a.Type) && isString(b.Type):
		return strings.Compare(Fold(a.Str), Fold(b.Str)), true
	}
	return 0, false
}

func isString(t Type) bool { return t == Text || t == Email || t == Choice || t == File }

func sign(n int64) int64 {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

var folder = cases.Fold()

// Fold brings text to the form in which it is compared: outer white space
// off, case folded by Unicode's full case folding.
func Fold(s string) string {
	s = Trim(s)
	lower := true
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x80 {
			return folder.String(s)
		}
		if 'A' <= c && c <= 'Z' {
			lower = false
		}
	}
	if lower {
		return s
	}
	return strings.ToLower(s)
}

// Identifier brings the name or address by which somebody is known to the form in which it is
// compared, byte by byte: compatibility forms joined (NFKC), case folded, and what cannot be
// seen left out, so that no two that look alike by these are two; accents count.
func Identifier(s string) string {
	s = folder.String(norm.NFKC.String(s))
	s = strings.Map(func(r rune) rune {
		if unicode.In(r, unicode.Cf, unicode.Cc, unicode.Variation_Selector, unicode.Other_Default_Ignorable_Code_Point) {
			return -1
		}
		return r
	}, s)
	return norm.NFKC.String(strings.Join(strings.Fields(s), " "))
}

// Trim takes outer white space off: Unicode's, the no-break space, and the
// byte order mark that files leave at their head.
func Trim(s string) string {
	return strings.TrimFunc(s, func(r rune) bool { return unicode.IsSpace(r) || r == '\ufeff' || r == '\u200b' })
}
