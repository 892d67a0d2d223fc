package engine

import (
	"context"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// EffectDays is how far a rule's effect looks ahead.
const EffectDays = 60

// maxFirst is how many emails an effect shows.
const maxFirst = 12

// EffectAsk is what a rule's effect is asked with.
type EffectAsk struct {
	Rule    *rule.Rule
	Against string        // the rule, running now, that it would take the place of; "" for none
	Now     time.Time     // as if it were then; the zero time means now
	Budget  time.Duration // after which what is known by then is the answer; 0 for all rows
}

// Effect is what a rule would write in the coming 60 days.
type Effect struct {
	*plan.Outlook
	From      value.Day // today, in the rule's zone
	All       int       // rows of the sheet
	Partial   bool      // not all rows have been looked at
	Lines     []EffectLine
	Change    *plan.Difference // against the rule as it runs now; nil where it does not
	Changed   []EffectLine
	Overflow  []int      // by day: recipients that the sender's daily cap moves to the next
	Cap       int        // the sender's daily cap, 0 for none
	Sender    string     // its name
	Limit     *OverLimit // nil where there is no limit per person
	Templates map[string]string
}

// EffectLine is one email of an effect.
type EffectLine struct {
	plan.OutlookLine
	plan.Foreseen
	RowName string
}

// surveyor counts some of a sheet's rows, for one goroutine.
type surveyor struct {
	pairs  []*pair
	narrow *sheet.Decoder
	whole  *sheet.Decoder
	turn   func(*sheet.Row) *sheet.Row // the row as it will be; nil for as it is
	seen   int
}

// pair is what a rule will do, and what one that it takes the place of would have
// done. Either may be missing.
type pair struct {
	before, after *plan.Outlook
	change        plan.Difference
}

func (p *pair) look(row, turned *sheet.Row, place int64, whole, wholeTurned func() *sheet.Row) {
	switch {
	case p.before == nil:
		p.after.Look(turned, place, wholeTurned)
	case p.after == nil:
		p.change.Look(p.before.Look(row, place, whole), nil, place, whole, nil)
	default:
		p.change.Look(p.before.Look(row, place, whole), p.after.Look(turned, place, wholeTurned), place, whole, wholeTurned)
	}
}

// saidByRow gives what people have said of a rule's emails, as an outlook takes
// it.
func saidByRow(all map[timelineKey][]plan.Aside, ruleID string) map[string][]plan.Aside {
	by := map[string][]plan.Aside{}
	for k, said := range all {
		switch {
		case k.rule != ruleID:
		case k.row == 0:
			by[""] = said
		default:
			by[store.RowID(k.row)] = said
		}
	}
	return by
}

// heed lets both sides know what people have said of a rule's emails.
func (p *pair) heed(by map[string][]plan.Aside, ruleID string) {
	if len(by) == 0 {
		return
	}
	for _, o := range [2]*plan.Outlook{p.before, p.after} {
		if o != nil {
			o.Asides, o.Rule.ID = by, ruleID
		}
	}
}

func (p *pair) merge(o *pair) {
	p.change.Merge(&o.change)
	if p.before != nil {
		p.before.Merge(o.before)
	}
	if p.after != nil {
		p.after.Merge(o.after)
	}
}

// done ends the counting, once all rows have been looked at.
func (p *pair) done() {
	switch {
	case p.before == nil:
		p.after.Done()
	case p.after == nil:
		p.change.Look(p.before.Done(), nil, 0, nil, nil)
	default:
		p.change.Look(p.before.Done(), p.after.Done(), 0, nil, nil)
	}
}

// changed gives the first emails that are new or no longer go.
func (p *pair) changed(now time.Time) (out []EffectLine) {
	for _, l := range p.change.Lines {
		o := p.after
		if l.Gone {
			o = p.before
		}
		out = append(out, linesOf(o.CompiledRule, []plan.OutlookLine{l}, now)...)
	}
	return out
}

// columns gives the columns of a sheet that counting looks at.
func (s *surveyor) columns(sh *sheet.Sheet) []*sheet.Column {
	out := []*sheet.Column{}
	for _, p := range s.pairs {
		for _, o := range [2]*plan.Outlook{p.before, p.after} {
			if o == nil {
				continue
			}
			for _, c := range o.Columns() {
				if own, ok := sh.Column(c.ID); ok {
					out = append(out, own)
				}
			}
		}
	}
	return out
}

func (s *surveyor) look(c *chunk, cells []value.Value) ([]value.Value, error) {
	for i := range c.ids {
		raw := c.at(i)
		var err error
		if cells, err = s.narrow.DecodeString(raw, cells); err != nil {
			return cells, err
		}
		row := c.row(i, cells)
		whole := func() *sheet.Row {
			all, err := s.whole.DecodeString(raw, nil)
			if err != nil {
				return row
			}
			return c.row(i, all)
		}
		turned, wholeTurned := row, whole
		if s.turn != nil {
			turned, wholeTurned = s.turn(row), func() *sheet.Row { return s.turn(whole()) }
		}
		place := c.first + int64(i)
		for _, p := range s.pairs {
			p.look(row, turned, place, whole, wholeTurned)
		}
	}
	s.seen += len(c.ids)
	return cells, nil
}

// merged puts together what surveyors have counted, in the first of them.
func merged(surveyors []*surveyor) *surveyor {
	first := surveyors[0]
	for _, s := range surveyors[1:] {
		first.seen += s.seen
		for i, p := range first.pairs {
			p.merge(s.pairs[i])
		}
	}
	for _, p := range first.pairs {
		p.done()
	}
	return first
}

// Effect works out what a rule, saved or not, would do from now on.
func (e *Engine) Effect(ctx context.Context, sheetID string, ask EffectAsk) (*Effect, error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	now := ask.Now
	if now.IsZero() {
		now = e.now()
	}
	var running *cachedRule
	if ask.Against != "" {
		if running = sb.rule(ask.Against); running != nil && running.record.State != rule.On {
			running = nil
		}
	}
	surveyors := make([]*surveyor, runtime.GOMAXPROCS(0))
	for i := range surveyors {
		if surveyors[i], err = newSurveyor(b, sb, ask.Rule, running, now); err != nil {
			return nil, err
		}
	}
	asides, err := e.sheetAsides(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	said := saidByRow(asides, ask.Against)
	for _, s := range surveyors {
		s.pairs[0].heed(said, ask.Against)
	}
	limit, err := e.Store.PersonLimit(ctx, false)
	if err != nil {
		return nil, err
	}
	if limit.N > 0 {
		for _, s := range surveyors {
			s.pairs[0].after.Gets = map[string][]time.Time{}
		}
	}
	if err := survey(ctx, e, sb.record, surveyors, deadlineOf(ask.Budget)); err != nil {
		return nil, err
	}
	first := merged(surveyors)
	p := first.pairs[0]
	f := &Effect{Outlook: p.after, From: value.DayAt(now.In(p.after.Zone)), All: int(sb.record.LiveRows),
		Templates: map[string]string{}}
	f.Partial = first.seen < f.All
	f.Lines = linesOf(p.after.CompiledRule, p.after.First, now)
	if running != nil {
		f.Change, f.Changed = &p.change, p.changed(now)
	}
	for id, t := range sb.templates {
		f.Templates[id] = t.Name
	}
	if err := e.touches(ctx, f, limit, ask.Against, now); err != nil {
		return nil, err
	}
	return f, e.overflow(ctx, sb, f, ask, now)
}

// foreseenFor gives when mailboxes are foreseen to get an email in To, over all
// sheets, in time order and without those of one rule.
func (e *Engine) foreseenFor(ctx context.Context, without string) (map[string][]time.Time, error) {
	sheets, err := e.Store.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]time.Time{}
	for _, sh := range sheets {
		f, err := e.Forecast(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for i := range f.Coming {
			c := &f.Coming[i]
			if c.Rule == without || c.Incomplete {
				continue
			}
			for _, k := range c.keys {
				out[k] = append(out[k], c.At)
			}
		}
	}
	for _, at := range out {
		slices.SortFunc(at, time.Time.Compare)
	}
	return out, nil
}

// touches works out whom the limit per person touches: by what the rule will
// send, what the other rules will in the coming four weeks, and what they have had.
func (e *Engine) touches(ctx context.Context, f *Effect, l delivery.PersonLimit, without string, now time.Time) error {
	if l.N == 0 {
		return nil
	}
	had, err := e.Store.AllHad(ctx, l.Since(now))
	if err != nil {
		return err
	}
	others, err := e.foreseenFor(ctx, without)
	if err != nil {
		return err
	}
	f.Limit = &OverLimit{PersonLimit: l}
	for mailbox, gets := range f.Gets {
		slices.SortFunc(gets, time.Time.Compare)
		if n := l.Over(had[mailbox], others[mailbox], gets); n > 0 {
			f.Limit.Emails += n
			f.Limit.People = append(f.Limit.People, mailbox)
		}
	}
	slices.Sort(f.Limit.People)
	return nil
}

// OverLimit is whom the limit per person touches.
type OverLimit struct {
	delivery.PersonLimit
	Emails int      // that do not go when they are due
	People []string // mailboxes
}

func deadlineOf(budget time.Duration) time.Time {
	if budget == 0 {
		return time.Time{}
	}
	return time.Now().Add(budget)
}

func newSurveyor(b *ruleCache, sb *cachedSheet, r *rule.Rule, running *cachedRule, now time.Time) (*surveyor, error) {
	p := &pair{change: plan.Difference{Keep: maxFirst}}
	s := &surveyor{pairs: []*pair{p}, whole: sb.sheet.Decoder()}
	var err error
	if p.after, err = b.outlook(sb, r, now, EffectDays); err != nil {
		return nil, err
	}
	if running != nil {
		if p.before, err = b.outlook(sb, running.compiled.Rule, now, EffectDays); err != nil {
			return nil, err
		}
	}
	s.narrow = sb.sheet.Decoder(s.columns(sb.sheet)...)
	return s, nil
}

// outlook begins an outlook of a rule over so many days, with copies that are its own.
func (b *ruleCache) outlook(sb *cachedSheet, r *rule.Rule, now time.Time, days int) (*plan.Outlook, error) {
	own, err := r.Clone()
	if err != nil {
		return nil, err
	}
	own.ID = r.ID
	templates := map[string]*template.Template{}
	for _, id := range own.Templates() {
		if t, ok := sb.templates[id]; ok {
			if templates[id], err = t.Clone(); err != nil {
				return nil, err
			}
		}
	}
	set, err := plan.Compile(sb.sheet, own, templates, sb.calendar, func(key string) bool { return b.silenced[key] })
	if err != nil {
		return nil, err
	}
	if len(b.silenced) == 0 {
		set.Silenced = nil
	}
	o := plan.NewOutlook(set, now, days)
	o.Keep = maxFirst
	return o, nil
}

// looker looks at the rows of a chunk; cells is memory for it to use again.
type looker interface {
	look(c *chunk, cells []value.Value) ([]value.Value, error)
}

// survey has the surveyors look at all rows of a sheet, side by side; at least
// at the first of them, whatever the deadline, and no further than it.
func survey[S looker](ctx context.Context, e *Engine, rec *store.Sheet, surveyors []S, deadline time.Time) error {
	if rec.LiveRows < chunkRows {
		surveyors = surveyors[:1]
	}
	kept := e.rows(ctx, rec)
	late := func() bool {
		return ctx.Err() != nil || !deadline.IsZero() && !time.Now().Before(deadline)
	}
	stop := context.AfterFunc(ctx, kept.wake)
	defer stop()
	if !deadline.IsZero() {
		t := time.AfterFunc(time.Until(deadline), kept.wake)
		defer t.Stop()
	}
	var next atomic.Int64
	errs := make([]error, len(surveyors))
	var wg sync.WaitGroup
	for w, s := range surveyors {
		wg.Go(func() {
			var cells []value.Value
			for {
				i := int(next.Add(1) - 1)
				if i > 0 && late() {
					return
				}
				c, err := kept.get(i, func() bool { return i > 0 && late() || ctx.Err() != nil })
				if c == nil || err != nil {
					errs[w] = err
					return
				}
				if cells, errs[w] = s.look(c, cells); errs[w] != nil {
					return
				}
			}
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// linesOf judges the lines that are shown, with their subjects and recipients.
func linesOf(set *plan.CompiledRule, lines []plan.OutlookLine, now time.Time) []EffectLine {
	set.Light = true
	out := make([]EffectLine, 0, len(lines))
	for _, l := range lines {
		x := EffectLine{OutlookLine: l, RowName: set.Sheet.RowName(l.Row)}
		x.Foreseen = set.ForeseeOne(l.Row, now, l)
		out = append(out, x)
	}
	return out
}

// overflow works out what the sender's daily cap moves to the next day, with
// what the other rules that are on send through it in the coming four weeks.
func (e *Engine) overflow(ctx context.Context, sb *cachedSheet, f *Effect, ask EffectAsk, now time.Time) error {
	sender, isDefault, err := e.senderOf(ctx, sb.record)
	if err != nil || sender == nil {
		return err
	}
	f.Sender, f.Cap = sender.Name, sender.DailyCap
	if sender.DailyCap == 0 {
		return nil
	}
	others, err := e.foreseenLoad(ctx, sender, isDefault, ask.Against, now)
	if err != nil {
		return err
	}
	used, err := e.usedToday(ctx, sender, isDefault, now)
	if err != nil {
		return err
	}
	f.Overflow = make([]int, len(f.Days))
	carried := used
	for i := range f.Days {
		load := carried + f.Days[i].People
		if i < len(others) {
			load += others[i]
		}
		f.Overflow[i] = max(0, load-sender.DailyCap)
		if i == 0 {
			f.Overflow[0] = max(0, f.Overflow[0]-max(0, used-sender.DailyCap)) // what has gone has gone
		}
		carried = f.Overflow[i]
	}
	return nil
}

// senderOf gives the sender of a sheet, its own or the default one; nil where
// there is none at all.
func (e *Engine) senderOf(ctx context.Context, rec *store.Sheet) (sender *store.Sender, isDefault bool, err error) {
	senders, err := e.Store.Senders(ctx)
	if err != nil || len(senders) == 0 {
		return nil, false, err
	}
	for i := range senders {
		if senders[i].ID == rec.SenderID {
			return &senders[i], i == 0, nil
		}
	}
	return &senders[0], true, nil
}

// usedToday gives how many recipients a sender has reached since its midnight.
func (e *Engine) usedToday(ctx context.Context, sender *store.Sender, isDefault bool, now time.Time) (int, error) {
	zone := zoneOf(sender)
	ids := []string{sender.ID}
	if isDefault {
		ids = append(ids, "")
	}
	used, _, err := e.Store.SentBy(ctx, ids, []int64{0}, calendar.Resolve(value.Wall{Day: value.DayAt(now.In(zone))},
		zone), now)
	return used, err
}

func zoneOf(sender *store.Sender) *time.Location {
	zone, err := time.LoadLocation(sender.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

// foreseenLoad gives how many recipients a sender is foreseen to reach on each
// of the coming days, in its zone, without those of one rule.
func (e *Engine) foreseenLoad(ctx context.Context, sender *store.Sender, isDefault bool, without string,
	now time.Time) (days []int, err error) {
	zone := zoneOf(sender)
	today := value.DayAt(now.In(zone))
	days = make([]int, int(ForecastSpan/(24*time.Hour)))
	sheets, err := e.Store.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	for _, sh := range sheets {
		if sh.SenderID != sender.ID && (sh.SenderID != "" || !isDefault) {
			continue
		}
		f, err := e.Forecast(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for i := range f.Coming {
			c := &f.Coming[i]
			if d := int(value.DayAt(c.At.In(zone)) - today); d >= 0 && d < len(days) && c.Rule != without && !c.Incomplete {
				days[d] += len(c.To)
			}
		}
	}
	return days, nil
}

// ForeseenEmail gives one foreseen email of a rule, saved or not, whole: the one
// that is due at an instant to a row, or, of a round-up, to a recipient.
func (e *Engine) ForeseenEmail(ctx context.Context, sheetID string, ask EffectAsk, rowID int64, at time.Time, step int,
	to string) (*plan.Foreseen, error) {
	set, err := e.CompiledRule(ctx, sheetID, ask.Rule)
	if err != nil {
		return nil, err
	}
	now := ask.Now
	if now.IsZero() {
		now = e.now()
	}
	if set.IsRoundUp() {
		return e.foreseenRoundUp(ctx, sheetID, set, at, to)
	}
	rec, err := e.Store.Row(ctx, rowID)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != sheetID || rec.DeletedAt != nil {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(set.Sheet)
	if err != nil {
		return nil, err
	}
	for _, f := range set.Foresee(row, now, now, at) {
		if f.Due.Equal(at) && f.Step == step && (to == "" || f.Mailbox == to) {
			return &f, nil
		}
	}
	return nil, store.ErrNotFound
}

func (e *Engine) foreseenRoundUp(ctx context.Context, sheetID string, set *plan.CompiledRule, at time.Time,
	to string) (*plan.Foreseen, error) {
	rounds := set.Rounds(at.Add(-plan.Tick), at)
	if len(rounds) == 0 {
		return nil, store.ErrNotFound
	}
	var rows []*sheet.Row
	err := e.Store.ScanRows(ctx, sheetID, func(rec *store.Row) error {
		row, err := rec.Core(set.Sheet)
		if err == nil && set.MayApply(row, at, plan.Memory{}) {
			rows = append(rows, row)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	ups, _ := set.RoundUps(rounds[0], rows, at, func(*sheet.Row) plan.Memory { return plan.Memory{} })
	for _, u := range ups {
		if u.Mailbox == to {
			return &plan.Foreseen{Occasion: u.Occasion, Decision: u.Decision}, nil
		}
	}
	return nil, store.ErrNotFound
}

// SenderLoad is what a sender has reached today, and is foreseen to reach.
type SenderLoad struct {
	Used, Cap int
	Today     value.Day // in the sender's zone
	Days      []int     // recipients foreseen, by day from today on
	Over      []int     // of each, those that the daily cap moves to the next
	Sheets    []store.Sheet
}

// LoadOf works out a sender's load.
func (e *Engine) LoadOf(ctx context.Context, id string) (*SenderLoad, error) {
	senders, err := e.Store.Senders(ctx)
	if err != nil {
		return nil, err
	}
	now := e.now()
	for i := range senders {
		if senders[i].ID != id {
			continue
		}
		l := &SenderLoad{Cap: senders[i].DailyCap, Today: value.DayAt(now.In(zoneOf(&senders[i])))}
		if l.Used, err = e.usedToday(ctx, &senders[i], i == 0, now); err != nil {
			return nil, err
		}
		if l.Days, err = e.foreseenLoad(ctx, &senders[i], i == 0, "", now); err != nil {
			return nil, err
		}
		l.Over = make([]int, len(l.Days))
		carried := l.Used
		for d, n := range l.Days {
			if l.Cap > 0 {
				l.Over[d] = max(0, carried+n-l.Cap)
			}
			carried = l.Over[d]
		}
		sheets, err := e.Store.Sheets(ctx)
		if err != nil {
			return nil, err
		}
		for _, sh := range sheets {
			if sh.SenderID == id || sh.SenderID == "" && i == 0 {
				l.Sheets = append(l.Sheets, sh)
			}
		}
		return l, nil
	}
	return nil, store.ErrNotFound
}
