package engine

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Conflict says that somebody else changed a cell meanwhile.
type Conflict struct {
	Column string
	Name   string
	Theirs string // what stands there now, as typed
	Yours  string
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("%s has been changed meanwhile: it now holds %q", c.Name, c.Theirs)
}

// CellEdit is one cell as a person typed it. Expected, where given, is what
// they saw there before.
type CellEdit struct {
	Column   string
	Text     string
	Expected *string
}

// change is one cell's change, as the history keeps it.
type change struct {
	Column string `json:"column"`
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// coreSheet finds a sheet and its core form inside a transaction.
func coreSheet(ctx context.Context, tx *store.Store, id string) (*store.Sheet, *sheet.Sheet, error) {
	rec, err := tx.Sheet(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	s, err := rec.Core()
	return rec, s, err
}

// EditRow changes cells of a row. An edit that changes nothing is none. A cell
// that holds something else than was expected makes a Conflict and changes
// nothing.
func (e *Engine) EditRow(ctx context.Context, sheetID string, rowID int64, edits []CellEdit, actor string) (*store.Row, error) {
	var out *store.Row
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		row, err := tx.LockRow(ctx, rowID)
		if err != nil {
			return err
		}
		if row.SheetID != sheetID || row.DeletedAt != nil {
			return store.ErrNotFound
		}
		out = row
		_, s, err := coreSheet(ctx, tx, sheetID)
		if err != nil {
			return err
		}
		cur, err := row.Core(s)
		if err != nil {
			return err
		}
		changes, settles, err := applyEdits(s, cur, edits)
		if err != nil || len(changes) == 0 {
			return err
		}
		before := row.Cells
		row.Cells, row.RowKey, row.Version = sheet.Encode(cur.Cells), rowKey(s, cur), row.Version+1
		if settles {
			e.unsettle(row, before)
			if err := e.putSettle(ctx, tx, s, row); err != nil {
				return err
			}
		}
		if err := tx.SaveRow(ctx, row); err != nil {
			return err
		}
		if err := tx.TouchSheet(ctx, sheetID); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventRowEdited, SheetID: sheetID, RowID: rowID,
			Detail: store.Detail(map[string]any{"changes": changes})})
	})
	if err == nil {
		poke(e.wakeAgenda)
	}
	return out, err
}

// applyEdits puts edits into a row. settles says whether one of them is more
// than a change of case or outer space.
func applyEdits(s *sheet.Sheet, row *sheet.Row, edits []CellEdit) (changes []change, settles bool, err error) {
	for _, ed := range edits {
		c, ok := s.Column(ed.Column)
		if !ok {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: "the column is not there"}
		}
		if c.Type == value.Formula {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: c.Name + " is worked out and cannot be typed into"}
		}
		if len(ed.Text) > maxCell {
			return nil, false, &Refusal{Field: "/cells/" + ed.Column, Message: fmt.Sprintf("a cell holds at most %d bytes", maxCell)}
		}
		was := row.Cell(c)
		now := value.Parse(ed.Text, s.Reading(c))
		if value.Identical(was, now) {
			continue
		}
		if ed.Expected != nil && s.Input(c, was) != *ed.Expected {
			return nil, false, &Conflict{Column: c.ID, Name: c.Name, Theirs: s.Input(c, was), Yours: ed.Text}
		}
		settles = settles || !value.Same(was, now)
		changes = append(changes, change{c.ID, c.Name, s.Input(c, was), s.Input(c, now)})
		row.Set(c, now)
	}
	return changes, settles, nil
}

// maxCell is the most bytes a cell holds.
const maxCell = 32 << 10

// unsettle notes an edit on a row: what it was as it last settled, and when
// the edits began.
func (e *Engine) unsettle(row *store.Row, before []byte) {
	now := e.now()
	if row.FirstEdit == nil {
		row.FirstEdit, row.Settled = &now, before
	}
	row.LastEdit = &now
}

func (e *Engine) putSettle(ctx context.Context, tx *store.Store, s *sheet.Sheet, row *store.Row) error {
	return tx.PutEntries(ctx, []store.Entry{{Kind: store.Settle, DueAt: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, s.Settle),
		SheetID: row.SheetID, RowID: row.ID}})
}

