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
	ActorID    string // of the person; "" for the application itself, and for what was before it was kept
	Actor      string // the name then
	Kind       string
	SheetID    string
	RowID      int64
	RuleID     string
	DeliveryID int64
	ChangeID   *int64 // of a member of a change of several rows: the id of its head
	Detail     string // JSON
	Was        string `gorm:"-"` // JSON of what was before, for the audit
}

// of fills in what an event does not say.
func (ev *Event) of(d Doer) {
	if ev.Detail == "" {
		ev.Detail = "{}"
	}
	if ev.ActorID == "" {
		ev.ActorID = d.ID
	}
}

// The kinds of events; what became of a delivery is "delivery-" and its state.
const (
	EventRowAdded      = "row-added"
	EventRowEdited     = "row-edited"
	EventRowDeleted    = "row-deleted"
	EventRowRestored   = "row-restored"
	EventRowGone       = "row-gone"
	EventRowBack       = "row-back"
	EventChanged       = "changed" // the head of a change of several rows
	EventImported      = "imported"
	EventRefreshed     = "refreshed" // from its source
	EventRefreshFailed = "refresh-failed"
	EventLooked        = "looked" // at its source, which had not changed
	EventUndone        = "undone"
	EventFormSaved     = "form-saved"
	EventSourceSaved   = "source-saved"
	EventTokenSaved    = "token-saved"
	EventSheetSaved    = "sheet-saved"
	EventRuleSaved     = "rule-saved"
	EventRuleState     = "rule-state"
	EventBatch         = "batch"
	EventSetAside      = "set-aside" // what a person says of an email to come
	EventTemplateSaved = "template-saved"
	EventPieceSaved    = "piece-saved"
	EventShelfChanged  = "shelf-changed" // a file has come to a sheet, or gone
	EventSettingSaved  = "setting-saved"
	EventPersonSaved   = "person-saved"
	EventClockMoved    = "clock-moved"
	EventPracticeMail  = "practice-mail"
	EventWentBack      = "went-back" // the database has gone back in time
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

// AddEvents appends events; those about access and settings are lines of the audit too.
func (s *Store) AddEvents(ctx context.Context, events ...Event) error {
	d := DoerOf(ctx)
	for i := range events {
		ev := &events[i]
		ev.of(d)
		if auditKinds[ev.Kind] {
			a := Audited{At: ev.At, ActorID: ev.ActorID, Actor: ev.Actor, Act: ev.Kind, Was: ev.Was, Became: ev.Detail}
			if ev.SheetID != "" {
				if err := s.DB(ctx).Raw("SELECT name FROM sheets WHERE id = ?", ev.SheetID).Scan(&a.Subject).Error; err != nil {
					return err
				}
			}
			if err := s.AddAudit(ctx, a); err != nil {
				return err
			}
		}
	}
	return chunks(events, bulk, func(c []Event) error { return s.DB(ctx).Create(&c).Error })
}

// changeKinds are the kinds of events that change rows or columns.
var changeKinds = []string{EventRowAdded, EventRowEdited, EventRowDeleted, EventRowRestored, EventChanged,
	EventImported, EventRefreshed,
	EventRefreshFailed, EventUndone, EventSheetSaved, EventFormSaved, EventSourceSaved}

// AddHead appends the head of a change and gives its id.
func (s *Store) AddHead(ctx context.Context, ev Event) (int64, error) {
	ev.of(DoerOf(ctx))
	err := s.DB(ctx).Create(&ev).Error
	return ev.ID, err
}

// SetDetail completes a head in the transaction that appends it.
func (s *Store) SetDetail(ctx context.Context, id int64, detail string) error {
	return s.DB(ctx).Exec("UPDATE events SET detail = ? WHERE id = ?", detail, id).Error
}

// ChangeEvents gives a change: its head and its members, the latest first.
func (s *Store) ChangeEvents(ctx context.Context, sheetID string, id int64) (head *Event, members []Event, err error) {
	var h Event
	if err := first(s.DB(ctx).Where("id = ? AND sheet_id = ? AND change_id IS NULL", id,
		sheetID).First(&h).Error); err != nil {
		return nil, nil, err
	}
	err = s.DB(ctx).Where("change_id = ?", id).Order("id DESC").Find(&members).Error
	return &h, members, err
}

// SheetHistory gives the changes of a sheet before an event id (0: the
// newest), the newest first.
func (s *Store) SheetHistory(ctx context.Context, sheetID string, before int64, limit int) (out []Event, err error) {
	q := s.DB(ctx).Where("sheet_id = ? AND change_id IS NULL AND delivery_id = 0 AND kind IN ?", sheetID, changeKinds)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	err = q.Order("id DESC").Limit(limit).Find(&out).Error
	return out, err
}

// SourceEvents gives what looking at a sheet's source has come to, the newest first.
func (s *Store) SourceEvents(ctx context.Context, sheetID string, limit int) (out []Event, err error) {
	err = s.DB(ctx).Where("sheet_id = ? AND change_id IS NULL AND kind IN ?", sheetID,
		[]string{EventRefreshed, EventRefreshFailed, EventLooked}).
		Order("id DESC").Limit(limit).Find(&out).Error
	return out, err
}

// ConvertedColumns is the name in an event's detail of the columns whose cells
// are read otherwise since.
const ConvertedColumns = "converted"

// ConvertedSince lists the columns of a sheet whose cells are read otherwise
// since an event.
func (s *Store) ConvertedSince(ctx context.Context, sheetID string, after int64) (map[string]bool, error) {
	var details []string
	err := s.DB(ctx).Raw("SELECT detail FROM events WHERE sheet_id = ? AND kind = ? AND id > ?", sheetID, EventSheetSaved,
		after).Scan(&details).Error
	out := map[string]bool{}
	for _, text := range details {
		var d struct {
			Converted []string `json:"converted"`
		}
		if json.Unmarshal([]byte(text), &d) == nil {
			for _, id := range d.Converted {
				out[id] = true
			}
		}
	}
	return out, err
}

// RowsEditedSince gives those of rows that others than an actor have edited after an event.
// Who has no id is told by the name.
func (s *Store) RowsEditedSince(ctx context.Context, rows []int64, after int64, actorID,
	actor string) (map[int64]bool, error) {
	out := map[int64]bool{}
	err := chunks(rows, 1000, func(c []int64) error {
		var ids []int64
		err := s.DB(ctx).Raw(
			"SELECT DISTINCT row_id FROM events WHERE row_id IN ? AND id > ? AND kind = ? AND (actor_id <> ? OR actor_id = "+
				"'' AND actor <> ?)",
			c, after, EventRowEdited, actorID, actor).Scan(&ids).Error
		for _, id := range ids {
			out[id] = true
		}
		return err
	})
	return out, err
}

// Event finds an event.
func (s *Store) Event(ctx context.Context, id int64) (*Event, error) {
	var ev Event
	return &ev, first(s.DB(ctx).First(&ev, "id = ?", id).Error)
}

// EventIDsAfter gives the ids of events above one, the lowest first.
func (s *Store) EventIDsAfter(ctx context.Context, after int64, limit int) (ids []int64, err error) {
	err = s.DB(ctx).Raw("SELECT id FROM events WHERE id > ? ORDER BY id LIMIT ?", after, limit).Scan(&ids).Error
	return ids, err
}

// EventHeads gives events by id without what they say.
func (s *Store) EventHeads(ctx context.Context, ids []int64) (out []Event, err error) {
	err = chunks(ids, 1000, func(c []int64) error {
		var found []Event
		err := s.DB(ctx).Select("id, at, actor, kind, sheet_id, row_id, rule_id, delivery_id").Where("id IN ?", c).
			Order("id").Find(&found).Error
		out = append(out, found...)
		return err
	})
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
