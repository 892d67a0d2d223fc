package engine

import (
	"context"
	"fmt"
	"slices"

	"nivot/internal/store"
)

// Undo takes a change back: cells that still hold what it left hold again what
// they held before, rows that it added are deleted, rows that it deleted come
// back. What has been changed since is left, and counted as passed. The
// undoing is a change itself, and undoing that does it again.
func (e *Engine) Undo(ctx context.Context, sheetID string, id int64, by Author) (ChangeResult, error) {
	head, members, err := e.Store.ChangeEvents(ctx, sheetID, id)
	if err != nil {
		return ChangeResult{}, err
	}
	if len(members) == 0 && head.RowID != 0 {
		members = []store.Event{*head}
	}
	ops, err := inverse(members)
	if err != nil {
		return ChangeResult{}, err
	}
	converted, err := e.Store.ConvertedSince(ctx, sheetID, id)
	if err != nil {
		return ChangeResult{}, err
	}
	ops, stale := dropCells(ops, converted)
	born, err := e.Store.RowsBorn(ctx, id, false)
	if err != nil {
		return ChangeResult{}, err
	}
	listed := map[int64]bool{}
	for _, op := range ops {
		listed[op.Row] = listed[op.Row] || op.Kind == OpDelete
	}
	for _, row := range born {
		if !listed[row] {
			ops = append(ops, Op{Kind: OpDelete, Row: row})
		}
	}
	if len(ops) == 0 {
		return ChangeResult{}, refuse("this change has nothing that can be undone")
	}
	ops, passed, err := e.spare(ctx, ops, id, by)
	if err != nil {
		return ChangeResult{}, err
	}
	cols, err := columnsAfter(head)
	if err != nil {
		return ChangeResult{}, err
	}
	out, err := e.changeWith(ctx, sheetID, ops, store.Event{Kind: store.EventUndone,
		Detail: store.Detail(map[string]any{"undoes": fmt.Sprint(id), "kind": head.Kind, "steps": len(ops)})}, by,
		skipConflicts, cols)
	out.Skipped += passed + stale
	return out, err
}

// dropCells leaves the cells of columns out whose type or order has changed
// since: their old texts would be read otherwise now.
func dropCells(ops []Op, columns map[string]bool) (kept []Op, dropped int) {
	for _, op := range ops {
		if op.Kind == OpEdit && len(columns) > 0 {
			n := len(op.Cells)
			op.Cells = slices.DeleteFunc(op.Cells, func(ed CellEdit) bool { return columns[ed.Column] })
			dropped += n - len(op.Cells)
			if len(op.Cells) == 0 {
				continue
			}
		}
		kept = append(kept, op)
	}
	return kept, dropped
}

// spare leaves those added rows alone that somebody else has written in since.
func (e *Engine) spare(ctx context.Context, ops []Op, id int64, by Author) (kept []Op, passed int, err error) {
	var added []int64
	for _, op := range ops {
		if op.Kind == OpDelete {
			added = append(added, op.Row)
		}
	}
	edited, err := e.Store.RowsEditedSince(ctx, added, id, by.ID, by.Name)
	if err != nil {
		return nil, 0, err
	}
	for _, op := range ops {
		if op.Kind == OpDelete && edited[op.Row] {
			passed++
			continue
		}
		kept = append(kept, op)
	}
	return kept, passed, nil
}

// inverse gives the steps that take events back, the latest first.
func inverse(events []store.Event) (ops []Op, err error) {
	for i := range events {
		ev := &events[i]
		edits, err := changesOf(ev)
		if err != nil {
			return nil, err
		}
		op := Op{Kind: OpEdit, Row: ev.RowID}
		for _, c := range edits {
			op.Cells = append(op.Cells, CellEdit{Column: c.Column, Text: c.Before, Expected: &c.After})
		}
		switch ev.Kind {
		case store.EventRowEdited:
		case store.EventRowAdded:
			op = Op{Kind: OpDelete, Row: ev.RowID}
		case store.EventRowDeleted:
			op = Op{Kind: OpRestore, Row: ev.RowID}
		case store.EventRowGone:
			op = Op{Kind: opBack, Row: ev.RowID}
		case store.EventRowBack:
			op = Op{Kind: opGone, Row: ev.RowID}
		case store.EventRowRestored:
			if len(op.Cells) > 0 {
				ops = append(ops, op)
			}
			op = Op{Kind: OpDelete, Row: ev.RowID}
		default:
			continue
		}
		ops = append(ops, op)
	}
	return ops, nil
}
