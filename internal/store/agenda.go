package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
)

// AgendaKind says what is to be considered.
type AgendaKind string

// The kinds of agenda entries.
const (
	Settle   AgendaKind = "settle"  // a row has rested
	Due      AgendaKind = "due"     // a rule must look at a row
	Moved    AgendaKind = "moved"   // a reaction that the window moved falls due
	Follow   AgendaKind = "follow"  // a follow-up falls due
	RoundDue AgendaKind = "round"   // a schedule comes round
	Arm      AgendaKind = "arm"     // a rule has been switched on: compute its rows' entries
	Late     AgendaKind = "late"    // an incomplete email's late limit passes
	Review   AgendaKind = "review"  // a held email is to be judged again
	Refresh  AgendaKind = "refresh" // a sheet's source is to be looked at; considered by itself
	Hand     AgendaKind = "hand"    // a sending by hand goes on; considered by itself
	Clear    AgendaKind = "clear"   // a rule has entries of earlier generations; considered by itself
)

// Entry is one agenda entry.
type Entry struct {
	ID         int64 `gorm:"primaryKey"`
	Kind       AgendaKind
	DueAt      time.Time
	SheetID    string
	RuleID     string
	RowID      int64
	DeliveryID int64 // Follow: the first email's
	// Moved: the reaction's number; Follow: step and recurrence; Refresh: the source; Hand: the batch
	Nr    int64
	Since *time.Time // Due: occasions up to here have been judged or are baseline
	Known *time.Time // Due: since when the row's date has been known; nil: the baseline
	// Round: the row up to which it has been judged; Settle: 1 where what the edit sets off is to be held
	DoneRows int64
	Origin   string // Moved, Follow: the occasion, as JSON
	// Due, Round, Arm: the rule's generation; an entry of an earlier one counts for nothing. Else 0.
	Generation int64
}

// TableName implements GORM's tabler.
func (Entry) TableName() string { return "agenda" }

// ClaimAgenda locks and gives entries that are due, the earliest first.
// Entries that another process has are passed over.
// A batch that is full is filled up with all that is due at its last instant,
// so that what falls due together is counted together.
func (s *Store) ClaimAgenda(ctx context.Context, now time.Time, limit int, share Share) (out []Entry, err error) {
	mine, args := share.of("IF(row_id = 0, id, row_id)", "due_at", now)
	out, err = s.entries(ctx, "SELECT "+entryColumns+
		" FROM agenda WHERE due_at <= ? AND kind NOT IN ('refresh', 'hand', 'clear')"+mine+
		" ORDER BY due_at, id LIMIT ? FOR UPDATE SKIP LOCKED", append(append([]any{now}, args...), limit)...)
	if err != nil || len(out) < limit {
		return out, err
	}
	last := out[len(out)-1]
	if last.Kind != Settle && last.Kind != Moved {
		return out, nil
	}
	var rest []Entry
	err = s.DB(ctx).Raw(
		"SELECT * FROM agenda WHERE due_at = ? AND id > ? AND kind IN ('settle', 'moved')"+mine+
			" ORDER BY due_at, id LIMIT ? FOR UPDATE SKIP LOCKED",
		append(append([]any{last.DueAt, last.ID}, args...), 40*limit)...).Scan(&rest).Error
	return append(out, rest...), err
}

// ClaimEntries locks and gives entries by id, of those that are still there and due, the earliest first.
// Entries that somebody else has are passed over. By the primary key alone: along another index, entries
// would be locked for a moment that are not asked for, and passed over by who asks for them.
func (s *Store) ClaimEntries(ctx context.Context, now time.Time, ids []int64, share Share) ([]Entry, error) {
	mine, args := share.of("IF(row_id = 0, id, row_id)", "due_at", now)
	return s.entries(ctx, "SELECT "+entryColumns+" FROM agenda FORCE INDEX (PRIMARY) WHERE id IN (?) AND due_at <= ?"+mine+
		" ORDER BY due_at, id FOR UPDATE SKIP LOCKED", append([]any{ids, now}, args...)...)
}

