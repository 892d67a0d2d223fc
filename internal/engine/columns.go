package engine

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// ColumnsChange is the columns a sheet is to have, in their order. One without
// an id is new; one that is missing is taken out, its cells are kept. Seen is
// the version of the columns that the person saw.
type ColumnsChange struct {
	Columns []sheet.Column
	Seen    string
	Pausing bool // rules that could not live with it are paused, rather than it refused
}

// ColumnsVersion tells columns apart that somebody has changed meanwhile.
func ColumnsVersion(rec *store.Sheet) string {
	return fmt.Sprintf("%x", store.HashToken(rec.Columns)[:8])
}

// plannedColumns is a change of columns that has been checked.
type plannedColumns struct {
	rec       *store.Sheet
	old, new  *sheet.Sheet
	converted []conversion
	removed   []sheet.Column
	rearm     bool // what rules look at has changed
}

// conversion is a column whose cells are read anew.
type conversion struct{ from, to sheet.Column }

// planColumns checks a change of columns against the sheet, its rules and its
// templates.
func planColumns(rec *store.Sheet, c ColumnsChange) (*plannedColumns, error) {
	if c.Seen != "" && c.Seen != ColumnsVersion(rec) {
		return nil, refuse("somebody else has changed the columns meanwhile; look at them again before you save")
	}
	p := &plannedColumns{rec: rec}
	var err error
	if p.old, err = rec.Core(); err != nil {
		return nil, err
	}
	if p.new, err = rec.Core(); err != nil {
		return nil, err
	}
	names, asked := map[string]string{}, map[string]*sheet.Column{}
	for i := range c.Columns {
		if id := c.Columns[i].ID; id != "" {
			if was, ok := p.old.Column(id); !ok || was.Derived() || asked[id] != nil {
				return nil, &Refusal{Field: fmt.Sprintf("/columns/%d/id", i),
					Message: "the column is not there, or stands here twice"}
			}
			asked[id] = &c.Columns[i]
			names[id] = c.Columns[i].Name
		}
	}
	// Formulas follow new names, unless they are written anew themselves.
	for i := range p.new.Columns {
		if a := asked[p.new.Columns[i].ID]; a != nil {
			p.new.Columns[i].Name = value.Trim(a.Name)
		} else {
			p.removed = append(p.removed, p.old.Columns[i])
		}
	}
	renamed, _ := rec.Core()
	_ = renamed.Rename(names) // what is wrong with the names is said below
	cols := make([]sheet.Column, 0, len(c.Columns))
	next := rec.NextColumn()
	for i := range c.Columns {
		col := c.Columns[i]
		col.Name = value.Trim(col.Name)
		if was, ok := p.old.Column(col.ID); col.ID != "" && ok {
			col.Pos = was.Pos
			if follows, _ := renamed.Column(col.ID); col.Formula == was.Formula {
				col.Formula = follows.Formula
			}
			giveOptionIDs(&col, was)
			p.compare(*was, col)
		} else {
			col.ID, col.Pos = columnID(next), next
			next++
			giveOptionIDs(&col, nil)
			p.rearm = p.rearm || col.Formula != ""
		}
		cols = append(cols, col)
	}
	sheet.IdentifyGroups(cols, p.old.Columns)
	sheet.RenameGroups(cols, p.old.Columns)
	p.rearm = p.rearm || !sheet.SameGroups(cols, p.old.Columns)
	p.new.Columns = cols
	for _, id := range []*string{&rec.AddressColumn, &rec.NameColumn, &rec.LanguageColumn} {
		if _, ok := p.new.Column(*id); !ok {
			*id = ""
		}
	}
	p.new.Address = rec.AddressColumn
	if key, ok := p.new.Column(rec.KeyColumn); rec.KeyColumn != "" && (!ok || key.Type == value.Formula) {
		return nil,
			&Refusal{Field: "/columns", Message: "the key column cannot be deleted or calculated; choose another key first"}
	}
	return p, p.validate()
}

