package rule

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

func loans() *sheet.Sheet {
	l, _ := value.FindLocale("en-GB")
	return &sheet.Sheet{Zone: time.UTC, Locale: l, Columns: []sheet.Column{
		{ID: "due", Name: "Return due", Type: value.Date, Pos: 0, Order: value.DayMonthYear},
		{ID: "at", Name: "Read at", Type: value.Moment, Pos: 1},
		{ID: "state", Name: "State", Type: value.Choice, Pos: 2, Options: []value.Option{{ID: "s1", Name: "asked for"},
			{ID: "s2", Name: "out"}, {ID: "s3", Name: "back"}}},
		{ID: "hum", Name: "Humidity", Type: value.Number, Pos: 3},
		{ID: "lim", Name: "Limit", Type: value.Number, Pos: 4},
		{ID: "name", Name: "Contact", Type: value.Text, Pos: 5},
		{ID: "open", Name: "Open", Type: value.YesNo, Pos: 6},
		{ID: "mail", Name: "Contact email", Type: value.Email, Pos: 7},
		{ID: "due2", Name: "Insured until", Type: value.Date, Pos: 8, Order: value.DayMonthYear},
	}}
}

func row(s *sheet.Sheet, cells map[string]string) *sheet.Row {
	r := &sheet.Row{ID: "r"}
	for id, text := range cells {
		c, _ := s.Column(id)
		r.Set(c, value.Parse(text, s.Reading(c)))
	}
	return r
}

// Section 3, condition: every operator, empties, unreadable cells and the
// three-valued tree.
func TestCondition(t *testing.T) {
	s := loans()
	r := row(s, map[string]string{"due": "29/03/2027", "at": "29/03/2027 14:30", "state": "out", "hum": "52.5",
		"lim": "55", "name": "Ada QUILL", "open": "yes", "due2": "soon"})
	today := value.DayOf(2027, 3, 22)
	for in, want := range map[string]Truth{
		`{"column":"state","op":"is","value":"out"}`:                                          True,
		`{"column":"state","op":"is","value":"s2"}`:                                           True,
		`{"column":"state","op":"is-not","value":"back"}`:                                     True,
		`{"column":"state","op":"one-of","value":["asked for","out"]}`:                        True,
		`{"column":"state","op":"none-of","value":["asked for","out"]}`:                       False,
		`{"column":"state","op":"one-of","value":[]}`:                                         False,
		`{"column":"state","op":"<","value":"back"}`:                                          True,
		`{"column":"state","op":">=","value":"back"}`:                                         False,
		`{"column":"hum","op":">","value":52.4}`:                                              True,
		`{"column":"hum","op":">=","value":52.50}`:                                            True,
		`{"column":"hum","op":"<","value":{"column":"lim"}}`:                                  True,
		`{"column":"hum","op":"between","value":[52.5,60]}`:                                   True,
		`{"column":"hum","op":"between","value":[53,60]}`:                                     False,
		`{"column":"name","op":"contains","value":"quill"}`:                                   True,
		`{"column":"name","op":"starts-with","value":"ADA"}`:                                  True,
		`{"column":"name","op":"ends-with","value":"da"}`:                                     False,
		`{"column":"name","op":"is","value":" ada quill "}`:                                   True,
		`{"column":"open","op":"is","value":true}`:                                            True,
		`{"column":"open","op":"is-not","value":true}`:                                        False,
		`{"column":"due","op":"before","value":"2027-03-30"}`:                                 True,
		`{"column":"due","op":"after","value":"2027-03-29"}`:                                  False,
		`{"column":"due","op":"on","value":"2027-03-29"}`:                                     True,
		`{"column":"at","op":"on","value":"2027-03-29"}`:                                      True,
		`{"column":"at","op":"after","value":"2027-03-29T14:00"}`:                             True,
		`{"column":"due","op":"days-away","value":[7,7]}`:                                     True,
		`{"column":"due","op":"days-away","value":[0,6]}`:                                     False,
		`{"column":"mail","op":"empty"}`:                                                      True,
		`{"column":"mail","op":"filled"}`:                                                     False,
		`{"column":"mail","op":"is","value":"a@b.example"}`:                                   False,
		`{"column":"mail","op":"is-not","value":"a@b.example"}`:                               True,
		`{"column":"mail","op":"none-of","value":["a@b.example"]}`:                            True,
		`{"column":"mail","op":"contains","value":"a"}`:                                       False,
		`{"column":"due2","op":"unreadable"}`:                                                 True,
		`{"column":"due2","op":"empty"}`:                                                      Unknown,
		`{"column":"due2","op":"before","value":"2027-03-30"}`:                                Unknown,
		`{"column":"due","op":"before","value":{"column":"due2"}}`:                            Unknown,
		`{"not":{"column":"due2","op":"filled"}}`:                                             Unknown,
		`{"any":[{"column":"due2","op":"filled"},{"column":"open","op":"is","value":true}]}`:  True,
		`{"all":[{"column":"due2","op":"filled"},{"column":"open","op":"is","value":false}]}`: False,
		`{"all":[{"column":"due2","op":"filled"},{"column":"open","op":"is","value":true}]}`:  Unknown,
		`{"any":[{"column":"due2","op":"filled"},{"column":"open","op":"is","value":false}]}`: Unknown,
		`{"all":[]}`:         True,
		`{"any":[]}`:         False,
		`{"not":{"any":[]}}`: True,
	} {
		var c Condition
		if err := json.Unmarshal([]byte(in), &c); err != nil {
			t.Fatalf("%s: %v", in, err)
		}
		if err := c.Validate("", SheetScope{Sheet: s}); err != nil {
			t.Errorf("%s: %v", in, err)
			continue
		}
		got, faulty := c.Judge(Facts{Sheet: s, Row: r, Today: today})
		if got != want || (got == Unknown) != (faulty == "due2") {
			t.Errorf("%s: %d (%s), want %d", in, got, faulty, want)
		}
		b, _ := json.Marshal(c)
		var again Condition
		if err := json.Unmarshal(b, &again); err != nil {
			t.Errorf("%s was written as %s: %v", in, b, err)
		} else if g, _ := again.Judge(Facts{Sheet: s, Row: r, Today: today}); g != got {
			t.Errorf("%s was written as %s and judged otherwise", in, b)
		}
		if c.Words(s) == "" {
			t.Errorf("%s has no words", in)
		}
	}
}

