package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
)

// Delivery is one occasion in the ledger: its email, or why there is none.
type Delivery struct {
	ID           int64 `gorm:"primaryKey"`
	Occasion     []byte
	Base         []byte // with each: the occasion as a whole
	SheetID      string
	RuleID       string
	RowID        int64 // 0 of a round-up
	Step         int   // of a follow-up, from 1
	Reaction     bool  // a first email of a reaction: the brake counts it
	TemplateID   string
	SenderID     string
	DueAt        time.Time
	JudgedAt     time.Time
	WentAt       *time.Time // when it was queued or held, by the rule's time
	State        delivery.State
	Reason       Why    // why it goes, waits, or does not go
	LastError    Why    // what kept the last try from succeeding
	FaultyColumn string // incomplete: the column to mend
	Decision     string // in doubt: "left" once a person has left it
	Origin       string // the occasion, as JSON
	Facts        string // the row's values then, as JSON
	Recipients   string // as JSON, see Recipient
	ReplyTo      string // mailboxes, one a line
	Subject      string
	Attempt      int
	Tries        int
	FirstTry     *time.Time `gorm:"serializer:instant"`
	SendingAt    *time.Time `gorm:"serializer:instant"` // when it was last marked "sending"
	// DatedAt is the date of its message, in whole seconds: when it was last claimed.
	DatedAt    *time.Time `gorm:"serializer:instant"`
	IdentityID int64      // what its message says of its sender; 0 while it was never claimed
	NextTry    *time.Time `gorm:"serializer:instant"` // set while it waits in the queue
	Worker     int64      // that has it in hand, or had it last; 0 for none
	Reply      string     `gorm:"serializer:roomy"`
	FinishedAt *time.Time `gorm:"serializer:instant"`
	OwnEvents  int        // how many of its events its row stands for: OwnQueued, OwnAccepted or none

	read delivery.State `gorm:"-"` // the state it was read with, once it has another
}

