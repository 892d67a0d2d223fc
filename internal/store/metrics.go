package store

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"gorm.io/gorm"
)

var statements = promauto.NewHistogramVec(prometheus.HistogramOpts{Name: "nivot_database_statement_seconds",
	Help: "How long the database took for a statement, by its kind.", Buckets: prometheus.ExponentialBuckets(0.0002, 3,
		10)}, []string{"kind"})

const beganKey = "nivot:began"

// measure has the time of every statement noted.
func measure(db *gorm.DB) error {
	before := func(tx *gorm.DB) { tx.InstanceSet(beganKey, time.Now()) }
	after := func(kind string) func(*gorm.DB) {
		seen := statements.WithLabelValues(kind)
		return func(tx *gorm.DB) {
			if began, ok := tx.InstanceGet(beganKey); ok {
				if at, ok := began.(time.Time); ok {
					seen.Observe(time.Since(at).Seconds())
				}
			}
		}
	}
	c := db.Callback()
	for _, register := range []func() error{
		func() error { return c.Create().Before("*").Register("nivot:before", before) },
		func() error { return c.Create().After("*").Register("nivot:after", after("create")) },
		func() error { return c.Query().Before("*").Register("nivot:before", before) },
		func() error { return c.Query().After("*").Register("nivot:after", after("query")) },
		func() error { return c.Update().Before("*").Register("nivot:before", before) },
		func() error { return c.Update().After("*").Register("nivot:after", after("update")) },
		func() error { return c.Delete().Before("*").Register("nivot:before", before) },
		func() error { return c.Delete().After("*").Register("nivot:after", after("delete")) },
		func() error { return c.Row().Before("*").Register("nivot:before", before) },
		func() error { return c.Row().After("*").Register("nivot:after", after("read")) },
		func() error { return c.Raw().Before("*").Register("nivot:before", before) },
		func() error { return c.Raw().After("*").Register("nivot:after", after("write")) },
	} {
		if err := register(); err != nil {
			return err
		}
	}
	return nil
}
