package engine

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// tours is a sheet with blemishes, with a reminder of each row and an alert.
func (f *fixture) tours() *store.Sheet {
	f.t.Helper()
	files := fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Tours","zone":"UTC","locale":"en-GB","key":"Tour","columns":[
			{"name":"Tour","type":"text"},{"name":"Day","type":"date","order":"year-month-day"},{"name":"Email","type":"email"},{"name":"Guide","type":"email"},{"name":"Places","type":"number"},{"name":"On","type":"yes/no"}]}`)},
		"templates.json": {Data: []byte(
			`[{"name":"T","subject":"[Tour]","body":{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"It is soon."}]}]}}]`)},
		"rules.json": {Data: []byte(`[
			{"name":"Soon","state":"on","trigger":{"kind":"date","column":"Day","offsets":[{"n":-3,"unit":"days"}],"at":"09:00"},"condition":{"column":"On","op":"is","value":true},"send":[{"template":"T"}],"to":[{"column":"Email"}]},
			{"name":"Few","state":"on","trigger":{"kind":"threshold","column":"Places","op":"<=","limit":2},"send":[{"template":"T"}],"to":[{"column":"Email"}]}]`)},
		"rows.csv": {Data: []byte(`Tour,Day,Email,Guide,Places,On
T-1,2027-03-25,a@m.example,g@m.example,9,yes
T-1,2027-03-26,b@m.example,g@m.example,9,yes
T-2,soon,c@m.example,,9,yes
T-3,2027-03-27,,g@m.example,many,yes
T-4,2028-03-27,d@m.example,,9,yes
T-5,,e@m.example,,9,no
t-1,2027-03-28,f@m.example,,9,no
`)},
	}
	b, err := exchange.ReadBundle(files)
	if err != nil {
		f.t.Fatal(err)
	}
	return f.bundle(b)
}

// numbers gives the rows of a view by their numbers, from 1 on.
func (f *fixture) numbers(rec *store.Sheet, o Only) []int64 {
	f.t.Helper()
	ids, err := f.View(f.ctx, rec.ID, ViewSpec{Only: &o})
	if err != nil {
		f.t.Fatal(err)
	}
	all, err := f.View(f.ctx, rec.ID, ViewSpec{})
	if err != nil {
		f.t.Fatal(err)
	}
	out := []int64{}
	for _, id := range ids {
		out = append(out, int64(slices.Index(all, id))+1)
	}
	return out
}

// A view shows exactly the rows whose key others have, that a rule cannot judge, or that an
// email is coming to; and it follows what changes.
func TestViewsByWhatIsKnown(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.tours()
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	soon, few := rules[0].ID, rules[1].ID
	for _, c := range []struct {
		only Only
		want []int64
	}{
		{Only{Rows: Doubled}, []int64{1, 2, 7}}, // case does not tell keys apart
		{Only{Rows: SameAddress}, []int64{}},
		{Only{Rows: Unjudged}, []int64{3, 4}},
		{Only{Rows: Unjudged, Rule: soon}, []int64{3, 4}},
		{Only{Rows: Unjudged, Rule: few}, []int64{4}},
		{Only{Rows: Awaiting}, []int64{1, 2, 4}}, // an incomplete one is coming too
		{Only{Rows: Quiet}, []int64{3, 5, 6, 7}},
		{Only{Rows: Awaiting, Rule: few}, []int64{}},
	} {
		t.Run(fmt.Sprint(c.only.Rows, c.only.Rule != ""), func(t *testing.T) {
			if got := f.numbers(rec, c.only); !slices.Equal(got, c.want) {
				t.Errorf("rows %v, want %v", got, c.want)
			}
		})
	}
	var refusal *Refusal
	if _, err := f.View(f.ctx, rec.ID, ViewSpec{Only: &Only{Rows: "odd"}}); !errors.As(err, &refusal) ||
		refusal.Field != "/only/rows" {
		t.Errorf("an unknown kind of rows: %v", err)
	}

	t.Run("capitals do not tell addresses apart, and one of several is enough", func(t *testing.T) {
		ids, err := f.View(f.ctx, rec.ID, ViewSpec{})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.EditRow(f.ctx, rec.ID, ids[4], []CellEdit{{Column: "c3", Text: "d@m.example; A@M.example"}},
			System("test")); err != nil {
			t.Fatal(err)
		}
		if got := f.numbers(rec, Only{Rows: SameAddress}); !slices.Equal(got, []int64{1, 5}) {
			t.Errorf("rows %v", got)
		}
	})
	t.Run("what is mended is no longer shown", func(t *testing.T) {
		ids, err := f.View(f.ctx, rec.ID, ViewSpec{})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.EditRow(f.ctx, rec.ID, ids[2], []CellEdit{{Column: "c2", Text: "2027-03-30"}},
			System("test")); err != nil {
			t.Fatal(err)
		}
		if got := f.numbers(rec, Only{Rows: Unjudged}); !slices.Equal(got, []int64{4}) {
			t.Errorf("rows %v", got)
		}
		if got := f.numbers(rec, Only{Rows: Awaiting}); !slices.Equal(got, []int64{1, 2, 3, 4}) {
			t.Errorf("an email is coming to rows %v", got)
		}
	})
	t.Run("what has gone is not coming", func(t *testing.T) {
		f.advance(at("2027-03-22T10:00:00Z"))
		if got := f.numbers(rec, Only{Rows: Awaiting}); slices.Contains(got, 1) || !slices.Contains(got, 2) {
			t.Errorf("an email is coming to rows %v", got)
		}
	})
	t.Run("a paused rule judges nothing", func(t *testing.T) {
		if _, err := f.SetRuleState(f.ctx, rec.ID, soon, rule.Paused, "test"); err != nil {
			t.Fatal(err)
		}
		if got := f.numbers(rec, Only{Rows: Unjudged}); !slices.Equal(got, []int64{4}) { // few goes on
			t.Errorf("rows %v", got)
		}
	})
}

// The counts are those of the effect and of the view; which column is to be mended is told.
func TestCountUnjudged(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.tours()
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	u, err := f.CountUnjudged(f.ctx, rec.ID)
	if err != nil || u.Rows != 2 || u.Rules[rules[0].ID] != 2 || u.Rules[rules[1].ID] != 1 {
		t.Fatalf("%+v %v", u, err)
	}
	want := []map[int]string{{3: "c2", 4: "c3"}, {4: "c5"}}
	for i, r := range rules {
		core, err := r.Core()
		if err != nil {
			t.Fatal(err)
		}
		e, err := f.Effect(f.ctx, rec.ID, EffectAsk{Rule: core})
		if err != nil || e.Unjudged != u.Rules[r.ID] || len(e.Faulty) != e.Unjudged {
			t.Fatalf("%s: the effect has %d, the sheet %d, %d are shown: %v", r.Name, e.Unjudged, u.Rules[r.ID], len(e.Faulty),
				err)
		}
		for _, x := range e.Faulty {
			if n := int(x.Place) + 1; want[i][n] != x.Column {
				t.Errorf("%s: row %d is to be mended in %q, want %q", r.Name, n, x.Column, want[i][n])
			}
		}
	}
	ids, _ := f.View(f.ctx, rec.ID, ViewSpec{})
	recs, err := f.Store.RowsByID(f.ctx, rec.ID, ids)
	if err != nil {
		t.Fatal(err)
	}
	core, _ := rec.Core()
	var rows []*sheet.Row
	for i := range recs {
		row, err := recs[i].Core(core)
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	faults, err := f.RowFaults(f.ctx, rec.ID, "", rows)
	if err != nil || len(faults) != 2 || len(faults[rows[3].ID]) != 2 {
		t.Errorf("%v %v", faults, err)
	}

	if err := f.KnowUnjudged(f.ctx, rec.ID, "ines"); err != nil {
		t.Fatal(err)
	}
	rules, _ = f.Store.Rules(f.ctx, rec.ID)
	if rules[0].UnjudgedKnown != 2 || rules[1].UnjudgedKnown != 1 {
		t.Errorf("%d and %d are taken as meant", rules[0].UnjudgedKnown, rules[1].UnjudgedKnown)
	}
}

// A deleted sheet writes nothing and comes back with its rules paused; after 30 days it
// does not. One that is put away is there, and no rule of it goes on.
func TestAwaySheets(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.tours()
	rules, _ := f.Store.Rules(f.ctx, rec.ID)
	sent := func() int64 {
		t.Helper()
		n, err := f.Store.CountStates(f.ctx, store.LogFilter{SheetID: rec.ID})
		if err != nil {
			t.Fatal(err)
		}
		return n["accepted"]
	}
	if err := f.DeleteSheet(f.ctx, rec.ID, "ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Store.Sheet(f.ctx, rec.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a deleted sheet is there: %v", err)
	}
	f.advance(at("2027-03-22T10:00:00Z"))
	if n := sent(); n != 0 {
		t.Errorf("%d emails of a deleted sheet went out", n)
	}
	list, err := f.Store.AwaySheets(f.ctx, f.RestorableSince())
	if err != nil || len(list) != 1 || list[0].AwayBy != "ines" || list[0].DeletedAt == nil {
		t.Errorf("%+v %v", list, err)
	}
	back, err := f.RestoreSheet(f.ctx, rec.ID, "ines")
	if err != nil || back.DeletedAt != nil || back.AwayBy != "" {
		t.Fatalf("%+v %v", back, err)
	}
	if r, err := f.Store.Rule(f.ctx, rules[0].ID); err != nil || r.State != rule.Paused {
		t.Errorf("its rule is %v %v", r.State, err)
	}
	if _, err := f.RestoreSheet(f.ctx, rec.ID, "ines"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("one that is there is restored: %v", err)
	}

	if err := f.PutSheetAway(f.ctx, rec.ID, "ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Store.Sheet(f.ctx, rec.ID); err != nil {
		t.Errorf("a sheet that is put away cannot be opened: %v", err)
	}
	if in, err := f.Store.Sheets(f.ctx); err != nil || len(in) != 0 {
		t.Errorf("it stands among the sheets: %v %v", in, err)
	}
	var refusal *Refusal
	if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.On, "ines"); !errors.As(err, &refusal) {
		t.Errorf("its rule was switched on: %v", err)
	}
	if _, err := f.RestoreSheet(f.ctx, rec.ID, "ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.On, "ines"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	f.advance(at("2027-03-23T10:00:00Z"))
	if n := sent(); n != 1 {
		t.Errorf("%d emails once it is back, want the second tour's", n)
	}

	if err := f.DeleteSheet(f.ctx, rec.ID, "ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(f.Now().Add(keptDeleted + time.Hour))
	if _, err := f.RestoreSheet(f.ctx, rec.ID, "ines"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("restored after 30 days: %v", err)
	}
}
