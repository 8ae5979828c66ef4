// Package registry has the sessions that run: it opens them, finds them by number and ends them, and stores both. It
// knows nothing of HTTP but how a refusal is told.
//
// Open makes the session, its runner and its connections, and stores the session before anybody can join it. End closes
// it, waits for its last tick, and stores why. Stop does so for all sessions at once, within the times that it is
// given. A Registry may be used by any number of goroutines; what Find and All return is owned by the session's own
// goroutine.
package registry

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/api"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/record"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/journal"
	"kamerad.example/service/gateway"
	"kamerad.example/service/past"
	"kamerad.example/service/problems"
	"kamerad.example/service/runner"
	"kamerad.example/service/traces"
	"kamerad.example/store"
)

// MaxSessions is how many sessions one service runs at once.
const MaxSessions = 200

// Records keep sessions.
type Records interface {
	Held() bool // the records are this service's alone
	OpenSession(ctx context.Context, in store.Recorded) (store.Session, error)
	SetOptions(ctx context.Context, id int64, options json.RawMessage) error
	SetResult(ctx context.Context, id int64, result json.RawMessage) error
	CloseSession(ctx context.Context, id int64, reason string, tick int64) error
	Session(ctx context.Context, id int64) (store.Session, error)
	Version(ctx context.Context, name string, version int) (store.Version, error)
}

// Options are what a registry is made of.
type Options struct {
	Records  Records
	Recorder runner.Recorder
	Gateway  *gateway.Gateway
	Meters   *runner.Meters
	// Memory is how many bytes the entities of one session may take, and what its clients are told of them; see
	// session.Options. 0 is session.DefaultMemory.
	Memory int64
	// Journal stores what sessions are given, and Recordings has it; nil for sessions that end with the process.
	Journal    *journal.Journal
	Recordings Recordings
	// Tickets make tickets for clients that are sent from one session to another.
	Tickets TicketMaker
	// Traces follows what clients ask; nil for nothing.
	Traces *traces.Traces
	// KeepOpen leaves sessions open when the service stops, so that the next one goes on with them; it takes a Journal.
	KeepOpen bool
}

// Registry has the sessions that run. Everybody may call it.
type Registry struct {
	records         Records
	recorder        runner.Recorder
	gateway         *gateway.Gateway
	meters          *runner.Meters
	traces          *traces.Traces // nil for none
	tickets         TicketMaker
	destinations    destinations
	memory          int64
	journal         *journal.Journal // nil for none
	recordings      Recordings       // nil for none
	mu              sync.Mutex       // guards sessions, waiting, opening and stopping
	keepOpen        bool             // sessions stay open when the service stops
	sessions        map[int64]*gateway.Connections
	waiting         []store.Recorded // that were taken and could not be read yet
	opening         int              // sessions that are being opened
	openings        sync.WaitGroup   // the same, to wait for
	stopping        bool
	returningMemory atomic.Bool  // memory is to be given back
	failures        atomic.Int64 // sessions that have failed inside
}

// New returns a registry without sessions.
func New(o Options) *Registry {
	return &Registry{
		records:      o.Records,
		recorder:     o.Recorder,
		gateway:      o.Gateway,
		meters:       o.Meters,
		traces:       o.Traces,
		tickets:      o.Tickets,
		destinations: destinations{led: map[past.From]int64{}},
		memory:       o.Memory,
		journal:      o.Journal,
		recordings:   o.Recordings,
		keepOpen:     o.KeepOpen && o.Journal != nil,
		sessions:     map[int64]*gateway.Connections{},
	}
}

// Open opens a session of a stored version. Its key is hexadecimal, or empty for a random one. The error of a session
// that cannot be opened so is a *problems.Refusal.
func (g *Registry) Open(ctx context.Context, version store.Version, in api.OpenSession) (*gateway.Connections, error) {
	return g.open(ctx, version, in, nil)
}