// DueAgenda gives, without locking, the first entries that are due, with their id, kind and row alone.
func (s *Store) DueAgenda(ctx context.Context, now time.Time, limit int) (out []Entry, err error) {
	err = s.DB(ctx).Raw("SELECT id, kind, row_id FROM agenda WHERE due_at <= ? AND kind <> 'refresh' ORDER BY due_at, id "+
		"LIMIT ?", now, limit).Scan(&out).Error
	return out, err
}

// HasDueAgenda tells, without locking, whether anything is due, what is to be refreshed too.
func (s *Store) HasDueAgenda(ctx context.Context, now time.Time) (bool, error) {
	var ids []int64
	err := s.DB(ctx).Raw("SELECT id FROM agenda WHERE due_at <= ? ORDER BY due_at, id LIMIT 1", now).Scan(&ids).Error
	return len(ids) > 0, err
}

// Unsettled returns rows of a sheet that wait to settle, those first that settle first.
func (s *Store) Unsettled(ctx context.Context, sheetID string, limit int) ([]Row, error) {
	var ids []int64
	if err := s.DB(ctx).Raw("SELECT row_id FROM agenda WHERE sheet_id = ? AND kind = 'settle' ORDER BY due_at, id LIMIT ?",
		sheetID, limit).Scan(&ids).Error; err != nil || len(ids) == 0 {
		return nil, err
	}
	return s.RowsByID(ctx, sheetID, ids)
}

// UnsettledOf returns those of rows that wait to settle.
func (s *Store) UnsettledOf(ctx context.Context, rowIDs []int64) (out []int64, err error) {
	err = chunks(rowIDs, 1000, func(c []int64) error {
		var part []int64
		err := s.DB(ctx).Raw("SELECT row_id FROM agenda WHERE row_id IN ? AND kind = 'settle'", c).Scan(&part).Error
		out = append(out, part...)
		return err
	})
	return out, err
}

// FirstOpen returns the earliest instant, after one and up to another, at which something is due that has not
// been judged yet; the zero time for none.
func (s *Store) FirstOpen(ctx context.Context, after, now time.Time) (time.Time, error) {
	var t sql.NullTime
	err := s.DB(ctx).Raw("SELECT MIN(due_at) FROM agenda WHERE due_at > ? AND due_at <= ? AND "+
		"kind NOT IN ('refresh', 'hand', 'clear')", after, now).Scan(&t).Error
	return t.Time, err
}

// PutEntries writes entries, each in the place of one about the same thing.
func (s *Store) PutEntries(ctx context.Context, es []Entry) error {
	return s.putEntries(ctx, es,
		"due_at = VALUES(due_at), since = VALUES(since), known = VALUES(known), done_rows = IF(kind = 'settle', "+
			"GREATEST(done_rows, VALUES(done_rows)), VALUES(done_rows)), origin = VALUES(origin), "+
			"generation = VALUES(generation)")
}

// PutArmed writes a rule's entries for rows. An entry of this generation that is there keeps
// what it knows to have been judged, and stays where it is overdue.
func (s *Store) PutArmed(ctx context.Context, es []Entry, now time.Time) error {
	const kept = "generation = VALUES(generation)"
	return s.putEntries(ctx, es, "due_at = IF("+kept+" AND due_at <= ?, due_at, VALUES(due_at)), since = IF("+kept+
		", since, VALUES(since)), known = IF("+kept+", known, VALUES(known)), generation = VALUES(generation)", now)
}

func (s *Store) putEntries(ctx context.Context, es []Entry, update string, updateArgs ...any) error {
	return chunks(es, bulk, func(c []Entry) error {
		var q strings.Builder
		args := make([]any, 0, 12*len(c))
		q.WriteString(
			"INSERT INTO agenda (kind, due_at, sheet_id, rule_id, row_id, delivery_id, nr, since, known, done_rows, origin, " +
				"generation) VALUES ")
		for i, e := range c {
			if i > 0 {
				q.WriteByte(',')
			}
			q.WriteString("(?,?,?,?,?,?,?,?,?,?,?,?)")
			args = append(args, e.Kind, e.DueAt, e.SheetID, e.RuleID, e.RowID, e.DeliveryID, e.Nr, e.Since, e.Known, e.DoneRows,
				e.Origin, e.Generation)
		}
		q.WriteString(" ON DUPLICATE KEY UPDATE " + update)
		return s.DB(ctx).Exec(q.String(), append(args, updateArgs...)...).Error
	})
}

