package store

import (
	"context"

	"nivot/internal/core/sheet"
)

// KnownRows gives what an import meets: the ids and keys of all rows that
// ever were in the sheet, oldest first.
func (s *Store) KnownRows(ctx context.Context, sheetID string) (out []sheet.Known, err error) {
	rows, err := s.DB(ctx).Raw(
		`SELECT id, COALESCE(row_key, ''), deleted_at IS NOT NULL, gone FROM sheet_rows WHERE sheet_id = ? ORDER BY number`,
		sheetID).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var k sheet.Known
		if err := rows.Scan(&id, &k.Key, &k.Deleted, &k.Gone); err != nil {
			return nil, err
		}
		k.ID = RowID(id)
		out = append(out, k)
	}
	return out, rows.Err()
}

// RowByKey finds the first row of a sheet with a key (folded), deleted ones
// only where no other has it.
func (s *Store) RowByKey(ctx context.Context, sheetID, key string) (*Row, error) {
	var r Row
	return &r, first(s.DB(ctx).Where("sheet_id = ? AND row_key = ?", sheetID,
		key).Order("deleted_at IS NOT NULL, number").First(&r).Error)
}

// RowsOfKey gives the rows that share a key, in the order in which they came.
func (s *Store) RowsOfKey(ctx context.Context, sheetID string, key []byte, limit int) (out []Row, err error) {
	return out, s.DB(ctx).Where("sheet_id = ? AND row_key = ? AND deleted_at IS NULL", sheetID,
		key).Order("number").Limit(limit).Find(&out).Error
}

// FirstOfKey gives, of keys that several rows have, the number of the first row.
func (s *Store) FirstOfKey(ctx context.Context, sheetID string, keys [][]byte) (map[string]int64, error) {
	out := map[string]int64{}
	if len(keys) == 0 {
		return out, nil
	}
	var found []struct {
		RowKey []byte
		First  int64
	}
	err := s.DB(ctx).Raw(
		`SELECT row_key, MIN(number) AS first FROM sheet_rows WHERE sheet_id = ? AND row_key IN ? AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1`, sheetID, keys).Scan(&found).Error
	for _, f := range found {
		out[string(f.RowKey)] = f.First
	}
	return out, err
}

// CountDoubled counts the rows whose key another row had before them.
func (s *Store) CountDoubled(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Raw(
		`SELECT COALESCE(SUM(n - 1), 0) FROM (SELECT COUNT(*) AS n FROM sheet_rows
			WHERE sheet_id = ? AND row_key IS NOT NULL AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1) x`, sheetID).Scan(&n).Error
	return n, err
}

// DoubledRows gives the rows whose key other rows have too, those first met among them.
func (s *Store) DoubledRows(ctx context.Context, sheetID string) (ids []int64, err error) {
	err = s.DB(ctx).Raw(
		`SELECT r.id FROM sheet_rows r JOIN (SELECT row_key FROM sheet_rows
			WHERE sheet_id = ? AND row_key IS NOT NULL AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1) x ON x.row_key = r.row_key WHERE r.sheet_id = ? AND r.deleted_at IS NULL`,
		sheetID, sheetID).Scan(&ids).Error
	return ids, err
}
