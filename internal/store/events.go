package store

import (
	"context"
	"encoding/json"
	"time"
)

// Event is one line of the append-only record of what happened.
type Event struct {
	ID         int64 `gorm:"primaryKey"`
	At         time.Time
	Actor      string
	Kind       string
	SheetID    string
	RowID      int64
	RuleID     string
	DeliveryID int64
	Detail     string // JSON
}

// The kinds of events; what became of a delivery is "delivery-" and its state.
const (
	EventRowAdded      = "row-added"
	EventRowEdited     = "row-edited"
	EventRowDeleted    = "row-deleted"
	EventRowRestored   = "row-restored"
	EventImported      = "imported"
	EventSheetSaved    = "sheet-saved"
	EventRuleSaved     = "rule-saved"
	EventRuleState     = "rule-state"
	EventTemplateSaved = "template-saved"
	EventSettingSaved  = "setting-saved"
	EventPersonSaved   = "person-saved"
	EventClockMoved    = "clock-moved"
	EventPracticeMail  = "practice-mail"
	EventDelivery      = "delivery-"
)

// Detail packs an event's detail.
func Detail(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return "{}"
	}
	return string(b)
}

// AddEvents appends events.
func (s *Store) AddEvents(ctx context.Context, events ...Event) error {
	for i := range events {
		if events[i].Detail == "" {
			events[i].Detail = "{}"
		}
	}
	return chunks(events, bulk, func(c []Event) error { return s.DB(ctx).Create(&c).Error })
}

// EventsAfter gives events with an id above after, oldest first.
func (s *Store) EventsAfter(ctx context.Context, after int64, limit int) (out []Event, err error) {
	err = s.DB(ctx).Omit("detail").Where("id > ?", after).Order("id").Limit(limit).Find(&out).Error
	return out, err
}

// LastEvent gives the highest event id.
func (s *Store) LastEvent(ctx context.Context) (id int64, err error) {
	err = s.DB(ctx).Raw("SELECT COALESCE(MAX(id), 0) FROM events").Scan(&id).Error
	return id, err
}

// RowEvents gives a row's events, the newest first.
func (s *Store) RowEvents(ctx context.Context, rowID int64, limit int) (out []Event, err error) {
	err = s.DB(ctx).Where("row_id = ? AND delivery_id = 0", rowID).Order("id DESC").Limit(limit).Find(&out).Error
	return out, err
}

// DeliveryEvents gives a delivery's events, the oldest first.
func (s *Store) DeliveryEvents(ctx context.Context, id int64) (out []Event, err error) {
	err = s.DB(ctx).Where("delivery_id = ?", id).Order("id").Find(&out).Error
	return out, err
}
