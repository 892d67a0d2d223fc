package api

import (
	"context"

	"nivot/internal/store"
)

func toVersion(v *store.TemplateVersion) TemplateVersion {
	return TemplateVersion{Version: int(v.Version), At: v.SavedAt, By: v.SavedBy}
}

// ListVersions implements StrictServerInterface.
func (s *Server) ListVersions(ctx context.Context, r ListVersionsRequestObject) (ListVersionsResponseObject, error) {
	if _, err := s.templateOf(ctx, r.Sheet, r.Template); err != nil {
		return nil, err
	}
	list, err := s.st.TemplateVersions(ctx, r.Template)
	if err != nil {
		return nil, err
	}
	out := ListVersions200JSONResponse{}
	for i := range list {
		out = append(out, toVersion(&list[i]))
	}
	return out, nil
}

// GetVersion implements StrictServerInterface.
func (s *Server) GetVersion(ctx context.Context, r GetVersionRequestObject) (GetVersionResponseObject, error) {
	if _, err := s.templateOf(ctx, r.Sheet, r.Template); err != nil {
		return nil, err
	}
	v, err := s.st.TemplateVersion(ctx, r.Template, int64(r.Version))
	if err != nil {
		return nil, err
	}
	core, err := v.Core()
	if err != nil {
		return nil, err
	}
	core.ID = ""
	out := toVersion(v)
	out.Content = core
	return GetVersion200JSONResponse(out), nil
}

// FitTemplate implements StrictServerInterface. Which column stands for which is remembered
// for the two sheets, so that the next template asks nothing that has been answered.
func (s *Server) FitTemplate(ctx context.Context, r FitTemplateRequestObject) (FitTemplateResponseObject, error) {
	rec, err := s.templateOf(ctx, r.Sheet, r.Template)
	if err != nil {
		return nil, err
	}
	t, err := rec.Core()
	if err != nil {
		return nil, err
	}
	from, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	to, err := s.coreSheet(ctx, r.Body.Sheet)
	if err != nil {
		return nil, err
	}
	name := store.SettingColumnsFit + ":" + r.Sheet + ":" + r.Body.Sheet
	fit := map[string]string{}
	if _, err := s.st.Setting(ctx, name, &fit); err != nil {
		return nil, err
	}
	if r.Body.Columns != nil {
		for id, other := range *r.Body.Columns {
			fit[id] = other
		}
		if err := s.st.SetSetting(ctx, name, fit); err != nil {
			return nil, err
		}
	}
	list, err := t.Fit(from, to, fit)
	if err != nil {
		return nil, err
	}
	out := FitTemplate200JSONResponse{Template: *t}
	for _, f := range list {
		out.Columns = append(out.Columns, struct {
			Id   string `json:"id"`
			Name string `json:"name"`
			To   string `json:"to"`
			Type string `json:"type"`
		}{f.Column.ID, f.Column.Name, f.To, string(f.Column.ValueType())})
	}
	return out, nil
}
