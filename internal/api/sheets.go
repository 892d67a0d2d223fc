package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"path"
	"strconv"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

func toColumn(c *sheet.Column) Column {
	out := Column{Id: c.ID, Name: c.Name, Type: ColumnType(c.Type), Width: c.Width, Options: []Option{}, Ops: []string{}}
	if c.Order != "" {
		o := Order(c.Order)
		out.Order = &o
	}
	for _, o := range c.Options {
		out.Options = append(out.Options, Option{Id: o.ID, Name: o.Name})
	}
	for _, op := range rule.OpsFor(c.Type) {
		out.Ops = append(out.Ops, string(op))
	}
	return out
}

func (s *Server) toSheet(ctx context.Context, rec *store.Sheet) (Sheet, error) {
	core, err := rec.Core()
	if err != nil {
		return Sheet{}, err
	}
	out := Sheet{Id: rec.ID, Name: rec.Name, Zone: rec.Zone, Locale: rec.Locale, SettleSeconds: rec.SettleSeconds, Key: rec.KeyColumn,
		Address: rec.AddressColumn, Columns: []Column{}}
	for i := range core.Columns {
		out.Columns = append(out.Columns, toColumn(&core.Columns[i]))
	}
	out.Figures, err = s.figures(ctx, rec, core)
	return out, err
}

