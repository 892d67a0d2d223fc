package value

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
)

func gb() *Locale { l, _ := FindLocale("en-GB"); return l }

// Section 1: how each type is read. "" stands for unreadable.
func TestRead(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	options := []Option{{"o1", "Asked for"}, {"o2", "out"}, {"o3", "STRASSE"}}
	for _, c := range []struct {
		typ   Type
		order Order
		in    string
		want  string
	}{
		{Text, "", "\u00a0 a\nb \t", "a\nb"},
		{Number, "", "1,234.50", "1234.5"},
		{Number, "", "1234", "1234"},
		{Number, "", "-0.5", "-0.5"},
		{Number, "", "1,23", ""},
		{Number, "", "12,34,567", ""},
		{Number, "", ",123", ""},
		{Number, "", ".5", ""},
		{Number, "", "5.", ""},
		{Number, "", "1e3", ""},
		{Number, "", "1.2.3", ""},
		{Number, "", "1,234.5,6", ""},
		{Number, "", "--1", ""},
		{Number, "", strings.Repeat("9", 61), ""},
		{Date, DayMonthYear, "29/03/2027", "2027-03-29"},
		{Date, DayMonthYear, "29.3.2027", "2027-03-29"},
		{Date, DayMonthYear, "29-03-2027", "2027-03-29"},
		{Date, DayMonthYear, "2027-03-29", "2027-03-29"},
		{Date, DayMonthYear, "2027/03/29", ""},
		{Date, YearMonthDay, "2027/3/9", "2027-03-09"},
		{Date, MonthDayYear, "03/29/2027", "2027-03-29"},
		{Date, DayMonthYear, "03/29/2027", ""},
		{Date, DayMonthYear, "29/03/27", ""},
		{Date, DayMonthYear, "29 March 2027", ""},
		{Date, DayMonthYear, "29/03.2027", ""},
		{Date, DayMonthYear, "29/02/2027", ""},
		{Date, DayMonthYear, "29/02/2028", "2028-02-29"},
		{Date, DayMonthYear, "0/1/2027", ""},
		{Date, DayMonthYear, "soon", ""},
		{Moment, DayMonthYear, "29/03/2027 14:30", "2027-03-29T14:30"},
		{Moment, DayMonthYear, "29/03/2027, 14:30", "2027-03-29T14:30"},
		{Moment, DayMonthYear, "2027-03-29T14:30:05", "2027-03-29T14:30:05"},
		{Moment, DayMonthYear, "2027-03-29T14:30:00Z", "2027-03-29T15:30"}, // summer time in the sheet's zone
		{Moment, DayMonthYear, "2027-03-29T14:30+02:00", "2027-03-29T13:30"},
		{Moment, DayMonthYear, "29/03/2027", ""},
		{Moment, DayMonthYear, "29/03/2027 24:00", ""},
		{YesNo, "", "YES", "yes"},
		{YesNo, "", "false", "no"},
		{YesNo, "", "y", ""},
		{Choice, "", " asked FOR ", "o1"},
		{Choice, "", "stra\u00dfe", "o3"},
		{Choice, "", "gone", ""},
		{Email, "", "ada@fenwick-hall.example", "ada@fenwick-hall.example"},
		{Email, "", "gus.tarn@harrowfield,example", ""},
	} {
		v := Parse(c.in, Reading{Type: c.typ, Locale: gb(), Order: c.order, Options: options, Zone: london})
		got := show(v)
		if v.IsUnreadable() {
			if got = ""; v.Str != c.in {
				t.Errorf("%s %q: the raw text became %q", c.typ, c.in, v.Str)
			}
		}
		if got != c.want {
			t.Errorf("%s %q: %q, want %q", c.typ, c.in, got, c.want)
		}
	}
	if v := Parse(" \u00a0\n", Reading{Type: Number}); !v.IsEmpty() {
		t.Error("white space is not empty")
	}
}

func show(v Value) string {
	switch v.Type {
	case Number:
		return v.Num.String()
	case Date:
		return v.Wall.Day.String()
	case Moment:
		return v.Wall.String()
	case YesNo:
		return map[bool]string{true: "yes", false: "no"}[v.Yes]
	}
	return v.Str
}

