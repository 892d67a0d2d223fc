package engine

import (
	"context"
	"encoding/json"
	"slices"
	"sort"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// gatherAsides puts what has been said of emails with its row and rule.
func gatherAsides(into map[timelineKey][]plan.Aside, said []store.SetAside) error {
	for i := range said {
		s := &said[i]
		a := plan.Aside{Ends: s.Ends, Why: s.Why, By: s.Actor}
		if err := json.Unmarshal([]byte(s.Origin), &a.Of); err != nil {
			return err
		}
		if err := a.Of.Restore(); err != nil {
			return err
		}
		if s.MovedTo != nil {
			a.To = *s.MovedTo
		}
		k := timelineKey{s.RuleID, s.RowID}
		into[k] = append(into[k], a)
	}
	return nil
}

// sheetAsides gives what has been said of a sheet's emails to come.
func (e *Engine) sheetAsides(ctx context.Context, sheetID string) (map[timelineKey][]plan.Aside, error) {
	said, err := e.Store.SheetSetAsides(ctx, sheetID, e.now().Add(-plan.Tick))
	if err != nil {
		return nil, err
	}
	out := map[timelineKey][]plan.Aside{}
	return out, gatherAsides(out, said)
}

// RowEmail is one email that is to come for a row.
type RowEmail struct {
	plan.Foreseen
	At      time.Time    // when it goes, or waits for somebody
	Settles bool         // an edit will bring it, when it settles
	Aside   *plan.Aside  // what a person has said of it
	entry   *store.Entry // its entry on the agenda; of a later recurrence one without an id, of what is foreseen nil
}

// The bounds of what is shown to come of one row by one rule.
const (
	rowSpan        = 400 * 24 * time.Hour
	rowEmails      = 12
	rowRecurrences = 3
)

// comingOf gives what is to come for a row by a rule that is on: what is on the
// agenda, and what its dates and rounds will bring if it stays as it is, the
// follow-ups of each among them. What is left out stays in the list.
//
// edits is what unsettled edits of the row will bring.
func comingOf(ctx context.Context, st *store.Store, rb *cachedRule, row *sheet.Row, rowID int64, m plan.Memory,
	edits []unsettledEmail, now time.Time) ([]RowEmail, error) {
	if rb.record.State != rule.On {
		return nil, nil
	}
	said, err := st.SetAsides(ctx, []int64{rowID})
	if err != nil {
		return nil, err
	}
	all := map[timelineKey][]plan.Aside{}
	if err := gatherAsides(all, said); err != nil {
		return nil, err
	}
	asides := all[timelineKey{rb.record.ID, rowID}]
	byID := plan.AsidesOf(asides)
	entries, err := st.RowEntries(ctx, rowID)
	if err != nil {
		return nil, err
	}
	var out []RowEmail
	have := map[rule.ID]bool{}
	add := func(o rule.Occasion, v plan.Decision, at time.Time, en *store.Entry) {
		id := o.Identity()
		if have[id] || at.Before(now) && en == nil {
			return
		}
		have[id] = true
		line := RowEmail{plan.Foreseen{Occasion: o, Decision: v}, at, false, nil, en}
		if a, ok := byID.Of(&o); ok {
			line.Aside = &a
		}
		if left := line.Aside != nil && line.Aside.To.IsZero(); v.Outcome != plan.Skip || left {
			out = append(out, line)
		}
	}
	for _, x := range edits {
		if x.rb.record.ID != rb.record.ID {
			continue
		}
		n := len(out)
		if add(x.Occasion, x.Decision, x.at, nil); len(out) > n {
			out[n].Settles = true
		}
	}
	promised, err := promisedOf(rb, row, entries[rowID], byID, m)
	if err != nil {
		return nil, err
	}
	for _, p := range promised {
		add(p.Occasion, p.Decision, p.Due, p.entry)
	}
	foreseen := rb.compiled.Foresee(row, rb.baseline(), now, now.Add(rowSpan), asides...)
	keys := make([][]byte, len(foreseen))
	for i := range foreseen {
		id := foreseen[i].Identity()
		keys[i] = id[:]
	}
	judged, err := st.Judged(ctx, keys)
	if err != nil {
		return nil, err
	}
	for _, f := range foreseen {
		if !judged[f.Identity()] {
			add(f.Occasion, f.Decision, f.Due, nil)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.Before(out[j].At) })
	return out[:min(len(out), rowEmails)], nil
}

// promised is an email that comes by what has happened: it stands on the agenda.
type promised struct {
	plan.Foreseen
	entry *store.Entry // of a later recurrence one without an id
}

// promisedOf gives what a row's entries promise by a rule: follow-ups, with their
// next recurrences, and what waits for its window or was moved.
func promisedOf(rb *cachedRule, row *sheet.Row, entries []store.Entry, said plan.Asides,
	m plan.Memory) (out []promised, err error) {
	for i := range entries {
		en := &entries[i]
		if en.RuleID != rb.record.ID || en.Kind != store.Moved && en.Kind != store.Follow {
			continue
		}
		o, err := originOf(*en)
		if err != nil {
			return nil, err
		}
		for n := 0; ; n++ {
			if to, moved := said.MovedTo(o); moved {
				o.Due = to
			}
			for _, c := range rb.compiled.Judge(*o, row, o.Due, m) {
				out = append(out, promised{plan.Foreseen{Occasion: c.Occasion, Decision: c.Decision}, en})
			}
			next, ok := rb.compiled.NextAgain(*o)
			if en.Kind != store.Follow || !ok || n == rowRecurrences {
				break
			}
			o, en = &next, &store.Entry{Kind: store.Follow}
		}
	}
	for _, a := range said {
		if a.Ends {
			out = slices.DeleteFunc(out, func(p promised) bool { return p.Base == a.Of.Base && p.Due.After(a.Of.Due) })
		}
	}
	return out, nil
}

// What a person may say of an email that is to come.
const (
	LeaveOut  = "leave-out"
	EndChain  = "end-chain" // it and the follow-ups after it
	Shift     = "shift"     // it goes some days later or earlier
	AsItComes = "as-it-comes"
)

// Say is what a person says of an email that is to come.
type Say struct {
	Sheet, Rule string
	Row         int64
	Email       rule.ID
	What        string
	Days        int    // of a shift: later; below zero: earlier
	Why         string // why it is left out, if they say
}

// SetAside takes up what a person says of an email that is to come for a row: it
// counts from when this returns, or the email has been judged and this refuses.
func (e *Engine) SetAside(ctx context.Context, say Say, actor string) error {
	now := e.now()
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		rows, err := tx.LockRowsIn(ctx, []int64{say.Row})
		if err != nil {
			return err
		}
		rec := rows[say.Row]
		if rec == nil || rec.SheetID != say.Sheet || rec.DeletedAt != nil {
			return store.ErrNotFound
		}
		sb, err := newRuleCache(tx).sheet(ctx, say.Sheet)
		if err != nil {
			return err
		}
		rb := sb.rule(say.Rule)
		if rb == nil {
			return store.ErrNotFound
		}
		row, err := rec.Core(sb.sheet)
		if err != nil {
			return err
		}
		m, err := memoryOf(ctx, tx, rb, say.Row)
		if err != nil {
			return err
		}
		edits, err := e.emailsOfEdits(ctx, say.Sheet, []store.Row{*rec})
		if err != nil {
			return err
		}
		coming, err := comingOf(ctx, tx, rb, row, say.Row, m, edits[say.Row], now)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(coming, func(x RowEmail) bool { return x.Identity() == say.Email })
		if i < 0 {
			return refuse(
				"this email is not to come any more: it has gone, or its row or rule has changed; look at the row again")
		}
		return e.setAside(ctx, tx, rb, &coming[i], say, actor, now)
	})
	if err == nil {
		wake(e.wakeAgenda)
	}
	return err
}

