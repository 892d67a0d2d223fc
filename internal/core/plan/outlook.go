package plan

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/formula"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Outlook counts what a rule will write to the rows of a sheet between two
// instants if they stay as they are: the same emails that Foresee gives, by the
// same order of judging, without making them. What does not depend on the time
// is judged once a row, and what a date comes to once a date.
//
// It is for one goroutine; several are put together by Merge.
type Outlook struct {
	*CompiledRule
	Now   time.Time // the rows' dates are known since then
	Until time.Time // the last instant that counts

	Rows  int // rows for which the condition holds now
	Total int // rows in all
	// rows that the rule cannot judge as they are: an unreadable or empty date, an unreadable cell, no address
	Unjudged   int
	Faulty     []FaultyRow         // the first of these, in the order of the rows
	Past       int                 // due times past, and states and limits that rows stand in
	Emails     int                 // to go, what is incomplete among them
	Incomplete int                 // of these, for want of something
	Held       int                 // of these, until somebody has reviewed it
	Moved      int                 // of these, by the send window
	Skipped    map[reason.Code]int // what is not to go, by reason
	Days       []OutlookDay        // the days of the rule's zone, from now on
	First      []OutlookLine       // the first of what goes, in time order
	Keep       int                 // how many of them are kept

	Gets map[string][]time.Time // where made: when each mailbox gets an email in To
	// Asides is what people have said of rows' emails, by row; under "" of round-ups.
	Asides map[string][]Aside

	midnight value.Day // of now, in the rule's zone
	still    bool      // no decision depends on the time
	computes bool      // a formula is looked at
	seed     map[value.Wall]dated
	rounds   []rule.Occasion
	steps    map[stepKey]time.Time
	boxes    map[string][]string // mailbox keys of a cell's text
	own      map[string]sketch   // of one row, by the offset's own wording
	groups   []map[string]*group // of round-ups: by round and recipient
	events   []event
	alike    []alike // emails that are compared with others, until all have been looked at
}

// group is one recipient's round-up while its rows are gathered.
type group struct {
	rows    int
	row     *sheet.Row // the first
	place   int64
	outside string
	bad     bool // something is missing, or not the same for all rows
	silent  bool
	who     map[string]bool
}

// OutlookDay is a day's emails by wording, and their recipients.
type OutlookDay struct {
	Emails map[Wording]int
	People int
}

// Wording is a template, and the follow-up that it is sent as, 0 for the first
// email.
type Wording struct {
	Template string
	Step     int
}

// OutlookLine is one email that is foreseen.
type OutlookLine struct {
	Row     *sheet.Row // of a round-up the first of its rows
	Rows    int        // of a round-up: how many
	Place   int64      // the row's among all
	Due     time.Time
	Step    int
	Outcome Outcome
	Code    reason.Code // why it does not go
	Wording string
	Who     string // the keys of its recipients
	Emails  int    // with each, one for every address
	Gone    bool   // of a difference: it no longer goes
}

// FaultyRow is a row that a rule cannot judge.
type FaultyRow struct {
	Row    *sheet.Row
	Place  int64 // the row's among all
	Column string
}

// maxFaulty is how many rows that cannot be judged are kept.
const maxFaulty = 100

// sketch is as much of a decision as counting takes.
type sketch struct {
	outcome Outcome
	code    reason.Code
	early   bool // decided before repetition is looked at
	wording string
	emails  int
	people  int
	who     string
	to      int // how many of who are in To: the first
	rows    int // of a round-up
}

// event is an email, or what became of it, at an instant.
type event struct {
	sketch
	due   time.Time
	base  time.Time // when the first email is due; its own instant for a first email
	step  int
	moved bool
	group *group // of a round-up
}

type stepKey struct {
	step, again int
	base        int64 // nanoseconds
}

// dated is what a date comes to.
type dated struct {
	coming []rule.Occasion
	past   int
}

// keptBoxes bounds how many cells' mailboxes are remembered.
const keptBoxes = 200_000