func (p *plannedColumns) validate() error {
	if len(p.new.Columns) == 0 {
		return &Refusal{Field: "/columns", Message: "a sheet needs at least one column"}
	}
	err := p.new.Validate()
	var fe *sheet.FormulaError
	if errors.As(err, &fe) {
		return &Refusal{Field: fmt.Sprintf("/columns/%d/formula", fe.Column), Message: fe.Error()}
	}
	if err != nil {
		return &Refusal{Field: "/columns", Message: err.Error()}
	}
	return nil
}

// compare notes what a column's change asks for.
func (p *plannedColumns) compare(was, is sheet.Column) {
	same := func(a, b sheet.Column) bool {
		return a.Type == b.Type && a.Order == b.Order && reflect.DeepEqual(a.Format, b.Format)
	}
	lost := false
	kept := map[string]bool{}
	for _, o := range is.Options {
		kept[o.ID] = true
	}
	for _, o := range was.Options {
		lost = lost || !kept[o.ID]
	}
	if is.Type != value.Formula && (!same(was, is) || lost || len(is.Options) > len(was.Options)) {
		p.converted = append(p.converted, conversion{was, is})
	}
	p.rearm = p.rearm || was.Type != is.Type || was.Formula != is.Formula || lost ||
		!reflect.DeepEqual(was.Options, is.Options)
}

// giveOptionIDs gives new options ids that the column has never had.
func giveOptionIDs(c, was *sheet.Column) {
	n := 0
	known := map[string]bool{}
	if was != nil {
		for _, o := range was.Options {
			known[o.ID] = true
			var k int
			if _, err := fmt.Sscanf(o.ID, "o%d", &k); err == nil {
				n = max(n, k)
			}
		}
		n = max(n, was.LastOption)
	}
	for i := range c.Options {
		if o := &c.Options[i]; !known[o.ID] {
			o.ID = optionID(n)
			n++
		}
		c.Options[i].Name = value.Trim(c.Options[i].Name)
	}
	c.LastOption = n
}

// convert reads a row's cells anew where their column has changed. What fits
// already stays; the rest is read from its text, and kept as it is where
// it does not fit.
func (p *plannedColumns) convert(cells []value.Value) (out []value.Value, changed bool) {
	row := sheet.Row{Cells: cells}
	for i := range p.converted {
		was, is := &p.converted[i].from, &p.converted[i].to
		v := row.Cell(was)
		now := convertCell(p.old, p.new, was, is, v)
		if !value.Identical(v, now) || v.State != now.State {
			row.Set(is, now)
			changed = true
		}
	}
	return row.Cells, changed
}

func convertCell(old, new *sheet.Sheet, was, is *sheet.Column, v value.Value) value.Value {
	if v.IsEmpty() {
		return v
	}
	if v.IsFilled() && was.Type == is.Type {
		if is.Type != value.Choice {
			return v
		}
		for _, o := range is.Options {
			if o.ID == v.Str {
				return v
			}
		}
	}
	text := old.Input(was, v)
	if v.IsFilled() && (is.Type == value.Date || is.Type == value.Moment) &&
		(was.Type == value.Date || was.Type == value.Moment) {
		text = iso(v, is.Type)
	}
	return value.Parse(text, new.Reading(is))
}

// iso writes a day or moment so that every order reads it: a day begins at
// midnight, a moment loses its time.
func iso(v value.Value, to value.Type) string {
	day := v.Wall.Day.String()
	if to == value.Date {
		return day
	}
	h, m, s := v.Wall.Clock()
	return fmt.Sprintf("%s %02d:%02d:%02d", day, h, m, s)
}

// ColumnEffect is what a change would make of one column.
type ColumnEffect struct {
	Column  string // id; of a new one its place, "+n"
	Type    value.Type
	Filled  int
	Lost    int      // cells that fit now and would not
	Gained  int      // cells that do not fit now and would
	Misfits []Misfit // the first that would be lost
	Results []string // of a formula, for the first rows
}

// Misfit is a cell that would not fit.
type Misfit struct{ Row, Text string }

