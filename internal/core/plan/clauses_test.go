package plan

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// desk is a sheet with a column of every kind, and templates A, B and C.
func desk() (*sheet.Sheet, map[string]*template.Template) {
	l, _ := value.FindLocale("en-GB")
	london, _ := time.LoadLocation("Europe/London")
	s := &sheet.Sheet{Zone: london, Locale: l, Key: "key", Settle: 2 * time.Minute}
	for i, c := range []sheet.Column{
		{ID: "key", Name: "Loan", Type: value.Text}, {ID: "due", Name: "Due", Type: value.Date, Order: value.YearMonthDay},
		{ID: "open", Name: "Open", Type: value.YesNo},
		{ID: "to", Name: "Email", Type: value.Email}, {ID: "cc", Name: "Copy", Type: value.Email},
		{ID: "who", Name: "Name", Type: value.Text},
		{ID: "state", Name: "State", Type: value.Choice, Options: []value.Option{{ID: "asked", Name: "asked"},
			{ID: "out", Name: "out"}, {ID: "back", Name: "back"}}},
		{ID: "hum", Name: "Humidity", Type: value.Number}, {ID: "lim", Name: "Limit", Type: value.Number},
		{ID: "read", Name: "Read", Type: value.Moment, Order: value.YearMonthDay},
		{ID: "left", Name: "Days left", Type: value.Formula, Formula: "days_until(due)"},
		{ID: "age", Name: "Age", Type: value.Formula, Formula: "hours_since(read)"},
	} {
		c.Pos = i
		s.Columns = append(s.Columns, c)
	}
	if err := s.Compile(); err != nil {
		panic(err)
	}
	templates := map[string]*template.Template{}
	for _, n := range []string{"A", "B", "C"} {
		t := &template.Template{ID: n, Name: n, Body: template.Node{Type: template.Doc}}
		t.Subject, _ = template.ParseLine(n+" [Loan]", s)
		if n == "B" {
			t.Subject, _ = template.ParseLine("B [Loan] [Name]", s)
		}
		templates[n] = t
	}
	return s, templates
}

// told plays a rule over rows "L1", "L2" ... and tells its lines, shortly.
// Edits are "15T10:00 L1 hum=60|open=yes", "+L3 ..." for adding, "-L1" for
// deleting.
func told(t *testing.T, ruleJSON string, rows []string, edits ...string) string {
	t.Helper()
	s, templates := desk()
	r, err := rule.Decode([]byte(`{"name":"R","state":"on","send":[{"template":"A"}],"to":[{"column":"to"}],` + ruleJSON +
		`}`))
	if err != nil {
		// A rule's own names take the place of the standard ones.
		r, err = rule.Decode([]byte(`{"name":"R","state":"on","to":[{"column":"to"}],` + ruleJSON + `}`))
	}
	if err != nil {
		t.Fatalf("%s: %v", ruleJSON, err)
	}
	r.ID = "R"
	set := ready(s, r, templates)
	var start []*sheet.Row
	for i, cells := range rows {
		id := fmt.Sprintf("L%d", i+1)
		start = append(start, mkRow(s, id, "key="+id+"|to=a@x.example|"+cells))
	}
	var list []Edit
	for _, text := range edits {
		f := strings.SplitN(text, " ", 3)
		if len(f) < 3 {
			f = append(f, "")
		}
		when := f[0]
		if strings.Count(when, ":") == 1 {
			when += ":00"
		}
		e := Edit{At: at("2027-03-" + when + "Z")}
		switch f[1][0] {
		case '-':
			e.Row, e.Delete = f[1][1:], true
		case '+':
			e.Row, e.Add = f[1][1:], true
			e.Set = cells(s, "key="+e.Row+"|to=a@x.example|"+f[2])
		default:
			e.Row, e.Set = f[1], cells(s, f[2])
		}
		list = append(list, e)
	}
	ls, err := rehearse([]*CompiledRule{set}, start, list, at("2027-03-15T08:00:00Z"), at("2027-04-12T00:00:00+01:00"))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, l := range ls {
		x := l.At.UTC().Format("02T15:04") + " " + l.Row + strings.Join(l.Rows, "+") + " " + string(l.Outcome)
		if l.Step > 0 {
			x += fmt.Sprintf(" step %d", l.Step)
		}
		if l.Outcome == Skip {
			x += " " + strings.SplitN(l.Reason, ":", 2)[0]
		}
		if l.Template != "A" && l.Template != "" {
			x += " " + l.Template
		}
		if len(l.To) > 0 && l.To[0] != "a@x.example" || len(l.To) > 1 {
			x += " " + strings.Join(l.To, ",")
		}
		out = append(out, x)
	}
	return strings.Join(out, "; ")
}

type clause struct {
	name, rule string
	rows       []string
	edits      []string
	want       string
}

func check(t *testing.T, cs []clause) {
	t.Helper()
	for _, c := range cs {
		if got := told(t, c.rule, c.rows, c.edits...); got != c.want {
			t.Errorf("%s:\n  %s\nwant\n  %s", c.name, got, c.want)
		}
	}
}

func one(cells string) []string { return []string{cells} }

