package engine

import (
	"fmt"
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// What is held is looked through in part: the picked go, each once, written as
// its row is now; others are left out with who and why; the rest waits on.
func TestLookThrough(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	const n = 230 // more than one transaction takes
	rec, r, rows := f.reacting(n, func(r *rule.Rule) { r.Hold = rule.HoldAlways })
	f.alone(rec, r)
	f.edit(rec, rows, "2031-01-01")
	f.advance(at("2027-03-15T08:40:00Z"))
	if got := f.held(r.ID); got != n {
		t.Fatalf("%d are held, want %d", got, n)
	}
	ids := make([]int64, n)
	for i, row := range rows {
		ids[i] = f.delivery(row).ID
	}
	if _, err := f.DeleteRow(f.ctx, rec.ID, rows[0], System("test")); err != nil {
		t.Fatal(err)
	}
	f.settled()
	out, err := f.LookThrough(f.ctx, rec.ID, r.ID, ids[:210], ids[210:220], "agreed by phone", "Ines")
	if err != nil {
		t.Fatal(err)
	}
	if want := (LookedThrough{Sent: 209, LeftOut: 10, Other: 1}); out != want {
		t.Errorf("looked through: %+v, want %+v", out, want)
	}
	// Asked again, say because the answer was lost, nothing is decided twice.
	if out, err = f.LookThrough(f.ctx, rec.ID, r.ID, ids[:210], ids[210:220], "agreed by phone", "Ines"); err != nil ||
		out.Sent+out.LeftOut != 0 {
		t.Errorf("again: %+v, %v", out, err)
	}
	f.advance(at("2027-03-15T08:50:00Z"))
	if got := len(f.subjects()); got != 209 {
		t.Errorf("%d went, want 209", got)
	}
	d := f.delivery(rows[215])
	if d.State != delivery.Dropped || d.Reason.Code != reason.LeftOut ||
		d.Reason.Words() != "left out by Ines: agreed by phone" {
		t.Errorf("left out: %s, %q", d.State, d.Reason.Words())
	}
	if got := f.held(r.ID); got != 10 {
		t.Errorf("%d wait on, want 10", got)
	}
	// Another rule's email is none of this one's.
	other, err := f.SaveRule(f.ctx, rec.ID, "", &rule.Rule{Name: "Other", Trigger: rule.Trigger{Kind: rule.ByHand},
		Send: []rule.Wording{{Template: d.TemplateID}},
		To:   []rule.Address{{Column: "c2"}}}, 0, "test")
	if err != nil {
		t.Fatal(err)
	}
	if out, err = f.LookThrough(f.ctx, rec.ID, other.ID, ids[225:226], nil, "", "Ines"); err != nil ||
		out != (LookedThrough{Other: 1}) {
		t.Errorf("of another rule: %+v, %v", out, err)
	}
}

// Who would get several held emails with one subject is known beforehand, also where the address is written in
// another way; what has been left out, or is incomplete, does not count.
func TestDoubles(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, ids := f.sharing("L-1,a@x.example,2027-03-16,\nL-2,Ada <A@X.example>,2027-03-16,\nL-3,b@x.example,2027-03-16,\n"+
		"L-4,b@x.example; a@x.example,2027-03-16,\nL-5,c@x.example,2027-03-16,\n", `,"hold":"always"`)
	f.advance(at("2027-03-16T09:00:00Z"))
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	doubles := func() (out []string) {
		held, _, err := f.Held(f.ctx, rec.ID, rules[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range Doubles(held) {
			out = append(out, fmt.Sprint(d.Address, " ", d.Subject, " ", len(d.Emails)))
		}
		return out
	}
	if got, want := fmt.Sprint(doubles()), "[a@x.example Closed in May 3 b@x.example Closed in May 2]"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if _, err := f.LookThrough(f.ctx, rec.ID, rules[0].ID, nil, []int64{f.ofRow(ids[3]).ID}, "", "Ines"); err != nil {
		t.Fatal(err)
	}
	if got, want := fmt.Sprint(doubles()), "[a@x.example Closed in May 2]"; got != want {
		t.Errorf("one left out: got %s, want %s", got, want)
	}
}

// What is incomplete says until when it goes by itself, and does not go once somebody has said that it is not to.
func TestIncompleteLeftOut(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec, ids := f.sharing("L-1,,2027-03-16,\nL-2,,2027-03-16,\nL-3,,2027-03-16,\n", "")
	f.advance(at("2027-03-16T09:00:00Z"))
	first, second := f.ofRow(ids[0]), f.ofRow(ids[1])
	until, err := f.MendableUntil(f.ctx, []store.Delivery{first, second})
	if want := at("2027-03-17T09:00:00Z"); err != nil || !until[first.ID].Equal(want) || !until[second.ID].Equal(want) {
		t.Errorf("until %v, want %v: %v", until, want, err)
	}
	if _, err := f.Decide(f.ctx, first.ID, Drop, "Ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.LookThrough(f.ctx, rec.ID, second.RuleID, nil, []int64{second.ID}, "", "Ines"); err != nil {
		t.Fatal(err)
	}
	core, err := rec.Core()
	if err != nil {
		t.Fatal(err)
	}
	email, _ := core.ColumnNamed("Email")
	for i, id := range ids {
		if _, err := f.EditRow(f.ctx, rec.ID, id, []CellEdit{{Column: email.ID, Text: fmt.Sprintf("p%d@x.example", i)}},
			System("Ines")); err != nil {
			t.Fatal(err)
		}
	}
	f.advance(at("2027-03-16T10:00:00Z"))
	for i, want := range []delivery.State{delivery.Dropped, delivery.Dropped, delivery.Accepted} {
		if d := f.ofRow(ids[i]); d.State != want {
			t.Errorf("L-%d is %s, want %s", i+1, d.State, want)
		}
	}
}
