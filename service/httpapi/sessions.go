package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/go-chi/chi/v5"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/service/gateway"
	"kamerad.example/service/problems"
	"kamerad.example/service/runner"
	"kamerad.example/store"
)

// maxSteps is how many ticks can be stepped at once.
const maxSteps = 10_000

// openSession starts a session of a version, or of the newest one.
func (a *API) openSession(r *http.Request, in api.OpenSession) (api.Session, error) {
	if in.Version < 0 || in.Version > 1<<30 {
		return api.Session{}, problems.BadRequest("a version is a whole number; 0 is the newest")
	}
	version, err := a.find(r, in.Contract, in.Version)
	if err != nil {
		return api.Session{}, err
	}
	x, err := a.registry.Open(r.Context(), version, in)
	if err != nil {
		return api.Session{}, err
	}
	a.note(r, x.Runner().ID(), "opened it")
	return a.describe(r, x)
}

// describeWithin is how long who lists or reads sessions waits for any of them.
const describeWithin = 250 * time.Millisecond

// describe describes a session as it is now; of one whose tick takes long, as it was a short while ago.
//
// Busy of the answer says that it is the older one.
func (a *API) describe(r *http.Request, x *gateway.Connections) (out api.Session, err error) {
	ctx, cancel := context.WithTimeout(r.Context(), describeWithin)
	defer cancel()
	err = x.Runner().Do(ctx, func() { out = x.Runner().Describe() })
	if errors.Is(err, context.DeadlineExceeded) && r.Context().Err() == nil {
		out = x.Runner().Summary()
		out.Busy = true
		err = nil
	}
	if !mayLookInside(r) {
		out.Seed = 0
	}
	return out, err
}

// sessions lists sessions, newest first.
//
// Open sessions are described as they are now and closed ones as they were stored. What is waited for
// in all is describeWithin, however many there are.
func (a *API) sessions(r *http.Request) ([]api.Session, error) {
	rows, err := a.records.Sessions(r.Context(), 500)
	out := make([]api.Session, len(rows))
	var all sync.WaitGroup
	for i, row := range rows {
		out[i] = runner.Stored(row)
		x := a.registry.Find(row.ID)
		if x == nil {
			continue
		}
		all.Go(func() { // together, so that none is waited for after another
			if live, err := a.describe(r, x); err == nil {
				out[i] = live
			}
		})
	}
	all.Wait()
	return out, err
}

// session returns one session, as it is now or as it ended.
//
// A session that closes while it is asked for is answered from the records.
func (a *API) session(r *http.Request) (api.Session, error) {
	id, err := a.sessionID(r)
	if err != nil {
		return api.Session{}, err
	}
	if x := a.registry.Find(id); x != nil {
		if live, err := a.describe(r, x); err == nil {
			return live, nil
		}
	}
	row, err := a.records.Session(r.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Session{}, a.noSession(fmt.Sprint(id))
	}
	return runner.Stored(row), err
}

// sessionID returns the number of the session that the path names, whether or not there is one.
func (a *API) sessionID(r *http.Request) (int64, error) {
	text := chi.URLParam(r, "id")
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, a.noSession(text)
	}
	return id, nil
}

// noSession returns the error for a session that does not exist.
func (a *API) noSession(id string) error {
	no := &problems.Refusal{
		Status: http.StatusNotFound,
		Detail: fmt.Sprintf("there is no session %.40s", id),
		Code:   api.CodeNotRunning,
	}
	for _, x := range a.registry.All() {
		if len(no.Known) < 20 {
			no.Known = append(no.Known, fmt.Sprintf("session %d (%s)", x.Runner().ID(), x.Runner().Row().Contract))
		}
	}
	if len(no.Known) == 0 {
		no.Detail += "; none is open"
	}
	return no
}

