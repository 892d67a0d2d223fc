package value

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/shopspring/decimal"
)

// Option is one option of a choice column. Its id stays when it is renamed.
type Option struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Reading says how text is to be read: the type, and what that type needs.
type Reading struct {
	Type    Type
	Locale  *Locale
	Order   Order          // date and moment; empty means the locale's
	Options []Option       // choice
	Zone    *time.Location // moment: the zone of instants written with an offset
	Format  NumberFormat   // number: a unit, currency or percent sign may stand there as it is written
}

// Lost stands in a text for what could not be read as characters (Unicode 16, 3.9): a cell that holds it is unreadable.
const Lost = utf8.RuneError

// Parse reads what a person typed as a cell. It never fails: text that does
// not parse comes back as an unreadable cell that keeps it to the letter.
func Parse(s string, r Reading) Value {
	v, err := Read(s, r)
	if err != nil {
		return Raw(r.Type, s)
	}
	return v
}

// Read reads s like Parse, but says in the error why it cannot be read.
func Read(s string, r Reading) (Value, error) {
	t := Trim(s)
	if t == "" {
		return Value{}, nil
	}
	if !utf8.ValidString(s) {
		return Value{}, errors.New("not valid text (UTF-8)")
	}
	if strings.ContainsRune(s, Lost) {
		return Value{}, errors.New("a character of it was lost where it was read")
	}
	switch r.Type {
	case Text:
		return OfText(t), nil
	case Number:
		d, err := parseFormatted(t, r)
		return OfNumber(d), err
	case Date:
		d, err := ParseDay(t, r.DateOrder())
		return OfDay(d), err
	case Moment:
		w, err := ParseMoment(t, r.DateOrder(), r.Zone)
		return OfMoment(w), err
	case YesNo:
		b, err := parseYesNo(t, r.Locale)
		return OfYesNo(b), err
	case Choice:
		f := Fold(t)
		for _, o := range r.Options {
			if Fold(o.Name) == f {
				return Value{State: Filled, Type: Choice, Str: o.ID}, nil
			}
		}
		return Value{}, fmt.Errorf("%q is none of the options", t)
	case Email:
		if _, err := ParseMailboxes(t); err != nil {
			return Value{}, err
		}
		return Value{State: Filled, Type: Email, Str: t}, nil
	case File:
		names, err := ParseFiles(t)
		return OfFiles(names...), err
	}
	return Value{}, fmt.Errorf("a cell cannot be read as %q", r.Type)
}

// DateOrder is the order in which dates are read: the column's own, else that of
// the locale.
func (r Reading) DateOrder() Order {
	if r.Order != "" {
		return r.Order
	}
	if r.Locale != nil {
		return r.Locale.DefaultOrder
	}
	return YearMonthDay
}

// parseFormatted reads a number, with the sign that the column's format writes
// beside it, or without.
func parseFormatted(s string, r Reading) (decimal.Decimal, error) {
	num, percent := s, false
	strip := func(sign string) {
		if sign == "" {
			return
		}
		neg := strings.HasPrefix(num, "-")
		body := strings.TrimPrefix(num, "-")
		if rest, ok := strings.CutSuffix(body, sign); ok {
			body = Trim(rest)
		} else if rest, ok := strings.CutPrefix(body, sign); ok {
			body = Trim(rest)
		} else {
			return
		}
		if num = body; neg {
			num = "-" + body
		}
	}
	if r.Format.Percent {
		own := Trim(strings.Replace(r.Locale.orEnglish().percent, "{n}", "", 1))
		for _, sign := range []string{"%", own} {
			if before := num; !percent {
				strip(sign)
				percent = num != before
			}
		}
	}
	strip(r.Format.Unit)
	strip(r.Format.Currency)
	d, err := ParseNumber(num, r.Locale)
	if err != nil {
		return d, fmt.Errorf("%q is not a number", s)
	}
	if percent {
		d = d.Shift(-2)
	}
	return d, nil
}

// ParseNumber reads an exact decimal: digits, the locale's thousands sign
// only between groups of three, its decimal sign with digits on both sides,
// a leading minus; no exponent.
func ParseNumber(s string, l *Locale) (decimal.Decimal, error) {
	l = l.orEnglish()
	fail := func() (decimal.Decimal, error) {
		return decimal.Decimal{}, fmt.Errorf("%q is not a number", s)
	}
	rest, neg := s, false
	if r, ok := strings.CutPrefix(rest, "-"); ok {
		rest, neg = r, true
	} else if r, ok := strings.CutPrefix(rest, "\u2212"); ok {
		rest, neg = r, true
	}
	whole, frac, hasFrac := strings.Cut(rest, l.Decimal)
	thousands := l.thousands[0]
	for _, t := range l.thousands {
		if strings.Contains(whole, t) {
			thousands = t
			break
		}
	}
	groups := strings.Split(whole, thousands)
	for i, g := range groups {
		if !digits(g) || len(groups) > 1 && len(g) != 3 && !(i == 0 && len(g) < 3) {
			return fail()
		}
	}
	whole = strings.Join(groups, "")
	if hasFrac && !digits(frac) {
		return fail()
	}
	if len(whole)+len(frac) > 60 {
		return decimal.Decimal{}, fmt.Errorf("%q has more than 60 digits", s)
	}
	text := whole
	if hasFrac {
		text += "." + frac
	}
	if neg {
		text = "-" + text
	}
	d, err := decimal.NewFromString(text)
	if err != nil {
		return fail()
	}
	return d, nil
}

