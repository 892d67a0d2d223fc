package engine

import (
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// Where rows need not rest, an edit and what it sets off are one transaction; what cannot be worked out
// keeps no edit from being made, and is tried again.
func TestSettlesWithItsEdit(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.still(3, nil)
	zero := 0
	rec, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{SettleSeconds: &zero}, "test")
	if err != nil {
		t.Fatal(err)
	}
	log := func() (out []store.Delivery) {
		t.Helper()
		if err := f.Store.DB(f.ctx).Where("rule_id = ?", r.ID).Order("id").Find(&out).Error; err != nil {
			t.Fatal(err)
		}
		return out
	}
	waiting := func() (n int64) {
		t.Helper()
		if err := f.Store.DB(f.ctx).Raw("SELECT COUNT(*) FROM agenda WHERE kind = 'settle'").Scan(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}

	f.edit(rec, rows[:1], "2027-05-01")
	if ds := log(); len(ds) != 1 || ds[0].State != delivery.Queued || ds[0].RowID != rows[0] || waiting() != 0 {
		t.Fatalf("%+v, %d rows wait to settle", ds, waiting())
	}
	queued, err := f.Store.DeliveryEvents(f.ctx, &log()[0])
	if err != nil || len(queued) != 1 || queued[0].Actor != "nivot" {
		t.Errorf("%+v %v, want what nivot did", queued, err)
	}
	// An edit that asks is held, and says so.
	if _, err := f.EditRow(f.ctx, rec.ID, rows[1], []CellEdit{{Column: "c3", Text: "2027-05-02"}},
		Author{Name: "Ines", Asks: true}); err != nil {
		t.Fatal(err)
	}
	if ds := log(); len(ds) != 2 || ds[1].State != delivery.Held {
		t.Errorf("%+v", ds)
	}
	// A rule that cannot be read keeps the edit from settling, not from being made.
	body := r.Body
	if err := f.Store.DB(f.ctx).Exec("UPDATE rules SET body = '{' WHERE id = ?", r.ID).Error; err != nil {
		t.Fatal(err)
	}
	f.sheets.Purge()
	f.edit(rec, rows[2:], "2027-05-03")
	if waiting() != 1 || len(log()) != 2 {
		t.Errorf("%d rows wait to settle, want 1; %d emails", waiting(), len(log()))
	}
	if _, err := f.Tick(f.ctx); err == nil {
		t.Error("a rule that cannot be read was considered")
	}
	if err := f.Store.DB(f.ctx).Exec("UPDATE rules SET body = ? WHERE id = ?", body, r.ID).Error; err != nil {
		t.Fatal(err)
	}
	f.tickAll()
	if ds := log(); waiting() != 0 || len(ds) != 3 || ds[2].RowID != rows[2] {
		t.Errorf("%+v, %d rows wait to settle", ds, waiting())
	}
}

// Many rows, and those that wait to settle from before, settle apart.
func TestSettlesApart(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.still(ripeMost+1, nil)
	f.edit(rec, rows[:1], "2027-05-01") // which rests for two minutes
	zero := 0
	rec, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{SettleSeconds: &zero}, "test")
	if err != nil {
		t.Fatal(err)
	}
	f.clock = f.clock.Add(time.Second)
	count := func() int64 { // the brake holds them
		t.Helper()
		n, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
		if err != nil {
			t.Fatal(err)
		}
		return n[delivery.Queued] + n[delivery.Held]
	}
	var ops []Op
	for _, id := range rows {
		ops = append(ops, Op{Kind: OpEdit, Row: id, Cells: []CellEdit{{Column: "c3", Text: "2027-05-04"}}})
	}
	if _, err := f.Change(f.ctx, rec.ID, ops, "paste", System("test")); err != nil {
		t.Fatal(err)
	}
	before := count()
	f.tickAll()
	if after := count(); before > 1 || after < int64(len(rows)) {
		t.Errorf("%d emails with the change, %d when its rows had settled", before, after)
	}
}

// still is reacting, for a fixture whose engine does not run.
func (f *fixture) still(n int, change func(*rule.Rule)) (*store.Sheet, *store.Rule, []int64) {
	f.t.Helper()
	ready, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ready:
				return
			default:
				f.tickAll()
				time.Sleep(5 * time.Millisecond)
			}
		}
	}()
	rec, r, rows := f.reacting(n, change)
	close(ready)
	<-done
	return rec, r, rows
}
