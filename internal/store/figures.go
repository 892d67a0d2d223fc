package store

import (
	"context"
	"time"

	"nivot/internal/core/delivery"
)

// Figures say how much there is to do and how late it is, for a monitor.
type Figures struct {
	Due     int64         // entries of the agenda whose time has come
	Late    time.Duration // since when the oldest of them and of what is queued is due
	ByState map[delivery.State]int64
	Resting int64 // senders that cannot send at the moment
	Sheets  int64
	Rows    int64 // about, as the database estimates
}

// Figures reads the figures at an instant.
func (s *Store) Figures(ctx context.Context, now time.Time) (f Figures, err error) {
	f.ByState = map[delivery.State]int64{}
	var agenda struct {
		N     int64
		First *time.Time
	}
	db := s.DB(ctx)
	if err = db.Raw("SELECT COUNT(*) AS n, MIN(due_at) AS first FROM agenda WHERE due_at <= ? AND kind <> 'clear'",
		now).Scan(&agenda).Error; err != nil {
		return f, err
	}
	f.Due = agenda.N
	var states []struct {
		State delivery.State
		N     int64
	}
	open := []delivery.State{delivery.Queued, delivery.Claimed, delivery.Sending, delivery.InDoubt, delivery.Held,
		delivery.Deferred}
	if err = db.Raw("SELECT state, COUNT(*) AS n FROM deliveries WHERE " + pendingIn(open...) +
		" GROUP BY state").Scan(&states).Error; err != nil {
		return f, err
	}
	for _, st := range open {
		f.ByState[st] = 0
	}
	for _, st := range states {
		f.ByState[st.State] = st.N
	}
	var queued struct{ First *time.Time }
	if err = db.Raw("SELECT MIN(next_try) AS first FROM deliveries WHERE next_try <= ?",
		now).Scan(&queued).Error; err != nil {
		return f, err
	}
	for _, t := range []*time.Time{agenda.First, queued.First} {
		if t != nil {
			f.Late = max(f.Late, now.Sub(*t))
		}
	}
	if err = db.Raw("SELECT COUNT(*) FROM sender_states WHERE rests_since IS NOT NULL").
		Scan(&f.Resting).Error; err != nil {
		return f, err
	}
	if err = db.Raw("SELECT COUNT(*) FROM sheets").Scan(&f.Sheets).Error; err != nil {
		return f, err
	}
	err = db.Raw(
		"SELECT COALESCE(MAX(table_rows), 0) FROM information_schema.tables WHERE table_schema = DATABASE() AND " +
			"table_name = 'sheet_rows'").Scan(&f.Rows).Error
	return f, err
}
