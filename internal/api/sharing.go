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

// ListViews implements StrictServerInterface.
func (s *Server) ListViews(ctx context.Context, r ListViewsRequestObject) (ListViewsResponseObject, error) {
	vs, err := s.st.Views(ctx, r.Sheet, person(ctx).ID, s.e.RestorableSince())
	if err != nil {
		return nil, err
	}
	names, err := s.st.PeopleNames(ctx)
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
	names, err := s.st.PeopleNames(ctx)
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
	names, err := s.st.PeopleNames(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.toView(ctx, v, names)
	return RestoreView200JSONResponse(out), err
}
