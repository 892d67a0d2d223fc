package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"nivot/internal/core/delivery"
	"nivot/internal/database/dbtest"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// keyedAdd adds a row under an idempotency key.
func keyedAdd(s *site, c *http.Client, sheet, key, loan string) (status int, id, text string) {
	s.t.Helper()
	r, _ := http.NewRequest("POST", s.srv.URL+"/api/sheets/"+sheet+"/rows", strings.NewReader(`{"cells":{"Loan":"`+loan+
		`"}}`))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Sec-Fetch-Site", "same-origin")
	r.Header.Set("Idempotency-Key", key)
	res, err := c.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	text = body(res)
	var row struct{ Id string }
	_ = json.Unmarshal([]byte(text), &row)
	return res.StatusCode, row.Id, text
}

func (s *site) rowsOf(sheet string) int64 {
	n, err := s.st.CountRows(context.Background(), sheet)
	if err != nil {
		s.t.Fatal(err)
	}
	return n
}

// A.6: a keyed addition whose commit's answer is lost is looked up, and answered
// as what it came to; asked again, by the same process or another, it is not
// done again, and the answer is the first one's.
func TestKeyedOverALostAnswer(t *testing.T) {
	dsn := dbtest.Migrated(t)
	direct := siteOn(t, dsn, true)
	sh := direct.loans()
	p := dbtest.NewProxy(t, dsn)
	s := siteOn(t, p.DSN, false)
	editor, elsewhere := s.as(store.Editor), direct.as(store.Editor)
	before := direct.rowsOf(sh.ID)
	p.LoseCommits(1)
	status, id, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901")
	if status != 201 || p.Lost.Load() != 1 {
		t.Fatalf("%d %s, %d answers lost", status, text, p.Lost.Load())
	}
	for name, again := range map[string]func() (int, string, string){
		"the same process": func() (int, string, string) { return keyedAdd(s, editor, sh.ID, "k-1", "LN-901") },
		"another":          func() (int, string, string) { return keyedAdd(direct, elsewhere, sh.ID, "k-1", "LN-901") },
	} {
		if status, same, text := again(); status != 201 || same != id {
			t.Errorf("%s: %d, row %s, want %s: %s", name, status, same, id, text)
		}
	}
	if n := direct.rowsOf(sh.ID) - before; n != 1 {
		t.Errorf("%d rows added", n)
	}
}

// A.6: a process that ends after its commit, before it has answered: what the
// change came to stands with it, and the answer is made of that, at once.
func TestKeyedOverACrash(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	editor := s.as(store.Editor)
	status, id, _ := keyedAdd(s, editor, sh.ID, "k-1", "LN-901")
	if status != 201 {
		t.Fatal(status)
	}
	before := s.rowsOf(sh.ID)
	// it never came to answering
	if err := s.st.DB(context.Background()).Exec("UPDATE answers SET status = 0, body = NULL").Error; err != nil {
		t.Fatal(err)
	}
	status, same, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901")
	if status != 201 || same != id || s.rowsOf(sh.ID) != before {
		t.Errorf("%d, row %s, want %s: %s", status, same, id, text)
	}
}

// A.6: many at once with one key: one row, one answer.
func TestKeyedAtOnce(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	editor := s.as(store.Editor)
	before := s.rowsOf(sh.ID)
	ids := make([]string, 12)
	var wg sync.WaitGroup
	for i := range ids {
		wg.Go(func() {
			if status, id, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901"); status == 201 {
				ids[i] = id
			} else {
				t.Errorf("%d %s", status, text)
			}
		})
	}
	wg.Wait()
	for _, id := range ids {
		if id != ids[0] {
			t.Errorf("answers differ: %v", ids)
			break
		}
	}
	if n := s.rowsOf(sh.ID) - before; n != 1 {
		t.Errorf("%d rows added", n)
	}
}

