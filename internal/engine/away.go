package engine

import (
	"context"
	"errors"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/store"
)

// DeleteSheet takes a sheet out of sight. For 30 days it can be restored;
// what it has written stays in the log, and what waits to go out is skipped.
func (e *Engine) DeleteSheet(ctx context.Context, id, actor string) error {
	return e.retire(ctx, id, actor, "deleted", func(rec *store.Sheet, now time.Time) { rec.DeletedAt = &now })
}

// PutSheetAway takes a sheet out of use for as long as somebody likes: it can be
// opened, but nothing goes out for it, and no list has it.
func (e *Engine) PutSheetAway(ctx context.Context, id, actor string) error {
	return e.retire(ctx, id, actor, "put away", func(rec *store.Sheet, now time.Time) { rec.PutAwayAt = &now })
}

func (e *Engine) retire(ctx context.Context, id, actor, how string, mark func(*store.Sheet, time.Time)) error {
	if err := e.catchUp(ctx, id, nil); err != nil {
		return err
	}
	defer e.Wake()
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.LockSheet(ctx, id); err != nil { // before its rules
			return err
		}
		now, err := e.halt(ctx, tx, id, nil)
		if err != nil {
			return err
		}
		rec, err := tx.LockSheet(ctx, id) // as what was due has left it
		if err != nil {
			return err
		}
		mark(rec, now)
		rec.AwayBy = actor
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		if err := tx.RetireSheet(ctx, id, e.now()); err != nil {
			return err
		}
		waits, err := tx.LockSheetDeliveries(ctx, id, []delivery.State{delivery.Incomplete, delivery.Held})
		if err != nil {
			return err
		}
		w, err := newWork(ctx, e, tx, now, act{actor: actor, cause: delivery.Reviewing})
		if err != nil {
			return err
		}
		for i := range waits {
			if _, err := w.take(&waits[i]); err != nil {
				return err
			}
			if err := w.orphan(ctx, waits[i].ID, reason.SheetGone); err != nil {
				return err
			}
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSheetSaved, SheetID: id,
			Detail: store.Detail(map[string]any{"name": rec.Name, "after": how})})
	})
}

// RestoreSheet brings a sheet back that was deleted or put away, with its rules
// paused. A file that it follows is looked at again.
func (e *Engine) RestoreSheet(ctx context.Context, id, actor string) (rec *store.Sheet, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if rec, err = tx.LockAwaySheet(ctx, id); err != nil {
			return err
		}
		now := e.now()
		if rec.DeletedAt != nil && !e.Restorable(rec.DeletedAt) {
			return store.ErrNotFound
		}
		rec.DeletedAt, rec.PutAwayAt, rec.AwayBy = nil, nil, ""
		rec.Version++
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		source, err := tx.SheetSource(ctx, id)
		if err == nil {
			err = e.putRefresh(ctx, tx, source, now)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventSheetSaved, SheetID: id,
			Detail: store.Detail(map[string]any{"name": rec.Name, "after": "restored"})})
	})
	if err == nil {
		wake(e.wakeRefresh)
	}
	return rec, err
}

// RestoreTemplate brings a deleted template back.
func (e *Engine) RestoreTemplate(ctx context.Context, sheetID, id, actor string) (out *store.Template, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if out, err = tx.DeletedTemplate(ctx, id); err != nil {
			return err
		}
		now := e.now()
		if out.SheetID != sheetID || !e.Restorable(out.DeletedAt) {
			return store.ErrNotFound
		}
		out.DeletedAt = nil
		if err := tx.SaveTemplate(ctx, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventTemplateSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"template": id, "restored": out.Name})})
	})
	return out, err
}
