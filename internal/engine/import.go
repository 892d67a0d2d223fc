package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Incoming is the rows of a file. Columns says for each of its columns which
// of the sheet's it is: an id, "" for one that is left out, or "+n" for the
// n-th of the columns that the import adds. Every row is as long as Columns.
// Orders says in which order the file writes its dates, where that is not the
// order of the column that they go into.
type Incoming struct {
	Columns []string
	Orders  map[int]value.Order // by the file's columns
	Rows    [][]string
	Blank   int      // lines of the file that held nothing
	Skipped []string // headings of the file's columns that are not imported
}

// ImportOptions say how an import is done.
type ImportOptions struct {
	Quiet    bool                        // its rows are settled at once, as those of a sheet that is just being made are
	Dry      bool                        // only work out what it would do
	Keep     bool                        // rows that the file does not have are kept as they are, not marked gone
	Add      []sheet.Column              // columns that the sheet is to have besides
	Remember map[string]string           // headings of the file, and the columns they are: for the next time
	Kind     string                      // of the event; default EventImported
	About    map[string]any              // what else the event is to say: the file's name
	Progress func(done, total int) error // told now and then; an error gives the import up
	Asks     bool                        // what it sets off is to be held; for who asks for it
	Foretell bool                        // of a dry one: work out what it would set off
	samples  int
}

// ImportResult is what an import did or would do.
type ImportResult struct {
	Change                                          int64 // by which it can be undone; 0 where it did nothing
	New, Changed, Unchanged, Gone, Doubled, Keyless int
	Cells                                           int       // that changed, in rows that were there
	Unreadable                                      int       // cells of new and changed ones that do not fit
	Absent                                          int       // rows that the file does not have, gone or kept
	Rows                                            int       // of the sheet before, without the deleted ones
	Samples                                         []RowDiff // of what it changes, the first ones
	Blank                                           int       // lines of the file that held nothing
	Skipped                                         []string  // headings that were not imported
	// keys of rows that are no longer in the file, the first ones
	GoneNames []string
	Sets      *Consequences
}

// RowDiff is what an import changes in one row.
type RowDiff struct {
	Row, Name string
	Returns   bool // it was deleted or gone, and is back
	Changes   []sheet.CellChange
}

// Samples is how many changed rows an import shows.
const Samples = 200

// errDry rolls a dry import back.
var errDry = errors.New("nothing is written")

// importBatch is how many rows are compared and written at a time, freshBatch
// how many new ones are.
const (
	importBatch = 1000
	freshBatch  = 4000
)

// Import meets the rows of a file with those of a sheet, by key, in one
// transaction: new ones are added, met ones changed, missing ones marked gone. As a job it is done once.
func (e *Engine) Import(ctx context.Context, sheetID string, in Incoming, o ImportOptions,
	by Author) (res ImportResult, err error) {
	once, keyed := ctx.Value(jobKey{}).(store.Once)
	err = e.Store.LongTx(ctx, func(tx *store.Store) error {
		if keyed {
			if outcome, done, err := tx.Begin(ctx, once); err != nil {
				return err
			} else if done {
				return json.Unmarshal([]byte(outcome), &res)
			}
		}
		res, err = e.importTx(ctx, tx, sheetID, in, o, by)
		if err == nil && o.Dry {
			return errDry
		}
		if err != nil || !keyed {
			return err
		}
		return tx.SetOutcome(ctx, once, store.Detail(res))
	})
	if errors.Is(err, errDry) {
		return res, nil
	}
	if err == nil {
		wake(e.wakeAgenda)
	}
	return res, err
}

func (e *Engine) importTx(ctx context.Context, tx *store.Store, sheetID string, in Incoming, o ImportOptions,
	by Author) (ImportResult, error) {
	im := &importer{e: e, tx: tx, in: in, o: o, by: by, now: e.now()}
	im.res.Blank, im.res.Skipped = in.Blank, in.Skipped
	err := e.mayJudge(ctx, tx, im.now, false)
	if err != nil {
		return im.res, err
	}
	if im.rec, err = tx.LockSheet(ctx, sheetID); err != nil {
		return im.res, err
	}
	if err := im.columns(ctx); err != nil {
		return im.res, err
	}
	if err := im.begin(ctx); err != nil {
		return im.res, err
	}
	if o.Dry && o.Foretell {
		im.foreteller = newForeteller(e, tx, im.now, im.rec)
	}
	err = im.run(ctx)
	// The transaction must not end while rows are on their way.
	if err = errors.Join(err, im.wait()); err != nil {
		return im.res, err
	}
	if im.foreteller != nil {
		if im.res.Sets, err = im.foreteller.done(ctx, im.rec.ID); err != nil {
			return im.res, err
		}
	}
	return im.res, im.end(ctx)
}

