package plan_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"nivot/internal/core/plan"
	"nivot/internal/core/reason"
	"nivot/internal/core/sheet"
	"nivot/internal/exchange"
	"nivot/internal/exchange/exchangetest"
)

// What an outlook counts is what judging one email after the other comes to, in
// random bundles of every shape, over all rows at once or in parts.
func TestOutlookAgreesWithForesee(t *testing.T) {
	const days = 45
	emails := 0
	for seed := range uint64(1500) {
		files := exchangetest.New(seed, 77).Bundle()
		b, err := exchange.ReadBundle(files)
		if err != nil {
			t.Fatal(err)
		}
		for k := range b.Rules {
			b.Rules[k].SameWords = "" // which takes all rows to know: TestOutlookCountsSameWords
			slow, outlook, rest := settingsOf(t, b)[k], plan.NewOutlook(settingsOf(t, b)[k], from, days),
				plan.NewOutlook(settingsOf(t, b)[k], from, days)
			outlook.Silenced, rest.Silenced, slow.Silenced = silenced, silenced, silenced
			outlook.Keep, rest.Keep = 1<<20, 1<<20
			slow.Light = true
			want, skipped := map[string]int{}, map[reason.Code]int{}
			asides := saidOf(slow, b.Rows, outlook.Until, seed)
			outlook.Asides, rest.Asides = asides, asides
			for i, row := range b.Rows {
				o := outlook
				if i >= len(b.Rows)/2 {
					o = rest
				}
				o.Look(row, int64(i), func() *sheet.Row { return row })
				for _, c := range slow.Foresee(row, from, from, outlook.Until, asides[row.ID]...) {
					if c.Outcome == plan.Skip {
						skipped[c.Decision.Reason.Code]++
						continue
					}
					want[fmt.Sprint(row.ID, c.Due.UTC(), c.Step, c.Outcome, c.Decision.Template)]++
				}
			}
			if slow.IsRoundUp() {
				for _, round := range slow.Rounds(from, outlook.Until) {
					ups, own := slow.RoundUps(round, b.Rows, round.Due, func(*sheet.Row) plan.Memory { return plan.Memory{} })
					plan.AsidesOf(asides[""]).SkipRoundUps(ups)
					for _, u := range ups {
						own = append(own, u.Considered)
					}
					for _, c := range own {
						if c.Outcome == plan.Skip {
							skipped[c.Decision.Reason.Code]++
							continue
						}
						row := c.Row
						if row == "" {
							row = "up " + c.Mailbox
						}
						want[fmt.Sprint(row, c.Due.UTC(), c.Step, c.Outcome, c.Decision.Template)]++
					}
				}
			}
			outlook.Merge(rest)
			outlook.Done()
			got := map[string]int{}
			for i, l := range outlook.First {
				row := l.Row.ID
				if l.Rows > 0 {
					row = "up " + l.Who
				}
				got[fmt.Sprint(row, l.Due.UTC(), l.Step, l.Outcome, l.Wording)] += l.Emails
				if i > 0 && l.Due.Before(outlook.First[i-1].Due) {
					t.Errorf("seed %d: the first are not in order", seed)
				}
			}
			total := 0
			for _, d := range outlook.Days {
				for _, n := range d.Emails {
					total += n
				}
			}
			if !maps.Equal(got, want) || !maps.Equal(outlook.Skipped, skipped) || total != outlook.Emails ||
				outlook.Total != len(b.Rows) {
				t.Fatalf("seed %d rule %d: counted\n%s %v\nforeseen\n%s %v\nof %d, by day %d\n%s", seed, k, lines(got),
					outlook.Skipped, lines(want), skipped,
					outlook.Emails, total, files["rules.json"].Data)
			}
			emails += total
		}
	}
	if emails < 5000 {
		t.Errorf("only %d emails were foreseen", emails)
	}
}

func silenced(key string) bool { return strings.HasPrefix(key, "b") }

