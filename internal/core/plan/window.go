package plan

import (
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Tick is the smallest step of time that the ledger keeps: bounds that
// exclude an instant lie one tick beside it.
const Tick = time.Microsecond

// Window is the time over which a row's occasions are to be judged now: due
// after Since and not after At.
type Window struct {
	Since time.Time
	At    time.Time
}

// SettleWindow gives the window in which a settling row's occasions are
// judged. since is up to where the row's date was judged before, first the
// instant of the first unsettled edit. A date that did not change has waited
// since then; one that changed counts from the first edit on, so that a due
// time that passed while the row was settling is not lost and an older one
// makes nothing.
func SettleWindow(since, first, at time.Time, before, after value.Value) Window {
	from := first.Add(-Tick)
	if value.Same(before, after) && since.Before(from) {
		from = since
	}
	return Window{Since: from, At: at}
}

// Considered is an occasion that has been judged.
type Considered struct {
	rule.Occasion
	Verdict
	At time.Time // the instant it was judged at
}

// Consider judges a row's occasions in a window, each at its due instant, or
// at the window's end where the row has been settling until then (waited).
func (s *Setting) Consider(row *sheet.Row, w Window, waited bool, judged func(rule.ID) bool) []Considered {
	occ := s.Rule.Due(row.ID, s.Anchor(row), s.Env(), w.Since, w.At, judged)
	out := make([]Considered, 0, len(occ))
	for i := range occ {
		at := occ[i].Due
		if waited {
			at = w.At
		}
		out = append(out, Considered{Occasion: occ[i], Verdict: s.Judge(&occ[i], row, at), At: at})
	}
	return out
}

// Next is the next instant after from at which the rule must look at the row,
// or the zero time.
func (s *Setting) Next(row *sheet.Row, from time.Time) time.Time {
	return s.Rule.Next(s.Anchor(row), s.Env(), from)
}

// Mend judges an occasion that was incomplete again, on the row as it settles
// at an instant. ok is false where there is nothing to do: it is still
// incomplete. An occasion whose date was moved meanwhile is dropped.
func (s *Setting) Mend(o *rule.Occasion, row *sheet.Row, at time.Time) (v Verdict, ok bool) {
	if !s.Stands(o, row) {
		return Verdict{Outcome: Skip, Reason: "the date it hung on has been moved"}, true
	}
	v = s.Judge(o, row, at)
	return v, v.Outcome != Incomplete
}

// Stands tells whether the date that an occasion hangs on is still the row's.
func (s *Setting) Stands(o *rule.Occasion, row *sheet.Row) bool {
	a := s.Anchor(row)
	return a.IsFilled() && a.Wall == o.Anchor
}
