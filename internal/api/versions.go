package api

import (
	"context"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
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
	out := FitTemplate200JSONResponse{}
	out.Columns = fitColumns(t, from, to, fit)
	err = t.Rename(func(id string) (string, error) {
		if other := fit[id]; other != "" {
			return other, nil
		}
		name := id
		if c, ok := from.Column(id); ok {
			name = c.Name
		}
		return template.Elsewhere + name, nil // ids are a sheet's own
	}, func(column, option string) (string, error) { return optionIn(from, to, fit, column, option), nil })
	if err != nil {
		return nil, err
	}
	t.ID, t.Written = "", 0
	if strings.HasPrefix(t.Language, template.Elsewhere) {
		t.Language = ""
	}
	for i := range t.Variants {
		t.Variants[i].Of = 0
	}
	out.Template = *t
	return out, nil
}

// fitColumns lists the columns that a template names with what stands for each, "" being said to
// be none; what nobody has said meets by name, where the types agree.
func fitColumns(t *template.Template, from, to *sheet.Sheet, fit map[string]string) (out []struct {
	Id   string `json:"id"`
	Name string `json:"name"`
	To   string `json:"to"`
	Type string `json:"type"`
}) {
	seen := map[string]bool{"": true}
	for _, id := range t.Columns() {
		c, ok := from.Column(id)
		if seen[id] || !ok {
			continue
		}
		seen[id] = true
		other, said := fit[id]
		if _, ok := to.Column(other); !ok && !(said && other == "") {
			delete(fit, id)
			if same, ok := to.ColumnNamed(c.Name); ok && same.ValueType() == c.ValueType() {
				fit[id] = same.ID
			}
		}
		out = append(out, struct {
			Id   string `json:"id"`
			Name string `json:"name"`
			To   string `json:"to"`
			Type string `json:"type"`
		}{id, c.Name, fit[id], string(c.ValueType())})
	}
	return out
}

// optionIn finds the option of the other sheet's column that is called as one of this sheet's.
func optionIn(from, to *sheet.Sheet, fit map[string]string, column, option string) string {
	for id, other := range fit {
		if id != column && other != column {
			continue
		}
		a, _ := from.Column(id)
		b, _ := to.Column(other)
		if a == nil || b == nil {
			continue
		}
		for _, o := range a.Options {
			for _, p := range b.Options {
				if o.ID == option && value.Fold(o.Name) == value.Fold(p.Name) {
					return p.ID
				}
			}
		}
	}
	return option
}
