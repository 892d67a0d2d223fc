package store

import (
	"context"
	"encoding/hex"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nivot/internal/core/template"
	"nivot/internal/core/value"
)

// ShelfFile is a file of a sheet, by a name, which the cells of its columns of files say.
type ShelfFile struct {
	SheetID string `gorm:"primaryKey"`
	Folded  []byte `gorm:"primaryKey"` // Name, as value.Fold makes it
	Name    string
	File    []byte // its name in files: the SHA-256 of its content
	AddedBy string
	AddedAt time.Time

	// Of its content, where it has been read from the shelf.
	Type string `gorm:"->"`
	Size int64  `gorm:"->"`
}

// Shelf lists the files of a sheet by their names.
func (s *Store) Shelf(ctx context.Context, sheetID string) (out []ShelfFile, err error) {
	err = s.DB(ctx).Raw(
		`SELECT s.*, f.type, f.size FROM shelf_files s JOIN files f ON f.id = s.file WHERE s.sheet_id = ? ORDER BY s.folded`,
		sheetID).Scan(&out).Error
	return out, err
}

// ShelfFile finds a file of a sheet by its name.
func (s *Store) ShelfFile(ctx context.Context, sheetID, name string) (*ShelfFile, error) {
	var f ShelfFile
	return &f, first(s.DB(ctx).Omit("Type", "Size").Select("sheet_id", "folded", "name", "file", "added_by",
		"added_at").First(&f, "sheet_id = ? AND folded = ?", sheetID, []byte(value.Fold(name))).Error)
}

// CountShelf counts the files of a sheet.
func (s *Store) CountShelf(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Model(&ShelfFile{}).Where("sheet_id = ?", sheetID).Count(&n).Error
	return n, err
}

// PutOnShelf puts a file on a sheet's shelf, in place of one that has its name.
func (s *Store) PutOnShelf(ctx context.Context, f *ShelfFile) error {
	f.Folded = []byte(value.Fold(f.Name))
	return s.renewing(ctx, f.SheetID, func(db *gorm.DB) error {
		return db.Clauses(clause.OnConflict{UpdateAll: true}).Create(f).Error
	})
}

// TakeOffShelf takes a file off; emails that have gone keep it.
func (s *Store) TakeOffShelf(ctx context.Context, sheetID, name string) error {
	return s.renewing(ctx, sheetID, func(db *gorm.DB) error {
		return db.Exec("DELETE FROM shelf_files WHERE sheet_id = ? AND folded = ?", sheetID, []byte(value.Fold(name))).Error
	})
}

// CoreShelf gives the files of a sheet as letters look for them.
func (s *Store) CoreShelf(ctx context.Context, sheetID string) (template.Shelf, error) {
	list, err := s.Shelf(ctx, sheetID)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	out := make(template.Shelf, len(list))
	for i := range list {
		f := &list[i]
		out[string(f.Folded)] = template.Kept{Name: f.Name, File: hex.EncodeToString(f.File), Type: f.Type,
			Size: int(f.Size)}
	}
	return out, nil
}
