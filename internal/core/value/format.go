package value

import (
	"fmt"
	"strconv"
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
	l = l.orEnglish()
	if style == ISO {
		return d.String()
	}
	pattern := l.patterns[style]
	if pattern == "" {
		pattern = l.patterns[Medium]
	}
	if style == Short && o != "" && (o != l.DefaultOrder || !plainDate(pattern)) {
		switch o {
		case YearMonthDay:
			return d.String()
		case DayMonthYear:
			pattern = "dd/MM/y"
		case MonthDayYear:
			pattern = "MM/dd/y"
		}
	}
	var b strings.Builder
	l.write(&b, pattern, d)
	return b.String()
}

// plainDate reports whether a pattern writes a date that can be read again:
// digits parted by one of / . -.
func plainDate(pattern string) bool {
	return strings.Trim(pattern, "dMy/.-") == "" && strings.Count(pattern, "M") < 3 && !strings.HasSuffix(pattern, ".")
}

// write writes a day by a pattern of CLDR (UTS 35, part 4).
func (l *Locale) write(b *strings.Builder, pattern string, d Day) {
	y, m, dd := d.Date()
	for i := 0; i < len(pattern); {
		c := pattern[i]
		n := 1
		for i+n < len(pattern) && pattern[i+n] == c && c != '\'' {
			n++
		}
		switch c {
		case 'd':
			digitsInto(b, dd, n)
		case 'M':
			switch n {
			case 3:
				b.WriteString(l.monthsShort[m-1])
			case 4:
				b.WriteString(l.months[m-1])
			default:
				digitsInto(b, int(m), n)
			}
		case 'y':
			digitsInto(b, y, 4)
		case 'E':
			b.WriteString(l.weekdays[d.Weekday()])
		case '\'':
			end := strings.IndexByte(pattern[i+1:], '\'')
			b.WriteString(pattern[i+1 : i+1+end])
			n = end + 2
		default:
			b.WriteString(pattern[i : i+n])
		}
		i += n
	}
}

func digitsInto(b *strings.Builder, v, width int) {
	s := strconv.Itoa(v)
	for k := len(s); k < width; k++ {
		b.WriteByte('0')
	}
	b.WriteString(s)
}

// FormatMoment writes a moment: its day in the style, then the time.
func FormatMoment(w Wall, style DateStyle, l *Locale, o Order) string {
	if style == ISO {
		h, m, _ := w.Clock()
		return fmt.Sprintf("%s, %02d:%02d", w.Day, h, m)
	}
	l = l.orEnglish()
	h, m, _ := w.Clock()
	twelve, half := h%12, "AM"
	if twelve == 0 {
		twelve = 12
	}
	if h >= 12 {
		half = "PM"
	}
	return strings.NewReplacer("{d}", FormatDay(w.Day, style, l, o), "{H}", fmt.Sprintf("%02d", h), "{h24}",
		strconv.Itoa(h),
		"{h}", strconv.Itoa(twelve), "{m}", fmt.Sprintf("%02d", m), "{a}", half).Replace(l.clock(h))
}

// clock is the pattern of a moment at an hour.
func (l *Locale) clock(hour int) string {
	if hour >= 12 && l.afternoon != "" {
		return l.afternoon
	}
	return l.timePattern
}

// NumberFormat is a column's way of writing its numbers.
type NumberFormat struct {
	Decimals  *int   `json:"decimals,omitempty"`
	Thousands bool   `json:"thousands,omitempty"`
	Unit      string `json:"unit,omitempty"`     // after the number, with a space: "kg"
	Currency  string `json:"currency,omitempty"` // where the locale puts it: "£"
	Percent   bool   `json:"percent,omitempty"`  // 0.45 is written 45%
}

// Validate checks that a format asks for one thing at a time.
func (f NumberFormat) Validate() error {
	n := 0
	for _, on := range []bool{f.Unit != "", f.Currency != "", f.Percent} {
		if on {
			n++
		}
	}
	if n > 1 {
		return fmt.Errorf("a number has a unit, a currency or a percent sign, not several of them")
	}
	if f.Decimals != nil && (*f.Decimals < 0 || *f.Decimals > 12) {
		return fmt.Errorf("decimals go from 0 to 12")
	}
	return nil
}

// FormatNumber writes a number: without a format no trailing zeros, with
// decimals halves go away from zero, thousands only where the format says so.
func FormatNumber(d decimal.Decimal, f NumberFormat, l *Locale) string {
	l = l.orEnglish()
	if f.Percent {
		d = d.Shift(2)
	}
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
	if f.Thousands && len(whole) >= 3+max(l.minGroup, 1) {
		for i := len(whole) - 3; i > 0; i -= 3 {
			whole = whole[:i] + l.Thousands + whole[i:]
		}
	}
	out := whole
	if frac != "" {
		out += l.Decimal + frac
	}
	switch {
	case f.Currency != "":
		out = strings.NewReplacer("{n}", out, "{c}", f.Currency).Replace(l.currency)
	case f.Percent:
		out = strings.Replace(l.percent, "{n}", out, 1)
	case f.Unit != "":
		out += nbsp + f.Unit
	}
	if neg {
		out = "-" + out
	}
	return out
}