// effectSamples is how many misfits and results are shown.
const effectSamples = 5

// ColumnsEffect works out what a change of columns would do, and changes
// nothing.
func (e *Engine) ColumnsEffect(ctx context.Context, sheetID string, c ColumnsChange) ([]ColumnEffect, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	c.Seen = ""
	fresh := map[int]bool{}
	for i := range c.Columns {
		fresh[i] = c.Columns[i].ID == ""
	}
	p, err := planColumns(rec, c)
	if err != nil {
		return nil, err
	}
	var out []ColumnEffect
	at := map[string]int{}
	for i := range p.converted {
		at[p.converted[i].to.ID] = len(out)
		out = append(out, ColumnEffect{Column: p.converted[i].to.ID, Type: p.converted[i].to.Type})
	}
	for i := range p.new.Columns {
		col := &p.new.Columns[i]
		if col.Type != value.Formula {
			continue
		}
		was, ok := p.old.Column(col.ID)
		if !ok || fresh[i] || was.Formula != col.Formula {
			id := col.ID
			if fresh[i] {
				id = fmt.Sprintf("+%d", i)
			}
			at[col.ID] = len(out)
			out = append(out, ColumnEffect{Column: id, Type: col.ValueType()})
		}
	}
	if len(out) == 0 {
		return out, nil
	}
	cal, err := CalendarOf(ctx, e.Store, rec)
	if err != nil {
		return nil, err
	}
	now := e.now()
	err = e.Store.ScanRows(ctx, sheetID, func(r *store.Row) error {
		core, err := r.Core(p.old)
		if err != nil {
			return err
		}
		for i := range p.converted {
			x := &p.converted[i]
			out[at[x.to.ID]].see(p, x, core)
		}
		core.Cells, _ = p.convert(core.Cells)
		worked := p.new.Compute(core, now, cal)
		for i := range p.new.Columns {
			col := &p.new.Columns[i]
			if k, ok := at[col.ID]; ok && col.Type == value.Formula && len(out[k].Results) < effectSamples {
				out[k].Results = append(out[k].Results, p.new.Show(col, worked.Cell(col)))
			}
		}
		return nil
	})
	return out, err
}

func (f *ColumnEffect) see(p *plannedColumns, x *conversion, row *sheet.Row) {
	v := row.Cell(&x.from)
	if v.IsEmpty() {
		return
	}
	f.Filled++
	now := convertCell(p.old, p.new, &x.from, &x.to, v)
	switch {
	case v.IsFilled() && now.IsUnreadable():
		f.Lost++
		if len(f.Misfits) < effectSamples {
			f.Misfits = append(f.Misfits, Misfit{p.old.RowName(row), p.old.Input(&x.from, v)})
		}
	case v.IsUnreadable() && now.IsFilled():
		f.Gained++
	}
}

// ChangeColumns changes a sheet's columns, in one transaction. Where cells have
// to be read anew all rows are gone through. It is refused where a template, or,
// unless they are to be paused, a rule could not do its work any more.
func (e *Engine) ChangeColumns(ctx context.Context, sheetID string, c ColumnsChange, progress Progress,
	actor string) (rec *store.Sheet, err error) {
	if err := e.catchUp(ctx, sheetID, nil); err != nil {
		return nil, err
	}
	err = e.Store.LongTx(ctx, func(tx *store.Store) error {
		if rec, err = tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		if _, err := e.halt(ctx, tx, sheetID, nil); err != nil {
			return err
		}
		p, err := planColumns(rec, c)
		if err != nil {
			return err
		}
		if err := p.spares(ctx, tx, e, sheetID, c.Pausing, actor); err != nil {
			return err
		}
		if len(p.converted) > 0 {
			if err := p.convertRows(ctx, tx, progress); err != nil {
				return err
			}
		}
		rec.SetColumns(p.new.Columns)
		if len(p.removed) > 0 {
			rec.SetRemoved(append(rec.Removed(), p.removed...))
		}
		rec.Version++
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		if p.rearm {
			if err := e.rearmSheet(ctx, tx, sheetID); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSheetSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"columns": p.words(), store.ConvertedColumns: p.readAnew()})})
	})
	if err == nil {
		e.Wake()
	}
	return rec, err
}

