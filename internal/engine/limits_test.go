package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

func (f *fixture) sender(change func(*store.Sender)) {
	f.t.Helper()
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		f.t.Fatal(err)
	}
	change(&senders[0])
	if err := f.Store.SaveSender(f.ctx, &senders[0]); err != nil {
		f.t.Fatal(err)
	}
}

// Section 5, daily cap: what does not fit waits for the next day, in order of
// due time, and is judged again then.
func TestDailyCap(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.loan("a@x.example, b@x.example", "c@x.example", "d@x.example", "e@x.example, f@x.example",
		"g@x.example", "h@x.example")
	f.sender(func(s *store.Sender) { s.DailyCap, s.Zone = 5, "Europe/London" })
	f.advance(at("2027-03-15T12:00:00Z"))
	if got := len(f.subjects()); got != 3 {
		t.Errorf("%d emails to 4 recipients fit, and those behind one that does not fit wait: %d went", 3, got)
	}
	held := f.delivery(rows[3])
	if held.State != delivery.Held || held.Reason.Code != reason.DailyCap ||
		!strings.HasSuffix(held.Reason.Words(), "it goes on Tue 16 Mar 09:00") {
		t.Errorf("over the cap: %s, %s", held.State, held.Reason.Words())
	}
	if _, err := f.EditRow(f.ctx, rec.ID, rows[4], []CellEdit{{Column: "c2", Text: "new@x.example"}},
		System("test")); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-16T08:59:30Z"))
	if got := f.subjects(); len(got) != 3 {
		t.Errorf("before the time of day at which they were due: %v", got)
	}
	f.advance(at("2027-03-16T09:00:30Z"))
	if got := fmt.Sprint(f.subjects()); len(f.subjects()) != 6 || f.delivery(rows[4]).State != delivery.Accepted {
		t.Errorf("the next day: %s", got)
	}
	for _, id := range rows {
		if d := f.delivery(id); d.State != delivery.Accepted {
			t.Errorf("row %d: %s (%s)", id, d.State, d.Reason)
		}
	}
}

// What is over the cap goes on the first day with room, in order of due time: who has waited goes before who
// falls due that day.
func TestDailyCapFindsRoom(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	var lines []string
	for i := range 7 {
		lines = append(lines, fmt.Sprintf("C-%d,50,c%d@x.example,,2027-03-22", i, i))
	}
	lines = append(lines, "C-7,50,c7@x.example,,2027-03-23")
	_, rows := f.cases(`{"name":"Due","state":"on","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},"send":[{"template":"B"}],"to":[{"column":"Email"}]},
		{"name":"Early","state":"on","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}],"at":"07:00"},"condition":{"column":"Case","op":"is","value":"C-7"},"send":[{"template":"A"}],"to":[{"column":"Email"}]}`, lines...)
	f.sender(func(s *store.Sender) { s.DailyCap, s.Zone = 3, "UTC" })
	f.advance(at("2027-03-19T12:00:00Z"))
	var got []string
	for _, m := range f.timed() {
		if got = append(got, m[:8]); strings.Contains(m, "c7@") {
			got[len(got)-1] += "!"
		}
	}
	// On the 16th three that had waited go, on the 17th the last of them, and both of the 16th's own.
	const want = "03-15 09 03-15 09 03-15 09 03-16 09 03-16 09 03-16 09 03-17 07! 03-17 09 03-17 09!"
	if g := strings.Join(got, " "); g != want {
		t.Errorf("went at %s, want %s; row %d", g, want, rows["C-7"])
	}
}