// AddRow adds a row at the end of a sheet. A key that a deleted row had makes
// it the old row again.
func (e *Engine) AddRow(ctx context.Context, sheetID string, edits []CellEdit, actor string) (*store.Row, error) {
	var out *store.Row
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		rec, err := tx.LockSheet(ctx, sheetID)
		if err != nil {
			return err
		}
		s, err := rec.Core()
		if err != nil {
			return err
		}
		core := &sheet.Row{}
		changes, _, err := applyEdits(s, core, edits)
		if err != nil {
			return err
		}
		key := rowKey(s, core)
		if key != nil {
			old, err := tx.RowByKey(ctx, sheetID, string(key))
			if err == nil && old.DeletedAt != nil {
				out, err = e.restore(ctx, tx, s, old.ID, core.Cells, actor)
				return err
			}
			if err != nil && err != store.ErrNotFound {
				return err
			}
		}
		rec.LastNumber++
		rec.Version++
		now := e.now()
		out = &store.Row{SheetID: sheetID, Number: rec.LastNumber, Place: rec.LastNumber, RowKey: key, Cells: sheet.Encode(core.Cells),
			Version: 1, FirstEdit: &now, LastEdit: &now}
		if err := tx.SaveRow(ctx, out); err != nil {
			return err
		}
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		if err := e.putSettle(ctx, tx, s, out); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: now, Actor: actor, Kind: store.EventRowAdded, SheetID: sheetID, RowID: out.ID,
			Detail: store.Detail(map[string]any{"changes": changes})})
	})
	if err == nil {
		poke(e.wakeAgenda)
	}
	return out, err
}

// DeleteRow takes a row out. Nothing more goes out for it: what was due and
// waited is skipped, what is coming is dropped.
func (e *Engine) DeleteRow(ctx context.Context, sheetID string, rowID int64, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		row, err := tx.LockRow(ctx, rowID)
		if err != nil {
			return err
		}
		if row.SheetID != sheetID || row.DeletedAt != nil {
			return store.ErrNotFound
		}
		w := newWork(e, tx, e.now())
		if err := w.removeRow(ctx, row); err != nil {
			return err
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		if row.FirstEdit != nil {
			// What had not settled never was: coming back is compared with what
			// had, or with nothing.
			if row.Settled == nil {
				row.Settled = sheet.Encode(nil)
			}
			row.FirstEdit, row.LastEdit = nil, nil
		}
		row.DeletedAt = &w.now
		if err := tx.SaveRow(ctx, row); err != nil {
			return err
		}
		if err := tx.DropRowEntries(ctx, rowID); err != nil {
			return err
		}
		if err := tx.TouchSheet(ctx, sheetID); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: w.now, Actor: actor, Kind: store.EventRowDeleted, SheetID: sheetID, RowID: rowID})
	})
}

// removeRow judges what fell due before the row's deletion, and skips what
// has been waiting for it to settle, to be mended or approved.
func (w *work) removeRow(ctx context.Context, row *store.Row) error {
	sb, err := w.book.sheet(ctx, row.SheetID)
	if err != nil {
		return err
	}
	settled, err := row.SettledCore(sb.sheet)
	if err != nil {
		return err
	}
	if w.entries, err = w.tx.RowEntries(ctx, row.ID); err != nil {
		return err
	}
	if err := w.loadStandings(ctx, []int64{row.ID}); err != nil {
		return err
	}
	for _, rb := range sb.rules {
		if settled == nil || rb.record.State != rule.On || rb.setting.IsRoundUp() {
			continue
		}
		if err := w.removeFrom(ctx, sb, rb, row, settled); err != nil {
			return err
		}
	}
	for _, st := range []delivery.State{delivery.Incomplete, delivery.Held} {
		waiting, err := w.tx.LockRowDeliveries(ctx, row.ID, st)
		if err != nil {
			return err
		}
		for i := range waiting {
			if err := w.end(&waiting[i], delivery.Skipped, "row deleted"); err != nil {
				return err
			}
		}
	}
	return nil
}

