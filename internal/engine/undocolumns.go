package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// columnsOf is what an undoing does to columns: those that the undone change
// had taken out are revived, those that it had added are retired.
type columnsOf struct{ revive, retire []string }

func (c columnsOf) none() bool { return len(c.revive)+len(c.retire) == 0 }

// changedColumns is what a change's event tells of columns.
type changedColumns struct {
	Added []string `json:"addedColumns,omitempty"`
	Taken []string `json:"takenColumns,omitempty"`
}

// columnsAfter reads from a change's event what undoing it does to columns.
func columnsAfter(head *store.Event) (columnsOf, error) {
	var d changedColumns
	if head.Detail == "" {
		return columnsOf{}, nil
	}
	if err := json.Unmarshal([]byte(head.Detail), &d); err != nil {
		return columnsOf{}, fmt.Errorf("event %d: %w", head.ID, err)
	}
	return columnsOf{revive: d.Taken, retire: d.Added}, nil
}

// withColumns puts what was done to columns into a change's detail.
func withColumns(detail string, added, taken []string) string {
	m := map[string]any{}
	_ = json.Unmarshal([]byte(detail), &m)
	if len(added) > 0 {
		m["addedColumns"] = added
	}
	if len(taken) > 0 {
		m["takenColumns"] = taken
	}
	return store.Detail(m)
}

// reviveColumns brings columns back that were taken out, with their cells.
func (c *changer) reviveColumns() error {
	if len(c.columns.revive) == 0 {
		return nil
	}
	s, err := c.rec.Core()
	if err != nil {
		return err
	}
	var left []sheet.Column
	for _, col := range c.rec.Removed() {
		if !slices.Contains(c.columns.revive, col.ID) {
			left = append(left, col)
			continue
		}
		s.Columns = append(s.Columns, col)
		s.Columns[len(s.Columns)-1].Name = freeName(s)
		c.revived = append(c.revived, col.ID)
	}
	before := s.Columns[:len(s.Columns)-len(c.revived)]
	sheet.IdentifyGroups(s.Columns, before)
	c.regrouped = !sheet.SameGroups(s.Columns, before)
	if err := s.Validate(); err != nil {
		return &Refusal{Message: err.Error()}
	}
	c.rec.SetColumns(s.Columns)
	c.rec.SetRemoved(left)
	return nil
}

// freeName gives the last column of a sheet a name that no other has.
func freeName(s *sheet.Sheet) string {
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
	}
	return sheet.NameColumns(names)[len(names)-1]
}

// retireColumns takes those columns out again that hold nothing any more and
// that no rule, template or formula names. It writes the sheet where the
// change did anything to its columns.
func (c *changer) retireColumns(ctx context.Context) error {
	left, err := c.unused(ctx)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		kept := make([]sheet.Column, 0, len(c.s.Columns))
		for _, col := range c.s.Columns {
			if !slices.Contains(left, col.ID) {
				kept = append(kept, col)
			}
		}
		p, err := planColumns(c.rec, ColumnsChange{Columns: kept})
		if err == nil {
			err = p.spares(ctx, c.tx, nil, c.s.ID, false, "")
		}
		var refusal *Refusal
		switch {
		case errors.As(err, &refusal): // something needs them by now: they stay
		case err != nil:
			return err
		default:
			c.rec.SetColumns(p.new.Columns)
			c.rec.SetRemoved(append(c.rec.Removed(), p.removed...))
			c.taken, c.regrouped = left, c.regrouped || p.rearm
		}
	}
	if len(c.revived)+len(c.taken) == 0 {
		return nil
	}
	c.rec.LiveRows += int64(c.grown())
	c.rec.Version++
	c.rec.OrderVersion++
	if err := c.tx.SaveSheet(ctx, c.rec); err != nil || !c.regrouped {
		return err
	}
	return c.e.rearmSheet(ctx, c.tx, c.rec.ID)
}

// unused gives those columns to be retired in which no row holds anything.
func (c *changer) unused(ctx context.Context) ([]string, error) {
	var cols []*sheet.Column
	for _, id := range c.columns.retire {
		if col, ok := c.s.Column(id); ok && col.Type != value.Formula && id != c.rec.KeyColumn {
			cols = append(cols, col)
		}
	}
	if len(cols) == 0 {
		return nil, nil
	}
	err := c.tx.ScanRows(ctx, c.s.ID, func(rec *store.Row) error {
		row, err := rec.Core(c.s)
		if err != nil {
			return err
		}
		cols = slices.DeleteFunc(cols, func(col *sheet.Column) bool { return !row.Cell(col).IsEmpty() })
		return nil
	})
	var out []string
	for _, col := range cols {
		out = append(out, col.ID)
	}
	return out, err
}
