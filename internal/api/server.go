// Package api is Nivot's HTTP interface: JSON under /api as openapi.yaml
// describes it, server-sent events, and the built front end.
package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"nivot/internal/core/jsoncheck"
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
	Web       fs.FS // the built front end
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

	forPrograms map[string]bool  // operations that a token may call
	keyed       map[string]bool  // operations that take an idempotency key
	base        string           // path at which the application stands
	index       []byte           // the front end's page, as it is there
	bodies      map[string]int64 // the most bytes that an operation takes
	roots       map[string]roots
	fromAddress echo.IPExtractor
	intakes     *limiter // rows that come in by forms, per form and address
	crowds      *limiter // the same, per form
	// What comes without a script, which cannot show a proof.
	plainIntakes, plainCrowds *limiter
	proofs                    *lru.Cache[[sha256.Size]byte, bool] // that were used
	tables                    tables                              // that were read last
	tries                     tries
}

// Handler is the HTTP handler and its background work.
type Handler struct {
	http.Handler
	s *Server
}

// Run keeps the live changes coming until the context ends.
func (h *Handler) Run(ctx context.Context) { h.s.live.run(ctx) }

// New builds the handler.
func New(o Options) (*Handler, error) {
	s := &Server{Options: o, e: o.Engine, st: o.Engine.Store, live: newBroadcaster(o.Engine.Store), fromAddress: extractor(o.Proxies),
		tries: newTries(o.Wall), intakes: newLimiter(o.Wall, intakeTries, intakeEvery), crowds: newLimiter(o.Wall, crowdTries, crowdEvery)}
	s.plainIntakes, s.plainCrowds = newLimiter(o.Wall, plainTries, plainEvery), newLimiter(o.Wall, plainCrowd, plainCrowdEvery)
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
	e.Use(middleware.Recover(), s.securityHeaders, middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{LimitBytes: maxUpload}), origin)
	per := map[string][]echo.MiddlewareFunc{}
	for id := range s.operations() {
		per[id] = []echo.MiddlewareFunc{s.guard(id), s.rooted(id), s.validate(id), s.answered(id)}
	}
	// Events stream, and so have a handler of their own behind the same guard.
	strict := NewStrictHandler(s, nil)
	RegisterHandlersWithOptions(e, streaming{strict, s}, RegisterHandlersOptions{BaseURL: "/api", OperationMiddlewares: per})
	e.GET("/api/openapi.json", func(c *echo.Context) error { return c.JSON(http.StatusOK, s.spec) })
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", s.ready)
	e.GET(formPath+":address", s.showForm)
	e.GET(feedPath+":secret", s.showFeed)
	e.POST(formPath+":address", s.takeForm)
	e.GET(engine.ConfirmPath+":token", s.showConfirm)
	e.POST(engine.ConfirmPath+":token", s.takeConfirm)
	e.GET(engine.OptOutPath+":token", s.showStop)
	e.POST(engine.OptOutPath+":token", s.takeStop)
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

