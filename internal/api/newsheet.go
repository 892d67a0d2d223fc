package api

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// newSheetSpec reads what a person chose: a NewSheet, or of an import into a
// sheet its columns alone.
func newSheetSpec(f *form) (*NewSheet, *value.Locale, error) {
	var spec NewSheet
	if err := json.Unmarshal([]byte(f.values["spec"]), &spec); err != nil {
		return nil, nil, &engine.Refusal{Field: "/spec", Message: "the choices cannot be read: " + err.Error()}
	}
	l, err := formLocale(spec.Locale)
	return &spec, l, err
}

// MakeSheet implements StrictServerInterface.
func (s *Server) MakeSheet(ctx context.Context, r MakeSheetRequestObject) (MakeSheetResponseObject, error) {
	f, err := readForm(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	spec, l, err := newSheetSpec(f)
	if err != nil {
		return nil, err
	}
	if _, err := time.LoadLocation(spec.Zone); err != nil || spec.Zone == "" {
		return nil, &engine.Refusal{Field: "/zone",
			Message: fmt.Sprintf("zone %q is not known; use a name like Europe/London", spec.Zone)}
	}
	t := &exchange.Table{}
	if f.file != nil {
		if t, err = s.table(f, l); err != nil {
			return nil, err
		}
		if len(spec.Columns) != len(t.Heading) {
			return nil, errOtherColumns
		}
	}
	cols, at, err := chosenColumns(spec, t)
	if err != nil {
		return nil, err
	}
	for field, i := range map[string]int{"/key": spec.Key, "/address": spec.Address} {
		if i >= len(spec.Columns) {
			return nil,
				&engine.Refusal{Field: field, Message: fmt.Sprintf("there is no column %d; columns count from 0, and -1 is none",
					i)}
		}
	}
	rec := &store.Sheet{Name: value.Trim(spec.Name), Zone: spec.Zone, Locale: l.Tag, SettleSeconds: 120}
	if spec.SettleSeconds != nil {
		rec.SettleSeconds = *spec.SettleSeconds
	}
	who := author(ctx)
	if err := s.e.CreateSheet(ctx, rec, cols, at(spec.Key), at(spec.Address), who.Name); err != nil {
		return nil, err
	}
	var job *Job
	var done *ImportResult
	if f.file != nil {
		in := engine.Incoming{Columns: make([]string, len(t.Heading)), Rows: t.Rows, Blank: t.Blank}
		for i, heading := range t.Heading {
			if k := at(i); k >= 0 {
				in.Columns[i] = cols[k].ID
			} else {
				in.Skipped = append(in.Skipped, heading)
			}
		}
		job, done, err = s.bringIn(ctx, rec.ID, in, engine.ImportOptions{Quiet: true, About: map[string]any{"file": f.name}},
			who, func(ctx context.Context) {
				// A sheet without the rows it was made for is worse than none.
				_ = s.e.DeleteSheet(ctx, rec.ID, who.Name)
			})
		if err != nil {
			return nil, err
		}
	}
	if rec, err = s.st.Sheet(ctx, rec.ID); err != nil {
		return nil, err
	}
	out := MakeSheet201JSONResponse{Job: job, Import: done}
	out.Sheet, err = s.toSheet(ctx, rec)
	return out, err
}

// bringIn does an import: at once where it is small, and gives what it came to;
// else as a job. failed is called where it changed nothing.
func (s *Server) bringIn(ctx context.Context, sheetID string, in engine.Incoming, o engine.ImportOptions,
	who engine.Author, failed func(context.Context)) (*Job, *ImportResult, error) {
	if len(in.Rows) <= atOnce {
		res, err := s.e.Import(ctx, sheetID, in, o, who)
		if err != nil {
			failed(context.WithoutCancel(ctx))
			return nil, nil, err
		}
		out := toImportResult(&res)
		return nil, &out, nil
	}
	job, err := s.startImport(ctx, sheetID, in, o, who, failed)
	return &job, nil, err
}
