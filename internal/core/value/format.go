package value

import (
	"fmt"
	"strings"

	"github.com/shopspring/decimal"
)

// DateStyle is a way to write a day or moment.
type DateStyle string

// The date styles, in en-GB: 29/03/2027, 29 Mar 2027, 29 March 2027,
// Monday 29 March, 2027-03-29.
const (
	Short   DateStyle = "short"
	Medium  DateStyle = "medium"
	Long    DateStyle = "long"
	Weekday DateStyle = "weekday"
	ISO     DateStyle = "iso"
)

// Valid tells whether s is one of the date styles.
func (s DateStyle) Valid() bool {
	switch s {
	case Short, Medium, Long, Weekday, ISO:
		return true
	}
	return false
}

// FormatDay writes a day in a style. The parts of a short date follow o where
// it is given, else the locale.
func FormatDay(d Day, style DateStyle, l *Locale, o Order) string {
	y, m, dd := d.Date()
	us := l != nil && l.Tag == "en-US"
	name := monthsLong[m-1]
	switch style {
	case ISO:
		return d.String()
	case Short:
		if o == "" && l != nil {
			o = l.DefaultOrder
		}
		switch o {
		case MonthDayYear:
			return fmt.Sprintf("%02d/%02d/%04d", int(m), dd, y)
		case DayMonthYear:
			return fmt.Sprintf("%02d/%02d/%04d", dd, int(m), y)
		}
		return d.String()
	case Long:
		if us {
			return fmt.Sprintf("%s %d, %d", name, dd, y)
		}
		return fmt.Sprintf("%d %s %d", dd, name, y)
	case Weekday:
		if us {
			return fmt.Sprintf("%s, %s %d", weekdays[d.Weekday()], name, dd)
		}
		return fmt.Sprintf("%s %d %s", weekdays[d.Weekday()], dd, name)
	}
	if us {
		return fmt.Sprintf("%s %d, %d", name[:3], dd, y)
	}
	return fmt.Sprintf("%d %s %d", dd, name[:3], y)
}

// FormatMoment writes a moment: its day in the style, then the time.
func FormatMoment(w Wall, style DateStyle, l *Locale, o Order) string {
	h, m, _ := w.Clock()
	if style == ISO {
		return w.String()
	}
	return fmt.Sprintf("%s, %02d:%02d", FormatDay(w.Day, style, l, o), h, m)
}

// NumberFormat is a column's way of writing its numbers.
type NumberFormat struct {
	Decimals  *int   `json:"decimals,omitempty"`
	Thousands bool   `json:"thousands,omitempty"`
	Unit      string `json:"unit,omitempty"`     // after the number, with a space: "%", "kg"
	Currency  string `json:"currency,omitempty"` // before it: "£"
}

// FormatNumber writes a number: without a format no trailing zeros, with
// decimals halves go away from zero, thousands only where the format says so.
func FormatNumber(d decimal.Decimal, f NumberFormat, l *Locale) string {
	s := d.String()
	if f.Decimals != nil {
		s = d.StringFixed(int32(*f.Decimals))
	}
	neg := strings.HasPrefix(s, "-")
	whole, frac, has := strings.Cut(strings.TrimPrefix(s, "-"), ".")
	if has && f.Decimals == nil {
		frac = strings.TrimRight(frac, "0")
	}
	if neg && strings.Trim(whole+frac, "0") == "" {
		neg = false
	}
	point, thousands := ".", ","
	if l != nil {
		point, thousands = l.Decimal, l.Thousands
	}
	if f.Thousands {
		for i := len(whole) - 3; i > 0; i -= 3 {
			whole = whole[:i] + thousands + whole[i:]
		}
	}
	out := whole
	if frac != "" {
		out += point + frac
	}
	out = f.Currency + out
	if neg {
		out = "-" + out
	}
	if f.Unit != "" {
		out += "\u00a0" + f.Unit
	}
	return out
}
