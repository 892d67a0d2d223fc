package api

import (
	"context"
	"crypto/rand"
	_ "embed"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// formPath is where the public pages of intake forms stand.
const formPath = "/forms/"

// maxForm bounds the bytes of a filled-in form, maxAnswer those of one answer.
const (
	maxForm   = 64 << 10
	maxAnswer = 4000
)

//go:embed form.html
var formHTML string

var formPage = template.Must(template.New("form").Parse(formHTML))

// formOf reads a form; one that was never saved asks for nothing yet.
func formOf(f *store.Form, core *sheet.Sheet) (Form, error) {
	var out Form
	err := json.Unmarshal([]byte(f.Body), &out)
	out.Open = f.Open
	out.Fields = slices.DeleteFunc(out.Fields, func(x FormField) bool { // since it was saved
		c, ok := core.Column(x.Column)
		return !ok || !c.Asked()
	})
	return out, err
}

func (s *Server) formState(ctx context.Context, sheetID string) (FormState, error) {
	rec, err := s.st.Sheet(ctx, sheetID)
	if err != nil {
		return FormState{}, err
	}
	f, err := s.st.SheetForm(ctx, sheetID)
	if errors.Is(err, store.ErrNotFound) {
		return FormState{Form: Form{Title: rec.Name, Button: "Send", Thanks: "Thank you. We have it.",
			Fields: []FormField{}}}, nil
	}
	if err != nil {
		return FormState{}, err
	}
	out := FormState{Address: s.PublicURL + formPath + f.Address}
	core, err := rec.Core()
	if err != nil {
		return FormState{}, err
	}
	out.Form, err = formOf(f, core)
	return out, err
}

// GetForm implements StrictServerInterface.
func (s *Server) GetForm(ctx context.Context, r GetFormRequestObject) (GetFormResponseObject, error) {
	out, err := s.formState(ctx, r.Sheet)
	return GetForm200JSONResponse(out), err
}

func newAddress() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b)
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}

// SaveForm implements StrictServerInterface.
func (s *Server) SaveForm(ctx context.Context, r SaveFormRequestObject) (SaveFormResponseObject, error) {
	core, err := s.coreSheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	if err := checkForm(core, r.Body); err != nil {
		return nil, err
	}
	f, err := s.st.SheetForm(ctx, r.Sheet)
	if errors.Is(err, store.ErrNotFound) {
		f, err = &store.Form{SheetID: r.Sheet, Address: newAddress()}, nil
	}
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	f.Open, f.Body = r.Body.Open, string(body)
	if err := s.keepForm(ctx, f); err != nil {
		return nil, err
	}
	out, err := s.formState(ctx, r.Sheet)
	return SaveForm200JSONResponse(out), err
}

func (s *Server) keepForm(ctx context.Context, f *store.Form) error {
	return s.st.Tx(ctx, func(tx *store.Store) error {
		if err := tx.SaveForm(ctx, f); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: s.e.Now(), Actor: person(ctx).Name, Kind: store.EventFormSaved,
			SheetID: f.SheetID,
			Detail:  store.Detail(map[string]any{"open": f.Open})})
	})
}

func checkForm(core *sheet.Sheet, f *Form) error {
	seen := map[string]bool{}
	for i, x := range f.Fields {
		c, ok := core.Column(x.Column)
		switch {
		case !ok || !c.Asked():
			return &engine.Refusal{Field: fmt.Sprintf("/fields/%d/column", i),
				Message: "a form asks for columns of the sheet that are neither calculated, hidden nor files"}
		case seen[x.Column]:
			return &engine.Refusal{Field: "/fields", Message: c.Name + " is asked for twice"}
		case value.Trim(x.Label) == "":
			return &engine.Refusal{Field: "/fields", Message: "what is asked for " + c.Name + " is empty"}
		}
		seen[x.Column] = true
	}
	if f.Open && (len(f.Fields) == 0 || value.Trim(f.Title) == "") {
		return &engine.Refusal{Field: "/fields", Message: "a form that is open has a title and asks for something"}
	}
	return nil
}

