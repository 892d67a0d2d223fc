package formula

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
)

var columns = Scope{
	{ID: "due", Name: "return_due", Type: value.Date}, {ID: "read", Name: "last_reading", Type: value.Moment},
	{ID: "hum", Name: "humidity_", Type: value.Number},
	{ID: "who", Name: "contact", Type: value.Text}, {ID: "mail", Name: "contact_email", Type: value.Email},
	{ID: "state", Name: "state", Type: value.Choice},
	{ID: "open", Name: "open", Type: value.YesNo}, {ID: "none", Name: "nothing", Type: value.Text},
	{ID: "bad", Name: "bad", Type: value.Number}, {ID: "2nd", Name: "2nd_contact", Type: value.Text},
}

var (
	london, _ = time.LoadLocation("Europe/London")
	cal, _    = calendar.New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
)

func context(at time.Time) *Context {
	l, _ := value.FindLocale("en-GB")
	cells := map[string]value.Value{"due": value.OfDay(value.DayOf(2027, 3, 29)),
		"read": value.OfMoment(value.Wall{Day: value.DayOf(2027, 3, 15), Second: 8 * 3600}),
		"hum":  value.OfNumber(decimal.RequireFromString("52.5")), "who": value.OfText("Ada  Quill"),
		"mail":  {State: value.Filled, Type: value.Email, Str: "ada@x.example"},
		"state": value.OfText("out"), "open": value.OfYesNo(true), "bad": value.Raw(value.Number, "damp"),
		"2nd": value.OfText("Ben")}
	return &Context{Cell: func(id string) value.Value { return cells[id] }, Now: value.WallAt(at.In(london)), Instant: at,
		Zone: london, Calendar: cal, Locale: l}
}

var noon = time.Date(2027, 3, 15, 12, 0, 0, 0, time.UTC)

func shown(v value.Value) string {
	switch {
	case v.IsEmpty():
		return ""
	case v.IsUnreadable():
		return "!" + v.Str
	case v.Type == value.Number:
		return v.Num.String()
	case v.Type == value.Date:
		return v.Wall.Day.String()
	case v.Type == value.Moment:
		return v.Wall.String()
	case v.Type == value.YesNo:
		return map[bool]string{true: "yes", false: "no"}[v.Yes]
	}
	return v.Str
}

// Section 1 and 6: what formulas come to.
func TestEval(t *testing.T) {
	for src, want := range map[string]string{
		"days_until(return_due)": "14", "days_since(return_due)": "-14", "days_until(last_reading)": "0",
		"working_days_until(return_due)": "8",
		"return_due - today()":           "14", "return_due + 3": "2027-04-01", "return_due - 1": "2027-03-28",
		"add_days(return_due, -29)": "2027-02-28",
		"add_months(return_due, 1)": "2027-04-29", "add_months(add_days(return_due, 2), 1)": "2027-04-30",
		"add_working_days(return_due, -1)": "2027-03-25",
		"hours_since(last_reading)":        "4", "hours_until(last_reading)": "-4",
		"add_hours(last_reading, 26.5)": "2027-03-16T10:30", "now()": "2027-03-15T12:00",
		"humidity * 2 - 1 / 4": "104.75", "humidity_": "52.5", "-humidity + 2": "-50.5", "1 / 3 * 3 = 1": "no",
		"0.1 + 0.2 = 0.3": "yes", "2 + 3 * 4": "14", "(2 + 3) * 4": "20", "8 - 3 - 2": "3",
		"round(humidity)": "53", "round(-2.5)": "-3", "round(1234.567, 2)": "1234.57", "round(1234, -2)": "1200",
		"floor(-1.5)": "-2", "ceil(1.2)": "2", "abs(-3)": "3", "min(3, 1, 2)": "1", "max(3, 10, 2)": "10",
		"first_word(contact)": "Ada", "last_word(contact)": "Quill", "upper(contact)": "ADA  QUILL", "lower(state)": "out",
		"trim(contact)": "Ada Quill", "length(state)": "3",
		`contains(contact, "quill")`: "yes", `starts_with(contact_email, "ADA")`: "yes", `ends_with(state, "x")`: "no",
		`contact & ", " & state`: "Ada  Quill, out", `"a""b" & nothing`: `a"b`,
		`if(humidity >= 50, "damp", "dry")`: "damp", `if(open, 1)`: "1", `if(not open, 1)`: "",
		`coalesce(nothing, contact, "x")`: "Ada  Quill", `if(nothing = "x", 1, 2)`: "2",
		"year(return_due)": "2027", "month(return_due)": "3", "day(return_due)": "29", "weekday(return_due)": "1",
		"weekday(add_days(return_due, 6))": "7",
		"nothing":                          "", "empty(nothing)": "yes", "empty(contact)": "no", `nothing = ""`: "no",
		`nothing != "x"`:                        "yes",
		"days_until(return_due) <= 14 and open": "yes",
		"bad":                                   "!damp", "bad + 1": "!damp", "coalesce(bad, 1)": "!damp",
		"bad > 1 and not open": "no",
		"bad > 1 or open":      "yes", "bad > 1 and open": "!damp", "if(bad > 1, 1, 2)": "!damp",
		"1 / 0": "!divided by zero", "return_due > today()": "yes", "return_due = last_reading": "no",
		"last_reading <= now()": "yes", "add_days(return_due, 99999999)": "!too far away",
		"2nd_contact": "Ben", "RETURN_DUE = return_due": "yes", "true and not false": "yes", `state = "OUT"`: "yes",
		`state <> "out"`: "no",
	} {
		p, err := Compile(src, columns)
		if err != nil {
			t.Errorf("%s: %v", src, err)
			continue
		}
		if got := shown(p.Eval(context(noon))); got != want {
			t.Errorf("%s: %q, want %q", src, got, want)
		}
	}
}

