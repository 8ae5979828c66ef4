package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kamerad.example/client"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/report"
	"kamerad.example/core/rules"
	"kamerad.example/core/session"
	"kamerad.example/core/syntax"
	"kamerad.example/store"
)

// badRequest is an error of the one who called.
type badRequest struct{ detail string }

func (b *badRequest) Error() string { return b.detail }

// Handler returns the service's whole face: API, sockets, console, metrics and health.
func (v *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, loopbackOnly)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "alive") })
	r.Get("/readyz", func(w http.ResponseWriter, q *http.Request) {
		if err := v.store.Ping(q.Context()); err != nil {
			problem(w, http.StatusServiceUnavailable, "the database does not answer")
			return
		}
		if !v.store.Held() {
			problem(w, http.StatusServiceUnavailable, "the database is not held for this service")
			return
		}
		fmt.Fprintln(w, "ready")
	})
	r.Method("GET", "/metrics", promhttp.HandlerFor(v.meters.registry, promhttp.HandlerOpts{}))
	r.Route("/api", func(r chi.Router) {
		r.Use(middleware.RequestSize(2 * syntax.MaxSource))
		r.Post("/contracts", answer(v, v.publish))
		r.Get("/contracts", answer(v, v.contracts))
		r.Get("/contracts/{name}", answer(v, v.versions))
		r.Get("/contracts/{name}/versions/{version}", answer(v, v.version))
		r.Get("/contracts/{name}/versions/{version}/report", answer(v, v.report))
		r.Get("/contracts/{name}/compare", answer(v, v.compare))
		r.Post("/contracts/{name}/versions/{version}/trials", answer(v, v.startTrial))
		r.Get("/contracts/{name}/versions/{version}/trials", answer(v, v.listTrials))
		r.Get("/trials/{trial}", answer(v, v.trial))
		r.Post("/trials/{trial}/stop", answer(v, v.stopTrial))
		r.Get("/service", answer(v, v.serviceState))
		r.Post("/sessions", answer(v, v.openSession))
		r.Get("/sessions", answer(v, v.sessions))
		r.Route("/sessions/{id}", func(r chi.Router) {
			r.Get("/", answer(v, v.session))
			r.Post("/close", answer(v, v.closeSession))
			r.Post("/pause", answer(v, v.pause))
			r.Post("/step", answer(v, v.step))
			r.Get("/decisions", answer(v, v.decisions))
			r.Get("/clients", answer(v, v.seats))
			r.Post("/clients", answer(v, v.openTestClient))
			r.Post("/clients/{client}/ask", answer(v, v.askAsTestClient))
			r.Get("/clients/{client}/link", answer(v, v.linkOf))
			r.Post("/clients/{client}/link", answer(v, v.setLink))
			r.Post("/clients/{client}/close", answer(v, v.closeTestClient))
			r.Get("/outline", answer(v, v.outline))
			r.Get("/drill", answer(v, v.drillOf))
			r.Get("/join", v.join)
			r.Get("/watch", v.watch)
		})
		r.NotFound(func(w http.ResponseWriter, q *http.Request) {
			send(
				w,
				&client.Problem{
					Status: http.StatusNotFound,
					Detail: fmt.Sprintf("the API has nothing at %s", q.URL.Path),
					Known:  []string{"/api/contracts", "/api/sessions"},
				},
			)
		})
		r.MethodNotAllowed(func(w http.ResponseWriter, q *http.Request) {
			problem(w, http.StatusMethodNotAllowed, fmt.Sprintf("%s cannot be done to %s", q.Method, q.URL.Path))
		})
	})
	r.Get("/*", v.page)
	return r
}

