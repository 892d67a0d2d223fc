package plan

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/reason"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
)

// twoDays is a trigger on a date and the day after it.
const twoDays = `"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"},{"n":1,"unit":"days"}],` +
	`"at":"09:00"}`

// shared makes rules R1, R2 ... ready over a desk whose templates S and T say the same for every row: T the
// row's name, and S nothing of it.
func shared(t *testing.T, rules []string) (*sheet.Sheet, []*CompiledRule) {
	t.Helper()
	s, templates := desk()
	for name, line := range map[string]string{"S": "Shared", "T": "Shared [Name]"} {
		x := &template.Template{ID: name, Name: name}
		x.Subject, _ = template.ParseLine(line, s)
		x.Body, _ = template.ParseText("Read this.", s)
		templates[name] = x
	}
	var out []*CompiledRule
	for i, text := range rules {
		r, err := rule.Decode([]byte(fmt.Sprintf(`{"name":"R%d","state":"on","to":[{"column":"to"}],%s}`, i+1, text)))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		r.ID = r.Name
		out = append(out, ready(s, r, templates))
	}
	return s, out
}

// sharedRows makes rows L1, L2 ... of a desk.
func sharedRows(s *sheet.Sheet, cells []string) (out []*sheet.Row) {
	for i, c := range cells {
		id := fmt.Sprintf("L%d", i+1)
		out = append(out, mkRow(s, id, "key="+id+"|"+c))
	}
	return out
}

// toldWords tells the lines of several rules, with why they are skipped.
func toldWords(lines []Line) string {
	var out []string
	for _, l := range lines {
		x := l.At.UTC().Format("02T15:04") + fmt.Sprintf(" R%d ", l.Rule+1) + l.Row + strings.Join(l.Rows, "+") + " " +
			string(l.Outcome)
		if l.Step > 0 {
			x += fmt.Sprintf(" step %d", l.Step)
		}
		if l.Outcome == Skip {
			x += " (" + l.Reason + ")"
		}
		out = append(out, x)
	}
	return strings.Join(out, "; ")
}

