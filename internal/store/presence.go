package store

import (
	"context"
	"time"
)

// Presence is a page on which somebody has a sheet open.
type Presence struct {
	Page     string `gorm:"primaryKey"`
	SheetID  string
	PersonID string
	RowID    int64
	ColumnID string
	Thing    string // what of the sheet is open, such as "rule:" with its id; "" for its rows
	SeenAt   time.Time
}

// TableName implements GORM's tabler.
func (Presence) TableName() string { return "presence" }

// presenceLife is for how many seconds a page that is silent still counts.
const presenceLife = 12

// BePresent notes that a page is there, and where in the sheet.
func (s *Store) BePresent(ctx context.Context, p Presence) error {
	return s.DB(ctx).Exec(
		`INSERT INTO presence (page, sheet_id, person_id, row_id, column_id, thing, seen_at)
		VALUES (?,?,?,?,?,?,UTC_TIMESTAMP(6))
		ON DUPLICATE KEY UPDATE sheet_id = VALUES(sheet_id), person_id = VALUES(person_id),
			row_id = VALUES(row_id), column_id = VALUES(column_id), thing = VALUES(thing), seen_at = VALUES(seen_at)`,
		p.Page, p.SheetID, p.PersonID, p.RowID, p.ColumnID, p.Thing).Error
}

// Present lists the pages that have a sheet open, or something of it.
func (s *Store) Present(ctx context.Context, sheetID, thing string) (out []Presence, err error) {
	err = s.DB(ctx).Raw(
		"SELECT * FROM presence WHERE sheet_id = ? AND thing = ? AND seen_at > UTC_TIMESTAMP(6) - INTERVAL ? SECOND "+
			"ORDER BY page", sheetID, thing, presenceLife).Scan(&out).Error
	return out, err
}

// DropPresence forgets a page, and those that have been silent for long.
func (s *Store) DropPresence(ctx context.Context, page string) error {
	return s.DB(ctx).Exec("DELETE FROM presence WHERE page = ? OR seen_at < UTC_TIMESTAMP(6) - INTERVAL 1 HOUR",
		page).Error
}
