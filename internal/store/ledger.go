package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
)

// Why is a reason as it is kept: as JSON.
type Why struct{ reason.Reason }

// Scan implements sql.Scanner.
func (w *Why) Scan(v any) error {
	switch t := v.(type) {
	case nil:
		*w = Why{}
	case []byte:
		w.Reason = reason.Decode(string(t))
	case string:
		w.Reason = reason.Decode(t)
	default:
		return fmt.Errorf("a reason cannot be read from %T", v)
	}
	return nil
}

// Value implements driver.Valuer.
func (w Why) Value() (driver.Value, error) { return w.Encode(), nil }

// ErrForbidden says that a state may not follow another.
var ErrForbidden = errors.New("this change of state is forbidden")

// Become gives the delivery another state, and refuses what the table of
// transitions does not have. It is the only place that changes one in memory;
// SaveDelivery writes it only over the state that it was read with.
func (d *Delivery) Become(st delivery.State, by delivery.Cause) error {
	if !delivery.Can(d.State, st, by) {
		return fmt.Errorf("%w: delivery %d is %s and cannot become %s by %s", ErrForbidden, d.ID, orNew(d.State), st, by)
	}
	if d.read == "" {
		d.read = d.State
	}
	d.State = st
	if st != delivery.Queued && st != delivery.Deferred {
		d.NextTry = nil
	}
	return nil
}

func orNew(st delivery.State) string {
	if st == "" {
		return "not yet judged"
	}
	return string(st)
}

// SaveDelivery writes a delivery, and refuses where its state is no longer the
// one that it was read with.
func (s *Store) SaveDelivery(ctx context.Context, d *Delivery) error {
	if s.tally == nil {
		own := d.OwnEvents
		return s.Tx(ctx, func(tx *Store) error {
			d.OwnEvents = own // also where the transaction lost to another, and is made once more
			return tx.SaveDelivery(ctx, d)
		})
	}
	if err := s.tellOwn(ctx, d); err != nil {
		return err
	}
	d.Subject = clip(d.Subject, maxKept)
	was := d.read
	if was == "" {
		was = d.State
	}
	r := s.DB(ctx).Model(d).Where("state = ?", was).Select("*").Omit("id").Updates(d)
	if r.Error == nil && r.RowsAffected == 0 {
		return fmt.Errorf("%w: delivery %d is not %s any more", ErrForbidden, d.ID, was)
	}
	if r.Error != nil {
		return r.Error
	}
	s.tally.move(d, was, d.State)
	d.read = ""
	if !delivery.NeedsSomebody(was) {
		return nil // only what waits is judged again, and may go to others then
	}
	return s.meet(ctx, []*Delivery{d})
}

// DeliveryEvent makes the event of a delivery's present state.
func DeliveryEvent(d *Delivery, at time.Time, actor string, detail map[string]any) Event {
	return Event{At: at, Actor: actor, Kind: EventDelivery + string(d.State), SheetID: d.SheetID, RowID: d.RowID,
		RuleID:     d.RuleID,
		DeliveryID: d.ID, Detail: Detail(detail)}
}

// states writes states as the list of an SQL IN.
func states(list []delivery.State) string {
	b := []byte("(")
	for i, s := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, '\'')
		b = append(b, s...)
		b = append(b, '\'')
	}
	return string(append(b, ')'))
}
