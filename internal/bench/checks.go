package bench

import (
	"fmt"
	"time"

	"nivot/internal/engine"
)

// checks measures how long it takes to look through 100,000 rows for what a template's emails
// would have wrong, and to pick those that differ, against the raw scan of the same rows' bytes.
func (b *bench) checks() error {
	const n = 100_000
	s, err := b.store()
	if err != nil {
		return err
	}
	defer s.Close()
	clock := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	e := engine.New(s, func() time.Time { return clock }, engine.Options{})
	saved, err := b.loansDue(e, n)
	if err != nil {
		return err
	}
	t, err := saved.Core()
	if err != nil {
		return err
	}
	var raw []float64
	for range rounds {
		start := time.Now()
		if err := s.StreamRows(b.ctx, saved.SheetID, func(_, _ int64, _ bool, _ []byte) error { return nil }); err != nil {
			return err
		}
		raw = append(raw, time.Since(start).Seconds())
	}
	for _, x := range []struct {
		what string
		do   func() error
	}{
		{"checks", func() error { _, err := e.CheckTemplate(b.ctx, saved.SheetID, t, 0); return err }},
		{"picking rows that differ", func() error { _, err := e.Differing(b.ctx, saved.SheetID, t); return err }},
	} {
		var took []float64
		for i := range rounds {
			t.Name = fmt.Sprint(x.what, i) // what was found before is not the answer
			start := time.Now()
			if err := x.do(); err != nil {
				return err
			}
			took = append(took, time.Since(start).Seconds())
		}
		m := median(took)
		b.add(Result{What: fmt.Sprintf("%s of a template over %d rows", x.what, n),
			Against: "raw scan of the same rows' bytes", Value: fmt.Sprintf("%.2f s", m),
			Limit: fmt.Sprintf("%.2f s", median(raw)),
			Ratio: m / median(raw), Goal: "<= 3 s", Met: m <= 3})
	}
	return nil
}
