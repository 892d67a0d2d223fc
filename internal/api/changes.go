package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// changedRows is how many rows an answer to a change carries.
const changedRows = 400

// ChangeRows implements StrictServerInterface.
func (s *Server) ChangeRows(ctx context.Context, r ChangeRowsRequestObject) (ChangeRowsResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	ops, err := toOps(core, r.Body.Steps)
	if err != nil {
		return nil, err
	}
	by := author(ctx)
	by.Asks = is(r.Body.Ask)
	c, err := s.e.Change(ctx, r.Sheet, ops, string(r.Body.Kind), by)
	if err != nil {
		return nil, inStep(err)
	}
	out, err := s.toChange(ctx, r.Sheet, &c)
	return ChangeRows200JSONResponse(out), err
}

// ForetellChange implements StrictServerInterface.
func (s *Server) ForetellChange(ctx context.Context, r ForetellChangeRequestObject) (ForetellChangeResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	ops, err := toOps(core, r.Body.Steps)
	if err != nil {
		return nil, err
	}
	c, err := s.e.ForetellChange(ctx, r.Sheet, ops, author(ctx))
	if err != nil {
		return nil, inStep(err)
	}
	return ForetellChange200JSONResponse(toConsequences(c)), nil
}

func toConsequences(c *engine.Consequences) Consequences {
	out := Consequences{Rows: c.Rows, Looked: c.Looked, Rules: []RuleConsequence{}, Now: effectLines(c.Now), Coming: effectLines(c.Coming)}
	for _, r := range c.Rules {
		out.Rules = append(out.Rules, RuleConsequence{Rule: r.ID, Letter: r.Letter, Name: r.Name, Now: r.Now, Held: r.Held, Incomplete: r.Incomplete, Brake: r.Brake, New: r.New, Gone: r.Gone})
	}
	return out
}

func toOps(core *sheet.Sheet, steps []Step) ([]engine.Op, error) {
	ops := make([]engine.Op, len(steps))
	for i := range steps {
		var err error
		if ops[i], err = toOp(core, &steps[i]); err != nil {
			return nil, inStep(&engine.StepError{Step: i, Err: err})
		}
	}
	return ops, nil
}

// inStep says of a fault in a change which of its steps it is in, counted from 0 as the body's
// list is.
func inStep(err error) error {
	var step *engine.StepError
	if !errors.As(err, &step) {
		return err
	}
	at := fmt.Sprintf("/steps/%d", step.Step)
	status, p := toProblem(step.Err)
	if status >= http.StatusInternalServerError {
		return err
	}
	if p.Field != nil {
		at += *p.Field
	}
	p.Field = &at
	return &problemError{status, p}
}

func toOp(core *sheet.Sheet, st *Step) (op engine.Op, err error) {
	op.Kind = engine.OpKind(st.Op)
	if op.Kind != engine.OpAdd {
		if st.Row == nil {
			return op, &engine.Refusal{Field: "/row", Message: "a step names its row"}
		}
		if op.Row, err = parseID(*st.Row); err != nil {
			return op, err
		}
	}
	if st.After != nil {
		after := int64(0)
		if *st.After != "" {
			if after, err = parseID(*st.After); err != nil {
				return op, err
			}
		}
		op.After = &after
	}
	if st.Cells != nil {
		op.Cells, err = toEdits(core, *st.Cells, st.Expected)
	}
	return op, err
}

func (s *Server) toChange(ctx context.Context, sheetID string, c *engine.Changed) (ChangeResult, error) {
	out := ChangeResult{Rows: []Row{}, Added: []string{}, Conflicts: []CellConflict{}, Cells: c.Cells, Unreadable: c.Unreadable, Passed: c.Passed}
	if c.ID != 0 {
		out.Id = fmt.Sprint(c.ID)
	}
	for _, id := range c.Added {
		out.Added = append(out.Added, store.RowID(id))
	}
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return out, err
	}
	ids := append(append([]int64(nil), c.Added...), c.Rows...)
	for _, x := range c.Conflicts {
		ids = append(ids, x.Row)
	}
	recs, err := s.st.RowsByID(ctx, sheetID, ids[:min(len(ids), changedRows)])
	if err != nil {
		return out, err
	}
	live := recs[:0]
	for _, r := range recs {
		if r.DeletedAt == nil {
			live = append(live, r)
		}
	}
	if out.Rows, err = s.toRows(ctx, sheetID, core, live, true); err != nil {
		return out, err
	}
	names := map[string]string{}
	for _, r := range out.Rows {
		names[r.Id] = r.Name
	}
	for _, x := range c.Conflicts {
		id := store.RowID(x.Row)
		out.Conflicts = append(out.Conflicts, CellConflict{Row: id, RowName: names[id], Column: x.Column, Name: x.Name, Theirs: x.Theirs, Yours: x.Yours})
	}
	return out, nil
}