// loopbackOnly turns away what a web page from elsewhere could send through a browser on this machine: other names for
// this address, and other origins.
func loopbackOnly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !loopback(r.Host) {
			problem(
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
				problem(w, http.StatusForbidden, fmt.Sprintf("a page of %.80q may not use this service", origin))
				return
			}
		}
		// A browser says so where it sends no origin, as for a picture.
		if site := r.Header.Get("Sec-Fetch-Site"); strings.HasPrefix(r.URL.Path, "/api") && site != "" &&
			site != "same-origin" && site != "none" {
			problem(w, http.StatusForbidden, "a page from elsewhere may not use this service")
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
func (v *Service) page(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if _, err := fs.Stat(v.console, name); name == "" || err != nil {
		if strings.HasPrefix(name, "assets/") {
			problem(w, http.StatusNotFound, "the console has no such file")
			return
		}
		name = "index.html"
	}
	if name == "index.html" {
		w.Header().Set("Cache-Control", "no-cache")
		if _, err := fs.Stat(v.console, name); err != nil {
			problem(w, http.StatusNotFound, "the console is not built into this binary; `./run build` builds both")
			return
		}
	}
	http.ServeFileFS(w, r, v.console, name)
}

// problem answers with an error as RFC 9457 describes it.
func problem(w http.ResponseWriter, status int, detail string) {
	send(w, &client.Problem{Status: status, Detail: detail})
}

// send answers with a problem.
func send(w http.ResponseWriter, p *client.Problem) {
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// refusal is an error with its answer.
type refusal struct {
	status   int
	detail   string
	known    []string
	problems syntax.Problems
	code     string // of a client that was not seated
}

func (r *refusal) Error() string { return r.detail }

// answer turns a function into a handler: what it returns is sent as JSON, an error as problem details. The body has
// arrived when the function is called.
func answer[T any](v *Service, f func(*http.Request) (T, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var out T
		err := v.readBody(w, r)
		if err == nil {
			out, err = f(r)
		}
		if err != nil {
			send(w, problemOf(err, r))
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Cache-Control", "no-store")
		_ = json.NewEncoder(w).Encode(out)
	}
}

// problemOf returns what a caller is told of an error. What the service itself failed of stands in its log alone: it
// may name the database, its user or a file.
func problemOf(err error, r *http.Request) *client.Problem {
	var no *refusal
	var wrong *badRequest
	var seat *session.Refusal
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &no):
		return &client.Problem{
			Status:   no.status,
			Detail:   no.detail,
			Known:    no.known,
			Problems: no.problems,
			Code:     no.code,
		}
	case errors.As(err, &wrong):
		return &client.Problem{Status: http.StatusBadRequest, Detail: wrong.detail}
	case errors.As(err, &seat):
		return &client.Problem{Status: http.StatusBadRequest, Detail: seat.Error(), Code: string(seat.Code)}
	case errors.As(err, &large):
		return &client.Problem{
			Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("what was sent is longer than %d bytes", large.Limit),
		}
	case errors.Is(err, errClosed):
		return &client.Problem{Status: http.StatusConflict, Detail: err.Error(), Code: codeNotRunning}
	case errors.Is(err, errBusy):
		return &client.Problem{Status: http.StatusServiceUnavailable, Detail: err.Error(), Code: codeBusy}
	// anybody can go away as often as they like: that fills no log
	case errors.Is(err, context.Canceled) && r.Context().Err() != nil:
		return &client.Problem{Status: http.StatusServiceUnavailable, Detail: "whoever called has gone away"}
	}
	slog.Error("a call failed", "method", r.Method, "path", r.URL.Path, "error", err)
	return &client.Problem{
		Status: http.StatusInternalServerError,
		Detail: "the service could not do this; its log says why",
		Code:   codeServiceFails,
	}
}

// read decodes the body of a call; an empty one leaves out as it is.
func read(r *http.Request, out any) error {
	dec := json.NewDecoder(r.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(out)
	var large *http.MaxBytesError
	if err == nil || errors.Is(err, io.EOF) || errors.As(err, &large) {
		if errors.Is(err, io.EOF) {
			return nil
		}
		return err
	}
	return &badRequest{"read what was sent: " + err.Error()}
}

// publish checks a contract and stores it as the next version of its name.
func (v *Service) publish(r *http.Request) (client.ContractVersion, error) {
	var in struct {
		File, Source string
		Files        contract.Files
	}
	if err := read(r, &in); err != nil {
		return client.ContractVersion{}, err
	}
	if in.File == "" {
		in.File = "contract.kam"
	}
	if err := in.Files.Check(); err != nil {
		return client.ContractVersion{}, &badRequest{"publish a contract: " + err.Error()}
	}
	leave, err := v.publishing.take(r.Context())
	if err != nil {
		return client.ContractVersion{}, err
	}
	defer leave()
	c, problems := compile.LoadWith(in.File, in.Source, in.Files.Open)
	if c == nil {
		return client.ContractVersion{}, &refusal{
			status:   http.StatusUnprocessableEntity,
			detail:   fmt.Sprintf("%s has %s; nothing was published", in.File, count(len(problems), "mistake")),
			problems: problems,
		}
	}
	if _, err := rules.Generate(c); err != nil {
		return client.ContractVersion{}, &refusal{status: http.StatusUnprocessableEntity, detail: err.Error()}
	}
	outline := c.Outline()
	report := client.ReportOf(c, problems)
	out, fresh, err := v.store.Publish(r.Context(), store.Version{
		Contract:    c.Name,
		Source:      in.Source,
		Files:       in.Files,
		Fingerprint: report.Fingerprint,
		Outline:     encode(outline),
		Report:      encode(report),
	})
	if err != nil {
		return client.ContractVersion{}, err
	}
	answer := versionOf(out)
	answer.Source = ""
	answer.Outline = nil
	answer.Fresh = fresh
	answer.Findings = problems
	return answer, nil
}

// count returns a number with what it counts, in the plural unless it is one.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// versionOf returns a stored version as the API gives it, without its source.
func versionOf(v store.Version) client.ContractVersion {
	return client.ContractVersion{
		Contract:    v.Contract,
		Version:     v.Version,
		Fingerprint: v.Fingerprint,
		PublishedAt: v.PublishedAt,
		Source:      v.Source,
		Files:       v.Files,
	}
}

// contracts lists the newest version of every contract.
func (v *Service) contracts(r *http.Request) ([]client.ContractVersion, error) {
	return v.listVersions(r, "")
}

// versions lists the versions of one contract, newest first.
func (v *Service) versions(r *http.Request) ([]client.ContractVersion, error) {
	name := chi.URLParam(r, "name")
	out, err := v.listVersions(r, name)
	if err == nil && len(out) == 0 {
		return nil, v.noContract(r, name, 0)
	}
	return out, err
}

// listVersions lists stored versions; with an empty name the newest one of every contract.
func (v *Service) listVersions(r *http.Request, name string) ([]client.ContractVersion, error) {
	if !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		return nil, nil
	}
	list, err := v.store.Versions(r.Context(), name)
	out := []client.ContractVersion{}
	for _, x := range list {
		out = append(out, versionOf(x))
	}
	return out, err
}

// version returns one version with its source.
func (v *Service) version(r *http.Request) (client.ContractVersion, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return client.ContractVersion{}, err
	}
	x, err := v.find(r, chi.URLParam(r, "name"), n)
	if err != nil {
		return client.ContractVersion{}, err
	}
	out := versionOf(x)
	if c, findings := load(x); c != nil {
		out.Outline = c.FullOutline()
		out.Findings = findings
	}
	return out, nil
}

