package engine

import (
	"context"
	"time"

	"nivot/internal/store"
)

// nightlyFrom is the hour, in UTC, from which a day's nightly work is done: by the process that comes to it first.
const nightlyFrom = 1

// runNightly does once a day what looks after the database itself.
func (e *Engine) runNightly(ctx context.Context) {
	for ctx.Err() == nil {
		err := e.dropIntakes(ctx, e.opts.Wall()) // whatever the hour: it is two days, not three
		if err == nil {
			err = e.nightly(ctx)
		}
		if err != nil && ctx.Err() == nil {
			e.log.Error("the nightly work failed; it is tried again", "error", err)
		}
		pause(ctx, 10*time.Minute)
	}
}

// nightly does a day's nightly work, unless another process does or has done it.
func (e *Engine) nightly(ctx context.Context) error {
	now := e.opts.Wall().UTC()
	if now.Hour() < nightlyFrom || e.ClockOff() > ClockMost {
		return nil
	}
	today, mine := now.Format(time.DateOnly), false
	if err := e.Store.Tx(ctx, func(tx *store.Store) error {
		mine = false
		if err := tx.SetSettingOnce(ctx, store.SettingNight, ""); err != nil {
			return err
		}
		var done string
		if _, err := tx.LockSetting(ctx, store.SettingNight, &done); err != nil || done >= today {
			return err
		}
		mine = true
		return tx.SetSetting(ctx, store.SettingNight, today)
	}); err != nil || !mine {
		return err
	}
	if err := e.Store.ForgetSaid(ctx, e.now()); err != nil {
		return err
	}
	if err := e.Store.DropAged(ctx); err != nil {
		return err
	}
	n, err := e.Store.MendCounts(ctx)
	if n > 0 {
		e.log.Warn("counts of the log were not those of its emails; they have been mended", "counts", n)
	}
	return err
}
