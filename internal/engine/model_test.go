package engine

import (
	"encoding/json"
	"fmt"
	"os"
	"sort"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
	"nivot/internal/store"
)

// modelTrials is how many random bundles `make test` plays; NIVOT_SOAK, a
// duration, plays them for that long.
const modelTrials = 14

// Section 7: random bundles with random edits, played through the running
// engines (two processes on one database) on a practice clock, arrive at the practice
// mail server as exactly what the rehearsal printed: nothing more, nothing
// less, nothing twice, each at its instant.
func TestModel(t *testing.T) {
	t.Parallel() // it waits most of the time
	seed, trials, until := uint64(20270315), modelTrials, time.Time{}
	if s := os.Getenv("NIVOT_SOAK"); s != "" {
		d, err := time.ParseDuration(s)
		if err != nil {
			t.Fatal(err)
		}
		seed, trials, until = uint64(time.Now().UnixNano()), 1<<30, time.Now().Add(d)
	}
	if s := os.Getenv("NIVOT_SEED"); s != "" {
		if _, err := fmt.Sscan(s, &seed); err != nil {
			t.Fatal(err)
		}
		trials = 1
	}
	for i := range trials {
		if !until.IsZero() && time.Now().After(until) {
			return
		}
		s := seed + uint64(i)
		t.Run(fmt.Sprintf("seed %d", s), func(t *testing.T) { playModel(t, s) })
		if t.Failed() {
			return
		}
	}
}

// Emails that a pace spreads out are those that the rehearsal printed, each once, none before its instant, and no
// two closer than the pace allows, over two servers. With a daily cap besides, no day has more than it allows, and
// what goes is nothing that was not rehearsed.
func TestModelWithLimits(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		t.Run(fmt.Sprintf("pace, seed %d", seed), func(t *testing.T) { playLimited(t, 20270500+seed, 6, 0) })
		t.Run(fmt.Sprintf("pace and cap, seed %d", seed), func(t *testing.T) { playLimited(t, 20270500+seed, 6, 4) })
	}
}

