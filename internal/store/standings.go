package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"nivot/internal/core/rule"
)

// StandingKey names what a rule remembers of a row.
type StandingKey struct {
	RuleID string
	RowID  int64
}

type standing struct {
	RuleID   string
	RowID    int64
	Baseline *time.Time
	Body     string
}

// Standings gives what rules remember of rows; baselines gives, of those, the
// baseline up to which each is.
func (s *Store) Standings(ctx context.Context, rows []int64) (out map[StandingKey]*rule.Standing, baselines map[StandingKey]time.Time, err error) {
	out, baselines = map[StandingKey]*rule.Standing{}, map[StandingKey]time.Time{}
	err = chunks(rows, 1000, func(c []int64) error {
		var found []standing
		if err := s.DB(ctx).Raw("SELECT * FROM standings WHERE row_id IN ?", c).Scan(&found).Error; err != nil {
			return err
		}
		for _, f := range found {
			st := &rule.Standing{}
			if err := json.Unmarshal([]byte(f.Body), st); err != nil {
				return err
			}
			k := StandingKey{f.RuleID, f.RowID}
			out[k] = st
			if f.Baseline != nil {
				baselines[k] = *f.Baseline
			}
		}
		return nil
	})
	return out, baselines, err
}

// SaveStandings writes what rules remember of rows, with the rules' baselines.
func (s *Store) SaveStandings(ctx context.Context, sts map[StandingKey]*rule.Standing, baseline func(ruleID string) *time.Time) error {
	keys := make([]StandingKey, 0, len(sts))
	for k := range sts {
		keys = append(keys, k)
	}
	return chunks(keys, bulk, func(c []StandingKey) error {
		var q strings.Builder
		var args []any
		q.WriteString("REPLACE INTO standings (rule_id, row_id, baseline, body) VALUES ")
		for i, k := range c {
			if i > 0 {
				q.WriteByte(',')
			}
			q.WriteString("(?,?,?,?)")
			args = append(args, k.RuleID, k.RowID, baseline(k.RuleID), Detail(sts[k]))
		}
		return s.DB(ctx).Exec(q.String(), args...).Error
	})
}
