package engine

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/exchange"
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

func playModel(t *testing.T, seed uint64) {
	g := &gen{r: rand.New(rand.NewPCG(seed, 1847))}
	files := g.bundle()
	b, err := exchange.ReadBundle(files)
	if err != nil {
		t.Fatalf("%v\n%s", err, files["rules.json"].Data)
	}
	from, to := at("2027-03-15T08:40:00Z"), at("2027-04-12T08:40:00Z")
	text := g.edits(b, from, to)
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
			want = append(want, when.UTC().Format("01-02 15:04:05")+" "+strings.Join(addresses(t, append(append([]string{}, l.To...), l.Cc...)), ",")+" | "+l.Subject)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	f := newFixture(t, from.Format(time.RFC3339))
	f.peer = startPeer(t, f.dsn, from)
	weekdays, closed := b.Calendar.Names()
	if _, err := f.SetCalendar(f.ctx, weekdays, closed, "test"); err != nil {
		t.Fatal(err)
	}
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
		t.Errorf("arrived, and not rehearsed:\n%s\nrehearsed, and not arrived:\n%s\nrules:\n%s\nedits:\n%s", without(got, want), without(want, got), files["rules.json"].Data, text)
	}
	states, err := f.Store.CountStates(f.ctx, store.LogFilter{})
	if err != nil {
		t.Fatal(err)
	}
	// What waits for approval when its row is deleted is skipped.
	if int(states["held"]) > counts["hold"] || int(states["accepted"]) != counts["send"] {
		t.Errorf("log %v, rehearsal %v\nrules:\n%s\nedits:\n%s\nrehearsal:\n%s\nlog:\n%s", states, counts, files["rules.json"].Data, text, strings.Join(all, "\n"), f.ledger())
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

// gen makes random bundles and edits.
type gen struct{ r *rand.Rand }

func (g *gen) one(list ...string) string { return list[g.r.IntN(len(list))] }
func (g *gen) maybe(n int) bool          { return g.r.IntN(n) == 0 }

var modelColumns = []map[string]any{
	{"name": "Loan", "type": "text"}, {"name": "Due", "type": "date", "order": "year-month-day"}, {"name": "Read", "type": "moment", "order": "year-month-day"},
	{"name": "State", "type": "choice", "options": []string{"asked", "out", "back"}}, {"name": "Humidity", "type": "number"}, {"name": "Limit", "type": "number"},
	{"name": "Open", "type": "yes/no"}, {"name": "Email", "type": "email"}, {"name": "Copy", "type": "email"}, {"name": "Name", "type": "text"},
	{"name": "Days left", "type": "formula", "formula": "days_until(due)"}, {"name": "Over", "type": "formula", "formula": "humidity - limit"},
	{"name": "Age", "type": "formula", "formula": "hours_since(read)"}, {"name": "Soon", "type": "formula", "formula": "days_left <= 2 and not open"},
}

// cell is what somebody types into a column.
func (g *gen) cell(column string) string {
	switch column {
	case "Due":
		return g.one("", "soon", fmt.Sprintf("2027-03-%02d", 10+g.r.IntN(22)), fmt.Sprintf("2027-04-%02d", 1+g.r.IntN(20)), fmt.Sprintf("2027-03-%02d", 15+g.r.IntN(14)))
	case "Read":
		return g.one("", "2027-03-14", fmt.Sprintf("2027-03-%02d %02d:%02d", 13+g.r.IntN(18), g.r.IntN(24), g.r.IntN(60)), "2027-03-28 01:30")
	case "State":
		return g.one("asked", "out", "back", "out", "", "lost")
	case "Humidity", "Limit":
		return g.one(fmt.Sprint(40+g.r.IntN(30)), fmt.Sprint(40+g.r.IntN(30)), fmt.Sprintf("%d.5", 45+g.r.IntN(10)), "", "damp")
	case "Open":
		return g.one("yes", "no", "", "maybe")
	case "Email":
		return g.one("ada@x.example", "ben@x.example, Cass <cass@x.example>", "ADA@x.example; eve@x.example", "", "nobody(at)x.example", "dan@x.example")
	case "Copy":
		return g.one("", "r.moss@m.example", "ada@x.example", "r.moss@m.example", "oops@")
	case "Name":
		return g.one("Ada Quill", "Ben", "", " Eve ", "Zoë")
	}
	return ""
}

var typed = []string{"Due", "Read", "State", "Humidity", "Limit", "Open", "Email", "Copy", "Name"}

func (g *gen) bundle() fstest.MapFS {
	put := func(v any) *fstest.MapFile {
		b, err := json.MarshalIndent(v, "", " ")
		if err != nil {
			panic(err)
		}
		return &fstest.MapFile{Data: b}
	}
	var csv strings.Builder
	csv.WriteString("Loan," + strings.Join(typed, ",") + "\n")
	for i := range 3 + g.r.IntN(4) {
		fmt.Fprintf(&csv, "L-%d", i)
		for _, c := range typed {
			fmt.Fprintf(&csv, ",%q", g.cell(c))
		}
		csv.WriteString("\n")
	}
	var rules []any
	for i := range 1 + g.r.IntN(4) {
		rules = append(rules, g.rule(i))
	}
	return fstest.MapFS{
		"sheet.json": put(map[string]any{"format": "nivot-bundle/1", "name": "Loans", "zone": "Europe/London", "locale": g.one("en-GB", "de", "fr"), "key": "Loan", "settle": g.one("PT2M", "PT30S", "PT10M"), "columns": modelColumns}),
		"rows.csv":   {Data: []byte(csv.String())},
		"templates.json": put([]any{
			map[string]any{"name": "A", "subject": "A [Loan] [State: else none] [Due: else never]", "text": "[Loan: else new]"},
			map[string]any{"name": "B", "subject": "B [Loan] [Name: first word]", "text": "Dear [Name], [Humidity: 1 decimals, else dry]"},
			map[string]any{"name": "C", "subject": "C [Loan] again [Days left: else ?]", "text": "x"},
			map[string]any{"name": "R", "subject": "Round-up", "body": map[string]any{"type": "doc", "content": []any{map[string]any{"type": "roundUpTable", "attrs": map[string]any{"fields": []any{map[string]any{"column": "Loan"}}}}}}},
		}),
		"calendar.json": put(map[string]any{"weekdays": []string{"mon", "tue", "wed", "thu", "fri"}, "closed": []string{"2027-03-26", "2027-03-29"}}),
		"rules.json":    put(rules),
	}
}

type obj = map[string]any

func (g *gen) rule(i int) obj {
	r := obj{"name": fmt.Sprintf("Rule %d", i), "state": "on", "trigger": g.trigger(), "to": []any{obj{"column": "Email"}},
		"brake": obj{"count": 100000, "share": 1}, "send": []any{obj{"template": g.one("A", "B")}}}
	kind := r["trigger"].(obj)["kind"].(string)
	if g.maybe(2) {
		r["condition"] = g.condition(2)
	}
	if g.maybe(3) {
		r["send"] = []any{obj{"if": g.condition(1), "template": "A"}, obj{"template": "B"}}
	}
	if g.maybe(3) {
		r["cc"] = []any{obj{"column": "Copy"}, obj{"address": "desk@m.example"}}
	}
	if g.maybe(3) {
		r["window"] = []any{obj{"workingDays": true, "from": "08:00", "until": "17:00"}, obj{"from": "09:30"}, obj{"weekdays": []string{"mon", "thu"}, "until": "12:00"}}[g.r.IntN(3)]
		r["shift"] = g.one("later", "earlier", "none")
	}
	if kind == "schedule" && g.maybe(2) {
		r["groupBy"], r["send"] = "recipient", []any{obj{"template": "R"}}
		return r
	}
	if g.maybe(3) {
		r["each"] = true
	}
	if g.maybe(4) {
		r["repeat"] = []any{"once-per-row", obj{"not-more-often-than": g.one("P3D", "PT6H", "P1W")}}[g.r.IntN(2)]
	}
	if g.maybe(6) {
		r["hold"] = "always"
	}
	if g.maybe(2) {
		r["then"] = g.then()
	}
	return r
}

func (g *gen) then() obj {
	steps := []any{obj{"after": g.one("P1D", "PT1H", "P3D", "PT20M"), "template": g.one("B", "C")}}
	if g.maybe(2) {
		s := obj{"after": g.one("P2D", "P1W"), "template": "C", "at": g.one("08:15", "16:00")}
		if g.maybe(2) {
			s["every"], s["times"] = g.one("P2D", "PT12H"), 2+g.r.IntN(3)
		}
		if g.maybe(2) {
			s["to"] = []any{obj{"address": "boss@m.example"}}
		}
		steps = append(steps, s)
	}
	out := obj{"steps": steps}
	if g.maybe(2) {
		out["stopIf"] = g.condition(1)
	}
	return out
}

func (g *gen) trigger() obj {
	switch g.r.IntN(9) {
	case 0, 1:
		offsets := []any{obj{"n": -g.r.IntN(8), "unit": "days"}}
		if g.maybe(2) {
			offsets = append(offsets, obj{"n": g.r.IntN(5) - 2, "unit": "working-days", "template": "C"})
		}
		t := obj{"kind": "date", "column": "Due", "offsets": offsets, "at": g.one("09:00", "07:30", "23:15")}
		if g.maybe(3) {
			t["every"] = obj{"unit": g.one("days", "weeks"), "n": 3 + g.r.IntN(3), "times": 3}
		}
		return t
	case 2:
		return obj{"kind": "date", "column": "Read", "offsets": []any{obj{"n": g.r.IntN(30), "unit": "hours"}, obj{"n": -45, "unit": "minutes"}, obj{"n": 1, "unit": "days"}}}
	case 3:
		t := obj{"kind": "change", "column": "State", "to": []any{nil, []string{"out"}, []string{"out", "back"}}[g.r.IntN(3)]}
		if g.maybe(3) {
			t["from"] = []string{"asked"}
		}
		return t
	case 4:
		return obj{"kind": "threshold", "column": g.one("Humidity", "Over", "Days left"), "op": g.one(">=", ">", "<", "<="), "limit": g.r.IntN(60),
			"rearm": []any{nil, obj{"percent": 5}, obj{"column": "Limit"}}[g.r.IntN(3)]}
	case 5:
		return []obj{{"kind": "added"}, {"kind": "edited", "columns": []string{"Name", "Humidity"}}, {"kind": "change", "column": "Soon", "to": []any{true}}}[g.r.IntN(3)]
	case 6:
		return obj{"kind": "threshold", "column": "Age", "op": ">", "limit": 26 + g.r.IntN(30)}
	}
	return obj{"kind": "schedule", "start": g.one("2027-03-01T09:15", "2027-03-16T01:30"), "rrule": g.one("FREQ=WEEKLY;BYDAY=MO,FR", "FREQ=DAILY;INTERVAL=5", "FREQ=MONTHLY;BYDAY=2SA,-1SU", "FREQ=DAILY;COUNT=20;BYDAY=SU,TU")}
}

func (g *gen) condition(depth int) obj {
	if depth > 0 && g.maybe(3) {
		var items []any
		for range 1 + g.r.IntN(3) {
			items = append(items, g.condition(depth-1))
		}
		if g.maybe(4) {
			return obj{"not": g.condition(depth - 1)}
		}
		return obj{g.one("all", "any"): items}
	}
	return []obj{
		{"column": "State", "op": "one-of", "value": []string{"out", "asked"}}, {"column": "State", "op": "is-not", "value": "back"}, {"column": "State", "op": "<", "value": "back"},
		{"column": "Humidity", "op": g.one("<", ">="), "value": obj{"column": "Limit"}}, {"column": "Open", "op": "is", "value": true}, {"column": "Email", "op": "filled"},
		{"column": "Due", "op": "days-away", "value": []int{-3, 9}}, {"column": "Days left", "op": ">", "value": g.r.IntN(5)}, {"column": "Name", "op": "contains", "value": "a"},
		{"column": "Humidity", "op": "changed-within", "value": g.one("P2D", "PT3H")}, {"column": "Due", "op": "unreadable"}, {"column": "Limit", "op": "between", "value": []int{45, 60}},
	}[g.r.IntN(12)]
}

// edits makes edits in time order. No two things happen at one instant that
// the test could not bring about in the order of section 7: edits have odd
// seconds, and keep off the instants at which rows settle.
func (g *gen) edits(b *exchange.Bundle, from, to time.Time) string {
	var names []string
	for _, r := range b.Rows {
		names = append(names, r.ID)
	}
	var gone []string
	var out strings.Builder
	settle := b.Sheet.Settle
	taken := map[time.Time]bool{}
	now := from
	next := len(names)
	for range 20 + g.r.IntN(25) {
		gap := time.Duration(g.r.IntN(24*3600)) * time.Second
		if g.maybe(2) {
			gap = time.Duration(1+g.r.IntN(240)) * time.Second
		}
		before := now
		now = now.Add(gap).Truncate(time.Minute).Add(time.Duration(1+2*g.r.IntN(14)) * time.Second)
		for taken[now] || !now.After(before) {
			now = now.Add(2 * time.Second)
		}
		if !now.Before(to.Add(-24 * time.Hour)) {
			break
		}
		taken[now.Add(settle)], taken[now.Add(10*settle)], taken[now] = true, true, true
		line := obj{"at": now.Format(time.RFC3339)}
		set := func(n int) obj {
			cells := obj{}
			for range n {
				c := typed[g.r.IntN(len(typed))]
				cells[c] = g.cell(c)
			}
			return cells
		}
		switch k := g.r.IntN(12); {
		case k == 0 && len(names) > 1:
			i := g.r.IntN(len(names))
			line["delete"] = names[i]
			gone = append(gone, names[i])
			names = append(names[:i], names[i+1:]...)
		case k == 1 && len(gone) > 0, k == 2:
			cells := set(7)
			if k == 1 {
				cells["Loan"] = gone[len(gone)-1]
				gone = gone[:len(gone)-1]
			} else {
				cells["Loan"] = fmt.Sprintf("L-%d", next)
				next++
			}
			names = append(names, cells["Loan"].(string))
			line["add"] = cells
		default:
			line["row"], line["set"] = names[g.r.IntN(len(names))], set(1+g.r.IntN(2))
		}
		j, _ := json.Marshal(line)
		out.Write(j)
		out.WriteByte('\n')
	}
	return out.String()
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
		out = append(out, fmt.Sprintf("%s row %d step %d %s %q (%s) %s", d.DueAt.Format("01-02 15:04:05"), d.RowID, d.Step, d.State, d.Subject, d.Reason, d.Origin))
	}
	return strings.Join(out, "\n")
}
