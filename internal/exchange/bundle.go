package exchange

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/calendar"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// Bundle is the open form of a sheet and its rules, read: names have been
// turned into ids.
type Bundle struct {
	Sheet     *sheet.Sheet
	Rows      []*sheet.Row
	Rules     []*rule.Rule
	Templates map[string]*template.Template
	Pieces    map[string]*template.Piece // by their folded names, which are their ids here
	Files     map[string]*File           // that letters carry, by the names of their contents
	Shelf     []*File                    // that rows name

	dir      fs.FS
	Calendar calendar.Calendar
	Own      bool // it has a calendar.json of its own
}

// format names the version of the bundle that this code reads and writes.
const format = "nivot-bundle/1"

// BundleError is a fault in a bundle: the file, where in it, and what.
type BundleError struct {
	File  string
	Where string // JSON pointer (RFC 6901), "line n", or ""
	Err   error
}

func (e *BundleError) Error() string {
	if e.Where == "" {
		return fmt.Sprintf("%s: %v", e.File, e.Err)
	}
	return fmt.Sprintf("%s, %s: %v", e.File, e.Where, e.Err)
}

// Unwrap gives the fault itself.
func (e *BundleError) Unwrap() error { return e.Err }

type sheetFile struct {
	Format  string       `json:"format"`
	Name    string       `json:"name"`
	Zone    string       `json:"zone"`
	Locale  string       `json:"locale"`
	Key     string       `json:"key"`
	Settle  string       `json:"settle"`
	Columns []columnFile `json:"columns"`
}

type columnFile struct {
	Name    string             `json:"name"`
	Type    value.Type         `json:"type"`
	Order   value.Order        `json:"order"`
	Options []string           `json:"options"`
	Formula string             `json:"formula"`
	Group   string             `json:"group"`
	Format  value.NumberFormat `json:"format"`
}

type templateFile struct {
	Name string `json:"name"`
	wordingFile
	Language      string          `json:"language"`
	FirstLanguage string          `json:"firstLanguage"`
	Variants      []variantFile   `json:"variants"`
	Attachments   json.RawMessage `json:"attachments"`
}

// wordingFile is subject and letter in one language: the letter as text with
// fields in square brackets, or as a document tree; the lines as text, or, where that cannot say
// them, as a tree.
type wordingFile struct {
	Subject   json.RawMessage `json:"subject"`
	Preheader json.RawMessage `json:"preheader"`
	Text      string          `json:"text"`
	Body      json.RawMessage `json:"body"`
}

// pieceFile is a text that many templates use.
type pieceFile struct {
	Name     string          `json:"name"`
	Body     json.RawMessage `json:"body"`
	Variants []struct {
		Language string          `json:"language"`
		Body     json.RawMessage `json:"body"`
	} `json:"variants"`
}

type variantFile struct {
	Language string `json:"language"`
	wordingFile
}

type calendarFile struct {
	Weekdays []string `json:"weekdays"`
	Closed   []string `json:"closed"`
}

// OpenBundle reads a bundle: a folder, or a .zip of one.
func OpenBundle(path string) (*Bundle, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the bundle %s cannot be opened: %w", path, errors.Unwrap(err))
	}
	if info.IsDir() {
		return ReadBundle(os.DirFS(path))
	}
	z, err := zip.OpenReader(path)
	if err != nil {
		return nil, fmt.Errorf("the bundle %s is neither a folder nor a .zip: %w", path, err)
	}
	defer z.Close()
	return ReadBundle(inside(z))
}

// ReadZip reads a bundle that is a .zip in memory. Its files may stand in one
// folder.
func ReadZip(data []byte) (*Bundle, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("the bundle is not a .zip: %w", err)
	}
	return ReadBundle(inside(z))
}

// inside gives the folder of an archive that holds sheet.json.
func inside(z fs.FS) fs.FS {
	if found, err := fs.Glob(z, "*/sheet.json"); err == nil && len(found) == 1 {
		if dir, err := fs.Sub(z, path.Dir(found[0])); err == nil {
			return dir
		}
	}
	return z
}