// Section 3, change.
func TestChange(t *testing.T) {
	becomes := `"trigger":{"kind":"change","column":"state","to":["out","back"]}`
	from := `"trigger":{"kind":"change","column":"state","to":["out"],"from":["asked"]}`
	anyChange := `"trigger":{"kind":"change","column":"hum","to":null}`
	check(t, []clause{
		{"the settled value becomes one of to", becomes, one("state=asked"), []string{"15T10:00 L1 state=out"},
			"15T10:02 L1 send"},
		{"from one of to to another is no new entry", becomes, one("state=asked"), []string{"15T10:00 L1 state=out",
			"15T11:00 L1 state=back"}, "15T10:02 L1 send"},
		{"a settled leave is needed between", becomes, one("state=asked"), []string{"15T10:00 L1 state=out",
			"15T11:00 L1 state=asked", "15T12:00 L1 state=out"}, "15T10:02 L1 send; 15T12:02 L1 send"},
		{"put back within the settle time never was", becomes, one("state=asked"), []string{"15T10:00 L1 state=out",
			"15T10:01 L1 state=asked"}, ""},
		{"a leave within the settle time never was", becomes, one("state=asked"), []string{"15T10:00 L1 state=out",
			"15T11:00 L1 state=asked", "15T11:01 L1 state=out"}, "15T10:02 L1 send"},
		{"what is so at the baseline fires nothing", becomes, one("state=out"), []string{"15T10:00 L1 who=Eve"}, ""},
		{"a row added in the state fires", becomes, nil, []string{"15T10:00 +L1 state=out"}, "15T10:02 L1 send"},
		{"unreadable neither enters nor leaves", becomes, one("state=asked"), []string{"15T10:00 L1 state=out",
			"15T11:00 L1 state=lost", "15T12:00 L1 state=out"}, "15T10:02 L1 send"},
		{"unreadable, then left", becomes, one("state=out"), []string{"15T10:00 L1 state=lost", "15T11:00 L1 state=asked",
			"15T12:00 L1 state=out"}, "15T12:02 L1 send"},
		{"at the baseline unreadable counts as empty", becomes, one("state=lost"), []string{"15T10:00 L1 state=out"},
			"15T10:02 L1 send"},
		{"coming from one of from", from, one("state=asked"), []string{"15T10:00 L1 state=out"}, "15T10:02 L1 send"},
		{"not coming from one of from", from, one("state=back"), []string{"15T10:00 L1 state=out"}, ""},
		{"to null: any settled change", anyChange, one("hum=50"), []string{"15T10:00 L1 hum=51", "15T11:00 L1 hum=",
			"15T12:00 L1 hum=damp", "15T13:00 L1 hum=51.0", "15T14:00 L1 hum=51"},
			"15T10:02 L1 send; 15T11:02 L1 send; 15T12:02 L1 send; 15T13:02 L1 send"},
		{"yes/no: to true", `"trigger":{"kind":"change","column":"open","to":[true]}`, one("open=no"),
			[]string{"15T10:00 L1 open=yes"}, "15T10:02 L1 send"},
		{"condition false prints a skip", becomes + `,"condition":{"column":"open","op":"is","value":true}`,
			one("state=asked"), []string{"15T10:00 L1 state=out"}, "15T10:02 L1 skip condition false"},
		{"a returning row is compared with its last settled values", becomes, one("state=asked"),
			[]string{"15T10:00 -L1", "15T11:00 +L1 state=out"}, "15T11:02 L1 send"},
		{"and is not added in the state anew", becomes, one("state=out"), []string{"15T10:00 -L1", "15T11:00 +L1 state=out"},
			""},
	})
}

// Section 3, added and edited.
func TestAddedAndEdited(t *testing.T) {
	added, edited := `"trigger":{"kind":"added"}`, `"trigger":{"kind":"edited","columns":["hum","who"]}`
	check(t, []clause{
		{"a row has been added and has settled", added, one(""), []string{"15T10:00 +L2 ", "15T10:01 L2 who=Eve"},
			"15T10:03 L2 send"},
		{"a returning row is not added", added, one(""), []string{"15T10:00 -L1", "15T11:00 +L1 "}, ""},
		{"any of these changed", edited, one("hum=1"), []string{"15T10:00 L1 hum=2", "15T11:00 L1 state=out",
			"15T12:00 L1 who=Eve|hum=3"}, "15T10:02 L1 send; 15T12:02 L1 send"},
		{"only case or outer space is none", edited, one("who=eve"), []string{"15T10:00 L1 who= EVE "}, ""},
		{"adding the row does not count", edited, nil, []string{"15T10:00 +L1 hum=2"}, ""},
		{"deleted while it settles", edited, one("hum=1"), []string{"15T10:00 L1 hum=2", "15T10:01 -L1"}, ""},
	})
}

