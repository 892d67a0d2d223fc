package value

import (
	"fmt"
	"sort"
	"strings"

	"github.com/go-playground/locales"
	"github.com/go-playground/locales/de"
	"github.com/go-playground/locales/en_GB"
	"github.com/go-playground/locales/en_US"
	"github.com/go-playground/locales/es"
	"github.com/go-playground/locales/fr"
	"github.com/go-playground/locales/ja"
	"github.com/go-playground/locales/nl"
)

// Locale says how numbers and dates are read and written in one place. Names
// of months and weekdays come from CLDR by way of the locales library; the
// patterns are those of CLDR's yMd, medium, long and MMMMEEEEd formats, with
// the year always of four digits.
type Locale struct {
	Tag          string
	Decimal      string
	Thousands    string   // as written
	thousands    []string // as read, the written one first
	minGroup     int      // digits before the first group that thousands signs need (CLDR minimumGroupingDigits)
	DefaultOrder Order
	yes, no      []string // the first is written
	patterns     map[DateStyle]string
	timePattern  string // of a moment: {d} is its day
	percent      string // {n}
	currency     string // {c} and {n}
	days         [2]string
	months       [12]string
	monthsShort  [12]string
	weekdays     [7]string
}

// Order is the order of the digits in a written date.
type Order string

// The orders of a date's parts.
const (
	DayMonthYear Order = "day-month-year"
	MonthDayYear Order = "month-day-year"
	YearMonthDay Order = "year-month-day"
)

// Valid tells whether o is one of the three orders.
func (o Order) Valid() bool { return o == DayMonthYear || o == MonthDayYear || o == YearMonthDay }

const (
	nbsp  = "\u00a0"
	nnbsp = "\u202f"
)

// In patterns d and dd are the day of the month, M and MM the month, MMM and
// MMMM its names, y the year, E the weekday; what stands in quotes is text.
var localeList = []*Locale{
	{Tag: "en-GB", Decimal: ".", thousands: []string{","}, DefaultOrder: DayMonthYear, yes: []string{"yes"}, no: []string{"no"},
		patterns:    map[DateStyle]string{Short: "dd/MM/y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"day", "days"}},
	{Tag: "en-US", Decimal: ".", thousands: []string{","}, DefaultOrder: MonthDayYear, yes: []string{"yes"}, no: []string{"no"},
		patterns:    map[DateStyle]string{Short: "M/d/y", Medium: "MMM d, y", Long: "MMMM d, y", Weekday: "E, MMMM d"},
		timePattern: "{d}, {h}:{m} {a}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"day", "days"}},
	{Tag: "de", Decimal: ",", thousands: []string{"."}, DefaultOrder: DayMonthYear, yes: []string{"ja"}, no: []string{"nein"},
		patterns:    map[DateStyle]string{Short: "d.M.y", Medium: "dd.MM.y", Long: "d. MMMM y", Weekday: "E, d. MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}" + nbsp + "%", currency: "{n}" + nbsp + "{c}", days: [2]string{"Tag", "Tage"}},
	{Tag: "fr", Decimal: ",", thousands: []string{nnbsp, nbsp, " "}, DefaultOrder: DayMonthYear, yes: []string{"oui"}, no: []string{"non"},
		patterns:    map[DateStyle]string{Short: "dd/MM/y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}" + nnbsp + "%", currency: "{n}" + nbsp + "{c}", days: [2]string{"jour", "jours"}},
	{Tag: "es", Decimal: ",", thousands: []string{"."}, minGroup: 2, DefaultOrder: DayMonthYear, yes: []string{"sí", "si"}, no: []string{"no"},
		patterns:    map[DateStyle]string{Short: "d/M/y", Medium: "d MMM y", Long: "d 'de' MMMM 'de' y", Weekday: "E, d 'de' MMMM"},
		timePattern: "{d}, {h24}:{m}", percent: "{n}" + nbsp + "%", currency: "{n}" + nbsp + "{c}", days: [2]string{"día", "días"}},
	{Tag: "nl", Decimal: ",", thousands: []string{"."}, DefaultOrder: DayMonthYear, yes: []string{"ja"}, no: []string{"nee"},
		patterns:    map[DateStyle]string{Short: "d-M-y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}%", currency: "{c}" + nbsp + "{n}", days: [2]string{"dag", "dagen"}},
	{Tag: "ja", Decimal: ".", thousands: []string{","}, DefaultOrder: YearMonthDay, yes: []string{"はい"}, no: []string{"いいえ"},
		patterns:    map[DateStyle]string{Short: "y/M/d", Medium: "y/MM/dd", Long: "y'年'M'月'd'日'", Weekday: "M'月'd'日'E"},
		timePattern: "{d} {h24}:{m}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"日", "日"}},
}

var localesByTag = map[string]*Locale{}

func init() {
	cldr := map[string]locales.Translator{"en-GB": en_GB.New(), "en-US": en_US.New(), "de": de.New(), "fr": fr.New(), "es": es.New(), "nl": nl.New(), "ja": ja.New()}
	for _, l := range localeList {
		t := cldr[l.Tag]
		copy(l.months[:], t.MonthsWide())
		copy(l.monthsShort[:], t.MonthsAbbreviated())
		copy(l.weekdays[:], t.WeekdaysWide())
		l.Thousands = l.thousands[0]
		localesByTag[strings.ToLower(l.Tag)] = l
	}
	// CLDR shortens September in en-GB to "Sept"; Nivot, as its contract says,
	// to "Sep".
	localesByTag["en-gb"].monthsShort[8] = "Sep"
}

// FindLocale gives the locale of a BCP 47 tag that Nivot knows.
func FindLocale(tag string) (*Locale, error) {
	if l, ok := localesByTag[strings.ToLower(tag)]; ok {
		return l, nil
	}
	return nil, fmt.Errorf("locale %q is not known; use one of %s", tag, strings.Join(Locales(), ", "))
}

// Locales lists the tags of the known locales in order.
func Locales() []string {
	tags := make([]string, 0, len(localeList))
	for _, l := range localeList {
		tags = append(tags, l.Tag)
	}
	sort.Strings(tags)
	return tags
}

// orEnglish stands in where no locale is given.
func (l *Locale) orEnglish() *Locale {
	if l == nil {
		return localeList[0]
	}
	return l
}

// YesNo writes a yes/no value in the locale's words.
func (l *Locale) YesNo(yes bool) string {
	l = l.orEnglish()
	if yes {
		return l.yes[0]
	}
	return l.no[0]
}

// DayCount writes a number of days: "7 days".
func (l *Locale) DayCount(n int) string {
	l = l.orEnglish()
	word := l.days[1]
	if n == 1 || n == -1 || n == 0 && l.Tag == "fr" {
		word = l.days[0]
	}
	return fmt.Sprintf("%d %s", n, word)
}
