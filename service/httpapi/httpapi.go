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

	"github.com/prometheus/client_golang/prometheus"

	"kamerad.example/api"
	"kamerad.example/core/policy"
	"kamerad.example/journal"
	"kamerad.example/service/door"
	"kamerad.example/service/gateway"
	"kamerad.example/service/past"
	"kamerad.example/service/problems"
	"kamerad.example/service/registry"
	"kamerad.example/service/traces"
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
	Traces     *traces.Traces // follow calls; nil for nothing
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
	traces     *traces.Traces // nil for none
	bodies     places         // of long bodies that arrive
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
		traces:     o.Traces,
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
		a.refuse(w, r, &problems.Refusal{Status: http.StatusServiceUnavailable, Detail: strings.Join(why, "; ")})
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