// spares refuses a change that a template would not survive, or a rule; or, with
// pausing, pauses such rules.
func (p *plannedColumns) spares(ctx context.Context, tx *store.Store, e *Engine, sheetID string, pausing bool,
	actor string) error {
	scope := rule.SheetScope{Sheet: p.new, Templates: map[string]bool{}}
	tpls, err := tx.Templates(ctx, sheetID)
	if err != nil {
		return err
	}
	cores := make([]*template.Template, len(tpls))
	for i := range tpls {
		scope.Templates[tpls[i].ID] = true
		if cores[i], err = tpls[i].Core(); err != nil {
			return err
		}
		if err := cores[i].Validate(p.new); err != nil {
			return refuse("template %s would not do any more: %s", tpls[i].Name, err)
		}
	}
	rules, err := tx.Rules(ctx, sheetID)
	if err != nil {
		return err
	}
	if pausing {
		return e.pauseBroken(ctx, tx, rules, func(r *rule.Rule) error { return r.Validate(scope) }, actor)
	}
	for i := range rules {
		core, err := rules[i].Core()
		if err != nil {
			return err
		}
		if err := core.Validate(scope); err != nil && rules[i].Broken == "" {
			return &Refusal{Field: "/pausing", Message: fmt.Sprintf("rule %s, %s, would not do any more: %s", rules[i].Letter,
				rules[i].Name, err)}
		}
	}
	return nil
}

func (p *plannedColumns) convertRows(ctx context.Context, tx *store.Store, progress Progress) error {
	total, err := tx.CountAllRows(ctx, p.rec.ID)
	if err != nil {
		return err
	}
	for after, done := int64(0), 0; ; {
		rows, err := tx.LockAllRowsAfter(ctx, p.rec.ID, after, importBatch)
		if err != nil || len(rows) == 0 {
			return err
		}
		var changed []*store.Row
		for i := range rows {
			ok, err := p.convertRow(&rows[i])
			if err != nil {
				return err
			}
			if ok {
				changed = append(changed, &rows[i])
			}
		}
		if err := tx.SaveRows(ctx, changed); err != nil {
			return err
		}
		after = rows[len(rows)-1].ID
		if done += len(rows); progress != nil {
			if err := progress(done, int(total)); err != nil {
				return err
			}
		}
	}
}

// convertRow converts a row as it is and as it last settled: a column's new
// type is no edit.
func (p *plannedColumns) convertRow(r *store.Row) (bool, error) {
	changed := false
	for _, b := range []*[]byte{&r.Cells, &r.Settled} {
		if *b == nil {
			continue
		}
		cells, err := p.old.Decode(*b, nil)
		if err != nil {
			return false, err
		}
		cells, ok := p.convert(cells)
		if ok {
			*b = sheet.Encode(cells)
			changed = true
		}
	}
	if !changed {
		return false, nil
	}
	r.Version++
	cells, err := p.new.Decode(r.Cells, nil)
	if err != nil {
		return false, err
	}
	r.RowKey = rowKey(p.new, &sheet.Row{Cells: cells})
	return true, nil
}

// readAnew lists the columns in which an older text would not mean the same any
// more: their type or the order of their dates has changed, or an option's name.
func (p *plannedColumns) readAnew() (ids []string) {
	for i := range p.new.Columns {
		c := &p.new.Columns[i]
		was, ok := p.old.Column(c.ID)
		if !ok {
			continue
		}
		other := was.Type != c.Type || p.old.Reading(was).DateOrder() != p.new.Reading(c).DateOrder()
		for _, o := range was.Options {
			other = other || !slices.Contains(c.Options, o)
		}
		if other {
			ids = append(ids, c.ID)
		}
	}
	return ids
}

