package runner

import (
	"github.com/prometheus/client_golang/prometheus"
)

// Meters are what runners measure, all sessions together.
type Meters struct {
	decisions   *prometheus.CounterVec
	differences prometheus.Counter
	clients     prometheus.Gauge
	tick        prometheus.Histogram
	failures    prometheus.Counter
	unstored    prometheus.Counter
	overruns    prometheus.Counter
	deferred    prometheus.Counter
}

// NewMeters registers what runners measure.
func NewMeters(registry prometheus.Registerer) *Meters {
	counter := func(name, help string) prometheus.Counter {
		return prometheus.NewCounter(prometheus.CounterOpts{Name: name, Help: help})
	}
	m := &Meters{
		decisions: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "kamerad_decisions_total",
				Help: "Decided requests by outcome and the stage that decided.",
			},
			[]string{"outcome", "stage"},
		),
		differences: counter(
			"kamerad_differences_total", "Copies of clients that were not what their digest says; each was sent anew.",
		),
		clients: prometheus.NewGauge(prometheus.GaugeOpts{Name: "kamerad_clients", Help: "Clients that have a seat."}),
		tick: prometheus.NewHistogram(
			prometheus.HistogramOpts{
				Name:    "kamerad_tick_seconds",
				Help:    "Time that a tick took.",
				Buckets: prometheus.ExponentialBuckets(1e-5, 4, 8),
			},
		),
		failures: counter("kamerad_session_failures_total", "Sessions that failed inside and were closed."),
		unstored: counter(
			"kamerad_decisions_unstored_total",
			"Refused requests that were counted and not stored: their client had more than it is allowed.",
		),
		overruns: counter("kamerad_tick_overruns_total", "Ticks that took longer than there is between two."),
		deferred: counter(
			"kamerad_deferred_inputs_total", "Requests, writes and joins that waited for a tick with steps to spare.",
		),
	}
	registry.MustRegister(
		m.decisions, m.differences, m.clients, m.tick, m.failures, m.unstored, m.overruns, m.deferred,
	)
	return m
}
