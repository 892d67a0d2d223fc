package bench

import (
	"context"
	"fmt"
	"time"

	"nivot/internal/core/rule"
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
	start := time.Now()
	if _, err := e.SetRuleState(b.ctx, rec.ID, saved.ID, rule.On, "bench"); err != nil {
		return err
	}
	answered := time.Since(start)
	ctx, stop := context.WithCancel(b.ctx)
	done := make(chan struct{})
	go func() { defer close(done); _ = e.Run(ctx) }()
	for {
		r, err := st.Rule(b.ctx, saved.ID)
		if err != nil {
			stop()
			return err
		}
		if r.ArmingAfter == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	prepared := time.Since(start)
	stop()
	<-done
	var n int64
	if err := st.DB(b.ctx).Raw("SELECT COUNT(*) FROM agenda WHERE rule_id = ?", saved.ID).Scan(&n).Error; err != nil {
		return err
	}
	if err := st.DB(b.ctx).Exec("CREATE TABLE agenda_again LIKE agenda").Error; err != nil {
		return err
	}
	start = time.Now()
	if err := st.DB(b.ctx).Exec("INSERT INTO agenda_again SELECT * FROM agenda WHERE rule_id = ?",
		saved.ID).Error; err != nil {
		return err
	}
	again := time.Since(start)
	b.add(Result{What: fmt.Sprintf("switching a rule on over %d rows, prepared", switchOnRows),
		Against: fmt.Sprintf("inserting its %d agenda entries once more", n),
		Value:   fmt.Sprintf("%.1f s", prepared.Seconds()), Limit: fmt.Sprintf("%.1f s", again.Seconds()),
		Ratio: prepared.Seconds() / again.Seconds(), Goal: "<= 10 s", Met: prepared <= 10*time.Second})
	b.add(Result{What: "the same, answered", Against: "(as it is, what the person waits for)",
		Value: fmt.Sprintf("%.1f ms", answered.Seconds()*1000), Limit: "50 ms", Ratio: answered.Seconds() / 0.05,
		Goal: "<= 1.00", Met: answered <= 50*time.Millisecond})
	return nil
}
