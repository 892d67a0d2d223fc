package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"sync"

	"nivot/internal/engine"
)

// flights lets requests that ask for the same at the same time have one answer made for all of them: when
// something changes, every open page asks in the same moment. A request takes part only in an answer
// whose making begins after it has come, so that it is told all that was written before.
type flights struct {
	mu sync.Mutex
	by map[string]*flight // guarded by mu: by question
}

// flight is the answers to one question: one is being made, and one may wait until it has been.
type flight struct{ next *answer }

type answer struct {
	turn chan struct{} // closed when it may be made, by who has asked first
	done chan struct{} // closed when it has been
	body []byte        // JSON
	err  error
}

// errFault is what the others are told where the making of their answer panicked.
var errFault = errors.New("a fault in making an answer for several")

// do gives the answer to a question, as JSON. What makes it may go on when who has asked first is gone.
func (f *flights) do(ctx context.Context, question string, ask func(context.Context) (any, error)) ([]byte, error) {
	a, leads := f.join(question)
	if !leads {
		select {
		case <-a.done:
			return a.body, a.err
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	<-a.turn
	a.err = errFault
	defer f.land(question, a)
	var b bytes.Buffer
	ctx, cancel := engine.Outliving(ctx)
	defer cancel()
	value, err := ask(ctx)
	if err == nil {
		err = json.NewEncoder(&b).Encode(value)
	}
	a.body, a.err = b.Bytes(), err
	return a.body, a.err
}

// join gives the next answer to a question whose making has not begun, and whether the caller makes it.
func (f *flights) join(question string) (a *answer, leads bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	under, ok := f.by[question]
	if ok && under.next != nil {
		return under.next, false
	}
	a = &answer{turn: make(chan struct{}), done: make(chan struct{})}
	if ok {
		under.next = a
		return a, true
	}
	if f.by == nil {
		f.by = map[string]*flight{}
	}
	f.by[question] = &flight{}
	close(a.turn)
	return a, true
}

// land hands an answer to who waits for it, and lets the next be made.
func (f *flights) land(question string, a *answer) {
	close(a.done)
	f.mu.Lock()
	defer f.mu.Unlock()
	under := f.by[question]
	if under.next == nil {
		delete(f.by, question)
		return
	}
	close(under.next.turn)
	under.next = nil
}

// shared is an answer that was made for several.
type shared []byte

func (s shared) write(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusOK)
	_, err := w.Write(s)
	return err
}

// VisitQueryRowsResponse implements QueryRowsResponseObject.
func (s shared) VisitQueryRowsResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitGetSheetResponse implements GetSheetResponseObject.
func (s shared) VisitGetSheetResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitListRulesResponse implements ListRulesResponseObject.
func (s shared) VisitListRulesResponse(w http.ResponseWriter) error { return s.write(w) }
