package api

import (
	"context"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// Whoever asks is told what was written before, and an answer serves many.
func TestFlights(t *testing.T) {
	const askers, times = 50, 40
	var f flights
	var written, made atomic.Int64
	var all sync.WaitGroup
	for range askers {
		all.Go(func() {
			for range times {
				mine := written.Add(1)
				body, err := f.do(context.Background(), "q", func(context.Context) (any, error) {
					made.Add(1)
					seen := written.Load()
					time.Sleep(time.Duration(rand.IntN(300)) * time.Microsecond)
					return seen, nil
				})
				var seen int64
				if err = errors.Join(err, json.Unmarshal(body, &seen)); err != nil || seen < mine {
					t.Errorf("what was written as %d is not in an answer that has seen %d, %v", mine, seen, err)
				}
			}
		})
	}
	all.Wait()
	if n := made.Load(); n > askers*times/4 {
		t.Errorf("%d answers were made for %d requests", n, askers*times)
	}
	if len(f.by) > 0 {
		t.Errorf("%d questions are left", len(f.by))
	}
}

func TestFlightsOfOthers(t *testing.T) {
	var f flights
	ctx := context.Background()
	constant := func(v any, err error) func(context.Context) (any, error) {
		return func(context.Context) (any, error) { return v, err }
	}
	t.Run("another question has an answer of its own", func(t *testing.T) {
		for _, q := range []string{"a", "b"} {
			if body, err := f.do(ctx, q, constant(q, nil)); err != nil || string(body) != `"`+q+"\"\n" {
				t.Errorf("%s: %q, %v", q, body, err)
			}
		}
	})
	t.Run("an error is everybody's", func(t *testing.T) {
		want := errors.New("no")
		if _, err := f.do(ctx, "a", constant(nil, want)); !errors.Is(err, want) {
			t.Errorf("%v, want %v", err, want)
		}
	})
	t.Run("a panic leaves nobody waiting", func(t *testing.T) {
		began, end := make(chan bool), make(chan bool)
		told := make(chan error, 2)
		go func() { // the first is being made meanwhile
			_, _ = f.do(ctx, "a", func(context.Context) (any, error) { began <- true; <-end; return 1, nil })
		}()
		<-began
		go func() {
			defer func() { recover(); told <- nil }()
			_, _ = f.do(ctx, "a", func(context.Context) (any, error) { panic("fault") })
		}()
		for waits := false; !waits; time.Sleep(time.Millisecond) {
			f.mu.Lock()
			waits = f.by["a"].next != nil
			f.mu.Unlock()
		}
		go func() {
			_, err := f.do(ctx, "a", constant(2, nil))
			told <- err
		}()
		time.Sleep(10 * time.Millisecond) // the third has joined the second
		close(end)
		for range 2 {
			if err := <-told; err != nil && !errors.Is(err, errFault) {
				t.Error(err)
			}
		}
		if body, err := f.do(ctx, "a", constant(3, nil)); err != nil || string(body) != "3\n" {
			t.Errorf("afterwards %q, %v", body, err)
		}
	})
	t.Run("who has asked first may go", func(t *testing.T) {
		gone, cancel := context.WithCancel(ctx)
		cancel()
		body, err := f.do(gone, "a", func(ctx context.Context) (any, error) { return 4, ctx.Err() })
		if err != nil || string(body) != "4\n" {
			t.Errorf("%q, %v", body, err)
		}
	})
}
