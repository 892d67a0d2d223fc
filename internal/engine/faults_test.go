package engine

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/database/dbtest"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// cases installs the display cases with one rule, on, whose parts are given as
// JSON, and rows of case number, humidity, email, copy.
func (f *fixture) cases(ruleJSON string, rows ...string) (*store.Sheet, map[string]int64) {
	f.t.Helper()
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Display cases","zone":"UTC","locale":"en-GB","key":"Case","settle":"PT2M","columns":[
			{"name":"Case","type":"text"},{"name":"Humidity","type":"number"},{"name":"Email","type":"email"},{"name":"Copy","type":"email"},{"name":"Read","type":"date","order":"year-month-day"}]}`)},
		"rows.csv": {Data: []byte("Case,Humidity,Email,Copy,Read\n" + strings.Join(rows, "\n") + "\n")},
		"templates.json": {Data: []byte(
			`[{"name":"A","subject":"[Case] at [Humidity: else ?]","text":"x"},{"name":"B","subject":"[Case] again","text":"x"}]`)},
		"rules.json": {Data: []byte(`[` + ruleJSON + `]`)},
	})
	if err != nil {
		f.t.Fatal(err)
	}
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	ids := map[string]int64{}
	all, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 1000)
	if err != nil {
		f.t.Fatal(err)
	}
	for i := range all {
		ids[strings.ToUpper(string(all[i].RowKey))] = all[i].ID
	}
	return rec, ids
}

// set types into a row's cell.
func (f *fixture) set(rec *store.Sheet, row int64, column, text string) {
	f.t.Helper()
	s, err := rec.Core()
	if err != nil {
		f.t.Fatal(err)
	}
	c, _ := s.ColumnNamed(column)
	if _, err := f.EditRow(f.ctx, rec.ID, row, []CellEdit{{Column: c.ID, Text: text}}, System("test")); err != nil {
		f.t.Fatal(err)
	}
}

// turn sets the clock without anything being considered.
func (f *fixture) turn(to string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.clock = at(to)
}

// drain considers all that is due, by hand.
func (f *fixture) drain() {
	f.t.Helper()
	for {
		n, err := f.Tick(f.ctx)
		if err != nil {
			f.t.Fatal(err)
		}
		if n == 0 {
			return
		}
	}
}

const humid = `{"name":"Humid","state":"on","trigger":{"kind":"threshold","column":"Humidity","op":">","limit":55,"rearm":52},"to":[{"column":"Email"}],"send":[{"template":"A"}]}`

// consistent checks every delivery's events: each state follows the one before
// by the table, nothing is told twice, and the last is the state.
func (f *fixture) consistent() {
	f.t.Helper()
	page, err := f.Store.Log(f.ctx, store.LogFilter{}, "", 10_000)
	ds := page.Lines
	if err != nil {
		f.t.Fatal(err)
	}
	for i := range ds {
		events, err := f.Store.DeliveryEvents(f.ctx, &ds[i])
		if err != nil {
			f.t.Fatal(err)
		}
		var told []string
		seen := map[string]int{}
		for _, ev := range events {
			st := strings.TrimPrefix(ev.Kind, store.EventDelivery)
			told = append(told, st)
			seen[st]++
		}
		if len(told) == 0 || told[len(told)-1] != string(ds[i].State) && ds[i].State != delivery.Claimed {
			f.t.Errorf("delivery %d is %s and its log says %v", ds[i].ID, ds[i].State, told)
		}
		if ds[i].Attempt == 1 && (seen["accepted"] > 1 || seen["sending"] > 1+seen["deferred"]) {
			f.t.Errorf("delivery %d: its log tells what never happened: %v", ds[i].ID, told)
		}
	}
}

// A.1: a To that is refused for good, and a Cc that is put off and would be
// taken when tried alone: the email is failed, and the worker lives on.
func TestNoToLeft(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	edited := `{"name":"Edited","state":"on","trigger":{"kind":"edited","columns":["Humidity"]},"to":[{"column":"Email"}],"cc":[{"column":"Copy"}],"send":[{"template":"A"}]}`
	rec, rows := f.cases(edited, "C-1,50,a-refuse@x.example,b.defer-1@x.example,",
		"C-2,50,good@x.example,c.defer-1@x.example,", "C-3,50,\"a-refuse@x.example, d.defer-1@x.example\",,")
	f.settled()
	for _, id := range rows {
		f.set(rec, id, "Humidity", "60")
	}
	f.advance(at("2027-03-15T09:30:00Z"))
	for key, want := range map[string]delivery.State{"C-1": delivery.Failed, "C-2": delivery.Accepted,
		"C-3": delivery.Accepted} {
		d := f.delivery(rows[key])
		if d.State != want {
			t.Errorf("%s: %s (%s), want %s", key, d.State, d.LastError, want)
		}
		if key == "C-1" && (d.LastError.Code != reason.NoMailbox || !strings.HasPrefix(d.Reply, "550")) {
			t.Errorf("%s: %q, %q", key, d.LastError, d.Reply)
		}
	}
	f.consistent()
}

// A.1: a delivery that cannot be read fails, and the others go on. A fault in
// the program does not end a worker.
func TestBrokenDelivery(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(humid, "C-1,50,a@x.example,,", "C-2,50,b@x.example,,", "C-3,50,c@x.example,,")
	f.drain()
	for _, id := range rows {
		f.set(rec, id, "Humidity", "60")
	}
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	broken, letterless := f.delivery(rows["C-1"]), f.delivery(rows["C-2"])
	for _, q := range []string{"UPDATE deliveries SET recipients = '[{' WHERE id = " + fmt.Sprint(broken.ID),
		"DELETE FROM letters WHERE delivery_id = " + fmt.Sprint(letterless.ID)} {
		if err := f.Store.DB(f.ctx).Exec(q).Error; err != nil {
			t.Fatal(err)
		}
	}
	f.run()
	f.settled()
	for _, d := range []*store.Delivery{f.delivery(rows["C-1"]), f.delivery(rows["C-2"])} {
		if d.State != delivery.Failed || d.LastError.Code != reason.CannotRead ||
			strings.Contains(d.LastError.Words(), "%!") {
			t.Errorf("%s: %s", d.State, d.LastError)
		}
	}
	if d := f.delivery(rows["C-3"]); d.State != delivery.Accepted {
		t.Errorf("%s: %s", d.State, d.LastError)
	}
	f.consistent()
}

// A.1: a panic in a try makes its delivery failed, or in doubt where its mark
// was set.
func TestPanicInASender(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	d := &dispatcher{e: f.Engine, lost: make(chan struct{}), pools: map[string]*pool{}, hand: map[int64]*pool{},
		freed: make(chan struct{}, 1)}
	d.commit = &committer{e: f.Engine, results: make(chan *job, 2)}
	now := f.Now()
	desk, err := f.identity(f.ctx, f.Store, "")
	if err != nil {
		t.Fatal(err)
	}
	for want, j := range map[delivery.State]*job{
		delivery.Failed:  {Delivery: store.Delivery{ID: 1, State: delivery.Claimed, IdentityID: desk}},
		delivery.InDoubt: {Delivery: store.Delivery{ID: 2, State: delivery.Claimed, IdentityID: desk, SendingAt: &now}},
	} {
		(&line{d: d, p: d.pool("sender")}).attempt(f.ctx, panicking(j))
		if got := <-d.commit.results; got.State != want || got.LastError.Code != reason.ProgramFault || got.NextTry != nil {
			t.Errorf("%s (%s), want %s", got.State, got.LastError, want)
		}
	}
}

// panicking makes a try of the job panic: it names a recipient that it has not.
func panicking(j *job) *job {
	j.letter, j.pending = &store.Letter{}, []int{7}
	return j
}

// A.2: a row state that becomes nothing again is forgotten: a row that was armed
// again fires.
func TestArmedAgain(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(humid, "C-1,65,a@x.example,,")
	f.settled()
	for i, v := range []string{"54", "50", "70"} {
		f.set(rec, rows["C-1"], "Humidity", v)
		f.advance(at("2027-03-15T08:30:00Z").Add(time.Duration(i+1) * 10 * time.Minute))
	}
	if got := f.subjects(); len(got) != 1 || !strings.Contains(got[0], "C-1 at 70") {
		t.Errorf("arrived: %v", got)
	}
}

// A.4: one step has one instant for all its rows, so that the brake counts them
// together, however the clock runs meanwhile.
func TestOneInstantAStep(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	var lines []string
	for i := range 40 {
		lines = append(lines, fmt.Sprintf("C-%02d,50,c%d@x.example,,", i, i))
	}
	rec, rows := f.cases(humid, lines...)
	f.drain()
	var ops []Op
	for i := range 30 {
		ops = append(ops, Op{Kind: OpEdit, Row: rows[fmt.Sprintf("C-%02d", i)],
			Cells: []CellEdit{{Column: "c2", Text: "70"}}})
	}
	ticking := at("2027-03-15T08:31:00Z")
	e := New(f.Store, func() time.Time { ticking = ticking.Add(time.Millisecond); return ticking }, Options{})
	if _, err := e.Change(f.ctx, rec.ID, ops, "paste", System("Ines")); err != nil {
		t.Fatal(err)
	}
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	counts, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil || counts[delivery.Held] != 30 || counts[delivery.Queued] != 0 {
		t.Errorf("%v, want all 30 held: %v", counts, err)
	}
	if ds, err := f.Store.Between(f.ctx, store.LogFilter{}, 1); err != nil || ds[0].Reason.Code != reason.Brake {
		t.Error(ds, err)
	}
}

// A.5: what had rested while nothing ran settles first, as of its instant,
// before the row is edited, pasted into, imported anew or deleted.
func TestOverdueSettlesFirst(t *testing.T) {
	for name, edit := range map[string]func(f *fixture, rec *store.Sheet, row int64){
		"edited": func(f *fixture, rec *store.Sheet, row int64) { f.set(rec, row, "Humidity", "50") },
		"pasted": func(f *fixture, rec *store.Sheet, row int64) {
			if _, err := f.Change(f.ctx, rec.ID, []Op{{Kind: OpEdit, Row: row, Cells: []CellEdit{{Column: "c2", Text: "50"}}}},
				"paste", System("test")); err != nil {
				t.Fatal(err)
			}
		},
		"put by key": func(f *fixture, rec *store.Sheet, row int64) {
			if _, err := f.PutRow(f.ctx, rec.ID, "C-1", []CellEdit{{Column: "c2", Text: "50"}}, System("test")); err != nil {
				t.Fatal(err)
			}
		},
		"imported": func(f *fixture, rec *store.Sheet, row int64) {
			if _, err := f.Import(f.ctx, rec.ID, Incoming{Columns: []string{"c1", "c2"}, Rows: [][]string{{"C-1", "50"}}},
				ImportOptions{Keep: true}, System("test")); err != nil {
				t.Fatal(err)
			}
		},
		"deleted": func(f *fixture, rec *store.Sheet, row int64) {
			if _, err := f.DeleteRow(f.ctx, rec.ID, row, System("test")); err != nil {
				t.Fatal(err)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := stillFixture(t, "2027-03-15T08:30:00Z")
			rec, rows := f.cases(humid, "C-1,50,a@x.example,,")
			f.drain()
			f.set(rec, rows["C-1"], "Humidity", "60")
			f.turn("2027-03-15T08:45:00Z") // nothing has run
			edit(f, rec, rows["C-1"])
			d := f.delivery(rows["C-1"])
			if d.State != delivery.Queued || !d.DueAt.Equal(at("2027-03-15T08:32:00Z")) || d.Subject != "C-1 at 60" {
				t.Errorf("%s, due %s, %q", d.State, d.DueAt, d.Subject)
			}
			f.turn("2027-03-15T09:00:00Z")
			f.drain()
			if d := f.delivery(rows["C-1"]); d.State != delivery.Queued {
				t.Errorf("later %s", d.State)
			}
		})
	}
}

// chain is humid with follow-ups after an hour and a day.
var chain = strings.Replace(humid, `"send"`,
	`"then":{"steps":[{"after":"PT1H","template":"B"},{"after":"P1D","template":"B"}]},"send"`, 1)

// A.5: a follow-up that was due before a baseline, or a pause, that came late
// is judged; one that falls due during the pause is not.
func TestBaselineComesLate(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(chain, "C-1,50,a@x.example,,")
	f.settled()
	f.set(rec, rows["C-1"], "Humidity", "60")
	f.advance(at("2027-03-15T08:40:00Z"))
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	// another process, whose clock has gone on
	late := New(f.Store, func() time.Time { return at("2027-03-15T09:45:00Z") }, Options{})
	core, err := rules[0].Core()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := late.SaveRule(f.ctx, rec.ID, rules[0].ID, core, 0, "Ines"); err != nil {
		t.Fatal(err)
	}
	page, err := f.Store.Log(f.ctx, store.LogFilter{}, "", 10)
	ds := page.Lines
	if err != nil || len(ds) != 2 || ds[0].Step != 1 || ds[0].State != delivery.Queued {
		t.Errorf("%d emails, %v", len(ds), err)
	}
	f.advance(at("2027-03-15T10:00:00Z"))
	if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.Paused, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-17T10:00:00Z"))
	if _, err := f.SetRuleState(f.ctx, rec.ID, rules[0].ID, rule.On, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-18T10:00:00Z"))
	if got := f.subjects(); len(got) != 2 {
		t.Errorf("arrived: %v", got)
	}
}

// Section 5: once a person has said that an email in doubt went, a follow-up that
// waited for it goes, and one that is not due yet goes when it is.
func TestDoubtKeepsItsFollowUps(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(chain, "C-1,50,a@x.example,,")
	f.settled()
	f.set(rec, rows["C-1"], "Humidity", "60")
	f.advance(at("2027-03-15T08:40:00Z"))
	d := f.delivery(rows["C-1"])
	f.unchecked = true
	if err := f.Store.DB(f.ctx).Exec("UPDATE deliveries SET state = 'in-doubt' WHERE id = ?", d.ID).Error; err != nil {
		t.Fatal(err)
	}
	went := func(to string, want int) {
		t.Helper()
		if f.advance(at(to)); len(f.subjects()) != want {
			t.Fatalf("by %s %d went, want %d", to, len(f.subjects()), want)
		}
	}
	went("2027-03-15T10:00:00Z", 1) // the first follow-up waits
	if _, err := f.Decide(f.ctx, d.ID, ItWent, "Ines"); err != nil {
		t.Fatal(err)
	}
	went("2027-03-15T10:00:10Z", 2)
	went("2027-03-16T08:00:00Z", 2)
	went("2027-03-16T08:40:00Z", 3)
}

// A.7: a claim that is committed and whose answer is lost is found again by the
// worker's id; nothing stays behind, nothing goes twice.
func TestClaimAnswerLost(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	var lines []string
	for i := range 60 {
		lines = append(lines, fmt.Sprintf("C-%02d,50,c%d@x.example,,", i, i))
	}
	rec, rows := f.cases(strings.Replace(humid, `"send"`, `"brake":{"count":1000,"share":1},"send"`, 1), lines...)
	f.drain()
	for _, id := range rows {
		f.set(rec, id, "Humidity", "70")
	}
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	p := dbtest.NewProxy(t, f.dsn)
	s, err := store.Open(p.DSN)
	if err != nil {
		t.Fatal(err)
	}
	direct := f.Engine
	f.Engine = New(s, direct.now, Options{Poll: 20 * time.Millisecond, Lease: 5 * time.Second})
	t.Cleanup(func() { s.Close() })
	p.LoseCommits(4) // claims, marks and outcomes alike
	f.run()
	deadline := time.Now().Add(2 * time.Minute)
	for {
		counts, err := direct.Store.CountStates(f.ctx, store.LogFilter{})
		if err != nil {
			t.Fatal(err)
		}
		if counts[delivery.Accepted]+counts[delivery.InDoubt]+counts[delivery.Deferred] == 60 {
			if counts[delivery.InDoubt] > 0 {
				t.Errorf("%v: an answer that was lost is no doubt about an email", counts)
			}
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%v after two minutes", counts)
		}
		time.Sleep(20 * time.Millisecond)
	}
	f.turn("2027-03-15T08:50:00Z") // what was put off for want of the database
	f.settled()
	if got := f.subjects(); len(got) != 60 || p.Lost.Load() != 4 {
		t.Errorf("%d arrived; %d answers lost", len(got), p.Lost.Load())
	}
	f.Engine = direct
	f.consistent()
}

// A.7: a worker whose hands are empty while something is due is of no use, and
// gives up after a lease.
func TestIdleWorkerGivesUp(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	d := &dispatcher{e: f.Engine, hand: map[int64]*pool{}, since: time.Now().Add(-time.Minute)}
	if !d.idleFor(f.opts.Lease) {
		t.Error("one with empty hands is of some use")
	}
	busy := &dispatcher{e: f.Engine, hand: map[int64]*pool{1: {}}, since: time.Now().Add(-time.Minute)}
	if busy.idleFor(f.opts.Lease) {
		t.Error("a busy one is of no use")
	}
}

// A.8: an outcome that is written a second time, because its first answer was
// lost, writes nothing; nor does one of a worker that has lost the delivery.
func TestOutcomeOnce(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(humid, "C-1,50,a@x.example,,", "C-2,50,b@x.example,,")
	f.drain()
	for _, id := range rows {
		f.set(rec, id, "Humidity", "70")
	}
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	worker, err := f.Store.RegisterWorker(f.ctx, "test", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	one, two := f.delivery(rows["C-1"]), f.delivery(rows["C-2"])
	if err := f.Store.Claim(f.ctx, worker, []store.Delivery{*one, *two}); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.Claim(f.ctx, worker+1, []store.Delivery{*one}); err == nil {
		t.Error("it was claimed twice")
	}
	commit := func(r store.Round) store.Written { return f.commitRound(worker, r) }
	if w := commit(store.Round{Marks: []store.Marking{{ID: one.ID}, {ID: two.ID}, {ID: 999}}}); len(w.Marked) != 2 {
		t.Errorf("marked %v", w.Marked)
	}
	later := f.Now().Add(time.Minute)
	put := *two
	put.State, put.Tries, put.NextTry, put.LastError = delivery.Deferred, 1, &later,
		store.Why{Reason: reason.Reason{Code: reason.PutOff}}
	took := *one
	took.State, took.Tries, took.Reply = delivery.Accepted, 1, "250 ok"
	r := store.Round{Outcomes: []store.Outcome{{Delivery: &took, Plain: true}, {Delivery: &put, Detail: `{"try":1}`}}}
	if w := commit(r); w.Unmet != 0 {
		t.Errorf("%d unmet", w.Unmet)
	}
	if w := commit(r); w.Unmet != 2 {
		t.Errorf("a second time %d unmet, want 2", w.Unmet)
	}
	// Deferred, claimed and marked again by the same worker: the old outcome
	// does not meet the new try.
	if err := f.Store.Claim(f.ctx, worker, []store.Delivery{*f.delivery(rows["C-2"])}); err != nil {
		t.Fatal(err)
	}
	if w := commit(r); w.Unmet != 2 {
		t.Errorf("a third time %d unmet, want 2", w.Unmet)
	}
	f.consistent()
	var kinds []string
	events, _ := f.Store.DeliveryEvents(f.ctx, f.delivery(rows["C-1"]))
	for _, ev := range events {
		kinds = append(kinds, strings.TrimPrefix(ev.Kind, store.EventDelivery))
	}
	if strings.Join(kinds, " ") != "queued accepted" || !json.Valid([]byte(events[1].Detail)) ||
		!strings.Contains(events[1].Detail, `"reply":"250 ok"`) || !strings.Contains(events[1].Detail, `"sending":"20`) {
		t.Errorf("%v %s", kinds, events[1].Detail)
	}
}

