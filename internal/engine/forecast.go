package engine

import (
	"context"
	"fmt"
	"sort"
	"sync"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// ForecastSpan is how far a forecast looks ahead.
const ForecastSpan = 28 * 24 * time.Hour

// Coming is a foreseen email as lists and tracks show it.
type Coming struct {
	Occasion   rule.ID
	Chain      string // the identity of the email that it follows; its own, of a first one
	At         time.Time
	Rule       string
	RowID      string
	Row        string // its name
	Rows       int    // of a round-up, which has no row of its own: how many it is about
	Incomplete bool
	Subject    string
	To         []string
	Reason     string

	keys   []string      // of the mailboxes in To
	origin rule.Occasion // of a round-up
}

// Forecast is what the rules of a sheet that are on will write in the coming
// four weeks if its rows stay as they are, in time order. What is skipped is
// left out.
type Forecast struct {
	Coming  []Coming
	Left    []Coming // round-ups that a person has left out
	Partial bool     // the sheet has more rows than a forecast looks at
	version string
	made    time.Time
}

// maxForecastRows bounds the rows that a forecast looks at.
const maxForecastRows = 100_000

// forecastLife is how long a forecast serves while nothing changes: its far
// end moves on with the time.
const forecastLife = 15 * time.Minute

// forecasts keeps the forecasts of sheets until something changes.
type forecasts struct {
	mu sync.Mutex
	by map[string]*Forecast // guarded by mu
}

// Forecast gives the forecast of a sheet from now on.
func (e *Engine) Forecast(ctx context.Context, sheetID string) (*Forecast, error) {
	version, err := e.forecastVersion(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	now := e.now()
	e.forecasts.mu.Lock()
	f := e.forecasts.by[sheetID]
	e.forecasts.mu.Unlock()
	if f == nil || f.version != version || now.Before(f.made) || now.Sub(f.made) > forecastLife {
		b := newRuleCache(e.Store)
		sb, err := b.sheet(ctx, sheetID)
		if err != nil {
			return nil, err
		}
		if f, err = e.makeForecast(ctx, b, sb, now); err != nil {
			return nil, err
		}
		f.version = version
		e.forecasts.mu.Lock()
		if e.forecasts.by == nil {
			e.forecasts.by = map[string]*Forecast{}
		}
		e.forecasts.by[sheetID] = f
		e.forecasts.mu.Unlock()
	}
	i := sort.Search(len(f.Coming), func(i int) bool { return f.Coming[i].At.After(now) })
	k := sort.Search(len(f.Left), func(i int) bool { return f.Left[i].At.After(now) })
	return &Forecast{Coming: f.Coming[i:], Left: f.Left[k:], Partial: f.Partial}, nil
}

// forecastVersion changes with everything a forecast rests on: the sheet's stamp, its rows, and what
// people have said of emails to come. It is asked for before what it stands for is read.
func (e *Engine) forecastVersion(ctx context.Context, sheetID string) (string, error) {
	stamp, err := e.Store.Stamp(ctx, sheetID)
	if err != nil {
		return "", err
	}
	if stamp == "" {
		stamp = store.NewID() // which nothing has been made under
	}
	rows, err := e.Store.SheetVersion(ctx, sheetID)
	if err != nil {
		return "", err
	}
	said, err := e.Store.SheetSetAsides(ctx, sheetID, e.now().Add(-forecastLife))
	v := fmt.Sprint(stamp, " ", rows)
	for _, s := range said {
		v += fmt.Sprint(" ", s.RuleID, s.RowID, s.At.UnixNano())
	}
	return v, err
}

func (e *Engine) makeForecast(ctx context.Context, b *ruleCache, sb *cachedSheet, now time.Time) (*Forecast, error) {
	f := &Forecast{made: now}
	var on []*cachedRule
	for _, r := range sb.rules {
		if r.record.State == rule.On {
			on = append(on, r)
		}
	}
	if len(on) == 0 {
		return f, nil
	}
	asides, err := e.sheetAsides(ctx, sb.record.ID)
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(on))
	for i, rb := range on {
		ids[i] = rb.record.ID
	}
	entries, err := e.Store.Promised(ctx, ids, now.Add(ForecastSpan+forecastLife))
	if err != nil {
		return nil, err
	}
	until := now.Add(ForecastSpan + forecastLife)
	rounds, err := roundUpsOf(b, sb, on, now, until)
	if err != nil {
		return nil, err
	}
	n := 0
	err = e.Store.ScanRows(ctx, sb.record.ID, func(r *store.Row) error {
		if n++; n > maxForecastRows {
			f.Partial = true
			return nil
		}
		row, err := r.Core(sb.sheet)
		if err != nil {
			return err
		}
		for _, o := range rounds {
			o.Look(row, r.Place, func() *sheet.Row { return row })
		}
		for _, rb := range on {
			all, err := foreseenOf(rb, row, entries[r.ID], asides[timelineKey{rb.record.ID, r.ID}], now, until)
			if err != nil {
				return err
			}
			for _, c := range all {
				f.Coming = append(f.Coming, coming(sb.sheet, rb, row, c))
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	settling, err := e.Store.Unsettled(ctx, sb.record.ID, maxUnsettled)
	if err != nil {
		return nil, err
	}
	edits, err := e.comingOfEdits(ctx, sb.sheet, sb.record.ID, settling)
	if err != nil {
		return nil, err
	}
	var first []Coming
	for i := range settling {
		first = append(first, edits[settling[i].ID]...)
	}
	if len(first) > 0 {
		f.Coming = joinComing(first, f.Coming)
	}
	for _, o := range rounds {
		f.addRoundUps(o, plan.AsidesOf(asides[timelineKey{o.Rule.ID, 0}]), until)
	}
	for _, list := range [][]Coming{f.Coming, f.Left} {
		sort.SliceStable(list, func(i, j int) bool { return list[i].At.Before(list[j].At) })
	}
	return f, nil
}

// maxRoundUps bounds the round-ups of one rule in a forecast.
const maxRoundUps = 2000

// roundUpsOf begins an outlook for each of the rules that write round-ups.
func roundUpsOf(b *ruleCache, sb *cachedSheet, rules []*cachedRule, now,
	until time.Time) (out []*plan.Outlook, err error) {
	for _, rb := range rules {
		if !rb.compiled.IsRoundUp() {
			continue
		}
		o, err := b.outlook(sb, rb.compiled.Rule, now, int(until.Sub(now)/(24*time.Hour))+1)
		if err != nil {
			return nil, err
		}
		o.Keep = maxRoundUps
		out = append(out, o)
	}
	return out, nil
}

// addRoundUps adds the round-ups that an outlook has gathered from all rows.
func (f *Forecast) addRoundUps(o *plan.Outlook, asides plan.Asides, until time.Time) {
	o.Done()
	f.Partial = f.Partial || len(o.First) == maxRoundUps
	for _, l := range o.First {
		if l.Rows == 0 || l.Outcome == plan.Skip || l.Due.After(until) {
			continue
		}
		c := o.ForeseeOne(l.Row, o.Now, l)
		x := Coming{Occasion: c.Identity(), Chain: c.Chain(), At: c.Due, Rule: o.Rule.ID, Rows: l.Rows,
			Incomplete: c.Outcome == plan.Incomplete, Subject: c.Subject,
			Reason: c.Decision.Reason.Words(), origin: c.Occasion}
		for _, m := range c.To {
			x.To, x.keys = append(x.To, m.Address()), append(x.keys, m.Key())
		}
		if _, left := asides.Of(&c.Occasion); left {
			f.Left = append(f.Left, x)
		} else {
			f.Coming = append(f.Coming, x)
		}
	}
}

// foreseenOf gives what is to come for a row by a rule up to an instant: what the
// agenda promises, and what its dates and rounds will bring. What is skipped or
// left out is not among it.
func foreseenOf(rb *cachedRule, row *sheet.Row, entries []store.Entry, said []plan.Aside, now,
	until time.Time) ([]plan.Foreseen, error) {
	byID := plan.AsidesOf(said)
	have := map[rule.ID]bool{}
	var out []plan.Foreseen
	add := func(f plan.Foreseen) {
		id := f.Identity()
		a, ok := byID.Of(&f.Occasion)
		if have[id] || f.Outcome == plan.Skip || f.Due.After(until) || ok && a.To.IsZero() {
			return
		}
		have[id] = true
		out = append(out, f)
	}
	if len(entries) > 0 {
		all, err := promisedOf(rb, row, entries, byID, plan.Memory{})
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if p.Due.After(now) {
				add(p.Foreseen)
			}
		}
	}
	for _, f := range rb.compiled.Foresee(row, rb.baseline(), now, until, said...) {
		add(f)
	}
	return out, nil
}

func coming(s *sheet.Sheet, rb *cachedRule, row *sheet.Row, c plan.Foreseen) Coming {
	out := Coming{Occasion: c.Identity(), Chain: c.Chain(), At: c.Due, Rule: rb.record.ID, RowID: row.ID,
		Row: s.RowName(row), Incomplete: c.Outcome == plan.Incomplete,
		Subject: c.Subject, Reason: c.Decision.Reason.Words()}
	for _, m := range c.To {
		out.keys = append(out.keys, m.Key())
	}
	for _, m := range append(append(c.To[:0:0], c.To...), c.Cc...) {
		out.To = append(out.To, m.Address())
	}
	return out
}

// RowComing gives the coming emails of some rows, by row.
func (e *Engine) RowComing(ctx context.Context, sheetID string, rows []*sheet.Row) (map[string][]Coming, error) {
	sb, err := e.reading().sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	asides, err := e.sheetAsides(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	now := e.now()
	ids := make([]int64, len(rows))
	for i, row := range rows {
		if ids[i], err = rowID(row.ID); err != nil {
			return nil, err
		}
	}
	entries, err := e.Store.RowEntries(ctx, ids...)
	if err != nil {
		return nil, err
	}
	edits, err := e.comingOfUnsettled(ctx, sb.sheet, sheetID, ids)
	if err != nil {
		return nil, err
	}
	out := map[string][]Coming{}
	for i, row := range rows {
		id := ids[i]
		for _, rb := range sb.rules {
			if rb.record.State != rule.On {
				continue
			}
			all, err := foreseenOf(rb, row, entries[id], asides[timelineKey{rb.record.ID, id}], now, now.Add(ForecastSpan))
			if err != nil {
				return nil, err
			}
			for _, c := range all {
				out[row.ID] = append(out[row.ID], coming(sb.sheet, rb, row, c))
			}
		}
		if list := edits[id]; len(list) > 0 {
			out[row.ID] = joinComing(list, out[row.ID])
		}
	}
	return out, nil
}