func digits(s string) bool {
	if s == "" {
		return false
	}
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// ParseDay reads a calendar day: digits in the given order parted by one of
// "/", "." or "-", or YYYY-MM-DD. A two-digit year or a month's name is not
// read.
func ParseDay(s string, o Order) (Day, error) {
	fail := func(why string) (Day, error) { return 0, fmt.Errorf("%q is not a date: %s", s, why) }
	sep := ""
	for _, c := range []string{"/", ".", "-"} {
		if strings.Contains(s, c) {
			if sep != "" {
				return fail("it mixes separators")
			}
			sep = c
		}
	}
	parts := strings.Split(s, sep)
	if sep == "" || len(parts) != 3 {
		return fail("write it as day, month and year in digits")
	}
	n := [3]int{}
	for i, p := range parts {
		if !digits(p) || len(p) > 4 {
			return fail("write it as day, month and year in digits")
		}
		for _, c := range []byte(p) {
			n[i] = n[i]*10 + int(c-'0')
		}
	}
	iso := sep == "-" && len(parts[0]) == 4 && len(parts[1]) == 2 && len(parts[2]) == 2
	yearAt := 2
	if iso || o == YearMonthDay {
		yearAt = 0
	}
	for i, p := range parts {
		if i == yearAt && len(p) != 4 {
			return fail("the year needs four digits")
		}
		if i != yearAt && len(p) > 2 {
			return fail("the parts are in another order")
		}
	}
	y, m, d := n[0], n[1], n[2]
	switch {
	case yearAt == 0:
	case o == MonthDayYear:
		y, m, d = n[2], n[0], n[1]
	default:
		y, m, d = n[2], n[1], n[0]
	}
	return civil(s, y, m, d)
}

func civil(s string, y, m, d int) (Day, error) {
	if y < 1 {
		return 0, fmt.Errorf("%q is not a date: there is no year 0", s)
	}
	if m < 1 || m > 12 {
		return 0, fmt.Errorf("%q is not a date: there is no month %d", s, m)
	}
	day := DayOf(y, time.Month(m), d)
	if _, mm, dd := day.Date(); d < 1 || mm != time.Month(m) || dd != d {
		return 0, fmt.Errorf("%q is not a date: that month has no day %d", s, d)
	}
	return day, nil
}

// ParseMoment reads ISO 8601 (2027-03-29T14:30, with or without seconds and
// offset) or a date and HH:MM. With an offset or Z the instant is turned into
// the wall time of zone. A day without a time is not read.
func ParseMoment(s string, o Order, zone *time.Location) (Wall, error) {
	if zone == nil {
		zone = time.UTC
	}
	for _, layout := range []string{"2006-01-02T15:04:05Z07:00", "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, s); err == nil && t.Year() >= 1 {
			return WallAt(t.In(zone)), nil
		}
	}
	i := strings.LastIndexAny(s, "T \u00a0\u202f")
	half := ""
	if i >= 0 {
		if h := strings.ToUpper(Trim(s[i:])); h == "AM" || h == "PM" { // as en-US writes it
			half, s = h, Trim(s[:i])
			i = strings.LastIndexAny(s, " \u00a0\u202f")
		}
	}
	if i < 0 {
		return Wall{}, fmt.Errorf("%q has no time of day", s)
	}
	datePart, timePart := s[:i], Trim(strings.TrimPrefix(s[i:], "T"))
	day, err := ParseDay(strings.TrimSuffix(Trim(datePart), ","), o)
	if err != nil {
		return Wall{}, err
	}
	sec, err := ParseClock(timePart)
	if err != nil {
		return Wall{}, err
	}
	if half != "" {
		h := sec / 3600
		if h < 1 || h > 12 {
			return Wall{}, fmt.Errorf("%q is not a time of day", timePart)
		}
		sec -= h * 3600
		if h %= 12; half == "PM" {
			h += 12
		}
		sec += h * 3600
	}
	return Wall{Day: day, Second: sec}, nil
}

// ParseClock reads a time of day, HH:MM or HH:MM:SS, as seconds since
// midnight.
func ParseClock(s string) (int32, error) {
	fail := fmt.Errorf("%q is not a time of day; write it as 09:00", s)
	parts := strings.Split(s, ":")
	if len(parts) < 2 || len(parts) > 3 {
		return 0, fail
	}
	n := [3]int{}
	limit := [3]int{23, 59, 59}
	for i, p := range parts {
		if !digits(p) || len(p) > 2 || (i > 0 && len(p) != 2) {
			return 0, fail
		}
		for _, c := range []byte(p) {
			n[i] = n[i]*10 + int(c-'0')
		}
		if n[i] > limit[i] {
			return 0, fail
		}
	}
	return int32(n[0]*3600 + n[1]*60 + n[2]), nil
}

func parseYesNo(s string, l *Locale) (bool, error) {
	f := Fold(s)
	l = l.orEnglish()
	yes, no := append([]string{"yes", "true"}, l.yes...), append([]string{"no", "false"}, l.no...)
	for _, w := range yes {
		if f == w {
			return true, nil
		}
	}
	for _, w := range no {
		if f == w {
			return false, nil
		}
	}
	return false, fmt.Errorf("%q is neither yes nor no", s)
}
