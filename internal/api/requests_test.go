package api

import (
	"bytes"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/labstack/echo/v5"

	"nivot/internal/store"
)

// locked is a log that several requests write and a test reads.
type locked struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// Every request has an id, which its answer and its line of the log bear; a proxy's is kept where
// it is plain. The line has the route, and no secret that stands in an address.
func TestRequestsHaveIDs(t *testing.T) {
	var out locked
	was := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&out, nil)))
	defer slog.SetDefault(was)
	s := newSite(t, true)
	c := s.as(store.Reader)
	for _, test := range []struct {
		name, path, given string
		kept              bool
		status            int
		line              string
	}{
		{"one of our own", "/api/sheets", "", false, 200, "route=/api/sheets status=200"},
		{"a proxy's", "/api/sheets", "edge-7f3a9c21", true, 200, "id=edge-7f3a9c21 method=GET"},
		{"one that would break the log", "/api/sheets", "x level=ERROR msg=made-up", false, 200, ""},
		{"a fault has its status", "/api/sheets/elsewhere", "edge-00000404", true, 404,
			"id=edge-00000404 method=GET route=/api/sheets/:sheet status=404"},
		{"a secret in an address", "/forms/secretofaform", "edge-secret-form", true, 404,
			"id=edge-secret-form method=GET route=/forms/:address"},
	} {
		t.Run(test.name, func(t *testing.T) {
			req, err := http.NewRequest("GET", s.srv.URL+test.path, nil)
			if err != nil {
				t.Fatal(err)
			}
			if test.given != "" {
				req.Header.Set("X-Request-Id", test.given)
			}
			res, err := c.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			id := res.Header.Get("X-Request-Id")
			if res.StatusCode != test.status || len(id) < 8 || (id == test.given) != test.kept {
				t.Errorf("%d, id %q", res.StatusCode, id)
			}
			if log := out.String(); !strings.Contains(log, "id="+id+" ") || !strings.Contains(log, test.line) ||
				strings.Contains(log, "made-up") || strings.Contains(log, "secretofaform") {
				t.Error(log)
			}
		})
	}
	if log := out.String(); strings.Contains(log, "already written") {
		t.Error(log)
	}
}

// A request that fails after its answer has begun is logged once, with its id.
func TestFailedMidway(t *testing.T) {
	var out locked
	was := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&out, nil)))
	defer slog.SetDefault(was)
	s := newSite(t, false)
	e := echo.New()
	e.HTTPErrorHandler = s.h.s.handleError
	e.Use(named()...)
	e.GET("/", func(c *echo.Context) error {
		_ = c.String(200, "half of it")
		return errors.New("the rest cannot be read")
	})
	req := httptest.NewRequest("GET", "/", nil)
	req.Header.Set("X-Request-Id", "edge-7f3a9c21")
	w := httptest.NewRecorder()
	e.ServeHTTP(w, req)
	log := out.String()
	if w.Body.String() != "half of it" || strings.Contains(log, "already written") ||
		!strings.Contains(log, "after its answer had begun\" id=edge-7f3a9c21") {
		t.Errorf("answered %q, logged\n%s", w.Body, log)
	}
}
