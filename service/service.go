// Package service is the long-running part of Kamerad: it runs sessions, seats clients over WebSockets, answers the
// HTTP API and serves the console.
package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"kamerad.example/client"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/session"
	"kamerad.example/store"
)

// MaxSessions is how many sessions one service runs at once.
const MaxSessions = 200

// Service runs sessions and answers for them. Make it with New.
type Service struct {
	store           Records
	recorder        Recorder
	console         fs.FS
	meters          *meters
	mu              sync.Mutex
	runners         map[int64]*runner
	tests           map[seatKey]testClient
	opening         int            // sessions that are being opened
	openings        sync.WaitGroup // the same, to wait for
	stopping        bool
	bodies          places // of long bodies that arrive
	publishing      places
	returningMemory atomic.Bool   // memory is to be given back
	failures        atomic.Int64  // sessions that have failed inside
	halted          chan struct{} // closed when connections end without their sessions
	sockets         sync.WaitGroup
	greeting        *idle // connections whose first message has not come
	writers         *writers
	trials          trials

	// SendBuffer is what the system keeps of what was written to a client, in bytes; 0 leaves that to the system.
	SendBuffer int

	// SessionMemory is how many bytes the entities of one session may take, and what its clients are told of them; see
	// session.Options. 0 is session.DefaultMemory.
	SessionMemory int64

	// Decided, when it is set before a client joins, is called with the time from reading a request to having written
	// its decision, of the one that waited longest for a write.
	Decided func(took time.Duration)
}

type meters struct {
	registry    *prometheus.Registry
	decisions   *prometheus.CounterVec
	broken      prometheus.Counter
	differences prometheus.Counter
	behind      prometheus.Counter
	decision    prometheus.Histogram
	clients     prometheus.Gauge
	tick        prometheus.Histogram
	failures    prometheus.Counter
	unstored    prometheus.Counter
	overruns    prometheus.Counter
	deferred    prometheus.Counter
}

// newMeters registers what the service measures of itself.
func newMeters(rooms func() float64, backlog func() store.Backlog) *meters {
	m := &meters{
		registry: prometheus.NewRegistry(),
		decisions: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "kamerad_decisions_total",
				Help: "Decided requests by outcome and the stage that decided.",
			},
			[]string{"outcome", "stage"},
		),
		broken: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "kamerad_broken_messages_total",
				Help: "Messages of clients that could not be read; their connections were cut.",
			},
		),
		differences: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "kamerad_differences_total",
				Help: "Copies of clients that were not what their digest says; each was sent anew.",
			},
		),
		behind: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "kamerad_behind_total",
				Help: "Times that a client fell behind and was sent a snapshot in place of what it missed.",
			},
		),
		decision: prometheus.NewHistogram(
			prometheus.HistogramOpts{
				Name:    "kamerad_decision_seconds",
				Help:    "Time from reading a request to having written its decision.",
				Buckets: prometheus.ExponentialBuckets(1e-3, 1.5, 14),
			},
		),
		clients: prometheus.NewGauge(prometheus.GaugeOpts{Name: "kamerad_clients", Help: "Clients that have a seat."}),
		tick: prometheus.NewHistogram(
			prometheus.HistogramOpts{
				Name:    "kamerad_tick_seconds",
				Help:    "Time that a tick took.",
				Buckets: prometheus.ExponentialBuckets(1e-5, 4, 8),
			},
		),
	}
	m.unstored = prometheus.NewCounter(
		prometheus.CounterOpts{
			Name: "kamerad_decisions_unstored_total",
			Help: "Refused requests that were counted and not stored: their client had more than it is allowed.",
		},
	)
	m.overruns = prometheus.NewCounter(
		prometheus.CounterOpts{
			Name: "kamerad_tick_overruns_total",
			Help: "Ticks that took longer than there is between two.",
		},
	)
	m.deferred = prometheus.NewCounter(
		prometheus.CounterOpts{
			Name: "kamerad_deferred_inputs_total",
			Help: "Requests, writes and joins that waited for a tick with steps to spare.",
		},
	)
	m.failures = prometheus.NewCounter(
		prometheus.CounterOpts{
			Name: "kamerad_session_failures_total",
			Help: "Sessions that failed inside and were closed.",
		},
	)
	m.registry.MustRegister(
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), m.failures, m.decisions, m.broken,
		m.differences, m.behind, m.decision, m.clients, m.tick,
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "kamerad_sessions", Help: "Sessions that run."}, rooms),
		m.unstored, m.overruns, m.deferred,
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{Name: "kamerad_records_waiting", Help: "Records that are not stored yet."},
			func() float64 { return float64(backlog().Waiting) },
		),
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{
				Name: "kamerad_records_waiting_bytes",
				Help: "Memory that records take which are not stored yet, about.",
			},
			func() float64 { return float64(backlog().Bytes) },
		),
		prometheus.NewCounterFunc(
			prometheus.CounterOpts{
				Name:        "kamerad_records_dropped_total",
				ConstLabels: prometheus.Labels{"class": "kept"},
				Help:        "Records that were given up since the database was away for too long.",
			},
			func() float64 { return float64(backlog().DroppedKept) },
		),
		prometheus.NewCounterFunc(
			prometheus.CounterOpts{
				Name:        "kamerad_records_dropped_total",
				ConstLabels: prometheus.Labels{"class": "refused"},
				Help:        "Records that were given up since the database was away for too long.",
			},
			func() float64 { return float64(backlog().DroppedRefused) },
		),
	)
	return m
}

