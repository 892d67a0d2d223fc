package rule

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

var monday = time.Date(2027, 3, 15, 9, 0, 0, 0, time.UTC)

// story settles a row once for each cell text, beginning with the row being
// added unless the first is "base:…", which is how it stood at the baseline.
// It gives the number of each occasion that comes of it, parted by spaces, "-"
// where none does; "switch" is a new baseline.
func story(t *testing.T, r *Rule, s *sheet.Sheet, column string, texts ...string) string {
	t.Helper()
	var before *sheet.Row
	var st RowState
	var out []string
	for i, text := range texts {
		at := monday.Add(time.Duration(i) * time.Hour)
		if text == "switch" {
			st.Baseline(at)
			continue
		}
		text, base := strings.CutPrefix(text, "base:")
		cells := map[string]string{column: text}
		if before != nil { // the other cells stay
			for k := range s.Columns {
				c := &s.Columns[k]
				if c.ID != column {
					cells[c.ID] = s.Input(c, before.Cell(c))
				}
			}
		} else {
			cells["lim"] = "60"
		}
		if strings.Contains(text, "=") {
			for _, pair := range strings.Split(text, " & ") {
				id, v, _ := strings.Cut(pair, "=")
				cells[id] = v
			}
		}
		after := row(s, cells)
		if !base {
			o, fires := r.React(Settled{Sheet: s, Before: before, After: after, At: at}, &st)
			if !fires {
				out = append(out, "-")
			} else {
				out = append(out, fmt.Sprint(o.N))
				if o.Due != at || o.Row != "r" || o.Rule != "rule" {
					t.Errorf("%+v", o)
				}
			}
		}
		before = after
	}
	return strings.Join(out, " ")
}

func reacting(t *testing.T, trigger string) *Rule {
	t.Helper()
	r := &Rule{ID: "rule"}
	if err := json.Unmarshal([]byte(trigger), &r.Trigger); err != nil {
		t.Fatalf("%s: %v", trigger, err)
	}
	return r
}

// Section 3: what of a row's story a reaction makes an occasion of.
func TestReact(t *testing.T) {
	s := loans()
	for _, c := range []struct{ trigger, column, texts, want string }{
		// added: once, and never by an edit.
		{`{"kind":"added"}`, "name", "Ada|Ben|", "0 - -"},
		// edited: not by adding, not by text that compares the same.
		{`{"kind":"edited","columns":["name"]}`, "name", "Ada|ADA |Ben||Ben", "- - 1 2 3"},
		{`{"kind":"edited","columns":["hum"]}`, "name", "Ada|Ben", "- -"},
		{`{"kind":"edited","columns":["hum","name"]}`, "name", "Ada|Ben", "- 1"},
		// change to one of some: entering counts, moving among them does not.
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "out|back|out|out|", "1 - 2 - -"},
		{`{"kind":"change","column":"state","to":["out","back"]}`, "state", "asked for|out|back|asked for|back",
			"- 1 - - 2"},
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "base:out|out|back|out", "- - 1"},
		// from: where it came from counts only then; the entry is counted all the same.
		{`{"kind":"change","column":"state","to":["back"],"from":["out"]}`, "state", "asked for|back|out|back", "- - - 2"},
		{`{"kind":"change","column":"state","to":["back"],"from":["out"]}`, "state", "back|out|back", "- - 2"},
		// Unreadable text neither enters nor leaves.
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "out|lost|out", "1 - -"},
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "back|lost|out", "- - 1"},
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "out|lost|still lost|back|lost|out", "1 - - - - 2"},
		// ... and is empty at the baseline.
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "base:lost|out", "1"},
		{`{"kind":"change","column":"state","to":["out"]}`, "state", "out|lost|switch|out", "1 - 2"},
		// to null: any settled change, each its own.
		{`{"kind":"change","column":"state","to":null}`, "state", "out|back|back||lost|out", "1 2 - 3 4 5"},
		{`{"kind":"change","column":"state","to":null,"from":["out"]}`, "state", "out|back|out|", "- 1 - 2"},
		{`{"kind":"change","column":"open","to":[true]}`, "open", "no|yes|no|yes", "- 1 - 2"},
		// threshold: fires when beyond and armed; again only once it was not.
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "50|55|60|54|55", "- 1 - - 2"},
		{`{"kind":"threshold","column":"hum","op":">","limit":55}`, "hum", "55|55.1|55|56", "- 1 - 2"},
		{`{"kind":"threshold","column":"hum","op":"<=","limit":30}`, "hum", "31|30|29|31|30", "- 1 - - 2"},
		{`{"kind":"threshold","column":"hum","op":"<","limit":30}`, "hum", "30|29.9|30|29", "- 1 - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "60|60", "1 -"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "base:60|61|50|60", "- - 1"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "base:damp|61", "1"},
		// An empty or unreadable value changes nothing.
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "60||61|damp|62|50|60", "1 - - - - - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "50||60", "- - 1"},
		// The limit of a column: moving it can fire, and an empty one changes nothing.
		{`{"kind":"threshold","column":"hum","op":">=","limit":{"column":"lim"}}`, "hum",
			"58|hum=58 & lim=57|hum=58 & lim=60|hum=58 & lim=58", "- 1 - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":{"column":"lim"}}`, "hum", "61|hum=61 & lim=|hum=61 & lim=60",
			"1 - -"},
		// rearm: back far enough first, by a number, a column or a share of the limit.
		{`{"kind":"threshold","column":"hum","op":">=","limit":55,"rearm":50}`, "hum", "60|54|60|50|60", "1 - - - 2"},
		{`{"kind":"threshold","column":"hum","op":"<=","limit":30,"rearm":35}`, "hum", "29|34|30|35|30", "1 - - - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":50,"rearm":{"percent":10}}`, "hum", "51|46|51|45|51",
			"1 - - - 2"},
		{`{"kind":"threshold","column":"hum","op":"<","limit":-10,"rearm":{"percent":10}}`, "hum", "-11|-9.5|-11|-9|-11",
			"1 - - - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":65,"rearm":{"column":"lim"}}`, "hum", "66|61|66|60|66",
			"1 - - - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":65,"rearm":{"column":"lim"}}`, "hum",
			"66|hum=10 & lim=|hum=66 & lim=", "1 - -"},
		// A new baseline: below is armed, beyond is not; the count goes on.
		{`{"kind":"threshold","column":"hum","op":">=","limit":55,"rearm":50}`, "hum", "60|54|switch|60", "1 - 2"},
		{`{"kind":"threshold","column":"hum","op":">=","limit":55}`, "hum", "60|switch|61|50|60", "1 - - 2"},
	} {
		if got := story(t, reacting(t, c.trigger), s, c.column, strings.Split(c.texts, "|")...); got != c.want {
			t.Errorf("%s: %s\n got %s\nwant %s", c.trigger, c.texts, got, c.want)
		}
	}
}