// open is Open of a session to which an exit of another one leads; nil for none.
func (g *Registry) open(
	ctx context.Context, version store.Version, in api.OpenSession, from *past.From,
) (*gateway.Connections, error) {
	options, err := g.optionsOf(in)
	if err != nil {
		return nil, err
	}
	c, mistakes := compile.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return nil, fmt.Errorf(
			"open a session of %s version %d: its text does not fit this version of Kamerad: %w", version.Contract,
			version.Version, mistakes,
		)
	}
	if sure := c.SureMemory(); sure > options.Memory {
		return nil, problems.BadRequest(
			fmt.Sprintf(
				"open a session of %s version %d: what is there once all %d seats are taken may take %d MB of "+
					"memory, and a session of this service has %d MB; declare fewer seats or smaller properties "+
					"(`kamerad cost` tells what each kind takes), or start the service with a greater --session-memory",
				version.Contract, version.Version, c.Seats, sure>>20, options.Memory>>20,
			),
		)
	}
	if err := g.checkWorld(in.World, c); err != nil {
		return nil, err
	}
	if err := g.reserve(); err != nil {
		return nil, err
	}
	defer g.openings.Done()
	x, err := g.assemble(ctx, version, in, c, options, from)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.opening--
	if err != nil {
		return nil, err
	}
	if g.stopping {
		return nil, g.abandon(x.Runner())
	}
	r := x.Runner()
	g.sessions[r.ID()] = x
	go r.Run()
	slog.Info("session opened", "session", r.ID(), "contract", r.Row().Contract, "version", r.Row().Version)
	return x, nil
}

// optionsOf returns the options of a session that is opened so.
func (g *Registry) optionsOf(in api.OpenSession) (session.Options, error) {
	options := session.Options{
		Trace:    true,
		Headroom: gateway.Headroom,
		Settings: in.Settings,
		Memory:   g.memory,
	}
	if options.Memory <= 0 {
		options.Memory = session.DefaultMemory
	}
	if in.Seed > 0 {
		if in.Key != "" {
			return options, problems.BadRequest("a session is opened with a key or a seed, not with both")
		}
		if in.Seed > 1<<53 {
			return options, problems.BadRequest("a seed is at most 9007199254740992")
		}
		options.Key = drill.Key(in.Seed)
	} else if in.Key == "" {
		if _, err := rand.Read(options.Key[:]); err != nil {
			return options, fmt.Errorf("make a key: %w", err)
		}
	} else if raw, err := hex.DecodeString(in.Key); err != nil || len(raw) != len(options.Key) {
		return options, problems.BadRequest("the key is not 64 hexadecimal digits")
	} else {
		copy(options.Key[:], raw)
	}
	return options, nil
}

// reserve counts a session that is to be opened; openings.Done has to follow.
func (g *Registry) reserve() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.stopping {
		return problems.ErrStopping
	}
	if !g.records.Held() {
		return &problems.Refusal{
			Status: http.StatusServiceUnavailable,
			Detail: "open a session: the database does not know now that this service lives; its log says why",
		}
	}
	if len(g.sessions)+g.opening >= MaxSessions {
		return problems.BadRequest(fmt.Sprintf("%d sessions run already; close one first", MaxSessions))
	}
	g.opening++
	g.openings.Add(1) // under the lock, so that who stops waits for it or refuses it
	return nil
}

// assemble makes a session and its row; it does not run yet.
func (g *Registry) assemble(
	ctx context.Context, version store.Version, in api.OpenSession, c *contract.Contract, options session.Options,
	from *past.From,
) (*gateway.Connections, error) {
	s, err := session.New(c, options)
	if err != nil {
		return nil, problems.BadRequest(err.Error())
	}
	opened := past.Options{
		Settings: in.Settings,
		Seed:     in.Seed,
		Paused:   in.Paused,
		Memory:   options.Memory,
		From:     from,
	}
	if in.World != "" {
		opened.World = &past.World{Name: in.World}
	}
	row, err := g.records.OpenSession(ctx, store.Recorded{
		Session: store.Session{Contract: version.Contract, Version: version.Version},
		Key:     options.Key[:],
		Options: api.Encode(opened),
		Engine:  record.Revision,
		Wire:    wire.Revision,
	})
	Failpoints.SessionStored.Hit()
	if err := adviseHuge(); err != nil { // it goes without
		slog.Debug("the heap stays in small pages", "error", err)
	}
	if err != nil {
		return nil, err
	}
	if in.World != "" {
		s, err = g.inWorld(ctx, row, opened, c, options)
		if err != nil {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), closeWithin)
			defer cancel()
			if err := g.records.CloseSession(ctx, row.ID, "its world was not to be had: "+err.Error(), 0); err != nil {
				slog.Error("a session that never ran could not be closed", "session", row.ID, "error", err)
			}
			return nil, err
		}
	}
	var log *journal.Log
	if g.journal != nil {
		log = g.journal.Open(s, g.logOptions(row, 1))
	}
	var x *gateway.Connections
	x = g.gateway.Connect(runner.New(runner.Options{
		Row:          row,
		Session:      s,
		Recorder:     g.recorder,
		Log:          log,
		Players:      g.recordings,
		Meters:       g.meters,
		Requests:     g.traces.Session(row.ID, row.Contract),
		Destinations: g,
		Paused:       in.Paused,
		Seed:         in.Seed,
		Settings:     in.Settings,
		Failed:       func() { g.failures.Add(1) },
		Ended:        func(reason string) { g.hasEnded(x, reason) },
	}))
	return x, nil
}

