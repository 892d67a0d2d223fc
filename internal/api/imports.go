package api

import (
	"context"
	"encoding/json"
	"fmt"
	"mime/multipart"
	"path"
	"runtime"
	"strings"
	"sync"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
)

// sampleRows is how many rows a preview shows.
const sampleRows = 8

// PreviewImport implements StrictServerInterface.
func (s *Server) PreviewImport(ctx context.Context,
	r PreviewImportRequestObject) (PreviewImportResponseObject, error) {
	f, err := readForm(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	l, err := formLocale(f.values["locale"])
	if err != nil {
		return nil, err
	}
	var into *sheet.Sheet
	var matches map[string]string
	if id := f.values["sheet"]; id != "" {
		rec, err := s.st.Sheet(ctx, id)
		if err != nil {
			return nil, err
		}
		if into, err = rec.Core(); err != nil {
			return nil, err
		}
		l, matches = into.Locale, rec.Matches()
	}
	t, err := s.table(f, l)
	if err != nil {
		return nil, err
	}
	out := PreviewImport200JSONResponse{Encoding: t.Encoding, Separator: separatorWord(t.Separator), Rows: len(t.Rows),
		Key: -1, Address: -1,
		Sample: t.Rows[:min(sampleRows, len(t.Rows))], Lines: t.Lines[:min(sampleRows, len(t.Rows))],
		Columns:    []GuessedColumn{},
		Worksheets: t.Worksheets, Worksheet: t.Worksheet,
		Rounded: append([]int{}, t.Rounded[:min(len(t.Rounded), sampleRows)]...), Unnamed: t.Unnamed(),
		Name: strings.TrimSpace(strings.NewReplacer("-", " ", "_", " ").Replace(strings.TrimSuffix(f.name,
			path.Ext(f.name))))}
	guessed := guessColumns(t, l, into, matches)
	for i, name := range sheet.NameColumns(t.Heading) {
		g := guessed.guesses[i]
		x := toGuess(name, g)
		x.Doubled = ptr(guessed.doubled[i])
		if into != nil {
			x.To = ptr(target(into, t.Heading[i], guessed.to[i], g.Filled > 0, matches))
		}
		out.Columns = append(out.Columns, x)
		if g.Type == value.Email && out.Address < 0 {
			out.Address = i
		}
	}
	out.Key = sheet.ProposeKey(guessed.columns, guessed.guesses)
	if out.Sample == nil {
		out.Sample, out.Lines = [][]string{}, []int{}
	}
	if out.Worksheets == nil {
		out.Worksheets = []string{}
	}
	return out, nil
}

// guessed is what the columns of a file are taken for.
type guessed struct {
	columns [][]string // their cells
	guesses []sheet.Guess
	doubled []int    // how many cells say what one above says
	to      []string // the columns of the sheet that they go into; nil of a new sheet
}

// guessColumns takes the columns of a file for what they look like, or, of one that goes into a column of
// a sheet, for what that is.
func guessColumns(t *exchange.Table, l *value.Locale, into *sheet.Sheet, matches map[string]string) guessed {
	n := len(t.Heading)
	g := guessed{columns: make([][]string, n), guesses: make([]sheet.Guess, n), doubled: make([]int, n)}
	if into != nil {
		g.to = engine.MatchColumns(into, t.Heading, matches)
	}
	eachColumn(n, func(i int) {
		g.columns[i] = t.Column(i)
		g.doubled[i] = sheet.Doubled(g.columns[i])
		if into != nil {
			if c, ok := into.Column(g.to[i]); ok {
				g.guesses[i] = sheet.MeasureInto(into.Reading(c), g.columns[i], t.Lines)
				return
			}
		}
		g.guesses[i] = sheet.GuessColumn(g.columns[i], t.Lines, l)
	})
	return g
}

// eachColumn does something for every column, on all processors but one, which is left to emails.
func eachColumn(n int, f func(i int)) {
	var wg sync.WaitGroup
	next := make(chan int)
	for range max(1, runtime.GOMAXPROCS(0)-1) {
		wg.Go(func() {
			for i := range next {
				f(i)
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
}

func ptr[T any](v T) *T { return &v }

// separatorWord names what separates the cells of a text; "" of a workbook.
func separatorWord(r rune) string {
	switch r {
	case 0:
		return ""
	case ',':
		return "comma"
	case ';':
		return "semicolon"
	case '\t':
		return "tab"
	case '|':
		return "vertical bar"
	}
	return fmt.Sprintf("“%c”", r)
}

func toImportResult(r *engine.ImportResult) ImportResult {
	out := ImportResult{New: r.New, Changed: r.Changed, Unchanged: r.Unchanged, Gone: r.Gone, Doubled: r.Doubled,
		Keyless: r.Keyless, Cells: r.Cells,
		Unreadable: r.Unreadable, Absent: r.Absent, Blank: r.Blank, Skipped: append([]string{}, r.Skipped...),
		Samples: []RowDiff{}, GoneNames: r.GoneNames}
	if r.Change != 0 {
		out.Change = fmt.Sprint(r.Change)
	}
	if out.GoneNames == nil {
		out.GoneNames = []string{}
	}
	for _, d := range r.Samples {
		x := RowDiff{Row: d.Row, Name: d.Name, Returns: d.Returns, Changes: []CellChange{}}
		for _, c := range d.Changes {
			cell := CellChange{Column: c.Column, Name: c.Name, Before: c.Before, After: c.After}
			if c.Bad {
				cell.Bad = &c.Bad
			}
			x.Changes = append(x.Changes, cell)
		}
		out.Samples = append(out.Samples, x)
	}
	if r.Sets != nil {
		sets := toConsequences(r.Sets)
		out.Sets = &sets
	}
	return out
}

// importSpec reads an upload that is to go into a sheet.
func (s *Server) importSpec(ctx context.Context, body *multipart.Reader,
	sheetID string) (in engine.Incoming, o engine.ImportOptions, err error) {
	f, err := readForm(ctx, body)
	if err != nil {
		return in, o, err
	}
	core, err := s.coreSheet(ctx, sheetID)
	if err != nil {
		return in, o, err
	}
	t, err := s.table(f, core.Locale)
	if err != nil {
		return in, o, err
	}
	o.About = map[string]any{"file": f.name}
	in.Rows, in.Blank = t.Rows, t.Blank
	if f.values["spec"] == "" {
		in.Columns = engine.MatchColumns(core, t.Heading, nil)
		in.Skipped = unmatched(t.Heading, in.Columns)
		return in, o, nil
	}
	var spec ImportSpec
	if err := json.Unmarshal([]byte(f.values["spec"]), &spec); err != nil {
		return in, o, &engine.Refusal{Field: "/spec", Message: "the choices cannot be read: " + err.Error()}
	}
	if len(spec.Columns) != len(t.Heading) {
		return in, o, errOtherColumns
	}
	o.Asks = is(spec.Ask)
	o.Keep, o.Remember, in.Orders = spec.Keep, map[string]string{}, map[int]value.Order{}
	for i := range spec.Columns {
		c := &spec.Columns[i]
		to := ""
		if c.To != nil {
			to = *c.To
		}
		if to == "+" {
			col, err := fileColumn(c, i, t)
			if err != nil {
				return in, o, err
			}
			to = fmt.Sprintf("+%d", len(o.Add))
			o.Add = append(o.Add, col)
		}
		in.Columns = append(in.Columns, to)
		if met, ok := core.Column(to); ok {
			if order := c.dateOrder(met.Type); order != "" {
				in.Orders[i] = order
			}
		}
		o.Remember[t.Heading[i]] = to
	}
	in.Skipped = unmatched(t.Heading, in.Columns)
	return in, o, nil
}

// PlanImport implements StrictServerInterface.
func (s *Server) PlanImport(ctx context.Context, r PlanImportRequestObject) (PlanImportResponseObject, error) {
	in, o, err := s.importSpec(ctx, r.Body, r.Sheet)
	if err != nil {
		return nil, err
	}
	o.Dry, o.Foretell = true, true
	res, err := s.e.Import(ctx, r.Sheet, in, o, author(ctx))
	return PlanImport200JSONResponse(toImportResult(&res)), err
}

// ImportRows implements StrictServerInterface.
func (s *Server) ImportRows(ctx context.Context, r ImportRowsRequestObject) (ImportRowsResponseObject, error) {
	in, o, err := s.importSpec(ctx, r.Body, r.Sheet)
	if err != nil {
		return nil, err
	}
	by := author(ctx)
	by.Asks = o.Asks
	job, err := s.startImport(ctx, r.Sheet, in, o, by, nil)
	return ImportRows202JSONResponse(job), err
}
