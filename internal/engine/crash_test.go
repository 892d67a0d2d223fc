package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/delivery"
	"nivot/internal/core/plan"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/database/dbtest"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/practice"
	"nivot/internal/store"
)

// Two server processes send 2,000 emails from one database. One of them is
// killed with SIGKILL at random moments, 20 times and more, and started again.
// At the mail server no Message-ID may stand twice; every occasion must be
// accounted for; and in doubt may be at most one email per connection per kill.
func TestCrash(t *testing.T) {
	t.Parallel() // it waits most of the time
	const emails, kills, connections = 2000, 20, 8
	bin := filepath.Join(t.TempDir(), "nivot")
	if out, err := exec.Command("go", "build", "-o", bin, "nivot/cmd/nivot").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	ctx := context.Background()
	dsn := dbtest.Migrated(t)
	s, err := store.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		t.Fatal(err)
	}

	var mu sync.Mutex
	got := map[string]int{}
	srv := practice.New(func(_ context.Context, m *practice.Message) error {
		time.Sleep(time.Duration(rand.IntN(160)) * time.Millisecond)
		mu.Lock()
		defer mu.Unlock()
		got[m.MessageID]++
		return nil
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() { _ = srv.Serve(l) }()
	defer srv.Close()

	now := at("2027-03-15T08:59:00Z")
	e := New(s, func() time.Time { return now }, Options{})
	manyLoans(t, e, emails, "2027-03-22", l.Addr().(*net.TCPAddr).Port)

	start := func(name string) *exec.Cmd {
		cmd := exec.Command(bin, "serve", "-practice-clock", "2027-03-15T09:00:00Z")
		cmd.Env = append(os.Environ(), "NIVOT_DSN="+dsn, "NIVOT_ADDR=127.0.0.1:0", fmt.Sprintf("NIVOT_CONNECTIONS=%d",
			connections))
		cmd.Stderr = os.Stderr
		if err := cmd.Start(); err != nil {
			t.Fatal(name, err)
		}
		return cmd
	}
	steady, victim := start("steady"), start("victim")
	killed := 0
	open := func() (n int64) {
		if err := s.DB(ctx).Raw(
			"SELECT (SELECT COUNT(*) FROM agenda) + (SELECT COUNT(*) FROM deliveries WHERE state IN ('queued', 'claimed', " +
				"'sending', 'deferred'))").Scan(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	for deadline := time.Now().Add(4 * time.Minute); open() > 0; {
		if time.Now().After(deadline) {
			t.Fatalf("%d are still open", open())
		}
		time.Sleep(time.Duration(150+rand.IntN(350)) * time.Millisecond)
		if killed < kills+5 {
			_ = victim.Process.Signal(syscall.SIGKILL)
			_ = victim.Wait()
			killed++
			victim = start("victim")
		}
	}
	for _, p := range []*exec.Cmd{steady, victim} {
		_ = p.Process.Signal(syscall.SIGTERM)
		_ = p.Wait()
	}
	if killed < kills {
		t.Errorf("%d kills before all was sent, want %d", killed, kills)
	}

	if wrong, err := s.WrongCounts(ctx); err != nil || len(wrong) > 0 {
		t.Error(wrong, err)
	}
	var ds []store.Delivery
	if err := s.DB(ctx).Find(&ds).Error; err != nil {
		t.Fatal(err)
	}
	if len(ds) != emails {
		t.Errorf("the ledger holds %d occasions, want %d", len(ds), emails)
	}
	mu.Lock()
	defer mu.Unlock()
	doubt, known := 0, map[string]bool{}
	for i := range ds {
		d := &ds[i]
		id := fmt.Sprintf("%x.1@marrowby.example", d.Occasion)
		known[id] = true
		switch d.State {
		case "accepted":
			if got[id] != 1 {
				t.Errorf("%s is accepted, and arrived %d times", id, got[id])
			}
		case "in-doubt":
			doubt++
		default:
			t.Errorf("%s is %s: %s", id, d.State, d.LastError)
		}
	}
	for id, n := range got {
		if n != 1 || !known[id] {
			t.Errorf("%s arrived %d times (known: %v)", id, n, known[id])
		}
	}
	if doubt > killed*connections {
		t.Errorf("%d in doubt after %d kills with %d connections", doubt, killed, connections)
	}
	t.Logf("%d emails, %d kills, %d in doubt", emails, killed, doubt)
}

// manyLoans makes a sheet of n rows that are due on one day, and a rule that
// writes a week before it, switched on.
func manyLoans(t testing.TB, e *Engine, n int, due string, smtpPort int) *store.Sheet {
	t.Helper()
	ctx := context.Background()
	if err := e.Store.SaveSender(ctx, &store.Sender{ID: "sender", Name: "Loans desk", Address: "loans@marrowby.example",
		Host: "127.0.0.1",
		Port: smtpPort, Security: "none", CreatedAt: e.Now()}); err != nil {
		t.Fatal(err)
	}
	rec := &store.Sheet{Name: "Loans", Zone: "UTC", Locale: "en-GB", SettleSeconds: 120}
	cols := []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Email", Type: value.Email},
		{Name: "Return due", Type: value.Date, Order: value.YearMonthDay}}
	if err := e.CreateSheet(ctx, rec, cols, 0, 1, "test"); err != nil {
		t.Fatal(err)
	}
	rows := Incoming{Columns: []string{"c1", "c2", "c3"}}
	for i := range n {
		rows.Rows = append(rows.Rows, []string{fmt.Sprintf("LN-%05d", i), fmt.Sprintf("contact%d@borrower.example", i), due})
	}
	if _, err := e.Import(ctx, rec.ID, rows, ImportOptions{Quiet: true}, System("test")); err != nil {
		t.Fatal(err)
	}
	tpl := &template.Template{Name: "Return"}
	var err error
	if tpl.Subject, err = template.ParseLine("[Loan] is due back on [Return due: weekday]",
		&sheet.Sheet{Columns: cols}); err != nil {
		t.Fatal(err)
	}
	if tpl.Body, err = template.ParseText("Dear colleague,\n\n"+
		strings.Repeat("[Loan] is due back on [Return due: long]. ", 5), &sheet.Sheet{Columns: cols}); err != nil {
		t.Fatal(err)
	}
	saved, err := e.SaveTemplate(ctx, rec.ID, "", tpl, 0, "test")
	if err != nil {
		t.Fatal(err)
	}
	r := &rule.Rule{Name: "Return reminder", Trigger: rule.Trigger{Kind: "date", Column: "c3",
		Offsets: []rule.Offset{{N: -7, Unit: rule.Days}}, At: "09:00"},
		Send: []rule.Wording{{Template: saved.ID}}, To: []rule.Address{{Column: "c2"}}}
	on, err := e.SaveRule(ctx, rec.ID, "", r, 0, "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.SetRuleState(ctx, rec.ID, on.ID, rule.On, "test"); err != nil {
		t.Fatal(err)
	}
	return rec
}

// What is in doubt after a kill is decided as a person would who looks into the
// mailbox: it went, or it is sent again.
func (f *fixture) decideDoubts() (decided bool) {
	f.t.Helper()
	var ds []store.Delivery
	f.persist(func(ctx context.Context) error {
		return f.Store.DB(ctx).Where("state = ?", delivery.InDoubt).Find(&ds).Error
	})
	for i := range ds {
		id, what := delivery.MessageID(fmt.Sprintf("%x", ds[i].Occasion), ds[i].Attempt, "marrowby.example"), SendAgain
		f.mu.Lock()
		for _, m := range f.mails {
			if "<"+strings.Trim(m.MessageID, "<>")+">" == "<"+strings.Trim(id, "<>")+">" {
				what = ItWent
			}
		}
		f.mu.Unlock()
		f.persist(func(ctx context.Context) error {
			_, err := f.Decide(ctx, ds[i].ID, what, "Ines")
			return err
		})
		f.doubts++
	}
	return len(ds) > 0
}

// rehearsed gives what a bundle's rehearsal sends between two instants, as timed gives what arrives.
func rehearsed(t *testing.T, b *exchange.Bundle, edits []plan.Edit, from, to time.Time) (out []string) {
	t.Helper()
	if err := b.Rehearse(false, edits, from, to, func(l *exchange.RehearsalLine) error {
		if l.Outcome == string(plan.Send) {
			when, _ := time.Parse(time.RFC3339, l.At)
			out = append(out, when.UTC().Format("01-02 15:04:05")+" "+
				strings.Join(addresses(t, append(append([]string{}, l.To...), l.Cc...)), ",")+" | "+l.Subject)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

// Two server processes on one database, one of them killed with SIGKILL again and
// again, play random rules of every kind, with follow-ups, holds and round-ups,
// over random edits: what arrives is what the rehearsal printed, nothing twice.
func TestCrashOfEveryTrigger(t *testing.T) {
	t.Parallel() // it waits most of the time
	kills, doubts, emails := 0, 0, 0
	from, to := at("2027-03-15T08:40:00Z"), at("2027-04-05T08:40:00Z")
	for seed, played := uint64(0), 0; played < 3; seed++ {
		g := exchangetest.New(seed, 9)
		b, err := exchange.ReadBundle(g.Bundle())
		if err != nil {
			t.Fatal(err)
		}
		edits, err := b.ReadEdits([]byte(g.Edits(b, from, to)))
		if err != nil {
			t.Fatal(err)
		}
		want := rehearsed(t, b, edits, from, to)
		if len(want) < 25 {
			continue // too little to be killed in
		}
		played++
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			f := newFixture(t, from.Format(time.RFC3339))
			rec, err := f.Install(f.ctx, b, true, "test")
			if err != nil {
				t.Fatal(err)
			}
			f.settled()
			f.slow, f.atRest, f.peerJumps = 300*time.Millisecond, f.decideDoubts, true
			v := startVictim(f)
			f.peer = v
			f.play(b, rec, edits)
			f.advance(to.Add(-time.Second))
			v.end()
			got := f.timed()
			sort.Strings(want)
			if a, w := strings.Join(got, "\n"), strings.Join(want, "\n"); a != w {
				t.Errorf("after %d kills, arrived and not rehearsed:\n%s\nrehearsed and not arrived:\n%s\n%s", v.kills,
					without(got, want), without(want, got), f.ledger())
			}
			kills, doubts, emails = kills+v.kills, doubts+f.doubts, emails+len(got)
		})
	}
	t.Logf("%d emails, %d kills, %d in doubt", emails, kills, doubts)
	if kills < 40 || emails < 75 { // how many of them are in doubt is chance
		t.Errorf("%d kills among %d emails, want 40 among 75 and more", kills, emails)
	}
}

// With a daily cap, a pace, a pause, a limit per person, holds, follow-ups and
// what people say of single emails, and one of two servers killed again and
// again: nothing goes twice, nothing that was left out goes, and no limit is
// passed.
func TestCrashWithLimits(t *testing.T) {
	t.Parallel() // it waits most of the time
	const daily, perDay, days = 9, 2, 9
	f := newFixture(t, "2027-03-15T08:00:00Z")
	var lines []string
	for i := range 24 {
		lines = append(lines, fmt.Sprintf("C-%02d,50,%c@x.example,,2027-03-%d", i, 'a'+i%6, 23+i%3))
	}
	rec, rows := f.cases(
		`{"name":"Due","state":"on","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},"send":[{"template":"A"}],"to":[{"column":"Email"}],
		"then":{"steps":[{"after":"PT2H","template":"B"},{"after":"P2D","template":"B","every":"P1D","times":2}],"stopIf":{"column":"Humidity","op":">","value":95}}},
		{"name":"Damp","state":"on","trigger":{"kind":"threshold","column":"Humidity","op":">=","limit":60},"send":[{"template":"A"}],"to":[{"column":"Email"}],"hold":"always"}`, lines...)
	f.sender(func(s *store.Sender) { s.DailyCap, s.Pace, s.Batch, s.PauseSeconds, s.Zone = daily, 30, 4, 120, "UTC" })
	if err := f.SetPersonLimit(f.ctx, delivery.PersonLimit{N: perDay, Within: "P1D"}, "Ines"); err != nil {
		t.Fatal(err)
	}
	f.settled()
	rules, err := f.Store.Rules(f.ctx, rec.ID)
	if err != nil {
		t.Fatal(err)
	}
	f.slow, f.atRest = 120*time.Millisecond, f.decideDoubts
	v := startVictim(f)
	f.peer = v
	r := rand.New(rand.NewPCG(9, 15))
	var ids []int64
	for _, id := range rows {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	out := map[string]bool{}
	for step := range 2 * days {
		f.advance(at("2027-03-15T08:00:00Z").Add(time.Duration(step) * 12 * time.Hour))
		for range 3 {
			f.set(rec, ids[r.IntN(len(ids))], "Humidity", fmt.Sprint(40+r.IntN(60)))
		}
		for range 2 {
			row := ids[r.IntN(len(ids))]
			all, err := f.RowEmails(f.ctx, rec.ID, row)
			if err != nil {
				t.Fatal(err)
			}
			if len(all) == 0 {
				continue
			}
			x := all[r.IntN(len(all))]
			say := Say{Sheet: rec.ID, Rule: x.Rule, Row: row, Email: x.Identity(), What: []string{LeaveOut, Shift}[r.IntN(2)],
				Days: 1 - 2*r.IntN(2)}
			var refused *Refusal
			if err := f.SetAside(f.ctx, say, "Ines"); errors.As(err, &refused) {
				continue
			} else if err != nil {
				t.Fatal(err)
			}
			out[x.Identity().String()] = say.What == LeaveOut
		}
		if step%3 == 2 {
			if _, err := f.Release(f.ctx, rec.ID, rules[1].ID, r.IntN(3) > 0, "Ines"); err != nil {
				t.Fatal(err)
			}
		}
	}
	f.advance(at("2027-04-10T08:00:00Z"))
	v.end()

	var ds []store.Delivery
	if err := f.Store.DB(f.ctx).Find(&ds).Error; err != nil {
		t.Fatal(err)
	}
	arrived, perMailbox, perDate := map[string]int{}, map[string][]time.Time{}, map[string]int{}
	for i, m := range f.mails {
		occasion, _, _ := strings.Cut(strings.Trim(m.MessageID, "<>"), ".")
		arrived[occasion]++
		perDate[f.arrived[i].Format(time.DateOnly)] += len(m.To)
		for _, to := range m.To {
			perMailbox[to] = append(perMailbox[to], f.arrived[i])
		}
	}
	states := map[delivery.State]int{}
	for i := range ds {
		d := &ds[i]
		id := fmt.Sprintf("%x", d.Occasion)
		states[d.State]++
		want := 0
		if d.State == delivery.Accepted {
			want = 1
		}
		if arrived[id] != want {
			t.Errorf("%s is %s and arrived %d times", id, d.State, arrived[id])
		}
		if out[id] && d.State == delivery.Accepted {
			t.Errorf("%s was left out, and went", id)
		}
		delete(arrived, id)
	}
	for id := range arrived {
		t.Errorf("%s arrived, and the ledger does not know it", id)
	}
	for day, n := range perDate {
		if n > daily {
			t.Errorf("%d recipients on %s, the cap is %d", n, day, daily)
		}
	}
	for to, when := range perMailbox {
		for i := perDay; i < len(when); i++ {
			if when[i].Sub(when[i-perDay]) < 24*time.Hour {
				t.Errorf("%s got %d within a day: %v", to, perDay+1, when[i-perDay:i+1])
			}
		}
	}
	for _, s := range []delivery.State{delivery.Queued, delivery.Claimed, delivery.Sending, delivery.InDoubt} {
		if states[s] > 0 {
			t.Errorf("%d are still %s", states[s], s)
		}
	}
	t.Logf("%d emails, %d kills, %d in doubt, %d left out; %v", len(f.mails), v.kills, f.doubts, len(out), states)
	if v.kills < 20 || len(f.mails) < 60 || states[delivery.Skipped] == 0 {
		t.Errorf("too little was played")
	}
}

// The same person sends by hand to the same rows again and again, over what waits: incomplete, over the daily cap,
// held while all sending is off, deferred. One of two servers is killed again and again. Nobody gets it twice.
func TestCrashByHandAgain(t *testing.T) {
	t.Parallel() // it waits most of the time
	f := newFixture(t, "2027-03-15T08:00:00Z")
	var lines string
	const n = 60
	for i := range n {
		address := fmt.Sprintf("p%d@x.example", i)
		if i%5 == 0 {
			address = "" // to be filled
		}
		lines += fmt.Sprintf("L-%d,%s,,\n", i, address)
	}
	rec, ids := f.sharing(lines, "")
	f.sender(func(s *store.Sender) { s.DailyCap, s.Zone = 20, "UTC" })
	saved, hand := f.byHand(rec, func(r *rule.Rule) { r.Late, r.SameWords = "P3D", rule.SkipSame })
	f.settled()
	columns, err := rec.Core()
	if err != nil {
		t.Fatal(err)
	}
	email, _ := columns.ColumnNamed("Email")
	f.slow, f.atRest = 60*time.Millisecond, f.decideDoubts
	v := startVictim(f)
	f.peer = v
	r := rand.New(rand.NewPCG(3, 15))
	replaced := 0
	for step := range 24 {
		if step%6 == 2 {
			if err := f.SetSending(f.ctx, false, "Ines"); err != nil {
				t.Fatal(err)
			}
		}
		// Whoever has had it is left out, as the page does; what waits is sent to again.
		p, err := f.PreviewByHand(f.ctx, rec.ID, hand, ids, calendar.Duration{Days: 7}, true)
		if err != nil {
			t.Fatal(err)
		}
		had := map[int64]bool{}
		for _, x := range p.Recent {
			had[x.ID] = true
		}
		var rows []int64
		for _, id := range ids {
			if !had[id] {
				rows = append(rows, id)
			}
		}
		if len(rows) > 0 {
			replaced += p.Waiting
			if _, _, err := f.SendByHand(f.ctx, rec.ID, saved.ID, fmt.Sprint("sending ", step), rows, "Ines", ""); err != nil {
				t.Fatal(err)
			}
		}
		for range 2 {
			i := 5 * r.IntN(n/5)
			f.persist(func(ctx context.Context) error {
				_, err := f.EditRow(ctx, rec.ID, ids[i], []CellEdit{{Column: email.ID, Text: fmt.Sprintf("p%d@x.example", i)}},
					System("Ines"))
				return err
			})
		}
		if step%6 == 4 {
			if err := f.SetSending(f.ctx, true, "Ines"); err != nil {
				t.Fatal(err)
			}
		}
		f.advance(f.Now().Add(time.Duration(1+r.IntN(6)) * time.Hour))
	}
	f.advance(f.Now().Add(4 * 24 * time.Hour))
	v.end()
	got := map[string]int{}
	for _, m := range f.mails {
		for _, to := range m.To {
			got[to]++
		}
	}
	for to, times := range got {
		if times > 1 {
			t.Errorf("%s got it %d times", to, times)
		}
	}
	if len(got) != n || replaced == 0 {
		t.Errorf("%d of %d people got it, %d emails were replaced", len(got), n, replaced)
	}
	if wrong, err := f.Store.WrongCounts(f.ctx); err != nil || len(wrong) > 0 {
		t.Error(wrong, err)
	}
	t.Logf("%d kills, %d in doubt, %d emails that waited were replaced", v.kills, f.doubts, replaced)
}
