package plan

import (
	"container/heap"
	"slices"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
)

// replays has what the clause "same words" takes in a rehearsal. What one row's email says is known only when
// all that comes before it has been put in order; and where it is skipped, what its rule does with the row
// later may change. Such a row is played again by that rule, with what has been found out, and what was played
// before is stale from then on.
type replays struct {
	heard   *Heard            // nil where no rule asks
	courses map[int64]*Course // of the rows that may be played again, by their order
	played  map[rowRule]*replay
	ahead   aheadLines // of rows that have been played again
}

// rowRule is one row by one rule.
type rowRule struct {
	order int64
	rule  int
}

// replay is a row that has been played again by a rule.
type replay struct {
	times int
	same  map[rule.ID]reason.Reason // its emails that are skipped
}

// keep keeps what happens to a row, where it may be played again.
func (f *Merge) keep(c *Course) {
	if f.heard == nil || !slices.ContainsFunc(f.r.Settings, (*CompiledRule).learnsOfSame) {
		return
	}
	if f.courses == nil {
		f.courses, f.played = map[int64]*Course{}, map[rowRule]*replay{}
	}
	f.courses[c.order] = c
}

// learnsOfSame reports whether a skip for the same words bears on other emails of the rule to the row.
func (s *CompiledRule) learnsOfSame() bool {
	return s.Rule.SameWords == rule.SkipSame && s.Rule.LearnsOf()
}

// next returns the next line in order: l, or one of a row that has been played again.
func (f *Merge) next(l *Line) *Line {
	if len(f.ahead) > 0 && (l == nil || Compare(f.ahead[0], l) < 0) {
		return f.ahead[0]
	}
	return l
}

// stale reports whether a line's row has been played again since.
func (f *Merge) stale(l *Line) bool {
	p := f.played[rowRule{l.Order, l.Rule}]
	return p != nil && p.times != l.Play
}

// sameWords skips each line of one instant whose email says what an earlier one says.
func (f *Merge) sameWords(lines []Line) []Line {
	if f.heard == nil || len(lines) == 0 {
		return lines
	}
	at := lines[0].At
	f.heard.Forget(at)
	out := make([]Line, 0, len(lines))
	for len(lines) > 0 {
		l := lines[0]
		lines = lines[1:]
		if l.Outcome != Send && l.Outcome != Hold {
			out = append(out, l)
			continue
		}
		s := f.r.Settings[l.Rule]
		said := Said{Words: l.Words, At: l.At, Rule: s.Rule.ID, Row: l.Row, Occasion: l.Occasion, RuleName: s.Rule.Name,
			RowName: l.Row}
		other := f.heard.Before(&said)
		if s.Rule.SameWords != rule.SkipSame || other == nil {
			f.heard.Add(said)
			out = append(out, l)
			continue
		}
		why := other.Skips(f.r.Settings[f.ruleOf(other)].Zone)
		if s.learnsOfSame() && l.Rows == nil {
			n := 0
			for n < len(lines) && lines[n].Order == l.Order && lines[n].Rule == l.Rule && lines[n].Rows == nil {
				n++
			}
			lines = slices.Concat(f.replay(&l, why), lines[n:])
		}
		if !l.Again { // an incomplete one has its line already
			l.Outcome, l.Reason, l.Template, l.To, l.Cc, l.Subject = Skip, why.Words(), "", nil, nil, ""
			out = append(out, l)
		}
	}
	return out
}

// ruleOf returns the index of an email's rule.
func (f *Merge) ruleOf(s *Said) int {
	return slices.IndexFunc(f.r.Settings, func(x *CompiledRule) bool { return x.Rule.ID == s.Rule })
}

// replay plays a line's row by its rule again, with the line's email skipped. It returns the new lines that come
// after the line at its instant; later ones are ahead.
func (f *Merge) replay(l *Line, why reason.Reason) (now []Line) {
	k := rowRule{l.Order, l.Rule}
	p := f.played[k]
	if p == nil {
		p = &replay{same: map[rule.ID]reason.Reason{}}
		f.played[k] = p
	}
	p.times++
	p.same[l.Occasion] = why
	player := newPlayer(f.r.Settings[l.Rule], f.courses[l.Order], l.Rule, f.r.From)
	player.compares, player.Same = true, p.same
	player.play(f.r.To)
	lines := player.lines
	slices.SortStableFunc(lines, Compare)
	for _, x := range lines {
		x.Play = p.times
		behind := Compare(x, l)
		switch {
		case x.At.After(l.At):
			heap.Push(&f.ahead, x)
		case x.Occasion == l.Occasion:
		case behind > 0, behind == 0 && l.Again: // without that line the next ones move up
			now = append(now, *x)
		}
	}
	return now
}

// aheadLines is a heap of lines, the first in order on top.
type aheadLines []*Line

func (a aheadLines) Len() int           { return len(a) }
func (a aheadLines) Less(i, j int) bool { return Compare(a[i], a[j]) < 0 }
func (a aheadLines) Swap(i, j int)      { a[i], a[j] = a[j], a[i] }
func (a *aheadLines) Push(x any)        { *a = append(*a, x.(*Line)) }
func (a *aheadLines) Pop() any {
	old := *a
	x := old[len(old)-1]
	*a = old[:len(old)-1]
	return x
}
