package engine

import (
	"fmt"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

const skipSame = `,"sameWords":"skip"`

// sharing installs a sheet whose rows go to a few people in the same words, at nine on 16 March.
func (f *fixture) sharing(rows string, more string) (*store.Sheet, []int64) {
	f.t.Helper()
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(`{"format":"nivot-bundle/1","name":"Loans","zone":"UTC","locale":"en-GB","key":"Loan",
			"columns":[{"name":"Loan","type":"text"},{"name":"Email","type":"email"},
			{"name":"Due","type":"date","order":"year-month-day"},{"name":"Name","type":"text"}]}`)},
		"rows.csv":       {Data: []byte("Loan,Email,Due,Name\n" + rows)},
		"templates.json": {Data: []byte(`[{"name":"S","subject":"Closed in May","text":"The store is closed in May."}]`)},
		"rules.json": {Data: []byte(`[{"name":"Closed","state":"on","trigger":{"kind":"date","column":"Due",
			"offsets":[{"n":0,"unit":"days"}],"at":"09:00"},"send":[{"template":"S"}],"to":[{"column":"Email"}],
			"late":"PT24H"` + more + `}]`)},
	})
	if err != nil {
		f.t.Fatal(err)
	}
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	f.settled()
	found, err := f.Store.RowsAfter(f.ctx, rec.ID, 0, 10_000)
	if err != nil {
		f.t.Fatal(err)
	}
	ids := make([]int64, len(found))
	for i := range found {
		ids[i] = found[i].ID
	}
	return rec, ids
}

// byHand adds a rule to a sheet that is sent by hand, on, in the words of its first one.
func (f *fixture) byHand(rec *store.Sheet, change func(*rule.Rule)) (*store.Rule, *rule.Rule) {
	f.t.Helper()
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		f.t.Fatal(err)
	}
	core, err := rules[0].Core()
	if err != nil {
		f.t.Fatal(err)
	}
	r := &rule.Rule{Name: "By hand", Trigger: rule.Trigger{Kind: rule.ByHand}, Send: core.Send, To: core.To}
	if change != nil {
		change(r)
	}
	saved, err := f.SaveRule(f.ctx, rec.ID, "", r, 0, "Ines")
	if err != nil {
		f.t.Fatal(err)
	}
	if _, err := f.SetRuleState(f.ctx, rec.ID, saved.ID, rule.On, "Ines"); err != nil {
		f.t.Fatal(err)
	}
	return saved, r
}

// ofRow returns what has become of a row's only email.
func (f *fixture) ofRow(row int64) store.Delivery {
	f.t.Helper()
	var ds []store.Delivery
	if err := f.Store.DB(f.ctx).Order("id").Find(&ds, "row_id = ?", row).Error; err != nil || len(ds) != 1 {
		f.t.Fatalf("row %d has %d emails: %v", row, len(ds), err)
	}
	return ds[0]
}

// Section 3, same words: of one instant the first in the order of the sheet goes, however the rows are shared out
// among those who judge; the others say which email said the same.
func TestSameWordsGoOnce(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	f.apartFrom = 2
	var rows string
	const n = 300
	for i := range n {
		rows += fmt.Sprintf("L-%d,p%d@x.example,2027-03-16,\n", i, i%100)
	}
	_, ids := f.sharing(rows, skipSame)
	f.advance(at("2027-03-16T10:00:00Z"))
	if got := len(f.subjects()); got != 100 {
		t.Errorf("%d emails went to 100 people", got)
	}
	for i, id := range ids {
		d := f.ofRow(id)
		if want := map[bool]delivery.State{true: delivery.Accepted, false: delivery.Skipped}[i < 100]; d.State != want {
			t.Fatalf("row %d: %s, want %s", i, d.State, want)
		}
		if i >= 100 {
			why := d.Reason.Reason
			first := f.ofRow(ids[i%100])
			if why.Code != reason.SameWords || why.Value != rule.ID(first.Occasion).String() ||
				why.Rows[0] != fmt.Sprintf("L-%d", i%100) || why.Name != "Closed" {
				t.Fatalf("row %d: %+v", i, why)
			}
		}
	}
}