func TestConditionFaults(t *testing.T) {
	s := loans()
	for in, want := range map[string]string{
		`{"column":"gone","op":"is","value":1}`:               "the column is not there",
		`{"column":"name","op":">","value":"x"}`:              "does not go with a column of type text",
		`{"column":"hum","op":"is","value":"x"}`:              "a number is wanted",
		`{"column":"hum","op":"between","value":[1]}`:         "lowest and the highest",
		`{"column":"hum","op":"is"}`:                          "a value is missing",
		`{"column":"hum","op":"empty","value":1}`:             "takes no value",
		`{"column":"state","op":"is","value":"gone"}`:         "none of the column's options",
		`{"column":"due","op":"before","value":"29/03/2027"}`: "a day (2027-03-29)",
		`{"column":"hum","op":"<","value":{"column":"name"}}`: "cannot be compared",
		`{"column":"hum","op":"is","value":1,"extra":2}`:      "extra",
		`{"all":[],"any":[]}`:                                 "stands alone",
	} {
		var c Condition
		err := json.Unmarshal([]byte(in), &c)
		if err == nil {
			err = c.Validate("/condition", SheetScope{Sheet: s})
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", in, err, want)
		}
	}
}

func dues(r *Rule, anchor string, env Env, from, to string) []string {
	typ := value.Date
	if strings.Contains(anchor, "T") {
		typ = value.Moment
	}
	v := value.Parse(anchor, value.Reading{Type: typ, Order: value.YearMonthDay})
	f, _ := time.Parse(time.RFC3339, from)
	u, _ := time.Parse(time.RFC3339, to)
	var out []string
	tm, err := r.Timing(env)
	if err != nil {
		panic(err)
	}
	for _, o := range r.Due("r", v, &tm, f, f, u, nil) {
		text := o.Due.Format(time.RFC3339)
		if o.SameMoment {
			text += " same"
		}
		out = append(out, text)
	}
	return out
}