// NewOutlook begins an outlook over so many days from now on. The setting is
// the outlook's own.
func NewOutlook(s *CompiledRule, now time.Time, days int) *Outlook {
	day := value.DayAt(now.In(s.Zone))
	o := &Outlook{CompiledRule: s, Now: now, Until: midnightOf(day+value.Day(days), s.Zone).Add(-Tick),
		Skipped: map[reason.Code]int{}, Days: make([]OutlookDay, days),
		Keep: 10, midnight: day, seed: map[value.Wall]dated{}, steps: map[stepKey]time.Time{}, boxes: map[string][]string{},
		own: map[string]sketch{}}
	o.still = o.isStill()
	o.rounds = s.Rounds(now, o.Until)
	if len(o.rounds) > maxForeseen {
		o.rounds = o.rounds[:maxForeseen]
	}
	for _, c := range o.Columns() {
		o.computes = o.computes || c.Type == value.Formula
	}
	return o
}

func midnightOf(d value.Day, loc *time.Location) time.Time {
	y, m, day := d.Date()
	return time.Date(y, m, day, 0, 0, 0, 0, loc)
}

// Columns gives the columns that counting looks at, those of their formulas too.
func (o *Outlook) Columns() []*sheet.Column {
	seen := map[string]bool{}
	var out []*sheet.Column
	var add func(id string)
	add = func(id string) {
		c, ok := o.Sheet.Column(id)
		if id == "" || !ok || seen[id] {
			return
		}
		seen[id] = true
		out = append(out, c)
		if p := c.Program(); p != nil { // all formulas are worked out together
			for _, f := range o.Sheet.Formulas() {
				for _, in := range f.Program().Columns {
					add(in)
				}
			}
		}
	}
	r := o.Rule
	add(r.Trigger.Column)
	for _, id := range r.Trigger.Columns {
		add(id)
	}
	for _, l := range []*rule.Level{r.Trigger.Limit, r.Trigger.Rearm} {
		if l != nil {
			add(l.Column)
		}
	}
	for _, c := range o.conditions() {
		for _, id := range c.Columns() {
			add(id)
		}
	}
	for _, list := range o.addressLists() {
		for _, a := range list {
			add(a.Column)
		}
	}
	for _, id := range r.Templates() {
		if t := o.Templates[id]; t != nil {
			for _, id := range t.Columns() {
				add(id)
			}
		}
	}
	return out
}

func (o *Outlook) conditions() []*rule.Condition {
	r := o.Rule
	out := []*rule.Condition{r.Condition}
	for i := range r.Send {
		out = append(out, r.Send[i].If)
	}
	if r.Then != nil {
		out = append(out, r.Then.StopIf)
	}
	return slices.DeleteFunc(out, func(c *rule.Condition) bool { return c == nil })
}

func (o *Outlook) addressLists() [][]rule.Address {
	r := o.Rule
	out := [][]rule.Address{r.To, r.Cc, r.Bcc}
	if r.Then != nil {
		for _, s := range r.Then.Steps {
			out = append(out, s.To, s.Cc, s.Bcc)
		}
	}
	return out
}

// isStill reports whether no decision depends on the time: nothing that is looked
// at moves with it, and nothing looks back.
func (o *Outlook) isStill() bool {
	for _, c := range o.Columns() {
		if c.Moving() != formula.Still {
			return false
		}
	}
	for _, c := range o.conditions() {
		if c.LooksAtTime() {
			return false
		}
	}
	for _, id := range o.Rule.Templates() {
		if t := o.Templates[id]; t != nil && t.LooksAtTime() {
			return false
		}
	}
	return true
}

// Look counts what comes of a row, and gives it until the next row is looked at.
// place is the row's among all rows; whole gives it with all its cells, and is
// asked for only where the row is kept among the first.
func (o *Outlook) Look(row *sheet.Row, place int64, whole func() *sheet.Row) []event {
	o.Total++
	at := o.formulas(row, o.Now)
	facts := o.facts(at, o.Now, Memory{})
	holds, faulty := o.Rule.Condition.Judge(facts)
	if holds == rule.True {
		o.Rows++
	}
	if column, bad := o.fault(at, holds, faulty); bad {
		o.Unjudged++
		o.keepFaulty(FaultyRow{Place: place, Column: column}, whole)
	}
	o.Past += o.past(row)
	switch said := o.Asides[row.ID]; {
	case o.IsRoundUp():
		o.foresee(row)
		o.gatherRow(row, place, whole)
	case len(said) > 0:
		o.foreseeSaid(whole(), said)
	default:
		o.foresee(row)
	}
	for _, e := range o.events {
		o.count(e, place, whole)
	}
	return o.events
}

