package engine

import (
	"context"
	"errors"
	"strings"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// asRefusal turns a fault in a rule into an answer to the person.
func asRefusal(err error) error {
	var fe *rule.FieldError
	if errors.As(err, &fe) {
		return &Refusal{Field: fe.Pointer, Message: fe.Message}
	}
	return err
}

// CheckRule checks a rule against its sheet.
func (e *Engine) CheckRule(ctx context.Context, sheetID string, r *rule.Rule) error {
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return err
	}
	return asRefusal(r.Validate(sb.scope()))
}

// Faults gives what is missing or wrong in a rule, at most one fault of each
// part.
func (e *Engine) Faults(ctx context.Context, sheetID string, r *rule.Rule) ([]*rule.FieldError, error) {
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	return r.Faults(sb.scope()), nil
}

// Round is one time that a schedule comes round.
type Round struct {
	Due     time.Time // after any move
	Unmoved time.Time // what the recurrence says, where the window moves it
	Closed  bool      // the day is none of the working calendar's
}

// shownRounds is how many of a schedule's next rounds are shown.
const shownRounds = 10

// NextRounds gives the next ten times that a rule's schedule comes round; none
// where it has no schedule, or one that cannot be followed.
func (e *Engine) NextRounds(ctx context.Context, sheetID string, r *rule.Rule) ([]Round, error) {
	if r.Trigger.Kind != rule.Schedule {
		return nil, nil
	}
	sb, err := newRuleCache(e.Store).sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	bare := rule.Rule{Name: "schedule", Zone: r.Zone, Trigger: r.Trigger, Window: r.Window, Shift: r.Shift}
	for _, f := range bare.Faults(sb.scope()) {
		for _, part := range []string{"/zone", "/trigger", "/window", "/shift"} {
			if strings.HasPrefix(f.Pointer, part) {
				return nil, nil
			}
		}
	}
	set, err := plan.Compile(sb.sheet, &bare, nil, sb.calendar, nil)
	if err != nil {
		return nil, err
	}
	var out []Round
	for at := set.NextRound(e.now()); !at.IsZero() && len(out) < shownRounds; at = set.NextRound(at) {
		o := set.Rounds(at.Add(-plan.Tick), at)[0]
		out = append(out, Round{Due: o.Due, Unmoved: o.Unmoved, Closed: !sb.calendar.Working(value.DayAt(at.In(set.Zone)))})
	}
	return out, nil
}

func (sb *cachedSheet) scope() rule.SheetScope {
	s := rule.SheetScope{Sheet: sb.sheet, Templates: map[string]bool{}, Calendar: sb.calendar}
	for id := range sb.templates {
		s.Templates[id] = true
	}
	return s
}

// SaveRule writes a rule: a new one, a draft, where id is "". Saving a rule
// that is on takes a new baseline. version, where not 0, is the one the person
// saw; another refuses.
func (e *Engine) SaveRule(ctx context.Context, sheetID, id string, r *rule.Rule, version int64,
	actor string) (*store.Rule, error) {
	return e.saveRule(ctx, sheetID, id, r, version, "", actor)
}

// saveRule is SaveRule; a new rule may know the history of another.
func (e *Engine) saveRule(ctx context.Context, sheetID, id string, r *rule.Rule, version int64,
	historyOf, actor string) (*store.Rule, error) {
	if err := e.catchUp(ctx, sheetID, []string{id}); err != nil {
		return nil, err
	}
	var out *store.Rule
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		at, err := e.halt(ctx, tx, sheetID, []string{id})
		if err != nil {
			return err
		}
		sb, err := newRuleCache(tx).sheet(ctx, sheetID)
		if err != nil {
			return err
		}
		if err := r.Validate(sb.scope()); err != nil {
			return asRefusal(err)
		}
		for _, other := range sb.rules {
			if other.record.ID != id && other.record.Name == r.Name {
				return &Refusal{Field: "/name", Message: "another rule of this sheet has this name"}
			}
		}
		if id == "" {
			letter, err := tx.NextLetter(ctx, sheetID)
			if err != nil {
				return err
			}
			out = &store.Rule{ID: store.NewID(), SheetID: sheetID, Letter: letter, State: rule.Draft, Version: 0, Generation: 1,
				CreatedAt: at, Position: len(sb.rules), HistoryOf: historyOf}
		} else if out, err = tx.LockRule(ctx, id); err != nil {
			return err
		}
		if out.SheetID != sheetID {
			return store.ErrNotFound
		}
		if version != 0 && version != out.Version {
			return &Overtaken{What: "rule", Version: out.Version}
		}
		before := out.Body
		if err := out.SetCore(r); err != nil {
			return err
		}
		if r.SameWords == rule.SkipSame {
			if err := e.compareFromNow(ctx, tx); err != nil {
				return err
			}
		}
		out.Version++
		out.Broken = ""
		if out.State == rule.On {
			// What falls due at that very instant has been judged by the rule as it was.
			if err := e.arm(ctx, tx, out, at.Add(plan.Tick), at); err != nil {
				return err
			}
		}
		if err := tx.SaveRule(ctx, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: at, Actor: actor, Kind: store.EventRuleSaved, SheetID: sheetID,
			RuleID: out.ID,
			Detail: store.Detail(map[string]any{"before": before, "after": out.Body})})
	})
	if err == nil {
		e.Wake()
	}
	return out, err
}

