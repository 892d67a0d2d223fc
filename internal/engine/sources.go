package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"nivot/internal/core/calendar"
	"nivot/internal/core/sheet"
	"nivot/internal/core/value"
	"nivot/internal/exchange"
	"nivot/internal/fetch"
	"nivot/internal/store"
)

// SettingFetch says whether sources may be inside the own network.
const SettingFetch = "sources-inside"

// smallChange is how many rows a refresh may change whatever share they are.
const smallChange = 5

// SaveSource writes what a sheet follows, and has it looked at at once.
func (e *Engine) SaveSource(ctx context.Context, c *store.Source, actor string) error {
	o, err := e.fetchOptions(ctx)
	if err != nil {
		return err
	}
	shown := fetch.Shown(c.Place)
	kept := strings.Contains(c.Place, fetch.Dots) // what the page showed, unchanged
	if err := fetch.Check(c.Place, o); err != nil && !kept {
		return &Refusal{Field: "/place", Message: err.Error()}
	}
	switch {
	case c.AtTime == "" && (c.EveryMinutes < 1 || c.EveryMinutes > 7*24*60):
		return &Refusal{Field: "/everyMinutes",
			Message: "a source is checked every 1 to 10,080 minutes, or at a time of day"}
	case c.AtTime != "":
		if _, err := time.Parse("15:04", c.AtTime); err != nil {
			return &Refusal{Field: "/atTime", Message: "a time of day is written as 07:30"}
		}
		c.EveryMinutes = 0
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.LockSheet(ctx, c.SheetID); err != nil {
			return err
		}
		if old, err := tx.SheetSource(ctx, c.SheetID); err == nil {
			c.ID, c.LookedAt, c.ChangedAt = old.ID, old.LookedAt, old.ChangedAt
			if kept && fetch.Shown(old.Place) == c.Place {
				if c.Place, err = e.place(old); err != nil {
					return err
				}
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if strings.Contains(c.Place, fetch.Dots) {
			return &Refusal{Field: "/place", Message: "write the address again, with what the dots stand for"}
		}
		if err := e.sealPlace(c); err != nil {
			return err
		}
		c.Print, c.LastError, c.OverShare, c.Overrule = nil, "", false, false
		if err := tx.SaveSource(ctx, c); err != nil {
			return err
		}
		if err := e.putRefresh(ctx, tx, c, e.now()); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSourceSaved, SheetID: c.SheetID,
			Detail: store.Detail(map[string]any{"place": shown, "everyMinutes": c.EveryMinutes, "atTime": c.AtTime,
				"share": c.Share, "missing": c.Missing, "paused": c.Paused})})
	})
	if err == nil {
		wake(e.wakeRefresh)
	}
	return err
}

// ShownPlace returns the place of a source as people may see it.
func ShownPlace(place string) string { return fetch.Shown(place) }

// placeUse is what the place of a sheet's source is sealed for.
func placeUse(sheetID string) string { return "source of " + sheetID }

// sealPlace has a source show its place without what may be a secret in it, which is kept sealed.
func (e *Engine) sealPlace(c *store.Source) error {
	shown := fetch.Shown(c.Place)
	if c.SealedPlace = nil; shown == c.Place {
		return nil
	}
	if e.opts.Key == nil {
		return &Refusal{Field: "/place", Message: "the address has a query, which may hold a secret, and this Nivot has " +
			"no key file to seal it with; have the administrator set NIVOT_KEY_FILE"}
	}
	c.SealedPlace, c.Place = e.opts.Key.Seal(c.Place, placeUse(c.SheetID)), shown
	return nil
}

// place is where a source's file is fetched from.
func (e *Engine) place(c *store.Source) (string, error) {
	if c.SealedPlace == nil {
		return c.Place, nil
	}
	if e.opts.Key == nil {
		return "", errors.New("the address of the source is sealed, and this process has no key file")
	}
	return e.opts.Key.Open(c.SealedPlace, placeUse(c.SheetID))
}

func (e *Engine) putRefresh(ctx context.Context, tx *store.Store, c *store.Source, at time.Time) error {
	if c.Paused {
		return tx.DropRefresh(ctx, c.ID)
	}
	return tx.PutEntries(ctx, []store.Entry{{Kind: store.Refresh, DueAt: at, SheetID: c.SheetID, Nr: c.ID}})
}

