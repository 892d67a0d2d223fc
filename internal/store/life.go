package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
)

// Mark is how far the database had come when it was last seen: kept outside it,
// in every process and beside the key, so that a database that has gone back in
// time is recognised.
type Mark struct {
	Life     string    `json:"life"`            // the database's
	Event    int64     `json:"event,omitempty"` // the last one, and its time
	At       time.Time `json:"at,omitzero"`
	Delivery int64     `json:"delivery,omitempty"` // that was last marked "sending", and when
	Marked   time.Time `json:"marked,omitzero"`
}

// WentBack says that the database has gone back in time: what fell due after
// Since, its last event, and not after Until may have gone already.
type WentBack struct {
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	Event int64     `json:"event"` // that tells of it
	Rules int       `json:"rules"` // that were on, and have been paused
}

// SettingLife names the database's life: it is drawn when the database begins.
const SettingLife = "life"

// Seen gives how far the database has come.
func (s *Store) Seen(ctx context.Context) (m Mark, err error) {
	for {
		ok, err := s.Setting(ctx, SettingLife, &m.Life)
		if err != nil {
			return m, err
		}
		if ok {
			break
		}
		b, _ := json.Marshal(NewID())
		if err := s.DB(ctx).Exec("INSERT IGNORE INTO settings (name, value) VALUES (?, ?)", SettingLife,
			string(b)).Error; err != nil {
			return m, err
		}
	}
	var last []struct {
		ID int64
		At time.Time
	}
	err = s.DB(ctx).Raw("SELECT id, at FROM events ORDER BY id DESC LIMIT 1").Scan(&last).Error
	if len(last) > 0 {
		m.Event, m.At = last[0].ID, last[0].At
	}
	return m, err
}

// Holds reports whether the database still holds what a mark says it did, and returns its time. A mark
// of another life says nothing of it.
func (s *Store) Holds(ctx context.Context, m Mark) (at time.Time, ok bool, err error) {
	var r struct {
		Clock  time.Time
		Life   sql.NullString
		At     sql.NullTime
		Marked sql.NullTime
	}
	if err := s.DB(ctx).Raw(
		`SELECT UTC_TIMESTAMP(6) AS clock, (SELECT value FROM settings WHERE name = ?) AS life,
		(SELECT at FROM events WHERE id = ?) AS at,
		(SELECT sending_at FROM deliveries WHERE id = ? AND `+hasGone+`) AS marked`,
		SettingLife, m.Event, m.Delivery).Scan(&r).Error; err != nil {
		return at, false, err
	}
	life, _ := json.Marshal(m.Life)
	holds := m.Event == 0 && m.Delivery == 0 ||
		r.Life.String == string(life) && (m.Event == 0 || r.At.Valid && r.At.Time.Equal(m.At)) &&
			(m.Delivery == 0 || r.Marked.Valid && !r.Marked.Time.Before(m.Marked))
	return r.Clock, holds, nil
}

// Sending is what bears on all emails.
type Sending struct {
	On       bool // sending is on
	Back     WentBack
	Compares bool // a rule asks, or has asked, whether another email says the same
}

// Sending reads what bears on all emails.
func (s *Store) Sending(ctx context.Context) (Sending, error) {
	var found []setting
	out := Sending{On: true}
	into := map[string]any{SettingSending: &out.On, SettingWentBack: &out.Back, SettingCompares: &out.Compares}
	err := s.DB(ctx).Find(&found, "name IN ?", []string{SettingSending, SettingWentBack, SettingCompares}).Error
	for _, f := range found {
		if err == nil {
			err = json.Unmarshal([]byte(f.Value), into[f.Name])
		}
	}
	return out, err
}

// Alone does f while no other process does anything under the same name; it
// waits for one that does.
func (s *Store) Alone(ctx context.Context, name string, f func() error) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var got int
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT(DATABASE(), ?), 60)", " "+name).Scan(&got); err != nil {
		return err
	}
	if got != 1 {
		return errors.New("another process has been at it for a minute: " + name)
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(CONCAT(DATABASE(), ?))", " "+name)
	}()
	return f()
}