// commitRound writes what a worker's connections have at this moment.
func (f *fixture) commitRound(worker int64, r store.Round) store.Written {
	f.t.Helper()
	r.Worker, r.Now = worker, f.Now()
	w, err := f.Store.Commit(f.ctx, r)
	if err != nil {
		f.t.Fatal(err)
	}
	return w
}

// What is sent without having been claimed is claimed by its mark: of two workers that have read it one
// marks it, and a person who has stopped it meanwhile is in time.
func TestMarkClaims(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(humid, "C-1,50,a@x.example,,", "C-2,50,b@x.example,,", "C-3,50,c@x.example,,",
		"C-4,50,d@x.example,,")
	f.drain()
	for _, id := range rows {
		f.set(rec, id, "Humidity", "70")
	}
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	var workers [2]int64
	for i := range workers {
		var err error
		if workers[i], err = f.Store.RegisterWorker(f.ctx, "test", time.Minute); err != nil {
			t.Fatal(err)
		}
	}
	commit := f.commitRound
	read := func(d *store.Delivery) *store.Unclaimed {
		return &store.Unclaimed{Attempt: d.Attempt, Tries: d.Tries, NextTry: *d.NextTry, Dated: f.Now(), Identity: 7}
	}
	one, stopped, retried, failed := f.delivery(rows["C-1"]), f.delivery(rows["C-2"]), f.delivery(rows["C-3"]),
		f.delivery(rows["C-4"])
	mark := func(d *store.Delivery) store.Round {
		return store.Round{Marks: []store.Marking{{ID: d.ID, Unclaimed: read(d)}}}
	}
	if w := commit(workers[0], mark(one)); !w.Marked[one.ID] {
		t.Error("the first is not marked")
	}
	if w := commit(workers[1], mark(one)); len(w.Marked) > 0 {
		t.Error("it is marked twice")
	}
	if d := f.delivery(rows["C-1"]); d.State != delivery.Sending || d.Worker != workers[0] || d.IdentityID != 7 ||
		d.DatedAt == nil || d.NextTry != nil || d.FirstTry == nil {
		t.Errorf("marked it is %+v", d)
	}
	took := *one
	took.State, took.Tries, took.Reply = delivery.Accepted, 1, "250 ok"
	r := store.Round{Outcomes: []store.Outcome{{Delivery: &took, Unclaimed: read(one), Plain: true}}}
	if w := commit(workers[1], r); w.Unmet != 1 {
		t.Error("the outcome of the worker that has not marked it is written")
	}
	if w := commit(workers[0], r); w.Unmet != 0 {
		t.Error("the outcome is not written")
	}

	// Stopped after it was read.
	was := mark(stopped)
	if err := stopped.Become(delivery.Dropped, delivery.Deciding); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.SaveDelivery(f.ctx, stopped); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.AddEvents(f.ctx, store.DeliveryEvent(stopped, f.Now(), "test", nil)); err != nil {
		t.Fatal(err)
	}
	if w := commit(workers[0], was); len(w.Marked) > 0 {
		t.Error("what was stopped is marked")
	}

	// Put off by another: neither the mark nor an outcome of who has read it before has an effect.
	later := f.Now().Add(time.Minute)
	put := *retried
	put.State, put.Tries, put.NextTry, put.LastError = delivery.Deferred, 1, &later,
		store.Why{Reason: reason.Reason{Code: reason.PutOff}}
	r = store.Round{Outcomes: []store.Outcome{{Delivery: &put, Unclaimed: read(retried), Detail: `{"try":1}`}}}
	if w := commit(workers[1], r); w.Unmet != 0 {
		t.Error("what was put off before its mark is not written")
	}
	if w := commit(workers[0], r); w.Unmet != 1 {
		t.Error("it is put off twice")
	}
	if w := commit(workers[0], mark(retried)); len(w.Marked) > 0 {
		t.Error("what another has put off is marked")
	}

	// Queued again by a person at the same instant of a clock that stands: another attempt.
	gone := *failed
	gone.State, gone.Tries, gone.LastError = delivery.Failed, 1, store.Why{Reason: reason.Reason{Code: reason.Refused}}
	now := f.Now()
	gone.FinishedAt, gone.NextTry = &now, nil
	if w := commit(workers[0], store.Round{Outcomes: []store.Outcome{{Delivery: &gone, Unclaimed: read(failed),
		Detail: "{}"}}}); w.Unmet != 0 {
		t.Error("what failed before its mark is not written")
	}
	if _, err := f.Decide(f.ctx, failed.ID, SendAgain, "test"); err != nil {
		t.Fatal(err)
	}
	if w := commit(workers[1], mark(failed)); len(w.Marked) > 0 {
		t.Error("the attempt before is marked")
	}
	if d := f.delivery(rows["C-4"]); d.State != delivery.Queued || d.Attempt != 2 {
		t.Errorf("it is %s, attempt %d", d.State, d.Attempt)
	}
	f.consistent()
}