// What a reaction tells of itself: the column and the texts before and after.
func TestReactionTells(t *testing.T) {
	s := loans()
	was, is := row(s, map[string]string{"state": "asked for", "hum": "50"}),
		row(s, map[string]string{"state": "out", "hum": "61"})
	for trigger, want := range map[string]string{
		`{"kind":"change","column":"state","to":["out"]}`:             "state|asked for|out",
		`{"kind":"edited","columns":["name","hum","state"]}`:          "hum||",
		`{"kind":"threshold","column":"hum","op":">=","limit":55}`:    "hum||61",
		`{"kind":"change","column":"hum","to":null}`:                  "hum|50|61",
		`{"kind":"threshold","column":"hum","op":"<","limit":55}`:     "",
		`{"kind":"change","column":"gone","to":null}`:                 "",
		`{"kind":"threshold","column":"gone","op":">=","limit":55}`:   "",
		`{"kind":"threshold","column":"state","op":">=","limit":55}`:  "",
		`{"kind":"edited","columns":["gone"]}`:                        "",
		`{"kind":"by-hand"}`:                                          "",
		`{"kind":"date","column":"due","offsets":[],"at":"09:00"}`:    "",
		`{"kind":"schedule","start":"2027-03-19T15:30","rrule":null}`: "",
	} {
		var st RowState
		o, fires := reacting(t, trigger).React(Settled{Sheet: s, Before: was, After: is, At: monday}, &st)
		got := ""
		if fires {
			got = o.Column + "|" + o.Before + "|" + o.After
		}
		if got != want {
			t.Errorf("%s: %q, want %q", trigger, got, want)
		}
	}
}

