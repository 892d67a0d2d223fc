package api

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// A track goes from two weeks back to four weeks ahead.
const trackBack = 14 * 24 * time.Hour

// markKind is the shape a delivery's mark has.
func markKind(st delivery.State) MarkKind {
	switch st {
	case delivery.Accepted:
		return MarkKindAccepted
	case delivery.Failed, delivery.Bounced:
		return MarkKindFailed
	case delivery.Held:
		return MarkKindHeld
	case delivery.Incomplete:
		return MarkKindIncomplete
	case delivery.InDoubt:
		return MarkKindInDoubt
	case delivery.Missed:
		return MarkKindMissed
	case delivery.Skipped, delivery.Dropped:
		return MarkKindSkipped
	}
	return MarkKindQueued
}

// ruleNames gives rules by id, for letters and names in lists.
func (s *Server) ruleNames(ctx context.Context, sheetID string) (map[string]store.Rule, error) {
	rules, err := s.st.AllRules(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	out := make(map[string]store.Rule, len(rules))
	for _, r := range rules {
		out[r.ID] = r
	}
	return out, nil
}

func deliveryMark(d *store.Delivery, rules map[string]store.Rule) Mark {
	id, row, chain := store.RowID(d.ID), store.RowID(d.RowID), d.Chain()
	r := rules[d.RuleID]
	line := r.Name + ": " + outcomeWords(d)
	if d.Subject != "" {
		line = "“" + d.Subject + "” " + outcomeWords(d)
	}
	return Mark{At: d.DueAt, Letter: r.Letter, Rule: d.RuleID, Kind: markKind(d.State), Delivery: &id, Row: &row,
		Line: line, Chain: &chain}
}

func comingMark(c *engine.Coming, rules map[string]store.Rule) Mark {
	r := rules[c.Rule]
	m := Mark{At: c.At, Letter: r.Letter, Rule: c.Rule, Kind: MarkKindComing, Chain: &c.Chain, Line: r.Name + ": “" +
		c.Subject + "” to " + strings.Join(c.To, ", ")}
	if c.Rows == 0 {
		m.Row = &c.RowID
	}
	if c.Incomplete {
		m.Kind, m.Line = MarkKindIncomplete, r.Name+" cannot go out yet: "+c.Reason
	}
	return m
}

// toRows turns rows into their API form, with the marks of their tracks where
// asked for.
func (s *Server) toRows(ctx context.Context, sheetID string, core *sheet.Sheet, recs []store.Row,
	tracks bool) ([]Row, error) {
	ids := make([]int64, len(recs))
	cores := make([]*sheet.Row, len(recs))
	var err error
	for i := range recs {
		ids[i] = recs[i].ID
		if cores[i], err = recs[i].Core(core); err != nil {
			return nil, err
		}
	}
	computed, err := s.e.Computed(ctx, core)
	if err != nil {
		return nil, err
	}
	marks := map[string][]Mark{}
	if tracks {
		if marks, err = s.marks(ctx, sheetID, ids, cores); err != nil {
			return nil, err
		}
	}
	var keys [][]byte
	for i := range recs {
		if len(recs[i].RowKey) > 0 {
			keys = append(keys, recs[i].RowKey)
		}
	}
	firsts, err := s.st.FirstOfKey(ctx, sheetID, keys)
	if err != nil {
		return nil, err
	}
	shelf, err := s.e.CoreShelf(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	out := make([]Row, len(recs))
	for i := range recs {
		r := &recs[i]
		first, doubled := firsts[string(r.RowKey)]
		out[i] = Row{Doubled: doubled && r.Number > first, Id: cores[i].ID, Name: core.RowName(cores[i]),
			Version: int(r.Version), Unsettled: r.FirstEdit != nil, Gone: r.Gone,
			Cells: toCells(core, computed(cores[i]), shelf), Marks: marks[cores[i].ID]}
		if out[i].Marks == nil {
			out[i].Marks = []Mark{}
		}
	}
	return out, nil
}

// marks gives the marks of rows' tracks in the order of time.
func (s *Server) marks(ctx context.Context, sheetID string, ids []int64,
	cores []*sheet.Row) (map[string][]Mark, error) {
	rules, err := s.ruleNames(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	now := s.e.Now()
	past, err := s.st.RowMarks(ctx, ids, now.Add(-trackBack), now.Add(engine.ForecastSpan))
	if err != nil {
		return nil, err
	}
	coming, err := s.e.RowComing(ctx, sheetID, cores)
	if err != nil {
		return nil, err
	}
	out := map[string][]Mark{}
	for i := range past {
		m := deliveryMark(&past[i], rules)
		out[*m.Row] = append(out[*m.Row], m)
	}
	for row, cs := range coming {
		for k := range cs {
			out[row] = append(out[row], comingMark(&cs[k], rules))
		}
	}
	for _, ms := range out {
		sort.SliceStable(ms, func(a, b int) bool { return ms[a].At.Before(ms[b].At) })
		inChain := map[string]int{}
		for i := range ms {
			inChain[*ms[i].Chain]++
		}
		for i := range ms { // one alone is no chain
			if inChain[*ms[i].Chain] < 2 {
				ms[i].Chain = nil
			}
		}
	}
	return out, nil
}

// toCells tells a row's cells; of one that names files, which of them the sheet does not have.
func toCells(core *sheet.Sheet, row *sheet.Row, shelf template.Shelf) []Cell {
	out := make([]Cell, len(core.Columns))
	for i := range core.Columns {
		c := &core.Columns[i]
		v := row.Cell(c)
		out[i].Text = core.Show(c, v)
		if in := core.Input(c, v); in != out[i].Text {
			out[i].Input = &in
		}
		if v.IsUnreadable() {
			bad := true
			out[i].Bad = &bad
			if _, err := value.Read(v.Str, core.Reading(c)); err != nil && c.Type != value.Formula {
				why := sentence(err.Error())
				out[i].Why = &why
			}
		}
		if _, absent := shelf.Met(v); len(absent) > 0 {
			bad, why := true, strings.Join(absent, ", ")+
				": not among the files of the sheet. Drop it here, or add it under Files."
			out[i].Bad, out[i].Why = &bad, &why
		}
	}
	return out
}

func (s *Server) coreSheet(ctx context.Context, id string) (*sheet.Sheet, error) {
	rec, err := s.st.Sheet(ctx, id)
	if err != nil {
		return nil, err
	}
	return rec.Core()
}

// QueryRows implements StrictServerInterface.
func (s *Server) QueryRows(ctx context.Context, r QueryRowsRequestObject) (QueryRowsResponseObject, error) {
	question, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	body, err := s.flights.do(ctx, "rows "+r.Sheet+string(question), func(ctx context.Context) (any, error) {
		return s.queryRows(ctx, r)
	})
	return shared(body), err
}

func (s *Server) queryRows(ctx context.Context, r QueryRowsRequestObject) (any, error) {
	core, err := s.e.CoreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	spec := engine.ViewSpec{Filter: r.Body.Filter}
	if r.Body.Sort != nil {
		spec.Sort = *r.Body.Sort
	}
	if r.Body.Find != nil {
		spec.Find = *r.Body.Find
	}
	spec.Only = r.Body.Only
	ids, err := s.e.View(ctx, r.Sheet, spec)
	if err != nil {
		return nil, err
	}
	lo := min(r.Body.Offset, len(ids))
	recs, err := s.st.RowsByID(ctx, r.Sheet, ids[lo:min(lo+r.Body.Limit, len(ids))])
	if err != nil {
		return nil, err
	}
	rows, err := s.toRows(ctx, r.Sheet, core, recs, r.Body.Marks == nil || *r.Body.Marks)
	if err == nil && spec.Only != nil && spec.Only.Rows == engine.Unjudged {
		err = s.tellFaults(ctx, r.Sheet, spec.Only.Rule, core, recs, rows)
	}
	out := QueryRows200JSONResponse{Total: len(ids), Rows: rows}
	if spec.Filter != nil {
		out.Filter = spec.Filter.Words(core)
	}
	return out, err
}

// tellFaults tells of each of some rows which rules cannot judge it: those that are
// on, or one of them.
func (s *Server) tellFaults(ctx context.Context, sheetID, ruleID string, core *sheet.Sheet, recs []store.Row,
	rows []Row) error {
	cores := make([]*sheet.Row, len(recs))
	var err error
	for i := range recs {
		if cores[i], err = recs[i].Core(core); err != nil {
			return err
		}
	}
	faults, err := s.e.RowFaults(ctx, sheetID, ruleID, cores)
	if err != nil {
		return err
	}
	rules, err := s.ruleNames(ctx, sheetID)
	for i := range rows {
		told := []RowFault{}
		for _, f := range faults[rows[i].Id] {
			x := RowFault{Rule: f.Rule, Letter: rules[f.Rule].Letter, Name: rules[f.Rule].Name}
			if f.Column != "" {
				x.Column = &f.Column
			}
			told = append(told, x)
		}
		rows[i].Faults = &told
	}
	return err
}

// author is who changes rows by this request.
func author(ctx context.Context) engine.Author {
	p := person(ctx)
	return engine.Author{ID: p.ID, Name: p.Name, Unlocks: p.Role.May(store.Coordinator)}
}

// columnIDs turns cells by a column's id or name into cells by id.
func columnIDs(core *sheet.Sheet, cells map[string]string) (map[string]string, error) {
	out := make(map[string]string, len(cells))
	for name, text := range cells {
		c, ok := core.Column(name)
		if !ok {
			c, ok = core.ColumnNamed(name)
		}
		if !ok {
			return nil, &engine.Refusal{Field: "/cells/" + pointerEscape.Replace(name),
				Message: fmt.Sprintf("the sheet has no column %q", name)}
		}
		if _, twice := out[c.ID]; twice {
			return nil, &engine.Refusal{Field: "/cells/" + pointerEscape.Replace(name), Message: c.Name + " is given twice"}
		}
		out[c.ID] = text
	}
	return out, nil
}

// toEdits turns a request's cells into edits, in the order of the columns.
func toEdits(core *sheet.Sheet, cells map[string]string, expected *map[string]string) ([]engine.CellEdit, error) {
	cells, err := columnIDs(core, cells)
	if err != nil {
		return nil, err
	}
	seen := map[string]string{}
	if expected != nil {
		if seen, err = columnIDs(core, *expected); err != nil {
			return nil, err
		}
	}
	out := make([]engine.CellEdit, 0, len(cells))
	for _, c := range core.Columns {
		text, ok := cells[c.ID]
		if !ok {
			continue
		}
		ed := engine.CellEdit{Column: c.ID, Text: text}
		if x, ok := seen[c.ID]; ok {
			ed.Expected = &x
		}
		out = append(out, ed)
	}
	return out, nil
}

func (s *Server) oneRow(ctx context.Context, sheetID string, id int64) (Row, error) {
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return Row{}, err
	}
	recs, err := s.st.RowsByID(ctx, sheetID, []int64{id})
	if err != nil {
		return Row{}, err
	}
	if len(recs) == 0 {
		return Row{}, store.ErrNotFound
	}
	rows, err := s.toRows(ctx, sheetID, core, recs, true)
	if err != nil {
		return Row{}, err
	}
	return rows[0], nil
}

// AddRow implements StrictServerInterface.
func (s *Server) AddRow(ctx context.Context, r AddRowRequestObject) (AddRowResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	edits, err := toEdits(core, r.Body.Cells, nil)
	if err != nil {
		return nil, err
	}
	c, err := s.e.AddRow(ctx, r.Sheet, edits, author(ctx))
	if err != nil {
		return nil, err
	}
	row, err := s.oneRow(ctx, r.Sheet, c.Added[0])
	return AddRow201JSONResponse(row), err
}

// EditRow implements StrictServerInterface.
func (s *Server) EditRow(ctx context.Context, r EditRowRequestObject) (EditRowResponseObject, error) {
	id, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	edits, err := toEdits(core, r.Body.Cells, r.Body.Expected)
	if err != nil {
		return nil, err
	}
	if _, err := s.e.EditRow(ctx, r.Sheet, id, edits, author(ctx)); err != nil {
		return nil, err
	}
	row, err := s.oneRow(ctx, r.Sheet, id)
	return EditRow200JSONResponse(row), err
}

// DeleteRow implements StrictServerInterface.
func (s *Server) DeleteRow(ctx context.Context, r DeleteRowRequestObject) (DeleteRowResponseObject, error) {
	id, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	_, err = s.e.DeleteRow(ctx, r.Sheet, id, author(ctx))
	return DeleteRow204Response{}, err
}

// RestoreRow implements StrictServerInterface.
func (s *Server) RestoreRow(ctx context.Context, r RestoreRowRequestObject) (RestoreRowResponseObject, error) {
	id, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	if _, err := s.e.RestoreRow(ctx, r.Sheet, id, author(ctx)); err != nil {
		return nil, err
	}
	row, err := s.oneRow(ctx, r.Sheet, id)
	return RestoreRow200JSONResponse(row), err
}

// historyLength is how many entries of a row's history are shown.
const historyLength = 200

// GetRow implements StrictServerInterface.
func (s *Server) GetRow(ctx context.Context, r GetRowRequestObject) (GetRowResponseObject, error) {
	id, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Row(ctx, id)
	if err != nil {
		return nil, err
	}
	if rec.SheetID != r.Sheet || rec.DeletedAt != nil {
		return nil, store.ErrNotFound
	}
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	rows, err := s.toRows(ctx, r.Sheet, core, []store.Row{*rec}, true)
	if err == nil {
		err = s.tellFaults(ctx, r.Sheet, "", core, []store.Row{*rec}, rows)
	}
	if err != nil {
		return nil, err
	}
	out := GetRow200JSONResponse{Row: rows[0], History: []HistoryEntry{}, Emails: []LogLine{}, Coming: []RowEmail{}}
	events, err := s.st.RowEvents(ctx, id, historyLength)
	if err != nil {
		return nil, err
	}
	for _, ev := range events {
		out.History = append(out.History, toHistory(&ev))
	}
	if rec.Born != nil && (len(events) == 0 || events[len(events)-1].Kind != store.EventRowAdded) {
		ev, err := s.st.Event(ctx, *rec.Born)
		if err != nil {
			return nil, err
		}
		out.History = append(out.History, HistoryEntry{At: ev.At, Actor: ev.Actor, Kind: ev.Kind, Changes: []CellChange{}})
	}
	past, err := s.st.Log(ctx, store.LogFilter{RowID: id}, "", historyLength)
	if err != nil {
		return nil, err
	}
	if out.Emails, err = s.logLines(ctx, past.Lines); err != nil {
		return nil, err
	}
	coming, err := s.e.RowEmails(ctx, r.Sheet, id)
	if err != nil {
		return nil, err
	}
	names, err := s.ruleNames(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	for i := range coming {
		out.Coming = append(out.Coming, toRowEmail(&coming[i], names))
	}
	if len(rec.RowKey) > 0 {
		out.Same, err = s.sameKey(ctx, r.Sheet, core, rec.RowKey)
	}
	return out, err
}

// shownSame is how many rows of one key are shown together.
const shownSame = 20

// sameKey gives the rows that share a key, in the order in which they came; nil
// where there is but one.
func (s *Server) sameKey(ctx context.Context, sheetID string, core *sheet.Sheet, key []byte) (*[]Row, error) {
	recs, err := s.st.RowsOfKey(ctx, sheetID, key, shownSame)
	if err != nil || len(recs) < 2 {
		return nil, err
	}
	rows, err := s.toRows(ctx, sheetID, core, recs, true)
	return &rows, err
}

func toRowEmail(x *engine.RowEmail, rules map[string]store.Rule) RowEmail {
	out := RowEmail{Occasion: x.Identity().String(), At: x.At, Settles: x.Settles, Rule: x.Rule,
		Letter: rules[x.Rule].Letter,
		To:     boxLine(x.To), Subject: x.Subject,
		Step: x.Step, Again: x.Again, Outcome: RowEmailOutcome(x.Outcome), Reason: x.Decision.Reason.Words()}
	if a := x.Aside; a != nil {
		said := RowEmailSaid(engine.LeaveOut)
		switch {
		case !a.To.IsZero():
			said, out.Foreseen = RowEmailSaid(engine.Shift), &a.Of.Due
		case a.Ends:
			said = RowEmailSaid(engine.EndChain)
		}
		out.Said, out.By, out.Why = &said, &a.By, &a.Why
	}
	return out
}

// SayOfEmail implements StrictServerInterface.
func (s *Server) SayOfEmail(ctx context.Context, r SayOfEmailRequestObject) (SayOfEmailResponseObject, error) {
	row, err := parseID(r.Row)
	if err != nil {
		return nil, err
	}
	id, err := rule.ParseID(r.Occasion)
	if err != nil {
		return nil, store.ErrNotFound
	}
	say := engine.Say{Sheet: r.Sheet, Rule: r.Rule, Row: row, Email: id, What: string(r.Body.What)}
	if r.Body.Days != nil {
		say.Days = *r.Body.Days
	}
	if r.Body.Why != nil {
		say.Why = *r.Body.Why
	}
	if err := s.e.SetAside(ctx, say, person(ctx).Name); err != nil {
		return nil, err
	}
	return SayOfEmail204Response{}, nil
}

// SayOfRoundUp implements StrictServerInterface.
func (s *Server) SayOfRoundUp(ctx context.Context, r SayOfRoundUpRequestObject) (SayOfRoundUpResponseObject, error) {
	id, err := rule.ParseID(r.Occasion)
	if err != nil {
		return nil, store.ErrNotFound
	}
	say := engine.Say{Sheet: r.Sheet, Rule: r.Rule, Email: id, What: string(r.Body.What)}
	if r.Body.Why != nil {
		say.Why = *r.Body.Why
	}
	if err := s.e.SetRoundUpAside(ctx, say, person(ctx).Name); err != nil {
		return nil, err
	}
	return SayOfRoundUp204Response{}, nil
}

func toHistory(ev *store.Event) HistoryEntry {
	d := struct {
		Changes []CellChange `json:"changes"`
	}{[]CellChange{}}
	_ = json.Unmarshal([]byte(ev.Detail), &d)
	return HistoryEntry{At: ev.At, Actor: ev.Actor, Kind: ev.Kind, Changes: d.Changes}
}

func parseID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id <= 0 {
		return 0, store.ErrNotFound
	}
	return id, nil
}
