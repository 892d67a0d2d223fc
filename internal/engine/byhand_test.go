package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// Section 3, by hand: the rows a person picked get their email once, when that
// person says so; a sending asked for twice is one, another sending is another.
func TestByHand(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows := f.reacting(6, func(r *rule.Rule) {
		r.Trigger = rule.Trigger{Kind: rule.ByHand}
		r.Hold = rule.HoldFirstRun // who sends by hand has looked
	})
	f.advance(at("2027-03-15T08:40:00Z"))
	if got := len(f.subjects()); got != 0 {
		t.Fatalf("%d went before anybody said so", got)
	}
	send := func(batch string, want int, ids ...int64) {
		t.Helper()
		_, n, err := f.SendByHand(f.ctx, rec.ID, r.ID, batch, ids, "Ines", "")
		if err != nil || n != want {
			t.Fatalf("%s: %d, %v; want %d", batch, n, err, want)
		}
	}
	send("first", 3, rows[2], rows[0], rows[1], rows[0])
	send("first", 0, rows[0], rows[1], rows[2])
	send("first", 1, rows[0], rows[3])
	f.advance(at("2027-03-15T08:45:00Z"))
	if got := len(f.subjects()); got != 4 {
		t.Fatalf("%d went, want 4", got)
	}
	send("second", 1, rows[0])
	f.advance(at("2027-03-15T08:50:00Z"))
	if got := len(f.subjects()); got != 5 {
		t.Fatalf("%d went, want 5", got)
	}
	events, err := f.Store.DeliveryEvents(f.ctx, f.delivery(rows[3]))
	if err != nil || len(events) == 0 || events[0].Actor != "Ines" {
		t.Fatalf("it does not stand on record who sent it: %+v, %v", events, err)
	}
	var refusal *Refusal
	if _, err := f.DeleteRow(f.ctx, rec.ID, rows[5], System("Ines")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		batch string
		rows  []int64
	}{{"", rows[:1]}, {"none", nil}, {"gone", rows[4:6]}} {
		if _, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, c.batch, c.rows, "Ines", ""); !errors.As(err, &refusal) {
			t.Errorf("%q: %v", c.batch, err)
		}
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, "paused", rows[:1], "Ines", ""); !errors.As(err, &refusal) {
		t.Errorf("paused: %v", err)
	}
}

// A sending of many rows goes on by itself, can be stopped half way, and what
// was stopped stays unsent; what failed of it goes again as the next attempt.
func TestBatch(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	const n = 250
	rec, r, rows := f.reacting(n, func(r *rule.Rule) { r.Trigger = rule.Trigger{Kind: rule.ByHand} })
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		t.Fatal(err)
	}
	paced := func(n int) {
		for i := range senders {
			senders[i].Pace = n
			if err := f.Store.SaveSender(f.ctx, &senders[i]); err != nil {
				t.Fatal(err)
			}
		}
	}
	paced(1)
	b, _, err := f.SendByHand(f.ctx, rec.ID, r.ID, "spring", rows, "Ines", "")
	if err != nil || b.Total != n || b.Done < handBatch || !b.Running() {
		t.Fatalf("%+v %v", b, err)
	}
	core, err := r.Core()
	if err != nil {
		t.Fatal(err)
	}
	preview, err := f.PreviewByHand(f.ctx, rec.ID, core, rows[:20], calendar.Duration{Days: 7}, false)
	if err != nil || preview.Emails != 20 || len(preview.Recent) != 20 || len(preview.Lines) != maxFirst ||
		preview.Lines[0].Subject == "" {
		t.Fatalf("%+v %v", preview, err)
	}
	// Who has had it, or is about to, is left out unless told otherwise.
	preview, err = f.PreviewByHand(f.ctx, rec.ID, core, rows[:20], calendar.Duration{Days: 7}, true)
	if err != nil || preview.Emails != 0 || len(preview.Recent) != 20 {
		t.Fatalf("without them: %+v %v", preview, err)
	}
	f.advance(at("2027-03-15T08:33:00Z")) // one a minute
	stopped, err := f.StopBatch(f.ctx, rec.ID, b.ID, "Tom")
	if err != nil || stopped < 190 {
		counts, _ := f.Store.CountOfBatch(f.ctx, b)
		t.Fatalf("%d stopped of %v: %v %s", stopped, counts, err, b.At)
	}
	went := len(f.subjects())
	f.advance(at("2027-03-15T09:30:00Z"))
	if got := len(f.subjects()); got != went || went == 0 {
		t.Errorf("%d had gone when the sending was stopped, then %d", went, got)
	}
	counts, err := f.Store.CountOfBatch(f.ctx, b)
	if err != nil || counts[delivery.Dropped] != stopped || counts[delivery.Accepted] != went || len(counts) != 2 {
		t.Errorf("%v %v, %d went", counts, err, went)
	}
	paced(0)
	// Another goes whole, without anybody asking again.
	b, _, err = f.SendByHand(f.ctx, rec.ID, r.ID, "summer", rows, "Ines", "")
	if err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T10:30:00Z"))
	if b, err = f.Store.Batch(f.ctx, b.ID); err != nil || b.Done != n || b.Running() {
		t.Errorf("%+v %v", b, err)
	}
	if got := len(f.subjects()); got != went+n {
		t.Errorf("%d went, want %d", got, went+n)
	}
}

