package engine

import (
	"strings"
	"testing"
	"testing/fstest"

	"nivot/internal/core/delivery"
	"nivot/internal/core/reason"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// Round-ups stand in the forecast like any email to come, with the rows they are
// about; one can be left out, and taken back until it has been judged.
func TestRoundUpsToCome(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	b, err := exchange.ReadBundle(fstest.MapFS{
		"sheet.json": {Data: []byte(
			`{"format":"nivot-bundle/1","name":"Loans","zone":"UTC","locale":"en-GB","key":"Loan","settle":"PT2M","columns":[
			{"name":"Loan","type":"text"},{"name":"Registrar","type":"email"},{"name":"Late","type":"yes/no"}]}`)},
		"rows.csv": {Data: []byte(
			"Loan,Registrar,Late\nL-1,a@x.example,yes\nL-2,a@x.example,yes\nL-3,b@x.example,yes\nL-4,c@x.example,no\n")},
		"templates.json": {Data: []byte(
			`[{"name":"R","subject":"Late loans","body":{"type":"doc","content":[{"type":"roundUpTable","attrs":{"fields":[{"column":"Loan"}]}}]}}]`)},
		"rules.json": {Data: []byte(
			`[{"name":"Late","state":"on","trigger":{"kind":"schedule","start":"2027-03-15T09:00","rrule":"FREQ=DAILY;COUNT=40"},
			"condition":{"column":"Late","op":"is","value":true},"send":[{"template":"R"}],"to":[{"column":"Registrar"}],"groupBy":"recipient"}]`)},
	})
	if err != nil {
		t.Fatal(err)
	}
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	f.settled()
	forecast := func() *Forecast {
		t.Helper()
		fc, err := f.Forecast(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		return fc
	}
	fc := forecast()
	if len(fc.Coming) != 2*28 || len(fc.Left) != 0 || fc.Partial {
		t.Fatalf("%d to come, %d left out", len(fc.Coming), len(fc.Left))
	}
	first, other := fc.Coming[0], fc.Coming[1]
	if first.Rows != 2 || first.RowID != "" || first.Subject != "Late loans" ||
		strings.Join(first.To, ",") != "a@x.example" || !first.At.Equal(at("2027-03-15T09:00:00Z")) || other.Rows != 1 {
		t.Errorf("%+v and %+v", first, other)
	}
	say := func(c Coming, what string) error {
		return f.SetRoundUpAside(f.ctx, Say{Sheet: rec.ID, Rule: c.Rule, Email: c.Occasion, What: what, Why: "on leave"},
			"Ines")
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(say(first, LeaveOut))
	must(say(other, LeaveOut))
	must(say(other, AsItComes))
	if fc = forecast(); len(fc.Coming) != 2*28-1 || len(fc.Left) != 1 || fc.Left[0].Occasion != first.Occasion {
		t.Errorf("%d to come, %d left out", len(fc.Coming), len(fc.Left))
	}
	if err := say(first, Shift); err == nil {
		t.Error("a round-up is moved")
	}
	f.advance(at("2027-03-15T09:30:00Z"))
	if got := strings.Join(f.subjects(), "; "); got != "b@x.example | Late loans" {
		t.Errorf("arrived: %s", got)
	}
	page, err := f.Store.Log(f.ctx, store.LogFilter{}, "", 10)
	ds := page.Lines
	if err != nil || len(ds) != 2 {
		t.Fatalf("%d in the ledger, %v", len(ds), err)
	}
	for _, d := range ds {
		left := d.State == delivery.Skipped && d.Reason.Code == reason.LeftOut && d.Reason.Mailbox == "Ines" &&
			d.Reason.Reason.Value == "on leave"
		if !left && d.State != delivery.Accepted || (string(d.Occasion) == string(first.Occasion[:])) != left {
			t.Errorf("%x is %s: %s", d.Occasion, d.State, d.Reason.Words())
		}
	}
	if err := say(first, AsItComes); err == nil {
		t.Error("what has been judged is taken back")
	}
	f.advance(at("2027-03-16T09:30:00Z"))
	if got := len(f.subjects()); got != 3 {
		t.Errorf("%d have arrived the next day, want 3", got)
	}
}
