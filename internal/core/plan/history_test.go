package plan_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
)

// historySpan is for how long `make test` plays histories; NIVOT_SEED plays one.
const historySpan = 10 * time.Second

// Random histories straight through the machine: a keeper that builds every
// Timeline anew from what it has stored, and looks only when an entry of its agenda
// is due, arrives at exactly the lines that the rehearsal prints. A keeper that
// sleeps, and wakes late and at random, arrives at the same, but for nothing.
// Every state follows the one before it by the table.
func TestHistories(t *testing.T) {
	seed, until := uint64(1), time.Now().Add(historySpan)
	if s := os.Getenv("NIVOT_SEED"); s != "" {
		if _, err := fmt.Sscan(s, &seed); err != nil {
			t.Fatal(err)
		}
		until = time.Now()
	}
	n := 0
	for first := seed; seed == first || time.Now().Before(until) && !t.Failed(); seed++ {
		playHistory(t, seed)
		n++
	}
	t.Logf("%d histories", n)
}

var from, to = mustTime("2027-03-15T08:40:00Z"), mustTime("2027-04-12T08:40:00Z")

func mustTime(s string) time.Time {
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		panic(err)
	}
	return t
}

func playHistory(t *testing.T, seed uint64) {
	g := exchangetest.New(seed, 99)
	files := g.Bundle()
	b, err := exchange.ReadBundle(files)
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	for _, r := range b.Rules { // what another row's email says is not known here: TestModel
		r.SameWords = ""
	}
	text := g.Edits(b, from, to)
	edits, err := b.ReadEdits([]byte(text))
	if err != nil {
		t.Fatalf("seed %d: %v", seed, err)
	}
	var want []string
	settings, err := b.Settings(false)
	if err != nil {
		t.Fatal(err)
	}
	err = exchange.Rehearse(&plan.Rehearsal{Settings: settings, Edits: edits, From: from, To: to},
		func(f func(*sheet.Row) error) error {
			for _, r := range b.Rows {
				if err := f(r); err != nil {
					return err
				}
			}
			return nil
		}, func(l *plan.Line) error {
			if !settings[l.Rule].IsRoundUp() { // they are made of all rows at once
				want = append(want, fmt.Sprintf("%s rule %d row %s step %d %s %v %q (%s)",
					l.At.UTC().Format("01-02 15:04:05.000000"), l.Rule, l.Row, l.Step, l.Outcome, l.To, l.Subject, l.Reason))
			}
			return nil
		})
	if err != nil {
		t.Fatal(err)
	}
	sort.Strings(want)
	for _, sleepy := range []bool{false, true} {
		k := &keeper{t: t, b: b, settings: settings, r: rand.New(rand.NewPCG(seed, 3)), sleepy: sleepy}
		for _, s := range settings {
			s.Light = true
		}
		got := k.play(edits)
		if !slices.Equal(got, want) {
			t.Errorf("seed %d, sleepy %v:\nkept, and not rehearsed:\n%s\nrehearsed, and not kept:\n%s\nrules:\n%s\nedits:\n%s",
				seed, sleepy,
				strings.Join(without(got, want), "\n"), strings.Join(without(want, got), "\n"), files["rules.json"].Data, text)
			return
		}
	}
}

func without(a, b []string) (out []string) {
	n := map[string]int{}
	for _, x := range b {
		n[x]++
	}
	for _, x := range a {
		if n[x]--; n[x] < 0 {
			out = append(out, x)
		}
	}
	return out
}

// keeper keeps timelines as a server does, in memory: everything that outlasts a
// look is stored as text, and each look begins anew from it.
type keeper struct {
	t        *testing.T
	b        *exchange.Bundle
	settings []*plan.CompiledRule
	r        *rand.Rand
	sleepy   bool
	lines    []string
}

// kept is one row: its edits so far, and by rule what is stored.
type kept struct {
	id          string
	settled     *sheet.Row
	cur         *sheet.Row
	first, last time.Time
	settledAt   time.Time
	deleted     bool
	rules       []*keptRule
}

type keptRule struct {
	index        int
	rowState     []byte
	since, known *time.Time // of its entry; nil: there is none
	wake         time.Time
	round        time.Time // of a schedule: the next one
	coming       []storedPending
	emails       []*storedEmail
}

type storedPending struct {
	id     int
	kind   plan.PendingKind
	at     time.Time
	origin []byte
	email  int // index of the email that it hangs on
}