// DropEntries removes entries by id.
func (s *Store) DropEntries(ctx context.Context, ids []int64) error {
	return chunks(ids, 1000, func(c []int64) error { return s.DB(ctx).Exec("DELETE FROM agenda WHERE id IN ?", c).Error })
}

// Asking gives which of some rows hold what settling them sets off.
func (s *Store) Asking(ctx context.Context, rowIDs []int64) (out []int64, err error) {
	err = chunks(rowIDs, 1000, func(c []int64) error {
		var ids []int64
		err := s.DB(ctx).Raw("SELECT row_id FROM agenda WHERE row_id IN ? AND kind = 'settle' AND done_rows = 1",
			c).Scan(&ids).Error
		out = append(out, ids...)
		return err
	})
	return out, err
}

// DropSettling removes the entries of rows that have settled.
func (s *Store) DropSettling(ctx context.Context, rowIDs []int64) error {
	return chunks(rowIDs, 1000, func(c []int64) error {
		return s.DB(ctx).Exec("DELETE FROM agenda WHERE row_id IN ? AND kind = 'settle'", c).Error
	})
}

// ClaimSheet locks and returns entries of a sheet that are due, the earliest first, waiting for who else
// has them: all, or with rules those of some rules and what settles. Considered by themselves, and so
// none of them, are sources, sendings by hand and what is cleared away.
func (s *Store) ClaimSheet(ctx context.Context, sheetID string, rules []string, now time.Time,
	limit int) ([]Entry, error) {
	var ids []int64
	// Found without locking: along the index of instants, other sheets' entries would be waited for.
	err := s.dueOf(ctx, sheetID, rules, now).Order("due_at, id").Limit(limit).Pluck("id", &ids).Error
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return s.entries(ctx, "SELECT "+entryColumns+" FROM agenda FORCE INDEX (PRIMARY) WHERE id IN (?) AND due_at <= ? "+
		"ORDER BY due_at, id FOR UPDATE", ids, now)
}

// HasDueOf reports, without locking, whether ClaimSheet would find anything.
func (s *Store) HasDueOf(ctx context.Context, sheetID string, rules []string, now time.Time) (bool, error) {
	var ids []int64
	err := s.dueOf(ctx, sheetID, rules, now).Limit(1).Pluck("id", &ids).Error
	return len(ids) > 0, err
}

func (s *Store) dueOf(ctx context.Context, sheetID string, rules []string, now time.Time) *gorm.DB {
	q := s.DB(ctx).Table("agenda").Where("due_at <= ? AND sheet_id = ? AND kind NOT IN ('refresh', 'hand', 'clear')",
		now, sheetID)
	if rules != nil {
		q = q.Where("(kind = 'settle' OR rule_id IN ?)", rules)
	}
	return q
}

// tickAhead is how far ahead of a rule's new generation entries are waited for.
const tickAhead = time.Minute

// NewGeneration begins a generation of a rule, which is locked, and is to be saved: what the
// agenda holds of its own looking counts no more, and is cleared away in time. What has been
// promised already, moved reactions and follow-ups, stays. Who is considering an entry of the
// generation that ends is waited for, and on another node of a cluster loses.
func (s *Store) NewGeneration(ctx context.Context, r *Rule, now time.Time) error {
	if err := s.DB(ctx).Exec("DELETE FROM agenda WHERE rule_id = ? AND generation = ? AND due_at <= ?", r.ID,
		r.Generation, now.Add(tickAhead)).Error; err != nil {
		return err
	}
	r.Generation++
	return s.PutEntries(ctx, []Entry{{Kind: Clear, DueAt: now, SheetID: r.SheetID, RuleID: r.ID}})
}

// ClearStale removes entries of a rule's earlier generations, for one rule of those that have
// some, and says whether there was one.
func (s *Store) ClearStale(ctx context.Context, now time.Time, limit int) (bool, error) {
	var es []Entry
	err := s.DB(ctx).Raw("SELECT * FROM agenda WHERE kind = 'clear' AND due_at <= ? LIMIT 1 FOR UPDATE SKIP LOCKED",
		now).Scan(&es).Error
	if err != nil || len(es) == 0 {
		return false, err
	}
	res := s.DB(ctx).Exec("DELETE FROM agenda WHERE rule_id = ? AND generation BETWEEN 1 AND "+
		"(SELECT generation - 1 FROM rules WHERE id = ?) LIMIT ?", es[0].RuleID, es[0].RuleID, limit)
	if res.Error != nil || res.RowsAffected == int64(limit) {
		return true, res.Error
	}
	return true, s.DropEntries(ctx, []int64{es[0].ID})
}