// inWorld makes a session with what its world keeps, once no other session has that.
func (g *Registry) inWorld(
	ctx context.Context, row store.Session, opened past.Options, c *contract.Contract, options session.Options,
) (*session.Session, error) {
	kept, err := g.recordings.Lease(
		ctx, store.Keeper{Contract: row.Contract, Name: opened.World.Name, IsWorld: true}, row.ID,
	)
	var leased *store.ErrLeased
	if errors.As(err, &leased) {
		return nil, &problems.Refusal{
			Status: http.StatusConflict,
			Detail: fmt.Sprintf(
				"open a session of %s: the world %s is in session %d; close that one first, or name another world",
				row.Contract, opened.World.Name, leased.Session,
			),
		}
	}
	if err != nil {
		return nil, err
	}
	opened.World.Fence = kept.Fence
	opened.World.Values = kept.Values
	if err := g.records.SetOptions(ctx, row.ID, api.Encode(opened)); err != nil {
		return nil, err
	}
	options.World = session.World{
		Name: kept.Name,
		Kept: session.Kept{Fence: kept.Fence, Values: kept.Values},
	}
	return session.New(c, options)
}

// checkWorld returns why a session of a contract cannot be opened in a world; nil when it can.
func (g *Registry) checkWorld(name string, c *contract.Contract) error {
	keeps := func(p *contract.Property) bool { return p.Keep }
	shares := func(k *contract.Kind) bool { return k.Shared && slices.ContainsFunc(k.Properties, keeps) }
	switch {
	case name == "":
		return nil
	case !worldName.MatchString(name):
		return problems.BadRequest("a world has a name of at most 64 letters, digits, - and _, such as harbour")
	case g.recordings == nil:
		return problems.BadRequest("without a database there are no worlds: nothing is kept")
	case !slices.ContainsFunc(c.Kinds, shares):
		return problems.BadRequest("the contract keeps nothing of a shared kind, so that a world would have nothing")
	}
	return nil
}

var worldName = regexp.MustCompile(`^[A-Za-z0-9_-]{1,64}$`)

// hasEnded stores the end of a session that its contract has ended, or that has failed inside.
func (g *Registry) hasEnded(x *gateway.Connections, reason string) {
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	if err := g.End(ctx, x, reason); err != nil {
		slog.Error("a session that has ended could not be closed", "session", x.Runner().ID(), "error", err)
	}
}

// abandon ends the row of a session that never ran, since the service stops.
func (g *Registry) abandon(r *runner.Runner) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := g.records.CloseSession(ctx, r.ID(), problems.ErrStopping.Detail, 0); err != nil {
		slog.Error("the end of a session that never ran could not be stored", "session", r.ID(), "error", err)
	}
	return problems.ErrStopping
}

// closeWithin is how long closing one session waits for its tick and for the database.
const closeWithin = 5 * time.Second

// End ends a session and stores that.
func (g *Registry) End(ctx context.Context, x *gateway.Connections, reason string) error {
	ctx, cancel := context.WithTimeout(ctx, closeWithin)
	defer cancel()
	r := x.Runner()
	if !r.Close(ctx, reason) {
		go g.storeLateEnd(r, reason)
		return fmt.Errorf("close session %d: %w", r.ID(), runner.ErrBusy)
	}
	return g.storeEnd(ctx, r, reason)
}

// storeLateEnd stores the end of a session whose tick has yet to end.
func (g *Registry) storeLateEnd(r *runner.Runner, reason string) {
	<-r.Done()
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	if err := g.storeEnd(ctx, r, reason); err != nil {
		slog.Error("the end of a session could not be stored", "session", r.ID(), "error", err)
	}
}

// storeEnd removes a session from those that run, and stores its end. Only the first call does so.
func (g *Registry) storeEnd(ctx context.Context, r *runner.Runner, reason string) error {
	g.mu.Lock()
	_, mine := g.sessions[r.ID()]
	delete(g.sessions, r.ID())
	g.mu.Unlock()
	if !mine {
		return nil
	}
	slog.Info("session closed", "session", r.ID(), "reason", reason)
	returnMemory(&g.returningMemory)
	defer r.ForgetLog()
	if stored := r.StartFlush(); stored != nil {
		if err := stored(ctx); err != nil {
			slog.Warn("the last calls of a session could not be stored before its end", "session", r.ID(), "error", err)
		}
	}
	if result := r.Result(); result != nil {
		if err := g.records.SetResult(ctx, r.ID(), result); err != nil {
			return err
		}
	}
	return g.records.CloseSession(ctx, r.ID(), reason, r.LastTick())
}

