package value

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/shopspring/decimal"
)

// Section 6: dates and numbers by CLDR in each locale.
func TestLocales(t *testing.T) {
	d := DayOf(2027, 3, 9)
	w := Wall{Day: d, Second: 14*3600 + 30*60}
	n := decimal.RequireFromString("1234567.5")
	two := 2
	for tag, want := range map[string][]string{
		"en-GB": {"09/03/2027", "9 Mar 2027", "9 March 2027", "Tuesday 9 March", "9 Mar 2027, 14:30", "1,234,567.50",
			"£1,234,567.5", "123456750%", "yes", "3 days"},
		"en-US": {"3/9/2027", "Mar 9, 2027", "March 9, 2027", "Tuesday, March 9", "Mar 9, 2027, 2:30 PM", "1,234,567.50",
			"£1,234,567.5", "123456750%", "yes", "3 days"},
		"de": {"9.3.2027", "09.03.2027", "9. März 2027", "Dienstag, 9. März", "09.03.2027, 14:30", "1.234.567,50",
			"1.234.567,5\u00a0£", "123456750\u00a0%", "ja", "3 Tage"},
		"fr": {"09/03/2027", "9 mars 2027", "9 mars 2027", "mardi 9 mars", "9 mars 2027, 14:30", "1\u202f234\u202f567,50",
			"1\u202f234\u202f567,5\u00a0£", "123456750\u202f%", "oui", "3 jours"},
		"es": {"9/3/2027", "9 mar 2027", "9 de marzo de 2027", "martes, 9 de marzo", "9 mar 2027, 14:30", "1.234.567,50",
			"1.234.567,5\u00a0£", "123456750\u00a0%", "sí", "3 días"},
		"nl": {"9-3-2027", "9 mrt 2027", "9 maart 2027", "dinsdag 9 maart", "9 mrt 2027, 14:30", "1.234.567,50",
			"£\u00a01.234.567,5", "123456750%", "ja", "3 dagen"},
		"ja": {"2027/3/9", "2027/03/09", "2027年3月9日", "3月9日火曜日", "2027/03/09 14:30", "1,234,567.50", "£1,234,567.5",
			"123456750%", "はい", "3 日"},
	} {
		l, err := FindLocale(tag)
		if err != nil {
			t.Fatal(err)
		}
		got := []string{FormatDay(d, Short, l, ""), FormatDay(d, Medium, l, ""), FormatDay(d, Long, l, ""),
			FormatDay(d, Weekday, l, ""), FormatMoment(w, Medium, l, ""),
			FormatNumber(n, NumberFormat{Thousands: true, Decimals: &two}, l),
			FormatNumber(n, NumberFormat{Thousands: true, Currency: "£"}, l),
			FormatNumber(n, NumberFormat{Percent: true}, l), l.YesNo(true), l.DayCount(3)}
		for i := range got {
			got[i] = strings.ReplaceAll(got[i], "mar.", "mar")
			if strings.ReplaceAll(got[i], "mrt.", "mrt") != want[i] {
				t.Errorf("%s: %q, want %q", tag, got[i], want[i])
			}
		}
	}
	es, _ := FindLocale("es")
	if got := FormatNumber(decimal.NewFromInt(1234), NumberFormat{Thousands: true}, es); got != "1234" {
		t.Errorf("Spanish groups from five digits on: %s", got)
	}
	if d := (*Locale)(nil).DayCount(1); d != "1 day" {
		t.Error(d)
	}
}

// What a locale writes it reads again, in every type.
func TestWhatIsWrittenIsRead(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for _, tag := range Locales() {
		l, _ := FindLocale(tag)
		plain := plainDate(l.patterns[Short])
		for range 40 {
			n := decimal.New(r.Int64N(2_000_000_000)-1_000_000_000, -int32(r.IntN(5)))
			f := []NumberFormat{{}, {Thousands: true}, {Unit: "kg"}, {Currency: "€", Thousands: true},
				{Percent: true}}[r.IntN(5)]
			text := FormatNumber(n, f, l)
			if v := Parse(text, Reading{Type: Number, Locale: l, Format: f}); !v.IsFilled() || !v.Num.Equal(n) {
				t.Fatalf("%s: %s was written %q and read as %+v", tag, n, text, v)
			}
			d := DayOf(1900+r.IntN(300), 1, 1+r.IntN(366))
			w := Wall{Day: d, Second: int32(r.IntN(1440) * 60)}
			for _, o := range []Order{"", DayMonthYear, MonthDayYear, YearMonthDay} {
				if o == "" && !plain {
					continue // a column has an order
				}
				if v := Parse(FormatDay(d, Short, l, o), Reading{Type: Date, Locale: l, Order: o}); !v.IsFilled() ||
					v.Wall.Day != d {
					t.Fatalf("%s, %s: %s was written %q", tag, o, d, FormatDay(d, Short, l, o))
				}
				if l.afternoon != "" {
					continue // typed moments are written with their hours and minutes
				}
				if v := Parse(FormatMoment(w, Short, l, o), Reading{Type: Moment, Locale: l, Order: o}); !v.IsFilled() ||
					v.Wall != w {
					t.Fatalf("%s, %s: %s was written %q and read as %+v", tag, o, w, FormatMoment(w, Short, l, o), v)
				}
			}
			if v := Parse(l.YesNo(d%2 == 0), Reading{Type: YesNo, Locale: l}); !v.IsFilled() || v.Yes != (d%2 == 0) {
				t.Fatalf("%s: yes and no", tag)
			}
		}
	}
}

