package api

import (
	"context"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"
	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

func (s *Server) namedCalendar(ctx context.Context, c *store.Calendar) (NamedCalendar, error) {
	out := NamedCalendar{Id: c.ID, Name: c.Name, IsDefault: c.ID == store.DefaultCalendar,
		Weekdays: []NamedCalendarWeekdays{}, Closed: []openapi_types.Date{}, Sheets: []string{}}
	core, err := c.Core()
	if err != nil {
		return out, err
	}
	weekdays, closed := core.Names()
	for _, w := range weekdays {
		out.Weekdays = append(out.Weekdays, NamedCalendarWeekdays(w))
	}
	for _, d := range closed {
		t, err := time.Parse("2006-01-02", d)
		if err != nil {
			return out, err
		}
		out.Closed = append(out.Closed, openapi_types.Date{Time: t})
	}
	sheets, err := s.st.SheetsOfCalendar(ctx, c.ID)
	for i := range sheets {
		out.Sheets = append(out.Sheets, sheets[i].Name)
	}
	return out, err
}

// ListCalendars implements StrictServerInterface.
func (s *Server) ListCalendars(ctx context.Context,
	_ ListCalendarsRequestObject) (ListCalendarsResponseObject, error) {
	all, err := s.st.Calendars(ctx)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 || all[0].ID != store.DefaultCalendar {
		c, err := s.st.Calendar(ctx, store.DefaultCalendar)
		if err != nil {
			return nil, err
		}
		all = append([]store.Calendar{*c}, all...)
	}
	out := ListCalendars200JSONResponse{}
	for i := range all {
		c, err := s.namedCalendar(ctx, &all[i])
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// days gives the names of a calendar's weekdays, and its closed days.
func (b *CalendarEdit) days() (weekdays, closed []string) {
	for _, w := range b.Weekdays {
		weekdays = append(weekdays, string(w))
	}
	for _, d := range b.Closed {
		closed = append(closed, d.Format("2006-01-02"))
	}
	return weekdays, closed
}

// CalendarConsequences implements StrictServerInterface.
func (s *Server) CalendarConsequences(ctx context.Context,
	r CalendarConsequencesRequestObject) (CalendarConsequencesResponseObject, error) {
	core, err := calendar.New(r.Body.days())
	if err != nil {
		return nil, &engine.Refusal{Message: err.Error()}
	}
	sheets, err := s.e.CalendarConsequences(ctx, r.Calendar, core, turnBudget)
	if err != nil {
		return nil, err
	}
	out := CalendarConsequences200JSONResponse{}
	for _, t := range sheets {
		out = append(out, SheetConsequences{Sheet: t.Sheet.ID, Name: t.Sheet.Name, Zone: t.Sheet.Zone,
			Consequences: toConsequences(t.Consequences)})
	}
	return out, nil
}

func (s *Server) saveCalendar(ctx context.Context, id string, b *CalendarEdit) (NamedCalendar, error) {
	weekdays, closed := b.days()
	c, err := s.e.SaveCalendar(ctx, id, b.Name, weekdays, closed, person(ctx).Name)
	if err != nil {
		return NamedCalendar{}, err
	}
	return s.namedCalendar(ctx, c)
}

// AddCalendar implements StrictServerInterface.
func (s *Server) AddCalendar(ctx context.Context, r AddCalendarRequestObject) (AddCalendarResponseObject, error) {
	out, err := s.saveCalendar(ctx, "", r.Body)
	return AddCalendar201JSONResponse(out), err
}

// ChangeCalendar implements StrictServerInterface.
func (s *Server) ChangeCalendar(ctx context.Context,
	r ChangeCalendarRequestObject) (ChangeCalendarResponseObject, error) {
	out, err := s.saveCalendar(ctx, r.Calendar, r.Body)
	return ChangeCalendar200JSONResponse(out), err
}

// DeleteCalendar implements StrictServerInterface.
func (s *Server) DeleteCalendar(ctx context.Context,
	r DeleteCalendarRequestObject) (DeleteCalendarResponseObject, error) {
	return DeleteCalendar204Response{}, s.e.DeleteCalendar(ctx, r.Calendar, person(ctx).Name)
}

// ListLocales implements StrictServerInterface.
func (s *Server) ListLocales(context.Context, ListLocalesRequestObject) (ListLocalesResponseObject, error) {
	out := ListLocales200JSONResponse{}
	two := 2
	for _, tag := range value.Locales() {
		l, err := value.FindLocale(tag)
		if err != nil {
			return nil, err
		}
		out = append(out, LocaleChoice{Tag: tag, Name: l.Name, Own: l.Own, Example: value.FormatDay(value.DayOf(2027, 3, 29),
			value.Long, l, "") + ", " +
			value.FormatNumber(decimal.RequireFromString("1240.5"), value.NumberFormat{Thousands: true, Decimals: &two}, l)})
	}
	return out, nil
}

// ReadCell implements StrictServerInterface.
func (s *Server) ReadCell(ctx context.Context, r ReadCellRequestObject) (ReadCellResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	c, ok := core.Column(r.Column)
	if !ok {
		return nil, store.ErrNotFound
	}
	v := value.Parse(r.Params.Text, core.Reading(c))
	out := ReadCell200JSONResponse{Is: CellReadingIsValue, Shown: core.Show(c, v)}
	switch {
	case v.IsEmpty():
		out.Is = CellReadingIsEmpty
	case v.IsUnreadable():
		out.Is = CellReadingIsUnreadable
	case v.Type == value.Date || v.Type == value.Moment:
		t, err := time.Parse("2006-01-02", v.Wall.Day.String())
		if err != nil {
			return nil, err
		}
		out.Day = &openapi_types.Date{Time: t}
	}
	return out, nil
}
