package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
)

// Sheet is a sheet as it is kept; Core gives what the core computes with.
type Sheet struct {
	ID            string `gorm:"primaryKey"`
	Name          string
	Zone          string
	Locale        string
	CalendarID    string // its working calendar; "" for the default
	SettleSeconds int
	KeyColumn     string
	AddressColumn string
	// NameColumn and LanguageColumn say whom a row concerns and how they read;
	// "" where no column does.
	NameColumn     string
	LanguageColumn string
	SenderID       string
	Columns        string
	LastColumn     int    // as many columns as the sheet ever had: their ids and places never come back
	Frozen         int    // columns after the key that stay in sight
	RemovedColumns string // as Columns
	Matched        string // what imports remember: heading (folded) to column id, "" for left out
	Version        int64
	OrderVersion   int64 // counts what adds, takes out or moves rows
	LiveRows       int64 // those that are not deleted
	LastNumber     int64
	CreatedAt      time.Time
	DeletedAt      *time.Time
	PutAwayAt      *time.Time
	AwayBy         string // who has deleted it or put it away
}

// Core turns the record into the core's sheet.
func (r *Sheet) Core() (*sheet.Sheet, error) {
	loc, err := time.LoadLocation(r.Zone)
	if err != nil || r.Zone == "" || r.Zone == "Local" {
		return nil, fmt.Errorf("zone %q is not known; use a name like Europe/London", r.Zone)
	}
	l, err := value.FindLocale(r.Locale)
	if err != nil {
		return nil, err
	}
	s := &sheet.Sheet{ID: r.ID, Name: r.Name, Zone: loc, Locale: l, Settle: time.Duration(r.SettleSeconds) * time.Second,
		Key: r.KeyColumn, Address: r.AddressColumn}
	if err := json.Unmarshal([]byte(r.Columns), &s.Columns); err != nil {
		return nil, fmt.Errorf("sheet %s: %w", r.ID, err)
	}
	for _, c := range s.Columns {
		r.LastColumn = max(r.LastColumn, c.Pos+1) // one that was made before columns were counted
	}
	return s, s.Compile()
}

// SetColumns puts the columns into the record.
func (r *Sheet) SetColumns(cols []sheet.Column) {
	b, _ := json.Marshal(cols)
	r.Columns = string(b)
	for _, c := range cols {
		r.LastColumn = max(r.LastColumn, c.Pos+1)
	}
}

// NextColumn is the place of the next column that is added; its id counts with
// it.
func (r *Sheet) NextColumn() int { return r.LastColumn }

// Removed gives the columns that have been taken out, the latest last. Their
// cells are still there.
func (r *Sheet) Removed() (out []sheet.Column) {
	_ = json.Unmarshal([]byte(r.RemovedColumns), &out)
	return out
}

// SetRemoved puts the columns that have been taken out into the record.
func (r *Sheet) SetRemoved(cols []sheet.Column) {
	b, _ := json.Marshal(cols)
	r.RemovedColumns = string(b)
}

// Matches gives what imports remember of headings.
func (r *Sheet) Matches() map[string]string {
	out := map[string]string{}
	_ = json.Unmarshal([]byte(r.Matched), &out)
	return out
}

// SetMatches puts what imports are to remember into the record.
func (r *Sheet) SetMatches(m map[string]string) {
	b, _ := json.Marshal(m)
	r.Matched = string(b)
}

// Sheets lists the sheets that are in use, by their age.
func (s *Store) Sheets(ctx context.Context) (out []Sheet, err error) {
	err = s.DB(ctx).Where("deleted_at IS NULL AND put_away_at IS NULL").Order("created_at, id").Find(&out).Error
	return out, err
}

// AwaySheets lists the sheets that have been put away, and those that have been
// deleted since an instant.
func (s *Store) AwaySheets(ctx context.Context, since time.Time) (out []Sheet, err error) {
	err = s.DB(ctx).Where("deleted_at > ? OR deleted_at IS NULL AND put_away_at IS NOT NULL", since).Order("COALESCE(deleted_at, put_away_at) DESC, id").Find(&out).Error
	return out, err
}

