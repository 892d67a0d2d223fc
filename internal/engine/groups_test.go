package engine

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
)

// A column for each month: a rule and a letter mean the latest, and go on
// meaning it when another month comes by an import, when the group is renamed,
// and until the last of its columns is taken out.
func TestColumnsThatBelongTogether(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Friends","zone":"UTC","locale":"en-GB","key":"Friend","settle":"PT2M","columns":[
			{"name":"Friend","type":"text"},{"name":"Email","type":"email"},{"name":"January","type":"number","group":"Paid"},{"name":"February","type":"number","group":"paid"},
			{"name":"Behind","type":"formula","formula":"empty(latest(\"Paid\"))"}]}`)},
		"rows.csv": {Data: []byte(
			"Friend,Email,January,February\nF-1,a@x.example,10,10\nF-2,b@x.example,10,\nF-3,c@x.example,,\n")},
		"templates.json": {Data: []byte(
			`[{"name":"A","subject":"[Friend]: [latest name of Paid], [latest filled of Paid: 2 decimals, else nothing] in [count filled of Paid]","text":"x"}]`)},
		"rules.json": {Data: []byte(
			`[{"name":"Behind","state":"on","trigger":{"kind":"schedule","start":"2027-03-15T09:00","rrule":"FREQ=DAILY"},
			"condition":{"column":"latest of Paid","op":"empty"},"send":[{"template":"A"}],"to":[{"column":"Email"}]}]`)},
	})
	if err != nil {
		t.Fatal(err)
	}
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	arrived := 0
	day := func(to string, want ...string) {
		t.Helper()
		f.advance(at(to))
		f.mu.Lock()
		defer f.mu.Unlock()
		var fresh []string
		for _, m := range f.mails[arrived:] {
			fresh = append(fresh, m.Subject)
		}
		slices.Sort(fresh)
		if !slices.Equal(fresh, want) {
			t.Errorf("by %s: %q; want %q", to, fresh, want)
		}
		arrived = len(f.mails)
	}
	day("2027-03-15T10:00:00Z", "F-2: February, 10.00 in 1", "F-3: February, nothing in 0")

	// March comes with a file.
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	body := rules[0].Body
	if _, err := f.Import(f.ctx, rec.ID, Incoming{Columns: []string{"c1", "+0"},
		Rows: [][]string{{"F-1", ""}, {"F-2", "20"}, {"F-3", ""}}},
		ImportOptions{Add: []sheet.Column{{Name: "March", Type: value.Number, Group: "PAID"}}}, System("test")); err != nil {
		t.Fatal(err)
	}
	day("2027-03-16T10:00:00Z", "F-1: March, 10.00 in 2", "F-3: March, nothing in 0")

	// The group is renamed; the formula follows, the rule is as it was.
	columns := func(change func(s *sheet.Sheet) []sheet.Column, pausing bool) *sheet.Sheet {
		t.Helper()
		now, err := f.Store.Sheet(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		s, _ := now.Core()
		saved, err := f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: change(s), Pausing: pausing}, nil, "test")
		if err != nil {
			t.Fatal(err)
		}
		s, _ = saved.Core()
		return s
	}
	s := columns(func(s *sheet.Sheet) []sheet.Column {
		for i := range s.Columns {
			if s.Columns[i].Group != "" {
				s.Columns[i].Group = "Fees"
			}
		}
		return s.Columns
	}, false)
	if c, _ := s.ColumnNamed("Behind"); c.Formula != `empty(latest("Fees"))` {
		t.Errorf("the formula is %s", c.Formula)
	}
	if _, ok := s.ColumnNamed("latest of Fees"); !ok || len(s.Derived()) != 4 {
		t.Errorf("%d columns are derived", len(s.Derived()))
	}
	if rules, _ = f.Store.Rules(f.ctx, rec.ID); rules[0].Body != body || rules[0].State != rule.On {
		t.Errorf("the rule has become %s, %s", rules[0].Body, rules[0].State)
	}
	day("2027-03-17T10:00:00Z", "F-1: March, 10.00 in 2", "F-3: March, nothing in 0")

	// A column may not be called as what is derived, nor passed for one.
	now, _ := f.Store.Sheet(f.ctx, rec.ID)
	s, _ = now.Core()
	for _, bad := range []sheet.Column{{Name: "Latest of fees", Type: value.Text}, s.Derived()[0]} {
		if _, err := f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: append(append([]sheet.Column{}, s.Columns...),
			bad)}, nil, "test"); err == nil {
			t.Errorf("%s is taken for a column", bad.Name)
		}
	}

	// Without its columns nothing can be meant of it: the letter would not do.
	without := func(s *sheet.Sheet) (out []sheet.Column) {
		for _, c := range s.Columns {
			if c.Group == "" && c.Name != "Behind" {
				out = append(out, c)
			}
		}
		return out
	}
	if _, err := f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: without(s)}, nil, "test"); err == nil ||
		!strings.Contains(err.Error(), "template A would not do any more") {
		t.Errorf("the columns that a letter means are taken out: %v", err)
	}
	tpl, _ := f.Store.Templates(f.ctx, rec.ID)
	core, _ := tpl[0].Core()
	plainer := *core
	plainer.Subject = b.Templates["a"].Body
	if _, err := f.SaveTemplate(f.ctx, rec.ID, tpl[0].ID, &plainer, 0, "test"); err != nil {
		t.Fatal(err)
	}
	columns(without, true)
	if rules, _ = f.Store.Rules(f.ctx, rec.ID); rules[0].State != rule.Paused || rules[0].Broken == "" {
		t.Errorf("the rule is %s: %q", rules[0].State, rules[0].Broken)
	}
	day("2027-03-19T10:00:00Z")
}

// However a column comes to its group or leaves it, brought back, undone or done
// again: what hangs on the latest date goes by it, and not late.
func TestColumnsComeAndGoInTheirGroup(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Visits","zone":"UTC","locale":"en-GB","key":"Case","settle":"PT2M","columns":[
			{"name":"Case","type":"text"},{"name":"Email","type":"email"},{"name":"First","type":"date","order":"year-month-day","group":"Visit"},{"name":"Second","type":"date","order":"year-month-day","group":"Visit"}]}`)},
		"rows.csv":       {Data: []byte("Case,Email,First,Second\nC-1,a@x.example,2027-03-20,2027-03-18\n")},
		"templates.json": {Data: []byte(`[{"name":"A","subject":"[Case] on [latest of Visit: iso]","text":"x"}]`)},
		"rules.json": {Data: []byte(
			`[{"name":"Visit","state":"on","trigger":{"kind":"date","column":"latest of Visit","offsets":[{"n":0,"unit":"days"}],"at":"09:00"},
			"send":[{"template":"A"}],"to":[{"column":"Email"}]}]`)},
	})
	if err != nil {
		t.Fatal(err)
	}
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	s, err := rec.Core()
	if err != nil {
		t.Fatal(err)
	}
	next := func(what, day string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		f.advance(f.Now().Add(3 * time.Minute)) // what was edited has settled
		if got, err := f.Store.NextInstant(f.ctx); err != nil || !got.Equal(at(day+"T09:00:00Z")) {
			t.Fatalf("%s: the next is at %s, want %s, %v", what, got, day, err)
		}
	}
	next("two visits", "2027-03-18", nil)
	_, err = f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: s.Columns[:3]}, nil, "test")
	next("the second is taken out", "2027-03-20", err)
	_, err = f.RestoreColumn(f.ctx, rec.ID, s.Columns[3].ID, "test")
	next("it is brought back", "2027-03-18", err)
	res, err := f.Import(f.ctx, rec.ID, Incoming{Columns: []string{"c1", "+0"}, Rows: [][]string{{"C-1", "2027-03-16"}}},
		ImportOptions{Add: []sheet.Column{{Name: "Third", Type: value.Date, Order: value.YearMonthDay, Group: "visit"}}},
		System("test"))
	next("a third comes with a file", "2027-03-16", err)
	undone, err := f.Undo(f.ctx, rec.ID, res.Change, System("test"))
	next("that is undone", "2027-03-18", err)
	_, err = f.Undo(f.ctx, rec.ID, undone.ID, System("test"))
	next("and done again", "2027-03-16", err)
	f.advance(at("2027-03-21T09:00:00Z"))
	if got := strings.Join(f.timed(), "; "); got != "03-16 09:00:00 a@x.example | C-1 on 2027-03-16" {
		t.Errorf("arrived: %s", got)
	}
}
