package api

import (
	"context"
	"encoding/hex"

	"nivot/internal/store"
)

// ListSheetFiles implements StrictServerInterface.
func (s *Server) ListSheetFiles(ctx context.Context,
	r ListSheetFilesRequestObject) (ListSheetFilesResponseObject, error) {
	shelf, err := s.e.Shelf(ctx, r.Sheet)
	if err != nil {
		return nil, err
	}
	out := ListSheetFiles200JSONResponse{Files: []SheetFile{}, Absent: []AbsentFile{}}
	for i := range shelf.Files {
		out.Files = append(out.Files, sheetFile(&shelf.Files[i], shelf.Rows[i]))
	}
	for _, a := range shelf.Absent {
		out.Absent = append(out.Absent, AbsentFile{Name: a.Name, Rows: len(a.Rows), First: store.RowID(a.Rows[0])})
	}
	return out, nil
}

func sheetFile(f *store.ShelfFile, rows int) SheetFile {
	return SheetFile{Name: f.Name, File: hex.EncodeToString(f.File), Type: f.Type, Size: int(f.Size), Rows: rows,
		By: f.AddedBy, At: f.AddedAt}
}

// AddSheetFile implements StrictServerInterface.
func (s *Server) AddSheetFile(ctx context.Context, r AddSheetFileRequestObject) (AddSheetFileResponseObject, error) {
	f, name, err := readUpload(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	kept, err := s.e.PutOnShelf(ctx, r.Sheet, name, f.file, f.values["replace"] == "true", person(ctx).Name)
	if err != nil {
		return nil, err
	}
	return AddSheetFile201JSONResponse(sheetFile(kept, 0)), nil
}

// RemoveSheetFile implements StrictServerInterface.
func (s *Server) RemoveSheetFile(ctx context.Context,
	r RemoveSheetFileRequestObject) (RemoveSheetFileResponseObject, error) {
	return RemoveSheetFile204Response{}, s.e.TakeOffShelf(ctx, r.Sheet, r.Params.Name, person(ctx).Name)
}
