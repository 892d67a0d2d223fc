package store

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/delivery"
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

// EventHeads gives events by id without what they say, but for the rows of those of many deliveries.
func (s *Store) EventHeads(ctx context.Context, ids []int64) (out []Event, err error) {
	err = chunks(ids, 1000, func(c []int64) error {
		var found []Event
		err := s.DB(ctx).Select("id, at, actor, kind, sheet_id, row_id, rule_id, delivery_id, "+
			"IF(delivery_id = 0 AND kind LIKE '"+EventDelivery+"%', detail, '') AS detail").Where("id IN ?", c).
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
func (s *Store) DeliveryEvents(ctx context.Context, d *Delivery) (out []Event, err error) {
	if d.OwnEvents > 0 {
		return ownEvents(d), nil
	}
	err = s.DB(ctx).Where("delivery_id = ?", d.ID).Order("id").Find(&out).Error
	return out, err
}

// What goes as it should has no events of its own: they would say what its row says, for most of all
// that is kept. They are written once anything else becomes of it. Those who follow the events hear of
// many such deliveries by one event of their sheet.
const (
	OwnQueued   = 1 // the row stands for its having been queued as it was first considered
	OwnAccepted = 2 // and for its having been taken whole at the first try
)

// ownEvents are the events that a delivery's row stands for.
func ownEvents(d *Delivery) (out []Event) {
	of := Event{Actor: "nivot", SheetID: d.SheetID, RowID: d.RowID, RuleID: d.RuleID, DeliveryID: d.ID, Detail: "{}"}
	if d.OwnEvents >= OwnQueued {
		ev := of
		ev.At, ev.Kind = d.JudgedAt, EventDelivery+string(delivery.Queued)
		out = append(out, ev)
	}
	if d.OwnEvents >= OwnAccepted {
		ev := of
		ev.At, ev.Kind = *d.FinishedAt, EventDelivery+string(delivery.Accepted)
		ev.Detail = Detail(map[string]any{"attempt": d.Attempt, "sending": d.SendingAt, "reply": d.Reply, "try": d.Tries})
		out = append(out, ev)
	}
	return out
}

// tellOwn writes the events that a delivery's row has stood for, before the row becomes something else.
func (s *Store) tellOwn(ctx context.Context, d *Delivery) error {
	if d.OwnEvents == 0 {
		return nil
	}
	was, err := s.LockDelivery(ctx, d.ID) // as it is, not as it was when the transaction began
	if err != nil {
		return err
	}
	d.OwnEvents = 0
	return s.AddEvents(ctx, ownEvents(was)...)
}

// touched is the detail of the event of many deliveries: the rows that they are of.
type touched struct {
	Rows []int64 `json:"rows"`
}

// TellOf appends an event for each sheet of deliveries whose rows stand for their own.
func (s *Store) TellOf(ctx context.Context, at time.Time, ds []*Delivery) error {
	rows := map[string][]int64{}
	for _, d := range ds {
		rows[d.SheetID] = append(rows[d.SheetID], d.RowID)
	}
	var out []Event
	for _, sheet := range slices.Sorted(maps.Keys(rows)) {
		out = append(out, Event{At: at, Actor: "nivot", Kind: EventDelivery + string(delivery.Queued), SheetID: sheet,
			Detail: Detail(touched{rows[sheet]})})
	}
	return s.AddEvents(ctx, out...)
}

// Touched gives the rows that the event of many deliveries is of.
func (ev *Event) Touched() []int64 {
	var t touched
	if ev.DeliveryID != 0 || !strings.HasPrefix(ev.Kind, EventDelivery) || json.Unmarshal([]byte(ev.Detail), &t) != nil {
		return nil
	}
	return t.Rows
}