// ReadBundle reads the files of a bundle.
func ReadBundle(dir fs.FS) (*Bundle, error) {
	b := &Bundle{Templates: map[string]*template.Template{}, Pieces: map[string]*template.Piece{},
		Files: map[string]*File{}, Calendar: calendar.Default(), dir: dir}
	if err := b.readShelf(); err != nil {
		return nil, err
	}
	for _, step := range []struct {
		file string
		read func(data []byte) error
		opt  bool
	}{
		{"sheet.json", b.readSheet, false},
		{"calendar.json", b.readCalendar, true},
		{"rows.csv", b.readRows, false},
		{"pieces.json", b.readPieces, true},
		{"templates.json", b.readTemplates, false},
		{"rules.json", b.readRules, false},
	} {
		data, err := readFile(dir, step.file)
		if step.opt && errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = step.read(data)
		} else if errors.Is(err, fs.ErrNotExist) {
			err = errors.New("the file is missing")
		}
		if err != nil {
			return nil, place(step.file, err)
		}
	}
	return b, nil
}

// readShelf reads the folder of files that rows name, where there is one.
func (b *Bundle) readShelf() error {
	list, err := fs.ReadDir(b.dir, "shelf")
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, f := range list {
		name := "shelf/" + f.Name()
		if f.IsDir() {
			return place(name, errors.New("it is a folder; the shelf holds files alone"))
		}
		x := &File{Name: f.Name()}
		if x.Data, err = readFile(b.dir, name); err == nil {
			x.Type, err = template.ReadFile(x.Name, x.Data)
		}
		if err != nil {
			return place(name, err)
		}
		b.Shelf = append(b.Shelf, x)
	}
	return nil
}

// shelf gives the files that rows name, as letters look for them.
func (b *Bundle) shelf() template.Shelf {
	out := template.Shelf{}
	for _, f := range b.Shelf {
		out[value.Fold(f.Name)] = template.Kept{Name: f.Name, File: template.ContentID(f.Data), Type: f.Type,
			Size: len(f.Data)}
	}
	return out
}

func readFile(dir fs.FS, name string) ([]byte, error) {
	f, err := dir.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, MaxBytes+1))
	if err == nil && len(data) > MaxBytes {
		err = fmt.Errorf("the file is larger than %d MB", MaxBytes>>20)
	}
	return data, err
}

// place puts file and place before a fault.
func place(file string, err error) error {
	var be *BundleError
	if errors.As(err, &be) {
		be.File = file
		return be
	}
	var fe *FileError
	if errors.As(err, &fe) && fe.Line > 0 {
		return &BundleError{File: file, Where: fmt.Sprintf("line %d", fe.Line), Err: errors.New(fe.Message)}
	}
	return &BundleError{File: file, Err: err}
}

// at puts a pointer before a fault; that of a template's goes on from there.
func at(pointer string, err error) error {
	return &BundleError{Where: pointer + template.PointerOf(err), Err: err}
}

// decodeJSON decodes strictly and turns offsets into line numbers.
func decodeJSON(data []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(bytes.TrimPrefix(data, []byte("\ufeff"))))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, end := d.Token(); end != io.EOF {
			err = errors.New("something stands behind the end of the JSON text")
		}
	}
	var syn *json.SyntaxError
	var typ *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syn):
		return at(lineOf(data, syn.Offset), err)
	case errors.As(err, &typ):
		return at(lineOf(data, typ.Offset), fmt.Errorf("%s is wanted, not %s", typ.Type, typ.Value))
	case err != nil:
		return at(lineOf(data, d.InputOffset()), err)
	}
	return nil
}

func lineOf(data []byte, offset int64) string {
	return fmt.Sprintf("line %d", 1+bytes.Count(data[:min(int(offset), len(data))], []byte("\n")))
}

