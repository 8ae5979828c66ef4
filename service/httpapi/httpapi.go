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
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/core/policy"
	"kamerad.example/core/syntax"
	"kamerad.example/journal"
	"kamerad.example/service/door"
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
	Door     *door.Door
	Outside  Outside
	Trials   *trials.Trials
	Metrics  *prometheus.Registry
	// Operators keep tokens, bans and who did what; nil for a service without a database.
	Operators Operators
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
	door       *door.Door
	outside    Outside
	operators  Operators // nil for none
	trials     *trials.Trials
	recordings Recordings // nil for none
	past       *past.Past // nil for none
	metrics    prometheus.Gatherer
	meters     *meters
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
		door:       o.Door,
		outside:    o.Outside,
		operators:  o.Operators,
		trials:     o.Trials,
		metrics:    o.Metrics,
		meters:     newMeters(o.Metrics),
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
	r.Use(middleware.Recoverer, a.outside.fromOutside, requestID, a.meters.measure)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "alive") })
	r.Get("/readyz", a.ready)
	r.Get("/metrics", a.need(auth.Look, promhttp.HandlerFor(a.metrics, promhttp.HandlerOpts{}).ServeHTTP))
	r.Route("/api", a.routes)
	r.Get("/*", a.page)
	return r
}

// routes declares the routes of the API, which stand below /api.
//
// A body may be as long as the longest contract with its files; each call bounds what it takes further.
func (a *API) routes(r chi.Router) {
	r.Use(middleware.RequestSize(2 * syntax.MaxSource))
	r.Post("/contracts", answer(a, auth.Run, a.publish))
	r.Get("/contracts", answer(a, auth.Look, a.contracts))
	r.Get("/contracts/{name}", answer(a, auth.Look, a.versions))
	r.Get("/contracts/{name}/versions/{version}", answer(a, auth.Look, a.version))
	r.Get("/contracts/{name}/versions/{version}/report", answer(a, auth.Look, a.report))
	r.Get("/contracts/{name}/compare", answer(a, auth.Look, a.compare))
	r.Post("/contracts/{name}/versions/{version}/trials", answer(a, auth.Play, a.startTrial))
	r.Get("/contracts/{name}/versions/{version}/trials", answer(a, auth.Look, a.listTrials))
	r.Post("/contracts/{name}/versions/{version}/play", answer(a, auth.Play, a.playDrill))
	r.Get("/trials/{trial}", answer(a, auth.Look, a.trial))
	r.Get("/trials/{trial}/effects/{effect}/play", answer(a, auth.Look, a.playEffect))
	r.Post("/trials/{trial}/stop", answer(a, auth.Play, a.stopTrial))
	r.Get("/findings", answer(a, auth.Look, a.findings))
	r.Get("/service", answer(a, auth.Look, a.serviceState))
	r.Post("/sessions", answer(a, auth.Run, a.openSession))
	r.Get("/sessions", answer(a, auth.Look, a.sessions))
	r.Route("/sessions/{id}", func(r chi.Router) {
		r.Get("/", answer(a, auth.Look, a.session))
		r.Post("/close", answer(a, auth.Run, a.closeSession))
		r.Post("/pause", answer(a, auth.Run, a.pause))
		r.Post("/step", answer(a, auth.Run, a.step))
		r.Get("/decisions", answer(a, auth.Look, a.decisions))
		r.Get("/clients", answer(a, auth.Look, a.seats))
		r.Post("/clients", answer(a, auth.Play, a.openTestClient))
		r.Post("/clients/{client}/ask", answer(a, auth.Play, a.askAsTestClient))
		r.Post("/clients/{client}/hold", answer(a, auth.Play, a.holdAsTestClient))
		r.Post("/clients/{client}/write", answer(a, auth.Play, a.writeAsTestClient))
		r.Get("/clients/{client}/link", answer(a, auth.Look, a.linkOf))
		r.Post("/clients/{client}/link", answer(a, auth.Play, a.setLink))
		r.Post("/clients/{client}/close", answer(a, auth.Play, a.closeTestClient))
		r.Get("/outline", answer(a, auth.Look, a.outline))
		r.Get("/drill", answer(a, auth.Run, a.drillOf))
		r.Post("/drill/expect", answer(a, auth.Play, a.expect))
		r.Get("/acts", answer(a, auth.Look, a.acts))
		r.Get("/join", a.socket(true, a.gateway.Join(a.running, addressOf))) // the door asks for a ticket
		r.Get("/watch", a.need(auth.Look, a.socket(false, a.gateway.Watch(a.running, mayLookInside))))
	})
	a.withRecordings(r)
	a.withOperators(r)
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

// readyWithin is how long /readyz waits for the database.
const readyWithin = 2 * time.Second

// ready says whether sessions can be opened and clients can join, and if not, all that keeps them from it.
func (a *API) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), readyWithin)
	defer cancel()
	var why []string
	if a.registry.Stopping() {
		why = append(why, "the service is stopping")
	}
	if err := a.records.Ping(ctx); err != nil {
		why = append(why, "the database does not answer")
	} else if !a.records.Held() {
		why = append(why, "the database does not know that this service lives")
	}
	if len(why) > 0 {
		problems.Answer(w, http.StatusServiceUnavailable, strings.Join(why, "; "))
		return
	}
	fmt.Fprintln(w, "ready")
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
