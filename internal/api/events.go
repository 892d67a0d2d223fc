package api

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"sort"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"nivot/internal/store"
)

// broadcaster tells every open page what has changed. It follows the events
// in the database, so that changes made by other processes arrive too.
type broadcaster struct {
	st      *store.Store
	beat    time.Duration
	mu      sync.Mutex
	subs    map[chan notification]string // guarded by mu: the id of its person
	last    int64                        // guarded by mu: the highest id sent
	stopped chan struct{}                // closed once no more changes come
}

// maxStreams bounds how many pages of one person are told of changes at the same time, by
// this process.
const maxStreams = 40

// notification is what one round of events touched, as pages need it to know what
// to ask again.
type notification struct {
	id     int64
	Kinds  []string `json:"kinds"`
	Sheets []string `json:"sheets"`
	Rows   []string `json:"rows"`
	// Actors says who changed cells of rows.
	Actors map[string]string `json:"actors"`
}

// How the events are followed. Ids are given before their transactions
// commit, so a lower one may become visible later: the last stretch is read
// again each round.
const (
	followEvery = 300 * time.Millisecond
	followBack  = 2000
	followLimit = 4000
	maxRows     = 200
)

func newBroadcaster(st *store.Store) *broadcaster {
	return &broadcaster{st: st, beat: keepAlive, subs: map[chan notification]string{}, stopped: make(chan struct{})}
}

// run follows the events until the context ends, and then ends the streams.
func (b *broadcaster) run(ctx context.Context) {
	defer close(b.stopped)
	seen := map[int64]bool{}
	var high int64
	started := false
	wait := followEvery
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = followEvery
		if !started {
			id, err := b.st.LastEvent(ctx)
			if err != nil {
				continue
			}
			high, started = id, true
			ids, err := b.st.EventIDsAfter(ctx, high-followBack, followLimit)
			if err != nil {
				started = false
				continue
			}
			for _, id := range ids {
				seen[id] = true
			}
		}
		fresh, more, err := b.fresh(ctx, high, seen)
		if err != nil {
			if ctx.Err() == nil {
				slog.Debug("following events failed; trying again", "error", err)
			}
			continue
		}
		if more {
			wait = 0 // a large change
		}
		for _, ev := range fresh {
			high = max(high, ev.ID)
		}
		for id := range seen {
			if id < high-followBack {
				delete(seen, id)
			}
		}
		if len(fresh) > 0 {
			b.send(summarise(fresh, high))
		}
	}
}

// fresh gives the events that have not been seen, and sees them. Most of what is read again each
// round has been, so that ids are asked for first.
func (b *broadcaster) fresh(ctx context.Context, high int64, seen map[int64]bool) (evs []store.Event, more bool,
	err error) {
	ids, err := b.st.EventIDsAfter(ctx, high-followBack, followLimit)
	if err != nil {
		return nil, false, err
	}
	var unseen []int64
	for _, id := range ids {
		if !seen[id] {
			unseen = append(unseen, id)
		}
	}
	if evs, err = b.st.EventHeads(ctx, unseen); err != nil {
		return nil, false, err
	}
	for _, ev := range evs {
		seen[ev.ID] = true
	}
	return evs, len(ids) == followLimit, nil
}

func summarise(evs []store.Event, id int64) notification {
	kinds, sheets, rows := map[string]bool{}, map[string]bool{}, map[string]bool{}
	actors := map[string]string{}
	for _, ev := range evs {
		kinds[ev.Kind] = true
		if ev.SheetID != "" {
			sheets[ev.SheetID] = true
		}
		if ev.RowID != 0 && len(rows) <= maxRows {
			rows[store.RowID(ev.RowID)] = true
			if ev.DeliveryID == 0 {
				actors[store.RowID(ev.RowID)] = ev.Actor
			}
		}
		for _, row := range ev.Touched() {
			if row != 0 && len(rows) <= maxRows {
				rows[store.RowID(row)] = true
			}
		}
	}
	return notification{id, keys(kinds), keys(sheets), keys(rows), actors}
}

func keys(m map[string]bool) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (b *broadcaster) send(c notification) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.last = c.id
	for sub := range b.subs {
		select {
		case sub <- c:
		default:
			// A page that does not keep up is told to ask everything again.
			select {
			case <-sub:
			default:
			}
			select {
			case sub <- notification{id: c.id, Kinds: []string{"everything"}}:
			default:
			}
		}
	}
}

// keepAlive is how often a stream says that it is there, and asks whether it may go on.
const keepAlive = 15 * time.Second

// subscribe lets a page of a person hear of changes, and gives the id of the last one; false
// says that the person has too many.
func (b *broadcaster) subscribe(sub chan notification, person string) (last int64, ok bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := 0
	for _, p := range b.subs {
		if p == person {
			n++
		}
	}
	if n >= maxStreams {
		return 0, false
	}
	b.subs[sub] = person
	return b.last, true
}

// serve streams changes to one page (HTML Living Standard, server-sent
// events). A page that comes back with the id of an older change is told to
// ask everything again. Every keepAlive, still says whether the page's person is still
// signed in; a stream of somebody who is not ends.
func (b *broadcaster) serve(c *echo.Context, still func(context.Context) (bool, error)) error {
	w, r := c.Response(), c.Request()
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{})
	sub := make(chan notification, 16)
	last, ok := b.subscribe(sub, person(r.Context()).ID)
	if !ok {
		return problem(http.StatusTooManyRequests, fmt.Sprintf("You have %d pages of Nivot open already. Close some.",
			maxStreams))
	}
	defer func() {
		b.mu.Lock()
		delete(b.subs, sub)
		b.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	if id, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64); err == nil && id != last {
		sub <- notification{id: last, Kinds: []string{"everything"}}
	}
	fmt.Fprint(w, "retry: 1000\n\n")
	_ = rc.Flush()
	beat := time.NewTicker(b.beat)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return nil
		case <-b.stopped: // the page comes back when the server does
			return nil
		case ch := <-sub:
			data, err := json.Marshal(ch)
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(w, "id: %d\nevent: change\ndata: %s\n\n", ch.id, data); err != nil {
				return nil
			}
		case <-beat.C:
			if ok, err := still(r.Context()); err == nil && !ok {
				return nil
			}
			if _, err := fmt.Fprint(w, ": here\n\n"); err != nil {
				return nil
			}
		}
		if err := rc.Flush(); err != nil {
			return nil
		}
	}
}
