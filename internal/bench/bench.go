// Package bench measures speed as ratios: each figure beside a limit taken in
// the same run on the same machine, the two sides interleaved, medians of
// several rounds. It asserts nothing.
package bench

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/shopspring/decimal"

	"nivot/internal/core/delivery"
	"nivot/internal/core/rule"
	"nivot/internal/core/sheet"
	"nivot/internal/core/template"
	"nivot/internal/core/value"
	"nivot/internal/database"
	"nivot/internal/engine"
	"nivot/internal/mail"
	"nivot/internal/store"
)

// Result is one line of the table.
type Result struct {
	What, Against string
	Value, Limit  string
	Ratio         float64
	Goal          string
	Met           bool
}

// rounds is how often each side is measured.
const rounds = 5

// bench is one run.
type bench struct {
	ctx  context.Context
	out  io.Writer
	dir  string
	db   *database.Server
	node func(context.Context, string) (string, error) // where databases are made instead, if anywhere
	n    int
	rows []Result
	web  fs.FS
}

// Names are what can be measured alone.
var Names = append([]string{"client", "dispatch", "idle", "due", "render", "kept", "checks", "rehearse", "import",
	"edit", "views", "effect", "switch-on", "people", "grid"}, Large...)

// Large are those of Names that take too long to be measured with the others.
var Large = []string{"log", "cluster", "siege"}

// Run measures everything and prints a line as each figure is there. only, where not "", is the
// one of Names to measure; "large" measures all that are. web is the built front end.
func Run(ctx context.Context, out io.Writer, only string, web fs.FS) ([]Result, error) {
	dir, err := os.MkdirTemp("", "nivot-bench")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	b := &bench{ctx: ctx, out: out, dir: dir, web: web}
	buffer := "" // the demo's
	if only == "large" || slices.Contains(Large, only) {
		buffer = "2G" // as docs/operations.md asks for where there is that much
	}
	if b.db, err = database.Start(ctx, database.Options{Dir: filepath.Join(dir, "db"), Durable: true, Bound: true,
		Buffer: buffer}); err != nil {
		return nil, err
	}
	defer b.db.Stop()
	for _, m := range []struct {
		name string
		run  func() error
	}{
		{"client", b.client}, {"dispatch", func() error { return b.dispatch(32, 0.5) }},
		{"dispatch", func() error { return b.dispatch(8, 0.3) }},
		{"idle", b.idleTick}, {"due", b.dueTick}, {"render", b.render}, {"kept", b.kept}, {"checks", b.checks},
		{"rehearse", b.rehearse},
		{"import", b.importCSV}, {"edit", b.edit}, {"views", b.views}, {"effect", b.effect}, {"switch-on", b.switchOn},
		{"people", b.people}, {"grid", b.grid}, {"log", b.log}, {"cluster", b.cluster},
		{"siege", b.siege},
	} {
		large := slices.Contains(Large, m.name)
		if only != m.name && (only != "" || large) && (only != "large" || !large) {
			continue
		}
		if err := m.run(); err != nil {
			return b.rows, err
		}
	}
	return b.rows, nil
}

func (b *bench) add(r Result) {
	b.rows = append(b.rows, r)
	fmt.Fprintf(b.out, "%-46s %12s   against %-40s %12s   ratio %5.2f   goal %s\n", r.What, r.Value, r.Against, r.Limit,
		r.Ratio, r.Goal)
}

func decimalOf(n int) decimal.Decimal { return decimal.NewFromInt(int64(n)) }

func median(v []float64) float64 {
	sort.Float64s(v)
	return v[len(v)/2]
}

// sink is a mail server that takes everything and keeps nothing.
type sink struct{}

func (sink) NewSession(*smtp.Conn) (smtp.Session, error) { return sink{}, nil }
func (sink) Reset()                                      {}
func (sink) Logout() error                               { return nil }
func (sink) Mail(string, *smtp.MailOptions) error        { return nil }
func (sink) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (sink) Data(r io.Reader) error                      { _, err := io.Copy(io.Discard, r); return err }

func startSink() (addr *net.TCPAddr, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	srv := smtp.NewServer(sink{})
	srv.Domain = "sink.example"
	go func() { _ = srv.Serve(l) }()
	return l.Addr().(*net.TCPAddr), func() { srv.Close() }, nil
}

