package engine

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

func (d *desk) columnNames() string {
	d.t.Helper()
	rec, err := d.Store.Sheet(d.ctx, d.rec.ID)
	if err != nil {
		d.t.Fatal(err)
	}
	core, err := rec.Core()
	if err != nil {
		d.t.Fatal(err)
	}
	var names []string
	for _, c := range core.Columns {
		names = append(names, c.Name)
	}
	return strings.Join(names, ",")
}

// aTemplate is a template without fields.
func aTemplate(t *testing.T, name string) *template.Template {
	t.Helper()
	out := &template.Template{Name: name}
	for _, n := range []*template.Node{&out.Subject, &out.Body} {
		if err := json.Unmarshal(
			[]byte(`{"type":"doc","content":[{"type":"paragraph","content":[{"type":"text","text":"A word"}]}]}`),
			n); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// colours imports a file with a column that the sheet does not have.
func (d *desk) colours(name string) int64 {
	d.t.Helper()
	in := Incoming{Columns: []string{"c1", "+0"}, Rows: [][]string{{"LN-1", "green"}, {"LN-7", "blue"}}}
	res, err := d.Import(d.ctx, d.rec.ID, in,
		ImportOptions{Keep: true, Add: []sheet.Column{{Name: name, Type: value.Text}}}, System("Ines"))
	if err != nil {
		d.t.Fatal(err)
	}
	return res.Change
}

// An import that added a column is undone with it, and done again with it, as
// often as one likes.
func TestUndoAddedColumns(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows"}, []string{"LN-2", "Net float"})
	names, before := d.columnNames(), d.table()
	id := d.colours("Colour")
	with, after := d.columnNames(), d.table()
	if with != names+",Colour" || !strings.Contains(after, "green") || !strings.Contains(after, "blue") {
		t.Fatal(with, after)
	}
	for range 3 {
		id = d.undo(id).ID
		if got := d.columnNames(); got != names || d.table() != before {
			t.Fatalf("undone: %s\n%swas\n%s", got, d.table(), before)
		}
		id = d.undo(id).ID
		if got := d.columnNames(); got != with || d.table() != after {
			t.Fatalf("done again: %s\n%swas\n%s", got, d.table(), after)
		}
	}
	rec, err := d.Store.Sheet(d.ctx, d.rec.ID)
	if err != nil || len(rec.Removed()) != 0 || rec.LiveRows != 3 {
		t.Errorf("%d taken out, %d rows counted: %v", len(rec.Removed()), rec.LiveRows, err)
	}
}

// A column stays that somebody has written in since, or that a rule or a
// formula needs.
func TestUndoSparesColumns(t *testing.T) {
	for what, need := range map[string]func(d *desk){
		"a cell": func(d *desk) {
			ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
			d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[1], "c6", "red")}, "edit", System("Tom")))
		},
		"a formula": func(d *desk) {
			rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
			core, _ := rec.Core()
			if _, err := d.ChangeColumns(d.ctx, d.rec.ID,
				ColumnsChange{Columns: append(core.Columns, sheet.Column{Name: "Loud", Type: value.Formula,
					Formula: "upper(colour)"})}, nil, "Tom"); err != nil {
				d.t.Fatal(err)
			}
		},
		"the key": func(d *desk) {
			key := "c6"
			if _, err := d.ChangeSheet(d.ctx, d.rec.ID, SheetChange{Key: &key}, "Tom"); err != nil {
				d.t.Fatal(err)
			}
		},
		"a rule": func(d *desk) {
			tpl, err := d.SaveTemplate(d.ctx, d.rec.ID, "", aTemplate(d.t, "Word"), 0, "Tom")
			if err != nil {
				d.t.Fatal(err)
			}
			if _, err := d.SaveRule(d.ctx, d.rec.ID, "", &rule.Rule{Name: "Colours", Trigger: rule.Trigger{Kind: rule.Edited,
				Columns: []string{"c6"}},
				Send: []rule.Wording{{Template: tpl.ID}}, To: []rule.Address{{Address: "desk@marrowby.example"}}}, 0,
				"Tom"); err != nil {
				d.t.Fatal(err)
			}
		},
	} {
		d := newDesk(t, []string{"LN-1", "Oak bellows"}, []string{"LN-2", "Net float"})
		id := d.colours("Colour")
		need(d)
		u := d.undo(id)
		if got := d.columnNames(); !strings.Contains(got, "Colour") {
			t.Errorf("%s needed the column, and it is gone: %s", what, got)
		}
		if table := d.table(); strings.Contains(table, "green") || strings.Contains(table, "LN-7") {
			t.Errorf("%s: the rows are not undone:\n%s", what, table)
		}
		d.undo(u.ID)
		if table := d.table(); !strings.Contains(table, "green") || !strings.Contains(table, "blue") {
			t.Errorf("%s: not done again:\n%s", what, table)
		}
	}
}