// Section 3, same words: who is skipped, and by whom.
func TestSameWords(t *testing.T) {
	date := func(clock, more string) string {
		return `"trigger":{"kind":"date","column":"due","offsets":[{"n":0,"unit":"days"}],"at":"` + clock +
			`"},"send":[{"template":"S"}]` + more
	}
	const skip = `,"sameWords":"skip"`
	to := func(who string) string { return "due=2027-03-16|to=" + who }
	for _, c := range []struct {
		name  string
		rules []string
		rows  []string
		want  string
	}{
		{"off unless asked for", []string{date("09:00", "")}, []string{to("a@x.example"), to("a@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 send"},
		{"of one instant the first in order goes", []string{date("09:00", skip)},
			[]string{to("a@x.example"), to("b@x.example"), to("A@X.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 send; 16T09:00 R1 L3 skip (same words as the email for L1 by “R1”, " +
				"Tue 16 Mar 09:00)"},
		{"To is a set", []string{date("09:00", skip)},
			[]string{to("a@x.example; b@x.example"), to("B@x.example, Ada <a@x.example>")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, Tue 16 Mar 09:00)"},
		{"other recipients", []string{date("09:00", skip)}, []string{to("a@x.example; b@x.example"), to("a@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 send"},
		{"other words", []string{date("09:00", skip+`,"cc":[{"column":"cc"}]`), strings.Replace(date("09:00", skip), `"S"`,
			`"T"`, 1)}, []string{to("a@x.example|who=Ada"), to("a@x.example|who=Eve")},
			"16T09:00 R1 L1 send; 16T09:00 R2 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, " +
				"Tue 16 Mar 09:00); 16T09:00 R2 L2 send"},
		{"a copy makes no difference", []string{date("09:00", skip+`,"cc":[{"column":"cc"}]`)},
			[]string{to("a@x.example"), to("a@x.example|cc=c@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, Tue 16 Mar 09:00)"},
		{"exactly twelve hours counts", []string{date("07:00", ""), date("19:00", skip)}, []string{to("a@x.example")},
			"16T07:00 R1 L1 send; 16T19:00 R2 L1 skip (same words as the email for L1 by “R1”, Tue 16 Mar 07:00)"},
		{"more than twelve hours does not", []string{date("06:59", ""), date("19:00", skip)}, []string{to("a@x.example")},
			"16T06:59 R1 L1 send; 16T19:00 R2 L1 send"},
		{"the later email's rule decides alone", []string{date("09:00", skip), date("10:00", "")},
			[]string{to("a@x.example")}, "16T09:00 R1 L1 send; 16T10:00 R2 L1 send"},
		{"what is held counts", []string{date("09:00", `,"hold":"always"`), date("10:00", skip)},
			[]string{to("a@x.example")},
			"16T09:00 R1 L1 hold; 16T10:00 R2 L1 skip (same words as the email for L1 by “R1”, Tue 16 Mar 09:00)"},
		{"what is skipped does not", []string{date("09:00", `,"condition":{"column":"open","op":"is","value":true}`),
			date("10:00", skip)}, []string{to("a@x.example")}, "16T09:00 R1 L1 skip (condition false: open is empty, not so " +
			"that open is yes); 16T10:00 R2 L1 send"},
		{"occasions of one rule and row never stand in each other's way", []string{
			`"trigger":{"kind":"schedule","start":"2027-03-16T09:00","rrule":"FREQ=HOURLY;COUNT=2"},"send":[{"template":"S"}]` +
				skip}, []string{to("a@x.example")}, "16T09:00 R1 L1 send; 16T10:00 R1 L1 send"},
		{"nor do follow-ups of one", []string{date("09:00", skip+`,"then":{"steps":[{"after":"PT1H","template":"S"}]}`)},
			[]string{to("a@x.example")}, "16T09:00 R1 L1 send; 16T10:00 R1 L1 send step 1"},
		{"a follow-up is skipped for another row's email, and one that is skipped has none",
			[]string{date("09:00", skip+`,"then":{"steps":[{"after":"PT1H","template":"S"}]}`)},
			[]string{to("a@x.example"), to("a@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, Tue 16 Mar 09:00); " +
				"16T10:00 R1 L1 send step 1"},
		{"it does not count for repeat", []string{twoDays + `,"send":[{"template":"S"}],"repeat":"once-per-row"` + skip},
			[]string{to("a@x.example"), to("a@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, Tue 16 Mar 09:00); " +
				"17T09:00 R1 L1 skip (repeat: the row has had its email); 17T09:00 R1 L2 send"},
		{"each mailbox by itself", []string{date("09:00", skip+`,"each":true`)},
			[]string{to("a@x.example; b@x.example"), to("b@x.example; c@x.example")},
			"16T09:00 R1 L1 send; 16T09:00 R1 L1 send; 16T09:00 R1 L2 skip (same words as the email for L1 by “R1”, " +
				"Tue 16 Mar 09:00); 16T09:00 R1 L2 send"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, settings := shared(t, c.rules)
			lines, err := rehearse(settings, sharedRows(s, c.rows), nil, at("2027-03-15T08:00:00Z"), at("2027-03-18T00:00:00Z"))
			if err != nil {
				t.Fatal(err)
			}
			if got := toldWords(lines); got != c.want {
				t.Errorf("got\n  %s\nwant\n  %s", got, c.want)
			}
		})
	}
}

// A rehearsal finds, row by row and in order, what playing everything anew after each single skip finds.
func TestSameWordsOverAndOver(t *testing.T) {
	skips, learnt := 0, 0
	for seed := range uint64(60) {
		g := rand.New(rand.NewPCG(seed, 99))
		one := func(list ...string) string { return list[g.IntN(len(list))] }
		var rules []string
		for range 1 + g.IntN(3) {
			text := one(twoDays,
				`"trigger":{"kind":"schedule","start":"2027-03-16T09:00","rrule":"FREQ=HOURLY;INTERVAL=8;COUNT=9"}`,
				`"trigger":{"kind":"edited","columns":["hum","who"]}`) + `,"send":[{"template":"` + one("S", "S", "T") + `"}]`
			text += one("", `,"sameWords":"skip"`, `,"sameWords":"skip"`) + one("", "", `,"each":true`) +
				one("", "", `,"repeat":"once-per-row"`, `,"repeat":{"not-more-often-than":"PT20H"}`) +
				one("", "", `,"hold":"always"`) + one("", `,"then":{"steps":[{"after":"`+one("PT1H", "P1D")+`","template":"`+
				one("S", "T")+`"`+one("", `,"every":"PT8H","times":3`)+`}]}`)
			rules = append(rules, text)
		}
		person := func() string {
			return one("a@x.example", "a@x.example", "A@x.example; b@x.example", "b@x.example", "")
		}
		var rows []string
		for range 2 + g.IntN(4) {
			rows = append(rows, "due=2027-03-"+one("16", "17")+"|to="+person()+"|who="+one("Ada", "Eve", ""))
		}
		s, settings := shared(t, rules)
		var edits []Edit
		for i := range g.IntN(12) {
			edits = append(edits, Edit{At: at("2027-03-15T10:00:01Z").Add(time.Duration(i*313) * time.Minute),
				Row: fmt.Sprintf("L%d", 1+g.IntN(len(rows))),
				Set: cells(s, one("hum="+fmt.Sprint(g.IntN(9)), "to="+person(), "who="+one("Ada", "Eve")))})
		}
		from, to := at("2027-03-15T08:00:00Z"), at("2027-03-20T00:00:00Z")
		got, err := rehearse(settings, sharedRows(s, rows), edits, from, to)
		if err != nil {
			t.Fatal(err)
		}
		want, n := overAndOver(t, settings, sharedRows(s, rows), edits, from, to)
		if skips += n; n > 0 && slices.ContainsFunc(settings, (*CompiledRule).learnsOfSame) {
			learnt++
		}
		if a, b := toldWords(got), toldWords(want); a != b {
			t.Fatalf("seed %d: rules %s\nrows %s\nedits %v\ngot\n  %s\nwant\n  %s", seed, strings.Join(rules, "\n"),
				strings.Join(rows, "\n"), edits, strings.ReplaceAll(a, "; ", "\n  "), strings.ReplaceAll(b, "; ", "\n  "))
		}
	}
	if skips < 100 || learnt < 10 {
		t.Errorf("%d emails were skipped, in %d trials whose rules go by it: too few to prove anything", skips, learnt)
	}
}

// overAndOver plays all rows by all rules until no line says what one before it has said, from the start after
// each one that does.
func overAndOver(t *testing.T, settings []*CompiledRule, rows []*sheet.Row, edits []Edit, from,
	to time.Time) (lines []Line, skips int) {
	t.Helper()
	type key struct{ rule, row int }
	same := map[key]map[rule.ID]reason.Reason{}
again:
	lines = nil
	for k, row := range rows {
		c := &Course{id: row.ID, order: int64(k), start: row, sheet: settings[0].Sheet}
		for _, e := range edits {
			if e.Row == row.ID {
				c.edits = append(c.edits, e)
			}
		}
		if err := c.begin(from); err != nil {
			t.Fatal(err)
		}
		for i, s := range settings {
			p := newPlayer(s, c, i, from)
			p.compares, p.Same = true, same[key{i, k}]
			p.play(to)
			for _, l := range p.lines {
				lines = append(lines, *l)
			}
		}
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return Compare(&a, &b) })
	for i := range lines {
		l := &lines[i]
		if l.Outcome != Send && l.Outcome != Hold || settings[l.Rule].Rule.SameWords != rule.SkipSame {
			continue
		}
		for j := i - 1; j >= 0; j-- {
			o := &lines[j]
			if (o.Outcome == Send || o.Outcome == Hold) && o.Words == l.Words && l.At.Sub(o.At) <= 12*time.Hour &&
				(o.Rule != l.Rule || o.Row != l.Row) {
				k := key{l.Rule, int(l.Order)}
				if same[k] == nil {
					same[k] = map[rule.ID]reason.Reason{}
				}
				at := o.At
				same[k][l.Occasion] = reason.Reason{Code: reason.SameWords, Name: settings[o.Rule].Rule.Name,
					Rows: []string{o.Row}, At: &at, Zone: settings[o.Rule].Zone.String()}
				skips++
				goto again
			}
		}
	}
	return lines, skips
}

// An outlook counts beforehand what a rehearsal skips.
func TestOutlookCountsSameWords(t *testing.T) {
	total := 0
	for seed := range uint64(80) {
		g := rand.New(rand.NewPCG(seed, 7))
		one := func(list ...string) string { return list[g.IntN(len(list))] }
		text := one(twoDays,
			`"trigger":{"kind":"schedule","start":"2027-03-16T09:00","rrule":"FREQ=HOURLY;INTERVAL=8;COUNT=9"}`) +
			`,"send":[{"template":"` + one("S", "T") + `"}],"sameWords":"skip"` + one("", `,"each":true`) +
			one("", `,"hold":"always"`) + one("", `,"then":{"steps":[{"after":"P3D","template":"C"}]}`)
		var rows []string
		for range 2 + g.IntN(5) {
			rows = append(rows, "due=2027-03-"+one("16", "17")+"|to="+one("a@x.example", "a@x.example",
				"A@x.example; b@x.example", "b@x.example", "")+"|who="+one("Ada", "Eve"))
		}
		s, settings := shared(t, []string{text})
		lines, err := rehearse(settings, sharedRows(s, rows), nil, at("2027-03-15T08:00:00Z"), at("2027-03-27T00:00:00Z"))
		if err != nil {
			t.Fatal(err)
		}
		emails, skipped := 0, 0
		for _, l := range lines {
			switch {
			case l.Outcome != Skip:
				emails++
			case strings.HasPrefix(l.Reason, "same words"):
				skipped++
			}
		}
		halves := []*Outlook{NewOutlook(settings[0], at("2027-03-15T08:00:00Z"), 12),
			NewOutlook(settings[0], at("2027-03-15T08:00:00Z"), 12)}
		settings[0].Light = true
		for i, row := range sharedRows(s, rows) {
			halves[i%2].Look(row, int64(i), func() *sheet.Row { return row })
		}
		halves[0].Merge(halves[1])
		halves[0].Done()
		o := halves[0]
		byDay := 0
		for _, d := range o.Days {
			for _, n := range d.Emails {
				byDay += n
			}
		}
		if total += skipped; o.Emails != emails || byDay != emails || o.Skipped[reason.SameWords] != skipped {
			t.Errorf("seed %d: %s\n%s\nthe outlook has %d (%d by day) and skips %d; the rehearsal %d and %d\n%s", seed, text,
				strings.Join(rows, "\n"), o.Emails, byDay, o.Skipped[reason.SameWords], emails, skipped,
				strings.ReplaceAll(toldWords(lines), "; ", "\n"))
		}
	}
	if total < 50 {
		t.Errorf("%d emails were skipped: too few to prove anything", total)
	}
}