// SetRoundUpAside leaves a round-up out that is to come, or takes that back: it
// counts from when this returns, or the round-up has been judged and this refuses.
func (e *Engine) SetRoundUpAside(ctx context.Context, say Say, actor string) error {
	if say.What != LeaveOut && say.What != AsItComes {
		return &Refusal{Field: "/what", Message: "a round-up is left out, or goes as it comes"}
	}
	f, err := e.Forecast(ctx, say.Sheet)
	if err != nil {
		return err
	}
	all := append(slices.Clone(f.Coming), f.Left...)
	i := slices.IndexFunc(all, func(c Coming) bool { return c.Rows > 0 && c.Rule == say.Rule && c.Occasion == say.Email })
	if i < 0 {
		return refuse("this round-up is not to come any more")
	}
	x, now := &all[i], e.now()
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.LockRule(ctx, say.Rule); err != nil {
			return err
		}
		if judged, err := tx.Judged(ctx, [][]byte{x.Occasion[:]}); err != nil || judged[x.Occasion] {
			if err == nil {
				err = refuse("this round-up has been decided by now")
			}
			return err
		}
		a := &store.SetAside{Occasion: x.Occasion[:], SheetID: say.Sheet, RuleID: say.Rule, DueAt: x.At, Why: say.Why,
			Origin: store.Detail(x.origin), Actor: actor, At: now}
		if say.What == AsItComes {
			err = tx.RemoveSetAside(ctx, a.Occasion)
		} else {
			err = tx.SaveSetAside(ctx, a)
		}
		if err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSetAside, SheetID: say.Sheet,
			RuleID: say.Rule,
			Detail: store.Detail(map[string]any{"what": say.What, "roundUp": x.Subject, "to": x.To, "at": x.At})})
	})
}

