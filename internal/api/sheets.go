package api

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

func toColumn(s *sheet.Sheet, c *sheet.Column) Column {
	out := Column{Id: c.ID, Name: c.Name, Type: ColumnType(c.Type), Width: c.Width, Options: []Option{}, Ops: []string{},
		Hidden: c.Hidden, Locked: c.Locked}
	if c.Format != (value.NumberFormat{}) {
		out.Format = &c.Format
	}
	if c.Type == value.Formula {
		result := ColumnType(c.ValueType())
		out.Formula, out.Result = &c.Formula, &result
	}
	if c.Group != "" {
		out.Group = &c.Group
	}
	if c.Written != "" {
		w := ColumnWritten(c.Written)
		out.Written = &w
	}
	if c.Type == value.Date || c.Type == value.Moment {
		o := Order(s.Reading(c).DateOrder())
		out.Order = &o
	}
	for _, o := range c.Options {
		out.Options = append(out.Options, Option{Id: o.ID, Name: o.Name})
	}
	for _, op := range rule.OpsFor(c.ValueType()) {
		out.Ops = append(out.Ops, string(op))
	}
	return out
}

func (s *Server) toSheet(ctx context.Context, rec *store.Sheet) (Sheet, error) {
	core, err := rec.Core()
	if err != nil {
		return Sheet{}, err
	}
	out := Sheet{Id: rec.ID, Name: rec.Name, Zone: rec.Zone, Locale: rec.Locale, SettleSeconds: rec.SettleSeconds,
		Calendar: rec.CalendarID, WeekStart: core.Locale.WeekStart(), Key: rec.KeyColumn,
		Address: rec.AddressColumn, NameColumn: rec.NameColumn, LanguageColumn: rec.LanguageColumn, Frozen: rec.Frozen,
		Sender:    rec.SenderID,
		PutAwayAt: rec.PutAwayAt, Seen: engine.ColumnsVersion(rec), Columns: []Column{}, Derived: []Column{}}
	out.Removed = make([]struct {
		Id   string     `json:"id"`
		Name string     `json:"name"`
		Type ColumnType `json:"type"`
	}, 0)
	for _, c := range rec.Removed() {
		out.Removed = append(out.Removed, struct {
			Id   string     `json:"id"`
			Name string     `json:"name"`
			Type ColumnType `json:"type"`
		}{c.ID, c.Name, ColumnType(c.Type)})
	}
	for i := range core.Columns {
		out.Columns = append(out.Columns, toColumn(core, &core.Columns[i]))
	}
	for i := range core.Derived() {
		out.Derived = append(out.Derived, toColumn(core, &core.Derived()[i]))
	}
	from, err := engine.FromOf(ctx, s.st, rec)
	if err != nil {
		return out, err
	}
	signed := from.Signature != nil
	out.Signed = &signed
	out.Figures, err = s.figures(ctx, rec, core)
	return out, err
}