// load reads a stored version; it is nil when this service can read it no more.
func load(x store.Version) (*contract.Contract, syntax.Problems) {
	return compile.LoadWith(x.Contract+".kam", x.Source, contract.Files(x.Files).Open)
}

// numbered reads a version's number from a call; empty is the newest.
func numbered(text string) (int, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 1<<30 {
		return 0, &badRequest{"a version is a whole number; 0 is the newest"}
	}
	return n, nil
}

// report returns what the checker found in a version: as it was stored, or made now for a version without it.
func (v *Service) report(r *http.Request) (json.RawMessage, error) {
	n, err := numbered(chi.URLParam(r, "version"))
	if err != nil {
		return nil, err
	}
	x, err := v.find(r, chi.URLParam(r, "name"), n)
	if err != nil || x.Report != nil {
		return x.Report, err
	}
	c, findings := load(x)
	if c == nil {
		return nil, &refusal{
			status:   http.StatusUnprocessableEntity,
			detail:   "this version cannot be read any more",
			problems: findings,
		}
	}
	return encode(client.ReportOf(c, findings)), nil
}

// compare returns what differs between two versions of a contract.
func (v *Service) compare(r *http.Request) (*report.Comparison, error) {
	var both [2]*contract.Contract
	for i, which := range []string{"from", "to"} {
		n, err := numbered(r.URL.Query().Get(which))
		if err != nil {
			return nil, err
		}
		x, err := v.find(r, chi.URLParam(r, "name"), n)
		if err != nil {
			return nil, err
		}
		var problems syntax.Problems
		both[i], problems = load(x)
		if both[i] == nil {
			return nil, &refusal{
				status:   http.StatusUnprocessableEntity,
				detail:   fmt.Sprintf("version %d cannot be read any more", x.Version),
				problems: problems,
			}
		}
	}
	return report.Compare(both[0], both[1]), nil
}

// find reads a stored version; one that does not exist is a 404 that says which do.
func (v *Service) find(r *http.Request, name string, version int) (store.Version, error) {
	if !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		return store.Version{}, v.noContract(r, "", 0)
	}
	x, err := v.store.Version(r.Context(), name, version)
	if errors.Is(err, store.ErrNotFound) {
		return x, v.noContract(r, name, version)
	}
	return x, err
}

