package engine

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// saying is an email as the clause "same words" compares it with others.
type saying struct {
	plan.Said
	sheet string
	row   int64
	step  int
	rb    *cachedRule     // nil where the rule is not there any more
	d     *store.Delivery // as it is, or is about to be
	email *plan.Email     // of this work; nil of another's
	asks  bool            // it is skipped where another says the same
}

// skipsSame reports whether what a rule, or one of its sendings by hand, writes is skipped where another email
// says the same.
func (w *work) skipsSame(ctx context.Context, rb *cachedRule, batch string) (bool, error) {
	if rb == nil {
		return false, nil
	}
	same := rb.compiled.Rule.SameWords
	if batch != "" {
		b, ok := w.batches[batch]
		if !ok {
			found, err := w.tx.BatchNamed(ctx, rb.record.ID, strings.TrimPrefix(batch, rb.record.ID+" "))
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return false, err
			}
			b = found.SameWords
			w.batches[batch] = b
		}
		if b != "" {
			same = b
		}
	}
	return same == rule.SkipSame, nil
}

// note records what an email says that a work decides on, or drops the record of one that does not go.
func (w *work) note(x plan.Effect, d *store.Delivery, rb *cachedRule) {
	m := x.As
	switch {
	case !w.sending.Compares: // nobody asks; when somebody does, it is read from the letters
	case m.State != delivery.Queued && m.State != delivery.Held:
		delete(w.outbox.said, x.Email)
	case m.Decided && rb != nil:
		w.outbox.said[x.Email] = &saying{sheet: d.SheetID, row: d.RowID, step: m.Step, rb: rb, d: d, email: x.Email,
			Said: plan.Said{Words: plan.WordsOf(&m.Decision), At: m.At, Rule: d.RuleID, Row: m.Row, Batch: m.Batch,
				Occasion: m.Identity(), RuleName: rb.record.Name}}
	}
}

// sameWords skips each email of the work that says what another email says, of this work or of others. What this
// work writes is noted first: of two works that write at once, the one waits for the other, or begins anew.
func (w *work) sameWords(ctx context.Context) error {
	mine := w.outbox.said
	if len(mine) == 0 {
		return nil
	}
	all, own := make([]store.Said, 0, len(mine)), map[rule.ID]bool{}
	by := map[plan.Words][]*saying{}
	for _, s := range mine {
		var err error
		if s.asks, err = w.skipsSame(ctx, s.rb, s.Batch); err != nil {
			return err
		}
		all = append(all, store.Said{Occasion: s.Occasion[:], Words: s.Words[:], At: s.At})
		own[s.Occasion] = true
		by[s.Words] = append(by[s.Words], s)
	}
	if err := w.tx.PutSaid(ctx, all); err != nil {
		return err
	}
	if err := w.others(ctx, by, own); err != nil {
		return err
	}
	for _, list := range by {
		if len(list) < 2 || !slices.ContainsFunc(list, func(s *saying) bool { return s.asks }) {
			continue
		}
		if err := w.inOrder(ctx, list); err != nil {
			return err
		}
		if err := w.skipSame(ctx, list); err != nil {
			return err
		}
	}
	return nil
}

// others adds what others have said in the same words.
func (w *work) others(ctx context.Context, by map[plan.Words][]*saying, own map[rule.ID]bool) error {
	words := make([][]byte, 0, len(by))
	for k := range by {
		words = append(words, slices.Clone(k[:]))
	}
	found, err := w.tx.LockSaid(ctx, words)
	if err != nil {
		return err
	}
	at := map[rule.ID]time.Time{}
	var occasions [][]byte
	for _, f := range found {
		if id := rule.ID(f.Occasion); !own[id] {
			at[id] = f.At
			occasions = append(occasions, f.Occasion)
		}
	}
	ds, err := w.tx.DeliveriesOf(ctx, occasions, delivery.Speaks)
	if err != nil {
		return err
	}
	said := map[rule.ID]plan.Words{}
	for _, f := range found {
		said[rule.ID(f.Occasion)] = plan.Words(f.Words)
	}
	for i := range ds {
		d := &ds[i]
		if m := w.emails[d.ID]; m != nil { // as this work leaves it
			d = w.records[m]
		}
		if !slices.Contains(delivery.Speaks, d.State) {
			continue
		}
		o, err := occasionOf(d)
		if err != nil {
			return err
		}
		s := &saying{sheet: d.SheetID, row: d.RowID, step: d.Step, d: d}
		s.Occasion = rule.ID(d.Occasion)
		s.Words, s.At, s.Rule, s.Row, s.Batch = said[s.Occasion], at[s.Occasion], d.RuleID, o.Row, o.Batch
		sb, err := w.cache.sheet(ctx, d.SheetID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil {
			if s.rb = sb.rule(d.RuleID); s.rb != nil {
				s.RuleName = s.rb.record.Name
			}
		}
		if s.asks, err = w.skipsSame(ctx, s.rb, s.Batch); err != nil {
			return err
		}
		by[s.Words] = append(by[s.Words], s)
	}
	return nil
}

// judgeAgain says that a work is to be done again, with what it has found out: an email that it skips for the same
// words does not count for its rule's repeat, by which it has judged later ones.
type judgeAgain struct{ same map[rule.ID]reason.Reason }

func (*judgeAgain) Error() string { return "the work is to be done again, with what it has found out" }

// learns reports whether a work has judged others of a row by an email that it skips now.
func (w *work) learns(s *saying) bool {
	if s.rb.compiled.Rule.Repeat == nil {
		return false
	}
	return slices.ContainsFunc(w.outbox.written, func(p *written) bool {
		code := p.Reason.Code
		return p.RuleID == s.Rule && p.RowID == s.row && (code == reason.RepeatOnce || code == reason.RepeatApart) &&
			!p.at.Before(s.At)
	})
}

// inOrder puts emails in the order of a rehearsal's lines.
func (w *work) inOrder(ctx context.Context, list []*saying) error {
	rows := make([]int64, len(list))
	for i, s := range list {
		rows[i] = s.row
	}
	places, err := w.tx.Places(ctx, rows)
	position := func(s *saying) int {
		if s.rb == nil {
			return 0
		}
		return s.rb.record.Position
	}
	slices.SortFunc(list, func(a, b *saying) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.sheet, b.sheet), cmp.Compare(places[a.row], places[b.row]),
			cmp.Compare(a.row, b.row), cmp.Compare(position(a), position(b)), cmp.Compare(a.step, b.step),
			cmp.Compare(a.d.ID, b.d.ID))
	})
	return err
}

