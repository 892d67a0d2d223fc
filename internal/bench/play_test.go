package bench

import (
	"testing"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/sheet"
	"nivot/internal/exchange"
)

// A rehearsal of 10,000 rows by ten rules, for profiling.
func BenchmarkRehearsal(b *testing.B) {
	s, err := loansSheet()
	if err != nil {
		b.Fatal(err)
	}
	settings, err := tenRules(s)
	if err != nil {
		b.Fatal(err)
	}
	var raw [][]byte
	for i := range 10_000 {
		raw = append(raw, sheet.Encode(loanRow(i)))
	}
	from := time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)
	for b.Loop() {
		n := 0
		var row sheet.Row
		err := exchange.Rehearse(&plan.Rehearsal{Settings: settings, From: from, To: from.AddDate(0, 0, 60)},
			func(f func(*sheet.Row) error) error {
				for i, x := range raw {
					if row.Cells, err = s.Decode(x, row.Cells); err != nil {
						return err
					}
					row.ID, row.Number = string(rune('a'+i%26)), int64(i)
					if err := f(&row); err != nil {
						return err
					}
				}
				return nil
			}, func(*plan.Line) error { n++; return nil })
		if err != nil || n == 0 {
			b.Fatal(n, err)
		}
	}
}