// noContract returns the error for a version that is not stored: it names those that are.
func (v *Service) noContract(r *http.Request, name string, version int) error {
	no := &refusal{status: http.StatusNotFound, detail: fmt.Sprintf("there is no contract %.80q", name)}
	if list, err := v.store.Versions(r.Context(), name); err == nil && len(list) > 0 && name != "" {
		no.detail = fmt.Sprintf("the contract %s has no version %d", name, version)
		for _, x := range list[:min(len(list), 20)] {
			no.known = append(no.known, fmt.Sprintf("version %d", x.Version))
		}
		return no
	}
	list, err := v.store.Versions(r.Context(), "")
	if err != nil {
		return err
	}
	for _, x := range list[:min(len(list), 20)] {
		no.known = append(no.known, x.Contract)
	}
	if len(list) == 0 {
		no.detail += "; none is published yet"
	}
	return no
}

// openSession starts a session of a version, or of the newest one.
func (v *Service) openSession(r *http.Request) (client.Session, error) {
	var in client.OpenSession
	if err := read(r, &in); err != nil {
		return client.Session{}, err
	}
	if in.Version < 0 || in.Version > 1<<30 {
		return client.Session{}, &badRequest{"a version is a whole number; 0 is the newest"}
	}
	version, err := v.find(r, in.Contract, in.Version)
	if err != nil {
		return client.Session{}, err
	}
	x, err := v.startSession(r.Context(), version, in)
	if err != nil {
		return client.Session{}, err
	}
	return v.describe(r, x)
}

// describeWithin is how long who lists or reads sessions waits for any of them.
const describeWithin = 250 * time.Millisecond

// describe tells of a session as it is now; of one whose tick takes long, as it was a short while ago.
func (v *Service) describe(r *http.Request, x *runner) (out client.Session, err error) {
	ctx, cancel := context.WithTimeout(r.Context(), describeWithin)
	defer cancel()
	err = x.do(ctx, func() { out = x.describe() })
	if errors.Is(err, context.DeadlineExceeded) && r.Context().Err() == nil {
		out = *x.summary.Load()
		out.Busy, out.Tick = true, x.lastTick.Load()
		return out, nil
	}
	return out, err
}

// sessions lists sessions, newest first.
func (v *Service) sessions(r *http.Request) ([]client.Session, error) {
	rows, err := v.store.Sessions(r.Context(), 500)
	out := make([]client.Session, len(rows))
	var all sync.WaitGroup
	for i, row := range rows {
		out[i] = sessionOf(row)
		x := v.runner(row.ID)
		if x == nil {
			continue
		}
		all.Go(func() { // together, so that none is waited for after another
			if live, err := v.describe(r, x); err == nil {
				out[i] = live
			}
		})
	}
	all.Wait()
	return out, err
}

// session returns one session, as it is now or as it ended.
func (v *Service) session(r *http.Request) (client.Session, error) {
	id, err := v.sessionID(r)
	if err != nil {
		return client.Session{}, err
	}
	if x := v.runner(id); x != nil {
		if live, err := v.describe(r, x); err == nil {
			return live, nil
		}
	}
	row, err := v.store.Session(r.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return client.Session{}, v.noSession(fmt.Sprint(id))
	}
	return sessionOf(row), err
}

// sessionID returns the number of the session that the path names, whether or not there is one.
func (v *Service) sessionID(r *http.Request) (int64, error) {
	text := chi.URLParam(r, "id")
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, v.noSession(text)
	}
	return id, nil
}

// noSession returns the error for a session that does not exist.
func (v *Service) noSession(id string) error {
	no := &refusal{
		status: http.StatusNotFound,
		detail: fmt.Sprintf("there is no session %.40s", id),
		code:   codeNotRunning,
	}
	for _, x := range v.openRunners() {
		if len(no.known) < 20 {
			no.known = append(no.known, fmt.Sprintf("session %d (%s)", x.id, x.row.Contract))
		}
	}
	if len(no.known) == 0 {
		no.detail += "; none is open"
	}
	return no
}

