package engine

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// ErrWentBack says that the database no longer holds what it held when it was
// last seen: an older copy has been put in its place.
var ErrWentBack = errors.New(
	"the database has gone back in time; all sending has stopped until somebody has reviewed it")

// witness keeps how far the database had come when it was last seen, in memory
// and in a file beside the key.
type witness struct {
	path string // "" for none

	mu    sync.Mutex
	mark  store.Mark            // guarded by mu, as all below
	kept  store.Mark            // what the file says
	lives map[string]store.Mark // of all databases this machine has known
}

// open reads the file.
func (w *witness) open(path string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.path, w.lives = path, map[string]store.Mark{}
	if path == "" {
		return nil
	}
	clearMarks(path)
	lives, err := readMarks(path)
	if err == nil {
		w.lives = lives
	}
	return err
}

// seen takes up how far the database has come, and writes the file.
func (w *witness) seen(m store.Mark) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	m.Delivery, m.Marked = w.mark.Delivery, w.mark.Marked
	w.mark = m
	if w.path == "" || w.mark == w.kept {
		return nil
	}
	w.lives[m.Life] = m
	lives, err := writeMarks(w.path, w.lives)
	if err != nil {
		return err
	}
	w.kept, w.lives = m, lives
	return nil
}

// sent takes up the delivery that was last marked "sending".
func (w *witness) sent(id int64, at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.mark.Delivery, w.mark.Marked = id, at
}

func (w *witness) last() store.Mark {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.mark
}

// MarkFile gives where the mark is kept that goes with a key file.
func MarkFile(keyFile string) string {
	if keyFile == "" {
		return ""
	}
	return filepath.Join(filepath.Dir(keyFile), filepath.Base(keyFile)+".mark")
}

// Behind reports whether a database no longer holds what a mark file says that
// it did.
func Behind(ctx context.Context, s *store.Store, path string) (bool, error) {
	w := witness{}
	if err := w.open(path); err != nil {
		return false, err
	}
	m, err := s.Seen(ctx)
	if err != nil {
		return false, err
	}
	_, ok, err := s.Holds(ctx, w.lives[m.Life])
	return !ok, err
}

// begin compares the database with what the file says of its life, before
// anything is done on it.
func (e *Engine) begin(ctx context.Context) error {
	m, err := e.Store.Seen(ctx)
	if err != nil {
		return err
	}
	e.witness.mu.Lock()
	known, ok := e.witness.lives[m.Life]
	if ok {
		e.witness.mark, e.witness.kept = known, known
	}
	e.witness.mu.Unlock()
	return e.watchTime(ctx)
}

// watchTime looks whether the database still holds what it did, and takes up
// how far it has come.
func (e *Engine) watchTime(ctx context.Context) error {
	if err := e.holds(ctx, e.Store); err != nil {
		if errors.Is(err, ErrWentBack) {
			return e.throughDoor(ctx)
		}
		return err
	}
	m, err := e.Store.Seen(ctx)
	if err != nil {
		return err
	}
	return e.witness.seen(m)
}

// leave notes how far the database has come when the engine stops.
func (e *Engine) leave(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if e.holds(ctx, e.Store) != nil {
		return // what the file says stands
	}
	if m, err := e.Store.Seen(ctx); err == nil {
		_ = e.witness.seen(m)
	}
}

// holds fails where the database, or a transaction on it, does not hold any
// more what this process has seen in it.
func (e *Engine) holds(ctx context.Context, s *store.Store) error {
	_, err := e.holdsAt(ctx, s)
	return err
}

// holdsAt does what holds does, and returns the database's time.
func (e *Engine) holdsAt(ctx context.Context, s *store.Store) (at time.Time, err error) {
	at, ok, err := s.Holds(ctx, e.witness.last())
	if err == nil && !ok {
		return at, ErrWentBack
	}
	return at, err
}

// door is the name under which one process deals with a database that has gone
// back in time.
const door = "nivot went back"

// throughDoor deals with a database that has gone back in time, once: all
// sending stops, ids jump ahead, what was on its way and what fell due since its
// last event is held by its rule, rules that are on are paused, and Today says
// so until somebody has reviewed it. A restored backup goes through here too.
func (e *Engine) throughDoor(ctx context.Context) error {
	return e.Store.Alone(ctx, door, func() error {
		known := e.witness.last()
		sending, err := e.Store.Sending(ctx)
		if err != nil {
			return err
		}
		if sending.Back.Event <= known.Event { // else another process has just done it
			if err := e.doubtAll(ctx, known.Event); err != nil {
				return err
			}
		}
		m, err := e.Store.Seen(ctx)
		if err != nil {
			return err
		}
		e.witness.sent(0, time.Time{})
		e.views.forget()
		return e.witness.seen(m)
	})
}

func (e *Engine) doubtAll(ctx context.Context, known int64) error {
	seen, err := e.Store.Seen(ctx)
	if err != nil {
		return err
	}
	now := e.now()
	back := store.WentBack{Since: seen.At, Until: now}
	e.log.Error(
		"the database has gone back in time; all sending stops, and rules that are on are paused, until somebody has "+
			"reviewed it", "its last event", seen.At)
	rules, err := e.Store.Rules(ctx, "")
	if err != nil {
		return err
	}
	for i := range rules {
		if rules[i].State == rule.On {
			back.Rules++
		}
	}
	if err := e.Store.Tx(ctx, func(tx *store.Store) error {
		if back.Event, err = tx.JumpAhead(ctx, known); err != nil {
			return err
		}
		if err := tx.SetSetting(ctx, store.SettingSending, false); err != nil {
			return err
		}
		if err := tx.SetSetting(ctx, store.SettingWentBack, back); err != nil {
			return err
		}
		if err := tx.AddEvents(ctx, store.Event{ID: back.Event, At: now, Actor: "nivot", Kind: store.EventWentBack,
			Detail: store.Detail(back)}); err != nil {
			return err
		}
		_, err := tx.Doubt(ctx, now)
		return err
	}); err != nil {
		return err
	}
	e.witness.sent(0, time.Time{})
	if m, err := e.Store.Seen(ctx); err != nil {
		return err
	} else if err := e.witness.seen(m); err != nil {
		return err
	}
	// What fell due since is judged as it would have been, and held.
	for {
		n, err := e.tick(ctx, now, func(tx *store.Store) ([]store.Entry, error) {
			return tx.ClaimAgenda(ctx, now, tickBatch, store.Share{})
		})
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	for i := range rules {
		if rules[i].State != rule.On {
			continue
		}
		if _, err := e.SetRuleState(ctx, rules[i].SheetID, rules[i].ID, rule.Paused, "nivot"); err != nil &&
			!errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	return nil
}

// LookedBack says that somebody has looked through what a database that went
// back in time has held: from now on nothing more is held because of it. What is
// held stays so until it is let go or left out.
func (e *Engine) LookedBack(ctx context.Context, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		sending, err := tx.Sending(ctx)
		if err != nil {
			return err
		}
		back := sending.Back
		if back.Until.IsZero() {
			return refuse("the database has not gone back in time, or somebody has reviewed it already")
		}
		back.Until, back.Since = time.Time{}, time.Time{}
		if err := tx.SetSetting(ctx, store.SettingWentBack, back); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSettingSaved,
			Detail: store.Detail(map[string]any{"went-back": "reviewed"})})
	})
}
