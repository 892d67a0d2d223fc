package bench

import (
	"context"
	"fmt"
	"time"

	"nivot/internal/core/rule"
	"nivot/internal/store"
)

// switchOnRows is how many rows a rule is switched on over.
const switchOnRows = 1_000_000

// switchOn compares switching a rule on over many rows, until the last of them
// has been prepared, with inserting as many agenda entries as that makes.
func (b *bench) switchOn() error {
	st, e, rec, err := b.manySheet(switchOnRows)
	if err != nil {
		return err
	}
	defer st.Close()
	dates, err := b.dateRule(e, rec)
	if err != nil {
		return err
	}
	saved, err := e.SaveRule(b.ctx, rec.ID, "", dates, 0, "bench")
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(b.ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = e.Run(ctx) }()
	defer func() { stop(); <-done }()
	// timed gives how long a change is answered after, and after how long the agenda has been made.
	timed := func(change func() error) (answered, prepared time.Duration, err error) {
		start := time.Now()
		if err := change(); err != nil {
			return 0, 0, err
		}
		answered = time.Since(start)
		for {
			r, err := st.Rule(b.ctx, saved.ID)
			if err != nil || r.ArmingAfter == nil {
				return answered, time.Since(start), err
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	state := func(to rule.State) func() error {
		return func() error {
			_, err := e.SetRuleState(b.ctx, rec.ID, saved.ID, to, "bench")
			return err
		}
	}
	answered, prepared, err := timed(state(rule.On))
	if err != nil {
		return err
	}
	dates.Trigger.At = "10:00"
	savedAfter, savedPrepared, err := timed(func() error {
		_, err := e.SaveRule(b.ctx, rec.ID, saved.ID, dates, 0, "bench")
		return err
	})
	if err != nil {
		return err
	}
	n, again, err := b.insertedAgain(st, saved.ID)
	if err != nil {
		return err
	}
	b.add(Result{What: fmt.Sprintf("switching a rule on over %d rows, prepared", switchOnRows),
		Against: fmt.Sprintf("inserting its %d agenda entries once more", n),
		Value:   fmt.Sprintf("%.1f s", prepared.Seconds()), Limit: fmt.Sprintf("%.1f s", again.Seconds()),
		Ratio: prepared.Seconds() / again.Seconds(), Goal: "<= 10 s", Met: prepared <= 10*time.Second})
	paused, _, err := timed(state(rule.Paused))
	if err != nil {
		return err
	}
	b.add(Result{What: "saving it while it is on, prepared", Against: "the same entries",
		Value: fmt.Sprintf("%.1f s", savedPrepared.Seconds()), Limit: fmt.Sprintf("%.1f s", again.Seconds()),
		Ratio: savedPrepared.Seconds() / again.Seconds(), Goal: "<= 10 s", Met: savedPrepared <= 10*time.Second})
	for _, x := range []struct {
		what string
		took time.Duration
	}{{"switching it on, answered", answered}, {"saving it while it is on, answered", savedAfter},
		{"pausing it, answered", paused}} {
		b.add(Result{What: x.what, Against: "(as it is, what the person waits for)",
			Value: fmt.Sprintf("%.1f ms", x.took.Seconds()*1000), Limit: "50 ms", Ratio: x.took.Seconds() / 0.05,
			Goal: "<= 1.00", Met: x.took <= 50*time.Millisecond})
	}
	return nil
}

// insertedAgain gives how many entries the agenda has of a rule, and how long inserting them once more takes.
func (b *bench) insertedAgain(st *store.Store, ruleID string) (n int64, took time.Duration, err error) {
	db := st.DB(b.ctx)
	if err := db.Raw("SELECT COUNT(*) FROM agenda WHERE rule_id = ? AND kind = 'due'", ruleID).Scan(&n).Error; err != nil {
		return 0, 0, err
	}
	if err := db.Exec("CREATE TABLE agenda_again LIKE agenda").Error; err != nil {
		return 0, 0, err
	}
	start := time.Now()
	err = db.Exec("INSERT INTO agenda_again SELECT * FROM agenda WHERE rule_id = ?", ruleID).Error
	return n, time.Since(start), err
}
