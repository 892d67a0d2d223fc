package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/calendar"
)

// DefaultCalendar is the id of the working calendar of sheets that have none of
// their own.
const DefaultCalendar = "default"

// Calendar is a named working calendar as it is kept.
type Calendar struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Weekdays  string // JSON: mon, tue ...
	Closed    string // JSON: ISO days
	CreatedAt time.Time
}

// Core turns the record into the core's calendar.
func (c *Calendar) Core() (calendar.Calendar, error) {
	var weekdays, closed []string
	if err := json.Unmarshal([]byte(c.Weekdays), &weekdays); err != nil {
		return calendar.Calendar{}, err
	}
	if err := json.Unmarshal([]byte(c.Closed), &closed); err != nil {
		return calendar.Calendar{}, err
	}
	return calendar.New(weekdays, closed)
}

// SetCore puts a calendar's days into the record.
func (c *Calendar) SetCore(x calendar.Calendar) {
	weekdays, closed := x.Names()
	c.Weekdays, c.Closed = Detail(weekdays), "[]"
	if len(closed) > 0 {
		c.Closed = Detail(closed)
	}
}

// Calendars lists the working calendars, the default first.
func (s *Store) Calendars(ctx context.Context) (out []Calendar, err error) {
	err = s.DB(ctx).Order("id <> '" + DefaultCalendar + "', name").Find(&out).Error
	return out, err
}

// Calendar finds a working calendar; "" is the default.
func (s *Store) Calendar(ctx context.Context, id string) (*Calendar, error) {
	if id == "" {
		id = DefaultCalendar
	}
	var c Calendar
	err := first(s.DB(ctx).First(&c, "id = ?", id).Error)
	if err == ErrNotFound && id == DefaultCalendar {
		c = Calendar{ID: id, Name: "Working days"}
		c.SetCore(calendar.Default())
		return &c, nil
	}
	return &c, err
}

// SaveCalendar writes a working calendar.
func (s *Store) SaveCalendar(ctx context.Context, c *Calendar) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error {
		return db.Save(c).Error
	})
}

// DropCalendar takes a working calendar away.
func (s *Store) DropCalendar(ctx context.Context, id string) error {
	return s.renewing(ctx, common, func(db *gorm.DB) error { return db.Delete(&Calendar{}, "id = ?", id).Error })
}

// SheetsOfCalendar lists the sheets that have a working calendar.
func (s *Store) SheetsOfCalendar(ctx context.Context, id string) (out []Sheet, err error) {
	q := s.DB(ctx).Where("deleted_at IS NULL")
	if id == DefaultCalendar {
		q = q.Where("calendar_id IN ('', ?)", id)
	} else {
		q = q.Where("calendar_id = ?", id)
	}
	err = q.Order("name, id").Find(&out).Error
	return out, err
}
