package httpapi

import (
	_ "embed"
	"fmt"
	"net/http"
	"reflect"
	"strings"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/core/report"
	"kamerad.example/service/problems"
)

// Types of what routes take and answer that is not JSON.
const (
	plainText   = "text/plain"
	jsonLines   = "application/x-ndjson"
	commaValues = "text/csv"
)

// route is one route of the service: how it is called, who may call it, and what answers.
//
// All but the handler is for the document of the API (openapi.json), which TestDocumentIsOfTheRoutes makes of them.
type route struct {
	name    string // of the call in programs that are made from the document; no two routes share one
	subject string // under which a reader finds it
	method  string
	path    string     // with chi's parameters
	right   auth.Right // that it takes; empty for everybody
	words   string     // what it does, in a sentence
	query   []queryParameter

	in     reflect.Type // of the body in JSON; nil for none
	inText string       // the media type of a body that is not JSON
	out    reflect.Type // of the answer in JSON; nil for none
	texts  []string     // the media types of an answer that is not JSON
	status int          // of an answer that says that all went well

	handler http.HandlerFunc
}

// queryParameter is a parameter that stands in the query of an address.
type queryParameter struct {
	name    string
	isText  bool // else a whole number from 0
	isAsked bool // it has to be there
	words   string
}

func number(name, words string) queryParameter { return queryParameter{name: name, words: words} }
func text(name, words string) queryParameter {
	return queryParameter{name: name, words: words, isText: true}
}

// needed makes a parameter one that has to be there.
func needed(q queryParameter) queryParameter {
	q.isAsked = true
	return q
}

// with returns the route with parameters in its query.
func (r route) with(query ...queryParameter) route {
	r.query = query
	return r
}

// call returns a route without a body, whose answer is what f returns.
func call[Out any](
	a *API, method, path, name string, right auth.Right, f func(*http.Request) (Out, error), words string,
) route {
	return route{
		name:    name,
		method:  method,
		path:    path,
		right:   right,
		words:   words,
		out:     reflect.TypeFor[Out](),
		status:  http.StatusOK,
		handler: answer(a, right, f),
	}
}

// get returns a route that reads.
func get[Out any](
	a *API, path, name string, right auth.Right, f func(*http.Request) (Out, error), words string,
) route {
	return call(a, http.MethodGet, path, name, right, f, words)
}

// take returns a route with a body of the type In in JSON, whose answer is what f returns.
func take[In, Out any](
	a *API, method, path, name string, right auth.Right, f func(*http.Request, In) (Out, error), words string,
) route {
	read := func(r *http.Request) (out Out, err error) {
		var in In
		if err := read(r, &in); err != nil {
			return out, err
		}
		return f(r, in)
	}
	made := call(a, method, path, name, right, read, words)
	made.in = reflect.TypeFor[In]()
	return made
}

// post returns a route that changes something and takes a body.
func post[In, Out any](
	a *API, path, name string, right auth.Right, f func(*http.Request, In) (Out, error), words string,
) route {
	return take(a, http.MethodPost, path, name, right, f, words)
}

// under returns routes with the subject under which a reader finds them.
func under(subject string, routes ...route) []route {
	for i := range routes {
		routes[i].subject = subject
	}
	return routes
}

// routes returns all routes but that of the console. Those that take a database are missing without one.
func (a *API) routes() (all []route) {
	all = append(all, a.serviceRoutes()...)
	all = append(all, a.contractRoutes()...)
	all = append(all, a.trialRoutes()...)
	all = append(all, a.sessionRoutes()...)
	all = append(all, a.clientRoutes()...)
	all = append(all, a.accessRoutes()...)
	if a.operators != nil {
		all = append(all, a.operatorRoutes()...)
	}
	if a.recordings != nil {
		all = append(all, a.recordingRoutes()...)
		all = append(all, keepers{a, false}.routes("Player")...)
		all = append(all, keepers{a, true}.routes("World")...)
	}
	return all
}