func (b *Bundle) readSheet(data []byte) error {
	var f sheetFile
	if err := decodeJSON(data, &f); err != nil {
		return err
	}
	if f.Format != format {
		return at("/format", fmt.Errorf("format %q is not known; this version reads %q", f.Format, format))
	}
	loc, err := time.LoadLocation(f.Zone)
	if err != nil || f.Zone == "" {
		return at("/zone", fmt.Errorf("zone %q is not known; use a name like Europe/London", f.Zone))
	}
	locale, err := value.FindLocale(f.Locale)
	if err != nil {
		return at("/locale", err)
	}
	settle := 2 * time.Minute
	if f.Settle != "" {
		if settle, err = parseSettle(f.Settle); err != nil {
			return at("/settle", err)
		}
	}
	s := &sheet.Sheet{ID: "sheet", Name: f.Name, Zone: loc, Locale: locale, Settle: settle}
	for i, c := range f.Columns {
		p := fmt.Sprintf("/columns/%d", i)
		if (c.Type == value.Formula) != (c.Formula != "") {
			return at(p+"/formula", errors.New("a formula goes with a column of type formula, and with no other"))
		}
		col := sheet.Column{ID: "column:" + value.Fold(c.Name), Name: value.Trim(c.Name), Type: c.Type, Pos: i,
			Order:   c.Order,
			Formula: c.Formula, Format: c.Format, Group: c.Group}
		for _, o := range c.Options {
			col.Options = append(col.Options, value.Option{ID: value.Fold(o), Name: o})
		}
		s.Columns = append(s.Columns, col)
	}
	sheet.IdentifyGroups(s.Columns, nil)
	if f.Key != "" {
		k, ok := s.ColumnNamed(f.Key)
		if !ok {
			return at("/key", fmt.Errorf("there is no column %q", f.Key))
		}
		s.Key = k.ID
	}
	if err := s.Validate(); err != nil {
		var fe *sheet.FormulaError
		if errors.As(err, &fe) {
			return at(fmt.Sprintf("/columns/%d/formula", fe.Column), fe.Err)
		}
		return at("/columns", err)
	}
	b.Sheet = s
	return nil
}

func parseSettle(s string) (time.Duration, error) {
	if s == "PT0S" || s == "PT0M" {
		return 0, nil
	}
	d, err := calendar.ParseDuration(s)
	return d.Time + time.Duration(d.Days)*24*time.Hour, err
}

func (b *Bundle) readCalendar(data []byte) error {
	var f calendarFile
	if err := decodeJSON(data, &f); err != nil {
		return err
	}
	c, err := calendar.New(f.Weekdays, f.Closed)
	if err != nil {
		return err
	}
	b.Calendar, b.Own = c, true
	return nil
}

func (b *Bundle) readRows(data []byte) error {
	t, err := ReadCSV(data, Choice{})
	if err != nil {
		return err
	}
	cols := make([]*sheet.Column, len(t.Heading))
	for i, h := range t.Heading {
		c, ok := b.Sheet.ColumnNamed(original(h))
		if !ok {
			return at("line 1", fmt.Errorf("there is no column %q in sheet.json", h))
		}
		cols[i] = c
	}
	seen := map[string]bool{}
	for i, rec := range t.Rows {
		r := &sheet.Row{Number: int64(i + 1)}
		for k, text := range rec {
			if cols[k].Type != value.Formula {
				r.Set(cols[k], value.Parse(original(text), b.Sheet.Reading(cols[k])))
			}
		}
		// A second row with the same key is kept; edits by key mean the first.
		r.ID = b.Sheet.RowName(r)
		if f := value.Fold(r.ID); seen[f] {
			r.ID = fmt.Sprintf("%s (#%d)", r.ID, r.Number)
		} else {
			seen[f] = true
		}
		b.Rows = append(b.Rows, r)
	}
	return nil
}

