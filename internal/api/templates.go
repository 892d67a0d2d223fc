package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

func (s *Server) toTemplate(ctx context.Context, rec *store.Template) (Template, error) {
	core, err := rec.Core()
	if err != nil {
		return Template{}, err
	}
	sh, err := s.st.Sheet(ctx, rec.SheetID)
	if err != nil {
		return Template{}, err
	}
	cs, err := sh.Core()
	if err != nil {
		return Template{}, err
	}
	rules, err := s.st.Rules(ctx, rec.SheetID)
	if err != nil {
		return Template{}, err
	}
	core.ID = ""
	out := Template{Id: rec.ID, Sheet: rec.SheetID, SheetName: sh.Name, Name: rec.Name, Version: int(rec.Version),
		Content: *core, UsedBy: []TemplateUse{}, Older: core.Older()}
	for i := range rules {
		r, err := rules[i].Core()
		if err != nil {
			return Template{}, err
		}
		for _, id := range r.Templates() {
			if id == rec.ID {
				out.UsedBy = append(out.UsedBy, TemplateUse{Rule: rules[i].ID, Letter: rules[i].Letter, Name: rules[i].Name})
			}
		}
	}
	if len(core.Subject.Content) > 0 {
		out.Line = template.FormatInline(core.Subject.Content[0].Content, func(id string) string {
			if c, ok := cs.Column(id); ok {
				return c.Name
			}
			return "a column that is not there any more"
		})
	}
	return out, nil
}