// skipSame skips of emails in the same words, which are in order, those that another stands in the way of. What
// others have judged at an earlier instant stays; of one instant what has not begun gives way to what comes first.
func (w *work) skipSame(ctx context.Context, list []*saying) error {
	var heard plan.Heard
	for _, s := range list { // what has begun cannot give way any more
		if s.email == nil && !mayYield(s.d) {
			heard.Add(s.Said)
		}
	}
	for _, s := range list {
		if s.email == nil && !mayYield(s.d) {
			continue
		}
		other := heard.Before(&s.Said)
		if other == nil || !s.asks || s.email == nil && !other.At.Equal(s.At) {
			heard.Add(s.Said)
			continue
		}
		if s.email != nil && w.mayRepeat && w.learns(s) {
			w.same[s.Occasion] = other.Skips(s.rb.compiled.Zone)
			return &judgeAgain{w.same}
		}
		done, err := w.yield(ctx, s, other)
		if err != nil {
			return err
		}
		if !done {
			heard.Add(s.Said)
		}
	}
	return nil
}

// mayYield reports whether an email that is in the ledger has not begun to go.
func mayYield(d *store.Delivery) bool {
	return d.State == delivery.Held || d.State == delivery.Queued && d.Worker == 0 && d.Tries == 0 && d.SendingAt == nil
}

// yield skips an email for another that says the same. It reports false for one that has begun meanwhile.
func (w *work) yield(ctx context.Context, s *saying, other *plan.Said) (bool, error) {
	name, err := w.rowName(ctx, other)
	if err != nil {
		return false, err
	}
	named := *other
	named.RowName = name
	why := named.Skips(s.rb.compiled.Zone)
	m := s.email
	if m == nil {
		if m, err = w.email(ctx, s.d.ID); err != nil || m == nil {
			return false, err
		}
		if s.d = w.records[m]; !mayYield(s.d) {
			return false, nil
		}
	}
	m.State, m.Why, m.WentAt = delivery.Skipped, why, time.Time{}
	if err := s.d.Become(delivery.Skipped, delivery.Comparing); err != nil {
		return false, err
	}
	s.d.Reason, s.d.WentAt, s.d.NextTry, s.d.Worker = store.Why{Reason: why}, nil, nil, 0
	o := &w.outbox
	o.expected = slices.DeleteFunc(o.expected, func(x *expected) bool { return x.Hangs == m })
	if p := o.by[m]; p != nil {
		p.letter = nil
		return true, nil
	}
	o.letters = slices.DeleteFunc(o.letters, func(l store.Letter) bool { return l.DeliveryID == s.d.ID })
	if !slices.Contains(o.changed, s.d) {
		o.changed = append(o.changed, s.d)
	}
	o.events = append(o.events, store.DeliveryEvent(s.d, w.now, itself.actor, map[string]any{"reason": s.d.Reason,
		"again": true}))
	// What was skipped for this one is skipped for the other.
	return true, w.tx.SkippedFor(ctx, s.Words[:], s.Occasion[:], s.d.Reason)
}