func (b *Bundle) readTemplates(data []byte) error {
	var fs []templateFile
	if err := decodeJSON(data, &fs); err != nil {
		return err
	}
	for i, f := range fs {
		p := fmt.Sprintf("/%d", i)
		if b.Templates[value.Fold(f.Name)] != nil {
			return at(p+"/name", fmt.Errorf("there are two templates %q", f.Name))
		}
		t := &template.Template{ID: value.Fold(f.Name), Name: f.Name, FirstLanguage: f.FirstLanguage}
		if err := b.readTemplate(p, t, &f); err != nil {
			return err
		}
		b.Templates[t.ID] = t
	}
	return nil
}

func (b *Bundle) readTemplate(p string, t *template.Template, f *templateFile) error {
	if err := b.readWording(p, f.wordingFile, template.Text{Subject: &t.Subject, Preheader: &t.Preheader,
		Body: &t.Body}); err != nil {
		return err
	}
	for k, v := range f.Variants {
		x := template.Variant{Language: v.Language}
		if err := b.readWording(fmt.Sprintf("%s/variants/%d", p, k), v.wordingFile, template.Text{Subject: &x.Subject,
			Preheader: &x.Preheader, Body: &x.Body}); err != nil {
			return err
		}
		t.Variants = append(t.Variants, x)
	}
	if f.Language != "" {
		c, ok := b.Sheet.ColumnNamed(f.Language)
		if !ok {
			return at(p+"/language", fmt.Errorf("there is no column %q", f.Language))
		}
		t.Language = c.ID
	}
	if f.Attachments != nil {
		only := &template.Template{}
		if err := decodeJSON(f.Attachments, &only.Attachments); err != nil {
			return at(p+"/attachments", err)
		}
		if err := only.Rename(b.columnID, b.option); err != nil {
			return at(p+"/attachments", err)
		}
		t.Attachments = only.Attachments
	}
	if err := b.takeFiles(t.Images(), t.Attachments); err != nil {
		return at(p, err)
	}
	err := t.RenamePieces(func(name string) (string, error) {
		if b.Pieces[value.Fold(name)] == nil {
			return "", fmt.Errorf("there is no piece of text %q in pieces.json", name)
		}
		return value.Fold(name), nil
	})
	if err == nil {
		t.Use(template.Rests{Pieces: b.Pieces, Shelf: b.shelf()})
		err = t.Validate(b.Sheet)
	}
	if err != nil {
		fault := &BundleError{Where: p + template.PointerOf(err), Err: err}
		if f.Body == nil && strings.HasPrefix(template.PointerOf(err), "/body") {
			fault.Where = p + "/text" // which it was written as
		}
		return fault
	}
	return nil
}

// columnID finds a column's id by its name.
func (b *Bundle) columnID(name string) (string, error) {
	c, ok := b.Sheet.ColumnNamed(name)
	if !ok {
		return "", fmt.Errorf("there is no column %q", name)
	}
	return c.ID, nil
}

// readWording reads subject, preview text and letter; a document tree names columns by name.
func (b *Bundle) readWording(p string, f wordingFile, into template.Text) (err error) {
	if *into.Subject, err = b.readLine(f.Subject); err != nil {
		return at(p+"/subject", err)
	}
	if f.Preheader != nil {
		if *into.Preheader, err = b.readLine(f.Preheader); err != nil {
			return at(p+"/preheader", err)
		}
	}
	if f.Body == nil {
		if *into.Body, err = template.ParseText(f.Text, b.Sheet); err != nil {
			return at(p+"/text", err)
		}
		return nil
	}
	if f.Text != "" {
		return at(p+"/text", errors.New("give text or body, not both"))
	}
	if *into.Body, err = b.readTree(f.Body); err != nil {
		return at(p+"/body", err)
	}
	return nil
}

