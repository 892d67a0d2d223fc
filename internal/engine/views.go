package engine

import (
	"context"
	"slices"
	"sort"
	"sync"

	"nivot/internal/core/sheet"
)

// view is the order of a view's rows: ids, made in one scan by the condition code that also decides
// rules, and mended by the rows that change. Beside them stands what puts each in its place.
type view struct {
	mu      sync.Mutex // held while it is made or mended
	version int64      // of the sheet, guarded by mu
	basis   string     // what it rests on but the rows, guarded by mu; "" before it has been made
	ids     []int64    // replaced, never changed: who has been given them reads on
	words   [][2]uint64
	places  []int64
	deep    map[int64][]sheet.SortKey // the keys of rows of which words may not decide
	scans   int                       // how often it was made anew

	used  int64 // guarded by the keeper
	bytes int   // guarded by the keeper
}

// set takes the ids of a view that is not mended.
func (v *view) set(ids []int64) {
	v.ids, v.words, v.places, v.deep = ids, nil, nil, nil
	v.scans++
}

// order takes the rows of a view in their order.
func (v *view) order(items []viewItem) {
	n := len(items)
	v.set(make([]int64, n))
	v.words, v.places, v.deep = make([][2]uint64, n), make([]int64, n), map[int64][]sheet.SortKey{}
	for i := range items {
		it := &items[i]
		v.ids[i], v.words[i], v.places[i] = it.id, it.words, it.place
		if it.keys != nil {
			v.deep[it.id] = it.keys
		}
	}
}

// at gives the row at a place of the view.
func (v *view) at(i int) viewItem {
	return viewItem{words: v.words[i], id: v.ids[i], place: v.places[i], keys: v.deep[v.ids[i]]}
}

// put writes a row at a place of the view, which has it already.
func (v *view) put(i int, it viewItem) {
	v.words[i], v.places[i] = it.words, it.place
	delete(v.deep, it.id)
	if it.keys != nil {
		v.deep[it.id] = it.keys
	}
}

// move gives a row that stands at one place another.
func (v *view) move(from, to int, it viewItem) {
	shift(v.ids, from, to)
	shift(v.words, from, to)
	shift(v.places, from, to)
	v.put(to, it)
}

// shift takes an element to another place; those between move up by one.
func shift[T any](s []T, from, to int) {
	x := s[from]
	if from < to {
		copy(s[from:to], s[from+1:to+1])
	} else {
		copy(s[to+1:from+1], s[to:from])
	}
	s[to] = x
}

func (v *view) remove(i int) {
	delete(v.deep, v.ids[i])
	v.ids, v.words, v.places = slices.Delete(v.ids, i, i+1), slices.Delete(v.words, i, i+1),
		slices.Delete(v.places, i, i+1)
}

func (v *view) insert(i int, it viewItem) {
	v.ids, v.words, v.places = slices.Insert(v.ids, i, it.id), slices.Insert(v.words, i, it.words),
		slices.Insert(v.places, i, it.place)
	v.put(i, it)
}

// mendMost is how many changed rows a view is mended by; beyond, it is made anew.
const mendMost = 500

// mendView brings a view up to date by the rows that have changed since it was made. mended is false
// where they are too many.
func (e *Engine) mendView(ctx context.Context, s *sheet.Sheet, spec ViewSpec, v *view) (mended bool, err error) {
	rows, err := e.Store.ChangedSince(ctx, s.ID, v.version, mendMost+1)
	if err != nil || len(rows) > mendMost {
		return false, err
	}
	look, err := e.examine(ctx, s, spec)
	if err != nil {
		return false, err
	}
	compare := func(i int, it *viewItem) int {
		at := v.at(i)
		return compareItems(&at, it, spec.Sort)
	}
	own := false // ids are this mending's alone
	for k := range rows {
		r := &rows[k]
		var it viewItem
		in := false
		if r.DeletedAt == nil {
			if it, in, err = look(r.ID, r.Number, r.Place, r.Gone, r.Cells); err != nil {
				return false, err
			}
		}
		i := slices.Index(v.ids, r.ID)
		if i >= 0 && in && (i == 0 || compare(i-1, &it) < 0) && (i == len(v.ids)-1 || compare(i+1, &it) > 0) {
			v.put(i, it) // it stays where it is
			continue
		}
		if (i >= 0 || in) && !own {
			v.ids, own = slices.Clone(v.ids), true
		}
		n := len(v.ids)
		if i >= 0 {
			n-- // it is passed over
		}
		to := sort.Search(n, func(k int) bool {
			if i >= 0 && k >= i {
				k++
			}
			return compare(k, &it) > 0
		})
		switch {
		case i >= 0 && in:
			v.move(i, to, it)
		case i >= 0:
			v.remove(i)
		case in:
			v.insert(to, it)
		}
	}
	return true, nil
}

// maxViewBytes bounds what the views take that are kept.
const maxViewBytes = 256 << 20

// viewKeeper keeps the views that were asked for last.
type viewKeeper struct {
	mu    sync.Mutex
	by    map[string]*view // guarded by mu
	clock int64            // guarded by mu
}

// get gives a view by what it is of; a new one has not been made.
func (k *viewKeeper) get(of string) *view {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.by == nil {
		k.by = map[string]*view{}
	}
	v := k.by[of]
	if v == nil {
		v = &view{}
		k.by[of] = v
	}
	k.clock++
	v.used = k.clock
	return v
}

// forget drops all views: the database holds something else than it did.
func (k *viewKeeper) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	clear(k.by)
}

// made notes how much a view takes, which is held, and drops what was asked for longest ago until
// the rest fits.
func (k *viewKeeper) made(v *view) {
	k.mu.Lock()
	defer k.mu.Unlock()
	v.bytes = 8*len(v.ids) + 24*len(v.words) + 100*len(v.deep) + 1000
	for {
		total, oldest := 0, ""
		for of, x := range k.by {
			total += x.bytes
			if x != v && (oldest == "" || x.used < k.by[oldest].used) {
				oldest = of
			}
		}
		if total <= maxViewBytes || oldest == "" {
			return
		}
		delete(k.by, oldest)
	}
}
