package store

import "context"

// aged are the rows that are of no use any more after a while, by the database's clock.
var aged = []struct{ table, over string }{
	{"sessions", "expiry < UTC_TIMESTAMP(6)"}, // however they have ended
	{"links", "expires_at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY"},
	{"jobs", "state <> 'running' AND seen_at < UTC_TIMESTAMP(6) - INTERVAL 30 DAY"},
	{"answers", "at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY"},
	{"presence", "seen_at < UTC_TIMESTAMP(6) - INTERVAL 1 HOUR"},
	{"test_emails", "sent_at < UTC_TIMESTAMP(6) - INTERVAL 180 DAY"},
}

// agedBatch is how many rows one statement deletes, so that none holds others up.
const agedBatch = 1000

// DropAged deletes what is of no use any more.
func (s *Store) DropAged(ctx context.Context) error {
	for _, a := range aged {
		for {
			r := s.DB(ctx).Exec("DELETE FROM "+a.table+" WHERE "+a.over+" LIMIT ?", agedBatch)
			if r.Error != nil {
				return r.Error
			}
			if r.RowsAffected < agedBatch {
				break
			}
		}
	}
	return nil
}