// Section 3, threshold.
func TestThreshold(t *testing.T) {
	plain := `"trigger":{"kind":"threshold","column":"hum","op":">=","limit":55}`
	rearm := `"trigger":{"kind":"threshold","column":"hum","op":">=","limit":55,"rearm":50}`
	percent := `"trigger":{"kind":"threshold","column":"hum","op":">","limit":{"column":"lim"},"rearm":{"percent":10}}`
	below := `"trigger":{"kind":"threshold","column":"hum","op":"<","limit":10,"rearm":{"column":"lim"}}`
	check(t, []clause{
		{"fires, disarms, and arms when the comparison is false", plain, one("hum=50"),
			[]string{"15T10:00 L1 hum=55", "15T11:00 L1 hum=60", "15T12:00 L1 hum=54", "15T13:00 L1 hum=56"},
			"15T10:02 L1 send; 15T13:02 L1 send"},
		{"arms again at the re-arm level only", rearm, one("hum=48"), []string{"15T10:00 L1 hum=55", "15T11:00 L1 hum=51",
			"15T12:00 L1 hum=56", "15T13:00 L1 hum=50", "15T14:00 L1 hum=57"}, "15T10:02 L1 send; 15T14:02 L1 send"},
		{"above the limit at the baseline: disarmed", rearm, one("hum=61"),
			[]string{"15T10:00 L1 hum=52", "15T11:00 L1 hum=60", "15T12:00 L1 hum=49", "15T13:00 L1 hum=56"},
			"15T13:02 L1 send"},
		{"between the levels at the baseline: armed", rearm, one("hum=52"), []string{"15T10:00 L1 hum=56"},
			"15T10:02 L1 send"},
		{"empty at the baseline: armed", rearm, one(""), []string{"15T10:00 L1 hum=56"}, "15T10:02 L1 send"},
		{"empty or unreadable changes nothing", rearm, one("hum=48"), []string{"15T10:00 L1 hum=55", "15T11:00 L1 hum=",
			"15T12:00 L1 hum=damp", "15T13:00 L1 hum=56", "15T14:00 L1 hum=49", "15T15:00 L1 hum=55"},
			"15T10:02 L1 send; 15T15:02 L1 send"},
		{"percent of the limit's size, away from the firing side", percent, one("hum=10|lim=50"),
			[]string{"15T10:00 L1 hum=51", "15T11:00 L1 hum=46", "15T12:00 L1 hum=52", "15T13:00 L1 hum=45",
				"15T14:00 L1 hum=52"}, "15T10:02 L1 send; 15T14:02 L1 send"},
		{"a limit that falls below the value fires", percent, one("hum=40|lim=50"), []string{"15T10:00 L1 lim=30"},
			"15T10:02 L1 send"},
		{"an empty re-arm leaves it disarmed", below, one("hum=20|lim="), []string{"15T10:00 L1 hum=5", "15T11:00 L1 hum=20",
			"15T12:00 L1 hum=5", "15T13:00 L1 lim=15", "15T14:00 L1 hum=20", "15T15:00 L1 hum=4"},
			"15T10:02 L1 send; 15T15:02 L1 send"},
		{"added beyond the limit fires", plain, nil, []string{"15T10:00 +L1 hum=60"}, "15T10:02 L1 send"},
		{"a moving column turns at midnight", `"trigger":{"kind":"threshold","column":"left","op":"<=","limit":3}`,
			one("due=2027-03-20"), nil, "17T00:00 L1 send"},
		{"and again when the date is moved away", `"trigger":{"kind":"threshold","column":"left","op":"<=","limit":3}`,
			one("due=2027-03-20"), []string{"18T10:00 L1 due=2027-03-30"}, "17T00:00 L1 send; 27T00:00 L1 send"},
		{"now() turns at its second", `"trigger":{"kind":"threshold","column":"age","op":">=","limit":26}`,
			one("read=2027-03-15 07:15"), []string{"16T10:00 L1 read=2027-03-16 09:59"}, "16T09:15 L1 send; 17T11:59 L1 send"},
	})
}

// Sections 2 and 3: schedules, windows and shifts.
func TestScheduleAndWindow(t *testing.T) {
	friday := `"trigger":{"kind":"schedule","start":"2027-03-01T15:30","rrule":"FREQ=WEEKLY;BYDAY=FR"}`
	office := `,"window":{"weekdays":["mon","tue","wed","thu","fri"],"from":"08:00","until":"17:00"}`
	sunday := `"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"at":"09:00"}`
	reaction := `"trigger":{"kind":"change","column":"open","to":[true]}`
	check(t, []clause{
		{"at each instant every row for which the condition then holds",
			friday + `,"condition":{"column":"state","op":"is","value":"out"}`, []string{"state=out", "state=asked",
				"state=lost"}, []string{"20T10:00 L2 state=out"},
			"19T15:30 L1 send; 19T15:30 L3 incomplete; 26T15:30 L1 send; 26T15:30 L2 send; 26T15:30 L3 incomplete; 02T14:30 " +
				"L1 send; 02T14:30 L2 send; 02T14:30 L3 incomplete; 09T14:30 L1 send; 09T14:30 L2 send; 09T14:30 L3 incomplete"},
		{"an unsettled row waits",
			`"trigger":{"kind":"schedule","start":"2027-03-19T15:30"},"condition":{"column":"state","op":"is","value":"out"}`,
			one("state=out"), []string{"19T15:29 L1 who=x", "19T15:29:30 L1 state=back"}, ""},
		{"and is judged when it settles", `"trigger":{"kind":"schedule","start":"2027-03-19T15:30"}`, one("state=out"),
			[]string{"19T15:29 L1 who=x"}, "19T15:31 L1 send"},
		{"shift later", sunday + office, one("due=2027-03-21"), nil, "22T08:00 L1 send"},
		{"shift earlier, at the rule's time", sunday + office + `,"shift":"earlier"`, one("due=2027-03-21"), nil,
			"19T09:00 L1 send"},
		{"shift none", sunday + office + `,"shift":"none"`, one("due=2027-03-21"), nil, "21T09:00 L1 send"},
		{"earlier lies in the past when first known: at once", sunday + office + `,"shift":"earlier"`, one("due=2027-05-01"),
			[]string{"20T10:00 L1 due=2027-03-21"}, "20T10:02 L1 send"},
		{"both past: none", sunday + office + `,"shift":"earlier"`, one("due=2027-03-14"), nil, ""},
		{"a reaction waits for the window", reaction + office, one("open=no"), []string{"20T10:00 L1 open=yes"},
			"22T08:00 L1 send"},
		{"and is judged then", reaction + office + `,"condition":{"column":"open","op":"is","value":true}`, one("open=no"),
			[]string{"20T10:00 L1 open=yes", "20T12:00 L1 open=no"}, "22T08:00 L1 skip condition false"},
		{"a deleted row's moved reaction is dropped", reaction + office, one("open=no"), []string{"20T10:00 L1 open=yes",
			"20T12:00 -L1"}, ""},
		{"mended outside the window goes at its next start", reaction + office, one("open=no|to="),
			[]string{"15T10:00 L1 open=yes", "15T20:00 L1 to=a@x.example"}, "15T10:02 L1 incomplete; 16T08:00 L1 send"},
	})
}

