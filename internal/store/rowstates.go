package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"nivot/internal/core/rule"
)

// RowStateKey names what a rule remembers of a row.
type RowStateKey struct {
	RuleID string
	RowID  int64
}

type rowState struct {
	RuleID   string
	RowID    int64
	Baseline *time.Time
	Body     string
}

// RowStates gives what rules remember of rows; baselines gives, of those, the
// baseline up to which each is.
func (s *Store) RowStates(ctx context.Context,
	rows []int64) (out map[RowStateKey]*rule.RowState, baselines map[RowStateKey]time.Time, err error) {
	out, baselines = map[RowStateKey]*rule.RowState{}, map[RowStateKey]time.Time{}
	err = chunks(rows, 1000, func(c []int64) error {
		var found []rowState
		if err := s.DB(ctx).Raw("SELECT * FROM row_states WHERE row_id IN ?", c).Scan(&found).Error; err != nil {
			return err
		}
		for _, f := range found {
			st := &rule.RowState{}
			if err := json.Unmarshal([]byte(f.Body), st); err != nil {
				return err
			}
			k := RowStateKey{f.RuleID, f.RowID}
			out[k] = st
			if f.Baseline != nil {
				baselines[k] = *f.Baseline
			}
		}
		return nil
	})
	return out, baselines, err
}

// Remembered is what a rule remembers of a row, as of a baseline of the rule's.
type Remembered struct {
	RowStateKey
	Baseline time.Time
	RowState *rule.RowState
}

// SaveRowStates writes what rules remember of rows; what is nothing any more is
// forgotten.
func (s *Store) SaveRowStates(ctx context.Context, sts []Remembered) error {
	return chunks(sts, bulk, func(c []Remembered) error {
		var q strings.Builder
		var args []any
		var nothing [][]any
		for _, x := range c {
			if x.RowState.IsZero() {
				nothing = append(nothing, []any{x.RowID, x.RuleID})
				continue
			}
			if q.Len() == 0 {
				q.WriteString("REPLACE INTO row_states (rule_id, row_id, baseline, body) VALUES ")
			} else {
				q.WriteByte(',')
			}
			q.WriteString("(?,?,?,?)")
			args = append(args, x.RuleID, x.RowID, x.Baseline, Detail(x.RowState))
		}
		if len(nothing) > 0 {
			if err := s.DB(ctx).Exec("DELETE FROM row_states WHERE (row_id, rule_id) IN ?", nothing).Error; err != nil {
				return err
			}
		}
		if len(args) == 0 {
			return nil
		}
		return s.DB(ctx).Exec(q.String(), args...).Error
	})
}
