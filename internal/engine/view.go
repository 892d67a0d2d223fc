package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"nivot/internal/core/formula"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// ViewSpec is how a sheet is looked at: which rows, in which order.
type ViewSpec struct {
	Filter *rule.Condition `json:"filter,omitempty"`
	Sort   []SortKey       `json:"sort,omitempty"` // the first decides, the next among its equals
	Find   string          `json:"find,omitempty"` // text in any cell
	Only   *Only           `json:"only,omitempty"`
}

// SortKey is a column that decides the order of a view.
type SortKey struct {
	Column string `json:"column"`
	Down   bool   `json:"down,omitempty"` // the largest first
}

// maxSortKeys bounds the columns that decide an order.
const maxSortKeys = 4

// Plain tells whether the view is all rows in their own order.
func (v ViewSpec) Plain() bool {
	return v.Filter == nil && len(v.Sort) == 0 && v.Find == "" && v.Only == nil
}

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
	if err := spec.check(s); err != nil {
		return nil, err
	}
	version := rec.Version
	if spec.Plain() {
		version = rec.OrderVersion // an edit moves no row
	}
	basis, err := e.basisOf(ctx, rec, s, spec)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(spec)
	if err != nil {
		return nil, err
	}
	v := e.views.get(sheetID + string(b))
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.basis == basis && v.version >= version {
		return v.ids, nil
	}
	ctx, cancel := Outliving(ctx) // who asks next needs it too
	defer cancel()
	if v.basis == basis && !spec.Plain() && spec.Only == nil {
		mended, err := e.mendView(ctx, s, spec, v)
		if err != nil {
			v.basis = "" // half done
			return nil, err
		}
		if mended {
			v.version = version
			return v.ids, nil
		}
	}
	v.basis = ""
	if err := e.scanView(ctx, s, spec, v); err != nil {
		return nil, err
	}
	v.version, v.basis = version, basis
	e.views.made(v)
	return v.ids, nil
}

// Outliving returns a context that goes on when who has asked is gone, until the deadline that they had.
func Outliving(ctx context.Context) (context.Context, context.CancelFunc) {
	out := context.WithoutCancel(ctx)
	if at, ok := ctx.Deadline(); ok {
		return context.WithDeadline(out, at)
	}
	return out, func() {}
}

// check refuses what no view can be.
func (v ViewSpec) check(s *sheet.Sheet) error {
	if v.Filter != nil {
		if err := v.Filter.Validate("/filter", rule.SheetScope{Sheet: s}); err != nil {
			return asRefusal(err)
		}
	}
	if len(v.Sort) > maxSortKeys {
		return &Refusal{Field: "/sort", Message: fmt.Sprintf("at most %d columns decide the order", maxSortKeys)}
	}
	for i, k := range v.Sort {
		if _, ok := s.Column(k.Column); !ok {
			return &Refusal{Field: fmt.Sprintf("/sort/%d/column", i), Message: "the column is not there"}
		}
	}
	return nil
}

// basisOf gives what a view rests on but the rows: it changes when a view must be made anew.
func (e *Engine) basisOf(ctx context.Context, rec *store.Sheet, s *sheet.Sheet, spec ViewSpec) (string, error) {
	tick := e.moment(s)
	if spec.Only != nil && spec.Only.Rows.byRules() {
		rules, err := e.forecastVersion(ctx, rec.ID)
		if err != nil {
			return "", err
		}
		tick = e.now().Format("2006-01-02 15:04") + rules // what comes goes as time passes
	}
	basis := strings.Join([]string{tick, rec.Columns, rec.Zone, rec.Locale}, "\x00")
	if s.HasFormulas() { // which may count working days
		c, err := CalendarOf(ctx, e.Store, rec)
		if err != nil {
			return "", err
		}
		basis += fmt.Sprint("\x00", c)
	}
	return basis, nil
}

// viewItem is a row of a view while it is being put in order. The words of
// its first keys stand in it, so that most comparisons look at nothing else.
type viewItem struct {
	words     [2]uint64
	id, place int64
	keys      []sheet.SortKey // where words may not decide
}

// examiner looks at rows one after the other: whether they are in a view, and as what they are put in order.
type examiner func(id, number, place int64, gone bool, cells []byte) (it viewItem, in bool, err error)

