package store_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// aSheet makes a sheet of two columns with n rows, inserted or, where there are
// many, loaded.
func aSheet(t *testing.T, st *store.Store, n int) (*store.Sheet, []int64) {
	t.Helper()
	ctx := context.Background()
	rec := &store.Sheet{ID: store.NewID(), Name: "Cases", Zone: "Europe/London", Locale: "en-GB", CreatedAt: noon,
		LiveRows: int64(n), LastNumber: int64(n)}
	rec.SetColumns([]sheet.Column{{ID: "c1", Name: "Case", Type: value.Text},
		{ID: "c2", Name: "Read on", Type: value.Date, Pos: 1, Order: value.DayMonthYear}})
	rec.KeyColumn = "c1"
	if err := st.SaveSheet(ctx, rec); err != nil {
		t.Fatal(err)
	}
	rows := make([]*store.Row, n)
	for i := range rows {
		rows[i] = &store.Row{SheetID: rec.ID, Number: int64(i + 1), Place: int64(i+1) * store.PlaceStep,
			RowKey: []byte(fmt.Sprintf("case %d", i+1)),
			Cells:  []byte(fmt.Sprintf("cells of\t%d\n\\N \x00\x1a'\"", i+1)), Version: 1, SettledAt: &noon}
	}
	if err := st.InsertRows(ctx, rows); err != nil {
		t.Fatal(err)
	}
	ids, err := st.RowOrder(ctx, rec.ID)
	if err != nil || len(ids) != n {
		t.Fatal(len(ids), err)
	}
	return rec, ids
}

// Rows come back to the byte, a few of them inserted or many of them loaded, in
// order, by id, in a stream.
func TestRowsThereAndBack(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	for _, n := range []int{1, 7, 2500} {
		rec, ids := aSheet(t, st, n)
		if count, err := st.CountRows(ctx, rec.ID); err != nil || count != int64(n) {
			t.Error(count, err)
		}
		rows, err := st.RowsByID(ctx, rec.ID, []int64{ids[n-1], ids[0]})
		if err != nil || n > 1 && (len(rows) != 2 || rows[0].ID != ids[n-1] || rows[1].ID != ids[0]) {
			t.Fatalf("%d rows in the order asked for: %v %v", n, rows, err)
		}
		want := []byte(fmt.Sprintf("cells of\t%d\n\\N \x00\x1a'\"", n))
		if !bytes.Equal(rows[0].Cells, want) || rows[0].Version != 1 || rows[0].SettledAt == nil ||
			!rows[0].SettledAt.Equal(noon) || rows[0].FirstEdit != nil {
			t.Errorf("%+v", rows[0])
		}
		seen := 0
		for _, stream := range []func(f func() error) error{
			func(f func() error) error {
				return st.ScanRows(ctx, rec.ID, func(*store.Row) error { return f() })
			},
			func(f func() error) error {
				return st.StreamRows(ctx, rec.ID, func(_, number int64, _ bool, cells []byte) error {
					if !bytes.HasPrefix(cells, []byte(fmt.Sprintf("cells of\t%d\n", number))) {
						return fmt.Errorf("row %d holds %q", number, cells)
					}
					return f()
				})
			},
			func(f func() error) error {
				return st.StreamCells(ctx, rec.ID, func(id, number, place int64, gone bool, _ []byte) error {
					if place != number*store.PlaceStep || gone || id == 0 {
						return fmt.Errorf("row %d of number %d stands at %d", id, number, place)
					}
					return f()
				})
			},
		} {
			seen = 0
			if err := stream(func() error { seen++; return nil }); err != nil || seen != n {
				t.Errorf("%d of %d rows: %v", seen, n, err)
			}
		}
		stop := errors.New("enough")
		if err := st.ScanRows(ctx, rec.ID, func(*store.Row) error { return stop }); err != stop {
			t.Errorf("a scan that is given up: %v", err)
		}
		after, err := st.RowsAfter(ctx, rec.ID, 0, 5)
		if err != nil || len(after) != min(n, 5) || after[0].ID != slices.Min(ids) {
			t.Errorf("%d %v", len(after), err)
		}
		// Another sheet's rows are not to be had by their ids.
		if rows, err := st.RowsByID(ctx, "elsewhere", ids[:1]); err != nil || len(rows) != 0 {
			t.Errorf("%v %v", rows, err)
		}
	}
}