const byHand = `{"name":"By hand","state":"on","trigger":{"kind":"by-hand"},"send":[{"template":"N"}],"to":[{"column":"Email"}]}`

// waitingByHand makes a sheet of a row without an address, and one whose email is held, in a sending by hand.
func (f *fixture) waitingByHand() (rec *store.Sheet, r *store.Rule, rows map[string]int64,
	send func(batch string, ids ...int64)) {
	f.t.Helper()
	rec, rows = f.cases(strings.Replace(byHand, `"N"`, `"A"`, 1)+`,`+strings.Replace(strings.Replace(byHand, `"N"`, `"B"`, 1),
		"By hand", "Other words", 1), "C-1,50,,,", "C-2,50,b@x.example,,")
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	return rec, &rules[0], rows, func(batch string, ids ...int64) {
		f.t.Helper()
		by := rules[0].ID
		if strings.HasPrefix(batch, "other") {
			by = rules[1].ID
		}
		if _, _, err := f.SendByHand(f.ctx, rec.ID, by, batch, ids, "Ines", ""); err != nil {
			f.t.Fatal(err)
		}
	}
}

// Section 3, by hand: a sending takes over what still waits of the same row and template from an earlier one,
// and nobody gets it twice; the page counts it before.
func TestByHandTakesOverWhatWaits(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, r, rows, send := f.waitingByHand()
	f.settled()
	send("first", rows["C-1"])
	send("other words", rows["C-1"])
	f.settled()
	core, err := r.Core()
	if err != nil {
		t.Fatal(err)
	}
	p, err := f.PreviewByHand(f.ctx, rec.ID, core, []int64{rows["C-1"], rows["C-2"]}, calendar.Duration{Days: 7}, true)
	if err != nil || p.Waiting != 1 || p.Incomplete != 1 || p.Emails != 1 {
		t.Errorf("before: %+v, %v; want one that waits, one incomplete and one email", p, err)
	}
	f.set(rec, rows["C-1"], "Email", "a@x.example") // counts in two minutes, and would let the first go
	send("second", rows["C-1"])
	f.advance(at("2027-03-15T09:30:00Z"))
	if got := strings.Join(f.subjects(), "; "); got != "a@x.example | C-1 again; a@x.example | C-1 at 50" {
		t.Errorf("arrived: %s; want one of each template", got)
	}
	var ds []store.Delivery
	if err := f.Store.DB(f.ctx).Order("id").Find(&ds).Error; err != nil {
		t.Fatal(err)
	}
	if len(ds) != 3 || ds[0].State != delivery.Skipped || ds[0].Reason.Code != reason.Replaced {
		t.Errorf("%s\nwant the first replaced", f.ledger())
	}
	f.consistent()
}

// However often somebody repeats a sending over what waits, on two servers one of which is killed again and again:
// each row gets it once.
func TestCrashOfRepeatedSendings(t *testing.T) {
	t.Parallel() // it waits most of the time
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, _, rows, send := f.waitingByHand()
	f.settled()
	f.slow, f.atRest = 100*time.Millisecond, f.decideDoubts
	v := startVictim(f)
	f.peer = v
	for k := range 12 {
		send(fmt.Sprint("sending ", k), rows["C-1"])
		if k == 6 {
			f.set(rec, rows["C-1"], "Email", "a@x.example")
		}
		if k < 8 { // then it goes, and who sends once more wants it once more
			f.advance(f.Now().Add(15 * time.Second))
		}
	}
	f.advance(f.Now().Add(time.Hour))
	v.end()
	// The edit counts once the row has rested: until then each sending by hand takes the row as it is.
	got, waiting := len(f.subjects()), 0
	for st, n := range f.stateCounts() {
		if st == delivery.Incomplete || st == delivery.Held || st == delivery.Queued {
			waiting += int(n)
		}
	}
	sent := f.number("SELECT COUNT(*) FROM deliveries WHERE state IN ('accepted', 'in-doubt')")
	if int64(got) != sent || waiting != 0 {
		t.Errorf("%d arrived of %d that went, and %d wait\n%s", got, sent, waiting, f.ledger())
	}
	n := f.number("SELECT COUNT(*) FROM deliveries WHERE state = 'skipped' AND JSON_VALUE(reason, '$.code') = 'replaced'")
	if n != 6 && n != 7 {
		t.Errorf("%d were replaced, want those before the address came\n%s", n, f.ledger())
	}
}
