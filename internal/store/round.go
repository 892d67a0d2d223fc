package store

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"
)

// Round is what a worker's connections have for the ledger at one moment.
type Round struct {
	Worker   int64
	Now      time.Time
	Marks    []int64            // to become "sending"
	Accepted map[string][]int64 // taken whole by everybody, by the server's reply
	Finished []*Delivery        // other outcomes
	Events   []Event
}

// Commit writes a round in one transaction and one round trip, and gives the
// marks that took effect. A mark takes effect only for what the worker has
// claimed, while its lease runs: the lease is a fencing token, and a worker
// that was given up marks nothing any more. Outcomes change only what the
// worker still has; one that was given up meanwhile and is in doubt is no
// longer, since the reply has come.
//
// An error leaves open whether the transaction was committed.
func (s *Store) Commit(ctx context.Context, r Round) (marked map[int64]bool, err error) {
	for try := 1; ; try++ {
		marked, err = s.commitOnce(ctx, r)
		if err == nil || !Retryable(err) || try == maxTries {
			return marked, err
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

func (s *Store) commitOnce(ctx context.Context, r Round) (map[int64]bool, error) {
	q := &script{}
	q.add("BEGIN")
	if len(r.Marks) > 0 {
		q.add(`UPDATE deliveries d JOIN workers w ON w.id = ? AND w.lease_until > UTC_TIMESTAMP(6)
			SET d.state = 'sending', d.sending_at = ?, d.first_try = COALESCE(d.first_try, ?) WHERE d.id IN (`+list(r.Marks)+`) AND d.state = 'claimed' AND d.worker = w.id`,
			r.Worker, r.Now, r.Now)
	}
	for reply, ids := range r.Accepted {
		q.add(`UPDATE deliveries SET state = 'accepted', trouble = '', reply = ?, finished_at = ?, tries = tries + 1, next_try = NULL
			WHERE id IN (`+list(ids)+`) AND worker = ? AND state IN ('sending', 'in-doubt')`, clip(reply), r.Now, r.Worker)
	}
	for _, d := range r.Finished {
		q.add(`UPDATE deliveries SET state = ?, trouble = ?, reply = ?, recipients = ?, tries = ?, first_try = ?, next_try = ?, finished_at = ?
			WHERE id = ? AND worker = ? AND state IN ('claimed', 'sending', 'in-doubt')`,
			string(d.State), clip(d.Trouble), clip(d.Reply), d.Recipients, d.Tries, instant(d.FirstTry), instant(d.NextTry), instant(d.FinishedAt), d.ID, r.Worker)
	}
	r.events(q)
	q.add("COMMIT")

	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return nil, err
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
		return nil, err
	}
	return s.marked(ctx, r, affected)
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

// events adds the events of outcomes. That of a mark is written with its
// outcome, or by the sweep where none comes: until then sending_at holds it.
func (r *Round) events(q *script) {
	if len(r.Events) == 0 {
		return
	}
	var b strings.Builder
	var args []any
	b.WriteString("INSERT INTO events (at, actor, kind, sheet_id, row_id, rule_id, delivery_id, detail) VALUES ")
	for i, e := range r.Events {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString("(?,?,?,?,?,?,?,?)")
		args = append(args, e.At, e.Actor, e.Kind, e.SheetID, e.RowID, e.RuleID, e.DeliveryID, e.Detail)
	}
	q.add(b.String(), args...)
}

func instant(t *time.Time) any {
	if t == nil {
		return nil
	}
	return *t
}