// drillOf writes a drill of what the clients of a session have done.
func (v *Service) drillOf(r *http.Request) (out client.WrittenDrill, err error) {
	x, err := v.running(r)
	if err != nil {
		return out, err
	}
	if x.transcript == nil {
		return out, &refusal{
			status: http.StatusConflict,
			detail: fmt.Sprintf(
				"session %d was opened without a seed: what its dice gave cannot be brought back, and what its "+
					"clients did is not kept; open one with a seed",
				x.id,
			),
		}
	}
	name := r.URL.Query().Get("name")
	file := r.URL.Query().Get("file")
	if name == "" {
		name = fmt.Sprintf("as in session %d", x.id)
	}
	if file == "" {
		file = x.row.Contract + ".kam"
	}
	if len(name) > 200 || len(file) > 200 || !filepath.IsLocal(file) || strings.ContainsAny(file, "\"\n") {
		return out, &badRequest{"a drill has a name, and the file of a contract beside it"}
	}
	failed := x.do(r.Context(), func() { out.Text, out.Left, err = x.transcript.Drill(name, file) })
	if err != nil {
		return out, &badRequest{err.Error()}
	}
	return out, failed
}

// running finds the runner of a call; a session that has closed is a conflict.
func (v *Service) running(r *http.Request) (*runner, error) {
	id, err := v.sessionID(r)
	if err != nil {
		return nil, err
	}
	if x := v.runner(id); x != nil {
		return x, nil
	}
	if _, err := v.store.Session(r.Context(), id); err == nil {
		return nil, &refusal{
			status: http.StatusConflict,
			detail: fmt.Sprintf("session %d has closed", id),
			code:   codeNotRunning,
		}
	}
	return nil, v.noSession(fmt.Sprint(id))
}

// closeSession ends a session; its clients are told.
func (v *Service) closeSession(r *http.Request) (client.Session, error) {
	x, err := v.running(r)
	if err != nil {
		return client.Session{}, err
	}
	in := struct{ Reason string }{"closed by hand"}
	if err := read(r, &in); err != nil {
		return client.Session{}, err
	}
	if in.Reason == "" || utf8.RuneCountInString(in.Reason) > 100 {
		return client.Session{}, &badRequest{"a reason has 1 to 100 characters"}
	}
	if err := v.endSession(r.Context(), x, in.Reason); err != nil {
		return client.Session{}, err
	}
	return v.session(r)
}

// pause stops or resumes the ticks of a session.
func (v *Service) pause(r *http.Request) (client.Session, error) {
	x, err := v.running(r)
	if err != nil {
		return client.Session{}, err
	}
	in := struct{ Paused bool }{true}
	if err := read(r, &in); err != nil {
		return client.Session{}, err
	}
	if err := x.do(r.Context(), func() { x.paused = in.Paused }); err != nil {
		return client.Session{}, err
	}
	return v.describe(r, x)
}

// step runs ticks of a paused session.
func (v *Service) step(r *http.Request) (out client.Session, err error) {
	x, err := v.running(r)
	if err != nil {
		return out, err
	}
	in := struct{ Ticks int }{1}
	if err := read(r, &in); err != nil {
		return out, err
	}
	if in.Ticks < 1 || in.Ticks > maxSteps {
		return out, &badRequest{fmt.Sprintf("from 1 to %d ticks can be stepped at once", maxSteps)}
	}
	running := false
	for range in.Ticks {
		// One at a time, so that messages come in between.
		err := x.do(r.Context(), func() {
			running = !x.paused
			if !running {
				x.tick()
			}
		})
		if err != nil {
			return out, err
		}
		if running {
			return out, &refusal{
				status: http.StatusConflict,
				detail: fmt.Sprintf("session %d runs by the clock; pause it first", x.id),
			}
		}
	}
	return v.describe(r, x)
}

// decisions lists the latest stored decisions of a session.
func (v *Service) decisions(r *http.Request) ([]client.Decision, error) {
	if _, err := v.session(r); err != nil {
		return nil, err
	}
	id, _ := v.sessionID(r)
	limit := 100
	if text := r.URL.Query().Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 10_000 {
			return nil, &badRequest{"limit is a whole number from 1 to 10000"}
		}
		limit = n
	}
	rows, err := v.store.Decisions(r.Context(), id, limit)
	out := []client.Decision{}
	for _, d := range rows {
		x := client.Decision{
			Tick:      d.Tick,
			Seq:       d.Seq,
			Request:   d.Request,
			Entity:    uint32(d.Entity),
			Args:      d.Args,
			Reason:    d.Reason,
			CheckText: d.CheckText,
			Line:      d.Line,
			Changes:   []client.Change{},
			Told:      []string{},
			At:        &d.At,
		}
		x.Client.Number = d.Client
		x.Client.Name = d.Name
		x.Outcome, x.Stage = outcome(d.Outcome), stage(d.Stage)
		out = append(out, x)
	}
	return out, err
}
