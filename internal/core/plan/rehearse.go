package plan

import (
	"fmt"
	"sort"
	"strings"
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
	Piece    *Piece  // what a row adds to a round-up, until Finish puts it together
}

// Piece is a row's part of a round-up, as a rehearsal carries it.
type Piece struct {
	Round            rule.Occasion
	Name             string
	To               value.Mailbox
	Cc, Bcc, ReplyTo []value.Mailbox
	Subject, Outside string
	Missing, Blame   string
	Silent           bool
}

// Rehearsal is what is played: rules, switched on at From, over rows and
// edits, up to before To.
type Rehearsal struct {
	Settings []*Setting
	Edits    []Edit // in time order; those before From are done and settled before the baseline
	From, To time.Time
}

// Play plays the rules over rows, one row at a time, and gives each row's
// lines as they come: in no order between rows. scan calls its argument for
// every row in order. The lines are then to be put in order (Less) and handed
// to a Finish.
func (r *Rehearsal) Play(scan func(func(*sheet.Row) error) error, emit func(*Line) error) (*Finish, error) {
	if len(r.Settings) == 0 {
		return &Finish{r: r}, nil
	}
	for _, s := range r.Settings {
		s.Light = true
	}
	sh := r.Settings[0].Sheet
	edits, added, err := r.byRow()
	if err != nil {
		return nil, err
	}
	f := &Finish{r: r, brakes: make([]brake, len(r.Settings)), held: map[rule.ID]bool{}}
	order := int64(0)
	one := func(row *sheet.Row, id string) error {
		l := &life{id: id, start: row, edits: edits[id], sheet: sh, order: order}
		order++
		delete(edits, id)
		if err := l.begin(r.From); err != nil {
			return err
		}
		f.count(l)
		for i, s := range r.Settings {
			if len(l.edits) == 0 && l.start != nil && s.rests(l.start, r.From, r.To) {
				continue
			}
			p := &player{s: s, life: l, index: i, since: r.From.Add(-Tick), known: r.From, to: r.To, judged: map[rule.ID]bool{}, emit: emit}
			if err := p.play(); err != nil {
				return err
			}
		}
		return nil
	}
	if err := scan(func(row *sheet.Row) error { return one(row, row.ID) }); err != nil {
		return nil, err
	}
	for _, id := range added {
		if _, ok := edits[id]; !ok {
			continue
		}
		if err := one(nil, id); err != nil {
			return nil, err
		}
	}
	for id := range edits {
		return nil, fmt.Errorf("an edit names row %q, which is not there", id)
	}
	sort.Slice(f.changes, func(i, j int) bool { return f.changes[i].at.Before(f.changes[j].at) })
	return f, nil
}