// Section 3: what, to whom, how often.
func TestWordingRecipientsRepeat(t *testing.T) {
	edited := `"trigger":{"kind":"edited","columns":["hum"]}`
	check(t, []clause{
		{"the first wording that holds",
			edited + `,"send":[{"if":{"column":"hum","op":">","value":60},"template":"C"},{"template":"A"}]`, one(""),
			[]string{"15T10:00 L1 hum=70", "15T11:00 L1 hum=50"}, "15T10:02 L1 send C; 15T11:02 L1 send"},
		{"no template fits", edited + `,"send":[{"if":{"column":"hum","op":">","value":60},"template":"C"}]`, one(""),
			[]string{"15T10:00 L1 hum=50"}, "15T10:02 L1 skip no template fits"},
		{"unknown counts as false in if",
			edited + `,"send":[{"if":{"column":"hum","op":">","value":60},"template":"C"},{"template":"A"}]`, one(""),
			[]string{"15T10:00 L1 hum=damp"}, "15T10:02 L1 send"},
		{"each: one email per To mailbox", edited + `,"each":true`, one("to=b@x.example, a@x.example; B@x.example"),
			[]string{"15T10:00 L1 hum=1"}, "15T10:02 L1 send b@x.example; 15T10:02 L1 send"},
		{"each: an unreadable recipient is one line", edited + `,"each":true`, one("to=b@x, a@"),
			[]string{"15T10:00 L1 hum=1"}, "15T10:02 L1 incomplete"},
		{"each: a missing field one per mailbox", edited + `,"each":true,"send":[{"template":"B"}]`,
			one("to=b@x.example, a@x.example"), []string{"15T10:00 L1 hum=1", "15T10:10 L1 who=Eve"},
			"15T10:02 L1 incomplete B b@x.example; 15T10:02 L1 incomplete B; 15T10:12 L1 send B b@x.example; 15T10:12 L1 send B"},
		{"once per row", edited + `,"repeat":"once-per-row"`, one(""), []string{"15T10:00 L1 hum=1", "15T11:00 L1 hum=2"},
			"15T10:02 L1 send; 15T11:02 L1 skip repeat"},
		{"not more often than: exactly the duration is far enough", edited + `,"repeat":{"not-more-often-than":"PT1H"}`,
			one(""), []string{"15T10:00 L1 hum=1", "15T10:59:59 L1 hum=2", "15T11:30 L1 hum=3", "15T11:58 L1 hum=4"},
			"15T10:02 L1 send; 15T11:01 L1 skip repeat; 15T11:32 L1 send; 15T12:00 L1 skip repeat"},
		{"hold always", edited + `,"hold":"always","then":{"steps":[{"after":"PT1H","template":"C"}]}`, one(""),
			[]string{"15T10:00 L1 hum=1"}, "15T10:02 L1 hold"},
		{"an empty list item in a condition is passed over",
			edited + `,"condition":{"column":"hum","op":"one-of","value":[{"column":"lim"},7]}`, one(""),
			[]string{"15T10:00 L1 hum=7"}, "15T10:02 L1 send"},
		{"changed within: the edit itself counts, exactly that long ago too",
			`"trigger":{"kind":"schedule","start":"2027-03-16T10:02","rrule":"FREQ=DAILY;COUNT=2"},"condition":{"column":"hum","op":"changed-within","value":"P1D"}`, one("hum=1"), []string{"15T10:00 L1 hum=2"}, "16T10:02 L1 send"},
		{"nothing changed before the baseline",
			`"trigger":{"kind":"schedule","start":"2027-03-16T10:02"},"condition":{"column":"hum","op":"changed-within","value":"P9D"}`, one("hum=1"), []string{"14T10:00 L1 hum=2"}, ""},
		{"adding changes every filled cell, and no empty one",
			`"trigger":{"kind":"added"},"condition":{"all":[{"column":"hum","op":"changed-within","value":"P1D"},{"not":{"column":"lim","op":"changed-within","value":"P1D"}}]}`, nil, []string{"15T10:00 +L1 hum=2"}, "15T10:02 L1 send"},
	})
}