// A forbidden change of state is refused, in memory and over what somebody else
// has written.
func TestForbiddenState(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	rec, rows := f.cases(humid, "C-1,50,a@x.example,,")
	f.drain()
	f.set(rec, rows["C-1"], "Humidity", "70")
	f.turn("2027-03-15T08:40:00Z")
	f.drain()
	d, stale := f.delivery(rows["C-1"]), f.delivery(rows["C-1"])
	if err := d.Become(delivery.Accepted, delivery.Deciding); err == nil {
		t.Error("queued became accepted")
	}
	if err := d.Become(delivery.Held, delivery.Limiting); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.SaveDelivery(f.ctx, d); err != nil {
		t.Fatal(err)
	}
	if err := stale.Become(delivery.Missed, delivery.Limiting); err != nil {
		t.Fatal(err)
	}
	if err := f.Store.SaveDelivery(f.ctx, stale); err == nil {
		t.Error("a state was written over another that it was not read with")
	}
	// A sheet that is taken away takes along what waits, with a line in its log.
	if err := f.DeleteSheet(f.ctx, rec.ID, "Ines"); err != nil {
		t.Fatal(err)
	}
	if d := f.delivery(rows["C-1"]); d.State != delivery.Skipped || d.Reason.Code != reason.SheetGone {
		t.Errorf("%s: %s", d.State, d.Reason)
	}
}

