// Package httpapi answers the HTTP API and serves the console: one file for the routes, one for each subject. It
// decides nothing of a session; that is with the packages that it calls.
//
// A route is a method of API that returns a value or an error; answer writes the value as JSON, or what package
// problems makes of the error. Bodies are bounded in size and in the time that they may take, and a few of them are
// read at once, so that slow ones hold up nobody. Requests are answered only when they are for this machine's own name,
// against pages elsewhere that would call the service from a browser.
//
// New makes an API of its Options, and Handler returns what an http.Server serves.
package httpapi

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kamerad.example/api"
	"kamerad.example/core/policy"
	"kamerad.example/core/syntax"
	"kamerad.example/journal"
	"kamerad.example/service/gateway"
	"kamerad.example/service/past"
	"kamerad.example/service/problems"
	"kamerad.example/service/registry"
	"kamerad.example/service/trials"
	"kamerad.example/store"
)

// Records keep contracts, and what sessions have left behind.
type Records interface {
	Ping(ctx context.Context) error
	Held() bool // the records are this service's alone
	Publish(ctx context.Context, v store.Version) (out store.Version, fresh bool, err error)
	Version(ctx context.Context, name string, version int) (store.Version, error)
	Versions(ctx context.Context, name string) ([]store.Version, error)
	Sessions(ctx context.Context, limit int) ([]store.Session, error)
	Session(ctx context.Context, id int64) (store.Session, error)
	Seats(ctx context.Context, session int64) ([]store.Seat, error)
	Decisions(ctx context.Context, session int64, limit int) ([]store.Decision, error)
}

// Options are what an API is made of. All but the Policy have to be there.
type Options struct {
	Records  Records
	Backlog  func() store.Backlog // of records that are not stored yet
	Journal  func() journal.State // of what sessions record; nil when they do not
	Registry *registry.Registry
	Gateway  *gateway.Gateway
	Trials   *trials.Trials
	Metrics  prometheus.Gatherer
	// Recordings are those of sessions; nil when they are not recorded.
	Recordings Recordings
	Console    fs.FS          // the built web console; without an index.html it is said how to build it
	Policy     *policy.Policy // that contracts are held against when they are published; nil asks nothing
}

// API answers the HTTP API.
type API struct {
	records    Records
	backlog    func() store.Backlog
	journal    func() journal.State // nil for none
	registry   *registry.Registry
	gateway    *gateway.Gateway
	trials     *trials.Trials
	recordings Recordings // nil for none
	past       *past.Past // nil for none
	metrics    prometheus.Gatherer
	console    fs.FS
	policy     *policy.Policy
	bodies     places // of long bodies that arrive
	publishing places

	mu    sync.Mutex // guards tests and holds
	tests map[seatKey]gateway.Client
	holds map[holdKey]func() // that test clients keep pressed: what releases them
}

// New returns an API.
func New(o Options) *API {
	a := &API{
		records:    o.Records,
		backlog:    o.Backlog,
		journal:    o.Journal,
		registry:   o.Registry,
		gateway:    o.Gateway,
		trials:     o.Trials,
		metrics:    o.Metrics,
		console:    o.Console,
		policy:     o.Policy,
		bodies:     make(places, longBodies),
		publishing: make(places, publishings),
		tests:      map[seatKey]gateway.Client{},
		holds:      map[holdKey]func(){},
	}
	if o.Recordings != nil {
		a.recordings = o.Recordings
		a.past = past.New(o.Recordings)
	}
	return a
}

// Handler returns the handler of all routes: API, sockets, console, metrics and health.
//
// /healthz says that the process answers, /readyz that it can open sessions.
func (a *API) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, loopbackOnly)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "alive") })
	r.Get("/readyz", func(w http.ResponseWriter, q *http.Request) {
		if err := a.records.Ping(q.Context()); err != nil {
			problems.Answer(w, http.StatusServiceUnavailable, "the database does not answer")
			return
		}
		if !a.records.Held() {
			problems.Answer(w, http.StatusServiceUnavailable, "the database does not know that this service lives")
			return
		}
		fmt.Fprintln(w, "ready")
	})
	r.Method("GET", "/metrics", promhttp.HandlerFor(a.metrics, promhttp.HandlerOpts{}))
	r.Route("/api", a.routes)
	r.Get("/*", a.page)
	return r
}

