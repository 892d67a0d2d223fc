package api

import (
	"context"
	"strings"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

func toColumn(s *sheet.Sheet, c *sheet.Column) Column {
	out := Column{Id: c.ID, Name: c.Name, Type: ColumnType(c.Type), Width: c.Width, Options: []Option{}, Ops: []string{}, Hidden: c.Hidden, Locked: c.Locked}
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
	out := Sheet{Id: rec.ID, Name: rec.Name, Zone: rec.Zone, Locale: rec.Locale, SettleSeconds: rec.SettleSeconds, Calendar: rec.CalendarID, WeekStart: core.Locale.WeekStart(), Key: rec.KeyColumn,
		Address: rec.AddressColumn, NameColumn: rec.NameColumn, LanguageColumn: rec.LanguageColumn, Frozen: rec.Frozen, Sender: rec.SenderID,
		Seen: engine.ColumnsVersion(rec), Columns: []Column{}, Derived: []Column{}}
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
	out := ListSheets200JSONResponse{}
	for i := range recs {
		x, err := s.toSheet(ctx, &recs[i])
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// GetSheet implements StrictServerInterface.
func (s *Server) GetSheet(ctx context.Context, r GetSheetRequestObject) (GetSheetResponseObject, error) {
	rec, err := s.st.Sheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return GetSheet200JSONResponse(out), err
}

func toSheetChange(b *SheetPatch) engine.SheetChange {
	return engine.SheetChange{Name: b.Name, SettleSeconds: b.SettleSeconds, Frozen: b.Frozen, Key: b.Key, Address: b.Address, Named: b.NameColumn,
		Written: b.LanguageColumn, Calendar: b.Calendar, Sender: b.Sender, Zone: b.Zone}
}

// SheetConsequences implements StrictServerInterface.
func (s *Server) SheetConsequences(ctx context.Context, r SheetConsequencesRequestObject) (SheetConsequencesResponseObject, error) {
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

// ImportBundle implements StrictServerInterface.
func (s *Server) ImportBundle(ctx context.Context, r ImportBundleRequestObject) (ImportBundleResponseObject, error) {
	f, err := readForm(r.Body)
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
