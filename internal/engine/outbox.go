package engine

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
	"sort"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// outbox is what timelines have decided, on its way into the database.
type outbox struct {
	entries  []store.Entry
	dropped  []int64
	expected []*expected
	written  []*written
	by       map[*plan.Email]*written // of those, by the email it is
	changed  []*store.Delivery
	letters  []store.Letter // of changed ones
	events   []store.Event
	said     map[*plan.Email]*saying // what goes, or is held, by what has been decided
}

// written is an email that enters the ledger, with its earlier states, if it
// has been more than one in this work.
type written struct {
	*store.Delivery
	rb     *cachedRule
	at     time.Time // the instant it was judged at
	letter *store.Letter
	before []store.Event
}

// expected is something known to come, of a timeline.
type expected struct {
	*plan.Pending
	l *timeline
}

func newOutbox() outbox {
	return outbox{by: map[*plan.Email]*written{}, said: map[*plan.Email]*saying{}}
}

func (w *work) put(en store.Entry) { w.outbox.entries = append(w.outbox.entries, en) }

func (w *work) drop(id int64) {
	if id != 0 {
		w.outbox.dropped = append(w.outbox.dropped, id)
	}
}

// carryOut takes up what a timeline has decided.
func (w *work) carryOut(ctx context.Context, l *timeline) error {
	for _, x := range l.Effects {
		var err error
		switch x.Kind {
		case plan.Write:
			err = w.write(ctx, l, x)
		case plan.Amend:
			err = w.amend(ctx, l, x)
		case plan.Expect:
			w.forget(x.Pending)
			w.outbox.expected = append(w.outbox.expected, &expected{x.Pending, l})
		case plan.Forget:
			w.forget(x.Pending)
			w.drop(x.Pending.Ref)
		}
		if err != nil {
			return err
		}
	}
	l.Effects = l.Effects[:0]
	return w.failed
}

func (w *work) forget(p *plan.Pending) {
	w.outbox.expected = slices.DeleteFunc(w.outbox.expected, func(x *expected) bool { return x.Pending == p })
}

// write gathers an email that enters the ledger.
func (w *work) write(ctx context.Context, l *timeline, x plan.Effect) error {
	m := x.As
	id := m.Identity()
	row, err := rowID(m.Row)
	if err != nil {
		return err
	}
	origin, err := json.Marshal(m.Occasion)
	if err != nil {
		return err
	}
	d := &store.Delivery{Occasion: id[:], SheetID: l.sb.record.ID, RuleID: l.rb.record.ID, RowID: row, Step: m.Step,
		Reaction: m.Kind.Reaction() && m.Base == "" && !l.Passed, SenderID: l.sb.record.SenderID, DueAt: m.Due,
		JudgedAt: w.now, Origin: string(origin), Attempt: 1}
	if wid := m.WholeIdentity(); wid != id {
		d.Base = wid[:]
	}
	p := &written{Delivery: d, rb: l.rb}
	if err := p.become(m, delivery.Considering, w.now); err != nil {
		return err
	}
	w.note(x, d, l.rb)
	if p.letter, err = w.letterOf(ctx, m); err != nil {
		return err
	}
	if m.Kind == rule.Schedule && m.Row == "" && l.facts != nil {
		d.Facts = l.facts(m)
	}
	w.queued = w.queued || d.State == delivery.Queued
	w.outbox.written = append(w.outbox.written, p)
	w.outbox.by[x.Email] = p
	return nil
}

// become puts what has been decided of an email into its delivery.
func (p *written) become(m *plan.Email, by delivery.Cause, now time.Time) error {
	p.at = m.At
	return put(p.Delivery, m, p.rb, by, now)
}

