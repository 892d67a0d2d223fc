package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nivot/internal/api"
	"nivot/internal/database"
	"nivot/internal/demo"
	"nivot/internal/engine"
	"nivot/internal/practice"
	"nivot/internal/store"
	"nivot/web"
)

// listen takes a port, or says which variable chooses another.
func listen(name string) (net.Listener, error) {
	l, err := net.Listen("tcp", env(name))
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened on (%v); is another Nivot running? Choose another address with %s",
			env(name), errors.Unwrap(err), name)
	}
	return l, nil
}

func publicURL(l net.Listener) string {
	if u := os.Getenv("NIVOT_PUBLIC_URL"); u != "" {
		return strings.TrimRight(u, "/")
	}
	return "http://" + l.Addr().String()
}

// startPractice starts the practice mail server, which keeps its mails in the
// database under the engine's time.
func startPractice(s *store.Store, now engine.Clock) (port int, stop func(), err error) {
	l, err := listen("NIVOT_PRACTICE_SMTP")
	if err != nil {
		return 0, nil, err
	}
	srv := practice.New(func(ctx context.Context, m *practice.Message) error {
		rec := &store.PracticeMessage{ReceivedAt: now(), EnvelopeFrom: m.From, EnvelopeTo: strings.Join(m.To, "\n"),
			Subject:   m.Subject,
			MessageID: m.MessageID, Raw: m.Raw}
		return s.Tx(ctx, func(tx *store.Store) error {
			if err := tx.AddPracticeMessage(ctx, rec); err != nil {
				return err
			}
			return tx.AddEvents(ctx, store.Event{At: now(), Actor: "practice mail server", Kind: store.EventPracticeMail})
		})
	})
	go func() { _ = srv.Serve(l) }()
	return l.Addr().(*net.TCPAddr).Port, func() { srv.Close() }, nil
}

// proxies reads NIVOT_TRUSTED_PROXIES.
func proxies() (out []netip.Prefix, err error) {
	for _, text := range strings.FieldsFunc(env("NIVOT_TRUSTED_PROXIES"), func(r rune) bool {
		return r == ',' ||
			r == ' '
	}) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, err := netip.ParseAddr(text)
			if err != nil {
				return nil, fmt.Errorf("NIVOT_TRUSTED_PROXIES: %q is neither an address nor a network such as 10.0.0.0/8", text)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, p)
	}
	return out, nil
}

// serveMetrics answers Prometheus at an address of its own until the context ends; "" for not
// at all.
func serveMetrics(ctx context.Context, e *engine.Engine) error {
	if env("NIVOT_METRICS_ADDR") == "" {
		return nil
	}
	l, err := listen("NIVOT_METRICS_ADDR")
	if err != nil {
		return err
	}
	if err := prometheus.Register(e.Collector()); err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.Handler())
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute,
		IdleTimeout: 2 * time.Minute}
	go func() {
		<-ctx.Done()
		_ = srv.Close()
	}()
	go func() { _ = srv.Serve(l) }()
	return nil
}

// answerMost is how long requests that are under way when the server stops may take. What
// takes longer is ended; a change among them is then done whole or not at all.
const answerMost = 5 * time.Second

