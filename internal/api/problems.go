package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/labstack/echo/v5"

	"nivot/internal/core/rule"
	"nivot/internal/core/template"
	"nivot/internal/engine"
	"nivot/internal/exchange"
	"nivot/internal/store"
)

// problemError is an error that is a problem detail already.
type problemError struct {
	status int
	Problem
}

func (p *problemError) Error() string { return p.Title }

func problem(status int, title string) error {
	return &problemError{status, Problem{Title: title}}
}

// handleError turns every error into a problem detail (RFC 9457).
func (s *Server) handleError(c *echo.Context, err error) {
	if sent, _ := echo.UnwrapResponse(c.Response()); sent != nil && sent.Committed {
		level := slog.LevelWarn
		if c.Request().Context().Err() != nil || errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET) {
			level = slog.LevelDebug // who asked is gone
		}
		slog.Log(context.WithoutCancel(c.Request().Context()), level, "a request failed after its answer had begun", "id",
			requestID(c), "method", c.Request().Method, "path", c.Path(), "error", err)
		return
	}
	status, p := toProblem(err)
	if status == http.StatusInternalServerError {
		slog.Error("a request failed", "id", requestID(c), "method", c.Request().Method, "path", c.Path(), "error", err)
	}
	writeProblem(c.Response(), status, p)
}

func toProblem(err error) (int, Problem) {
	var pe *problemError
	var refusal *engine.Refusal
	var conflict *engine.Conflict
	var overtaken *engine.Overtaken
	var wrongClock *engine.ClockError
	var fault *rule.FieldError // of a rule that cannot be read
	var part *template.Fault   // of a template that cannot be read
	var file *exchange.FileError
	var moment *time.ParseError
	var typ *json.UnmarshalTypeError
	var coder interface{ StatusCode() int }
	switch {
	case errors.As(err, &pe):
		return pe.status, pe.Problem
	case errors.As(err, &conflict):
		field := "/cells/" + conflict.Column
		return http.StatusConflict, Problem{Title: conflict.Error(), Field: &field,
			Conflict: &Conflict{Column: conflict.Column, Name: conflict.Name, Theirs: conflict.Theirs, Yours: conflict.Yours}}
	case errors.As(err, &overtaken):
		newer, field := int(overtaken.Version), "/version"
		return http.StatusConflict, Problem{Title: sentence(overtaken.Error()), Field: &field, Newer: &newer}
	case errors.As(err, &refusal):
		p := Problem{Title: sentence(refusal.Message)}
		if refusal.Field != "" {
			p.Field = &refusal.Field
		}
		return http.StatusUnprocessableEntity, p
	case errors.As(err, &fault):
		return http.StatusUnprocessableEntity, Problem{Title: sentence(fault.Message), Field: &fault.Pointer}
	case errors.As(err, &part):
		return http.StatusUnprocessableEntity, Problem{Title: sentence(part.Error()), Field: &part.Pointer}
	case errors.As(err, &file):
		return http.StatusUnprocessableEntity, Problem{Title: sentence(file.Error())}
	case errors.Is(err, store.ErrKeyUsed):
		return http.StatusUnprocessableEntity, Problem{Title: "This idempotency key was used for another request."}
	case errors.Is(err, engine.ErrWentBack), errors.As(err, &wrongClock):
		return http.StatusServiceUnavailable, Problem{Title: sentence(err.Error())}
	case store.Full(err):
		return http.StatusServiceUnavailable,
			Problem{Title: "The database’s disk is full. Nothing has been changed; make room on it, and it goes on by itself."}
	case store.Away(err):
		return http.StatusServiceUnavailable,
			Problem{Title: "The database does not answer at the moment. Nothing is known to be lost; it will be tried again."}
	case store.Unfit(err):
		return http.StatusUnprocessableEntity,
			Problem{Title: "A text is longer, or a number larger, than can be kept. Shorten it, and try again."}
	case store.Missing(err):
		return http.StatusNotFound, Problem{Title: "It is not there, or not any more."}
	case errors.As(err, &moment):
		return http.StatusUnprocessableEntity,
			Problem{Title: fmt.Sprintf("“%s” is no date and time that there is; write it as 2027-03-19T15:30:00Z.",
				moment.Value)}
	case errors.As(err, &typ):
		field := "/" + strings.ReplaceAll(typ.Field, ".", "/")
		return http.StatusUnprocessableEntity, Problem{Title: "This value does not fit here.", Field: &field}
	case errors.As(err, &coder):
		status := coder.StatusCode()
		title := http.StatusText(status)
		switch status {
		case http.StatusBadRequest:
			title = "What was sent cannot be read. Look at the request's parts against the description under /api/openapi.json."
		case http.StatusNotFound:
			title = "There is nothing at this address."
		case http.StatusMethodNotAllowed:
			title = "This cannot be done at this address."
		case http.StatusRequestEntityTooLarge:
			title = "The file is too large."
		}
		if status < 500 {
			return status, Problem{Title: title}
		}
	case errors.Is(err, context.Canceled):
		return 499, Problem{Title: "The request was given up."}
	}
	return http.StatusInternalServerError, Problem{Title: "Something failed on the server, and has been logged."}
}

