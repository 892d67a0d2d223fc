package plan

import (
	"slices"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Timeline is one row's life by one rule: a state machine that decides all that
// becomes of its occasions. It is told what happens to the row (Run, Settle,
// Remove), or what a person decides (Approve, Take, TakePast), and says by its
// Effects what is to be done to the ledger and the agenda. The engine keeps it
// in the database, a rehearsal in memory; neither decides anything.
type Timeline struct {
	*CompiledRule
	Circumstances
	Ledger Ledger

	ID        string         // of the row
	Row       *sheet.Row     // as it last settled; nil: never
	Deleted   bool           // it is not there
	SettledAt time.Time      // when it did, or came back; zero: it has been there all along
	First     time.Time      // of its unsettled edits, the first; zero: it is at rest
	SettlesAt time.Time      // when they count; set with First
	On        bool           // the rule is; paused it counts, and nothing falls due
	Baseline  time.Time      // what was due before it is past
	Since     time.Time      // what falls due up to here has been judged
	Known     time.Time      // since when the row's date has been known
	RowState  *rule.RowState // what the rule remembers of the row
	Coming    []*Pending     // known to come
	Waiting   []*Email       // incomplete, to be mended; and held, when the row is deleted
	Asides    Asides         // what people have said of its emails to come

	// Pieces, where set, takes the rounds of a schedule whose emails are
	// round-ups: they are made of all rows at once.
	Pieces func(o rule.Occasion, at time.Time)

	// Same, where set, has the emails that are known to say what another has said, by occasion.
	Same map[rule.ID]reason.Reason

	Effects []Effect

	last time.Time // when the last first email that is among the effects went or was held
	had  bool
}

// Circumstances are what an email's going depends on besides its rule and row.
type Circumstances struct {
	Now       time.Time // by which what is late is missed; zero: nothing is
	Off       bool      // all sending is switched off
	Released  bool      // the rule's first run has been looked through
	Looked    bool      // a person lets it go: nothing but Off and Passed holds it
	Passed    bool      // what is taken up was past at the baseline: a person looks it through
	Asks      bool      // the edit that settles is to be looked at: what it sets off is held
	Restored  time.Time // the database went back in time: what is due not after it may have gone
	Nobody    bool      // nobody approves: nothing follows what is held
	PausedAt  time.Time // the rule's last pause, and when it was resumed: what fell
	ResumedAt time.Time // due between the two never did
}

// Ledger is what is asked of what went before.
type Ledger interface {
	// Ask says which occasions are about to be asked for, so that a ledger
	// that is far away is asked once for all.
	Ask(occ []rule.Occasion)
	// Judged reports whether an occasion, asked for before or not, has been
	// judged: as itself, or, as a whole, by one of its mailboxes'.
	Judged(o *rule.Occasion) bool
	// Enter notes that an email enters the ledger by what is being decided.
	Enter(e *Email)
	// Last gives when the rule's last first email to the row went or was held.
	Last() (at time.Time, ok bool)
	// FirstOf gives the first email that a follow-up hangs on, nil where there
	// is none.
	FirstOf(p *Pending) *Email
}

// Email is one occasion in the ledger.
type Email struct {
	Ref int64 // the ledger's; 0 of one that is to be written
	rule.Occasion
	Decision
	At         time.Time // the instant it was judged at
	State      delivery.State
	Why        reason.Reason // why it goes, waits or does not go
	WentAt     time.Time     // when it was queued or held, by the rule's time; zero: not
	FinishedAt time.Time     // when it was accepted; zero: not
	On         *sheet.Row    // the row that it was judged on, with its formulas worked out; nil: none
	Decided    bool          // its decision is new: wording, recipients and letter
	Single     bool          // with each: of its occasion the first mailbox, or the only one

	id, whole rule.ID // of its occasion, once somebody has asked
}

// Identity returns the identity of the email's occasion, which stays what it is.
func (e *Email) Identity() rule.ID {
	if e.id == (rule.ID{}) {
		e.id = e.Occasion.Identity()
	}
	return e.id
}

// sameID returns the email's identity, where there is something to look up with it: hashing costs.
func (e *Email) sameID(in map[rule.ID]reason.Reason) (id rule.ID) {
	if len(in) > 0 {
		id = e.Identity()
	}
	return id
}

// WholeIdentity returns that of its occasion without the mailbox that each gave it.
func (e *Email) WholeIdentity() rule.ID {
	if e.whole == (rule.ID{}) {
		if w := e.Occasion.Whole(); w.Mailbox == e.Mailbox {
			e.whole = e.Identity()
		} else {
			e.whole = w.Identity()
		}
	}
	return e.whole
}

// PendingKind says what is to come.
type PendingKind string

// What is to come.
const (
	Moved    PendingKind = "moved"  // a reaction that the window moved falls due
	FollowUp PendingKind = "follow" // a follow-up falls due
	Review   PendingKind = "review" // what held an email is over
	LateEnds PendingKind = "late"   // an incomplete email's late limit passes
)

// Pending is something known to come for the row by the rule.
type Pending struct {
	Ref           int64 // the agenda's; 0 of one that is to be put there
	Kind          PendingKind
	rule.Occasion           // moved, follow-up
	At            time.Time // when it is to be looked at; an occasion's own instant is its Due
	First         int64     // follow-up: the ledger's first email, once it is there
	Hangs         *Email    // follow-up: the first email; review, late: the email itself
}

// due is the instant by which what is to come is put in order.
func (p *Pending) due() time.Time {
	if p.Kind == Moved || p.Kind == FollowUp {
		return p.Occasion.Due
	}
	return p.At
}

// EffectKind says what is to be done.
type EffectKind uint8

// What is to be done.
const (
	Write  EffectKind = iota // an email enters the ledger
	Amend                    // one that is in the ledger has a new state
	Expect                   // something is known to come
	Forget                   // it is not to come any more, or has come
)

// Effect is one thing to be done to the ledger or the agenda, in order.
type Effect struct {
	Kind    EffectKind
	Email   *Email   // write, amend
	As      *Email   // the email as it was left; a later effect may change it again
	Pending *Pending // expect, forget
}

// underWay is how often a follow-up looks whether its first email has been
// accepted.
const underWay = 5 * time.Minute

func (l *Timeline) memory() Memory {
	return Memory{RowState: l.RowState, Last: func() (time.Time, bool) {
		at, ok := l.Ledger.Last()
		if l.had && (!ok || l.last.After(at)) {
			return l.last, true
		}
		return at, ok
	}}
}

// Run judges all that is due up to an instant. While the row has unsettled
// edits, what fell due before the first of them is judged on the row as it last
// settled, and the rest waits until it settles.
func (l *Timeline) Run(to time.Time) {
	if l.First.IsZero() {
		l.Advance(to)
		return
	}
	l.Advance(l.First.Add(-Tick))
	for _, p := range slices.Clone(l.Coming) {
		if !p.At.After(to) {
			if p.At = l.SettlesAt; !p.At.After(to) {
				p.At = to.Add(Tick) // it has not been settled yet, which takes this along
			}
			l.effect(Effect{Kind: Expect, Pending: p})
		}
	}
}

// Wake gives when the rule must look at the row again by itself; the zero time
// means never.
func (l *Timeline) Wake() time.Time {
	switch {
	case !l.On || l.Deleted:
		return time.Time{}
	case !l.First.IsZero():
		return l.SettlesAt
	case l.Row == nil:
		return time.Time{}
	}
	return l.Next(l.Row, l.Known, l.Since)
}

// Advance judges what falls due on the settled row up to an instant: at each
// instant first what turns by itself, then what is due.
func (l *Timeline) Advance(to time.Time) {
	for !l.Deleted && l.Row != nil && to.After(l.Since) {
		until, look := to, time.Time{}
		if l.Moving() {
			if next := l.Next(l.Row, l.Known, l.Since); !next.IsZero() && !next.After(to) {
				until, look = next.Add(-Tick), next
			}
		}
		l.due(l.Row, l.Since, until, time.Time{})
		l.Since = until
		if look.IsZero() {
			break
		}
		if o, ok := l.CompiledRule.Settle(l.Row, l.Row, look, l.RowState); ok {
			l.react(o, l.Row, look)
		}
		l.due(l.Row, l.Since, look, time.Time{})
		l.Since = look
	}
	if to.After(l.Since) {
		l.Since = to
	}
	l.due(l.Row, l.Since, l.Since, time.Time{}) // what has come back to be looked at
}

// due judges what falls due after from and not after to, each at its instant,
// or, where the row has been settling, all at the instant it settles. What is
// known to come counts whenever it fell due.
func (l *Timeline) due(row *sheet.Row, from, to time.Time, settles time.Time) {
	dates := l.dates(row, from, to)
	for {
		// One at a time: what is judged may add to what is to come, or end it.
		var next *Pending
		for _, p := range l.Coming {
			if !p.At.After(to) && (next == nil || earlier(p.due(), p.Step, next.due(), next.Step)) {
				next = p
			}
		}
		switch {
		case len(dates) > 0 && (next == nil || !earlier(next.due(), next.Step, dates[0].Due, 0)):
			o := dates[0]
			dates = dates[1:]
			l.consider(o, row, later(o.Due, settles))
		case next != nil:
			l.forget(next)
			l.look(next, row, later(later(next.due(), next.At), settles))
		default:
			return
		}
	}
}

// earlier orders what comes for one row by one rule: by instant, then step.
func earlier(a time.Time, aStep int, b time.Time, bStep int) bool {
	if !a.Equal(b) {
		return a.Before(b)
	}
	return aStep < bStep
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// dates gives the row's dates and rounds that have not been judged. Those that
// fall due at one moment are told apart without what has been judged before.
func (l *Timeline) dates(row *sheet.Row, from, to time.Time) (out []rule.Occasion) {
	if !l.On || row == nil || !to.After(from) || l.IsRoundUp() && l.Pieces == nil {
		return nil
	}
	occ := l.Dates(row, l.Known, from, to, nil)
	if len(occ) == 0 {
		return nil
	}
	l.Ledger.Ask(occ)
	for i := range occ {
		if l.Ledger.Judged(&occ[i]) {
			occ = l.Dates(row, l.Known, from, to, l.Ledger.Judged)
			return slices.DeleteFunc(occ, func(o rule.Occasion) bool { return l.Ledger.Judged(&o) })
		}
	}
	return occ
}

// consider judges an occasion for the first time. A schedule says nothing of
// rows for which its condition is false.
func (l *Timeline) consider(o rule.Occasion, row *sheet.Row, at time.Time) {
	if l.deferred(&o, at) {
		return
	}
	if o.Kind == rule.Schedule && o.Base == "" {
		if l.IsRoundUp() {
			l.Pieces(o, at)
			return
		}
		if !l.MayApply(row, at, l.memory()) {
			return
		}
	}
	l.Record(l.Judge(o, row, at, l.memory()))
}

// look does what something that was to come asks for.
func (l *Timeline) look(p *Pending, row *sheet.Row, at time.Time) {
	switch p.Kind {
	case Moved:
		if l.On && !l.quiet(p.Occasion.Due) {
			asks := l.Asks
			l.Asks = asks || p.Asks
			l.consider(p.Occasion, row, at)
			l.Asks = asks
		}
	case FollowUp:
		l.follow(p, row, at)
	case LateEnds:
		if p.Hangs.State == delivery.Incomplete { // it stands still while an email is held
			l.miss(p.Hangs, row)
		}
	case Review:
		if p.Hangs.State == delivery.Incomplete || p.Hangs.State == delivery.Held && p.Hangs.Why.Code.PassesByItself() {
			l.rejudge(p.Hangs, row, at)
		}
	}
}

// quiet reports whether an instant lies in the rule's last pause: nothing that
// falls due then does.
func (l *Timeline) quiet(at time.Time) bool {
	return !l.PausedAt.IsZero() && !at.Before(l.PausedAt) && at.Before(l.ResumedAt)
}

// react takes up a reaction: now, or when the window opens. A paused rule has
// counted it, and nothing falls due.
func (l *Timeline) react(o rule.Occasion, row *sheet.Row, at time.Time) {
	switch {
	case !l.On:
	case o.Due.After(at):
		o.Asks = l.Asks
		l.expect(&Pending{Kind: Moved, Occasion: o, At: o.Due})
	default:
		l.Record(l.Judge(o, row, at, l.memory()))
	}
}

// Settle lets the row's edits count: what fell due before the first of them is
// judged on the row as it last settled; then what was incomplete is judged
// again, what has waited is judged, and the rule reacts to what has changed.
func (l *Timeline) Settle(cur *sheet.Row, first, at time.Time) {
	before := first.Add(-Tick)
	l.First, l.SettlesAt = time.Time{}, time.Time{}
	l.Advance(before)
	l.Since = later(l.Since, before)
	was := l.Row
	l.mend(cur, at)
	moved := was == nil || !value.Same(l.Anchor(was), l.Anchor(cur))
	if moved {
		l.Known = later(l.Baseline, first)
	}
	if was != nil && moved { // what hung on the date is not to come any more
		for _, p := range slices.Clone(l.Coming) {
			if (p.Kind == Moved || p.Kind == FollowUp) && !l.Stands(&p.Occasion, cur) {
				l.forget(p)
			}
		}
	}
	if l.IsRoundUp() { // it takes each row as it last settled; it does not wait
		if was != nil {
			l.due(was, l.Since, at.Add(-Tick), time.Time{})
		}
		l.Since = later(l.Since, at.Add(-Tick))
	}
	o, fires := l.CompiledRule.Settle(was, cur, at, l.RowState)
	l.Row = cur
	l.due(cur, l.Since, at, at)
	if fires {
		l.react(o, cur, at)
	}
	l.Since = later(l.Since, at)
}

// Remove settles the rule's business with a row that is deleted: what fell due
// before is judged; what is due and waits for settling, mending or approval is
// skipped; what is to come is dropped without a line.
func (l *Timeline) Remove(at time.Time) {
	until := at.Add(-Tick)
	if l.First.IsZero() {
		l.Advance(until)
	} else if rested := l.First.Add(-Tick); l.Row != nil {
		l.Advance(rested)
		l.Since = later(l.Since, rested)
		l.skipWaiting(at)
	}
	for _, e := range l.Waiting {
		if e.State == delivery.Incomplete || e.State == delivery.Held {
			l.end(e, delivery.Skipped, reason.Reason{Code: reason.RowDeleted})
		}
	}
	for _, p := range slices.Clone(l.Coming) {
		l.forget(p)
	}
	l.Waiting, l.Deleted, l.First, l.SettlesAt = nil, true, time.Time{}, time.Time{}
	l.Since = later(l.Since, at)
}

// skipWaiting skips what waits for the row to settle.
func (l *Timeline) skipWaiting(at time.Time) {
	type waited struct {
		o   rule.Occasion
		due time.Time
	}
	var all []waited
	for _, p := range l.Coming {
		if (p.Kind == Moved || p.Kind == FollowUp) && p.due().Before(at) && l.On && !l.quiet(p.due()) {
			all = append(all, waited{p.Occasion, p.due()})
		}
	}
	for _, o := range l.dates(l.Row, l.Since, at.Add(-Tick)) {
		all = append(all, waited{o, o.Due})
	}
	slices.SortStableFunc(all, func(a, b waited) int {
		if c := a.due.Compare(b.due); c != 0 {
			return c
		}
		return a.o.Step - b.o.Step
	})
	for _, w := range all {
		if w.o.Kind == rule.Schedule && w.o.Base == "" && (l.IsRoundUp() || !l.MayApply(l.Row, at, l.memory())) {
			continue
		}
		l.write(Considered{w.o, skip(reason.RowDeleted), at, l.Compute(l.Row, at)}, true, false)
	}
}

// Record writes what has been judged: with each, one email for every mailbox.
func (l *Timeline) Record(cs []Considered) {
	for i, c := range cs {
		l.write(c, i == 0, false)
	}
}

// write puts an occasion that has been judged into the ledger, and what comes
// of it on the agenda. One that is there already stays as it is.
func (l *Timeline) write(c Considered, first, spared bool) {
	e := &Email{Occasion: c.Occasion, Single: first}
	if l.Ledger.Judged(&e.Occasion) && c.Mailbox == "" {
		return
	}
	if why, out := l.Asides.leftOut(&c.Occasion); out && c.Outcome != Skip {
		c.Decision = skipped(why)
	}
	l.decide(e, c, spared)
	l.Ledger.Enter(e)
	l.tell(Write, e)
	l.follows(e)
}

// decide says what becomes of an email whose occasion has been judged. spared:
// its late limit has stood still.
func (l *Timeline) decide(e *Email, c Considered, spared bool) {
	e.Decision, e.At, e.Why, e.On, e.Decided = c.Decision, c.At, c.Decision.Reason, c.On, true
	went := c.At
	if spared && !e.WentAt.IsZero() {
		went = e.WentAt // it counts from when it was held
	}
	e.WentAt = time.Time{}
	switch {
	case c.Outcome == Skip:
		e.State = delivery.Skipped
		return
	case !spared && !l.Now.IsZero() && l.Now.After(l.Late(e.Due)):
		due := e.Due
		e.State, e.Why = delivery.Missed, reason.Reason{Code: reason.TooLate, At: &due, Zone: l.Zone.String()}
		return
	case c.Outcome == Incomplete:
		e.State = delivery.Incomplete
		return
	}
	if why, ok := l.Same[e.sameID(l.Same)]; ok {
		e.Decision = skipped(why)
		e.State, e.Why = delivery.Skipped, why
		return
	}
	if e.WentAt = went; e.Base == "" && (!l.had || went.After(l.last)) {
		l.last, l.had = went, true
	}
	if hold := l.holds(e, c.Outcome); hold != "" {
		why := e.Why
		e.State, e.Why = delivery.Held, reason.Reason{Code: hold, Of: &why}
		return
	}
	e.State = delivery.Queued
}

// holds gives why an email is held, "" where it is not.
func (l *Timeline) holds(e *Email, what Outcome) reason.Code {
	switch {
	case l.Passed: // even while sending is off: switching it on must not let it go
		return reason.Baseline
	case !e.Due.After(l.Restored) && !l.Looked:
		return reason.Restored
	case l.Off:
		return reason.SendingOff
	case l.Looked:
		return ""
	case l.Asks:
		return reason.EditAsks
	case what == Hold:
		return reason.AsksFirst
	case l.Rule.Hold == rule.HoldFirstRun && !l.Released:
		return reason.FirstRun
	}
	return ""
}

// follows notes what comes of an email: its late limit while it is incomplete,
// and the follow-ups of one that goes.
func (l *Timeline) follows(e *Email) {
	switch {
	case e.State == delivery.Incomplete:
		l.wait(e)
		l.expect(&Pending{Kind: LateEnds, At: l.Late(e.Due).Add(Tick), Hangs: e})
	case e.State == delivery.Queued || e.State == delivery.Held && !l.Nobody:
		for _, f := range l.FollowUps(&e.Occasion, e.Single, e.At) {
			l.expectOnce(&Pending{Kind: FollowUp, Occasion: f, At: f.Due, First: e.Ref, Hangs: e})
		}
	}
}

func (l *Timeline) wait(e *Email) {
	if !slices.Contains(l.Waiting, e) {
		l.Waiting = append(l.Waiting, e)
	}
}

// expectOnce notes a follow-up that is to come, once: of several mailboxes that
// are mended one after the other each would bring what comes once for all.
func (l *Timeline) expectOnce(p *Pending) {
	if to, moved := l.Asides.MovedTo(&p.Occasion); moved {
		p.Occasion.Due, p.At = to, to
	}
	id := p.Identity()
	if slices.ContainsFunc(l.Coming, func(x *Pending) bool {
		return x.Kind == FollowUp && x.Base == p.Base &&
			x.Identity() == id
	}) {
		return
	}
	if !l.Ledger.Judged(&p.Occasion) {
		l.expect(p)
	}
}

func (l *Timeline) expect(p *Pending) {
	l.Coming = append(l.Coming, p)
	l.effect(Effect{Kind: Expect, Pending: p})
}

func (l *Timeline) forget(p *Pending) {
	l.Coming = slices.DeleteFunc(l.Coming, func(x *Pending) bool { return x == p })
	l.effect(Effect{Kind: Forget, Pending: p})
}

func (l *Timeline) effect(x Effect) { l.Effects = append(l.Effects, x) }

func (l *Timeline) tell(k EffectKind, e *Email) {
	as := *e
	l.effect(Effect{Kind: k, Email: e, As: &as})
}

// follow judges a follow-up. It goes only if the first email was accepted:
// while that is under way it waits, within its late limit.
func (l *Timeline) follow(p *Pending, row *sheet.Row, at time.Time) {
	first := l.Ledger.FirstOf(p)
	if !l.On || l.quiet(p.Occasion.Due) || first == nil {
		return
	}
	to, moved := l.Asides.MovedTo(&p.Occasion)
	if moved && !to.Equal(p.Occasion.Due) {
		if p.Occasion.Due = to; to.After(at) {
			p.At = to
			l.expect(p)
			return
		}
	}
	switch first.State {
	case delivery.Accepted, delivery.Bounced:
	case delivery.Skipped:
		if first.Why.Code == reason.SameWords {
			return // nothing follows it
		}
		l.step(p, Considered{p.Occasion, skip(reason.FirstDidNotGo), at, l.Compute(row, at)})
		return
	case delivery.Failed, delivery.Dropped, delivery.Missed:
		l.step(p, Considered{p.Occasion, skip(reason.FirstDidNotGo), at, l.Compute(row, at)})
		return
	default:
		ends := l.Late(p.Occasion.Due)
		if !l.Now.IsZero() && l.Now.After(ends) {
			l.step(p, Considered{p.Occasion, Decision{Outcome: Send}, at, l.Compute(row, at)}) // missed
			return
		}
		p.At = later(l.Now, at).Add(underWay)
		if first.State == delivery.Held || first.State == delivery.InDoubt {
			p.At = ends.Add(Tick) // a person's decision brings it forward
		}
		l.expect(p)
		return
	}
	if o, ok := l.countAnew(first, &p.Occasion); ok && !moved && o.Due.After(at) {
		p.Occasion, p.At = o, o.Due
		l.expect(p)
		return
	}
	for _, c := range l.Judge(p.Occasion, row, at, l.memory()) {
		l.step(p, c)
	}
}

// countAnew moves a follow-up whose first email was accepted more than an hour
// after it was due: it counts from then.
func (l *Timeline) countAnew(first *Email, o *rule.Occasion) (rule.Occasion, bool) {
	if first.FinishedAt.IsZero() || o.Again > 0 || first.FinishedAt.Sub(o.BaseDue) <= grace {
		return *o, false
	}
	for _, f := range l.FollowUps(&first.Occasion, true, first.FinishedAt) {
		if f.Step == o.Step {
			return f, true
		}
	}
	return *o, false
}

// step writes a follow-up that has been judged, and what comes after it in its
// chain.
func (l *Timeline) step(p *Pending, c Considered) {
	if l.Ledger.Judged(&c.Occasion) {
		return
	}
	out, left := l.Asides.leftOut(&c.Occasion)
	l.write(c, true, false)
	if left && out.Code == reason.ChainStopped || c.Outcome == Skip && c.Decision.Reason.Code == reason.Stopped {
		l.endChain(&c.Occasion)
		return
	}
	if next, ok := l.NextAgain(c.Occasion); ok {
		l.expectOnce(&Pending{Kind: FollowUp, Occasion: next, At: next.Due, First: p.First, Hangs: p.Hangs})
	}
}

// endChain drops what was to come after a follow-up that has been stopped. One that goes to others ends all
// chains of its occasion. With each, a mailbox's ends its own; what goes to others belongs to all of them,
// and ends with the last that is still to come.
func (l *Timeline) endChain(o *rule.Occasion) {
	first := o.FirstWhole()
	var others []*Pending // that go to others
	going := false        // another mailbox's chain
	for _, x := range slices.Clone(l.Coming) {
		switch {
		case x.Kind != FollowUp || x.FirstWhole() != first:
		case x.Base == o.Base || o.Own:
			l.forget(x)
		case x.Own:
			others = append(others, x)
		default:
			going = true
		}
	}
	if going {
		return
	}
	for _, x := range others {
		l.forget(x)
	}
}

// mend judges the row's incomplete emails again.
func (l *Timeline) mend(row *sheet.Row, at time.Time) {
	waiting := l.Waiting
	l.Waiting = nil
	for _, e := range waiting {
		if e.State == delivery.Incomplete {
			l.rejudge(e, row, at)
		}
	}
}

// Rejudge judges an email that waits once more: its sheet, its row or its
// template has changed, or what held it is over.
func (l *Timeline) Rejudge(e *Email, at time.Time) { l.rejudge(e, l.Row, at) }

func (l *Timeline) rejudge(e *Email, row *sheet.Row, at time.Time) {
	if row == nil {
		row = &sheet.Row{ID: l.ID} // it has never settled
	}
	if !l.Stands(&e.Occasion, row) {
		l.end(e, delivery.Skipped, reason.Reason{Code: reason.DateMoved})
		return
	}
	m := l.memory()
	if e.State == delivery.Held && e.Why.Code != reason.Window {
		m.Last = nil // it counts already: it is no repetition of itself
	}
	cs := l.Mend(e.Occasion, row, at, m)
	incomplete := e.State == delivery.Incomplete
	switch {
	case incomplete && at.After(l.Late(e.Due)):
		l.miss(e, row)
		return
	case len(cs) == 0:
		l.end(e, delivery.Skipped, reason.Reason{Code: reason.NotRecipient, Mailbox: e.Mailbox})
		return
	case incomplete && cs[0].Outcome == Incomplete:
		e.Decision.FaultyColumn, e.Why, e.Decided = cs[0].FaultyColumn, cs[0].Decision.Reason, false
		l.wait(e)
		l.tell(Amend, e)
		return
	}
	if opens := l.Opens(at); incomplete && opens.After(at) {
		why := cs[0].Decision.Reason
		e.State, e.Decided, e.Decision.FaultyColumn, e.Why = delivery.Held, false, "", reason.Reason{Code: reason.Window,
			Of: &why}
		l.tell(Amend, e)
		l.expect(&Pending{Kind: Review, At: opens, Hangs: e})
		return
	}
	if e.Mailbox == "" && cs[0].Mailbox != "" { // with each, the whole becomes its mailboxes' emails
		spared := !incomplete
		for i, c := range cs {
			l.write(c, i == 0, spared)
		}
		l.end(e, delivery.Skipped, reason.Reason{Code: reason.BecameMailboxes})
		return
	}
	l.anew(e, cs[0])
}

// anew puts a new decision into an email that is in the ledger.
func (l *Timeline) anew(e *Email, c Considered) {
	spared := e.State == delivery.Held
	e.Single = true
	l.decide(e, c, spared)
	l.tell(Amend, e)
	l.follows(e)
}

func (l *Timeline) end(e *Email, st delivery.State, why reason.Reason) {
	e.State, e.Why, e.Decided = st, why, false
	l.tell(Amend, e)
}

// Orphan ends an email that waits and whose rule, row or sheet is not there any
// more; ok is false for one that does not wait.
func Orphan(e *Email, why reason.Code) (x Effect, ok bool) {
	if e.State != delivery.Incomplete && e.State != delivery.Held {
		return x, false
	}
	l := Timeline{}
	l.end(e, delivery.Skipped, reason.Reason{Code: why})
	return l.Effects[0], true
}

// LeaveOut ends a held email that a person has left out.
func LeaveOut(e *Email, why reason.Reason) Effect {
	l := Timeline{}
	l.end(e, delivery.Dropped, why)
	return l.Effects[0]
}

// Replace ends an email of a sending by hand that still waits: a later one to the row takes its place.
func Replace(e *Email) Effect {
	l := Timeline{}
	l.end(e, delivery.Skipped, reason.Reason{Code: reason.Replaced})
	return l.Effects[0]
}

// miss ends what was not mended within its late limit.
func (l *Timeline) miss(e *Email, row *sheet.Row) {
	if row != nil && !l.Stands(&e.Occasion, row) {
		l.end(e, delivery.Skipped, reason.Reason{Code: reason.DateMoved})
		return
	}
	why := e.Why
	l.end(e, delivery.Missed, reason.Reason{Code: reason.NotMended, Of: &why})
}

// Approve lets a held email go: judged and written anew, on the row as it last
// settled. Its late limit has stood still.
func (l *Timeline) Approve(e *Email, at time.Time) {
	switch {
	case e.Row == "": // a round-up goes as it was written
		l.end(e, delivery.Queued, reason.Reason{Code: reason.Round})
		return
	case l.Deleted || l.Row == nil:
		l.end(e, delivery.Skipped, reason.Reason{Code: reason.RowDeleted})
		return
	}
	m := l.memory()
	m.Last = nil // it is no repetition of itself
	for _, c := range l.Mend(e.Occasion, l.Row, at, m) {
		if e.Mailbox == "" || c.Mailbox == e.Mailbox || c.Mailbox == "" {
			looked := l.Looked
			l.Looked = true
			l.anew(e, c)
			l.Looked = looked
			return
		}
	}
	l.end(e, delivery.Skipped, reason.Reason{Code: reason.NotRecipient, Mailbox: e.Mailbox})
}

// Review looks at an email that waits at once, whatever else is due.
func (l *Timeline) Review(p *Pending, at time.Time) {
	l.forget(p)
	switch {
	case p.Hangs.Row != "" && l.Deleted:
		if p.Hangs.State == delivery.Incomplete || p.Hangs.State == delivery.Held {
			l.end(p.Hangs, delivery.Skipped, reason.Reason{Code: reason.RowDeleted})
		}
	case p.Hangs.Row == "" && p.Kind == LateEnds:
		if p.Hangs.State == delivery.Incomplete { // the next round says it anew
			l.miss(p.Hangs, nil)
		}
	case p.Hangs.Row == "":
		if p.Hangs.State == delivery.Held && p.Hangs.Why.Code.PassesByItself() {
			l.end(p.Hangs, delivery.Queued, reason.Reason{Code: reason.Round})
		}
	default:
		l.look(p, l.Row, at)
	}
}

// Round judges one round of a schedule on the row as it last settled. A row
// that was being edited by then waits until it settles; one that has settled
// since has taken the round with it, or was not there.
func (l *Timeline) Round(o rule.Occasion) {
	if l.Row == nil || l.Deleted || l.SettledAt.After(o.Due) || !l.First.IsZero() && !o.Due.Before(l.First) {
		return
	}
	o.Row = l.ID
	if !l.Ledger.Judged(&o) {
		l.consider(o, l.Row, o.Due)
	}
}

// Take judges an occasion that a person brings about, on the row given.
func (l *Timeline) Take(o rule.Occasion, row *sheet.Row, at time.Time) {
	if !l.Ledger.Judged(&o) {
		l.consider(o, row, at)
	}
}

// TakePast takes up what the baseline has left as it is, or, after a pause,
// what passed since.
func (l *Timeline) TakePast(since, at time.Time) {
	if l.Row == nil || l.Deleted {
		return
	}
	occ := l.CompiledRule.Past(l.Row, since, l.Baseline, l.RowState)
	l.Ledger.Ask(occ)
	for _, o := range occ {
		if !l.Ledger.Judged(&o) {
			for i, c := range l.Judge(o, l.Row, at, l.memory()) {
				l.write(c, i == 0, true)
			}
		}
	}
}
