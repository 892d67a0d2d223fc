package store

import (
	"context"
	"time"
)

// View is a way of looking at a sheet that somebody has kept.
type View struct {
	ID        string `gorm:"primaryKey"`
	SheetID   string
	PersonID  string
	Name      string
	Shared    bool
	Spec      string // JSON
	CreatedAt time.Time
	DeletedAt *time.Time
}

// Views lists the views of a sheet that a person has, and those that others share; with
// those that have been deleted since an instant.
func (s *Store) Views(ctx context.Context, sheetID, person string, since time.Time) (out []View, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND (shared OR person_id = ?) AND (deleted_at IS NULL OR deleted_at > ?)",
		sheetID, person, since).Order("name, id").Find(&out).Error
	return out, err
}

// View finds a view, deleted or not.
func (s *Store) View(ctx context.Context, id string) (*View, error) {
	var v View
	return &v, first(s.DB(ctx).First(&v, "id = ?", id).Error)
}

// CountViews counts the views that a person has.
func (s *Store) CountViews(ctx context.Context, person string) (n int64, err error) {
	err = s.DB(ctx).Model(&View{}).Where("person_id = ? AND deleted_at IS NULL", person).Count(&n).Error
	return n, err
}

// SaveView writes a view.
func (s *Store) SaveView(ctx context.Context, v *View) error { return s.DB(ctx).Save(v).Error }
