package api

import (
	"context"
	"strings"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Search implements StrictServerInterface.
func (s *Server) Search(ctx context.Context, r SearchRequestObject) (SearchResponseObject, error) {
	out := Search200JSONResponse{}
	q := ""
	if r.Params.Q != nil {
		q = value.Fold(*r.Params.Q)
	}
	if q == "" {
		return out, nil
	}
	add := func(kind FoundKind, title, detail, path string) {
		out = append(out, Found{Kind: kind, Title: title, Detail: detail, Path: path})
	}
	has := func(text string) bool { return strings.Contains(value.Fold(text), q) }
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	for i := range sheets {
		sh := &sheets[i]
		if has(sh.Name) {
			add(FoundKindSheet, sh.Name, "sheet", "/sheets/"+sh.ID)
		}
		rules, err := s.st.Rules(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for _, x := range rules {
			if has(x.Name) {
				add(FoundKindRule, x.Letter+" "+x.Name, "rule of "+sh.Name, "/sheets/"+sh.ID+"/rules/"+x.ID)
			}
		}
		tpls, err := s.st.Templates(ctx, sh.ID)
		if err != nil {
			return nil, err
		}
		for _, x := range tpls {
			if has(x.Name) {
				add(FoundKindTemplate, x.Name, "template of "+sh.Name, "/templates/"+sh.ID+"/"+x.ID)
			}
		}
		if err := s.searchRows(ctx, sh, q, add); err != nil {
			return nil, err
		}
	}
	about, err := s.st.Log(ctx, store.LogFilter{Text: q}, "", 8)
	if err != nil {
		return nil, err
	}
	to, err := s.st.Log(ctx, store.LogFilter{To: q}, "", 8)
	if err != nil {
		return nil, err
	}
	lines, err := s.logLines(ctx, append(about.Lines, to.Lines...))
	seen := map[string]bool{}
	for _, l := range lines {
		if !seen[l.Id] {
			seen[l.Id] = true
			add(FoundKindEmail, l.Subject, l.To+", "+l.At.In(s.Zone).Format("2 Jan 15:04")+", "+l.Outcome, "/log?email="+l.Id)
		}
	}
	return out, err
}

// maxFoundRows is how many rows of a sheet a search shows.
const maxFoundRows = 6

func (s *Server) searchRows(ctx context.Context, rec *store.Sheet, q string, add func(FoundKind, string, string,
	string)) error {
	core, err := rec.Core()
	if err != nil {
		return err
	}
	ids, err := s.e.Find(ctx, rec.ID, q)
	if err != nil {
		return err
	}
	rows, err := s.st.RowsByID(ctx, rec.ID, ids[:min(len(ids), maxFoundRows)])
	if err != nil {
		return err
	}
	for i := range rows {
		row, err := rows[i].Core(core)
		if err != nil {
			return err
		}
		add(FoundKindRow, core.RowName(row), rec.Name, "/sheets/"+rec.ID+"?row="+row.ID)
	}
	return nil
}