// readLine reads a line in its text form, or as a tree.
func (b *Bundle) readLine(raw json.RawMessage) (template.Node, error) {
	if raw == nil {
		raw = json.RawMessage(`""`)
	}
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return template.ParseLine(text, b.Sheet)
	}
	return b.readTree(raw)
}

func (b *Bundle) readTree(raw json.RawMessage) (template.Node, error) {
	t := &template.Template{}
	if err := json.Unmarshal(raw, &t.Body); err != nil {
		return t.Body, err
	}
	return t.Body, t.Rename(b.columnID, b.option)
}

// File is what letters carry: an image or an attachment.
type File struct {
	Name string
	Type string
	Data []byte
}

// takeFiles reads the files that images and attachments name, out of the bundle's folder of
// files, and puts the names of their contents in place of theirs.
func (b *Bundle) takeFiles(images []*template.Image, attachments []template.Attachment) error {
	take := func(name string) (*File, string, error) {
		if !fs.ValidPath("files/" + name) {
			return nil, "", fmt.Errorf("%q is not the name of a file", name)
		}
		data, err := readFile(b.dir, "files/"+name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, "", fmt.Errorf("files/%s is missing", name)
		}
		f := &File{Name: name, Data: data}
		return f, template.ContentID(data), err
	}
	for _, i := range images {
		if i.File == "" {
			continue // it holds its data
		}
		f, id, err := take(i.File)
		if err != nil {
			return err
		}
		if f.Type, _, _, err = template.ReadImage(f.Data); err != nil {
			return fmt.Errorf("files/%s: %w", f.Name, err)
		}
		i.File, i.Type, b.Files[id] = id, f.Type, f
	}
	for k := range attachments {
		a := &attachments[k]
		if a.Kind != template.FileKind {
			continue
		}
		f, id, err := take(a.File)
		if err != nil {
			return err
		}
		if f.Type, err = template.ReadFile(f.Name, f.Data); err != nil {
			return fmt.Errorf("files/%s: %w", f.Name, err)
		}
		if len(a.Name) == 0 {
			a.Name = template.Line{{Text: f.Name}}
		}
		a.File, a.Type, a.Size, b.Files[id] = id, f.Type, len(f.Data), f
	}
	return nil
}

func (b *Bundle) readPieces(data []byte) error {
	var fs []pieceFile
	if err := decodeJSON(data, &fs); err != nil {
		return err
	}
	for i, f := range fs {
		p := fmt.Sprintf("/%d", i)
		x := &template.Piece{ID: value.Fold(f.Name), Name: f.Name}
		if b.Pieces[x.ID] != nil {
			return at(p+"/name", fmt.Errorf("there are two pieces of text %q", f.Name))
		}
		var err error
		if x.Body, err = b.readTree(f.Body); err != nil {
			return at(p+"/body", err)
		}
		for k, v := range f.Variants {
			body, err := b.readTree(v.Body)
			if err != nil {
				return at(fmt.Sprintf("%s/variants/%d/body", p, k), err)
			}
			x.Variants = append(x.Variants, template.PieceVariant{Language: v.Language, Body: body})
		}
		if err := b.takeFiles(x.Images(), nil); err != nil {
			return at(p, err)
		}
		if err := x.Validate(); err != nil {
			return at(p, err)
		}
		b.Pieces[x.ID] = x
	}
	return nil
}

// option finds an option's id by its name.
func (b *Bundle) option(column, name string) (string, error) {
	if id, ok := (rule.SheetScope{Sheet: b.Sheet}).OptionID(column, name); ok {
		return id, nil
	}
	return "", fmt.Errorf("%q is none of the column's options", name)
}

