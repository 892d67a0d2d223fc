package store

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
)

// Counts of deliveries are kept beside them, so that the log and Today need not count millions:
// by rule, sheet, quarter of an hour in which they fell due (every zone's days are made of whole
// ones) and state, and once more for all time. Each transaction writes what it has changed as its
// last statement, so that what many write at the same time is locked for a moment only.

// bucket is what is counted together.
type bucket struct {
	Quarter int64 // since 1970; forever for all time
	RuleID  string
	SheetID string
	State   delivery.State
}

// forever stands for all quarters.
const forever = math.MinInt32

// quarterSpan is the length of a quarter.
const quarterSpan = 15 * time.Minute

// shards is over how many rows the writers of one count are spread: each process has its own,
// else two on different nodes would write the same row.
const shards = 16

func quarterOf(t time.Time) int64 {
	s := t.Unix()
	q := s / int64(quarterSpan/time.Second)
	if s < 0 && s%int64(quarterSpan/time.Second) != 0 {
		q--
	}
	return q
}

// countedAs is the state under which a delivery is counted. What is on its way to the mail
// server counts as queued, so that claiming and marking it changes no count.
func countedAs(st delivery.State) delivery.State {
	if st == delivery.Claimed || st == delivery.Sending {
		return delivery.Queued
	}
	return st
}

// tally gathers what a transaction changes.
type tally map[bucket]int64

// move counts that a delivery has another state; "" before it was, from.
func (t tally) move(d *Delivery, from, to delivery.State) {
	from, to = countedAs(from), countedAs(to)
	if from == to {
		return
	}
	for _, q := range []int64{forever, quarterOf(d.DueAt)} {
		if from != "" {
			t[bucket{q, d.RuleID, d.SheetID, from}]--
		}
		t[bucket{q, d.RuleID, d.SheetID, to}]++
	}
}

// sorted gives the buckets in the order of their key, in which everybody locks them.
func (t tally) sorted() (out []bucket) {
	for b, n := range t {
		if n != 0 {
			out = append(out, b)
		}
	}
	slices.SortFunc(out, func(a, b bucket) int {
		return cmp.Or(cmp.Compare(a.Quarter, b.Quarter), cmp.Compare(a.RuleID, b.RuleID), cmp.Compare(a.SheetID, b.SheetID),
			cmp.Compare(a.State, b.State))
	})
	return out
}

const (
	addCounts   = "INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n) VALUES "
	onCountThat = " ON DUPLICATE KEY UPDATE n = n + VALUES(n)"
)

// writeCounts writes what a transaction has gathered.
func (s *Store) writeCounts(ctx context.Context) error {
	return chunks(s.tally.sorted(), bulk, func(c []bucket) error {
		args := make([]any, 0, 6*len(c))
		for _, b := range c {
			args = append(args, b.Quarter, b.RuleID, b.SheetID, b.State, s.shard, s.tally[b])
		}
		return s.DB(ctx).Exec(addCounts+strings.TrimSuffix(strings.Repeat("(?,?,?,?,?,?),", len(c)), ",")+onCountThat,
			args...).Error
	})
}

// counted reports whether the counts that are kept answer a filter.
func (f LogFilter) counted() bool {
	whole := func(t *time.Time) bool { return t == nil || t.Equal(t.Truncate(quarterSpan)) }
	return f.RowID == 0 && f.To == "" && f.Text == "" && whole(f.Since) && whole(f.Until)
}

// counts asks the counts that are kept for a filter.
func (f LogFilter) counts(db *gorm.DB) *gorm.DB {
	q := db.Table("delivery_counts")
	if f.Since != nil {
		q = q.Where("quarter >= ?", quarterOf(*f.Since))
	}
	if f.Until != nil {
		q = q.Where("quarter < ?", quarterOf(*f.Until))
	}
	if f.SheetID != "" {
		q = q.Where("sheet_id = ?", f.SheetID)
	}
	if f.RuleID != "" {
		q = q.Where("rule_id = ?", f.RuleID)
	}
	return q
}

