package engine

import (
	"context"
	"fmt"
	"runtime"
	"sync"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Only narrows a view to some rows by what is known of them beyond their cells.
type Only struct {
	Rows OnlyRows `json:"rows"`
	Rule string   `json:"rule,omitempty"` // by this rule alone; by all that are on where empty
}

// OnlyRows are the rows that a view may be narrowed to.
type OnlyRows string

// The rows that a view may be narrowed to.
const (
	Doubled  OnlyRows = "doubled"  // whose key other rows have too
	Unjudged OnlyRows = "unjudged" // that a rule cannot judge
	Awaiting OnlyRows = "coming"   // with an email coming in the next four weeks
	Quiet    OnlyRows = "quiet"    // without one
)

// picked reports of a row, its formulas not worked out, whether a view shows it.
type picked func(id int64, row *sheet.Row) (bool, error)

// picking makes ready to pick the rows of an Only.
func (e *Engine) picking(ctx context.Context, sheetID string, o Only) (picked, error) {
	if o.Rows == Doubled {
		ids, err := e.Store.DoubledRows(ctx, sheetID)
		in := make(map[int64]bool, len(ids))
		for _, id := range ids {
			in[id] = true
		}
		return func(id int64, _ *sheet.Row) (bool, error) { return in[id], nil }, err
	}
	b := newBook(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rules := sb.looked(o.Rule)
	switch o.Rows {
	case Unjudged:
		outlooks, err := b.outlooks(sb, rules, e.now(), 1)
		return func(_ int64, row *sheet.Row) (bool, error) {
			for _, k := range outlooks {
				if _, bad := k.Fault(row); bad {
					return true, nil
				}
			}
			return false, nil
		}, err
	case Awaiting, Quiet:
		awaits, err := e.awaiting(ctx, b, sb, rules)
		if err != nil {
			return nil, err
		}
		return func(id int64, row *sheet.Row) (bool, error) {
			does, err := awaits(id, row)
			return does == (o.Rows == Awaiting), err
		}, nil
	}
	return nil, &Refusal{Field: "/only/rows", Message: fmt.Sprintf("rows that are %q are not known; ask for doubled, unjudged, coming or quiet", o.Rows)}
}

// looked gives the rules that are looked at: one by its id, whatever its state,
// or all that are on.
func (sb *sheetBook) looked(id string) (out []*ruleBook) {
	for _, rb := range sb.rules {
		if id == "" && rb.record.State == rule.On || rb.record.ID == id {
			out = append(out, rb)
		}
	}
	return out
}

func (b *book) outlooks(sb *sheetBook, rules []*ruleBook, now time.Time, days int) (out []*plan.Outlook, err error) {
	for _, rb := range rules {
		o, err := b.outlook(sb, rb.setting.Rule, now, days)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// awaiting makes ready to tell of rows whether an email is coming to them.
func (e *Engine) awaiting(ctx context.Context, b *book, sb *sheetBook, rules []*ruleBook) (picked, error) {
	now := e.now()
	until := now.Add(ForecastSpan)
	asides, err := e.sheetAsides(ctx, sb.record.ID)
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(rules))
	for i, rb := range rules {
		ids[i] = rb.record.ID
	}
	entries, err := e.Store.Promised(ctx, ids, until)
	if err != nil {
		return nil, err
	}
	rounds, err := roundUpsOf(b, sb, rules, now, until)
	return func(id int64, row *sheet.Row) (bool, error) {
		for _, rb := range rules {
			all, err := foreseenOf(rb, row, entries[id], asides[lifeKey{rb.record.ID, id}], now, until)
			if err != nil || len(all) > 0 {
				return err == nil, err
			}
		}
		for _, o := range rounds {
			if o.InRound(row) {
				return true, nil
			}
		}
		return false, nil
	}, err
}

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
}

// recount is for how long the count of a sheet serves whatever changes, where it has
// more rows than a forecast looks at: counting them takes a while.
const recount = 30 * time.Second

// CountUnjudged counts the rows that the rules that are on cannot judge.
func (e *Engine) CountUnjudged(ctx context.Context, sheetID string) (*UnjudgedCount, error) {
	b := newBook(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rules := sb.looked("")
	version, err := e.forecastVersion(ctx, b, sb)
	if err != nil {
		return nil, err
	}
	version += e.moment(sb.sheet)
	e.unjudged.mu.Lock()
	known, ok := e.unjudged.by[sheetID]
	e.unjudged.mu.Unlock()
	if ok && (known.version == version || sb.record.LiveRows > maxForecastRows && time.Since(known.made) < recount) {
		return known, nil
	}
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
	out := &UnjudgedCount{Rules: map[string]int{}, version: version, made: time.Now()}
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
func (e *Engine) RowFaults(ctx context.Context, sheetID, ruleID string, rows []*sheet.Row) (map[string][]Fault, error) {
	b := newBook(e.Store)
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