// LockAwaySheet finds a sheet that has been put away or deleted, and locks it.
func (s *Store) LockAwaySheet(ctx context.Context, id string) (*Sheet, error) {
	var r Sheet
	return &r, first(s.DB(ctx).Raw("SELECT * FROM sheets WHERE id = ? AND (deleted_at IS NOT NULL OR put_away_at IS NOT NULL) FOR UPDATE", id).Take(&r).Error)
}

// AllSheets lists all sheets, those that have been taken away too: they still
// stand in the log.
func (s *Store) AllSheets(ctx context.Context) (out []Sheet, err error) {
	err = s.DB(ctx).Find(&out).Error
	return out, err
}

// Sheet finds a sheet.
func (s *Store) Sheet(ctx context.Context, id string) (*Sheet, error) {
	var r Sheet
	return &r, first(s.DB(ctx).First(&r, "id = ? AND deleted_at IS NULL", id).Error)
}

// LockSheet finds a sheet and locks it against other writers of the sheet.
func (s *Store) LockSheet(ctx context.Context, id string) (*Sheet, error) {
	var r Sheet
	return &r, first(s.DB(ctx).Raw("SELECT * FROM sheets WHERE id = ? AND deleted_at IS NULL FOR UPDATE", id).Take(&r).Error)
}

// SaveSheet writes a sheet.
func (s *Store) SaveSheet(ctx context.Context, r *Sheet) error { return s.DB(ctx).Save(r).Error }

// TouchSheet counts the sheet's version up, so that cached views of its rows
// are made anew; where rows have come, gone or moved, that of their order too.
// more is by how many rows the sheet has grown.
func (s *Store) TouchSheet(ctx context.Context, id string, order bool, more int) error {
	return s.DB(ctx).Exec("UPDATE sheets SET version = version + 1, order_version = order_version + ?, live_rows = live_rows + ? WHERE id = ?", order, more, id).Error
}

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