// routes declares the routes of the API, which stand below /api.
//
// A body may be as long as the longest contract with its files; each call bounds what it takes further.
func (a *API) routes(r chi.Router) {
	r.Use(middleware.RequestSize(2 * syntax.MaxSource))
	r.Post("/contracts", answer(a, a.publish))
	r.Get("/contracts", answer(a, a.contracts))
	r.Get("/contracts/{name}", answer(a, a.versions))
	r.Get("/contracts/{name}/versions/{version}", answer(a, a.version))
	r.Get("/contracts/{name}/versions/{version}/report", answer(a, a.report))
	r.Get("/contracts/{name}/compare", answer(a, a.compare))
	r.Post("/contracts/{name}/versions/{version}/trials", answer(a, a.startTrial))
	r.Get("/contracts/{name}/versions/{version}/trials", answer(a, a.listTrials))
	r.Post("/contracts/{name}/versions/{version}/play", answer(a, a.playDrill))
	r.Get("/trials/{trial}", answer(a, a.trial))
	r.Get("/trials/{trial}/effects/{effect}/play", answer(a, a.playEffect))
	r.Post("/trials/{trial}/stop", answer(a, a.stopTrial))
	r.Get("/findings", answer(a, a.findings))
	r.Get("/service", answer(a, a.serviceState))
	r.Post("/sessions", answer(a, a.openSession))
	r.Get("/sessions", answer(a, a.sessions))
	r.Route("/sessions/{id}", func(r chi.Router) {
		r.Get("/", answer(a, a.session))
		r.Post("/close", answer(a, a.closeSession))
		r.Post("/pause", answer(a, a.pause))
		r.Post("/step", answer(a, a.step))
		r.Get("/decisions", answer(a, a.decisions))
		r.Get("/clients", answer(a, a.seats))
		r.Post("/clients", answer(a, a.openTestClient))
		r.Post("/clients/{client}/ask", answer(a, a.askAsTestClient))
		r.Post("/clients/{client}/hold", answer(a, a.holdAsTestClient))
		r.Post("/clients/{client}/write", answer(a, a.writeAsTestClient))
		r.Get("/clients/{client}/link", answer(a, a.linkOf))
		r.Post("/clients/{client}/link", answer(a, a.setLink))
		r.Post("/clients/{client}/close", answer(a, a.closeTestClient))
		r.Get("/outline", answer(a, a.outline))
		r.Get("/drill", answer(a, a.drillOf))
		r.Post("/drill/expect", answer(a, a.expect))
		r.Get("/join", a.gateway.Join(a.running))
		r.Get("/watch", a.gateway.Watch(a.running))
	})
	a.withRecordings(r)
	r.NotFound(func(w http.ResponseWriter, q *http.Request) {
		problems.Send(
			w,
			&api.Problem{
				Status: http.StatusNotFound,
				Detail: fmt.Sprintf("the API has nothing at %s", q.URL.Path),
				Known:  []string{"/api/contracts", "/api/sessions"},
			},
		)
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, q *http.Request) {
		problems.Answer(
			w, http.StatusMethodNotAllowed, fmt.Sprintf("%s cannot be done to %s", q.Method, q.URL.Path),
		)
	})
}

// loopbackOnly turns away what a web page from elsewhere could send through a browser on this machine: other names for
// this address, and other origins.
//
// It is what keeps a web page that somebody has open from taking seats or closing sessions: there is no
// sign-in yet.
func loopbackOnly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !loopback(r.Host) {
			problems.Answer(
				w, http.StatusForbidden,
				fmt.Sprintf(
					"this service is asked for as %.80q; it answers only on loopback, such as 127.0.0.1", r.Host,
				),
			)
			return
		}
		if origin := r.Header.Get("Origin"); origin != "" {
			u, err := url.Parse(origin)
			if err != nil || !strings.EqualFold(u.Host, r.Host) {
				problems.Answer(
					w, http.StatusForbidden, fmt.Sprintf("a page of %.80q may not use this service", origin),
				)
				return
			}
		}
		// A browser says so where it sends no origin, as for a picture.
		if site := r.Header.Get("Sec-Fetch-Site"); strings.HasPrefix(r.URL.Path, "/api") && site != "" &&
			site != "same-origin" && site != "none" {
			problems.Answer(w, http.StatusForbidden, "a page from elsewhere may not use this service")
			return
		}
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; connect-src 'self' ws://"+r.Host+
				"; frame-ancestors 'none'",
		)
		next.ServeHTTP(w, r)
	})
}

// loopback reports whether the host of an address is this machine by name or number, whatever its port.
func loopback(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// page serves the console. Paths that are no file are pages of the console itself, but for its assets.
//
// index.html is looked up anew by the browser each time, since it names the assets of its build; those
// never change.
func (a *API) page(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if _, err := fs.Stat(a.console, name); name == "" || err != nil {
		if strings.HasPrefix(name, "assets/") {
			problems.Answer(w, http.StatusNotFound, "the console has no such file")
			return
		}
		name = "index.html"
	}
	if name == "index.html" {
		w.Header().Set("Cache-Control", "no-cache")
		if _, err := fs.Stat(a.console, name); err != nil {
			problems.Answer(
				w, http.StatusNotFound, "the console is not built into this binary; `./run build` builds both",
			)
			return
		}
	}
	http.ServeFileFS(w, r, a.console, name)
}

// serviceState returns how the service gets on, for who runs it.
func (a *API) serviceState(*http.Request) (api.ServiceState, error) {
	b := a.backlog()
	var j journal.State
	if a.journal != nil {
		j = a.journal()
	}
	return api.ServiceState{
		Held:                a.records.Held(),
		RecordsAway:         b.Away,
		RecordsWaiting:      b.Waiting,
		RecordsWaitingBytes: b.Bytes,
		RecordsDropped:      b.DroppedKept,
		RefusedDropped:      b.DroppedRefused,
		SessionsFailed:      a.registry.Failures(),

		RecordingsAway:         j.Away,
		RecordingsWaitingBytes: j.Waiting,
		RecordingGaps:          int(j.Gaps),
		NeverSettled:           j.Unstable,
	}, nil
}
