package engine

import (
	"sync"
	"testing"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
)

// What a process keeps of a sheet is used by many at the same time: edits, which settle at once, beside
// what falls due. The race detector sees what one of them changes.
func TestKeptRulesAreForMany(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec := f.install("cases")
	from, to := f.Now(), f.Now().AddDate(1, 0, 0)
	// all finds when the sheet's schedules come round, and writes its letters.
	all := func() (rounds int) {
		sb, err := f.reading().sheet(f.ctx, rec.ID)
		if err != nil {
			t.Error(err)
			return 0
		}
		row := &sheet.Row{ID: "1"}
		for _, rb := range sb.rules {
			rounds += len(rb.compiled.Rounds(from, to))
		}
		for _, x := range sb.templates {
			x.Render(template.Context{Sheet: sb.sheet, Row: row})
		}
		return rounds
	}
	if _, err := f.reading().sheet(f.ctx, rec.ID); err != nil { // it is kept now
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			if n := all(); n != 2 {
				t.Errorf("the schedule comes round %d times, want 2", n)
			}
		})
	}
	wait.Wait()
}