// RowEntries gives what the agenda holds of rows and counts, by row.
func (s *Store) RowEntries(ctx context.Context, rowIDs ...int64) (map[int64][]Entry, error) {
	out := map[int64][]Entry{}
	err := chunks(rowIDs, 1000, func(c []int64) error {
		es, err := s.entries(ctx, "SELECT a."+strings.ReplaceAll(entryColumns, ", ", ", a.")+
			" FROM agenda a LEFT JOIN rules r ON r.id = a.rule_id WHERE row_id IN ? AND "+
			"kind IN ('due', 'moved', 'follow', 'late', 'review') AND (a.generation = 0 OR a.generation = r.generation) "+
			"ORDER BY due_at, a.id", c)
		for _, e := range es {
			out[e.RowID] = append(out[e.RowID], e)
		}
		return err
	})
	return out, err
}

const entryColumns = "id, kind, due_at, sheet_id, rule_id, row_id, delivery_id, nr, since, known, done_rows, origin, " +
	"generation"

// entries reads entries field by field: there may be many of a row, one of each rule.
func (s *Store) entries(ctx context.Context, q string, args ...any) (out []Entry, err error) {
	rows, err := s.DB(ctx).Raw(q, args...).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		out = append(out, Entry{})
		e := &out[len(out)-1]
		var origin sql.NullString
		if err := rows.Scan(&e.ID, &e.Kind, &e.DueAt, &e.SheetID, &e.RuleID, &e.RowID, &e.DeliveryID, &e.Nr, &e.Since,
			&e.Known, &e.DoneRows, &origin, &e.Generation); err != nil {
			return nil, err
		}
		e.Origin = origin.String
	}
	return out, rows.Err()
}

// Promised gives what the agenda holds of rules' follow-ups and moved emails up
// to an instant, by row.
func (s *Store) Promised(ctx context.Context, ruleIDs []string, until time.Time) (map[int64][]Entry, error) {
	var es []Entry
	err := s.DB(ctx).Raw(
		"SELECT * FROM agenda WHERE kind IN ('follow', 'moved') AND rule_id IN ? AND due_at <= ? ORDER BY due_at, id",
		ruleIDs, until).Scan(&es).Error
	out := map[int64][]Entry{}
	for _, e := range es {
		out[e.RowID] = append(out[e.RowID], e)
	}
	return out, err
}

// RoundsDue gives when a sheet's schedules come round next, by rule.
func (s *Store) RoundsDue(ctx context.Context, sheetID string) (map[string]time.Time, error) {
	var es []Entry
	err := s.DB(ctx).Raw("SELECT * FROM agenda WHERE sheet_id = ? AND kind = 'round'", sheetID).Scan(&es).Error
	out := make(map[string]time.Time, len(es))
	for _, e := range es {
		out[e.RuleID] = e.DueAt
	}
	return out, err
}

// WakeFollows has those follow-ups of a first email looked at now that have waited
// for it: they are due, and the agenda looks at them only later.
func (s *Store) WakeFollows(ctx context.Context, deliveryID int64, now time.Time) error {
	var es []Entry
	if err := s.DB(ctx).Raw("SELECT * FROM agenda WHERE delivery_id = ? AND kind = 'follow' AND due_at > ? FOR UPDATE",
		deliveryID, now).Scan(&es).Error; err != nil {
		return err
	}
	for i := range es {
		var o rule.Occasion
		if err := json.Unmarshal([]byte(es[i].Origin), &o); err != nil {
			return fmt.Errorf("agenda %d: %w", es[i].ID, err)
		}
		if o.Due.After(now) {
			continue
		}
		if err := s.DB(ctx).Exec("UPDATE agenda SET due_at = ? WHERE id = ?", now, es[i].ID).Error; err != nil {
			return err
		}
	}
	return nil
}