// A.3: a file with the same key twice, brought in again, adds nothing, and its
// people get nothing a second time.
func TestDoubledKeyAgain(t *testing.T) {
	added := `{"name":"New","state":"on","trigger":{"kind":"added"},"to":[{"column":"Email"}],"send":[{"template":"A"}]}`
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, _ := f.cases(added, "C-0,50,z@x.example,,")
	f.settled()
	in := Incoming{Columns: []string{"c1", "c2", "c3"}, Rows: [][]string{{"C-1", "50", "a@x.example"},
		{"c-1", "60", "b@x.example"}, {"C-2", "1", "c@x.example"}}}
	for i := range 3 {
		res, err := f.Import(f.ctx, rec.ID, in, ImportOptions{Keep: true}, System("Ines"))
		if err != nil {
			t.Fatal(err)
		}
		if want := []int{3, 0, 0}[i]; res.New != want || res.Doubled != 1 || i > 0 && res.Changed != 0 {
			t.Errorf("time %d: %+v", i+1, res)
		}
		f.advance(f.Now().Add(10 * time.Minute))
	}
	if got := f.subjects(); len(got) != 3 {
		t.Errorf("arrived: %v", got)
	}
	// The second of the file changes the second of the sheet.
	in.Rows[1][1] = "61"
	if res, err := f.Import(f.ctx, rec.ID, in, ImportOptions{Dry: true}, System("Ines")); err != nil ||
		res.Changed != 1 || res.New != 0 || res.Gone != 1 {
		t.Errorf("%+v %v", res, err)
	}
	sheet, err := f.Store.Sheet(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := f.Doubled(f.ctx, sheet); n != 1 || err != nil {
		t.Errorf("%d doubled, %v", n, err)
	}
}

// A.12: a bundle's calendar comes in as its sheet's own, and only its sheet
// counts by it.
func TestCalendarsByName(t *testing.T) {
	f := stillFixture(t, "2027-03-15T08:30:00Z")
	files := fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Loans","zone":"UTC","locale":"en-GB","key":"Loan","columns":[{"name":"Loan","type":"text"},{"name":"Due","type":"date","order":"year-month-day"},{"name":"Email","type":"email"}]}`)},
		"rows.csv":       {Data: []byte("Loan,Due,Email\nL-1,2027-03-22,a@x.example\n")},
		"templates.json": {Data: []byte(`[{"name":"A","subject":"[Loan]","text":"x"}]`)},
		"rules.json": {Data: []byte(
			`[{"name":"R","state":"on","trigger":{"kind":"date","column":"Due","at":"09:00","offsets":[{"n":-2,"unit":"working-days"}]},"to":[{"column":"Email"}],"send":[{"template":"A"}]}]`)},
	}
	due := func(own string) (*store.Sheet, string) {
		t.Helper()
		if own != "" {
			files["calendar.json"] = &fstest.MapFile{Data: []byte(own)}
		}
		b, err := exchange.ReadBundle(files)
		if err != nil {
			t.Fatal(err)
		}
		rec, err := f.Install(f.ctx, b, true, "test")
		if err != nil {
			t.Fatal(err)
		}
		f.drain()
		return rec, f.dueOf(rec)
	}
	plain, at := due("")
	if at != "2027-03-18" || plain.CalendarID != "" {
		t.Errorf("by the default: %s, %q", at, plain.CalendarID)
	}
	first, at := due(`{"weekdays":["mon","tue","wed","thu"],"closed":["2027-03-18"]}`)
	if at != "2027-03-16" || first.CalendarID == "" {
		t.Errorf("by its own: %s, %q", at, first.CalendarID)
	}
	second, _ := due("") // the same days again
	if second.CalendarID != first.CalendarID {
		t.Errorf("the same days twice: %q and %q", first.CalendarID, second.CalendarID)
	}
	if _, err := f.SetCalendar(f.ctx, []string{"mon", "fri"}, nil, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.drain()
	if a, b := f.dueOf(plain), f.dueOf(first); a != "2027-03-15" || b != "2027-03-16" {
		t.Errorf("after the default has changed: %s and %s", a, b)
	}
	def := store.DefaultCalendar
	if _, err := f.ChangeSheet(f.ctx, first.ID, SheetChange{Calendar: &def}, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.drain()
	if at := f.dueOf(first); at != "2027-03-15" {
		t.Errorf("given the default: %s", at)
	}
	if err := f.DeleteCalendar(f.ctx, second.CalendarID, "Ines"); err == nil {
		t.Error("a working calendar that a sheet has was taken away")
	}
	if err := f.DeleteCalendar(f.ctx, def, "Ines"); err == nil {
		t.Error("the default was taken away")
	}
	none := "nothing"
	if _, err := f.ChangeSheet(f.ctx, first.ID, SheetChange{Calendar: &none}, "Ines"); err == nil {
		t.Error("a working calendar that is not there was taken")
	}
}

// dueOf gives the day on which a sheet's rules look at a row next.
func (f *fixture) dueOf(rec *store.Sheet) string {
	f.t.Helper()
	var at []time.Time
	if err := f.Store.DB(f.ctx).Raw("SELECT due_at FROM agenda WHERE sheet_id = ? AND kind = 'due'",
		rec.ID).Scan(&at).Error; err != nil {
		f.t.Fatal(err)
	}
	if len(at) == 0 {
		return "never"
	}
	return at[0].Format("2006-01-02")
}