func put(d *store.Delivery, m *plan.Email, rb *cachedRule, by delivery.Cause, now time.Time) error {
	if err := d.Become(m.State, by); err != nil {
		return err
	}
	d.Reason, d.FaultyColumn = store.Why{Reason: m.Why}, m.FaultyColumn
	d.WentAt, d.FinishedAt, d.Worker = nil, nil, 0
	if !m.WentAt.IsZero() {
		went := m.WentAt
		d.WentAt = &went
	}
	if m.State == delivery.Queued {
		d.NextTry = &now
	}
	if m.Decided {
		d.TemplateID, d.Subject, d.Recipients, d.ReplyTo, d.Facts = m.Template, m.Subject, recipientsOf(m.Decision),
			lines(m.ReplyTo), "[]"
		if m.On != nil {
			d.Facts = rb.factsOf(m.On)
		}
	}
	return nil
}

// letterOf makes the letter of an email that is to go, or to wait for somebody; nil for others.
func (w *work) letterOf(ctx context.Context, m *plan.Email) (*store.Letter, error) {
	if !m.Decided || m.State != delivery.Queued && m.State != delivery.Held {
		return nil, nil
	}
	if err := writeMade(ctx, w.tx, &m.Rendered, w.now); err != nil {
		return nil, err
	}
	return store.NewLetter(&m.Rendered), nil
}

// amend gathers a new state of an email that is in the ledger, or about to be.
func (w *work) amend(ctx context.Context, l *timeline, x plan.Effect) error {
	m := x.As
	w.queued = w.queued || m.State == delivery.Queued
	if p := w.outbox.by[x.Email]; p != nil {
		p.before = append(p.before, w.event(p.Delivery))
		if err := p.become(m, w.act.cause, w.now); err != nil {
			return err
		}
		w.note(x, p.Delivery, p.rb)
		var err error
		p.letter, err = w.letterOf(ctx, m)
		return err
	}
	d := w.records[x.Email]
	was := d.State
	var rb *cachedRule
	if l != nil {
		rb = l.rb
	}
	if err := put(d, m, rb, w.act.cause, w.now); err != nil {
		return err
	}
	w.note(x, d, rb)
	letter, err := w.letterOf(ctx, m)
	if err != nil {
		return err
	}
	if letter != nil {
		letter.DeliveryID = d.ID
		w.outbox.letters = append(w.outbox.letters, *letter)
	}
	if !slices.Contains(w.outbox.changed, d) {
		w.outbox.changed = append(w.outbox.changed, d)
	}
	if d.State != was || was != delivery.Incomplete { // an incomplete one's new reason is none to tell
		w.outbox.events = append(w.outbox.events, store.DeliveryEvent(d, w.now, w.act.actor,
			map[string]any{"reason": d.Reason, "again": true}))
	}
	return nil
}

// event tells what has become of an occasion. Why a queued one goes stands with its delivery.
func (w *work) event(d *store.Delivery) store.Event {
	if d.State == delivery.Queued {
		return store.DeliveryEvent(d, w.now, w.act.actor, map[string]any{})
	}
	return store.DeliveryEvent(d, w.now, w.act.actor, map[string]any{"reason": d.Reason})
}

// brake counts each rule's emails from reactions, all that fall due at one
// instant before any is decided, and holds what is more than expected.
func (w *work) brake(ctx context.Context) error {
	by := map[*cachedRule][]*written{}
	var order []*cachedRule
	for _, p := range w.outbox.written {
		if p.Reaction && (p.State == delivery.Queued || p.State == delivery.Held) {
			if by[p.rb] == nil {
				order = append(order, p.rb)
			}
			by[p.rb] = append(by[p.rb], p)
		}
	}
	for _, rb := range order {
		if err := w.brakeRule(ctx, rb, by[rb]); err != nil {
			return err
		}
	}
	return nil
}

