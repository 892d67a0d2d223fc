package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// desk is an engine that only keeps rows.
type desk struct {
	*Engine
	t   *testing.T
	ctx context.Context
	rec *store.Sheet
}

func newDesk(t *testing.T, rows ...[]string) *desk {
	t.Helper()
	f := newFixture(t, "2027-03-15T08:40:00Z")
	d := &desk{Engine: f.Engine, t: t, ctx: f.ctx, rec: &store.Sheet{Name: "Loans", Zone: "UTC", Locale: "en-GB",
		SettleSeconds: 120}}
	cols := []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Object", Type: value.Text},
		{Name: "Return due", Type: value.Date, Order: value.DayMonthYear},
		{Name: "State", Type: value.Choice, Options: []value.Option{{Name: "out"}, {Name: "back"}}},
		{Name: "Value", Type: value.Number}}
	if err := d.CreateSheet(d.ctx, d.rec, cols, 0, -1, "test"); err != nil {
		t.Fatal(err)
	}
	d.bring(ImportOptions{Quiet: true}, rows...)
	return d
}

var deskColumns = []string{"c1", "c2", "c3", "c4", "c5"}

func (d *desk) bring(o ImportOptions, rows ...[]string) ImportResult {
	d.t.Helper()
	in := Incoming{Columns: deskColumns}
	for _, r := range rows {
		for len(r) < len(deskColumns) {
			r = append(r, "")
		}
		in.Rows = append(in.Rows, r)
	}
	res, err := d.Import(d.ctx, d.rec.ID, in, o, System("Ines"))
	if err != nil {
		d.t.Fatal(err)
	}
	return res
}

// table writes the sheet as it stands: a line for each row, in order.
func (d *desk) table() string {
	d.t.Helper()
	ids, err := d.View(d.ctx, d.rec.ID, ViewSpec{})
	if err != nil {
		d.t.Fatal(err)
	}
	return d.lines(ids)
}

func (d *desk) lines(ids []int64) string {
	d.t.Helper()
	_, s, err := coreSheet(d.ctx, d.Store, d.rec.ID)
	if err != nil {
		d.t.Fatal(err)
	}
	recs, err := d.Store.RowsByID(d.ctx, d.rec.ID, ids)
	if err != nil {
		d.t.Fatal(err)
	}
	var b strings.Builder
	for i := range recs {
		row, err := recs[i].Core(s)
		if err != nil {
			d.t.Fatal(err)
		}
		fmt.Fprintf(&b, "%d", recs[i].ID)
		for k := range s.Columns {
			fmt.Fprintf(&b, "|%s", s.Input(&s.Columns[k], row.Cell(&s.Columns[k])))
		}
		if recs[i].Gone {
			b.WriteString("|gone")
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func (d *desk) must(c ChangeResult, err error) ChangeResult {
	d.t.Helper()
	if err != nil {
		d.t.Fatal(err)
	}
	return c
}

func (d *desk) undo(id int64) ChangeResult {
	d.t.Helper()
	return d.must(d.Undo(d.ctx, d.rec.ID, id, System("Ines")))
}

func edit(row int64, column, text string) Op {
	return Op{Kind: OpEdit, Row: row, Cells: []CellEdit{{Column: column, Text: text}}}
}

// Every kind of change can be undone, and the undoing undone.
func TestUndo(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows", "29/03/2027", "out", "10"}, []string{"LN-2", "Net float", "", "back"},
		[]string{"LN-3"})
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	first := ids[0]
	for name, change := range map[string]func() int64{
		"an edit": func() int64 {
			return d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c3", "soon")}, "edit", System("Ines"))).ID
		},
		"a paste": func() int64 {
			return d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c2", "x"), edit(ids[1], "c2", "y"),
				{Kind: OpAdd, Cells: []CellEdit{{Column: "c1", Text: "LN-9"}}}}, "paste", System("Ines"))).ID
		},
		"rows in": func() int64 {
			return d.must(d.Change(d.ctx, d.rec.ID, []Op{{Kind: OpAdd, After: &first}, {Kind: OpAdd, After: &first}}, "add",
				System("Ines"))).ID
		},
		"rows out": func() int64 {
			return d.must(d.Change(d.ctx, d.rec.ID, []Op{{Kind: OpDelete, Row: ids[1]}, {Kind: OpDelete, Row: ids[2]}},
				"delete", System("Ines"))).ID
		},
		"one row out": func() int64 { return d.must(d.DeleteRow(d.ctx, d.rec.ID, ids[0], System("Ines"))).ID },
		"an import": func() int64 {
			return d.bring(ImportOptions{}, []string{"LN-3", "Stick barometer"}, []string{"ln-1", "Oak bellows", "30/03/2027",
				"out", "10"}, []string{"LN-4"}, []string{"LN-4"}, []string{}).Change
		},
	} {
		before := d.table()
		id := change()
		after := d.table()
		if before == after {
			t.Fatalf("%s changed nothing", name)
		}
		u := d.undo(id)
		if got := d.table(); got != before {
			t.Errorf("%s undone:\n%s\nwas\n%s", name, got, before)
		}
		again := d.undo(u.ID)
		if got := d.table(); got != after {
			t.Errorf("%s done again:\n%s\nwas\n%s", name, got, after)
		}
		d.undo(again.ID)
		if got := d.table(); got != before {
			t.Errorf("%s undone again:\n%s\nwas\n%s", name, got, before)
		}
	}
}