func (e *Engine) examine(ctx context.Context, s *sheet.Sheet, spec ViewSpec) (examiner, error) {
	today := value.DayAt(e.now().In(s.Zone))
	keys := make([]*sheet.Column, len(spec.Sort))
	for i, k := range spec.Sort {
		keys[i], _ = s.Column(k.Column)
	}
	find := value.Fold(spec.Find)
	computed, err := e.Computed(ctx, s)
	if err != nil {
		return nil, err
	}
	var pick picked
	if spec.Only != nil {
		if pick, err = e.picking(ctx, s, *spec.Only); err != nil {
			return nil, err
		}
	}
	spec.Filter.Prepare(s)
	decoder := s.Decoder(spec.needs(s)...)
	var decoded []value.Value
	worked := make([]sheet.SortKey, len(keys))
	return func(id, number, place int64, gone bool, cells []byte) (it viewItem, in bool, err error) {
		if decoded, err = decoder.Decode(cells, decoded); err != nil {
			return it, false, fmt.Errorf("row %d: %w", id, err)
		}
		row := &sheet.Row{ID: store.RowID(id), Number: number, Cells: decoded, Gone: gone}
		if pick != nil {
			if in, err := pick(id, row); !in || err != nil {
				return it, false, err
			}
		}
		row = computed(row)
		if t, _ := spec.Filter.Judge(rule.Facts{Sheet: s, Row: row, Today: today}); t != rule.True {
			return it, false, nil
		}
		if find != "" && !found(s, row, find) {
			return it, false, nil
		}
		it = viewItem{id: id, place: place}
		deep := len(keys) > len(it.words)
		for i, c := range keys {
			worked[i] = s.SortKey(c, row.Cell(c), spec.Sort[i].Down)
			deep = deep || worked[i].More
			if i < len(it.words) {
				it.words[i] = worked[i].Word
			}
		}
		if deep {
			it.keys = slices.Clone(worked)
		}
		return it, true, nil
	}, nil
}

// scanView makes a view in one stream of all rows.
func (e *Engine) scanView(ctx context.Context, s *sheet.Sheet, spec ViewSpec, v *view) error {
	if spec.Plain() {
		ids, err := e.Store.RowOrder(ctx, s.ID)
		v.set(ids)
		return err
	}
	look, err := e.examine(ctx, s, spec)
	if err != nil {
		return err
	}
	var items []viewItem
	err = e.Store.StreamCells(ctx, s.ID, func(id, number, place int64, gone bool, cells []byte) error {
		it, in, err := look(id, number, place, gone, cells)
		if in {
			items = append(items, it)
		}
		return err
	})
	if err != nil {
		return err
	}
	v.order(sortItems(items, spec.Sort))
	return nil
}

// sortItems sorts two halves side by side and puts them together.
func sortItems(items []viewItem, sorts []SortKey) []viewItem {
	compare := func(a, b viewItem) int { return compareItems(&a, &b, sorts) }
	if len(items) < 10_000 {
		slices.SortFunc(items, compare)
		return items
	}
	low, high := items[:len(items)/2], items[len(items)/2:]
	done := make(chan struct{})
	go func() {
		defer close(done)
		slices.SortFunc(low, compare)
	}()
	slices.SortFunc(high, compare)
	<-done
	out := make([]viewItem, 0, len(items))
	for len(low) > 0 && len(high) > 0 {
		if compareItems(&low[0], &high[0], sorts) <= 0 {
			out, low = append(out, low[0]), low[1:]
		} else {
			out, high = append(out, high[0]), high[1:]
		}
	}
	return append(append(out, low...), high...)
}

func compareItems(a, b *viewItem, sorts []SortKey) int {
	for i, k := range sorts {
		if i < len(a.words) && a.words[i] != b.words[i] {
			return cmp.Compare(a.words[i], b.words[i])
		}
		if n := compareKeys(a.keys, b.keys, i, k.Down); n != 0 {
			return n
		}
	}
	return cmp.Or(cmp.Compare(a.place, b.place), cmp.Compare(a.id, b.id))
}

// compareKeys compares the keys at a place. Who has kept none is exactly what
// its word says, and so below one with the same word and more to it.
func compareKeys(a, b []sheet.SortKey, i int, down bool) int {
	n := 0
	switch {
	case a != nil && b != nil:
		return a[i].Compare(b[i], down)
	case a != nil && a[i].More:
		n = 1
	case b != nil && b[i].More:
		n = -1
	}
	if down {
		return -n
	}
	return n
}

