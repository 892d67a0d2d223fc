package engine

import (
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// install puts one of the shared bundles into the fixture, its rules on.
func (f *fixture) install(name string) *store.Sheet {
	f.t.Helper()
	b, err := exchange.OpenBundle("../exchange/testdata/" + name)
	if err != nil {
		f.t.Fatal(err)
	}
	return f.bundle(b)
}

// bundle makes a sheet of a bundle, its rules on, all settled.
func (f *fixture) bundle(b *exchange.Bundle) *store.Sheet {
	f.t.Helper()
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	f.settled()
	return rec
}

// What the coming four weeks are said to bring comes, while nobody touches a
// row: every email foreseen, at its instant, with its subject, and no other.
func TestForecastComesTrue(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.install("loans")
	forecast, err := f.Forecast(f.ctx, rec.ID)
	if err != nil || len(forecast.Coming) < 5 || forecast.Partial {
		t.Fatalf("%+v %v", forecast, err)
	}
	end := f.Now().Add(ForecastSpan)
	var want []string
	for _, c := range forecast.Coming {
		if !c.At.After(end) {
			want = append(want, fmt.Sprint(c.At.UTC().Format("01-02 15:04 "), c.RowID, c.Rule, c.Incomplete, c.Subject))
		}
	}
	f.advance(end)
	ds, err := f.Store.Between(f.ctx, store.LogFilter{SheetID: rec.ID}, 100)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, d := range ds {
		if d.State == delivery.Skipped {
			continue
		}
		incomplete := d.State == delivery.Incomplete || d.State == delivery.Missed
		got = append(got, fmt.Sprint(d.DueAt.UTC().Format("01-02 15:04 "), store.RowID(d.RowID), d.RuleID, incomplete,
			d.Subject))
	}
	sort.Strings(want)
	sort.Strings(got)
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("came\n%s\nforeseen\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// A forecast is made anew when anything that it rests on changes.
func TestForecastChanges(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.install("loans")
	lines := func() string {
		t.Helper()
		forecast, err := f.Forecast(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, c := range forecast.Coming {
			out = append(out, fmt.Sprint(c.At.Unix(), c.RowID, c.Subject, c.To))
		}
		return strings.Join(out, "\n")
	}
	last := lines()
	silence := func(address string, on bool) func() error {
		return func() error {
			boxes, err := value.ParseMailboxes(address)
			if err != nil {
				return err
			}
			if on {
				return f.Store.AddDoNotEmail(f.ctx, boxes[0], "", "test", f.Now())
			}
			return f.Store.RemoveDoNotEmail(f.ctx, boxes[0])
		}
	}
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"an edit", func() error {
			_, err := f.EditRow(f.ctx, rec.ID, 1, []CellEdit{{Column: "c6", Text: "31/03/2027"}}, System("Ines"))
			return err
		}},
		{"an address that is not written to", silence("desk@pellgate.example", true)},
		{"another in its place", func() error {
			if err := silence("desk@pellgate.example", false)(); err != nil {
				return err
			}
			return silence("ben@pellgate.example", true)()
		}},
		{"the calendar", func() error {
			rec, err := f.Store.Sheet(f.ctx, rec.ID)
			if err != nil {
				t.Fatal(err)
			}
			_, err = f.SaveCalendar(f.ctx, rec.CalendarID, "Museum", []string{"mon", "tue", "sat"}, nil, "Ines")
			return err
		}},
		{"a template", func() error {
			tpls, err := f.Store.Templates(f.ctx, rec.ID)
			if err != nil {
				return err
			}
			core, err := tpls[1].Core()
			if err != nil {
				return err
			}
			if err := json.Unmarshal(
				[]byte(`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"Another subject"}]}]}`),
				&core.Subject); err != nil {
				return err
			}
			_, err = f.SaveTemplate(f.ctx, rec.ID, tpls[1].ID, core, tpls[1].Version, "Ines")
			return err
		}},
		{"a rule that pauses", func() error {
			_, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.Paused, "Ines")
			return err
		}},
	} {
		if err := step.do(); err != nil {
			t.Fatalf("%s: %v", step.what, err)
		}
		now := lines()
		if now == last {
			t.Errorf("%s changes nothing of the forecast:\n%s", step.what, now)
		}
		last = now
	}
}

// A rule's effect counts what the forecast lists once it is on.
func TestEffectIsTheForecast(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.install("loans")
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	core, err := rules[0].Core()
	if err != nil {
		t.Fatal(err)
	}
	eff, err := f.Effect(f.ctx, rec.ID, EffectAsk{Rule: core})
	if err != nil {
		t.Fatal(err)
	}
	forecast, err := f.Forecast(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	within, days := 0, 0
	for _, c := range forecast.Coming {
		if c.Rule == rules[0].ID && c.At.Before(time.Date(2027, 4, 12, 0, 0, 0, 0, time.UTC)) {
			within++
		}
	}
	for _, d := range eff.Outlook.Days[:28] {
		for _, n := range d.Emails {
			days += n
		}
	}
	if days != within || eff.Total != 5 || eff.Rows != 4 || eff.Emails < days || len(eff.Lines) == 0 ||
		eff.Lines[0].RowName == "" || eff.Lines[0].Subject == "" || eff.Unjudged != 1 {
		t.Errorf("the effect counts %d in four weeks, the forecast %d: %+v", days, within, eff)
	}
	core.Condition = nil
	all, err := f.Effect(f.ctx, rec.ID, EffectAsk{Rule: core})
	if err != nil || all.Rows != 5 || all.Emails != eff.Emails { // the fifth row's date cannot be read
		t.Errorf("without a condition %d rows, %d emails: %v", all.Rows, all.Emails, err)
	}
}

// A view over a column that moves with the clock moves with it; one over
// columns at rest is kept.
func TestViewMoves(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := &store.Sheet{Name: "Cases", Zone: "UTC", Locale: "en-GB"}
	cols := []sheet.Column{{Name: "Case", Type: value.Text}, {Name: "Read at", Type: value.Moment,
		Order: value.DayMonthYear}, {Name: "Old", Type: value.Formula, Formula: "hours_since(read_at)"}}
	if err := f.CreateSheet(f.ctx, rec, cols, 0, -1, "test"); err != nil {
		t.Fatal(err)
	}
	in := Incoming{Columns: []string{"c1", "c2"}, Rows: [][]string{{"Case 01", "15/03/2027 08:00"},
		{"Case 02", "15/03/2027 04:00"}}}
	if _, err := f.Import(f.ctx, rec.ID, in, ImportOptions{Quiet: true}, System("test")); err != nil {
		t.Fatal(err)
	}
	old := rule.Leaf("c3", rule.More, rule.NumberOperand(value.Parse("3", value.Reading{Type: value.Number}).Num))
	for _, c := range []struct {
		at   string
		rows int
	}{{"2027-03-15T08:41:00Z", 1}, {"2027-03-15T10:59:00Z", 1}, {"2027-03-15T11:01:00Z", 2}} {
		f.advance(at(c.at))
		ids, err := f.View(f.ctx, rec.ID, ViewSpec{Filter: &old})
		if err != nil || len(ids) != c.rows {
			t.Errorf("at %s: %v %v, want %d rows", c.at, ids, err, c.rows)
		}
	}
}

// What waits to settle is foreseen at the instant at which it settles, by every rule, and comes: a reaction, one
// that is delayed, an email that was incomplete and is not any more, and a date that fell due meanwhile. It is
// seen of the sheet and of the row, and each once.
func TestForecastOfWhatSettles(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(`{"format":"nivot-bundle/1","name":"Loans","zone":"UTC","locale":"en-GB","key":"Loan",
			"settle":"PT2M","columns":[{"name":"Loan","type":"text"},{"name":"Email","type":"email"},
			{"name":"Due","type":"date","order":"year-month-day"},
			{"name":"State","type":"choice","options":["out","back"]}]}`)},
		"rows.csv": {Data: []byte("Loan,Email,Due,State\nL-1,a@x.example,2027-03-16,out\nL-2,,2027-03-15,out\n" +
			"L-3,c@x.example,2027-03-20,out\n")},
		"templates.json": {Data: []byte(`[{"name":"S","subject":"[Loan] is [State]","text":"x"}]`)},
		"rules.json": {Data: []byte(`[{"name":"Due","state":"on","trigger":{"kind":"date","column":"Due",
			"offsets":[{"n":0,"unit":"days"}],"at":"09:00"},"send":[{"template":"S"}],"to":[{"column":"Email"}]},
			{"name":"Back","state":"on","trigger":{"kind":"change","column":"State","to":["back"]},
			"send":[{"template":"S"}],"to":[{"column":"Email"}]},
			{"name":"Back, later","state":"on","trigger":{"kind":"change","column":"State","to":["back"],"delay":"PT1H"},
			"send":[{"template":"S"}],"to":[{"column":"Email"}]}]`)},
	})
	if err != nil {
		t.Fatal(err)
	}
	rec := f.bundle(b)
	found, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	core, err := rec.Core()
	if err != nil {
		t.Fatal(err)
	}
	set := func(row int, column, text string) {
		t.Helper()
		c, _ := core.ColumnNamed(column)
		if _, err := f.EditRow(f.ctx, rec.ID, found[row].ID, []CellEdit{{Column: c.ID, Text: text}},
			System("Ines")); err != nil {
			t.Fatal(err)
		}
	}
	f.advance(at("2027-03-15T09:00:00Z")) // L-2 is incomplete
	f.advance(at("2027-03-16T08:59:00Z").Add(-23 * time.Hour))
	set(0, "State", "back")
	set(1, "Email", "b@x.example")
	all, err := f.Forecast(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	end := f.Now().Add(2 * time.Hour)
	foreseen := map[string]bool{}
	for _, c := range all.Coming {
		if !c.At.After(end) {
			foreseen[fmt.Sprint(c.At.UTC().Format("15:04 "), c.Row, " ", c.Occasion)] = true
		}
	}
	if len(foreseen) != 3 {
		t.Errorf("foreseen: %v", foreseen)
	}
	recs, err := f.Store.RowsByID(f.ctx, rec.ID, []int64{found[0].ID})
	if err != nil {
		t.Fatal(err)
	}
	row, err := recs[0].Core(core)
	if err != nil {
		t.Fatal(err)
	}
	by, err := f.RowComing(f.ctx, rec.ID, []*sheet.Row{row})
	if err != nil || len(by[row.ID]) != 3 { // its date too
		t.Errorf("of the row: %+v %v", by, err)
	}
	emails, err := f.RowEmails(f.ctx, rec.ID, found[0].ID)
	if err != nil || len(emails) != 3 || !emails[0].Settles || !emails[1].Settles || emails[2].Settles ||
		!emails[1].At.Equal(emails[0].At.Add(time.Hour)) {
		t.Errorf("of the row by itself: %+v %v", emails, err)
	}
	say := Say{Sheet: rec.ID, Rule: emails[0].Rule, Row: found[0].ID, Email: emails[0].Identity(), What: Shift, Days: 1}
	var refusal *Refusal
	if err := f.SetAside(f.ctx, say, "Ines"); !errors.As(err, &refusal) {
		t.Errorf("moved before it has settled: %v", err)
	}
	say.What = LeaveOut
	if err := f.SetAside(f.ctx, say, "Ines"); err != nil {
		t.Error(err)
	}
	f.advance(end)
	var ds []store.Delivery
	if err := f.Store.DB(f.ctx).Find(&ds, "sheet_id = ?", rec.ID).Error; err != nil {
		t.Fatal(err)
	}
	for _, d := range ds {
		if rule.ID(d.Occasion) == say.Email {
			if d.State != delivery.Skipped || d.Reason.Code != reason.LeftOut {
				t.Errorf("left out: %s, %s", d.State, d.Reason.Words())
			}
			delete(foreseen, fmt.Sprint(d.DueAt.UTC().Format("15:04 "), "L-1 ", say.Email))
			continue
		}
		if d.State != delivery.Accepted {
			t.Errorf("row %d: %s, %s", d.RowID, d.State, d.Reason.Words())
			continue
		}
		at := d.WentAt.UTC().Format("15:04 ")
		name := map[int64]string{found[0].ID: "L-1", found[1].ID: "L-2"}[d.RowID]
		k := fmt.Sprint(at, name, " ", rule.ID(d.Occasion))
		if !foreseen[k] {
			t.Errorf("%s came, and was not foreseen: %v", k, foreseen)
		}
		delete(foreseen, k)
	}
	if len(foreseen) > 0 {
		t.Errorf("foreseen, and did not come: %v", foreseen)
	}
}