// sentence writes a message as a sentence.
func sentence(s string) string {
	if strings.HasSuffix(s, "?") || strings.HasSuffix(s, ".") {
		return upperFirst(s)
	}
	return upperFirst(s) + "."
}

func upperFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return s
	}
	return string(unicode.ToUpper(r)) + s[n:]
}

// retryAfter is how many seconds a client is asked to wait for the database.
const retryAfter = "2"

func writeProblem(w http.ResponseWriter, status int, p Problem) {
	p.Type, p.Status = "about:blank", status
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(p)
}

// validationProblem says the first of what the validator found, in words of ours, with a JSON
// pointer (RFC 6901) from the root of the body, or the name of the parameter.
func validationProblem(err error) error {
	p := &problemError{http.StatusUnprocessableEntity, Problem{Title: "The request cannot be read."}}
	var multi openapi3.MultiError
	var req *openapi3filter.RequestError
	for errors.As(err, &multi) && len(multi) > 0 {
		err = multi[0]
		if errors.As(err, &req) && req.Err != nil {
			err = req.Err
		}
	}
	at := ""
	if req != nil && req.Parameter != nil {
		at = "/" + req.Parameter.Name
		p.Title = fmt.Sprintf("%s is missing, or cannot be read.", req.Parameter.Name)
	}
	var schema *openapi3.SchemaError
	var parse *openapi3filter.ParseError
	switch {
	case errors.As(err, &schema):
		for _, name := range append(schema.JSONPointer(), surplus(schema)...) {
			at += "/" + pointerEscape.Replace(name)
		}
		p.Title = sentence(schemaWords(schema))
	case errors.As(err, &parse) && req != nil && req.Parameter == nil &&
		parse.Kind == openapi3filter.KindUnsupportedFormat:
		p.Title = "What is sent is wanted as JSON; say so with Content-Type: application/json."
	case req != nil && req.RequestBody != nil && req.Parameter == nil && req.Err != nil &&
		errors.Is(req.Err, openapi3filter.ErrInvalidRequired):
		p.Title = "The request has no body."
	}
	if at != "" {
		p.Field = &at
	}
	return p
}

// surplus names what an object has and the description has not: the first by name, where that is
// the fault.
func surplus(e *openapi3.SchemaError) []string {
	given, ok := e.Value.(map[string]any)
	if !ok || e.SchemaField != "properties" && e.SchemaField != "additionalProperties" {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, known := e.Schema.Properties[name]; !known {
			return []string{name}
		}
	}
	return nil
}

var pointerEscape = strings.NewReplacer("~", "~0", "/", "~1")

