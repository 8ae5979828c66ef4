// Package service is the long-running part of Kamerad: it runs sessions, seats clients over WebSockets, answers the HTTP API
// and serves the console.
package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"kamerad/client"
	"kamerad/core/contract"
	"kamerad/core/drill"
	"kamerad/core/session"
	"kamerad/store"
)

// MaxSessions is how many sessions one service runs at once.
const MaxSessions = 200

// Service runs sessions and answers for them. Make it with New.
type Service struct {
	store    Records
	recorder Recorder
	console  fs.FS
	meters   *meters
	mu       sync.Mutex
	rooms    map[int64]*room
	tests    map[seatKey]testClient
	opening  int
	stopping bool
	sockets  sync.WaitGroup
	writers  *writers
	trials   trials

	// SendBuffer is what the system keeps of what was written to a client, in bytes; 0 leaves that to the system.
	SendBuffer int

	// Decided, when it is set before a client joins, is called with the time from reading a request to having written its decision, of
	// the one that waited longest for a write.
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
}

func newMeters(rooms func() float64, waiting func() float64) *meters {
	m := &meters{
		registry:    prometheus.NewRegistry(),
		decisions:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "kamerad_decisions_total", Help: "Decided requests by outcome and the stage that decided."}, []string{"outcome", "stage"}),
		broken:      prometheus.NewCounter(prometheus.CounterOpts{Name: "kamerad_broken_messages_total", Help: "Messages of clients that could not be read; their connections were cut."}),
		differences: prometheus.NewCounter(prometheus.CounterOpts{Name: "kamerad_differences_total", Help: "Copies of clients that were not what their digest says; each was sent anew."}),
		behind:      prometheus.NewCounter(prometheus.CounterOpts{Name: "kamerad_behind_total", Help: "Times that a client fell behind and was sent a snapshot in place of what it missed."}),
		decision:    prometheus.NewHistogram(prometheus.HistogramOpts{Name: "kamerad_decision_seconds", Help: "Time from reading a request to having written its decision.", Buckets: prometheus.ExponentialBuckets(1e-3, 1.5, 14)}),
		clients:     prometheus.NewGauge(prometheus.GaugeOpts{Name: "kamerad_clients", Help: "Clients that have a seat."}),
		tick:        prometheus.NewHistogram(prometheus.HistogramOpts{Name: "kamerad_tick_seconds", Help: "Time that a tick took.", Buckets: prometheus.ExponentialBuckets(1e-5, 4, 8)}),
	}
	m.registry.MustRegister(m.decisions, m.broken, m.differences, m.behind, m.decision, m.clients, m.tick,
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "kamerad_sessions", Help: "Sessions that run."}, rooms),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "kamerad_records_waiting", Help: "Records that are not stored yet."}, waiting))
	return m
}

// Records keep contracts and sessions: a store.Store on a database, or a store.Memory for as long as the service runs.
type Records interface {
	Ping(ctx context.Context) error
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
	Waiting() (waiting int, lost int64)
	Close(ctx context.Context) error
}

// New makes a service on records, such as those of a database. The service closes the recorder. console holds the built web
// console; without an index.html the service says how to build it. Sessions that an earlier service left open are closed.
func New(ctx context.Context, s Records, recorder Recorder, console fs.FS) (*Service, error) {
	left, err := s.CloseLeftOver(ctx)
	if err != nil {
		return nil, err
	}
	if left > 0 {
		slog.Warn("closed sessions that an earlier service had left open", "count", left)
	}
	v := &Service{trials: trials{turn: make(chan struct{}, 1), live: map[int64]*trial{}}, store: s, recorder: recorder, console: console, rooms: map[int64]*room{}, writers: newWriters(), tests: map[seatKey]testClient{}}
	v.meters = newMeters(func() float64 { return float64(len(v.open())) }, func() float64 { n, _ := v.recorder.Waiting(); return float64(n) })
	v.meters.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "kamerad_misordered_frames_total", Help: "Frames that were refused since their client had a newer one. There must be none."},
		func() float64 { return float64(v.writers.misordered.Load()) }))
	return v, nil
}

