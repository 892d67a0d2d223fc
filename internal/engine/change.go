package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"nivot/internal/core/delivery"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Author is who changes rows. Columns that are locked are changed by those
// alone who may unlock them.
type Author struct {
	ID      string // of the person; "" for the application itself
	Name    string
	Unlocks bool
	Asks    bool // what the change sets off is held until somebody has reviewed it
}

// System is an author whom no lock stops.
func System(name string) Author { return Author{Name: name, Unlocks: true} }

// asks is how an entry that lets a row settle says that it holds.
func (a Author) asks() int64 {
	if a.Asks {
		return 1
	}
	return 0
}

// OpKind says what one step of a change does.
type OpKind string

// The kinds of steps. Gone and back are of imports and of undoing them.
const (
	OpEdit    OpKind = "edit"
	OpAdd     OpKind = "add"
	OpDelete  OpKind = "delete"
	OpRestore OpKind = "restore"
	OpPut     OpKind = "put" // edit the row with a key, or add one
	opGone    OpKind = "gone"
	opBack    OpKind = "back"
)

// Op is one step of a change of a sheet's rows.
type Op struct {
	Kind  OpKind
	Row   int64      // all but add
	Cells []CellEdit // edit, add, put
	After *int64     // add: the row after which it is to stand; 0 for the beginning, nil for the end
	Key   string     // put; edit and delete where Row is 0: as a person would type it; where the row is new, its cells hold it too
}

// RowConflict is a cell that somebody else has changed meanwhile.
type RowConflict struct {
	Row int64
	Conflict
}

// Changed is what a change came to.
type Changed struct {
	ID         int64 // by which it can be undone; 0 where nothing changed
	Rows       []int64
	Added      []int64 // by the steps that add, in their order; one that brought an old row back names that
	Cells      int     // that changed
	Unreadable int     // of those, that do not fit their column
	Conflicts  []RowConflict
	Met        int64 // by a put: the row that was there
	Passed     int   // steps of an undoing that had nothing to undo any more
}

// MaxOps bounds the steps of one change from outside.
const MaxOps = 20_000

// Change changes rows of a sheet in one transaction, in the order of its
// steps. An edit that meets something else than it expects is left out and
// told as a conflict; the others are done. kind says in the history what it
// was: "paste", "fill" and the like.
func (e *Engine) Change(ctx context.Context, sheetID string, ops []Op, kind string, by Author) (Changed, error) {
	if len(ops) > MaxOps {
		return Changed{}, refuse("a change has at most %d steps; do it in parts", MaxOps)
	}
	return e.change(ctx, sheetID, ops, store.Event{Kind: store.EventChanged, Detail: store.Detail(map[string]any{"kind": kind, "steps": len(ops)})}, by, tell)
}

// meeting is what a change does where it meets something else than it expects.
type meeting uint8

const (
	tell   meeting = iota // leave the step out and tell
	refute                // change nothing and give the conflict as an error
	pass                  // leave the step out and count it: of an undoing
)

// change does the steps of a change. Where it comes to more than one row's
// event, head is written before them.
func (e *Engine) change(ctx context.Context, sheetID string, ops []Op, head store.Event, by Author, m meeting) (Changed, error) {
	return e.changeWith(ctx, sheetID, ops, head, by, m, columnsOf{})
}