func (w *work) brakeRule(ctx context.Context, rb *cachedRule, ps []*written) error {
	rec, rows, err := w.tx.LockReactions(ctx, rb.record.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	b := plan.Brake{Rule: rb.compiled.Rule, Engaged: rec.BrakedAt != nil, Earlier: func(from, to time.Time) int {
		n, err := w.tx.CountReactions(ctx, rec.ID, from, to)
		w.fail(err)
		return n
	}}
	sort.SliceStable(ps, func(i, j int) bool { return ps[i].at.Before(ps[j].at) })
	for i := 0; i < len(ps); {
		j := i
		for j < len(ps) && ps[j].at.Equal(ps[i].at) {
			j++
		}
		if b.Holds(ps[i].at, j-i, int(rows)) {
			if rec.BrakedAt == nil {
				rec.BrakedAt = &ps[i].at
				w.outbox.events = append(w.outbox.events, store.Event{At: w.now, Actor: "nivot", Kind: store.EventRuleState,
					SheetID: rec.SheetID, RuleID: rec.ID,
					Detail: store.Detail(map[string]any{"braked": rec.BrakedAt})})
				if err := w.tx.SaveBrake(ctx, rec.ID, rec.BrakedAt); err != nil {
					return err
				}
			}
			for _, p := range ps[i:j] {
				if p.State == delivery.Queued {
					why := p.Reason.Reason
					if err := p.Become(delivery.Held, delivery.Considering); err != nil {
						return err
					}
					p.Reason = store.Why{Reason: reason.Reason{Code: reason.Brake, Of: &why}}
				}
			}
		}
		i = j
	}
	return w.failed
}

// flush writes what has been gathered.
func (w *work) flush(ctx context.Context) error {
	if err := w.sameWords(ctx); err != nil {
		return err
	}
	if err := w.brake(ctx); err != nil {
		return err
	}
	for _, l := range w.order {
		if l.row != 0 && (l.ran || l.settled) {
			l.wake()
		}
	}
	if err := w.saveMemories(ctx); err != nil {
		return err
	}
	o := &w.outbox
	slices.Sort(o.dropped)
	if err := w.tx.DropEntries(ctx, slices.Compact(o.dropped)); err != nil {
		return err
	}
	own, err := w.enter(ctx)
	if err != nil {
		return err
	}
	for _, x := range o.expected {
		if en, ok := w.entryOf(x); ok {
			o.entries = append(o.entries, en)
		}
	}
	if err := w.tx.PutEntries(ctx, o.entries); err != nil {
		return err
	}
	for _, d := range o.changed {
		if err := w.tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
		w.e.log.Debug("decided anew", "delivery", d.ID, "rule", d.RuleID, "row", d.RowID, "becomes", d.State, "for",
			d.Reason.Code)
	}
	if err := w.tx.AddEvents(ctx, o.events...); err != nil {
		return err
	}
	if err := w.tx.TellOf(ctx, w.now, own); err != nil {
		return err
	}
	w.done()
	return nil
}

// enter writes what enters the ledger, with its letters, and gathers its events. It gives the deliveries
// whose rows stand for theirs.
func (w *work) enter(ctx context.Context) (own []*store.Delivery, err error) {
	o := &w.outbox
	// In the order of their instants, whatever the order of their rows.
	sort.SliceStable(o.written, func(i, j int) bool { return o.written[i].at.Before(o.written[j].at) })
	ds := make([]*store.Delivery, len(o.written))
	for i, p := range o.written {
		ds[i] = p.Delivery
		if p.State == delivery.Queued && len(p.before) == 0 && w.act.actor == itself.actor {
			p.OwnEvents = store.OwnQueued
		}
	}
	if err := w.tx.InsertDeliveries(ctx, ds); err != nil {
		return nil, err
	}
	letters := o.letters
	for _, p := range o.written {
		if p.ID == 0 {
			continue // another process has written this occasion
		}
		w.entered[p.State]++
		w.e.log.Debug("decided", "delivery", p.ID, "rule", p.RuleID, "row", p.RowID, "due", p.DueAt, "becomes", p.State,
			"for", p.Reason.Code)
		for _, ev := range p.before {
			ev.DeliveryID = p.ID
			o.events = append(o.events, ev)
		}
		if p.OwnEvents > 0 {
			own = append(own, p.Delivery)
		} else {
			o.events = append(o.events, w.event(p.Delivery))
		}
		if p.letter != nil {
			p.letter.DeliveryID = p.ID
			letters = append(letters, *p.letter)
		}
	}
	return own, w.tx.PutLetters(ctx, letters)
}

// done begins a new outbox; what has been read stays.
func (w *work) done() {
	for m, p := range w.outbox.by {
		if p.ID != 0 {
			m.Ref = p.ID
			w.emails[p.ID], w.records[m] = m, p.Delivery
		}
	}
	w.outbox = newOutbox()
	for _, l := range w.order {
		l.ran, l.settled, l.due = false, false, nil
	}
}

// entryOf is the agenda entry of something known to come; none where the email
// that it hangs on has been written by another process.
func (w *work) entryOf(x *expected) (store.Entry, bool) {
	p := x.Pending
	en := store.Entry{Kind: store.AgendaKind(p.Kind), DueAt: p.At, SheetID: x.l.sb.record.ID, RuleID: x.l.rb.record.ID,
		RowID: x.l.row, DeliveryID: p.First}
	if p.Hangs != nil {
		if en.DeliveryID = p.Hangs.Ref; en.DeliveryID == 0 {
			if d := w.outbox.by[p.Hangs]; d != nil {
				en.DeliveryID = d.ID
			}
		}
	}
	switch p.Kind {
	case plan.Moved:
		en.DeliveryID, en.Nr, en.Origin = 0, movedNr(&p.Occasion), store.Detail(p.Occasion)
		return en, true
	case plan.FollowUp:
		en.Nr, en.Origin = int64(p.Step)*1_000_000+int64(p.Occasion.Again), store.Detail(p.Occasion)
	}
	return en, en.DeliveryID != 0
}

// movedNr tells the moved occasions of a row by a rule apart: reactions by their
// number, what a person has moved by its identity.
func movedNr(o *rule.Occasion) int64 {
	if o.Kind.Reaction() {
		return int64(o.N)
	}
	id := o.Identity()
	return int64(binary.BigEndian.Uint64(id[:8]) >> 1)
}

// saveMemories writes what rules remember of rows, where that has changed: also
// where it is nothing any more.
func (w *work) saveMemories(ctx context.Context) error {
	var out []store.Remembered
	for _, l := range w.order {
		if l.memory == nil || !l.rb.compiled.Remembers() && l.memory.was == "" {
			continue
		}
		is := ""
		if !l.RowState.IsZero() {
			is = store.Detail(l.RowState)
		}
		if is != l.memory.was {
			l.memory.was = is
			out = append(out, store.Remembered{RowStateKey: store.RowStateKey{RuleID: l.rb.record.ID, RowID: l.row},
				Baseline: l.memory.baseline, RowState: l.RowState})
		}
	}
	return w.tx.SaveRowStates(ctx, out)
}

// facts gives the values of a row whose formulas have been worked out.
func (rb *cachedRule) facts(row *sheet.Row) []store.Fact {
	s := rb.compiled.Sheet
	out := make([]store.Fact, 0, len(s.Columns))
	for i := range s.Columns {
		c := &s.Columns[i]
		out = append(out, store.Fact{Column: c.ID, Name: c.Name, Value: s.Show(c, row.Cell(c))})
	}
	return out
}

func (rb *cachedRule) factsOf(row *sheet.Row) string { return store.Detail(rb.facts(row)) }

func recipientsOf(v plan.Decision) string {
	out := []store.Recipient{}
	for _, l := range []struct {
		role  string
		boxes []value.Mailbox
	}{{"to", v.To}, {"cc", v.Cc}, {"bcc", v.Bcc}} {
		for _, m := range l.boxes {
			out = append(out, store.Recipient{Role: l.role, Mailbox: m.String(), Address: m.ASCII()})
		}
	}
	return store.Detail(out)
}

func lines(boxes []value.Mailbox) string {
	var out []string
	for _, m := range boxes {
		out = append(out, m.String())
	}
	return strings.Join(out, "\n")
}

var _ plan.Ledger = (*timeline)(nil)