// RefreshNow has a sheet's source looked at at once. overrule lets it change
// any share of the rows this once.
func (e *Engine) RefreshNow(ctx context.Context, sheetID string, overrule bool) error {
	err := e.Store.Tx(ctx, func(tx *store.Store) error {
		c, err := tx.SheetSource(ctx, sheetID)
		if err != nil {
			return err
		}
		c.Overrule, c.Print = overrule, nil
		if err := tx.SaveSource(ctx, c); err != nil {
			return err
		}
		return tx.PutEntries(ctx, []store.Entry{{Kind: store.Refresh, DueAt: e.now(), SheetID: c.SheetID, Nr: c.ID}})
	})
	if err == nil {
		wake(e.wakeRefresh)
	}
	return err
}

// DropSource lets a sheet follow nothing any more.
func (e *Engine) DropSource(ctx context.Context, sheetID, actor string) error {
	return e.Store.Tx(ctx, func(tx *store.Store) error {
		c, err := tx.SheetSource(ctx, sheetID)
		if err != nil {
			return err
		}
		if err := tx.DropSource(ctx, c.ID); err != nil {
			return err
		}
		return tx.AddEvents(ctx, store.Event{At: e.now(), Actor: actor, Kind: store.EventSourceSaved, SheetID: sheetID,
			Detail: store.Detail(map[string]any{"place": fetch.Shown(c.Place), "dropped": true})})
	})
}

func (e *Engine) fetchOptions(ctx context.Context) (fetch.Options, error) {
	o := fetch.Options{Folder: e.opts.Sources, Limit: exchange.MaxBytes}
	_, err := e.Store.Setting(ctx, SettingFetch, &o.Private)
	return o, err
}

func (e *Engine) runRefresh(ctx context.Context) {
	for ctx.Err() == nil {
		found, err := e.Refresh(ctx)
		if err != nil && ctx.Err() == nil {
			e.log.Error("refreshing a source failed; trying again", "error", err)
			pause(ctx, 5*time.Second)
		}
		if found && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-e.wakeRefresh:
		case <-time.After(max(e.opts.Poll, time.Second)):
		}
	}
}

// fetchSpan is for how long a source that is being fetched is nobody else's. A
// process that ends meanwhile leaves it due then.
const fetchSpan = 2 * time.Minute

// Refresh looks at one source that is due, and tells whether there was one.
// Nothing is locked while its file is fetched.
func (e *Engine) Refresh(ctx context.Context) (found bool, err error) {
	now := e.now()
	if due, err := e.Store.RefreshDue(ctx, now); err != nil || !due {
		return false, err
	}
	e.fetching.Add(1)
	defer e.fetching.Add(-1)
	c, mine, err := e.claimRefresh(ctx, now)
	if err != nil || c == nil {
		return false, err
	}
	o, err := e.fetchOptions(ctx)
	if err != nil {
		return true, err
	}
	place, failed := e.place(c)
	var file []byte
	if failed == nil {
		file, failed = fetch.Get(ctx, place, o)
	}
	if ctx.Err() != nil {
		return true, ctx.Err()
	}
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		if still, err := tx.LockRefresh(ctx, mine); err != nil || !still {
			return err // it has been asked for anew, or taken away
		}
		now, err := tx.Source(ctx, c.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil || now.Place != c.Place || !bytes.Equal(now.SealedPlace, c.SealedPlace) {
			return err
		}
		if now.SealedPlace == nil && e.opts.Key != nil { // from before addresses were sealed
			if err := e.sealPlace(now); err != nil {
				return err
			}
		}
		return e.refresh(ctx, tx, now, file, failed, e.now())
	})
	if err == nil {
		wake(e.wakeAgenda)
	}
	return true, err
}

// claimRefresh takes a source that is due for as long as fetching may take.
func (e *Engine) claimRefresh(ctx context.Context, now time.Time) (c *store.Source, mine store.Entry, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Store) error {
		c = nil
		en, err := tx.ClaimRefresh(ctx, now)
		if en == nil || err != nil {
			return err
		}
		mine = *en
		mine.DueAt = now.Add(fetchSpan)
		c, err = tx.Source(ctx, en.Nr)
		if errors.Is(err, store.ErrNotFound) {
			c = nil
			return tx.DropEntries(ctx, []int64{en.ID})
		}
		if err != nil {
			return err
		}
		return tx.PutEntries(ctx, []store.Entry{mine})
	})
	return c, mine, err
}