// Section 3: reactions that wait.
func TestDelay(t *testing.T) {
	becomes := `"trigger":{"kind":"change","column":"state","to":["out","back"],"delay":"PT1H"}`
	damp := `"trigger":{"kind":"threshold","column":"hum","op":">=","limit":60,"rearm":50,"delay":"PT1H"}`
	check(t, []clause{
		{"an hour after it settles", becomes, one("state=asked"), []string{"15T10:00 L1 state=out"}, "15T11:02 L1 send"},
		{"days in wall time", strings.Replace(becomes, "PT1H", "P14D", 1), one("state=asked"),
			[]string{"15T10:00 L1 state=out"}, "29T09:02 L1 send"},
		{"left again by then", becomes, one("state=asked"), []string{"15T10:00 L1 state=out", "15T10:30 L1 state=asked"},
			"15T11:02 L1 skip left again"},
		{"from one of to to another leaves nothing", becomes, one("state=asked"),
			[]string{"15T10:00 L1 state=out", "15T10:30 L1 state=back"}, "15T11:02 L1 send"},
		{"an episode that has ended and begun anew has an occasion of its own", becomes, one("state=asked"),
			[]string{"15T10:00 L1 state=out", "15T10:20 L1 state=asked", "15T10:40 L1 state=out"},
			"15T11:02 L1 skip left again; 15T11:42 L1 send"},
		{"unreadable leaves nothing", becomes, one("state=asked"), []string{"15T10:00 L1 state=out", "15T10:30 L1 state=lost"},
			"15T11:02 L1 send"},
		{"emptying leaves", becomes, one("state=asked"), []string{"15T10:00 L1 state=out", "15T10:30 L1 state="},
			"15T11:02 L1 skip left again"},
		{"an edit that settles later is waited for", becomes, one("state=asked"),
			[]string{"15T10:00 L1 state=out", "15T11:01 L1 state=asked"}, "15T11:03 L1 skip left again"},
		{"a threshold's comparison is false by then", damp, one("hum=40"), []string{"15T10:00 L1 hum=70", "15T10:30 L1 hum=55"},
			"15T11:02 L1 skip left again"},
		{"a threshold, back beyond the limit without having been armed", damp, one("hum=40"),
			[]string{"15T10:00 L1 hum=70", "15T10:30 L1 hum=55", "15T10:45 L1 hum=80"}, "15T11:02 L1 send"},
		{"a threshold's empty value leaves nothing", damp, one("hum=40"), []string{"15T10:00 L1 hum=70", "15T10:30 L1 hum="},
			"15T11:02 L1 send"},
		{"left again goes before the condition", becomes + `,"condition":{"column":"hum","op":">","value":90}`,
			one("state=asked"), []string{"15T10:00 L1 state=out", "15T10:30 L1 state=asked"}, "15T11:02 L1 skip left again"},
		{"added, edited and any change leave nothing", `"trigger":{"kind":"edited","columns":["hum"],"delay":"PT1H"}`,
			one("hum=40"), []string{"15T10:00 L1 hum=70", "15T10:30 L1 hum=40"}, "15T11:02 L1 send; 15T11:32 L1 send"},
		{"the window moves it as it moves everything",
			`"trigger":{"kind":"added","delay":"PT10H"},"window":{"from":"08:00","until":"17:00"}`, nil,
			[]string{"15T10:00 +L1 hum=1"}, "16T08:00 L1 send"},
		{"follow-ups count from the delayed instant", `"trigger":{"kind":"added","delay":"PT1H"},"then":{"steps":[{"after":"P1D","template":"C"}]}`,
			nil, []string{"15T10:00 +L1 hum=1"}, "15T11:02 L1 send; 16T11:02 L1 send step 1 C"},
		{"deleting the row drops it", becomes, one("state=asked"), []string{"15T10:00 L1 state=out", "15T10:30 -L1"}, ""},
	})
	for trigger, want := range map[string]string{
		`{"kind":"schedule","start":"2027-03-15T09:00","delay":"PT1H"}`:                   "/trigger/delay",
		`{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"delay":"PT1H"}`: "/trigger/delay",
		`{"kind":"added","delay":"soon"}`:                                                 "/trigger/delay",
		`{"kind":"added","delay":"P900D"}`:                                                "/trigger/delay",
		`{"kind":"added","delay":""}`:                                                     "/trigger/delay",
	} {
		s, templates := desk()
		r, err := rule.Decode([]byte(`{"name":"R","state":"on","send":[{"template":"A"}],"to":[{"column":"to"}],"trigger":` + trigger + `}`))
		if err == nil {
			scope := rule.SheetScope{Sheet: s, Templates: map[string]bool{}}
			for id := range templates {
				scope.Templates[id] = true
			}
			err = r.Validate(scope)
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want a fault at %s", trigger, err, want)
		}
	}
}

