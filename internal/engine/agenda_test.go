package engine

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// The agenda is kept incrementally: after random edits of rows, columns,
// rules, calendars and zones it equals one computed anew.
func TestAgendaEqualsOneComputedAnew(t *testing.T) {
	for trial := range 6 {
		g := exchangetest.New(uint64(trial), 45)
		b, err := exchange.ReadBundle(g.Bundle())
		if err != nil {
			t.Fatal(err)
		}
		f := newFixture(t, "2027-03-15T08:40:00Z")
		if trial%2 == 1 {
			f.opts.Horizon = near
		}
		rec, err := f.Install(f.ctx, b, true, "test")
		if err != nil {
			t.Fatal(err)
		}
		f.settled()
		for step := range 30 {
			what := f.shake(g, rec)
			f.advance(f.Now().Add(time.Duration(1+g.R.IntN(26*3600)) * time.Second))
			f.advance(f.Now().Add(2 * time.Hour)) // everything has settled
			got := f.agenda(rec)
			want := f.agendaAnew(rec, got)
			if got != want {
				t.Fatalf("trial %d, step %d, after %s:\nthe agenda holds\n%s\ncomputed anew\n%s", trial, step, what, got, want)
			}
		}
	}
}

// near is a horizon that ends soon, for sheets of few rows.
var near = Horizon{Ahead: 5 * 24 * time.Hour}

// shake does one random thing to a sheet and what hangs on it.
func (f *fixture) shake(g *exchangetest.Gen, rec *store.Sheet) string {
	f.t.Helper()
	must := func(err error) {
		if err != nil {
			f.t.Fatal(err)
		}
	}
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 100)
	must(err)
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	must(err)
	s, err := rec.Core()
	must(err)
	r := &rules[g.R.IntN(len(rules))]
	switch g.R.IntN(9) {
	case 0:
		if len(rows) > 1 {
			_, err := f.DeleteRow(f.ctx, rec.ID, rows[0].ID, System("test"))
			must(err)
			if g.Maybe(2) {
				f.advance(f.Now().Add(time.Duration(g.R.IntN(86400)) * time.Second))
				_, err := f.RestoreRow(f.ctx, rec.ID, rows[0].ID, System("test"))
				must(err)
			}
		}
		return "a deletion"
	case 1:
		_, err := f.AddRow(f.ctx, rec.ID, []CellEdit{{Column: "c1", Text: fmt.Sprint("N-", g.R.IntN(1e6))},
			{Column: "c2", Text: g.Cell("Due")}, {Column: "c3", Text: g.Cell("Read")}}, System("test"))
		must(err)
		return "an addition"
	case 2:
		st := rule.On
		if r.State == rule.On {
			st = rule.Paused
		}
		_, err := f.SetRuleState(f.ctx, rec.ID, r.ID, st, "test")
		must(err)
		return "a rule's switch"
	case 3:
		core, err := r.Core()
		must(err)
		core.Zone = g.One("", "America/New_York", "Asia/Tokyo")
		_, err = f.SaveRule(f.ctx, rec.ID, r.ID, core, 0, "test")
		must(err)
		return "a rule's zone"
	case 4:
		cals, err := f.Store.Calendars(f.ctx)
		must(err)
		own := cals[len(cals)-1]
		_, err = f.SaveCalendar(f.ctx, own.ID, own.Name, []string{"mon", "tue", "wed", "thu", g.One("fri", "sat")},
			[]string{fmt.Sprintf("2027-03-%02d", 16+g.R.IntN(14)), fmt.Sprintf("2027-04-%02d", 1+g.R.IntN(20))}, "test")
		must(err)
		return "the working calendar"
	case 5:
		rec, err := f.Store.Sheet(f.ctx, rec.ID)
		must(err)
		core, err := rec.Core()
		must(err)
		core.Columns[1].Name = g.One("Due", "Return due", "Back by")
		_, err = f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: core.Columns}, nil, "test")
		must(err)
		return "a column's name"
	}
	if len(rows) == 0 {
		return "nothing"
	}
	var cells []CellEdit
	for range 1 + g.R.IntN(3) {
		name := exchangetest.Typed[g.R.IntN(len(exchangetest.Typed))]
		if name == "Due" {
			cells = append(cells, CellEdit{Column: "c2", Text: g.Cell("Due")})
			continue
		}
		c, _ := s.ColumnNamed(name)
		cells = append(cells, CellEdit{Column: c.ID, Text: g.Cell(name)})
	}
	_, err = f.EditRow(f.ctx, rec.ID, rows[g.R.IntN(len(rows))].ID, cells, System("test"))
	must(err)
	return "an edit"
}

// agenda lists what the rules are to look at.
func (f *fixture) agenda(rec *store.Sheet) string {
	f.t.Helper()
	var es []store.Entry
	if err := f.Store.DB(f.ctx).Raw(
		`SELECT a.* FROM agenda a LEFT JOIN rules r ON r.id = a.rule_id WHERE a.sheet_id = ? AND
			kind IN ('due', 'round', 'arm', 'settle') AND (a.generation IN (0, r.generation)) AND
			NOT (kind = 'arm' AND arming_after IS NULL)`, rec.ID).Scan(&es).Error; err != nil {
		f.t.Fatal(err)
	}
	var out []string
	for _, e := range es {
		out = append(out, fmt.Sprintf("%s %s %d %s", e.Kind, e.RuleID, e.RowID, e.DueAt.UTC().Format(time.RFC3339Nano)))
	}
	sort.Strings(out)
	return strings.Join(out, "\n")
}

// agendaAnew computes anew what a sheet's agenda is to hold. What lies beyond a rule's horizon may
// be there or not.
func (f *fixture) agendaAnew(rec *store.Sheet, got string) string {
	f.t.Helper()
	sb, err := newRuleCache(f.Store).sheet(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	var es []store.Entry
	if err := f.Store.DB(f.ctx).Raw("SELECT * FROM agenda WHERE sheet_id = ? AND kind = 'due'",
		rec.ID).Scan(&es).Error; err != nil {
		f.t.Fatal(err)
	}
	known := map[string]time.Time{}
	for _, e := range es {
		if e.Known != nil {
			known[e.RuleID+strconv.FormatInt(e.RowID, 10)] = *e.Known
		}
	}
	var out []string
	now := f.Now()
	for _, rb := range sb.rules {
		if rb.record.State != rule.On {
			continue
		}
		if next := rb.compiled.NextRound(now); !next.IsZero() {
			out = append(out, fmt.Sprintf("round %s 0 %s", rb.record.ID, next.UTC().Format(time.RFC3339Nano)))
		}
		err := f.Store.ScanRows(f.ctx, rec.ID, func(r *store.Row) error {
			row, err := r.Core(sb.sheet)
			if err != nil {
				return err
			}
			since, ok := known[rb.record.ID+row.ID]
			if !ok || since.Before(rb.baseline()) {
				since = rb.baseline()
			}
			next := rb.compiled.Next(row, since, now)
			line := fmt.Sprintf("due %s %s %s", rb.record.ID, row.ID, next.UTC().Format(time.RFC3339Nano))
			until := rb.record.ArmedUntil
			if !next.IsZero() && (until == nil || !next.After(*until) || strings.Contains(got, line)) {
				out = append(out, line)
			}
			return nil
		})
		if err != nil {
			f.t.Fatal(err)
		}
	}
	sort.Strings(out)
	return strings.Join(out, "\n")
}
