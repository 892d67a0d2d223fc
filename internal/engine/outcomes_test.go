package engine

import (
	"errors"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// loan makes one sheet with one row for each address, all due on 22 March, and
// a rule that writes a week before, on.
func (f *fixture) loan(addresses ...string) (*store.Sheet, []int64) {
	f.t.Helper()
	senders, err := f.Store.Senders(f.ctx)
	if err != nil {
		f.t.Fatal(err)
	}
	rec := manyLoans(f.t, f.Engine, len(addresses), "2027-03-22", senders[0].Port)
	rows, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 100)
	if err != nil {
		f.t.Fatal(err)
	}
	var ids []int64
	for i, r := range rows {
		if _, err := f.EditRow(f.ctx, rec.ID, r.ID, []CellEdit{{Column: "c2", Text: addresses[i]}},
			System("test")); err != nil {
			f.t.Fatal(err)
		}
		ids = append(ids, r.ID)
	}
	f.advance(f.Now().Add(5 * time.Minute))
	return rec, ids
}

func (f *fixture) delivery(row int64) *store.Delivery {
	f.t.Helper()
	page, err := f.Store.Log(f.ctx, store.LogFilter{RowID: row}, "", 10)
	ds := page.Lines
	if err != nil {
		f.t.Fatal(err)
	}
	if len(ds) != 1 {
		f.t.Fatalf("row %d has %d deliveries, want 1", row, len(ds))
	}
	return &ds[0]
}

// Section 5: what becomes of an email, for everything a mail server may do.
func TestOutcomes(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	_, rows := f.loan("good@x.example", "a-refuse@x.example", "b.defer-2@x.example", "c.drop-before@x.example",
		"d.drop-after@x.example",
		"e.fail@x.example", "ok@x.example, f-refuse@x.example", "ok@x.example, g.defer-1@x.example", "", "not an address",
		"h.defer-99@x.example")
	f.advance(at("2027-03-15T09:00:30Z"))
	want := []delivery.State{"accepted", "failed", "deferred", "deferred", "in-doubt", "failed", "accepted", "deferred",
		"incomplete", "incomplete", "deferred"}
	for i, id := range rows {
		if d := f.delivery(id); d.State != want[i] {
			t.Errorf("row %d at 09:00: %s (%s), want %s", i, d.State, d.LastError, want[i])
		}
	}
	f.advance(at("2027-03-16T12:00:00Z"))
	want = []delivery.State{"accepted", "failed", "accepted", "failed", "in-doubt", "failed", "accepted", "accepted",
		"missed", "missed", "failed"}
	tries := []int{1, 1, 3, 0, 1, 1, 1, 2, 0, 0, 0}
	for i, id := range rows {
		d := f.delivery(id)
		if d.State != want[i] || tries[i] != 0 && d.Tries != tries[i] {
			t.Errorf("row %d a day later: %s after %d tries (%s), want %s after %d", i, d.State, d.Tries, d.LastError, want[i],
				tries[i])
		}
	}
	if d := f.delivery(rows[10]); d.Tries < 20 || d.LastError.Code != reason.GivenUp {
		t.Errorf("given up after %d tries: %s", d.Tries, d.LastError)
	}
	if d := f.delivery(rows[6]); !strings.Contains(d.Recipients, `"bounced"`) {
		t.Error("the refused recipient is not recorded as bounced")
	}
	got := strings.Join(f.subjects(), "\n")
	if strings.Count(got, "ok@x.example |") != 2 || strings.Count(got, "g.defer-1@x.example |") != 1 ||
		strings.Count(got, "d.drop-after@x.example") != 1 {
		t.Errorf("arrived:\n%s", got)
	}
}