func (a *API) serviceRoutes() []route {
	figures := promhttp.HandlerFor(a.metrics, promhttp.HandlerOpts{})
	return under("service",
		route{
			name:    "isAlive",
			method:  http.MethodGet,
			path:    "/healthz",
			words:   "Says that the process answers.",
			status:  http.StatusOK,
			texts:   []string{plainText},
			handler: func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "alive") },
		},
		route{
			name:    "isReady",
			method:  http.MethodGet,
			path:    "/readyz",
			words:   "Says whether sessions can be opened and clients can join, and if not, why.",
			status:  http.StatusOK,
			texts:   []string{plainText},
			handler: a.ready,
		},
		route{
			name:    "figures",
			method:  http.MethodGet,
			path:    "/metrics",
			right:   auth.Look,
			words:   "What the service measures of itself, as docs/metrics.md explains.",
			status:  http.StatusOK,
			texts:   []string{plainText},
			handler: a.need(auth.Look, figures.ServeHTTP),
		},
		route{
			name:    "document",
			method:  http.MethodGet,
			path:    "/api/openapi.json",
			words:   "This document.",
			out:     reflect.TypeFor[map[string]any](),
			status:  http.StatusOK,
			handler: a.document,
		},
		get(a, "/api/service", "serviceState", auth.Look, a.serviceState, "How the service gets on."),
	)
}

func (a *API) contractRoutes() []route {
	const oneVersion = "/api/contracts/{name}/versions/{version}"
	reported := get(
		a, oneVersion+"/report", "contractReport", auth.Look, a.report,
		"What the checker found in a version: who gets what, what checks what, what everything costs.",
	)
	reported.out = reflect.TypeFor[report.Report]()
	return under("contracts",
		post(
			a, "/api/contracts", "publishContract", auth.Run, a.publish,
			"Checks a contract and stores it as the next version of its name; one with mistakes is not stored.",
		),
		get(a, "/api/contracts", "contracts", auth.Look, a.contracts, "The newest version of every contract."),
		get(
			a, "/api/contracts/{name}", "contractVersions", auth.Look, a.versions,
			"The versions of a contract, newest first.",
		),
		get(
			a, oneVersion, "contractVersion", auth.Look, a.version,
			"One version with its source and outline; 0 is the newest.",
		),
		reported,
		get(
			a, "/api/contracts/{name}/compare", "compareContracts", auth.Look, a.compare,
			"What differs between two versions of a contract.",
		).with(number("from", "the one version; 0 is the newest"), number("to", "the other one; 0 is the newest")),
		get(a, "/api/findings", "findings", auth.Look, a.findings, "All findings that the checker can have."),
	)
}

func (a *API) trialRoutes() []route {
	const oneVersion = "/api/contracts/{name}/versions/{version}"
	return under("trials",
		post(
			a, oneVersion+"/trials", "startTrial", auth.Play, a.startTrial,
			"Begins to run drills, or the audit, on a version, and answers at once.",
		),
		get(a, oneVersion+"/trials", "trials", auth.Look, a.listTrials, "The trials of a version, newest first."),
		post(
			a, oneVersion+"/play", "playDrill", auth.Play, a.playDrill,
			"Runs one drill now, and answers with what a watcher would have seen.",
		),
		get(a, "/api/trials/{trial}", "trial", auth.Look, a.trial, "One trial with its report."),
		get(
			a, "/api/trials/{trial}/effects/{effect}/play", "playEffect", auth.Look, a.playEffect,
			"Plays the shortest run of an effect that an audit found; effects count from 1.",
		),
		call(
			a, http.MethodPost, "/api/trials/{trial}/stop", "stopTrial", auth.Play, a.stopTrial,
			"Ends a trial; what it found so far is kept.",
		),
	)
}

func (a *API) sessionRoutes() []route {
	const one = "/api/sessions/{id}"
	return under("sessions",
		post(a, "/api/sessions", "openSession", auth.Run, a.openSession, "Opens a session of a version."),
		get(a, "/api/sessions", "sessions", auth.Look, a.sessions, "The sessions, newest first."),
		get(a, one, "session", auth.Look, a.session, "One session, as it is now or as it ended."),
		post(a, one+"/close", "closeSession", auth.Run, a.closeSession, "Ends a session; its clients are told."),
		post(a, one+"/pause", "pauseSession", auth.Run, a.pause, "Stops the session's clock, or lets it run on."),
		post(a, one+"/step", "stepSession", auth.Run, a.step, "Runs ticks of a paused session."),
		get(
			a, one+"/decisions", "decisions", auth.Look, a.decisions,
			"The newest decided requests that are stored, newest first.",
		).with(number("limit", "how many, from 1 to 10,000; 100 without it")),
		get(a, one+"/outline", "outline", auth.Look, a.outline, "What clients are given of the contract."),
		get(
			a, one+"/drill", "sessionDrill", auth.Run, a.drillOf,
			"A drill of what clients of a session with a seed have done.",
		).with(text("name", "of the drill"), text("file", "of the contract beside it")),
		post(
			a, one+"/drill/expect", "expectInDrill", auth.Play, a.expect,
			"Adds to the session's drill what a client sees now of a property.",
		),
		get(a, one+"/acts", "sessionActs", auth.Look, a.acts, "What operators have done to it, newest first."),
		route{
			name:    "join",
			method:  http.MethodGet,
			path:    one + "/join",
			words:   "A WebSocket by which a client joins, as docs/protocol.md says; the door asks it for a ticket.",
			status:  http.StatusSwitchingProtocols,
			handler: a.socket(true, a.gateway.Join(a.running, addressOf)),
		},
		route{
			name:    "watch",
			method:  http.MethodGet,
			path:    one + "/watch",
			right:   auth.Look,
			words:   "A WebSocket (" + api.WatchProtocol + ") that tells what the server and its clients hold.",
			status:  http.StatusSwitchingProtocols,
			handler: a.need(auth.Look, a.socket(false, a.gateway.Watch(a.running, mayLookInside))),
		},
	)
}

