package plan

import (
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
)

// pastSpan bounds how far back due times are past; older ones are forgotten.
const pastSpan = 400 * 24 * time.Hour

// Past gives what a baseline leaves as it is on a row: the due times after
// since, zero being for ever, and not after the baseline, and the state or the
// limit the row stands in. An episode is the one the row state has counted;
// number 0 is one that had begun before the rule counted. Of other triggers
// nothing is past.
func (s *CompiledRule) Past(row *sheet.Row, since, base time.Time, st *rule.RowState) []rule.Occasion {
	paused := !since.IsZero()
	if from := base.Add(-pastSpan); since.Before(from) {
		since = from
	}
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		return s.Rule.Due(row.ID, s.Anchor(row), &s.timing, since, since, base, nil)
	case rule.Change, rule.Threshold:
		// As if it had just been added: what is so already would have fired.
		o, ok := s.Settle(nil, row, base, &rule.RowState{})
		if !ok {
			return nil
		}
		if o.N = 0; st != nil {
			o.N = st.Number
		}
		if paused && o.N == 0 {
			return nil // it had begun before the pause, and before the rule counted
		}
		o.Due, o.Unmoved = base, time.Time{}
		return []rule.Occasion{o}
	}
	return nil
}
