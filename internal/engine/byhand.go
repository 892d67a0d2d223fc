package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// maxByHand bounds how many rows one batch by hand may have.
const maxByHand = 20_000

// handBatch is how many rows of a batch one transaction judges.
const handBatch = 100

// SendByHand has a rule that is sent by hand write to the rows a person has
// picked, each as it is when its turn comes. batch names the sending: asked for
// again, say because the answer to the first asking was lost, it sends nothing
// twice; rows that it did not have yet are added to it. The first rows are judged
// at once, the others in the background. It gives how many emails have been
// queued or held so far by this asking.
// same says what becomes of an email that says what another has just said; "" is as the rule has it.
func (e *Engine) SendByHand(ctx context.Context, sheetID, ruleID, batch string, ids []int64, actor string,
	same rule.SameWords) (b *store.Batch, emails int, err error) {
	if len(ids) == 0 || len(ids) > maxByHand {
		return nil, 0, refuse("pick 1 to %d rows; these are %d", maxByHand, len(ids))
	}
	if batch == "" {
		return nil, 0,
			&Refusal{Field: "/batch", Message: "the sending needs a name of its own, so that asking again does not send twice"}
	}
	ids = slices.Clone(ids)
	slices.Sort(ids) // rows are locked in one order
	ids = slices.Compact(ids)
	picked, err := json.Marshal(ids)
	if err != nil {
		return nil, 0, err
	}
	b = &store.Batch{SheetID: sheetID, RuleID: ruleID, Name: batch, At: e.now(), Actor: actor, Picked: string(picked),
		Total: len(ids), SameWords: same}
	queued := false
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		queued, emails = false, 0
		more, err := e.addByHand(ctx, tx, b, ids)
		if err != nil || !more {
			return err
		}
		en, err := tx.LockHand(ctx, b.ID)
		if err != nil {
			return err
		}
		_, emails, queued, err = e.nextByHand(ctx, tx, en, e.now())
		return err
	})
	if err != nil {
		return nil, 0, err
	}
	if queued {
		wake(e.wakeQueue)
	}
	wake(e.wakeAgenda)
	b, err = e.Store.Batch(ctx, b.ID)
	return b, emails, err
}

// addByHand writes a sending of rows, or adds to one of its name those that it does not have, and puts it
// on the agenda. It reports whether there is anything to do.
func (e *Engine) addByHand(ctx context.Context, tx *store.Store, b *store.Batch, ids []int64) (more bool, err error) {
	if _, err := handRule(ctx, newRuleCache(tx), b); err != nil {
		return false, err
	}
	rows, err := tx.RowsByID(ctx, b.SheetID, ids)
	if err != nil {
		return false, err
	}
	there := 0
	for i := range rows {
		if rows[i].DeletedAt == nil {
			there++
		}
	}
	if there != len(ids) {
		return false, refuse("%d of the rows are not there any more; look at the rows again", len(ids)-there)
	}
	if b.SameWords == rule.SkipSame {
		if err := e.compareFromNow(ctx, tx); err != nil {
			return false, err
		}
	}
	fresh, err := tx.AddBatch(ctx, b)
	if err != nil {
		return false, err
	}
	if !fresh {
		if more, err := b.Add(ids); err != nil || !more {
			return false, err
		}
		if err := tx.SaveBatch(ctx, b); err != nil {
			return false, err
		}
	}
	if err := tx.AddEvents(ctx, store.Event{At: b.At, Actor: b.Actor, Kind: store.EventBatch, SheetID: b.SheetID,
		RuleID: b.RuleID, Detail: store.Detail(map[string]any{"batch": b.ID, "rows": b.Total})}); err != nil {
		return false, err
	}
	return true, tx.PutEntries(ctx, []store.Entry{{Kind: store.Hand, DueAt: b.At, SheetID: b.SheetID, RuleID: b.RuleID,
		Nr: b.ID}})
}

// handRule gives the rule of a batch, if it can be sent by hand now.
func handRule(ctx context.Context, b *ruleCache, batch *store.Batch) (*cachedRule, error) {
	sb, err := b.sheet(ctx, batch.SheetID)
	if err != nil {
		return nil, err
	}
	rb := sb.rule(batch.RuleID)
	switch {
	case rb == nil:
		return nil, store.ErrNotFound
	case rb.compiled.Rule.Trigger.Kind != rule.ByHand:
		return nil, refuse("this rule is not one that is sent by hand")
	case rb.record.State != rule.On:
		return nil, refuse("this rule is not on; switch it on first")
	}
	return rb, nil
}

