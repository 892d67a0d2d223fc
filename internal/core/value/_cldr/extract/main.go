// Command extract prints what the locales library says of the languages in all.
package main

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/go-playground/locales"
	"github.com/go-playground/locales/currency"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// entry is one language, as package value reads it.
type entry struct {
	Tag, Name, Own             string
	Decimal, Thousands         string
	MinGroup                   int `json:",omitempty"`
	Short, Medium, Long, Named string
	Morning, Afternoon         string
	Percent, Currency          string
	Months, MonthsShort        []string
	Weekdays                   []string
}

func main() {
	var out []entry
	for _, t := range all {
		if e, ok := of(t); ok {
			out = append(out, e)
		}
	}
	enc := json.NewEncoder(os.Stdout)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", " ")
	if err := enc.Encode(out); err != nil {
		panic(err)
	}
}

// of gives a language's entry; ok is false where the library has too little of
// it to write a date or a number.
func of(t locales.Translator) (e entry, ok bool) {
	defer func() { ok = recover() == nil && ok }()
	tag := strings.ReplaceAll(t.Locale(), "_", "-")
	lang := language.MustParse(tag)
	e = entry{Tag: tag, Name: display.English.Tags().Name(lang), Own: display.Self.Name(lang), Months: t.MonthsWide(),
		MonthsShort: t.MonthsAbbreviated(), Weekdays: t.WeekdaysWide()}
	if e.Own == "" {
		e.Own = e.Name
	}
	// In Friday 3 September 2027 all parts differ, and most languages shorten it.
	day := func(f func(time.Time) string) string {
		return pattern(f(time.Date(2027, 9, 3, 0, 0, 0, 0, time.UTC)), t)
	}
	e.Short, e.Medium, e.Long = day(t.FmtDateShort), day(t.FmtDateMedium), day(t.FmtDateLong)
	e.Named = withoutYear(day(t.FmtDateFull))
	e.Morning = clock(t.FmtTimeShort(time.Date(2027, 3, 9, 9, 5, 0, 0, time.UTC)), "09", "9")
	e.Afternoon = clock(t.FmtTimeShort(time.Date(2027, 3, 9, 14, 5, 0, 0, time.UTC)), "", "")
	if strings.Contains(e.Afternoon, "{h}") {
		e.Morning = strings.NewReplacer("{h24}", "{h}", "{H}", "{h}").Replace(e.Morning)
	}
	n := t.FmtNumber(1234567.5, 1)
	digits := regexp.MustCompile(`^1(\D*)234\D*567(\D*)5$`).FindStringSubmatch(n)
	e.Decimal, e.Thousands = ".", ","
	if digits != nil {
		e.Thousands, e.Decimal = digits[1], digits[2]
	}
	if e.Thousands == "" {
		e.Thousands = "\u00a0"
	}
	if t.FmtNumber(1234, 0) == "1234" {
		e.MinGroup = 2
	}
	e.Percent = strings.Replace(t.FmtPercent(45, 0), "45", "{n}", 1)
	// Which side the sign stands on, and whether a space parts the two; the library
	// adds a country's letters to foreign signs.
	money := t.FmtCurrency(7.5, 2, currency.GBP)
	sign, number := strings.IndexAny(money, "£G"), strings.Index(money, "7")
	e.Currency = "{c}{n}"
	spaced := strings.ContainsAny(money, " \u00a0\u202f")
	switch {
	case sign > number && number >= 0:
		e.Currency = "{n}\u00a0{c}"
	case spaced:
		e.Currency = "{c}\u00a0{n}"
	}
	if !strings.Contains(e.Percent, "{n}") {
		e.Percent = "{n}%"
	}
	ok = e.Decimal != e.Thousands && strings.Contains(e.Percent, "{n}") && strings.Trim(e.Percent, "{n} \u00a0") != "" &&
		strings.Contains(e.Morning, "{m}") && strings.Contains(e.Named, "E") &&
		strings.Contains(e.Short, "d") && strings.Contains(e.Short, "M") && strings.Contains(e.Short, "y") &&
		strings.Trim(e.Months[2], "M0123456789") != "" && strings.Trim(e.Weekdays[2], "0123456789") != "" &&
		strings.Contains(e.Long, "MMM") && strings.Contains(e.Named, "d") && e.Name != "" &&
		!strings.Contains(e.Name, "Unknown")
	return e, ok
}

// pattern turns a written Friday 3 September 2027 into a pattern of CLDR's letters.
func pattern(s string, t locales.Translator) string {
	var b strings.Builder
	text := ""
	flush := func() {
		if strings.IndexFunc(text, func(r rune) bool {
			return r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r > 127 && r != '\u00a0' && r != '\u202f'
		}) >= 0 {
			b.WriteString("'" + strings.ReplaceAll(text, "'", "’") + "'")
		} else {
			b.WriteString(strings.ReplaceAll(text, "'", "’"))
		}
		text = ""
	}
	for s != "" {
		found := false
		for _, x := range []struct{ is, letter string }{
			{"cccc", "E"}, {t.WeekdaysWide()[5], "E"}, {t.MonthsWide()[8], "MMMM"}, {t.MonthsAbbreviated()[8], "MMM"},
			{"2027", "y"}, {"27", "y"}, {"03", "dd"}, {"09", "MM"}, {"3", "d"}, {"9", "M"},
		} {
			if x.is != "" && strings.HasPrefix(s, x.is) {
				flush()
				b.WriteString(x.letter)
				s, found = s[len(x.is):], true
				break
			}
		}
		if !found {
			r := []rune(s)[0]
			text += string(r)
			s = s[len(string(r)):]
		}
	}
	flush()
	return b.String()
}

// year takes the year out of a full date, with what joins it to its neighbours.
var year = regexp.MustCompile(
	`(?:[ ,\x{a0}]+'?(?:de|del|do|di|da|d’|a|u|lo)?'? ?|'(?:[^']*? )?(?:de|del|do)[^']*')?y(?:(?:'[ ]?(?:г|р|гады|год|ж)?[.]?[^']*')|'年'|'년 '|'[^']*'|[ .,]+)?`)

func withoutYear(p string) string {
	out := year.ReplaceAllString(p, " ")
	out = regexp.MustCompile(`\s+`).ReplaceAllString(out, " ")
	if i := strings.LastIndex(out, "'"); strings.Count(out, "'")%2 == 1 {
		out = out[:i] // what the year leaves of a word, such as its era
	}
	return strings.Trim(out, " ,.")
}

// clock turns a written time, five minutes past the hour, into a pattern.
func clock(s, padded, bare string) string {
	s = strings.Replace(s, "05", "{m}", 1)
	switch {
	case padded != "" && strings.Contains(s, padded):
		return strings.Replace(s, padded, "{H}", 1)
	case bare != "" && strings.Contains(s, bare):
		return strings.Replace(s, bare, "{h24}", 1)
	case strings.Contains(s, "14"):
		return strings.Replace(s, "14", "{H}", 1)
	case strings.Contains(s, "02"):
		return strings.Replace(s, "02", "{h}", 1)
	}
	return strings.Replace(s, "2", "{h}", 1)
}
