package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
)

// LogFilter chooses lines of the log.
type LogFilter struct {
	States  []delivery.State
	SheetID string
	RuleID  string
	RowID   int64
	To      string // part of a recipient
	Text    string // part of the subject
	Since   *time.Time
	Until   *time.Time
	at      string // the column of times, due_at where it is ""
	met     *met   // who To stands for, where it has been found out
}

// met are the mailboxes that a part of one stands for; all is false where they are too many.
type met struct {
	ids []int64
	all bool
}

// Met finds out whom a filter's recipient stands for, once for all that is asked with it.
func (s *Store) Met(ctx context.Context, f LogFilter) (LogFilter, error) {
	if f.To == "" || f.met != nil {
		return f, nil
	}
	ids, all, err := s.addresseesLike(ctx, f.To)
	f.met = &met{ids, all}
	return f, err
}

// where is the filter as conditions on a table of emails.
func (f LogFilter) where(q *gorm.DB) *gorm.DB {
	if len(f.States) > 0 {
		q = q.Where("state IN ?", f.States)
		if codes, rare := f.rare(); rare {
			q = q.Where(codes)
		}
	}
	if f.To != "" {
		q = q.Where("recipients LIKE ?", "%"+escapeLike(f.To)+"%")
	}
	if f.Text != "" {
		q = q.Where("subject LIKE ?", "%"+escapeLike(f.Text)+"%")
	}
	return f.place(q)
}

// rare is the condition that finds the filter's states by their index, where all of them are
// states that are not over.
func (f LogFilter) rare() (string, bool) {
	for _, st := range f.States {
		if pendingCode[st] == 0 {
			return "", false
		}
	}
	return pendingIn(f.States...), len(f.States) > 0
}

// place is what of the filter the order by time has an index for.
func (f LogFilter) place(q *gorm.DB) *gorm.DB {
	if f.SheetID != "" {
		q = q.Where("sheet_id = ?", f.SheetID)
	}
	if f.RuleID != "" {
		q = q.Where("rule_id = ?", f.RuleID)
	}
	if f.RowID != 0 {
		q = q.Where("row_id = ?", f.RowID)
	}
	at := "due_at"
	if f.at != "" {
		at = f.at
	}
	if f.Since != nil {
		q = q.Where(at+" >= ?", *f.Since)
	}
	if f.Until != nil {
		q = q.Where(at+" < ?", *f.Until)
	}
	return q
}

func escapeLike(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}

// pendingCode are the codes of the states that are not over, as the column pending has them
// (migration 18); one on which a person has decided has 20 more.
var pendingCode = map[delivery.State]int{
	delivery.InDoubt: 1, delivery.Held: 2, delivery.Bounced: 3, delivery.Failed: 4, delivery.Incomplete: 5,
	delivery.Missed: 6,
	delivery.Queued: 11, delivery.Claimed: 12, delivery.Sending: 12, delivery.Deferred: 13,
}

// decidedMore is by how much the code of a state on which a person has decided is higher.
const decidedMore = 20

// needing is the condition of what waits for somebody, in the order of how much it does: the
// states of delivery.NeedsSomebody on which nobody has decided.
const needing = "pending BETWEEN 1 AND 6"

// pendingIn is the condition that finds deliveries in states that are not over by their index.
func pendingIn(in ...delivery.State) string {
	var codes []string
	shared := false
	for _, st := range in {
		c := pendingCode[st]
		codes = append(codes, fmt.Sprint(c))
		if delivery.NeedsSomebody(st) {
			codes = append(codes, fmt.Sprint(c+decidedMore))
		}
		shared = shared || st == delivery.Claimed || st == delivery.Sending
	}
	cond := "pending IN (" + strings.Join(codes, ",") + ")"
	if shared { // these two have one code
		cond += " AND state IN " + states(in)
	}
	return cond
}

// Page is a page of the log.
type Page struct {
	Lines []Delivery
	Next  string    // the cursor for more; "" at the end
	Back  time.Time // with a cursor: the log has been looked through to here
}

// How a page whose filter no index answers is found: in windows of so many emails, for about so
// long; then the page is as long as it is, and has a cursor.
const (
	logWindow = 5_000
	logSearch = 150 * time.Millisecond
)