// Section 1: thousands signs only in threes, the decimal sign with digits on
// both sides, in each locale's own signs.
func TestNumbersOfLocales(t *testing.T) {
	for _, c := range []struct{ tag, in, want string }{
		{"de", "1.234,5", "1234.5"}, {"de", "1,234.5", ""}, {"de", "12.34", ""}, {"de", "1.2345", ""},
		{"fr", "1 234,5", "1234.5"}, {"fr", "1\u00a0234\u00a0567", "1234567"},
		{"fr", "1 23", ""}, {"fr", "1\u202f234 567", ""}, {"nl", "0,5", "0.5"}, {"nl", ",5", ""}, {"es", "-1.000", "-1000"},
		{"ja", "1,000", "1000"}, {"de", "1e3", ""}, {"fr", "5,", ""},
	} {
		l, _ := FindLocale(c.tag)
		d, err := ParseNumber(c.in, l)
		if (err == nil) != (c.want != "") || err == nil && d.String() != c.want {
			t.Errorf("%s: %q is %s (%v), want %q", c.tag, c.in, d, err, c.want)
		}
	}
}

// Section 1: a region that is not known by itself is read as its language, an
// unknown language is refused.
func TestFindLocale(t *testing.T) {
	d, n := DayOf(2027, 3, 29), decimal.RequireFromString("1234.5")
	for tag, want := range map[string]string{
		"de-CH": "29. März 2027 1.234,5", "de-AT": "29. März 2027 1.234,5", "fr-CA": "29 mars 2027 1\u202f234,5",
		"en": "29 March 2027 1,234.5", "en-AU": "29 March 2027 1,234.5",
		"en_US": "March 29, 2027 1,234.5", "it": "29 marzo 2027 1.234,5", "it-CH": "29 marzo 2027 1.234,5",
		"pl": "29 marca 2027 1\u00a0234,5", "sv": "29 mars 2027 1\u00a0234,5",
		"hu": "2027. március 29. 1\u00a0234,5", "zh-TW": "2027年3月29日 1,234.5", "no": "29. mars 2027 1\u00a0234,5",
		"DE": "29. März 2027 1.234,5",
		"":   "", "xx": "", "xx-DE": "", "deutsch": "", "de-": "", "../de": "", "de CH": "",
	} {
		l, err := FindLocale(tag)
		if (err == nil) != (want != "") {
			t.Errorf("%q: %v", tag, err)
			continue
		}
		if err != nil {
			continue
		}
		if got := FormatDay(d, Long, l, "") + " " + FormatNumber(n, NumberFormat{Thousands: true}, l); got != want ||
			!strings.EqualFold(l.Tag, tag) {
			t.Errorf("%s (%s): %q, want %q", tag, l.Tag, got, want)
		}
	}
}

// Every locale is whole: names, patterns that can be written, signs that differ.
func TestEveryLocale(t *testing.T) {
	if len(Locales()) < 120 {
		t.Errorf("only %d locales", len(Locales()))
	}
	for _, tag := range Locales() {
		l, err := FindLocale(tag)
		if err != nil {
			t.Fatal(err)
		}
		for style, p := range l.patterns {
			if strings.Count(p, "'")%2 != 0 || !strings.Contains(p, "d") || style != Weekday && !strings.Contains(p, "y") ||
				style == Weekday && !strings.Contains(p, "E") {
				t.Errorf("%s: %s is %q", tag, style, p)
			}
		}
		if l.Name == "" || l.Own == "" || l.Decimal == l.Thousands || l.months[11] == "" || l.monthsShort[0] == "" ||
			l.weekdays[6] == "" || !l.DefaultOrder.Valid() ||
			!strings.Contains(l.currency, "{n}") || !strings.Contains(l.percent, "{n}") ||
			!strings.Contains(l.timePattern, "{m}") {
			t.Errorf("%s: %+v", tag, l)
		}
	}
}