// Faults are told by their position.
func TestFaults(t *testing.T) {
	for src, want := range map[string]string{
		"": "at character 1: the formula ends where a value is wanted", "1 +": "at character 4: the formula ends",
		"retun_due":           "at character 1: there is no column retun_due; there are",
		"days(return_due)":    "at character 1: there is no function days",
		"days_until(contact)": "at character 12: a date or moment is wanted here, and this is a text",
		"1 + contact":         "at character 3: + does not go between a number and a text",
		"(1 + 2":              "at character 1: this bracket is not closed", "1 2": `at character 3: "2" stands where`,
		`"abc`: "at character 1: the text has no closing quote", "1 < 2 < 3": "at character 7: two comparisons need and",
		"contact > 1":      "at character 9: a text cannot be compared with a number",
		"if(1, 2, 3)":      "at character 4: a yes/no is wanted",
		`if(open, 1, "x")`: "at character 13: both values of if are of one type",
		"round()":          "at character 1: round is written round(n, digits)",
		"last_reading + 1": "add_hours", "é $ 1": `at character 3: '$' has no place`,
		"open < true": "yes and no have no order", "today(": "at character 7: the formula ends", strings.Repeat("(", 99) +
			"1": "nested too deeply",
		strings.Repeat("1+", 500) + "1": "too many parts", strings.Repeat(" ", 5000): "at most 4000 bytes",
	} {
		_, err := Compile(src, columns)
		var fe *Error
		if !errors.As(err, &fe) || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v, want %s", src, err, want)
		}
	}
}

func TestTypesAndMoving(t *testing.T) {
	for src, want := range map[string]struct {
		typ    value.Type
		moving Moving
	}{"humidity + 1": {value.Number, Still}, "today() + 1": {value.Date, Daily}, "now()": {value.Moment, Always},
		"days_until(return_due) > hours_since(last_reading)": {value.YesNo, Always}, "contact & 1": {value.Text, Still}} {
		p, err := Compile(src, columns)
		if err != nil || p.Type != want.typ || p.Moving != want.moving {
			t.Errorf("%s: %+v, %v", src, p, err)
		}
	}
}

func TestNames(t *testing.T) {
	if got := strings.Join(Names([]string{"Return due", "return-due", "Loan no.", "Été (2)", "RETURN  DUE"}),
		" "); got != "return_due return_due_2 loan_no_ été_2_ return_due_3" {
		t.Error(got)
	}
	if got := Rename(`days_until(due) + due_2 & "due" & due(1)`,
		map[string]string{"due": "back_by"}); got != `days_until(back_by) + due_2 & "due" & due(1)` {
		t.Error(got)
	}
}

// The instant at which a comparison can turn is found exactly: nothing turns
// before it, and it turns at it, unless it is only a look.
func TestNextTurn(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for _, src := range []string{"days_until(return_due)", "days_since(return_due) * 2 - 3", "hours_since(last_reading)",
		"hours_until(last_reading) / -2", "round(hours_since(last_reading))",
		"working_days_until(return_due)", "-days_until(return_due) + humidity", "return_due - today()",
		"hours_since(last_reading) - days_until(return_due)", "max(days_until(return_due), 0)"} {
		p, err := Compile(src, columns)
		if err != nil {
			t.Fatal(err)
		}
		for range 8 {
			limit := decimal.NewFromInt(int64(r.IntN(60) - 20))
			from := noon.Add(time.Duration(r.IntN(20*24*3600)) * time.Second)
			test := func(at time.Time) bool {
				v := p.Eval(context(at))
				return v.IsFilled() && v.Num.GreaterThan(limit)
			}
			next := p.NextTurn(from, context(from).Zone, test)
			now := test(from)
			for at := from; at.Before(from.Add(60 * 24 * time.Hour)); at = at.Add(97 * time.Minute) {
				if test(at) != now && (next.IsZero() || at.Before(next)) {
					t.Fatalf("%s > %s from %s: it has turned by %s, the next look is at %s", src, limit, from, at, next)
				}
			}
			if !next.IsZero() && p.root.trend != anyhow && (test(next) == now || test(next.Add(-time.Second)) != now) {
				t.Errorf("%s > %s from %s: it does not turn at %s", src, limit, from, next)
			}
		}
	}
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"days_until(return_due)", `if(open, "a", contact & "b")`, "1/3*-2>=max(1,2)", "not(", `"`,
		"coalesce(nothing,contact)"} {
		f.Add(s)
	}
	c := context(noon)
	f.Fuzz(func(t *testing.T, src string) {
		p, err := Compile(src, columns)
		if err != nil {
			var fe *Error
			if !errors.As(err, &fe) || fe.Offset < 0 || fe.Offset > len(src) {
				t.Fatalf("%q: %v", src, err)
			}
			return
		}
		if v := p.Eval(c); !v.IsEmpty() && v.Type != p.Type {
			t.Errorf("%q: %s, want %s", src, v.Type, p.Type)
		}
	})
}