func (a *API) clientRoutes() []route {
	const all = "/api/sessions/{id}/clients"
	const one = all + "/{client}"
	return under("clients",
		get(a, all, "seats", auth.Look, a.seats, "Who has or had a seat."),
		post(
			a, all, "openTestClient", auth.Play, a.openTestClient,
			"Opens a client within the service, which the calls below play.",
		),
		post(
			a, one+"/ask", "askAsTestClient", auth.Play, a.askAsTestClient,
			"Sends a request as a test client, and answers with the decision.",
		),
		post(
			a, one+"/hold", "holdAsTestClient", auth.Play, a.holdAsTestClient,
			"Presses a hold as a test client and keeps it pressed, or releases it.",
		),
		post(
			a, one+"/write", "writeAsTestClient", auth.Play, a.writeAsTestClient,
			"Writes a property as a test client; who watches is told when that is refused.",
		),
		get(a, one+"/link", "link", auth.Look, a.linkOf, "What the link of a test client is like."),
		post(
			a, one+"/link", "setLink", auth.Play, a.setLink,
			"Changes what the link of a test client is like; what is left out is perfect.",
		),
		call(
			a, http.MethodPost, one+"/close", "closeTestClient", auth.Play, a.closeTestClient,
			"Frees the seat of a test client.",
		),
	)
}

// accessRoutes are those of who calls, which are there without a database, too.
func (a *API) accessRoutes() []route {
	return under("operators",
		get(a, "/api/me", "me", auth.Look, a.me, "Who calls."),
		route{
			name:    "signIn",
			method:  http.MethodPost,
			path:    "/api/sign-in",
			words:   "Trades a token for the cookie of a browser.",
			in:      reflect.TypeFor[api.SignIn](),
			out:     reflect.TypeFor[api.Operator](),
			status:  http.StatusOK,
			handler: a.signIn,
		},
		route{
			name:    "signOut",
			method:  http.MethodPost,
			path:    "/api/sign-out",
			words:   "Makes the cookie of a browser void.",
			status:  http.StatusNoContent,
			handler: a.signOut,
		},
	)
}

func (a *API) operatorRoutes() []route {
	return under("operators",
		get(a, "/api/tokens", "tokens", auth.Run, a.listTokens, "The tokens of operators, newest first."),
		post(
			a, "/api/tokens", "makeToken", auth.Run, a.makeToken,
			"Makes a token, whose text is in this answer alone.",
		),
		call(
			a, http.MethodPost, "/api/tokens/{token}/revoke", "revokeToken", auth.Run, a.revokeToken,
			"Makes a token void at once, and lists all.",
		),
		get(a, "/api/bans", "bans", auth.Look, a.listBans, "The bans that hold, newest first."),
		post(a, "/api/bans", "ban", auth.Run, a.ban, "Keeps a player out and takes its seats, and lists all bans."),
		post(a, "/api/bans/lift", "liftBan", auth.Run, a.liftBan, "Lets a player in again, and lists all bans."),
		get(a, "/api/acts", "acts", auth.Run, a.allActs, "What operators have done, newest first."),
		get(
			a, "/api/backend", "backendCalls", auth.Look, a.backendCalls,
			"What the game's backend is told: what waits first, then the newest.",
		),
	)
}