// inHand splits what is counted as queued: how many of a filter's deliveries are being handed
// over just now.
func (s *Store) inHand(ctx context.Context, f LogFilter) (found []StateCount, err error) {
	err = f.where(s.DB(ctx).Model(&Delivery{}).Where(pendingIn(delivery.Claimed, delivery.Sending))).Select(
		"state, COUNT(*) AS n").Group("state").Scan(&found).Error
	return found, err
}

// CountStates counts deliveries by state.
func (s *Store) CountStates(ctx context.Context, f LogFilter) (map[delivery.State]int64, error) {
	out := map[delivery.State]int64{}
	var rows []StateCount
	if !f.counted() {
		q, ok, err := s.matching(ctx, f)
		if err != nil || !ok {
			return nil, err
		}
		if err := q.Select("state, COUNT(*) AS n").Group("state").Scan(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.State] = r.N
		}
		return out, nil
	}
	q := f.counts(s.DB(ctx))
	if f.Since == nil && f.Until == nil {
		q = q.Where("quarter = ?", forever)
	} else {
		q = q.Where("quarter > ?", forever)
	}
	if err := q.Select("state, SUM(n) AS n").Group("state").Having("SUM(n) <> 0").Scan(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		out[r.State] = r.N
	}
	if out[delivery.Queued] > 0 {
		all := f
		all.States = nil
		hand, err := s.inHand(ctx, all)
		if err != nil {
			return nil, err
		}
		for _, h := range hand {
			out[h.State] = h.N
			out[delivery.Queued] = max(0, out[delivery.Queued]-h.N)
		}
	}
	if len(f.States) > 0 {
		for st := range out {
			if !slices.Contains(f.States, st) {
				delete(out, st)
			}
		}
	}
	return out, nil
}

// QuarterCount counts the deliveries of a state that fell due in one quarter of an hour.
type QuarterCount struct {
	DueAt time.Time // when the quarter began
	State delivery.State
	N     int
}

// quarterStart is when a quarter begins.
func quarterStart(q int64) time.Time {
	return time.Unix(0, 0).UTC().Add(time.Duration(q) * quarterSpan)
}

// quarterSQL is the quarter of a delivery. (UNIX_TIMESTAMP ends in 2038.)
const quarterSQL = "FLOOR(TIMESTAMPDIFF(SECOND, '1970-01-01', due_at) / 900)"

// CountQuarters counts by quarters and state in a span, the earliest first; what is on its way
// counts as queued. There are none where no index answers the filter.
func (s *Store) CountQuarters(ctx context.Context, f LogFilter) ([]QuarterCount, error) {
	var rows []struct {
		Quarter int64
		State   delivery.State
		N       int
	}
	var q *gorm.DB
	if f.counted() {
		q = f.counts(s.DB(ctx)).Where("quarter > ?", forever).Select("quarter, state, SUM(n) AS n").Having("SUM(n) <> 0")
		if len(f.States) > 0 {
			q = q.Where("state IN ?", f.countedStates())
		}
	} else {
		found, ok, err := s.matching(ctx, f)
		if err != nil || !ok {
			return nil, err
		}
		q = found.Select(quarterSQL + " AS quarter, state, COUNT(*) AS n")
	}
	if err := q.Group("quarter, state").Order("quarter").Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]QuarterCount, len(rows))
	for i, r := range rows {
		out[i] = QuarterCount{quarterStart(r.Quarter), countedAs(r.State), r.N}
	}
	return out, nil
}

// countedStates are the states as which the filter's are counted.
func (f LogFilter) countedStates() (out []delivery.State) {
	for _, st := range f.States {
		if st = countedAs(st); !slices.Contains(out, st) {
			out = append(out, st)
		}
	}
	return out
}

