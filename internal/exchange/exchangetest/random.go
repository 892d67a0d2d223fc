// Package exchangetest makes random bundles and random edits of their rows, for
// tests that compare two ways of playing them.
package exchangetest

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing/fstest"
	"time"

	"nivot/internal/exchange"
)

// Gen makes random bundles and edits.
type Gen struct{ R *rand.Rand }

// New makes a generator; the same two numbers make the same bundles.
func New(seed, stream uint64) *Gen { return &Gen{rand.New(rand.NewPCG(seed, stream))} }

// One picks one of a list.
func (g *Gen) One(list ...string) string { return list[g.R.IntN(len(list))] }

// Maybe reports true once in n times.
func (g *Gen) Maybe(n int) bool { return g.R.IntN(n) == 0 }

// columns are the sheet's.
var columns = []map[string]any{
	{"name": "Loan", "type": "text"}, {"name": "Due", "type": "date", "order": "year-month-day"},
	{"name": "Read", "type": "moment", "order": "year-month-day"},
	{"name": "State", "type": "choice", "options": []string{"asked", "out", "back"}},
	{"name": "Humidity", "type": "number", "group": "Readings"}, {"name": "Limit", "type": "number", "group": "readings"},
	{"name": "Open", "type": "yes/no"}, {"name": "Email", "type": "email"}, {"name": "Copy", "type": "email"},
	{"name": "Name", "type": "text"},
	{"name": "Days left", "type": "formula", "formula": "days_until(due)"}, {"name": "Over", "type": "formula",
		"formula": "humidity - limit"},
	{"name": "Age", "type": "formula", "formula": "hours_since(read)"}, {"name": "Soon", "type": "formula",
		"formula": "days_left <= 2 and not open"},
	{"name": "Known", "type": "formula", "formula": `latest_filled("Readings") - count_filled("readings")`},
}

// Cell is what somebody types into a column.
func (g *Gen) Cell(column string) string {
	switch column {
	case "Due":
		return g.One("", "soon", fmt.Sprintf("2027-03-%02d", 10+g.R.IntN(22)), fmt.Sprintf("2027-04-%02d", 1+g.R.IntN(20)),
			fmt.Sprintf("2027-03-%02d", 15+g.R.IntN(14)))
	case "Read":
		return g.One("", "2027-03-14", fmt.Sprintf("2027-03-%02d %02d:%02d", 13+g.R.IntN(18), g.R.IntN(24), g.R.IntN(60)),
			"2027-03-28 01:30")
	case "State":
		return g.One("asked", "out", "back", "out", "", "lost")
	case "Humidity", "Limit":
		return g.One(fmt.Sprint(40+g.R.IntN(30)), fmt.Sprint(40+g.R.IntN(30)), fmt.Sprintf("%d.5", 45+g.R.IntN(10)), "",
			"damp")
	case "Open":
		return g.One("yes", "no", "", "maybe")
	case "Email":
		return g.One("ada@x.example", "ben@x.example, Cass <cass@x.example>", "ADA@x.example; eve@x.example", "",
			"nobody(at)x.example", "dan@x.example")
	case "Copy":
		return g.One("", "r.moss@m.example", "ada@x.example", "r.moss@m.example", "oops@")
	case "Name":
		return g.One("Ada Quill", "Ben", "", " Eve ", "Zoë")
	}
	return ""
}

// Typed lists the columns that people type into.
var Typed = []string{"Due", "Read", "State", "Humidity", "Limit", "Open", "Email", "Copy", "Name"}