// changeWith does the steps of a change that brings columns back first, and
// takes those out at the end that nothing needs any more.
func (e *Engine) changeWith(ctx context.Context, sheetID string, ops []Op, head store.Event, by Author, m meeting, cols columnsOf) (Changed, error) {
	var c *changer
	once, keyed := ctx.Value(onceKey{}).(store.Once)
	err := e.Store.Tx(ctx, func(tx *store.Store) (err error) {
		c = &changer{e: e, tx: tx, by: by, meets: m, rows: map[int64]*changing{}, columns: cols}
		if keyed {
			if outcome, done, err := tx.Begin(ctx, once); err != nil {
				return err
			} else if done {
				return json.Unmarshal([]byte(outcome), &c.out)
			}
		}
		if c.rec, err = tx.LockSheet(ctx, sheetID); err != nil {
			return err
		}
		// One instant for the whole step, taken once nobody else changes the sheet.
		if c.w, err = newWork(ctx, e, tx, e.now(), act{actor: by.Name, cause: delivery.Reviewing}); err != nil {
			return err
		}
		if err := c.reviveColumns(); err != nil {
			return err
		}
		if c.s, err = c.rec.Core(); err != nil {
			return err
		}
		if err := c.load(ctx, ops); err != nil {
			return err
		}
		for i := range ops {
			if err := c.do(ctx, &ops[i]); err != nil {
				return &StepError{i, err}
			}
		}
		if err := c.write(ctx, head); err != nil || !keyed {
			return err
		}
		return tx.SetOutcome(ctx, once, store.Detail(c.out))
	})
	if keyed && store.Away(err) {
		// Whether it was committed is not known: the database is asked again.
		if outcome, done, e := e.Store.CameTo(ctx, once); e == nil && done {
			err = json.Unmarshal([]byte(outcome), &c.out)
		}
	}
	if err != nil {
		return Changed{}, err
	}
	poke(e.wakeAgenda)
	return c.out, nil
}

type onceKey struct{}

// StepError says at which of its steps a change failed, counted from 0.
type StepError struct {
	Step int
	Err  error
}

// Error implements error.
func (e *StepError) Error() string { return e.Err.Error() }

// Unwrap gives what the step failed of.
func (e *StepError) Unwrap() error { return e.Err }

// WithOnce gives a context in which a change of rows is done once for a request
// with an idempotency key: a second time it answers what it came to the first.
func WithOnce(ctx context.Context, o store.Once) context.Context {
	return context.WithValue(ctx, onceKey{}, o)
}

// changer is one change under way.
type changer struct {
	e      *Engine
	tx     *store.Store
	w      *work
	rec    *store.Sheet
	s      *sheet.Sheet
	by     Author
	meets  meeting
	rows   map[int64]*changing
	order  []*changing // as they were first touched
	added  []*addition
	places map[int64][]int64 // for rows to be added, by anchorOf
	moved  bool              // all rows have been given new places
	out    Changed

	columns        columnsOf // to be brought back, and taken out
	revived, taken []string  // those that were
	regrouped      bool      // and what is meant of groups of columns has changed by it
}

// changing is a row that a change touches.
type changing struct {
	row     *store.Row
	core    *sheet.Row
	before  []byte // its cells as they were
	edits   []sheet.Change
	settles bool
	kinds   []string // of the events that it makes besides an edit
	deleted bool     // by this change
}

