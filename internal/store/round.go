package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"strings"
	"time"

	sqldriver "github.com/go-sql-driver/mysql"

	"nivot/internal/core/delivery"
)

// Round is what a worker's connections have for the ledger at one moment.
type Round struct {
	Worker   int64
	Now      time.Time
	Marks    []Marking
	Outcomes []Outcome
}

// Marking is of a delivery that is to become "sending".
type Marking struct {
	ID        int64
	Unclaimed *Unclaimed // nil of one that the worker has claimed
}

// Unclaimed is what a delivery was read with that is sent without having been claimed, and what its
// message says of when and by whom it is sent. Where it is another by now, somebody else has sent it
// or decided about it.
type Unclaimed struct {
	Attempt, Tries int
	NextTry        time.Time
	Dated          time.Time
	Identity       int64
}

// Outcome is what a try came to: the delivery as it is to be, and its event.
type Outcome struct {
	*Delivery
	Detail    string
	Unclaimed *Unclaimed // nil of one that the worker has claimed
	Plain     bool       // taken whole by everybody at the first try
}

// Written is what a round came to.
type Written struct {
	Marked map[int64]bool // the marks that took effect
	Unmet  int            // outcomes that met nothing: another has written them, or a person has decided
}

// Commit writes a round in one transaction and one round trip. A mark takes
// effect only for what the worker has claimed, or what still waits as the worker
// has read it, while its lease runs: the lease is a fencing token, and a worker
// that was given up marks nothing any more. Outcomes change only what the worker
// still has, or what still waits as it was read; one that was given up meanwhile
// and is in doubt is no longer, since the reply has come.
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