type storedEmail struct {
	origin   []byte
	state    delivery.State
	email    plan.Email // for the report, and its reason
	ids      [2]rule.ID // its own, and that of the whole
	finished time.Time
}

func (k *keeper) play(edits []plan.Edit) []string {
	by := map[string][]plan.Edit{}
	var ids []string
	for _, r := range k.b.Rows {
		ids = append(ids, r.ID)
	}
	for _, e := range edits {
		if !slices.Contains(ids, e.Row) {
			ids = append(ids, e.Row)
		}
		by[e.Row] = append(by[e.Row], e)
	}
	for _, id := range ids {
		x := &kept{id: id, deleted: true}
		for _, r := range k.b.Rows {
			if r.ID == id {
				x.settled, x.cur, x.deleted = r, r, false
			}
		}
		for i, s := range k.settings {
			kr := &keptRule{index: i}
			if !s.IsRoundUp() {
				kr.round = s.NextRound(from.Add(-plan.Tick))
			}
			if !x.deleted {
				if next := s.Next(x.settled, from, from.Add(-plan.Tick)); !next.IsZero() {
					since, known := from.Add(-plan.Tick), from
					kr.since, kr.known, kr.wake = &since, &known, next
				}
			}
			x.rules = append(x.rules, kr)
		}
		k.row(x, by[id])
	}
	sort.Strings(k.lines)
	return k.lines
}

// row plays one row's history: looks when something is due, edits between.
func (k *keeper) row(x *kept, edits []plan.Edit) {
	now := from.Add(-plan.Tick)
	for {
		next := k.next(x)
		if k.sleepy && !next.IsZero() { // asleep for up to a day past the instant
			next = next.Add(time.Duration(k.r.IntN(86400)) * time.Second)
		}
		switch {
		case len(edits) > 0 && edits[0].At.Before(to) && (next.IsZero() || !next.Before(edits[0].At)):
			if settles := k.settlesAt(x); !settles.IsZero() && !settles.After(edits[0].At) {
				k.settle(x, settles, edits[0].At) // at one instant settling comes first
			}
			k.edit(x, edits[0])
			now, edits = edits[0].At, edits[1:]
		case next.IsZero() || !next.Before(to) && (!k.sleepy || !k.next(x).Before(to)):
			return
		default:
			if next.Before(now) {
				next = now
			}
			if !next.Before(to) {
				next = to.Add(-plan.Tick)
			}
			k.look(x, next)
			now = next
		}
	}
}

func (k *keeper) settlesAt(x *kept) time.Time {
	if x.first.IsZero() || x.deleted {
		return time.Time{}
	}
	return sheet.SettlesAt(x.first, x.last, k.b.Sheet.Settle)
}