// Section 6: how dates and numbers are written.
func TestFormat(t *testing.T) {
	d := DayOf(2027, 3, 29)
	for style, want := range map[DateStyle]string{Short: "29/03/2027", Medium: "29 Mar 2027", Long: "29 March 2027",
		Weekday: "Monday 29 March", ISO: "2027-03-29"} {
		if got := FormatDay(d, style, gb(), ""); got != want {
			t.Errorf("%s: %q, want %q", style, got, want)
		}
	}
	if got := FormatDay(DayOf(2027, 9, 3), Medium, gb(), ""); got != "3 Sep 2027" {
		t.Error(got)
	}
	if got := FormatMoment(Wall{d, 14*3600 + 30*60}, Weekday, gb(), ""); got != "Monday 29 March, 14:30" {
		t.Error(got)
	}
	two, none := 2, 0
	for _, c := range []struct {
		n    string
		f    NumberFormat
		want string
	}{
		{"52.50", NumberFormat{}, "52.5"}, {"56.0", NumberFormat{}, "56"}, {"1234567.5", NumberFormat{}, "1234567.5"},
		{"1234567.5", NumberFormat{Thousands: true}, "1,234,567.5"}, {"2.345", NumberFormat{Decimals: &two}, "2.35"},
		{"-2.345", NumberFormat{Decimals: &two}, "-2.35"}, {"0.5", NumberFormat{Decimals: &none}, "1"},
		{"-0.4", NumberFormat{Decimals: &none}, "0"},
		{"4200", NumberFormat{Currency: "£", Thousands: true}, "£4,200"}, {"-5", NumberFormat{Currency: "£"}, "-£5"},
		{"61", NumberFormat{Unit: "%"}, "61\u00a0%"},
	} {
		if got := FormatNumber(decimal.RequireFromString(c.n), c.f, gb()); got != c.want {
			t.Errorf("%s: %q, want %q", c.n, got, c.want)
		}
	}
}

func TestMailboxes(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"a@b.example", "a@b.example"},
		{"ben@pellgate.example; Front Desk <desk@pellgate.example>",
			"ben@pellgate.example|Front Desk <desk@pellgate.example>"},
		{"a@b.example,,\n; c@d.example", "a@b.example|c@d.example"},
		{"R. Moss <r@b.example>", `"R. Moss" <r@b.example>`},
		{`"Moss, R." <r@b.example>`, `"Moss, R." <r@b.example>`},
		{`"a \"b\"" <r@b.example>`, `"a \"b\"" <r@b.example>`},
		{"Müller <m@bücher.example>", "Müller <m@bücher.example>"},
		{`"odd name"@b.example`, `"odd name"@b.example`},
		{"a@b.example (the desk)", "a@b.example"},
		{"a@b.example <c@d.example>", ""},
		{"a.@b.example", ""}, {"a..b@c.example", ""}, {"@b.example", ""}, {"a@", ""}, {"a b@c.example", ""},
		{"a@b@c.example", ""},
		{"a@-b.example", ""}, {"a@b..example", ""}, {`"a@b.example`, ""}, {"<a@b.example", ""}, {"a@b.example\x00", ""},
		{"ünal@b.example", ""}, {strings.Repeat("a", 65) + "@b.example", ""}, {"good@b.example, bad", ""}, {"; ,", ""},
		{"a@b\u200b.example", ""}, {"a@b\u00ad.example", ""}, {"a@b\u2060.example", ""}, {"a@\ufeffb.example", ""},
		{"a@b\u200d.example", ""}, {"a@b.exa\u034fmple", ""}, {"Ada <a@b\ufe0f.example>", ""}, {"a@bü\u200c.example", ""},
		{"a@b\xff.example", ""}, {"a\xff@b.example", ""},
	} {
		boxes, err := ParseMailboxes(c.in)
		var out []string
		for _, b := range boxes {
			out = append(out, b.String())
		}
		if got := strings.Join(out, "|"); got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%q: %q (%v), want %q", c.in, got, err, c.want)
		}
	}
	b, _ := ParseMailboxes("M@Bücher.example")
	if b[0].ASCII() != "M@xn--bcher-kva.example" || b[0].Key() != "m@xn--bcher-kva.example" {
		t.Error(b[0].ASCII(), b[0].Key())
	}
}