// When cells changed is noted for conditions that look back.
func TestWatch(t *testing.T) {
	s := loans()
	var st RowState
	first, second := row(s, map[string]string{"state": "out", "name": "Ada"}),
		row(s, map[string]string{"state": "out", "name": ""})
	if !st.IsZero() {
		t.Error("a new row state remembers something")
	}
	Watch([]string{"state", "name", "hum", "gone"}, Settled{Sheet: s, After: first, At: monday}, &st)
	if len(st.Changed) != 2 || !st.Changed["state"].Equal(monday) || st.IsZero() {
		t.Errorf("adding a row changes every filled cell: %v", st.Changed)
	}
	Watch([]string{"state", "name"}, Settled{Sheet: s, Before: first, After: second, At: monday.Add(time.Hour)}, &st)
	if !st.Changed["state"].Equal(monday) || !st.Changed["name"].Equal(monday.Add(time.Hour)) {
		t.Errorf("%v", st.Changed)
	}
	b, err := json.Marshal(&st)
	var again RowState
	if err != nil || json.Unmarshal(b, &again) != nil || !again.Changed["name"].Equal(st.Changed["name"]) {
		t.Errorf("%s %v", b, err)
	}
	st.Number = 4
	st.Looked = monday
	st.Baseline(monday.Add(24 * time.Hour))
	if st.Number != 4 || st.Changed != nil || !st.Looked.Equal(monday.Add(24*time.Hour)) {
		t.Errorf("a baseline forgets all but the count: %+v", st)
	}
}

// A moving column is looked at again just when its comparison can turn.
func TestNextLook(t *testing.T) {
	s := loans()
	s.Columns = append(s.Columns,
		sheet.Column{ID: "left", Name: "Days left", Type: value.Formula, Pos: 9, Formula: "days_until(return_due)"},
		sheet.Column{ID: "old", Name: "Hours old", Type: value.Formula, Pos: 10, Formula: "hours_since(read_at)"},
		sheet.Column{ID: "late", Name: "Late", Type: value.Formula, Pos: 11, Formula: "days_until(return_due) < 0"},
		sheet.Column{ID: "both", Name: "Sum", Type: value.Formula, Pos: 12, Formula: "humidity + limit"})
	if err := s.Compile(); err != nil {
		t.Fatal(err)
	}
	base := row(s, map[string]string{"due": "20/03/2027", "at": "15/03/2027 06:00"})
	compute := func(at time.Time) *sheet.Row { return s.Compute(base, at, calendar.Default()) }
	for trigger, want := range map[string]string{
		`{"kind":"threshold","column":"left","op":"<=","limit":3}`:  "2027-03-17T00:00:00Z",
		`{"kind":"threshold","column":"left","op":"<","limit":-30}`: "2027-04-20T00:00:00Z",
		`{"kind":"threshold","column":"old","op":">=","limit":5}`:   "2027-03-15T11:00:00Z",
		`{"kind":"change","column":"late","to":[true]}`:             "2027-03-21T00:00:00Z",
		`{"kind":"change","column":"left","to":null}`:               "2027-03-16T00:00:00Z",
		`{"kind":"threshold","column":"both","op":">=","limit":5}`:  "",
		`{"kind":"threshold","column":"hum","op":">=","limit":5}`:   "",
		`{"kind":"edited","columns":["left"]}`:                      "",
		`{"kind":"added"}`:                                          "",
	} {
		got := ""
		if at := reacting(t, trigger).NextLook(s, monday, compute); !at.IsZero() {
			got = at.UTC().Format(time.RFC3339)
		}
		if got != want {
			t.Errorf("%s: looks next at %q, want %q", trigger, got, want)
		}
	}
}

// The brake: more than so many, or more than so large a share and ten at least.
func TestTrips(t *testing.T) {
	for _, c := range []struct {
		brake      string
		rows, sent int
		want       bool
	}{
		{`{"count":20,"share":0.2}`, 1000, 20, false}, {`{"count":20,"share":0.2}`, 1000, 21, true},
		{`{"count":20,"share":0.2}`, 50, 10, false}, {`{"count":20,"share":0.2}`, 50, 11, true},
		{`{"count":20,"share":0.2}`, 20, 9, false},
		{"", 1000, 50, false}, {"", 1000, 51, true}, {"", 30, 10, false}, {"", 29, 10, true}, {"", 3, 9, false},
	} {
		r := Rule{}
		if c.brake != "" {
			r.Brake = new(Brake)
			if err := json.Unmarshal([]byte(c.brake), r.Brake); err != nil {
				t.Fatal(err)
			}
		}
		if got := r.Trips(c.sent, c.rows); got != c.want {
			t.Errorf("%s: %d of %d rows trips %v, want %v", c.brake, c.sent, c.rows, got, c.want)
		}
	}
}