// Section 3, date: offsets, working days, anniversaries, clamping, times, DST
// and one email per moment.
func TestDue(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	newYork, _ := time.LoadLocation("America/New_York")
	cal, _ := calendar.New([]string{"mon", "tue", "wed", "thu", "fri"}, []string{"2027-03-26", "2027-03-29"})
	env := Env{Zone: london, SheetZone: london, Calendar: cal}
	days := func(ns ...int) (out []Offset) {
		for _, n := range ns {
			out = append(out, Offset{N: n, Unit: Days})
		}
		return out
	}
	for name, c := range map[string]struct {
		trigger  Trigger
		env      Env
		anchor   string
		from, to string
		want     string
	}{
		"offsets, over the spring change": {Trigger{Offsets: days(-14, -1, 1), At: "09:00"}, env, "2027-03-28",
			"2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z",
			"2027-03-14T09:00:00Z 2027-03-27T09:00:00Z 2027-03-29T09:00:00+01:00"},
		"09:00 where nothing is said": {Trigger{Offsets: days(0)}, env, "2027-05-01", "2027-01-01T00:00:00Z",
			"2028-01-01T00:00:00Z", "2027-05-01T09:00:00+01:00"},
		"a skipped time": {Trigger{Offsets: days(0), At: "01:30"}, env, "2027-03-28", "2027-01-01T00:00:00Z",
			"2028-01-01T00:00:00Z", "2027-03-28T02:30:00+01:00"},
		"working days": {Trigger{Offsets: []Offset{{N: -1, Unit: WorkingDays}, {N: 0, Unit: WorkingDays},
			{N: 1, Unit: WorkingDays}}, At: "09:00"}, env, "2027-03-29",
			"2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z",
			"2027-03-25T09:00:00Z 2027-03-30T09:00:00+01:00 same 2027-03-30T09:00:00+01:00"},
		"hours of a moment": {Trigger{Offsets: []Offset{{N: 26, Unit: Hours}, {N: -30, Unit: Minutes}}}, env,
			"2027-03-27T12:00", "2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z",
			"2027-03-27T11:30:00Z 2027-03-28T15:00:00+01:00"},
		"a moment's own time": {Trigger{Offsets: days(1)}, env, "2027-03-27T14:30", "2027-01-01T00:00:00Z",
			"2028-01-01T00:00:00Z", "2027-03-28T14:30:00+01:00"},
		"a moment's day elsewhere": {Trigger{Offsets: days(0), At: "09:00"}, Env{Zone: newYork, SheetZone: london,
			Calendar: cal}, "2027-06-01T02:00", "2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z", "2027-05-31T09:00:00-04:00"},
		"monthly, clamped": {Trigger{Offsets: days(0), At: "09:00", Every: &Every{Unit: "months", N: 1, Times: 4}}, env,
			"2027-01-31", "2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z",
			"2027-01-31T09:00:00Z 2027-02-28T09:00:00Z 2027-03-31T09:00:00+01:00 2027-04-30T09:00:00+01:00"},
		"yearly from a leap day": {Trigger{Offsets: days(0), At: "09:00", Every: &Every{Unit: "years", N: 1}}, env,
			"2024-02-29", "2026-12-31T00:00:00Z", "2029-01-01T00:00:00Z",
			"2027-02-28T09:00:00Z 2028-02-29T09:00:00Z"},
		"every two weeks, with offset": {Trigger{Offsets: days(-1), At: "09:00", Every: &Every{Unit: "weeks", N: 2}}, env,
			"2027-01-04", "2027-02-01T00:00:00Z", "2027-03-02T00:00:00Z",
			"2027-02-14T09:00:00Z 2027-02-28T09:00:00Z"},
		"same moment, the nearer one": {Trigger{Offsets: days(-1, 1), At: "09:00", Every: &Every{Unit: "days", N: 2,
			Times: 2}}, env, "2027-01-04", "2027-01-01T00:00:00Z", "2028-01-01T00:00:00Z",
			"2027-01-03T09:00:00Z 2027-01-05T09:00:00Z 2027-01-05T09:00:00Z same 2027-01-07T09:00:00Z"},
		"from does not count, to does": {Trigger{Offsets: days(0, 1), At: "09:00"}, env, "2027-01-04",
			"2027-01-04T09:00:00Z", "2027-01-05T09:00:00Z", "2027-01-05T09:00:00Z"},
	} {
		c.trigger.Kind = "date"
		r := &Rule{ID: "rule", Trigger: c.trigger}
		got := dues(r, c.anchor, c.env, c.from, c.to)
		sortSame(got)
		want := strings.ReplaceAll(c.want, " same", "+same")
		for i := range got {
			got[i] = strings.ReplaceAll(got[i], " same", "+same")
		}
		w := strings.Fields(want)
		sortSame(w)
		if strings.Join(got, " ") != strings.Join(w, " ") {
			t.Errorf("%s:\n%v\nwant\n%v", name, got, w)
		}
	}
}

func sortSame(s []string) {
	for i := range s {
		for j := i + 1; j < len(s); j++ {
			if s[j] < s[i] {
				s[i], s[j] = s[j], s[i]
			}
		}
	}
}

