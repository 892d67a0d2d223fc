package value

import (
	_ "embed" // locales.json
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Locale says how numbers and dates are read and written in one place. Names
// of months and weekdays come from CLDR by way of the locales library; the
// patterns are those of CLDR's yMd, medium, long and MMMMEEEEd formats, with
// the year always of four digits.
type Locale struct {
	Tag          string
	Name         string // of the language, in English
	Own          string // the same, in itself
	Decimal      string
	Thousands    string   // as written
	thousands    []string // as read, the written one first
	minGroup     int      // digits before the first group that thousands signs need (CLDR minimumGroupingDigits)
	DefaultOrder Order
	yes, no      []string // the first is written
	patterns     map[DateStyle]string
	timePattern  string // of a moment: {d} is its day
	afternoon    string // the same after noon, where it differs; "" where not
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
	{Tag: "en-GB", Name: "British English", Decimal: ".", thousands: []string{","}, DefaultOrder: DayMonthYear,
		yes: []string{"yes"}, no: []string{"no"},
		patterns:    map[DateStyle]string{Short: "dd/MM/y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"day", "days"}},
	{Tag: "en-US", Name: "American English", Decimal: ".", thousands: []string{","}, DefaultOrder: MonthDayYear,
		yes: []string{"yes"}, no: []string{"no"},
		patterns:    map[DateStyle]string{Short: "M/d/y", Medium: "MMM d, y", Long: "MMMM d, y", Weekday: "E, MMMM d"},
		timePattern: "{d}, {h}:{m} {a}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"day", "days"}},
	{Tag: "de", Decimal: ",", thousands: []string{"."}, DefaultOrder: DayMonthYear, yes: []string{"ja"},
		no:          []string{"nein"},
		patterns:    map[DateStyle]string{Short: "d.M.y", Medium: "dd.MM.y", Long: "d. MMMM y", Weekday: "E, d. MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}" + nbsp + "%", currency: "{n}" + nbsp + "{c}",
		days: [2]string{"Tag", "Tage"}},
	{Tag: "fr", Decimal: ",", thousands: []string{nnbsp, nbsp, " "}, DefaultOrder: DayMonthYear, yes: []string{"oui"},
		no:          []string{"non"},
		patterns:    map[DateStyle]string{Short: "dd/MM/y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}" + nnbsp + "%", currency: "{n}" + nbsp + "{c}",
		days: [2]string{"jour", "jours"}},
	{Tag: "es", Decimal: ",", thousands: []string{"."}, minGroup: 2, DefaultOrder: DayMonthYear,
		yes: []string{"sí", "si"}, no: []string{"no"},
		patterns: map[DateStyle]string{Short: "d/M/y", Medium: "d MMM y", Long: "d 'de' MMMM 'de' y",
			Weekday: "E, d 'de' MMMM"},
		timePattern: "{d}, {h24}:{m}", percent: "{n}" + nbsp + "%", currency: "{n}" + nbsp + "{c}",
		days: [2]string{"día", "días"}},
	{Tag: "nl", Decimal: ",", thousands: []string{"."}, DefaultOrder: DayMonthYear, yes: []string{"ja"},
		no:          []string{"nee"},
		patterns:    map[DateStyle]string{Short: "d-M-y", Medium: "d MMM y", Long: "d MMMM y", Weekday: "E d MMMM"},
		timePattern: "{d}, {H}:{m}", percent: "{n}%", currency: "{c}" + nbsp + "{n}", days: [2]string{"dag", "dagen"}},
	{Tag: "ja", Decimal: ".", thousands: []string{","}, DefaultOrder: YearMonthDay, yes: []string{"はい"},
		no:          []string{"いいえ"},
		patterns:    map[DateStyle]string{Short: "y/M/d", Medium: "y/MM/dd", Long: "y'年'M'月'd'日'", Weekday: "M'月'd'日'E"},
		timePattern: "{d} {h24}:{m}", percent: "{n}%", currency: "{c}{n}", days: [2]string{"日", "日"}},
}

// locales.json holds what CLDR says of all languages of the locales library, as
// _cldr writes it.
//
//go:embed locales.json
var localesJSON []byte

var localesByTag = map[string]*Locale{}

func init() {
	var all []struct {
		Tag, Name, Own             string
		Decimal, Thousands         string
		MinGroup                   int
		Short, Medium, Long, Named string
		Morning, Afternoon         string
		Percent, Currency          string
		Months, MonthsShort        []string
		Weekdays                   []string
	}
	if err := json.Unmarshal(localesJSON, &all); err != nil {
		panic(err) // it is written by a program and tested
	}
	for _, e := range all {
		l := &Locale{Tag: e.Tag, Name: e.Name, Own: e.Own, Decimal: e.Decimal, thousands: spaces(e.Thousands),
			minGroup: e.MinGroup, DefaultOrder: orderOf(e.Short),
			patterns:    map[DateStyle]string{Short: e.Short, Medium: e.Medium, Long: e.Long, Weekday: e.Named},
			timePattern: "{d}, " + e.Morning, afternoon: "{d}, " + e.Afternoon, percent: e.Percent, currency: e.Currency}
		copy(l.months[:], e.Months)
		copy(l.monthsShort[:], e.MonthsShort)
		copy(l.weekdays[:], e.Weekdays)
		localesByTag[strings.ToLower(l.Tag)] = l
	}
	for _, l := range localeList {
		t := localesByTag[strings.ToLower(l.Tag)]
		if t == nil {
			t = localesByTag["en"] // en-GB and en-US write the same months and weekdays
		}
		l.months, l.monthsShort, l.weekdays, l.Own = t.months, t.monthsShort, t.weekdays, t.Own
		if l.Name == "" {
			l.Name = t.Name
		}
		localesByTag[strings.ToLower(l.Tag)] = l
	}
	delete(localesByTag, "en") // it is read as en-GB
	for tag, w := range ownWords {
		l := localesByTag[tag]
		l.yes, l.no, l.days = []string{w[0]}, []string{w[1]}, [2]string{w[2], w[3]}
	}
	for _, l := range localesByTag {
		l.Thousands = l.thousands[0]
		if l.yes == nil { // its words are not known here: those that everybody may type
			l.yes, l.no, l.days = []string{"yes"}, []string{"no"}, [2]string{"day", "days"}
		}
		tags = append(tags, l.Tag)
	}
	sort.Strings(tags)
}

// spaces gives how a thousands sign is read, the written one first: where it is
// a space, any of them.
func spaces(sign string) []string {
	switch sign {
	case " ", nbsp, nnbsp:
		out := []string{sign}
		for _, s := range []string{nnbsp, nbsp, " "} {
			if s != sign {
				out = append(out, s)
			}
		}
		return out
	}
	return []string{sign}
}

// orderOf reads the order of a date's parts off a pattern.
func orderOf(pattern string) Order {
	d, m, y := strings.IndexByte(pattern, 'd'), strings.IndexByte(pattern, 'M'), strings.IndexByte(pattern, 'y')
	switch {
	case y < d:
		return YearMonthDay
	case m < d:
		return MonthDayYear
	}
	return DayMonthYear
}

// ownWords are yes, no, day and days in languages whose words are known here;
// CLDR's library has none.
var ownWords = map[string][4]string{
	"it": {"sì", "no", "giorno", "giorni"}, "pt": {"sim", "não", "dia", "dias"}, "pt-pt": {"sim", "não", "dia", "dias"},
	"ca": {"sí", "no", "dia", "dies"},
	"gl": {"si", "non", "día", "días"}, "eu": {"bai", "ez", "egun", "egun"}, "ro": {"da", "nu", "zi", "zile"},
	"sv": {"ja", "nej", "dag", "dagar"},
	"da": {"ja", "nej", "dag", "dage"}, "nb": {"ja", "nei", "dag", "dager"}, "nn": {"ja", "nei", "dag", "dagar"},
	"is": {"já", "nei", "dagur", "dagar"},
	"fi": {"kyllä", "ei", "päivä", "päivää"}, "et": {"jah", "ei", "päev", "päeva"}, "lv": {"jā", "nē", "diena", "dienas"},
	"lt": {"taip", "ne", "diena", "dienos"},
	"pl": {"tak", "nie", "dzień", "dni"}, "cs": {"ano", "ne", "den", "dní"}, "sk": {"áno", "nie", "deň", "dní"},
	"sl": {"da", "ne", "dan", "dni"},
	"hr": {"da", "ne", "dan", "dana"}, "hu": {"igen", "nem", "nap", "nap"}, "bg": {"да", "не", "ден", "дни"},
	"mk": {"да", "не", "ден", "дена"},
	"sr": {"да", "не", "дан", "дана"}, "ru": {"да", "нет", "день", "дней"}, "uk": {"так", "ні", "день", "днів"},
	"el": {"ναι", "όχι", "ημέρα", "ημέρες"},
	"tr": {"evet", "hayır", "gün", "gün"}, "cy": {"ie", "na", "diwrnod", "diwrnod"}, "af": {"ja", "nee", "dag", "dae"},
	"sq": {"po", "jo", "ditë", "ditë"}, "id": {"ya", "tidak", "hari", "hari"}, "ms": {"ya", "tidak", "hari", "hari"},
	"vi": {"có", "không", "ngày", "ngày"},
	"th": {"ใช่", "ไม่", "วัน", "วัน"}, "zh": {"是", "否", "天", "天"}, "zh-hant": {"是", "否", "天", "天"},
	"ko": {"예", "아니요", "일", "일"},
	"ar": {"نعم", "لا", "يوم", "أيام"}, "he": {"כן", "לא", "יום", "ימים"}, "fa": {"بله", "خیر", "روز", "روز"},
	"hi": {"हाँ", "नहीं", "दिन", "दिन"},
	"sw": {"ndiyo", "hapana", "siku", "siku"}, "lb": {"jo", "nee", "Dag", "Deeg"}, "eo": {"jes", "ne", "tago", "tagoj"},
}

var tags []string

// sameAs are tags that are read as another one.
var sameAs = map[string]string{"en": "en-GB", "no": "nb", "zh-tw": "zh-Hant", "zh-hk": "zh-Hant", "zh-mo": "zh-Hant",
	"iw": "he", "in": "id"}

// FindLocale gives the locale of a BCP 47 tag. A region or script that is not
// known by itself is read as its language; an unknown language is refused. The
// locale keeps the tag as it was given.
func FindLocale(tag string) (*Locale, error) {
	for t := strings.ToLower(strings.ReplaceAll(tag, "_", "-")); t != "" &&
		wellFormed(t); t = t[:max(strings.LastIndexByte(t, '-'), 0)] {
		if same, ok := sameAs[t]; ok {
			t = strings.ToLower(same)
		}
		if l, ok := localesByTag[t]; ok {
			if strings.EqualFold(l.Tag, tag) {
				return l, nil
			}
			own := *l
			own.Tag = tag
			return &own, nil
		}
	}
	return nil, fmt.Errorf("locale %q is not known; it is a language, such as en-GB, de or fr, perhaps with a region",
		tag)
}

// wellFormed reports whether a tag is subtags of letters and digits (BCP 47,
// section 2.1), the first of two or three letters.
func wellFormed(tag string) bool {
	for i, part := range strings.Split(tag, "-") {
		if len(part) == 0 || len(part) > 8 || i == 0 && (len(part) < 2 || len(part) > 3) {
			return false
		}
		for _, c := range part {
			if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' && i > 0) {
				return false
			}
		}
	}
	return true
}

// Locales lists the tags of the known locales in order.
func Locales() []string { return slices.Clone(tags) }

// sundayFirst and saturdayFirst are the locales in which a week begins on these
// days (CLDR, weekData); in all others it begins on Monday.
var (
	sundayFirst = []string{"en-US", "ja", "ko", "zh-Hant", "pt", "he", "hi", "th", "id", "bn", "ta", "te", "mr", "gu",
		"kn", "ml", "pa", "ur"}
	saturdayFirst = []string{"ar", "fa", "ps"}
)

// WeekStart gives the day that a week begins with, 0 being Sunday.
func (l *Locale) WeekStart() int {
	l = l.orEnglish()
	for _, tags := range []struct {
		list []string
		day  int
	}{{sundayFirst, 0}, {saturdayFirst, 6}} {
		for _, tag := range tags.list {
			if l.Tag == tag || strings.HasPrefix(l.Tag, tag+"-") && tag != "pt" {
				return tags.day
			}
		}
	}
	return 1
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
	if n == 1 || n == -1 || n == 0 && strings.HasPrefix(l.Tag, "fr") {
		word = l.days[0]
	}
	return fmt.Sprintf("%d %s", n, word)
}

// rightToLeft are the languages whose usual script runs from right to left; a
// script in the tag says otherwise.
var rightToLeft = []string{"ar", "he", "fa", "ur", "ps", "sd", "ug", "yi", "dv", "ckb"}

// RightToLeft reports whether lines run from right to left (UAX 9).
func (l *Locale) RightToLeft() bool {
	if l == nil {
		return false
	}
	parts := strings.Split(strings.ToLower(strings.ReplaceAll(l.Tag, "_", "-")), "-")
	for _, p := range parts[1:] {
		if len(p) == 4 {
			return p == "arab" || p == "hebr"
		}
	}
	return slices.Contains(rightToLeft, parts[0])
}
