package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"

	"nivot/internal/core/delivery"
)

// Round is what a worker's connections have for the ledger at one moment.
type Round struct {
	Worker   int64
	Now      time.Time
	Marks    []int64 // to become "sending"
	Outcomes []Outcome
}

// Outcome is what a try came to: the delivery as it is to be, and its event.
type Outcome struct {
	*Delivery
	Detail string
	Plain  bool // taken whole by everybody at the first try
}

// Written is what a round came to.
type Written struct {
	Marked map[int64]bool // the marks that took effect
	Unmet  int            // outcomes that met nothing: another has written them, or a person has decided
}

// Commit writes a round in one transaction and one round trip. A mark takes
// effect only for what the worker has claimed, while its lease runs: the lease
// is a fencing token, and a worker that was given up marks nothing any more.
// Outcomes change only what the worker still has; one that was given up
// meanwhile and is in doubt is no longer, since the reply has come.
//
// State, event and count are written together by one condition, so that a round
// that is written again, because its first answer was lost, writes nothing.
//
// An error leaves open whether the transaction was committed.
func (s *Store) Commit(ctx context.Context, r Round) (w Written, err error) {
	for try := 1; ; try++ {
		w, err = s.commitOnce(ctx, r)
		if err == nil || !Retryable(err) || try == maxTries {
			return w, err
		}
		time.Sleep(time.Duration(try) * time.Millisecond)
	}
}

// script is SQL text of several statements and their arguments.
type script struct {
	b    strings.Builder
	args []driver.NamedValue
	n    int // statements
}

func (q *script) add(sql string, args ...any) {
	q.b.WriteString(sql)
	q.b.WriteByte(';')
	q.n++
	for _, a := range args {
		v, err := driver.DefaultParameterConverter.ConvertValue(a)
		if err != nil {
			v = fmt.Sprint(a)
		}
		q.args = append(q.args, driver.NamedValue{Ordinal: len(q.args) + 1, Value: v})
	}
}

func list(ids []int64) string {
	var b strings.Builder
	for i, id := range ids {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprint(&b, id)
	}
	return b.String()
}

// underWay are the states of what a worker has in hand, as an SQL list.
var underWay = states([]delivery.State{delivery.Claimed, delivery.Sending})

// eventsOf begins the events of deliveries of the worker's that are in some
// states, each with the columns of its own delivery.
const eventsOf = "INSERT INTO events (at, actor, kind, sheet_id, row_id, rule_id, delivery_id, detail) SELECT "

// written is what one statement of a script has written: these outcomes, if it has met as many.
type written struct {
	statement int
	outcomes  []Outcome
}

// group is what of a round's plain outcomes is written together: what has one reply, and is
// counted together.
type group struct {
	reply string
	of    bucket
}

// script is the round as SQL. It meets what is under way; what is not any more is seen to by late.
func (r *Round) script(shard uint8) (q *script, all []written) {
	q = &script{}
	q.add("BEGIN")
	if len(r.Marks) > 0 {
		q.add(`UPDATE deliveries d JOIN workers w ON w.id = ? AND w.lease_until > UTC_TIMESTAMP(6)
			SET d.state = 'sending', d.sending_at = ?, d.first_try = LEAST(d.first_try, ?) WHERE d.id IN (`+list(r.Marks)+
			`) AND d.state IN `+
			states(delivery.From(delivery.Sending, delivery.Marking))+` AND d.worker = w.id`,
			r.Worker, r.Now, r.Now)
	}
	plain := map[group][]Outcome{}
	moved := map[bucket][]string{} // the numbers of outcomes, which the database knows, by what they are counted as
	count := func(outcomes []Outcome) {
		n := fmt.Sprintf("@n%d", len(all))
		q.add("SET " + n + " = ROW_COUNT()")
		all = append(all, written{q.n - 2, outcomes})
		d := outcomes[0].Delivery
		for _, quarter := range []int64{forever, quarterOf(d.DueAt)} {
			into, from := bucket{quarter, d.RuleID, d.SheetID, d.State}, bucket{quarter, d.RuleID, d.SheetID, delivery.Queued}
			moved[into], moved[from] = append(moved[into], "+"+n), append(moved[from], "-"+n)
		}
	}
	for _, o := range r.Outcomes {
		d := o.Delivery
		if o.Plain {
			g := group{d.Reply, bucket{quarterOf(d.DueAt), d.RuleID, d.SheetID, d.State}}
			plain[g] = append(plain[g], o)
			continue
		}
		where := " WHERE id = ? AND worker = ? AND attempt = ? AND tries = ? AND state IN "
		mine := []any{d.ID, r.Worker, d.Attempt, d.Tries - 1}
		q.add(eventsOf+"sending_at, 'nivot', '"+EventDelivery+
			"sending', sheet_id, row_id, rule_id, id, '{}' FROM deliveries"+where+"('sending') FOR UPDATE", mine...)
		q.add(eventsOf+"?, 'nivot', ?, sheet_id, row_id, rule_id, id, ? FROM deliveries"+where+underWay+" FOR UPDATE",
			append([]any{r.Now, EventDelivery + string(d.State), o.Detail}, mine...)...)
		q.add(
			"UPDATE deliveries SET state = ?, last_error = ?, reply = ?, recipients = ?, tries = ?, first_try = ?, next_try "+
				"= ?, finished_at = ?"+where+underWay,
			append([]any{string(d.State), d.LastError.Encode(), withRoom(d.Reply), d.Recipients, d.Tries,
				instant(d.FirstTry), instant(d.NextTry), instant(d.FinishedAt)}, mine...)...)
		count([]Outcome{o})
	}
	for g, outcomes := range plain {
		ids := make([]int64, len(outcomes))
		for i, o := range outcomes {
			ids[i] = o.ID
		}
		slices.Sort(ids)
		where := " WHERE id IN (" + list(ids) + ") AND worker = ? AND tries = 0 AND state IN " + underWay
		// The event of a mark is written with its outcome, or by the sweep where
		// none came: until then sending_at holds it. What goes as it should has one
		// event for both, since most of what is kept for ever is of this kind.
		q.add(eventsOf+"?, 'nivot', '"+EventDelivery+
			`accepted', sheet_id, row_id, rule_id, id, CONCAT('{"attempt":', attempt, IF(state = 'sending', CONCAT(',"sending":"', DATE_FORMAT(sending_at, '%Y-%m-%dT%H:%i:%s.%fZ'), '"'), ''), ?) FROM deliveries`+where+" FOR UPDATE",
			r.Now, `,"reply":`+Detail(g.reply)+`,"try":1}`, r.Worker)
		q.add(
			"UPDATE deliveries SET state = 'accepted', last_error = '', reply = ?, finished_at = ?, tries = tries + 1, "+
				"next_try = '"+never+"'"+where,
			withRoom(g.reply), r.Now, r.Worker)
		count(outcomes)
	}
	if len(moved) > 0 {
		order := tally{}
		for b := range moved {
			order[b] = 1
		}
		var rows []string
		var args []any
		for _, b := range order.sorted() {
			rows = append(rows, "(?,?,?,?,?,"+strings.Join(moved[b], "")+")")
			args = append(args, b.Quarter, b.RuleID, b.SheetID, string(b.State), int(shard))
		}
		q.add(addCounts+strings.Join(rows, ",")+onCountThat, args...)
	}
	q.add("COMMIT")
	return q, all
}

