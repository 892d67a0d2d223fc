// Package plan works out what goes out, and when: it judges occasions, says
// when each row must be considered next, explains, and rehearses. The running
// server and the rehearsal decide with the same functions.
package plan

import (
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/formula"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Tick is the smallest step of time that the ledger keeps: bounds that
// exclude an instant lie one tick beside it.
const Tick = time.Microsecond

// CompiledRule is all that a rule's rows are judged with, made ready for many rows.
// It is for one goroutine.
type CompiledRule struct {
	Sheet     *sheet.Sheet
	Rule      *rule.Rule
	Templates map[string]*template.Template
	Calendar  calendar.Calendar
	Silenced  func(mailboxKey string) bool // the do-not-email list; nil is an empty one
	Light     bool                         // letters are not written, only subjects and what is missing

	Zone    *time.Location // the rule's
	timing  rule.Timing
	rounds  *calendar.Recurrence // schedule
	late    calendar.Duration
	apart   calendar.Duration // repeat: not more often than
	delay   calendar.Duration // of a reaction; nothing for none
	watches []string          // columns whose changes conditions look back at
	moving  bool              // a reaction to a column that changes by itself
}

// Compile makes a rule ready. The rule must have been validated against the
// sheet; it and the templates are then the setting's own.
func Compile(s *sheet.Sheet, r *rule.Rule, templates map[string]*template.Template, c calendar.Calendar,
	silenced func(string) bool) (*CompiledRule, error) {
	x := &CompiledRule{Sheet: s, Rule: r, Templates: templates, Calendar: c, Silenced: silenced, Zone: r.Location(s.Zone)}
	var err error
	if x.timing, err = r.Timing(rule.Env{Zone: x.Zone, SheetZone: s.Zone, Calendar: c}); err != nil {
		return nil, err
	}
	if x.late, err = r.LateLimit(); err != nil {
		return nil, err
	}
	if r.Trigger.Kind == rule.Schedule {
		if x.rounds, err = r.Trigger.Recurrence(x.Zone); err != nil {
			return nil, err
		}
	}
	if r.Repeat != nil && r.Repeat.Apart != "" {
		if x.apart, err = calendar.ParseDuration(r.Repeat.Apart); err != nil {
			return nil, err
		}
	}
	if r.Trigger.Delay != "" {
		if x.delay, err = calendar.ParseDuration(r.Trigger.Delay); err != nil {
			return nil, err
		}
	}
	x.prepareConditions()
	x.moving = x.moves()
	return x, nil
}

// Twin gives the same rule for another goroutine: its schedule keeps what it has
// worked out, and is made anew. All else is only read; letters must have been
// prepared for the sheet (template.Prepare).
func (s *CompiledRule) Twin() (*CompiledRule, error) {
	twin := *s
	if s.rounds == nil {
		return &twin, nil
	}
	var err error
	twin.rounds, err = s.Rule.Trigger.Recurrence(s.Zone)
	return &twin, err
}

func (s *CompiledRule) prepareConditions() {
	conds := []*rule.Condition{s.Rule.Condition}
	for i := range s.Rule.Send {
		conds = append(conds, s.Rule.Send[i].If)
	}
	if s.Rule.Then != nil {
		conds = append(conds, s.Rule.Then.StopIf)
	}
	seen := map[string]bool{}
	for _, c := range conds {
		c.Prepare(s.Sheet)
		for _, id := range c.Watches() {
			if !seen[id] {
				seen[id] = true
				s.watches = append(s.watches, id)
			}
		}
	}
}

func (s *CompiledRule) moves() bool {
	ids := []string{s.Rule.Trigger.Column}
	for _, l := range []*rule.Level{s.Rule.Trigger.Limit, s.Rule.Trigger.Rearm} {
		if l != nil {
			ids = append(ids, l.Column)
		}
	}
	for _, id := range ids {
		if c, ok := s.Sheet.Column(id); ok && c.Moving() != formula.Still {
			return s.Rule.Trigger.Kind.Reaction()
		}
	}
	return false
}

// Late gives the instant after which an email due at an instant is missed.
func (s *CompiledRule) Late(due time.Time) time.Time { return s.late.After(due, s.Zone) }

// TooLate reports whether an email that waits in the queue must not go any more at an instant. It was decided
// at one instant and queued at another: for as long as it was held in between, its late limit stood still. What
// was queued in spite of being late, as a person decided, is never too late.
func (s *CompiledRule) TooLate(due, decided, queued, now time.Time) bool {
	until := s.Late(due).Add(queued.Sub(decided))
	return !queued.After(until) && now.After(until)
}

// Anchor is the cell that the rule's dates hang on.
func (s *CompiledRule) Anchor(row *sheet.Row) value.Value {
	c, ok := s.Sheet.Column(s.Rule.Trigger.Column)
	if !ok || row == nil {
		return value.Value{}
	}
	if c.Type == value.Formula { // not a moving one: any instant will do
		row = s.Sheet.Compute(row, time.Unix(0, 0), s.Calendar)
	}
	return row.Cell(c)
}

// Stands tells whether the date that an occasion hangs on is still the row's.
// Occasions of other kinds always stand.
func (s *CompiledRule) Stands(o *rule.Occasion, row *sheet.Row) bool {
	if o.AnchorText == "" {
		return true
	}
	a := s.Anchor(row)
	return a.IsFilled() && a.Wall == o.Anchor
}

// Dates gives a row's occasions by a date rule, and by a schedule one for each
// instant, that fall due after from and not after to. known is since when the
// row's date has been known.
func (s *CompiledRule) Dates(row *sheet.Row, known, from, to time.Time, judged func(*rule.Occasion) bool) []rule.Occasion {
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		return s.Rule.Due(row.ID, s.Anchor(row), &s.timing, known, from, to, judged)
	case rule.Schedule:
		var out []rule.Occasion
		for _, o := range s.Rounds(from, to) {
			o.Row = row.ID
			out = append(out, o)
		}
		return out
	}
	return nil
}