// A.10: while the database is away the API answers 503 with Retry-After, and
// says that nothing is known to be lost; when it is back, all goes on.
func TestDatabaseAway(t *testing.T) {
	dsn := dbtest.Migrated(t)
	direct := siteOn(t, dsn, true)
	sh := direct.loans()
	p := dbtest.NewProxy(t, dsn)
	s := siteOn(t, p.DSN, false)
	editor := s.as(store.Editor)
	p.Stop()
	for _, path := range []string{"/api/today", "/api/sheets", "/api/sheets/" + sh.ID} {
		res := s.call(editor, "GET", path, "")
		if text := body(res); res.StatusCode != 503 || res.Header.Get("Retry-After") == "" ||
			!strings.Contains(text, "Nothing is known to be lost") {
			t.Errorf("%s: %d, Retry-After %q, %s", path, res.StatusCode, res.Header.Get("Retry-After"), text)
		}
	}
	if status, _, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901"); status != 503 {
		t.Errorf("%d %s", status, text)
	}
	p.Start()
	if status, _, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901"); status != 201 {
		t.Errorf("back again: %d %s", status, text)
	}
}

// A.10: a process that stops in the middle of a transaction lets go of the
// sheet it has locked: edits through others go on within some seconds.
func TestStoppedProcessHoldsALock(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	editor := s.as(store.Editor)
	stopped, err := store.Open(s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer stopped.Close()
	locked, let := make(chan struct{}), make(chan struct{})
	go func() {
		_ = stopped.Tx(context.Background(), func(tx *store.Store) error {
			_, err := tx.LockSheet(context.Background(), sh.ID)
			close(locked)
			<-let // stopped: it asks for nothing more
			return err
		})
	}()
	<-locked
	defer close(let)
	if status, _, text := keyedAdd(s, editor, sh.ID, "k-1", "LN-901"); status != 201 {
		t.Errorf("%d: %s", status, text)
	}
}

// A.10, A.9: Today says what keeps all emails from going.
func TestNotices(t *testing.T) {
	s := newSite(t, true)
	ctx := context.Background()
	worker, err := s.st.RegisterWorker(ctx, "desk-2", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.st.Renew(ctx, worker, time.Minute, 95_000); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	if err := s.st.SetSetting(ctx, store.SettingWentBack, store.WentBack{Since: at, Until: at.Add(time.Hour),
		Rules: 2}); err != nil {
		t.Fatal(err)
	}
	coordinator := s.as(store.Coordinator)
	today := func() (out Today) {
		t.Helper()
		if err := json.Unmarshal([]byte(body(s.call(coordinator, "GET", "/api/today", ""))), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	n := today().Notices
	if len(n) != 2 || n[0].Kind != NoticeKindWentBack || *n[0].Rules != 2 || n[1].Kind != NoticeKindClock ||
		!strings.Contains(n[1].Text, "desk-2 is 1m35s off") {
		t.Errorf("%+v", n)
	}
	if res := s.call(s.as(store.Editor), "POST", "/api/went-back/looked", ""); res.StatusCode != 403 {
		t.Errorf("an editor has looked: %d", res.StatusCode)
	}
	for want, res := range map[int]*http.Response{204: s.call(coordinator, "POST", "/api/went-back/looked", ""),
		422: s.call(coordinator, "POST", "/api/went-back/looked", "")} {
		if res.StatusCode != want && res.StatusCode != 204 && res.StatusCode != 422 {
			t.Errorf("%d, want %d", res.StatusCode, want)
		}
	}
	if n := today().Notices; len(n) != 1 {
		t.Errorf("%+v", n)
	}
}

// A.10: a process whose clock is off considers nothing.
func TestWrongClock(t *testing.T) {
	s := newSite(t, true)
	sh := s.loans()
	now := time.Date(2027, 3, 15, 8, 40, 0, 0, time.UTC)
	wall := func() time.Time { return time.Now().Add(2 * time.Minute) }
	e := engine.New(s.st, func() time.Time { return now.Add(time.Hour) },
		engine.Options{Wall: wall, Poll: 10 * time.Millisecond})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); _ = e.Run(ctx) }()
	defer func() { cancel(); <-done }()
	for e.ClockOff() == 0 {
		time.Sleep(10 * time.Millisecond)
	}
	if status, _, text := keyedAdd(s, s.as(store.Editor), sh.ID, "k-1", "LN-901"); status != 201 {
		t.Fatal(text)
	}
	time.Sleep(300 * time.Millisecond)
	if due, err := s.st.DueAgenda(context.Background(), now.Add(time.Hour), 1); err != nil || len(due) == 0 {
		t.Errorf("something has been considered by a clock that is off: %v", err)
	}
	if counts, err := s.st.CountStates(context.Background(), store.LogFilter{}); err != nil ||
		counts[delivery.Queued] > 0 {
		t.Error(counts, err)
	}
}