// A cap is one for all processes: who counts what has been sent waits for who is just taking some.
func TestDailyCapOfTwoProcesses(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	f.loan("a@x.example", "b@x.example")
	f.sender(func(s *store.Sender) { s.DailyCap, s.Zone = 1, "Europe/London" })
	if err := f.Store.SetSetting(f.ctx, store.SettingSending, false); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T09:00:01Z"))
	now := at("2027-03-15T09:00:02Z")
	f.unchecked = true
	if err := f.Store.DB(f.ctx).Exec("UPDATE deliveries SET state = 'queued', next_try = ?", now).Error; err != nil {
		t.Fatal(err)
	}
	take := func(then func()) (n int, err error) {
		err = f.Store.Tx(f.ctx, func(tx *store.Store) error {
			waiting, err := tx.QueuedNow(f.ctx, now, []store.QueueAsk{{Senders: []string{"", "sender"}, Limit: 1}})
			if err != nil || len(waiting) == 0 {
				return err
			}
			queued, err := tx.LockQueued(f.ctx, []int64{waiting[0].ID}, now)
			if err != nil {
				return err
			}
			kept, err := f.withinLimits(f.ctx, tx, queued, now)
			if err != nil {
				return err
			}
			then()
			if n = len(kept); n > 0 {
				return tx.Claim(f.ctx, 1, kept[:1])
			}
			return nil
		})
		return n, err
	}
	other := make(chan int)
	first, err := take(func() {
		go func() {
			n, err := take(func() {})
			if err != nil {
				t.Error(err)
			}
			other <- n
		}()
		time.Sleep(300 * time.Millisecond)
	})
	if second := <-other; err != nil || first != 1 || second != 0 {
		t.Errorf("one process takes %d and the other %d of a cap of 1 (%v)", first, second, err)
	}
}

// Whom an email has reached counts, though it waits to be tried again for another.
func TestDailyCapOfTriesAgain(t *testing.T) {
	midnight := at("2027-03-15T00:00:00Z")
	early, late := midnight.Add(-time.Hour), midnight.Add(time.Hour)
	partly := `[{"role":"to","mailbox":"a@x.example","address":"a@x.example","state":"accepted"},{"role":"cc","mailbox":"b@x.example","address":"b@x.example","state":"deferred"}]`
	n, err := reachedBefore([]store.Delivery{{SenderID: "s", SendingAt: &late, Recipients: partly},
		{SenderID: "s", SendingAt: &early, Recipients: partly},
		{SenderID: "other", SendingAt: &late, Recipients: partly}, {SenderID: "s", Recipients: partly}}, []string{"s"},
		midnight)
	if n != 1 || err != nil {
		t.Errorf("%d (%v), want 1", n, err)
	}
}

// Section 5, pace: emails a minute, evenly spaced.
func TestPace(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	f.loan("a@x.example", "b@x.example", "c@x.example", "d@x.example", "e@x.example", "f@x.example", "g@x.example",
		"h@x.example", "i@x.example", "j@x.example")
	f.sender(func(s *store.Sender) { s.Pace = 4 })
	f.advance(at("2027-03-15T09:00:05Z"))
	if got := len(f.subjects()); got != 1 {
		t.Errorf("%d in the first seconds, want 1", got)
	}
	f.advance(at("2027-03-15T09:05:00Z"))
	if got := len(f.subjects()); got != 10 {
		t.Errorf("%d after five minutes, want all 10", got)
	}
	slices.SortFunc(f.arrived, time.Time.Compare)
	for i, when := range f.arrived {
		if want := at("2027-03-15T09:00:00Z").Add(time.Duration(i) * 15 * time.Second); !when.Equal(want) {
			t.Errorf("email %d arrived at %s, want %s", i, when, want)
		}
	}
}

// Section 5, pace: a sender pauses after each batch.
func TestPauseBetweenBatches(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	f.loan("a@x.example", "b@x.example", "c@x.example", "d@x.example", "e@x.example", "f@x.example", "g@x.example")
	f.sender(func(s *store.Sender) { s.Batch, s.PauseSeconds = 3, 1800 })
	for _, c := range []struct {
		at   string
		want int
	}{{"2027-03-15T09:00:05Z", 3}, {"2027-03-15T09:29:00Z", 3}, {"2027-03-15T09:31:00Z", 6}, {"2027-03-15T09:59:00Z", 6},
		{"2027-03-15T10:03:00Z", 7}} {
		if f.advance(at(c.at)); len(f.subjects()) != c.want {
			t.Errorf("by %s %d have gone, want %d", c.at, len(f.subjects()), c.want)
		}
	}
}

// reacting makes a sheet of n rows with a rule that writes when the date is
// edited.
func (f *fixture) reacting(n int, change func(*rule.Rule)) (*store.Sheet, *store.Rule, []int64) {
	f.t.Helper()
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		f.t.Fatal(err)
	}
	rec := manyLoans(f.t, f.Engine, n, "2030-01-01", senders[0].Port)
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	core, err := rules[0].Core()
	if err != nil {
		f.t.Fatal(err)
	}
	r := &rule.Rule{Name: "Edited", Trigger: rule.Trigger{Kind: rule.Edited, Columns: []string{"c3"}}, Send: core.Send,
		To: core.To}
	if change != nil {
		change(r)
	}
	saved, err := f.SaveRule(f.ctx, rec.ID, "", r, 0, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	if saved, err = f.SetRuleState(f.ctx, rec.ID, saved.ID, rule.On, "test"); err != nil {
		f.t.Fatal(err)
	}
	f.settled()
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, n)
	if err != nil {
		f.t.Fatal(err)
	}
	var ids []int64
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	return rec, saved, ids
}