// NewFormAddress implements StrictServerInterface.
func (s *Server) NewFormAddress(ctx context.Context,
	r NewFormAddressRequestObject) (NewFormAddressResponseObject, error) {
	f, err := s.st.SheetForm(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	f.Address = newAddress()
	if err := s.keepForm(ctx, f); err != nil {
		return nil, err
	}
	out, err := s.formState(ctx, r.Sheet)
	return NewFormAddress200JSONResponse(out), err
}

// formView is what the public page shows.
type formView struct {
	Form    Form
	Address string // of the form, for its proof; "" for a page that needs none
	Base    string // of the application's path
	Bits    int    // zero bits of the proof
	Said    string // in place of the form
	Ask     bool
	Fault   string
	Fields  []formField
	Button  string
}

type formField struct {
	Name, Label, Hint, Kind, Value, Fault string
	Required                              bool
	Options                               []string
}

// intake is a form with its sheet.
type intake struct {
	record *store.Form
	form   Form
	sheet  *sheet.Sheet
}

func (s *Server) intakeAt(c *echo.Context) (*intake, error) {
	ctx := c.Request().Context()
	f, err := s.st.FormAt(ctx, c.Param("address"))
	if err != nil {
		return nil, err
	}
	return s.intakeOf(ctx, f)
}

func (s *Server) intakeOf(ctx context.Context, f *store.Form) (*intake, error) {
	in := &intake{record: f}
	rec, err := s.st.Sheet(ctx, f.SheetID)
	if err != nil {
		return nil, err
	}
	if in.sheet, err = rec.Core(); err != nil {
		return nil, err
	}
	in.form, err = formOf(f, in.sheet)
	in.form.Open = in.form.Open && rec.PutAwayAt == nil && len(in.form.Fields) > 0
	return in, err
}

func answerPage(c *echo.Context, status int, v formView) error {
	if v.Button = v.Form.Button; v.Button == "" {
		v.Button = "Send"
	}
	h := c.Response().Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	c.Response().WriteHeader(status)
	return formPage.Execute(c.Response(), v)
}

// sayInstead answers where there is no form to show.
func (s *Server) sayInstead(c *echo.Context, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return answerPage(c, http.StatusNotFound, formView{Form: Form{Title: "There is no form here"},
			Said: "The address may have been changed. Ask whoever gave it to you."})
	}
	return err
}

var closedForm = formView{Form: Form{Title: "This form is closed"}, Said: "It takes no answers at the moment."}

func (s *Server) showForm(c *echo.Context) error {
	in, err := s.intakeAt(c)
	if err != nil {
		return s.sayInstead(c, err)
	}
	if !in.form.Open {
		return answerPage(c, http.StatusGone, closedForm)
	}
	return answerPage(c, http.StatusOK, formView{Form: in.form, Base: s.base, Bits: proofBits, Address: in.record.Address,
		Ask: true, Fields: in.fields(nil, nil)})
}

// fields gives the form's fields with what was answered and what is wrong
// with it.
func (in *intake) fields(answers, faults map[string]string) []formField {
	var out []formField
	for _, x := range in.form.Fields {
		c, ok := in.sheet.Column(x.Column)
		if !ok {
			continue
		}
		f := formField{Name: c.ID, Label: x.Label, Kind: "text", Value: answers[c.ID], Fault: faults[c.ID],
			Required: is(x.Required)}
		if x.Hint != nil {
			f.Hint = *x.Hint
		}
		switch c.Type {
		case value.Choice:
			f.Kind = "choice"
			for _, o := range c.Options {
				f.Options = append(f.Options, o.Name)
			}
		case value.YesNo:
			f.Kind, f.Options = "yesno", []string{in.sheet.Locale.YesNo(true), in.sheet.Locale.YesNo(false)}
		case value.Date:
			f.Kind = "date"
		case value.Moment:
			f.Kind = "datetime-local"
		case value.Email:
			f.Kind = "email"
		}
		out = append(out, f)
	}
	return out
}

