package engine

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/shopspring/decimal"

	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/store"
)

// busySheet makes a sheet whose rows have a moment, templates A, B and C, and a rule, switched on, that
// writes A at the moment.
func (f *fixture) busySheet(moments []time.Time) (rec *store.Sheet, templates []string, r *store.Rule) {
	f.t.Helper()
	rec = &store.Sheet{Name: "Checks", Zone: "UTC", Locale: "en-GB"}
	cols := []sheet.Column{{Name: "Case", Type: value.Text}, {Name: "Email", Type: value.Email},
		{Name: "When", Type: value.Moment, Order: value.YearMonthDay}}
	if err := f.CreateSheet(f.ctx, rec, cols, 0, 1, "test"); err != nil {
		f.t.Fatal(err)
	}
	in := Incoming{Columns: []string{"c1", "c2", "c3"}}
	for i, m := range moments {
		in.Rows = append(in.Rows, []string{fmt.Sprintf("C-%05d", i), fmt.Sprintf("c%d@x.example", i),
			m.Format("2006-01-02 15:04:05")})
	}
	if _, err := f.Import(f.ctx, rec.ID, in, ImportOptions{Quiet: true}, System("test")); err != nil {
		f.t.Fatal(err)
	}
	core := &sheet.Sheet{Columns: cols}
	for _, name := range []string{"A", "B", "C"} {
		t := &template.Template{Name: name}
		var err error
		if t.Subject, err = template.ParseLine(name+" of [Case]", core); err != nil {
			f.t.Fatal(err)
		}
		if t.Body, err = template.ParseText("Dear colleague, look at [Case].", core); err != nil {
			f.t.Fatal(err)
		}
		saved, err := f.SaveTemplate(f.ctx, rec.ID, "", t, 0, "test")
		if err != nil {
			f.t.Fatal(err)
		}
		templates = append(templates, saved.ID)
	}
	r, err := f.SaveRule(f.ctx, rec.ID, "", writing(templates[0]), 0, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	return rec, templates, f.switchTo(r, rule.On)
}

// writing is a rule that writes at the moment of a row of busySheet.
func writing(template string) *rule.Rule {
	return &rule.Rule{Name: "At the moment", Trigger: rule.Trigger{Kind: rule.Date, Column: "c3",
		Offsets: []rule.Offset{{N: 0, Unit: rule.Minutes}}},
		Send: []rule.Wording{{Template: template}}, To: []rule.Address{{Column: "c2"}}}
}

// version is a rule as it was from an instant on.
type version struct {
	from     time.Time // the first instant that counts
	on       bool
	template string
}

// of gives the template in whose words something was written that fell due at an instant; "" for none.
func versionAt(vs []version, due time.Time) string {
	out := ""
	for _, v := range vs {
		if v.from.After(due) {
			break
		}
		if out = v.template; !v.on {
			out = ""
		}
	}
	return out
}

// Semantics, "Switching on, changing, pausing": what fell due while a rule was on, up to the very instant
// of its saving or pausing, is judged by the rule as it was then, and by nothing else. A rule is saved,
// paused and resumed at random while rows fall due all the time.
func TestNothingIsLostWhileSaving(t *testing.T) {
	for _, c := range []struct {
		name       string
		rows       int
		peer, kill bool
	}{
		{"few rows, one server", 300, false, false},
		{"few rows, two servers", 300, true, false},
		{"30,000 rows, one server", 30_000, false, false},
		{"30,000 rows, two servers, one of them killed", 30_000, true, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel() // it waits most of the time
			const due = 300
			f := newFixture(t, "2027-03-15T08:59:00Z")
			start := f.Now()
			moments := make([]time.Time, c.rows)
			for i := range moments { // those that fall due lie among the others, as rows are looked through
				moments[i] = start.AddDate(1, 0, i%300)
				if k := i % (c.rows / due); k == 0 {
					moments[i] = start.Add(time.Duration(60+i/(c.rows/due)) * time.Second)
				}
			}
			rec, templates, r := f.busySheet(moments)
			f.settled()
			switch {
			case c.kill:
				f.peer = startVictim(f)
				defer f.peer.(*victim).end()
			case c.peer:
				f.peer = startPeer(f, f.dsn, start)
			}
			vs := f.whileClockRuns(rec, templates, r, start.Add((60+due+5)*time.Second))
			f.advance(f.Now().Add(time.Minute))

			var ds []store.Delivery
			if err := f.Store.DB(f.ctx).Find(&ds).Error; err != nil {
				t.Fatal(err)
			}
			lines := map[time.Time][]string{}
			for _, d := range ds {
				lines[d.DueAt.UTC()] = append(lines[d.DueAt.UTC()], d.TemplateID)
			}
			lost := 0
			for _, m := range moments {
				if m.After(f.Now()) {
					continue
				}
				got, want := lines[m], versionAt(vs, m)
				if want == "" && len(got) == 0 || len(got) == 1 && got[0] == want {
					continue
				}
				if lost++; lost < 10 {
					t.Errorf("what fell due at %s has the lines %q, want one by %q", m.Format("15:04:05"), got, want)
				}
			}
			if lost > 0 {
				t.Errorf("%d of %d; %d versions: %v", lost, due, len(vs), vs)
			}
			if len(vs) < 10 {
				t.Errorf("only %d versions of the rule", len(vs))
			}
		})
	}
}