type importer struct {
	e    *Engine
	tx   *store.Store
	rec  *store.Sheet
	s    *sheet.Sheet
	in   Incoming
	o    ImportOptions
	by   Author
	now  time.Time
	cols []*sheet.Column // of the file's columns; nil for one that is left out
	read []value.Reading // how the cells of each of these are read
	res  ImportResult

	total, done int
	place       int64
	foreteller  *foreteller // of a dry import
	changed     []*store.Row
	events      []store.Event
	fresh       []*store.Row
	loading     chan error // of new rows that are on their way
	entries     []store.Entry
}

// columns finds the file's columns among the sheet's, and adds the new ones.
func (im *importer) columns(ctx context.Context) error {
	var err error
	if im.s, err = im.rec.Core(); err != nil {
		return err
	}
	at := make([]string, len(im.o.Add))
	for i, c := range im.o.Add {
		c.ID, c.Pos, c.Name = columnID(im.rec.NextColumn()), im.rec.NextColumn(), value.Trim(c.Name)
		for k := range c.Options {
			c.Options[k].ID = optionID(k)
		}
		im.s.Columns = append(im.s.Columns, c)
		im.rec.SetColumns(im.s.Columns) // counts it
		at[i] = c.ID
	}
	if len(im.o.Add) > 0 {
		before := im.s.Columns[:len(im.s.Columns)-len(im.o.Add)]
		sheet.IdentifyGroups(im.s.Columns, before)
		if err := im.s.Validate(); err != nil {
			return &Refusal{Field: "/columns", Message: err.Error()}
		}
		im.rec.SetColumns(im.s.Columns)
		if !sheet.SameGroups(im.s.Columns, before) {
			if im.now, err = im.e.halt(ctx, im.tx, im.rec.ID, nil); err != nil {
				return err
			}
			if err := im.e.rearmSheet(ctx, im.tx, im.rec.ID); err != nil {
				return err
			}
		}
	}
	seen := map[string]bool{}
	im.cols, im.read = make([]*sheet.Column, len(im.in.Columns)), make([]value.Reading, len(im.in.Columns))
	for i, id := range im.in.Columns {
		if n, ok := strings.CutPrefix(id, "+"); ok {
			k, err := strconv.Atoi(n)
			if err != nil || k < 0 || k >= len(at) {
				return &Refusal{Field: "/columns",
					Message: fmt.Sprintf("column %d of the file names a new column that is not given", i+1)}
			}
			id = at[k]
		}
		if id == "" {
			continue
		}
		c, ok := im.s.Column(id)
		switch {
		case !ok:
			return &Refusal{Field: "/columns",
				Message: fmt.Sprintf("column %d of the file is to go into a column that the sheet does not have", i+1)}
		case c.Type == value.Formula:
			return &Refusal{Field: "/columns", Message: c.Name + " is calculated; leave it out of the file"}
		case seen[id]:
			return &Refusal{Field: "/columns", Message: "two columns of the file are to go into " + c.Name}
		case c.Locked && !im.by.Unlocks:
			return &Refusal{Field: "/columns", Message: c.Name + " is locked; a coordinator changes it"}
		}
		seen[id] = true
		im.cols[i], im.read[i] = c, im.s.Reading(c)
		if o := im.in.Orders[i]; o != "" {
			im.read[i].Order = o
		}
	}
	if im.s.Key != "" && !seen[im.s.Key] {
		key, _ := im.s.Column(im.s.Key)
		return &Refusal{Field: "/file",
			Message: fmt.Sprintf("the file has no column for %s, the key of this sheet, so its rows cannot be matched",
				key.Name)}
	}
	return nil
}

func (im *importer) begin(ctx context.Context) error {
	if im.o.Dry {
		im.o.samples = Samples
		return nil
	}
	kind := im.o.Kind
	if kind == "" {
		kind = store.EventImported
	}
	id, err := im.tx.AddHead(ctx, store.Event{At: im.now, ActorID: im.by.ID, Actor: im.by.Name, Kind: kind,
		SheetID: im.s.ID})
	if err != nil {
		return err
	}
	im.res.Change = id
	places, _, err := im.tx.PlacesAfter(ctx, im.s.ID, nil, 1)
	if err != nil {
		return err
	}
	im.place = places[0]
	return nil
}

