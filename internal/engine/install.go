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

// installer makes a sheet of a bundle: what it has made so far, by the bundle's ids.
type installer struct {
	e     *Engine
	b     *exchange.Bundle
	actor string
	rec   *store.Sheet

	columns   map[string]string // its ids by the bundle's
	theirs    map[string]string // the other way round
	options   map[string]string // by the bundle's column and option
	pieces    map[string]string // by name
	templates map[string]string
}

// Install makes a sheet of a bundle, with its rows, templates and rules. Rules
// that the bundle has on are switched on where switchOn says so, else they are
// drafts.
func (e *Engine) Install(ctx context.Context, b *exchange.Bundle, switchOn bool, actor string) (*store.Sheet, error) {
	in := &installer{e: e, b: b, actor: actor, columns: map[string]string{}, theirs: map[string]string{},
		options: map[string]string{}, templates: map[string]string{}}
	for _, step := range []func(context.Context) error{in.sheet, in.rows, in.files, in.letters,
		func(ctx context.Context) error { return in.rules(ctx, switchOn) }} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	return in.rec, nil
}

// sheet makes the sheet, and its working calendar where it has one of its own.
func (in *installer) sheet(ctx context.Context) (err error) {
	from := in.b.Sheet
	in.rec = &store.Sheet{Name: from.Name, Zone: from.Zone.String(), Locale: from.Locale.Tag,
		SettleSeconds: int(from.Settle.Seconds())}
	if in.b.Own {
		if in.rec.CalendarID, err = in.e.ownCalendar(ctx, from.Name, in.b.Calendar, in.actor); err != nil {
			return err
		}
	}
	cols := make([]sheet.Column, len(from.Columns))
	key, address := -1, -1
	for i, c := range from.Columns {
		in.columns[c.ID] = columnID(i)
		c.Options = append([]value.Option(nil), c.Options...)
		for k, o := range c.Options {
			in.options[c.ID+"\x00"+o.ID] = optionID(k)
		}
		cols[i] = c
		if c.ID == from.Key {
			key = i
		}
		if c.Type == value.Email && address < 0 {
			address = i
		}
	}
	if err := in.e.CreateSheet(ctx, in.rec, cols, key, address, in.actor); err != nil {
		return err
	}
	core, err := in.rec.Core()
	if err != nil {
		return err
	}
	for _, d := range from.Derived() { // they are called alike
		if own, ok := core.ColumnNamed(d.Name); ok {
			in.columns[d.ID] = own.ID
		}
	}
	for old, id := range in.columns {
		in.theirs[id] = old
	}
	return nil
}

func (in *installer) rows(ctx context.Context) error {
	var rows Incoming
	var stored []*sheet.Column
	for k := range in.b.Sheet.Columns {
		if c := &in.b.Sheet.Columns[k]; c.Type != value.Formula {
			rows.Columns, stored = append(rows.Columns, in.columns[c.ID]), append(stored, c)
		}
	}
	for _, r := range in.b.Rows {
		cells := make([]string, len(stored))
		for k, c := range stored {
			cells[k] = in.b.Sheet.Input(c, r.Cell(c))
		}
		rows.Rows = append(rows.Rows, cells)
	}
	_, err := in.e.Import(ctx, in.rec.ID, rows, ImportOptions{Quiet: true}, System(in.actor))
	return err
}

func (in *installer) files(ctx context.Context) (err error) {
	for _, f := range in.b.Shelf {
		if _, err := in.e.PutOnShelf(ctx, in.rec.ID, f.Name, f.Data, true, in.actor); err != nil {
			return err
		}
	}
	in.pieces, err = in.e.installPieces(ctx, in.b, in.actor)
	return err
}

// column gives a column's id here.
func (in *installer) column(id string) (string, error) { return in.columns[id], nil }

// option gives the id here of an option, of a column by its id here.
func (in *installer) option(column, option string) (string, error) {
	if id, ok := in.options[in.theirs[column]+"\x00"+option]; ok {
		return id, nil
	}
	return option, nil
}

func (in *installer) letters(ctx context.Context) error {
	for id, t := range in.b.Templates {
		own, err := t.Clone()
		if err != nil {
			return err
		}
		own.ID = ""
		if err := own.Rename(in.column, in.option); err != nil {
			return err
		}
		if err := own.RenamePieces(func(name string) (string, error) { return in.pieces[name], nil }); err != nil {
			return err
		}
		saved, err := in.e.SaveTemplate(ctx, in.rec.ID, "", own, 0, in.actor)
		if err != nil {
			return err
		}
		in.templates[id] = saved.ID
	}
	return nil
}

func (in *installer) rules(ctx context.Context, switchOn bool) error {
	template := func(id string) (string, error) { return in.templates[id], nil }
	for _, r := range in.b.Rules {
		own, err := r.Clone()
		if err != nil {
			return err
		}
		if err := own.Rename(in.column, template, in.option); err != nil {
			return err
		}
		saved, err := in.e.SaveRule(ctx, in.rec.ID, "", own, 0, in.actor)
		if err != nil {
			return err
		}
		if switchOn && r.State == rule.On {
			if _, err := in.e.SetRuleState(ctx, in.rec.ID, saved.ID, rule.On, in.actor); err != nil {
				return err
			}
		}
	}
	return nil
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