// late writes an outcome that the script has not met: whose worker was given up, and whose
// delivery is in doubt since. It reports whether it has.
func (s *Store) late(ctx context.Context, r Round, o Outcome) (met bool, err error) {
	err = s.Tx(ctx, func(tx *Store) error {
		d, err := tx.LockDelivery(ctx, o.ID)
		if err != nil {
			return err
		}
		met = d.State == delivery.InDoubt && d.Worker == r.Worker && d.Attempt == o.Attempt &&
			d.Tries == o.Tries-1 && delivery.Can(d.State, o.State, delivery.Answering)
		if !met {
			return nil
		}
		if err := d.Become(o.State, delivery.Answering); err != nil {
			return err
		}
		d.LastError, d.Reply, d.Recipients, d.Tries, d.FirstTry, d.NextTry, d.FinishedAt = o.LastError, o.Reply,
			o.Recipients, o.Tries, o.FirstTry, o.NextTry, o.FinishedAt
		if err := tx.SaveDelivery(ctx, d); err != nil {
			return err
		}
		return tx.AddEvents(ctx, Event{At: r.Now, Actor: "nivot", Kind: EventDelivery + string(o.State), SheetID: d.SheetID,
			RowID: d.RowID, RuleID: d.RuleID, DeliveryID: d.ID, Detail: o.Detail})
	})
	return met, err
}

func (s *Store) commitOnce(ctx context.Context, r Round) (w Written, err error) {
	q, outcomes := r.script(s.shard)
	pool, err := s.db.DB()
	if err != nil {
		return w, err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return w, err
	}
	defer conn.Close()
	var affected []int64
	err = conn.Raw(func(dc any) error {
		ex, ok := dc.(driver.ExecerContext)
		if !ok {
			return fmt.Errorf("the database driver runs no scripts")
		}
		res, err := ex.ExecContext(ctx, q.b.String(), q.args)
		if err != nil {
			// What went before the fault must not linger on this connection.
			if _, e := ex.ExecContext(context.WithoutCancel(ctx), "ROLLBACK", nil); e != nil {
				return driver.ErrBadConn
			}
			return err
		}
		if m, ok := res.(sqldriver.Result); ok {
			affected = m.AllRowsAffected()
		}
		return nil
	})
	if err != nil {
		return w, err
	}
	if w.Marked, err = s.marked(ctx, r, affected); err != nil {
		return w, err
	}
	for _, part := range outcomes {
		unmet := len(part.outcomes)
		if part.statement < len(affected) {
			unmet -= int(affected[part.statement])
		}
		for i := 0; i < len(part.outcomes) && unmet > 0; i++ {
			met, err := s.late(ctx, r, part.outcomes[i])
			if err != nil && !errors.Is(err, ErrNotFound) {
				return w, err
			}
			if met {
				unmet--
			}
		}
		w.Unmet += unmet
	}
	return w, nil
}

// marked tells from the count of the second statement, that of the marks,
// whether all took effect, and else asks which did.
func (s *Store) marked(ctx context.Context, r Round, affected []int64) (map[int64]bool, error) {
	if len(r.Marks) == 0 {
		return nil, nil
	}
	ids := r.Marks
	if len(affected) < 2 || int(affected[1]) != len(ids) {
		ids = nil
		if err := s.DB(ctx).Raw("SELECT id FROM deliveries WHERE id IN ? AND state = 'sending' AND worker = ?", r.Marks,
			r.Worker).Scan(&ids).Error; err != nil {
			return nil, err
		}
	}
	out := make(map[int64]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, nil
}
