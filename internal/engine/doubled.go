package engine

import (
	"context"
	"sync"

	"nivot/internal/store"
)

// doubles keeps how many rows of each sheet have a key that another row had
// before them, until the sheet changes.
type doubles struct {
	mu sync.Mutex
	by map[string]doubled // guarded by mu
}

type doubled struct {
	version int64 // of the sheet
	rows    int64
}

// Doubled counts the rows of a sheet whose key another row had before them.
func (e *Engine) Doubled(ctx context.Context, rec *store.Sheet) (int64, error) {
	if rec.KeyColumn == "" {
		return 0, nil
	}
	e.doubles.mu.Lock()
	known, ok := e.doubles.by[rec.ID]
	e.doubles.mu.Unlock()
	if ok && known.version == rec.Version {
		return known.rows, nil
	}
	n, err := e.Store.CountDoubled(ctx, rec.ID)
	if err != nil {
		return 0, err
	}
	e.doubles.mu.Lock()
	defer e.doubles.mu.Unlock()
	if e.doubles.by == nil {
		e.doubles.by = map[string]doubled{}
	}
	e.doubles.by[rec.ID] = doubled{rec.Version, n}
	return n, nil
}
