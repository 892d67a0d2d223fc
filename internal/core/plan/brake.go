package plan

import (
	"time"

	"nivot/internal/core/rule"
)

// Brake counts a rule's emails from reactions, all that fall due at one instant
// before any of them is decided, and holds more of them than expected.
type Brake struct {
	Rule    *rule.Rule
	Engaged bool                         // it holds everything until somebody has reviewed it
	LetsGo  bool                         // nobody looks: it lets go after ten minutes without any email
	Earlier func(from, to time.Time) int // how many the ledger holds between two instants, both counting; nil: none
	recent  []burst
}

// burst is a rule's emails from reactions at one instant.
type burst struct {
	at time.Time
	n  int
}

// Holds takes the n emails of one instant, of a sheet of so many rows, and
// reports whether they are held. Instants come in order.
func (b *Brake) Holds(at time.Time, n, rows int) bool {
	if b.LetsGo && len(b.recent) > 0 && at.Sub(b.recent[len(b.recent)-1].at) > rule.BrakeSpan {
		b.Engaged = false
	}
	b.recent = append(b.recent, burst{at, n})
	total := 0
	kept := b.recent[:0]
	for _, x := range b.recent {
		if at.Sub(x.at) <= rule.BrakeSpan {
			kept = append(kept, x)
			total += x.n
		}
	}
	b.recent = kept
	if b.Engaged {
		return true
	}
	if b.Earlier != nil {
		total += b.Earlier(at.Add(-rule.BrakeSpan), at)
	}
	b.Engaged = b.Rule.Trips(total, rows)
	return b.Engaged
}
