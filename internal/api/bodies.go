package api

import (
	"bytes"
	_ "embed"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/labstack/echo/v5"

	"nivot/internal/core/jsoncheck"
	"nivot/internal/exchange"
)

// How much a request may bring, and how long it may take to.
const (
	maxBody      = 64 << 10                              // of what is no upload and says nothing else in the description
	maxUpload    = exchange.MaxBytes + maxValues + 1<<20 // of an upload that says nothing else
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
	most, upload := s.bodies[operation], slices.Contains(s.types[operation], typeUpload)
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			route, params, err := s.router.FindRoute(r)
			if err != nil {
				return problem(http.StatusNotFound, "There is nothing at this address.")
			}
			if !upload {
				if err := takeBody(c.Response(), r, most); err != nil {
					return err
				}
			}
			in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route,
				Options: &openapi3filter.Options{
					MultiError: true, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: upload}}
			if err := openapi3filter.ValidateRequest(r.Context(), in); err != nil {
				return validationProblem(err)
			}
			if upload {
				return s.takesUpload(c, most, next)
			}
			return next(c)
		}
	}
}

// ofType refuses a body, unread, whose media type (RFC 9110, 8.3) is none of those that are taken. It
// stands before all else: what nobody takes is nobody's to send.
func ofType(types ...string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			if r.ContentLength == 0 {
				return next(c)
			}
			typ, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
			if err == nil && slices.Contains(types, typ) {
				return next(c)
			}
			c.Response().Header().Set("Connection", "close") // the rest is not waited for
			if len(types) == 0 {
				return problem(http.StatusUnsupportedMediaType, "Nothing is to be sent here; leave out the body.")
			}
			return problem(http.StatusUnsupportedMediaType, fmt.Sprintf(
				"What is sent is wanted as %s; say so with Content-Type.", strings.Join(types, " or ")))
		}
	}
}

// typesOf lists the media types that an operation takes.
func typesOf(op *openapi3.Operation) []string {
	if op.RequestBody == nil {
		return nil
	}
	return slices.Sorted(maps.Keys(op.RequestBody.Value.Content))
}

// The media types of bodies.
const (
	typeUpload = "multipart/form-data"
	typeForm   = "application/x-www-form-urlencoded"
)

// takeBody reads the whole body of a request, of so many bytes at the most.
func takeBody(w http.ResponseWriter, r *http.Request, most int64) error {
	large := problem(http.StatusRequestEntityTooLarge,
		fmt.Sprintf("What was sent is larger than the %d kB that are taken here. Send less at once.", most>>10))
	if r.ContentLength > most {
		w.Header().Set("Connection", "close") // the rest is not waited for
		return large
	}
	there := reads(r)
	body, err := io.ReadAll(io.LimitReader(r.Body, most+1))
	there()
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
