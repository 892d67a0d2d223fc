package plan

import (
	"fmt"
	"sort"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Edit is something done to the rows during a rehearsal: exactly one of Set,
// Add and Delete on a row.
type Edit struct {
	At     time.Time
	Row    string                 // id of the row; for Add the id it gets
	Set    map[string]value.Value // by column id
	Add    bool                   // Set holds the new row's cells
	Delete bool
}

// Line is one line of a rehearsal.
type Line struct {
	At       time.Time
	Rule     *rule.Rule
	Row      string
	Step     int
	Occasion rule.ID
	Verdict
	rowOrder, ruleOrder int
}

// Rehearse plays rules, switched on at from, over rows and edits, and gives
// one line per occasion with from <= at < to, in time order, then row order
// (added rows last), then rule order. Edits must be in time order; those
// before from are done and settled before the baseline.
func Rehearse(settings []*Setting, rows []*sheet.Row, edits []Edit, from, to time.Time) ([]Line, error) {
	if len(settings) == 0 {
		return nil, nil
	}
	sh := settings[0].Sheet
	lives, err := lifetimes(sh, rows, edits, from)
	if err != nil {
		return nil, err
	}
	var out []Line
	for i, l := range lives {
		for k, s := range settings {
			p := player{s: s, life: l, since: from.Add(-Tick), to: to, judged: map[rule.ID]bool{}}
			for _, line := range p.play() {
				line.rowOrder, line.ruleOrder = i, k
				out = append(out, line)
			}
		}
	}
	sort.SliceStable(out, func(a, b int) bool {
		x, y := &out[a], &out[b]
		if !x.At.Equal(y.At) {
			return x.At.Before(y.At)
		}
		if x.rowOrder != y.rowOrder {
			return x.rowOrder < y.rowOrder
		}
		return x.ruleOrder < y.ruleOrder
	})
	return out, nil
}

// life is what happens to one row.
type life struct {
	id     string
	start  *sheet.Row // nil until it is added
	edits  []Edit
	settle time.Duration
	sheet  *sheet.Sheet
}

func lifetimes(sh *sheet.Sheet, rows []*sheet.Row, edits []Edit, from time.Time) ([]*life, error) {
	var order []*life
	byID := map[string]*life{}
	for _, r := range rows {
		l := &life{id: r.ID, start: clone(r), settle: sh.Settle, sheet: sh}
		byID[r.ID] = l
		order = append(order, l)
	}
	there := map[string]bool{}
	for _, r := range rows {
		there[r.ID] = true
	}
	last := time.Time{}
	for i, e := range edits {
		if e.At.Before(last) {
			return nil, fmt.Errorf("edit %d: it is earlier than the one before it", i+1)
		}
		last = e.At
		l, ok := byID[e.Row]
		if e.Add && !ok {
			l = &life{id: e.Row, settle: sh.Settle, sheet: sh}
			byID[e.Row] = l
			order = append(order, l)
		} else if !there[e.Row] && !e.Add {
			return nil, fmt.Errorf("edit %d: row %q is not there", i+1, e.Row)
		}
		there[e.Row] = !e.Delete
		if e.At.Before(from) {
			l.start = apply(sh, l.start, e, int64(len(order)))
			continue
		}
		l.edits = append(l.edits, e)
	}
	return order, nil
}

func clone(r *sheet.Row) *sheet.Row {
	if r == nil {
		return nil
	}
	c := *r
	c.Cells = append([]value.Value(nil), r.Cells...)
	return &c
}

// apply gives the row after an edit; nil stands for a row that is not there.
func apply(sh *sheet.Sheet, r *sheet.Row, e Edit, number int64) *sheet.Row {
	if e.Delete {
		return nil
	}
	c := clone(r)
	if c == nil {
		c = &sheet.Row{ID: e.Row, Number: number}
	}
	for id, v := range e.Set {
		if col, ok := sh.Column(id); ok {
			c.Set(col, v)
		}
	}
	return c
}

// player plays one rule over one row.
type player struct {
	s       *Setting
	life    *life
	since   time.Time // judged up to here
	to      time.Time
	settled *sheet.Row
	lines   []Line
	waiting []Considered // incomplete, to be mended
	judged  map[rule.ID]bool
}

func (p *player) play() []Line {
	p.settled = p.life.start
	cur := clone(p.settled)
	var first, last time.Time
	unsettled := false
	settleUpTo := func(t time.Time) { // settling comes before edits at one instant
		if unsettled {
			if at := sheet.SettlesAt(first, last, p.life.settle); !at.After(t) && at.Before(p.to) {
				p.settle(cur, first, at)
				p.settled, unsettled = clone(cur), false
			}
		}
	}
	for _, e := range p.life.edits {
		if !e.At.Before(p.to) {
			break
		}
		settleUpTo(e.At)
		before := cur
		cur = apply(p.life.sheet, cur, e, 0)
		if e.Delete {
			if before != nil {
				p.remove(unsettled, first, e.At)
			}
			p.settled, unsettled = nil, false
			continue
		}
		if before != nil && !changes(before, cur) {
			continue
		}
		if !unsettled {
			p.advance(e.At.Add(-Tick))
			first, unsettled = e.At, true
		}
		last = e.At
	}
	settleUpTo(p.to)
	if !unsettled {
		p.advance(p.to.Add(-Tick))
	}
	return p.lines
}

// changes tells whether an edit changed a cell; a change only of case or
// outer space is none.
func changes(a, b *sheet.Row) bool {
	for i := range max(len(a.Cells), len(b.Cells)) {
		var x, y value.Value
		if i < len(a.Cells) {
			x = a.Cells[i]
		}
		if i < len(b.Cells) {
			y = b.Cells[i]
		}
		if !value.Same(x, y) {
			return true
		}
	}
	return false
}

// advance judges what falls due on the settled row up to an instant.
func (p *player) advance(at time.Time) {
	if p.settled != nil && at.After(p.since) {
		p.take(p.s.Consider(p.settled, Window{Since: p.since, At: at}, false, p.seen))
	}
	p.since = at
}

func (p *player) seen(id rule.ID) bool { return p.judged[id] }

func (p *player) settle(cur *sheet.Row, first, at time.Time) {
	var before value.Value
	if p.settled != nil {
		before = p.s.Anchor(p.settled)
	}
	p.mend(cur, at)
	p.take(p.s.Consider(cur, SettleWindow(p.since, first, at, before, p.s.Anchor(cur)), true, p.seen))
	p.since = at
}

// mend judges what was incomplete again, within its late limit.
func (p *player) mend(row *sheet.Row, at time.Time) {
	late, err := p.s.Rule.LateLimit()
	if err != nil {
		return
	}
	kept := p.waiting[:0]
	for _, w := range p.waiting {
		if at.After(w.Due.Add(late)) {
			continue
		}
		v, done := p.s.Mend(&w.Occasion, row, at)
		if !done {
			kept = append(kept, w)
			continue
		}
		if v.Outcome == Send {
			p.lines = append(p.lines, Line{At: at, Rule: p.s.Rule, Row: row.ID, Occasion: w.Identity(), Verdict: v})
		}
	}
	p.waiting = kept
}

// remove skips what was due and waiting for the row to settle when it was
// deleted.
func (p *player) remove(unsettled bool, first, at time.Time) {
	if !unsettled {
		p.advance(at.Add(-Tick))
	} else if p.settled != nil {
		for _, c := range p.s.Consider(p.settled, Window{Since: p.since, At: at.Add(-Tick)}, true, p.seen) {
			c.Verdict, c.At = Verdict{Outcome: Skip, Reason: "row deleted"}, at
			p.take([]Considered{c})
		}
	}
	p.waiting, p.since = nil, at
}

func (p *player) take(cs []Considered) {
	for _, c := range cs {
		id := c.Identity()
		p.judged[id] = true
		p.lines = append(p.lines, Line{At: c.At, Rule: p.s.Rule, Row: c.Row, Occasion: id, Verdict: c.Verdict})
		if c.Outcome == Incomplete {
			p.waiting = append(p.waiting, c)
		}
	}
}