// keepFaulty keeps a row among the first that cannot be judged.
func (o *Outlook) keepFaulty(f FaultyRow, whole func() *sheet.Row) {
	i, _ := slices.BinarySearchFunc(o.Faulty, f.Place, func(x FaultyRow, place int64) int {
		return cmp.Compare(x.Place, place)
	})
	if i == maxFaulty {
		return
	}
	if f.Row == nil {
		f.Row = whole()
	}
	o.Faulty = slices.Insert(o.Faulty, i, f)
	o.Faulty = o.Faulty[:min(len(o.Faulty), maxFaulty)]
}

// foreseeSaid foresees, one email after the other, what comes of a row of whose
// emails something has been said.
func (o *Outlook) foreseeSaid(row *sheet.Row, said []Aside) {
	o.events = o.events[:0]
	light := o.Light
	o.Light = true
	for _, f := range o.Foresee(row, o.Now, o.Now, o.Until, said...) {
		e := event{due: f.Due, step: f.Step, moved: !f.Unmoved.IsZero(), sketch: sketch{outcome: f.Outcome,
			code: f.Decision.Reason.Code, wording: f.Template, emails: 1, to: len(f.To)}}
		var who []string
		for _, list := range [][]value.Mailbox{f.To, f.Cc, f.Bcc} {
			for _, m := range list {
				who = append(who, m.Key())
			}
		}
		e.who, e.people = strings.Join(who, " "), len(who)
		o.events = append(o.events, e)
	}
	o.Light = light
}

// gatherRow adds a row to the round-ups it belongs to. What stands against the
// row is its own line.
func (o *Outlook) gatherRow(row *sheet.Row, place int64, whole func() *sheet.Row) {
	if o.groups == nil {
		o.groups = make([]map[string]*group, len(o.rounds))
	}
	var pieces []piece
	var own []Considered
	for i := range o.rounds {
		if at := o.rounds[i].Due; i == 0 || !o.still {
			pieces, own = o.pieces(o.rounds[i], row, at, Memory{})
		}
		for _, c := range own {
			o.events = append(o.events, event{due: o.rounds[i].Due, sketch: sketch{outcome: c.Outcome,
				code: c.Decision.Reason.Code, wording: c.Template, emails: 1}})
		}
		for k := range pieces {
			p := &pieces[k]
			g := &group{rows: 1, place: place, outside: p.outside, bad: p.missing != nil, silent: p.silent,
				who: map[string]bool{}}
			for _, list := range [][]value.Mailbox{p.to, p.cc, p.bcc} {
				for _, m := range list {
					g.who[m.Key()] = true
				}
			}
			o.join(i, p.to[0].Key(), g, whole)
		}
	}
}

// join puts rows together into one recipient's round-up.
func (o *Outlook) join(round int, key string, g *group, whole func() *sheet.Row) {
	if o.groups[round] == nil {
		o.groups[round] = map[string]*group{}
	}
	have := o.groups[round][key]
	if have == nil {
		if o.groups[round][key] = g; g.row == nil {
			g.row = whole()
		}
		return
	}
	if g.place < have.place {
		if have.row, have.place = g.row, g.place; have.row == nil {
			have.row = whole()
		}
	}
	have.rows += g.rows
	have.bad = have.bad || g.bad || g.outside != have.outside
	for k := range g.who {
		have.who[k] = true
	}
}

// Done counts what takes all rows to know, the round-ups, and gives it.
func (o *Outlook) Done() (out []event) {
	said := AsidesOf(o.Asides[""])
	for i, groups := range o.groups {
		for _, key := range slices.Sorted(maps.Keys(groups)) {
			g := groups[key]
			e := event{due: o.rounds[i].Due, moved: !o.rounds[i].Unmoved.IsZero(), group: g, sketch: sketch{outcome: o.sends(),
				wording: o.Rule.Send[0].Template, emails: 1, people: len(g.who), who: key, rows: g.rows}}
			switch {
			case g.silent:
				e.outcome, e.code = Skip, reason.DoNotEmail
			case g.bad:
				e.outcome, e.code = Incomplete, reason.RowsDiffer
			}
			round := o.rounds[i]
			round.Mailbox = key
			if why, out := said.leftOut(&round); out {
				e.outcome, e.code = Skip, why.Code
			}
			o.count(e, g.place, func() *sheet.Row { return g.row })
			out = append(out, e)
		}
	}
	o.groups = nil
	o.countSame()
	o.alike = nil
	return out
}