// figures are the live figures in a sheet's sentence.
func (s *Server) figures(ctx context.Context, rec *store.Sheet, core *sheet.Sheet) (f SheetFigures, err error) {
	n, err := s.st.CountRows(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	f.Rows = int(n)
	rules, err := s.st.Rules(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	for _, r := range rules {
		if r.State == rule.On {
			f.RulesOn++
		}
	}
	fc, err := s.e.Forecast(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	f.Coming = len(fc.Coming)
	waiting, err := s.st.CountStates(ctx, store.LogFilter{SheetID: rec.ID, States: []delivery.State{delivery.Held,
		delivery.Incomplete}})
	if err != nil {
		return f, err
	}
	f.Held = int(waiting[delivery.Held] + waiting[delivery.Incomplete])
	end := endOfDay(s.e.Now(), core.Zone)
	people := map[string]bool{}
	for _, c := range fc.Coming {
		if c.Incomplete {
			continue
		}
		if c.At.Before(end) {
			f.Today++
		}
		if f.NextAt == nil {
			at := c.At
			f.NextAt = &at
		}
		if c.At.Equal(*f.NextAt) {
			for _, a := range c.To {
				people[strings.ToLower(a)] = true
			}
		}
	}
	f.NextPeople = len(people)
	f.Needs, err = s.countNeeds(ctx, rec.ID)
	return f, err
}

// countNeeds counts the emails of a sheet, or of all, that wait for somebody.
func (s *Server) countNeeds(ctx context.Context, sheetID string) (int, error) {
	n, err := s.st.CountNeeding(ctx, sheetID)
	return int(n), err
}

func startOfDay(t time.Time, loc *time.Location) time.Time {
	l := t.In(loc)
	return time.Date(l.Year(), l.Month(), l.Day(), 0, 0, 0, 0, loc)
}

func endOfDay(t time.Time, loc *time.Location) time.Time {
	l := t.In(loc)
	return time.Date(l.Year(), l.Month(), l.Day()+1, 0, 0, 0, 0, loc)
}

// ListSheets implements StrictServerInterface.
func (s *Server) ListSheets(ctx context.Context, _ ListSheetsRequestObject) (ListSheetsResponseObject, error) {
	recs, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	out := make(ListSheets200JSONResponse, len(recs))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(sideBySide)
	for i := range recs {
		g.Go(func() (err error) { out[i], err = s.toSheet(ctx, &recs[i]); return err })
	}
	return out, g.Wait()
}

// sideBySide is of how many sheets a page asks at the same time.
const sideBySide = 4

// GetSheet implements StrictServerInterface.
func (s *Server) GetSheet(ctx context.Context, r GetSheetRequestObject) (GetSheetResponseObject, error) {
	body, err := s.flights.do(ctx, "sheet "+r.Sheet, func(ctx context.Context) (any, error) {
		rec, err := s.st.Sheet(ctx, r.Sheet)
		if err != nil {
			return nil, err
		}
		return s.toSheet(ctx, rec)
	})
	return shared(body), err
}

func toSheetChange(b *SheetPatch) engine.SheetChange {
	return engine.SheetChange{Name: b.Name, SettleSeconds: b.SettleSeconds, Frozen: b.Frozen, Key: b.Key,
		Address: b.Address, Named: b.NameColumn,
		Written: b.LanguageColumn, Calendar: b.Calendar, Sender: b.Sender, Zone: b.Zone}
}

// SheetConsequences implements StrictServerInterface.
func (s *Server) SheetConsequences(ctx context.Context,
	r SheetConsequencesRequestObject) (SheetConsequencesResponseObject, error) {
	c, err := s.e.SheetConsequences(ctx, r.Sheet, toSheetChange(r.Body), turnBudget)
	if err != nil {
		return nil, err
	}
	return SheetConsequences200JSONResponse(toConsequences(c)), nil
}

// ChangeSheet implements StrictServerInterface.
func (s *Server) ChangeSheet(ctx context.Context, r ChangeSheetRequestObject) (ChangeSheetResponseObject, error) {
	rec, err := s.e.ChangeSheet(ctx, r.Sheet, toSheetChange(r.Body), person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return ChangeSheet200JSONResponse(out), err
}

// DeleteSheet implements StrictServerInterface.
func (s *Server) DeleteSheet(ctx context.Context, r DeleteSheetRequestObject) (DeleteSheetResponseObject, error) {
	return DeleteSheet204Response{}, s.e.DeleteSheet(ctx, r.Sheet, person(ctx).Name)
}

// PutSheetAway implements StrictServerInterface.
func (s *Server) PutSheetAway(ctx context.Context, r PutSheetAwayRequestObject) (PutSheetAwayResponseObject, error) {
	return PutSheetAway204Response{}, s.e.PutSheetAway(ctx, r.Sheet, person(ctx).Name)
}

// RestoreSheet implements StrictServerInterface.
func (s *Server) RestoreSheet(ctx context.Context, r RestoreSheetRequestObject) (RestoreSheetResponseObject, error) {
	rec, err := s.e.RestoreSheet(ctx, r.Sheet, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return RestoreSheet200JSONResponse(out), err
}

// ListAwaySheets implements StrictServerInterface.
func (s *Server) ListAwaySheets(ctx context.Context,
	_ ListAwaySheetsRequestObject) (ListAwaySheetsResponseObject, error) {
	recs, err := s.st.AwaySheets(ctx, s.e.RestorableSince())
	out := ListAwaySheets200JSONResponse{}
	for _, rec := range recs {
		x := AwaySheet{Id: rec.ID, Name: rec.Name, Rows: int(rec.LiveRows), By: rec.AwayBy, Deleted: rec.DeletedAt != nil}
		if x.At = *cmp.Or(rec.DeletedAt, rec.PutAwayAt); x.By == "" {
			x.By = "nivot"
		}
		out = append(out, x)
	}
	return out, err
}

// maxCopied bounds the rows of a sheet that is copied with them.
const maxCopied = 50_000

// CopySheet implements StrictServerInterface.
func (s *Server) CopySheet(ctx context.Context, r CopySheetRequestObject) (CopySheetResponseObject, error) {
	rec, err := s.st.Sheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	if err := value.CheckName("a sheet", r.Body.Name); err != nil {
		return nil, &engine.Refusal{Field: "/name", Message: err.Error()}
	}
	if is(r.Body.Rows) && rec.LiveRows > maxCopied {
		return nil, &engine.Refusal{Field: "/rows",
			Message: fmt.Sprintf("the sheet has %d rows; one with more than %d is copied without them", rec.LiveRows,
				maxCopied)}
	}
	// As the bundle of one and the same sheet: what it leaves out is set below.
	t := &takeOut{s: s, core: core}
	write, err := t.bundle(ctx)
	if err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	if err := write(&packed); err != nil {
		return nil, err
	}
	b, err := exchange.ReadZip(packed.Bytes())
	if err != nil {
		return nil, err
	}
	b.Sheet.Name = r.Body.Name
	made, err := s.e.Install(ctx, b, false, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	copied, err := made.Core()
	if err != nil {
		return nil, err
	}
	at := func(id string) *string { // the column in the same place
		for i := range core.Columns {
			if core.Columns[i].ID == id && i < len(copied.Columns) {
				return &copied.Columns[i].ID
			}
		}
		return nil
	}
	if is(r.Body.Rows) {
		if t.ids, err = s.e.View(ctx, r.Sheet, engine.ViewSpec{}); err != nil {
			return nil, err
		}
		if err := s.copyRows(ctx, t, made.ID, at); err != nil {
			return nil, err
		}
	}
	made, err = s.e.ChangeSheet(ctx, made.ID, engine.SheetChange{Address: at(rec.AddressColumn),
		Named: at(rec.NameColumn), Written: at(rec.LanguageColumn),
		Frozen: &rec.Frozen, Sender: &rec.SenderID, Calendar: &rec.CalendarID}, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, made)
	return CopySheet201JSONResponse(out), err
}

// copyRows puts rows into a sheet that has the same columns; at gives where a
// column of theirs is there. Rows that are gone stay behind.
func (s *Server) copyRows(ctx context.Context, t *takeOut, to string, at func(string) *string) error {
	var in engine.Incoming
	var stored []*sheet.Column
	for i := range t.core.Columns {
		if c := &t.core.Columns[i]; c.Type != value.Formula {
			in.Columns, stored = append(in.Columns, *at(c.ID)), append(stored, c)
		}
	}
	err := t.each(ctx, func(_ []int64, rows []*sheet.Row) error {
		for _, r := range rows {
			if r.Gone {
				continue
			}
			cells := make([]string, len(stored))
			for k, c := range stored {
				cells[k] = t.core.Input(c, r.Cell(c))
			}
			in.Rows = append(in.Rows, cells)
		}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = s.e.Import(ctx, to, in, engine.ImportOptions{Quiet: true}, author(ctx))
	return err
}

// KnowUnjudged implements StrictServerInterface.
func (s *Server) KnowUnjudged(ctx context.Context, r KnowUnjudgedRequestObject) (KnowUnjudgedResponseObject, error) {
	return KnowUnjudged204Response{}, s.e.KnowUnjudged(ctx, r.Sheet, person(ctx).Name)
}

// ImportBundle implements StrictServerInterface.
func (s *Server) ImportBundle(ctx context.Context, r ImportBundleRequestObject) (ImportBundleResponseObject, error) {
	f, err := readForm(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	b, err := exchange.ReadZip(f.file)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	rec, err := s.e.Install(ctx, b, f.values["switchOn"] == "true", person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return ImportBundle201JSONResponse(out), err
}