// Records keep contracts and sessions: a store.Store on a database, or a store.Memory for as long as the service runs.
type Records interface {
	Ping(ctx context.Context) error
	Held() bool // the records are this service's alone
	Publish(ctx context.Context, v store.Version) (out store.Version, fresh bool, err error)
	Version(ctx context.Context, name string, version int) (store.Version, error)
	Versions(ctx context.Context, name string) ([]store.Version, error)
	OpenSession(ctx context.Context, contract string, version int) (store.Session, error)
	CloseSession(ctx context.Context, id int64, reason string, tick int64) error
	CloseLeftOver(ctx context.Context) (int64, error)
	Sessions(ctx context.Context, limit int) ([]store.Session, error)
	Session(ctx context.Context, id int64) (store.Session, error)
	Seats(ctx context.Context, session int64) ([]store.Seat, error)
	Decisions(ctx context.Context, session int64, limit int) ([]store.Decision, error)
	AddTrial(ctx context.Context, t store.Trial) (store.Trial, error)
	SetTrial(ctx context.Context, t store.Trial) error
	Trial(ctx context.Context, id int64) (store.Trial, error)
	Trials(ctx context.Context, contract string, version, limit int) ([]store.Trial, error)
}

// Recorder notes what sessions leave behind, without waiting for it to be stored.
type Recorder interface {
	Seat(s store.Seat)
	Record(list []store.Decision)
	Backlog() store.Backlog
	Close(ctx context.Context) error
}

// New makes a service on records, such as those of a database. The service closes the recorder. console holds the built
// web console; without an index.html the service says how to build it. Sessions that an earlier service left open are
// closed.
func New(ctx context.Context, s Records, recorder Recorder, console fs.FS) (*Service, error) {
	left, err := s.CloseLeftOver(ctx)
	if err != nil {
		return nil, err
	}
	if left > 0 {
		slog.Warn("closed sessions that an earlier service had left open", "count", left)
	}
	v := &Service{
		trials:     trials{turn: make(chan struct{}, 1), running: map[int64]*trial{}},
		store:      s,
		recorder:   recorder,
		console:    console,
		runners:    map[int64]*runner{},
		halted:     make(chan struct{}),
		greeting:   newIdle(),
		bodies:     make(places, longBodies),
		publishing: make(places, publishings),
		writers:    newWriters(),
		tests:      map[seatKey]testClient{},
	}
	v.meters = newMeters(
		func() float64 { return float64(len(v.openRunners())) }, func() store.Backlog { return v.recorder.Backlog() },
	)
	v.meters.registry.MustRegister(
		prometheus.NewCounterFunc(
			prometheus.CounterOpts{
				Name: "kamerad_misordered_frames_total",
				Help: "Frames that were refused since their client had a newer one. There must be none.",
			},
			func() float64 { return float64(v.writers.misordered.Load()) },
		),
	)
	return v, nil
}