// formulas works the row's formulas out where any is looked at.
func (o *Outlook) formulas(row *sheet.Row, at time.Time) *sheet.Row {
	if !o.computes {
		return row
	}
	return o.Sheet.Compute(row, at, o.Calendar)
}

// Fault reports whether the rule cannot say of a row what is to go, for want of
// something that can be read, and the column to mend.
func (o *Outlook) Fault(row *sheet.Row) (column string, bad bool) {
	row = o.formulas(row, o.Now)
	holds, faulty := o.Rule.Condition.Judge(o.facts(row, o.Now, Memory{}))
	return o.fault(row, holds, faulty)
}

// fault is Fault for a row whose formulas are worked out and whose condition has
// been judged.
func (o *Outlook) fault(row *sheet.Row, holds rule.Truth, faulty string) (column string, bad bool) {
	if row.Gone || holds == rule.False {
		return "", false
	}
	if holds == rule.Unknown {
		return faulty, true
	}
	t := &o.Rule.Trigger
	switch t.Kind {
	case rule.Date:
		if !o.Anchor(row).IsFilled() {
			return t.Column, true
		}
	case rule.Threshold:
		for _, id := range []string{t.Column, t.Limit.Column} {
			if c, ok := o.Sheet.Column(id); ok && !row.Cell(c).IsFilled() {
				return id, true
			}
		}
	case rule.Change:
		if c, ok := o.Sheet.Column(t.Column); ok && row.Cell(c).IsUnreadable() {
			return t.Column, true
		}
	}
	to, unread := o.keys(nil, o.Rule.To, row)
	if !unread && len(to) > 0 {
		return "", false
	}
	if o.mailboxes(o.Rule.To, row, map[string]bool{}, &column); column == "" {
		column = rule.FirstColumn(o.Rule.To)
	}
	return column, true
}

// InRound reports whether one of the round-ups to come is about a row.
func (o *Outlook) InRound(row *sheet.Row) bool {
	for i := range o.rounds {
		if ps, _ := o.pieces(o.rounds[i], row, o.rounds[i].Due, Memory{}); len(ps) > 0 {
			return true
		}
		if o.still {
			break
		}
	}
	return false
}

func (o *Outlook) past(row *sheet.Row) int {
	switch o.Rule.Trigger.Kind {
	case rule.Date:
		return o.dated(row).past
	case rule.Change, rule.Threshold:
		return len(o.CompiledRule.Past(row, time.Time{}, o.Now, nil))
	}
	return 0
}

// dated gives what a row's date comes to, worked out once for every date.
func (o *Outlook) dated(row *sheet.Row) dated {
	a := o.Anchor(row)
	if !a.IsFilled() {
		return dated{}
	}
	key := a.Wall
	if a.Type == value.Date {
		key.Second = -1
	}
	d, ok := o.seed[key]
	if !ok {
		d.coming = o.Rule.Due(row.ID, a, &o.timing, o.Now, o.Now, o.Until, nil)
		d.past = len(o.CompiledRule.Past(row, time.Time{}, o.Now, nil))
		o.seed[key] = d
	}
	return d
}

// foresee finds what comes of a row, in time order.
func (o *Outlook) foresee(row *sheet.Row) {
	o.events = o.events[:0]
	if o.IsRoundUp() {
		return
	}
	occasions := o.rounds
	if o.Rule.Trigger.Kind == rule.Date {
		occasions = o.dated(row).coming
	}
	if len(occasions) == 0 {
		return
	}
	clear(o.own)
	var last time.Time
	for i := range occasions {
		occ := &occasions[i]
		e := event{due: occ.Due, base: occ.Due, moved: !occ.Unmoved.IsZero()}
		if e.sketch = o.first(occ, row); e.outcome == "" {
			continue // a schedule says nothing of it
		}
		if !e.early && o.repeats(last, occ.Due) {
			e.outcome, e.code, e.emails = Skip, reason.RepeatApart, 1
			if o.Rule.Repeat.Once {
				e.code = reason.RepeatOnce
			}
		}
		if e.outcome == Send || e.outcome == Hold {
			last = occ.Due
		}
		o.events = append(o.events, e)
		if e.outcome == Send {
			o.chain(occ, e, row)
		}
		if len(o.events) >= maxForeseen {
			break
		}
	}
	slices.SortStableFunc(o.events, func(a, b event) int { return a.due.Compare(b.due) })
}

