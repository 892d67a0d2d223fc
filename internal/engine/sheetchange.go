package engine

import (
	"context"
	"fmt"
	"slices"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// SheetChange is what a person changes of a sheet; nil leaves it.
type SheetChange struct {
	Name                         *string
	SettleSeconds, Frozen        *int
	Key, Address, Named, Written *string // columns by id, or ""
	Calendar                     *string // by id
	Zone                         *string // IANA
	Sender                       *string // by id; "" for the first one
}

// ChangeSheet changes a sheet: what it is called, how long its rows rest, and
// which of its columns say what a row is and whom it concerns.
func (e *Engine) ChangeSheet(ctx context.Context, id string, c SheetChange,
	actor string) (rec *store.Sheet, err error) {
	moves := c.Zone != nil || c.Calendar != nil || c.SettleSeconds != nil
	if moves {
		if err := e.catchUp(ctx, id, nil); err != nil {
			return nil, err
		}
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if rec, err = tx.LockSheet(ctx, id); err != nil {
			return err
		}
		if moves {
			if _, err := e.halt(ctx, tx, id, nil); err != nil {
				return err
			}
		}
		if err := c.take(rec); err != nil {
			return err
		}
		if c.Sender != nil {
			if err := setSender(ctx, tx, rec, *c.Sender); err != nil {
				return err
			}
		}
		if c.Zone != nil && *c.Zone != rec.Zone {
			rec.Zone = *c.Zone
			if _, err := rec.Core(); err != nil {
				return &Refusal{Field: "/zone", Message: err.Error()}
			}
			if err := e.rearmSheet(ctx, tx, rec.ID); err != nil {
				return err
			}
		}
		if c.Calendar != nil && *c.Calendar != rec.CalendarID {
			if err := e.setCalendar(ctx, tx, rec, *c.Calendar); err != nil {
				return err
			}
		}
		if c.Key != nil && *c.Key != rec.KeyColumn {
			if err := setKey(ctx, tx, rec, *c.Key, nil); err != nil {
				return err
			}
		}
		rec.Version++
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSheetSaved, SheetID: id,
			Detail: store.Detail(map[string]any{"name": rec.Name, "settleSeconds": rec.SettleSeconds, "key": rec.KeyColumn,
				"address": rec.AddressColumn, "nameColumn": rec.NameColumn, "languageColumn": rec.LanguageColumn,
				"calendar": rec.CalendarID, "zone": rec.Zone})})
	})
	if err == nil {
		e.Wake()
	}
	return rec, err
}

// take writes what concerns the sheet alone into its record.
func (c *SheetChange) take(rec *store.Sheet) error {
	core, err := rec.Core()
	if err != nil {
		return err
	}
	if c.Name != nil {
		rec.Name = value.Trim(*c.Name)
		if err := value.CheckName("a sheet", rec.Name); err != nil {
			return &Refusal{Field: "/name", Message: err.Error()}
		}
	}
	if c.SettleSeconds != nil {
		rec.SettleSeconds = *c.SettleSeconds
	}
	if c.Frozen != nil {
		rec.Frozen = *c.Frozen
	}
	for _, r := range []struct {
		field  string
		asked  *string
		column *string
		types  []value.Type
	}{
		{"/address", c.Address, &rec.AddressColumn, []value.Type{value.Email}},
		{"/nameColumn", c.Named, &rec.NameColumn, []value.Type{value.Text, value.Choice}},
		{"/languageColumn", c.Written, &rec.LanguageColumn, []value.Type{value.Text, value.Choice}},
	} {
		if r.asked == nil {
			continue
		}
		if col, ok := core.Column(*r.asked); *r.asked != "" && (!ok || !slices.Contains(r.types, col.ValueType())) {
			return &Refusal{Field: r.field, Message: fmt.Sprintf("a column of type %s is wanted here", r.types[0])}
		}
		*r.column = *r.asked
	}
	return nil
}

// setSender says by whom a sheet's emails are sent; "" for the first one.
func setSender(ctx context.Context, tx *store.Store, rec *store.Sheet, id string) error {
	senders, err := tx.Senders(ctx)
	if err != nil {
		return err
	}
	if id != "" && !slices.ContainsFunc(senders, func(s store.Sender) bool { return s.ID == id }) {
		return &Refusal{Field: "/sender", Message: "there is no such sender"}
	}
	rec.SenderID = id
	return nil
}
