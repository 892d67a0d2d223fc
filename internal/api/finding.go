package api

import (
	"context"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// SummariseRows implements StrictServerInterface.
func (s *Server) SummariseRows(ctx context.Context,
	r SummariseRowsRequestObject) (SummariseRowsResponseObject, error) {
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