func (s *Server) loadSpec() error {
	loader := openapi3.NewLoader()
	spec, err := loader.LoadFromData(specYAML)
	if err != nil {
		return err
	}
	if err := spec.Validate(loader.Context); err != nil {
		return fmt.Errorf("openapi.yaml: %w", err)
	}
	s.spec = spec
	s.roles, s.forPrograms, s.keyed, s.bodies = map[string]store.Role{}, map[string]bool{}, map[string]bool{}, map[string]int64{}
	s.roots = map[string]roots{}
	for id, op := range s.operations() {
		s.keyed[id] = op.Parameters.GetByInAndName("header", "Idempotency-Key") != nil
		s.forPrograms[id], _ = op.Extensions["x-token"].(bool)
		s.bodies[id], s.roots[id] = maxBody, rootsOf(op)
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

// securityHeaders go with every answer. Styles may stand inline, for letters
// in sandboxed frames and the editor; scripts may not.
func (s *Server) securityHeaders(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"font-src 'self'; connect-src 'self'; frame-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if strings.HasPrefix(s.PublicURL, "https://") {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// ownOrigin refuses what another site's page makes a browser send: by Sec-Fetch-Site (Fetch
// Metadata Request Headers, W3C), and by Origin (Fetch, WHATWG 3.2) against the address that is
// asked and the public one, where a browser sends none over plain HTTP. A program carries a
// token and no session; a form's page is anybody's, and so is one that stops emails.
func (s *Server) ownOrigin() (echo.MiddlewareFunc, error) {
	guard := http.NewCrossOriginProtection()
	if u, err := url.Parse(s.PublicURL); err == nil && u.Host != "" {
		if err := guard.AddTrustedOrigin(u.Scheme + "://" + u.Host); err != nil {
			return nil, fmt.Errorf("NIVOT_PUBLIC_URL: %w", err)
		}
	}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			_, program := bearer(r)
			if program || strings.HasPrefix(r.URL.Path, formPath) || strings.HasPrefix(r.URL.Path, engine.ConfirmPath) || strings.HasPrefix(r.URL.Path, engine.OptOutPath) {
				return next(c)
			}
			if unsafeMethod(r.Method) && r.Header.Get("Sec-Fetch-Site") == "" && r.Header.Get("Origin") == "" {
				return problem(http.StatusForbidden, "The request tells neither Sec-Fetch-Site nor Origin, as every browser does; a program calls Nivot with a token.")
			}
			if guard.Check(r) != nil {
				return problem(http.StatusForbidden, fmt.Sprintf("The page that asks for this is at %s, and Nivot takes itself to be at %s. "+
					"If both are the same Nivot, set NIVOT_PUBLIC_URL to the address that stands in the browser, and start it again.", originOf(r), s.PublicURL))
			}
			return next(c)
		}
	}, nil
}

func unsafeMethod(m string) bool {
	return m != http.MethodGet && m != http.MethodHead && m != http.MethodOptions
}

func originOf(r *http.Request) string {
	if o := r.Header.Get("Origin"); o != "" && o != "null" {
		return o
	}
	return "an address that the browser does not tell"
}

type contextKey int

const personKey contextKey = 0

// person is who asked. It is never nil behind a guard that asks for a role.
func person(ctx context.Context) *store.Person {
	p, _ := ctx.Value(personKey).(*store.Person)
	return p
}

// guard lets an operation be called only by somebody whose role allows it.
func (s *Server) guard(operation string) echo.MiddlewareFunc {
	need, guarded := s.roles[operation]
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			var p *store.Person
			var err error
			if secret, ok := bearer(r); ok && guarded {
				p, err = s.programOf(c, operation, secret)
			} else {
				p, err = s.signedIn(r.Context())
			}
			if err != nil {
				return err
			}
			if guarded && p == nil {
				return problem(http.StatusUnauthorized, "Sign in first.")
			}
			if guarded && !p.Role.May(need) {
				return problem(http.StatusForbidden, fmt.Sprintf("This is for a %s; you are a %s.", need, p.Role))
			}
			ctx := context.WithValue(r.Context(), personKey, p)
			if p != nil {
				ctx = store.WithDoer(ctx, &store.Doer{ID: p.ID, Name: p.Name, Network: hereFrom(ctx)})
			}
			c.SetRequest(r.WithContext(ctx))
			return next(c)
		}
	}
}

// How much a request may bring, and how long it may take to.
const (
	maxBody      = 64 << 10 // of what is no upload and says nothing else in the description
	maxUpload    = 70 << 20
	bodyDeadline = 30 * time.Second
	fileDeadline = 10 * time.Minute
)

// readBy bounds until when a request's body has to be here; 0 for no bound any more.
func readBy(w http.ResponseWriter, d time.Duration) {
	var at time.Time
	if d > 0 {
		at = time.Now().Add(d)
	}
	_ = http.NewResponseController(w).SetReadDeadline(at) // a connection that has none is a test's
}

// validate checks a request against the API document, and takes its body in first, which must
// not be too large. The body of an upload is left to its handler, so that it can stream.
func (s *Server) validate(operation string) echo.MiddlewareFunc {
	most := s.bodies[operation]
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			route, params, err := s.router.FindRoute(r)
			if err != nil {
				return problem(http.StatusNotFound, "There is nothing at this address.")
			}
			upload := strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/form-data")
			if upload {
				readBy(c.Response(), fileDeadline)
				_ = http.NewResponseController(c.Response()).SetWriteDeadline(time.Now().Add(2 * fileDeadline))
			} else if err := takeBody(c.Response(), r, most); err != nil {
				return err
			}
			in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route, Options: &openapi3filter.Options{
				MultiError: true, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: upload}}
			if err := openapi3filter.ValidateRequest(r.Context(), in); err != nil {
				return validationProblem(err)
			}
			return next(c)
		}
	}
}