// Everything a rule names is renamed, and what cannot be is told by its place.
func TestRename(t *testing.T) {
	whole := `{"name":"x","trigger":{"kind":"threshold","column":"Humidity","op":">=","limit":{"column":"Limit"},"rearm":{"column":"Limit"}},
		"condition":{"all":[{"column":"State","op":"one-of","value":["out","back"]},{"any":[{"not":{"column":"Humidity","op":"<","value":{"column":"Limit"}}}]}]},
		"send":[{"if":{"column":"Open","op":"is","value":true},"template":"Return"}],"to":[{"column":"Contact email"}],"cc":[{"column":"Contact email"}],"replyTo":[{"address":"desk@marrowby.example"}],
		"then":{"steps":[{"after":"P1D","at":"08:30","template":"Return","to":[{"column":"Contact email"}]}],"stopIf":{"column":"State","op":"is","value":"back"}}}`
	s := loans()
	column := func(name string) (string, error) {
		if c, ok := s.ColumnNamed(name); ok {
			return c.ID, nil
		}
		return "", fmt.Errorf("there is no column %s", name)
	}
	template := func(name string) (string, error) {
		if name == "Return" {
			return "t1", nil
		}
		return "", fmt.Errorf("there is no template %s", name)
	}
	option := func(id, name string) (string, error) {
		c, _ := s.Column(id)
		for _, o := range c.Options {
			if o.Name == name {
				return o.ID, nil
			}
		}
		return "", fmt.Errorf("no option")
	}
	r, err := Decode([]byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	kept, err := r.Clone()
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Rename(column, template, option); err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(r)
	for _, name := range []string{"Humidity", "Limit", "State", `"out"`, `"back"`, "Contact email", "Return"} {
		if strings.Contains(string(b), name) {
			t.Errorf("%s has stayed in %s", name, b)
		}
	}
	if err := r.Validate(SheetScope{Sheet: s, Templates: map[string]bool{"t1": true}}); err != nil {
		t.Error(err)
	}
	if b, _ := json.Marshal(kept); !strings.Contains(string(b), "Humidity") || strings.Contains(string(b), "t1") {
		t.Errorf("the clone has changed with it: %s", b)
	}
	for from, pointer := range map[string]string{
		`"kind":"threshold","column":"Humidity"=>"kind":"threshold","column":"Dampness"`: "/trigger/column",
		`"limit":{"column":"Limit"}=>"limit":{"column":"Bound"}`:                         "/trigger/limit/column",
		`{"column":"State","op":"one-of"=>{"column":"Status","op":"one-of"`:              "/condition/all/0/column",
		`"value":{"column":"Limit"}=>"value":{"column":"Bound"}`:                         "/condition/all/1/any/0/not/value/column",
		`"template":"Return"}],"to"=>"template":"Later"}],"to"`:                          "/send/0/template",
		`"column":"Open"=>"column":"Shut"`:                                               "/send/0/if/column",
		`"cc":[{"column":"Contact email"=>"cc":[{"column":"Post"`:                        "/cc/0/column",
		`"at":"08:30","template":"Return"=>"at":"08:30","template":"Later"`:              "/then/steps/0/template",
		`"stopIf":{"column":"State"=>"stopIf":{"column":"Status"`:                        "/then/stopIf/column",
	} {
		was, is, _ := strings.Cut(from, "=>")
		changed := strings.Replace(whole, was, is, 1)
		if changed == whole {
			t.Fatal(from)
		}
		r, err := Decode([]byte(changed))
		if err != nil {
			t.Fatal(err)
		}
		fe, ok := r.Rename(column, template, option).(*FieldError)
		if !ok || fe.Pointer != pointer {
			t.Errorf("%s: %+v, want %s", from, fe, pointer)
		}
	}
}

// Built in code, a condition is the same as read.
func TestConditionsInCode(t *testing.T) {
	s := loans()
	c := AllOf(Leaf("state", OneOf, ListOperand(TextOperand("out"), TextOperand("back"))),
		Leaf("hum", AtLeast, NumberOperand(decimal.NewFromInt(50))))
	if err := c.Validate("", SheetScope{Sheet: s}); err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(c)
	if string(
		b) != `{"all":[{"column":"state","op":"one-of","value":["out","back"]},{"column":"hum","op":"\u003e=","value":50}]}` {
		t.Errorf("%s", b)
	}
	if got, _ := c.Judge(Facts{Sheet: s, Row: row(s, map[string]string{"state": "back", "hum": "50"})}); got != True {
		t.Error(got)
	}
	if got := strings.Join(c.Columns(), " "); got != "state hum" {
		t.Error(got)
	}
}
