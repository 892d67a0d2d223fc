package api

import (
	"bytes"
	_ "embed"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strings"

	"github.com/labstack/echo/v5"
)

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
		return "", fmt.Errorf("NIVOT_PUBLIC_URL: the path %q is to be letters, digits, hyphens and dots between slashes",
			base)
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
