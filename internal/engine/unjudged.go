package engine

import (
	"context"
	"runtime"
	"sync"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// unjudgedRows keeps how many rows of each sheet its rules cannot judge, until
// something changes.
type unjudgedRows struct {
	mu sync.Mutex
	by map[string]*UnjudgedCount // guarded by mu
}

// UnjudgedCount is how many rows of a sheet its rules cannot judge.
type UnjudgedCount struct {
	Rows    int            // that at least one rule cannot judge
	Rules   map[string]int // by rule that is on, where there are any
	version string
	made    time.Time // by the wall clock
	slow    bool      // of more rows than a forecast looks at
}

// recount is for how long the count of a sheet serves whatever changes, where it has
// more rows than a forecast looks at: counting them takes a while.
const recount = 30 * time.Second

// CountUnjudged counts the rows that the rules that are on cannot judge.
func (e *Engine) CountUnjudged(ctx context.Context, sheetID string) (*UnjudgedCount, error) {
	version, err := e.forecastVersion(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	core, err := e.CoreSheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	version += e.moment(core)
	e.unjudged.mu.Lock()
	known, ok := e.unjudged.by[sheetID]
	e.unjudged.mu.Unlock()
	if ok && (known.version == version || known.slow && time.Since(known.made) < recount) {
		return known, nil
	}
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rules := sb.looked("")
	counters := make([]*faultCounter, runtime.GOMAXPROCS(0))
	for i := range counters {
		c := &faultCounter{}
		if c.outlooks, err = b.outlooks(sb, rules, e.now(), 1); err != nil {
			return nil, err
		}
		c.counts = make([]int, len(rules))
		s := surveyor{}
		for _, o := range c.outlooks {
			s.pairs = append(s.pairs, &pair{after: o})
		}
		c.decoder = sb.sheet.Decoder(s.columns(sb.sheet)...)
		counters[i] = c
	}
	if err := survey(ctx, e, sb.record, counters, time.Time{}); err != nil {
		return nil, err
	}
	out := &UnjudgedCount{Rules: map[string]int{}, version: version, made: time.Now(),
		slow: sb.record.LiveRows > maxForecastRows}
	for _, c := range counters {
		out.Rows += c.rows
		for i, rb := range rules {
			if c.counts[i] > 0 {
				out.Rules[rb.record.ID] += c.counts[i]
			}
		}
	}
	e.unjudged.mu.Lock()
	defer e.unjudged.mu.Unlock()
	if e.unjudged.by == nil {
		e.unjudged.by = map[string]*UnjudgedCount{}
	}
	e.unjudged.by[sheetID] = out
	return out, nil
}

// moment is the day in a sheet's zone, or the minute where a column of it moves
// with the clock.
func (e *Engine) moment(s *sheet.Sheet) string {
	for _, c := range s.Formulas() {
		if moves(c) {
			return e.now().Format("2006-01-02 15:04")
		}
	}
	return value.DayAt(e.now().In(s.Zone)).String()
}

// faultCounter counts the rows that rules cannot judge, for one goroutine.
type faultCounter struct {
	outlooks []*plan.Outlook
	decoder  *sheet.Decoder
	rows     int
	counts   []int // by rule
}

func (f *faultCounter) look(c *chunk, cells []value.Value) ([]value.Value, error) {
	for i := range c.ids {
		var err error
		if cells, err = f.decoder.DecodeString(c.at(i), cells); err != nil {
			return cells, err
		}
		row, any := c.row(i, cells), false
		for k, o := range f.outlooks {
			if _, bad := o.Fault(row); bad {
				f.counts[k]++
				any = true
			}
		}
		if any {
			f.rows++
		}
	}
	return cells, nil
}

// Fault is a rule that cannot judge a row, and the column to mend.
type Fault struct{ Rule, Column string }

// RowFaults gives, of some rows, the rules that cannot judge them: by row, those
// that are on, or the one asked for.
func (e *Engine) RowFaults(ctx context.Context, sheetID, ruleID string,
	rows []*sheet.Row) (map[string][]Fault, error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rules := sb.looked(ruleID)
	outlooks, err := b.outlooks(sb, rules, e.now(), 1)
	out := map[string][]Fault{}
	for _, row := range rows {
		for i, o := range outlooks {
			if column, bad := o.Fault(row); bad {
				out[row.ID] = append(out[row.ID], Fault{rules[i].record.ID, column})
			}
		}
	}
	return out, err
}

// UnjudgedNews returns how many rows of a sheet its rules cannot judge, and the rules
// that cannot judge more than somebody has said to be meant so; where that is one
// alone, its rows are counted.
func (e *Engine) UnjudgedNews(ctx context.Context, sheetID string) (rows int, rules []store.Rule, err error) {
	u, err := e.CountUnjudged(ctx, sheetID)
	if err != nil || u.Rows == 0 {
		return 0, nil, err
	}
	all, err := e.Store.Rules(ctx, sheetID)
	rows = u.Rows
	for _, r := range all {
		if u.Rules[r.ID] > r.UnjudgedKnown {
			rules = append(rules, r)
		}
	}
	if len(rules) == 1 {
		rows = u.Rules[rules[0].ID]
	}
	return rows, rules, err
}

// KnowUnjudged notes of the rules of a sheet that somebody has seen how many rows
// they cannot judge, and means it so: it is told again once there are more.
func (e *Engine) KnowUnjudged(ctx context.Context, sheetID, actor string) error {
	u, err := e.CountUnjudged(ctx, sheetID)
	if err != nil {
		return err
	}
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		rules, err := tx.Rules(ctx, sheetID)
		if err != nil {
			return err
		}
		for _, r := range rules {
			if r.State != rule.On {
				continue
			}
			if err := tx.KnowUnjudged(ctx, r.ID, u.Rules[r.ID]); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSheetSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"unjudged": u.Rules})})
	})
}