func (e *Engine) setAside(ctx context.Context, tx *store.Store, rb *cachedRule, x *RowEmail, say Say, actor string,
	now time.Time) error {
	was := x.Occasion // as it was foreseen
	if x.Aside != nil {
		was.Due = x.Aside.Of.Due
	}
	a := &store.SetAside{SheetID: say.Sheet, RuleID: say.Rule, RowID: say.Row, Actor: actor, At: now}
	switch say.What {
	case LeaveOut, EndChain:
		a.Why, a.Ends = say.Why, say.What == EndChain
		if a.Ends && was.Base == "" {
			return refuse("this is the first email; don’t send it, and nothing follows")
		}
	case Shift:
		if x.Settles {
			return refuse("its row waits to settle; move it once it has settled, or leave it out")
		}
		if was.Base == "" {
			was = was.Whole() // all of the row's emails move together
		}
		to := calendar.Duration{Days: say.Days}.After(x.Due, rb.compiled.Zone)
		switch {
		case say.Days == 0:
			return &Refusal{Field: "/days", Message: "say how many days"}
		case !to.After(now):
			return &Refusal{Field: "/days", Message: "that would be in the past"}
		case was.Base != "" && to.Before(was.BaseDue):
			return &Refusal{Field: "/days", Message: "that would be before the email it follows"}
		}
		a.MovedTo = &to
	case AsItComes:
		if x.Aside == nil {
			return nil
		}
		was = x.Aside.Of
	default:
		return &Refusal{Field: "/what", Message: "is none of leave-out, end-chain, shift, as-it-comes"}
	}
	id := was.Identity()
	a.Occasion, a.DueAt, a.Origin = id[:], was.Due, store.Detail(was)
	var err error
	if say.What == AsItComes {
		err = tx.RemoveSetAside(ctx, a.Occasion)
	} else {
		err = tx.SaveSetAside(ctx, a)
	}
	if err == nil && (say.What == Shift || say.What == AsItComes) {
		err = e.putAside(ctx, tx, say, x, was, a.MovedTo, now)
	}
	if err != nil {
		return err
	}
	return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSetAside, SheetID: say.Sheet,
		RowID: say.Row, RuleID: say.Rule,
		Detail: store.Detail(map[string]any{"what": say.What,
			"changes": []any{map[string]string{"name": "“" + x.Subject + "”", "before": saidOf(rb, x),
				"after": saidAs(rb, a, say.What)}}})})
}

// saidOf and saidAs say for the row's history what an email was to do, and is to
// do now.
func saidOf(rb *cachedRule, x *RowEmail) string {
	if x.Aside != nil && x.Aside.To.IsZero() {
		return "left out"
	}
	return x.Due.In(rb.compiled.Zone).Format("Mon 2 January 15:04")
}

func saidAs(rb *cachedRule, a *store.SetAside, what string) string {
	switch {
	case what == EndChain:
		return "left out, and what follows"
	case what == LeaveOut && a.Why != "":
		return "left out: " + a.Why
	case what == LeaveOut:
		return "left out"
	case a.MovedTo != nil:
		return a.MovedTo.In(rb.compiled.Zone).Format("Mon 2 January 15:04")
	}
	return a.DueAt.In(rb.compiled.Zone).Format("Mon 2 January 15:04")
}

// putAside puts on the agenda when an email goes that a person has moved, or
// has moved back: nil.
func (e *Engine) putAside(ctx context.Context, tx *store.Store, say Say, x *RowEmail, o rule.Occasion, to *time.Time,
	now time.Time) error {
	at := o.Due
	if to != nil {
		at = *to
		o.Due = at
	}
	onAgenda := x.entry != nil && x.entry.ID != 0
	switch {
	case onAgenda && o.Base == "" && !o.Kind.Reaction() && to == nil && at.After(now):
		return tx.DropEntries(ctx, []int64{x.entry.ID}) // its date brings it
	case onAgenda:
		en := *x.entry
		en.DueAt, en.Origin = at, store.Detail(o)
		return tx.PutEntries(ctx, []store.Entry{en})
	case to != nil && o.Base == "":
		return tx.PutEntries(ctx, []store.Entry{{Kind: store.Moved, DueAt: at, SheetID: say.Sheet, RuleID: say.Rule,
			RowID: say.Row, Nr: movedNr(&o), Origin: store.Detail(o)}})
	}
	return nil
}

// RowEmails gives what is to come for a row by the rules of its sheet that are
// on, in time order.
func (e *Engine) RowEmails(ctx context.Context, sheetID string, id int64) ([]RowEmail, error) {
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rec, err := e.Store.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != sheetID || rec.DeletedAt != nil {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(sb.sheet)
	if err != nil {
		return nil, err
	}
	edits, err := e.emailsOfEdits(ctx, sheetID, []store.Row{*rec})
	if err != nil {
		return nil, err
	}
	var out []RowEmail
	for _, rb := range sb.rules {
		m, err := memoryOf(ctx, e.Store, rb, id)
		if err != nil {
			return nil, err
		}
		coming, err := comingOf(ctx, e.Store, rb, row, id, m, edits[id], e.now())
		if err != nil {
			return nil, err
		}
		out = append(out, coming...)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.Before(out[j].At) })
	return out, nil
}
