package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/sheet"
)

// Row is a row as it is kept.
type Row struct {
	ID        int64 `gorm:"primaryKey"`
	SheetID   string
	Number    int64
	Place     int64
	RowKey    []byte
	Cells     []byte
	Settled   []byte // the cells as they last settled; nil where they are the same, or have never settled
	Version   int64
	FirstEdit *time.Time // of the unsettled ones
	LastEdit  *time.Time
	SettledAt *time.Time
	Gone      bool
	DeletedAt *time.Time
	Born      *int64 // the change of several rows that it came in with
	Changed   int64  // the sheet's version that shows it as it is, or an earlier one
}

// TableName implements GORM's tabler.
func (Row) TableName() string { return "sheet_rows" }

// Core decodes a row.
func (r *Row) Core(s *sheet.Sheet) (*sheet.Row, error) {
	cells, err := s.Decode(r.Cells, nil)
	if err != nil {
		return nil, fmt.Errorf("row %d: %w", r.ID, err)
	}
	return &sheet.Row{ID: RowID(r.ID), Number: r.Number, Cells: cells, Gone: r.Gone}, nil
}

// SettledCore decodes the row as it last settled; nil means never.
func (r *Row) SettledCore(s *sheet.Sheet) (*sheet.Row, error) {
	if r.FirstEdit == nil {
		return r.Core(s)
	}
	if r.Settled == nil {
		return nil, nil
	}
	c := *r
	c.Cells = r.Settled
	return c.Core(s)
}

// RowID writes a row's id as it is known outside the database.
func RowID(id int64) string { return fmt.Sprint(id) }

// CountRows gives how many rows a sheet has, without the deleted ones.
func (s *Store) CountRows(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Raw("SELECT live_rows FROM sheets WHERE id = ?", sheetID).Scan(&n).Error
	return n, err
}

// SheetVersion gives the version of a sheet, which every change of its rows counts up.
func (s *Store) SheetVersion(ctx context.Context, sheetID string) (int64, error) {
	var found []int64
	err := s.DB(ctx).Raw("SELECT version FROM sheets WHERE id = ? AND deleted_at IS NULL", sheetID).Scan(&found).Error
	if err == nil && len(found) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return 0, err
	}
	return found[0], nil
}

// RowsByID gives rows of a sheet by id, in the order asked for.
func (s *Store) RowsByID(ctx context.Context, sheetID string, ids []int64) ([]Row, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	found, err := s.readRows(ctx, "WHERE sheet_id = ? AND id IN ?", sheetID, ids)
	if err != nil {
		return nil, err
	}
	byID := make(map[int64]Row, len(found))
	for _, r := range found {
		byID[r.ID] = r
	}
	out := make([]Row, 0, len(ids))
	for _, id := range ids {
		if r, ok := byID[id]; ok {
			out = append(out, r)
		}
	}
	return out, nil
}

// RowsAfter gives the next rows of a sheet after an id, in the order of ids.
func (s *Store) RowsAfter(ctx context.Context, sheetID string, after int64, limit int) ([]Row, error) {
	return s.readRows(ctx, "WHERE sheet_id = ? AND deleted_at IS NULL AND id > ? ORDER BY id LIMIT ?", sheetID, after,
		limit)
}

// readRows reads rows field by field: pages and ticks read hundreds at a time, and what fills
// fields by their names takes twice as long.
func (s *Store) readRows(ctx context.Context, where string, args ...any) (out []Row, err error) {
	rows, err := s.DB(ctx).Raw("SELECT id, "+rowColumns+" FROM sheet_rows "+where, args...).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		out = append(out, Row{})
		r := &out[len(out)-1]
		if err := rows.Scan(&r.ID, &r.SheetID, &r.Number, &r.Place, &r.RowKey, &r.Cells, &r.Settled, &r.Version,
			&r.FirstEdit, &r.LastEdit,
			&r.SettledAt, &r.Gone, &r.DeletedAt, &r.Born, &r.Changed); err != nil {
			return nil, err
		}
	}
	return out, rows.Err()
}

// scanBatch is how many rows ScanRows reads at a time.
const scanBatch = 2000

// ScanRows calls f for every row of a sheet after an id, in the order of ids.
func (s *Store) ScanRows(ctx context.Context, sheetID string, f func(*Row) error) error {
	var after int64
	for {
		batch, err := s.RowsAfter(ctx, sheetID, after, scanBatch)
		if err != nil {
			return err
		}
		for i := range batch {
			if err := f(&batch[i]); err != nil {
				return err
			}
		}
		if len(batch) < scanBatch {
			return nil
		}
		after = batch[len(batch)-1].ID
	}
}

