package api

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nivot/internal/engine"
)

// The application may stand at a path of its server: what it loads and calls is below it,
// whether or not a proxy takes the path off.
func TestStandsAtAPath(t *testing.T) {
	s := newSite(t, true)
	h, err := New(Options{Engine: engine.New(s.st, time.Now, engine.Options{}), Wall: time.Now,
		PublicURL: "https://marrowby.example/desk/nivot/",
		Web: fstest.MapFS{"index.html": {Data: []byte(`<html><head></head><script src="./assets/x.js"></script>`)},
			"assets/x.js": {Data: []byte("1")}}, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	get := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		return w
	}
	for path, want := range map[string]string{
		"/desk/nivot/":            `src="/desk/nivot/assets/x.js"`,
		"/desk/nivot/sheets/deep": `<meta name="base" content="/desk/nivot">`,
		"/sheets/deep":            `src="/desk/nivot/assets/x.js"`,
		"/desk/nivot/assets/x.js": "1",
		"/assets/x.js":            "1",
		"/desk/nivot/api/session": `"version":"test"`,
		"/api/session":            `"version":"test"`,
		"/desk/nivot/healthz":     "ok",
	} {
		if w := get(path); w.Code != 200 || !strings.Contains(w.Body.String(), want) {
			t.Errorf("%s: %d %s, want %q", path, w.Code, w.Body, want)
		}
	}
	if w := get("/desk/nivot"); w.Code != http.StatusPermanentRedirect || w.Header().Get("Location") != "/desk/nivot/" {
		t.Errorf("without the last slash: %d %s", w.Code, w.Header().Get("Location"))
	}
	w := get("/desk/nivot/api/session")
	if w.Header().Get("Strict-Transport-Security") == "" {
		t.Error("no HSTS under https")
	}
	for address, want := range map[string]string{"https://a.example": "", "https://a.example/": "",
		"http://a.example/x/": "/x", "http://a.example/x/y": "/x/y"} {
		if got, err := basePath(address); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", address, got, err, want)
		}
	}
	for _, address := range []string{"https://a.example/\"><script>", "https://a.example/a b", "https://a.example//x"} {
		if got, err := basePath(address); err == nil {
			t.Errorf("%s: %q", address, got)
		}
	}
}

// Over TLS the session's cookie is one that no other host can set.
func TestHostCookie(t *testing.T) {
	s := newSite(t, true)
	h, err := New(Options{Engine: engine.New(s.st, time.Now, engine.Options{}), Wall: time.Now,
		PublicURL: "https://marrowby.example",
		Web:       fstest.MapFS{"index.html": {Data: []byte("<head>")}}, Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	req := httptest.NewRequest("POST", "/api/session",
		strings.NewReader(`{"email":"reader@marrowby.example","password":"`+password+`"}`))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Origin", "https://marrowby.example")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, req)
	cookie := w.Header().Get("Set-Cookie")
	if w.Code != 200 || !strings.HasPrefix(cookie, "__Host-nivot=") || !strings.Contains(cookie, "Secure") ||
		!strings.Contains(cookie, "Path=/;") || strings.Contains(cookie, "Domain") {
		t.Errorf("%d %s", w.Code, cookie)
	}
}