// Section 3, then: follow-ups.
func TestFollowUps(t *testing.T) {
	rule := func(then string) string { return `"trigger":{"kind":"edited","columns":["hum"]},"then":` + then }
	stop := `{"steps":[{"after":"P3D","template":"B"},{"after":"P1W","template":"C"}],"stopIf":{"column":"state","op":"is","value":"back"}}`
	check(t, []clause{
		{"counted from the first email's due instant, in wall time",
			rule(`{"steps":[{"after":"P14D","template":"C"},{"after":"PT1H","template":"C"}]}`), one(""),
			[]string{"15T10:00 L1 hum=1"}, "15T10:02 L1 send; 15T11:02 L1 send step 2 C; 29T09:02 L1 send step 1 C"},
		{"at a time of day", rule(`{"steps":[{"after":"P2D","template":"C","at":"08:30"}]}`), one(""),
			[]string{"15T10:00 L1 hum=1"}, "15T10:02 L1 send; 17T08:30 L1 send step 1 C"},
		{"the step that finds it stopped is skipped, later ones leave no line", rule(stop), one("who=Eve"),
			[]string{"15T10:00 L1 hum=1", "16T10:00 L1 state=back"}, "15T10:02 L1 send; 18T10:02 L1 skip step 1 stopped"},
		{"with each, a step for others that is stopped ends every mailbox's chain",
			rule(`{"steps":[{"after":"P1D","template":"C","to":[{"address":"boss@x.example"}]},{"after":"P2D","template":"C"}],"stopIf":{"column":"state","op":"is","value":"back"}}`) +
				`,"each":true`, one("to=b@x.example, a@x.example"), []string{"15T10:00 L1 hum=1", "15T12:00 L1 state=back",
				"16T12:00 L1 state=out"},
			"15T10:02 L1 send b@x.example; 15T10:02 L1 send; 16T10:02 L1 skip step 1 stopped"},
		{"with each, a later step for others leaves no line once all mailboxes' chains are stopped",
			rule(`{"steps":[{"after":"P1D","template":"C"},{"after":"P2D","template":"C","to":[{"address":"boss@x.example"}]}],"stopIf":{"column":"state","op":"is","value":"back"}}`) +
				`,"each":true`, one("to=b@x.example, a@x.example"), []string{"15T10:00 L1 hum=1", "15T12:00 L1 state=back",
				"16T12:00 L1 state=out"},
			"15T10:02 L1 send b@x.example; 15T10:02 L1 send; 16T10:02 L1 skip step 1 stopped; 16T10:02 L1 skip step 1 stopped"},
		{"a step for others that is stopped ends the chain without each too",
			rule(`{"steps":[{"after":"P1D","template":"C","to":[{"address":"boss@x.example"}]},{"after":"P2D","template":"C"}],"stopIf":{"column":"state","op":"is","value":"back"}}`),
			one(""), []string{"15T10:00 L1 hum=1", "15T12:00 L1 state=back", "16T12:00 L1 state=out"},
			"15T10:02 L1 send; 16T10:02 L1 skip step 1 stopped"},
		{"not stopped", rule(stop), one("who=Eve"), []string{"15T10:00 L1 hum=1"},
			"15T10:02 L1 send; 18T10:02 L1 send step 1 B; 22T10:02 L1 send step 2 C"},
		{"unknown in stopIf counts as false", rule(stop), one("who=Eve"),
			[]string{"15T10:00 L1 hum=1", "16T10:00 L1 state=lost"},
			"15T10:02 L1 send; 18T10:02 L1 send step 1 B; 22T10:02 L1 send step 2 C"},
		{"a step may recur", rule(`{"steps":[{"after":"P1D","template":"C","every":"P1W","times":3}]}`), one(""),
			[]string{"15T10:00 L1 hum=1"},
			"15T10:02 L1 send; 16T10:02 L1 send step 1 C; 23T10:02 L1 send step 1 C; 30T09:02 L1 send step 1 C"},
		{"it may go to others", rule(`{"steps":[{"after":"P1D","template":"C","to":[{"address":"boss@x.example"}]}]}`) +
			`,"each":true`, one("to=b@x.example, a@x.example"), []string{"15T10:00 L1 hum=1"},
			"15T10:02 L1 send b@x.example; 15T10:02 L1 send; 16T10:02 L1 send step 1 C boss@x.example"},
		{"with each, each mailbox has its chain, one no longer in To is skipped",
			rule(`{"steps":[{"after":"P1D","template":"C"}]}`) + `,"each":true`, one("to=b@x.example, a@x.example"),
			[]string{"15T10:00 L1 hum=1", "15T12:00 L1 to=a@x.example"},
			"15T10:02 L1 send b@x.example; 15T10:02 L1 send; 16T10:02 L1 skip step 1 b@x.example is no longer among the " +
				"recipients; 16T10:02 L1 send step 1 C"},
		{"an unsettled row waits", rule(`{"steps":[{"after":"PT1H","template":"C"}]}`), one(""),
			[]string{"15T10:00 L1 hum=1", "15T11:01 L1 who=x"}, "15T10:02 L1 send; 15T11:03 L1 send step 1 C"},
		{"deleting the row drops what is not yet due", rule(`{"steps":[{"after":"PT1H","template":"C"}]}`), one(""),
			[]string{"15T10:00 L1 hum=1", "15T10:30 -L1"}, "15T10:02 L1 send"},
		{"and skips what waits for settling", rule(`{"steps":[{"after":"PT1H","template":"C"}]}`), one(""),
			[]string{"15T10:00 L1 hum=1", "15T11:01 L1 who=x", "15T11:02:30 -L1"},
			"15T10:02 L1 send; 15T11:02 L1 skip step 1 row deleted"},
		{"none follows what is incomplete, until it goes", rule(`{"steps":[{"after":"PT1H","template":"C"}]}`), one("to="),
			[]string{"15T10:00 L1 hum=1", "15T14:00 L1 to=a@x.example"},
			"15T10:02 L1 incomplete; 15T14:02 L1 send; 15T15:02 L1 send step 1 C"},
		{"moving the date drops the follow-ups",
			`"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}]},"then":{"steps":[{"after":"P5D","template":"C"}]}`, one("due=2027-03-16"), []string{"17T10:00 L1 due=2027-04-09"}, "16T09:00 L1 send; 09T08:00 L1 send"},
		{"moved by the window only to later", rule(`{"steps":[{"after":"P5D","template":"C"}]}`) +
			`,"window":{"weekdays":["mon","tue","wed","thu","fri"]},"shift":"earlier"`, one(""), []string{"15T10:00 L1 hum=1"},
			"15T10:02 L1 send; 22T00:00 L1 send step 1 C"},
	})
}

