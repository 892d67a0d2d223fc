package engine

import (
	"errors"
	"fmt"
	"testing"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// foreseen gives all that is foreseen of a sheet's rules that are on, one email
// after the other.
func (f *fixture) foreseen(sheetID string) map[string]int {
	f.t.Helper()
	out := map[string]int{}
	b := newRuleCache(f.Store)
	sb, err := b.sheet(f.ctx, sheetID)
	if err != nil {
		f.t.Fatal(err)
	}
	var rows []*sheet.Row
	err = f.Store.ScanRows(f.ctx, sheetID, func(rec *store.Row) error {
		row, err := rec.Core(sb.sheet)
		rows = append(rows, row)
		return err
	})
	if err != nil {
		f.t.Fatal(err)
	}
	for _, rb := range sb.rules {
		if rb.record.State != rule.On {
			continue
		}
		o, err := b.outlook(sb, rb.compiled.Rule, f.Now(), EffectDays)
		if err != nil {
			f.t.Fatal(err)
		}
		note := func(row string, outcome plan.Outcome, due any, step int, wording string) {
			if outcome != plan.Skip {
				out[fmt.Sprint(rb.record.ID, row, due, step, wording, outcome == plan.Incomplete)]++
			}
		}
		rb.compiled.Light = true
		for _, row := range rows {
			for _, c := range rb.compiled.Foresee(row, f.Now(), f.Now(), o.Until) {
				note(row.ID, c.Outcome, c.Due.UTC(), c.Step, c.Decision.Template)
			}
		}
		if !rb.compiled.IsRoundUp() {
			continue
		}
		for _, round := range rb.compiled.Rounds(f.Now(), o.Until) {
			ups, own := rb.compiled.RoundUps(round, rows, round.Due, func(*sheet.Row) plan.Memory { return plan.Memory{} })
			for _, u := range ups {
				own = append(own, u.Considered)
			}
			for _, c := range own {
				note(fmt.Sprint(c.Row, c.Mailbox), c.Outcome, c.Due.UTC(), c.Step, c.Decision.Template)
			}
		}
	}
	return out
}

// What is told of a change of columns, of a sheet's zone, of a working calendar
// or of a letter is what has changed of the emails foreseen once it is made, on
// random sheets with random rules.
func TestTurnsAreAsTold(t *testing.T) {
	told := map[string]int{}
	for trial := range uint64(60) {
		t.Run(fmt.Sprint("trial ", trial), func(t *testing.T) {
			g := exchangetest.New(trial, 1128)
			b := foreseeable(t, g)
			f := newFixture(t, "2027-03-15T08:40:00Z")
			rec, err := f.Install(f.ctx, b, true, "test")
			if err != nil {
				t.Fatal(err)
			}
			f.settled()
			kind := turns[int(trial)%len(turns)]
			make, tell := f.randomTurn(g, rec, kind)
			before := f.foreseen(rec.ID)
			c, err := tell()
			var refused *Refusal
			if errors.As(err, &refused) {
				return // a formula would not do any more
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := make(); errors.As(err, &refused) {
				return // a letter would not
			} else if err != nil {
				t.Fatal(err)
			}
			after := f.foreseen(rec.ID)
			fresh, gone := 0, 0
			for k, n := range after {
				fresh += max(0, n-before[k])
			}
			for k, n := range before {
				gone += max(0, n-after[k])
			}
			told[kind] += fresh + gone
			got := [2]int{}
			for _, r := range c.Rules {
				got[0] += r.New
				got[1] += r.Gone
			}
			if got != [2]int{fresh, gone} {
				t.Fatalf("%s: told %v are new and no longer go, and it is %d and %d\nbefore %v\nafter %v", kind, got, fresh, gone,
					before, after)
			}
			if c.Looked != len(b.Rows) || fresh+gone > 0 && len(c.Coming) == 0 {
				t.Errorf("%s: %d of %d rows looked at, %d lines", kind, c.Looked, len(b.Rows), len(c.Coming))
			}
		})
	}
	for _, kind := range turns {
		if told[kind] == 0 {
			t.Errorf("no email ever changed by another %s", kind)
		}
	}
}

// foreseeable makes a bundle with a rule whose emails can be foreseen.
func foreseeable(t *testing.T, g *exchangetest.Gen) *exchange.Bundle {
	t.Helper()
	for {
		b, err := exchange.ReadBundle(g.Bundle())
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range b.Rules {
			if r.Trigger.Kind == rule.Date {
				return b
			}
		}
	}
}

var turns = []string{"type", "options", "calendar", "zone", "column taken out", "group"}

// randomTurn gives a change of a kind, how it is made and what is told of it.
func (f *fixture) randomTurn(g *exchangetest.Gen, rec *store.Sheet,
	kind string) (made func() error, told func() (*Consequences, error)) {
	f.t.Helper()
	s, err := rec.Core()
	if err != nil {
		f.t.Fatal(err)
	}
	switch kind {
	case "calendar":
		days := [][]string{{"mon", "tue"}, {"sat", "sun", "mon"}, {"mon", "tue", "wed", "thu", "fri"}}[g.R.IntN(3)]
		closed := []string{"2027-03-22", "2027-03-30", "2027-04-05"}
		made = func() error {
			c, err := f.Store.Calendar(f.ctx, rec.CalendarID)
			if err != nil {
				return err
			}
			_, err = f.SaveCalendar(f.ctx, rec.CalendarID, c.Name, days, closed, "test")
			return err
		}
		told = func() (*Consequences, error) {
			to, err := calendar.New(days, closed)
			if err != nil {
				return nil, err
			}
			sheets, err := f.CalendarConsequences(f.ctx, rec.CalendarID, to, 0)
			if err != nil || len(sheets) == 0 {
				all, _ := f.Store.CountRows(f.ctx, rec.ID)
				return &Consequences{Looked: int(all)}, err
			}
			return sheets[0].Consequences, nil
		}
	case "zone":
		zone := g.One("America/New_York", "Pacific/Auckland", "Europe/Berlin")
		made = func() error {
			_, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{Zone: &zone}, "test")
			return err
		}
		told = func() (*Consequences, error) {
			return f.SheetConsequences(f.ctx, rec.ID, SheetChange{Zone: &zone}, 0)
		}
	default:
		cols := s.Columns
		own := func(name string) *sheet.Column {
			c, _ := s.ColumnNamed(name)
			return c
		}
		switch kind {
		case "type":
			if c := own(g.One("Due", "Copy", "Email")); c.Type == value.Date {
				c.Type = value.Moment
			} else {
				c.Type = value.Text
			}
		case "options":
			own("State").Options = own("State").Options[:2]
		case "column taken out":
			name := g.One("Email", "Copy", "Open", "Read")
			cols = nil
			for _, c := range s.Columns {
				if c.Name != name && (c.Name != "Soon" || name != "Open") && (c.Name != "Age" || name != "Read") {
					cols = append(cols, c)
				}
			}
		case "group":
			own("Limit").Group = ""
		}
		change := ColumnsChange{Columns: cols, Pausing: true}
		made = func() error {
			_, err := f.ChangeColumns(f.ctx, rec.ID, change, nil, "test")
			return err
		}
		told = func() (*Consequences, error) { return f.ColumnsConsequences(f.ctx, rec.ID, change, 0) }
	}
	return made, told
}

// A letter's other wording is in the emails that are foreseen with it, and what
// could not go with it is counted.
func TestLetterConsequences(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:40:00Z")
	rec := f.install("loans")
	tpls, err := f.Store.Templates(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	s, _ := rec.Core()
	for i := range tpls {
		core, err := tpls[i].Core()
		if err != nil {
			t.Fatal(err)
		}
		core.Body, _ = template.ParseText("Dear [Object], without more words", s)
		list, err := f.TemplateConsequences(f.ctx, rec.ID, tpls[i].ID, core, 0)
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 0 {
			continue
		}
		if _, err := f.SaveTemplate(f.ctx, rec.ID, tpls[i].ID, core, 0, "test"); err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			r, err := f.Store.Rule(f.ctx, c.ID)
			if err != nil {
				t.Fatal(err)
			}
			body, _ := r.Core()
			eff, err := f.Effect(f.ctx, rec.ID, EffectAsk{Rule: body})
			if err != nil {
				t.Fatal(err)
			}
			say := 0
			for _, d := range eff.Days {
				for w, n := range d.Emails {
					if w.Template == tpls[i].ID {
						say += n
					}
				}
			}
			if c.Emails != say || c.Incomplete != eff.Incomplete || c.Partial || say == 0 {
				t.Errorf("%s, %s: %+v, and then %d say it, %d cannot go", tpls[i].Name, r.Name, c, say, eff.Incomplete)
			}
		}
		return
	}
	t.Error("no letter is in any rule that is on")
}
