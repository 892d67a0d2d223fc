package value

import (
	"math/rand/v2"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
)

func read(t *testing.T, typ Type, text string) Value {
	t.Helper()
	return Parse(text, Reading{Type: typ, Order: DayMonthYear, Locale: gb(), Zone: time.UTC,
		Options: []Option{{ID: "o1", Name: "out"}, {ID: "o2", Name: "back"}}})
}

// Values of one kind have an order; those of different kinds, empty and
// unreadable ones have none.
func TestCompare(t *testing.T) {
	for _, c := range []struct {
		typ, with Type
		a, b      string
		want      int
		ok        bool
	}{
		{Number, Number, "1", "1.0", 0, true}, {Number, Number, "9", "10", -1, true}, {Number, Number, "-9", "-10", 1, true},
		{Date, Date, "28/03/2027", "29/03/2027", -1, true}, {Moment, Moment, "28/03/2027 10:00", "28/03/2027 09:59", 1,
			true},
		{Moment, Date, "28/03/2027 23:59", "28/03/2027", 0, true}, {Date, Moment, "29/03/2027", "28/03/2027 23:59", 1, true},
		{YesNo, YesNo, "no", "yes", -1, true}, {YesNo, YesNo, "yes", "no", 1, true}, {YesNo, YesNo, "yes", "yes", 0, true},
		{Text, Text, "Oak", "oak ", 0, true}, {Text, Email, "b", "a@b.example", 1, true},
		{Text, Text, "Åse", "Zoe", 1, true},
		{Number, Text, "1", "1", 0, false}, {Date, Number, "28/03/2027", "1", 0, false},
		{YesNo, Text, "yes", "yes", 0, false},
		{Number, Number, "", "1", 0, false}, {Number, Number, "damp", "1", 0, false}, {Number, Number, "1", "", 0, false},
	} {
		a, b := read(t, c.typ, c.a), read(t, c.with, c.b)
		got, ok := Compare(a, b)
		back, _ := Compare(b, a)
		if got != c.want || ok != c.ok || back != -got {
			t.Errorf("%s %q against %s %q: %d %v, backwards %d", c.typ, c.a, c.with, c.b, got, ok, back)
		}
	}
}

// What is the same need not be so to the letter; what is to the letter is.
func TestIdentical(t *testing.T) {
	for _, c := range []struct {
		typ             Type
		a, b            string
		same, identical bool
	}{
		{Text, "Oak", "Oak", true, true}, {Text, "Oak", "oak", true, false}, {Text, "Oak", "Tin", false, false},
		{Text, "", "", true, true}, {Text, "", "x", false, false},
		{Number, "1", "1.0", true, true}, {Number, "1", "2", false, false}, {Number, "damp", "damp", true, true},
		{Number, "damp", "dry", false, false}, {Number, "damp", "", false, false},
		{Date, "29/03/2027", "2027-03-29", true, true}, {Date, "29/03/2027", "30/03/2027", false, false},
		{Moment, "29/03/2027 10:00", "29/03/2027 10:00", true, true},
		{YesNo, "yes", "yes", true, true}, {YesNo, "yes", "no", false, false}, {Choice, "out", "OUT", true, true},
		{Choice, "out", "back", false, false},
		{Email, "a@b.example", "A@b.example", true, false},
	} {
		a, b := read(t, c.typ, c.a), read(t, c.typ, c.b)
		if Same(a, b) != c.same || Identical(a, b) != c.identical {
			t.Errorf("%s %q and %q: same %v, identical %v", c.typ, c.a, c.b, Same(a, b), Identical(a, b))
		}
	}
}

// Months are clamped to their ends, and there and back never goes forward.
func TestAddMonths(t *testing.T) {
	for _, c := range []struct {
		day  Day
		n    int
		want string
	}{
		{DayOf(2027, 1, 31), 1, "2027-02-28"}, {DayOf(2028, 1, 31), 1, "2028-02-29"}, {DayOf(2027, 3, 31), -1, "2027-02-28"},
		{DayOf(2027, 12, 15), 1, "2028-01-15"},
		{DayOf(2027, 1, 15), -1, "2026-12-15"}, {DayOf(2028, 2, 29), 12, "2029-02-28"},
		{DayOf(2028, 2, 29), 48, "2032-02-29"}, {DayOf(2027, 5, 31), 0, "2027-05-31"},
		{DayOf(2027, 5, 31), -3, "2027-02-28"},
	} {
		if got := c.day.AddMonths(c.n); got.String() != c.want {
			t.Errorf("%s and %d months is %s, want %s", c.day, c.n, got, c.want)
		}
	}
	r := rand.New(rand.NewPCG(4, 9))
	for range 3000 {
		d, n := DayOf(1970, 1, 1)+Day(r.IntN(40000)), r.IntN(600)-300
		x := d.AddMonths(n)
		_, wantMonth, dd := d.Date()
		_, month, xd := x.Date()
		if got := (int(wantMonth) - 1 + n%12 + 24) % 12; int(month)-1 != got || xd > dd || x.AddMonths(-n) > d ||
			d-x.AddMonths(-n) > 3 {
			t.Fatalf("%s and %d months is %s", d, n, x)
		}
	}
}