func (e *Engine) refresh(ctx context.Context, tx *store.Store, c *store.Source, file []byte, failed error,
	now time.Time) error {
	rec, err := tx.Sheet(ctx, c.SheetID)
	if errors.Is(err, store.ErrNotFound) {
		return tx.DropSource(ctx, c.ID)
	}
	if err != nil {
		return err
	}
	core, err := rec.Core()
	if err != nil {
		return err
	}
	var ev *store.Event
	var trouble *Refusal
	c.OverShare = false
	if failed != nil {
		trouble = &Refusal{Message: failed.Error()}
	} else {
		ev, err = e.takeIn(ctx, tx, c, core, rec.Matches(), file)
	}
	switch {
	case trouble != nil || errors.As(err, &trouble):
		c.LastError = trouble.Message
		ev = &store.Event{Kind: store.EventRefreshFailed,
			Detail: store.Detail(map[string]any{"place": fetch.Shown(c.Place), "problem": trouble.Message})}
	case err != nil:
		return err
	default:
		c.LastError = ""
	}
	c.LookedAt, c.Overrule = &now, false
	if err := tx.SaveSource(ctx, c); err != nil {
		return err
	}
	if ev != nil {
		ev.At, ev.Actor, ev.SheetID = now, sourceActor, c.SheetID
		if err := tx.AddEvents(ctx, *ev); err != nil {
			return err
		}
	}
	return e.putRefresh(ctx, tx, c, nextLook(c, core.Zone, now))
}

// sourceActor is who stands in the history for what a source changed.
const sourceActor = "its source"

// nextLook is when a source is looked at after an instant.
func nextLook(c *store.Source, zone *time.Location, now time.Time) time.Time {
	if c.AtTime == "" {
		return now.Add(time.Duration(c.EveryMinutes) * time.Minute)
	}
	clock, _ := time.Parse("15:04", c.AtTime)
	second := int32(clock.Hour()*3600 + clock.Minute()*60)
	for day := value.DayAt(now.In(zone)); ; day++ {
		if at := calendar.Resolve(value.Wall{Day: day, Second: second}, zone); at.After(now) {
			return at
		}
	}
}

// takeIn takes in what a source's file has changed. A Refusal says why it
// changed nothing. The event it gives says that there was nothing to change;
// a change has its own.
func (e *Engine) takeIn(ctx context.Context, tx *store.Store, c *store.Source, s *sheet.Sheet,
	matches map[string]string, b []byte) (*store.Event, error) {
	same := &store.Event{Kind: store.EventLooked, Detail: store.Detail(map[string]any{"place": fetch.Shown(c.Place)})}
	print := sha256.Sum256(b)
	if bytes.Equal(print[:], c.Print) {
		return same, nil
	}
	t, err := exchange.ReadTable(b, exchange.Choice{Worksheet: c.Worksheet, Heading: c.HeadingRow}, s.Locale)
	if err != nil {
		return nil, &Refusal{Message: err.Error()}
	}
	in := Incoming{Rows: t.Rows, Columns: MatchColumns(s, t.Heading, matches)}
	opts := ImportOptions{Dry: true, Keep: c.Missing == "keep", Kind: store.EventRefreshed,
		About: map[string]any{"file": fetch.Shown(c.Place)}}
	res, err := e.importTx(ctx, tx, c.SheetID, in, opts, System(sourceActor))
	if err != nil {
		return nil, err
	}
	n := res.New + res.Changed + res.Gone
	if res.Rows > 0 && n > smallChange && n*100 > c.Share*res.Rows && !c.Overrule {
		c.OverShare = true
		return nil,
			refuse(
				"it would change %d rows of %d, more than the %d %% that are allowed; look at the file, and import it all the "+
					"same if it is right", n, res.Rows, c.Share)
	}
	c.Print = print[:]
	if n == 0 {
		return same, nil
	}
	now := e.now()
	c.ChangedAt = &now
	opts.Dry = false
	_, err = e.importTx(ctx, tx, c.SheetID, in, opts, System(sourceActor))
	return nil, err
}

// MatchColumns finds for each heading of a file the column of a sheet that it
// goes into: as remembered from the last time, else by name; "" for none.
func MatchColumns(s *sheet.Sheet, heading []string, matches map[string]string) []string {
	out := make([]string, len(heading))
	taken := map[string]bool{}
	put := func(i int, c *sheet.Column) {
		if c.Type != value.Formula && !taken[c.ID] {
			out[i] = c.ID
			taken[c.ID] = true
		}
	}
	left := map[int]bool{}
	for i, h := range heading {
		id, known := matches[value.Fold(h)]
		if c, ok := s.Column(id); ok {
			put(i, c)
		} else if known && id == "" {
			left[i] = true
		}
	}
	for i, h := range heading {
		if c, ok := s.ColumnNamed(h); ok && out[i] == "" && (!left[i] || c.ID == s.Key) {
			put(i, c)
		}
	}
	return out
}
