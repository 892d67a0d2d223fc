package store

import (
	"context"
	"time"
)

// Source is a file that somebody else keeps and a sheet follows.
type Source struct {
	ID           int64 `gorm:"primaryKey"`
	SheetID      string
	Place        string // a path in the watched folder, or an http(s) address, as it is shown
	SealedPlace  []byte // the address, sealed, where its query is not shown; nil for as Place says
	Worksheet    string
	HeadingRow   int    // from 1; 0 for the first that is filled
	EveryMinutes int    // or
	AtTime       string // "07:30", in the sheet's zone
	Share        int    // the most of the rows, in hundredths, that a refresh may change
	Missing      string // "gone" or "keep": rows that the file does not have
	Paused       bool
	Print        []byte // SHA-256 of what it held when it was last taken in
	LookedAt     *time.Time
	ChangedAt    *time.Time
	LastError    string // why the last refresh changed nothing; "" where it went well
	OverShare    bool   // that trouble: it would have changed more than Share
	Overrule     bool   // the next refresh may change any share
}

// Sources lists all sources.
func (s *Store) Sources(ctx context.Context) (out []Source, err error) {
	err = s.DB(ctx).Raw(
		"SELECT c.* FROM sources c JOIN sheets s ON s.id = c.sheet_id WHERE s.deleted_at IS NULL ORDER BY c.id").Scan(
		&out).Error
	return out, err
}

// SheetSource finds the source of a sheet.
func (s *Store) SheetSource(ctx context.Context, sheetID string) (*Source, error) {
	var c Source
	return &c, first(s.DB(ctx).First(&c, "sheet_id = ?", sheetID).Error)
}

// Source finds a source.
func (s *Store) Source(ctx context.Context, id int64) (*Source, error) {
	var c Source
	return &c, first(s.DB(ctx).First(&c, "id = ?", id).Error)
}

// SaveSource writes a source.
func (s *Store) SaveSource(ctx context.Context, c *Source) error { return s.DB(ctx).Save(c).Error }

// DropRefresh removes what the agenda holds of a source.
func (s *Store) DropRefresh(ctx context.Context, id int64) error {
	return s.DB(ctx).Exec("DELETE FROM agenda WHERE kind = 'refresh' AND nr = ?", id).Error
}

// DropSource forgets a source, and what the agenda holds of it.
func (s *Store) DropSource(ctx context.Context, id int64) error {
	if err := s.DropRefresh(ctx, id); err != nil {
		return err
	}
	return s.DB(ctx).Delete(&Source{}, "id = ?", id).Error
}

// ClaimRefresh locks and gives the next source that is due to be looked at.
// One that another process has is passed over.
func (s *Store) ClaimRefresh(ctx context.Context, now time.Time) (*Entry, error) {
	var es []Entry
	err := s.DB(ctx).Raw(
		"SELECT * FROM agenda WHERE kind = 'refresh' AND due_at <= ? ORDER BY due_at, id LIMIT 1 FOR UPDATE SKIP LOCKED",
		now).Scan(&es).Error
	if err != nil || len(es) == 0 {
		return nil, err
	}
	return &es[0], nil
}

// RefreshDue tells, without locking, whether a source is to be looked at.
func (s *Store) RefreshDue(ctx context.Context, now time.Time) (bool, error) {
	var ids []int64
	err := s.DB(ctx).Raw("SELECT id FROM agenda WHERE kind = 'refresh' AND due_at <= ? ORDER BY due_at, id LIMIT 1",
		now).Scan(&ids).Error
	return len(ids) > 0, err
}

// LockRefresh locks a source's entry and tells whether it is still as it was
// taken.
func (s *Store) LockRefresh(ctx context.Context, en Entry) (bool, error) {
	var ids []int64
	err := s.DB(ctx).Raw("SELECT id FROM agenda WHERE id = ? AND kind = 'refresh' AND due_at = ? FOR UPDATE", en.ID,
		en.DueAt).Scan(&ids).Error
	return len(ids) > 0, err
}

// RefreshAt gives when a source is to be looked at next; nil for never.
func (s *Store) RefreshAt(ctx context.Context, id int64) (*time.Time, error) {
	var at []time.Time
	err := s.DB(ctx).Raw(
		"SELECT due_at FROM agenda WHERE kind = 'refresh' AND nr = ? AND rule_id = '' AND row_id = 0 AND delivery_id = 0",
		id).Scan(&at).Error
	if len(at) == 0 {
		return nil, err
	}
	return &at[0], err
}

// Form is a public page that adds a row to a sheet.
type Form struct {
	SheetID string `gorm:"primaryKey"`
	Address string // unguessable; the page's
	Open    bool
	Body    string // JSON
}

// SheetForm finds the form of a sheet.
func (s *Store) SheetForm(ctx context.Context, sheetID string) (*Form, error) {
	var f Form
	return &f, first(s.DB(ctx).First(&f, "sheet_id = ?", sheetID).Error)
}

// FormAt finds a form by its address.
func (s *Store) FormAt(ctx context.Context, address string) (*Form, error) {
	var f Form
	return &f,
		first(
			s.DB(ctx).Raw(
				"SELECT f.* FROM forms f JOIN sheets s ON s.id = f.sheet_id WHERE f.address = ? AND s.deleted_at IS NULL",
				address).Take(&f).Error)
}

// SaveForm writes a form.
func (s *Store) SaveForm(ctx context.Context, f *Form) error { return s.DB(ctx).Save(f).Error }