func (o *Outlook) repeats(last, at time.Time) bool {
	r := o.Rule.Repeat
	if r == nil || last.IsZero() {
		return false
	}
	return r.Once || r.Apart != "" && at.Before(o.apart.After(last, o.Zone))
}

// first judges a first email as Judge does.
func (o *Outlook) first(occ *rule.Occasion, row *sheet.Row) sketch {
	if row.Gone {
		return sketch{outcome: Skip, code: reason.RowGone, early: true}
	}
	if occ.SameMoment {
		return sketch{outcome: Skip, code: reason.SameMoment, early: true}
	}
	own := ""
	if occ.AnchorText != "" && occ.Offset < len(o.Rule.Trigger.Offsets) {
		own = o.Rule.Trigger.Offsets[occ.Offset].Template
	}
	if o.still {
		if s, ok := o.own[own]; ok {
			return s
		}
	}
	s := o.judge(occ, row)
	if o.still {
		o.own[own] = s
	}
	return s
}

func (o *Outlook) judge(occ *rule.Occasion, row *sheet.Row) sketch {
	row = o.formulas(row, occ.Due)
	facts := o.facts(row, occ.Due, Memory{})
	holds, _ := o.Rule.Condition.Judge(facts)
	if holds == rule.False {
		if occ.Kind == rule.Schedule {
			return sketch{}
		}
		return sketch{outcome: Skip, code: reason.ConditionFalse, early: true}
	}
	s := sketch{wording: o.CompiledRule.wording(occ, facts), emails: 1}
	if holds == rule.Unknown {
		s.outcome, s.code, s.early = Incomplete, reason.Unreadable, true
		return s
	}
	if _, ok := o.Templates[s.wording]; !ok {
		return sketch{outcome: Skip, code: reason.NoWording, early: true}
	}
	o.addressed(&s, row, facts, o.Rule.To, o.Rule.Cc, o.Rule.Bcc, o.Rule.Each)
	if s.outcome == Send {
		s.outcome = o.sends()
	}
	return s
}

// addressed settles recipients and fields.
func (o *Outlook) addressed(s *sketch, row *sheet.Row, facts rule.Facts, to, cc, bcc []rule.Address, each bool) {
	boxes, bad := o.keys(nil, to, row)
	n := len(boxes)
	boxes, bad2 := o.keys(boxes, cc, row)
	boxes, bad3 := o.keys(boxes, bcc, row)
	if bad || bad2 || bad3 {
		s.outcome, s.code = Incomplete, reason.Unreadable
		return
	}
	if n == 0 {
		s.outcome, s.code = Incomplete, reason.NoAddress
		return
	}
	if o.Silenced != nil {
		silenced := 0
		for _, b := range boxes[:n] {
			if o.Silenced(b) {
				silenced++
			}
		}
		boxes = slices.DeleteFunc(slices.Clone(boxes), o.Silenced)
		if n -= silenced; n == 0 {
			s.outcome, s.code, s.emails = Skip, reason.DoNotEmail, 1
			return
		}
	}
	s.people, s.who, s.to = len(boxes), strings.Join(boxes, " "), n
	if each {
		s.emails, s.people = n, n*(1+len(boxes)-n)
	}
	if o.Templates[s.wording].Lacks(template.Context{Sheet: o.Sheet, Row: row, Today: facts.Today, Facts: facts}) {
		s.outcome, s.code = Incomplete, reason.FieldEmpty
		return
	}
	s.outcome = Send
}

