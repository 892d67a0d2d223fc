package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// changer is one change under way.
type changer struct {
	e      *Engine
	tx     *store.Store
	w      *work
	rec    *store.Sheet
	s      *sheet.Sheet
	by     Author
	meets  conflictPolicy
	rows   map[int64]*changing
	order  []*changing // as they were first touched
	added  []*addition
	places map[int64][]int64 // for rows to be added, by anchorOf
	moved  bool              // all rows have been given new places
	out    ChangeResult

	apart bool         // edits settle later, in a transaction of their own
	ripe  []*store.Row // those that settle with the change

	columns        columnsOf // to be brought back, and taken out
	revived, taken []string  // those that were
	regrouped      bool      // and what is meant of groups of columns has changed by it
}

// changing is a row that a change touches.
type changing struct {
	row     *store.Row
	core    *sheet.Row
	before  []byte // its cells as they were
	edits   []sheet.CellChange
	settles bool
	kinds   []string // of the events that it makes besides an edit
	deleted bool     // by this change
}

// addition is a row that a change adds, or brings back by its key.
type addition struct {
	row   *store.Row
	edits []sheet.CellChange
}

func (c *changer) load(ctx context.Context, ops []Op) error {
	var ids []int64
	for _, op := range ops {
		if op.Row != 0 {
			ids = append(ids, op.Row)
		}
	}
	if err := c.lock(ctx, ids); err != nil {
		return err
	}
	return c.room(ctx, ops)
}

// lock locks rows and reads them. What had rested by now counts first.
func (c *changer) lock(ctx context.Context, ids []int64) error {
	found, err := c.tx.LockRowsIn(ctx, ids)
	if err != nil {
		return err
	}
	var rows []*store.Row
	for _, row := range found {
		if row.SheetID == c.s.ID {
			rows = append(rows, row)
		}
	}
	if err := c.w.settleOverdue(ctx, rows); err != nil {
		return err
	}
	for _, row := range rows {
		core, err := row.Core(c.s)
		if err != nil {
			return err
		}
		c.rows[row.ID] = &changing{row: row, core: core, before: row.Cells}
	}
	return nil
}

// anchorOf tells the places apart at which rows are added: -1 is the end.
func anchorOf(after *int64) int64 {
	if after == nil {
		return -1
	}
	return *after
}

// room finds places for the rows to be added, each run of them in its order.
func (c *changer) room(ctx context.Context, ops []Op) error {
	n, anchors := map[int64]int{}, map[int64]*int64{}
	for _, op := range ops {
		if op.Kind == OpAdd {
			a := anchorOf(op.After)
			n[a]++
			anchors[a] = op.After
		}
	}
	for again := true; again; {
		again = false
		c.places = map[int64][]int64{}
		for a, after := range anchors {
			places, renewed, err := c.tx.PlacesAfter(ctx, c.s.ID, after, n[a])
			if err != nil {
				return err
			}
			if again = again || renewed; renewed {
				c.moved = true
			}
			c.places[a] = places
		}
	}
	if !c.moved {
		return nil
	}
	// The rows that were read know their old places.
	for _, r := range c.rows {
		row, err := c.tx.Row(ctx, r.row.ID)
		if err != nil {
			return err
		}
		r.row.Place = row.Place
	}
	return nil
}

func (c *changer) touch(r *changing) {
	if len(r.edits)+len(r.kinds) == 0 {
		c.order = append(c.order, r)
	}
}

// do does a step. The step stays as it is: its transaction may be made once more.
func (c *changer) do(ctx context.Context, op Op) error {
	switch op.Kind {
	case OpAdd:
		return c.add(ctx, &op)
	case OpPut:
		return c.putByKey(ctx, &op)
	}
	if op.Row == 0 && op.Key != "" {
		row, err := c.byKey(ctx, op.Key)
		if err != nil {
			return err
		}
		op.Row, c.out.Existing = row, row
	}
	r := c.rows[op.Row]
	there := r != nil && r.row.DeletedAt == nil && !r.deleted
	if want := op.Kind != OpRestore; r == nil || there != want {
		if c.meets == skipConflicts {
			c.out.Skipped++
			return nil
		}
		return store.ErrNotFound
	}
	switch op.Kind {
	case OpEdit:
		return c.edit(r, &op)
	case OpDelete:
		c.touch(r)
		r.deleted = true
		r.kinds = append(r.kinds, store.EventRowDeleted)
	case OpRestore:
		c.touch(r)
		c.bring(r)
	case opGone, opBack:
		if r.row.Gone == (op.Kind == opGone) {
			c.out.Skipped++
			return nil
		}
		c.touch(r)
		r.row.Gone = op.Kind == opGone
		r.kinds = append(r.kinds, map[OpKind]string{opGone: store.EventRowGone, opBack: store.EventRowBack}[op.Kind])
		r.settles = r.settles || op.Kind == opBack
	}
	return nil
}

