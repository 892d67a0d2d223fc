package engine

import (
	"testing"
	"time"
)

// The nightly work is done once a day, whoever comes to it.
func TestNightly(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:40:00Z")
	f.cases(humid, "C-1,40,a@x.example,,")
	wall := at("2027-03-15T00:30:00Z")
	f.opts.Wall = func() time.Time { return wall }
	spoil := func() {
		f.exec("INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n) VALUES (7, 'gone', 's', 'held', 3, 1) " +
			"ON DUPLICATE KEY UPDATE n = n + 1")
	}
	wrong := func() int {
		t.Helper()
		w, err := f.Store.WrongCounts(f.ctx)
		if err != nil {
			t.Fatal(err)
		}
		return len(w)
	}
	for _, c := range []struct {
		at   string
		want int // counts that are wrong afterwards
	}{
		{"2027-03-15T00:30:00Z", 1},
		{"2027-03-15T01:00:00Z", 0},
		{"2027-03-15T23:00:00Z", 1},
		{"2027-03-16T09:00:00Z", 0},
	} {
		if wrong() == 0 {
			spoil()
		}
		wall = at(c.at)
		if err := f.nightly(f.ctx); err != nil {
			t.Fatal(err)
		}
		if got := wrong(); got != c.want {
			t.Errorf("at %s: %d counts are wrong, want %d", c.at, got, c.want)
		}
		f.exec("DELETE FROM delivery_counts WHERE rule_id = 'gone' AND n = 0")
	}
}
