package store

import (
	"context"
	"database/sql/driver"
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
	Marks    []int64            // to become "sending"
	Accepted map[string][]int64 // taken whole by everybody at the first try, by the server's reply
	Finished []Outcome          // all other outcomes
}

// Outcome is what a try came to: the delivery as it is to be, and its event.
type Outcome struct {
	*Delivery
	Detail string
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

// answering are the states from which a try's outcome leads to a state.
func answering(to delivery.State) string { return states(delivery.From(to, delivery.Answering)) }

// eventsOf begins the events of deliveries of the worker's that are in some
// states, each with the columns of its own delivery.
const eventsOf = "INSERT INTO events (at, actor, kind, sheet_id, row_id, rule_id, delivery_id, detail) SELECT "

func (r *Round) script() (q *script, outcomes []int) {
	q = &script{}
	q.add("BEGIN")
	if len(r.Marks) > 0 {
		q.add(`UPDATE deliveries d JOIN workers w ON w.id = ? AND w.lease_until > UTC_TIMESTAMP(6)
			SET d.state = 'sending', d.sending_at = ?, d.first_try = COALESCE(d.first_try, ?) WHERE d.id IN (`+list(r.Marks)+`) AND d.state IN `+
			states(delivery.From(delivery.Sending, delivery.Marking))+` AND d.worker = w.id`,
			r.Worker, r.Now, r.Now)
	}
	for reply, ids := range r.Accepted {
		slices.Sort(ids)
		where := " WHERE id IN (" + list(ids) + ") AND worker = ? AND tries = 0 AND state IN "
		// The event of a mark is written with its outcome, or by the sweep where
		// none came: until then sending_at holds it. What goes as it should has one
		// event for both, since most of what is kept for ever is of this kind.
		q.add(eventsOf+"?, 'nivot', '"+EventDelivery+`accepted', sheet_id, row_id, rule_id, id, CONCAT('{"attempt":', attempt, IF(state = 'sending', CONCAT(',"sending":"', DATE_FORMAT(sending_at, '%Y-%m-%dT%H:%i:%s.%fZ'), '"'), ''), ?) FROM deliveries`+where+answering(delivery.Accepted)+" FOR UPDATE",
			r.Now, `,"reply":`+Detail(reply)+`,"try":1}`, r.Worker)
		q.add("UPDATE deliveries SET state = 'accepted', trouble = '', reply = ?, finished_at = ?, tries = tries + 1, next_try = NULL"+where+answering(delivery.Accepted),
			clip(reply, maxKept), r.Now, r.Worker)
		outcomes = append(outcomes, q.n-1)
	}
	for _, o := range r.Finished {
		d := o.Delivery
		where := " WHERE id = ? AND worker = ? AND attempt = ? AND tries = ? AND state IN "
		mine := []any{d.ID, r.Worker, d.Attempt, d.Tries - 1}
		q.add(eventsOf+"sending_at, 'nivot', '"+EventDelivery+"sending', sheet_id, row_id, rule_id, id, '{}' FROM deliveries"+where+"('sending') FOR UPDATE", mine...)
		q.add(eventsOf+"?, 'nivot', ?, sheet_id, row_id, rule_id, id, ? FROM deliveries"+where+answering(d.State)+" FOR UPDATE",
			append([]any{r.Now, EventDelivery + string(d.State), o.Detail}, mine...)...)
		q.add("UPDATE deliveries SET state = ?, trouble = ?, reply = ?, recipients = ?, tries = ?, first_try = ?, next_try = ?, finished_at = ?"+where+answering(d.State),
			append([]any{string(d.State), d.Trouble.Encode(), clip(d.Reply, maxKept), d.Recipients, d.Tries, instant(d.FirstTry), instant(d.NextTry), instant(d.FinishedAt)}, mine...)...)
		outcomes = append(outcomes, q.n-1)
	}
	q.add("COMMIT")
	return q, outcomes
}

func (s *Store) commitOnce(ctx context.Context, r Round) (w Written, err error) {
	q, outcomes := r.script()
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
	for _, i := range outcomes {
		if i < len(affected) && affected[i] == 0 {
			w.Unmet++
		}
	}
	w.Marked, err = s.marked(ctx, r, affected)
	return w, err
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
		if err := s.DB(ctx).Raw("SELECT id FROM deliveries WHERE id IN ? AND state = 'sending' AND worker = ?", r.Marks, r.Worker).Scan(&ids).Error; err != nil {
			return nil, err
		}
	}
	out := make(map[int64]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, nil
}

func instant(t *time.Time) any {
	if t == nil {
		return nil
	}
	return *t
}