func (im *importer) run(ctx context.Context) error {
	known, err := im.tx.KnownRows(ctx, im.s.ID)
	if err != nil {
		return err
	}
	for i := range known {
		if !known[i].Deleted {
			im.res.Rows++
		}
	}
	meetings, missing := sheet.Meet(known, im.keys())
	if im.s.Key == "" {
		missing = nil
	}
	im.res.Absent = len(missing)
	if im.o.Keep {
		missing = nil
	}
	im.total = len(meetings) + len(missing)
	var met []sheet.Meeting
	for i, m := range meetings {
		im.counts(m)
		if m.Row == "" {
			if err := im.new(ctx, im.in.Rows[m.Incoming]); err != nil {
				return err
			}
		} else {
			met = append(met, m)
		}
		if len(met) == importBatch || i == len(meetings)-1 {
			if err := im.meet(ctx, met); err != nil {
				return err
			}
			met = met[:0]
		}
		if err := im.step(1); err != nil {
			return err
		}
	}
	for len(missing) > 0 {
		n := min(importBatch, len(missing))
		if err := im.gone(ctx, missing[:n]); err != nil {
			return err
		}
		missing = missing[n:]
		if err := im.step(n); err != nil {
			return err
		}
	}
	return im.flush(ctx)
}

func (im *importer) step(n int) error {
	before := im.done / importBatch
	im.done += n
	if im.o.Progress == nil || im.done/importBatch == before && im.done < im.total {
		return nil
	}
	return im.o.Progress(im.done, im.total)
}

// keys gives the key of every row of the file as the index has it.
func (im *importer) keys() []string {
	out := make([]string, len(im.in.Rows))
	for i, c := range im.cols {
		if c == nil || c.ID != im.s.Key {
			continue
		}
		for k, r := range im.in.Rows {
			out[k] = string(foldedKey(im.s.Show(c, value.Parse(r[i], im.read[i]))))
		}
	}
	return out
}

func (im *importer) counts(m sheet.Meeting) {
	switch {
	case m.Doubled:
		im.res.Doubled++
	case m.Key == "":
		im.res.Keyless++
	}
}

func (im *importer) new(ctx context.Context, cells []string) error {
	core := &sheet.Row{Cells: make([]value.Value, 0, im.rec.LastColumn)}
	for i, c := range im.cols {
		if c == nil || cells[i] == "" {
			continue
		}
		v := value.Parse(cells[i], im.read[i])
		if v.IsUnreadable() {
			im.res.Unreadable++
		}
		core.Set(c, v)
	}
	im.res.New++
	if im.foreteller != nil {
		return im.foreteller.take(ctx, im.rec.ID, store.Row{}, sheet.Encode(core.Cells), false, false)
	}
	if im.o.Dry {
		return nil
	}
	im.rec.LastNumber++
	im.rec.LiveRows++
	im.place += store.PlaceStep
	row := &store.Row{SheetID: im.s.ID, Number: im.rec.LastNumber, Place: im.place, RowKey: rowKey(im.s, core),
		Cells: sheet.Encode(core.Cells), Version: 1, Born: &im.res.Change}
	if im.o.Quiet {
		row.SettledAt = &im.now
	} else {
		row.FirstEdit, row.LastEdit = &im.now, &im.now
	}
	if im.fresh = append(im.fresh, row); len(im.fresh) >= freshBatch {
		return im.load(ctx)
	}
	return nil
}

// load writes the new rows while the next ones are read: the database works
// meanwhile. Nothing else may be asked of it until wait.
func (im *importer) load(ctx context.Context) error {
	if err := im.wait(); err != nil {
		return err
	}
	rows := im.fresh
	im.changes(rows)
	im.fresh, im.loading = nil, make(chan error, 1)
	done := im.loading
	go func() { done <- im.tx.InsertRows(ctx, rows) }()
	return nil
}

// changes notes with which version of the sheet rows are shown.
func (im *importer) changes(rows []*store.Row) {
	for _, r := range rows {
		r.Changed = im.rec.Version + 1
	}
}

// wait waits until what is being loaded has been.
func (im *importer) wait() error {
	if im.loading == nil {
		return nil
	}
	err := <-im.loading
	im.loading = nil
	return err
}