// figures are the live figures in a sheet's sentence.
func (s *Server) figures(ctx context.Context, rec *store.Sheet, core *sheet.Sheet) (f SheetFigures, err error) {
	n, err := s.st.CountRows(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	f.Rows = int(n)
	rules, err := s.st.Rules(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	for _, r := range rules {
		if r.State == rule.On {
			f.RulesOn++
		}
	}
	fc, err := s.e.Forecast(ctx, rec.ID)
	if err != nil {
		return f, err
	}
	end := endOfDay(s.e.Now(), core.Zone)
	people := map[string]bool{}
	for _, c := range fc.Coming {
		if c.Incomplete {
			continue
		}
		if c.At.Before(end) {
			f.Today++
		}
		if f.NextAt == nil {
			at := c.At
			f.NextAt = &at
		}
		if c.At.Equal(*f.NextAt) {
			for _, a := range c.To {
				people[strings.ToLower(a)] = true
			}
		}
	}
	f.NextPeople = len(people)
	f.Needs, err = s.countNeeds(ctx, rec.ID)
	return f, err
}

// countNeeds counts the emails of a sheet, or of all, that wait for somebody.
func (s *Server) countNeeds(ctx context.Context, sheetID string) (int, error) {
	q := s.st.DB(ctx).Model(&store.Delivery{}).Where("state IN ? AND decision = ''", needStates)
	if sheetID != "" {
		q = q.Where("sheet_id = ?", sheetID)
	}
	var n int64
	err := q.Count(&n).Error
	return int(n), err
}

var needStates = func() (out []delivery.State) {
	for _, st := range delivery.States {
		if delivery.NeedsSomebody(st) {
			out = append(out, st)
		}
	}
	return out
}()

func endOfDay(t time.Time, loc *time.Location) time.Time {
	l := t.In(loc)
	return time.Date(l.Year(), l.Month(), l.Day()+1, 0, 0, 0, 0, loc)
}

// ListSheets implements StrictServerInterface.
func (s *Server) ListSheets(ctx context.Context, _ ListSheetsRequestObject) (ListSheetsResponseObject, error) {
	recs, err := s.st.Sheets(ctx)
	if err != nil {
		return nil, err
	}
	out := ListSheets200JSONResponse{}
	for i := range recs {
		x, err := s.toSheet(ctx, &recs[i])
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// GetSheet implements StrictServerInterface.
func (s *Server) GetSheet(ctx context.Context, r GetSheetRequestObject) (GetSheetResponseObject, error) {
	rec, err := s.st.Sheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return GetSheet200JSONResponse(out), err
}

// form is an upload: a file and named values.
type form struct {
	name   string
	file   []byte
	values map[string]string
}

// readForm reads an upload part by part; what is too large is refused as soon
// as that is seen.
func readForm(r *multipart.Reader) (*form, error) {
	if r == nil {
		return nil, problem(422, "The request has no form.")
	}
	f := &form{values: map[string]string{}}
	for {
		p, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return f, nil
		}
		if err != nil {
			return nil, problem(422, "The upload was cut short; try again.")
		}
		b, err := io.ReadAll(io.LimitReader(p, exchange.MaxBytes+1))
		if err != nil {
			return nil, problem(422, "The upload was cut short; try again.")
		}
		if len(b) > exchange.MaxBytes {
			return nil, problem(413, fmt.Sprintf("The file is larger than %d MB.", exchange.MaxBytes>>20))
		}
		if p.FormName() == "file" {
			f.name, f.file = p.FileName(), b
		} else {
			f.values[p.FormName()] = string(b)
		}
	}
}

func (f *form) table() (*exchange.Table, error) {
	if f.file == nil {
		return nil, &engine.Refusal{Field: "/file", Message: "choose a file"}
	}
	t, err := exchange.ReadCSV(f.file)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	return t, nil
}

func formLocale(tag string) (*value.Locale, error) {
	if tag == "" {
		tag = "en-GB"
	}
	l, err := value.FindLocale(tag)
	if err != nil {
		return nil, &engine.Refusal{Field: "/locale", Message: err.Error()}
	}
	return l, nil
}

// sampleRows is how many rows a preview shows.
const sampleRows = 8

// PreviewImport implements StrictServerInterface.
func (s *Server) PreviewImport(_ context.Context, r PreviewImportRequestObject) (PreviewImportResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	l, err := formLocale(f.values["locale"])
	if err != nil {
		return nil, err
	}
	t, err := f.table()
	if err != nil {
		return nil, err
	}
	out := PreviewImport200JSONResponse{Encoding: t.Encoding, Separator: separatorWord(t.Separator), Rows: len(t.Rows), Key: -1, Address: -1,
		Sample: t.Rows[:min(sampleRows, len(t.Rows))], Columns: []GuessedColumn{},
		Name: strings.TrimSpace(strings.NewReplacer("-", " ", "_", " ").Replace(strings.TrimSuffix(f.name, path.Ext(f.name))))}
	columns := make([][]string, len(t.Heading))
	guesses := make([]sheet.Guess, len(t.Heading))
	for i, name := range sheet.NameColumns(t.Heading) {
		columns[i] = t.Column(i)
		guesses[i] = sheet.GuessColumn(columns[i], t.Lines, l)
		out.Columns = append(out.Columns, toGuess(name, guesses[i]))
		if guesses[i].Type == value.Email && out.Address < 0 {
			out.Address = i
		}
	}
	out.Key = sheet.ProposeKey(columns, guesses)
	if out.Sample == nil {
		out.Sample = [][]string{}
	}
	return out, nil
}

// ImportBundle implements StrictServerInterface.
func (s *Server) ImportBundle(ctx context.Context, r ImportBundleRequestObject) (ImportBundleResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	b, err := exchange.ReadZip(f.file)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	rec, err := s.e.Install(ctx, b, f.values["switchOn"] == "true", person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return ImportBundle201JSONResponse(out), err
}

func separatorWord(r rune) string {
	return map[rune]string{',': "comma", ';': "semicolon", '\t': "tab"}[r]
}

func toGuess(name string, g sheet.Guess) GuessedColumn {
	out := GuessedColumn{Name: name, Type: ColumnType(g.Type), AskDay: g.AskDay, Filled: g.Filled, Fit: g.Fit, Options: g.Options, Misfits: []Misfit{}}
	if g.Type == value.Date || g.Type == value.Moment {
		o := Order(g.Order)
		out.Order = &o
	}
	if out.Options == nil {
		out.Options = []string{}
	}
	for _, m := range g.Misfits {
		out.Misfits = append(out.Misfits, Misfit{Line: m.Line, Text: m.Text, Why: m.Why})
	}
	return out
}

// MeasureImport implements StrictServerInterface.
func (s *Server) MeasureImport(_ context.Context, r MeasureImportRequestObject) (MeasureImportResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	spec, l, err := newSheetSpec(f)
	if err != nil {
		return nil, err
	}
	t, err := f.table()
	if err != nil {
		return nil, err
	}
	if len(spec.Columns) != len(t.Heading) {
		return nil, &engine.Refusal{Field: "/columns", Message: "the columns are not those of the file"}
	}
	out := MeasureImport200JSONResponse{}
	for i, c := range spec.Columns {
		cells := t.Column(i)
		reading := value.Reading{Type: value.Type(c.Type), Locale: l}
		if c.Order != nil {
			reading.Order = value.Order(*c.Order)
		}
		for _, o := range choiceOptions(cells) {
			reading.Options = append(reading.Options, value.Option{ID: o, Name: o})
		}
		g := sheet.Measure(reading, cells, t.Lines)
		if reading.Type == value.Choice {
			g.Options = choiceOptions(cells)
		}
		out = append(out, toGuess(c.Name, g))
	}
	return out, nil
}

func newSheetSpec(f *form) (*NewSheet, *value.Locale, error) {
	var spec NewSheet
	if err := json.Unmarshal([]byte(f.values["spec"]), &spec); err != nil {
		return nil, nil, &engine.Refusal{Field: "/spec", Message: "the choices cannot be read: " + err.Error()}
	}
	l, err := formLocale(spec.Locale)
	return &spec, l, err
}

// choiceOptions lists the different texts of a column in order of appearance.
func choiceOptions(cells []string) []string {
	seen := map[string]bool{}
	var out []string
	for _, c := range cells {
		if f := value.Fold(c); f != "" && !seen[f] {
			seen[f] = true
			out = append(out, value.Trim(c))
		}
	}
	return out
}

// maxOptions bounds the options that a file may give a choice column.
const maxOptions = 200

// MakeSheet implements StrictServerInterface.
func (s *Server) MakeSheet(ctx context.Context, r MakeSheetRequestObject) (MakeSheetResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	spec, l, err := newSheetSpec(f)
	if err != nil {
		return nil, err
	}
	if _, err := time.LoadLocation(spec.Zone); err != nil || spec.Zone == "" {
		return nil, &engine.Refusal{Field: "/zone", Message: fmt.Sprintf("zone %q is not known; use a name like Europe/London", spec.Zone)}
	}
	t := &exchange.Table{}
	if f.file != nil {
		if t, err = f.table(); err != nil {
			return nil, err
		}
		if len(spec.Columns) != len(t.Heading) {
			return nil, &engine.Refusal{Field: "/columns", Message: "the columns are not those of the file"}
		}
	}
	cols, from, key, address, err := chosenColumns(spec, t)
	if err != nil {
		return nil, err
	}
	rec := &store.Sheet{Name: value.Trim(spec.Name), Zone: spec.Zone, Locale: l.Tag, SettleSeconds: 120}
	if spec.SettleSeconds != nil {
		rec.SettleSeconds = *spec.SettleSeconds
	}
	who := person(ctx).Name
	if err := s.e.CreateSheet(ctx, rec, cols, key, address, who); err != nil {
		return nil, err
	}
	rows := make([]map[string]string, len(t.Rows))
	for i, rec := range t.Rows {
		rows[i] = make(map[string]string, len(cols))
		for k := range cols {
			rows[i][cols[k].ID] = rec[from[k]]
		}
	}
	if _, err := s.e.Import(ctx, rec.ID, rows, engine.ImportOptions{Quiet: true}, who); err != nil {
		// A sheet without the rows it was made for is worse than none.
		_ = s.e.DeleteSheet(ctx, rec.ID, who)
		return nil, err
	}
	if rec, err = s.st.Sheet(ctx, rec.ID); err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return MakeSheet201JSONResponse(out), err
}

// chosenColumns turns a person's choices into columns; from gives each one's
// place in the file.
func chosenColumns(spec *NewSheet, t *exchange.Table) (cols []sheet.Column, from []int, key, address int, err error) {
	key, address = -1, -1
	for i, c := range spec.Columns {
		if c.Skip != nil && *c.Skip {
			continue
		}
		col := sheet.Column{Name: c.Name, Type: value.Type(c.Type)}
		if c.Order != nil && (col.Type == value.Date || col.Type == value.Moment) {
			col.Order = value.Order(*c.Order)
		}
		if col.Type == value.Formula {
			return nil, nil, 0, 0, &engine.Refusal{Field: fmt.Sprintf("/columns/%d/type", i), Message: "a column of a file holds values, not a formula"}
		}
		if col.Type == value.Choice {
			opts := choiceOptions(t.Column(i))
			if len(opts) > maxOptions {
				return nil, nil, 0, 0, &engine.Refusal{Field: fmt.Sprintf("/columns/%d/type", i),
					Message: fmt.Sprintf("%s has %d different values; a choice has at most %d", c.Name, len(opts), maxOptions)}
			}
			for _, o := range opts {
				col.Options = append(col.Options, value.Option{Name: o})
			}
		}
		if i == spec.Key {
			key = len(cols)
		}
		if i == spec.Address {
			address = len(cols)
		}
		cols, from = append(cols, col), append(from, i)
	}
	if len(cols) == 0 {
		return nil, nil, 0, 0, &engine.Refusal{Field: "/columns", Message: "a sheet needs at least one column"}
	}
	return cols, from, key, address, nil
}

// ChangeSheet implements StrictServerInterface.
func (s *Server) ChangeSheet(ctx context.Context, r ChangeSheetRequestObject) (ChangeSheetResponseObject, error) {
	p := engine.SheetChange{Name: r.Body.Name, SettleSeconds: r.Body.SettleSeconds}
	if r.Body.Rename != nil {
		p.Rename = *r.Body.Rename
	}
	rec, err := s.e.ChangeSheet(ctx, r.Sheet, p, person(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.toSheet(ctx, rec)
	return ChangeSheet200JSONResponse(out), err
}

// DeleteSheet implements StrictServerInterface.
func (s *Server) DeleteSheet(ctx context.Context, r DeleteSheetRequestObject) (DeleteSheetResponseObject, error) {
	return DeleteSheet204Response{}, s.e.DeleteSheet(ctx, r.Sheet, person(ctx).Name)
}

// ImportRows implements StrictServerInterface.
func (s *Server) ImportRows(ctx context.Context, r ImportRowsRequestObject) (ImportRowsResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	t, err := f.table()
	if err != nil {
		return nil, err
	}
	rec, err := s.st.Sheet(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	unknown := []string{}
	cols := make([]*sheet.Column, len(t.Heading))
	hasKey := core.Key == ""
	for i, h := range t.Heading {
		if c, ok := core.ColumnNamed(h); ok {
			cols[i] = c
			hasKey = hasKey || c.ID == core.Key
		} else {
			unknown = append(unknown, h)
		}
	}
	if !hasKey {
		return nil, &engine.Refusal{Field: "/file", Message: "the file has no column for the key of this sheet, so its rows cannot be met"}
	}
	rows := make([]map[string]string, len(t.Rows))
	for i, rec := range t.Rows {
		rows[i] = map[string]string{}
		for k, c := range cols {
			if c != nil {
				rows[i][c.ID] = rec[k]
			}
		}
	}
	res, err := s.e.Import(ctx, r.Sheet, rows, engine.ImportOptions{Dry: f.values["dry"] == "true"}, person(ctx).Name)
	return ImportRows200JSONResponse{New: res.New, Changed: res.Changed, Unchanged: res.Unchanged, Gone: res.Gone, Doubled: res.Doubled,
		Keyless: res.Keyless, Unknown: unknown}, err
}

func parseID(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id <= 0 {
		return 0, store.ErrNotFound
	}
	return id, nil
}