// addition is a row that a change adds, or brings back by its key.
type addition struct {
	row   *store.Row
	edits []sheet.Change
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

func (c *changer) do(ctx context.Context, op *Op) error {
	switch op.Kind {
	case OpAdd:
		return c.add(ctx, op)
	case OpPut:
		return c.putByKey(ctx, op)
	}
	if op.Row == 0 && op.Key != "" {
		row, err := c.byKey(ctx, op.Key)
		if err != nil {
			return err
		}
		op.Row, c.out.Met = row, row
	}
	r := c.rows[op.Row]
	there := r != nil && r.row.DeletedAt == nil && !r.deleted
	if want := op.Kind != OpRestore; r == nil || there != want {
		if c.meets == pass {
			c.out.Passed++
			return nil
		}
		return store.ErrNotFound
	}
	switch op.Kind {
	case OpEdit:
		return c.edit(r, op)
	case OpDelete:
		c.touch(r)
		r.deleted = true
		r.kinds = append(r.kinds, store.EventRowDeleted)
	case OpRestore:
		c.touch(r)
		c.bring(r)
	case opGone, opBack:
		if r.row.Gone == (op.Kind == opGone) {
			c.out.Passed++
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
		if col, ok := c.s.Column(ed.Column); c.meets == pass && (!ok || col.Type == value.Formula) {
			c.out.Passed++
			continue
		}
		ch, settles, changed, err := c.s.Edit(r.core, ed, c.by.Unlocks)
		var conflict *Conflict
		if errors.As(err, &conflict) {
			switch c.meets {
			case refute:
				return conflict
			case pass:
				c.out.Passed++
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

func (c *changer) count(ch sheet.Change) {
	c.out.Cells++
	if ch.Bad {
		c.out.Unreadable++
	}
}

// add adds a row. A key that a deleted row had makes it the old row again.
func (c *changer) add(ctx context.Context, op *Op) error {
	core := &sheet.Row{}
	var edits []sheet.Change
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
			return c.again(ctx, old.ID, core)
		}
	}
	anchor := anchorOf(op.After)
	place := c.places[anchor][0]
	c.places[anchor] = c.places[anchor][1:]
	c.rec.LastNumber++
	now := c.w.now
	row := &store.Row{SheetID: c.s.ID, Number: c.rec.LastNumber, Place: place, RowKey: key, Cells: sheet.Encode(core.Cells),
		Version: 1, FirstEdit: &now, LastEdit: &now}
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
	c.out.Met = row
	return c.edit(c.rows[row], op)
}

// again makes an added row the old one that had its key.
func (c *changer) again(ctx context.Context, id int64, core *sheet.Row) error {
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
	if err := c.insert(ctx, born, events); err != nil {
		return err
	}
	if err := c.save(ctx); err != nil {
		return err
	}
	for i := range events {
		events[i].At, events[i].ActorID, events[i].Actor, events[i].SheetID, events[i].ChangeID = now, c.by.ID, c.by.Name, c.s.ID, born
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
	detail := func(ch []sheet.Change) string { return store.Detail(map[string]any{"changes": ch}) }
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
		entries = append(entries, c.settleEntry(row))
	}
	for _, a := range c.added {
		c.out.Added = append(c.out.Added, a.row.ID)
	}
	return c.tx.PutEntries(ctx, entries)
}

func (c *changer) settleEntry(row *store.Row) store.Entry {
	return store.Entry{Kind: store.Settle, DueAt: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, c.s.Settle), SheetID: row.SheetID, RowID: row.ID, DoneRows: c.by.asks()}
}

// save writes the rows that were there, and what settling them asks for.
func (c *changer) save(ctx context.Context) error {
	var rows, removed []*store.Row
	var entries []store.Entry
	for _, r := range c.order {
		row := r.row
		c.out.Rows = append(c.out.Rows, row.ID)
		if r.deleted && len(r.edits) == 0 {
			removed = append(removed, row)
			continue
		}
		row.Cells, row.RowKey, row.Version = sheet.Encode(r.core.Cells), rowKey(c.s, r.core), row.Version+1
		if r.settles {
			unsettle(row, r.before, c.w.now)
			entries = append(entries, c.settleEntry(row))
		}
		if r.deleted {
			removed = append(removed, row)
			continue
		}
		rows = append(rows, row)
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

// Undo takes a change back: cells that still hold what it left hold again what
// they held before, rows that it added are deleted, rows that it deleted come
// back. What has been changed since is left, and counted as passed. The
// undoing is a change itself, and undoing that does it again.
func (e *Engine) Undo(ctx context.Context, sheetID string, id int64, by Author) (Changed, error) {
	head, members, err := e.Store.ChangeEvents(ctx, sheetID, id)
	if err != nil {
		return Changed{}, err
	}
	if len(members) == 0 && head.RowID != 0 {
		members = []store.Event{*head}
	}
	ops, err := inverse(members)
	if err != nil {
		return Changed{}, err
	}
	converted, err := e.Store.ConvertedSince(ctx, sheetID, id)
	if err != nil {
		return Changed{}, err
	}
	ops, stale := dropCells(ops, converted)
	born, err := e.Store.RowsBorn(ctx, id, false)
	if err != nil {
		return Changed{}, err
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
		return Changed{}, refuse("this change has nothing that can be undone")
	}
	ops, passed, err := e.spare(ctx, ops, id, by)
	if err != nil {
		return Changed{}, err
	}
	cols, err := columnsAfter(head)
	if err != nil {
		return Changed{}, err
	}
	out, err := e.changeWith(ctx, sheetID, ops, store.Event{Kind: store.EventUndone,
		Detail: store.Detail(map[string]any{"undoes": fmt.Sprint(id), "kind": head.Kind, "steps": len(ops)})}, by, pass, cols)
	out.Passed += passed + stale
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
