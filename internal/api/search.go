package api

import (
	"context"
	"strings"

	"golang.org/x/sync/errgroup"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// Search implements StrictServerInterface.
func (s *Server) Search(ctx context.Context, r SearchRequestObject) (SearchResponseObject, error) {
	q := ""
	if r.Params.Q != nil {
		q = value.Fold(*r.Params.Q)
	}
	if q == "" {
		return Search200JSONResponse{}, nil
	}
	// Each looks through tables of its own, so that the person waits for the slowest alone.
	var things []Found
	var about, to store.Page
	g, ctx2 := errgroup.WithContext(ctx)
	g.Go(func() (err error) { things, err = s.findThings(ctx2, q); return err })
	g.Go(func() (err error) {
		about, err = s.st.Log(ctx2, store.LogFilter{Text: q}, "", maxFoundEmails)
		return err
	})
	g.Go(func() (err error) { to, err = s.st.Log(ctx2, store.LogFilter{To: q}, "", maxFoundEmails); return err })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	lines, err := s.logLines(ctx, append(about.Lines, to.Lines...))
	out, seen := append(Search200JSONResponse{}, things...), map[string]bool{}
	for _, l := range lines {
		if !seen[l.Id] {
			seen[l.Id] = true
			out = append(out, Found{Kind: FoundKindEmail, Title: l.Subject, Path: "/log?email=" + l.Id,
				Detail: l.To + ", " + l.At.In(s.Zone).Format("2 Jan 15:04") + ", " + l.Outcome})
		}
	}
	return out, err
}

// findThings finds sheets, their rules, templates and rows, sheet by sheet.
func (s *Server) findThings(ctx context.Context, q string) (out []Found, err error) {
	add := func(kind FoundKind, title, detail, path string) {
		out = append(out, Found{Kind: kind, Title: title, Detail: detail, Path: path})
	}
	has := func(text string) bool { return strings.Contains(value.Fold(text), q) }
	sheets, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	rules, err := s.st.Rules(ctx, "")
	if err != nil {
		return nil, err
	}
	tpls, err := s.st.Templates(ctx, "")
	if err != nil {
		return nil, err
	}
	for i := range sheets {
		sh := &sheets[i]
		if has(sh.Name) {
			add(FoundKindSheet, sh.Name, "sheet", "/sheets/"+sh.ID)
		}
		for _, x := range rules {
			if x.SheetID == sh.ID && has(x.Name) {
				add(FoundKindRule, x.Letter+" "+x.Name, "rule of "+sh.Name, "/sheets/"+sh.ID+"/rules/"+x.ID)
			}
		}
		for _, x := range tpls {
			if x.SheetID == sh.ID && has(x.Name) {
				add(FoundKindTemplate, x.Name, "template of "+sh.Name, "/templates/"+sh.ID+"/"+x.ID)
			}
		}
		if err := s.searchRows(ctx, sh, q, add); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// How many rows of a sheet, and emails by their subject and by their recipient, a search shows.
const (
	maxFoundRows   = 6
	maxFoundEmails = 8
)

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