// Rounds gives the times a schedule comes round, after any move, after from
// and not after to, as occasions without a row.
func (s *CompiledRule) Rounds(from, to time.Time) []rule.Occasion {
	if s.rounds == nil {
		return nil
	}
	slack := time.Duration(s.timing.Window.Slack(s.Calendar)) * 24 * time.Hour
	var out []rule.Occasion
	for _, at := range s.rounds.Between(from.Add(-slack), to.Add(slack)) {
		due := s.timing.Move(at)
		if !due.After(from) || due.After(to) {
			continue
		}
		o := rule.Occasion{Kind: rule.Schedule, Rule: s.Rule.ID, Instant: at.UTC().Format(time.RFC3339), Due: due}
		if !at.Equal(due) {
			o.Unmoved = at
		}
		out = append(out, o)
	}
	return out
}

// NextRound gives when a schedule comes round next after from, or the zero
// time.
func (s *CompiledRule) NextRound(from time.Time) time.Time {
	if s.rounds == nil {
		return time.Time{}
	}
	if s.timing.Window == nil {
		return s.rounds.Next(from)
	}
	slack := time.Duration(s.timing.Window.Slack(s.Calendar)) * 24 * time.Hour
	var best time.Time
	for at := from.Add(-slack); ; {
		at = s.rounds.Next(at)
		if at.IsZero() || !best.IsZero() && at.After(best.Add(slack)) {
			return best
		}
		if due := s.timing.Move(at); due.After(from) && (best.IsZero() || due.Before(best)) {
			best = due
		}
	}
}

// Next gives the next instant after from at which a rule must look at a row by
// itself: a date falls due, or a moving column can have turned. The zero time
// means never. Schedules look at all rows at once (NextRound).
func (s *CompiledRule) Next(row *sheet.Row, known, from time.Time) time.Time {
	switch {
	case s.Rule.Trigger.Kind == rule.Date:
		return s.Rule.Next(s.Anchor(row), &s.timing, known, from)
	case s.moving:
		return s.Rule.NextLook(s.Sheet, from, func(at time.Time) *sheet.Row { return s.Sheet.Compute(row, at, s.Calendar) })
	}
	return time.Time{}
}

// NextReads gives the columns whose cells are all that Next reads of a row; nil for all.
func (s *CompiledRule) NextReads() []*sheet.Column {
	c, ok := s.Sheet.Column(s.Rule.Trigger.Column)
	if s.Rule.Trigger.Kind != rule.Date || !ok || c.Type == value.Formula || c.Derived() {
		return nil
	}
	return []*sheet.Column{c}
}

// Settle tells what a settling row makes of a reaction: an occasion, due now
// or moved by the window; and brings the row state up to date. before is the
// row as it last settled, nil for one that has been added.
func (s *CompiledRule) Settle(before, after *sheet.Row, at time.Time, st *rule.RowState) (o rule.Occasion, ok bool) {
	if !s.Rule.Trigger.Kind.Reaction() && len(s.watches) == 0 {
		return o, false
	}
	looked := at
	if !st.Looked.IsZero() {
		looked = st.Looked
	}
	x := rule.Settled{Sheet: s.Sheet, After: s.Sheet.Compute(after, at, s.Calendar), At: at}
	if before != nil {
		x.Before = s.Sheet.Compute(before, looked, s.Calendar)
	}
	rule.Watch(s.watches, x, st)
	if s.moving {
		st.Looked = at
	}
	if !s.Rule.Trigger.Kind.Reaction() {
		return o, false
	}
	if o, ok = s.Rule.React(x, st); !ok {
		return o, false
	}
	waits := at
	if s.delay != (calendar.Duration{}) {
		waits = s.delay.After(at, s.Zone)
	}
	o.Due = waits
	if due := s.timing.Move(waits); !due.Equal(waits) {
		o.Due, o.Unmoved = due, waits
	}
	if o.Due.Before(at) { // moved to before it was known
		o.Due, o.Unmoved = at, time.Time{}
	}
	return o, true
}

// Remembers tells whether the rule keeps a state of its rows.
func (s *CompiledRule) Remembers() bool { return s.Rule.Trigger.Kind.Reaction() || len(s.watches) > 0 }

// Moving tells whether the rule reacts to a column that changes by itself.
func (s *CompiledRule) Moving() bool { return s.moving }
