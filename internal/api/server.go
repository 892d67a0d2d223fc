// Package api is Nivot's HTTP interface: JSON under /api as openapi.yaml
// describes it, server-sent events, and the built front end.
package api

import (
	"context"
	"crypto/sha256"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"nivot/internal/engine"
	"nivot/internal/store"
)

//go:generate go tool oapi-codegen -config oapi.yaml openapi.yaml

//go:embed openapi.yaml
var specYAML []byte

// PracticeClock is the clock of the demo, which can be moved forward.
type PracticeClock interface {
	// Advance plays the time forward to an instant, letting everything on the
	// way happen, and gives the time it has come to.
	Advance(ctx context.Context, to time.Time) (time.Time, error)
}

// Options say what a server serves.
type Options struct {
	Engine    *engine.Engine
	Wall      engine.Clock  // for sign-in: sessions, links and limits run by the wall clock
	Clock     PracticeClock // nil outside the demo
	Key       *engine.Key   // seals mail passwords; nil means that none can be stored
	PublicURL string        // of the application, in links
	Zone      *time.Location
	Web       fs.FS  // the built front end
	Uploads   string // folder of what is being uploaded, of Nivot's own; "" for one in the temporary folder
	Version   string
	Proxies   []netip.Prefix // whose X-Forwarded-For is believed
}

// Server is the API's handlers and what they share.
type Server struct {
	Options
	e        *engine.Engine
	st       *store.Store
	sessions *scs.SessionManager
	live     *broadcaster
	spec     *openapi3.T
	router   routers.Router
	roles    map[string]store.Role // by operation id; absent for nobody

	forPrograms map[string]bool     // operations that a token may call
	keyed       map[string]bool     // operations that take an idempotency key
	base        string              // path at which the application stands
	index       []byte              // the front end's page, as it is there
	bodies      map[string]int64    // the most bytes that an operation takes
	types       map[string][]string // and of which media types
	uploads     *uploads
	computing   turns         // of people, at what takes the server's time
	computesFor time.Duration // the longest that an operation computes
	roots       map[string]roots
	fromAddress echo.IPExtractor
	intakes     *limiter // rows that come in by forms, per form and address
	forms       *limiter // the same, per form
	// What comes without a script, which cannot show a proof.
	plainIntakes, plainForms *limiter
	tests                    *limiter                            // test emails to others, per person
	stops                    *limiter                            // presses to stop emails, per link
	proofs                   *lru.Cache[[sha256.Size]byte, bool] // that were used
	tables                   tables                              // that were read last
	tries                    tries
	putOffs                  putOffs
	flights                  flights
	colleagues               colleagues
}

// Handler is the HTTP handler and its background work.
type Handler struct {
	http.Handler
	s *Server
}

// Run sends live changes and counts refused sign-ins until the context ends.
func (h *Handler) Run(ctx context.Context) {
	var w sync.WaitGroup
	w.Go(func() { h.s.runPutOff(ctx) })
	h.s.live.run(ctx)
	w.Wait()
}

