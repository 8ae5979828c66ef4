package httpapi

import (
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
)

// meters are what the API measures of itself.
type meters struct {
	calls *prometheus.HistogramVec
}

// newMeters registers what the API measures.
func newMeters(registry prometheus.Registerer) *meters {
	m := &meters{
		calls: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name:    "kamerad_api_seconds",
				Help:    "Time that calls of the HTTP API took, by their route, method and status.",
				Buckets: prometheus.ExponentialBuckets(1e-3, 4, 7),
			},
			[]string{"route", "method", "status"},
		),
	}
	registry.MustRegister(m.calls)
	return m
}

// measure notes how long a call took. Sockets are open for as long as somebody uses them, and are left out; so is what
// no route is for, whose names anybody can make up.
func (m *meters) measure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Upgrade") != "" {
			next.ServeHTTP(w, r)
			return
		}
		began := time.Now()
		answer := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(answer, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" || route == "/*" || route == "/api/*" {
			return
		}
		m.calls.WithLabelValues(route, r.Method, strconv.Itoa(max(answer.Status(), http.StatusOK))).
			Observe(time.Since(began).Seconds())
	})
}