func playLimited(t *testing.T, seed uint64, pace, daily int) {
	from, to := at("2027-03-15T08:40:00Z"), at("2027-03-31T08:40:00Z")
	var b *exchange.Bundle
	var edits []plan.Edit
	var due map[string][]time.Time // by what arrives
	rehearsed := 0
	for ; rehearsed < 20; seed += 1000 { // with fewer, limits have nothing to do
		g := exchangetest.New(seed, 1847)
		var err error
		if b, err = exchange.ReadBundle(g.Bundle()); err != nil {
			t.Fatal(err)
		}
		if edits, err = b.ReadEdits([]byte(g.Edits(b, from, to))); err != nil {
			t.Fatal(err)
		}
		due, rehearsed = map[string][]time.Time{}, 0
		if err := b.Rehearse(false, edits, from, to, func(l *exchange.RehearsalLine) error {
			if l.Outcome == string(plan.Send) {
				when, _ := time.Parse(time.RFC3339, l.At)
				k := strings.Join(addresses(t, append(append([]string{}, l.To...), l.Cc...)), ",") + " | " + l.Subject
				due[k] = append(due[k], when)
				rehearsed++
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	f := stillFixture(t, from.Format(time.RFC3339))
	f.sender(func(s *store.Sender) { s.Pace, s.DailyCap, s.Zone = pace, daily, "UTC" })
	f.run()
	f.peer = startPeer(f, f.dsn, from)
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	f.settled()
	f.play(b, rec, edits)
	f.advance(to.Add(-time.Second))
	f.mu.Lock()
	defer f.mu.Unlock()
	var last time.Time
	byDay := map[string]int{}
	for i, m := range f.mails {
		k, when := strings.Join(m.To, ",")+" | "+m.Subject, f.arrived[i]
		if byDay[when.Format(time.DateOnly)] += len(m.To); daily > 0 && byDay[when.Format(time.DateOnly)] > daily {
			t.Errorf("%s: more than %d recipients on a day", when, daily)
		}
		if gap := when.Sub(last); i > 0 && gap < time.Minute/time.Duration(pace) {
			t.Errorf("%s comes %s after the one before it", k, gap)
		}
		last = when
		switch list := due[k]; {
		case len(list) == 0 && daily == 0:
			t.Errorf("%s at %s was not rehearsed", k, when)
		case len(list) == 0: // what waits for another day is written anew, on the row as it is then
		case when.Before(list[0]):
			t.Errorf("%s at %s comes before it is due, at %s", k, when, list[0])
		default:
			due[k] = list[1:]
		}
	}
	for k, list := range due {
		if daily == 0 && len(list) > 0 && list[0].Before(to.Add(-time.Hour)) {
			t.Errorf("%s did not come %d times, due first at %s", k, len(list), list[0])
		}
	}
	if len(f.mails) > rehearsed {
		t.Errorf("%d emails came, and %d were rehearsed", len(f.mails), rehearsed)
	}
	t.Logf("%d of %d emails came", len(f.mails), rehearsed)
}

func playModel(t *testing.T, seed uint64) {
	g := exchangetest.New(seed, 1847)
	files := g.Bundle()
	b, err := exchange.ReadBundle(files)
	if err != nil {
		t.Fatalf("%v\n%s", err, files["rules.json"].Data)
	}
	from, to := at("2027-03-15T08:40:00Z"), at("2027-04-12T08:40:00Z")
	text := g.Edits(b, from, to)
	edits, err := b.ReadEdits([]byte(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	var want []string
	var all []string
	counts := map[string]int{}
	err = b.Rehearse(false, edits, from, to, func(l *exchange.RehearsalLine) error {
		j, _ := json.Marshal(l)
		all = append(all, string(j))
		counts[l.Outcome]++
		if l.Outcome == string(plan.Send) {
			when, _ := time.Parse(time.RFC3339, l.At)
			want = append(want, when.UTC().Format("01-02 15:04:05")+" "+
				strings.Join(addresses(t, append(append([]string{}, l.To...), l.Cc...)), ",")+" | "+l.Subject)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	f := stillFixture(t, from.Format(time.RFC3339))
	if seed%2 == 0 {
		f.opts.Horizon = near
	}
	if seed%3 > 0 {
		f.apartFrom = 2
	}
	f.run()
	f.peer = startPeer(f, f.dsn, from)
	rec, err := f.Install(f.ctx, b, true, "test")
	if err != nil {
		t.Fatal(err)
	}
	f.settled()
	f.play(b, rec, edits)
	f.advance(to.Add(-time.Second))
	got := f.timed()
	sort.Strings(want)
	if a, w := strings.Join(got, "\n"), strings.Join(want, "\n"); a != w {
		t.Errorf("arrived, and not rehearsed:\n%s\nrehearsed, and not arrived:\n%s\nrules:\n%s\nedits:\n%s",
			without(got, want), without(want, got), files["rules.json"].Data, text)
	}
	states, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil {
		t.Fatal(err)
	}
	// What waits for approval when its row is deleted is skipped.
	if int(states["held"]) > counts["hold"] || int(states["accepted"]) != counts["send"] {
		t.Errorf("log %v, rehearsal %v\nrules:\n%s\nedits:\n%s\nrehearsal:\n%s\nlog:\n%s", states, counts,
			files["rules.json"].Data, text, strings.Join(all, "\n"), f.ledger())
	}
	t.Logf("%d edits; rehearsal %v; log %v", len(edits), counts, states)
}

// without gives what is in a and not in b.
func without(a, b []string) string {
	n := map[string]int{}
	for _, x := range b {
		n[x]++
	}
	var out []string
	for _, x := range a {
		if n[x]--; n[x] < 0 {
			out = append(out, x)
		}
	}
	return strings.Join(out, "\n")
}

// timed lists what has arrived with the instant at which it did.
func (f *fixture) timed() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out []string
	for i, m := range f.mails {
		out = append(out, f.arrived[i].Format("01-02 15:04:05")+" "+strings.Join(m.To, ",")+" | "+m.Subject)
	}
	sort.Strings(out)
	return out
}

// ledger lists what the log holds, for a failure's report.
func (f *fixture) ledger() string {
	var ds []store.Delivery
	if err := f.Store.DB(f.ctx).Order("due_at, id").Find(&ds).Error; err != nil {
		return err.Error()
	}
	var out []string
	for _, d := range ds {
		out = append(out, fmt.Sprintf("%s row %d step %d %s %q (%s) %s", d.DueAt.Format("01-02 15:04:05"), d.RowID, d.Step,
			d.State, d.Subject, d.Reason, d.Origin))
	}
	return strings.Join(out, "\n")
}