// running finds the runner of a call; a session that has closed is a conflict.
//
// Both errors have the code "not running", which a client takes as the end. One that another service holds is "busy":
// it comes back here when that service ends.
func (a *API) running(r *http.Request) (*gateway.Connections, error) {
	id, err := a.sessionID(r)
	if err != nil {
		return nil, err
	}
	if x := a.registry.Find(id); x != nil {
		return x, nil
	}
	row, err := a.records.Session(r.Context(), id)
	if err == nil && row.ClosedAt == nil {
		return nil, &problems.Refusal{
			Status: http.StatusServiceUnavailable,
			Detail: fmt.Sprintf("session %d is in another service now, or about to go on here; try again", id),
			Code:   api.CodeBusy,
		}
	}
	if err == nil {
		return nil, &problems.Refusal{
			Status: http.StatusConflict,
			Detail: fmt.Sprintf("session %d has closed", id),
			Code:   api.CodeNotRunning,
		}
	}
	return nil, a.noSession(fmt.Sprint(id))
}

// closeSession ends a session; its clients are told.
//
// It answers when the session has ended and its end is stored, or could not be.
func (a *API) closeSession(r *http.Request, in api.CloseSession) (api.Session, error) {
	x, err := a.running(r)
	if err != nil {
		return api.Session{}, err
	}
	reason := "closed by hand"
	if in.Reason != nil {
		reason = *in.Reason
	}
	if reason == "" || utf8.RuneCountInString(reason) > 100 {
		return api.Session{}, problems.BadRequest("a reason has 1 to 100 characters")
	}
	a.note(r, x.Runner().ID(), "closed it: "+reason)
	if err := a.registry.End(r.Context(), x, reason); err != nil {
		return api.Session{}, err
	}
	return a.session(r)
}

// pause stops or resumes the ticks of a session.
func (a *API) pause(r *http.Request, in api.PauseSession) (api.Session, error) {
	x, err := a.running(r)
	if err != nil {
		return api.Session{}, err
	}
	isPaused := in.Paused == nil || *in.Paused
	if err := x.Runner().Do(r.Context(), func() { x.Runner().SetPaused(isPaused) }); err != nil {
		return api.Session{}, err
	}
	a.note(r, x.Runner().ID(), map[bool]string{true: "paused it", false: "let it run on"}[isPaused])
	return a.describe(r, x)
}

// step runs ticks of a paused session.
//
// What was stepped before an error stays done.
func (a *API) step(r *http.Request, in api.StepSession) (out api.Session, err error) {
	x, err := a.running(r)
	if err != nil {
		return out, err
	}
	ticks := 1
	if in.Ticks != nil {
		ticks = *in.Ticks
	}
	if ticks < 1 || ticks > maxSteps {
		return out, problems.BadRequest(fmt.Sprintf("from 1 to %d ticks can be stepped at once", maxSteps))
	}
	a.note(r, x.Runner().ID(), fmt.Sprintf("stepped it by %d", ticks))
	running := false
	for i := range ticks {
		// One at a time, so that messages come in between.
		var stored func(context.Context) error
		err := x.Runner().Do(r.Context(), func() {
			running = !x.Runner().Paused()
			if running {
				return
			}
			x.Runner().Tick()
			if i%runner.StepsAtOnce == runner.StepsAtOnce-1 {
				stored = x.Runner().StartFlush()
			}
		})
		if err != nil {
			return out, err
		}
		if stored != nil {
			waiting, cancel := context.WithTimeout(r.Context(), time.Second)
			_ = stored(waiting) // with the database away it goes on by hand, but slowly
			cancel()
		}
		if running {
			return out, &problems.Refusal{
				Status: http.StatusConflict,
				Detail: fmt.Sprintf("session %d runs by the clock; pause it first", x.Runner().ID()),
			}
		}
	}
	return a.describe(r, x)
}

// outline returns what clients of a session are given of its contract.
func (a *API) outline(r *http.Request) (*contract.Outline, error) {
	x, err := a.running(r)
	if err != nil {
		return nil, err
	}
	return x.Runner().Outline(), nil
}