// script is the round as SQL. It meets what is under way; what is not any more is seen to by late.
func (r *Round) script(shard uint8) (q *script, marks int, all []written) {
	q = &script{}
	q.add("BEGIN")
	marks = r.mark(q)
	plain := map[bucket][]Outcome{}
	moved := map[bucket][]string{} // the numbers of outcomes, which the database knows, by what they are counted as
	count := func(outcomes []Outcome) (number string) {
		number = fmt.Sprintf("@n%d", len(all))
		// A server whose client is gone says -1 of a statement that it has done and could not answer, and goes
		// on to the COMMIT. NULL is no count: it ends the script, and the transaction with it.
		q.add("SET " + number + " = NULLIF(ROW_COUNT(), -1)")
		all = append(all, written{q.n - 2, outcomes})
		d := outcomes[0].Delivery
		for _, quarter := range []int64{forever, quarterOf(d.DueAt)} {
			into, from := bucket{quarter, d.RuleID, d.SheetID, d.State}, bucket{quarter, d.RuleID, d.SheetID, delivery.Queued}
			moved[into], moved[from] = append(moved[into], "+"+number), append(moved[from], "-"+number)
		}
		return number
	}
	for _, o := range r.Outcomes {
		if o.Plain {
			b := bucket{quarterOf(o.DueAt), o.RuleID, o.SheetID, o.State}
			plain[b] = append(plain[b], o)
			continue
		}
		r.settle(q, o)
		count([]Outcome{o})
	}
	for b, outcomes := range plain {
		own := r.accept(q, outcomes)
		number := count(outcomes)
		if len(own) > 0 {
			q.add("INSERT INTO events (at, actor, kind, sheet_id, rule_id, detail) SELECT ?, 'nivot', '"+EventDelivery+
				"accepted', ?, ?, ? FROM DUAL WHERE "+number+" > 0", r.Now, b.SheetID, b.RuleID, Detail(touched{own}))
		}
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
	return q, marks, all
}

// mark adds the marks to the script, and gives how many statements they are. What has not been claimed
// is claimed with its mark.
func (r *Round) mark(q *script) (n int) {
	const (
		begun  = "UPDATE deliveries SET state = 'sending', sending_at = ?, first_try = LEAST(first_try, ?)"
		leased = " AND EXISTS (SELECT 1 FROM workers WHERE id = ? AND lease_until > UTC_TIMESTAMP(6))"
	)
	var claimed []int64
	unclaimed := map[Unclaimed][]int64{} // most of what is sent together has been queued together
	for _, m := range r.Marks {
		if m.Unclaimed != nil {
			unclaimed[*m.Unclaimed] = append(unclaimed[*m.Unclaimed], m.ID)
		} else {
			claimed = append(claimed, m.ID)
		}
	}
	if len(claimed) > 0 {
		q.add(begun+" WHERE id IN ("+list(claimed)+") AND state = 'claimed' AND worker = ?"+leased, r.Now, r.Now, r.Worker,
			r.Worker)
		n++
	}
	for u, ids := range unclaimed {
		q.add(begun+", worker = ?, dated_at = ?, identity_id = ?, next_try = '"+never+"' WHERE id IN ("+list(ids)+
			") AND state = 'queued' AND attempt = ? AND tries = ? AND next_try = ?"+leased, r.Now, r.Now, r.Worker, u.Dated,
			u.Identity, u.Attempt, u.Tries, u.NextTry, r.Worker)
		n++
	}
	return n
}

// settle adds what a try came to, and its events: that of a mark is written with its outcome, or by the
// sweep where none came; until then sending_at holds it.
func (r *Round) settle(q *script, o Outcome) {
	d := o.Delivery
	where := " WHERE id = ? AND attempt = ? AND tries = ? AND (worker = ? AND state IN "
	mine := []any{d.ID, d.Attempt, d.Tries - 1, r.Worker}
	marked := where + "('sending'))"
	where += underWay
	met := mine
	if u := o.Unclaimed; u != nil {
		where += " OR state = 'queued' AND next_try = ?"
		met = append(mine[:len(mine):len(mine)], u.NextTry)
	}
	where += ")"
	if d.OwnEvents > 0 {
		q.add(eventsOf+"judged_at, 'nivot', '"+EventDelivery+"queued', sheet_id, row_id, rule_id, id, '{}' FROM deliveries"+
			where+" FOR UPDATE", met...)
	}
	q.add(eventsOf+"sending_at, 'nivot', '"+EventDelivery+"sending', sheet_id, row_id, rule_id, id, '{}' FROM deliveries"+
		marked+" FOR UPDATE", mine...)
	q.add(eventsOf+"?, 'nivot', ?, sheet_id, row_id, rule_id, id, ? FROM deliveries"+where+" FOR UPDATE",
		append([]any{r.Now, EventDelivery + string(d.State), o.Detail}, met...)...)
	q.add(
		"UPDATE deliveries SET state = ?, last_error = ?, reply = ?, recipients = ?, tries = ?, first_try = ?, "+
			"dated_at = ?, identity_id = ?, next_try = ?, finished_at = ?, own_events = 0"+where,
		append([]any{string(d.State), d.LastError.Encode(), withRoom(d.Reply), d.Recipients, d.Tries, instant(d.FirstTry),
			instant(d.DatedAt), d.IdentityID, instant(d.NextTry), instant(d.FinishedAt)}, met...)...)
}

// accept adds what was taken whole by everybody at the first try, and the events of those that have
// events. It gives the rows of the others, whose own rows stand for them: most of what is kept for ever
// is of this kind.
func (r *Round) accept(q *script, outcomes []Outcome) (own []int64) {
	var ids, told []int64
	var replies, details []any
	for _, o := range outcomes {
		ids, replies = append(ids, o.ID), append(replies, o.ID, withRoom(o.Reply))
		if o.OwnEvents > 0 {
			own = append(own, o.RowID)
		} else {
			told, details = append(told, o.ID), append(details, o.ID, Detail(o.Reply))
		}
	}
	const mine = " AND worker = ? AND tries = 0 AND state IN "
	if len(told) > 0 {
		q.add(eventsOf+"?, 'nivot', '"+EventDelivery+
			"accepted', sheet_id, row_id, rule_id, id, CONCAT('{\"attempt\":', attempt, ',\"sending\":\"', "+
			"DATE_FORMAT(sending_at, '%Y-%m-%dT%H:%i:%s.%fZ'), '\",\"reply\":', CASE id"+
			strings.Repeat(" WHEN ? THEN ?", len(told))+" END, ',\"try\":1}') FROM deliveries WHERE id IN ("+list(told)+")"+
			mine+underWay+" FOR UPDATE", append(append([]any{r.Now}, details...), r.Worker)...)
	}
	q.add("UPDATE deliveries SET state = 'accepted', last_error = '', reply = CASE id"+
		strings.Repeat(" WHEN ? THEN ?", len(ids))+" END, finished_at = ?, tries = tries + 1, next_try = '"+never+
		"', own_events = IF(own_events > 0, "+fmt.Sprint(OwnAccepted)+", 0) WHERE id IN ("+list(ids)+")"+mine+underWay,
		append(replies, r.Now, r.Worker)...)
	return own
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
	q, marks, outcomes := r.script(s.shard)
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
	if w.Marked, err = s.marked(ctx, r, affected[min(1, len(affected)):min(1+marks, len(affected))]); err != nil {
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

// marked tells from how many each statement of the marks has met whether all
// took effect, and else asks which did.
func (s *Store) marked(ctx context.Context, r Round, affected []int64) (map[int64]bool, error) {
	if len(r.Marks) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(r.Marks))
	for i, m := range r.Marks {
		ids[i] = m.ID
	}
	met := 0
	for _, n := range affected {
		met += int(n)
	}
	if met != len(ids) {
		asked := ids
		ids = nil
		if err := s.DB(ctx).Raw("SELECT id FROM deliveries WHERE id IN ? AND state = 'sending' AND worker = ?", asked,
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
