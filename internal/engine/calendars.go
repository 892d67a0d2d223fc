package engine

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"nivot/internal/core/calendar"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// CalendarOf gives a sheet's working calendar.
func CalendarOf(ctx context.Context, s *store.Store, rec *store.Sheet) (calendar.Calendar, error) {
	c, err := s.Calendar(ctx, rec.CalendarID)
	if err != nil {
		return calendar.Calendar{}, err
	}
	return c.Core()
}

// SaveCalendar writes a working calendar, a new one where id is "", and has the
// agenda of the sheets that have it computed anew. Occasions keep their
// identity: only their instants change.
func (e *Engine) SaveCalendar(ctx context.Context, id, name string, weekdays, closed []string,
	actor string) (out *store.Calendar, err error) {
	core, err := calendar.New(weekdays, closed)
	if err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	if name = value.Trim(name); name == "" || len(name) > 120 {
		return nil, &Refusal{Field: "/name", Message: "a working calendar has a name of at most 120 characters"}
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		sheets, err := tx.SheetsOfCalendar(ctx, id)
		if err != nil {
			return err
		}
		// In one order, in which everybody halts several.
		slices.SortFunc(sheets, func(a, b store.Sheet) int { return strings.Compare(a.ID, b.ID) })
		for i := range sheets {
			if _, err := e.halt(ctx, tx, sheets[i].ID, nil); err != nil {
				return err
			}
		}
		if out, err = e.putCalendar(ctx, tx, id, name, core, actor); err != nil {
			return err
		}
		for i := range sheets {
			if err := e.rearmSheet(ctx, tx, sheets[i].ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		e.Wake()
	}
	return out, err
}

func (e *Engine) putCalendar(ctx context.Context, tx *store.Store, id, name string, core calendar.Calendar,
	actor string) (*store.Calendar, error) {
	all, err := tx.Calendars(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].ID != id && value.Fold(all[i].Name) == value.Fold(name) {
			return nil, &Refusal{Field: "/name", Message: "another working calendar has this name"}
		}
	}
	out := &store.Calendar{ID: store.NewID(), CreatedAt: e.now()}
	if id != "" {
		if out, err = tx.Calendar(ctx, id); err != nil {
			return nil, err
		}
	}
	if out.CreatedAt.IsZero() {
		out.CreatedAt = e.now()
	}
	out.Name = name
	out.SetCore(core)
	if err := tx.SaveCalendar(ctx, out); err != nil {
		return nil, err
	}
	return out, tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSettingSaved,
		Detail: store.Detail(map[string]any{"calendar": out.ID, "name": name, "weekdays": out.Weekdays,
			"closed": out.Closed})})
}

// SetCalendar changes the days of the default working calendar.
func (e *Engine) SetCalendar(ctx context.Context, weekdays, closed []string, actor string) (calendar.Calendar, error) {
	c, err := e.Store.Calendar(ctx, store.DefaultCalendar)
	if err != nil {
		return calendar.Calendar{}, err
	}
	out, err := e.SaveCalendar(ctx, c.ID, c.Name, weekdays, closed, actor)
	if err != nil {
		return calendar.Calendar{}, err
	}
	return out.Core()
}

// DeleteCalendar takes away a working calendar that no sheet has.
func (e *Engine) DeleteCalendar(ctx context.Context, id, actor string) error {
	if id == store.DefaultCalendar {
		return refuse("the default working calendar stays; change its days instead")
	}
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		c, err := tx.Calendar(ctx, id)
		if err != nil {
			return err
		}
		sheets, err := tx.SheetsOfCalendar(ctx, id)
		if err != nil {
			return err
		}
		if len(sheets) > 0 {
			return refuse("%s counts by this working calendar; change the address one first", sheets[0].Name)
		}
		if err := tx.DropCalendar(ctx, id); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"calendar": id, "deleted": c.Name})})
	})
}

// ownCalendar gives the id of a working calendar with a bundle's days: one that
// is there, or a new one named after the sheet.
func (e *Engine) ownCalendar(ctx context.Context, sheetName string, core calendar.Calendar,
	actor string) (id string, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		all, err := tx.Calendars(ctx)
		if err != nil {
			return err
		}
		names := map[string]bool{}
		for i := range all {
			c, err := all[i].Core()
			if err != nil {
				return err
			}
			if reflect.DeepEqual(c, core) {
				id = all[i].ID
				return nil
			}
			names[value.Fold(all[i].Name)] = true
		}
		name := "Calendar of " + sheetName
		if r := []rune(name); len(r) > 100 {
			name = string(r[:100])
		}
		free := name
		for n := 2; names[value.Fold(free)]; n++ {
			free = fmt.Sprintf("%s (%d)", name, n)
		}
		c, err := e.putCalendar(ctx, tx, "", free, core, actor)
		if err == nil {
			id = c.ID
		}
		return err
	})
	return id, err
}

// setCalendar gives a sheet another working calendar, and has its agenda
// computed anew.
func (e *Engine) setCalendar(ctx context.Context, tx *store.Store, rec *store.Sheet, id string) error {
	if _, err := tx.Calendar(ctx, id); errors.Is(err, store.ErrNotFound) {
		return &Refusal{Field: "/calendar", Message: "this working calendar is not there"}
	} else if err != nil {
		return err
	}
	rec.CalendarID = id
	return e.rearmSheet(ctx, tx, rec.ID)
}