// rowName returns the name of the row that an email is about; "" of a round-up, and of a row that is not there
// any more.
func (w *work) rowName(ctx context.Context, s *plan.Said) (string, error) {
	id, err := rowID(s.Row)
	if err != nil || id == 0 {
		return "", err
	}
	rec := w.rows[id]
	if rec == nil {
		if rec, err = w.tx.Row(ctx, id); errors.Is(err, store.ErrNotFound) {
			return "", nil
		} else if err != nil {
			return "", err
		}
	}
	sb, err := w.cache.sheet(ctx, rec.SheetID)
	if err != nil {
		return "", err
	}
	row, err := rec.Core(sb.sheet)
	if err != nil {
		return "", err
	}
	return sb.sheet.RowName(row), nil
}

// openFor is how long an entry of the agenda that is due may keep emails waiting that it might stand in the way
// of. It is more than judging takes, and less than anybody would notice.
const openFor = time.Minute

// settledWords returns those of the emails that are about to go which no other can take the place of any more: of
// one instant the first in order goes, and another process may not have judged it yet.
func (e *Engine) settledWords(ctx context.Context, s *store.Store, ds []store.Delivery,
	now time.Time) ([]store.Delivery, error) {
	cache := e.reading()
	var asks []bool
	any := false
	for i := range ds {
		sb, err := cache.sheet(ctx, ds[i].SheetID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		is := false
		if err == nil {
			rb := sb.rule(ds[i].RuleID)
			is = rb != nil && rb.compiled.Rule.SameWords == rule.SkipSame && ds[i].State == delivery.Queued
		}
		asks, any = append(asks, is), any || is
	}
	if !any {
		return ds, nil
	}
	open, err := s.FirstOpen(ctx, now.Add(-openFor), now)
	if err != nil || open.IsZero() {
		return ds, err
	}
	var out []store.Delivery
	for i := range ds {
		if !asks[i] || ds[i].WentAt == nil || ds[i].WentAt.Before(open) {
			out = append(out, ds[i])
		}
	}
	return out, nil
}

// saidByNow returns what has been said in some words, and goes or went; not what a sending by hand has waiting
// for one of the rows, which a later one takes the place of.
func saidByNow(ctx context.Context, s *store.Store, words [][]byte, rows map[int64]string) (*plan.Heard, error) {
	heard := &plan.Heard{}
	found, err := s.SaidBy(ctx, words)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(found, func(a, b store.Said) int { return a.At.Compare(b.At) })
	occasions := make([][]byte, len(found))
	for i := range found {
		occasions[i] = found[i].Occasion
	}
	ds, err := s.DeliveriesOf(ctx, occasions, delivery.Speaks)
	if err != nil {
		return nil, err
	}
	by := map[rule.ID]*store.Delivery{}
	for i := range ds {
		by[rule.ID(ds[i].Occasion)] = &ds[i]
	}
	names := map[string]string{}
	rules, err := s.AllRules(ctx, "")
	for i := range rules {
		names[rules[i].ID] = rules[i].Name
	}
	for _, f := range found {
		d := by[rule.ID(f.Occasion)]
		if d == nil {
			continue
		}
		o, err := occasionOf(d)
		if err != nil {
			return nil, err
		}
		waits := d.State == delivery.Held || d.State == delivery.Deferred
		if _, picked := rows[d.RowID]; picked && waits && o.Kind == rule.ByHand {
			continue
		}
		heard.Add(plan.Said{Words: plan.Words(f.Words), At: f.At, Rule: d.RuleID, Row: o.Row, Batch: o.Batch,
			Occasion: rule.ID(f.Occasion), RuleName: names[d.RuleID], RowName: rows[d.RowID]})
	}
	return heard, err
}

// compareFromNow switches on that works note what emails say, and notes what those of the last twelve hours say. It
// is called where a rule, or a sending by hand, asks for the first time.
func (e *Engine) compareFromNow(ctx context.Context, tx *store.Store) error {
	compares := false
	if _, err := tx.Setting(ctx, store.SettingCompares, &compares); err != nil || compares {
		return err
	}
	if err := tx.SetSetting(ctx, store.SettingCompares, true); err != nil {
		return err
	}
	for after := int64(0); ; {
		ds, err := tx.JudgedSince(ctx, e.now().Add(-plan.SameWordsSpan), delivery.Speaks, after, saidBatch)
		if err != nil || len(ds) == 0 {
			return err
		}
		after = ds[len(ds)-1].ID
		if err := noteOf(ctx, tx, ds); err != nil {
			return err
		}
	}
}

// saidBatch is how many letters are read at once for what they say.
const saidBatch = 500

// noteOf notes what deliveries say by their letters.
func noteOf(ctx context.Context, tx *store.Store, ds []store.Delivery) error {
	ids := make([]int64, len(ds))
	for i := range ds {
		ids[i] = ds[i].ID
	}
	letters, err := tx.Letters(ctx, ids)
	if err != nil {
		return err
	}
	var all []store.Said
	for i := range ds {
		l := letters[ds[i].ID]
		if l == nil {
			continue
		}
		v, err := ds[i].Said(l)
		if err != nil {
			return err
		}
		words := plan.WordsOf(v)
		all = append(all, store.Said{Occasion: ds[i].Occasion, Words: words[:], At: *ds[i].WentAt})
	}
	return tx.PutSaid(ctx, all)
}