// Serve answers on a listener until ctx ends, and then stops in order: clients are told, records are stored,
// connections end.
func (v *Service) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{
		Handler:           bodiless(v.Handler()),
		ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout:       bodyWithin,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    16 << 10,
		ConnState:         newIdle().changed,
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	go v.watchHeld(ctx)
	select {
	case err := <-failed:
		return fmt.Errorf("serve on %s: %w", l.Addr(), err)
	case <-ctx.Done():
	}
	return v.stop(func(ctx context.Context) error {
		if err := server.Shutdown(ctx); err != nil {
			_ = server.Close()
			return err
		}
		return nil
	})
}

// openRunners returns the rooms by number.
func (v *Service) openRunners() []*runner {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := make([]*runner, 0, len(v.runners))
	for _, r := range v.runners {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *runner) int { return int(a.id - b.id) })
	return out
}

func (v *Service) runner(id int64) *runner {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.runners[id]
}

// startSession opens a session of a stored version; its key is hexadecimal, or empty for a random one.
func (v *Service) startSession(ctx context.Context, version store.Version, in client.OpenSession) (*runner, error) {
	options := session.Options{
		Trace:    true,
		Headroom: headroom,
		Settings: in.Settings,
		Memory:   v.SessionMemory,
	}
	if options.Memory <= 0 {
		options.Memory = session.DefaultMemory
	}
	if in.Seed > 0 {
		if in.Key != "" {
			return nil, &badRequest{"a session is opened with a key or a seed, not with both"}
		}
		if in.Seed > 1<<53 {
			return nil, &badRequest{"a seed is at most 9007199254740992"}
		}
		options.Key = drill.Key(in.Seed)
	} else if in.Key == "" {
		if _, err := rand.Read(options.Key[:]); err != nil {
			return nil, fmt.Errorf("make a key: %w", err)
		}
	} else if raw, err := hex.DecodeString(in.Key); err != nil || len(raw) != len(options.Key) {
		return nil, &badRequest{"the key is not 64 hexadecimal digits"}
	} else {
		copy(options.Key[:], raw)
	}
	c, problems := compile.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return nil, fmt.Errorf(
			"open a session of %s version %d: its text does not fit this version of Kamerad: %w", version.Contract,
			version.Version, problems,
		)
	}
	if sure := c.SureMemory(); sure > options.Memory {
		return nil, &badRequest{
			fmt.Sprintf(
				"open a session of %s version %d: what is there once all %d seats are taken may take %d MB of "+
					"memory, and a session of this service has %d MB; declare fewer seats or smaller properties "+
					"(`kamerad cost` tells what each kind takes), or start the service with a greater --session-memory",
				version.Contract, version.Version, c.Seats, sure>>20, options.Memory>>20,
			),
		}
	}
	if err := v.reserve(); err != nil {
		return nil, err
	}
	defer v.openings.Done()
	r, err := v.makeRunner(ctx, version, in, c, options)
	v.mu.Lock()
	defer v.mu.Unlock()
	v.opening--
	if err != nil {
		return nil, err
	}
	if v.stopping {
		return nil, v.abandon(r)
	}
	v.runners[r.id] = r
	go r.loop()
	slog.Info("session opened", "session", r.id, "contract", r.row.Contract, "version", r.row.Version)
	return r, nil
}

// errStopping refuses what a service that stops does not begin any more.
var errStopping = &badRequest{"the service is stopping"}