// UndoChange implements StrictServerInterface.
func (s *Server) UndoChange(ctx context.Context, r UndoChangeRequestObject) (UndoChangeResponseObject, error) {
	id, err := parseID(r.Change)
	if err != nil {
		return nil, err
	}
	head, err := s.st.Event(ctx, id)
	if err != nil {
		return nil, err
	}
	if head.SheetID != r.Sheet || head.ChangeID != nil {
		return nil, store.ErrNotFound
	}
	who := author(ctx)
	if head.ActorID != who.ID && !who.Unlocks {
		return nil, problem(403, "An editor undoes what they did themselves; a coordinator may undo all.")
	}
	c, err := s.e.Undo(ctx, r.Sheet, id, who)
	if err != nil {
		return nil, err
	}
	out, err := s.toChange(ctx, r.Sheet, &c)
	return UndoChange200JSONResponse(out), err
}

// historyPage is how many changes of a sheet one page shows.
const historyPage = 60

// SheetHistory implements StrictServerInterface.
func (s *Server) SheetHistory(ctx context.Context, r SheetHistoryRequestObject) (SheetHistoryResponseObject, error) {
	var before int64
	if r.Params.Before != nil {
		var err error
		if before, err = parseID(*r.Params.Before); err != nil {
			return nil, err
		}
	}
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	events, err := s.st.SheetHistory(ctx, r.Sheet, before, historyPage)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for _, ev := range events {
		if ev.RowID != 0 {
			ids = append(ids, ev.RowID)
		}
	}
	names, err := s.namesOf(ctx, core, ids)
	if err != nil {
		return nil, err
	}
	who := author(ctx)
	may := person(ctx).Role.May(store.Editor)
	out := SheetHistory200JSONResponse{}
	for i := range events {
		out = append(out, toSheetEvent(&events[i], names, may && (who.Unlocks || events[i].ActorID == who.ID)))
	}
	return out, nil
}

// namesOf gives what rows are called, the deleted ones too.
func (s *Server) namesOf(ctx context.Context, core *sheet.Sheet, ids []int64) (map[int64]string, error) {
	recs, err := s.st.RowsByID(ctx, core.ID, ids)
	if err != nil {
		return nil, err
	}
	out := map[int64]string{}
	for i := range recs {
		row, err := recs[i].Core(core)
		if err != nil {
			return nil, err
		}
		out[recs[i].ID] = core.RowName(row)
	}
	return out, nil
}

// eventDetail is what the events of a sheet's changes say of themselves.
type eventDetail struct {
	Kind    string       `json:"kind"`
	Steps   int          `json:"steps"`
	File    string       `json:"file"`
	New     int          `json:"new"`
	Changed int          `json:"changed"`
	Gone    int          `json:"gone"`
	Problem string       `json:"problem"`
	Name    string       `json:"name"`
	Place   string       `json:"place"`
	Dropped bool         `json:"dropped"`
	Open    *bool        `json:"open"`
	Columns any          `json:"columns"`
	Changes []CellChange `json:"changes"`
}

// kindWords says what was done to many rows at once.
var kindWords = map[string]string{"edit": "changed", "paste": "pasted", "fill": "filled in", "clear": "emptied", "add": "added", "delete": "deleted",
	"cut": "cut", "put-back": "restored", "replace": "replaced", "merge": "made one of"}

func toSheetEvent(ev *store.Event, names map[int64]string, may bool) SheetEvent {
	var d eventDetail
	_ = json.Unmarshal([]byte(ev.Detail), &d)
	out := SheetEvent{Id: fmt.Sprint(ev.ID), At: ev.At, Actor: ev.Actor, Kind: ev.Kind}
	if ev.RowID != 0 {
		id, name := store.RowID(ev.RowID), names[ev.RowID]
		out.Row, out.RowName, out.Rows = &id, &name, 1
	}
	rows := func(n int, word string) string { return fmt.Sprintf("%d %s", n, plural(n, word)) }
	switch ev.Kind {
	case store.EventRowEdited:
		var parts []string
		for _, c := range d.Changes {
			parts = append(parts, fmt.Sprintf("%s from %s to %s", c.Name, quoteOr(c.Before), quoteOr(c.After)))
		}
		out.Words = "changed " + strings.Join(parts, "; ")
	case store.EventRowAdded:
		out.Words = "added the row"
	case store.EventRowDeleted:
		out.Words = "deleted the row"
	case store.EventRowRestored:
		out.Words = "restored the row"
	case store.EventChanged:
		out.Rows, out.Words = d.Steps, fmt.Sprintf("%s in %s", kindWords[d.Kind], rows(d.Steps, "row"))
		if d.Kind == "delete" || d.Kind == "add" {
			out.Words = fmt.Sprintf("%s %s", kindWords[d.Kind], rows(d.Steps, "row"))
		}
	case store.EventUndone:
		out.Rows, out.Words = d.Steps, "took a change of "+rows(d.Steps, "row")+" back"
	case store.EventImported, store.EventRefreshed:
		out.Rows = d.New + d.Changed + d.Gone
		from := d.File
		if from == "" {
			from = "a file"
		}
		out.Words = fmt.Sprintf("took in %s: %d new, %d changed, %d gone", from, d.New, d.Changed, d.Gone)
	case store.EventRefreshFailed:
		out.Words = "could not import " + d.Place + ": " + d.Problem
	case store.EventSheetSaved:
		out.Words = columnWords(d.Columns)
	case store.EventSourceSaved:
		out.Words = "follows " + d.Place
		if d.Dropped {
			out.Words = "follows " + d.Place + " no more"
		}
	case store.EventFormSaved:
		out.Words = "changed the intake form"
		if d.Open != nil && !*d.Open {
			out.Words = "closed the intake form"
		}
	}
	out.BringsBack = ev.Kind == store.EventRowDeleted || ev.Kind == store.EventChanged && d.Kind == "delete"
	switch ev.Kind {
	case store.EventRefreshFailed, store.EventSheetSaved, store.EventSourceSaved, store.EventFormSaved:
	default:
		out.Undoable = may
	}
	return out
}

