package api

import (
	"context"
	"encoding/json"
	"strings"

	"nivot/internal/engine"
	"nivot/internal/store"
)

func (s *Server) toView(ctx context.Context, v *store.View, names map[string]string) (View, error) {
	out := View{Id: v.ID, Name: v.Name, Shared: v.Shared, Mine: v.PersonID == person(ctx).ID, By: names[v.PersonID],
		DeletedAt: v.DeletedAt}
	return out, json.Unmarshal([]byte(v.Spec), &out.Spec)
}

func (s *Server) peopleNames(ctx context.Context) (map[string]string, error) {
	people, err := s.st.People(ctx)
	out := map[string]string{}
	for _, p := range people {
		out[p.ID] = p.Name
	}
	return out, err
}

// ListViews implements StrictServerInterface.
func (s *Server) ListViews(ctx context.Context, r ListViewsRequestObject) (ListViewsResponseObject, error) {
	vs, err := s.st.Views(ctx, r.Sheet, person(ctx).ID, s.e.RestorableSince())
	if err != nil {
		return nil, err
	}
	names, err := s.peopleNames(ctx)
	if err != nil {
		return nil, err
	}
	out := ListViews200JSONResponse{}
	for i := range vs {
		if vs[i].DeletedAt != nil && vs[i].PersonID != person(ctx).ID && !person(ctx).Role.May(store.Coordinator) {
			continue // it is for others to restore
		}
		v, err := s.toView(ctx, &vs[i], names)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// keepView checks a view and writes it.
func (s *Server) keepView(ctx context.Context, v *store.View, b *ViewSave) (View, error) {
	if b.Shared && !person(ctx).Role.May(store.Editor) {
		return View{}, problem(403, "A reader saves views for themselves; an editor may share one.")
	}
	if _, err := s.e.View(ctx, v.SheetID, b.Spec); err != nil {
		return View{}, err
	}
	spec, err := json.Marshal(b.Spec)
	if err != nil {
		return View{}, err
	}
	if v.Name = strings.TrimSpace(b.Name); v.Name == "" {
		return View{}, &engine.Refusal{Field: "/name", Message: "a view needs a name"}
	}
	v.Shared, v.Spec = b.Shared, string(spec)
	if err := s.st.SaveView(ctx, v); err != nil {
		return View{}, err
	}
	names, err := s.peopleNames(ctx)
	if err != nil {
		return View{}, err
	}
	return s.toView(ctx, v, names)
}

// AddView implements StrictServerInterface.
func (s *Server) AddView(ctx context.Context, r AddViewRequestObject) (AddViewResponseObject, error) {
	v := &store.View{ID: store.NewID(), SheetID: r.Sheet, PersonID: person(ctx).ID, CreatedAt: s.e.Now()}
	out, err := s.keepView(ctx, v, r.Body)
	return AddView201JSONResponse(out), err
}

// ownView finds a view that the person may change: their own, and for a
// coordinator a shared one.
func (s *Server) ownView(ctx context.Context, sheetID, id string) (*store.View, error) {
	v, err := s.st.View(ctx, id)
	if err != nil {
		return nil, err
	}
	mine := v.PersonID == person(ctx).ID
	if v.SheetID != sheetID || !mine && !v.Shared {
		return nil, store.ErrNotFound
	}
	if !mine && !person(ctx).Role.May(store.Coordinator) {
		return nil, problem(403, "Somebody else has this view.")
	}
	return v, nil
}

// SaveView implements StrictServerInterface.
func (s *Server) SaveView(ctx context.Context, r SaveViewRequestObject) (SaveViewResponseObject, error) {
	v, err := s.ownView(ctx, r.Sheet, r.View)
	if err == nil && v.DeletedAt != nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	out, err := s.keepView(ctx, v, r.Body)
	return SaveView200JSONResponse(out), err
}

// DeleteView implements StrictServerInterface.
func (s *Server) DeleteView(ctx context.Context, r DeleteViewRequestObject) (DeleteViewResponseObject, error) {
	v, err := s.ownView(ctx, r.Sheet, r.View)
	if err != nil {
		return nil, err
	}
	now := s.e.Now()
	v.DeletedAt = &now
	return DeleteView204Response{}, s.st.SaveView(ctx, v)
}

// RestoreView implements StrictServerInterface.
func (s *Server) RestoreView(ctx context.Context, r RestoreViewRequestObject) (RestoreViewResponseObject, error) {
	v, err := s.ownView(ctx, r.Sheet, r.View)
	if err == nil && !s.e.Restorable(v.DeletedAt) {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	v.DeletedAt = nil
	if err := s.st.SaveView(ctx, v); err != nil {
		return nil, err
	}
	names, err := s.peopleNames(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.toView(ctx, v, names)
	return RestoreView200JSONResponse(out), err
}

// BePresent implements StrictServerInterface.
func (s *Server) BePresent(ctx context.Context, r BePresentRequestObject) (BePresentResponseObject, error) {
	p := store.Presence{Page: r.Body.Page, SheetID: r.Sheet, PersonID: person(ctx).ID}
	if r.Body.Row != nil && *r.Body.Row != "" {
		id, err := parseID(*r.Body.Row)
		if err != nil {
			return nil, err
		}
		p.RowID = id
	}
	if r.Body.Thing != nil {
		p.Thing = *r.Body.Thing
	}
	if is(r.Body.Leaves) {
		return BePresent200JSONResponse{}, s.st.DropPresence(ctx, p.Page)
	}
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	if r.Body.Column != nil {
		if c, ok := core.Column(*r.Body.Column); ok {
			p.ColumnID = c.ID
		}
	}
	if err := s.st.BePresent(ctx, p); err != nil {
		return nil, err
	}
	there, err := s.st.Present(ctx, r.Sheet, p.Thing, p.Page)
	if err != nil {
		return nil, err
	}
	names, err := s.peopleNames(ctx)
	if err != nil {
		return nil, err
	}
	out := BePresent200JSONResponse{}
	for _, x := range there {
		c := Colleague{Name: names[x.PersonID], Initials: initials(names[x.PersonID])}
		if x.RowID != 0 {
			id := store.RowID(x.RowID)
			c.Row = &id
		}
		if x.ColumnID != "" {
			c.Column = &x.ColumnID
		}
		out = append(out, c)
	}
	return out, nil
}

// initials gives the first letters of a name's first and last word.
func initials(name string) string {
	words := strings.Fields(name)
	if len(words) == 0 {
		return "?"
	}
	first := []rune(words[0])[:1]
	if len(words) > 1 {
		first = append(first, []rune(words[len(words)-1])[0])
	}
	return strings.ToUpper(string(first))
}
