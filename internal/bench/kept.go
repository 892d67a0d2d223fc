package bench

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/engine"
	"nivot/internal/store"
)

// keptTables hold what is kept of an email that has gone.
var keptTables = []string{"deliveries", "letters", "letter_bases", "events", "delivery_counts", "addressees",
	"delivery_addressees"}

// kept measures how much of the disk an email takes for good, its letter of 4 KB, its delivery
// and its events together: what those tables take on the disk after many of them, less what they
// took before.
func (b *bench) kept() error {
	const n = 40_000
	addr, stop, err := startSink()
	if err != nil {
		return err
	}
	defer stop()
	s, err := b.store()
	if err != nil {
		return err
	}
	defer s.Close()
	clock := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	e := engine.New(s, func() time.Time { return clock }, engine.Options{Connections: 8})
	if err := s.SaveSender(b.ctx, &store.Sender{ID: "s", Name: "Loans desk", Address: "loans@marrowby.example",
		Host: addr.IP.String(), Port: addr.Port, Security: "none", CreatedAt: clock}); err != nil {
		return err
	}
	if _, err := b.loansDue(e, n); err != nil {
		return err
	}
	before, err := onDisk(b.ctx, s)
	if err != nil {
		return err
	}
	redo, err := redoWritten(b.ctx, s)
	if err != nil {
		return err
	}
	clock = time.Date(2028, 3, 21, 9, 0, 1, 0, time.UTC)
	if err := s.SetSetting(b.ctx, store.SettingSending, true); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = e.Run(ctx) }()
	for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		counts, err := s.CountStates(b.ctx, store.LogFilter{})
		if err == nil && int(counts[delivery.Accepted]) == n {
			break
		}
		if err != nil || time.Now().After(deadline) {
			cancel()
			return fmt.Errorf("not all were accepted: %v, %w", counts, err)
		}
	}
	cancel()
	<-done
	redone, err := redoWritten(b.ctx, s)
	if err != nil {
		return err
	}
	after, err := onDisk(b.ctx, s)
	if err != nil {
		return err
	}
	total := 0.0
	words := ""
	for _, t := range keptTables {
		each := float64(after[t]-before[t]) / n
		total += each
		words += fmt.Sprintf(", %s %.0f", t, each)
	}
	html, text := letter()
	whole := float64(len(html) + len(text))
	b.add(Result{What: "kept of an email for good" + words, Against: "its letter as HTML and text",
		Value: fmt.Sprintf("%.0f bytes", total), Limit: fmt.Sprintf("%.0f bytes", whole),
		Ratio: total / whole, Goal: "under 1,000 bytes", Met: total < 1000})
	each := float64(redone-redo) / n
	b.add(Result{What: "redo of an email, from its row to its end", Against: "what is kept of it",
		Value: fmt.Sprintf("%.0f bytes", each), Limit: fmt.Sprintf("%.0f bytes", total),
		Ratio: each / total, Goal: "under 2,000 bytes", Met: each < 2000})
	return nil
}

// redoWritten is how many bytes the server has written to its redo log.
func redoWritten(ctx context.Context, s *store.Store) (n int64, err error) {
	err = s.DB(ctx).Raw(
		"SELECT CAST(variable_value AS SIGNED) FROM information_schema.global_status WHERE variable_name = " +
			"'INNODB_LSN_CURRENT'").Scan(&n).Error
	return n, err
}

// loansDue makes a sheet of twelve columns with a rule on it that is on, and n rows that come
// due at the same time.
func (b *bench) loansDue(e *engine.Engine, n int) (*store.Template, error) {
	rec := &store.Sheet{Name: "Loans", Zone: "Europe/London", Locale: "en-GB", SettleSeconds: 120}
	cols := []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Object", Type: value.Text},
		{Name: "Borrower", Type: value.Text}, {Name: "Contact", Type: value.Text}, {Name: "Email", Type: value.Email},
		{Name: "Return due", Type: value.Date, Order: value.YearMonthDay}, {Name: "Value", Type: value.Number},
		{Name: "State", Type: value.Choice, Options: []value.Option{{Name: "out"}, {Name: "back"}}}}
	if err := e.CreateSheet(b.ctx, rec, cols, 0, 4, "bench"); err != nil {
		return nil, err
	}
	core, err := rec.Core()
	if err != nil {
		return nil, err
	}
	in := engine.Incoming{Rows: make([][]string, n)}
	for i := range core.Columns {
		in.Columns = append(in.Columns, core.Columns[i].ID)
	}
	objects, people := []string{"Ebony butter stamp", "Glass weathercock", "Oak tally board", "Tin lantern",
		"Ship's log of the Petrel"}, []string{"Jo Jarrow", "Ada Fenner", "Ben Pike", "Una Linden", "Felix Quill"}
	for i := range in.Rows {
		in.Rows[i] = []string{fmt.Sprintf("LN-%05d", i), fmt.Sprintf("%s, no. %d", objects[i%5], i),
			fmt.Sprintf("Museum %d", i%900), people[i*7%5], fmt.Sprintf("contact%d@borrower%d.example", i, i%900),
			"2028-03-22", fmt.Sprint(i * 37 % 9000), "out"}
	}
	if _, err := e.Import(b.ctx, rec.ID, in, engine.ImportOptions{Quiet: true}, engine.System("bench")); err != nil {
		return nil, err
	}
	tpl := &template.Template{Name: "Return"}
	if tpl.Subject, err = template.ParseLine("[Object] is due back on [Return due: weekday]", core); err != nil {
		return nil, err
	}
	_, text := letter()
	if tpl.Body, err = template.ParseText(
		"Dear [Contact: first word],\n\n[Object] of [Borrower] is due on [Return due: long], insured for [Value].\n\n"+text,
		core); err != nil {
		return nil, err
	}
	saved, err := e.SaveTemplate(b.ctx, rec.ID, "", tpl, 0, "bench")
	if err != nil {
		return nil, err
	}
	out := "out"
	r := &rule.Rule{Name: "Return", Trigger: rule.Trigger{Kind: "date", Column: core.Columns[5].ID,
		Offsets: []rule.Offset{{N: -1, Unit: rule.Days}}, At: "09:00"},
		Condition: &rule.Condition{Column: core.Columns[7].ID, Op: rule.Is, Value: &rule.Operand{Text: &out}},
		Send:      []rule.Wording{{Template: saved.ID}}, To: []rule.Address{{Column: core.Columns[4].ID}}}
	x, err := e.SaveRule(b.ctx, rec.ID, "", r, 0, "bench")
	if err != nil {
		return nil, err
	}
	if _, err := e.SetRuleState(b.ctx, rec.ID, x.ID, rule.On, "bench"); err != nil {
		return nil, err
	}
	for {
		if k, err := e.Tick(b.ctx); err != nil || k == 0 {
			return saved, err
		}
	}
}

// onDisk gives how many bytes the tables take on the disk, once all that is in memory has been
// written.
func onDisk(ctx context.Context, s *store.Store) (map[string]int64, error) {
	out := map[string]int64{}
	return out, s.DB(ctx).Connection(func(c *gorm.DB) error {
		for _, t := range keptTables {
			var size int64
			for _, err := range []error{c.Exec("FLUSH TABLES " + t + " FOR EXPORT").Error, c.Exec("UNLOCK TABLES").Error,
				c.Raw(
					"SELECT ALLOCATED_SIZE FROM information_schema.INNODB_SYS_TABLESPACES WHERE NAME = CONCAT(DATABASE(), '/', ?)",
					t).Scan(&size).Error} {
				if err != nil {
					return err
				}
			}
			out[t] = size
		}
		return nil
	})
}