// RowsByID gives rows of a sheet by id, in the order asked for.
func (s *Store) RowsByID(ctx context.Context, sheetID string, ids []int64) ([]Row, error) {
	var found []Row
	if len(ids) == 0 {
		return nil, nil
	}
	if err := s.DB(ctx).Where("sheet_id = ? AND id IN ?", sheetID, ids).Find(&found).Error; err != nil {
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
func (s *Store) RowsAfter(ctx context.Context, sheetID string, after int64, limit int) (out []Row, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND deleted_at IS NULL AND id > ?", sheetID, after).Order("id").Limit(limit).Find(&out).Error
	return out, err
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
func (s *Store) StreamRows(ctx context.Context, sheetID string, f func(id, number int64, gone bool, cells []byte) error) error {
	rows, err := s.DB(ctx).Raw(`SELECT id, number, gone, COALESCE(settled, cells) FROM sheet_rows
		WHERE sheet_id = ? AND deleted_at IS NULL AND NOT (first_edit IS NOT NULL AND settled IS NULL) ORDER BY id`, sheetID).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var id, number int64
	var gone bool
	var cells sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&id, &number, &gone, &cells); err != nil {
			return err
		}
		if err := f(id, number, gone, cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

// StreamCells calls f for every row of a sheet as it is now, in the order of
// ids, with nothing between it and the wire; f must not keep the cells.
func (s *Store) StreamCells(ctx context.Context, sheetID string, f func(id, number, place int64, gone bool, cells []byte) error) error {
	rows, err := s.DB(ctx).Raw("SELECT id, number, place, gone, cells FROM sheet_rows WHERE sheet_id = ? AND deleted_at IS NULL ORDER BY id", sheetID).Rows()
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
	err = s.DB(ctx).Raw("SELECT id FROM sheet_rows WHERE sheet_id = ? AND deleted_at IS NULL ORDER BY place, id", sheetID).Scan(&ids).Error
	return ids, err
}

// LockRow finds a row and locks it.
func (s *Store) LockRow(ctx context.Context, id int64) (*Row, error) {
	var r Row
	return &r, first(s.DB(ctx).Raw("SELECT * FROM sheet_rows WHERE id = ? FOR UPDATE", id).Take(&r).Error)
}

// LockRowsAfter locks and gives the next rows of a sheet after an id, with
// each row once in the order of ids.
func (s *Store) LockRowsAfter(ctx context.Context, sheetID string, after int64, limit int) (out []Row, err error) {
	err = s.DB(ctx).Raw(`SELECT * FROM sheet_rows WHERE sheet_id = ? AND id > ? AND deleted_at IS NULL ORDER BY id LIMIT ? FOR UPDATE`,
		sheetID, after, limit).Scan(&out).Error
	return out, err
}

// CountAllRows counts a sheet's rows, the deleted ones too.
func (s *Store) CountAllRows(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Model(&Row{}).Where("sheet_id = ?", sheetID).Count(&n).Error
	return n, err
}

// LockAllRowsAfter locks and gives the next rows of a sheet after an id, the
// deleted ones too.
func (s *Store) LockAllRowsAfter(ctx context.Context, sheetID string, after int64, limit int) (out []Row, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM sheet_rows WHERE sheet_id = ? AND id > ? ORDER BY id LIMIT ? FOR UPDATE", sheetID, after, limit).Scan(&out).Error
	return out, err
}

// LockRowsIn locks and gives rows by id, in the order of ids.
func (s *Store) LockRowsIn(ctx context.Context, ids []int64) (map[int64]*Row, error) {
	out := map[int64]*Row{}
	if len(ids) == 0 {
		return out, nil
	}
	var rows []Row
	if err := s.DB(ctx).Raw("SELECT * FROM sheet_rows WHERE id IN ? ORDER BY id FOR UPDATE", ids).Scan(&rows).Error; err != nil {
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
	return s.DB(ctx).Exec(`UPDATE sheet_rows SET row_key = ?, cells = ?, settled = ?, version = ?, first_edit = ?, last_edit = ?, settled_at = ?, gone = ?, deleted_at = ?
		WHERE id = ?`, r.RowKey, r.Cells, r.Settled, r.Version, r.FirstEdit, r.LastEdit, r.SettledAt, r.Gone, r.DeletedAt, r.ID).Error
}

// SaveRows writes the content of many rows that are there.
func (s *Store) SaveRows(ctx context.Context, rows []*Row) error {
	return chunks(rows, bulk, func(c []*Row) error {
		return s.writeRows(ctx, "INSERT INTO sheet_rows (id, "+rowColumns+") VALUES ", c, true, ` ON DUPLICATE KEY UPDATE place = VALUES(place),
			row_key = VALUES(row_key), cells = VALUES(cells), settled = VALUES(settled), version = VALUES(version), first_edit = VALUES(first_edit),
			last_edit = VALUES(last_edit), settled_at = VALUES(settled_at), gone = VALUES(gone), deleted_at = VALUES(deleted_at)`)
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

const rowColumns = "sheet_id, number, place, row_key, cells, settled, version, first_edit, last_edit, settled_at, gone, deleted_at, born"

func (s *Store) writeRows(ctx context.Context, head string, rows []*Row, ids bool, tail string) error {
	var q strings.Builder
	q.WriteString(head)
	args := make([]any, 0, 14*len(rows))
	for i, r := range rows {
		if i > 0 {
			q.WriteByte(',')
		}
		if ids {
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
			args = append(args, r.ID)
		} else {
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?,?)")
		}
		args = append(args, r.SheetID, r.Number, r.Place, r.RowKey, r.Cells, r.Settled, r.Version, r.FirstEdit, r.LastEdit, r.SettledAt, r.Gone, r.DeletedAt, r.Born)
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

// PlaceStep is the room between rows that stand one after the other.
const PlaceStep = 1 << 20

// PlacesAfter gives places for n rows: after a row, 0 for the beginning, or at
// the end where after is nil. Where there is no room left, it is made, and the
// places of all rows are new.
func (s *Store) PlacesAfter(ctx context.Context, sheetID string, after *int64, n int) (places []int64, renewed bool, err error) {
	for {
		lo, hi, err := s.gap(ctx, sheetID, after)
		if err != nil {
			return nil, renewed, err
		}
		if hi == 0 {
			hi = lo + PlaceStep*int64(n+1)
		}
		if step := (hi - lo) / int64(n+1); step > 0 {
			places = make([]int64, n)
			for i := range places {
				places[i] = lo + step*int64(i+1)
			}
			return places, renewed, nil
		}
		if renewed {
			return nil, renewed, fmt.Errorf("there is no room for %d rows in one place", n)
		}
		renewed = true
		if err := s.DB(ctx).Exec(`UPDATE sheet_rows r JOIN (SELECT id, ROW_NUMBER() OVER (ORDER BY place, id) AS n FROM sheet_rows WHERE sheet_id = ?) x
			ON x.id = r.id SET r.place = x.n * ?`, sheetID, PlaceStep).Error; err != nil {
			return nil, renewed, err
		}
	}
}

// gap gives the places between which rows are put: hi is 0 at the end.
func (s *Store) gap(ctx context.Context, sheetID string, after *int64) (lo, hi int64, err error) {
	if after == nil {
		err = s.DB(ctx).Raw("SELECT COALESCE(MAX(place), 0) FROM sheet_rows WHERE sheet_id = ?", sheetID).Scan(&lo).Error
		return lo, 0, err
	}
	if *after != 0 {
		var at []int64
		if err = s.DB(ctx).Raw("SELECT place FROM sheet_rows WHERE sheet_id = ? AND id = ?", sheetID, *after).Scan(&at).Error; err != nil {
			return 0, 0, err
		}
		if len(at) == 0 {
			return 0, 0, ErrNotFound
		}
		lo = at[0]
	}
	err = s.DB(ctx).Raw("SELECT COALESCE(MIN(place), 0) FROM sheet_rows WHERE sheet_id = ? AND place > ?", sheetID, lo).Scan(&hi).Error
	return lo, hi, err
}

// KnownRows gives what an import meets: the ids and keys of all rows that
// ever were in the sheet, oldest first.
func (s *Store) KnownRows(ctx context.Context, sheetID string) (out []sheet.Known, err error) {
	rows, err := s.DB(ctx).Raw(`SELECT id, COALESCE(row_key, ''), deleted_at IS NOT NULL, gone FROM sheet_rows WHERE sheet_id = ? ORDER BY number`, sheetID).Rows()
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
	return &r, first(s.DB(ctx).Where("sheet_id = ? AND row_key = ?", sheetID, key).Order("deleted_at IS NOT NULL, number").First(&r).Error)
}

// RowsOfKey gives the rows that share a key, in the order in which they came.
func (s *Store) RowsOfKey(ctx context.Context, sheetID string, key []byte, limit int) (out []Row, err error) {
	return out, s.DB(ctx).Where("sheet_id = ? AND row_key = ? AND deleted_at IS NULL", sheetID, key).Order("number").Limit(limit).Find(&out).Error
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
	err := s.DB(ctx).Raw(`SELECT row_key, MIN(number) AS first FROM sheet_rows WHERE sheet_id = ? AND row_key IN ? AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1`, sheetID, keys).Scan(&found).Error
	for _, f := range found {
		out[string(f.RowKey)] = f.First
	}
	return out, err
}

// CountDoubled counts the rows whose key another row had before them.
func (s *Store) CountDoubled(ctx context.Context, sheetID string) (n int64, err error) {
	err = s.DB(ctx).Raw(`SELECT COALESCE(SUM(n - 1), 0) FROM (SELECT COUNT(*) AS n FROM sheet_rows WHERE sheet_id = ? AND row_key IS NOT NULL AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1) x`, sheetID).Scan(&n).Error
	return n, err
}

// DoubledRows gives the rows whose key other rows have too, those first met among them.
func (s *Store) DoubledRows(ctx context.Context, sheetID string) (ids []int64, err error) {
	err = s.DB(ctx).Raw(`SELECT r.id FROM sheet_rows r JOIN (SELECT row_key FROM sheet_rows WHERE sheet_id = ? AND row_key IS NOT NULL AND deleted_at IS NULL
		GROUP BY row_key HAVING COUNT(*) > 1) x ON x.row_key = r.row_key WHERE r.sheet_id = ? AND r.deleted_at IS NULL`, sheetID, sheetID).Scan(&ids).Error
	return ids, err
}

// RetireSheet stops everything that was to come for a sheet: its rules are
// paused, and its agenda is dropped.
func (s *Store) RetireSheet(ctx context.Context, id string) error {
	for _, q := range []string{
		"UPDATE rules SET state = 'paused', arming_after = NULL WHERE sheet_id = ?",
		"DELETE FROM agenda WHERE sheet_id = ?",
	} {
		if err := s.DB(ctx).Exec(q, id).Error; err != nil {
			return err
		}
	}
	return nil
}