// goOnByHand judges the next rows of a batch that goes on, and says how many.
func (e *Engine) goOnByHand(ctx context.Context, now time.Time) (n int, err error) {
	queued := false
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		n, queued = 0, false
		en, err := tx.ClaimHand(ctx, now)
		if err != nil || en == nil {
			return err
		}
		n, _, queued, err = e.nextByHand(ctx, tx, en, now)
		return err
	})
	if queued {
		wake(e.wakeQueue)
	}
	return n, err
}

// nextByHand judges the next rows of a batch, by its entry, which is locked: how many, and how many
// emails have been queued or held for them.
func (e *Engine) nextByHand(ctx context.Context, tx *store.Store, en *store.Entry, now time.Time) (n, emails int,
	queued bool, err error) {
	b, err := tx.LockBatch(ctx, en.Nr)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, 0, false, err
	}
	if err != nil || !b.Running() {
		return 0, 0, false, tx.DropEntries(ctx, []int64{en.ID})
	}
	ids, err := b.Rows()
	if err != nil {
		return 0, 0, false, err
	}
	next := ids[b.Done:min(b.Done+handBatch, len(ids))]
	a := deciding(b.Actor)
	a.looked = true
	w, err := newWork(ctx, e, tx, now, a)
	if err != nil {
		return 0, 0, false, err
	}
	rb, err := handRule(ctx, w.cache, b)
	var refusal *Refusal
	switch {
	case errors.As(err, &refusal) || errors.Is(err, store.ErrNotFound): // paused or taken away meanwhile
		b.StoppedAt, b.StoppedBy = &now, "nivot"
	case err != nil:
		return 0, 0, false, err
	default:
		if err := w.byHand(ctx, rb, b, next); err != nil {
			return 0, 0, false, err
		}
		if err := w.flush(ctx); err != nil {
			return 0, 0, false, err
		}
		b.Done += len(next)
		emails = w.entered[delivery.Queued] + w.entered[delivery.Held]
	}
	if !b.Running() {
		if err := tx.DropEntries(ctx, []int64{en.ID}); err != nil {
			return 0, 0, false, err
		}
	}
	return len(next), emails, w.queued, tx.SaveBatch(ctx, b)
}

