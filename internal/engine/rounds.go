package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/store"
)

// arm computes the entries of a batch of rows for a rule that has been
// switched on, and comes back for the rest.
func (w *work) arm(ctx context.Context, en store.Entry) error {
	rec, err := w.tx.LockRule(ctx, en.RuleID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (rec.State != rule.On || rec.ArmingAfter == nil) {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	if err != nil {
		return err
	}
	sb, rb, err := w.find(ctx, en)
	if err != nil {
		return err
	}
	if rb == nil {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	if next := rb.setting.NextRound(w.since(en.Since, rb)); !next.IsZero() {
		w.put = append(w.put, store.Entry{Kind: store.RoundDue, DueAt: next, SheetID: rec.SheetID, RuleID: rec.ID})
	}
	if rb.setting.Rule.Trigger.Kind != rule.Date && !rb.setting.Moving() { // nothing falls due row by row
		n, err := w.tx.CountRows(ctx, rec.SheetID)
		if err != nil {
			return err
		}
		rec.ArmingAfter, rec.ArmedRows = nil, n
		w.drop = append(w.drop, en.ID)
		return w.tx.SaveArming(ctx, rec)
	}
	rows, err := w.tx.LockRowsAfter(ctx, rec.SheetID, *rec.ArmingAfter, armBatch)
	if err != nil {
		return err
	}
	put, err := w.armRows(sb, rb, rows, en.Since)
	if err != nil {
		return err
	}
	if err := w.tx.PutArmed(ctx, put, w.now); err != nil {
		return err
	}
	rec.ArmedRows += int64(len(rows))
	if len(rows) < armBatch {
		rec.ArmingAfter = nil
		w.drop = append(w.drop, en.ID)
	} else {
		rec.ArmingAfter = &rows[len(rows)-1].ID
	}
	return w.tx.SaveArming(ctx, rec)
}

func (w *work) armRows(sb *sheetBook, rb *ruleBook, rows []store.Row, from *time.Time) ([]store.Entry, error) {
	var put []store.Entry
	for i := range rows {
		row, err := rows[i].SettledCore(sb.sheet)
		if err != nil {
			return nil, err
		}
		if row == nil {
			continue // it is considered when it first settles
		}
		since, known := w.since(from, rb), rb.baseline()
		if at := rows[i].SettledAt; at != nil && at.After(known) {
			since = *at // settling has judged up to there
		}
		if next := rb.setting.Next(row, known, since); !next.IsZero() {
			put = append(put, store.Entry{Kind: store.Due, DueAt: next, SheetID: rb.record.SheetID, RuleID: rb.record.ID, RowID: rows[i].ID, Since: &since, Known: &known})
		}
	}
	return put, nil
}

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
		w.drop = append(w.drop, en.ID)
		return nil
	}
	rounds := rb.setting.Rounds(en.DueAt.Add(-plan.Tick), en.DueAt)
	if rb.setting.IsRoundUp() {
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
		w.put = append(w.put, en)
		return nil
	}
	return w.nextRound(rb, en)
}

func (w *work) nextRound(rb *ruleBook, en store.Entry) error {
	next := rb.setting.NextRound(en.DueAt)
	if next.IsZero() {
		w.drop = append(w.drop, en.ID)
		return nil
	}
	en.DueAt, en.DoneRows = next, 0
	w.put = append(w.put, en)
	return nil
}

func (w *work) roundRows(ctx context.Context, sb *sheetBook, rb *ruleBook, rows []store.Row, rounds []rule.Occasion) error {
	ids := make([]int64, len(rows))
	for i := range rows {
		ids[i] = rows[i].ID
	}
	if err := w.loadStandings(ctx, ids); err != nil {
		return err
	}
	type item struct {
		row *sheet.Row
		o   rule.Occasion
	}
	var items []item
	var occ []rule.Occasion
	for i := range rows {
		row, err := rows[i].SettledCore(sb.sheet)
		if err != nil {
			return err
		}
		for _, o := range rounds {
			if row == nil || rows[i].FirstEdit != nil && !o.Due.Before(*rows[i].FirstEdit) {
				continue // it waits until the row settles
			}
			o.Row = row.ID
			items, occ = append(items, item{row, o}), append(occ, o)
		}
	}
	if err := w.ask(ctx, occ); err != nil {
		return err
	}
	for _, it := range items {
		if w.judged[it.o.Identity()] {
			continue
		}
		if err := w.take(ctx, sb, rb, it.row, it.o, it.o.Due); err != nil {
			return err
		}
	}
	return nil
}

// roundUp writes a round's round-ups, each row as it last settled.
func (w *work) roundUp(ctx context.Context, sb *sheetBook, rb *ruleBook, o rule.Occasion) error {
	var rows []*sheet.Row
	var ids []int64
	err := w.tx.ScanRows(ctx, rb.record.SheetID, func(rec *store.Row) error {
		row, err := rec.SettledCore(sb.sheet)
		if err == nil && row != nil {
			rows, ids = append(rows, row), append(ids, rec.ID)
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := w.loadStandings(ctx, ids); err != nil {
		return err
	}
	ups, own := rb.setting.RoundUps(o, rows, o.Due, func(row *sheet.Row) plan.Memory { return w.memory(ctx, rb, row) })
	byID := map[string]*sheet.Row{}
	for _, r := range rows {
		byID[r.ID] = r
	}
	occ := make([]rule.Occasion, 0, len(ups)+len(own))
	for _, u := range ups {
		occ = append(occ, u.Occasion)
	}
	for _, c := range own {
		occ = append(occ, c.Occasion)
	}
	if err := w.ask(ctx, occ); err != nil {
		return err
	}
	for _, u := range ups {
		if w.judged[u.Identity()] {
			continue
		}
		if err := w.record(ctx, sb, rb, nil, u.Considered, true); err != nil {
			return err
		}
		if len(w.written) > 0 {
			w.written[len(w.written)-1].Facts = roundFacts(sb.sheet, u.Rows)
		}
	}
	for _, c := range own {
		if !w.judged[c.Identity()] {
			if err := w.record(ctx, sb, rb, byID[c.Row], c, true); err != nil {
				return err
			}
		}
	}
	return w.failed
}

// roundFacts names the rows that a round-up is about.
func roundFacts(s *sheet.Sheet, rows []*sheet.Row) string {
	out := make([]fact, 0, len(rows))
	for i, r := range rows {
		out = append(out, fact{Name: fmt.Sprintf("row %d", i+1), Value: s.RowName(r)})
	}
	return store.Detail(out)
}