// drillOf writes a drill of what the clients of a session have done.
//
// The file becomes part of a drill's text, so it may hold nothing that ends a text there; the name is
// checked where the drill is written.
func (a *API) drillOf(r *http.Request) (out api.WrittenDrill, err error) {
	x, err := a.running(r)
	if err != nil {
		return out, err
	}
	if err := hasTranscript(x); err != nil {
		return out, err
	}
	name := r.URL.Query().Get("name")
	file := r.URL.Query().Get("file")
	if name == "" {
		name = fmt.Sprintf("as in session %d", x.Runner().ID())
	}
	if file == "" {
		file = x.Runner().Row().Contract + ".kam"
	}
	if err := checkDrillFiles(name, file); err != nil {
		return out, err
	}
	failed := x.Runner().Do(r.Context(), func() { out.Text, out.Left, err = x.Runner().WriteDrill(name, file) })
	if err != nil {
		return out, problems.BadRequest(err.Error())
	}
	return out, failed
}

// checkDrillFiles returns why a drill cannot have a name, or files beside it; nil when it can.
func checkDrillFiles(name string, files ...string) error {
	for _, file := range files {
		if len(name) > 200 || len(file) > 200 || !filepath.IsLocal(file) || strings.ContainsAny(file, "\"\n") {
			return problems.BadRequest("a drill has a name, and the file of a contract beside it")
		}
	}
	return nil
}

// hasTranscript returns a refusal for a session of which no drill can be written.
func hasTranscript(x *gateway.Connections) error {
	if x.Runner().HasTranscript() {
		return nil
	}
	return &problems.Refusal{
		Status: http.StatusConflict,
		Detail: fmt.Sprintf(
			"session %d was opened without a seed, so that a drill of it begins from its recording: "+
				"kamerad drill from %[1]d --from 0 --out FILE",
			x.Runner().ID(),
		),
	}
}

// expect adds to a session's drill what a client sees now of a property.
func (a *API) expect(r *http.Request, in api.Expect) (out api.Expected, err error) {
	x, err := a.running(r)
	if err != nil {
		return out, err
	}
	if err := hasTranscript(x); err != nil {
		return out, err
	}
	failed := x.Runner().Do(r.Context(), func() {
		out.Tick = x.Runner().Session().Now()
		out.Line, err = x.Runner().Expect(in.Client, in.Entity, in.Property)
	})
	if failed != nil {
		return out, failed
	}
	if err != nil {
		return out, problems.BadRequest(err.Error())
	}
	return out, nil
}

// decisions lists the latest stored decisions of a session.
//
// They come from the records alone: the newest of a running session may not be among them yet.
func (a *API) decisions(r *http.Request) ([]api.Decision, error) {
	if _, err := a.session(r); err != nil {
		return nil, err
	}
	id, _ := a.sessionID(r)
	limit := 100
	if text := r.URL.Query().Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 10_000 {
			return nil, problems.BadRequest("limit is a whole number from 1 to 10000")
		}
		limit = n
	}
	rows, err := a.records.Decisions(r.Context(), id, limit)
	out := []api.Decision{}
	for _, d := range rows {
		x := api.Decision{
			Tick:      d.Tick,
			Seq:       d.Seq,
			Request:   d.Request,
			Entity:    uint32(d.Entity),
			Args:      d.Args,
			Reason:    d.Reason,
			CheckText: d.CheckText,
			Line:      d.Line,
			Changes:   []api.Change{},
			Told:      []string{},
			At:        &d.At,
		}
		x.Client.Number = d.Client
		x.Client.Name = d.Name
		x.Outcome, x.Stage = wire.Outcome(d.Outcome), wire.Stage(d.Stage)
		out = append(out, x)
	}
	return out, err
}

// seats lists who has and had a seat in a session.
func (a *API) seats(r *http.Request) ([]api.Seat, error) {
	s, err := a.session(r)
	if err != nil {
		return nil, err
	}
	list, err := a.records.Seats(r.Context(), s.ID)
	out := []api.Seat{}
	for _, x := range list {
		row := api.Seat{
			Client:   wire.Client{Number: x.Client, Name: x.Name, Role: x.Role},
			JoinedAt: x.JoinedAt,
			LeftAt:   x.LeftAt,
		}
		if x.LeftReason != nil {
			row.LeftReason = *x.LeftReason
		}
		out = append(out, row)
	}
	return out, err
}