// bring brings a deleted row back, as an edit of the old row.
func (c *changer) bring(r *changing) {
	if r.row.Settled != nil {
		r.before = r.row.Settled
	}
	r.row.DeletedAt, r.row.Gone, r.row.FirstEdit, r.settles = nil, false, nil, true
	r.row.SettledAt = &c.w.now // nothing fell due while it was not there
	r.kinds = append(r.kinds, store.EventRowRestored)
}

func (c *changer) edit(r *changing, op *Op) error {
	for _, ed := range op.Cells {
		if col, ok := c.s.Column(ed.Column); c.meets == skipConflicts && (!ok || col.Type == value.Formula) {
			c.out.Skipped++
			continue
		}
		ch, settles, changed, err := c.s.Edit(r.core, ed, c.by.Unlocks)
		var conflict *Conflict
		if errors.As(err, &conflict) {
			switch c.meets {
			case refuseConflicts:
				return conflict
			case skipConflicts:
				c.out.Skipped++
			default:
				c.out.Conflicts = append(c.out.Conflicts, RowConflict{op.Row, *conflict})
			}
			continue
		}
		if err != nil {
			return asEditRefusal(err)
		}
		if !changed {
			continue
		}
		c.touch(r)
		r.edits = append(r.edits, ch)
		r.settles = r.settles || settles
		c.count(ch)
	}
	return nil
}

func (c *changer) count(ch sheet.CellChange) {
	c.out.Cells++
	if ch.Bad {
		c.out.Unreadable++
	}
}

// add adds a row. A key that a deleted row had makes it the old row again.
func (c *changer) add(ctx context.Context, op *Op) error {
	core := &sheet.Row{}
	var edits []sheet.CellChange
	for _, ed := range op.Cells {
		ch, _, changed, err := c.s.Edit(core, ed, c.by.Unlocks)
		if err != nil {
			return asEditRefusal(err)
		}
		if changed {
			edits = append(edits, ch)
		}
	}
	key := rowKey(c.s, core)
	if key != nil {
		old, err := c.tx.RowByKey(ctx, c.s.ID, string(key))
		if err != nil && err != store.ErrNotFound {
			return err
		}
		if err == nil && old.DeletedAt != nil && (c.rows[old.ID] == nil || c.rows[old.ID].row.DeletedAt != nil) {
			return c.reviveRow(ctx, old.ID, core)
		}
	}
	anchor := anchorOf(op.After)
	place := c.places[anchor][0]
	c.places[anchor] = c.places[anchor][1:]
	c.rec.LastNumber++
	now := c.w.now
	row := &store.Row{SheetID: c.s.ID, Number: c.rec.LastNumber, Place: place, RowKey: key,
		Cells:   sheet.Encode(core.Cells),
		Version: 1, FirstEdit: &now, LastEdit: &now, Changed: c.rec.Version + 1}
	c.added = append(c.added, &addition{row, edits})
	for _, ch := range edits {
		c.count(ch)
	}
	return nil
}

// byKey locks the first row with a key that is there, and gives its id.
func (c *changer) byKey(ctx context.Context, text string) (int64, error) {
	col, ok := c.s.Column(c.s.Key)
	if !ok {
		return 0, refuse("the sheet has no key column, so its rows have no keys")
	}
	key := foldedKey(c.s.Show(col, value.Parse(text, c.s.Reading(col))))
	if key == nil {
		return 0, refuse("a key is not empty")
	}
	row, err := c.tx.RowByKey(ctx, c.s.ID, string(key))
	if err == nil && row.DeletedAt != nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return 0, err
	}
	if c.rows[row.ID] != nil {
		return row.ID, nil
	}
	return row.ID, c.lock(ctx, []int64{row.ID})
}