// Bundle makes a bundle of a few rows and rules, as its files.
func (g *Gen) Bundle() fstest.MapFS {
	put := func(v any) *fstest.MapFile {
		b, err := json.MarshalIndent(v, "", " ")
		if err != nil {
			panic(err)
		}
		return &fstest.MapFile{Data: b}
	}
	var csv strings.Builder
	csv.WriteString("Loan," + strings.Join(Typed, ",") + "\n")
	for i := range 3 + g.R.IntN(4) {
		fmt.Fprintf(&csv, "L-%d", i)
		for _, c := range Typed {
			fmt.Fprintf(&csv, ",%q", g.Cell(c))
		}
		csv.WriteString("\n")
	}
	var rules []any
	for i := range 1 + g.R.IntN(4) {
		rules = append(rules, g.rule(i))
	}
	return fstest.MapFS{
		"sheet.json": put(map[string]any{"format": "nivot-bundle/1", "name": "Loans", "zone": "Europe/London",
			"locale": g.One("en-GB", "de", "fr"), "key": "Loan", "settle": g.One("PT2M", "PT30S", "PT10M", "PT0S"),
			"columns": columns}),
		"rows.csv": {Data: []byte(csv.String())},
		"templates.json": put([]any{
			map[string]any{"name": "A", "subject": "A [Loan] [State: else none] [Due: else never]", "text": "[Loan: else new]"},
			map[string]any{"name": "B", "subject": "B [Loan] [Name: first word]",
				"text": "Dear [Name], [Humidity: 1 decimals, else dry] [latest filled of Readings: 2 decimals, else none]"},
			map[string]any{"name": "C", "subject": "C [Loan] again [Days left: else ?]", "text": "x"},
			map[string]any{"name": "D", "subject": "D [State: else none]", "text": "Read this."},
			map[string]any{"name": "R", "subject": "Round-up", "body": map[string]any{"type": "doc",
				"content": []any{map[string]any{"type": "roundUpTable",
					"attrs": map[string]any{"fields": []any{map[string]any{"column": "Loan"}}}}}}},
		}),
		"calendar.json": put(map[string]any{"weekdays": []string{"mon", "tue", "wed", "thu", "fri"},
			"closed": []string{"2027-03-26", "2027-03-29"}}),
		"rules.json": put(rules),
	}
}

type obj = map[string]any

func (g *Gen) rule(i int) obj {
	r := obj{"name": fmt.Sprintf("Rule %d", i), "state": "on", "trigger": g.trigger(),
		"to":    []any{obj{"column": "Email"}},
		"brake": obj{"count": 100000, "share": 1}, "send": []any{obj{"template": g.One("A", "B", "D")}}}
	kind := r["trigger"].(obj)["kind"].(string)
	if g.Maybe(2) {
		r["condition"] = g.condition(2)
	}
	if g.Maybe(3) {
		r["send"] = []any{obj{"if": g.condition(1), "template": "A"}, obj{"template": "B"}}
	}
	if g.Maybe(3) {
		r["cc"] = []any{obj{"column": "Copy"}, obj{"address": "desk@m.example"}}
	}
	if g.Maybe(3) {
		r["window"] = []any{obj{"workingDays": true, "from": "08:00", "until": "17:00"}, obj{"from": "09:30"},
			obj{"weekdays": []string{"mon", "thu"}, "until": "12:00"}}[g.R.IntN(3)]
		r["shift"] = g.One("later", "earlier", "none")
	}
	if kind == "schedule" && g.Maybe(2) {
		r["sameWords"] = g.One("send", "skip")
		r["groupBy"], r["send"] = "recipient", []any{obj{"template": "R"}}
		return r
	}
	if g.Maybe(3) {
		r["each"] = true
	}
	if g.Maybe(4) {
		r["repeat"] = []any{"once-per-row", obj{"not-more-often-than": g.One("P3D", "PT6H", "P1W")}}[g.R.IntN(2)]
	}
	if g.Maybe(2) {
		r["sameWords"] = g.One("send", "skip", "skip")
	}
	if g.Maybe(6) {
		r["hold"] = "always"
	}
	if g.Maybe(2) {
		r["then"] = g.then()
	}
	return r
}

func (g *Gen) then() obj {
	steps := []any{obj{"after": g.One("P1D", "PT1H", "P3D", "PT20M"), "template": g.One("B", "C", "D")}}
	if g.Maybe(2) {
		s := obj{"after": g.One("P2D", "P1W"), "template": "C", "at": g.One("08:15", "16:00")}
		if g.Maybe(2) {
			s["every"], s["times"] = g.One("P2D", "PT12H"), 2+g.R.IntN(3)
		}
		if g.Maybe(2) {
			s["to"] = []any{obj{"address": "boss@m.example"}}
		}
		steps = append(steps, s)
	}
	out := obj{"steps": steps}
	if g.Maybe(2) {
		out["stopIf"] = g.condition(1)
	}
	return out
}

// trigger makes a trigger; now and then a reaction waits.
func (g *Gen) trigger() obj {
	t := g.triggerAtOnce()
	switch t["kind"] {
	case "change", "threshold", "added", "edited":
		if g.Maybe(4) {
			t["delay"] = g.One("PT20M", "PT1H", "P1D", "PT90M", "P2D")
		}
	}
	return t
}

