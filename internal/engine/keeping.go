package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// keptDeleted is for how long what was deleted can be restored.
const keptDeleted = 30 * 24 * time.Hour

// RestorableSince gives the instant since which what was deleted can still be restored.
func (e *Engine) RestorableSince() time.Time { return e.now().Add(-keptDeleted) }

// Restorable reports whether what was deleted at an instant, nil for never, can be
// restored.
func (e *Engine) Restorable(deleted *time.Time) bool {
	return deleted != nil && !deleted.Before(e.RestorableSince())
}

// CopyRule makes a new rule, a draft, that says the same. With history it takes
// the old one's over: what that has judged is judged for the new one too.
func (e *Engine) CopyRule(ctx context.Context, sheetID, id string, history bool, actor string) (*store.Rule, error) {
	from, err := e.Store.Rule(ctx, id)
	if err != nil {
		return nil, err
	}
	if from.SheetID != sheetID {
		return nil, store.ErrNotFound
	}
	core, err := from.Core()
	if err != nil {
		return nil, err
	}
	rules, err := e.Store.Rules(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	core.Name = freeRuleName(core.Name, rules)
	historyOf := ""
	if history {
		historyOf = from.ID
	}
	return e.saveRule(ctx, sheetID, "", core, 0, historyOf, actor)
}

// freeRuleName gives a name for a copy that no other rule has.
func freeRuleName(name string, rules []store.Rule) string {
	const longest = 100
	if r := []rune(name); len(r) > longest {
		name = string(r[:longest])
	}
	for n := 1; ; n++ {
		try := value.NameWith(name, ", copy")
		if n > 1 {
			try = value.NameWith(name, fmt.Sprintf(", copy %d", n))
		}
		if !slices.ContainsFunc(rules, func(r store.Rule) bool { return r.Name == try }) {
			return try
		}
	}
}

// OrderRules puts a sheet's rules in order; those not named come after.
func (e *Engine) OrderRules(ctx context.Context, sheetID string, ids []string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		rules, err := tx.Rules(ctx, sheetID)
		if err != nil {
			return err
		}
		place := func(r store.Rule) int {
			if i := slices.Index(ids, r.ID); i >= 0 {
				return i
			}
			return len(ids) + r.Position
		}
		slices.SortStableFunc(rules, func(a, b store.Rule) int { return place(a) - place(b) })
		for i := range rules {
			if err := tx.PlaceRule(ctx, &rules[i], i); err != nil {
				return err
			}
		}
		return nil
	})
}

// RestoreRule brings a deleted rule back, paused, or as the draft it was.
func (e *Engine) RestoreRule(ctx context.Context, sheetID, id, actor string) (*store.Rule, error) {
	var out *store.Rule
	err := e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		if out, err = tx.LockDeletedRule(ctx, id); err != nil {
			return err
		}
		now := e.now()
		if out.SheetID != sheetID || !e.Restorable(out.DeletedAt) {
			return store.ErrNotFound
		}
		rules, err := tx.Rules(ctx, sheetID)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(rules, func(r store.Rule) bool { return r.Name == out.Name }) {
			core, err := out.Core()
			if err != nil {
				return err
			}
			core.Name = freeRuleName(core.Name, rules)
			if err := out.SetCore(core); err != nil {
				return err
			}
		}
		out.DeletedAt, out.DeletedBy = nil, ""
		if err := tx.SaveRule(ctx, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventRuleState, SheetID: sheetID, RuleID: id,
			Detail: store.Detail(map[string]any{"after": "restored"})})
	})
	return out, err
}

// pauseBroken pauses the rules of a sheet that cannot live with how the sheet is
// to be, and has them say what they miss. why says it of a rule.
func (e *Engine) pauseBroken(ctx context.Context, tx *store.Store, rules []store.Rule, why func(*rule.Rule) error,
	actor string) error {
	now := e.now()
	for i := range rules {
		r := &rules[i]
		core, err := r.Core()
		if err != nil {
			return err
		}
		fault := why(core)
		if fault == nil {
			continue
		}
		if r.State == rule.On {
			r.State, r.ArmingAfter, r.PausedAt, r.ResumedAt = rule.Paused, nil, &now, nil
			if err := tx.NewGeneration(ctx, r, now); err != nil {
				return err
			}
		}
		r.Broken = fault.Error()
		if err := tx.SaveRule(ctx, r); err != nil {
			return err
		}
		if err := tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventRuleState, SheetID: r.SheetID,
			RuleID: r.ID,
			Detail: store.Detail(map[string]any{"after": "paused", "broken": r.Broken})}); err != nil {
			return err
		}
	}
	return nil
}

// PastLine is something that a baseline leaves as it is.
type PastLine struct {
	Row      *sheet.Row
	RowName  string
	At       time.Time // when it was due; of a state or limit, now
	Decision plan.Decision
}

// maxPastShown bounds how many of them are shown.
const maxPastShown = 500

// Past lists what the baseline of a rule leaves as it is, or after a pause what
// passed meanwhile; and how many there are. ruleID is the saved rule that it is
// of, "" for none.
func (e *Engine) Past(ctx context.Context, sheetID string, r *rule.Rule,
	ruleID string) (out []PastLine, total int, err error) {
	b := newRuleCache(e.Store)
	sb, err := b.sheet(ctx, sheetID)
	if err != nil {
		return nil, 0, err
	}
	if err := r.Validate(sb.scope()); err != nil {
		return nil, 0, asRefusal(err)
	}
	r.ID = ruleID
	set, err := b.compile(sb, r)
	if err != nil {
		return nil, 0, err
	}
	set.Light = true
	base, since := e.now(), time.Time{}
	rb := sb.rule(ruleID)
	if rb != nil && rb.record.State != rule.Draft {
		if rb.record.PausedAt != nil {
			since = *rb.record.PausedAt
		}
		if rb.record.State == rule.On {
			base = rb.baseline()
		}
	}
	now := e.now()
	err = e.Store.ScanRows(ctx, sheetID, func(rec *store.Row) error {
		// What a rule that is not on would leave is counted on the rows as they are, rows that rest among
		// them (its effect); what one that is on has left can be taken up of rows that have settled.
		look := rec.Core
		if rb != nil && rb.record.State == rule.On {
			look = rec.SettledCore
		}
		row, err := look(sb.sheet)
		if err != nil || row == nil {
			return err
		}
		for _, o := range set.Past(row, since, base, nil) {
			if rb != nil && rb.record.State == rule.On {
				id := o.Identity()
				known, err := e.Store.Judged(ctx, [][]byte{id[:]})
				if err != nil {
					return err
				}
				if len(known) > 0 {
					continue
				}
			}
			if total++; len(out) < maxPastShown {
				c := set.Judge(o, row, now, plan.Memory{})[0]
				out = append(out, PastLine{row, sb.sheet.RowName(row), o.Due, c.Decision})
			}
		}
		return nil
	})
	slices.SortStableFunc(out, func(a, b PastLine) int { return b.At.Compare(a.At) })
	return out, total, err
}