func columnWords(v any) string {
	list, _ := v.([]any)
	var words []string
	for _, x := range list {
		if w, ok := x.(string); ok {
			words = append(words, w)
		}
	}
	switch {
	case len(words) > 0:
		return "columns: " + strings.Join(words, "; ")
	case len(list) > 0:
		return "made the sheet"
	}
	return "changed how the sheet is set up"
}

func quoteOr(s string) string {
	if s == "" {
		return "empty"
	}
	return "“" + s + "”"
}

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// CellHistory implements StrictServerInterface.
func (s *Server) CellHistory(ctx context.Context, r CellHistoryRequestObject) (CellHistoryResponseObject, error) {
	id, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	c, ok := core.Column(r.Column)
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	if !ok || rec.SheetID != r.Sheet {
		return nil, store.ErrNotFound
	}
	row, err := rec.Core(core)
	if err != nil {
		return nil, err
	}
	out := CellHistory200JSONResponse{Column: c.Name, Row: core.RowName(row), Now: core.Input(c, row.Cell(c)), Entries: []CellEntry{}}
	events, err := s.st.RowEvents(ctx, id, 5*historyLength)
	if err != nil {
		return nil, err
	}
	for i := range events {
		h := toHistory(&events[i])
		for _, x := range h.Changes {
			if x.Column == c.ID {
				out.Entries = append(out.Entries, CellEntry{At: h.At, Actor: h.Actor, Before: x.Before, After: x.After})
			}
		}
	}
	return out, nil
}

// SummariseRows implements StrictServerInterface.
func (s *Server) SummariseRows(ctx context.Context, r SummariseRowsRequestObject) (SummariseRowsResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	u, err := s.e.Summarise(ctx, r.Sheet, r.Body.View, r.Body.From, r.Body.To, r.Body.Columns)
	if err != nil {
		return nil, err
	}
	out := SummariseRows200JSONResponse{Rows: u.Rows, Filled: u.Filled, Numbers: u.Numbers, Dates: u.Dates}
	show := func(v value.Value) *string {
		// Of one column it is written as that column writes.
		c := &sheet.Column{Type: v.Type}
		if len(r.Body.Columns) == 1 {
			if own, ok := core.Column(r.Body.Columns[0]); ok {
				c = own
			}
		}
		text := core.Show(c, v)
		return &text
	}
	if u.Numbers > 0 {
		out.Sum, out.Least, out.Top = show(u.Sum), show(u.Least), show(u.Top)
	}
	if u.Dates > 0 {
		out.First, out.Last = show(u.First), show(u.Last)
	}
	return out, nil
}

// FindRow implements StrictServerInterface.
func (s *Server) FindRow(ctx context.Context, r FindRowRequestObject) (FindRowResponseObject, error) {
	ids, err := s.e.View(ctx, r.Sheet, r.Body.View)
	if err != nil {
		return nil, err
	}
	hits, err := s.e.Find(ctx, r.Sheet, r.Body.Text)
	if err != nil {
		return nil, err
	}
	found := make(map[int64]bool, len(hits))
	for _, id := range hits {
		found[id] = true
	}
	out := FindRow200JSONResponse{Index: -1}
	step, n := 1, len(ids)
	if r.Body.Back != nil && *r.Body.Back {
		step = -1
	}
	for k := range n {
		if found[ids[k]] {
			out.Matches++
		}
	}
	for k := range n {
		i := ((r.Body.From+step*k)%n + n) % n
		if !found[ids[i]] {
			continue
		}
		out.Index = i
		out.Column, err = s.columnHolding(ctx, r.Sheet, ids[i], r.Body.Text)
		break
	}
	return out, err
}

// columnHolding gives the first column of a row that holds a text.
func (s *Server) columnHolding(ctx context.Context, sheetID string, id int64, text string) (*string, error) {
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := rec.Core(core)
	if err != nil {
		return nil, err
	}
	computed, err := s.e.Computed(ctx, core)
	if err != nil {
		return nil, err
	}
	row = computed(row)
	for i := range core.Columns {
		if c := &core.Columns[i]; strings.Contains(value.Fold(core.Show(c, row.Cell(c))), value.Fold(text)) {
			return &c.ID, nil
		}
	}
	return nil, nil
}

func parseID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id <= 0 {
		return 0, store.ErrNotFound
	}
	return id, nil
}
