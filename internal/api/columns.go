package api

import (
	"context"
	"strings"

	"nivot/internal/core/formula"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
)

func toColumns(b *ColumnsEdit) engine.ColumnsChange {
	out := engine.ColumnsChange{Pausing: is(b.Pausing)}
	if b.Seen != nil {
		out.Seen = *b.Seen
	}
	for i := range b.Columns {
		out.Columns = append(out.Columns, fromColumnEdit(&b.Columns[i]))
	}
	return out
}

func fromColumnEdit(c *ColumnEdit) sheet.Column {
	col := sheet.Column{Name: c.Name, Type: value.Type(c.Type), Hidden: is(c.Hidden), Locked: is(c.Locked)}
	if c.Id != nil {
		col.ID = *c.Id
	}
	if c.Order != nil && (col.Type == value.Date || col.Type == value.Moment) {
		col.Order = value.Order(*c.Order)
	}
	if c.Options != nil && col.Type == value.Choice {
		for _, o := range *c.Options {
			opt := value.Option{Name: o.Name}
			if o.Id != nil {
				opt.ID = *o.Id
			}
			col.Options = append(col.Options, opt)
		}
	}
	if c.Format != nil && (col.Type == value.Number || col.Type == value.Formula) {
		col.Format = *c.Format
	}
	if c.Formula != nil && col.Type == value.Formula {
		col.Formula = strings.TrimSpace(*c.Formula)
	}
	if c.Group != nil {
		col.Group = *c.Group
	}
	if c.Width != nil {
		col.Width = *c.Width
	}
	if c.Written != nil {
		col.Written = value.DateStyle(*c.Written)
	}
	return col
}

func is(b *bool) bool { return b != nil && *b }

// SaveColumns implements StrictServerInterface. Where all rows of a large sheet
// have to be gone through, it goes on as a job.
func (s *Server) SaveColumns(ctx context.Context, r SaveColumnsRequestObject) (SaveColumnsResponseObject, error) {
	c, who := toColumns(r.Body), person(ctx).Name
	rows, err := s.e.View(ctx, r.Sheet, engine.ViewSpec{})
	if err != nil {
		return nil, err
	}
	if len(rows) > atOnce {
		j, err := s.e.Start(ctx, r.Sheet, "columns", who, len(rows),
			func(ctx context.Context, p engine.Progress) (any, error) {
				_, err := s.e.ChangeColumns(ctx, r.Sheet, c, p, who)
				return nil, err
			}, nil)
		if err != nil {
			return nil, err
		}
		job := toJob(j, s.Wall())
		return SaveColumns200JSONResponse{Job: &job}, nil
	}
	rec, err := s.e.ChangeColumns(ctx, r.Sheet, c, nil, who)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return SaveColumns200JSONResponse{Sheet: &out}, err
}

// ColumnsEffect implements StrictServerInterface.
func (s *Server) ColumnsEffect(ctx context.Context,
	r ColumnsEffectRequestObject) (ColumnsEffectResponseObject, error) {
	effects, err := s.e.ColumnsEffect(ctx, r.Sheet, toColumns(r.Body))
	if err != nil {
		return nil, err
	}
	out := ColumnsEffect200JSONResponse{}
	for _, e := range effects {
		x := ColumnEffect{Column: e.Column, Type: ColumnType(e.Type), Filled: e.Filled, Lost: e.Lost, Gained: e.Gained,
			Results: e.Results}
		if x.Results == nil {
			x.Results = []string{}
		}
		x.Misfits = make([]struct {
			Row  string `json:"row"`
			Text string `json:"text"`
		}, len(e.Misfits))
		for i, m := range e.Misfits {
			x.Misfits[i].Row, x.Misfits[i].Text = m.Row, m.Text
		}
		out = append(out, x)
	}
	return out, nil
}

// ColumnsConsequences implements StrictServerInterface.
func (s *Server) ColumnsConsequences(ctx context.Context,
	r ColumnsConsequencesRequestObject) (ColumnsConsequencesResponseObject, error) {
	c, err := s.e.ColumnsConsequences(ctx, r.Sheet, toColumns(r.Body), turnBudget)
	if err != nil {
		return nil, err
	}
	return ColumnsConsequences200JSONResponse(toConsequences(c)), nil
}

// RestoreColumn implements StrictServerInterface.
func (s *Server) RestoreColumn(ctx context.Context,
	r RestoreColumnRequestObject) (RestoreColumnResponseObject, error) {
	rec, err := s.e.RestoreColumn(ctx, r.Sheet, r.Column, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return RestoreColumn200JSONResponse(out), err
}

// ListFunctions implements StrictServerInterface.
func (s *Server) ListFunctions(context.Context, ListFunctionsRequestObject) (ListFunctionsResponseObject, error) {
	out := ListFunctions200JSONResponse{}
	for _, f := range formula.Functions() {
		out = append(out, struct {
			Name  string `json:"name"`
			Usage string `json:"usage"`
			What  string `json:"what"`
		}{f.Name, f.Usage, f.What})
	}
	return out, nil
}