// New builds the handler.
func New(o Options) (*Handler, error) {
	s := &Server{Options: o, e: o.Engine, st: o.Engine.Store, live: newBroadcaster(o.Engine.Store),
		fromAddress: extractor(o.Proxies),
		colleagues:  newColleagues(), computesFor: computesFor,
		tries: newTries(o.Wall), intakes: newLimiter(o.Wall, intakeTries, intakeEvery),
		forms: newLimiter(o.Wall, formTries,
			formEvery)}
	s.plainIntakes, s.plainForms = newLimiter(o.Wall, plainTries, plainEvery), newLimiter(o.Wall, plainFormTries,
		plainFormEvery)
	s.stops = newLimiter(o.Wall, intakeTries, intakeEvery)
	s.tests = newLimiter(o.Wall, testsAnHour, time.Hour/testsAnHour)
	var err error
	if s.base, err = basePath(o.PublicURL); err != nil {
		return nil, err
	}
	s.index = placed(o.Web, s.base)
	if s.proofs, err = lru.New[[sha256.Size]byte, bool](remembered); err != nil {
		return nil, err
	}
	if s.Zone == nil {
		s.Zone = time.UTC
	}
	if err := s.loadSpec(); err != nil {
		return nil, err
	}
	if s.uploads, err = newUploads(o.Uploads); err != nil {
		return nil, err
	}
	s.sessions = scs.New()
	s.sessions.Store = store.Sessions{S: s.st}
	s.sessions.Lifetime = 14 * 24 * time.Hour
	s.sessions.Cookie.Name = "nivot"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteStrictMode
	if strings.HasPrefix(o.PublicURL, "https://") {
		// No other host, and nothing without TLS, can set a cookie of such a name (RFC 6265bis 4.1.3.2).
		s.sessions.Cookie.Secure, s.sessions.Cookie.Name = true, "__Host-nivot"
	}
	s.sessions.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) {
		status, p := toProblem(err)
		writeProblem(w, status, p)
	}

	origin, err := s.ownOrigin()
	if err != nil {
		return nil, err
	}
	e := echo.New()
	e.HTTPErrorHandler = s.handleError
	e.Use(named()...)
	e.Use(middleware.Recover(), s.securityHeaders,
		middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: maxUpload}), origin)
	per := map[string][]echo.MiddlewareFunc{}
	for id := range s.operations() {
		per[id] = []echo.MiddlewareFunc{ofType(s.types[id]...), s.guard(id), s.rooted(id), s.validate(id),
			s.answered(id), s.budgeted(id)}
	}
	// Events stream, and so have a handler of their own behind the same guard.
	strict := NewStrictHandler(s, nil)
	RegisterHandlersWithOptions(e, streaming{strict, s}, RegisterHandlersOptions{BaseURL: "/api",
		OperationMiddlewares: per})
	e.GET("/api/openapi.json", func(c *echo.Context) error { return c.JSON(http.StatusOK, s.spec) })
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", s.ready)
	e.GET(formPath+":address", s.showForm)
	e.GET(feedPath+":secret", s.showFeed)
	e.POST(formPath+":address", s.takeForm, ofType(typeForm))
	e.GET(engine.ConfirmPath+":token", s.showConfirm)
	e.POST(engine.ConfirmPath+":token", s.takeConfirm, ofType(typeForm))
	e.GET(engine.OptOutPath+":token", s.showStop)
	e.POST(engine.OptOutPath+":token", s.takeStop, ofType(typeForm, typeUpload)) // RFC 8058, 3.1
	e.Any("/api/*", func(*echo.Context) error {
		return echo.NewHTTPError(http.StatusNotFound, "there is nothing at this address")
	})
	e.GET("/*", s.page)
	return &Handler{within(s.base, s.arrives(s.sessions.LoadAndSave(e))), s}, nil
}

// streaming replaces the generated handler of the events.
type streaming struct {
	ServerInterface
	s *Server
}

// StreamEvents implements ServerInterface.
func (x streaming) StreamEvents(c *echo.Context) error {
	ctx := c.Request().Context()
	began, session := person(ctx), store.HashToken(x.s.sessions.Token(ctx))
	return x.s.live.serve(c, func(ctx context.Context) (bool, error) {
		on, err := x.s.st.SessionGoesOn(ctx, session)
		if err != nil || !on {
			return false, err
		}
		p, err := x.s.st.Person(ctx, began.ID)
		if errors.Is(err, store.ErrNotFound) {
			return false, nil
		}
		return err == nil && !p.Out() && p.Epoch == began.Epoch, err
	})
}

// readSpec returns the description of the API, read and checked once in a process.
var readSpec = sync.OnceValues(func() (*openapi3.T, error) {
	loader := openapi3.NewLoader()
	spec, err := loader.LoadFromData(specYAML)
	if err != nil {
		return nil, err
	}
	if err := spec.Validate(loader.Context); err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	return spec, nil
})

func (s *Server) loadSpec() error {
	spec, err := readSpec()
	if err != nil {
		return err
	}
	s.spec = spec
	s.roles, s.forPrograms, s.keyed, s.bodies = map[string]store.Role{}, map[string]bool{}, map[string]bool{},
		map[string]int64{}
	s.roots, s.types = map[string]roots{}, map[string][]string{}
	for id, op := range s.operations() {
		s.keyed[id] = op.Parameters.GetByInAndName("header", "Idempotency-Key") != nil
		s.forPrograms[id], _ = op.Extensions["x-token"].(bool)
		s.bodies[id], s.roots[id], s.types[id] = maxBody, rootsOf(op), typesOf(op)
		if slices.Contains(s.types[id], typeUpload) {
			s.bodies[id] = maxUpload
		}
		if n, ok := op.Extensions["x-body"].(float64); ok {
			s.bodies[id] = int64(n)
		}
		role, _ := op.Extensions["x-role"].(string)
		switch {
		case role == "nobody":
		case store.Role(role).May(store.Reader):
			s.roles[id] = store.Role(role)
		default:
			return fmt.Errorf("openapi.yaml: operation %s has no role", id)
		}
	}
	s.router, err = gorillamux.NewRouter(spec)
	return err
}

// operations gives the operations of the API by their Go name's id.
func (s *Server) operations() map[string]*openapi3.Operation {
	out := map[string]*openapi3.Operation{}
	for _, item := range s.spec.Paths.Map() {
		for _, op := range item.Operations() {
			out[op.OperationID] = op
		}
	}
	return out
}

func (s *Server) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	if err := s.st.Ping(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	}
	if err := s.e.Trouble(); err != nil {
		return c.String(http.StatusServiceUnavailable, err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}