// whileClockRuns lets the clock run up to an instant, a second at a time, and saves, pauses and resumes a
// rule meanwhile, as often as that goes. It gives the rule's versions.
func (f *fixture) whileClockRuns(rec *store.Sheet, templates []string, r *store.Rule, to time.Time) []version {
	f.t.Helper()
	const fewest = 12
	vs := []version{{*r.BaselineAt, true, templates[0]}}
	var made atomic.Int64
	from := f.Now()
	done := make(chan struct{})
	var ops sync.WaitGroup
	ops.Go(func() {
		rnd := rand.New(rand.NewPCG(23, uint64(len(f.dsn))))
		for {
			select {
			case <-done:
				return
			default:
			}
			v := vs[len(vs)-1]
			switch n := rnd.IntN(6); {
			case !v.on && n < 3:
				out, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.On, "test")
				if err != nil {
					f.t.Error(err)
					return
				}
				v.on, v.from = true, *out.BaselineAt
			case v.on && n == 0:
				out, err := f.SetRuleState(f.ctx, rec.ID, r.ID, rule.Paused, "test")
				if err != nil {
					f.t.Error(err)
					return
				}
				v.on, v.from = false, out.PausedAt.Add(1) // at that very instant it was on
			default:
				v.template = templates[rnd.IntN(len(templates))]
				out, err := f.SaveRule(f.ctx, rec.ID, r.ID, writing(v.template), 0, "test")
				if err != nil {
					f.t.Error(err)
					return
				}
				if v.on {
					v.from = *out.BaselineAt
				}
			}
			vs = append(vs, v)
			made.Add(1)
			if rnd.IntN(3) > 0 { // now and then one comes right behind the other
				f.passes(time.Duration(rnd.IntN(20)) * time.Second)
			}
		}
	})
	for f.Now().Before(to) && !f.t.Failed() {
		time.Sleep(3 * time.Millisecond) // what the clock of a machine does by itself
		if passed := f.Now().Sub(from); fewest*passed > time.Duration(made.Load()+1)*to.Sub(from) {
			continue // a slow machine saves as often
		}
		f.mu.Lock()
		f.clock = f.clock.Add(time.Second)
		now := f.clock
		f.mu.Unlock()
		if f.peer != nil {
			f.peer.tell(now)
		}
		f.Wake()
	}
	close(done)
	ops.Wait()
	return vs
}

// passes waits until the clock, which somebody else moves, has gone on, or stands still.
func (f *fixture) passes(d time.Duration) {
	for until, last, still := f.Now().Add(d), f.Now(), 0; f.Now().Before(until) && still < 100; {
		time.Sleep(time.Millisecond)
		if still++; f.Now().After(last) {
			last, still = f.Now(), 0
		}
	}
}

