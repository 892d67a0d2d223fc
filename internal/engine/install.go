package engine

import (
	"context"
	"strconv"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// CreateSheet makes a sheet with columns that have types and names; ids and
// positions are given here.
func (e *Engine) CreateSheet(ctx context.Context, rec *store.Sheet, cols []sheet.Column, key, address int,
	actor string) error {
	for i := range cols {
		cols[i].ID, cols[i].Pos = columnID(i), i
		cols[i].Name = value.Trim(cols[i].Name)
		for k := range cols[i].Options {
			cols[i].Options[k].ID = optionID(k)
		}
	}
	sheet.IdentifyGroups(cols, nil)
	rec.ID, rec.CreatedAt = store.NewID(), e.now()
	if key >= 0 && key < len(cols) {
		rec.KeyColumn = cols[key].ID
	}
	if address >= 0 && address < len(cols) {
		rec.AddressColumn = cols[address].ID
	}
	rec.SetColumns(cols)
	core, err := rec.Core()
	if err != nil {
		return &Refusal{Message: err.Error()}
	}
	if err := value.CheckName("a sheet", rec.Name); err != nil {
		return &Refusal{Field: "/name", Message: err.Error()}
	}
	if err := core.Validate(); err != nil {
		return &Refusal{Field: "/columns", Message: err.Error()}
	}
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSheetSaved, SheetID: rec.ID,
			Detail: store.Detail(map[string]any{"name": rec.Name, "columns": cols})})
	})
}

// Ids of columns and options are opaque outside; they count up within their
// sheet and column, and none is ever given twice.
func columnID(i int) string { return "c" + strconv.Itoa(i+1) }
func optionID(i int) string { return "o" + strconv.Itoa(i+1) }

// Install makes a sheet of a bundle, with its rows, templates and rules. Rules
// that the bundle has on are switched on where switchOn says so, else they are
// drafts.
func (e *Engine) Install(ctx context.Context, b *exchange.Bundle, switchOn bool, actor string) (*store.Sheet, error) {
	rec := &store.Sheet{Name: b.Sheet.Name, Zone: b.Sheet.Zone.String(), Locale: b.Sheet.Locale.Tag,
		SettleSeconds: int(b.Sheet.Settle.Seconds())}
	if b.Own {
		var err error
		if rec.CalendarID, err = e.ownCalendar(ctx, b.Sheet.Name, b.Calendar, actor); err != nil {
			return nil, err
		}
	}
	cols := make([]sheet.Column, len(b.Sheet.Columns))
	colIDs, optIDs := map[string]string{}, map[string]string{}
	key, address := -1, -1
	for i, c := range b.Sheet.Columns {
		colIDs[c.ID] = columnID(i)
		c.Options = append([]value.Option(nil), c.Options...)
		for k, o := range c.Options {
			optIDs[c.ID+"\x00"+o.ID] = optionID(k)
		}
		cols[i] = c
		if c.ID == b.Sheet.Key {
			key = i
		}
		if c.Type == value.Email && address < 0 {
			address = i
		}
	}
	if err := e.CreateSheet(ctx, rec, cols, key, address, actor); err != nil {
		return nil, err
	}
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	for _, d := range b.Sheet.Derived() { // they are called alike
		if own, ok := core.ColumnNamed(d.Name); ok {
			colIDs[d.ID] = own.ID
		}
	}
	var in Incoming
	var stored []*sheet.Column
	for k := range b.Sheet.Columns {
		if c := &b.Sheet.Columns[k]; c.Type != value.Formula {
			in.Columns, stored = append(in.Columns, colIDs[c.ID]), append(stored, c)
		}
	}
	for _, r := range b.Rows {
		cells := make([]string, len(stored))
		for k, c := range stored {
			cells[k] = b.Sheet.Input(c, r.Cell(c))
		}
		in.Rows = append(in.Rows, cells)
	}
	if _, err := e.Import(ctx, rec.ID, in, ImportOptions{Quiet: true}, System(actor)); err != nil {
		return nil, err
	}
	for _, f := range b.Shelf {
		if _, err := e.PutOnShelf(ctx, rec.ID, f.Name, f.Data, true, actor); err != nil {
			return nil, err
		}
	}
	pieces, err := e.installPieces(ctx, b, actor)
	if err != nil {
		return nil, err
	}
	tplIDs := map[string]string{}
	column := func(id string) (string, error) { return colIDs[id], nil }
	back := map[string]string{}
	for old, id := range colIDs {
		back[id] = old
	}
	option := func(column, option string) (string, error) {
		if id, ok := optIDs[back[column]+"\x00"+option]; ok {
			return id, nil
		}
		return option, nil
	}
	for id, t := range b.Templates {
		nt, err := t.Clone()
		if err != nil {
			return nil, err
		}
		nt.ID = ""
		if err := nt.Rename(column, option); err != nil {
			return nil, err
		}
		if err := nt.RenamePieces(func(name string) (string, error) { return pieces[name], nil }); err != nil {
			return nil, err
		}
		saved, err := e.SaveTemplate(ctx, rec.ID, "", nt, 0, actor)
		if err != nil {
			return nil, err
		}
		tplIDs[id] = saved.ID
	}
	for _, r := range b.Rules {
		c, err := r.Clone()
		if err != nil {
			return nil, err
		}
		if err := c.Rename(column, func(id string) (string, error) { return tplIDs[id], nil }, option); err != nil {
			return nil, err
		}
		saved, err := e.SaveRule(ctx, rec.ID, "", c, 0, actor)
		if err != nil {
			return nil, err
		}
		if switchOn && r.State == rule.On {
			if _, err := e.SetRuleState(ctx, rec.ID, saved.ID, rule.On, actor); err != nil {
				return nil, err
			}
		}
	}
	return rec, nil
}

// installPieces keeps what a bundle's letters carry, and its pieces of text: one that is
// here by the same name is used as it is. It gives their ids here.
func (e *Engine) installPieces(ctx context.Context, b *exchange.Bundle, actor string) (map[string]string, error) {
	for id, f := range b.Files {
		if err := e.Store.KeepFile(ctx, &store.File{ID: store.FileID(id), Type: f.Type, Size: int64(len(f.Data)),
			Data: f.Data, CreatedAt: e.now()}); err != nil {
			return nil, err
		}
	}
	out := map[string]string{}
	if len(b.Pieces) == 0 {
		return out, nil
	}
	have, err := e.Store.Pieces(ctx)
	if err != nil {
		return nil, err
	}
	for i := range have {
		out[value.Fold(have[i].Name)] = have[i].ID
	}
	for name, p := range b.Pieces {
		if out[name] != "" {
			continue
		}
		c, err := p.Clone()
		if err != nil {
			return nil, err
		}
		saved, err := e.SavePiece(ctx, "", c, 0, actor)
		if err != nil {
			return nil, err
		}
		out[name] = saved.ID
	}
	return out, nil
}