// A name that somebody has given to another column meanwhile is not taken.
func TestRevivedName(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "Oak bellows"})
	u := d.undo(d.colours("Colour"))
	d.colours("Colour")
	d.undo(u.ID)
	if got := d.columnNames(); got != "Loan,Object,Return due,State,Value,Colour,Colour (2)" {
		t.Error(got)
	}
}

// Texts from before a column was read otherwise are not put back: they would
// mean something else now.
func TestUndoAfterRetype(t *testing.T) {
	for what, change := range map[string]func(c []sheet.Column){
		"the order of dates":        func(c []sheet.Column) { c[2].Order = value.MonthDayYear },
		"the type":                  func(c []sheet.Column) { c[2].Type, c[2].Order = value.Text, "" },
		"taken out":                 nil,
		"nothing of it, but a name": func(c []sheet.Column) { c[2].Name = "Back by" },
	} {
		d := newDesk(t, []string{"LN-1", "Oak bellows", "03/04/2027", "out"})
		ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
		c := d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c3", "05/05/2027"), edit(ids[0], "c4", "back")}, "paste",
			System("Ines")))
		rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
		core, _ := rec.Core()
		cols := core.Columns
		if change == nil {
			cols = append(cols[:2:2], cols[3:]...)
		} else {
			change(cols)
		}
		if _, err := d.ChangeColumns(d.ctx, d.rec.ID, ColumnsChange{Columns: cols}, nil, "Tom"); err != nil {
			t.Fatal(what, err)
		}
		u := d.undo(c.ID)
		want := 1
		if strings.HasPrefix(what, "nothing") {
			want = 0
		}
		if u.Skipped != want || !strings.Contains(d.table(), "|out") {
			t.Errorf("%s: %d passed, want %d:\n%s", what, u.Skipped, want, d.table())
		}
		if strings.Contains(d.table(), "03/04/2027") != (want == 0) {
			t.Errorf("%s: the date is\n%s", what, d.table())
		}
	}
}

// An option's new name is not undone by an older text.
func TestUndoAfterOptions(t *testing.T) {
	d := newDesk(t, []string{"LN-1", "", "", "out"})
	ids, _ := d.View(d.ctx, d.rec.ID, ViewSpec{})
	c := d.must(d.Change(d.ctx, d.rec.ID, []Op{edit(ids[0], "c4", "back"), edit(ids[0], "c2", "x")}, "paste",
		System("Ines")))
	rec, _ := d.Store.Sheet(d.ctx, d.rec.ID)
	core, _ := rec.Core()
	core.Columns[3].Options[0].Name = "lent"
	if _, err := d.ChangeColumns(d.ctx, d.rec.ID, ColumnsChange{Columns: core.Columns}, nil, "Tom"); err != nil {
		t.Fatal(err)
	}
	u := d.undo(c.ID)
	if got := strings.TrimSpace(d.table()); u.Skipped != 1 || got != fmt.Sprintf("%d|LN-1|||back|", ids[0]) {
		t.Errorf("%d passed: %s", u.Skipped, got)
	}
}
