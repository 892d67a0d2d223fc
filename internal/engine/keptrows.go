package engine

import (
	"context"
	"sync"

	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// maxKept bounds the bytes of the rows that are kept between questions about
// whole sheets.
const maxKept = 384 << 20

// chunkRows is how many rows a chunk of kept rows holds.
const chunkRows = 8192

// chunk is some rows of a sheet as they are stored, in the order of their ids.
type chunk struct {
	first   int64 // the place of its first row among all
	ids     []int64
	numbers []int64
	gone    []bool
	ends    []int32 // where each row's cells end in cells
	cells   string
}

// at gives the stored cells of the chunk's i-th row.
func (c *chunk) at(i int) string {
	from := int32(0)
	if i > 0 {
		from = c.ends[i-1]
	}
	return c.cells[from:c.ends[i]]
}

// row makes the chunk's i-th row of cells that have been decoded.
func (c *chunk) row(i int, cells []value.Value) *sheet.Row {
	return &sheet.Row{ID: store.RowID(c.ids[i]), Number: c.numbers[i], Cells: cells, Gone: c.gone[i]}
}

// keptRows are all rows of a sheet in one version, while they are read and
// after.
type keptRows struct {
	version int64
	used    int64 // counts up at each use

	mu     sync.Mutex
	more   *sync.Cond // a chunk has come, or all have
	chunks []*chunk   // guarded by mu
	bytes  int        // guarded by mu
	done   bool       // guarded by mu
	err    error      // guarded by mu
}

// get gives the k-th chunk, waiting for it while the rows are read; nil where
// there are no more, or where stop reports that nobody waits any longer.
func (k *keptRows) get(i int, stop func() bool) (*chunk, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i >= len(k.chunks) && !k.done && !stop() {
		k.more.Wait()
	}
	if i < len(k.chunks) {
		return k.chunks[i], nil
	}
	return nil, k.err
}

// wake has those who wait look whether they still want to.
func (k *keptRows) wake() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.more.Broadcast()
}

// rowKeeper keeps the rows of the sheets that were asked about last.
type rowKeeper struct {
	mu    sync.Mutex
	by    map[string]*keptRows // guarded by mu
	clock int64                // guarded by mu
}

// rows gives a sheet's rows as they are now, unsettled edits included. They may
// still be coming in.
func (e *Engine) rows(ctx context.Context, rec *store.Sheet) *keptRows {
	e.kept.mu.Lock()
	defer e.kept.mu.Unlock()
	if e.kept.by == nil {
		e.kept.by = map[string]*keptRows{}
	}
	e.kept.clock++
	k := e.kept.by[rec.ID]
	if k == nil || k.version != rec.Version || k.failed() {
		k = &keptRows{version: rec.Version}
		k.more = sync.NewCond(&k.mu)
		e.kept.by[rec.ID] = k
		go e.readRows(context.WithoutCancel(ctx), rec.ID, k)
	}
	k.used = e.kept.clock
	return k
}

func (k *keptRows) failed() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.err != nil
}

func (e *Engine) readRows(ctx context.Context, sheetID string, k *keptRows) {
	c, place := &chunk{}, int64(0)
	var cells []byte
	hand := func(done bool, err error) {
		k.mu.Lock()
		defer k.mu.Unlock()
		if len(c.ids) > 0 {
			c.cells, cells = string(cells), cells[:0]
			k.chunks = append(k.chunks, c)
			k.bytes += len(c.cells) + 21*len(c.ids)
		}
		k.done, k.err = done, err
		k.more.Broadcast()
		c = &chunk{first: place}
	}
	err := e.Store.StreamCells(ctx, sheetID, func(id, number, _ int64, gone bool, raw []byte) error {
		c.ids, c.numbers, c.gone = append(c.ids, id), append(c.numbers, number), append(c.gone, gone)
		cells = append(cells, raw...)
		c.ends = append(c.ends, int32(len(cells)))
		if place++; len(c.ids) >= chunkRows {
			hand(false, nil)
		}
		return nil
	})
	hand(true, err)
	e.kept.shrink()
}

// shrink drops what was asked about longest ago until the rest fits.
func (r *rowKeeper) shrink() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for {
		total, oldest := 0, ""
		for id, k := range r.by {
			k.mu.Lock()
			total += k.bytes
			k.mu.Unlock()
			if oldest == "" || k.used < r.by[oldest].used {
				oldest = id
			}
		}
		if total <= maxKept || oldest == "" {
			return
		}
		delete(r.by, oldest)
	}
}