// schemaWords says how a value does not fit the description.
func schemaWords(e *openapi3.SchemaError) string {
	s := e.Schema
	count := func(n uint64, what string) string {
		if n == 1 {
			return "1 " + what
		}
		return fmt.Sprintf("%d %ss", n, what)
	}
	switch e.SchemaField {
	case "type":
		if want := typeWords(s); want != "" {
			return want + " is wanted here, not " + given(e.Value)
		}
	case "required":
		return "this is missing"
	case "properties", "additionalProperties":
		return "there is no such name here"
	case "enum":
		var names []string
		for _, v := range s.Enum {
			names = append(names, fmt.Sprint(v))
		}
		return "it is one of " + strings.Join(names, ", ") + ", not " + given(e.Value)
	case "minLength":
		if s.MinLength == 1 {
			return "it is empty"
		}
		return "it has at least " + count(s.MinLength, "character")
	case "maxLength":
		if s.MaxLength != nil {
			return "it has at most " + count(*s.MaxLength, "character")
		}
	case "minItems":
		return "the list has at least " + count(s.MinItems, "item")
	case "maxItems":
		if s.MaxItems != nil {
			return "the list has at most " + count(*s.MaxItems, "item")
		}
	case "minimum":
		if s.Min != nil {
			return fmt.Sprintf("it is at least %v", *s.Min)
		}
	case "maximum":
		if s.Max != nil {
			return fmt.Sprintf("it is at most %v", *s.Max)
		}
	case "nullable":
		return "a value is wanted here, not null"
	case "format":
		return given(e.Value) + " is not written as it is wanted here: " + s.Format
	case "pattern":
		return given(e.Value) + " is not written as it is wanted here"
	}
	return "the value does not fit here"
}

func typeWords(s *openapi3.Schema) string {
	for kind, words := range map[string]string{"string": "text", "integer": "a whole number", "number": "a number",
		"boolean": "true or false", "array": "a list", "object": "an object"} {
		if s.Type.Is(kind) {
			return words
		}
	}
	return ""
}

// given shows a value that does not fit, shortened.
func given(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return "this"
	}
	if r := []rune(string(b)); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return string(b)
}

// rooted gives a problem's pointer from the root of the body of an operation. The core says
// where in a rule, a template or a view a fault is; which of the body's names that is of is
// known by the description: the one under which the pointer's first name stands.
func (s *Server) rooted(operation string) echo.MiddlewareFunc {
	under := s.roots[operation]
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		if len(under) == 0 {
			return next
		}
		return func(c *echo.Context) error {
			err := next(c)
			var refusal *engine.Refusal
			var fault *rule.FieldError
			switch {
			case errors.As(err, &refusal) && refusal.Field != "":
				return &engine.Refusal{Field: under.root(refusal.Field), Message: refusal.Message}
			case errors.As(err, &fault):
				return &rule.FieldError{Pointer: under.root(fault.Pointer), Message: fault.Message}
			}
			return err
		}
	}
}

// roots says for the names that stand one below the root of a body, and not at it, under which
// name of the root they do.
type roots map[string]string

func (r roots) root(pointer string) string {
	first, _, _ := strings.Cut(strings.TrimPrefix(pointer, "/"), "/")
	if at, ok := r[first]; ok {
		return "/" + at + pointer
	}
	return pointer
}

func rootsOf(op *openapi3.Operation) roots {
	if op.RequestBody == nil {
		return nil
	}
	body := op.RequestBody.Value.Content.Get("application/json")
	if body == nil || body.Schema == nil {
		return nil
	}
	out := roots{}
	top := body.Schema.Value.Properties
	var twice []string
	for name, p := range top {
		for below := range p.Value.Properties {
			if _, ok := out[below]; ok {
				twice = append(twice, below)
			}
			out[below] = name
		}
	}
	for below := range out {
		if _, there := top[below]; there || slices.Contains(twice, below) {
			delete(out, below)
		}
	}
	return out
}