// arm takes a new baseline, the first instant that counts, and has the agenda made anew in the background.
func (e *Engine) arm(ctx context.Context, tx *store.Store, r *store.Rule, baseline, now time.Time) error {
	r.BaselineAt = &baseline
	if err := tx.NewGeneration(ctx, r, now); err != nil {
		return err
	}
	return armAll(ctx, tx, r, baseline.Add(-plan.Tick), now)
}

// SetRuleState switches a rule on or pauses it. Switching on, and resuming,
// take a baseline: nothing that is already past goes out.
func (e *Engine) SetRuleState(ctx context.Context, sheetID, id string, st rule.State,
	actor string) (*store.Rule, error) {
	if err := e.catchUp(ctx, sheetID, []string{id}); err != nil {
		return nil, err
	}
	var out *store.Rule
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		at, err := e.halt(ctx, tx, sheetID, []string{id})
		if err != nil {
			return err
		}
		if out, err = tx.LockRule(ctx, id); err != nil {
			return err
		}
		if out.SheetID != sheetID {
			return store.ErrNotFound
		}
		if out.State == st {
			return nil
		}
		before := out.State
		switch st {
		case rule.On:
			core, err := out.Core()
			if err != nil {
				return err
			}
			sb, err := newRuleCache(tx).sheet(ctx, sheetID)
			if err != nil {
				return err
			}
			if sb.record.PutAwayAt != nil {
				return refuse("the sheet is put away; restore it, and then switch its rules on")
			}
			if err := core.Validate(sb.scope()); err != nil {
				return asRefusal(err)
			}
			if err := e.arm(ctx, tx, out, at, at); err != nil {
				return err
			}
			out.Broken = ""
			if before == rule.Paused {
				out.ResumedAt = out.BaselineAt
			}
		case rule.Paused:
			if before != rule.On {
				return refuse("only a rule that is on can be paused")
			}
			out.ArmingAfter, out.PausedAt, out.ResumedAt = nil, &at, nil
			if err := tx.NewGeneration(ctx, out, at); err != nil {
				return err
			}
		default:
			return refuse("a rule is switched on or paused")
		}
		out.State = st
		if err := tx.SaveRule(ctx, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: at, Actor: actor, Kind: store.EventRuleState, SheetID: sheetID,
			RuleID: id,
			Detail: store.Detail(map[string]any{"before": before, "after": st})})
	})
	if err == nil {
		e.Wake()
	}
	return out, err
}

// rearmSheet has the agenda of a sheet's rules computed anew.
func (e *Engine) rearmSheet(ctx context.Context, tx *store.Store, sheetID string) error {
	rules, err := tx.Rules(ctx, sheetID)
	if err != nil {
		return err
	}
	return rearm(ctx, tx, rules, e.now())
}

func rearm(ctx context.Context, tx *store.Store, rules []store.Rule, now time.Time) error {
	for i := range rules {
		r := &rules[i]
		if r.State != rule.On {
			continue
		}
		since := now.Add(-plan.Tick)
		for _, judged := range []*time.Time{r.ArmingSince, r.ArmedUntil} {
			if judged != nil && judged.Before(since) && (judged == r.ArmedUntil || r.ArmingAfter != nil) {
				since = *judged
			}
		}
		if err := armAll(ctx, tx, r, since, now); err != nil {
			return err
		}
		if err := tx.SaveArming(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// DeleteRule takes a rule away; what it has done stays in the log, and what
// waits for mending or an OK is skipped when it is looked at.
func (e *Engine) DeleteRule(ctx context.Context, sheetID, id, actor string) error {
	if err := e.catchUp(ctx, sheetID, []string{id}); err != nil {
		return err
	}
	defer e.Wake()
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		now, err := e.halt(ctx, tx, sheetID, []string{id})
		if err != nil {
			return err
		}
		r, err := tx.LockRule(ctx, id)
		if err != nil {
			return err
		}
		if r.SheetID != sheetID {
			return store.ErrNotFound
		}
		if r.DeletedAt, r.DeletedBy = &now, actor; r.State == rule.On {
			r.State, r.PausedAt, r.ResumedAt, r.ArmingAfter = rule.Paused, &now, nil, nil
		}
		if err := tx.NewGeneration(ctx, r, now); err != nil {
			return err
		}
		if err := tx.SaveRule(ctx, r); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventRuleState, SheetID: sheetID, RuleID: id,
			Detail: store.Detail(map[string]any{"after": "deleted"})})
	})
}