// Undoing leaves alone what somebody has changed since.
func TestUndoSpares(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows"}, []string{"LN-2", "Net float"})
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	c := d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c2", "x"), edit(ids[1], "c2", "y"),
		{Kind: OpAdd, Cells: []CellEdit{{Column: "c1", Text: "LN-3"}}}}, "paste", System("Ines")))
	d.must(d.EditRow(d.ctx, d.rec.ID, ids[1], []CellEdit{{Column: "c2", Text: "Tom’s"}}, System("Tom")))
	d.must(d.EditRow(d.ctx, d.rec.ID, c.Added[0], []CellEdit{{Column: "c2", Text: "Tom’s too"}}, System("Tom")))
	u := d.undo(c.ID)
	if u.Skipped != 2 {
		t.Errorf("passed %d", u.Skipped)
	}
	want := fmt.Sprintf("%d|LN-1|Oak bellows|||\n%d|LN-2|Tom’s|||\n%d|LN-3|Tom’s too|||\n", ids[0], ids[1], c.Added[0])
	if got := d.table(); got != want {
		t.Errorf("%s", got)
	}
}

// A paste does what it can: a cell that somebody has changed is told, one that
// does not fit is counted, a locked one refuses the whole.
func TestChangeTells(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows"}, []string{"LN-2", "Net float"})
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	seen := "something else"
	c := d.must(d.Change(d.ctx, d.rec.ID, []Op{
		{Kind: OpEdit, Row: ids[0], Cells: []CellEdit{{Column: "c2", Text: "mine", Expected: &seen},
			{Column: "c3", Text: "soon"}}},
		edit(ids[1], "c5", "12")}, "paste", Author{Name: "Rosa"}))
	if len(c.Conflicts) != 1 || c.Conflicts[0].Theirs != "Oak bellows" || c.Conflicts[0].Row != ids[0] || c.Cells != 2 ||
		c.Unreadable != 1 {
		t.Errorf("%+v", c)
	}
	rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
	core, _ := rec.Core()
	core.Columns[4].Locked = true
	if _, err := d.ChangeColumns(d.ctx, rec.ID, ColumnsChange{Columns: core.Columns}, nil, "Ines"); err != nil {
		t.Fatal(err)
	}
	before := d.table()
	var refusal *Refusal
	if _, err := d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c2", "x"), edit(ids[1], "c5", "13")}, "paste",
		Author{Name: "Rosa"}); !errors.As(err, &refusal) || d.table() != before {
		t.Errorf("%v", err)
	}
	if _, err := d.Change(d.ctx, d.rec.ID, []Op{edit(ids[1], "c5", "13")}, "edit",
		Author{Name: "Tom", Unlocks: true}); err != nil {
		t.Error(err)
	}
}