func (s *Server) takeForm(c *echo.Context) error {
	in, err := s.intakeAt(c)
	if err != nil {
		return s.sayInstead(c, err)
	}
	if !in.form.Open {
		return answerPage(c, http.StatusGone, closedForm)
	}
	r := c.Request()
	r.Body = http.MaxBytesReader(c.Response(), r.Body, maxForm)
	there := reads(r)
	err = r.ParseForm()
	if there(); err != nil {
		return answerPage(c, http.StatusRequestEntityTooLarge, formView{Form: in.form, Ask: true,
			Fields: in.fields(nil, nil), Fault: "That was too much text. Please write less."})
	}
	readBy(c.Response(), 0)
	thanks := formView{Form: in.form, Said: in.form.Thanks}
	if r.PostForm.Get("website") != "" {
		return answerPage(c, http.StatusOK, thanks) // whoever fills in what nobody sees is no person
	}
	answers, faults, edits := in.read(r.PostForm.Get)
	if len(faults) > 0 {
		return answerPage(c, http.StatusUnprocessableEntity, formView{Form: in.form, Base: s.base, Bits: proofBits,
			Address: in.record.Address, Ask: true, Fields: in.fields(answers, faults),
			Fault: "Please look at what is marked below."})
	}
	again := func(status int, faults map[string]string, why string) error {
		return answerPage(c, status, formView{Form: in.form, Base: s.base, Bits: proofBits, Address: in.record.Address,
			Ask: true, Fields: in.fields(answers, faults), Fault: why})
	}
	if !s.mayCome(r.Context(), in.record.Address, r.PostForm.Get) {
		return again(http.StatusTooManyRequests, nil, "Too much is coming in. Please wait some minutes and send it again.")
	}
	said, err := s.takeAnswers(c, in, edits, answers)
	var fault answerFault
	switch {
	case err == nil:
		return answerPage(c, http.StatusOK, formView{Form: in.form, Said: said})
	case errors.As(err, &fault):
		return again(http.StatusUnprocessableEntity, fault, "Please look at what is marked below.")
	case store.Away(err):
		return err
	}
	slog.Warn("a form could not be taken in", "sheet", in.record.SheetID, "error", err)
	return again(http.StatusServiceUnavailable, nil,
		"This form cannot take answers at the moment. Please send it again later.")
}

// read checks what was answered and turns it into a row's cells.
func (in *intake) read(get func(string) string) (answers, faults map[string]string, edits []engine.CellEdit) {
	answers, faults = map[string]string{}, map[string]string{}
	for _, x := range in.form.Fields {
		c, ok := in.sheet.Column(x.Column)
		if !ok {
			continue
		}
		text := strings.ReplaceAll(get(c.ID), "\r\n", "\n")
		answers[c.ID] = text
		read := text
		if c.Type == value.Moment {
			read = strings.Replace(text, "T", " ", 1)
		}
		v, err := value.Read(read, in.sheet.Reading(c))
		switch {
		case strings.ContainsRune(text, 0):
			faults[c.ID] = "This holds a character that cannot be kept. Please write it again."
		case len(text) > maxAnswer:
			faults[c.ID] = "This is too long."
		case err != nil:
			faults[c.ID] = upperFirst(err.Error()) + "."
		case v.IsEmpty() && is(x.Required):
			faults[c.ID] = "Please fill this in."
		case !v.IsEmpty():
			edits = append(edits, engine.CellEdit{Column: c.ID, Text: in.sheet.Input(c, v)})
		}
	}
	if len(edits) == 0 && len(faults) == 0 {
		for _, x := range in.form.Fields {
			faults[x.Column] = "Please fill something in."
			break
		}
	}
	return answers, faults, edits
}
