package api

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

// What a person may have worked out: so much at once in a process, beyond which their questions wait for one
// another, and so many that wait; and how long one may take. Others' questions do not wait for theirs.
const (
	computesAtOnce = 4
	computesWait   = 100
	computesFor    = time.Minute
)

var errTooMuch = errors.New("too much to work out")

// turns lets so much be done at once by each person.
type turns struct {
	mu sync.Mutex
	of map[string]*turnsOf // guarded by mu: by person
}

type turnsOf struct {
	slots chan struct{}
	count int // under way or waiting; guarded by the mu of turns
}

// enter waits until a person's turn comes, and returns what ends it.
func (t *turns) enter(ctx context.Context, person string, atOnce, wait int) (leave func(), err error) {
	t.mu.Lock()
	if t.of == nil {
		t.of = map[string]*turnsOf{}
	}
	of := t.of[person]
	if of == nil {
		of = &turnsOf{slots: make(chan struct{}, atOnce)}
		t.of[person] = of
	}
	if of.count >= atOnce+wait {
		t.mu.Unlock()
		return nil, problem(http.StatusTooManyRequests,
			"Too much of yours is under way. Wait until it is done, and try again.")
	}
	of.count++
	t.mu.Unlock()
	out := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if of.count--; of.count == 0 {
			delete(t.of, person)
		}
	}
	select {
	case of.slots <- struct{}{}:
		return func() { <-of.slots; out() }, nil
	case <-ctx.Done():
		out()
		return nil, ctx.Err()
	}
}

// budgeted bounds what an operation that computes may take of the server.
func (s *Server) budgeted(operation string) echo.MiddlewareFunc {
	computes, _ := s.operations()[operation].Extensions["x-computes"].(bool)
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		if !computes {
			return next
		}
		return func(c *echo.Context) error {
			r := c.Request()
			leave, err := s.computing.enter(r.Context(), person(r.Context()).ID, computesAtOnce, computesWait)
			if err != nil {
				return err
			}
			defer leave()
			ctx, cancel := context.WithTimeoutCause(r.Context(), s.computesFor, errTooMuch)
			defer cancel()
			c.SetRequest(r.WithContext(ctx))
			err = next(c)
			if err != nil && (errors.Is(context.Cause(ctx), errTooMuch) || errors.Is(err, context.DeadlineExceeded)) {
				return problem(http.StatusUnprocessableEntity,
					"This is too much to work out at once. Ask for fewer rows, or with fewer conditions.")
			}
			return err
		}
	}
}