// What is held counts; what a person leaves out does not. What is let go is compared when it goes.
func TestSameWordsOfWhatIsHeld(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	_, ids := f.sharing("L-1,a@x.example,2027-03-16,\nL-2,A@X.example,2027-03-16,\nL-3,b@x.example,2027-03-16,\n",
		skipSame+`,"hold":"always"`)
	f.advance(at("2027-03-16T09:00:00Z"))
	for i, want := range []delivery.State{delivery.Held, delivery.Skipped, delivery.Held} {
		if d := f.ofRow(ids[i]); d.State != want {
			t.Fatalf("L-%d is %s, want %s", i+1, d.State, want)
		}
	}
	if _, err := f.Decide(f.ctx, f.ofRow(ids[0]).ID, Drop, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Decide(f.ctx, f.ofRow(ids[2]).ID, Approve, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.advance(at("2027-03-16T09:05:00Z"))
	if got := f.subjects(); len(got) != 1 {
		t.Errorf("%v went", got)
	}
}

// The first that asks is compared with what went before anybody asked, within twelve hours.
func TestSameWordsOfWhatWentBefore(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, ids := f.sharing("L-1,a@x.example,2027-03-16,\nL-2,b@x.example,2027-03-16,\n", "")
	f.advance(at("2027-03-16T20:59:00Z"))
	saved, _ := f.byHand(rec, nil)
	for _, c := range []struct {
		row  int64
		at   string
		want delivery.State
	}{{ids[0], "2027-03-16T21:00:00Z", delivery.Skipped}, {ids[1], "2027-03-16T21:00:01Z", delivery.Accepted}} {
		f.advance(at(c.at))
		if _, _, err := f.SendByHand(f.ctx, rec.ID, saved.ID, c.at, []int64{c.row}, "Ines", rule.SkipSame); err != nil {
			t.Fatal(err)
		}
		f.advance(f.Now())
		var d store.Delivery
		if err := f.Store.DB(f.ctx).First(&d, "rule_id = ? AND row_id = ?", saved.ID, c.row).Error; err != nil ||
			d.State != c.want {
			t.Errorf("at %s: %s %v, want %s", c.at, d.State, err, c.want)
		}
	}
}

// A sending by hand in the words of a rule's email of this morning is skipped, and goes where it does not ask.
func TestSameWordsByHand(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, ids := f.sharing("L-1,a@x.example,2027-03-16,\nL-2,b@x.example,,\n", skipSame)
	f.advance(at("2027-03-16T09:00:00Z"))
	saved, _ := f.byHand(rec, nil)
	for _, c := range []struct {
		name string
		same rule.SameWords
		want delivery.State
	}{{"skips", rule.SkipSame, delivery.Skipped}, {"sends", rule.SendSame, delivery.Accepted},
		{"skips again", rule.SkipSame, delivery.Skipped}, {"as the rule has it", "", delivery.Accepted}} {
		if _, _, err := f.SendByHand(f.ctx, rec.ID, saved.ID, c.name, ids[:1], "Ines", c.same); err != nil {
			t.Fatal(err)
		}
		f.advance(f.Now().Add(time.Second))
		var d store.Delivery
		if err := f.Store.DB(f.ctx).Order("id DESC").First(&d, "rule_id = ?", saved.ID).Error; err != nil ||
			d.State != c.want {
			t.Errorf("%s: %s %v, want %s", c.name, d.State, err, c.want)
		}
	}
}

// Two rows that are settled at once, by two servers, in the same words: one of the emails goes.
func TestSameWordsByTwoAtOnce(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	var rows string
	for i := range 40 {
		rows += fmt.Sprintf("L-%d,p%d@x.example,2027-03-16,\n", i, i%2)
	}
	f.peer = startPeer(f, f.dsn, f.Now())
	_, ids := f.sharing(rows, skipSame+`,"then":{"steps":[{"after":"PT1H","template":"S"}]}`)
	f.advance(at("2027-03-16T12:00:00Z"))
	states := map[delivery.State]int{}
	for i, id := range ids {
		var ds []store.Delivery
		if err := f.Store.DB(f.ctx).Order("id").Find(&ds, "row_id = ?", id).Error; err != nil {
			t.Fatal(err)
		}
		if want := map[bool]int{true: 2, false: 1}[i < 2]; len(ds) != want {
			t.Errorf("row %d has %d lines, want %d", i, len(ds), want) // what is skipped has no follow-up
		}
		for _, d := range ds {
			states[d.State]++
		}
	}
	if states[delivery.Accepted] != 4 || states[delivery.Skipped] != 38 {
		t.Errorf("%v", states)
	}
}

// What is skipped does not count for repeat, also where all of it is judged at once, after an outage.
func TestSameWordsAfterAnOutage(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	_, ids := f.sharing("L-1,a@x.example,2027-03-16,\nL-2,a@x.example,2027-03-16,\n",
		skipSame+`,"repeat":"once-per-row"`)
	rules, err := f.Store.Rules(f.ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	core, err := rules[0].Core()
	if err != nil {
		t.Fatal(err)
	}
	core.Late, core.Trigger.Offsets = "P9D", append(core.Trigger.Offsets, rule.Offset{N: 1, Unit: rule.Days})
	if _, err := f.SaveRule(f.ctx, rules[0].SheetID, rules[0].ID, core, 0, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	f.mu.Lock()
	f.clock = at("2027-03-18T10:00:00Z") // past all of it
	f.mu.Unlock()
	f.Wake()
	f.settled()
	for i, want := range [][]delivery.State{{delivery.Accepted, delivery.Skipped}, {delivery.Skipped, delivery.Accepted}} {
		var ds []store.Delivery
		if err := f.Store.DB(f.ctx).Order("due_at").Find(&ds, "row_id = ?", ids[i]).Error; err != nil || len(ds) != 2 ||
			ds[0].State != want[0] || ds[1].State != want[1] {
			t.Errorf("L-%d: %v %v, want %v", i+1, ds, err, want)
		}
	}
}