// Find returns the session with a number, or nil when it does not run.
func (g *Registry) Find(id int64) *gateway.Connections {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.sessions[id]
}

// All returns the sessions that run, by number.
func (g *Registry) All() []*gateway.Connections {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := make([]*gateway.Connections, 0, len(g.sessions))
	for _, x := range g.sessions {
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b *gateway.Connections) int { return cmp.Compare(a.Runner().ID(), b.Runner().ID()) })
	return out
}

// Failures returns how many sessions have failed inside.
func (g *Registry) Failures() int64 { return g.failures.Load() }

// Stopping reports whether BeginStopping was called.
func (g *Registry) Stopping() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.stopping
}

// BeginStopping keeps sessions from being opened from now on; those that are being opened find it when they want to
// begin.
func (g *Registry) BeginStopping() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.stopping = true
}

// Stop ends all sessions after BeginStopping, or leaves them open where that is wanted. What is not done when ticks
// ends, or not stored when stored ends, is missed. late is called when some have not ended with ticks: their
// connections have to end without them.
func (g *Registry) Stop(ticks, stored context.Context, late func(), missed func(format string, args ...any)) {
	if !waitFor(ticks, &g.openings) {
		missed("a session was being opened, and that did not end in time")
	}
	var sessions sync.WaitGroup
	for _, x := range g.All() {
		sessions.Go(func() {
			r := x.Runner()
			if g.keepOpen {
				g.suspend(ticks, r, missed)
				return
			}
			if !r.Close(ticks, stopReason) {
				missed("session %d: its tick did not end in time, so its clients were not told all of it", r.ID())
			}
			if err := g.storeEnd(stored, r, stopReason); err != nil {
				missed("session %d: its end could not be stored: %s", r.ID(), err)
			}
		})
	}
	if !waitFor(ticks, &sessions) { // they are told by their own goroutines; others need not wait for that
		late()
	}
	sessions.Wait()
}

// suspend ends the runner of a session, which stays open. All that it was given is stored as the journal closes.
func (g *Registry) suspend(ticks context.Context, r *runner.Runner, missed func(format string, args ...any)) {
	if !r.Suspend(ticks) {
		missed("session %d: its tick did not end in time; it goes on from what is stored", r.ID())
		return
	}
	slog.Info("session left open", "session", r.ID(), "tick", r.LastTick())
}

// stopReason is why sessions end when the service stops.
const stopReason = "the service is stopping"

// waitFor waits for a group until a deadline, and reports whether it ended.
func waitFor(ctx context.Context, group *sync.WaitGroup) bool {
	done := make(chan struct{})
	go func() { group.Wait(); close(done) }()
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	}
}

// WatchHeld ends the sessions that another service has closed while this one was not known to live, and takes those
// that other services leave open when they end, until ctx does.
func (g *Registry) WatchHeld(ctx context.Context) {
	const every = 500 * time.Millisecond
	const takeEvery = 4 // of those
	failed := rate.Sometimes{Interval: time.Minute}
	held := true
	for n := 1; ctx.Err() == nil; n++ {
		now := g.records.Held()
		if now && !held {
			g.CloseTaken(ctx)
		}
		held = now
		if now && n%takeEvery == 0 && !g.Stopping() {
			if err := g.Recover(ctx); err != nil && ctx.Err() == nil {
				failed.Do(func() { slog.Warn("sessions of services that have ended cannot be taken", "error", err) })
			}
		}
		select {
		case <-time.After(every):
		case <-ctx.Done():
		}
	}
}

// CloseTaken ends the sessions whose rows another service has closed.
func (g *Registry) CloseTaken(ctx context.Context) {
	for _, x := range g.All() {
		row, err := g.records.Session(ctx, x.Runner().ID())
		if err != nil || row.ClosedAt == nil {
			continue
		}
		reason := "another service has taken the database and closed it"
		slog.Error("a session is closed: "+reason, "session", x.Runner().ID())
		if err := g.End(ctx, x, reason); err != nil && !strings.Contains(err.Error(), "closed") {
			slog.Error("a session could not be closed", "session", x.Runner().ID(), "error", err)
		}
	}
}
