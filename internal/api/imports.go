package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

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

// tables keeps the tables that were read last: a file that is brought in is
// looked at several times before.
type tables struct {
	mu   sync.Mutex
	list []readTable // guarded by mu; the latest last
}

type readTable struct {
	print [sha256.Size]byte
	table *exchange.Table // never changed
	at    time.Time
}

// How many tables are kept, and for how long.
const (
	tablesKept = 2
	tableLife  = 3 * time.Minute
)

func (t *tables) find(print [sha256.Size]byte, now time.Time) *exchange.Table {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.list = slices.DeleteFunc(t.list, func(r readTable) bool { return now.Sub(r.at) > tableLife })
	for _, r := range t.list {
		if r.print == print {
			return r.table
		}
	}
	return nil
}

func (t *tables) keep(print [sha256.Size]byte, table *exchange.Table, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.list = append(t.list, readTable{print, table, now})
	t.list = t.list[max(0, len(t.list)-tablesKept):]
}

// table reads the file as a table, in the part of a workbook that was chosen.
func (s *Server) table(f *form, l *value.Locale) (*exchange.Table, error) {
	if f.file == nil {
		return nil, &engine.Refusal{Field: "/file", Message: "choose a file"}
	}
	c := exchange.Choice{Worksheet: f.values["worksheet"]}
	if h := f.values["heading"]; h != "" {
		n, err := strconv.Atoi(h)
		if err != nil || n < 0 {
			return nil, &engine.Refusal{Field: "/heading", Message: "the row that names the columns is a number from 1"}
		}
		c.Heading = n
	}
	c.Encoding = f.values["encoding"]
	if sep := f.values["separator"]; sep != "" {
		r, n := utf8.DecodeRuneInString(sep)
		if n != len(sep) || r == utf8.RuneError || strings.ContainsRune("\"\r\n\x00", r) {
			return nil, &engine.Refusal{Field: "/separator", Message: "what separates the cells is one sign, and no quote or line break"}
		}
		c.Separator = r
	}
	print := sha256.Sum256(fmt.Appendf(bytes.Clone(f.file), "\x00%s\x00%d\x00%s\x00%c\x00%s", c.Worksheet, c.Heading, l.Tag, c.Separator, c.Encoding))
	if t := s.tables.find(print, s.Wall()); t != nil {
		return t, nil
	}
	t, err := exchange.ReadTable(f.file, c, l)
	if err != nil {
		return nil, &engine.Refusal{Field: "/file", Message: err.Error()}
	}
	s.tables.keep(print, t, s.Wall())
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
func (s *Server) PreviewImport(ctx context.Context, r PreviewImportRequestObject) (PreviewImportResponseObject, error) {
	f, err := readForm(r.Body)
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
	out := PreviewImport200JSONResponse{Encoding: t.Encoding, Separator: separatorWord(t.Separator), Rows: len(t.Rows), Key: -1, Address: -1,
		Sample: t.Rows[:min(sampleRows, len(t.Rows))], Lines: t.Lines[:min(sampleRows, len(t.Rows))], Columns: []GuessedColumn{},
		Worksheets: t.Worksheets, Worksheet: t.Worksheet, Rounded: append([]int{}, t.Rounded[:min(len(t.Rounded), sampleRows)]...), Unnamed: t.Unnamed(),
		Name: strings.TrimSpace(strings.NewReplacer("-", " ", "_", " ").Replace(strings.TrimSuffix(f.name, path.Ext(f.name))))}
	columns := make([][]string, len(t.Heading))
	guesses := make([]sheet.Guess, len(t.Heading))
	doubled := make([]int, len(t.Heading))
	var to []string
	if into != nil {
		to = engine.MatchColumns(into, t.Heading, matches)
	}
	eachColumn(len(t.Heading), func(i int) {
		columns[i] = t.Column(i)
		doubled[i] = sheet.Doubled(columns[i])
		if into != nil {
			if c, ok := into.Column(to[i]); ok {
				guesses[i] = sheet.MeasureInto(into.Reading(c), columns[i], t.Lines)
				return
			}
		}
		guesses[i] = sheet.GuessColumn(columns[i], t.Lines, l)
	})
	for i, name := range sheet.NameColumns(t.Heading) {
		g := guesses[i]
		x := toGuess(name, g)
		x.Doubled = ptr(doubled[i])
		if into != nil {
			x.To = ptr(target(into, t.Heading[i], to[i], g.Filled > 0, matches))
		}
		out.Columns = append(out.Columns, x)
		if g.Type == value.Email && out.Address < 0 {
			out.Address = i
		}
	}
	out.Key = sheet.ProposeKey(columns, guesses)
	if out.Sample == nil {
		out.Sample, out.Lines = [][]string{}, []int{}
	}
	if out.Worksheets == nil {
		out.Worksheets = []string{}
	}
	return out, nil
}

// eachColumn does something for every column, on all processors.
func eachColumn(n int, f func(i int)) {
	var wg sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
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

// target proposes where a column of a file goes: into the sheet's column that
// it meets, into a new one, or, where it was left out before, is empty, or
// holds what Nivot itself worked out, nowhere.
func target(into *sheet.Sheet, heading, met string, filled bool, matches map[string]string) string {
	_, remembered := matches[value.Fold(heading)]
	_, own := into.ColumnNamed(heading)
	switch {
	case met != "":
		return met
	case remembered || own || !filled || slices.Contains(emailHeadings, heading):
		return ""
	}
	return "+"
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

func toGuess(name string, g sheet.Guess) GuessedColumn {
	out := GuessedColumn{Name: name, Type: ColumnType(g.Type), AskDay: g.AskDay, Filled: g.Filled, Fit: g.Fit, Options: g.Options, Misfits: []Misfit{}}
	if g.Type == value.Date || g.Type == value.Moment {
		o := Order(g.Order)
		out.Order = &o
	}
	if g.Format != (value.NumberFormat{}) {
		out.Format = &g.Format
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
func (s *Server) MeasureImport(ctx context.Context, r MeasureImportRequestObject) (MeasureImportResponseObject, error) {
	f, err := readForm(r.Body)
	if err != nil {
		return nil, err
	}
	spec, l, err := newSheetSpec(f)
	if err != nil {
		return nil, err
	}
	var into *sheet.Sheet
	if id := f.values["sheet"]; id != "" {
		if into, err = s.coreSheet(ctx, id); err != nil {
			return nil, err
		}
		l = into.Locale
	}
	t, err := s.table(f, l)
	if err != nil {
		return nil, err
	}
	if len(spec.Columns) != len(t.Heading) {
		return nil, errOtherColumns
	}
	out := make(MeasureImport200JSONResponse, len(spec.Columns))
	eachColumn(len(out), func(i int) {
		c := &spec.Columns[i]
		out[i] = toGuess(c.Name, measure(c, into, t.Column(i), t.Lines, l))
	})
	return out, nil
}

var errOtherColumns = &engine.Refusal{Field: "/columns", Message: "the columns are not those of the file"}

// measure tells how cells fit a chosen column: one of the sheet, or a new one.
func measure(c *ImportColumn, into *sheet.Sheet, cells []string, lines []int, l *value.Locale) sheet.Guess {
	if into != nil && c.To != nil {
		if col, ok := into.Column(*c.To); ok {
			r := into.Reading(col)
			if o := c.dateOrder(col.Type); o != "" {
				r.Order = o
			}
			return sheet.Measure(r, cells, lines)
		}
	}
	reading := value.Reading{Type: value.Type(c.Type), Locale: l, Order: c.dateOrder(value.Type(c.Type)), Format: c.numberFormat()}
	for _, o := range choiceOptions(cells) {
		reading.Options = append(reading.Options, value.Option{ID: o, Name: o})
	}
	g := sheet.Measure(reading, cells, lines)
	if reading.Type == value.Choice {
		g.Options = choiceOptions(cells)
	}
	return g
}

// newSheetSpec reads what a person chose: a NewSheet, or of an import into a
// sheet its columns alone.
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

// atOnce is how many rows are brought in while the request waits; more go on
// by themselves.
const atOnce = 3000

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
		if t, err = s.table(f, l); err != nil {
			return nil, err
		}
		if len(spec.Columns) != len(t.Heading) {
			return nil, errOtherColumns
		}
	}
	cols, at, err := chosenColumns(spec, t)
	if err != nil {
		return nil, err
	}
	for field, i := range map[string]int{"/key": spec.Key, "/address": spec.Address} {
		if i >= len(spec.Columns) {
			return nil, &engine.Refusal{Field: field, Message: fmt.Sprintf("there is no column %d; columns count from 0, and -1 is none", i)}
		}
	}
	rec := &store.Sheet{Name: value.Trim(spec.Name), Zone: spec.Zone, Locale: l.Tag, SettleSeconds: 120}
	if spec.SettleSeconds != nil {
		rec.SettleSeconds = *spec.SettleSeconds
	}
	who := author(ctx)
	if err := s.e.CreateSheet(ctx, rec, cols, at(spec.Key), at(spec.Address), who.Name); err != nil {
		return nil, err
	}
	var job *Job
	var done *ImportResult
	if f.file != nil {
		in := engine.Incoming{Columns: make([]string, len(t.Heading)), Rows: t.Rows, Blank: t.Blank}
		for i, heading := range t.Heading {
			if k := at(i); k >= 0 {
				in.Columns[i] = cols[k].ID
			} else {
				in.Skipped = append(in.Skipped, heading)
			}
		}
		job, done, err = s.bringIn(ctx, rec.ID, in, engine.ImportOptions{Quiet: true, About: map[string]any{"file": f.name}}, who, func(ctx context.Context) {
			// A sheet without the rows it was made for is worse than none.
			_ = s.e.DeleteSheet(ctx, rec.ID, who.Name)
		})
		if err != nil {
			return nil, err
		}
	}
	if rec, err = s.st.Sheet(ctx, rec.ID); err != nil {
		return nil, err
	}
	out := MakeSheet201JSONResponse{Job: job, Import: done}
	out.Sheet, err = s.toSheet(ctx, rec)
	return out, err
}

// bringIn does an import: at once where it is small, and gives what it came to;
// else as a job. failed is called where it changed nothing.
func (s *Server) bringIn(ctx context.Context, sheetID string, in engine.Incoming, o engine.ImportOptions, who engine.Author, failed func(context.Context)) (*Job, *ImportResult, error) {
	if len(in.Rows) <= atOnce {
		res, err := s.e.Import(ctx, sheetID, in, o, who)
		if err != nil {
			failed(context.WithoutCancel(ctx))
			return nil, nil, err
		}
		out := toImportResult(&res)
		return nil, &out, nil
	}
	job, err := s.startImport(ctx, sheetID, in, o, who, failed)
	return &job, nil, err
}

func (s *Server) startImport(ctx context.Context, sheetID string, in engine.Incoming, o engine.ImportOptions, who engine.Author, failed func(context.Context)) (Job, error) {
	j, err := s.e.Start(ctx, sheetID, "import", who.Name, len(in.Rows), func(ctx context.Context, p engine.Progress) (any, error) {
		o.Progress = p
		res, err := s.e.Import(ctx, sheetID, in, o, who)
		if err != nil && failed != nil {
			failed(ctx)
		}
		return toImportResult(&res), err
	})
	if err != nil {
		return Job{}, err
	}
	return toJob(j, s.Wall()), nil
}

func toImportResult(r *engine.ImportResult) ImportResult {
	out := ImportResult{New: r.New, Changed: r.Changed, Unchanged: r.Unchanged, Gone: r.Gone, Doubled: r.Doubled, Keyless: r.Keyless, Cells: r.Cells,
		Unreadable: r.Unreadable, Absent: r.Absent, Blank: r.Blank, Skipped: append([]string{}, r.Skipped...), Samples: []RowDiff{}, GoneNames: r.GoneNames}
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

func toJob(j *store.Job, now time.Time) Job {
	out := Job{Id: j.ID, Kind: j.Kind, State: JobState(j.State), Done: int(j.Done), Total: int(j.Total)}
	if took := now.Sub(j.StartedAt); j.State == store.JobRunning && j.Done > 0 && took > 0 {
		out.SecondsLeft = int(took.Seconds() * float64(j.Total-j.Done) / float64(j.Done))
	}
	switch j.State {
	case store.JobDone:
		var res ImportResult
		if j.Kind == "import" && json.Unmarshal([]byte(j.Result), &res) == nil {
			out.Import = &res
		}
	case store.JobFailed:
		d := struct{ Problem string }{"Its process stopped before it was done; nothing was changed. Start it again."}
		_ = json.Unmarshal([]byte(j.Result), &d)
		d.Problem = sentence(d.Problem)
		out.Problem = &d.Problem
	}
	return out
}

// GetJob implements StrictServerInterface.
func (s *Server) GetJob(ctx context.Context, r GetJobRequestObject) (GetJobResponseObject, error) {
	j, err := s.st.Job(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	return GetJob200JSONResponse(toJob(j, s.Wall())), nil
}

// StopJob implements StrictServerInterface.
func (s *Server) StopJob(ctx context.Context, r StopJobRequestObject) (StopJobResponseObject, error) {
	j, err := s.st.Job(ctx, r.Job)
	if err != nil {
		return nil, err
	}
	if who := person(ctx); j.PersonID != who.ID && !who.Role.May(store.Coordinator) {
		return nil, problem(403, "An editor stops what they began themselves; a coordinator may stop all.")
	}
	return StopJob204Response{}, s.st.StopJob(ctx, r.Job)
}

// SheetJobs implements StrictServerInterface.
func (s *Server) SheetJobs(ctx context.Context, r SheetJobsRequestObject) (SheetJobsResponseObject, error) {
	jobs, err := s.st.RunningJobs(ctx, r.Sheet)
	out := SheetJobs200JSONResponse{}
	for i := range jobs {
		out = append(out, toJob(&jobs[i], s.Wall()))
	}
	return out, err
}

// importSpec reads an upload that is to go into a sheet.
func (s *Server) importSpec(ctx context.Context, body *multipart.Reader, sheetID string) (in engine.Incoming, o engine.ImportOptions, err error) {
	f, err := readForm(body)
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

// unmatched gives the headings of the columns that are not imported.
func unmatched(heading, to []string) (out []string) {
	for i, h := range heading {
		if to[i] == "" {
			out = append(out, h)
		}
	}
	return out
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

// chosenColumns turns a person's choices into columns; at gives for a column of
// the file its place among them, -1 for one that is left out.
func chosenColumns(spec *NewSheet, t *exchange.Table) (cols []sheet.Column, at func(int) int, err error) {
	places := map[int]int{}
	for i := range spec.Columns {
		c := &spec.Columns[i]
		if c.Skip != nil && *c.Skip {
			continue
		}
		col, err := fileColumn(c, i, t)
		if err != nil {
			return nil, nil, err
		}
		places[i] = len(cols)
		cols = append(cols, col)
	}
	if len(cols) == 0 {
		return nil, nil, &engine.Refusal{Field: "/columns", Message: "a sheet needs at least one column"}
	}
	return cols, func(i int) int {
		if k, ok := places[i]; ok {
			return k
		}
		return -1
	}, nil
}

// numberFormat is how the file writes the numbers of a new column.
func (c *ImportColumn) numberFormat() value.NumberFormat {
	if c.Format == nil || value.Type(c.Type) != value.Number {
		return value.NumberFormat{}
	}
	return *c.Format
}

// dateOrder is the order in which the file writes the dates of a column of type
// t; "" where it is not said, or holds no dates.
func (c *ImportColumn) dateOrder(t value.Type) value.Order {
	if c.Order == nil || t != value.Date && t != value.Moment {
		return ""
	}
	return value.Order(*c.Order)
}

// fileColumn makes the column that one of a file is to become.
func fileColumn(c *ImportColumn, i int, t *exchange.Table) (sheet.Column, error) {
	at := fmt.Sprintf("/columns/%d/type", i)
	col := sheet.Column{Name: c.Name, Type: value.Type(c.Type)}
	col.Order, col.Format = c.dateOrder(col.Type), c.numberFormat()
	if err := col.Format.Validate(); err != nil {
		return col, &engine.Refusal{Field: "/columns", Message: col.Name + ": " + err.Error()}
	}
	if c.Group != nil {
		col.Group = *c.Group
	}
	switch col.Type {
	case value.Formula:
		return col, &engine.Refusal{Field: at, Message: "a column of a file holds values, not a formula"}
	case value.Choice:
		var opts []string
		if i < len(t.Heading) {
			opts = choiceOptions(t.Column(i))
		}
		if len(opts) > maxOptions {
			return col, &engine.Refusal{Field: at, Message: fmt.Sprintf("%s has %d different values; a choice has at most %d", c.Name, len(opts), maxOptions)}
		}
		for _, o := range opts {
			col.Options = append(col.Options, value.Option{Name: o})
		}
	}
	return col, nil
}