// serve answers requests until the context ends, then lets those under way
// finish. The deadlines of bodies are set by the handler.
func serve(ctx context.Context, l net.Listener, h *api.Handler) error {
	work, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	srv := &http.Server{WriteTimeout: 5 * time.Minute,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10,
		BaseContext: func(net.Listener) context.Context { return work }}
	go h.Run(ctx)
	answered := make(chan struct{})
	go func() {
		defer close(answered)
		<-ctx.Done()
		stop, cancel := context.WithTimeout(work, answerMost)
		defer cancel()
		if srv.Shutdown(stop) != nil {
			_ = srv.Close()
		}
	}()
	if err := h.Serve(srv, l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	<-answered
	return nil
}

func engineOptions(key *engine.Key, keyFile string) (engine.Options, error) {
	n, err := envInt("NIVOT_CONNECTIONS")
	return engine.Options{Connections: n, Key: key, MarkFile: engine.MarkFile(keyFile),
		Sources: os.Getenv("NIVOT_SOURCES")}, err
}

func openStore(ctx context.Context) (*store.Store, error) {
	dsn := env("NIVOT_DSN")
	if dsn == "" {
		return nil,
			errors.New("NIVOT_DSN is not set; give the database as user:password@tcp(host:port)/name, or run nivot demo")
	}
	s, err := store.Open(dsn)
	if err != nil {
		return nil, err
	}
	if err := s.Migrate(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// awaitStore opens the database, and waits for one that does not answer yet: a machine that starts brings it
// up when it likes.
func awaitStore(ctx context.Context) (*store.Store, error) {
	for told := false; ; {
		s, err := openStore(ctx)
		if err == nil || !store.Away(err) || ctx.Err() != nil {
			return s, err
		}
		if !told {
			slog.Warn("the database does not answer; waiting for it", "error", err)
			told = true
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func runMigrate(ctx context.Context, args []string) error {
	if err := flags("migrate").Parse(args); err != nil {
		return err
	}
	s, err := openStore(ctx)
	if err != nil {
		return err
	}
	return s.Close()
}

// checkDatabase says whether the database that NIVOT_DSN names is in order: it
// answers, its clock and this machine's agree, and it has not gone back in time.
func checkDatabase(ctx context.Context) error {
	dsn := env("NIVOT_DSN")
	if dsn == "" {
		return errors.New("name a bundle to be checked, or set NIVOT_DSN to check a database")
	}
	s, err := store.Open(dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	before := time.Now()
	at, err := s.Clock(ctx)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	off := time.Since(at) - time.Since(before)/2
	wrong := 0
	say := func(ok bool, format string, args ...any) {
		mark := "  ok   "
		if !ok {
			mark, wrong = "  !    ", wrong+1
		}
		fmt.Printf(mark+format+"\n", args...)
	}
	say(off.Abs() <= engine.ClockMost, "this machine's clock is %s off the database's; %s may be",
		off.Abs().Round(time.Millisecond), engine.ClockMost)
	sending, err := s.Sending(ctx)
	if err != nil {
		return err
	}
	say(sending.On, "all sending is switched %s", map[bool]string{true: "on", false: "off"}[sending.On])
	if sending.Back.Until.IsZero() {
		say(true, "the database has not gone back in time, or somebody has looked")
	} else {
		say(false, "the database went back in time, to %s; Today leads through it", sending.Back.Since.Format(time.RFC3339))
	}
	behind, err := engine.Behind(ctx, s, engine.MarkFile(env("NIVOT_KEY_FILE")))
	var unread *engine.MarkFileError
	switch {
	case errors.As(err, &unread):
		say(false, "%v", unread)
	case err != nil:
		return err
	default:
		say(!behind, "what was last seen of the database is %s it", map[bool]string{true: "missing in", false: "in"}[behind])
	}
	counts, err := s.WrongCounts(ctx)
	if err != nil {
		return err
	}
	say(len(counts) == 0, "%d counts of the log are not those of its emails; they are mended every night", len(counts))
	for _, c := range counts {
		fmt.Println("         " + c)
	}
	workers, err := s.WrongClocks(ctx, engine.ClockMost)
	if err != nil {
		return err
	}
	for _, w := range workers {
		say(false, "the clock of %s is %s off", w.Name,
			(time.Duration(w.ClockOffMs) * time.Millisecond).Abs().Round(time.Second))
	}
	if wrong > 0 {
		return fmt.Errorf("%d of these need somebody", wrong)
	}
	return nil
}

func runServe(ctx context.Context, args []string) error {
	f := flags("serve")
	practiceClock := f.String("practice-clock", "", "run on the practice clock, begun at this time (ISO 8601); for tests")
	if err := f.Parse(args); err != nil {
		return err
	}
	s, err := awaitStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	l, err := listen("NIVOT_ADDR")
	if err != nil {
		return err
	}
	var key *engine.Key
	if path := env("NIVOT_KEY_FILE"); path != "" {
		if key, err = engine.LoadKey(path); err != nil {
			return err
		}
	}
	opts, err := engineOptions(key, env("NIVOT_KEY_FILE"))
	if err != nil {
		return err
	}
	zone := time.UTC
	if z := os.Getenv("NIVOT_ZONE"); z != "" {
		if zone, err = time.LoadLocation(z); err != nil {
			return fmt.Errorf("NIVOT_ZONE: %w", err)
		}
	}
	opts.PublicURL = publicURL(l)
	now := engine.Clock(time.Now)
	trusted, err := proxies()
	if err != nil {
		return err
	}
	o := api.Options{Wall: time.Now, Key: key, PublicURL: publicURL(l), Zone: zone, Web: web.Files(), Version: version,
		Uploads: os.Getenv("NIVOT_UPLOADS"), Proxies: trusted}
	if *practiceClock != "" {
		start, err := time.Parse(time.RFC3339, *practiceClock)
		if err != nil {
			return fmt.Errorf("-practice-clock: %w", err)
		}
		clock, err := demo.OpenClock(ctx, s, time.Now, start, false)
		if err != nil {
			return err
		}
		go clock.Follow(ctx)
		now, o.Clock = clock.Now, clock
		o.Engine = engine.New(s, now, opts)
		clock.Use(o.Engine)
	} else {
		opts.Real = true
		o.Engine = engine.New(s, now, opts)
	}
	if os.Getenv("NIVOT_PRACTICE_SMTP") != "" {
		_, stop, err := startPractice(s, now)
		if err != nil {
			return err
		}
		defer stop()
	}
	h, err := api.New(o)
	if err != nil {
		return err
	}
	link, err := api.FirstLink(ctx, s, time.Now(), o.PublicURL)
	if err != nil {
		return err
	}
	if link != "" {
		fmt.Printf("Nobody can sign in yet. Make the administrator here, once, within a day:\n\n  %s\n\n", link)
	}
	fmt.Println("Nivot is at", o.PublicURL)
	return together(ctx, o.Engine, l, h)
}

// stopMost is how long a process that is told to stop may take to finish what is under way. What
// it has not finished by then is taken over as that of a process that was killed.
const stopMost = 15 * time.Second

// together runs engine and server until the context ends or the server fails.
func together(ctx context.Context, e *engine.Engine, l net.Listener, h *api.Handler) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if err := serveMetrics(ctx, e); err != nil {
		return err
	}
	late := make(chan struct{})
	context.AfterFunc(ctx, func() { time.AfterFunc(stopMost, func() { close(late) }) })
	done := make(chan error, 1)
	go func() {
		err := e.Run(ctx)
		cancel() // without its engine a process is of no use, whatever the cause
		done <- err
	}()
	err := serve(ctx, l, h)
	cancel()
	select {
	case ended := <-done:
		err = errors.Join(err, ended)
	case <-late:
		slog.Error("the engine did not stop in time; what is under way is taken over by the next process", "seconds",
			stopMost.Seconds())
	}
	return err
}

func runDemo(ctx context.Context, args []string) error {
	f := flags("demo")
	fresh := f.Bool("fresh", false, "forget everything and begin anew")
	short := f.Bool("short", false, "begin without the four weeks of history")
	if err := f.Parse(args); err != nil {
		return err
	}
	dir := env("NIVOT_VAR")
	port, err := envInt("NIVOT_DB_PORT")
	if err != nil {
		return err
	}
	l, err := listen("NIVOT_ADDR")
	if err != nil {
		return err
	}
	fmt.Println("Starting the private database in", dir, "...")
	db, err := database.Start(ctx, database.Options{Dir: filepath.Join(dir, "db"), Port: port, Durable: true})
	if err != nil {
		return err
	}
	defer db.Stop()
	dsn, err := db.DSN(ctx, "nivot")
	if err != nil {
		return err
	}
	s, err := store.Open(dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	if *fresh {
		if err := s.Clear(ctx); err != nil {
			return err
		}
	}
	key, err := engine.LoadKey(filepath.Join(dir, "key"))
	if err != nil {
		return err
	}
	return runMuseum(ctx, s, key, l, dsn, *short)
}

// driveEvery is how often the simulated shared drive changes.
const driveEvery = 90 * time.Second

// runMuseum sets the demo up where it is new, and serves it.
func runMuseum(ctx context.Context, s *store.Store, key *engine.Key, l net.Listener, dsn string, short bool) error {
	ready, err := demo.IsSetUp(ctx, s)
	if err != nil {
		return err
	}
	start := demo.History
	if short {
		start = demo.Morning
	}
	if !ready { // what an interrupted setting up has left is in the way
		if err := s.Clear(ctx); err != nil {
			return err
		}
	}
	clock, err := demo.OpenClock(ctx, s, time.Now, start, true)
	if err != nil {
		return err
	}
	opts, err := engineOptions(key, filepath.Join(env("NIVOT_VAR"), "key"))
	if err != nil {
		return err
	}
	if opts.Sources == "" {
		opts.Sources = filepath.Join(env("NIVOT_VAR"), "shared-drive")
	}
	drive, err := demo.OpenDrive(opts.Sources, clock.Now, !ready)
	if err != nil {
		return err
	}
	opts.PublicURL = publicURL(l)
	e := engine.New(s, clock.Now, opts)
	clock.Use(e)
	smtp, stop, err := startPractice(s, clock.Now)
	if err != nil {
		return err
	}
	defer stop()
	zone, err := time.LoadLocation(demo.Zone)
	if err != nil {
		return err
	}
	trusted, err := proxies()
	if err != nil {
		return err
	}
	o := api.Options{Engine: e, Wall: time.Now, Clock: clock, Key: key, PublicURL: publicURL(l), Zone: zone,
		Uploads: os.Getenv("NIVOT_UPLOADS"),
		Web:     web.Files(), Version: version, Proxies: trusted}
	h, err := api.New(o)
	if err != nil {
		return err
	}
	if !ready {
		if err := setUp(ctx, e, clock, smtp); err != nil {
			return err
		}
	}
	var kept sync.WaitGroup
	kept.Go(func() { clock.Keep(ctx) })
	defer kept.Wait()
	go clock.Follow(ctx)
	if !short { // short is for tests, in which nothing changes by itself
		go drive.Run(ctx, driveEvery)
	}
	fmt.Printf(
		"\nNivot, the demo: %s\n\n  Practice time %s. Sign in as one of these; the accounts are for the demo only.\n\n",
		o.PublicURL, clock.Now().In(zone).Format("Mon 2 January 2006, 15:04"))
	for _, a := range demo.Accounts {
		fmt.Printf("    %-24s %-18s (%s)\n", a.Email, demo.Password, a.Role)
	}
	fmt.Printf(
		"\n  Another process on the same database: NIVOT_DSN='%s' NIVOT_ADDR=127.0.0.1:8421 nivot serve -practice-clock "+
			"%s\n  Stop with Ctrl-C; what you did is kept. make demo-reset begins anew.\n\n",
		dsn, demo.Start.Format(time.RFC3339))
	return together(ctx, e, l, h)
}

// setUp makes the demo's data and plays the weeks before it opens.
func setUp(ctx context.Context, e *engine.Engine, clock *demo.Clock, smtp int) error {
	fmt.Println("Setting up Marrowby Museum, and playing the four weeks before 15 March 2027 ...")
	inner, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = e.Run(inner) }()
	defer func() { cancel(); <-done }()
	if err := demo.SetUp(ctx, e, api.HashPassword, smtp); err != nil {
		return err
	}
	if _, err := clock.Advance(ctx, demo.Morning); err != nil {
		return err
	}
	if err := demo.WorkMorning(ctx, e); err != nil {
		return err
	}
	if _, err := clock.Advance(ctx, demo.Start); err != nil {
		return err
	}
	if err := demo.Share(ctx, e); err != nil {
		return err
	}
	return demo.Done(ctx, e.Store)
}