// Section 3, groupBy: a round-up, one email per recipient with all rows.
func TestRoundUps(t *testing.T) {
	s := `"groupBy":"recipient","send":[{"template":"R"}],"condition":{"column":"state","op":"is","value":"out"},"trigger":{"kind":"schedule","start":"2027-03-19T15:30"}`
	sh, templates := desk()
	r, err := rule.Decode([]byte(`{"name":"R","state":"on","to":[{"column":"to"}],` + s + `}`))
	if err != nil {
		t.Fatal(err)
	}
	r.ID = "R"
	up := &template.Template{ID: "R", Name: "R"}
	up.Subject, _ = template.ParseLine("For [Email]", sh)
	up.Body = template.Node{Type: template.Doc,
		Content: []template.Node{{Type: template.RoundUp, List: &template.FieldList{Fields: []template.Field{{Column: "key"},
			{Column: "who"}}}}}}
	templates["R"] = up
	set := ready(sh, r, templates)
	var rows []*sheet.Row
	for i, c := range []string{"state=out|to=b@x.example", "state=back|to=b@x.example",
		"state=out|to=a@x.example|who=Ada", "state=out|to=b@x.example|who=<b>", "state=out|to=", "state=lost"} {
		rows = append(rows, mkRow(sh, fmt.Sprintf("L%d", i+1), fmt.Sprintf("key=L%d|", i+1)+c))
	}
	ls, err := rehearse([]*CompiledRule{set}, rows, nil, at("2027-03-15T08:00:00Z"), at("2027-03-25T08:00:00Z"))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, l := range ls {
		got = append(got, fmt.Sprintf("%s %v %s %v %q", l.Row, l.Rows, l.Outcome, l.To, l.Subject))
	}
	want := `[L1 L4] send [b@x.example] "For b@x.example"; [L3] send [a@x.example] "For a@x.example"; L5 [] incomplete [] ""; L6 [] incomplete [] ""`
	if g := strings.ReplaceAll(strings.TrimSpace(strings.Join(got, "; ")), " [L3]", " [L3]"); strings.ReplaceAll(g, ";  ",
		"; ") != want {
		t.Errorf("%s\nwant\n%s", g, want)
	}
	round := set.Rounds(at("2027-03-15T08:00:00Z"), at("2027-03-25T08:00:00Z"))[0]
	set.Light = false
	ups, own := set.RoundUps(round, rows, round.Due, func(*sheet.Row) Memory { return Memory{} })
	if len(ups) != 2 || len(own) != 2 || !strings.Contains(ups[0].HTML, "&lt;b&gt;") ||
		!strings.Contains(ups[0].Text, "- L1 · \n- L4 · <b>") {
		t.Errorf("%d round-ups, %d alone\n%s", len(ups), len(own), ups[0].Text)
	}
	if ups[0].Identity() != ls[0].Occasion {
		t.Error("live and rehearsed identities differ")
	}
	if err := set.CheckRoundUp(rows, round.Due); err != nil {
		t.Error(err)
	}
	up.Subject, _ = template.ParseLine("About [Loan]", sh)
	up.Prepare(sh)
	if err := set.CheckRoundUp(rows, round.Due); err == nil ||
		!strings.Contains(err.Error(), "differs between L1 and L4") {
		t.Error(err)
	}
}

// Section 5, the brake: all that fall due at one instant are counted before
// any is decided; it lets go after ten minutes without any.
func TestBrake(t *testing.T) {
	rows := make([]string, 30)
	var edits []string
	for i := range 11 {
		edits = append(edits, fmt.Sprintf("15T10:00 L%d hum=1", i+1))
	}
	edits = append(edits, "15T10:09 L20 hum=1", "15T10:20 L21 hum=1", "15T10:31 L22 hum=1")
	trigger := `"trigger":{"kind":"edited","columns":["hum"]},"then":{"steps":[{"after":"PT4H","template":"C"}]}`
	count := func(got, outcome string) int { return strings.Count(got, " "+outcome) }
	if got := told(t, trigger, rows, edits...); count(got, "hold") != 12 || count(got, "send step") != 2 ||
		!strings.HasSuffix(got, "15T14:33 L22 send step 1 C") {
		t.Errorf("11 of 30 rows at once, then one within ten minutes, then two more: %s", got)
	}
	if got := told(t, trigger+`,"brake":{"count":50,"share":0.5}`, rows, edits...); count(got, "hold") != 0 {
		t.Errorf("half of the rows: %s", got)
	}
	if got := told(t, trigger+`,"brake":{"count":5,"share":1}`, rows, edits...); count(got, "hold") != 12 {
		t.Errorf("five emails: %s", got)
	}
}

// Explain agrees with what is decided, for every trigger.
func TestExplainEveryTrigger(t *testing.T) {
	s, templates := desk()
	for _, trigger := range []string{`{"kind":"date","column":"due","offsets":[{"n":-1,"unit":"days"}]}`,
		`{"kind":"change","column":"state","to":["out"]}`, `{"kind":"added"}`,
		`{"kind":"edited","columns":["hum"]}`, `{"kind":"threshold","column":"hum","op":">","limit":55}`,
		`{"kind":"schedule","start":"2027-03-19T15:30"}`, `{"kind":"by-hand"}`} {
		r, err := rule.Decode(
			[]byte(
				`{"name":"R","to":[{"column":"to"}],"send":[{"template":"B"}],"condition":{"column":"open","op":"is","value":true},"trigger":` + trigger + `}`))
		if err != nil {
			t.Fatal(err)
		}
		set := ready(s, r, templates)
		for _, c := range []struct {
			cells string
			goes  bool
		}{{"who=Eve|to=a@x.example|open=yes|due=2027-03-20", true}, {"who=Eve|to=a@x.example|open=no|due=2027-03-20", false},
			{"who=|to=a@x.example|open=yes|due=2027-03-20", false},
			{"who=Eve|to=|open=yes|due=2027-03-20", false}, {"who=Eve|to=a@|open=yes|due=2027-03-20", false},
			{"who=Eve|to=a@x.example|open=maybe|due=2027-03-20", false}} {
			e := set.Explain(mkRow(s, "L1", "key=L1|"+c.cells), at("2027-03-15T08:00:00Z"), Memory{})
			rest := true
			for _, x := range e.Clauses[1:] {
				rest = rest && x.Holds == "yes"
			}
			if rest != c.goes || e.Summary == "" || e.Next != nil && (e.Next.Outcome == Send) != c.goes {
				t.Errorf("%s, %s: %+v", trigger, c.cells, e)
			}
		}
		if words := r.When(s); words == "" {
			t.Errorf("%s has no words", trigger)
		}
	}
}

