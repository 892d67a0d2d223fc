package store_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"nivot/internal/core/value"
	"nivot/internal/database/dbtest"
	"nivot/internal/store"
)

func TestRoles(t *testing.T) {
	for i, a := range store.Roles {
		for k, b := range store.Roles {
			if a.May(b) != (i <= k) {
				t.Errorf("%s may what a %s may: %v", a, b, a.May(b))
			}
		}
		if store.Role("owner").May(a) || a.May("owner") {
			t.Errorf("an unknown role and %s", a)
		}
	}
}

// People by address, whatever its case; links that work once; sessions that end.
func TestPeopleKept(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	p := &store.Person{ID: store.NewID(), Name: "Rosa Moss", Email: "rosa@marrowby.example", Role: store.Editor,
		PasswordHash: "x", CreatedAt: noon}
	if err := st.SavePerson(ctx, p); err != nil {
		t.Fatal(err)
	}
	if got, err := st.PersonByEmail(ctx, "ROSA@marrowby.example"); err != nil || got.ID != p.ID {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := st.PersonByEmail(ctx, "ros@marrowby.example"); err != store.ErrNotFound {
		t.Error(err)
	}
	if n, err := st.CountPeople(ctx); err != nil || n != 1 {
		t.Error(n, err)
	}
	link := &store.Link{TokenHash: store.HashToken("secret"), PersonID: p.ID, Purpose: "invite",
		ExpiresAt: noon.Add(time.Hour)}
	if err := st.SaveLink(ctx, link); err != nil {
		t.Fatal(err)
	}
	for token, at := range map[string]time.Time{"secret": noon.Add(2 * time.Hour), "other": noon} {
		if _, err := st.FindLink(ctx, token, at); err != store.ErrNotFound {
			t.Errorf("%s at %s: %v", token, at, err)
		}
	}
	found, err := st.FindLink(ctx, "secret", noon)
	if err != nil || found.PersonID != p.ID {
		t.Fatal(found, err)
	}
	if err := st.UseLink(ctx, found, noon); err != nil {
		t.Fatal(err)
	}
	if err := st.UseLink(ctx, found, noon); err != store.ErrNotFound {
		t.Errorf("used twice: %v", err)
	}
	if _, err := st.FindLink(ctx, "secret", noon); err != store.ErrNotFound {
		t.Error(err)
	}
	x := store.Sessions{S: st}
	if err := x.Commit("a", []byte("who"), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := x.Commit("b", []byte("over"), time.Now().Add(-time.Second)); err != nil {
		t.Fatal(err)
	}
	if err := x.Commit("a", []byte("who else"), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	for token, want := range map[string]string{"a": "who else", "b": "", "c": ""} {
		if b, ok, err := x.Find(token); err != nil || ok != (want != "") || string(b) != want {
			t.Errorf("%s: %q %v %v", token, b, ok, err)
		}
	}
	if err := st.DropAged(ctx); err != nil {
		t.Fatal(err)
	}
	if err := x.Delete("a"); err != nil {
		t.Fatal(err)
	}
	if _, ok, _ := x.Find("a"); ok {
		t.Error("a session outlives its end")
	}
	// A request that began before it ended keeps it afterwards.
	if err := x.Commit("a", []byte("who"), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, ok, _ := x.Find("a"); ok {
		t.Error("a session that has ended is brought back")
	}
}

// People are told apart by keys that are compared as bytes.
func TestPeopleApart(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	hugh := &store.Person{ID: store.NewID(), Name: "Hugh Bellamy", Email: "hugh@marrowby.example", Role: store.Reader,
		CreatedAt: noon}
	if err := st.SavePerson(ctx, hugh); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		address string
		same    bool
	}{
		{"hugh@marrowby.example", true},
		{" HUGH@Marrowby.Example ", true},
		{"hu\u200bgh@marrowby.example", true},
		{"hu\u00adgh@marrowby.example", true},
		{"\uff48ugh@marrowby.example", true},
		{"h\u00fcgh@marrowby.example", false},
		{"hu\u0308gh@marrowby.example", false},
		{"hugh@marrowby.example.example", false},
	} {
		p, err := st.PersonByEmail(ctx, x.address)
		if x.same && (err != nil || p.ID != hugh.ID) || !x.same && err != store.ErrNotFound {
			t.Errorf("%q: got %v, want the same person: %v", x.address, err, x.same)
		}
	}
	if err := st.SavePerson(ctx, &store.Person{ID: store.NewID(), Name: "Hu\u200bgh bellamy",
		Email: "other@marrowby.example", Role: store.Reader, CreatedAt: noon}); err == nil {
		t.Error("two people whose names look the same")
	}
	if err := st.SavePerson(ctx, &store.Person{ID: store.NewID(), Name: "H\u00fcgh", Email: "h\u00fcgh@marrowby.example",
		Role: store.Reader, CreatedAt: noon}); err != nil {
		t.Errorf("an address that differs by an accent is another's: %v", err)
	}
}

// Tokens are found by their secret alone until they are revoked, and their use
// is noted to the minute.
func TestTokensKept(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	tok := &store.Token{ID: store.NewID(), TokenHash: store.HashToken("nvt"), Name: "logger", PersonID: "p",
		Role: store.Editor, CreatedAt: noon}
	if err := st.SaveToken(ctx, tok); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ after, used time.Duration }{{0, 0}, {30 * time.Second, 0},
		{2 * time.Minute, 2 * time.Minute}} {
		if got, err := st.UseToken(ctx, "nvt", noon.Add(c.after)); err != nil || got.ID != tok.ID ||
			!got.UsedAt.Equal(noon.Add(c.used)) {
			t.Errorf("%+v %v", got, err)
		}
	}
	if list, err := st.Tokens(ctx, "somebody else"); err != nil || len(list) != 0 {
		t.Errorf("%v %v", list, err)
	}
	tok.RevokedAt = &noon
	if err := st.SaveToken(ctx, tok); err != nil {
		t.Fatal(err)
	}
	if _, err := st.UseToken(ctx, "nvt", noon); err != store.ErrNotFound {
		t.Error(err)
	}
	if list, err := st.Tokens(ctx, ""); err != nil || len(list) != 1 || list[0].RevokedAt == nil {
		t.Errorf("%v %v", list, err)
	}
}

// One's own views and the shared ones; who is in a sheet, until they leave or
// fall silent.
func TestViewsAndPresence(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	for _, v := range []store.View{{ID: "v1", SheetID: "s", PersonID: "a", Name: "Mine"},
		{ID: "v2", SheetID: "s", PersonID: "b", Name: "Ours", Shared: true},
		{ID: "v3", SheetID: "s", PersonID: "b", Name: "Theirs"}, {ID: "v4", SheetID: "other", PersonID: "a",
			Name: "Elsewhere"}} {
		v.Spec = "{}"
		if err := st.SaveView(ctx, &v); err != nil {
			t.Fatal(err)
		}
	}
	list, err := st.Views(ctx, "s", "a", noon)
	if err != nil || len(list) != 2 || list[0].Name == "Theirs" || list[1].Name == "Theirs" {
		t.Errorf("%+v %v", list, err)
	}
	deleted := list[0]
	deleted.DeletedAt = &noon
	if err := st.SaveView(ctx, &deleted); err != nil {
		t.Fatal(err)
	}
	for since, want := range map[time.Time]int{noon: 1, noon.Add(-time.Hour): 2} {
		if list, err := st.Views(ctx, "s", "a", since); err != nil || len(list) != want {
			t.Errorf("%d views since %v, want %d (%v)", len(list), since, want, err)
		}
	}
	for page, row := range map[string]int64{"page a": 4, "page b": 0} {
		if err := st.BePresent(ctx, store.Presence{Page: page, SheetID: "s", PersonID: page, RowID: row,
			ColumnID: "c1"}); err != nil {
			t.Fatal(err)
		}
	}
	there, err := st.Present(ctx, "s", "")
	if err != nil || len(there) != 2 || there[0].RowID != 4 || there[0].PersonID != "page a" {
		t.Errorf("%+v %v", there, err)
	}
	if err := st.DropPresence(ctx, "page a"); err != nil {
		t.Fatal(err)
	}
	if there, err := st.Present(ctx, "s", ""); err != nil || len(there) != 1 || there[0].PersonID != "page b" {
		t.Errorf("%+v %v", there, err)
	}
	if err := st.DB(ctx).Exec("UPDATE presence SET seen_at = seen_at - INTERVAL 1 HOUR").Error; err != nil {
		t.Fatal(err)
	}
	if there, err := st.Present(ctx, "s", ""); err != nil || len(there) != 0 {
		t.Errorf("one who has been silent for an hour: %+v %v", there, err)
	}
}

// A job is seen, stopped and ended; one that falls silent has failed.
func TestJobs(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	for _, id := range []string{"j1", "j2"} {
		if err := st.AddJob(ctx, &store.Job{ID: id, SheetID: "s", Person: "Tom", Kind: "import", Total: 100}); err != nil {
			t.Fatal(err)
		}
	}
	if stop, err := st.SeeJob(ctx, "j1", 40, 100); err != nil || stop {
		t.Error(stop, err)
	}
	if err := st.StopJob(ctx, "j1"); err != nil {
		t.Fatal(err)
	}
	if stop, err := st.SeeJob(ctx, "j1", 50, 100); err != nil || !stop {
		t.Error(stop, err)
	}
	if list, err := st.RunningJobs(ctx, "s"); err != nil || len(list) != 2 {
		t.Errorf("%+v %v", list, err)
	}
	if err := st.EndJob(ctx, "j1", store.JobStopped, `{"x":1}`); err != nil {
		t.Fatal(err)
	}
	if err := st.DB(ctx).Exec("UPDATE jobs SET seen_at = seen_at - INTERVAL 1 MINUTE").Error; err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]store.JobState{"j1": store.JobStopped, "j2": store.JobFailed} {
		if j, err := st.Job(ctx, id); err != nil || j.State != want || id == "j1" &&
			(j.Done != 50 || j.Result != `{"x":1}`) {
			t.Errorf("%+v %v", j, err)
		}
	}
	if list, err := st.RunningJobs(ctx, "s"); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
	if _, err := st.Job(ctx, "j3"); err != store.ErrNotFound {
		t.Error(err)
	}
}

// Settings, senders, who is not written to, and what the practice server took.
func TestSettingsKept(t *testing.T) {
	dsn := dbtest.Migrated(t)
	st := openAt(t, dsn)
	ctx := context.Background()
	var out struct{ Days []string }
	if ok, err := st.Setting(ctx, "something", &out); ok || err != nil {
		t.Error(ok, err)
	}
	for _, days := range [][]string{{"mon"}, {"tue", "wed"}} {
		if err := st.SetSetting(ctx, "something", map[string]any{"days": days}); err != nil {
			t.Fatal(err)
		}
		if ok, err := st.Setting(ctx, "something", &out); !ok || err != nil || len(out.Days) != len(days) {
			t.Error(ok, err, out)
		}
	}
	if on, err := st.SendingOn(ctx); err != nil || !on {
		t.Errorf("sending is on until somebody switches it off: %v %v", on, err)
	}
	if err := st.SetSetting(ctx, store.SettingSending, false); err != nil {
		t.Fatal(err)
	}
	if on, err := st.SendingOn(ctx); err != nil || on {
		t.Error(on, err)
	}
	for _, text := range []string{"Ben <ben@pellgate.example>", "BEN@Pellgate.example"} {
		boxes, err := value.ParseMailboxes(text)
		if err != nil {
			t.Fatal(err)
		}
		if err := st.AddDoNotEmail(ctx, boxes[0], "asked us", "Tom", noon); err != nil {
			t.Fatal(err)
		}
	}
	list, err := st.DoNotEmailList(ctx)
	if err != nil || len(list) != 1 {
		t.Fatalf("%+v %v", list, err)
	}
	other := openAt(t, dsn) // another process
	silenced := func(want bool) {
		t.Helper()
		for range 2 {
			if keys, err := other.Silenced(ctx); err != nil || keys[list[0].AddressKey] != want {
				t.Errorf("%v, want %v, %v", keys, want, err)
			}
		}
	}
	silenced(true)
	undone := errors.New("undone")
	if err := st.Tx(ctx, func(tx *store.Store) error {
		boxes, _ := value.ParseMailboxes("ben@pellgate.example")
		if err := tx.RemoveDoNotEmail(ctx, boxes[0]); err != nil {
			return err
		}
		if keys, err := tx.Silenced(ctx); err != nil || len(keys) != 0 { // as the transaction sees it
			t.Error(keys, err)
		}
		return undone
	}); err != undone {
		t.Fatal(err)
	}
	silenced(true)
	if keys, err := st.Silenced(ctx); err != nil || len(keys) != 1 {
		t.Errorf("what was undone is remembered: %v, %v", keys, err)
	}
	boxes, _ := value.ParseMailboxes("bEN@pellgate.example")
	if err := st.RemoveDoNotEmail(ctx, boxes[0]); err != nil {
		t.Fatal(err)
	}
	silenced(false)
	if list, err := st.DoNotEmailList(ctx); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
	raw := []byte("Subject: 100% sure_thing\r\n\r\n\x00\xff")
	for i, subject := range []string{"100% sure_thing", "1000 sure things", "Oak bellows"} {
		m := &store.PracticeMessage{ReceivedAt: noon.Add(time.Duration(i) * time.Minute), EnvelopeFrom: "a@b.example",
			EnvelopeTo: "ben@pellgate.example", Subject: subject, Raw: raw}
		if err := st.AddPracticeMessage(ctx, m); err != nil {
			t.Fatal(err)
		}
	}
	for find, want := range map[string]int64{"": 3, "100%": 1, "sure_": 1, "OAK": 1, "pellgate": 3, "nobody": 0} {
		if got, total, err := st.PracticeMessages(ctx, 0, 2, find); err != nil || total != want ||
			len(got) != int(min(want, 2)) {
			t.Errorf("%q: %d of %d, want %d; %v", find, len(got), total, want, err)
		}
	}
	page, _, _ := st.PracticeMessages(ctx, 0, 2, "")
	rest, _, err := st.PracticeMessages(ctx, page[1].ID, 2, "")
	if err != nil || len(rest) != 1 || rest[0].Subject != "100% sure_thing" {
		t.Errorf("%+v %v", rest, err)
	}
	if m, err := st.PracticeMessage(ctx, rest[0].ID); err != nil || !bytes.Equal(m.Raw, raw) {
		t.Errorf("%+v %v", m, err)
	}
}

// The history of a sheet, page by page, and the steps of one change.
func TestEventsKept(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	head, err := st.AddHead(ctx, store.Event{At: noon, Actor: "Tom", Kind: store.EventChanged, SheetID: "s",
		Detail: store.Detail(map[string]any{"kind": "paste"})})
	if err != nil || head == 0 {
		t.Fatal(head, err)
	}
	var members []store.Event
	for i := range 1200 {
		members = append(members, store.Event{At: noon, Actor: "Tom", Kind: store.EventRowEdited, SheetID: "s",
			RowID: int64(i + 1), ChangeID: &head, Detail: "{}"})
	}
	if err := st.AddEvents(ctx, members...); err != nil {
		t.Fatal(err)
	}
	if err := st.AddEvents(ctx, store.Event{At: noon, Actor: "Rosa", Kind: store.EventRowEdited, SheetID: "s", RowID: 3,
		Detail: "{}"}); err != nil {
		t.Fatal(err)
	}
	got, steps, err := st.ChangeEvents(ctx, "s", head)
	if err != nil || got.Kind != store.EventChanged || len(steps) != 1200 || steps[0].RowID <= steps[1199].RowID {
		t.Errorf("a change's steps, the latest first: %+v %d %v", got, len(steps), err)
	}
	if _, _, err := st.ChangeEvents(ctx, "other", head); err != store.ErrNotFound {
		t.Errorf("by another sheet: %v", err)
	}
	if err := st.SetDetail(ctx, head, `{"kind":"paste","rows":1200}`); err != nil {
		t.Fatal(err)
	}
	// A change is one line of the history, not one for each row.
	history, err := st.SheetHistory(ctx, "s", 0, 10)
	if err != nil || len(history) != 2 || history[0].Actor != "Rosa" || history[1].ID != head {
		t.Fatalf("%+v %v", history, err)
	}
	var d struct{ Rows int }
	if json.Unmarshal([]byte(history[1].Detail), &d) != nil || d.Rows != 1200 {
		t.Error(history[1].Detail)
	}
	if older, err := st.SheetHistory(ctx, "s", history[0].ID, 10); err != nil || len(older) != 1 || older[0].ID != head {
		t.Errorf("%+v %v", older, err)
	}
	edited, err := st.RowsEditedSince(ctx, []int64{2, 3, 4}, head, "", "Tom")
	if err != nil || len(edited) != 1 || !edited[3] {
		t.Errorf("%v %v", edited, err)
	}
	last, err := st.LastEvent(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if after, err := st.EventIDsAfter(ctx, last-5, 3); err != nil || len(after) != 3 || after[0] != last-4 {
		t.Errorf("%+v %v", after, err)
	}
	if row, err := st.RowEvents(ctx, 3, 10); err != nil || len(row) != 2 || row[0].Actor != "Rosa" {
		t.Errorf("%+v %v", row, err)
	}
}

// Who is given another name or address is found by it, and by the old one no more; nobody takes
// what another has, however it is spelt.
func TestPersonRenamed(t *testing.T) {
	st := open(t)
	ctx := context.Background()
	rosa := &store.Person{ID: store.NewID(), Name: "Rosa Moss", Email: "rosa@marrowby.example", Role: store.Editor,
		CreatedAt: noon}
	hugh := &store.Person{ID: store.NewID(), Name: "Hugh Pell", Email: "hugh@marrowby.example", Role: store.Editor,
		CreatedAt: noon}
	for _, p := range []*store.Person{rosa, hugh} {
		if err := st.SavePerson(ctx, p); err != nil {
			t.Fatal(err)
		}
	}
	err := st.Tx(ctx, func(tx *store.Store) error {
		p, err := tx.LockPerson(ctx, rosa.ID)
		if err != nil {
			return err
		}
		p.Name, p.Email = "Rosa Fenner", "rosa.fenner@marrowby.example"
		return tx.SavePerson(ctx, p)
	})
	if err != nil {
		t.Fatal(err)
	}
	for email, want := range map[string]error{"Rosa.Fenner@marrowby.example": nil,
		"rosa@marrowby.example": store.ErrNotFound} {
		if _, err := st.PersonByEmail(ctx, email); err != want {
			t.Errorf("by the address %s: %v, want %v", email, err, want)
		}
	}
	for name, want := range map[string]error{"ROSA fenner": nil, "Rosa Moss": store.ErrNotFound} {
		if _, err := st.PersonByName(ctx, name); err != want {
			t.Errorf("by the name %s: %v, want %v", name, err, want)
		}
	}
	hugh.Name = "Rosa\u200b Fenner"
	if err := st.SavePerson(ctx, hugh); err == nil {
		t.Error("two people have one name")
	}
}
