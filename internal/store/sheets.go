package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

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
	err = s.DB(ctx).Where("deleted_at > ? OR deleted_at IS NULL AND put_away_at IS NOT NULL",
		since).Order("COALESCE(deleted_at, put_away_at) DESC, id").Find(&out).Error
	return out, err
}

// LockAwaySheet finds a sheet that has been put away or deleted, and locks it.
func (s *Store) LockAwaySheet(ctx context.Context, id string) (*Sheet, error) {
	var r Sheet
	return &r,
		first(
			s.DB(ctx).Raw(
				"SELECT * FROM sheets WHERE id = ? AND (deleted_at IS NOT NULL OR put_away_at IS NOT NULL) FOR UPDATE",
				id).Take(&r).Error)
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
	return &r, first(s.DB(ctx).Raw("SELECT * FROM sheets WHERE id = ? AND deleted_at IS NULL FOR UPDATE",
		id).Take(&r).Error)
}

// SaveSheet writes a sheet.
func (s *Store) SaveSheet(ctx context.Context, r *Sheet) error {
	return s.renewing(ctx, r.ID, func(db *gorm.DB) error {
		return db.Save(r).Error
	})
}

// TouchSheet counts the sheet's version up, so that cached views of its rows
// are made anew; where rows have come, gone or moved, that of their order too.
// more is by how many rows the sheet has grown.
func (s *Store) TouchSheet(ctx context.Context, id string, order bool, more int) error {
	return s.DB(ctx).Exec(
		"UPDATE sheets SET version = version + 1, order_version = order_version + ?, live_rows = live_rows + ? WHERE id = ?",
		order, more, id).Error
}

// RetireSheet stops everything that was to come for a sheet: its rules are
// paused, and what the agenda holds of it counts no more.
func (s *Store) RetireSheet(ctx context.Context, id string, now time.Time) error {
	return s.renewing(ctx, id, func(db *gorm.DB) error { return retire(db, id, now) })
}

func retire(db *gorm.DB, id string, now time.Time) error {
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{"DELETE FROM agenda WHERE rule_id = '' AND sheet_id = ?", []any{id}},
		{"DELETE FROM agenda WHERE rule_id IN (SELECT id FROM rules WHERE sheet_id = ?) AND generation = 0", []any{id}},
		{"UPDATE rules SET state = IF(state = 'on', 'paused', state), arming_after = NULL, generation = generation + 1 " +
			"WHERE sheet_id = ?", []any{id}},
		{"INSERT INTO agenda (kind, due_at, sheet_id, rule_id) SELECT 'clear', ?, sheet_id, id FROM rules " +
			"WHERE sheet_id = ?", []any{now, id}},
	} {
		if err := db.Exec(q.sql, q.args...).Error; err != nil {
			return err
		}
	}
	return nil
}