func (g *Gen) triggerAtOnce() obj {
	switch g.R.IntN(9) {
	case 0, 1:
		offsets := []any{obj{"n": -g.R.IntN(8), "unit": "days"}}
		if g.Maybe(2) {
			offsets = append(offsets, obj{"n": g.R.IntN(5) - 2, "unit": "working-days", "template": "C"})
		}
		t := obj{"kind": "date", "column": "Due", "offsets": offsets, "at": g.One("09:00", "07:30", "23:15")}
		if g.Maybe(3) {
			t["every"] = obj{"unit": g.One("days", "weeks"), "n": 3 + g.R.IntN(3), "times": 3}
		}
		return t
	case 2:
		return obj{"kind": "date", "column": "Read", "offsets": []any{obj{"n": g.R.IntN(30), "unit": "hours"},
			obj{"n": -45, "unit": "minutes"}, obj{"n": 1, "unit": "days"}}}
	case 3:
		t := obj{"kind": "change", "column": "State", "to": []any{nil, []string{"out"},
			[]string{"out", "back"}}[g.R.IntN(3)]}
		if g.Maybe(3) {
			t["from"] = []string{"asked"}
		}
		return t
	case 4:
		return obj{"kind": "threshold", "column": g.One("Humidity", "Over", "Days left", "Known", "latest of Readings"),
			"op": g.One(">=", ">", "<", "<="), "limit": g.R.IntN(60),
			"rearm": []any{nil, obj{"percent": 5}, obj{"column": "Limit"}}[g.R.IntN(3)]}
	case 5:
		return []obj{{"kind": "added"}, {"kind": "edited", "columns": []string{"Name", "Humidity"}},
			{"kind": "change", "column": "Soon", "to": []any{true}}}[g.R.IntN(3)]
	case 6:
		return obj{"kind": "threshold", "column": "Age", "op": ">", "limit": 26 + g.R.IntN(30)}
	}
	return obj{"kind": "schedule", "start": g.One("2027-03-01T09:15", "2027-03-16T01:30"),
		"rrule": g.One("FREQ=WEEKLY;BYDAY=MO,FR", "FREQ=DAILY;INTERVAL=5", "FREQ=MONTHLY;BYDAY=2SA,-1SU",
			"FREQ=DAILY;COUNT=20;BYDAY=SU,TU")}
}

func (g *Gen) condition(depth int) obj {
	if depth > 0 && g.Maybe(3) {
		var items []any
		for range 1 + g.R.IntN(3) {
			items = append(items, g.condition(depth-1))
		}
		if g.Maybe(4) {
			return obj{"not": g.condition(depth - 1)}
		}
		return obj{g.One("all", "any"): items}
	}
	return []obj{
		{"column": "State", "op": "one-of", "value": []string{"out", "asked"}}, {"column": "State", "op": "is-not",
			"value": "back"}, {"column": "State", "op": "<", "value": "back"},
		{"column": "Humidity", "op": g.One("<", ">="), "value": obj{"column": "Limit"}},
		{"column": "Open", "op": "is", "value": true}, {"column": "Email", "op": "filled"},
		{"column": "Due", "op": "days-away", "value": []int{-3, 9}}, {"column": "Days left", "op": ">",
			"value": g.R.IntN(5)}, {"column": "Name", "op": "contains", "value": "a"},
		{"column": "Humidity", "op": "changed-within", "value": g.One("P2D", "PT3H")}, {"column": "Due", "op": "unreadable"},
		{"column": "Limit", "op": "between", "value": []int{45, 60}},
		{"column": "latest filled of Readings", "op": g.One("<", ">="), "value": 40 + g.R.IntN(30)},
		{"column": "Humidity", "op": ">", "value": obj{"column": "latest of Readings"}},
	}[g.R.IntN(14)]
}

// Edits makes edits in time order. No two things happen at one instant that
// the test could not bring about in the order of section 7: edits have odd
// seconds, and keep off the instants at which rows settle.
func (g *Gen) Edits(b *exchange.Bundle, from, to time.Time) string {
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
	for range 20 + g.R.IntN(25) {
		gap := time.Duration(g.R.IntN(24*3600)) * time.Second
		if g.Maybe(2) {
			gap = time.Duration(1+g.R.IntN(240)) * time.Second
		}
		before := now
		now = now.Add(gap).Truncate(time.Minute).Add(time.Duration(1+2*g.R.IntN(14)) * time.Second)
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
				c := Typed[g.R.IntN(len(Typed))]
				cells[c] = g.Cell(c)
			}
			return cells
		}
		switch k := g.R.IntN(12); {
		case k == 0 && len(names) > 1:
			i := g.R.IntN(len(names))
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
			line["row"], line["set"] = names[g.R.IntN(len(names))], set(1+g.R.IntN(2))
		}
		j, _ := json.Marshal(line)
		out.Write(j)
		out.WriteByte('\n')
	}
	return out.String()
}
