package plan

import (
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

func at(s string) time.Time {
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		panic(err)
	}
	return t
}

// world is one rule over a small sheet.
func world() (*CompiledRule, *sheet.Sheet) {
	l, _ := value.FindLocale("en-GB")
	s := &sheet.Sheet{Zone: time.UTC, Locale: l, Key: "key", Settle: 2 * time.Minute, Columns: []sheet.Column{
		{ID: "key", Name: "Loan", Type: value.Text, Pos: 0}, {ID: "due", Name: "Return due", Type: value.Date, Pos: 1,
			Order: value.YearMonthDay},
		{ID: "open", Name: "Open", Type: value.YesNo, Pos: 2}, {ID: "to", Name: "Email", Type: value.Email, Pos: 3},
		{ID: "cc", Name: "Registrar", Type: value.Email, Pos: 4}, {ID: "who", Name: "Contact", Type: value.Text, Pos: 5},
	}}
	tpl := &template.Template{ID: "t", Name: "Return"}
	tpl.Subject, _ = template.ParseLine("About [Loan]", s)
	tpl.Body, _ = template.ParseText("Dear [Contact]", s)
	open := rule.Leaf("open", rule.Is, mustOperand("true"))
	r := &rule.Rule{ID: "R", Name: "R", State: rule.On, Trigger: rule.Trigger{Kind: "date", Column: "due", At: "09:00",
		Offsets: []rule.Offset{{N: -7, Unit: rule.Days}, {N: -1, Unit: rule.Days}}}, Condition: &open,
		Send: []rule.Wording{{Template: "t"}}, To: []rule.Address{{Column: "to"}}, Cc: []rule.Address{{Column: "cc"}}}
	return ready(s, r, map[string]*template.Template{"t": tpl}), s
}

// ready makes a setting, which must be in order.
func ready(s *sheet.Sheet, r *rule.Rule, templates map[string]*template.Template) *CompiledRule {
	if err := s.Compile(); err != nil {
		panic(err)
	}
	scope := rule.SheetScope{Sheet: s, Templates: map[string]bool{}}
	for id := range templates {
		scope.Templates[id] = true
	}
	if err := r.Validate(scope); err != nil {
		panic(err)
	}
	set, err := Compile(s, r, templates, calendar.Default(), nil)
	if err != nil {
		panic(err)
	}
	return set
}

func init() { batchRows = 3 } // so that even a few rows are played side by side