// Rows can be put between others again and again; the order holds.
func TestInsertInOnePlace(t *testing.T) {
	d := newDesk(t, []string{"a"}, []string{"b"})
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	want := []int64{ids[0], ids[1]}
	for range 60 {
		c := d.must(d.Change(d.ctx, d.rec.ID, []Op{{Kind: OpAdd, After: &ids[0]}, {Kind: OpAdd, After: &ids[0]}}, "add",
			System("Ines")))
		want = slices.Insert(want, 1, c.Added...)
	}
	zero := int64(0)
	c := d.must(d.Change(d.ctx, d.rec.ID, []Op{{Kind: OpAdd, After: &zero}}, "add", System("Ines")))
	want = slices.Insert(want, 0, c.Added...)
	if got, _ := d.View(d.ctx, d.rec.ID, ViewSpec{}); !slices.Equal(got, want) {
		t.Errorf("%v\nwant %v", got, want)
	}
}

// lookedAt are views of a desk's sheet, which are mended as its rows change.
var lookedAt = func() []ViewSpec {
	out := rule.Leaf("c4", rule.Is, rule.TextOperand("o1"))
	return []ViewSpec{
		{Filter: &out},
		{Sort: []SortKey{{Column: "c5", Down: true}}},
		{Sort: []SortKey{{Column: "c2"}, {Column: "c4", Down: true}, {Column: "c3"}}},
		{Find: "x"},
		{Filter: &out, Sort: []SortKey{{Column: "c1", Down: true}}},
	}
}()

// wantViews compares the views that people have kept with those of one who looks for the first time.
// Not all look each time, so that several changes come at once.
func wantViews(t *testing.T, people []*desk, who int) {
	t.Helper()
	d := people[who]
	fresh := New(d.Store, d.now, Options{})
	for _, spec := range lookedAt {
		got, err := d.View(d.ctx, d.rec.ID, spec)
		if err != nil {
			t.Fatal(err)
		}
		want, err := fresh.View(d.ctx, d.rec.ID, spec)
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("view %+v is %v, want %v", spec, got, want)
		}
	}
}