// Whatever the trigger, any order of edits, deletions and returns makes no
// identity twice, but for the second line of what was incomplete; lines come
// in order; and the same rehearsal gives the same lines.
func TestIdentityNeverTwiceByAnyTrigger(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 1811))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for trial := range 300 {
		s, templates := desk()
		j := `{"name":"R","state":"on","to":[{"column":"to"}],"send":[{"template":"` + pick("A", "B") + `"}],"trigger":` +
			pick(
				`{"kind":"date","column":"due","offsets":[{"n":-2,"unit":"days"},{"n":-1,"unit":"working-days"}],"every":{"unit":"days","n":3,"times":4}}`, `{"kind":"date","column":"read","offsets":[{"n":5,"unit":"hours"}]}`,
				`{"kind":"change","column":"state","to":["out"]}`, `{"kind":"change","column":"hum","to":null}`,
				`{"kind":"added"}`,
				`{"kind":"edited","columns":["hum","who"]}`,
				`{"kind":"threshold","column":"hum","op":">","limit":50,"rearm":{"column":"lim"}}`,
				`{"kind":"threshold","column":"left","op":"<","limit":4}`,
				`{"kind":"schedule","start":"2027-03-15T12:00","rrule":"FREQ=DAILY"}`) +
			pick("", `,"each":true`) + pick("", `,"window":{"from":"08:00","until":"12:00","workingDays":true},"shift":"`+
			pick("later", "earlier", "none")+`"`) + pick("", `,"condition":{"column":"open","op":"is","value":true}`) +
			pick("",
				`,"then":{"steps":[{"after":"PT3H","template":"B"},{"after":"P1D","template":"C","every":"P1D","times":3,"to":[{"address":"boss@x.example"}]}],"stopIf":{"column":"state","op":"is","value":"back"}}`) + pick("", `,"repeat":{"not-more-often-than":"P1D"}`) + `}`
		var edits []Edit
		there := map[string]bool{"L1": true, "L2": true}
		now := at("2027-03-14T08:00:00Z")
		cell := func() string {
			return pick(fmt.Sprintf("due=2027-03-%02d", 14+r.IntN(12)), "due=soon", fmt.Sprintf("read=2027-03-%02d 10:30",
				14+r.IntN(10)), "state="+pick("out", "asked", "back", "lost", ""), fmt.Sprintf("hum=%d", 40+r.IntN(20)),
				"hum=damp",
				"lim="+pick("45", ""), "open="+pick("yes", "no", "maybe"), "who="+pick("", "Eve", "Ada"),
				"to="+pick("", "a@x.example", "a@x.example, b@x.example", "oops"))
		}
		for range 25 {
			now = now.Add(time.Duration(r.IntN(9*3600)) * time.Second)
			id := fmt.Sprintf("L%d", 1+r.IntN(4))
			switch {
			case !there[id]:
				edits = append(edits, Edit{At: now, Row: id, Add: true, Set: cells(s, "key="+id+"|"+cell()+"|"+cell()+"|"+cell())})
				there[id] = true
			case r.IntN(8) == 0:
				edits = append(edits, Edit{At: now, Row: id, Delete: true})
				there[id] = false
			default:
				edits = append(edits, Edit{At: now, Row: id, Set: cells(s, cell())})
			}
		}
		run := func() []Line {
			rl, err := rule.Decode([]byte(j))
			if err != nil {
				t.Fatalf("%s: %v", j, err)
			}
			rl.ID = "R"
			rows := []*sheet.Row{mkRow(s, "L1", "key=L1|to=a@x.example|due=2027-03-20|open=yes"),
				mkRow(s, "L2", "key=L2|to=b@x.example|hum=60|open=yes|who=Eve")}
			ls, err := rehearse([]*CompiledRule{ready(s, rl, templates)}, rows, edits, at("2027-03-14T08:00:00Z"),
				at("2027-04-05T00:00:00Z"))
			if err != nil {
				t.Fatal(err)
			}
			return ls
		}
		ls := run()
		seen := map[rule.ID]Outcome{}
		for i, l := range ls {
			if was, ok := seen[l.Occasion]; ok && !(was == Incomplete && (l.Outcome == Send || l.Outcome == Hold)) {
				t.Fatalf("trial %d, %s: %s twice: %s, then %s (%s)", trial, j, l.Occasion, was, l.Outcome, l.Reason)
			}
			seen[l.Occasion] = l.Outcome
			if i > 0 && Compare(&ls[i], &ls[i-1]) < 0 {
				t.Fatalf("trial %d: lines out of order", trial)
			}
		}
		if again := run(); fmt.Sprint(again) != fmt.Sprint(ls) {
			t.Fatalf("trial %d: played again it says something else", trial)
		}
	}
}

// What waits in the queue is too late by its rule's limit, less the time for which it was held.
func TestTooLate(t *testing.T) {
	due := time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)
	s := &CompiledRule{late: calendar.Duration{Time: 24 * time.Hour}, Zone: time.UTC}
	for _, c := range []struct {
		name                 string
		decided, queued, now time.Duration // after it was due
		want                 bool
	}{
		{"within the limit", 0, 0, 24 * time.Hour, false},
		{"beyond it", 0, 0, 24*time.Hour + 1, true},
		{"held for a while", 0, 12 * time.Hour, 36 * time.Hour, false},
		{"held for a while, and beyond", 0, 12 * time.Hour, 36*time.Hour + 1, true},
		{"held for longer than the limit", 0, 49 * time.Hour, 73 * time.Hour, false},
		{"judged late", 20 * time.Hour, 20 * time.Hour, 25 * time.Hour, true},
		{"missed, and sent by a person", 30 * time.Hour, 40 * time.Hour, 400 * time.Hour, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := s.TooLate(due, due.Add(c.decided), due.Add(c.queued), due.Add(c.now)); got != c.want {
				t.Errorf("%v, want %v", got, c.want)
			}
		})
	}
}
