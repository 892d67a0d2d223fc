package api

import (
	"context"
	"net/http"
	"time"

	"nivot/internal/engine"
	"nivot/internal/store"
)

// SetSending implements StrictServerInterface.
func (s *Server) SetSending(ctx context.Context, r SetSendingRequestObject) (SetSendingResponseObject, error) {
	return SetSending200JSONResponse{Sending: r.Body.On}, s.e.SetSending(ctx, r.Body.On, person(ctx).Name)
}

// farthest is how far one request moves the practice clock at the most.
const farthest = 400 * 24 * time.Hour

// MoveClock implements StrictServerInterface.
func (s *Server) MoveClock(ctx context.Context, r MoveClockRequestObject) (MoveClockResponseObject, error) {
	if s.Clock == nil {
		return nil, problem(http.StatusNotFound, "There is a practice clock in the demo only.")
	}
	now := s.e.Now()
	to := now
	switch r.Body.To {
	case Day:
		to = now.Add(24 * time.Hour)
	case Instant:
		if r.Body.At == nil || r.Body.At.Before(now) || r.Body.At.After(now.Add(farthest)) {
			return nil, &engine.Refusal{Field: "/at", Message: "the practice clock goes forward only, by 400 days at the most"}
		}
		to = *r.Body.At
	case Next:
		next, err := s.nextEmail(ctx, now)
		if err != nil {
			return nil, err
		}
		if next.IsZero() {
			return nil, &engine.Refusal{Message: "no email is coming: no rule that is on will write one in the next four weeks"}
		}
		to = next
	}
	at, err := s.Clock.Advance(ctx, to)
	if err != nil {
		return nil, err
	}
	err = s.st.AddEvents(ctx, store.Event{At: at, Actor: person(ctx).Name, Kind: store.EventClockMoved})
	return MoveClock200JSONResponse{Now: at}, err
}
