package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"nivot/internal/store"
)

// NewSender makes a sender that is to be saved. It stands behind all others, so that it takes over nothing by
// itself.
func (e *Engine) NewSender(ctx context.Context) (*store.Sender, error) {
	list, err := e.Store.Senders(ctx)
	x := &store.Sender{ID: store.NewID(), CreatedAt: e.opts.Wall().UTC()}
	if len(list) > 0 {
		x.Position = list[len(list)-1].Position + 1
	}
	return x, err
}

// UseSender makes a sender the default one: it sends for the sheets that have none of their own.
func (e *Engine) UseSender(ctx context.Context, id, actor string) error {
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		list, err := tx.Senders(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(list, func(x store.Sender) bool { return x.ID == id })
		if i < 0 {
			return store.ErrNotFound
		}
		chosen := list[i]
		list = append([]store.Sender{chosen}, slices.Delete(list, i, i+1)...)
		for i := range list {
			if err := tx.PlaceSender(ctx, list[i].ID, i); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"defaultSender": chosen.Name})})
	})
	e.SendersChanged()
	return err
}

// DeleteSender deletes a sender. One for which something waits stays, and the default one as long as there
// are others; sheets that had it send from the default one.
func (e *Engine) DeleteSender(ctx context.Context, id, actor string) error {
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		list, err := tx.Senders(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(list, func(x store.Sender) bool { return x.ID == id })
		switch {
		case i < 0:
			return store.ErrNotFound
		case i == 0 && len(list) > 1:
			return refuse("%s is used by default; use another by default first", list[0].Name)
		}
		waiting, err := tx.CountPendingOf(ctx, list[i].StandsUnder(i == 0))
		if err != nil {
			return err
		}
		if waiting > 0 {
			return refuse("%s for %s; let them go, or leave them out, first", WaitWords(waiting), list[i].Name)
		}
		sheets, err := tx.AllSheets(ctx)
		if err != nil {
			return err
		}
		var moved []string
		for i := range sheets {
			if sheets[i].SenderID != id {
				continue
			}
			rec, err := tx.LockSheet(ctx, sheets[i].ID)
			if err == store.ErrNotFound { // deleted: it comes back without it
				rec, err = &sheets[i], nil
			}
			if err != nil {
				return err
			}
			rec.SenderID = ""
			if err := tx.SaveSheet(ctx, rec); err != nil {
				return err
			}
			moved = append(moved, rec.Name)
		}
		if err := tx.DropSender(ctx, id); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"sender": list[i].Name, "deleted": true, "sheets": strings.Join(moved, ", ")})})
	})
	e.SendersChanged()
	return err
}

// WaitWords says how many emails wait.
func WaitWords(n int64) string {
	if n == 1 {
		return "1 email waits"
	}
	return fmt.Sprintf("%d emails wait", n)
}