// Recipient is one mailbox of an email and what its server said.
type Recipient struct {
	Role    string `json:"role"` // to, cc or bcc
	Mailbox string `json:"mailbox"`
	Address string `json:"address"`         // as sent; kept where it differs from Mailbox
	State   string `json:"state,omitempty"` // "", accepted, bounced or deferred
	Reply   string `json:"reply,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (r Recipient) MarshalJSON() ([]byte, error) {
	out := struct {
		Role    string `json:"role"`
		Mailbox string `json:"mailbox"`
		Address string `json:"address,omitempty"`
		State   string `json:"state,omitempty"`
		Reply   string `json:"reply,omitempty"`
	}(r)
	if r.Address == r.Mailbox {
		out.Address = ""
	}
	return json.Marshal(out)
}

// UnmarshalJSON implements json.Unmarshaler.
func (r *Recipient) UnmarshalJSON(b []byte) error {
	type plain Recipient
	if err := json.Unmarshal(b, (*plain)(r)); err != nil {
		return err
	}
	if r.Address == "" {
		r.Address = r.Mailbox
	}
	return nil
}

// Fact is one cell of a row as it was: its column's id and name, and what it held. It is kept as
// a list of the three.
type Fact struct{ Column, Name, Value string }

// MarshalJSON implements json.Marshaler.
func (f Fact) MarshalJSON() ([]byte, error) {
	return json.Marshal([3]string{f.Column, f.Name, f.Value})
}

// UnmarshalJSON implements json.Unmarshaler. Older facts are objects.
func (f *Fact) UnmarshalJSON(b []byte) error {
	if bytes.HasPrefix(bytes.TrimSpace(b), []byte("{")) {
		type plain Fact
		return json.Unmarshal(b, (*plain)(f))
	}
	var list [3]string
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	f.Column, f.Name, f.Value = list[0], list[1], list[2]
	return nil
}

// ReadFacts gives the row's values as they were.
func (d *Delivery) ReadFacts() (out []Fact, err error) {
	err = json.Unmarshal([]byte(d.Facts), &out)
	return out, err
}

// Reached reports whether a recipient has had the email.
func (d *Delivery) Reached() (bool, error) {
	var rs []Recipient
	if err := json.Unmarshal([]byte(d.Recipients), &rs); err != nil {
		return false, fmt.Errorf("delivery %d: %w", d.ID, err)
	}
	return slices.ContainsFunc(rs, func(r Recipient) bool { return r.State == string(delivery.Accepted) }), nil
}

// Chain gives the identity, as text, of the email that a follow-up follows; of a
// first email its own. It needs Occasion, Step and Origin.
func (d *Delivery) Chain() string {
	if d.Step > 0 {
		var o rule.Occasion
		if err := json.Unmarshal([]byte(d.Origin), &o); err == nil && o.Base != "" {
			return o.Base
		}
	}
	return hex.EncodeToString(d.Occasion)
}

// InsertDeliveries writes occasions that have been judged. One whose identity
// the ledger holds is passed over: it keeps ID 0.
func (s *Store) InsertDeliveries(ctx context.Context, ds []*Delivery) error {
	if s.tally == nil {
		return s.Tx(ctx, func(tx *Store) error { return tx.InsertDeliveries(ctx, ds) })
	}
	return chunks(ds, 200, func(c []*Delivery) error {
		var q strings.Builder
		var args []any
		q.WriteString(
			`INSERT IGNORE INTO deliveries (sheet_id, occasion, base, rule_id, row_id, step, reaction, template_id,
			sender_id, due_at, judged_at, went_at, state, reason, last_error, faulty_column, origin, facts, recipients,
			reply_to, subject, attempt, next_try, reply, finished_at, own_events) VALUES `)
		for i, d := range c {
			if i > 0 {
				q.WriteByte(',')
			}
			// The occasion is not the first: GORM spreads a slice behind "(".
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
			args = append(args, d.SheetID, d.Occasion, d.Base, d.RuleID, d.RowID, d.Step, d.Reaction, d.TemplateID, d.SenderID,
				d.DueAt, d.JudgedAt, d.WentAt,
				d.State, d.Reason, d.LastError, d.FaultyColumn, d.Origin, d.Facts, d.Recipients, d.ReplyTo,
				clip(d.Subject, maxKept), d.Attempt, instant(d.NextTry), withRoom(d.Reply), instant(d.FinishedAt),
				d.OwnEvents)
		}
		q.WriteString(" RETURNING id, occasion")
		var written []struct { // those that were not passed over
			ID       int64
			Occasion []byte
		}
		if err := s.DB(ctx).Raw(q.String(), args...).Scan(&written).Error; err != nil {
			return err
		}
		ids := make(map[string]int64, len(written))
		for _, w := range written {
			ids[string(w.Occasion)] = w.ID
		}
		var added []*Delivery
		for _, d := range c {
			if id := ids[string(d.Occasion)]; id != 0 {
				delete(ids, string(d.Occasion)) // of one that stands twice in the list, the first has been written
				d.ID = id
				added = append(added, d)
				s.tally.move(d, "", d.State)
			}
		}
		return s.meet(ctx, added)
	})
}

// maxKept is how many characters of a subject or a reply a delivery keeps.
const maxKept = 1000

// clip keeps text within the characters of its column.
func clip(s string, most int) string {
	if len(s) <= most {
		return s
	}
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	return string(r[:most-1]) + "…"
}

// Judged tells which of these occasions the ledger knows: by their identity,
// or, with each, by that of one of their mailboxes.
func (s *Store) Judged(ctx context.Context, ids [][]byte) (map[rule.ID]bool, error) {
	out := map[rule.ID]bool{}
	err := chunks(ids, 1000, func(c [][]byte) error {
		var found [][]byte
		if err := s.DB(ctx).Raw("SELECT occasion FROM deliveries WHERE occasion IN ? UNION ALL "+
			"SELECT base FROM deliveries WHERE base IN ?", c, c).Scan(&found).Error; err != nil {
			return err
		}
		for _, f := range found {
			out[rule.ID(f)] = true
		}
		return nil
	})
	return out, err
}

// went are the states of emails that went out, are on their way, or are held.
const went = "('held', 'queued', 'claimed', 'sending', 'accepted', 'deferred', 'in-doubt', 'bounced')"

// LastFirst gives when a rule's last first email to a row went or was held.
func (s *Store) LastFirst(ctx context.Context, ruleID string, rowID int64) (time.Time, bool, error) {
	var t sql.NullTime
	err := s.DB(ctx).Raw(
		"SELECT MAX(went_at) FROM deliveries WHERE row_id = ? AND rule_id = ? AND step = 0 AND state IN "+went, rowID,
		ruleID).Scan(&t).Error
	return t.Time, t.Valid, err
}

// CountReactions counts a rule's emails from reactions between two instants,
// both counting.
func (s *Store) CountReactions(ctx context.Context, ruleID string, from, to time.Time) (n int, err error) {
	err = s.DB(ctx).Raw(
		"SELECT COUNT(*) FROM deliveries WHERE rule_id = ? AND reaction AND went_at BETWEEN ? AND ? AND state IN "+went,
		ruleID, from, to).Scan(&n).Error
	return n, err
}

// Delivery finds a delivery.
func (s *Store) Delivery(ctx context.Context, id int64) (*Delivery, error) {
	var d Delivery
	return &d, first(s.DB(ctx).First(&d, "id = ?", id).Error)
}

// DeliveryOf finds the delivery of an occasion's identity.
func (s *Store) DeliveryOf(ctx context.Context, occasion []byte) (*Delivery, error) {
	var d Delivery
	return &d, first(s.DB(ctx).First(&d, "occasion = ?", occasion).Error)
}

// LockDelivery finds a delivery and locks it.
func (s *Store) LockDelivery(ctx context.Context, id int64) (*Delivery, error) {
	var d Delivery
	return &d, first(s.DB(ctx).Raw("SELECT * FROM deliveries WHERE id = ? FOR UPDATE", id).Take(&d).Error)
}

// LastEmails gives for rows the last email that was handed over.
func (s *Store) LastEmails(ctx context.Context, rowIDs []int64) (map[int64]Delivery, error) {
	out := map[int64]Delivery{}
	if len(rowIDs) == 0 {
		return out, nil
	}
	var ds []Delivery
	err := s.DB(ctx).Raw(`SELECT d.* FROM deliveries d JOIN (SELECT row_id, MAX(id) AS id FROM deliveries
		WHERE row_id IN ? AND state IN ('accepted', 'bounced', 'in-doubt') GROUP BY row_id) m ON m.id = d.id`,
		rowIDs).Scan(&ds).Error
	for _, d := range ds {
		out[d.RowID] = d
	}
	return out, err
}

// LockRowDeliveries locks and gives rows' deliveries in one of some states.
func (s *Store) LockRowDeliveries(ctx context.Context, in []delivery.State,
	rowIDs ...int64) (out []Delivery, err error) {
	err = chunks(rowIDs, 1000, func(c []int64) error {
		var ds []Delivery
		err := s.DB(ctx).Raw("SELECT * FROM deliveries WHERE row_id IN ? AND state IN ? ORDER BY id FOR UPDATE", c,
			in).Scan(&ds).Error
		out = append(out, ds...)
		return err
	})
	return out, err
}

// IncompleteOf returns rows' emails that are incomplete.
func (s *Store) IncompleteOf(ctx context.Context, rowIDs []int64) (out []Delivery, err error) {
	err = chunks(rowIDs, 1000, func(c []int64) error {
		var part []Delivery
		err := s.DB(ctx).Order("id").Find(&part, "row_id IN ? AND state = 'incomplete'", c).Error
		out = append(out, part...)
		return err
	})
	return out, err
}

// SentBy counts the recipients that senders have reached since an instant, and
// the emails since another; what other connections have in hand counts, but
// not the batch of ids. Nothing older than ten days waits to be sent.
func (s *Store) SentBy(ctx context.Context, senders []string, batch []int64, day,
	minute time.Time) (recipients, emails int, err error) {
	var r struct{ Recipients, Emails int }
	err = s.DB(ctx).Raw(
		`SELECT COALESCE(SUM(JSON_LENGTH(recipients)), 0) AS recipients,
			COALESCE(SUM(state = 'claimed' OR sending_at > ? AND `+hasGone+`), 0) AS emails
		FROM deliveries WHERE due_at >= ? AND sender_id IN ? AND id NOT IN ?
			AND (state = 'claimed' OR sending_at >= ? AND `+hasGone+`)`,
		minute, day.Add(-10*24*time.Hour), senders, batch, day).Scan(&r).Error
	return r.Recipients, r.Emails, err
}

// RoomWait is an email over its sender's daily cap.
type RoomWait struct {
	At         time.Time // when it is looked at again
	Recipients int
}

// WaitForRoom returns what is over the daily cap of senders.
func (s *Store) WaitForRoom(ctx context.Context, senders []string) (out []RoomWait, err error) {
	err = s.DB(ctx).Raw("SELECT a.due_at AS at, JSON_LENGTH(d.recipients) AS recipients FROM deliveries d JOIN agenda a "+
		"ON a.delivery_id = d.id AND a.kind = 'review' WHERE "+pendingIn(delivery.Held)+
		" AND d.sender_id IN ? AND JSON_VALUE(d.reason, '$.code') = ?", senders, reason.DailyCap).Scan(&out).Error
	return out, err
}

// LatelySentBy gives when the last emails of senders went, the latest first and at
// most n; what other connections have in hand goes now. The batch of ids does not
// count, nor what went more than a day ago.
func (s *Store) LatelySentBy(ctx context.Context, senders []string, batch []int64, now time.Time,
	n int) (out []time.Time, err error) {
	var sent []Delivery
	err = s.DB(ctx).Raw(`SELECT state, sending_at FROM deliveries
		WHERE due_at >= ? AND sender_id IN ? AND id NOT IN ?
			AND (state = 'claimed' OR sending_at >= ? AND `+hasGone+`)
		ORDER BY state = 'claimed' DESC, sending_at DESC LIMIT ?`,
		now.AddDate(0, 0, -11), senders, batch, now.AddDate(0, 0, -1), n).Scan(&sent).Error
	for i := range sent {
		if at := sent[i].SendingAt; at == nil || sent[i].State == delivery.Claimed {
			out = append(out, now)
		} else {
			out = append(out, *at)
		}
	}
	return out, err
}

// LockSheetDeliveries locks and gives a sheet's deliveries in one of some
// states.
func (s *Store) LockSheetDeliveries(ctx context.Context, sheetID string,
	in []delivery.State) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(in...)+
		" AND sheet_id = ? AND state IN ? ORDER BY id FOR UPDATE", sheetID, in).Scan(&out).Error
	return out, err
}

// CountHeld counts what is held for a reason.
func (s *Store) CountHeld(ctx context.Context, why reason.Code) (n int, err error) {
	err = s.DB(ctx).Raw("SELECT COUNT(*) FROM deliveries WHERE "+pendingIn(delivery.Held)+
		" AND JSON_VALUE(reason, '$.code') = ?", why).Scan(&n).Error
	return n, err
}

// LockHeld locks and gives what is held of a rule, in the order in which it
// fell due.
func (s *Store) LockHeld(ctx context.Context, ruleID string) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(delivery.Held)+
		" AND rule_id = ? ORDER BY due_at, id FOR UPDATE", ruleID).Scan(&out).Error
	return out, err
}

// Waiting gives what is held of a rule and what is incomplete, in the order in
// which it fell due, and how many of it are held.
func (s *Store) Waiting(ctx context.Context, ruleID string, limit int) (out []Delivery, held int, err error) {
	if err = s.DB(ctx).Raw("SELECT COUNT(*) FROM deliveries WHERE "+pendingIn(delivery.Held)+" AND rule_id = ?",
		ruleID).Scan(&held).Error; err != nil {
		return nil, 0, err
	}
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(delivery.Held, delivery.Incomplete)+
		" AND rule_id = ? ORDER BY due_at, id LIMIT ?", ruleID, limit).Scan(&out).Error
	return out, held, err
}

// StateCount counts deliveries of a state.
type StateCount struct {
	State delivery.State
	N     int64
}

// CountNeeding counts the deliveries of a sheet, or with "" of all, that wait
// for somebody.
func (s *Store) CountNeeding(ctx context.Context, sheetID string) (n int64, err error) {
	q := s.DB(ctx).Model(&Delivery{}).Where(needing)
	if sheetID != "" {
		q = q.Where("sheet_id = ?", sheetID)
	}
	err = q.Count(&n).Error
	return n, err
}

// Needing lists deliveries that wait for somebody: in doubt first, then held,
// refused, incomplete and missed.
func (s *Store) Needing(ctx context.Context, limit int) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT d.* FROM (SELECT id, pending, due_at FROM deliveries WHERE "+needing+
		" ORDER BY pending, due_at DESC, id LIMIT ?) n JOIN deliveries d ON d.id = n.id ORDER BY n.pending, n.due_at "+
		"DESC, n.id", limit).Scan(&out).Error
	return out, err
}

// Between lists deliveries due in a span, without their texts.
func (s *Store) Between(ctx context.Context, f LogFilter, limit int) (out []Delivery, err error) {
	err = f.where(s.DB(ctx)).Select(
		"id, sheet_id, rule_id, row_id, due_at, state, reason, last_error, subject, recipients, decision").
		Order("due_at, id").Limit(limit).Find(&out).Error
	return out, err
}

// RowMarks lists the deliveries of rows that fell due in a span.
func (s *Store) RowMarks(ctx context.Context, rowIDs []int64, from, to time.Time) (out []Delivery, err error) {
	if len(rowIDs) == 0 {
		return nil, nil
	}
	err = s.DB(ctx).Select(
		"id, occasion, rule_id, row_id, step, due_at, state, subject, reason, IF(step > 0, origin, '') AS origin").
		Where("row_id IN ? AND due_at BETWEEN ? AND ?", rowIDs, from, to).Order("due_at, id").Find(&out).Error
	return out, err
}

// Candidate is a delivery that waits to be sent.
type Candidate struct {
	ID    int64
	State delivery.State
	Ask   int // which of the asks has found it
}

// ReadQueued gives those of deliveries that wait to be sent, the longest waiting first.
func (s *Store) ReadQueued(ctx context.Context, ids []int64, now time.Time) ([]Delivery, error) {
	return s.queued(ctx, ids, now, "")
}

// LockQueued locks and gives those of deliveries that wait to be sent, the longest waiting first; those
// that another process has are passed over.
func (s *Store) LockQueued(ctx context.Context, ids []int64, now time.Time) ([]Delivery, error) {
	return s.queued(ctx, ids, now, " FOR UPDATE SKIP LOCKED")
}

func (s *Store) queued(ctx context.Context, ids []int64, now time.Time, lock string) (out []Delivery, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	rows, err := s.DB(ctx).Raw(
		`SELECT id, occasion, base, sheet_id, rule_id, row_id, step, reaction, template_id, sender_id, due_at, judged_at,
			went_at, state, reason, last_error, faulty_column, decision, origin, facts, recipients, reply_to, subject,
			attempt, tries, first_try, sending_at, dated_at, identity_id, next_try, worker, reply, finished_at, own_events
		FROM deliveries WHERE id IN ? AND next_try <= ? ORDER BY next_try, id`+lock, ids, now).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() { // field by field: this is what sending waits for
		out = append(out, Delivery{})
		d := &out[len(out)-1]
		if err := rows.Scan(&d.ID, &d.Occasion, &d.Base, &d.SheetID, &d.RuleID, &d.RowID, &d.Step, &d.Reaction,
			&d.TemplateID, &d.SenderID, &d.DueAt, &d.JudgedAt, &d.WentAt, &d.State,
			&d.Reason, &d.LastError, &d.FaultyColumn, &d.Decision, &d.Origin, &d.Facts, &d.Recipients, &d.ReplyTo, &d.Subject,
			&d.Attempt, &d.Tries, unlessNever{&d.FirstTry}, unlessNever{&d.SendingAt},
			unlessNever{&d.DatedAt}, &d.IdentityID, unlessNever{&d.NextTry}, &d.Worker, &d.Reply,
			unlessNever{&d.FinishedAt}, &d.OwnEvents); err != nil {
			return nil, err
		}
		d.Reply = tight(d.Reply)
	}
	return out, rows.Err()
}

// Claim takes locked deliveries for a worker, to be sent under their dates and by whom they say. The
// claim counts once its transaction has been committed.
func (s *Store) Claim(ctx context.Context, worker int64, ds []Delivery) error {
	if s.tally == nil {
		return s.Tx(ctx, func(tx *Store) error { return tx.Claim(ctx, worker, ds) })
	}
	by := map[saying][]int64{}
	for i := range ds {
		d := &ds[i]
		says := saying{instant(d.DatedAt), d.IdentityID}
		by[says] = append(by[says], d.ID)
		s.tally.move(d, d.State, delivery.Claimed)
	}
	for says, ids := range by {
		r := s.DB(ctx).Exec(
			"UPDATE deliveries SET state = ?, worker = ?, dated_at = ?, identity_id = ?, next_try = '"+never+"' WHERE id IN ? AND "+
				"state IN ?", delivery.Claimed, worker, says.dated, says.identity, ids,
			delivery.From(delivery.Claimed, delivery.Claiming))
		if r.Error != nil {
			return r.Error
		}
		if int(r.RowsAffected) != len(ids) {
			return fmt.Errorf("%w: of %d deliveries to be claimed %d waited to be sent", ErrForbidden, len(ids), r.RowsAffected)
		}
	}
	return nil
}

// saying is what messages say of themselves: when and by whom they are sent.
type saying struct {
	dated    time.Time
	identity int64
}

// SayOf notes what the message of a delivery that a worker has claimed says of its sender.
func (s *Store) SayOf(ctx context.Context, worker, id, identity int64) error {
	r := s.DB(ctx).Exec("UPDATE deliveries SET identity_id = ? WHERE id = ? AND worker = ? AND state = ?", identity, id,
		worker, delivery.Claimed)
	if r.Error == nil && r.RowsAffected != 1 {
		return fmt.Errorf("%w: delivery %d is claimed no more", ErrForbidden, id)
	}
	return r.Error
}

// ClaimedBy gives what a worker has claimed and not begun.
func (s *Store) ClaimedBy(ctx context.Context, worker int64) (out []Delivery, err error) {
	err = s.DB(ctx).Raw("SELECT * FROM deliveries WHERE "+pendingIn(delivery.Claimed)+
		" AND worker = ? AND state = ? ORDER BY id", worker, delivery.Claimed).Scan(&out).Error
	return out, err
}