func (a *API) recordingRoutes() []route {
	const one = "/api/recordings/{id}"
	upTo := number("to", "the last tick; 0 for the recording's end")
	from := number("from", "the tick before the first one")
	return under("recordings",
		get(a, "/api/recordings", "recordings", auth.Look, a.listRecordings, "The recordings, newest first."),
		route{
			name:    "importRecording",
			method:  http.MethodPost,
			path:    "/api/recordings",
			right:   auth.Run,
			words:   "Stores an export as the recording of a session that has closed.",
			inText:  jsonLines,
			out:     reflect.TypeFor[api.Recording](),
			status:  http.StatusOK,
			handler: a.need(auth.Run, a.importExport),
		},
		get(a, one, "recording", auth.Look, a.recording, "The recording of a session."),
		call(
			a, http.MethodDelete, one, "deleteRecording", auth.Run, a.deleteRecording,
			"Deletes the recording of a session that has closed.",
		),
		post(
			a, one+"/replay", "replay", auth.Run, a.replay,
			"Plays a recording again and holds every frame against what was sent.",
		),
		get(a, one+"/state", "pastState", auth.Run, a.pastState, "What the server or a client held at a tick.").with(
			number("at", "the tick; 0 for the last one"),
			text("client", "its name or number; the server without one"),
		),
		get(a, one+"/why", "why", auth.Run, a.why, "Why a property had its value at a tick.").with(
			needed(text("of", "the property, such as Ana.Diver.hull")),
			number("at", "the tick; 0 for the last one"),
		),
		get(
			a, one+"/play", "playStretch", auth.Run, a.playStretch,
			"Plays some ticks of a recording, and answers with what a watcher would have seen.",
		).with(from, upTo),
		get(
			a, one+"/drill", "recordingDrill", auth.Run, a.drillOfStretch, "A drill of some ticks of a recording.",
		).with(
			from, upTo, text("name", "of the drill"), text("file", "of the contract beside it"),
			text("recording", "the file of the export beside it"),
		),
		get(
			a, one+"/compare", "compareRecordings", auth.Run, a.compareRecordings,
			"The first tick in which a recording differs from another one, or under another version.",
		).with(number("with", "the other session"), number("version", "the other version")),
		route{
			name:    "exportRecording",
			method:  http.MethodGet,
			path:    one + "/export",
			right:   auth.Run,
			words:   "The recording with the session's key: all that it takes to play it elsewhere.",
			query:   []queryParameter{number("to", "the last tick, or its end"), text("form", "ndjson or csv")},
			texts:   []string{jsonLines, commaValues},
			status:  http.StatusOK,
			handler: a.need(auth.Run, a.exportRecording),
		},
	)
}

// routes returns the routes of what one sort of keeper keeps; who is Player or World.
func (k keepers) routes(who string) []route {
	all := "/api/" + string(k.sort())
	one := all + "/{name}"
	return under(string(k.sort()),
		get(k.api, all, "keptByAll"+who+"s", auth.Run, k.list, "What they keep, what changed last first."),
		get(k.api, one, "keptBy"+who, auth.Run, k.kept, "What one keeps, of each contract."),
		take(
			k.api, http.MethodPut, one, "setKeptBy"+who, auth.Run, k.set,
			"Gives one other values of what it keeps; no session may have them.",
		),
		call(
			k.api, http.MethodDelete, one, "forget"+who, auth.Run, k.delete,
			"Forgets what one keeps, and makes the recordings of a player nameless.",
		).with(text("contract", "of which contract; of all without one")),
	)
}

// Handler returns the handler of all routes: API, sockets, console, metrics and health.
func (a *API) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, a.outside.fromOutside, requestID, a.traces.Calls, a.meters.measure)
	below := chi.NewRouter()
	below.NotFound(a.unknownRoute)
	below.MethodNotAllowed(a.wrongMethod)
	for _, x := range a.routes() {
		if path, isBelow := strings.CutPrefix(x.path, "/api"); isBelow {
			below.Method(x.method, path, x.handler)
			continue
		}
		r.Method(x.method, x.path, x.handler)
	}
	r.Mount("/api", below)
	r.Get("/*", a.page)
	return r
}

// unknownRoute refuses a call of what the API does not have.
func (a *API) unknownRoute(w http.ResponseWriter, r *http.Request) {
	a.refuse(w, r, &problems.Refusal{
		Status: http.StatusNotFound,
		Detail: fmt.Sprintf("the API has nothing at %s", r.URL.Path),
		Known:  []string{"/api/contracts", "/api/sessions", "/api/openapi.json"},
	})
}

// wrongMethod refuses to do to a route what cannot be done to it.
func (a *API) wrongMethod(w http.ResponseWriter, r *http.Request) {
	a.refuse(w, r, &problems.Refusal{
		Status: http.StatusMethodNotAllowed,
		Detail: fmt.Sprintf("%s cannot be done to %s", r.Method, r.URL.Path),
	})
}

//go:embed openapi.json
var document []byte

// document answers with the document of the API.
func (*API) document(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/vnd.oai.openapi+json;version=3.1")
	_, _ = w.Write(document)
}
