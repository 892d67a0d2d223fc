package store

import (
	"context"
	"fmt"
)

// PlaceStep is the room between rows that stand one after the other.
const PlaceStep = 1 << 20

// PlacesAfter gives places for n rows: after a row, 0 for the beginning, or at
// the end where after is nil. Where there is no room left, it is made, and the
// places of all rows are new.
func (s *Store) PlacesAfter(ctx context.Context, sheetID string, after *int64,
	n int) (places []int64, renewed bool, err error) {
	for {
		lo, hi, err := s.gap(ctx, sheetID, after)
		if err != nil {
			return nil, renewed, err
		}
		if hi == 0 {
			hi = lo + PlaceStep*int64(n+1)
		}
		if step := (hi - lo) / int64(n+1); step > 0 {
			places = make([]int64, n)
			for i := range places {
				places[i] = lo + step*int64(i+1)
			}
			return places, renewed, nil
		}
		if renewed {
			return nil, renewed, fmt.Errorf("there is no room for %d rows in one place", n)
		}
		renewed = true
		if err := s.DB(ctx).Exec(
			`UPDATE sheet_rows r
			JOIN (SELECT id, ROW_NUMBER() OVER (ORDER BY place, id) AS n FROM sheet_rows WHERE sheet_id = ?) x
			ON x.id = r.id SET r.place = x.n * ?, r.changed = (SELECT version + 1 FROM sheets WHERE id = ?)`, sheetID, PlaceStep,
			sheetID).Error; err != nil {
			return nil, renewed, err
		}
	}
}

// gap gives the places between which rows are put: hi is 0 at the end.
func (s *Store) gap(ctx context.Context, sheetID string, after *int64) (lo, hi int64, err error) {
	if after == nil {
		err = s.DB(ctx).Raw("SELECT COALESCE(MAX(place), 0) FROM sheet_rows WHERE sheet_id = ?", sheetID).Scan(&lo).Error
		return lo, 0, err
	}
	if *after != 0 {
		var at []int64
		if err = s.DB(ctx).Raw("SELECT place FROM sheet_rows WHERE sheet_id = ? AND id = ?", sheetID,
			*after).Scan(&at).Error; err != nil {
			return 0, 0, err
		}
		if len(at) == 0 {
			return 0, 0, ErrNotFound
		}
		lo = at[0]
	}
	err = s.DB(ctx).Raw("SELECT COALESCE(MIN(place), 0) FROM sheet_rows WHERE sheet_id = ? AND place > ?", sheetID,
		lo).Scan(&hi).Error
	return lo, hi, err
}