// Whatever is changed of what a sheet's emails rest on: what was due by then, and had not been come to, is
// judged as things were.
func TestChangesLetWhatWasDueGo(t *testing.T) {
	const both = `{"name":"Due","state":"on","trigger":{"kind":"date","column":"Read","offsets":[{"n":-7,"unit":"days"}],"at":"09:00"},"send":[{"template":"A"}],"to":[{"column":"Email"}]},
		{"name":"Damp","state":"on","trigger":{"kind":"threshold","column":"Humidity","op":">=","limit":60},"send":[{"template":"B"}],"to":[{"column":"Email"}]}`
	for _, c := range []struct {
		name   string
		change func(f *fixture, rec *store.Sheet, rules []store.Rule) error
	}{
		{"pausing", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			f.switchTo(&rules[0], rule.Paused)
			f.switchTo(&rules[1], rule.Paused)
			return nil
		}},
		{"deleting the rules", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			return errors.Join(f.DeleteRule(f.ctx, rec.ID, rules[0].ID, "test"),
				f.DeleteRule(f.ctx, rec.ID, rules[1].ID, "test"))
		}},
		{"saving with another limit and offset", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			for i := range rules {
				core, err := rules[i].Core()
				if err != nil {
					return err
				}
				if core.Trigger.Kind == rule.Date {
					core.Trigger.Offsets[0].N = -6
				} else {
					limit := decimal.NewFromInt(95)
					core.Trigger.Limit = &rule.Level{Number: &limit}
				}
				if _, err := f.SaveRule(f.ctx, rec.ID, rules[i].ID, core, 0, "test"); err != nil {
					return err
				}
			}
			return nil
		}},
		{"another wording", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			all, err := f.Store.Templates(f.ctx, rec.ID)
			if err != nil {
				return err
			}
			for i := range all {
				core, err := all[i].Core()
				if err != nil {
					return err
				}
				s, err := rec.Core()
				if err != nil {
					return err
				}
				if core.Subject, err = template.ParseLine("Another subject", s); err != nil {
					return err
				}
				if _, err := f.SaveTemplate(f.ctx, rec.ID, all[i].ID, core, 0, "test"); err != nil {
					return err
				}
			}
			return nil
		}},
		{"another zone", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			zone := "Pacific/Honolulu"
			_, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{Zone: &zone}, "test")
			return err
		}},
		{"another time to settle", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			seconds := 3600
			_, err := f.ChangeSheet(f.ctx, rec.ID, SheetChange{SettleSeconds: &seconds}, "test")
			return err
		}},
		{"the days of the working calendar", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			_, err := f.SaveCalendar(f.ctx, rec.CalendarID, "Ours", []string{"mon", "tue"}, nil, "test")
			return err
		}},
		{"a column that is taken out, with its rules", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			s, err := rec.Core()
			if err != nil {
				return err
			}
			cols := slices.DeleteFunc(s.Columns, func(c sheet.Column) bool { return c.Name == "Read" || c.Derived() })
			_, err = f.ChangeColumns(f.ctx, rec.ID, ColumnsChange{Columns: cols, Pausing: true}, nil, "test")
			return err
		}},
		{"the sheet put away", func(f *fixture, rec *store.Sheet, rules []store.Rule) error {
			return f.PutSheetAway(f.ctx, rec.ID, "test")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := stillFixture(t, "2027-03-15T08:00:00Z")
			rec, rows := f.cases(both, "C-1,40,a@x.example,,2027-03-22", "C-2,40,b@x.example,,2027-05-22")
			f.tickAll()
			f.turn("2027-03-15T08:50:00Z")
			f.set(rec, rows["C-2"], "Humidity", "70") // has rested at 08:52
			f.turn("2027-03-15T09:30:00Z")            // nothing has looked since
			rules, err := f.Store.Rules(f.ctx, rec.ID)
			if err != nil {
				t.Fatal(err)
			}
			if err := c.change(f, rec, rules); err != nil {
				t.Fatal(err)
			}
			f.tickAll()
			var got []string
			var ds []store.Delivery
			if err := f.Store.DB(f.ctx).Order("due_at").Find(&ds).Error; err != nil {
				t.Fatal(err)
			}
			for _, d := range ds {
				got = append(got, d.DueAt.UTC().Format("15:04 ")+string(d.State)+" "+d.Subject)
			}
			const want = "08:52 queued C-2 again, 09:00 queued C-1 at 40"
			if g := strings.Join(got, ", "); g != want {
				t.Errorf("the ledger has %s, want %s", g, want)
			}
		})
	}
}
