package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/rule"
)

// Rule is a rule as it is kept.
type Rule struct {
	ID          string `gorm:"primaryKey"`
	SheetID     string
	Letter      string
	Name        string
	State       rule.State
	Body        string
	Version     int64
	BaselineAt  *time.Time
	ArmingAfter *int64 // the row up to which agenda entries have been computed; nil when done
	ArmedRows   int64
	ArmingSince *time.Time // up to when rows that are not on the agenda yet have been judged; nil: the baseline
	// ArmedUntil is up to when the agenda holds what the rule must look at; nil: for ever. BeyondAt is the
	// first instant after it, which is on the agenda too.
	ArmedUntil, BeyondAt *time.Time
	Generation           int64      // of its entries on the agenda that count; from 1
	BrakedAt             *time.Time // the brake holds the rule's emails from reactions since then
	ReleasedAt           *time.Time // somebody has let its first run go
	PausedAt             *time.Time // when it was last paused
	ResumedAt            *time.Time // when that pause ended
	CountsFrom           int64      // its episodes and changes are counted from here, at least
	Position             int        // in the sheet's order of rules
	Broken               string     // what it misses since a column or template went; "" for nothing
	CreatedAt            time.Time
	DeletedAt            *time.Time
	DeletedBy            string
	// UnjudgedKnown is how many rows that it cannot judge somebody has seen and left so.
	UnjudgedKnown int
	HistoryOf     string // the rule whose judged occasions are judged for this one too; "" for none
}

// Core turns the record into the core's rule.
func (r *Rule) Core() (*rule.Rule, error) {
	c, err := rule.Decode([]byte(r.Body))
	if err != nil {
		return nil, fmt.Errorf("rule %s: %w", r.ID, err)
	}
	c.ID, c.Name, c.State = r.ID, r.Name, r.State
	return c, nil
}

// SetCore puts a rule's content into the record.
func (r *Rule) SetCore(c *rule.Rule) error {
	body := *c
	body.ID, body.State = "", ""
	b, err := json.Marshal(&body)
	r.Name, r.Body = c.Name, string(b)
	return err
}

// Rules lists a sheet's rules in their order; all sheets' for "".
func (s *Store) Rules(ctx context.Context, sheetID string) (out []Rule, err error) {
	q := s.DB(ctx).Where("deleted_at IS NULL")
	if sheetID != "" {
		q = q.Where("sheet_id = ?", sheetID)
	}
	err = q.Order("sheet_id, position, LENGTH(letter), letter").Find(&out).Error
	return out, err
}

// AllRules lists rules, of a sheet or with "" of all, those that have been taken
// away too: they still stand in the log.
func (s *Store) AllRules(ctx context.Context, sheetID string) (out []Rule, err error) {
	q := s.DB(ctx)
	if sheetID != "" {
		q = q.Where("sheet_id = ?", sheetID)
	}
	err = q.Find(&out).Error
	return out, err
}

// Rule finds a rule.
func (s *Store) Rule(ctx context.Context, id string) (*Rule, error) {
	var r Rule
	return &r, first(s.DB(ctx).First(&r, "id = ? AND deleted_at IS NULL", id).Error)
}

// LockRule finds a rule and locks it.
func (s *Store) LockRule(ctx context.Context, id string) (*Rule, error) {
	var r Rule
	return &r, first(s.DB(ctx).Raw("SELECT * FROM rules WHERE id = ? AND deleted_at IS NULL FOR UPDATE",
		id).Take(&r).Error)
}

// LockReactions finds a rule and locks it, so that one process at a time, of a whole cluster, counts its
// reactions.
// rows is how many its sheet has.
func (s *Store) LockReactions(ctx context.Context, id string) (r *Rule, rows int64, err error) {
	if err := s.guard(ctx, "rule "+id); err != nil {
		return nil, 0, err
	}
	var found struct {
		Rule
		LiveRows int64
	}
	err = first(s.DB(ctx).Raw("SELECT r.*, (SELECT live_rows FROM sheets s WHERE s.id = r.sheet_id) AS live_rows "+
		"FROM rules r WHERE id = ? AND deleted_at IS NULL FOR UPDATE", id).Take(&found).Error)
	return &found.Rule, found.LiveRows, err
}

// LockDeletedRule finds a rule that has been deleted and locks it.
func (s *Store) LockDeletedRule(ctx context.Context, id string) (*Rule, error) {
	var r Rule
	return &r, first(s.DB(ctx).Raw("SELECT * FROM rules WHERE id = ? AND deleted_at IS NOT NULL FOR UPDATE",
		id).Take(&r).Error)
}

// DeletedRules lists the rules of a sheet that have been deleted since an
// instant, the latest first.
func (s *Store) DeletedRules(ctx context.Context, sheetID string, since time.Time) (out []Rule, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND deleted_at >= ?", sheetID, since).Order("deleted_at DESC").Find(&out).Error
	return out, err
}

// PlaceRule gives a rule its place in the sheet's order.
func (s *Store) PlaceRule(ctx context.Context, r *Rule, position int) error {
	return s.renewing(ctx, r.SheetID, func(db *gorm.DB) error {
		return db.Exec("UPDATE rules SET position = ? WHERE id = ?", position, r.ID).Error
	})
}

// SaveRule writes a rule.
func (s *Store) SaveRule(ctx context.Context, r *Rule) error {
	return s.renewing(ctx, r.SheetID, func(db *gorm.DB) error {
		return db.Save(r).Error
	})
}

// SaveBrake writes since when the brake holds a rule; nil lets go.
func (s *Store) SaveBrake(ctx context.Context, id string, at *time.Time) error {
	return s.DB(ctx).Exec("UPDATE rules SET braked_at = ? WHERE id = ?", at, id).Error
}

// KnowUnjudged notes how many rows that a rule cannot judge somebody has seen.
func (s *Store) KnowUnjudged(ctx context.Context, id string, n int) error {
	return s.DB(ctx).Model(&Rule{}).Where("id = ?", id).Update("unjudged_known", n).Error
}

// NextLetter gives the letter of a sheet's next rule: A to Z, then AA and on.
// A letter never comes back.
func (s *Store) NextLetter(ctx context.Context, sheetID string) (string, error) {
	var n int64
	if err := s.DB(ctx).Model(&Rule{}).Where("sheet_id = ?", sheetID).Count(&n).Error; err != nil {
		return "", err
	}
	letters := ""
	for n++; n > 0; n = (n - 1) / 26 {
		letters = string(rune('A'+(n-1)%26)) + letters
	}
	return letters, nil
}

// SaveArming writes how far a rule's agenda entries have been computed.
func (s *Store) SaveArming(ctx context.Context, r *Rule) error {
	return s.renewing(ctx, r.SheetID, func(db *gorm.DB) error {
		return db.Exec("UPDATE rules SET arming_after = ?, armed_rows = ?, arming_since = ?, armed_until = ?, "+
			"beyond_at = ? WHERE id = ?", r.ArmingAfter, r.ArmedRows, r.ArmingSince, r.ArmedUntil, r.BeyondAt, r.ID).Error
	})
}
