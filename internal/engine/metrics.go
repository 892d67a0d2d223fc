package engine

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"nivot/internal/core/delivery"
)

// What a process sees itself. The rest is asked of the database when somebody collects it.
var (
	clockOff = promauto.NewGauge(prometheus.GaugeOpts{Name: "nivot_clock_off_seconds",
		Help: "How far this process's clock is ahead of the database's."})
	tries = promauto.NewHistogramVec(prometheus.HistogramOpts{Name: "nivot_smtp_seconds",
		Help:    "How long a try to send an email took, by what became of it.",
		Buckets: prometheus.ExponentialBuckets(0.002, 2.5, 11)}, []string{"state"})
)

// collector asks the database what there is to do.
type collector struct{ e *Engine }

var (
	dueDesc = prometheus.NewDesc("nivot_agenda_due",
		"Entries of the agenda whose time has come and that are not considered yet.", nil, nil)
	lateDesc = prometheus.NewDesc("nivot_late_seconds",
		"Since when the oldest of what is due or queued waits, by the engine's clock.", nil, nil)
	openDesc  = prometheus.NewDesc("nivot_deliveries", "Deliveries that are not over, by state.", []string{"state"}, nil)
	rowsDesc  = prometheus.NewDesc("nivot_rows", "Rows of all sheets, as the database estimates them.", nil, nil)
	sheetDesc = prometheus.NewDesc("nivot_sheets", "Sheets.", nil, nil)
	restDesc  = prometheus.NewDesc("nivot_senders_resting", "Senders that cannot send at the moment.", nil, nil)
	upDesc    = prometheus.NewDesc("nivot_database_up", "1 where the database has answered for these figures.", nil, nil)
	askedDesc = prometheus.NewDesc("nivot_database_seconds", "How long the database took for these figures.", nil, nil)
)

// collectWithin bounds how long a monitor waits.
const collectWithin = 5 * time.Second

// Collector gives the figures of what the engine has to do to Prometheus.
func (e *Engine) Collector() prometheus.Collector { return collector{e} }

// Describe implements prometheus.Collector.
func (c collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{dueDesc, lateDesc, openDesc, rowsDesc, sheetDesc, restDesc, upDesc, askedDesc} {
		ch <- d
	}
}

// Collect implements prometheus.Collector.
func (c collector) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), collectWithin)
	defer cancel()
	began := time.Now()
	f, err := c.e.Store.Figures(ctx, c.e.now())
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	if err != nil {
		c.e.log.Warn("the figures for a monitor could not be read", "error", err)
		gauge(upDesc, 0)
		return
	}
	gauge(upDesc, 1)
	gauge(askedDesc, time.Since(began).Seconds())
	gauge(dueDesc, float64(f.Due))
	gauge(lateDesc, f.Late.Seconds())
	gauge(rowsDesc, float64(f.Rows))
	gauge(sheetDesc, float64(f.Sheets))
	gauge(restDesc, float64(f.Resting))
	for st, n := range f.ByState {
		gauge(openDesc, float64(n), string(st))
	}
}

// tried notes how long a try took.
func tried(began time.Time, st delivery.State) {
	tries.WithLabelValues(string(st)).Observe(time.Since(began).Seconds())
}