// Next is the first of Due, for every kind of trigger and from any instant.
func TestNextIsFirstOfDue(t *testing.T) {
	london, _ := time.LoadLocation("Europe/London")
	env := Env{Zone: london, SheetZone: london, Calendar: calendar.Default()}
	for _, every := range []*Every{nil, {Unit: "days", N: 3}, {Unit: "weeks", N: 1, Times: 5}, {Unit: "months", N: 1},
		{Unit: "years", N: 1}} {
		for _, offs := range [][]Offset{{{N: -14, Unit: Days}, {N: 3, Unit: Days}}, {{N: -10, Unit: WorkingDays}},
			{{N: 40, Unit: WorkingDays}, {N: 0, Unit: Days}}} {
			r := &Rule{ID: "r", Trigger: Trigger{Kind: "date", Offsets: offs, At: "09:00", Every: every}}
			anchor := value.OfDay(value.DayOf(2026, 1, 31))
			for d := 0; d < 800; d += 13 {
				from := time.Date(2025, 12, 1, 8, 0, 0, 0, time.UTC).AddDate(0, 0, d)
				tm, err := r.Timing(env)
				if err != nil {
					t.Fatal(err)
				}
				next := r.Next(anchor, &tm, from, from)
				due := r.Due("x", anchor, &tm, from, from, from.AddDate(3, 0, 0), nil)
				if len(due) == 0 != next.IsZero() || len(due) > 0 && !due[0].Due.Equal(next) {
					t.Fatalf("every %+v offsets %v from %s: next %s, due %v", every, offs, from, next, due[:min(2, len(due))])
				}
			}
		}
	}
}

// Whatever falls due between two instants hangs on a day that is within reach, however offsets,
// closed days, a window and a far zone put it off; days far off are not.
func TestReach(t *testing.T) {
	kiritimati, _ := time.LoadLocation("Pacific/Kiritimati")
	closed := calendar.Default()
	closed.Closed = map[value.Day]bool{}
	for d := value.DayOf(2026, 12, 21); d < value.DayOf(2027, 1, 9); d++ {
		closed.Closed[d] = true
	}
	from := time.Date(2026, 12, 28, 8, 0, 0, 0, time.UTC)
	to := from.AddDate(0, 0, 10)
	for _, shift := range []calendar.Shift{calendar.Later, calendar.Earlier, calendar.NoShift} {
		for _, w := range []*Window{nil, {Weekdays: []string{"tue"}, From: "10:00", Until: "11:00"}, {WorkingDays: true}} {
			for _, off := range []Offset{{N: 0, Unit: Days}, {N: -30, Unit: Days}, {N: 9, Unit: WorkingDays},
				{N: -9, Unit: WorkingDays}, {N: 100, Unit: Hours}, {N: -100, Unit: Hours}, {N: 5000, Unit: Minutes}} {
				r := &Rule{ID: "r", Shift: shift, Window: w, Trigger: Trigger{Kind: Date, At: "09:00",
					Offsets: []Offset{{N: 2, Unit: Days}, off}}}
				tm, err := r.Timing(Env{Zone: kiritimati, SheetZone: time.UTC, Calendar: closed})
				if err != nil {
					t.Fatal(err)
				}
				first, last, ok := r.Reach(&tm, from, to)
				if !ok || last-first > 800 {
					t.Fatalf("%v %+v %+v: within %s and %s (%v)", shift, w, off, first, last, ok)
				}
				for day := first - 60; day < last+60; day++ {
					for _, off := range r.Trigger.Offsets {
						due := tm.Move(r.dueAt(value.OfDay(day), off, 0, &tm))
						if due.After(from) && !due.After(to) && (day < first || day > last) {
							t.Errorf("%v %+v %+v: %s is due %s, and not within %s and %s", shift, w, off, day, due, first, last)
						}
					}
				}
			}
		}
	}
	every := &Rule{Trigger: Trigger{Kind: Date, Offsets: []Offset{{N: 2, Unit: Days}}, Every: &Every{Unit: "years", N: 1}}}
	if _, _, ok := every.Reach(&Timing{}, from, to); ok {
		t.Error("a rule that comes round every year is reached by any day")
	}
}

