package engine

import (
	"context"
	"errors"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/store"
)

// MendableUntil returns until when each of the deliveries that are incomplete goes by itself once its row is put
// right, by id. A round-up does not: the next one says it anew.
func (e *Engine) MendableUntil(ctx context.Context, ds []store.Delivery) (map[int64]time.Time, error) {
	out := map[int64]time.Time{}
	cache := e.reading()
	for i := range ds {
		d := &ds[i]
		if d.State != delivery.Incomplete || d.RowID == 0 {
			continue
		}
		sb, err := cache.sheet(ctx, d.SheetID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if rb := sb.rule(d.RuleID); rb != nil {
			out[d.ID] = rb.compiled.Late(d.DueAt)
		}
	}
	return out, nil
}
