package engine

import (
	"context"
	"maps"
	"runtime"
	"slices"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/store"
)

// A turn is a change of what rules rest on, not of the rules and not of the
// rows: of a sheet's columns, its zone, its working calendar, a letter. What it
// makes of the emails foreseen is told before it is made.

// turn is a sheet as it is and as it would be.
type turn struct {
	b      *ruleCache
	is, to *cachedSheet
	row    func(*sheet.Row) *sheet.Row // its cells as they would be read; nil for as they are
}

func (e *Engine) newTurn(ctx context.Context, b *ruleCache, sheetID string) (*turn, error) {
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	to := *sb
	to.templates = maps.Clone(sb.templates)
	return &turn{b: b, is: sb, to: &to}, nil
}

// running gives the rules of the sheet that are on, of those that fit.
func (t *turn) running(fits func(*rule.Rule) bool) (out []*cachedRule) {
	for _, rb := range t.is.rules {
		if rb.record.State == rule.On && fits(rb.compiled.Rule) {
			out = append(out, rb)
		}
	}
	return out
}

// surveyed looks at the sheet's rows with some rules as they run and as they
// would; what is known after the budget is the answer. It is nil where there is
// no rule.
func (e *Engine) surveyed(ctx context.Context, t *turn, rules []*cachedRule, budget time.Duration) (*surveyor, error) {
	if len(rules) == 0 {
		return nil, nil
	}
	asides, err := e.sheetAsides(ctx, t.is.record.ID)
	if err != nil {
		return nil, err
	}
	said := make([]map[string][]plan.Aside, len(rules))
	for k, rb := range rules {
		said[k] = saidByRow(asides, rb.record.ID)
	}
	surveyors := make([]*surveyor, runtime.GOMAXPROCS(0))
	for i := range surveyors {
		if surveyors[i], err = t.surveyor(rules, e.now()); err != nil {
			return nil, err
		}
		for k, p := range surveyors[i].pairs {
			p.heed(said[k], rules[k].record.ID)
		}
	}
	if err := survey(ctx, e, t.is.record, surveyors, deadlineOf(budget)); err != nil {
		return nil, err
	}
	return merged(surveyors), nil
}

// consequences works out what the turn makes of the rules that are on, in the
// coming 60 days.
func (e *Engine) consequences(ctx context.Context, t *turn, budget time.Duration) (*Consequences, error) {
	rules := t.running(func(*rule.Rule) bool { return true })
	out := &Consequences{Rows: int(t.is.record.LiveRows)}
	first, err := e.surveyed(ctx, t, rules, budget)
	if err != nil {
		return nil, err
	}
	if first == nil {
		out.Looked = out.Rows
		return out, nil
	}
	out.Looked = first.seen
	for i, p := range first.pairs {
		if p.change.New+p.change.Gone == 0 {
			continue
		}
		r := rules[i].record
		out.Rules = append(out.Rules, RuleConsequence{ID: r.ID, Letter: r.Letter, Name: r.Name, New: p.change.New,
			Gone: p.change.Gone})
		out.Coming = append(out.Coming, p.changed(e.now())...)
	}
	slices.SortStableFunc(out.Coming, func(a, b EffectLine) int { return a.OutlookLine.Due.Compare(b.OutlookLine.Due) })
	out.Coming = out.Coming[:min(len(out.Coming), maxFirst)]
	return out, nil
}

// surveyor makes a surveyor of some rules as they run and as they would. One that
// could not do its work any more is paused by the turn: all of its emails fall
// away.
func (t *turn) surveyor(rules []*cachedRule, now time.Time) (*surveyor, error) {
	s := &surveyor{whole: t.is.sheet.Decoder(), turn: t.row}
	// By which calendar a window opens is no matter here: one that never opens moves nothing.
	scope := rule.SheetScope{Sheet: t.to.sheet, Templates: map[string]bool{}}
	for id := range t.to.templates {
		scope.Templates[id] = true
	}
	for _, rb := range rules {
		p := &pair{change: plan.Difference{Keep: maxFirst}}
		var err error
		if p.before, err = t.b.outlook(t.is, rb.compiled.Rule, now, EffectDays); err != nil {
			return nil, err
		}
		if rb.compiled.Rule.Validate(scope) == nil {
			if p.after, err = t.b.outlook(t.to, rb.compiled.Rule, now, EffectDays); err != nil {
				return nil, err
			}
		}
		s.pairs = append(s.pairs, p)
	}
	s.narrow = t.is.sheet.Decoder(s.columns(t.is.sheet)...)
	return s, nil
}