func (k *keeper) next(x *kept) time.Time {
	next := k.settlesAt(x)
	sooner := func(at time.Time) {
		if !at.IsZero() && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	for _, kr := range x.rules {
		if !x.deleted {
			sooner(kr.wake)
		}
		sooner(kr.round)
		for _, p := range kr.coming {
			sooner(p.at)
		}
	}
	return next
}

// look considers all that is due by now.
func (k *keeper) look(x *kept, now time.Time) {
	settles := k.settlesAt(x)
	due := !settles.IsZero() && !settles.After(now)
	for _, kr := range x.rules { // a round before it settles takes the row as it was
		for !kr.round.IsZero() && !kr.round.After(now) && (!due || kr.round.Before(settles)) {
			k.round(x, kr, now)
		}
	}
	if due {
		k.settle(x, settles, now)
	}
	for _, kr := range x.rules {
		for !kr.round.IsZero() && !kr.round.After(now) {
			k.round(x, kr, now)
		}
		ripe := !kr.wake.IsZero() && !kr.wake.After(now)
		for _, p := range kr.coming {
			ripe = ripe || !p.at.After(now)
		}
		if ripe && !x.deleted {
			l := k.timeline(x, kr, now)
			l.Run(now)
			k.store(x, kr, l)
		}
	}
}

func (k *keeper) round(x *kept, kr *keptRule, now time.Time) {
	s := k.settings[kr.index]
	l := k.timeline(x, kr, now)
	for _, o := range s.Rounds(kr.round.Add(-plan.Tick), kr.round) {
		l.Round(o)
	}
	since, known, wake := kr.since, kr.known, kr.wake
	k.store(x, kr, l)
	kr.since, kr.known, kr.wake = since, known, wake // a round moves no entry
	kr.round = s.NextRound(kr.round)
}

func (k *keeper) settle(x *kept, at, now time.Time) {
	for _, kr := range x.rules {
		l := k.timeline(x, kr, now)
		l.Settle(x.cur, x.first, at)
		k.store(x, kr, l)
	}
	x.settled, x.first, x.last, x.settledAt = x.cur, time.Time{}, time.Time{}, at
}

func (k *keeper) edit(x *kept, e plan.Edit) {
	if e.Delete {
		for _, kr := range x.rules {
			l := k.timeline(x, kr, e.At)
			l.Remove(e.At)
			k.store(x, kr, l)
			kr.coming, kr.wake, kr.since = nil, time.Time{}, nil
		}
		x.deleted, x.first, x.last, x.cur = true, time.Time{}, time.Time{}, nil
		if x.settled == nil {
			x.settled = &sheet.Row{ID: x.id}
		}
		return
	}
	row := &sheet.Row{ID: x.id}
	if x.cur != nil && !x.deleted {
		row.Cells = slices.Clone(x.cur.Cells)
	}
	changed := x.deleted
	for id, v := range e.Set {
		c, _ := k.b.Sheet.Column(id)
		changed = changed || !value.Same(row.Cell(c), v)
		row.Set(c, v)
	}
	if x.deleted {
		x.settledAt = e.At
	}
	x.cur, x.deleted = row, false
	if !changed {
		if x.first.IsZero() {
			x.settled = row // only case or outer space
		}
		return
	}
	if x.first.IsZero() {
		x.first = e.At
	}
	x.last = e.At
}

// timeline builds a Timeline from what is stored, as the engine does from its tables.
func (k *keeper) timeline(x *kept, kr *keptRule, now time.Time) *plan.Timeline {
	s := k.settings[kr.index]
	st := &rule.RowState{}
	if kr.rowState != nil {
		k.must(json.Unmarshal(kr.rowState, st))
	}
	if s.Moving() && st.Looked.IsZero() {
		st.Looked = from
	}
	l := &plan.Timeline{CompiledRule: s, ID: x.id, Row: x.settled, Deleted: x.deleted, SettledAt: x.settledAt, On: true,
		Baseline: from, Since: now, Known: from, RowState: st,
		Circumstances: plan.Circumstances{Released: true, Nobody: true}}
	if l.First = x.first; !x.first.IsZero() {
		l.SettlesAt, l.Since = k.settlesAt(x), x.first.Add(-plan.Tick)
	}
	if !kr.round.IsZero() && !kr.round.After(l.Since) {
		l.Since = kr.round.Add(-plan.Tick)
		if x.settledAt.After(l.Since) {
			l.Since = x.settledAt
		}
	}
	if kr.since != nil {
		l.Since, l.Known = *kr.since, *kr.known
	}
	led := &ledger{k: k, kr: kr}
	l.Ledger = led
	for i, e := range kr.emails {
		m := &plan.Email{Ref: int64(i + 1), State: e.state, Why: e.email.Why, WentAt: e.email.WentAt, FinishedAt: e.finished,
			Single: true}
		k.must(json.Unmarshal(e.origin, &m.Occasion))
		k.must(m.Restore())
		m.At = m.Due
		led.emails = append(led.emails, m)
		if e.state == delivery.Incomplete {
			l.Waiting = append(l.Waiting, m)
		}
	}
	for _, p := range kr.coming {
		x := &plan.Pending{Ref: int64(p.id), Kind: p.kind, At: p.at, First: int64(p.email)}
		if p.origin != nil {
			k.must(json.Unmarshal(p.origin, &x.Occasion))
			k.must(x.Occasion.Restore())
		} else {
			x.Hangs = led.emails[p.email-1]
		}
		l.Coming = append(l.Coming, x)
	}
	return l
}

func (k *keeper) must(err error) {
	if err != nil {
		k.t.Fatal(err)
	}
}

// store carries a Timeline's effects out, and stores what it is to remember.
func (k *keeper) store(x *kept, kr *keptRule, l *plan.Timeline) {
	led := l.Ledger.(*ledger)
	var put []*plan.Pending
	for _, ef := range l.Effects {
		switch ef.Kind {
		case plan.Write, plan.Amend:
			k.tell(x, kr, led, ef)
		case plan.Expect:
			put = append(slices.DeleteFunc(put, func(p *plan.Pending) bool { return p == ef.Pending }), ef.Pending)
		case plan.Forget:
			put = slices.DeleteFunc(put, func(p *plan.Pending) bool { return p == ef.Pending })
			kr.coming = slices.DeleteFunc(kr.coming, func(p storedPending) bool { return int64(p.id) == ef.Pending.Ref })
		}
	}
	for _, p := range put {
		kr.coming = slices.DeleteFunc(kr.coming, func(s storedPending) bool { return int64(s.id) == p.Ref })
		s := storedPending{id: k.r.IntN(1 << 40), kind: p.Kind, at: p.At, email: int(p.First)}
		if p.Hangs != nil {
			s.email = int(p.Hangs.Ref)
		}
		if p.Kind == plan.Moved || p.Kind == plan.FollowUp {
			s.origin, _ = json.Marshal(p.Occasion)
		}
		kr.coming = append(kr.coming, s)
	}
	kr.rowState = nil
	if !l.RowState.IsZero() {
		kr.rowState, _ = json.Marshal(l.RowState)
	}
	kr.since, kr.known, kr.wake = nil, nil, l.Wake()
	if !kr.wake.IsZero() {
		since, known := l.Since, l.Known
		kr.since, kr.known = &since, &known
	}
}

func (k *keeper) tell(x *kept, kr *keptRule, led *ledger, ef plan.Effect) {
	m := *ef.As
	var e *storedEmail
	was, by := delivery.State(""), delivery.Considering
	if ef.Kind == plan.Write {
		whole := m.Whole()
		e = &storedEmail{ids: [2]rule.ID{m.Identity(), whole.Identity()}}
		e.origin, _ = json.Marshal(m.Occasion)
		kr.emails = append(kr.emails, e)
		ef.Email.Ref = int64(len(kr.emails))
	} else {
		e = kr.emails[ef.Email.Ref-1]
		was, by = e.state, delivery.Reviewing
	}
	if !delivery.Can(was, m.State, by) {
		k.t.Errorf("%s became %s by %s", was, m.State, by)
	}
	e.state, e.email = m.State, m
	if m.State == delivery.Queued { // it is accepted at once
		e.state, e.finished = delivery.Accepted, m.At
	}
	if ef.Kind == plan.Write || m.State == delivery.Queued || m.State == delivery.Held && m.Outcome == plan.Hold {
		var boxes []string
		subject := ""
		if m.Outcome != plan.Skip {
			for _, b := range m.To {
				boxes = append(boxes, b.String())
			}
			subject = m.Subject
		}
		k.lines = append(k.lines, fmt.Sprintf("%s rule %d row %s step %d %s %v %q (%s)",
			m.At.UTC().Format("01-02 15:04:05.000000"), kr.index, x.id, m.Step, m.Outcome, boxes, subject, m.Decision.Reason))
	}
}

// ledger answers a Timeline from what is stored.
type ledger struct {
	k       *keeper
	kr      *keptRule
	emails  []*plan.Email
	entered []rule.ID
}

func (l *ledger) Ask([]rule.Occasion) {}

func (l *ledger) Judged(o *rule.Occasion) bool {
	id := o.Identity()
	if slices.Contains(l.entered, id) {
		return true
	}
	return slices.ContainsFunc(l.kr.emails, func(e *storedEmail) bool { return e.ids[0] == id || e.ids[1] == id })
}

func (l *ledger) Enter(m *plan.Email) {
	whole := m.Whole()
	if id := m.Identity(); slices.Contains(l.entered, id) {
		l.k.t.Errorf("occasion %s enters the ledger twice", id)
	}
	l.entered = append(l.entered, m.Identity(), whole.Identity())
}

func (l *ledger) Last() (at time.Time, ok bool) {
	for i, m := range l.emails {
		st := l.kr.emails[i].state
		if m.Base == "" && (st == delivery.Accepted || st == delivery.Held) && !m.WentAt.IsZero() &&
			(!ok || m.WentAt.After(at)) {
			at, ok = m.WentAt, true
		}
	}
	return at, ok
}

func (l *ledger) FirstOf(p *plan.Pending) *plan.Email {
	if p.Hangs != nil {
		first := *p.Hangs
		if first.State == delivery.Queued {
			first.State, first.FinishedAt = delivery.Accepted, first.At
		}
		return &first
	}
	if p.First < 1 || int(p.First) > len(l.emails) {
		return nil
	}
	return l.emails[p.First-1]
}