// Section 4: every kind of occasion has the identity that it always had.
func TestIdentities(t *testing.T) {
	long := strings.Repeat("a long one ", 40)
	for _, c := range []struct {
		name string
		o    Occasion
		want string
	}{
		{"a date, with each", Occasion{Rule: "a", Row: "b", Column: "c", AnchorText: "2027-03-29", N: 7, Unit: Days,
			Anniversary: 3, Mailbox: "ada@b.example"},
			"caabbbbcddd6ac8b754e9184ed972dbd"},
		{"of long names", Occasion{Rule: long, Row: long, Column: "c", AnchorText: "2027-03-29T10:00", Unit: Hours},
			"20e5aaaa06ca886a7f6fab0804522a99"},
		{"a round-up", Occasion{Kind: Schedule, Rule: "a", Mailbox: "ada@b.example", Instant: "2027-03-29T09:00:00Z"},
			"fd9f6c5fc074e7a1e7d0f1689263c13b"},
		{"a round", Occasion{Kind: Schedule, Rule: "a", Row: "b", Instant: "2027-03-29T09:00:00Z"},
			"a35dadcc1aeb21835c5176f6ff13d70a"},
		{"a round, with each", Occasion{Kind: Schedule, Rule: "a", Row: "b", Instant: "2027-03-29T09:00:00Z",
			Mailbox: "ada@b.example"},
			"90983c7a9ce0db31abc7155034c1cdf1"},
		{"a row added", Occasion{Kind: Added, Rule: "a", Row: "b"},
			"e94f7e7d88efb8632dfe1b1dc1f7c2d3"},
		{"by hand", Occasion{Kind: ByHand, Rule: "a", Batch: "x", Row: "b"},
			"2814958665d2df4e7d35e1c26f6c922e"},
		{"a change", Occasion{Kind: Change, Rule: "a", Row: "b", Column: "c", N: 12},
			"04692026091cf527d986e70758e821d4"},
		{"a threshold", Occasion{Kind: Threshold, Rule: "a", Row: "b", Column: "c", N: -1},
			"d6c711c1d8c1b0ebc71b90fb039097c5"},
		{"a follow-up", Occasion{Base: "d203f94b7fd0a3199b2bcef18da5f4c6", Rule: "a", Row: "b", Step: 2, Again: 11,
			Mailbox: "ada@b.example"},
			"ec957b69820fbddc5245c5fb623c0f75"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := c.o.Identity().String(); got != c.want {
				t.Errorf("got %s, want %s", got, c.want)
			}
		})
	}
}

// Section 4: what is in an identity and what is not. The literal must never
// change: databases hold it.
func TestIdentity(t *testing.T) {
	base := Occasion{Rule: "a", Row: "b", Column: "c", AnchorText: "2027-03-29", N: -14, Unit: Days}
	if got := base.Identity().String(); got != "d203f94b7fd0a3199b2bcef18da5f4c6" {
		t.Error(got)
	}
	seen := map[ID]bool{base.Identity(): true}
	for i, change := range []func(*Occasion){
		func(o *Occasion) { o.Rule = "ab" }, func(o *Occasion) { o.Rule, o.Row = "", "ab" },
		func(o *Occasion) { o.Column = "d" },
		func(o *Occasion) { o.AnchorText = "2027-03-30" }, func(o *Occasion) { o.N = 14 },
		func(o *Occasion) { o.Unit = WorkingDays }, func(o *Occasion) { o.Anniversary = 1 },
	} {
		o := base
		change(&o)
		if seen[o.Identity()] {
			t.Errorf("change %d keeps the identity", i)
		}
		seen[o.Identity()] = true
	}
	moved := base
	moved.Due, moved.Offset, moved.SameMoment = time.Now(), 3, true
	if moved.Identity() != base.Identity() {
		t.Error("the due instant, the offset's place or same moment change the identity")
	}
	if id, err := ParseID(base.Identity().String()); err != nil || id != base.Identity() {
		t.Error(err)
	}
	b, _ := base.Identity().MarshalBinary()
	var id ID
	if err := id.UnmarshalBinary(b); err != nil || id != base.Identity() {
		t.Errorf("as bytes: got %s, %v", id, err)
	}
	if err := id.UnmarshalBinary(b[1:]); err == nil {
		t.Error("15 bytes are taken for an identity")
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(
		[]byte(
			`{"name":"x","trigger":{"kind":"date","column":"due","offsets":[{"n":-1,"unit":"days"}]},"condition":{"not":{"column":"hum","op":"<","value":[1,{"column":"lim"}]}},"send":[],"to":[]}`))
	s := loans()
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := Decode(b)
		if err != nil {
			return
		}
		if r.Validate(SheetScope{Sheet: s, Templates: map[string]bool{"t": true}}) == nil {
			r.Condition.Judge(Facts{Sheet: s, Row: &sheet.Row{}})
			r.Sentence(s, func(string) string { return "t" })
		}
	})
}