// ListTemplates implements StrictServerInterface.
func (s *Server) ListTemplates(ctx context.Context,
	_ ListTemplatesRequestObject) (ListTemplatesResponseObject, error) {
	recs, err := s.st.Templates(ctx, "")
	if err != nil {
		return nil, err
	}
	out := ListTemplates200JSONResponse{}
	for i := range recs {
		x, err := s.toTemplate(ctx, &recs[i])
		if errors.Is(err, store.ErrNotFound) {
			continue // its sheet has been taken away
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

func (s *Server) templateOf(ctx context.Context, sheetID, id string) (*store.Template, error) {
	rec, err := s.st.Template(ctx, id)
	if err == nil && rec.SheetID != sheetID {
		err = store.ErrNotFound
	}
	return rec, err
}

// GetTemplate implements StrictServerInterface.
func (s *Server) GetTemplate(ctx context.Context, r GetTemplateRequestObject) (GetTemplateResponseObject, error) {
	rec, err := s.templateOf(ctx, r.Sheet, r.Template)
	if err != nil {
		return nil, err
	}
	out, err := s.toTemplate(ctx, rec)
	return GetTemplate200JSONResponse(out), err
}

// letter makes a template, perhaps one that is being written, ready for a sheet: with what it
// rests on.
func (s *Server) letter(ctx context.Context, sheetID string, core *sheet.Sheet,
	b *template.Template) (*template.Template, error) {
	rec, err := s.st.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	rests, err := engine.RestsOn(ctx, s.st, rec)
	if err != nil {
		return nil, err
	}
	t := *b
	t.Use(rests)
	if t.Name == "" {
		t.Name = "unnamed"
	}
	if err := t.ValidateDraft(core); err != nil {
		return nil, &engine.Refusal{Field: template.PointerOf(err), Message: err.Error()}
	}
	return &t, nil
}

// AddTemplate implements StrictServerInterface.
func (s *Server) AddTemplate(ctx context.Context, r AddTemplateRequestObject) (AddTemplateResponseObject, error) {
	rec, err := s.e.SaveTemplate(ctx, r.Sheet, "", &r.Body.Template, 0, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toTemplate(ctx, rec)
	return AddTemplate201JSONResponse(out), err
}

// SaveTemplate implements StrictServerInterface.
func (s *Server) SaveTemplate(ctx context.Context, r SaveTemplateRequestObject) (SaveTemplateResponseObject, error) {
	if _, err := s.templateOf(ctx, r.Sheet, r.Template); err != nil {
		return nil, err
	}
	version := int64(0)
	if r.Body.Version != nil {
		version = int64(*r.Body.Version)
	}
	rec, err := s.e.SaveTemplate(ctx, r.Sheet, r.Template, &r.Body.Template, version, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toTemplate(ctx, rec)
	return SaveTemplate200JSONResponse(out), err
}

// TemplateConsequences implements StrictServerInterface.
func (s *Server) TemplateConsequences(ctx context.Context,
	r TemplateConsequencesRequestObject) (TemplateConsequencesResponseObject, error) {
	list, err := s.e.TemplateConsequences(ctx, r.Sheet, r.Template, r.Body, turnBudget)
	if err != nil {
		return nil, err
	}
	out := TemplateConsequences200JSONResponse{}
	for _, c := range list {
		out = append(out, LetterConsequence{Rule: c.ID, Letter: c.Letter, Name: c.Name, Emails: c.Emails,
			Incomplete: c.Incomplete, Before: c.Before, Partial: c.Partial})
	}
	return out, nil
}

// RestoreTemplate implements StrictServerInterface.
func (s *Server) RestoreTemplate(ctx context.Context,
	r RestoreTemplateRequestObject) (RestoreTemplateResponseObject, error) {
	rec, err := s.e.RestoreTemplate(ctx, r.Sheet, r.Template, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toTemplate(ctx, rec)
	return RestoreTemplate200JSONResponse(out), err
}

// DeleteTemplate implements StrictServerInterface.
func (s *Server) DeleteTemplate(ctx context.Context,
	r DeleteTemplateRequestObject) (DeleteTemplateResponseObject, error) {
	return DeleteTemplate204Response{}, s.e.DeleteTemplate(ctx, r.Sheet, r.Template, person(ctx).Name)
}

// keyOf names a field or a condition by what it says, so that the editor can find what it
// comes to: its JSON with members in the order of their names.
func keyOf(x any) string {
	b, err := json.Marshal(x)
	if err != nil {
		return ""
	}
	var members map[string]any
	if err := json.Unmarshal(b, &members); err != nil {
		return ""
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	_ = e.Encode(members)
	return strings.TrimSuffix(out.String(), "\n")
}

// PreviewTemplate implements StrictServerInterface.
func (s *Server) PreviewTemplate(ctx context.Context,
	r PreviewTemplateRequestObject) (PreviewTemplateResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	t, err := s.letter(ctx, r.Sheet, core, &r.Body.Template)
	if err != nil {
		return nil, err
	}
	computed, err := s.e.Computed(ctx, core)
	if err != nil {
		return nil, err
	}
	only, err := s.leafing(ctx, r.Sheet, r.Body)
	if err != nil {
		return nil, err
	}
	ids, err := s.e.Leaf(ctx, r.Sheet, t, only)
	if err != nil {
		return nil, err
	}
	out := PreviewTemplate200JSONResponse{Total: len(ids), Values: map[string]string{}, Missing: []string{},
		Attachments: []Carried{}}
	out.Parts = map[string]struct {
		Shown bool   `json:"shown"`
		Words string `json:"words"`
	}{}
	if len(ids) == 0 {
		out.RightToLeft = t.RightToLeft(core, r.Body.Variant)
		return out, nil
	}
	out.Index = leafed(ids, r.Body.Index, r.Body.Row)
	rec, err := s.st.Row(ctx, ids[out.Index])
	if err != nil {
		return nil, err
	}
	row, err := rec.Core(core)
	if err != nil {
		return nil, err
	}
	c := template.Context{Sheet: core, Row: computed(row), Today: value.DayAt(s.e.Now().In(core.Zone)),
		Pointing: is(r.Body.Pointing)}
	if r.Body.Variant != nil {
		c.Variant = *r.Body.Variant + 1
	}
	if err := s.showLetter(&out, t, c); err != nil {
		return nil, err
	}
	c.Pointing = false
	sent := t.Render(c)
	most, err := s.e.MostBytes(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	if over := engine.OverServer(&sent, most); over != "" {
		out.TooLarge = &over
	}
	if !is(r.Body.Source) {
		return out, nil
	}
	if err := s.e.ShowMade(&sent); err != nil {
		return nil, err
	}
	source, err := s.source(ctx, r.Sheet, core, c.Row, &sent)
	out.Source = &source
	return out, err
}

// leafed gives which of some rows is looked at: by its number, or by the row.
func leafed(ids []int64, index *int, row *string) (at int) {
	if index != nil {
		at = min(*index, len(ids)-1)
	}
	if row != nil {
		for i, id := range ids {
			if store.RowID(id) == *row {
				at = i
			}
		}
	}
	return at
}

// showLetter puts a row's letter into a preview, and what it is made of.
func (s *Server) showLetter(out *PreviewTemplate200JSONResponse, t *template.Template, c template.Context) error {
	rendered := t.Render(c)
	if err := s.e.ShowMade(&rendered); err != nil {
		return err
	}
	out.Row, out.RowId, out.Subject, out.Html, out.Text = c.Sheet.RowName(c.Row), c.Row.ID, rendered.Subject,
		template.ForOthers(rendered.HTML), template.ForOthers(rendered.Text)
	for f, text := range t.Values(c) {
		out.Values[keyOf(f)] = text
	}
	conditions, shown := t.Parts(c)
	for i, x := range conditions {
		part := out.Parts[keyOf(x)]
		part.Words, part.Shown = x.Words(c.Sheet), shown[i]
		out.Parts[keyOf(x)] = part
	}
	out.Variant, out.RightToLeft = rendered.Variant-1, rendered.RightToLeft
	if col, ok := c.Sheet.Column(t.Language); ok && rendered.Unmet {
		have := c.Sheet.Show(col, c.Row.Cell(col))
		out.Unmet = &have
	}
	for _, a := range rendered.Attachments {
		out.Attachments = append(out.Attachments, Carried{Name: a.Name, Type: a.Type, Size: a.Size, File: a.File})
	}
	for _, id := range rendered.Missing {
		if col, ok := c.Sheet.Column(id); ok {
			out.Missing = append(out.Missing, col.Name)
		}
	}
	return nil
}

// source gives the message that a row's letter would be, as far as the template says it: to
// the sheet's address column, from its sender.
func (s *Server) source(ctx context.Context, sheetID string, core *sheet.Sheet, row *sheet.Row,
	r *template.Rendered) (string, error) {
	rec, err := s.st.Sheet(ctx, sheetID)
	if err != nil {
		return "", err
	}
	from, domain, _, err := s.e.From(ctx, &store.Delivery{SenderID: rec.SenderID})
	if err != nil {
		return "", err
	}
	m := &mail.Message{From: from, Subject: r.Subject, HTML: template.ForOthers(r.HTML), Text: template.ForOthers(r.Text),
		Date:      s.e.Now(),
		MessageID: "<preview@" + domain + ">"}
	if col, ok := core.Column(core.Address); ok {
		if boxes, err := value.ParseMailboxes(row.Cell(col).Str); err == nil {
			m.To = boxes
		}
	}
	if m.Files, err = s.e.Carried(ctx, store.NewLetter(r)); err != nil {
		return "", err
	}
	raw, err := mail.Compose(m)
	return string(raw), err
}

// ConvertHTML implements StrictServerInterface.
func (s *Server) ConvertHTML(ctx context.Context, r ConvertHTMLRequestObject) (ConvertHTMLResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := ConvertHTML200JSONResponse{Removed: []string{}}
	switch {
	case r.Body.Html != nil:
		var removed []string
		if out.Body, removed, err = template.FromHTML(*r.Body.Html, core); err != nil {
			return nil, &engine.Refusal{Field: "/html", Message: err.Error()}
		}
		out.Removed = append(out.Removed, removed...)
	case r.Body.Body != nil:
		out.Body = *r.Body.Body
	default:
		return nil, &engine.Refusal{Field: "/html", Message: "give html or body"}
	}
	out.Html = template.ToHTML(out.Body, func(id string) string {
		if c, ok := core.Column(id); ok {
			return c.Name
		}
		return strings.TrimPrefix(id, template.Elsewhere)
	})
	return out, nil
}

// maxExamples is how many rows a check names.
const maxExamples = 5

// CheckTemplate implements StrictServerInterface.
func (s *Server) CheckTemplate(ctx context.Context,
	r CheckTemplateRequestObject) (CheckTemplateResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	t, err := s.letter(ctx, r.Sheet, core, r.Body)
	if err != nil {
		return nil, err
	}
	budget := time.Duration(0)
	if is(r.Params.Quick) {
		budget = effectBudget
	}
	checked, err := s.e.CheckTemplate(ctx, r.Sheet, t, budget)
	if err != nil {
		return nil, err
	}
	out := CheckTemplate200JSONResponse{Checks: []Check{}, Rows: checked.Seen, Good: checked.Good,
		Partial: checked.Partial(), Variants: []int{}}
	for _, rows := range checked.Variants {
		out.Variants = append(out.Variants, len(rows))
	}
	for _, f := range checked.Found {
		c := Check{Level: Warn, Text: f.Words(core), Key: f.Key(), Rows: len(f.Rows), Examples: []RowRef{}}
		switch {
		case f.Stops():
			c.Level = Stop
		case f.Code == template.AddressDoubled, f.Code == template.WordsDoubled: // which may be meant
			c.Level = Note
		}
		for _, id := range f.Rows[:min(len(f.Rows), maxExamples)] {
			rec, err := s.st.Row(ctx, id)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return nil, err
			}
			row, err := rec.Core(core)
			if err != nil {
				return nil, err
			}
			c.Examples = append(c.Examples, RowRef{Id: row.ID, Name: core.RowName(row)})
		}
		out.Checks = append(out.Checks, c)
	}
	if len(out.Checks) == 0 && out.Rows > 0 {
		out.Checks = append(out.Checks, Check{Level: Fine, Text: "Subject, fields and addresses are in order",
			Examples: []RowRef{}})
	}
	return out, nil
}

// leafing reads which rows are leafed through. A view is one's own, or shared.
func (s *Server) leafing(ctx context.Context, sheetID string, ask *PreviewAsk) (engine.Leafing, error) {
	var l engine.Leafing
	if ask.Only == nil {
		return l, nil
	}
	l.Warned, l.Variant = is(ask.Only.Warned), ask.Only.Variant
	for _, x := range []struct {
		from *string
		into *string
	}{{ask.Only.Check, &l.Check}, {ask.Only.Rule, &l.Rule}, {ask.Only.View, &l.View}} {
		if x.from != nil {
			*x.into = *x.from
		}
	}
	if l.View != "" {
		mine, err := s.st.Views(ctx, sheetID, person(ctx).ID, s.e.Now())
		if err != nil {
			return l, err
		}
		if !slices.ContainsFunc(mine, func(v store.View) bool { return v.ID == l.View }) {
			return l, store.ErrNotFound
		}
	}
	return l, nil
}