// Any sequence of edits, undoing, doing again, sorting and bringing in by two
// people through two engines ends in the same rows for both, and every row
// keeps its id and key.
func TestTwoPeople(t *testing.T) {
	d := newDesk(t, []string{"LN-0", "a"}, []string{"LN-1", "b"}, []string{"LN-2", "c"}, []string{"LN-3", "d"})
	second := &desk{Engine: New(d.Store, d.now, Options{}), t: t, ctx: d.ctx, rec: d.rec}
	people := []*desk{d, second}
	stacks := [2][]int64{}
	r := rand.New(rand.NewPCG(4, 1832))
	keys := map[int64]string{} // what each row's key was first seen to be
	texts := []string{"", "x", "29/03/2027", "soon", "out", "Back", "12.5", " X "}
	for step := range 250 {
		who := r.IntN(2)
		p, name := people[who], []string{"Ines", "Tom"}[who]
		ids, err := p.View(p.ctx, d.rec.ID,
			ViewSpec{Sort: []SortKey{{Column: deskColumns[r.IntN(5)], Down: r.IntN(2) == 0}}})
		if err != nil {
			t.Fatal(err)
		}
		var c ChangeResult
		switch k := r.IntN(10); {
		case k < 4 && len(ids) > 0:
			var ops []Op
			for range 1 + r.IntN(6) {
				ops = append(ops, edit(ids[r.IntN(len(ids))], deskColumns[1+r.IntN(4)], texts[r.IntN(len(texts))]))
			}
			c = p.must(p.Change(p.ctx, d.rec.ID, ops, "paste", System(name)))
		case k == 4:
			c = p.must(p.AddRow(p.ctx, d.rec.ID, []CellEdit{{Column: "c1", Text: fmt.Sprintf("LN-%d", r.IntN(14))}},
				System(name)))
		case k == 5 && len(ids) > 2:
			c = p.must(p.DeleteRow(p.ctx, d.rec.ID, ids[r.IntN(len(ids))], System(name)))
		case k == 6:
			in := Incoming{Columns: []string{"c1", "c2"}}
			for i := range 14 {
				if r.IntN(3) > 0 {
					in.Rows = append(in.Rows, []string{fmt.Sprintf(" ln-%d", i), texts[r.IntN(len(texts))]})
				}
			}
			r.Shuffle(len(in.Rows), func(i, j int) { in.Rows[i], in.Rows[j] = in.Rows[j], in.Rows[i] })
			res, err := p.Import(p.ctx, d.rec.ID, in, ImportOptions{Keep: r.IntN(2) == 0}, System(name))
			if err != nil {
				t.Fatal(err)
			}
			c.ID = res.Change
		case len(stacks[who]) > 0:
			n := len(stacks[who]) - 1
			id := stacks[who][n]
			stacks[who] = stacks[who][:n]
			var refusal *Refusal
			u, err := p.Undo(p.ctx, d.rec.ID, id, System(name))
			if err != nil && !errors.As(err, &refusal) {
				t.Fatal(err)
			}
			if r.IntN(2) == 0 {
				c = u
			}
		}
		if c.ID != 0 {
			stacks[who] = append(stacks[who], c.ID)
		}
		if step%5 == 0 {
			wantViews(t, people, r.IntN(2))
		}
		a, b := d.table(), second.table()
		if n, err := d.Store.CountRows(d.ctx, d.rec.ID); err != nil || int(n) != strings.Count(a, "\n") {
			t.Fatalf("step %d: the sheet says it has %d rows (%v), and has\n%s", step, n, err, a)
		}
		if a != b {
			t.Fatalf("step %d: one sees\n%s\nthe other\n%s", step, a, b)
		}
		for _, line := range strings.Split(strings.TrimSpace(a), "\n") {
			var id int64
			id64, rest, _ := strings.Cut(line, "|")
			if _, err := fmt.Sscan(id64, &id); err != nil {
				t.Fatal(err)
			}
			key := value.Fold(strings.Split(rest, "|")[0])
			if was, ok := keys[id]; ok && was != key {
				t.Fatalf("step %d: row %d was %s and is %s", step, id, was, key)
			}
			keys[id] = key
		}
	}
	// A key was never given to two rows unless a person entered it twice.
	all, err := d.Store.KnownRows(d.ctx, d.rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	if len(all) < 10 {
		t.Errorf("only %d rows came to be", len(all))
	}
	for _, p := range people { // they were mended, not made anew
		for of, v := range p.views.by {
			if !strings.HasSuffix(of, "{}") && v.scans > 3 {
				t.Errorf("view %s was made %d times", of, v.scans)
			}
		}
	}
}

// Bringing a file in does what its plan said, twice the same file changes
// nothing, and the history of a cell tells who and what.
func TestImportPlan(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows", "29/03/2027", "out", "10"}, []string{"LN-2", "Net float", "", "back"},
		[]string{"LN-3"})
	in := Incoming{Columns: []string{"c1", "", "+0", "c3"}, Rows: [][]string{
		{" ln-2 ", "passed over", "green", "30/03/2027"}, {"LN-7", "", "blue", "tomorrow"}, {"LN-1", "", "", "29/03/2027"},
		{"LN-7", "", "", ""}, {"", "", "", "1/1/2028"}}}
	o := ImportOptions{Dry: true, Add: []sheet.Column{{Name: "Colour", Type: value.Text}},
		Remember: map[string]string{"Colour of it": "+0", "Ref": "c1", "Junk": ""}}
	before := d.table()
	plan, err := d.Import(d.ctx, d.rec.ID, in, o, System("Ines"))
	if err != nil {
		t.Fatal(err)
	}
	if d.table() != before {
		t.Fatal("a plan changed something")
	}
	o.Dry = false
	done, err := d.Import(d.ctx, d.rec.ID, in, o, System("Ines"))
	if err != nil {
		t.Fatal(err)
	}
	if plan.New != 3 || plan.Changed != 1 || plan.Unchanged != 1 || plan.Gone != 1 || plan.Doubled != 1 ||
		plan.Keyless != 1 || plan.Unreadable != 1 || plan.Cells != 3 ||
		len(plan.Samples) != 1 || plan.Samples[0].Name != "ln-2" || fmt.Sprint(plan.GoneNames) != "[LN-3]" {
		t.Errorf("%+v", plan)
	}
	plan.Samples, plan.GoneNames, plan.Change = nil, nil, done.Change
	if fmt.Sprintf("%+v", plan) != fmt.Sprintf("%+v", done) {
		t.Errorf("planned %+v\ndone    %+v", plan, done)
	}
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	events, err := d.Store.RowEvents(d.ctx, ids[1], 10)
	if err != nil || len(events) != 1 || !strings.Contains(events[0].Detail, "green") || events[0].Actor != "Ines" {
		t.Errorf("%v %v", events, err)
	}
	rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
	core, _ := rec.Core()
	if got := MatchColumns(core, []string{"colour OF it", "ref", "junk", "State"},
		rec.Matches()); fmt.Sprint(got) != "[c6 c1  c4]" {
		t.Errorf("remembered %v", got)
	}
	in.Columns[2], o.Add = "c6", nil
	in.Rows = in.Rows[:4]
	if again, err := d.Import(d.ctx, d.rec.ID, in, o, System("Ines")); err != nil ||
		again.New+again.Changed+again.Gone != 0 {
		t.Errorf("again: %+v %v", again, err)
	}
	for want, columns := range map[string][]string{"no column for Loan": {"", "c2", "c3", "c4"},
		"two columns": {"c1", "c2", "c2", ""}, "does not have": {"c1", "c77", "", ""}, "not given": {"c1", "+3", "", ""}} {
		in.Columns = columns
		if _, err := d.Import(d.ctx, d.rec.ID, in, o, System("Ines")); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// A large import is all or nothing: stopped half way it has changed nothing.
func TestImportStops(t *testing.T) {
	d := newDesk(t, []string{"LN-1"})
	before := d.table()
	in := Incoming{Columns: []string{"c1"}}
	for i := range 3500 {
		in.Rows = append(in.Rows, []string{fmt.Sprintf("LN-%d", i)})
	}
	calls := 0
	_, err := d.Import(d.ctx, d.rec.ID, in, ImportOptions{Progress: func(done, total int) error {
		if calls++; done > 1500 {
			return errStopped
		}
		return nil
	}}, System("Ines"))
	if !errors.Is(err, errStopped) || calls != 2 || d.table() != before {
		t.Errorf("%v after %d", err, calls)
	}
	j, err := d.Start(d.ctx, d.rec.ID, "import", "Ines", len(in.Rows),
		func(ctx context.Context, p Progress) (any, error) {
			return d.Import(ctx, d.rec.ID, in, ImportOptions{Progress: p}, System("Ines"))
		}, nil)
	if err != nil {
		t.Fatal(err)
	}
	d.jobs.Wait()
	if j, err = d.Store.Job(d.ctx, j.ID); err != nil || j.State != store.JobDone || j.Done != 0 && j.Done != 3500 ||
		!strings.Contains(j.Result, `"New":3499`) {
		t.Errorf("%+v %v", j, err)
	}
}

// A column can take another type and go back without losing a letter.
func TestRetype(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "12", "29/03/2027", "out", "10.50"}, []string{"LN-2", "1,234.5", "soon", "back",
		"-3"}, []string{"LN-3", " yes ", "", "lost", ""})
	before := d.table()
	change := func(f func(c []sheet.Column)) ([]ColumnEffect, error) {
		rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
		core, _ := rec.Core()
		cols := slices.Clone(core.Columns)
		f(cols)
		effect, err := d.ColumnsEffect(d.ctx, rec.ID, ColumnsChange{Columns: slices.Clone(cols)})
		if err != nil {
			return nil, err
		}
		_, err = d.ChangeColumns(d.ctx, rec.ID, ColumnsChange{Columns: cols, Seen: ColumnsVersion(rec)}, nil, "Ines")
		return effect, err
	}
	types := []value.Type{value.Number, value.Date, value.Moment, value.YesNo, value.Email, value.Choice, value.Text}
	r := rand.New(rand.NewPCG(5, 1832))
	for range 40 {
		i := 1 + r.IntN(4)
		typ := types[r.IntN(len(types))]
		if _, err := change(func(c []sheet.Column) {
			c[i].Type, c[i].Order, c[i].Options = typ, "", nil
			switch typ {
			case value.Date, value.Moment:
				c[i].Order = value.DayMonthYear
			case value.Choice:
				c[i].Options = []value.Option{{Name: "out"}, {Name: "yes"}}
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
	back := func() {
		t.Helper()
		if _, err := change(func(c []sheet.Column) {
			for i, typ := range []value.Type{value.Text, value.Text, value.Date, value.Choice, value.Number} {
				c[i].Type, c[i].Order, c[i].Options = typ, "", nil
			}
			c[2].Order = value.DayMonthYear
			c[3].Options = []value.Option{{Name: "out"}, {Name: "back"}}
		}); err != nil {
			t.Fatal(err)
		}
	}
	back()
	// Numbers and addresses are kept as values: their text may be written otherwise.
	fold := strings.NewReplacer("1,234.5", "1234.5", "10.50", "10.5", "|Yes", "|yes")
	if got := d.table(); fold.Replace(got) != fold.Replace(before) {
		t.Errorf("%s\nwas\n%s", got, before)
	}
	effect, err := change(func(c []sheet.Column) { c[1].Type = value.Number })
	if err != nil || len(effect) != 1 || effect[0].Lost != 1 || effect[0].Filled != 3 ||
		effect[0].Misfits[0].Row != "LN-3" {
		t.Errorf("%+v %v", effect, err)
	}
	// An option that is taken out leaves its name behind; one that is renamed moves nothing.
	if _, err := change(func(c []sheet.Column) {
		c[3].Options = []value.Option{{ID: c[3].Options[0].ID, Name: "away"}}
	}); err != nil {
		t.Fatal(err)
	}
	if got := d.table(); !strings.Contains(got, "|away|") || !strings.Contains(got, "|back|") {
		t.Errorf("%s", got)
	}
}

func TestColumns(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows", "29/03/2027", "out", "10"})
	columns := func() []sheet.Column {
		rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
		core, _ := rec.Core()
		return core.Columns
	}
	save := func(c []sheet.Column, seen string) (*store.Sheet, error) {
		return d.ChangeColumns(d.ctx, d.rec.ID, ColumnsChange{Columns: c, Seen: seen}, nil, "Ines")
	}
	cols := append(columns(), sheet.Column{Name: "Days left", Type: value.Formula, Formula: "days_until(Return_due)"})
	effect, err := d.ColumnsEffect(d.ctx, d.rec.ID, ColumnsChange{Columns: slices.Clone(cols)})
	if err != nil || len(effect) != 1 || effect[0].Column != "+5" || effect[0].Type != value.Number ||
		fmt.Sprint(effect[0].Results) != "[14]" {
		t.Fatalf("%+v %v", effect, err)
	}
	if _, err := save(cols, ""); err != nil {
		t.Fatal(err)
	}
	rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
	seen := ColumnsVersion(rec)
	// A new name is followed by the formula, the order is free, and ids do not come back.
	cols = columns()
	cols[2].Name = "Back by"
	cols[0], cols[2] = cols[2], cols[0]
	if _, err := save(cols, seen); err != nil {
		t.Fatal(err)
	}
	if got := columns(); got[0].Name != "Back by" || got[5].Formula != "days_until(back_by)" || got[5].ID != "c6" {
		t.Errorf("%+v", got)
	}
	if _, err := save(cols, seen); err == nil || !strings.Contains(err.Error(), "meanwhile") {
		t.Errorf("an old version: %v", err)
	}
	for want, change := range map[string]func(c []sheet.Column) []sheet.Column{
		"key column":        func(c []sheet.Column) []sheet.Column { return slices.Delete(c, 2, 3) },
		"no column back_by": func(c []sheet.Column) []sheet.Column { return slices.Delete(c, 0, 1) },
		"already that of":   func(c []sheet.Column) []sheet.Column { c[1].Name = "State"; return c },
		"at least one":      func(c []sheet.Column) []sheet.Column { c[3].Options = nil; return c },
		"not there, or":     func(c []sheet.Column) []sheet.Column { c[1].ID = "c99"; return c },
		"the formula of":    func(c []sheet.Column) []sheet.Column { c[5].Formula = "days_until("; return c },
	} {
		if _, err := save(change(columns()), ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	// Taken out and brought back, with its cells.
	cols = columns()
	if _, err := save(slices.Delete(cols, 1, 2), ""); err != nil {
		t.Fatal(err)
	}
	if got := d.table(); strings.Contains(got, "bellows") {
		t.Errorf("%s", got)
	}
	if rec, err = d.RestoreColumn(d.ctx, d.rec.ID, "c2", "Ines"); err != nil || len(rec.Removed()) != 0 {
		t.Fatal(err)
	}
	if got := d.table(); !strings.Contains(got, "bellows") {
		t.Errorf("%s", got)
	}
	// Another key: rows are met by it.
	object := "c2"
	if _, err := d.ChangeSheet(d.ctx, d.rec.ID, SheetChange{Key: &object}, "Ines"); err != nil {
		t.Fatal(err)
	}
	if row, err := d.FindByKey(d.ctx, d.rec.ID, " OAK bellows"); err != nil || row.ID == 0 {
		t.Errorf("%v %v", row, err)
	}
}

// A view in several orders, and what a selection comes to.
func TestViewAndSummary(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "b", "29/03/2027", "out", "10"}, []string{"LN-2", "a", "", "back", "2.5"},
		[]string{"LN-3", "a", "01/04/2027", "out", ""}, []string{"LN-4", "", "soon", "", "x"})
	keys := func(spec ViewSpec) string {
		ids, err := d.View(d.ctx, d.rec.ID, spec)
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, line := range strings.Split(strings.TrimSpace(d.lines(ids)), "\n") {
			out = append(out, strings.Split(line, "|")[1])
		}
		return strings.Join(out, " ")
	}
	for want, sorts := range map[string][]SortKey{
		"LN-2 LN-3 LN-1 LN-4": {{Column: "c2"}, {Column: "c4", Down: true}},
		"LN-1 LN-3 LN-2 LN-4": {{Column: "c2", Down: true}, {Column: "c3"}},
		"LN-1 LN-2 LN-4 LN-3": {{Column: "c5", Down: true}},
		"LN-3 LN-1 LN-4 LN-2": {{Column: "c3", Down: true}},
	} {
		if got := keys(ViewSpec{Sort: sorts}); got != want {
			t.Errorf("%v: %s, want %s", sorts, got, want)
		}
	}
	// Numbers that differ by less than their sort keys hold.
	e := newDesk(t, []string{"a", "", "", "", "1.00000015"}, []string{"b", "", "", "", "1"},
		[]string{"c", "", "", "", "1.0000001"}, []string{"d", "", "", "", "1.000000"},
		[]string{"e", "", "", "", "0.9999999"})
	for want, down := range map[string]bool{"e b d c a": false, "a c b d e": true} {
		ids, err := e.View(e.ctx, e.rec.ID, ViewSpec{Sort: []SortKey{{Column: "c5", Down: down}}})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, line := range strings.Split(strings.TrimSpace(e.lines(ids)), "\n") {
			got = append(got, strings.Split(line, "|")[1])
		}
		if strings.Join(got, " ") != want {
			t.Errorf("down %v: %v, want %s", down, got, want)
		}
	}
	u, err := d.Summarise(d.ctx, d.rec.ID, ViewSpec{}, 0, 99, []string{"c3", "c5"})
	if err != nil || u.Rows != 4 || u.Filled != 6 || u.Numbers != 2 || u.Sum.Num.String() != "12.5" ||
		u.Least.Num.String() != "2.5" || u.Top.Num.String() != "10" ||
		u.Dates != 2 || u.First.Wall.Day.String() != "2027-03-29" || u.Last.Wall.Day.String() != "2027-04-01" {
		t.Errorf("%+v %v", u, err)
	}
	ids, _ := d.Find(d.ctx, d.rec.ID, "OUT")
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	if len(ids) != 2 {
		t.Errorf("found %v", ids)
	}
}

// A file that writes its dates in another order than the column that they go
// into says so; the column keeps its own.
func TestImportOrders(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows", "29/03/2027"}, []string{"LN-2", "", "04/05/2027"})
	in := Incoming{Columns: []string{"c1", "c3"}, Orders: map[int]value.Order{1: value.MonthDayYear},
		Rows: [][]string{{"LN-1", "03/29/2027"}, {"LN-2", "04/05/2027"}, {"LN-3", "12/24/2027"}, {"LN-4", "24/12/2027"}}}
	res, err := d.Import(d.ctx, d.rec.ID, in, ImportOptions{}, System("Ines"))
	if err != nil || res.Unchanged != 1 || res.Changed != 1 || res.New != 2 || res.Unreadable != 1 {
		t.Fatalf("%+v %v", res, err)
	}
	got := strings.Split(d.table(), "\n")
	for i, want := range []string{"29/03/2027", "05/04/2027", "24/12/2027", "24/12/2027"} {
		if !strings.Contains(got[i], want) {
			t.Errorf("row %d: %s, want %s", i+1, got[i], want)
		}
	}
}