// StreamRows calls f for every row of a sheet in the order of their ids,
// with nothing between it and the wire: for looking at all of a large sheet.
// The cells are those the row last settled with; f must not keep them.
func (s *Store) StreamRows(ctx context.Context, sheetID string, f func(id, number int64, gone bool,
	cells []byte) error) error {
	rows, err := s.DB(ctx).Raw(`SELECT id, number, gone, COALESCE(settled, cells) FROM sheet_rows
		WHERE sheet_id = ? AND deleted_at IS NULL AND NOT (first_edit IS NOT NULL AND settled IS NULL) ORDER BY id`,
		sheetID).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var id, number, gone, cells sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&id, &number, &gone, &cells); err != nil {
			return err
		}
		if err := f(digits(id), digits(number), digits(gone) != 0, cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

// StreamCells calls f for every row of a sheet as it is now, in the order of
// ids, with nothing between it and the wire; f must not keep the cells.
func (s *Store) StreamCells(ctx context.Context, sheetID string, f func(id, number, place int64, gone bool,
	cells []byte) error) error {
	rows, err := s.DB(ctx).Raw(
		"SELECT id, number, place, gone, cells FROM sheet_rows WHERE sheet_id = ? AND deleted_at IS NULL ORDER BY id",
		sheetID).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var id, number, place, gone, cells sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&id, &number, &place, &gone, &cells); err != nil {
			return err
		}
		if err := f(digits(id), digits(number), digits(place), digits(gone) != 0, cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

// ChangedSince gives the rows of a sheet that have changed since a version of it, the deleted ones
// too, up to a number of them.
func (s *Store) ChangedSince(ctx context.Context, sheetID string, version int64, limit int) ([]Row, error) {
	return s.readRows(ctx, "WHERE sheet_id = ? AND changed > ? LIMIT ?", sheetID, version, limit)
}

// digits reads a number as the database writes it.
func digits(b []byte) (n int64) {
	minus := len(b) > 0 && b[0] == '-'
	for _, c := range b {
		if c >= '0' && c <= '9' {
			n = n*10 + int64(c-'0')
		}
	}
	if minus {
		return -n
	}
	return n
}

// RowOrder gives the ids of a sheet's rows in the order of their places.
func (s *Store) RowOrder(ctx context.Context, sheetID string) (ids []int64, err error) {
	err = s.DB(ctx).Raw("SELECT id FROM sheet_rows WHERE sheet_id = ? AND deleted_at IS NULL ORDER BY place, id",
		sheetID).Scan(&ids).Error
	return ids, err
}

// LockRow finds a row and locks it.
func (s *Store) LockRow(ctx context.Context, id int64) (*Row, error) {
	var r Row
	return &r, first(s.DB(ctx).Raw("SELECT * FROM sheet_rows WHERE id = ? FOR UPDATE", id).Take(&r).Error)
}

// LockRowsAfter locks and gives the next rows of a sheet after an id, with
// each row once in the order of ids.
func (s *Store) LockRowsAfter(ctx context.Context, sheetID string, after int64, limit int) ([]Row, error) {
	return s.readRows(ctx, "WHERE sheet_id = ? AND id > ? AND deleted_at IS NULL ORDER BY id LIMIT ? FOR UPDATE", sheetID,
		after, limit)
}

// SettledRow is what a rule looks at of a row.
type SettledRow struct {
	ID        int64
	SettledAt *time.Time
	Cells     []byte // as they last settled; nil: never. Not to be kept.
}

// LockSettledAfter locks the next rows of a sheet after an id, and calls f for each in the order
// of ids.
func (s *Store) LockSettledAfter(ctx context.Context, sheetID string, after int64, limit int,
	f func(SettledRow) error) error {
	rows, err := s.DB(ctx).Raw("SELECT id, settled_at, IF(first_edit IS NULL, cells, settled) FROM sheet_rows "+
		"WHERE sheet_id = ? AND id > ? AND deleted_at IS NULL ORDER BY id LIMIT ? FOR UPDATE", sheetID, after,
		limit).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r SettledRow
		if err := rows.Scan(&r.ID, &r.SettledAt, (*sql.RawBytes)(&r.Cells)); err != nil {
			return err
		}
		if err := f(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// CountAllRows counts a sheet's rows, the deleted ones too.
func (s *Store) CountAllRows(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Model(&Row{}).Where("sheet_id = ?", sheetID).Count(&n).Error
	return n, err
}

// LockAllRowsAfter locks and gives the next rows of a sheet after an id, the
// deleted ones too.
func (s *Store) LockAllRowsAfter(ctx context.Context, sheetID string, after int64, limit int) ([]Row, error) {
	return s.readRows(ctx, "WHERE sheet_id = ? AND id > ? ORDER BY id LIMIT ? FOR UPDATE", sheetID, after, limit)
}

// LockRowsIn locks and gives rows by id, in the order of ids.
func (s *Store) LockRowsIn(ctx context.Context, ids []int64) (map[int64]*Row, error) {
	out := map[int64]*Row{}
	if len(ids) == 0 {
		return out, nil
	}
	rows, err := s.readRows(ctx, "WHERE id IN ? ORDER BY id FOR UPDATE", ids)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		out[rows[i].ID] = &rows[i]
	}
	return out, nil
}

// Row finds a row.
func (s *Store) Row(ctx context.Context, id int64) (*Row, error) {
	var r Row
	return &r, first(s.DB(ctx).First(&r, "id = ?", id).Error)
}

// SaveRow writes a row's content.
func (s *Store) SaveRow(ctx context.Context, r *Row) error {
	if r.ID == 0 {
		return s.DB(ctx).Create(r).Error
	}
	return s.DB(ctx).Exec(
		`UPDATE sheet_rows SET row_key = ?, cells = ?, settled = ?, version = ?, first_edit = ?, last_edit = ?,
			settled_at = ?, gone = ?, deleted_at = ?, changed = ?
		WHERE id = ?`, r.RowKey, r.Cells, r.Settled, r.Version, r.FirstEdit, r.LastEdit, r.SettledAt, r.Gone, r.DeletedAt,
		r.Changed, r.ID).Error
}

// SaveRows writes the content of many rows that are there.
func (s *Store) SaveRows(ctx context.Context, rows []*Row) error {
	return chunks(rows, bulk, func(c []*Row) error {
		return s.writeRows(ctx, "INSERT INTO sheet_rows (id, "+rowColumns+") VALUES ", c, true,
			` ON DUPLICATE KEY UPDATE place = VALUES(place),
			row_key = VALUES(row_key), cells = VALUES(cells), settled = VALUES(settled), version = VALUES(version),
			first_edit = VALUES(first_edit), last_edit = VALUES(last_edit), settled_at = VALUES(settled_at),
			gone = VALUES(gone), deleted_at = VALUES(deleted_at), changed = VALUES(changed)`)
	})
}

// InsertRows adds rows, all born of one change, which then finds their ids.
func (s *Store) InsertRows(ctx context.Context, rows []*Row) error {
	if len(rows) >= loadFrom && !noLoading.Load() {
		done, err := s.loadRows(ctx, rows)
		if done {
			return err
		}
		noLoading.Store(true)
	}
	return chunks(rows, bulk, func(c []*Row) error {
		return s.writeRows(ctx, "INSERT INTO sheet_rows ("+rowColumns+") VALUES ", c, false, "")
	})
}

const rowColumns = "sheet_id, number, place, row_key, cells, settled, version, first_edit, last_edit, settled_at, " +
	"gone, deleted_at, born, changed"

func (s *Store) writeRows(ctx context.Context, head string, rows []*Row, ids bool, tail string) error {
	var q strings.Builder
	q.WriteString(head)
	args := make([]any, 0, 15*len(rows))
	for i, r := range rows {
		if i > 0 {
			q.WriteByte(',')
		}
		if ids {
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
			args = append(args, r.ID)
		} else {
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
		}
		args = append(args, r.SheetID, r.Number, r.Place, r.RowKey, r.Cells, r.Settled, r.Version, r.FirstEdit, r.LastEdit,
			r.SettledAt, r.Gone, r.DeletedAt, r.Born, r.Changed)
	}
	q.WriteString(tail)
	return s.DB(ctx).Exec(q.String(), args...).Error
}

// RowsBorn gives the ids of the rows that came in with a change, in their
// order; those that are deleted only where asked for.
func (s *Store) RowsBorn(ctx context.Context, change int64, deleted bool) (ids []int64, err error) {
	q := "SELECT id FROM sheet_rows WHERE born = ?"
	if !deleted {
		q += " AND deleted_at IS NULL"
	}
	err = s.DB(ctx).Raw(q+" ORDER BY number", change).Scan(&ids).Error
	return ids, err
}

// SettleBorn puts the rows that came in with a change on the agenda, to settle
// at an instant.
func (s *Store) SettleBorn(ctx context.Context, change int64, at time.Time, asks int64) error {
	return s.DB(ctx).Exec(`INSERT INTO agenda (kind, due_at, sheet_id, rule_id, row_id, delivery_id, nr, done_rows)
		SELECT 'settle', ?, sheet_id, '', id, 0, 0, ? FROM sheet_rows WHERE born = ?`, at, asks, change).Error
}