// rests tells whether nothing can come of a row that nobody edits: most rows
// of most date rules, in a rehearsal of weeks.
func (s *Setting) rests(row *sheet.Row, from, to time.Time) bool {
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

// life is what happens to one row.
type life struct {
	id    string
	order int64
	start *sheet.Row // at the baseline; nil where it is not there then
	was   *sheet.Row // as it last settled before it was deleted before the baseline
	edits []Edit
	sheet *sheet.Sheet
}

// begin does the edits before the baseline and checks the rest.
func (l *life) begin(from time.Time) error {
	there := l.start != nil
	if len(l.edits) > 0 {
		l.start = clone(l.start)
	}
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

// pending is an occasion that is known to come, and when it is to be judged:
// when it falls due, or, of one that has been mended, when the window opens.
type pending struct {
	rule.Occasion
	at time.Time
}

// player plays one rule over one row.
type player struct {
	s     *Setting
	life  *life
	index int
	to    time.Time
	emit  func(*Line) error
	err   error

	settled  *sheet.Row // as it last settled; nil: never
	alive    bool
	since    time.Time // judged up to here
	known    time.Time // since when the row's date has been known
	standing rule.Standing
	pending  []pending    // moved reactions, follow-ups and what has been mended, to come
	waiting  []Considered // incomplete, to be mended
	judged   map[rule.ID]bool
	last     time.Time // when the last first email went or was held
	had      bool
	seq      int
}

func (p *player) memory() Memory {
	return Memory{Last: func() (time.Time, bool) { return p.last, p.had }, Standing: &p.standing}
}

func (p *player) play() error {
	if p.settled = p.life.start; p.settled == nil {
		p.settled = p.life.was
	}
	p.alive = p.life.start != nil
	if p.s.Moving() {
		p.standing.Looked = p.known
	}
	cur := p.life.start // edits make new rows of it
	var first, last time.Time
	unsettled := false
	settleUpTo := func(t time.Time) { // settling comes before edits at one instant
		if unsettled {
			if at := sheet.SettlesAt(first, last, p.life.sheet.Settle); !at.After(t) && at.Before(p.to) {
				p.settle(cur, first, at)
				unsettled = false
			}
		}
	}
	for _, e := range p.life.edits {
		if !e.At.Before(p.to) {
			break
		}
		settleUpTo(e.At)
		if e.Delete {
			p.remove(unsettled, first, e.At)
			cur, unsettled = nil, false
			continue
		}
		before := cur
		cur = apply(p.life.sheet, cur, e, p.life.order+1)
		if before != nil && !changes(before, cur) {
			continue
		}
		if !unsettled {
			p.advance(e.At.Add(-Tick))
			if first, unsettled = e.At, true; before == nil {
				p.alive, p.known, p.since = true, e.At, e.At.Add(-Tick)
			}
		}
		last = e.At
	}
	settleUpTo(p.to)
	if !unsettled {
		p.advance(p.to.Add(-Tick))
	}
	return p.err
}

// advance judges what falls due on the settled row up to an instant: at each
// instant first what turns by itself, then what is due.
func (p *player) advance(to time.Time) {
	for p.alive && p.settled != nil && to.After(p.since) {
		until, look := to, time.Time{}
		if p.s.Moving() {
			if next := p.s.Next(p.settled, p.known, p.since); !next.IsZero() && !next.After(to) {
				until, look = next.Add(-Tick), next
			}
		}
		p.due(p.settled, p.since, until, time.Time{})
		p.since = until
		if look.IsZero() {
			break
		}
		if o, ok := p.s.Settle(p.settled, p.settled, look, &p.standing); ok {
			p.react(o, p.settled, look)
		}
		p.due(p.settled, p.since, look, time.Time{})
		p.since = look
	}
	p.since = to
}

// due judges what falls due after from and not after to, each at its instant,
// or, where the row has been settling, all at the instant it settles.
func (p *player) due(row *sheet.Row, from, to time.Time, settles time.Time) {
	var dates []pending
	for _, o := range p.s.Dates(row, p.known, from, to, func(id rule.ID) bool { return p.judged[id] }) {
		dates = append(dates, pending{o, o.Due})
	}
	for {
		// One at a time: what is judged may add to what is pending, or end it.
		next := -1
		for i := range p.pending {
			if !p.pending[i].at.After(to) && (next < 0 || earlier(&p.pending[i], &p.pending[next])) {
				next = i
			}
		}
		var x pending
		switch {
		case len(dates) > 0 && (next < 0 || !earlier(&p.pending[next], &dates[0])):
			x, dates = dates[0], dates[1:]
		case next >= 0:
			x = p.pending[next]
			p.pending = append(p.pending[:next], p.pending[next+1:]...)
		default:
			return
		}
		at := x.at
		if !settles.IsZero() {
			at = settles
		}
		p.consider(x.Occasion, row, at)
	}
}

// ripe takes what is pending and ripe out of the pending ones.
func (p *player) ripe(is func(pending) bool) (out []pending) {
	kept := p.pending[:0]
	for _, x := range p.pending {
		if is(x) {
			out = append(out, x)
		} else {
			kept = append(kept, x)
		}
	}
	p.pending = kept
	return out
}

// earlier orders what comes for one row by one rule: by instant, then step.
func earlier(a, b *pending) bool {
	if !a.at.Equal(b.at) {
		return a.at.Before(b.at)
	}
	return a.Step < b.Step
}

// consider judges an occasion; one that was incomplete and has been mended
// comes here a second time.
func (p *player) consider(o rule.Occasion, row *sheet.Row, at time.Time) {
	if p.judged[o.Identity()] {
		p.take(p.s.Mend(o, row, at, p.memory()))
		return
	}
	if o.Kind == rule.Schedule && o.Base == "" {
		if p.s.IsRoundUp() {
			p.piece(o, at)
			return
		}
		if !p.s.Concerns(row, at, p.memory()) {
			return
		}
	}
	p.take(p.s.Judge(o, row, at, p.memory()))
}

// piece hands on what a row adds to a round-up, as it last settled.
func (p *player) piece(o rule.Occasion, at time.Time) {
	if p.settled == nil {
		return
	}
	ps, own := p.s.pieces(o, p.settled, o.Due, p.memory())
	p.take(own)
	for _, x := range ps {
		round := o
		round.Row = ""
		p.line(&Line{At: o.Due, Row: p.life.id, Piece: &Piece{Round: round, Name: p.s.Sheet.RowName(p.settled), To: x.to[0], Cc: x.cc, Bcc: x.bcc,
			ReplyTo: x.replyTo, Subject: x.subject, Outside: x.outside, Missing: x.missing, Blame: x.blame, Silent: x.silent}})
	}
}

// react takes up a reaction: now, or when the window opens.
func (p *player) react(o rule.Occasion, row *sheet.Row, at time.Time) {
	if o.Due.After(at) {
		p.pending = append(p.pending, pending{o, o.Due})
		return
	}
	p.take(p.s.Judge(o, row, at, p.memory()))
}

func (p *player) settle(cur *sheet.Row, first, at time.Time) {
	was := p.settled
	p.mend(cur, at)
	moved := was == nil || !value.Same(p.s.Anchor(was), p.s.Anchor(cur))
	if moved {
		p.known = first
	}
	if was != nil && moved {
		p.drop(cur)
	}
	if p.s.IsRoundUp() { // it takes each row as it last settled; it does not wait
		if was != nil {
			p.due(was, p.since, at.Add(-Tick), time.Time{})
		}
		p.since = at.Add(-Tick)
	}
	o, fires := p.s.Settle(was, cur, at, &p.standing)
	p.settled = cur
	p.due(cur, p.since, at, at)
	if fires {
		p.react(o, cur, at)
	}
	p.since = at
}

// drop forgets the follow-ups of occasions whose date has been moved.
func (p *player) drop(row *sheet.Row) {
	p.ripe(func(x pending) bool { return !p.s.Stands(&x.Occasion, row) })
}

// mend judges what was incomplete again, within its late limit. What lies
// outside the window then waits for the next one.
func (p *player) mend(row *sheet.Row, at time.Time) {
	waiting := p.waiting
	p.waiting = nil
	for _, w := range waiting {
		if at.After(p.s.Late(w.Due)) || !p.s.Stands(&w.Occasion, row) {
			continue
		}
		cs := p.s.Mend(w.Occasion, row, at, p.memory())
		opens := p.s.Opens(at)
		switch {
		case len(cs) > 0 && cs[0].Outcome == Incomplete:
			p.waiting = append(p.waiting, w)
		case opens.After(at): // judged again then, on the row as it then is
			p.pending = append(p.pending, pending{w.Occasion, opens})
		default:
			p.take(cs)
		}
	}
}

// remove skips what was due and waiting for the row to settle when it was
// deleted, and drops what was to come.
func (p *player) remove(unsettled bool, first, at time.Time) {
	if !unsettled {
		p.advance(at.Add(-Tick))
	} else if p.settled != nil {
		waited := p.ripe(func(x pending) bool { return x.at.Before(at) })
		for _, o := range p.s.Dates(p.settled, p.known, p.since, at.Add(-Tick), func(id rule.ID) bool { return p.judged[id] }) {
			waited = append(waited, pending{o, o.Due})
		}
		sort.SliceStable(waited, func(i, j int) bool { return earlier(&waited[i], &waited[j]) })
		for _, x := range waited {
			if x.Kind == rule.Schedule && x.Base == "" && (p.s.IsRoundUp() || !p.s.Concerns(p.settled, at, p.memory())) {
				continue
			}
			p.take([]Considered{{x.Occasion, skip("row deleted"), at}})
		}
	}
	if p.settled == nil {
		p.settled = &sheet.Row{ID: p.life.id, Number: p.life.order + 1}
	}
	p.pending, p.waiting, p.since, p.alive = nil, nil, at, false
}

// take writes lines and notes what follows from them. An occasion that was
// incomplete leaves a second line only if its email goes.
func (p *player) take(cs []Considered) {
	for i, c := range cs {
		id := c.Identity()
		wid := id
		if c.Mailbox != "" {
			whole := c.Occasion.Whole()
			wid = whole.Identity()
		}
		again := p.judged[id]
		goes := c.Outcome == Send || c.Outcome == Hold
		if !again || goes {
			p.line(p.lineOf(&c, id, wid))
		}
		if c.Outcome == Incomplete {
			p.waiting = append(p.waiting, c)
		}
		if c.Base == "" && goes {
			p.last, p.had = c.At, true
		}
		if c.Base == "" && c.Outcome == Send {
			for _, f := range p.s.FollowUps(&c.Occasion, i == 0, c.At) {
				p.expect(f)
			}
		}
		if c.Base != "" && c.Outcome == Skip && IsStopped(c.Verdict.Reason) {
			p.ripe(func(x pending) bool { return x.Base == c.Base })
		} else if next, ok := p.s.NextAgain(c.Occasion); c.Base != "" && ok && !again {
			p.expect(next)
		}
		p.judged[id], p.judged[wid] = true, true
	}
}

// expect notes a follow-up that is to come, once: of several mailboxes that
// are mended one after the other each would bring what comes once for all.
func (p *player) expect(f rule.Occasion) {
	id := f.Identity()
	if p.judged[id] {
		return
	}
	for i := range p.pending {
		if p.pending[i].Base == f.Base && p.pending[i].Identity() == id {
			return
		}
	}
	p.pending = append(p.pending, pending{f, f.Due})
}

func (p *player) lineOf(c *Considered, id, whole rule.ID) *Line {
	l := &Line{At: c.At, Row: p.life.id, Step: c.Step, Mailbox: c.Mailbox, Occasion: id, Whole: whole, Outcome: c.Outcome, Reason: c.Verdict.Reason,
		Reaction: c.Kind.Reaction() && c.Base == ""}
	if c.Base != "" {
		l.Follows, _ = rule.ParseID(c.Base)
	}
	if c.Outcome != Skip {
		l.Template, l.To, l.Cc, l.Subject = c.Template, written(c.To), written(c.Cc), c.Subject
	}
	return l
}

// IsStopped tells whether a follow-up was skipped because its stop condition
// has come true.
func IsStopped(reason string) bool { return strings.HasPrefix(reason, Stopped) }

func written(boxes []value.Mailbox) []string {
	out := make([]string, len(boxes))
	for i, m := range boxes {
		out[i] = m.String()
	}
	return out
}

func (p *player) line(l *Line) {
	if p.err != nil {
		return
	}
	l.Rule, l.Order, l.Seq = p.index, p.life.order, p.seq
	p.seq++
	p.err = p.emit(l)
}