// Log gives a page of the log, the newest first, behind a cursor that an earlier page gave ("" for
// the newest). Where no index answers the filter, a page may have fewer lines than limit, or none,
// and yet a cursor.
func (s *Store) Log(ctx context.Context, f LogFilter, cursor string, limit int) (p Page, err error) {
	from, err := readCursor(cursor)
	if err != nil {
		return p, err
	}
	q, indexed, err := s.matching(ctx, f)
	if err != nil {
		return p, err
	}
	if !indexed {
		return s.searchLog(ctx, f, from, limit)
	}
	if _, rare := f.rare(); f.counted() && len(f.States) > 0 && !rare {
		if q, err = s.quarters(ctx, f, from, limit, q); err != nil {
			return p, err
		}
	}
	if err = from.before(q).Order("due_at DESC, id DESC").Limit(limit + 1).Find(&p.Lines).Error; err != nil {
		return p, err
	}
	if len(p.Lines) > limit {
		p.Lines = p.Lines[:limit]
		last := &p.Lines[limit-1]
		p.Next, p.Back = LogCursor(last), last.DueAt
	}
	return p, nil
}

// matching is a filter as a query that an index answers; false where none does.
func (s *Store) matching(ctx context.Context, f LogFilter) (q *gorm.DB, indexed bool, err error) {
	if _, rare := f.rare(); f.RowID != 0 || rare || f.To == "" {
		return f.where(s.DB(ctx).Model(&Delivery{})), f.RowID != 0 || rare || f.Text == "", nil
	}
	if f, err = s.Met(ctx, f); err != nil || !f.met.all {
		return nil, false, err
	}
	// In this order: the other way round all deliveries would be looked through for so few.
	q = s.DB(ctx).Select("deliveries.*").Table(
		"(SELECT DISTINCT delivery_id FROM delivery_addressees WHERE addressee_id IN ?) met STRAIGHT_JOIN deliveries ON "+
			"deliveries.id = met.delivery_id",
		append([]int64{0}, f.met.ids...)) // 0 is nobody's: a list must not be empty
	return f.where(q), true, nil
}

// searchLog looks through windows of the log.
func (s *Store) searchLog(ctx context.Context, f LogFilter, from logPlace, limit int) (p Page, err error) {
	for began := time.Now(); ; {
		window := from.before(f.place(s.DB(ctx).Model(&Delivery{}))).Select("id, due_at").Order("due_at DESC, id DESC")
		var end []logPlace
		if err = window.Session(&gorm.Session{}).Offset(logWindow - 1).Limit(1).Scan(&end).Error; err != nil {
			return p, err
		}
		part := f.where(s.DB(ctx).Model(&Delivery{})).Where("id IN (SELECT id FROM (?) w)",
			window.Session(&gorm.Session{}).Limit(logWindow))
		if len(end) > 0 {
			part = part.Where("due_at >= ?", end[0].DueAt)
		}
		var found []Delivery
		if err = part.Order("due_at DESC, id DESC").Limit(limit - len(p.Lines) + 1).Find(&found).Error; err != nil {
			return p, err
		}
		p.Lines = append(p.Lines, found...)
		switch {
		case len(p.Lines) > limit:
			p.Lines = p.Lines[:limit]
			last := &p.Lines[limit-1]
			p.Next, p.Back = LogCursor(last), last.DueAt
			return p, nil
		case len(end) == 0:
			return p, nil
		case time.Since(began) > logSearch:
			p.Next, p.Back = end[0].cursor(), end[0].DueAt
			return p, nil
		}
		from = end[0]
	}
}

// logPlace is a place in the log; the zero one is before the newest line.
type logPlace struct {
	DueAt time.Time
	ID    int64
}

func (l logPlace) cursor() string { return fmt.Sprintf("%d.%d", l.DueAt.UnixMicro(), l.ID) }

// before narrows a query to what stands behind the place.
func (l logPlace) before(q *gorm.DB) *gorm.DB {
	if l.ID == 0 {
		return q
	}
	return q.Where("due_at <= ?", l.DueAt).Where("due_at < ? OR id < ?", l.DueAt, l.ID)
}

func readCursor(cursor string) (l logPlace, err error) {
	if cursor == "" {
		return l, nil
	}
	var micro int64
	if _, err := fmt.Sscanf(cursor, "%d.%d", &micro, &l.ID); err != nil {
		return l, ErrNotFound
	}
	l.DueAt = time.UnixMicro(micro).UTC()
	return l, nil
}

// LogCursor is the cursor behind a delivery.
func LogCursor(d *Delivery) string { return logPlace{d.DueAt, d.ID}.cursor() }