// ColumnsConsequences works out what a change of columns would make of the emails
// foreseen.
func (e *Engine) ColumnsConsequences(ctx context.Context, sheetID string, c ColumnsChange,
	budget time.Duration) (*Consequences, error) {
	t, err := e.newTurn(ctx, newRuleCache(e.Store), sheetID)
	if err != nil {
		return nil, err
	}
	c.Seen = ""
	rec := *t.is.record
	p, err := planColumns(&rec, c)
	if err != nil {
		return nil, err
	}
	t.to.sheet, t.to.record = p.new, &rec
	if len(p.converted) > 0 {
		t.row = func(r *sheet.Row) *sheet.Row {
			if r == nil {
				return nil
			}
			out := *r
			out.Cells, _ = p.convert(slices.Clone(r.Cells))
			return &out
		}
	}
	return e.consequences(ctx, t, budget)
}

// SheetConsequences works out what another zone or working calendar of a sheet
// would make of the emails foreseen.
func (e *Engine) SheetConsequences(ctx context.Context, sheetID string, c SheetChange,
	budget time.Duration) (*Consequences, error) {
	t, err := e.newTurn(ctx, newRuleCache(e.Store), sheetID)
	if err != nil {
		return nil, err
	}
	if c.Zone != nil {
		rec := *t.is.record
		rec.Zone = *c.Zone
		if t.to.sheet, err = rec.Core(); err != nil {
			return nil, &Refusal{Field: "/zone", Message: err.Error()}
		}
		t.to.record = &rec
	}
	if c.Calendar != nil {
		cal, err := e.Store.Calendar(ctx, *c.Calendar)
		if err != nil {
			return nil, err
		}
		if t.to.calendar, err = cal.Core(); err != nil {
			return nil, err
		}
	}
	return e.consequences(ctx, t, budget)
}

// LetterConsequence is what a letter's wording means for one rule that is on, in
// the coming 60 days.
type LetterConsequence struct {
	ID, Letter, Name   string
	Emails             int // that say it
	Incomplete, Before int // of the rule's: that could not go, and cannot as the letter is now
	Partial            bool
}

// TemplateConsequences works out which of the emails foreseen would be in another
// wording of a letter, and which could not go.
func (e *Engine) TemplateConsequences(ctx context.Context, sheetID, id string, to *template.Template,
	budget time.Duration) ([]LetterConsequence, error) {
	t, err := e.newTurn(ctx, newRuleCache(e.Store), sheetID)
	if err != nil {
		return nil, err
	}
	if t.is.templates[id] == nil {
		return nil, store.ErrNotFound
	}
	rests, err := RestsOn(ctx, e.Store, t.is.record)
	if err != nil {
		return nil, err
	}
	to.Use(rests)
	if err := to.Validate(t.is.sheet); err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	t.to.templates[id] = to
	rules := t.running(func(r *rule.Rule) bool { return slices.Contains(r.Templates(), id) })
	first, err := e.surveyed(ctx, t, rules, budget)
	if first == nil || err != nil {
		return nil, err
	}
	var out []LetterConsequence
	for i, p := range first.pairs {
		if p.after == nil {
			continue
		}
		r := rules[i].record
		c := LetterConsequence{ID: r.ID, Letter: r.Letter, Name: r.Name, Incomplete: p.after.Incomplete,
			Before: p.before.Incomplete, Partial: first.seen < int(t.is.record.LiveRows)}
		for _, d := range p.after.Days {
			for w, n := range d.Emails {
				if w.Template == id {
					c.Emails += n
				}
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// SheetTurned is what a change makes of one sheet's emails.
type SheetTurned struct {
	Sheet *store.Sheet
	*Consequences
}

// CalendarConsequences works out what other days of a working calendar would make
// of the emails foreseen, for every sheet that has it and in which it makes
// anything of them. The sheets share the budget.
func (e *Engine) CalendarConsequences(ctx context.Context, id string, to calendar.Calendar,
	budget time.Duration) ([]SheetTurned, error) {
	sheets, err := e.Store.SheetsOfCalendar(ctx, id)
	if err != nil {
		return nil, err
	}
	b := newRuleCache(e.Store)
	var out []SheetTurned
	for i := range sheets {
		t, err := e.newTurn(ctx, b, sheets[i].ID)
		if err != nil {
			return nil, err
		}
		t.to.calendar = to
		c, err := e.consequences(ctx, t, budget/time.Duration(len(sheets)))
		if err != nil {
			return nil, err
		}
		if len(c.Rules) > 0 {
			out = append(out, SheetTurned{&sheets[i], c})
		}
	}
	return out, nil
}