// What a mailbox list parses to parses again to the same, and holds nothing
// that could end a header or an SMTP command.
func FuzzMailboxes(f *testing.F) {
	for _, s := range []string{"a@b.example", `"x, y" <a@b.example>; c@d.example`, "a (b) <c@d.example>", "\"\\\"\"@x",
		"a@b\r\nBcc: c@d", "a@b.example ", "a@b\xff.example", "ünal@bücher.example)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		boxes, err := ParseMailboxes(s)
		if !strings.ContainsAny(s, "\"\\(<>,;\r\n") { // what needs no parting is read as it would be parted
			if parted, failed := ParseMailboxes(s + "()"); (failed == nil) != (err == nil) || !slices.Equal(parted, boxes) {
				t.Fatalf("%q gave %v, %v, and with a comment %v, %v", s, boxes, err, parted, failed)
			}
		}
		if err != nil {
			return
		}
		for _, b := range boxes {
			if strings.ContainsAny(b.String()+b.ASCII(), "\r\n\x00") {
				t.Fatalf("%q gave %q", s, b.String())
			}
			again, err := ParseMailboxes(b.String())
			if err != nil || len(again) != 1 || again[0].Key() != b.Key() {
				t.Fatalf("%q gave %q, which parses to %v, %v", s, b.String(), again, err)
			}
		}
	})
}

// Reading never fails and never loses: text is a value, empty, or kept.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"1,234.5", "29/03/2027", "2027-03-29T10:00Z", "yes", "", "\xff", "1/2/3 4:5"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, typ := range Types {
			for _, o := range []Order{DayMonthYear, MonthDayYear, YearMonthDay} {
				r := Reading{Type: typ, Locale: gb(), Order: o, Options: []Option{{"o", "x"}}}
				v := Parse(s, r)
				if v.IsUnreadable() && v.Str != s {
					t.Fatalf("%s: %q became %q", typ, s, v.Str)
				}
				if !v.IsFilled() {
					continue
				}
				var text string
				switch typ {
				case Number:
					text = FormatNumber(v.Num, NumberFormat{}, gb())
				case Date:
					text = FormatDay(v.Wall.Day, ISO, gb(), o)
				case Moment:
					text = v.Wall.String()
				default:
					continue
				}
				if w := Parse(text, r); !Same(v, w) {
					t.Fatalf("%s: %q read as %v, written as %q, read as %v", typ, s, v, text, w)
				}
			}
		}
	})
}

func TestSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{{"Ada", " ADA ", true}, {"Ada", "Eda", false}, {"", " ", true}, {"Straße", "STRASSE", true}} {
		r := Reading{Type: Text}
		if Same(Parse(c.a, r), Parse(c.b, r)) != c.same {
			t.Errorf("%q and %q", c.a, c.b)
		}
	}
	if Same(Raw(Date, "soon"), Raw(Date, "later")) || !Same(Raw(Date, "soon"), Raw(Date, "Soon ")) {
		t.Error("unreadable texts")
	}
}

// An address that is called plain is read as one mailbox whose key it is.
func TestPlainAddress(t *testing.T) {
	for s, want := range map[string]bool{"a@b.example": true, "ada.quill-2@fenwick-hall.example": true,
		"A@b.example": false, "a@b.example,": false, "a@b.example, c@d.example": false,
		"a..b@c.example": false, ".a@c.example": false, "a.@c.example": false, "@c.example": false, "a@": false,
		"a@b..example": false, "a@-b.example": false, "": false, "a": false,
		"hügh@b.example": false, "a@b@c.example": false, "a@b.example.": false, strings.Repeat("a", 65) +
			"@b.example": false} {
		if got := PlainAddress(s); got != want {
			t.Errorf("%q: %v, want %v", s, got, want)
		}
		boxes, err := ParseMailboxes(s)
		if want && (err != nil || len(boxes) != 1 || boxes[0].Key() != s) {
			t.Errorf("%q is plain, and read as %v %v", s, boxes, err)
		}
	}
}