// letter is the text of a message of about 4 KB.
func letter() (html, text string) {
	p := strings.Repeat(
		"The stick barometer is due back on Monday 29 March 2027, and we look forward to having it home. ", 14)
	return "<!DOCTYPE html><html><body><p>" + p + "</p></body></html>", p
}

func compose(i int) ([]byte, error) {
	html, text := letter()
	to := value.Mailbox{Local: fmt.Sprintf("contact%d", i), Domain: "borrower.example"}
	return mail.Compose(&mail.Message{From: value.Mailbox{Name: "Loans desk", Local: "loans", Domain: "marrowby.example"},
		To:      []value.Mailbox{to},
		Subject: fmt.Sprintf("LN-%05d is due back", i), HTML: html, Text: text, MessageID: delivery.MessageID("bench", i,
			"marrowby.example"), Date: time.Now()})
}

func all(rs []mail.Reply) bool {
	for _, r := range rs {
		if !r.Positive() {
			return false
		}
	}
	return true
}

// plainLoop sends n messages over connections with Nivot's client, composing
// each, without a database, and gives messages a second.
func plainLoop(ctx context.Context, addr *net.TCPAddr, n, connections int) (float64, error) {
	jobs := make(chan int)
	errs := make(chan error, connections)
	start := time.Now()
	for range connections {
		go func() {
			c, err := mail.Dial(ctx, mail.Server{Host: addr.IP.String(), Port: addr.Port, Security: mail.Plain}, "localhost")
			if err == nil {
				defer c.Close()
			}
			for i := range jobs {
				if err == nil {
					err = sendOne(c, i)
				}
			}
			errs <- err
		}()
	}
	for i := range n {
		jobs <- i
	}
	close(jobs)
	for range connections {
		if err := <-errs; err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(start).Seconds(), nil
}

func sendOne(c *mail.Client, i int) error {
	msg, err := compose(i)
	if err != nil {
		return err
	}
	return sendRaw(c, i, msg)
}

func sendRaw(c *mail.Client, i int, msg []byte) error {
	_, ready, err := c.Begin("loans@marrowby.example", []string{fmt.Sprintf("contact%d@borrower.example", i)}, 0, all)
	if err != nil {
		return err
	}
	if !ready {
		return fmt.Errorf("refused")
	}
	if err := c.Body(msg); err != nil {
		return err
	}
	r, err := c.Finish()
	if err == nil && !r.Positive() {
		err = &mail.ReplyError{Reply: r}
	}
	return err
}

// client compares Nivot's SMTP client with go-smtp's on one connection each.
func (b *bench) client() error {
	addr, stop, err := startSink()
	if err != nil {
		return err
	}
	defer stop()
	const n = 4000
	msg, err := compose(1)
	if err != nil {
		return err
	}
	var ours, theirs []float64
	for range rounds {
		c, err := mail.Dial(b.ctx, mail.Server{Host: addr.IP.String(), Port: addr.Port, Security: mail.Plain}, "localhost")
		if err != nil {
			return err
		}
		start := time.Now()
		for i := range n {
			if err := sendRaw(c, i, msg); err != nil {
				return err
			}
		}
		ours = append(ours, n/time.Since(start).Seconds())
		c.Close()
		g, err := smtp.Dial(addr.String())
		if err != nil {
			return err
		}
		start = time.Now()
		for i := range n {
			if err := g.SendMail("loans@marrowby.example", []string{fmt.Sprintf("contact%d@borrower.example", i)},
				strings.NewReader(string(msg))); err != nil {
				return err
			}
		}
		theirs = append(theirs, n/time.Since(start).Seconds())
		g.Close()
	}
	b.add(perSecond("SMTP client, one connection", "go-smtp's client, connection reused", median(ours), median(theirs),
		1.3))
	return nil
}

func perSecond(what, against string, v, limit, goal float64) Result {
	r := Result{What: what, Against: against, Value: fmt.Sprintf("%.0f/s", v), Limit: fmt.Sprintf("%.0f/s", limit),
		Ratio: v / limit,
		Goal:  fmt.Sprintf(">= %.2f", goal)}
	r.Met = r.Ratio >= goal
	return r
}

func (b *bench) store() (*store.Store, error) {
	b.n++
	dsnOf := b.db.DSN
	if b.node != nil {
		dsnOf = b.node
	}
	dsn, err := dsnOf(b.ctx, fmt.Sprintf("b%d", b.n))
	if err != nil {
		return nil, err
	}
	s, err := store.Open(dsn)
	if err != nil {
		return nil, err
	}
	return s, s.Migrate(b.ctx)
}

// dispatch compares the whole way of a queued email (claim, durable "sending",
// SMTP, durable outcome, log) with the plain loop.
func (b *bench) dispatch(connections int, goal float64) error {
	addr, stop, err := startSink()
	if err != nil {
		return err
	}
	defer stop()
	const n = 4000
	var ours, plain []float64
	for range rounds {
		p, err := plainLoop(b.ctx, addr, n, connections)
		if err != nil {
			return err
		}
		plain = append(plain, p)
		o, err := b.dispatchOnce(addr, n, connections)
		if err != nil {
			return err
		}
		ours = append(ours, o)
	}
	b.add(perSecond(fmt.Sprintf("dispatch, %d connections", connections), "plain loop of the same client, no database",
		median(ours), median(plain), goal))
	return nil
}

func (b *bench) dispatchOnce(addr *net.TCPAddr, n, connections int) (float64, error) {
	s, err := b.store()
	if err != nil {
		return 0, err
	}
	defer s.Close()
	e := engine.New(s, time.Now, engine.Options{Connections: connections})
	if err := s.SaveSender(b.ctx, &store.Sender{ID: "s", Name: "Loans desk", Address: "loans@marrowby.example",
		Host: addr.IP.String(), Port: addr.Port,
		Security: "none", CreatedAt: time.Now()}); err != nil {
		return 0, err
	}
	if _, err := b.queue(s, n, 0); err != nil {
		return 0, err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	done := make(chan struct{})
	start := time.Now()
	go func() { defer close(done); _ = e.Run(ctx) }()
	for {
		counts, err := s.CountStates(b.ctx, store.LogFilter{States: []delivery.State{delivery.Accepted, delivery.Failed,
			delivery.Deferred, delivery.InDoubt}})
		if err != nil {
			cancel()
			return 0, err
		}
		if int(counts[delivery.Accepted]) == n {
			break
		}
		if counts[delivery.Failed]+counts[delivery.Deferred]+counts[delivery.InDoubt] > 0 {
			cancel()
			return 0, fmt.Errorf("not all were accepted: %v", counts)
		}
		time.Sleep(40 * time.Millisecond)
	}
	took := time.Since(start)
	cancel()
	<-done
	return float64(n) / took.Seconds(), nil
}

// queue queues n emails, the first a second ago and each of the others so much later.
func (b *bench) queue(s *store.Store, n int, apart time.Duration) ([]*store.Delivery, error) {
	html, text := letter()
	now := time.Now().UTC().Add(-time.Second)
	ds := make([]*store.Delivery, n)
	for i := range ds {
		id := make([]byte, 16)
		copy(id, fmt.Sprintf("%016d", i))
		to, at := fmt.Sprintf("contact%d@borrower.example", i), now.Add(time.Duration(i)*apart)
		ds[i] = &store.Delivery{Occasion: id, DueAt: at, JudgedAt: now, State: delivery.Queued, Origin: "{}", Facts: "[]",
			Subject:    fmt.Sprintf("LN-%05d is due back", i),
			Recipients: store.Detail([]store.Recipient{{Role: "to", Mailbox: to, Address: to}}), Attempt: 1, NextTry: &at,
			OwnEvents: store.OwnQueued}
	}
	letters := make([]store.Letter, n)
	return ds, s.Tx(b.ctx, func(tx *store.Store) error {
		if err := tx.InsertDeliveries(b.ctx, ds); err != nil {
			return err
		}
		for i := range ds {
			letters[i] = store.Letter{DeliveryID: ds[i].ID, HTML: html, Text: text}
		}
		return tx.PutLetters(b.ctx, letters)
	})
}

// sheetOf makes a sheet with n rows that come due in the far future, and rules
// on it that are on.
func (b *bench) sheetOf(n, rules int) (*store.Store, *engine.Engine, *store.Sheet, func() time.Time, error) {
	s, err := b.store()
	if err != nil {
		return nil, nil, nil, nil, err
	}
	clock := time.Date(2027, 3, 15, 8, 0, 0, 0, time.UTC)
	now := func() time.Time { return clock }
	e := engine.New(s, now, engine.Options{})
	rec := &store.Sheet{Name: "Loans", Zone: "UTC", Locale: "en-GB", SettleSeconds: 120}
	cols := []sheet.Column{{Name: "Loan", Type: value.Text}, {Name: "Email", Type: value.Email},
		{Name: "Return due", Type: value.Date, Order: value.YearMonthDay}}
	if err := e.CreateSheet(b.ctx, rec, cols, 0, 1, "bench"); err != nil {
		return nil, nil, nil, nil, err
	}
	rows := engine.Incoming{Columns: []string{"c1", "c2", "c3"}, Rows: make([][]string, n)}
	for i := range rows.Rows {
		rows.Rows[i] = []string{fmt.Sprintf("LN-%07d", i), fmt.Sprintf("contact%d@borrower.example", i), "2028-03-22"}
	}
	if _, err := e.Import(b.ctx, rec.ID, rows, engine.ImportOptions{Quiet: true}, engine.System("bench")); err != nil {
		return nil, nil, nil, nil, err
	}
	tpl := &template.Template{Name: "Return"}
	if tpl.Subject, err = template.ParseLine("[Loan] is due back on [Return due: weekday]",
		&sheet.Sheet{Columns: cols}); err != nil {
		return nil, nil, nil, nil, err
	}
	_, text := letter()
	if tpl.Body, err = template.ParseText("Dear colleague,\n\n[Loan] is due.\n\n"+text,
		&sheet.Sheet{Columns: cols}); err != nil {
		return nil, nil, nil, nil, err
	}
	saved, err := e.SaveTemplate(b.ctx, rec.ID, "", tpl, 0, "bench")
	if err != nil {
		return nil, nil, nil, nil, err
	}
	for i := range rules {
		r := &rule.Rule{Name: fmt.Sprintf("Rule %d", i), Trigger: rule.Trigger{Kind: "date", Column: "c3",
			Offsets: []rule.Offset{{N: -i - 1, Unit: rule.Days}}, At: "09:00"},
			Send: []rule.Wording{{Template: saved.ID}}, To: []rule.Address{{Column: "c2"}}}
		x, err := e.SaveRule(b.ctx, rec.ID, "", r, 0, "bench")
		if err != nil {
			return nil, nil, nil, nil, err
		}
		if _, err := e.SetRuleState(b.ctx, rec.ID, x.ID, rule.On, "bench"); err != nil {
			return nil, nil, nil, nil, err
		}
	}
	for {
		k, err := e.Tick(b.ctx)
		if err != nil {
			return nil, nil, nil, nil, err
		}
		if k == 0 {
			return s, e, rec, now, nil
		}
	}
}

// idleTick compares a tick with nothing due over 100,000 rows with one over
// 1,000, ten rules on.
func (b *bench) idleTick() error {
	var engines []*engine.Engine
	for _, n := range []int{1000, 100_000} {
		s, e, _, _, err := b.sheetOf(n, 10)
		if err != nil {
			return err
		}
		defer s.Close()
		engines = append(engines, e)
	}
	times := [2][]float64{}
	for range 9 {
		for i, e := range engines {
			start := time.Now()
			const ticks = 200
			for range ticks {
				if _, err := e.Tick(b.ctx); err != nil {
					return err
				}
			}
			times[i] = append(times[i], time.Since(start).Seconds()/ticks*1000)
		}
	}
	small, large := median(times[0]), median(times[1])
	b.add(Result{What: "tick, nothing due, 10 rules, 100,000 rows", Against: "the same with 1,000 rows stored",
		Value: fmt.Sprintf("%.3f ms", large),
		Limit: fmt.Sprintf("%.3f ms", small), Ratio: large / small, Goal: "<= 1.20, under 5 ms", Met: large/small <= 1.2 &&
			large < 5})
	return nil
}

// dueTick compares considering 1,000 due entries, deliveries written, with
// inserting 1,000 rows in one transaction.
func (b *bench) dueTick() error {
	var due, insert []float64
	for range rounds {
		s, _, rec, _, err := b.sheetOf(1000, 1)
		if err != nil {
			return err
		}
		rows := make([]*store.Row, 1000)
		for i := range rows {
			rows[i] = &store.Row{SheetID: "elsewhere", Number: int64(i), Place: int64(i), Cells: make([]byte, 60)}
		}
		start := time.Now()
		if err := s.Tx(b.ctx, func(tx *store.Store) error { return tx.InsertRows(b.ctx, rows) }); err != nil {
			return err
		}
		insert = append(insert, time.Since(start).Seconds()*1000)
		later := time.Date(2028, 3, 21, 9, 0, 1, 0, time.UTC)
		e := engine.New(s, func() time.Time { return later }, engine.Options{})
		start = time.Now()
		for {
			k, err := e.Tick(b.ctx)
			if err != nil {
				return err
			}
			if k == 0 {
				break
			}
		}
		due = append(due, time.Since(start).Seconds()*1000)
		counts, err := s.CountStates(b.ctx, store.LogFilter{SheetID: rec.ID})
		if err != nil || counts[delivery.Queued] != 1000 {
			return fmt.Errorf("%v, %w", counts, err)
		}
		s.Close()
	}
	d, i := median(due), median(insert)
	b.add(Result{What: "tick, 1,000 due, judged, rendered, written", Against: "inserting 1,000 rows in one transaction",
		Value: fmt.Sprintf("%.0f ms", d),
		Limit: fmt.Sprintf("%.0f ms", i), Ratio: d / i, Goal: "<= 10.00", Met: d/i <= 10})
	return nil
}

// render compares rendering a 4 KB letter to HTML, text and MIME with building
// the same MIME from constants.
func (b *bench) render() error {
	l, err := value.FindLocale("en-GB")
	if err != nil {
		return err
	}
	s := &sheet.Sheet{Zone: time.UTC, Locale: l, Columns: []sheet.Column{{ID: "c1", Name: "Object", Type: value.Text,
		Pos: 0}, {ID: "c2", Name: "Return due", Type: value.Date, Pos: 1}}}
	tpl := &template.Template{Name: "x"}
	if tpl.Subject, err = template.ParseLine("[Object] is due back on [Return due: weekday]", s); err != nil {
		return err
	}
	if tpl.Body, err = template.ParseText("Dear colleague,\n\n"+
		strings.Repeat("[Object] is due back on [Return due: long], and we look forward to having it home.\n\n", 16),
		s); err != nil {
		return err
	}
	row := &sheet.Row{Cells: []value.Value{value.OfText("Stick barometer"), value.OfDay(value.DayOf(2027, 3, 29))}}
	fixed := tpl.Render(template.Context{Sheet: s, Row: row})
	build := func(r template.Rendered) error {
		_, err := mail.Compose(&mail.Message{From: value.Mailbox{Local: "loans", Domain: "marrowby.example"},
			To:      []value.Mailbox{{Local: "a", Domain: "b.example"}},
			Subject: r.Subject, HTML: r.HTML, Text: r.Text, MessageID: "<x.1@marrowby.example>", Date: time.Unix(0, 0)})
		return err
	}
	var ours, constant []float64
	const n = 3000
	for range rounds {
		start := time.Now()
		for range n {
			if err := build(tpl.Render(template.Context{Sheet: s, Row: row})); err != nil {
				return err
			}
		}
		ours = append(ours, n/time.Since(start).Seconds())
		start = time.Now()
		for range n {
			if err := build(fixed); err != nil {
				return err
			}
		}
		constant = append(constant, n/time.Since(start).Seconds())
	}
	o, c := median(ours), median(constant)
	b.add(Result{What: "render a 4 KB letter to HTML, text, MIME", Against: "the same MIME from constants",
		Value: fmt.Sprintf("%.0f/s", o), Limit: fmt.Sprintf("%.0f/s", c),
		Ratio: c / o, Goal: "<= 1.50, 10,000/s", Met: c/o <= 1.5 && o >= 10_000})
	return nil
}