// needs gives the columns that a view looks at; nil for all.
func (v ViewSpec) needs(s *sheet.Sheet) []*sheet.Column {
	if v.Find != "" || v.Only != nil && v.Only.Rows.byRules() {
		return nil
	}
	ids := map[string]bool{}
	for _, k := range v.Sort {
		ids[k.Column] = true
	}
	if v.Filter != nil {
		for _, c := range v.Filter.Columns() {
			ids[c] = true
		}
	}
	out := []*sheet.Column{}
	for id := range ids {
		c, ok := s.Column(id)
		if ok && c.Type == value.Formula {
			return nil // and what it rests on
		}
		if ok {
			out = append(out, c)
		}
	}
	return out
}

// moves reports whether a column is worked out anew each moment.
func moves(c *sheet.Column) bool { return c.Moving() == formula.Always }

// Summary is what a selection of cells comes to.
type Summary struct {
	Rows, Filled    int
	Numbers         int
	Sum, Least, Top value.Value // of the numbers
	Dates           int
	First, Last     value.Value // of the dates and moments
}

// Summarise looks at the cells of some columns in the rows from..to (not
// included) of a view.
func (e *Engine) Summarise(ctx context.Context, sheetID string, spec ViewSpec, from, to int,
	columns []string) (Summary, error) {
	var out Summary
	ids, err := e.View(ctx, sheetID, spec)
	if err != nil {
		return out, err
	}
	_, s, err := coreSheet(ctx, e.Store, sheetID)
	if err != nil {
		return out, err
	}
	computed, err := e.Computed(ctx, s)
	if err != nil {
		return out, err
	}
	cols := make([]*sheet.Column, 0, len(columns))
	for _, id := range columns {
		if c, ok := s.Column(id); ok {
			cols = append(cols, c)
		}
	}
	from = max(0, min(from, len(ids)))
	to = max(from, min(to, len(ids)))
	look := func(cells []value.Value) {
		out.Rows++
		row := computed(&sheet.Row{Cells: cells})
		for _, c := range cols {
			out.add(row.Cell(c))
		}
	}
	if to-from > len(ids)/4 && to-from > importBatch {
		return out, e.summariseAll(ctx, s, ids[from:to], look)
	}
	for ; from < to; from += importBatch {
		recs, err := e.Store.RowsByID(ctx, sheetID, ids[from:min(from+importBatch, to)])
		if err != nil {
			return out, err
		}
		for i := range recs {
			row, err := recs[i].Core(s)
			if err != nil {
				return out, err
			}
			look(row.Cells)
		}
	}
	return out, nil
}

// summariseAll looks at a large part of a sheet in one stream.
func (e *Engine) summariseAll(ctx context.Context, s *sheet.Sheet, ids []int64, look func([]value.Value)) error {
	want := make(map[int64]bool, len(ids))
	for _, id := range ids {
		want[id] = true
	}
	decoder := s.Decoder()
	var cells []value.Value
	return e.Store.StreamCells(ctx, s.ID, func(id, _, _ int64, _ bool, b []byte) (err error) {
		if !want[id] {
			return nil
		}
		if cells, err = decoder.Decode(b, cells); err == nil {
			look(cells)
		}
		return err
	})
}

func (u *Summary) add(v value.Value) {
	if !v.IsEmpty() {
		u.Filled++
	}
	if !v.IsFilled() {
		return
	}
	switch v.Type {
	case value.Number:
		if u.Numbers++; u.Numbers == 1 {
			u.Sum, u.Least, u.Top = v, v, v
			return
		}
		u.Sum.Num = u.Sum.Num.Add(v.Num)
		if v.Num.LessThan(u.Least.Num) {
			u.Least = v
		}
		if v.Num.GreaterThan(u.Top.Num) {
			u.Top = v
		}
	case value.Date, value.Moment:
		if u.Dates++; u.Dates == 1 {
			u.First, u.Last = v, v
			return
		}
		if v.Wall.Compare(u.First.Wall) < 0 {
			u.First = v
		}
		if v.Wall.Compare(u.Last.Wall) > 0 {
			u.Last = v
		}
	}
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