// reserve counts a session that is to be opened; openings.Done has to follow.
func (v *Service) reserve() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.stopping {
		return errStopping
	}
	if !v.store.Held() {
		return &refusal{
			status: http.StatusServiceUnavailable,
			detail: "open a session: the database is not held for this service now; its log says why",
		}
	}
	if len(v.runners)+v.opening >= MaxSessions {
		return &badRequest{fmt.Sprintf("%d sessions run already; close one first", MaxSessions)}
	}
	v.opening++
	v.openings.Add(1) // under the lock, so that who stops waits for it or refuses it
	return nil
}

// makeRunner makes a session and its row; it does not run yet.
func (v *Service) makeRunner(
	ctx context.Context, version store.Version, in client.OpenSession, c *contract.Contract, options session.Options,
) (*runner, error) {
	s, err := session.New(c, options)
	if err != nil {
		return nil, &badRequest{err.Error()}
	}
	row, err := v.store.OpenSession(ctx, version.Contract, version.Version)
	failpoints.sessionStored.Hit()
	if err := adviseHuge(); err != nil { // it goes without
		slog.Debug("the heap stays in small pages", "error", err)
	}
	if err != nil {
		return nil, err
	}
	r := newRunner(row, s, in.Paused, v.recorder, v.meters)
	r.writers = v.writers
	r.seed = in.Seed
	r.halted = v.halted
	r.failed = func() { v.failures.Add(1) }
	if in.Seed > 0 {
		r.transcript = drill.NewTranscript(s, in.Seed, in.Settings)
	}
	r.ended = func(reason string) {
		ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
		defer cancel()
		if err := v.endSession(ctx, r, reason); err != nil {
			slog.Error("a session that has ended could not be closed", "session", r.id, "error", err)
		}
	}
	return r, nil
}

// abandon ends the row of a session that never ran, since the service stops.
func (v *Service) abandon(r *runner) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := v.store.CloseSession(ctx, r.id, errStopping.detail, 0); err != nil {
		slog.Error("the end of a session that never ran could not be stored", "session", r.id, "error", err)
	}
	return errStopping
}

// closeWithin is how long closing one session waits for its tick and for the database.
const closeWithin = 5 * time.Second

// endSession ends a session and stores that.
func (v *Service) endSession(ctx context.Context, r *runner, reason string) error {
	ctx, cancel := context.WithTimeout(ctx, closeWithin)
	defer cancel()
	if !r.close(ctx, reason) {
		go v.storeLateEnd(r, reason)
		return fmt.Errorf("close session %d: %w", r.id, errBusy)
	}
	return v.storeEnd(ctx, r, reason)
}

// storeLateEnd stores the end of a session whose tick has yet to end.
func (v *Service) storeLateEnd(r *runner, reason string) {
	<-r.done
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	if err := v.storeEnd(ctx, r, reason); err != nil {
		slog.Error("the end of a session could not be stored", "session", r.id, "error", err)
	}
}

// storeEnd takes a session out of those that run, and stores its end. Only the first call does so.
func (v *Service) storeEnd(ctx context.Context, r *runner, reason string) error {
	v.mu.Lock()
	_, mine := v.runners[r.id]
	delete(v.runners, r.id)
	v.mu.Unlock()
	if !mine {
		return nil
	}
	slog.Info("session closed", "session", r.id, "reason", reason)
	returnMemory(&v.returningMemory)
	return v.store.CloseSession(ctx, r.id, reason, r.lastTick.Load())
}

// rawArgs joins arguments to one JSON array.
func rawArgs(args []json.RawMessage) json.RawMessage {
	if args == nil {
		return json.RawMessage("[]")
	}
	return encode(args)
}

// encode returns plain data as JSON.
func encode(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil { // only what a client sent could be at fault, and that was read as JSON before
		slog.Error("a message could not be worded", "error", err)
		return []byte("null")
	}
	return raw
}