// A person decides on what is in doubt or has failed; sending again is a new
// attempt at the same occasion, to the addresses as they are now.
func TestDecisions(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.loan("d.drop-after@x.example", "a-refuse@x.example", "e.drop-after@x.example", "good@x.example")
	f.advance(at("2027-03-15T09:01:00Z"))
	doubt, failed, left, good := f.delivery(rows[0]), f.delivery(rows[1]), f.delivery(rows[2]), f.delivery(rows[3])
	if _, err := f.Decide(f.ctx, good.ID, SendAgain, "Ines"); err == nil {
		t.Error("an accepted email was sent again")
	}
	if d, err := f.Decide(f.ctx, doubt.ID, ItWent, "Ines"); err != nil || d.State != delivery.Accepted {
		t.Error(d.State, err)
	}
	if _, err := f.Decide(f.ctx, left.ID, LeaveIt, "Ines"); err != nil || f.delivery(rows[2]).Decision != "left" {
		t.Error(err)
	}
	var refusal *Refusal
	if _, err := f.EditRow(f.ctx, rec.ID, rows[1], []CellEdit{{Column: "c2", Text: ""}}, System("Ines")); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Decide(f.ctx, failed.ID, SendAgain, "Ines"); !errors.As(err, &refusal) ||
		!strings.Contains(err.Error(), "no usable address") {
		t.Error(err)
	}
	if _, err := f.EditRow(f.ctx, rec.ID, rows[1], []CellEdit{{Column: "c2", Text: "mended@x.example"}},
		System("Ines")); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Decide(f.ctx, failed.ID, SendAgain, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T09:02:00Z"))
	d := f.delivery(rows[1])
	if d.State != delivery.Accepted || d.Attempt != 2 || !strings.Contains(strings.Join(f.subjects(), "\n"),
		"mended@x.example") {
		t.Errorf("%+v", d)
	}
	events, err := f.Store.DeliveryEvents(f.ctx, d)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, ev := range events {
		kinds = append(kinds, strings.TrimPrefix(ev.Kind, "delivery-"))
	}
	if strings.Join(kinds, " ") != "queued failed queued accepted" {
		t.Errorf("events %v", kinds)
	}
}

// Off, nothing goes; on again, what waited is judged as the rows are then.
func TestLever(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.loan("a@x.example", "b@x.example")
	if err := f.SetSending(f.ctx, false, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T10:00:00Z"))
	if len(f.subjects()) != 0 || f.delivery(rows[0]).State != delivery.Held {
		t.Fatalf("with the lever off: %v, %s", f.subjects(), f.delivery(rows[0]).State)
	}
	if _, err := f.EditRow(f.ctx, rec.ID, rows[1], []CellEdit{{Column: "c3", Text: "2027-06-01"}},
		System("Ines")); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T10:30:00Z"))
	if err := f.SetSending(f.ctx, true, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-15T10:31:00Z"))
	if f.delivery(rows[0]).State != delivery.Accepted || f.delivery(rows[1]).State != delivery.Skipped ||
		len(f.subjects()) != 1 {
		t.Errorf("%s, %s, %v", f.delivery(rows[0]).State, f.delivery(rows[1]).State, f.subjects())
	}
}

// Switching on fires nothing for what is past; a pause lets nothing fall due,
// and resuming takes a new baseline.
func TestBaselineAndPause(t *testing.T) {
	f := newFixture(t, "2027-03-15T09:30:00Z") // half an hour late
	rec, rows := f.loan("a@x.example")
	f.advance(at("2027-03-16T12:00:00Z"))
	if len(f.subjects()) != 0 {
		t.Fatalf("the baseline fired: %v", f.subjects())
	}
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	set := func(st rule.State) {
		t.Helper()
		if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, st, "Ines"); err != nil {
			t.Fatal(err)
		}
	}
	edit := func(due string) {
		t.Helper()
		if _, err := f.EditRow(f.ctx, rec.ID, rows[0], []CellEdit{{Column: "c3", Text: due}}, System("Ines")); err != nil {
			t.Fatal(err)
		}
	}
	edit("2027-03-25") // due 18 March
	f.advance(at("2027-03-17T12:00:00Z"))
	set(rule.Paused)
	f.advance(at("2027-03-18T12:00:00Z"))
	set(rule.On)
	f.advance(at("2027-03-19T12:00:00Z"))
	if len(f.subjects()) != 0 {
		t.Fatalf("what passed in the pause went out: %v", f.subjects())
	}
	edit("2027-03-30")
	f.advance(at("2027-03-23T12:00:00Z"))
	if len(f.subjects()) != 1 {
		t.Errorf("after resuming: %v", f.subjects())
	}
}

// An email that could not go while nothing ran is missed once its late limit
// has passed, and may still be sent by a person.
func TestMissed(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	_, rows := f.loan("a@x.example")
	f.mu.Lock()
	f.clock = at("2027-03-16T10:00:00Z") // as if nothing had run for a day
	f.mu.Unlock()
	f.Wake()
	f.settled()
	d := f.delivery(rows[0])
	if d.State != delivery.Missed || len(f.subjects()) != 0 {
		t.Fatalf("%s, %v", d.State, f.subjects())
	}
	if _, err := f.Decide(f.ctx, d.ID, SendAgain, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	if len(f.subjects()) != 1 {
		t.Error(f.subjects())
	}
}

// Two edits of one cell never overwrite silently; an edit that changes nothing
// is none.
func TestEditConflict(t *testing.T) {
	f := newFixture(t, "2027-03-10T08:30:00Z")
	rec, rows := f.loan("a@x.example")
	seen := "a@x.example"
	edit := func(text string) error {
		_, err := f.EditRow(f.ctx, rec.ID, rows[0], []CellEdit{{Column: "c2", Text: text, Expected: &seen}}, System("Ines"))
		return err
	}
	if err := edit("b@x.example"); err != nil {
		t.Fatal(err)
	}
	var c *Conflict
	if err := edit("c@x.example"); !errors.As(err, &c) || c.Theirs != "b@x.example" || c.Yours != "c@x.example" {
		t.Errorf("%v", err)
	}
	before, _ := f.Store.Row(f.ctx, rows[0])
	if err := edit("b@x.example"); err != nil {
		t.Error(err)
	}
	if after, _ := f.Store.Row(f.ctx, rows[0]); after.Version != before.Version {
		t.Error("an edit that changes nothing counted")
	}
}

// Whatever is done to rows, rules and the clock, in any order, over imports and
// restarts of the engine, no identity comes to be twice and no email goes twice.
func TestNeverTwiceLive(t *testing.T) {
	f := newFixture(t, "2027-03-10T08:00:00Z")
	rec, rows := f.loan("a@x.example", "b@x.example", "c@x.example", "d@x.example")
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(3, 1832))
	day := func() string { return "2027-03-" + strconv.Itoa(18+r.IntN(10)) }
	for range 120 {
		id := rows[r.IntN(len(rows))]
		switch r.IntN(9) {
		case 0, 1, 2:
			_, err = f.EditRow(f.ctx, rec.ID, id, []CellEdit{{Column: "c3", Text: day()}}, System("Ines"))
		case 3:
			_, err = f.EditRow(f.ctx, rec.ID, id, []CellEdit{{Column: "c2", Text: []string{"", "z@x.example"}[r.IntN(2)]}},
				System("Ines"))
		case 4:
			if _, err = f.DeleteRow(f.ctx, rec.ID, id, System("Ines")); err == nil && r.IntN(5) > 0 {
				_, err = f.RestoreRow(f.ctx, rec.ID, id, System("Ines"))
			}
		case 5:
			file := Incoming{Columns: []string{"c1", "c2", "c3"}}
			for i := range 4 {
				if r.IntN(5) > 0 {
					file.Rows = append(file.Rows, []string{"LN-0000" + strconv.Itoa(i), "n@x.example", day()})
				}
			}
			r.Shuffle(len(file.Rows), func(i, j int) { file.Rows[i], file.Rows[j] = file.Rows[j], file.Rows[i] })
			_, err = f.Import(f.ctx, rec.ID, file, ImportOptions{}, System("Ines"))
		case 6:
			st := []rule.State{rule.On, rule.Paused}[r.IntN(2)]
			if _, err = f.SetRuleState(f.ctx, rec.ID, rules[0].ID, st, "Ines"); err == nil && st == rule.Paused {
				_, err = f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.On, "Ines")
			}
		case 7:
			var core *rule.Rule
			if core, err = rules[0].Core(); err == nil {
				core.Name, core.Trigger.At = "Return reminder", []string{"09:00", "10:00"}[r.IntN(2)]
				_, err = f.SaveRule(f.ctx, rec.ID, rules[0].ID, core, 0, "Ines")
			}
		case 8:
			// Another engine takes over for a moment: what a restart does.
			other := New(f.Store, f.now, Options{})
			_, err = other.Tick(f.ctx)
		}
		var refusal *Refusal
		if err != nil && !errors.Is(err, store.ErrNotFound) && !errors.As(err, &refusal) {
			t.Fatal(err)
		}
		f.advance(f.Now().Add(time.Duration(r.IntN(5*3600)) * time.Second))
	}
	f.advance(at("2027-04-15T00:00:00Z"))
	seen := map[string]bool{}
	f.mu.Lock()
	for _, m := range f.mails {
		if seen[m.MessageID] {
			t.Errorf("%s arrived twice", m.MessageID)
		}
		seen[m.MessageID] = true
	}
	n := len(f.mails)
	f.mu.Unlock()
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil {
		t.Fatal(err)
	}
	if int(counts[delivery.Accepted]) != n || n < 3 {
		t.Errorf("%d arrived, the ledger: %v", n, counts)
	}
}