// putByKey edits the row with a key; where there is none it adds one.
func (c *changer) putByKey(ctx context.Context, op *Op) error {
	row, err := c.byKey(ctx, op.Key)
	if errors.Is(err, store.ErrNotFound) {
		col, _ := c.s.Column(c.s.Key)
		add := Op{Kind: OpAdd, Cells: []CellEdit{{Column: col.ID, Text: op.Key}}}
		for _, ed := range op.Cells {
			if ed.Column == col.ID {
				continue // the address says it
			}
			add.Cells = append(add.Cells, ed)
		}
		if c.places[-1] == nil {
			if err := c.room(ctx, []Op{add}); err != nil {
				return err
			}
		}
		return c.add(ctx, &add)
	}
	if err != nil {
		return err
	}
	c.out.Existing = row
	return c.edit(c.rows[row], op)
}

// reviveRow makes an added row the old one that had its key.
func (c *changer) reviveRow(ctx context.Context, id int64, core *sheet.Row) error {
	r := c.rows[id]
	if r == nil {
		if err := c.lock(ctx, []int64{id}); err != nil {
			return err
		}
		r = c.rows[id]
	}
	c.touch(r)
	c.bring(r)
	for i := range c.s.Columns {
		col := &c.s.Columns[i]
		if col.Type == value.Formula {
			continue
		}
		if ch, _, changed := c.s.Put(r.core, col, core.Cell(col)); changed {
			r.edits = append(r.edits, ch)
		}
	}
	c.added = append(c.added, &addition{row: r.row})
	return nil
}

// write writes what the steps have come to: rows, agenda and events.
func (c *changer) write(ctx context.Context, head store.Event) error {
	events := c.events()
	if len(events) == 0 {
		return nil
	}
	now := c.w.now
	var born *int64
	if len(events) > 1 || !c.columns.none() {
		head.At, head.ActorID, head.Actor, head.SheetID = now, c.by.ID, c.by.Name, c.s.ID
		id, err := c.tx.AddHead(ctx, head)
		if err != nil {
			return err
		}
		c.out.ID, born = id, &id
	}
	c.apart = c.apart || !c.atOnce()
	if err := c.insert(ctx, born, events); err != nil {
		return err
	}
	if err := c.save(ctx); err != nil {
		return err
	}
	for i := range events {
		events[i].At, events[i].ActorID, events[i].Actor, events[i].SheetID, events[i].ChangeID = now, c.by.ID, c.by.Name,
			c.s.ID, born
	}
	if born == nil {
		id, err := c.tx.AddHead(ctx, events[0])
		if err != nil {
			return err
		}
		c.out.ID = id
	} else if err := c.tx.AddEvents(ctx, events...); err != nil {
		return err
	}
	if err := c.settle(ctx); err != nil {
		return err
	}
	if err := c.retireColumns(ctx); err != nil {
		return err
	}
	if len(c.revived)+len(c.taken) > 0 {
		if err := c.tx.SetDetail(ctx, c.out.ID, withColumns(head.Detail, c.revived, c.taken)); err != nil {
			return err
		}
	} else if len(c.added) == 0 {
		order := slices.ContainsFunc(c.order, func(r *changing) bool { return len(r.kinds) > 0 })
		return c.tx.TouchSheet(ctx, c.s.ID, order, c.grown())
	}
	c.rec.LiveRows += int64(c.grown())
	c.rec.Version++
	c.rec.OrderVersion++
	return c.tx.SaveSheet(ctx, c.rec)
}

// grown tells by how many rows the sheet has grown.
func (c *changer) grown() (n int) {
	for _, a := range c.added {
		if a.row.Version == 1 && a.row.DeletedAt == nil && c.rows[a.row.ID] == nil {
			n++
		}
	}
	for _, r := range c.order {
		for _, k := range r.kinds {
			switch k {
			case store.EventRowDeleted:
				n--
			case store.EventRowRestored:
				n++
			}
		}
	}
	return n
}