// DropRowEntries removes what the agenda holds of rows.
func (s *Store) DropRowEntries(ctx context.Context, rowIDs ...int64) error {
	return chunks(rowIDs, 1000, func(c []int64) error {
		return s.DB(ctx).Exec("DELETE FROM agenda WHERE row_id IN ?",
			c).Error
	})
}

// NextInstant gives the next instant at which anything is to be considered or
// sent; the zero time where nothing is.
func (s *Store) NextInstant(ctx context.Context) (time.Time, error) {
	var t sql.NullTime
	if err := s.DB(ctx).Raw("SELECT MIN(due_at) FROM agenda WHERE kind <> 'clear'").Scan(&t).Error; err != nil {
		return t.Time, err
	}
	at, err := s.NextSending(ctx)
	if !at.IsZero() && (!t.Valid || at.Before(t.Time)) {
		return at, err
	}
	return t.Time, err
}

// NextRuleDue gives the instant of a rule's next agenda entry and how many rows share it.
func (s *Store) NextRuleDue(ctx context.Context, r *Rule) (at time.Time, rows int64, err error) {
	const own = "rule_id = ? AND generation IN (0, ?) AND kind IN ('due', 'moved', 'round')"
	var t sql.NullTime
	if err = s.DB(ctx).Raw("SELECT MIN(due_at) FROM agenda WHERE "+own, r.ID, r.Generation).Scan(&t).Error; err != nil ||
		!t.Valid {
		return
	}
	err = s.DB(ctx).Raw("SELECT COUNT(*) FROM agenda WHERE "+own+" AND due_at = ?", r.ID, r.Generation,
		t.Time).Scan(&rows).Error
	return t.Time, rows, err
}

// ReviewHeld puts every delivery that is held for a reason on the agenda.
func (s *Store) ReviewHeld(ctx context.Context, why reason.Code, now time.Time) error {
	return s.DB(ctx).Exec(`INSERT IGNORE INTO agenda (kind, due_at, sheet_id, rule_id, row_id, delivery_id)
		SELECT 'review', ?, sheet_id, rule_id, row_id, id FROM deliveries WHERE `+pendingIn(delivery.Held)+
		` AND JSON_VALUE(reason, '$.code') = ?`, now, why).Error
}

// WakeHeld has what is held for a reason, and would be looked at later by
// itself, looked at now.
func (s *Store) WakeHeld(ctx context.Context, why reason.Code, now time.Time) error {
	return s.DB(ctx).Exec(`UPDATE agenda a JOIN deliveries d ON d.id = a.delivery_id SET a.due_at = ?
		WHERE a.kind = 'review' AND a.due_at > ? AND d.state = 'held' AND JSON_VALUE(d.reason, '$.code') = ?`, now, now,
		why).Error
}

// ReviewTemplate puts the incomplete deliveries of a template on the agenda:
// its new wording may have mended them.
func (s *Store) ReviewTemplate(ctx context.Context, templateID string, now time.Time) error {
	return s.DB(ctx).Exec(`INSERT IGNORE INTO agenda (kind, due_at, sheet_id, rule_id, row_id, delivery_id)
		SELECT 'review', ?, sheet_id, rule_id, row_id, id FROM deliveries WHERE `+pendingIn(delivery.Incomplete)+
		` AND template_id = ?`, now, templateID).Error
}

// ReviewBlamed puts the incomplete deliveries of a sheet that are for want of a column's value
// on the agenda.
func (s *Store) ReviewBlamed(ctx context.Context, sheetID string, columns []string, now time.Time) error {
	if len(columns) == 0 {
		return nil
	}
	return s.DB(ctx).Exec(`INSERT IGNORE INTO agenda (kind, due_at, sheet_id, rule_id, row_id, delivery_id)
		SELECT 'review', ?, sheet_id, rule_id, row_id, id FROM deliveries WHERE `+pendingIn(delivery.Incomplete)+
		` AND sheet_id = ? AND faulty_column IN ?`, now, sheetID, columns).Error
}

// NextTry gives the next instant at which a delivery is tried.
func (s *Store) NextTry(ctx context.Context) (at time.Time, ok bool, err error) {
	var t sql.NullTime
	err = s.DB(ctx).Raw("SELECT MIN(next_try) FROM deliveries WHERE next_try < '" + never + "'").Scan(&t).Error
	return t.Time, t.Valid, err
}