// rehearse plays a rehearsal in memory.
func rehearse(settings []*CompiledRule, rows []*sheet.Row, edits []Edit, from, to time.Time) (out []Line, err error) {
	var all []Line
	r := &Rehearsal{Settings: settings, Edits: edits, From: from, To: to}
	r.makeReady()
	f, err := r.Deal(func(g func(*sheet.Row) error) error {
		for _, row := range rows {
			if err := g(row); err != nil {
				return err
			}
		}
		return nil
	}, func(batch []*Course) error {
		for _, l := range r.PlayAll(batch) {
			all = append(all, *l)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	sort.SliceStable(all, func(i, j int) bool { return Compare(&all[i], &all[j]) < 0 })
	keep := func(l *Line) error { out = append(out, *l); return nil }
	for i := range all {
		if err := f.Line(&all[i], keep); err != nil {
			return nil, err
		}
	}
	return out, f.Flush(keep)
}

func mustOperand(j string) *rule.Operand {
	o := &rule.Operand{}
	if err := o.UnmarshalJSON([]byte(j)); err != nil {
		panic(err)
	}
	return o
}

func cells(s *sheet.Sheet, text string) map[string]value.Value {
	out := map[string]value.Value{}
	for _, part := range strings.Split(text, "|") {
		id, v, ok := strings.Cut(part, "=")
		if !ok {
			continue
		}
		c, _ := s.Column(id)
		out[id] = value.Parse(v, s.Reading(c))
	}
	return out
}

func mkRow(s *sheet.Sheet, id, text string) *sheet.Row {
	r := &sheet.Row{ID: id}
	for c, v := range cells(s, text) {
		col, _ := s.Column(c)
		r.Set(col, v)
	}
	return r
}

const good = "key=L1|due=2027-03-22|open=yes|to=a@x.example, B <b@x.example>|cc=A@X.example, c@x.example|who=Ada"

// Section 3: what is judged first, recipients, and why.
func TestJudge(t *testing.T) {
	for name, c := range map[string]struct{ with, outcome, reason string }{
		"sent":                   {"", "send", "return due is 7 days away; open is yes"},
		"condition false":        {"open=no", "skip", "condition false: open is no"},
		"condition empty":        {"open=", "skip", "condition false: open is empty"},
		"condition unknown":      {"open=maybe", "incomplete", `unreadable cell: open holds "maybe"`},
		"before a missing field": {"open=no|who=", "skip", "condition false"},
		"no address":             {"to=", "incomplete", "no usable address: email is empty"},
		"unreadable address":     {"to=a@x", "send", ""},
		"unreadable To":          {"to=a@", "incomplete", `unreadable cell: email holds "a@", which is no address`},
		"unreadable Cc":          {"cc=a@", "incomplete", "unreadable cell: registrar"},
		"empty Cc":               {"cc=", "send", ""},
		"missing field":          {"who=", "incomplete", "contact is empty and the template has no fallback"},
		"silenced":               {"to=no@x.example|cc=no@x.example", "skip", "do-not-email"},
		"one silenced":           {"to=no@x.example, a@x.example", "send", ""},
	} {
		set, s := world()
		set.Silenced = func(k string) bool { return k == "no@x.example" }
		r := mkRow(s, "r", good)
		if c.with != "" {
			for id, v := range cells(s, c.with) {
				col, _ := s.Column(id)
				r.Set(col, v)
			}
		}
		got := set.Foresee(r, at("2027-03-15T00:00:00Z"), at("2027-03-15T00:00:00Z"), at("2027-03-15T23:00:00Z"))
		if len(got) != 1 || string(got[0].Outcome) != c.outcome || !strings.Contains(got[0].Decision.Reason.Words(),
			c.reason) {
			t.Errorf("%s: %+v", name, got)
		}
	}
	set, s := world()
	v := set.Foresee(mkRow(s, "r", good), at("2027-03-15T00:00:00Z"), at("2027-03-15T00:00:00Z"),
		at("2027-03-15T23:00:00Z"))[0]
	if fmt.Sprint(v.To) != "[a@x.example B <b@x.example>]" || fmt.Sprint(v.Cc) != "[c@x.example]" {
		t.Errorf("doubles: to %v, cc %v", v.To, v.Cc)
	}
	gone := mkRow(s, "r", good)
	gone.Gone = true
	if g := set.Foresee(gone, at("2027-03-15T00:00:00Z"), at("2027-03-15T00:00:00Z"),
		at("2027-03-15T23:00:00Z"))[0]; g.Outcome != Skip {
		t.Error("a gone row is not skipped")
	}
}

func lines(set *CompiledRule, rows []*sheet.Row, edits []Edit, from, to string) []string {
	ls, err := rehearse([]*CompiledRule{set}, rows, edits, at(from), at(to))
	if err != nil {
		return []string{err.Error()}
	}
	var out []string
	for _, l := range ls {
		out = append(out, l.At.Format("01-02 15:04:05")+" "+l.Row+" "+string(l.Outcome))
	}
	return out
}

// Sections 1 and 3: settling, waiting, moving dates, mending, deleting.
func TestRehearseEdits(t *testing.T) {
	set, s := world()
	ed := func(when, cell string) Edit {
		return Edit{At: at("2027-03-" + when + "Z"), Row: "L1", Set: cells(s, cell)}
	}
	for name, c := range map[string]struct {
		start string
		edits []Edit
		want  string
	}{
		"nothing happens": {good, nil, "03-15 09:00:00 send, 03-21 09:00:00 send"},
		"an edit before is judged as it is": {good, []Edit{ed("15T08:57:00", "open=no")},
			"03-15 09:00:00 skip, 03-21 09:00:00 skip"},
		"unsettled at the due time: it waits": {good, []Edit{ed("15T08:59:00", "open=no")},
			"03-15 09:01:00 skip, 03-21 09:00:00 skip"},
		"put back within the settle time": {good, []Edit{ed("15T08:59:00", "open=no"),
			ed("15T08:59:30", "open=yes")}, "03-15 09:01:30 send, 03-21 09:00:00 send"},
		"an edit at the due instant comes before it": {good, []Edit{ed("15T09:00:00", "open=no")},
			"03-15 09:02:00 skip, 03-21 09:00:00 skip"},
		"an edit just after does not touch it": {good, []Edit{ed("15T09:00:01", "open=no")},
			"03-15 09:00:00 send, 03-21 09:00:00 skip"},
		"settling at the due instant comes before it": {good, []Edit{ed("15T08:58:00", "open=no")},
			"03-15 09:00:00 skip, 03-21 09:00:00 skip"},
		"only case or outer space is no edit": {good, []Edit{ed("15T08:59:30", "who= ADA ")},
			"03-15 09:00:00 send, 03-21 09:00:00 send"},
		"a date moved past its due time makes none": {good, []Edit{ed("16T10:00:00", "due=2027-03-17")},
			"03-15 09:00:00 send"},
		"a due time that passes while settling counts": {good, []Edit{ed("17T08:59:00", "due=2027-03-24")},
			"03-15 09:00:00 send, 03-17 09:01:00 send, 03-23 09:00:00 send"},
		"moved and moved back: not judged again": {good, []Edit{ed("16T10:00:00", "due=2027-04-22"),
			ed("17T10:00:00", "due=2027-03-22")}, "03-15 09:00:00 send, 03-21 09:00:00 send"},
		"mended within the late limit": {strings.Replace(good, "who=Ada", "who=", 1),
			[]Edit{ed("15T20:00:00", "who=Eve")}, "03-15 09:00:00 incomplete, 03-15 20:02:00 send, 03-21 09:00:00 send"},
		"mended too late": {strings.Replace(good, "who=Ada", "who=", 1),
			[]Edit{ed("16T09:00:00", "who=Eve")}, "03-15 09:00:00 incomplete, 03-21 09:00:00 send"},
		"mended, but its date has moved": {strings.Replace(good, "who=Ada", "who=", 1),
			[]Edit{ed("15T20:00:00", "who=Eve|due=2027-03-30")},
			"03-15 09:00:00 incomplete, 03-23 09:00:00 send, 03-29 09:00:00 send"},
		"deleted: what is coming is dropped": {good,
			[]Edit{{At: at("2027-03-16T10:00:00Z"), Row: "L1", Delete: true}}, "03-15 09:00:00 send"},
		"deleted while it waits: skipped": {good, []Edit{ed("15T08:59:30", "who=Eve"),
			{At: at("2027-03-15T09:00:30Z"), Row: "L1", Delete: true}}, "03-15 09:00:30 skip"},
		"many edits settle after ten times the settle time": {good, many(s, "2027-03-15T08:45:00Z", 40),
			"03-15 09:05:00 send, 03-21 09:00:00 send"},
	} {
		got := strings.Join(lines(set, []*sheet.Row{mkRow(s, "L1", c.start)}, c.edits, "2027-03-15T08:40:00Z",
			"2027-04-01T00:00:00Z"), ", ")
		got = strings.ReplaceAll(got, " L1", "")
		if name == "many edits settle after ten times the settle time" {
			if !strings.HasPrefix(got, "03-15 09:05:00 send") {
				t.Errorf("%s: %s", name, got)
			}
			continue
		}
		if got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c.want)
		}
	}
}

// many edits a minute apart never let the row rest.
func many(s *sheet.Sheet, start string, n int) (out []Edit) {
	for i := range n {
		out = append(out, Edit{At: at(start).Add(time.Duration(i) * time.Minute), Row: "L1",
			Set: cells(s, fmt.Sprintf("who=Ada %d", i))})
	}
	return out
}

func TestRehearseFaults(t *testing.T) {
	set, s := world()
	rows := []*sheet.Row{mkRow(s, "L1", good)}
	for want, edits := range map[string][]Edit{
		"is not there": {{At: at("2027-03-16T10:00:00Z"), Row: "L9", Set: cells(s, "who=x")}},
		"is earlier": {{At: at("2027-03-16T10:00:00Z"), Row: "L1", Set: cells(s, "who=x")},
			{At: at("2027-03-15T10:00:00Z"), Row: "L1", Set: cells(s, "who=y")}},
		"row \"L1\", which is not there then": {{At: at("2027-03-16T10:00:00Z"), Row: "L1", Delete: true},
			{At: at("2027-03-17T10:00:00Z"), Row: "L1", Set: cells(s, "who=y")}},
	} {
		if _, err := rehearse([]*CompiledRule{set}, rows, edits, at("2027-03-15T00:00:00Z"),
			at("2027-04-01T00:00:00Z")); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// Any order of edits, deletions and returns makes no identity twice (but for
// the line of an incomplete one that was mended), and a rehearsal cut in two
// at any instant judges nothing that the whole one does not.
func TestIdentityNeverTwice(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1847))
	for range 400 {
		set, s := world()
		start := at("2027-03-10T08:00:00Z")
		var rows []*sheet.Row
		for i := range 3 {
			rows = append(rows, mkRow(s, fmt.Sprintf("L%d", i), strings.Replace(good, "2027-03-22",
				fmt.Sprintf("2027-03-%02d", 15+r.IntN(15)), 1)))
		}
		there := map[string]bool{"L0": true, "L1": true, "L2": true}
		var edits []Edit
		now := start
		for range 30 {
			now = now.Add(time.Duration(r.IntN(20*3600)) * time.Second)
			id := fmt.Sprintf("L%d", r.IntN(4))
			switch {
			case !there[id]:
				edits = append(edits, Edit{At: now, Row: id, Add: true,
					Set: cells(s, strings.Replace(good, "2027-03-22", fmt.Sprintf("2027-03-%02d", 15+r.IntN(15)), 1))})
				there[id] = true
			case r.IntN(8) == 0:
				edits = append(edits, Edit{At: now, Row: id, Delete: true})
				there[id] = false
			default:
				cell := []string{fmt.Sprintf("due=2027-03-%02d", 15+r.IntN(15)), "due=soon", "open=no", "open=yes", "who=",
					"who=Eve", "to=", "to=z@x.example"}[r.IntN(8)]
				edits = append(edits, Edit{At: now, Row: id, Set: cells(s, cell)})
			}
		}
		ls, err := rehearse([]*CompiledRule{set}, rows, edits, start, at("2027-05-01T00:00:00Z"))
		if err != nil {
			t.Fatal(err)
		}
		seen := map[rule.ID]Outcome{}
		for _, l := range ls {
			if was, ok := seen[l.Occasion]; ok && !(was == Incomplete && l.Outcome == Send) {
				t.Fatalf("%s twice: %s, then %s", l.Occasion, was, l.Outcome)
			}
			seen[l.Occasion] = l.Outcome
		}
	}
}

// What Explain says agrees with what is decided.
func TestExplainAgrees(t *testing.T) {
	set, s := world()
	for _, with := range []string{good, good + "|open=no", good + "|open=maybe", good + "|to=", good + "|who=",
		good + "|due=soon", good + "|due=", good + "|due=2027-01-01"} {
		row := mkRow(s, "r", with)
		e := set.Explain(row, at("2027-03-10T00:00:00Z"), Memory{})
		all := true
		for _, c := range e.Clauses {
			all = all && c.Holds == "yes"
		}
		sends := e.Next != nil && e.Next.Outcome == Send
		if all != sends || e.Summary == "" {
			t.Errorf("%s: clauses %+v, next %+v", with, e.Clauses, e.Next)
		}
	}
}