// Serve answers on a listener until ctx ends, and then stops in order: clients are told, records are stored, connections end.
func (v *Service) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: v.Handler(), ReadHeaderTimeout: 5 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	select {
	case err := <-failed:
		return fmt.Errorf("serve on %s: %w", l.Addr(), err)
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	v.mu.Lock()
	v.stopping = true
	v.mu.Unlock()
	errs := []error{v.stopTrials(stop)}
	for _, r := range v.open() {
		errs = append(errs, v.closeRoom(stop, r, "the service is stopping"))
	}
	// The goodbyes go out before the connections end.
	told := make(chan struct{})
	go func() { v.sockets.Wait(); close(told) }()
	select {
	case <-told:
	case <-stop.Done():
	}
	v.writers.stop()
	errs = append(errs, server.Shutdown(stop), v.recorder.Close(stop))
	return errors.Join(errs...)
}

// open lists the rooms by number.
func (v *Service) open() []*room {
	v.mu.Lock()
	defer v.mu.Unlock()
	out := make([]*room, 0, len(v.rooms))
	for _, r := range v.rooms {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b *room) int { return int(a.id - b.id) })
	return out
}

func (v *Service) room(id int64) *room {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.rooms[id]
}

// openRoom opens a session of a stored version; its key is hexadecimal, or empty for a random one.
func (v *Service) openRoom(ctx context.Context, version store.Version, in client.OpenSession) (*room, error) {
	options := session.Options{Trace: true, Headroom: headroom, Settings: in.Settings}
	if in.Seed > 0 {
		if in.Key != "" {
			return nil, &bad{"a session is opened with a key or a seed, not with both"}
		}
		if in.Seed > 1<<53 {
			return nil, &bad{"a seed is at most 9007199254740992"}
		}
		options.Key = drill.Key(in.Seed)
	} else if in.Key == "" {
		if _, err := rand.Read(options.Key[:]); err != nil {
			return nil, fmt.Errorf("make a key: %w", err)
		}
	} else if raw, err := hex.DecodeString(in.Key); err != nil || len(raw) != len(options.Key) {
		return nil, &bad{"the key is not 64 hexadecimal digits"}
	} else {
		copy(options.Key[:], raw)
	}
	c, problems := contract.LoadWith(version.Contract+".kam", version.Source, contract.Files(version.Files).Open)
	if c == nil {
		return nil, fmt.Errorf("open a session of %s version %d: its text does not fit this version of Kamerad: %w", version.Contract, version.Version, problems)
	}
	v.mu.Lock()
	if v.stopping || len(v.rooms)+v.opening >= MaxSessions {
		stopping := v.stopping
		v.mu.Unlock()
		if stopping {
			return nil, &bad{"the service is stopping"}
		}
		return nil, &bad{fmt.Sprintf("%d sessions run already; close one first", MaxSessions)}
	}
	v.opening++
	v.mu.Unlock()
	s, err := session.New(c, options)
	var row store.Session
	if err == nil {
		row, err = v.store.OpenSession(ctx, version.Contract, version.Version)
		points.sessionStored.Hit()
	} else {
		err = &bad{err.Error()}
	}
	if err := adviseHuge(); err != nil { // it goes without
		slog.Debug("the heap stays in small pages", "error", err)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.opening--
	if err != nil {
		return nil, err
	}
	r := newRoom(row, s, in.Paused, v.recorder, v.meters)
	r.writers, r.seed = v.writers, in.Seed
	if in.Seed > 0 {
		r.transcript = drill.NewTranscript(s, in.Seed, in.Settings)
	}
	v.rooms[r.id] = r
	r.ended = func(reason string) {
		if err := v.closeRoom(context.Background(), r, reason); err != nil {
			slog.Error("a session that its contract ended could not be closed", "session", r.id, "error", err)
		}
	}
	go r.run()
	slog.Info("session opened", "session", r.id, "contract", row.Contract, "version", row.Version)
	return r, nil
}

func (v *Service) closeRoom(ctx context.Context, r *room, reason string) error {
	r.close(reason)
	v.mu.Lock()
	_, mine := v.rooms[r.id]
	delete(v.rooms, r.id)
	v.mu.Unlock()
	if !mine {
		return nil
	}
	slog.Info("session closed", "session", r.id, "reason", reason)
	return v.store.CloseSession(ctx, r.id, reason, r.session.Now())
}

func rawArgs(args []json.RawMessage) json.RawMessage {
	if args == nil {
		return json.RawMessage("[]")
	}
	return encode(args)
}

func encode(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil { // only what a client sent could be at fault, and that was read as JSON before
		slog.Error("a message could not be worded", "error", err)
		return []byte("null")
	}
	return raw
}