// chain counts the follow-ups of an email that is supposed to be accepted when
// it is due. With each there is one chain for every mailbox, all alike; a step that
// names its own recipients comes once. The first that is stopped ends all of them.
func (o *Outlook) chain(occ *rule.Occasion, first event, row *sheet.Row) {
	then := o.Rule.Then
	if then == nil {
		return
	}
	mailboxes := 1
	if o.Rule.Each {
		mailboxes = first.emails
	}
	type next struct {
		step, again int
		due         time.Time
	}
	coming := make([]next, len(then.Steps))
	for i := range then.Steps {
		coming[i] = next{step: i + 1, due: o.stepAt(occ.Due, i+1, 0)}
	}
	for len(coming) > 0 && len(o.events) < maxForeseen {
		k := 0
		for i := range coming {
			if earlier(coming[i].due, coming[i].step, coming[k].due, coming[k].step) {
				k = i
			}
		}
		c := coming[k]
		coming = slices.Delete(coming, k, k+1)
		if c.due.After(o.Until) {
			continue
		}
		st := &then.Steps[c.step-1]
		emails := mailboxes
		if len(st.To) > 0 {
			emails = 1
		}
		at := o.formulas(row, c.due)
		facts := o.facts(at, c.due, Memory{})
		e := event{due: c.due, base: occ.Due, step: c.step, sketch: sketch{wording: st.Template, emails: 1}}
		if t, _ := then.StopIf.Judge(facts); then.StopIf != nil && t == rule.True {
			e.sketch = sketch{outcome: Skip, code: reason.Stopped, emails: emails}
			o.events = append(o.events, e)
			return
		}
		o.judgeStep(&e, st, at, facts)
		if len(st.To) == 0 {
			e.emails, e.people = emails, e.people*emails
		}
		o.events = append(o.events, e)
		if st.Every != "" && (st.Times == 0 || c.again+1 < st.Times) {
			coming = append(coming, next{c.step, c.again + 1, o.stepAt(occ.Due, c.step, c.again+1)})
		}
	}
}

func (o *Outlook) judgeStep(e *event, st *rule.Step, row *sheet.Row, facts rule.Facts) {
	to, cc, bcc := o.Rule.To, o.Rule.Cc, o.Rule.Bcc
	if st.NamesRecipients() {
		cc, bcc = st.Cc, st.Bcc
	}
	if len(st.To) > 0 {
		to = st.To
	}
	if _, ok := o.Templates[st.Template]; !ok {
		e.outcome, e.code = Skip, reason.NoWording
		return
	}
	o.addressed(&e.sketch, row, facts, to, cc, bcc, false)
	if o.Rule.Each && len(st.To) == 0 && e.outcome == Send { // one of the mailboxes, and the copies
		n, _ := o.keys(nil, to, row)
		e.people -= len(n) - 1
	}
	if e.outcome == Send {
		e.outcome = o.sends()
	}
}

// stepAt gives when a follow-up is due, worked out once for every instant.
func (o *Outlook) stepAt(base time.Time, step, again int) time.Time {
	k := stepKey{step, again, base.UnixNano()}
	at, ok := o.steps[k]
	if !ok {
		x := rule.Occasion{Step: step, Again: again, BaseDue: base}
		o.stepDue(&x)
		at = x.Due
		o.steps[k] = at
	}
	return at
}