// events lists what happened, row by row; those of added rows come first, and
// have no id yet.
func (c *changer) events() (out []store.Event) {
	detail := func(ch []sheet.CellChange) string { return store.Detail(map[string]any{"changes": ch}) }
	for _, a := range c.added {
		if a.row.ID == 0 {
			out = append(out, store.Event{Kind: store.EventRowAdded, Detail: detail(a.edits)})
		}
	}
	for _, r := range c.order {
		if r.deleted && len(r.edits) > 0 || len(r.kinds) == 0 {
			out = append(out, store.Event{Kind: store.EventRowEdited, RowID: r.row.ID, Detail: detail(r.edits)})
		}
		for _, k := range r.kinds {
			ev := store.Event{Kind: k, RowID: r.row.ID}
			if k == store.EventRowRestored && len(r.edits) > 0 {
				ev.Detail = detail(r.edits)
			}
			out = append(out, ev)
		}
		if (len(r.kinds) > 0 && !r.deleted && r.kinds[0] != store.EventRowRestored) && len(r.edits) > 0 {
			out = append(out, store.Event{Kind: store.EventRowEdited, RowID: r.row.ID, Detail: detail(r.edits)})
		}
	}
	return out
}

// insert adds the rows that are new, and gives their ids to their events.
func (c *changer) insert(ctx context.Context, born *int64, events []store.Event) error {
	var fresh []*store.Row
	for _, a := range c.added {
		if a.row.ID == 0 {
			a.row.Born = born
			fresh = append(fresh, a.row)
		}
	}
	switch {
	case len(fresh) == 1:
		if err := c.tx.SaveRow(ctx, fresh[0]); err != nil {
			return err
		}
	case len(fresh) > 1:
		if err := c.tx.InsertRows(ctx, fresh); err != nil {
			return err
		}
		ids, err := c.tx.RowsBorn(ctx, *born, true)
		if err != nil {
			return err
		}
		if len(ids) != len(fresh) {
			return fmt.Errorf("of %d added rows %d are there", len(fresh), len(ids))
		}
		for i, id := range ids {
			fresh[i].ID = id
		}
	}
	var entries []store.Entry
	for i, row := range fresh {
		events[i].RowID = row.ID
		if c.apart {
			entries = append(entries, c.settleEntry(row))
		} else {
			c.ripe = append(c.ripe, row)
		}
	}
	for _, a := range c.added {
		c.out.Added = append(c.out.Added, a.row.ID)
	}
	return c.tx.PutEntries(ctx, entries)
}

func (c *changer) settleEntry(row *store.Row) store.Entry {
	return store.Entry{Kind: store.Settle, DueAt: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, c.s.Settle),
		SheetID: row.SheetID, RowID: row.ID, DoneRows: c.by.asks()}
}

// save writes the rows that were there, and what settling them asks for.
func (c *changer) save(ctx context.Context) error {
	var rows, removed []*store.Row
	var entries []store.Entry
	for _, r := range c.order {
		row := r.row
		row.Changed = c.rec.Version + 1
		c.out.Rows = append(c.out.Rows, row.ID)
		if r.deleted && len(r.edits) == 0 {
			removed = append(removed, row)
			continue
		}
		row.Cells, row.RowKey, row.Version = sheet.Encode(r.core.Cells), rowKey(c.s, r.core), row.Version+1
		if r.settles {
			unsettle(row, r.before, c.w.now)
			if c.apart || r.deleted {
				entries = append(entries, c.settleEntry(row))
			}
		}
		switch {
		case r.deleted:
			removed = append(removed, row)
		case r.settles && !c.apart:
			c.ripe = append(c.ripe, row) // which writes it
		default:
			rows = append(rows, row)
		}
	}
	if err := c.tx.PutEntries(ctx, entries); err != nil {
		return err
	}
	if len(removed) > 0 {
		if err := c.w.remove(ctx, removed); err != nil {
			return err
		}
		rows = append(rows, removed...)
	}
	if len(rows) == 1 {
		return c.tx.SaveRow(ctx, rows[0])
	}
	return c.tx.SaveRows(ctx, rows)
}