// words says what a change of columns did, for the history.
func (p *plannedColumns) words() (out []string) {
	for i := range p.new.Columns {
		c := &p.new.Columns[i]
		was, ok := p.old.Column(c.ID)
		switch {
		case !ok:
			out = append(out, "added "+c.Name)
			continue
		case was.Name != c.Name:
			out = append(out, fmt.Sprintf("%s is now called %s", was.Name, c.Name))
		}
		if was.Type != c.Type {
			out = append(out, fmt.Sprintf("%s is a %s, not a %s", c.Name, c.Type, was.Type))
		}
		if was.Formula != c.Formula {
			out = append(out, "formula of "+c.Name+": "+c.Formula)
		}
		if was.Group != c.Group {
			out = append(out, groupWords(was, c))
		}
		if was.Locked != c.Locked {
			out = append(out, c.Name+map[bool]string{true: " is locked", false: " is not locked any more"}[c.Locked])
		}
		if !reflect.DeepEqual(was.Options, c.Options) {
			out = append(out, "options of "+c.Name)
		}
	}
	for _, c := range p.removed {
		out = append(out, "took out "+c.Name)
	}
	if len(out) == 0 {
		out = append(out, "how columns are shown")
	}
	return out
}

func groupWords(was, is *sheet.Column) string {
	if is.Group == "" {
		return fmt.Sprintf("%s does not belong to %s any more", is.Name, was.Group)
	}
	return fmt.Sprintf("%s belongs to %s", is.Name, is.Group)
}

// RestoreColumn brings back a column that was taken out, with its cells, as
// the last one.
func (e *Engine) RestoreColumn(ctx context.Context, sheetID, id, actor string) (rec *store.Sheet, err error) {
	if err := e.catchUp(ctx, sheetID, nil); err != nil {
		return nil, err
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if rec, err = tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		if _, err := e.halt(ctx, tx, sheetID, nil); err != nil {
			return err
		}
		s, err := rec.Core()
		if err != nil {
			return err
		}
		var left []sheet.Column
		var back *sheet.Column
		for _, c := range rec.Removed() {
			if c.ID == id {
				s.Columns = append(s.Columns, c)
				back = &s.Columns[len(s.Columns)-1]
			} else {
				left = append(left, c)
			}
		}
		if back == nil {
			return store.ErrNotFound
		}
		back.Name = freeName(s)
		before := s.Columns[:len(s.Columns)-1]
		sheet.IdentifyGroups(s.Columns, before)
		if err := s.Validate(); err != nil {
			return &Refusal{Message: err.Error()}
		}
		rec.SetColumns(s.Columns)
		rec.SetRemoved(left)
		rec.Version++
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		if !sheet.SameGroups(s.Columns, before) {
			if err := e.rearmSheet(ctx, tx, sheetID); err != nil {
				return err
			}
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSheetSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"columns": []string{"restored " + back.Name}})})
	})
	if err == nil {
		e.Wake()
	}
	return rec, err
}

// setKey makes another column the key: every row's key is made anew.
func setKey(ctx context.Context, tx *store.Store, rec *store.Sheet, key string, progress Progress) error {
	s, err := rec.Core()
	if err != nil {
		return err
	}
	if c, ok := s.Column(key); key != "" && (!ok || c.Type == value.Formula) {
		return &Refusal{Field: "/key", Message: "the key is a column of the sheet that is not calculated"}
	}
	rec.KeyColumn, s.Key = key, key
	for after := int64(0); ; {
		rows, err := tx.LockAllRowsAfter(ctx, rec.ID, after, importBatch)
		if err != nil || len(rows) == 0 {
			return err
		}
		changed := make([]*store.Row, len(rows))
		for i := range rows {
			core, err := rows[i].Core(s)
			if err != nil {
				return err
			}
			rows[i].RowKey = rowKey(s, core)
			changed[i] = &rows[i]
		}
		if err := tx.SaveRows(ctx, changed); err != nil {
			return err
		}
		after = rows[len(rows)-1].ID
	}
}
