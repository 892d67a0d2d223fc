package engine

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/store"
)

// withForm makes a sheet of loans with a form, and gives what is asked for.
func (f *fixture) withForm() *store.Sheet {
	f.t.Helper()
	rec, _ := f.loan()
	if err := f.Store.SaveForm(f.ctx, &store.Form{SheetID: rec.ID, Address: "join-in", Open: true,
		Body: "{}"}); err != nil {
		f.t.Fatal(err)
	}
	return rec
}

func (f *fixture) ask(rec *store.Sheet, address, key string) error {
	f.t.Helper()
	boxes, err := value.ParseMailboxes(address)
	if err != nil {
		f.t.Fatal(err)
	}
	return f.AskToConfirm(f.ctx, rec.ID, "Join in", boxes[0], []CellEdit{{Column: "c1", Text: key},
		{Column: "c2", Text: address}})
}

// tokenOf gives the token in the email that asked last.
func (f *fixture) tokenOf() string {
	f.t.Helper()
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.mails) == 0 {
		f.t.Fatal("no email asked")
	}
	_, after, ok := strings.Cut(string(f.mails[len(f.mails)-1].Raw), ConfirmPath)
	if !ok {
		f.t.Fatalf("no link in\n%s", f.mails[len(f.mails)-1].Raw)
	}
	return strings.Fields(after)[0]
}

// Those who come together are counted together: an address is asked three times a day, however
// many forms name it at once.
func TestAskedTogether(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec := f.withForm()
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			if err := f.ask(rec, "ada@x.example", fmt.Sprintf("F-%d", i)); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if got := len(f.subjects()); got != confirmsOfOne {
		t.Errorf("%d emails asked, want %d", got, confirmsOfOne)
	}
	if err := f.ask(rec, "ben@x.example", "F-30"); err != nil || len(f.subjects()) != confirmsOfOne+1 {
		t.Errorf("another address: %v, %d emails", err, len(f.subjects()))
	}
}

// Who wants no emails is not asked either, and where nothing may go out nobody is.
func TestNotAsked(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec := f.withForm()
	boxes, _ := value.ParseMailboxes("ada@x.example")
	if err := f.Store.AddDoNotEmail(f.ctx, boxes[0], "asked", "Tom", f.Now()); err != nil {
		t.Fatal(err)
	}
	if err := f.ask(rec, "Ada@X.example", "F-1"); err != nil {
		t.Error(err)
	}
	if err := f.SetSending(f.ctx, false, "Ines"); err != nil {
		t.Fatal(err)
	}
	if err := f.ask(rec, "ben@x.example", "F-2"); err == nil {
		t.Error("asked while all sending is off")
	}
	if got := f.subjects(); len(got) != 0 {
		t.Errorf("emails went: %v", got)
	}
}

// What was confirmed is a row once, also where the process ended between the row and its mark; each sending is
// asked about.
func TestConfirmedOnce(t *testing.T) {
	f := newFixture(t, "2027-03-15T08:30:00Z")
	rec := f.withForm()
	rows := func() int64 {
		t.Helper()
		n, err := f.Store.CountRows(f.ctx, rec.ID)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := rows()
	if err := f.ask(rec, "ada@x.example", "F-1"); err != nil {
		t.Fatal(err)
	}
	token := f.tokenOf()
	kept, err := f.IntakeOf(f.ctx, token)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Confirm(f.ctx, kept); err != nil || rows() != before+1 {
		t.Fatalf("%v, %d rows", err, rows()-before)
	}
	// as if it had ended before the mark
	f.exec("UPDATE intakes SET confirmed_at = NULL, answers = '" + kept.Answers + "'")
	if kept, err = f.IntakeOf(f.ctx, token); err != nil {
		t.Fatal(err)
	}
	if err := f.Confirm(f.ctx, kept); err != nil || rows() != before+1 {
		t.Errorf("once more: %v, %d rows", err, rows()-before)
	}
	if _, err := f.IntakeOf(f.ctx, token); err != store.ErrNotFound {
		t.Errorf("a link that was followed: %v", err)
	}
	if err := f.ask(rec, "ADA@x.example", "F-2"); err != nil || len(f.subjects()) != 2 {
		t.Errorf("what is sent again is not asked about again: %v, %d emails", err, len(f.subjects()))
	}
	// After two days all of it goes by itself.
	left := func(at time.Time) (n int64) {
		t.Helper()
		if err := f.dropIntakes(f.ctx, at); err != nil {
			t.Fatal(err)
		}
		if err := f.Store.DB(f.ctx).Model(&store.Intake{}).Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := left(f.opts.Wall()); n != 2 {
		t.Errorf("of two that were sent just now %d are kept", n)
	}
	if n := left(f.opts.Wall().Add(confirmLife + time.Minute)); n != 0 {
		t.Errorf("%d are kept after two days", n)
	}
}
