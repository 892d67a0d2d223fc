package api

import (
	"context"
	_ "embed"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/labstack/echo/v5"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// securityHeaders go with every answer. Styles may stand inline, for letters
// in sandboxed frames and the editor; scripts may not.
func (s *Server) securityHeaders(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
				"font-src 'self'; connect-src 'self'; frame-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action "+
				"'self'")
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
			if program || strings.HasPrefix(r.URL.Path, formPath) || strings.HasPrefix(r.URL.Path, engine.ConfirmPath) ||
				strings.HasPrefix(r.URL.Path, engine.OptOutPath) {
				return next(c)
			}
			if unsafeMethod(r.Method) && r.Header.Get("Sec-Fetch-Site") == "" && r.Header.Get("Origin") == "" {
				return problem(http.StatusForbidden,
					"The request tells neither Sec-Fetch-Site nor Origin, as every browser does; a program calls Nivot with a token.")
			}
			if guard.Check(r) != nil {
				return problem(http.StatusForbidden,
					fmt.Sprintf("The page that asks for this is at %s, and Nivot takes itself to be at %s. "+
						"If both are the same Nivot, set NIVOT_PUBLIC_URL to the address that stands in the browser, and start it again.",
						originOf(r), s.PublicURL))
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
			signedInOn(r.Context(), p)
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