// takeBody reads the whole body of a request, of so many bytes at the most.
func takeBody(w http.ResponseWriter, r *http.Request, most int64) error {
	large := problem(http.StatusRequestEntityTooLarge, fmt.Sprintf("What was sent is larger than the %d kB that are taken here. Send less at once.", most>>10))
	if r.ContentLength > most {
		w.Header().Set("Connection", "close") // the rest is not waited for
		return large
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, most+1))
	if err != nil {
		return problem(http.StatusBadRequest, "What was sent broke off before its end. Send it again.")
	}
	if int64(len(body)) > most {
		w.Header().Set("Connection", "close")
		return large
	}
	readBy(w, 0)
	if len(body) > 0 && strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		if err := jsoncheck.Check(body); err != nil {
			return problem(http.StatusBadRequest, sentence("what was sent cannot be read: "+err.Error()))
		}
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return nil
}

func (s *Server) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	if err := s.st.Ping(ctx); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// page serves the front end; every path that is no file is the application.
func (s *Server) page(c *echo.Context) error {
	name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
	h := c.Response().Header()
	if f, err := fs.Stat(s.Web, name); err == nil && !f.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		return serveFile(c, s.Web, name)
	}
	if strings.HasPrefix(name, "assets/") {
		return echo.NewHTTPError(http.StatusNotFound, "not found")
	}
	h.Set("Cache-Control", "no-cache")
	if s.index == nil {
		return c.String(http.StatusNotFound, "The front end has not been built; run make build.\n")
	}
	return c.Blob(http.StatusOK, contentType("index.html"), s.index)
}

// placed gives the front end's page as it is where the application stands: what it loads is
// named by whole paths, for it is the page of every address, and it says the path itself.
func placed(files fs.FS, base string) []byte {
	b, err := fs.ReadFile(files, "index.html")
	if err != nil {
		return nil
	}
	b = bytes.ReplaceAll(b, []byte(`="./`), []byte(`="`+base+`/`))
	return bytes.Replace(b, []byte("<head>"), []byte(`<head><meta name="base" content="`+base+`">`), 1)
}

// within takes the application's path off that of a request; a proxy may have done so.
func within(base string, next http.Handler) http.Handler {
	if base == "" {
		return next
	}
	strip := http.StripPrefix(base, next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == base:
			http.Redirect(w, r, base+"/", http.StatusPermanentRedirect)
		case strings.HasPrefix(r.URL.Path, base+"/"):
			strip.ServeHTTP(w, r)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// basePath gives the path at which an address says that the application stands: "", or one such
// as /nivot.
func basePath(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("NIVOT_PUBLIC_URL: %w", err)
	}
	base := strings.TrimRight(u.Path, "/")
	if base != "" && !wholePath.MatchString(base) {
		return "", fmt.Errorf("NIVOT_PUBLIC_URL: the path %q is to be letters, digits, hyphens and dots between slashes", base)
	}
	return base, nil
}

var wholePath = regexp.MustCompile(`^(/[A-Za-z0-9._-]+)+$`)

// serveFile serves a file, gzipped where the build left a .gz beside it.
func serveFile(c *echo.Context, files fs.FS, name string) error {
	if strings.Contains(c.Request().Header.Get("Accept-Encoding"), "gzip") {
		if b, err := fs.ReadFile(files, name+".gz"); err == nil {
			c.Response().Header().Set("Content-Encoding", "gzip")
			c.Response().Header().Set("Vary", "Accept-Encoding")
			return c.Blob(http.StatusOK, contentType(name), b)
		}
	}
	b, err := fs.ReadFile(files, name)
	if err != nil {
		return c.String(http.StatusNotFound, "The front end has not been built; run make build.\n")
	}
	return c.Blob(http.StatusOK, contentType(name), b)
}

func contentType(name string) string {
	switch path.Ext(name) {
	case ".html":
		return "text/html; charset=utf-8"
	case ".js":
		return "text/javascript; charset=utf-8"
	case ".css":
		return "text/css; charset=utf-8"
	case ".svg":
		return "image/svg+xml"
	case ".woff2":
		return "font/woff2"
	}
	return "application/octet-stream"
}
