package engine

import (
	"context"
	"encoding/json"
	"sort"
	"strings"
	"sync"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// ViewSpec is how a sheet is looked at: which rows, in which order.
type ViewSpec struct {
	Filter *rule.Condition `json:"filter,omitempty"`
	Sort   string          `json:"sort,omitempty"` // column id
	Down   bool            `json:"down,omitempty"` // the largest first
	Find   string          `json:"find,omitempty"` // text in any cell
}

// Plain tells whether the view is all rows in their order of entry.
func (v ViewSpec) Plain() bool { return v.Filter == nil && v.Sort == "" && v.Find == "" }

// view is the order of a filtered or sorted view: ids, made in one scan by the
// condition code that also decides rules, and kept until the sheet changes.
type view struct {
	once    sync.Once
	version int64
	day     value.Day
	ids     []int64
	err     error
}

// maxViews bounds how many views are kept.
const maxViews = 64

// View gives the ids of a view's rows in its order.
func (e *Engine) View(ctx context.Context, sheetID string, spec ViewSpec) ([]int64, error) {
	rec, err := e.Store.Sheet(ctx, sheetID)
	if err != nil {
		return nil, err
	}
	s, err := rec.Core()
	if err != nil {
		return nil, err
	}
	if spec.Filter != nil {
		if err := spec.Filter.Validate("/filter", rule.SheetScope{Sheet: s}); err != nil {
			return nil, asRefusal(err)
		}
	}
	if _, ok := s.Column(spec.Sort); spec.Sort != "" && !ok {
		return nil, &Refusal{Field: "/sort", Message: "the column is not there"}
	}
	b, err := json.Marshal(spec)
	if err != nil {
		return nil, err
	}
	key, today := sheetID+string(b), value.DayAt(e.now().In(s.Zone))
	e.viewMu.Lock()
	v := e.views[key]
	if v == nil || v.version != rec.Version || v.day != today {
		if len(e.views) >= maxViews {
			clear(e.views)
		}
		v = &view{version: rec.Version, day: today}
		e.views[key] = v
	}
	e.viewMu.Unlock()
	v.once.Do(func() {
		v.ids, v.err = e.scanView(context.WithoutCancel(ctx), s, spec, today)
		if v.err != nil {
			e.viewMu.Lock()
			delete(e.views, key)
			e.viewMu.Unlock()
		}
	})
	return v.ids, v.err
}

func (e *Engine) scanView(ctx context.Context, s *sheet.Sheet, spec ViewSpec, today value.Day) ([]int64, error) {
	type item struct {
		id, place int64
		v         value.Value
	}
	var items []item
	col, sorted := s.Column(spec.Sort)
	find := value.Fold(spec.Find)
	computed, err := e.Computed(ctx, s)
	if err != nil {
		return nil, err
	}
	err = e.Store.ScanRows(ctx, s.ID, func(r *store.Row) error {
		row, err := r.Core(s)
		if err != nil {
			return err
		}
		row = computed(row)
		if t, _ := spec.Filter.Judge(rule.Facts{Sheet: s, Row: row, Today: today}); t != rule.True {
			return nil
		}
		if find != "" && !found(s, row, find) {
			return nil
		}
		it := item{id: r.ID, place: r.Place}
		if sorted {
			it.v = row.Cell(col)
		}
		items = append(items, it)
		return nil
	})
	if err != nil {
		return nil, err
	}
	sort.SliceStable(items, func(i, j int) bool {
		a, b := &items[i], &items[j]
		if sorted {
			// Empty cells stay last either way.
			if spec.Down && a.v.IsFilled() && b.v.IsFilled() {
				a, b = b, a
			}
			if s.Less(col, a.v, b.v) {
				return true
			}
			if s.Less(col, b.v, a.v) {
				return false
			}
			a, b = &items[i], &items[j]
		}
		return a.place < b.place
	})
	ids := make([]int64, len(items))
	for i := range items {
		ids[i] = items[i].id
	}
	return ids, nil
}

func found(s *sheet.Sheet, row *sheet.Row, folded string) bool {
	for i := range s.Columns {
		c := &s.Columns[i]
		if v := row.Cell(c); !v.IsEmpty() && strings.Contains(value.Fold(s.Show(c, v)), folded) {
			return true
		}
	}
	return false
}

// Find gives the ids of the rows that hold a text in any cell.
func (e *Engine) Find(ctx context.Context, sheetID, text string) ([]int64, error) {
	return e.View(ctx, sheetID, ViewSpec{Find: text})
}