// keys adds the mailboxes of some sources to those that are there, each once.
func (o *Outlook) keys(have []string, list []rule.Address, row *sheet.Row) (out []string, bad bool) {
	out = have
	for _, a := range list {
		text := a.Address + a.Person
		if a.Column != "" {
			c, ok := o.Sheet.Column(a.Column)
			if !ok {
				continue
			}
			cell := row.Cell(c)
			bad = bad || cell.IsUnreadable()
			if !cell.IsFilled() {
				continue
			}
			text = cell.Str
		}
		if value.PlainAddress(text) {
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
			continue
		}
		for _, k := range o.keysOf(text) {
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	return out, bad
}

func (o *Outlook) keysOf(text string) []string {
	if k, ok := o.boxes[text]; ok {
		return k
	}
	boxes, _ := value.ParseMailboxes(text)
	keys := make([]string, len(boxes))
	for i, b := range boxes {
		keys[i] = b.Key()
	}
	if len(o.boxes) < keptBoxes {
		o.boxes[strings.Clone(text)] = keys
	}
	return keys
}

func (o *Outlook) count(e event, place int64, whole func() *sheet.Row) {
	if e.outcome == Skip {
		o.Skipped[e.code] += max(1, e.emails)
		return
	}
	o.Emails += e.emails
	o.gather(e, place, whole)
	switch {
	case e.outcome == Incomplete:
		o.Incomplete += e.emails
	case e.outcome == Hold:
		o.Held += e.emails
	}
	if e.moved {
		o.Moved += e.emails
	}
	if o.Gets != nil && e.outcome != Incomplete {
		boxes := strings.Fields(e.who)
		for _, b := range boxes[:min(e.to, len(boxes))] {
			o.Gets[b] = append(o.Gets[b], e.due)
		}
	}
	if day := int(value.DayAt(e.due.In(o.Zone)) - o.midnight); day >= 0 && day < len(o.Days) {
		d := &o.Days[day]
		if d.Emails == nil {
			d.Emails = map[Wording]int{}
		}
		d.Emails[Wording{e.wording, e.step}] += e.emails
		if e.outcome != Incomplete {
			d.People += e.people
		}
	}
	if l := e.line(place); wanted(o.First, o.Keep, &l) {
		l.Row = whole()
		o.First = keep(o.First, o.Keep, l)
	}
}

func (e *event) line(place int64) OutlookLine {
	return OutlookLine{Place: place, Rows: e.rows, Due: e.due, Step: e.step, Outcome: e.outcome, Code: e.code,
		Wording: e.wording, Who: e.who, Emails: e.emails}
}

// before orders lines by instant, then row, then step.
func (l *OutlookLine) before(x *OutlookLine) bool {
	if !l.Due.Equal(x.Due) {
		return l.Due.Before(x.Due)
	}
	return l.Place < x.Place || l.Place == x.Place && l.Step < x.Step
}

// wanted reports whether a line is among the first n.
func wanted(lines []OutlookLine, n int, l *OutlookLine) bool {
	return len(lines) < n || n > 0 && l.before(&lines[n-1])
}

// keep puts a line among the first n, after its equals.
func keep(lines []OutlookLine, n int, l OutlookLine) []OutlookLine {
	if !wanted(lines, n, &l) {
		return lines
	}
	i, _ := slices.BinarySearchFunc(lines, &l, func(x OutlookLine, l *OutlookLine) int {
		if l.before(&x) {
			return 1
		}
		return -1
	})
	lines = slices.Insert(lines, i, l)
	return lines[:min(len(lines), n)]
}

// Merge adds the counts of an outlook over other rows.
func (o *Outlook) Merge(p *Outlook) {
	o.Rows += p.Rows
	o.Total += p.Total
	o.Unjudged += p.Unjudged
	for _, f := range p.Faulty {
		o.keepFaulty(f, nil)
	}
	o.Past += p.Past
	o.Emails += p.Emails
	o.Incomplete += p.Incomplete
	o.Held += p.Held
	o.Moved += p.Moved
	for c, n := range p.Skipped {
		o.Skipped[c] += n
	}
	for i := range p.Days {
		for w, n := range p.Days[i].Emails {
			if o.Days[i].Emails == nil {
				o.Days[i].Emails = map[Wording]int{}
			}
			o.Days[i].Emails[w] += n
		}
		o.Days[i].People += p.Days[i].People
	}
	for _, l := range p.First {
		o.First = keep(o.First, o.Keep, l)
	}
	for b, at := range p.Gets {
		o.Gets[b] = append(o.Gets[b], at...)
	}
	o.alike = append(o.alike, p.alike...)
	for i := range p.groups {
		if o.groups == nil {
			o.groups = make([]map[string]*group, len(o.rounds))
		}
		for k, g := range p.groups[i] {
			o.join(i, k, g, nil)
		}
	}
}

// Difference is what is new and what no longer goes where one rule takes the
// place of another, or other cells that of a row's.
type Difference struct {
	New, Gone int           // emails
	Rows      int           // for which anything does
	Lines     []OutlookLine // the first of them, in time order
	Keep      int           // how many of them are kept
}

// Look compares what came of a row with what will. An email is the same if it
// goes at the same instant, with the same template, to the same people.
func (d *Difference) Look(before, after []event, place int64, was, is func() *sheet.Row) {
	type key struct {
		at      int64
		step    int
		wording string
		who     string
		rows    int
		waits   bool
	}
	keyOf := func(e *event) key {
		return key{e.due.UnixNano(), e.step, e.wording, e.who, e.rows, e.outcome == Incomplete}
	}
	have := map[key]int{}
	for i := range before {
		if e := &before[i]; e.outcome != Skip {
			have[keyOf(e)] += e.emails
		}
	}
	changed := false
	note := func(e *event, n int, gone bool, row func() *sheet.Row) {
		changed = true
		place := place
		if g := e.group; g != nil {
			place, row = g.place, func() *sheet.Row { return g.row }
		}
		if l := e.line(place); wanted(d.Lines, d.Keep, &l) {
			l.Row, l.Emails, l.Gone = row(), n, gone
			d.Lines = keep(d.Lines, d.Keep, l)
		}
	}
	for i := range after {
		e := &after[i]
		if e.outcome == Skip {
			continue
		}
		k := keyOf(e)
		known := min(have[k], e.emails)
		have[k] -= known
		if n := e.emails - known; n > 0 {
			d.New += n
			note(e, n, false, is)
		}
	}
	for i := range before {
		e := &before[i]
		if n := min(have[keyOf(e)], e.emails); e.outcome != Skip && n > 0 {
			have[keyOf(e)] -= n
			d.Gone += n
			note(e, n, true, was)
		}
	}
	if changed {
		d.Rows++
	}
}

// Merge adds the counts of other rows.
func (d *Difference) Merge(o *Difference) {
	d.New += o.New
	d.Gone += o.Gone
	d.Rows += o.Rows
	for _, l := range o.Lines {
		d.Lines = keep(d.Lines, d.Keep, l)
	}
}

// ForeseeOne judges the email of a line on its row: with its recipients and, as
// the setting says, its letter or no more than its subject. A round-up is
// written about its first row alone.
func (s *CompiledRule) ForeseeOne(row *sheet.Row, known time.Time, l OutlookLine) Foreseen {
	if l.Rows > 0 {
		o := rule.Occasion{Kind: rule.Schedule, Rule: s.Rule.ID, Due: l.Due}
		if rounds := s.Rounds(l.Due.Add(-Tick), l.Due); len(rounds) > 0 {
			o = rounds[0]
		}
		o.Mailbox = l.Who
		out := Foreseen{o, Decision{Outcome: l.Outcome, Template: l.Wording}}
		out.To, _ = value.ParseMailboxes(l.Who)
		out.Decision.Reason = reason.Reason{Code: l.Code}
		if l.Outcome != Incomplete {
			out.Decision.Reason = reason.Reason{Code: reason.Round, N: l.Rows}
		}
		on := s.Sheet.Compute(row, l.Due, s.Calendar)
		facts := s.facts(on, l.Due, Memory{})
		out.Rendered = s.Templates[l.Wording].Check(template.Context{Sheet: s.Sheet, Row: on, Today: facts.Today,
			Facts: facts})
		return out
	}
	for _, f := range s.Foresee(row, known, known, l.Due) {
		if f.Due.Equal(l.Due) && f.Step == l.Step && f.Template == l.Wording && f.Outcome == l.Outcome {
			return f
		}
	}
	to, _ := value.ParseMailboxes(strings.ReplaceAll(l.Who, " ", ","))
	return Foreseen{Decision: Decision{Outcome: l.Outcome, Template: l.Wording, To: to,
		Reason: reason.Reason{Code: l.Code}}}
}

// EventsOf gives emails as a Difference compares them.
func EventsOf(emails []Email) []event {
	out := make([]event, 0, len(emails))
	for i := range emails {
		e := &emails[i]
		who := make([]string, 0, len(e.To)+len(e.Cc)+len(e.Bcc))
		for _, list := range [][]value.Mailbox{e.To, e.Cc, e.Bcc} {
			for _, m := range list {
				who = append(who, m.Key())
			}
		}
		out = append(out, event{due: e.At, step: e.Step, sketch: sketch{outcome: e.Outcome, code: e.Decision.Reason.Code,
			wording: e.Template, emails: 1, who: strings.Join(who, " ")}})
	}
	return out
}