// quarters narrows a query of the log to the quarters in which the next lines of a filter with
// states are: few that are far back are found at once.
func (s *Store) quarters(ctx context.Context, f LogFilter, from logPlace, limit int, q *gorm.DB) (*gorm.DB, error) {
	counts := f.counts(s.DB(ctx)).Where("quarter > ? AND state IN ?", forever, f.countedStates())
	if from.ID != 0 {
		counts = counts.Where("quarter <= ?", quarterOf(from.DueAt))
	}
	var found []struct{ Quarter, N int64 }
	if err := counts.Select("quarter, SUM(n) AS n").Group("quarter").Having("SUM(n) > 0").Order("quarter DESC").Limit(
		limit + 2).Scan(&found).Error; err != nil {
		return nil, err
	}
	var spans []string
	var args []any
	sum := int64(0)
	for _, x := range found {
		spans = append(spans, "due_at >= ? AND due_at < ?")
		args = append(args, quarterStart(x.Quarter), quarterStart(x.Quarter+1))
		if from.ID == 0 || x.Quarter != quarterOf(from.DueAt) { // of that one some have been shown
			sum += x.N
		}
		if sum > int64(limit) {
			break
		}
	}
	if len(spans) == 0 {
		return q.Where("FALSE"), nil
	}
	return q.Where(strings.Join(spans, " OR "), args...), nil
}

// comparedCounts compares the counts that are kept with the deliveries, by quarter, rule, sheet and state: kept and
// there are how many are counted and how many there are. As one statement it sees both as of one moment.
const comparedCounts = `(
	SELECT quarter, rule_id, sheet_id, state, n AS kept, 0 AS there FROM delivery_counts WHERE ? IN ('', rule_id)
	UNION ALL SELECT ` + quarterSQL + `, rule_id, sheet_id, IF(state IN ('claimed', 'sending'), 'queued', state), 0, 1
		FROM deliveries WHERE ? IN ('', rule_id)
	UNION ALL SELECT ?, rule_id, sheet_id, IF(state IN ('claimed', 'sending'), 'queued', state), 0, 1
		FROM deliveries WHERE ? IN ('', rule_id)) x
	GROUP BY quarter, rule_id, sheet_id, state HAVING SUM(kept) <> SUM(there)`

// WrongCounts compares the counts that are kept with the deliveries, and names what differs; for
// nivot check, and for tests. It reads all deliveries.
func (s *Store) WrongCounts(ctx context.Context) (out []string, err error) {
	err = s.DB(ctx).Raw(
		"SELECT CONCAT('of rule ', rule_id, ' ', SUM(kept), ' are counted as ', state, ', and ', SUM(there), ' are') FROM "+
			comparedCounts+" LIMIT 20", "", "", int64(forever), "").Scan(&out).Error
	return out, err
}

// MendCounts makes the counts that are kept those of the deliveries, rule by rule, whatever else is written
// meanwhile, and returns how many were wrong.
func (s *Store) MendCounts(ctx context.Context) (n int64, err error) {
	var rules []string
	if err := s.DB(ctx).Raw("SELECT id FROM rules UNION SELECT DISTINCT rule_id FROM delivery_counts").Scan(
		&rules).Error; err != nil {
		return 0, err
	}
	for _, id := range rules {
		of := strings.ReplaceAll(comparedCounts, "? IN ('', rule_id)", "rule_id = ?")
		var wrong int64
		if err := s.DB(ctx).Raw("SELECT COUNT(*) FROM (SELECT quarter FROM "+of+") w", id, id, int64(forever), id).Scan(
			&wrong).Error; err != nil || wrong == 0 {
			if err != nil {
				return n, err
			}
			continue
		}
		// A difference stays right to be added, whatever has been counted since it was found.
		if err := s.DB(ctx).Exec("INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n) "+
			"SELECT quarter, rule_id, sheet_id, state, ?, SUM(there) - SUM(kept) FROM "+of+onCountThat,
			s.shard, id, id, int64(forever), id).Error; err != nil {
			return n, err
		}
		n += wrong
	}
	return n, nil
}
