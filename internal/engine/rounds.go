package engine

import (
	"context"
	"errors"
	"fmt"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// roundBatch is how many rows one transaction judges of a schedule's round.
const roundBatch = 500

// round judges a schedule's round: batch by batch over all rows, or, of a
// round-up, over all at once.
func (w *work) round(ctx context.Context, en store.Entry) error {
	sb, rb, err := w.find(ctx, en)
	if err != nil {
		return err
	}
	if rb == nil || rb.record.State != rule.On {
		w.drop(en.ID)
		return nil
	}
	rounds := rb.compiled.Rounds(en.DueAt.Add(-plan.Tick), en.DueAt)
	if rb.compiled.IsRoundUp() {
		for _, o := range rounds {
			if err := w.roundUp(ctx, sb, rb, o); err != nil {
				return err
			}
		}
		return w.nextRound(rb, en)
	}
	rows, err := w.tx.LockRowsAfter(ctx, rb.record.SheetID, en.DoneRows, roundBatch)
	if err != nil {
		return err
	}
	if err := w.roundRows(ctx, sb, rb, rows, rounds); err != nil {
		return err
	}
	if len(rows) == roundBatch {
		en.DoneRows = rows[len(rows)-1].ID
		w.put(en)
		return nil
	}
	return w.nextRound(rb, en)
}

func (w *work) nextRound(rb *cachedRule, en store.Entry) error {
	next := rb.compiled.NextRound(en.DueAt)
	if next.IsZero() {
		w.drop(en.ID)
		return nil
	}
	en.DueAt, en.DoneRows = next, 0
	w.put(en)
	return nil
}

func (w *work) roundRows(ctx context.Context, sb *cachedSheet, rb *cachedRule, rows []store.Row,
	rounds []rule.Occasion) error {
	ids := make([]int64, len(rows))
	var occ []rule.Occasion
	for i := range rows {
		ids[i] = rows[i].ID
		for _, o := range rounds {
			o.Row = store.RowID(rows[i].ID)
			occ = append(occ, o)
		}
	}
	if err := w.loadRowStates(ctx, ids); err != nil {
		return err
	}
	w.ask(ctx, occ)
	for i := range rows {
		l, err := w.timeline(ctx, sb, rb, &rows[i])
		if err != nil {
			return err
		}
		for _, o := range rounds {
			l.Round(o)
		}
		if err := w.carryOut(ctx, l); err != nil {
			return err
		}
	}
	return nil
}

// roundUpsAside gives what people have said of a rule's round-ups. The rule is
// locked before it is read: who says something later finds them judged.
func (w *work) roundUpsAside(ctx context.Context, rb *cachedRule) (plan.Asides, error) {
	if _, err := w.tx.LockRule(ctx, rb.record.ID); err != nil {
		return nil, err
	}
	said, err := w.tx.RoundUpsAside(ctx, rb.record.ID)
	if err != nil {
		return nil, err
	}
	by := map[timelineKey][]plan.Aside{}
	err = gatherAsides(by, said)
	return plan.AsidesOf(by[timelineKey{rb.record.ID, 0}]), err
}

// roundUp writes a round's round-ups, each row as it last settled.
func (w *work) roundUp(ctx context.Context, sb *cachedSheet, rb *cachedRule, o rule.Occasion) error {
	var rows []*sheet.Row
	var ids []int64
	recs := map[string]*store.Row{}
	err := w.tx.ScanRows(ctx, rb.record.SheetID, func(rec *store.Row) error {
		row, err := rec.SettledCore(sb.sheet)
		if err == nil && row != nil {
			kept := *rec
			rows, ids, recs[row.ID] = append(rows, row), append(ids, rec.ID), &kept
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := w.loadRowStates(ctx, ids); err != nil {
		return err
	}
	ups, own := rb.compiled.RoundUps(o, rows, o.Due, func(row *sheet.Row) plan.Memory {
		return plan.Memory{RowState: w.memory(rb, recs[row.ID].ID).RowState}
	})
	asides, err := w.roundUpsAside(ctx, rb)
	if err != nil {
		return err
	}
	asides.SkipRoundUps(ups)
	occ := make([]rule.Occasion, 0, len(ups)+len(own))
	about := map[rule.ID][]*sheet.Row{}
	for _, u := range ups {
		occ, about[u.Identity()] = append(occ, u.Occasion), u.Rows
	}
	for _, c := range own {
		occ = append(occ, c.Occasion)
	}
	w.ask(ctx, occ)
	l, err := w.timeline(ctx, sb, rb, nil)
	if err != nil {
		return err
	}
	l.facts = func(m *plan.Email) string { return roundFacts(sb.sheet, about[m.Identity()]) }
	for _, u := range ups {
		if !w.judged[u.Identity()] {
			l.Record([]plan.Considered{u.Considered})
		}
	}
	if err := w.carryOut(ctx, l); err != nil {
		return err
	}
	for _, c := range own {
		l, err := w.timeline(ctx, sb, rb, recs[c.Row])
		if err != nil {
			return err
		}
		l.Record([]plan.Considered{c})
		if err := w.carryOut(ctx, l); err != nil {
			return err
		}
	}
	return w.failed
}

// find finds the sheet and rule of an entry; nil where one is not there.
func (w *work) find(ctx context.Context, en store.Entry) (*cachedSheet, *cachedRule, error) {
	sb, err := w.cache.sheet(ctx, en.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	return sb, sb.rule(en.RuleID), nil
}

// roundFacts names the rows that a round-up is about.
func roundFacts(s *sheet.Sheet, rows []*sheet.Row) string {
	out := make([]store.Fact, 0, len(rows))
	for i, r := range rows {
		out = append(out, store.Fact{Name: fmt.Sprintf("row %d", i+1), Value: s.RowName(r)})
	}
	return store.Detail(out)
}