// lock gives rows by id, locked unless the import is dry.
func (im *importer) lock(ctx context.Context, ids []int64) (map[int64]*store.Row, error) {
	if !im.o.Dry {
		return im.tx.LockRowsIn(ctx, ids)
	}
	rows, err := im.tx.RowsByID(ctx, im.s.ID, ids)
	out := make(map[int64]*store.Row, len(rows))
	for i := range rows {
		out[rows[i].ID] = &rows[i]
	}
	return out, err
}

func (im *importer) meet(ctx context.Context, met []sheet.Meeting) error {
	if len(met) == 0 {
		return nil
	}
	if err := im.wait(); err != nil {
		return err
	}
	names := make([]string, len(met))
	for i, m := range met {
		names[i] = m.Row
	}
	ids, err := rowIDs(names)
	if err != nil {
		return err
	}
	rows, err := im.lock(ctx, ids)
	if err != nil {
		return err
	}
	if err := im.settleOverdue(ctx, rows); err != nil {
		return err
	}
	for i, m := range met {
		if err := im.met(ctx, m, rows[ids[i]]); err != nil {
			return err
		}
	}
	return im.flush(ctx)
}

func (im *importer) met(ctx context.Context, m sheet.Meeting, row *store.Row) error {
	core, err := row.Core(im.s)
	if err != nil {
		return err
	}
	changes, settles, unreadable := im.compare(core, im.in.Rows[m.Incoming])
	if len(changes) == 0 && !m.Returns {
		im.res.Unchanged++
		return nil
	}
	im.res.Changed++
	im.res.Cells += len(changes)
	im.res.Unreadable += unreadable
	if len(im.res.Samples) < im.o.samples {
		im.res.Samples = append(im.res.Samples, RowDiff{m.Row, im.s.RowName(core), m.Returns, changes})
	}
	if im.foreteller != nil && (settles || m.Returns) {
		return im.foreteller.take(ctx, im.rec.ID, *row, sheet.Encode(core.Cells), false, false)
	}
	if im.o.Dry {
		return nil
	}
	before := row.Cells
	if row.DeletedAt != nil && row.Settled != nil {
		before = row.Settled
	}
	id := &im.res.Change
	switch {
	case row.DeletedAt != nil:
		im.rec.LiveRows++
		im.events = append(im.events, im.event(store.EventRowRestored, row.ID, id, changes))
	case row.Gone:
		im.events = append(im.events, im.event(store.EventRowBack, row.ID, id, nil))
		fallthrough
	default:
		if len(changes) > 0 {
			im.events = append(im.events, im.event(store.EventRowEdited, row.ID, id, changes))
		}
	}
	row.Cells, row.RowKey, row.Version = sheet.Encode(core.Cells), rowKey(im.s, core), row.Version+1
	if row.DeletedAt != nil {
		row.SettledAt = &im.now // nothing fell due while it was not there
	}
	row.Gone, row.DeletedAt = false, nil
	if settles || m.Returns {
		unsettle(row, before, im.now)
		im.entries = append(im.entries, store.Entry{Kind: store.Settle, DueAt: sheet.SettlesAt(*row.FirstEdit, *row.LastEdit,
			im.s.Settle), SheetID: im.s.ID, RowID: row.ID, DoneRows: im.by.asks()})
	}
	im.changed = append(im.changed, row)
	return nil
}

// settleOverdue lets those rows that had rested by now count before they are
// changed anew.
func (im *importer) settleOverdue(ctx context.Context, rows map[int64]*store.Row) error {
	if im.o.Dry {
		return nil
	}
	var over []*store.Row
	for _, row := range rows {
		if row.FirstEdit != nil {
			over = append(over, row)
		}
	}
	if len(over) == 0 {
		return nil
	}
	w, err := newWork(ctx, im.e, im.tx, im.now, act{actor: im.by.Name, cause: delivery.Reviewing})
	if err != nil {
		return err
	}
	return w.settleOverdue(ctx, over)
}

// compare puts the file's cells into a row and tells what changed.
func (im *importer) compare(core *sheet.Row,
	cells []string) (changes []sheet.CellChange, settles bool, unreadable int) {
	for i, c := range im.cols {
		if c == nil {
			continue
		}
		ch, settled, changed := im.s.Put(core, c, value.Parse(cells[i], im.read[i]))
		if !changed {
			continue
		}
		if ch.Bad {
			unreadable++
		}
		settles = settles || settled
		changes = append(changes, ch)
	}
	return changes, settles, unreadable
}