// A row's change, deletion and key, and many at once.
func TestRowsSaved(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	rec, ids := aSheet(t, st, 6)
	locked, err := st.LockRowsIn(ctx, []int64{ids[1], ids[2], 999999})
	if err != nil || len(locked) != 2 {
		t.Fatal(locked, err)
	}
	for _, r := range locked {
		r.Cells, r.Version, r.FirstEdit, r.LastEdit, r.Settled = []byte("new"), 2, &noon, &noon, []byte("old")
	}
	if err := st.SaveRows(ctx, []*store.Row{locked[ids[1]], locked[ids[2]]}); err != nil {
		t.Fatal(err)
	}
	r, err := st.Row(ctx, ids[2])
	if err != nil || string(r.Cells) != "new" || string(r.Settled) != "old" || r.Version != 2 || r.FirstEdit == nil ||
		r.Number != 3 {
		t.Errorf("%+v %v", r, err)
	}
	r.DeletedAt, r.FirstEdit, r.LastEdit = &noon, nil, nil
	if err := st.SaveRow(ctx, r); err != nil {
		t.Fatal(err)
	}
	if order, err := st.RowOrder(ctx, rec.ID); err != nil || len(order) != 5 || slices.Contains(order, ids[2]) {
		t.Errorf("%v %v", order, err)
	}
	if all, err := st.CountAllRows(ctx, rec.ID); err != nil || all != 6 {
		t.Errorf("with the deleted one: %d %v", all, err)
	}
	// The living row of a key comes before a deleted one, whichever is older.
	if got, err := st.RowByKey(ctx, rec.ID, "case 3"); err != nil || got.ID != ids[2] || got.DeletedAt == nil {
		t.Errorf("%+v %v", got, err)
	}
	twin := &store.Row{SheetID: rec.ID, Number: 7, Place: 7 * store.PlaceStep, RowKey: []byte("case 3"), Cells: []byte{},
		Version: 1}
	if err := st.SaveRow(ctx, twin); err != nil {
		t.Fatal(err)
	}
	if got, err := st.RowByKey(ctx, rec.ID, "case 3"); err != nil || got.ID != twin.ID {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := st.RowByKey(ctx, rec.ID, "case 99"); err != store.ErrNotFound {
		t.Error(err)
	}
	known, err := st.KnownRows(ctx, rec.ID)
	if err != nil || len(known) != 7 || known[2].Key != "case 3" || !known[2].Deleted || known[6].Deleted ||
		known[6].ID != store.RowID(twin.ID) {
		t.Errorf("%+v %v", known, err)
	}
	// Of a large change the rows are known by the event that bore them.
	born := int64(77)
	var fresh []*store.Row
	for i := range 3 {
		fresh = append(fresh, &store.Row{SheetID: rec.ID, Number: int64(8 + i), Place: int64(8+i) * store.PlaceStep,
			Cells: []byte{}, Version: 1, Born: &born, FirstEdit: &noon, LastEdit: &noon})
	}
	if err := st.InsertRows(ctx, fresh); err != nil {
		t.Fatal(err)
	}
	got, err := st.RowsBorn(ctx, born, true)
	if err != nil || len(got) != 3 || !slices.IsSorted(got) {
		t.Errorf("%v %v", got, err)
	}
	if err := st.SettleBorn(ctx, born, noon, 0); err != nil {
		t.Fatal(err)
	}
	entries, err := st.ClaimAgenda(ctx, noon, 10, store.Share{})
	if err != nil || len(entries) != 3 || entries[0].Kind != store.Settle || entries[0].RowID != got[0] {
		t.Errorf("%+v %v", entries, err)
	}
}

// Places for new rows: at the end, at the beginning, between two, and again
// and again in one place, where in the end all rows get new ones.
func TestPlaces(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	rec, ids := aSheet(t, st, 3)
	if p, renewed, err := st.PlacesAfter(ctx, rec.ID, nil, 2); err != nil || renewed || p[0] != 4*store.PlaceStep ||
		p[1] != 5*store.PlaceStep {
		t.Errorf("%v %v %v", p, renewed, err)
	}
	zero := int64(0)
	if p, _, err := st.PlacesAfter(ctx, rec.ID, &zero, 3); err != nil || p[0] <= 0 || p[0] >= p[1] || p[1] >= p[2] ||
		p[2] >= store.PlaceStep {
		t.Errorf("%v %v", p, err)
	}
	gone := int64(424242)
	if _, _, err := st.PlacesAfter(ctx, rec.ID, &gone, 1); err != store.ErrNotFound {
		t.Error(err)
	}
	want := []int64{ids[0]}
	anyRenewed := false
	var added []int64
	for i := range 60 {
		p, renewed, err := st.PlacesAfter(ctx, rec.ID, &ids[0], 1)
		if err != nil {
			t.Fatal(err)
		}
		anyRenewed = anyRenewed || renewed
		row := &store.Row{SheetID: rec.ID, Number: int64(10 + i), Place: p[0], Cells: []byte{}, Version: 1}
		if err := st.SaveRow(ctx, row); err != nil {
			t.Fatal(err)
		}
		added = append([]int64{row.ID}, added...)
	}
	want = append(append(want, added...), ids[1], ids[2])
	got, err := st.RowOrder(ctx, rec.ID)
	if err != nil || !slices.Equal(got, want) || !anyRenewed {
		t.Errorf("%v %v\nwant %v; new places given: %v", got, err, want, anyRenewed)
	}
}

// A sheet's columns, removed ones and remembered headings are kept with it; a
// touch counts without writing the whole.
func TestSheetRecord(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	rec, _ := aSheet(t, st, 2)
	rec.SetRemoved([]sheet.Column{{ID: "c9", Name: "Weight", Type: value.Number, Pos: 8}})
	rec.SetMatches(map[string]string{"fall": "c1"})
	if err := st.SaveSheet(ctx, rec); err != nil {
		t.Fatal(err)
	}
	for _, order := range []bool{false, true} {
		if err := st.TouchSheet(ctx, rec.ID, order, 3); err != nil {
			t.Fatal(err)
		}
	}
	got, err := st.Sheet(ctx, rec.ID)
	if err != nil || got.Version != rec.Version+2 || got.OrderVersion != rec.OrderVersion+1 || got.LiveRows != 8 ||
		got.Matches()["fall"] != "c1" ||
		len(got.Removed()) != 1 || got.Removed()[0].Name != "Weight" {
		t.Errorf("%+v %v", got, err)
	}
	core, err := got.Core()
	if err != nil || core.Key != "c1" || len(core.Columns) != 2 || core.Zone.String() != "Europe/London" ||
		core.Columns[1].Order != value.DayMonthYear {
		t.Errorf("%+v %v", core, err)
	}
	for _, bad := range []func(*store.Sheet){func(r *store.Sheet) { r.Zone = "Mars" },
		func(r *store.Sheet) { r.Locale = "xx" }} {
		broken := *got
		bad(&broken)
		if _, err := broken.Core(); err == nil {
			t.Error("a sheet in an unknown zone or language was read")
		}
	}
	// Taken away, nothing of it comes any more.
	r := &store.Rule{ID: store.NewID(), SheetID: rec.ID, Letter: "A", Name: "x", State: rule.On, Body: "{}", Generation: 1}
	if err := st.SaveRule(ctx, r); err != nil {
		t.Fatal(err)
	}
	if err := st.PutEntries(ctx, []store.Entry{{Kind: store.Due, DueAt: noon, SheetID: rec.ID, RuleID: r.ID,
		RowID: 1, Generation: 1}}); err != nil {
		t.Fatal(err)
	}
	ds := letters(0, 2)
	for i, s := range []delivery.State{delivery.Held, delivery.Accepted} {
		ds[i].SheetID, ds[i].State = rec.ID, s
	}
	if err := st.InsertDeliveries(ctx, ds); err != nil {
		t.Fatal(err)
	}
	if err := st.RetireSheet(ctx, rec.ID, noon); err != nil {
		t.Fatal(err)
	}
	for _, want := range []bool{true, false} { // what there was is cleared away, and nothing is left
		if some, err := st.ClearStale(ctx, noon, 10); err != nil || some != want {
			t.Errorf("something to clear away: %v, want %v; %v", some, want, err)
		}
	}
	if due, err := st.DueAgenda(ctx, noon, 1); err != nil || len(due) > 0 {
		t.Errorf("%v %v", due, err)
	}
	if got, err := st.Rule(ctx, r.ID); err != nil || got.State != rule.Paused {
		t.Errorf("%+v %v", got, err)
	}
	if d, err := st.Delivery(ctx, ds[1].ID); err != nil || d.State != delivery.Accepted {
		t.Errorf("%+v %v", d, err)
	}
}

// Letters of rules: A to Z, then AA, and none is given twice.
func TestNextLetter(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	want := []string{"A", "B", "C"}
	for i := range 29 {
		l, err := st.NextLetter(ctx, "s")
		if err != nil {
			t.Fatal(err)
		}
		if i < 3 && l != want[i] || i == 25 && l != "Z" || i == 26 && l != "AA" || i == 28 && l != "AC" {
			t.Errorf("rule %d is %s", i+1, l)
		}
		r := &store.Rule{ID: store.NewID(), SheetID: "s", Letter: l, Name: l, State: rule.Draft, Body: "{}"}
		if i == 27 {
			r.DeletedAt = &noon // its letter stays its own: the log says it
		}
		if err := st.SaveRule(ctx, r); err != nil {
			t.Fatal(err)
		}
	}
	rules, err := st.Rules(ctx, "s")
	if err != nil || len(rules) != 28 || rules[0].Letter != "A" || rules[25].Letter != "Z" || rules[26].Letter != "AA" {
		t.Errorf("%d %v", len(rules), err)
	}
}