// jump is by how much ids jump ahead when a database has gone back in time:
// more than anybody can have given since its last event.
const jump = 1_000_000_000

// JumpAhead has the ids of rows, deliveries, events and what deliveries name, and the counters
// of rules, go on far ahead of all that may have been given, so that none is ever
// given twice. known is the last event that anybody has seen: it has jumped with
// every earlier going back. It gives the id of the next event.
func (s *Store) JumpAhead(ctx context.Context, known int64) (event int64, err error) {
	for _, t := range []struct{ name, insert string }{
		{"sheet_rows", "INSERT INTO sheet_rows (id, sheet_id, number, place, cells) VALUES (?, '', 0, 0, '')"},
		{"deliveries",
			"INSERT INTO deliveries (id, occasion, sheet_id, rule_id, row_id, due_at, judged_at, state, reason, last_error, " +
				"origin, facts, recipients, reply_to) VALUES (?, RANDOM_BYTES(16), '', '', 0, UTC_TIMESTAMP(), UTC_TIMESTAMP(), " +
				"'skipped', '', '', '{}', '[]', '[]', '')"},
		{"letter_bases", "INSERT INTO letter_bases (id, template_id, version, variant, content) VALUES (?, '', 0, 0, '')"},
		{"identities", "INSERT INTO identities (id, digest, name, address, public_url) VALUES (?, '', '', '', '')"},
		{"addressees", "INSERT INTO addressees (id, digest, mailbox) VALUES (?, '', '')"},
		{"test_emails",
			"INSERT INTO test_emails (id, sheet_id, template_id, template_name, version, row_id, row_name, why, sent_by, " +
				"sent_at, sender_id, identity_id, recipients, subject, message_id, pack) VALUES (?, '', '', '', 0, 0, '', '', " +
				"'', UTC_TIMESTAMP(), '', 0, '[]', '', '', '')"},
		{"events", "INSERT INTO events (id, at, actor, kind, detail) VALUES (?, UTC_TIMESTAMP(), '', '', '')"},
	} {
		var last int64
		if err := s.DB(ctx).Raw("SELECT COALESCE(MAX(id), 0) FROM " + t.name).Scan(&last).Error; err != nil {
			return 0, err
		}
		if last = max(last, known); t.name == "events" {
			event = last + jump + 1
		}
		if err := s.DB(ctx).Exec(t.insert, last+jump).Error; err != nil {
			return 0, err
		}
		if err := s.DB(ctx).Exec("DELETE FROM "+t.name+" WHERE id = ?", last+jump).Error; err != nil {
			return 0, err
		}
	}
	return event, s.renewing(ctx, common, func(db *gorm.DB) error {
		return db.Exec("UPDATE rules SET counts_from = ?", event).Error
	})
}

// Doubt holds all that was on its way in a database that has gone back in time,
// and puts in doubt what was being handed over: it may have gone since.
func (s *Store) Doubt(ctx context.Context, now time.Time) (n int, err error) {
	var ds []Delivery
	open := append(delivery.From(delivery.Held, delivery.Restoring), delivery.From(delivery.InDoubt,
		delivery.Restoring)...)
	if err := s.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(open...)+" AND state IN ? ORDER BY id FOR UPDATE",
		open).Scan(&ds).Error; err != nil {
		return 0, err
	}
	for i := range ds {
		d := &ds[i]
		to := delivery.Held
		if !delivery.Can(d.State, to, delivery.Restoring) {
			to = delivery.InDoubt
		}
		if err := d.Become(to, delivery.Restoring); err != nil {
			return 0, err
		}
		why := reason.Reason{Code: reason.Restored}
		if goes := d.Reason.Reason; to == delivery.Held {
			why.Of = &goes
			d.Reason = Why{why}
		} else {
			d.LastError, d.FinishedAt = Why{why}, &now
		}
		d.Worker, d.Decision = 0, ""
		if err := s.SaveDelivery(ctx, d); err != nil {
			return 0, err
		}
		if err := s.AddEvents(ctx, DeliveryEvent(d, now, "nivot", map[string]any{"reason": why})); err != nil {
			return 0, err
		}
	}
	return len(ds), nil
}