func (b *Bundle) readRules(data []byte) error {
	var raw []json.RawMessage
	if err := decodeJSON(data, &raw); err != nil {
		return err
	}
	names := map[string]bool{}
	scope := rule.SheetScope{Sheet: b.Sheet, Templates: map[string]bool{}, Calendar: b.Calendar}
	for id := range b.Templates {
		scope.Templates[id] = true
	}
	for i, j := range raw {
		p := fmt.Sprintf("/%d", i)
		r, err := rule.Decode(j)
		var fe *rule.FieldError
		if errors.As(err, &fe) {
			return at(p+fe.Pointer, errors.New(fe.Message))
		}
		if err != nil {
			return at(p, err)
		}
		if r.State == "" {
			r.State = rule.Draft
		}
		if r.State != rule.Draft && r.State != rule.On && r.State != rule.Paused {
			return at(p+"/state", fmt.Errorf("state %q is not known; use draft, on or paused", r.State))
		}
		r.ID = value.Fold(r.Name)
		if names[r.ID] {
			return at(p+"/name", fmt.Errorf("there are two rules %q", r.Name))
		}
		names[r.ID] = true
		if err := b.resolve(r); err != nil {
			var fe *rule.FieldError
			if errors.As(err, &fe) {
				return at(p+fe.Pointer, errors.New(fe.Message))
			}
			return at(p, err)
		}
		if err := r.Validate(scope); err != nil {
			if errors.As(err, &fe) {
				return at(p+fe.Pointer, errors.New(fe.Message))
			}
			return at(p, err)
		}
		if err := b.checkRoundUp(r); err != nil {
			return at(p+"/send", err)
		}
		b.Rules = append(b.Rules, r)
	}
	return nil
}

func (b *Bundle) checkRoundUp(r *rule.Rule) error {
	if r.GroupBy == "" {
		return nil
	}
	s, err := plan.Compile(b.Sheet, r, b.Templates, b.Calendar, nil)
	if err != nil {
		return err
	}
	return s.CheckRoundUp(b.Rows, time.Unix(0, 0))
}

// resolve turns the names in a rule into ids.
func (b *Bundle) resolve(r *rule.Rule) error {
	return r.Rename(func(name string) (string, error) {
		c, ok := b.Sheet.ColumnNamed(name)
		if !ok {
			return "", fmt.Errorf("there is no column %q", name)
		}
		return c.ID, nil
	}, func(name string) (string, error) {
		if _, ok := b.Templates[value.Fold(name)]; !ok {
			return "", fmt.Errorf("there is no template %q", name)
		}
		return value.Fold(name), nil
	}, b.option)
}