// removeFrom settles one rule's business with a row that is deleted.
func (w *work) removeFrom(ctx context.Context, sb *sheetBook, rb *ruleBook, row *store.Row, settled *sheet.Row) error {
	due, waiting := w.mine(row.ID, rb.record.ID)
	until := w.now.Add(-plan.Tick)
	rested := until
	if row.FirstEdit != nil {
		rested = row.FirstEdit.Add(-plan.Tick)
	}
	since, known := w.since(&rested, rb), w.known(nil, rb)
	if due != nil {
		since, known = w.since(due.Since, rb), w.known(due.Known, rb)
		if rested.After(since) {
			if err := w.advance(ctx, sb, rb, row, settled, known, since, rested); err != nil {
				return err
			}
		}
		since = rested
	}
	if row.FirstEdit == nil {
		return nil
	}
	gone := func(o rule.Occasion) error {
		return w.record(ctx, sb, rb, settled, plan.Considered{Occasion: o, Verdict: plan.Verdict{Outcome: plan.Skip, Reason: "row deleted"}, At: w.now}, true)
	}
	for _, en := range waiting {
		o, err := originOf(en)
		if err != nil {
			return err
		}
		if o.Due.Before(w.now) {
			if err := gone(*o); err != nil {
				return err
			}
		}
	}
	occ := rb.setting.Dates(settled, known, since, until, nil)
	if err := w.ask(ctx, occ); err != nil {
		return err
	}
	for _, o := range occ {
		if w.judged[o.Identity()] || o.Kind == rule.Schedule && !rb.setting.Concerns(settled, w.now, w.memory(ctx, rb, settled)) {
			continue
		}
		if err := gone(o); err != nil {
			return err
		}
	}
	return w.failed
}

// RestoreRow brings a deleted row back, as an edit of the old row.
func (e *Engine) RestoreRow(ctx context.Context, sheetID string, rowID int64, actor string) (out *store.Row, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		_, s, err := coreSheet(ctx, tx, sheetID)
		if err != nil {
			return err
		}
		out, err = e.restore(ctx, tx, s, rowID, nil, actor)
		return err
	})
	if err == nil {
		poke(e.wakeAgenda)
	}
	return out, err
}

// restore brings a deleted row back, with new cells or, for nil, its own.
func (e *Engine) restore(ctx context.Context, tx *store.Store, s *sheet.Sheet, rowID int64, cells []value.Value, actor string) (*store.Row, error) {
	row, err := tx.LockRow(ctx, rowID)
	if err != nil {
		return nil, err
	}
	if row.SheetID != s.ID || row.DeletedAt == nil {
		return nil, store.ErrNotFound
	}
	before := row.Cells
	if row.Settled != nil {
		before = row.Settled
	}
	row.DeletedAt, row.Gone, row.Version = nil, false, row.Version+1
	if cells != nil {
		row.Cells = sheet.Encode(cells)
	}
	row.FirstEdit = nil
	e.unsettle(row, before)
	core, err := row.Core(s)
	if err != nil {
		return nil, err
	}
	row.RowKey = rowKey(s, core)
	if err := e.putSettle(ctx, tx, s, row); err != nil {
		return nil, err
	}
	if err := tx.SaveRow(ctx, row); err != nil {
		return nil, err
	}
	if err := tx.TouchSheet(ctx, s.ID); err != nil {
		return nil, err
	}
	return row, tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventRowRestored, SheetID: s.ID, RowID: rowID})
}

// ImportResult counts what an import did.
type ImportResult struct {
	New, Changed, Unchanged, Gone, Doubled, Keyless int
}

// ImportOptions say how an import is done.
type ImportOptions struct {
	Quiet bool // its rows are settled at once, as those of a sheet that is just being made are
	Dry   bool // only count what it would do
}

// errDry rolls a dry import back.
var errDry = errors.New("nothing is written")

// Import meets the rows of a file with those of a sheet, by key, in one
// transaction: new ones are added, met ones changed, missing ones marked gone.
// rows[i] gives a row's cells by column id.
func (e *Engine) Import(ctx context.Context, sheetID string, rows []map[string]string, o ImportOptions, actor string) (res ImportResult, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		res = ImportResult{}
		rec, err := tx.LockSheet(ctx, sheetID)
		if err != nil {
			return err
		}
		s, err := rec.Core()
		if err != nil {
			return err
		}
		im := &importer{e: e, tx: tx, s: s, rec: rec, now: e.now(), quiet: o.Quiet, res: &res}
		if err := im.run(ctx, rows); err != nil {
			return err
		}
		if o.Dry {
			return errDry
		}
		rec.Version++
		if err := tx.SaveSheet(ctx, rec); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: im.now, Actor: actor, Kind: store.EventImported, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"new": res.New, "changed": res.Changed, "unchanged": res.Unchanged, "gone": res.Gone,
				"doubled": res.Doubled, "keyless": res.Keyless, "rows": im.diff})})
	})
	if errors.Is(err, errDry) {
		return res, nil
	}
	if err == nil {
		poke(e.wakeAgenda)
	}
	return res, err
}

type importer struct {
	e     *Engine
	tx    *store.Store
	s     *sheet.Sheet
	rec   *store.Sheet
	now   time.Time
	quiet bool
	res   *ImportResult
	diff  []rowDiff
	add   []store.Row
	put   []store.Entry
}

