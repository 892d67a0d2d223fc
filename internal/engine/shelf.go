package engine

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// maxShelf is how many files a sheet has.
const maxShelf = 20_000

// PutOnShelf puts a file among those of a sheet. Where its name stands for another content,
// replace says whether this takes its place; else it gets a name with a number. Emails that
// were incomplete for want of it are judged again.
func (e *Engine) PutOnShelf(ctx context.Context, sheetID, name string, data []byte, replace bool,
	actor string) (*store.ShelfFile, error) {
	names, err := value.ParseFiles(name)
	if err != nil || len(names) != 1 {
		return nil,
			&Refusal{Field: "/file", Message: fmt.Sprintf("“%s” cannot be the name of a file; rename it, without a semicolon",
				name)}
	}
	name = names[0]
	typ, err := template.ReadFile(name, data)
	if err != nil {
		return nil, &Refusal{Field: "/file", Message: fmt.Sprintf("“%s” cannot be taken: %s", name, err)}
	}
	content := template.ContentID(data)
	var out *store.ShelfFile
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		rec, err := tx.LockSheet(ctx, sheetID)
		if err != nil {
			return err
		}
		n, err := tx.CountShelf(ctx, sheetID)
		if err != nil {
			return err
		}
		if n >= maxShelf {
			return refuse("a sheet has up to %d files; remove those that no row names any more", maxShelf)
		}
		if name, err = shelfName(ctx, tx, sheetID, name, content, replace); err != nil {
			return err
		}
		now := e.now()
		if err := tx.KeepFile(ctx, &store.File{ID: store.FileID(content), Type: typ, Size: int64(len(data)), Data: data,
			CreatedAt: now}); err != nil {
			return err
		}
		out = &store.ShelfFile{SheetID: sheetID, Name: name, File: store.FileID(content), AddedBy: actor, AddedAt: now,
			Type: typ, Size: int64(len(data))}
		if err := tx.PutOnShelf(ctx, out); err != nil {
			return err
		}
		return e.shelfChanged(ctx, tx, rec, actor, map[string]any{"file": content, "name": name})
	})
	if err == nil {
		wake(e.wakeAgenda)
	}
	return out, err
}

// shelfName gives the name under which a content goes on a shelf.
func shelfName(ctx context.Context, tx *store.Store, sheetID, name, content string, replace bool) (string, error) {
	ending := path.Ext(name)
	stem := strings.TrimSuffix(name, ending)
	for n := 2; ; n++ {
		have, err := tx.ShelfFile(ctx, sheetID, name)
		if errors.Is(err, store.ErrNotFound) {
			return name, nil
		}
		if err != nil {
			return "", err
		}
		if replace || hex.EncodeToString(have.File) == content {
			return have.Name, nil
		}
		name = fmt.Sprintf("%s (%d)%s", stem, n, ending)
	}
}

// TakeOffShelf removes a file from those of a sheet. Emails that carried it keep it.
func (e *Engine) TakeOffShelf(ctx context.Context, sheetID, name, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		rec, err := tx.LockSheet(ctx, sheetID)
		if err != nil {
			return err
		}
		f, err := tx.ShelfFile(ctx, sheetID, name)
		if err != nil {
			return err
		}
		if err := tx.TakeOffShelf(ctx, sheetID, name); err != nil {
			return err
		}
		return e.shelfChanged(ctx, tx, rec, actor, map[string]any{"file": hex.EncodeToString(f.File), "name": f.Name,
			"removed": true})
	})
}

func (e *Engine) shelfChanged(ctx context.Context, tx *store.Store, rec *store.Sheet, actor string,
	detail map[string]any) error {
	s, err := rec.Core()
	if err != nil {
		return err
	}
	var columns []string
	for _, c := range fileColumns(s) {
		columns = append(columns, c.ID)
	}
	if err := tx.ReviewBlamed(ctx, rec.ID, columns, e.now()); err != nil {
		return err
	}
	return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventShelfChanged, SheetID: rec.ID,
		Detail: store.Detail(detail)})
}

func fileColumns(s *sheet.Sheet) (out []*sheet.Column) {
	for i := range s.Columns {
		if s.Columns[i].Type == value.File {
			out = append(out, &s.Columns[i])
		}
	}
	return out
}

// Shelf are the files of a sheet, with how many rows name each, and the names in rows that no
// file has.
type Shelf struct {
	Files  []store.ShelfFile
	Rows   []int // by the place in Files
	Absent []NamedFile
}

// NamedFile is a name that rows have for a file, the first row first.
type NamedFile struct {
	Name string
	Rows []int64
}

// Shelf gives the files of a sheet and what its rows name.
func (e *Engine) Shelf(ctx context.Context, sheetID string) (*Shelf, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	s, err := rec.Core()
	if err != nil {
		return nil, err
	}
	out := &Shelf{}
	if out.Files, err = e.Store.Shelf(ctx, sheetID); err != nil {
		return nil, err
	}
	out.Rows = make([]int, len(out.Files))
	columns := fileColumns(s)
	if len(columns) == 0 {
		return out, nil
	}
	place := map[string]int{}
	for i := range out.Files {
		place[string(out.Files[i].Folded)] = i
	}
	absent := map[string]*NamedFile{}
	decoder := s.Decoder(columns...)
	var row sheet.Row
	err = e.Store.StreamRows(ctx, sheetID, func(id, _ int64, _ bool, cells []byte) error {
		var err error
		if row.Cells, err = decoder.Decode(cells, row.Cells); err != nil {
			return err
		}
		for _, name := range namedIn(&row, columns) {
			f := value.Fold(name)
			if i, ok := place[f]; ok {
				out.Rows[i]++
				continue
			}
			if absent[f] == nil {
				absent[f] = &NamedFile{Name: name}
			}
			absent[f].Rows = append(absent[f].Rows, id)
		}
		return nil
	})
	for _, a := range absent {
		out.Absent = append(out.Absent, *a)
	}
	slices.SortFunc(out.Absent, func(a, b NamedFile) int {
		return strings.Compare(value.Fold(a.Name),
			value.Fold(b.Name))
	})
	return out, err
}

// namedIn lists the files that a row names, each once.
func namedIn(row *sheet.Row, columns []*sheet.Column) (out []string) {
	for _, c := range columns {
		for _, name := range row.Cell(c).Files() {
			if !slices.ContainsFunc(out, func(o string) bool { return value.Fold(o) == value.Fold(name) }) {
				out = append(out, name)
			}
		}
	}
	return out
}
