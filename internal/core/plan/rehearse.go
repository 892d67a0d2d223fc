package plan

import (
	"fmt"
	"slices"
	"sort"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
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

// Line is one line of a rehearsal, small enough to be put in order by the
// million.
type Line struct {
	At       time.Time
	Rule     int // index into the settings
	Row      string
	Rows     []string // of a round-up, by name
	Step     int
	Mailbox  string
	Occasion rule.ID
	Outcome  Outcome
	Reason   string
	Template string // id
	To, Cc   []string
	Subject  string

	Order    int64   // of the row
	Seq      int     // of the line among its row's
	Whole    rule.ID // without the mailbox that each gave it
	Follows  rule.ID // of a follow-up: the first email's occasion
	Reaction bool    // a first email of a reaction: the brake counts it
	Words    Words   // what it says, where a rule asks
	Again    bool    // of an occasion that has a line already: an incomplete one has been mended
	Play     int     // how often its row has been played before
	Piece    *Piece  // what a row adds to a round-up, until Finish puts it together
}

// Piece is a row's part of a round-up, as a rehearsal carries it.
type Piece struct {
	Round            rule.Occasion
	Name             string
	To               value.Mailbox
	Cc, Bcc, ReplyTo []value.Mailbox
	Subject, Outside string
	Missing          *reason.Reason
	Silent           bool
	Of               *sheet.Row // where a rule asks for its words
}

// Rehearsal is what is played: rules, switched on at From, over rows and
// edits, up to before To.
type Rehearsal struct {
	Settings []*CompiledRule
	Edits    []Edit // in time order; those before From are done and settled before the baseline
	From, To time.Time
}

// Twin gives the same rehearsal for another goroutine to play (PlayAll). They read
// the same rules and letters, so all twins are made before the first plays.
func (r *Rehearsal) Twin() (*Rehearsal, error) {
	r.makeReady()
	twin := *r
	twin.Settings = make([]*CompiledRule, len(r.Settings))
	for i, s := range r.Settings {
		var err error
		if twin.Settings[i], err = s.Twin(); err != nil {
			return nil, err
		}
	}
	return &twin, nil
}

// compares reports whether what emails say is compared.
func (r *Rehearsal) compares() bool {
	return slices.ContainsFunc(r.Settings, func(s *CompiledRule) bool { return s.Rule.SameWords == rule.SkipSame })
}

// makeReady makes ready what is only read while rows are played.
func (r *Rehearsal) makeReady() {
	compares := r.compares()
	for _, s := range r.Settings {
		s.Light = !compares
		for _, t := range s.Templates {
			t.Prepare(s.Sheet)
		}
	}
}

// Deal hands out, in batches, what happens to each row, to be played (PlayAll) by
// twins, in any order. scan calls its argument for every row in order; the row is
// its again afterwards. The lines are then to be put in order (Compare) and handed to
// the Merge.
func (r *Rehearsal) Deal(scan func(func(*sheet.Row) error) error, play func([]*Course) error) (*Merge, error) {
	if len(r.Settings) == 0 {
		return &Merge{r: r}, nil
	}
	f := &Merge{r: r, brakes: make([]Brake, len(r.Settings)), held: map[rule.ID]bool{}}
	if r.compares() {
		f.heard = &Heard{}
	}
	for i, s := range r.Settings {
		f.brakes[i] = Brake{Rule: s.Rule, LetsGo: true}
	}
	if err := r.courses(scan, f, play); err != nil {
		return nil, err
	}
	sort.Slice(f.changes, func(i, j int) bool { return f.changes[i].at.Before(f.changes[j].at) })
	return f, nil
}

// batchRows is how many rows are dealt at once. Tests make it small.
var batchRows = 200

// courses hands on what happens to each row, in batches, and counts the rows.
func (r *Rehearsal) courses(scan func(func(*sheet.Row) error) error, f *Merge, play func([]*Course) error) error {
	edits, added, err := r.byRow()
	if err != nil {
		return err
	}
	sh, order := r.Settings[0].Sheet, int64(0)
	batch := make([]*Course, 0, batchRows)
	one := func(row *sheet.Row, id string) error {
		l := &Course{id: id, start: clone(row), edits: edits[id], sheet: sh, order: order}
		order++
		delete(edits, id)
		if err := l.begin(r.From); err != nil {
			return err
		}
		f.count(l)
		f.keep(l)
		if batch = append(batch, l); len(batch) < batchRows {
			return nil
		}
		full := batch
		batch = make([]*Course, 0, batchRows)
		return play(full)
	}
	if err := scan(func(row *sheet.Row) error { return one(row, row.ID) }); err != nil {
		return err
	}
	for _, id := range added {
		if _, ok := edits[id]; !ok {
			continue
		}
		if err := one(nil, id); err != nil {
			return err
		}
	}
	for id := range edits {
		return fmt.Errorf("an edit names row %q, which is not there", id)
	}
	return play(batch)
}

// PlayAll plays the rules over a batch of rows, and gives their lines.
func (r *Rehearsal) PlayAll(batch []*Course) (out []*Line) {
	compares := r.compares()
	reaches := make([]reach, len(r.Settings))
	for i, s := range r.Settings {
		reaches[i] = s.reach(r.From.Add(-Tick), r.To.Add(-Tick))
	}
	for _, l := range batch {
		for i, s := range r.Settings {
			if len(l.edits) == 0 && l.start != nil && (reaches[i].misses(l.start) || s.rests(l.start, r.From, r.To)) {
				continue
			}
			p := newPlayer(s, l, i, r.From)
			p.compares = compares
			p.play(r.To)
			out = append(out, p.lines...)
		}
	}
	return out
}

// reach is which days of a date can bring something within a rehearsal.
type reach struct {
	pos         int // of the date among a row's cells
	first, last value.Day
	ok          bool // it is known
}

func (s *CompiledRule) reach(from, to time.Time) (x reach) {
	c, ok := s.Sheet.Column(s.Rule.Trigger.Column)
	if !ok || c.Type == value.Formula || c.Derived() { // worked out row by row
		return x
	}
	x.pos = c.Pos
	x.first, x.last, x.ok = s.Rule.Reach(&s.timing, from, to)
	return x
}

// misses reports whether nothing can come of a row, by the day of its date alone: most rows of
// most rules, which cost no more then.
func (x reach) misses(row *sheet.Row) bool {
	if !x.ok || x.pos >= len(row.Cells) {
		return x.ok
	}
	date := &row.Cells[x.pos]
	return date.State != value.Filled || date.Wall.Day < x.first || date.Wall.Day > x.last
}

// rests tells whether nothing can come of a row that nobody edits: most rows
// of most date rules, in a rehearsal of weeks.
func (s *CompiledRule) rests(row *sheet.Row, from, to time.Time) bool {
	switch s.Rule.Trigger.Kind {
	case rule.Date:
		return len(s.Dates(row, from, from.Add(-Tick), to.Add(-Tick), nil)) == 0
	case rule.Schedule:
		return false
	}
	return !s.moving
}

// byRow parts the edits by row; added lists the rows that edits add, in order.
func (r *Rehearsal) byRow() (map[string][]Edit, []string, error) {
	edits := map[string][]Edit{}
	var added []string
	last := time.Time{}
	for i, e := range r.Edits {
		if e.At.Before(last) {
			return nil, nil, fmt.Errorf("edit %d: it is earlier than the one before it", i+1)
		}
		last = e.At
		if e.Add && edits[e.Row] == nil {
			added = append(added, e.Row)
		}
		edits[e.Row] = append(edits[e.Row], e)
	}
	return edits, added, nil
}

// Course is what happens to one row.
type Course struct {
	id    string
	order int64
	start *sheet.Row // at the baseline; nil where it is not there then
	was   *sheet.Row // as it last settled before it was deleted before the baseline
	edits []Edit
	sheet *sheet.Sheet
}

// begin does the edits before the baseline and checks the rest.
func (l *Course) begin(from time.Time) error {
	there := l.start != nil
	for _, e := range l.edits {
		switch {
		case e.Add && there:
			return fmt.Errorf("the edit at %s adds row %q, which is there", e.At.Format(time.RFC3339), l.id)
		case !e.Add && !there:
			return fmt.Errorf("the edit at %s names row %q, which is not there then", e.At.Format(time.RFC3339), l.id)
		}
		there = !e.Delete
	}
	for len(l.edits) > 0 && l.edits[0].At.Before(from) {
		e := l.edits[0]
		l.edits = l.edits[1:]
		if e.Delete {
			l.was, l.start = l.start, nil
			continue
		}
		l.start = apply(l.sheet, l.start, e, l.order+1)
	}
	return nil
}

func clone(r *sheet.Row) *sheet.Row {
	if r == nil {
		return nil
	}
	c := *r
	c.Cells = append([]value.Value(nil), r.Cells...)
	return &c
}

// apply gives the row after an edit that sets or adds.
func apply(sh *sheet.Sheet, r *sheet.Row, e Edit, number int64) *sheet.Row {
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

// simulator plays one rule over one row: it carries a Timeline's effects out in
// memory, as lines.
type simulator struct {
	Timeline
	course   *Course
	index    int
	lines    []*Line
	judged   map[rule.ID]bool
	compares bool // lines carry what is compared
}

// newPlayer makes ready to play a rule, switched on at an instant, over a row.
func newPlayer(s *CompiledRule, c *Course, index int, from time.Time) *simulator {
	p := &simulator{course: c, index: index, judged: map[rule.ID]bool{}, Timeline: Timeline{CompiledRule: s,
		ID: c.id, Row: c.start, Deleted: c.start == nil,
		On: true, Baseline: from, Since: from.Add(-Tick), Known: from, RowState: &rule.RowState{},
		Circumstances: Circumstances{Released: true, Nobody: true}}}
	p.Ledger, p.Pieces = p, p.piece
	if p.Row == nil {
		p.Row = c.was
	}
	if s.Moving() {
		p.RowState.Looked = from
	}
	return p
}

// Ask implements Ledger.
func (p *simulator) Ask([]rule.Occasion) {}

// Judged implements Ledger.
func (p *simulator) Judged(o *rule.Occasion) bool {
	return len(p.judged) > 0 && p.judged[o.Identity()] // of most rows nothing has been, and hashing costs
}

// Enter implements Ledger.
func (p *simulator) Enter(e *Email) {
	p.judged[e.Identity()], p.judged[e.WholeIdentity()] = true, true
}

// Last implements Ledger: the Timeline knows its own.
func (p *simulator) Last() (time.Time, bool) { return time.Time{}, false }

// FirstOf implements Ledger.
func (p *simulator) FirstOf(x *Pending) *Email { return accepted(x.Hangs) }

// accepted gives an email that goes as it will be once it has been accepted, at
// the instant it was judged at.
func accepted(e *Email) *Email {
	first := *e
	if first.State == delivery.Queued {
		first.State, first.FinishedAt = delivery.Accepted, first.At
	}
	return &first
}

func (p *simulator) play(to time.Time) {
	cur := p.course.start // edits make new rows of it
	var last time.Time
	settleUpTo := func(t time.Time) { // settling comes before edits at one instant
		if !p.First.IsZero() {
			if at := sheet.SettlesAt(p.First, last, p.Sheet.Settle); !at.After(t) && at.Before(to) {
				p.Settle(cur, p.First, at)
			}
		}
		p.print()
	}
	for _, e := range p.course.edits {
		if !e.At.Before(to) {
			break
		}
		settleUpTo(e.At)
		if e.Delete {
			p.Remove(e.At)
			if p.Row == nil { // what had not settled never was
				p.Row = &sheet.Row{ID: p.ID, Number: p.course.order + 1}
			}
			cur = nil
			continue
		}
		before := cur
		cur = apply(p.Sheet, cur, e, p.course.order+1)
		if before != nil && !changes(before, cur) {
			continue
		}
		if p.First.IsZero() {
			p.Advance(e.At.Add(-Tick))
			if p.First = e.At; before == nil {
				p.Deleted, p.Known, p.Since = false, e.At, e.At.Add(-Tick)
			}
		}
		last = e.At
	}
	settleUpTo(to)
	if p.First.IsZero() {
		p.Advance(to.Add(-Tick))
	}
	p.print()
}

// print makes lines of what has been decided. An email that was incomplete
// leaves a second line only if it goes.
func (p *simulator) print() {
	for _, x := range p.Effects {
		switch e := x.As; {
		case x.Kind == Write, x.Kind == Amend && (e.State == delivery.Queued || e.State == delivery.Held &&
			e.Why.Code == reason.AsksFirst):
			l := p.lineOf(e)
			l.Again = x.Kind == Amend
			p.line(l)
		}
	}
	p.Effects = p.Effects[:0]
}

// piece hands on what a row adds to a round-up, as it last settled.
func (p *simulator) piece(o rule.Occasion, at time.Time) {
	if p.Row == nil {
		return
	}
	p.print()
	ps, own := p.pieces(o, p.Row, o.Due, p.memory())
	p.Record(own)
	p.print()
	for _, x := range ps {
		round := o
		round.Row = ""
		p.line(&Line{At: o.Due, Row: p.ID, Piece: &Piece{Round: round, Name: p.Sheet.RowName(p.Row), To: x.to[0], Cc: x.cc,
			Bcc:     x.bcc,
			ReplyTo: x.replyTo, Subject: x.subject, Outside: x.outside, Missing: x.missing, Silent: x.silent, Of: p.compared()}})
	}
}

// compared returns the row that a round-up's words are made of; nil where no words are compared.
func (p *simulator) compared() *sheet.Row {
	if !p.compares {
		return nil
	}
	return p.Row
}

func (p *simulator) lineOf(e *Email) *Line {
	l := &Line{At: e.At, Row: p.ID, Step: e.Step, Mailbox: e.Mailbox, Occasion: e.Identity(),
		Whole: e.WholeIdentity(), Outcome: e.Outcome,
		Reason:   e.Decision.Reason.Words(),
		Reaction: e.Kind.Reaction() && e.Base == ""}
	if e.Base != "" {
		l.Follows, _ = rule.ParseID(e.Base)
	}
	if e.Outcome != Skip {
		l.Template, l.To, l.Cc, l.Subject = e.Template, written(e.To), written(e.Cc), e.Subject
		if p.compares && e.Outcome != Incomplete {
			l.Words = WordsOf(&e.Decision)
		}
	}
	return l
}

func written(boxes []value.Mailbox) []string {
	out := make([]string, len(boxes))
	for i, m := range boxes {
		out[i] = m.String()
	}
	return out
}

func (p *simulator) line(l *Line) {
	l.Rule, l.Order, l.Seq = p.index, p.course.order, len(p.lines)
	p.lines = append(p.lines, l)
}