// rowDiff is what an import changed in one row, as the history keeps it.
type rowDiff struct {
	Row     string   `json:"row"`
	Changes []change `json:"changes"`
}

func (im *importer) run(ctx context.Context, rows []map[string]string) error {
	known, err := im.tx.KnownRows(ctx, im.s.ID)
	if err != nil {
		return err
	}
	keys := make([]string, len(rows))
	key, hasKey := im.s.Column(im.s.Key)
	for i, r := range rows {
		if hasKey {
			v := value.Parse(r[key.ID], im.s.Reading(key))
			keys[i] = string(foldedKey(im.s.Show(key, v)))
		}
	}
	meetings, missing := sheet.Meet(known, keys)
	for _, m := range meetings {
		switch {
		case m.Doubled:
			im.res.Doubled++
		case keys[m.Incoming] == "":
			im.res.Keyless++
		}
		if m.Row == "" {
			err = im.new(rows[m.Incoming])
		} else {
			err = im.met(ctx, m, rows[m.Incoming])
		}
		if err != nil {
			return err
		}
	}
	for _, id := range missing {
		if err := im.gone(ctx, id); err != nil {
			return err
		}
	}
	if len(im.add) > 0 {
		if err := im.tx.InsertRows(ctx, im.add); err != nil {
			return err
		}
		if !im.quiet {
			at := sheet.SettlesAt(im.now, im.now, im.s.Settle)
			for i := range im.add {
				im.put = append(im.put, store.Entry{Kind: store.Settle, DueAt: at, SheetID: im.s.ID, RowID: im.add[i].ID})
			}
		}
	}
	return im.tx.PutEntries(ctx, im.put)
}

func (im *importer) new(cells map[string]string) error {
	core := &sheet.Row{}
	for i := range im.s.Columns {
		c := &im.s.Columns[i]
		if text := cells[c.ID]; text != "" && c.Type != value.Formula {
			core.Set(c, value.Parse(text, im.s.Reading(c)))
		}
	}
	im.rec.LastNumber++
	im.res.New++
	row := store.Row{SheetID: im.s.ID, Number: im.rec.LastNumber, Place: im.rec.LastNumber, RowKey: rowKey(im.s, core),
		Cells: sheet.Encode(core.Cells), Version: 1}
	if im.quiet {
		row.SettledAt = &im.now
	} else {
		row.FirstEdit, row.LastEdit = &im.now, &im.now
	}
	im.add = append(im.add, row)
	return nil
}

func (im *importer) met(ctx context.Context, m sheet.Meeting, cells map[string]string) error {
	id, err := strconv.ParseInt(m.Row, 10, 64)
	if err != nil {
		return err
	}
	row, err := im.tx.LockRow(ctx, id)
	if err != nil {
		return err
	}
	core, err := row.Core(im.s)
	if err != nil {
		return err
	}
	var edits []CellEdit
	for i := range im.s.Columns {
		c := &im.s.Columns[i]
		if text, ok := cells[c.ID]; ok && c.Type != value.Formula {
			edits = append(edits, CellEdit{Column: c.ID, Text: text})
		}
	}
	before := row.Cells
	changes, settles, err := applyEdits(im.s, core, edits)
	if err != nil {
		return err
	}
	if len(changes) == 0 && !m.Returns {
		im.res.Unchanged++
		return nil
	}
	im.res.Changed++
	im.diff = append(im.diff, rowDiff{m.Row, changes})
	if row.DeletedAt != nil && row.Settled != nil {
		before = row.Settled
	}
	row.Cells, row.RowKey, row.Version = sheet.Encode(core.Cells), rowKey(im.s, core), row.Version+1
	row.Gone, row.DeletedAt = false, nil
	if settles || m.Returns {
		im.e.unsettle(row, before)
		im.put = append(im.put, store.Entry{Kind: store.Settle, DueAt: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit, im.s.Settle), SheetID: im.s.ID, RowID: row.ID})
	}
	return im.tx.SaveRow(ctx, row)
}

func (im *importer) gone(ctx context.Context, rowID string) error {
	id, err := strconv.ParseInt(rowID, 10, 64)
	if err != nil {
		return err
	}
	row, err := im.tx.LockRow(ctx, id)
	if err != nil || row.Gone {
		return err
	}
	im.res.Gone++
	row.Gone, row.Version = true, row.Version+1
	return im.tx.SaveRow(ctx, row)
}