// byHand judges some rows of a batch, each as it is now. A row that is not there
// any more is passed over.
func (w *work) byHand(ctx context.Context, rb *cachedRule, b *store.Batch, ids []int64) (err error) {
	if w.rows, err = w.tx.LockRowsIn(ctx, ids); err != nil {
		return err
	}
	if err := w.loadRowStates(ctx, ids); err != nil {
		return err
	}
	sb, err := w.cache.sheet(ctx, b.SheetID)
	if err != nil {
		return err
	}
	occ := make([]rule.Occasion, len(ids))
	for i, id := range ids {
		occ[i] = rule.Occasion{Rule: b.RuleID, Row: store.RowID(id), Kind: rule.ByHand, Batch: b.RuleID + " " + b.Name,
			Due: b.At}
	}
	w.ask(ctx, occ)
	earlier, err := w.waitsByHand(ctx, occ[0].Batch, ids)
	if err != nil {
		return err
	}
	for i, id := range ids {
		rec := w.rows[id]
		if rec == nil || rec.SheetID != b.SheetID || rec.DeletedAt != nil {
			continue
		}
		row, err := rec.Core(sb.sheet)
		if err != nil {
			return err
		}
		l, err := w.timeline(ctx, sb, rb, rec)
		if err != nil {
			return err
		}
		l.Take(occ[i], row, w.now)
		written := writtenIn(l.Effects)
		if err := w.carryOut(ctx, l); err != nil {
			return err
		}
		for _, m := range earlier[id] {
			if slices.Contains(written, w.records[m].TemplateID) {
				if err := w.amend(ctx, nil, plan.Replace(m)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// writtenIn lists the templates in whose words emails go, or wait, by effects.
func writtenIn(effects []plan.Effect) (templates []string) {
	for _, x := range effects {
		if x.Kind == plan.Write && x.As.State != delivery.Skipped {
			templates = append(templates, x.As.Template)
		}
	}
	return templates
}

// waitsByHand locks and returns, by row, the emails that earlier sendings by hand have waiting for rows. It
// leaves out those that have reached a recipient.
func (w *work) waitsByHand(ctx context.Context, batch string, ids []int64) (map[int64][]*plan.Email, error) {
	waiting := []delivery.State{delivery.Incomplete, delivery.Held, delivery.Deferred}
	ds, err := w.tx.LockRowDeliveries(ctx, waiting, ids...)
	if err != nil {
		return nil, err
	}
	out := map[int64][]*plan.Email{}
	for i := range ds {
		o, err := occasionOf(&ds[i])
		if err != nil {
			return nil, err
		}
		if o.Kind != rule.ByHand || o.Base != "" || o.Batch == batch {
			continue
		}
		reached, err := ds[i].Reached()
		if err != nil {
			return nil, err
		}
		if reached {
			continue
		}
		m, err := w.take(&ds[i])
		if err != nil {
			return nil, err
		}
		out[ds[i].RowID] = append(out[ds[i].RowID], m)
	}
	return out, nil
}

// StopBatch stops a sending by hand: rows whose turn has not come are not
// judged, and what is queued does not go. It gives how many emails were stopped.
func (e *Engine) StopBatch(ctx context.Context, sheetID string, id int64, actor string) (n int, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		b, err := tx.LockBatch(ctx, id)
		if err != nil {
			return err
		}
		if b.SheetID != sheetID {
			return store.ErrNotFound
		}
		now := e.now()
		if b.StoppedAt == nil {
			b.StoppedAt, b.StoppedBy = &now, actor
			if err := tx.SaveBatch(ctx, b); err != nil {
				return err
			}
		}
		queued, err := tx.LockOfBatch(ctx, b, delivery.From(delivery.Dropped, delivery.Deciding))
		if err != nil {
			return err
		}
		n = len(queued)
		for i := range queued {
			d := &queued[i]
			if err := d.Become(delivery.Dropped, delivery.Deciding); err != nil {
				return err
			}
			d.Worker, d.Reason = 0, store.Why{Reason: reason.Reason{Code: reason.BatchStopped}}
			if err := tx.SaveDelivery(ctx, d); err != nil {
				return err
			}
			if err := tx.AddEvents(ctx, store.DeliveryEvent(d, now, actor, map[string]any{"reason": d.Reason})); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventBatch, SheetID: sheetID,
			RuleID: b.RuleID,
			Detail: store.Detail(map[string]any{"batch": b.ID, "stopped": n})})
	})
	return n, err
}

// RepeatBatch sends again what failed of a batch: the same occasions, the next
// attempts. It gives how many are on their way again.
func (e *Engine) RepeatBatch(ctx context.Context, sheetID string, id int64, actor string) (n int, err error) {
	b, err := e.Store.Batch(ctx, id)
	if err != nil {
		return 0, err
	}
	if b.SheetID != sheetID {
		return 0, store.ErrNotFound
	}
	at := b.At
	until := at.Add(plan.Tick)
	for cursor := ""; ; {
		page, err := e.Store.Log(ctx, store.LogFilter{RuleID: b.RuleID, Since: &at, Until: &until,
			States: []delivery.State{delivery.Failed, delivery.Bounced}}, cursor, 200)
		if err != nil {
			return n, err
		}
		for i := range page.Lines {
			_, err := e.Decide(ctx, page.Lines[i].ID, SendAgain, actor)
			var refusal *Refusal
			switch {
			case errors.As(err, &refusal): // it cannot, as its row is now
			case err != nil:
				return n, err
			default:
				n++
			}
		}
		if page.Next == "" {
			return n, nil
		}
		cursor = page.Next
	}
}

// HandPreview is what a sending by hand would come to.
type HandPreview struct {
	Rows, Emails, People int
	Incomplete           int
	Skipped              map[reason.Code]int
	Doubled              map[string]int // addresses that would get several
	Recent               []RecentRow    // rows that have had the template lately
	Waiting              int            // emails that an earlier sending by hand has waiting; they are replaced
	TooLarge             int            // emails that are larger than the sender's mail server takes
	ByRules              map[string]int // emails with the template that rules have waiting for the rows, by rule
	Lines                []EffectLine   // the first of the emails
	Cap, Left            int            // the sender's daily cap, 0 for none, and what is left of it today
	Sender               string
}

// RecentRow is a row that has had a template lately.
type RecentRow struct {
	ID   int64
	Name string
	At   time.Time
}

// PreviewByHand works out what sending a rule by hand to some rows would come
// to. within is how long ago the same template counts as lately; with leave, rows that have had it lately
// are left out.
func (e *Engine) PreviewByHand(ctx context.Context, sheetID string, r *rule.Rule, ids []int64,
	within calendar.Duration, leave bool) (*HandPreview, error) {
	if len(ids) > maxByHand {
		return nil, refuse("at most %d rows at a time; these are %d", maxByHand, len(ids))
	}
	sb, set, err := e.unsaved(ctx, sheetID, r)
	if err != nil {
		return nil, err
	}
	most, err := e.mostBytes(ctx, sb.record)
	if err != nil {
		return nil, err
	}
	carries := false
	for _, t := range set.Templates {
		carries = carries || t.Carries()
	}
	set.Light = r.SameWords != rule.SkipSame && (most == 0 || !carries)
	rows, err := e.Store.RowsByID(ctx, sheetID, ids)
	if err != nil {
		return nil, err
	}
	now := e.now()
	h, err := e.lookByHand(ctx, sb, set, most, now, rows)
	if err != nil {
		return nil, err
	}
	recent, err := h.recent(ctx, e.Store, within.Before(now, set.Zone))
	if err != nil {
		return nil, err
	}
	if leave && len(recent) > 0 {
		had := map[int64]bool{}
		for _, x := range recent {
			had[x.ID] = true
		}
		rows = slices.DeleteFunc(rows, func(r store.Row) bool { return had[r.ID] })
		if h, err = e.lookByHand(ctx, sb, set, most, now, rows); err != nil {
			return nil, err
		}
	}
	p := h.out
	p.Recent = recent
	if err := h.waits(ctx, e.Store); err != nil {
		return nil, err
	}
	sender, isDefault, err := e.senderOf(ctx, sb.record)
	if err != nil || sender == nil {
		return p, err
	}
	p.Sender, p.Cap = sender.Name, sender.DailyCap
	used, err := e.usedToday(ctx, sender, isDefault, now)
	p.Left = max(0, sender.DailyCap-used)
	return p, err
}

// lookByHand looks at what rows would get.
func (e *Engine) lookByHand(ctx context.Context, sb *cachedSheet, set *plan.CompiledRule, most int64, now time.Time,
	rows []store.Row) (*handLooker, error) {
	h := &handLooker{sb: sb, set: set, most: most, now: now, reached: map[string]int{}, several: map[string]int{},
		written: map[string]string{}, templates: map[string][]int64{}, names: map[int64]string{},
		out: &HandPreview{Skipped: map[reason.Code]int{}, Doubled: map[string]int{}, ByRules: map[string]int{}}}
	for i := range rows {
		if err := h.judge(&rows[i]); err != nil {
			return nil, err
		}
	}
	if err := h.sameWords(ctx, e.Store); err != nil {
		return nil, err
	}
	for i := range h.judged {
		h.look(&h.judged[i])
	}
	h.out.People = len(h.reached)
	for key, n := range h.several {
		if n > 1 {
			h.out.Doubled[h.written[key]] = n
		}
	}
	return h, nil
}

// recent lists the rows that have had their template since an instant.
func (h *handLooker) recent(ctx context.Context, s *store.Store, since time.Time) (out []RecentRow, err error) {
	for id, of := range h.templates {
		recent, err := s.Recently(ctx, of, id, since)
		if err != nil {
			return nil, err
		}
		for row, at := range recent {
			out = append(out, RecentRow{row, h.names[row], at})
		}
	}
	slices.SortFunc(out, func(a, b RecentRow) int { return cmp.Compare(a.ID, b.ID) })
	return out, nil
}

// waits counts what waits for the rows already, in the words that they would get.
func (h *handLooker) waits(ctx context.Context, s *store.Store) error {
	for id, of := range h.templates {
		waiting, err := s.WaitingIn(ctx, of, id)
		if err != nil {
			return err
		}
		for i := range waiting {
			o, err := occasionOf(&waiting[i])
			if err != nil {
				return err
			}
			if o.Kind == rule.ByHand && o.Base == "" {
				h.out.Waiting++
			} else {
				h.out.ByRules[waiting[i].RuleID]++
			}
		}
	}
	return nil
}

// handLooker gathers what sending rows by hand would do.
type handLooker struct {
	sb        *cachedSheet
	set       *plan.CompiledRule
	most      int64 // how large a message the sender's mail server takes; 0: it does not say
	now       time.Time
	reached   map[string]int     // emails, by mailbox
	several   map[string]int     // of those, in To
	written   map[string]string  // how a mailbox is first written, by its key
	templates map[string][]int64 // rows, by what is written to them
	names     map[int64]string
	judged    []handEmail
	out       *HandPreview
}

// judge judges what a row would get.
func (h *handLooker) judge(rec *store.Row) error {
	if rec.DeletedAt != nil {
		return nil
	}
	h.out.Rows++
	row, err := rec.Core(h.sb.sheet)
	if err != nil {
		return err
	}
	h.names[rec.ID] = h.sb.sheet.RowName(row)
	by := rule.Occasion{Kind: rule.ByHand, Row: row.ID, Due: h.now}
	for _, c := range h.set.Judge(by, row, h.now, plan.Memory{}) {
		h.judged = append(h.judged, handEmail{c, rec.ID, row})
	}
	return nil
}

// handEmail is what a row would get.
type handEmail struct {
	plan.Considered
	id  int64
	row *sheet.Row
}

// sameWords skips each email that says what another one says: of this sending, or one that went or waits.
func (h *handLooker) sameWords(ctx context.Context, s *store.Store) error {
	if h.set.Rule.SameWords != rule.SkipSame {
		return nil
	}
	said := make([]plan.Said, len(h.judged))
	var words [][]byte
	for i := range h.judged {
		if c := &h.judged[i]; c.Outcome == plan.Send || c.Outcome == plan.Hold {
			said[i] = plan.Said{Words: plan.WordsOf(&c.Decision), At: h.now, Rule: "by hand", Row: c.row.ID,
				RowName: h.names[c.id]}
			words = append(words, slices.Clone(said[i].Words[:]))
		}
	}
	heard, err := saidByNow(ctx, s, words, h.names)
	if err != nil {
		return err
	}
	for i := range h.judged {
		c := &h.judged[i]
		if c.Outcome != plan.Send && c.Outcome != plan.Hold {
			continue
		}
		h.heard(heard, c, &said[i])
	}
	return nil
}

// heard skips an email where another says the same.
func (h *handLooker) heard(heard *plan.Heard, c *handEmail, said *plan.Said) {
	if other := heard.Before(said); other != nil {
		c.Outcome, c.Decision.Reason = plan.Skip, other.Skips(h.set.Zone)
		return
	}
	heard.Add(*said)
}

// look adds what a row would get.
func (h *handLooker) look(c *handEmail) {
	p := h.out
	switch c.Outcome {
	case plan.Skip:
		p.Skipped[c.Decision.Reason.Code]++
		if c.Decision.Reason.Code != reason.SameWords {
			return
		}
		h.templates[c.Template] = append(h.templates[c.Template], c.id) // it may have had it itself
	case plan.Incomplete:
		p.Incomplete++
		h.templates[c.Template] = append(h.templates[c.Template], c.id)
	default:
		p.Emails++
		if !h.set.Light && OverServer(&c.Rendered, h.most) != "" {
			p.TooLarge++
		}
		for _, list := range [][]value.Mailbox{c.To, c.Cc, c.Bcc} {
			for _, m := range list {
				h.reached[m.Key()]++ // capitals make no other address
			}
		}
		for _, m := range c.To {
			h.several[m.Key()]++
			if h.written[m.Key()] == "" {
				h.written[m.Key()] = m.Address()
			}
		}
		h.templates[c.Template] = append(h.templates[c.Template], c.id)
	}
	if len(p.Lines) < maxFirst {
		p.Lines = append(p.Lines, EffectLine{plan.OutlookLine{Row: c.row, Due: h.now, Outcome: c.Outcome,
			Wording: c.Template, Emails: 1}, plan.Foreseen{Occasion: c.Occasion, Decision: c.Decision}, h.names[c.id]})
	}
}
