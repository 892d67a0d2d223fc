package api

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/engine"
	"nivot/internal/store"
)

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
var kindWords = map[string]string{"edit": "changed", "paste": "pasted", "fill": "filled in", "clear": "emptied",
	"add": "added", "delete": "deleted",
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
		from := engine.ShownPlace(d.File)
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
	out := CellHistory200JSONResponse{Column: c.Name, Row: core.RowName(row), Now: core.Input(c, row.Cell(c)),
		Entries: []CellEntry{}}
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