func (f *fixture) edit(rec *store.Sheet, rows []int64, text string) {
	f.t.Helper()
	for _, id := range rows {
		if _, err := f.EditRow(f.ctx, rec.ID, id, []CellEdit{{Column: "c3", Text: text}}, System("test")); err != nil {
			f.t.Fatal(err)
		}
	}
}

// Section 5, brake: a burst larger than expected is held, and all later ones,
// until somebody has reviewed it; what has gone is not recalled.
func TestBrake(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(60, nil)
	f.edit(rec, rows[:12], "2031-01-01")
	f.advance(at("2027-03-15T08:40:00Z"))
	if got := len(f.subjects()); got != 12 {
		t.Fatalf("12 of 60 rows are no burst: %d went", got)
	}
	f.advance(at("2027-03-15T09:00:00Z"))
	f.edit(rec, rows[:30], "2032-01-01")
	f.advance(at("2027-03-15T09:05:00Z"))
	f.edit(rec, rows[40:41], "2032-01-01")
	f.advance(at("2027-03-15T10:00:00Z"))
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{RuleID: r.ID})
	if err != nil || counts[delivery.Held] != 31 || len(f.subjects()) != 12 {
		t.Fatalf("30 at once are held, and the next: %v, %v", counts, err)
	}
	if n, err := f.Release(f.ctx, rec.ID, r.ID, true, "Ines"); err != nil || n != 31 {
		t.Fatal(n, err)
	}
	f.advance(at("2027-03-15T10:01:00Z"))
	if got := len(f.subjects()); got != 43 {
		t.Errorf("released: %d went, want 43", got)
	}
	f.edit(rec, rows[41:43], "2033-01-01")
	f.advance(at("2027-03-15T10:10:00Z"))
	if got := len(f.subjects()); got != 45 {
		t.Errorf("after it has let go: %d went, want 45", got)
	}
}

// Section 5, hold: the first run of a new rule waits to be reviewed; one
// email may be let go, one left out, the rest released.
func TestFirstRun(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(8, func(r *rule.Rule) { r.Hold = rule.HoldFirstRun })
	f.edit(rec, rows[:5], "2031-01-01")
	f.advance(at("2027-03-15T08:40:00Z"))
	if len(f.subjects()) != 0 {
		t.Fatal("the first run was not held")
	}
	if d, err := f.Decide(f.ctx, f.delivery(rows[0]).ID, Approve, "Ines"); err != nil || d.State != delivery.Queued {
		t.Fatal(d, err)
	}
	if d, err := f.Decide(f.ctx, f.delivery(rows[1]).ID, Drop, "Ines"); err != nil || d.State != delivery.Dropped {
		t.Fatal(d, err)
	}
	if _, err := f.DeleteRow(f.ctx, rec.ID, rows[2], System("Ines")); err != nil {
		t.Fatal(err)
	}
	if n, err := f.Release(f.ctx, rec.ID, r.ID, true, "Ines"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	f.edit(rec, rows[6:7], "2031-01-01")
	f.advance(at("2027-03-15T09:00:00Z"))
	if got := len(f.subjects()); got != 4 {
		t.Errorf("%d went, want one approved, two released, one after", got)
	}
	if d := f.delivery(rows[2]); d.State != delivery.Skipped || d.Reason.Code != reason.RowDeleted {
		t.Errorf("held, and its row deleted: %s, %s", d.State, d.Reason)
	}
}

// Section 5, late limit: it stands still while an email is held.
func TestHeldBeyondTheLateLimit(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	_, rows := f.loan("a@x.example")
	if err := f.SetSending(f.ctx, false, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-18T09:00:00Z"))
	if d := f.delivery(rows[0]); d.State != delivery.Held {
		t.Fatalf("%s: %s", d.State, d.Reason)
	}
	if err := f.SetSending(f.ctx, true, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-18T09:01:00Z"))
	if d := f.delivery(rows[0]); d.State != delivery.Accepted {
		t.Errorf("%s: %s", d.State, d.Reason)
	}
}
