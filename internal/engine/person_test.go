package engine

import (
	"testing"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// Section 3, limit per person: over all rules not more than so many emails to
// one mailbox within a time; what is more waits, or is skipped.
func TestLimitPerPerson(t *testing.T) {
	begin := func(t *testing.T) (*fixture, *store.Sheet, *store.Rule, []int64) {
		f := newFixture(t, "2027-03-15T08:30:00Z")
		rec, r, rows := f.reacting(6, func(r *rule.Rule) { r.To = []rule.Address{{Address: "Curator@marrowby.example"}} })
		f.alone(rec, r)
		return f, rec, r, rows
	}
	went := func(f *fixture, to string, want int) {
		t.Helper()
		if f.advance(at(to)); len(f.subjects()) != want {
			t.Fatalf("by %s %d went, want %d", to, len(f.subjects()), want)
		}
	}
	limit := func(f *fixture, l delivery.PersonLimit) {
		t.Helper()
		if err := f.SetPersonLimit(f.ctx, l, "Ines"); err != nil {
			t.Fatal(err)
		}
	}
	t.Run("waits", func(t *testing.T) {
		f, rec, r, rows := begin(t)
		f.edit(rec, rows[:1], "2031-01-01")
		went(f, "2027-03-15T08:40:00Z", 1) // before there is a limit
		limit(f, delivery.PersonLimit{N: 2, Within: "P1D"})
		f.edit(rec, rows[1:], "2031-01-01")
		went(f, "2027-03-15T08:50:00Z", 2)
		if n := f.held(r.ID); n != 4 {
			t.Errorf("%d wait, want 4", n)
		}
		d := f.delivery(rows[5])
		if d.Reason.Code != reason.PersonLimit || d.Reason.Mailbox != "curator@marrowby.example" &&
			d.Reason.Mailbox != "Curator@marrowby.example" {
			t.Errorf("the ledger says %q", d.Reason.Words())
		}
		went(f, "2027-03-16T08:30:00Z", 2)
		went(f, "2027-03-16T09:00:00Z", 4)
		went(f, "2027-03-17T09:00:00Z", 6)
		went(f, "2027-03-25T09:00:00Z", 6)
	})
	t.Run("skipped", func(t *testing.T) {
		f, rec, _, rows := begin(t)
		limit(f, delivery.PersonLimit{N: 2, Within: "P1D", Skip: true})
		f.edit(rec, rows[:5], "2031-01-01")
		went(f, "2027-03-18T08:50:00Z", 2)
		if d := f.delivery(rows[4]); d.State != delivery.Skipped || d.Reason.Words() != "limit per person: "+
			d.Reason.Mailbox+" has had 2 within a day" {
			t.Errorf("%s: %q", d.State, d.Reason.Words())
		}
		f.edit(rec, rows[5:], "2031-01-01")
		went(f, "2027-03-18T09:00:00Z", 3)
	})
	t.Run("lifted", func(t *testing.T) {
		f, rec, _, rows := begin(t)
		limit(f, delivery.PersonLimit{N: 1, Within: "P3D"})
		f.edit(rec, rows, "2031-01-01")
		went(f, "2027-03-15T09:00:00Z", 1)
		limit(f, delivery.PersonLimit{})
		went(f, "2027-03-15T09:10:00Z", 6)
	})
	t.Run("too long", func(t *testing.T) {
		f, rec, _, rows := begin(t)
		limit(f, delivery.PersonLimit{N: 1, Within: "P30D"})
		f.edit(rec, rows[:2], "2031-01-01")
		went(f, "2027-03-15T09:00:00Z", 1)
		if a, b := f.delivery(rows[0]), f.delivery(rows[1]); (a.State == delivery.Missed) == (b.State == delivery.Missed) {
			t.Errorf("%s and %s; one is missed, since there is no room within seven days", a.State, b.State)
		}
	})
}
