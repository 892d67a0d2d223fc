package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// alone leaves one rule of a sheet on.
func (f *fixture) alone(rec *store.Sheet, but *store.Rule) {
	f.t.Helper()
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	for _, r := range rules {
		if r.ID == but.ID {
			continue
		}
		if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "test"); err != nil {
			f.t.Fatal(err)
		}
	}
}

// What a person says of one email to come holds, and of no other: left out, a
// step skipped, a chain ended, a day later or earlier; taken back it is as if
// nothing had been said. Nothing goes twice by it.
func TestSetAside(t *testing.T) {
	f := newFixture(t, "2027-03-14T08:30:00Z")
	rec, r, rows := f.reacting(10, nil)
	f.edit(rec, rows, "2027-03-22")
	f.advance(at("2027-03-14T08:40:00Z"))
	f.alone(rec, r)
	core, err := r.Core()
	if err != nil {
		t.Fatal(err)
	}
	tpl := core.Send[0].Template
	core.Trigger = rule.Trigger{Kind: rule.Date, Column: "c3", Offsets: []rule.Offset{{N: -7, Unit: rule.Days}},
		At: "09:00"}
	core.Then = &rule.Then{Steps: []rule.Step{{After: "P1D", Template: tpl}, {After: "P2D", Template: tpl},
		{After: "P3D", Template: tpl, Every: "P1D", Times: 2}}}
	if r, err = f.SaveRule(f.ctx, rec.ID, r.ID, core, r.Version, "test"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	before := len(f.timed())
	say := func(row, step, again int, what string, days int) error {
		t.Helper()
		all, err := f.RowEmails(f.ctx, rec.ID, rows[row])
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range all {
			if x.Rule == r.ID && x.Step == step && x.Again == again {
				return f.SetAside(f.ctx, Say{Sheet: rec.ID, Rule: r.ID, Row: rows[row], Email: x.Identity(), What: what,
					Days: days, Why: "rang"}, "Ines")
			}
		}
		return fmt.Errorf("row %d has no step %d to come among %d", row, step, len(all))
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(say(1, 0, 0, LeaveOut, 0))
	must(say(2, 0, 0, Shift, 1))
	must(say(3, 2, 0, LeaveOut, 0)) // before its first has gone
	must(say(5, 2, 0, Shift, -1))
	must(say(6, 0, 0, LeaveOut, 0))
	must(say(6, 0, 0, AsItComes, 0))
	must(say(8, 0, 0, Shift, -1))
	must(say(9, 0, 0, Shift, 1))
	must(say(9, 0, 0, Shift, 1))
	must(say(9, 0, 0, AsItComes, 0))
	var refusal *Refusal
	if err := say(0, 0, 0, Shift, -7); !errors.As(err, &refusal) {
		t.Errorf("into the past: %v", err)
	}
	if err := say(0, 0, 0, EndChain, 0); !errors.As(err, &refusal) {
		t.Errorf("the first ends no chain: %v", err)
	}
	f.advance(at("2027-03-15T12:00:00Z"))
	must(say(4, 2, 0, EndChain, 0)) // after its first has gone
	f.foresees(rec, rows[4], "16 09:00")
	f.foresees(rec, rows[0], "16 09:00", "17 09:00", "18 09:00", "19 09:00")
	must(say(7, 1, 0, Shift, 1))
	must(say(7, 1, 0, AsItComes, 0))
	must(say(7, 3, 0, Shift, 1))
	if err := f.SetAside(f.ctx, Say{Sheet: rec.ID, Rule: r.ID, Row: rows[0], Email: rule.ID{}, What: LeaveOut},
		"Ines"); !errors.As(err, &refusal) {
		t.Errorf("what has gone: %v", err)
	}
	f.advance(at("2027-03-22T12:00:00Z"))
	want := []string{"15 16 17 18 19", "", "16 17 18 19 20", "15 16 18 19", "15 16", "15 16 16 18 19", "15 16 17 18 19",
		"15 16 17 19 19", "14 15 16 17 18", "15 16 17 18 19"}
	got := make([]string, len(rows))
	for _, l := range f.timed()[before:] {
		var day, row int
		if _, err := fmt.Sscanf(l[strings.Index(l, "contact"):], "contact%d@", &row); err != nil {
			t.Fatal(l, err)
		}
		if _, err := fmt.Sscanf(l, "03-%d 09:00", &day); err != nil {
			t.Fatal(l, err)
		}
		got[row] = strings.TrimSpace(got[row] + fmt.Sprint(" ", day))
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("row %d: went on %q, want %q", i, got[i], want[i])
		}
	}
	page, err := f.Store.Log(f.ctx, store.LogFilter{RuleID: r.ID, RowID: rows[1]}, "", 2)
	ds := page.Lines
	if err != nil || len(ds) == 0 || ds[0].Reason.Code != reason.LeftOut ||
		ds[0].Reason.Words() != "left out by Ines: rang" {
		t.Errorf("the ledger says %+v, %v", ds, err)
	}
	events, err := f.Store.RowEvents(f.ctx, rows[1], 5)
	if err != nil || len(events) == 0 || events[0].Actor != "Ines" || events[0].Kind != "set-aside" {
		t.Errorf("the row's history: %+v %v", events, err)
	}
}

// foresees checks when a row's emails are foreseen, in the sheet's forecast and
// on the row's track: what has been promised is there too.
func (f *fixture) foresees(rec *store.Sheet, id int64, want ...string) {
	f.t.Helper()
	all, err := f.Forecast(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	var got, track []string
	for _, c := range all.Coming {
		if c.RowID == store.RowID(id) {
			got = append(got, c.At.Format("02 15:04"))
		}
	}
	sb, err := newRuleCache(f.Store).sheet(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	r, err := f.Store.Row(f.ctx, id)
	if err != nil {
		f.t.Fatal(err)
	}
	core, err := r.Core(sb.sheet)
	if err != nil {
		f.t.Fatal(err)
	}
	marks, err := f.RowComing(f.ctx, rec.ID, []*sheet.Row{core})
	if err != nil {
		f.t.Fatal(err)
	}
	for _, c := range marks[core.ID] {
		track = append(track, c.At.Format("02 15:04"))
	}
	slices.Sort(track)
	if !slices.Equal(got, want) || !slices.Equal(track, want) {
		f.t.Errorf("foreseen: %q, on the track %q, want %q", got, track, want)
	}
}

// What is said of an email hangs on its date: moved with it, it is another one.
func TestSetAsideOfADateThatMoves(t *testing.T) {
	f := newFixture(t, "2027-03-14T08:30:00Z")
	rec, r, rows := f.reacting(1, func(r *rule.Rule) {
		r.Trigger = rule.Trigger{Kind: rule.Date, Column: "c3", Offsets: []rule.Offset{{N: 0, Unit: rule.Days}}, At: "09:00"}
	})
	f.alone(rec, r)
	f.edit(rec, rows, "2027-03-16")
	f.advance(at("2027-03-14T09:00:00Z"))
	all, err := f.RowEmails(f.ctx, rec.ID, rows[0])
	if err != nil || len(all) != 1 {
		t.Fatal(all, err)
	}
	if err := f.SetAside(f.ctx, Say{Sheet: rec.ID, Rule: r.ID, Row: rows[0], Email: all[0].Identity(), What: Shift,
		Days: 1}, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.edit(rec, rows, "2027-03-18") // away, and back: the moved one stands again
	f.advance(at("2027-03-14T09:10:00Z"))
	f.edit(rec, rows, "2027-03-16")
	f.advance(at("2027-03-20T09:10:00Z"))
	if got := f.timed(); len(got) != 1 || !strings.HasPrefix(got[0], "03-17 09:00") {
		t.Errorf("went: %v, want one on 17 March at nine", got)
	}
}