func settingsOf(t *testing.T, b *exchange.Bundle) []*plan.CompiledRule {
	t.Helper()
	out, err := b.Settings(true)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func lines(m map[string]int) string {
	keys := slices.Sorted(maps.Keys(m))
	for i, k := range keys {
		keys[i] = fmt.Sprint(k, " x", m[k])
	}
	return strings.Join(keys, "\n")
}

// What is new and what no longer goes where another rule takes one's place, or
// where a row's cells change, is exactly what differs.
func TestDifference(t *testing.T) {
	for seed := range uint64(300) {
		b, err := exchange.ReadBundle(exchangetest.New(seed, 78).Bundle())
		if err != nil {
			t.Fatal(err)
		}
		a, a2, z := plan.NewOutlook(settingsOf(t, b)[0], from, 45), plan.NewOutlook(settingsOf(t, b)[0], from, 45),
			plan.NewOutlook(settingsOf(t, b)[len(b.Rules)-1], from, 45)
		same, other := plan.Difference{Keep: 5}, plan.Difference{Keep: 5}
		for i, row := range b.Rows {
			whole := func() *sheet.Row { return row }
			was := slices.Clone(a.Look(row, int64(i), whole))
			same.Look(was, a2.Look(row, int64(i), whole), int64(i), whole, whole)
			other.Look(was, z.Look(row, int64(i), whole), int64(i), whole, whole)
		}
		ups := a.Done()
		same.Look(ups, a2.Done(), 0, nil, nil)
		other.Look(ups, z.Done(), 0, nil, nil)
		if same.New+same.Gone+same.Rows+len(same.Lines) > 0 {
			t.Fatalf("seed %d: nothing has changed, and %+v", seed, same)
		}
		if other.New-other.Gone != z.Emails-a.Emails || len(other.Lines) > 5 || other.New+other.Gone > 0 &&
			len(other.Lines) == 0 {
			t.Fatalf("seed %d: %d emails before, %d after, and %+v", seed, a.Emails, z.Emails, other)
		}
	}
}

// What a rule cannot judge is counted, and what it need not is not.
func TestUnjudged(t *testing.T) {
	g := exchangetest.New(4, 4)
	files := g.Bundle()
	for _, c := range []struct {
		rule string
		want int
	}{
		{`{"kind":"date","column":"Due","offsets":[{"n":-1,"unit":"days"}]}`, 3},
		{`{"kind":"threshold","column":"Humidity","op":">","limit":{"column":"Limit"}}`, 3},
		{`{"kind":"change","column":"State","to":["out"]}`, 3},
		{`{"kind":"added"}`, 2},
	} {
		files["rules.json"].Data = fmt.Appendf(nil,
			`[{"name":"x","state":"on","trigger":%s,"condition":{"column":"Open","op":"is","value":true},"send":[{"template":"A"}],"to":[{"column":"Email"}]}]`, c.rule)
		files["rows.csv"].Data = []byte(`Loan,Due,Read,State,Humidity,Limit,Open,Email,Copy,Name
L-1,2027-03-20,,out,50,60,yes,a@m.example,,
L-2,soon,,lost,damp,60,yes,a@m.example,,
L-3,2027-03-20,,out,50,,yes,,,
L-4,2027-03-20,,out,,60,no,a@m.example,,
L-5,2027-03-20,,out,50,,perhaps,a@m.example,,
`)
		b, err := exchange.ReadBundle(files)
		if err != nil {
			t.Fatal(err)
		}
		o := plan.NewOutlook(settingsOf(t, b)[0], from, 60)
		for i, row := range b.Rows {
			o.Look(row, int64(i), func() *sheet.Row { return row })
		}
		if len(o.Faulty) != c.want || slices.ContainsFunc(o.Faulty, func(f plan.FaultyRow) bool {
			return f.Row == nil ||
				f.Column == ""
		}) {
			t.Errorf("%s: %d of them are kept: %+v", c.rule, len(o.Faulty), o.Faulty)
		}
		if o.Unjudged != c.want || o.Rows != 3 {
			t.Errorf("%s: %d rows cannot be judged, want %d; %d match", c.rule, o.Unjudged, c.want, o.Rows)
		}
	}
}

// saidOf says of some emails to come that they are left out, go a day later, or
// end their chain.
func saidOf(s *plan.CompiledRule, rows []*sheet.Row, until time.Time, seed uint64) map[string][]plan.Aside {
	if seed%3 != 0 {
		return nil
	}
	r := rand.New(rand.NewPCG(seed, 5))
	out := map[string][]plan.Aside{}
	for _, row := range rows {
		coming := s.Foresee(row, from, from, until)
		if len(coming) == 0 || r.IntN(2) == 0 {
			continue
		}
		a := plan.Aside{Of: coming[r.IntN(len(coming))].Occasion, By: "Ines"}
		switch r.IntN(3) {
		case 0:
			a.To = a.Of.Due.Add(24 * time.Hour)
			if a.Of.Base == "" {
				a.Of = a.Of.Whole()
			}
		case 1:
			a.Ends = a.Of.Base != ""
		}
		out[row.ID] = append(out[row.ID], a)
	}
	if s.IsRoundUp() {
		for _, round := range s.Rounds(from, until) {
			ups, _ := s.RoundUps(round, rows, round.Due, func(*sheet.Row) plan.Memory { return plan.Memory{} })
			for _, u := range ups {
				if r.IntN(3) == 0 {
					out[""] = append(out[""], plan.Aside{Of: u.Occasion, By: "Ines"})
				}
			}
		}
	}
	return out
}

// A row is in one of the round-ups to come where gathering it alone makes one.
func TestInRound(t *testing.T) {
	in, out := 0, 0
	for seed := range uint64(400) {
		b, err := exchange.ReadBundle(exchangetest.New(seed, 78).Bundle())
		if err != nil {
			t.Fatal(err)
		}
		for k := range b.Rules {
			if !settingsOf(t, b)[k].IsRoundUp() {
				continue
			}
			all := plan.NewOutlook(settingsOf(t, b)[k], from, 28)
			for i, row := range b.Rows {
				one := plan.NewOutlook(settingsOf(t, b)[k], from, 28)
				one.Look(row, int64(i), func() *sheet.Row { return row })
				ups := len(one.Done())
				if got := all.InRound(row); got != (ups > 0) {
					t.Fatalf("seed %d, rule %d, row %s: in a round-up %v, but %d are made of it alone", seed, k, row.ID, got, ups)
				}
				if ups > 0 {
					in++
				} else {
					out++
				}
			}
		}
	}
	if in < 50 || out < 50 {
		t.Errorf("%d rows in round-ups, %d in none: too few to tell", in, out)
	}
}