func (im *importer) event(kind string, row int64, change *int64, changes []sheet.CellChange) store.Event {
	ev := store.Event{At: im.now, ActorID: im.by.ID, Actor: im.by.Name, Kind: kind, SheetID: im.s.ID, RowID: row,
		ChangeID: change}
	if len(changes) > 0 {
		ev.Detail = store.Detail(map[string]any{"changes": changes})
	}
	return ev
}

func (im *importer) gone(ctx context.Context, names []string) error {
	ids, err := rowIDs(names)
	if err != nil {
		return err
	}
	rows, err := im.lock(ctx, ids)
	if err != nil {
		return err
	}
	for _, id := range ids {
		row := rows[id]
		if row == nil || row.Gone {
			continue
		}
		im.res.Gone++
		if len(im.res.GoneNames) < im.o.samples {
			core, err := row.Core(im.s)
			if err != nil {
				return err
			}
			im.res.GoneNames = append(im.res.GoneNames, im.s.RowName(core))
		}
		if im.foreteller != nil {
			if err := im.foreteller.take(ctx, im.rec.ID, *row, row.Cells, false, true); err != nil {
				return err
			}
		}
		if im.o.Dry {
			continue
		}
		row.Gone, row.Version = true, row.Version+1
		im.changed = append(im.changed, row)
		im.events = append(im.events, im.event(store.EventRowGone, row.ID, &im.res.Change, nil))
	}
	return im.flush(ctx)
}

// rowIDs turns the ids of rows as the core has them into those of the database.
func rowIDs(names []string) ([]int64, error) {
	ids := make([]int64, len(names))
	for i, n := range names {
		id, err := strconv.ParseInt(n, 10, 64)
		if err != nil {
			return nil, err
		}
		ids[i] = id
	}
	return ids, nil
}

// flush writes what has been gathered.
func (im *importer) flush(ctx context.Context) error {
	if err := im.wait(); err != nil {
		return err
	}
	im.changes(im.changed)
	im.changes(im.fresh)
	if err := im.tx.SaveRows(ctx, im.changed); err != nil {
		return err
	}
	if err := im.tx.InsertRows(ctx, im.fresh); err != nil {
		return err
	}
	if err := im.tx.AddEvents(ctx, im.events...); err != nil {
		return err
	}
	if err := im.tx.PutEntries(ctx, im.entries); err != nil {
		return err
	}
	im.changed, im.fresh, im.events, im.entries = im.changed[:0], im.fresh[:0], im.events[:0], im.entries[:0]
	return nil
}

func (im *importer) end(ctx context.Context) error {
	if im.o.Dry {
		return nil
	}
	if im.res.New > 0 && !im.o.Quiet {
		if err := im.tx.SettleBorn(ctx, im.res.Change, sheet.SettlesAt(im.now, im.now, im.s.Settle),
			im.by.asks()); err != nil {
			return err
		}
	}
	for h, id := range im.o.Remember {
		m := im.rec.Matches()
		if n, ok := strings.CutPrefix(id, "+"); ok {
			k, _ := strconv.Atoi(n)
			id = im.s.Columns[len(im.s.Columns)-len(im.o.Add)+min(k, len(im.o.Add)-1)].ID
		}
		m[value.Fold(h)] = id
		im.rec.SetMatches(m)
	}
	im.rec.Version++
	im.rec.OrderVersion++
	if err := im.tx.SaveSheet(ctx, im.rec); err != nil {
		return err
	}
	detail := map[string]any{"new": im.res.New, "changed": im.res.Changed, "unchanged": im.res.Unchanged,
		"gone":    im.res.Gone,
		"doubled": im.res.Doubled, "keyless": im.res.Keyless}
	for k, v := range im.o.About {
		detail[k] = v
	}
	var added []string
	for i := range im.o.Add {
		added = append(added, im.s.Columns[len(im.s.Columns)-len(im.o.Add)+i].ID)
	}
	detail["addedColumns"] = added
	return im.tx.SetDetail(ctx, im.res.Change, store.Detail(detail))
}

// changesOf reads what an event says of cells.
func changesOf(ev *store.Event) ([]sheet.CellChange, error) {
	var d struct {
		Changes []sheet.CellChange `json:"changes"`
	}
	if err := json.Unmarshal([]byte(ev.Detail), &d); err != nil {
		return nil, fmt.Errorf("event %d: %w", ev.ID, err)
	}
	return d.Changes, nil
}