func TestWall(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	at := time.Date(2027, 6, 1, 22, 30, 15, 0, time.UTC)
	w := WallAt(at.In(london))
	if w.String() != "2027-06-01T23:30:15" || w.Day != DayOf(2027, 6, 1) ||
		!w.Time().Equal(time.Date(2027, 6, 1, 23, 30, 15, 0, time.UTC)) {
		t.Errorf("%s %s", w, w.Time())
	}
	if h, m, s := w.Clock(); h != 23 || m != 30 || s != 15 {
		t.Error(h, m, s)
	}
	list := []Wall{{DayOf(2027, 1, 2), 0}, {DayOf(2027, 1, 1), 86399}, {DayOf(2027, 1, 1), 0}}
	sort.Slice(list, func(i, j int) bool { return list[i].Compare(list[j]) < 0 })
	if list[0].Second != 0 || list[1].Second != 86399 || list[2].Day != DayOf(2027, 1, 2) ||
		list[0].Compare(list[0]) != 0 {
		t.Errorf("%v", list)
	}
}

// A column's way of writing numbers asks for one thing at a time, and is read
// again as it was written.
func TestNumberFormats(t *testing.T) {
	two, many := 2, 13
	for want, f := range map[string]NumberFormat{
		"": {Decimals: &two, Thousands: true, Unit: "kg"}, "not several": {Unit: "kg", Percent: true},
		"several": {Currency: "£", Unit: "kg"}, "from 0 to 12": {Decimals: &many},
	} {
		if err := f.Validate(); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", f, err, want)
		}
	}
	r := rand.New(rand.NewPCG(5, 5))
	for _, tag := range []string{"en-GB", "en-US", "de-DE", "fr-FR"} {
		l, err := FindLocale(tag)
		if err != nil {
			continue
		}
		for _, f := range []NumberFormat{{}, {Thousands: true}, {Unit: "kg"}, {Currency: "£", Thousands: true},
			{Percent: true}, {Decimals: &two, Thousands: true, Currency: "€"}} {
			for range 60 {
				d := decimal.New(r.Int64N(4_000_000_000)-2_000_000_000, int32(-r.IntN(5)))
				if f.Decimals != nil {
					d = d.Round(2)
				}
				text := FormatNumber(d, f, l)
				v := Parse(text, Reading{Type: Number, Locale: l, Format: f})
				if !v.IsFilled() || !v.Num.Equal(d) {
					t.Fatalf("%s %+v: %s is written %q and read %v", tag, f, d, text, v)
				}
			}
		}
	}
}

func TestKnownNames(t *testing.T) {
	for _, s := range []DateStyle{Short, Medium, Long, Weekday, ISO} {
		if !s.Valid() {
			t.Errorf("%q is no way to write a date", s)
		}
	}
	for _, o := range []Order{DayMonthYear, MonthDayYear, YearMonthDay} {
		if !o.Valid() {
			t.Errorf("%q is no order", o)
		}
	}
	if DateStyle("roman").Valid() || Order("year-day-month").Valid() {
		t.Error("an unknown name is taken")
	}
	if _, err := FindLocale("xx-XX"); err == nil {
		t.Error("an unknown locale was found")
	}
	if l, err := FindLocale("en"); err == nil && l.Tag == "" {
		t.Errorf("%+v", l)
	}
	r := Reading{Type: Date, Locale: gb()}
	if us, err := FindLocale("en-US"); err == nil {
		if r.DateOrder() != DayMonthYear || (Reading{Locale: us}).DateOrder() != MonthDayYear ||
			(Reading{}).DateOrder() != YearMonthDay ||
			(Reading{Order: MonthDayYear, Locale: gb()}).DateOrder() != MonthDayYear {
			t.Error("the order of dates")
		}
	}
}
