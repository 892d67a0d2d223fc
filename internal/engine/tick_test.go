package engine

import (
	"runtime"
	"slices"
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/store"
)

// What may be considered in several transactions at once.
func TestApart(t *testing.T) {
	for _, c := range []struct {
		name  string
		kinds []store.AgendaKind
		want  bool
	}{
		{"rows looked at", []store.AgendaKind{store.Due, store.Due}, true},
		{"follow-ups and what waits", []store.AgendaKind{store.Follow, store.Late, store.Review}, true},
		{"with a row that settles", []store.AgendaKind{store.Due, store.Settle}, false},
		{"with a reaction that was moved", []store.AgendaKind{store.Moved, store.Due}, false},
		{"with a round", []store.AgendaKind{store.Due, store.RoundDue}, false},
		{"with a rule that is switched on", []store.AgendaKind{store.Arm, store.Due}, false},
		{"with a sending by hand", []store.AgendaKind{store.Due, store.Hand}, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			var due []store.Entry
			for _, k := range c.kinds {
				due = append(due, store.Entry{Kind: k})
			}
			if got := apart(due); got != c.want {
				t.Errorf("%v, want %v", got, c.want)
			}
		})
	}
}

// Many rows that fall due at once are considered in several transactions, each row in one, and each
// has its email once; the agenda holds what comes next for all of them.
func TestManyDueAtOnce(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	const rows = 330
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, r := f.loansDue(slices.Repeat([]string{"2027-03-31"}, rows)...)
	f.tickAll()
	f.clock = at("2027-03-24T09:00:01Z") // seven days before
	due, err := f.Store.DueAgenda(f.ctx, f.Now(), 2*rows)
	if err != nil || len(due) != rows {
		t.Fatalf("%d are due, %v, want %d", len(due), err, rows)
	}
	// One is in somebody else's hands, and the others of its row are left with it.
	if err := f.Store.DB(f.ctx).Exec("UPDATE agenda SET row_id = ?, nr = 1 WHERE id = ?", due[0].RowID, due[1].ID).
		Error; err != nil {
		t.Fatal(err)
	}
	was := due[1].RowID
	due[1].RowID = due[0].RowID
	if err := f.Store.Tx(f.ctx, func(other *store.Store) error {
		if _, err := other.ClaimEntries(f.ctx, f.Now(), []int64{due[0].ID}, store.Share{}); err != nil {
			return err
		}
		return f.Store.Tx(f.ctx, func(tx *store.Store) error {
			got, err := f.claimRows(f.ctx, tx, f.Now(), due[:3])
			if len(got) != 1 || got[0].ID != due[2].ID {
				t.Errorf("claimed %v, want %d alone", got, due[2].ID)
			}
			return err
		})
	}); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.DB(f.ctx).Exec("UPDATE agenda SET row_id = ?, nr = 0 WHERE id = ?", was, due[1].ID).
		Error; err != nil {
		t.Fatal(err)
	}
	// Entries that another transaction looks at in the same moment are taken by the next tick.
	n, err := f.Tick(f.ctx)
	if err != nil || n < rows/2 {
		t.Fatalf("one tick considered %d, %v, want all of %d or nearly so", n, err, rows)
	}
	f.tickAll()
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
	if err != nil || counts[delivery.Queued] != rows || len(counts) != 1 {
		t.Errorf("%v, %v, want %d queued", counts, err, rows)
	}
	var twice int
	if err := f.Store.DB(f.ctx).Raw("SELECT COUNT(*) FROM (SELECT row_id FROM deliveries GROUP BY row_id HAVING COUNT(*) <> 1) t").
		Scan(&twice).Error; err != nil || twice > 0 {
		t.Errorf("%d rows have not one email (%v)", twice, err)
	}
	got := f.agenda(rec)
	if want := f.agendaAnew(rec, got); got != want {
		t.Errorf("the agenda is\n%s\nwant\n%s", got, want)
	}
}