// Settings gives what each of the bundle's rules is judged with, the rules
// that are on, or all of them.
func (b *Bundle) Settings(all bool) ([]*plan.CompiledRule, error) {
	var out []*plan.CompiledRule
	for _, r := range b.Rules {
		if !all && r.State != rule.On {
			continue
		}
		s, err := plan.Compile(b.Sheet, r, b.Templates, b.Calendar, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

type editFile struct {
	At     string                     `json:"at"`
	Row    string                     `json:"row"`
	Set    map[string]json.RawMessage `json:"set"`
	Add    map[string]json.RawMessage `json:"add"`
	Delete string                     `json:"delete"`
}

// ReadEdits reads edits.jsonl for this bundle: one edit per line, in time
// order, columns by name.
func (b *Bundle) ReadEdits(data []byte) ([]plan.Edit, error) {
	var out []plan.Edit
	known := &rowNames{ids: map[string]string{}, gone: map[string]bool{}}
	for _, r := range b.Rows {
		name := value.Fold(b.Sheet.RowName(r))
		if _, ok := known.ids[name]; !ok {
			known.ids[name] = r.ID
		}
	}
	for n, line := range strings.Split(string(data), "\n") {
		if value.Trim(line) == "" {
			continue
		}
		e, err := b.readEdit([]byte(line), known, len(b.Rows)+known.added+1)
		if err != nil {
			return nil, &BundleError{File: "edits", Where: fmt.Sprintf("line %d", n+1), Err: err}
		}
		out = append(out, e)
	}
	return out, nil
}

// rowNames is what edits call the rows by.
type rowNames struct {
	ids   map[string]string // by folded name: the first row with it
	gone  map[string]bool   // by id: deleted by an edit
	added int
}

func (b *Bundle) readEdit(line []byte, known *rowNames, number int) (plan.Edit, error) {
	var f editFile
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return plan.Edit{}, err
	}
	t, err := ParseInstant(f.At, b.Sheet.Zone)
	if err != nil {
		return plan.Edit{}, err
	}
	e := plan.Edit{At: t}
	cells := f.Set
	switch {
	case f.Add != nil && f.Row == "" && f.Set == nil && f.Delete == "":
		e.Add, cells = true, f.Add
	case f.Delete != "" && f.Row == "" && f.Set == nil && f.Add == nil:
		e.Delete, f.Row = true, f.Delete
	case f.Row != "" && f.Set != nil && f.Add == nil && f.Delete == "":
	default:
		return plan.Edit{}, errors.New("an edit has at and one of: row and set, add, delete")
	}
	if e.Set, err = b.cells(cells); err != nil {
		return plan.Edit{}, err
	}
	if e.Add {
		row := &sheet.Row{Number: int64(number)}
		for id, v := range e.Set {
			c, _ := b.Sheet.Column(id)
			row.Set(c, v)
		}
		name := b.Sheet.RowName(row)
		id, ok := known.ids[value.Fold(name)]
		switch {
		case ok && known.gone[id]: // a key that comes back is the old row again
			delete(known.gone, id)
			e.Row = id
			return e, nil
		case ok: // a second row with a key is one of its own; edits mean the first
			e.Row = fmt.Sprintf("%s (#%d)", name, number)
		default:
			known.ids[value.Fold(name)], e.Row = name, name
		}
		known.added++
		return e, nil
	}
	id, ok := known.ids[value.Fold(f.Row)]
	if !ok || known.gone[id] {
		return plan.Edit{}, fmt.Errorf("row %q is not there", f.Row)
	}
	if e.Row = id; e.Delete {
		known.gone[id] = true
	}
	return e, nil
}

// cells reads an edit's cells: strings as typed, null and "" empty, numbers
// and booleans as they are.
func (b *Bundle) cells(m map[string]json.RawMessage) (map[string]value.Value, error) {
	out := map[string]value.Value{}
	for name, raw := range m {
		c, ok := b.Sheet.ColumnNamed(name)
		if !ok {
			return nil, fmt.Errorf("there is no column %q", name)
		}
		if c.Type == value.Formula {
			return nil, fmt.Errorf("column %q is calculated and cannot be set", name)
		}
		r := b.Sheet.Reading(c)
		var text string
		switch {
		case string(raw) == "null":
		case raw[0] == '"':
			if err := json.Unmarshal(raw, &text); err != nil {
				return nil, err
			}
		case string(raw) == "true" || string(raw) == "false":
			text = string(raw)
		default:
			var n json.Number
			if err := json.Unmarshal(raw, &n); err != nil {
				return nil, fmt.Errorf("column %q: %s is not a cell", name, raw)
			}
			if d, err := decimal.NewFromString(n.String()); err == nil && c.Type == value.Number && d.Exponent() >= -60 &&
				d.Exponent() <= 60 {
				out[c.ID] = value.OfNumber(d)
				continue
			}
			text = n.String()
		}
		out[c.ID] = value.Parse(text, r)
	}
	return out, nil
}

// ParseInstant reads an instant: ISO 8601 with an offset or Z, wall time in
// loc without one, a bare day as its start.
func ParseInstant(s string, loc *time.Location) (time.Time, error) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t, nil
		}
	}
	if d, err := value.ParseDay(s, value.YearMonthDay); err == nil {
		return calendar.Resolve(value.Wall{Day: d}, loc), nil
	}
	w, err := value.ParseMoment(s, value.YearMonthDay, loc)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is not a time; write it as 2027-03-15T08:40", s)
	}
	return calendar.Resolve(w, loc), nil
}
