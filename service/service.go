// Package service is the long-running part of Kamerad: it puts together what runs sessions, connects clients and
// answers the HTTP API, starts it and stops it in order. It does nothing by itself that one of these does.
//
// New takes what the service needs, such as its records, and owns none of it but the Recorder, which it closes. Serve
// answers until its context ends, and then stops: no new session or client, the ticks that are under way to their end,
// a last message to each client, and what is left to store. A NotDone error lists what could not be done within
// StopWithin. Handler serves the same within another program.
//
// A session is run by package runner on a goroutine of its own, which nothing waits for; its clients' connections are
// in package gateway, the sessions that run in package registry, the routes in package httpapi.
package service

import (
	"context"
	"crypto/tls"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/core/policy"
	"kamerad.example/core/wire"
	"kamerad.example/journal"
	"kamerad.example/service/backend"
	"kamerad.example/service/door"
	"kamerad.example/service/gateway"
	"kamerad.example/service/httpapi"
	"kamerad.example/service/registry"
	"kamerad.example/service/runner"
	"kamerad.example/service/traces"
	"kamerad.example/service/trials"
	"kamerad.example/store"
)

// Records keep contracts and sessions: a store.Store on a database, or a store.Memory for as long as the service runs.
type Records interface {
	registry.Records
	httpapi.Records
	trials.Records
	StopTrials(ctx context.Context) error
}

// Recorder notes what sessions leave behind, without waiting for it to be stored.
type Recorder interface {
	runner.Recorder
	Backlog() store.Backlog
	Close(ctx context.Context) error
}

// DoorRecords keep who may come in.
type DoorRecords interface {
	door.Records
	httpapi.Operators
	backend.Records
}

// Recordings are where sessions are recorded, and read.
type Recordings interface {
	journal.Store
	registry.Recordings
	httpapi.Recordings
	Retain(ctx context.Context, r store.Retention) (deleted int, err error)
}

// Options are what a service is made of. Records, Recorder and Console have to be there.
type Options struct {
	Records  Records
	Recorder Recorder // the service closes it
	Console  fs.FS    // the built web console; without an index.html the service says how to build it
	// Recordings is where sessions are recorded, so that they outlive the process; nil for nowhere.
	Recordings Recordings
	// Retention says how long recordings of closed sessions are kept, and how large all may get.
	Retention store.Retention

	// Tickets checks the tickets of clients, of which each then needs one; nil lets them join without.
	Tickets *auth.Tickets
	// Tokens says that whoever uses the API or the console needs a token.
	Tokens bool
	// DoorRecords keep tokens, bans and used tickets; nil for a service that is open.
	DoorRecords DoorRecords
	// Backend is the URL of the game's backend, which is told what happens, by calls that BackendKey signs; empty for
	// none. It takes DoorRecords.
	Backend    string
	BackendKey auth.Key
	// Outside says from where the service may be called. Its Addresses are made of the Limits.
	Outside httpapi.Outside
	Limits  door.Limits
	// Certificate is what the service shows by TLS; nil for none.
	Certificate func() (*tls.Certificate, error)

	// KeepOpen leaves sessions open when the service stops: the next one goes on with them. It takes Recordings.
	KeepOpen bool

	// Traces follows requests; nil for nothing. The service closes it.
	Traces *traces.Traces

	// Policy is what contracts are held against when they are published; nil asks nothing.
	Policy *policy.Policy
	// SessionMemory is how many bytes the entities of one session may take, and what its clients are told of them; see
	// session.Options. 0 is session.DefaultMemory.
	SessionMemory int64
	// SendBuffer is what the system keeps of what was written to a client, in bytes; 0 leaves that to the system.
	SendBuffer int
	// Decided is called with the time from reading a request to having written its decision, of the one that waited
	// longest for a write; nil for nothing.
	Decided func(took time.Duration)
}

// Service runs sessions and answers for them. Make it with New.
type Service struct {
	recorder    Recorder
	journal     *journal.Journal // nil for none
	recordings  Recordings       // nil for none
	retention   store.Retention
	gateway     *gateway.Gateway
	door        *door.Door
	backend     *backend.Backend
	addresses   *door.Addresses
	certificate func() (*tls.Certificate, error) // nil for none
	registry    *registry.Registry
	trials      *trials.Trials
	handler     http.Handler
	traces      *traces.Traces // nil for none
	metrics     *prometheus.Registry
}

// New makes a service. Sessions that an earlier service left open go on, when they were recorded.
func New(ctx context.Context, o Options) (*Service, error) {
	if err := o.Records.StopTrials(ctx); err != nil {
		return nil, err
	}
	metrics := prometheus.NewRegistry()
	v := &Service{
		recorder:   o.Recorder,
		recordings: o.Recordings,
		retention:  o.Retention,
		gateway:    gateway.New(metrics),
		trials:     trials.New(o.Records),
	}
	v.metrics = metrics
	v.certificate = o.Certificate
	v.traces = o.Traces
	v.gateway.SendBuffer = o.SendBuffer
	v.gateway.Decided = o.Decided
	if err := v.makeDoor(ctx, &o); err != nil {
		return nil, err
	}
	in := registry.Options{
		Records:  o.Records,
		Recorder: o.Recorder,
		Gateway:  v.gateway,
		Meters:   runner.NewMeters(metrics),
		Memory:   o.SessionMemory,
		KeepOpen: o.KeepOpen,
		Traces:   o.Traces,
		Tickets:  v.door,
	}
	if o.Recordings != nil {
		v.journal = journal.New(o.Recordings)
		in.Journal = v.journal
		in.Recordings = o.Recordings
	}
	v.registry = registry.New(in)
	v.measure(metrics, o.Records.Held)
	v.makeHandler(o)
	if err := v.registry.Recover(ctx); err != nil {
		return nil, err
	}
	// After the sessions, so that who was banned meanwhile has no seat in one that goes on.
	if err := v.door.Refresh(ctx); err != nil {
		return nil, err
	}
	return v, nil
}

// makeDoor makes what says who may come in and from where, and who is told of that.
func (v *Service) makeDoor(ctx context.Context, o *Options) error {
	v.addresses = door.NewAddresses(o.Limits, o.Outside.Trusts, v.metrics)
	o.Outside.Addresses = v.addresses
	v.door = door.New(door.Options{
		Records: o.DoorRecords,
		Tickets: o.Tickets,
		Tokens:  o.Tokens,
		Banned:  v.removeBanned,
	})
	v.gateway.Door = v.door
	v.backend = backend.New(backend.Options{
		Records: o.DoorRecords,
		URL:     o.Backend,
		Key:     o.BackendKey,
		Metrics: v.metrics,
	})
	return v.backend.Prepare(ctx)
}

// makeHandler makes what answers calls.
func (v *Service) makeHandler(o Options) {
	routes := httpapi.Options{
		Records:   o.Records,
		Backlog:   o.Recorder.Backlog,
		Registry:  v.registry,
		Gateway:   v.gateway,
		Door:      v.door,
		Outside:   o.Outside,
		Operators: o.DoorRecords,
		Trials:    v.trials,
		Metrics:   v.metrics,
		Console:   o.Console,
		Policy:    o.Policy,
		Traces:    o.Traces,
	}
	if v.journal != nil {
		routes.Journal = v.journal.State
	}
	if o.Recordings != nil {
		routes.Recordings = o.Recordings
	}
	v.handler = httpapi.New(routes).Handler()
}

// removeBanned takes the seats of a player that was banned, in sessions of a contract or, with an empty name, in all.
func (v *Service) removeBanned(player, contract, reason string) {
	for _, x := range v.registry.All() {
		if r := x.Runner(); contract == "" || r.Row().Contract == contract {
			r.Remove(player, reason)
		}
	}
}

// measure registers what the service measures beside its runners and its gateway.
func (v *Service) measure(metrics prometheus.Registerer, held func() bool) {
	gauge := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value)
	}
	dropped := func(class string, count func(store.Backlog) int64) prometheus.Collector {
		return prometheus.NewCounterFunc(
			prometheus.CounterOpts{
				Name:        "kamerad_records_dropped_total",
				ConstLabels: prometheus.Labels{"class": class},
				Help:        "Records that were given up since the database was away for too long.",
			},
			func() float64 { return float64(count(v.recorder.Backlog())) },
		)
	}
	if v.journal != nil {
		metrics.MustRegister(
			gauge("kamerad_recordings_waiting_bytes", "Memory that calls of sessions take which are not stored "+
				"yet, about.",
				func() float64 { return float64(v.journal.State().Waiting) }),
			gauge("kamerad_recordings_away", "1 while calls of sessions cannot be stored.", func() float64 {
				if v.journal.State().Away {
					return 1
				}
				return 0
			}),
			prometheus.NewCounterFunc(
				prometheus.CounterOpts{
					Name: "kamerad_recording_gaps_total",
					Help: "How often calls of a session were given up since the database was away for too long.",
				},
				func() float64 { return float64(v.journal.State().Gaps) },
			),
		)
	}
	metrics.MustRegister(
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("kamerad_held", "1 while the database knows that this service lives.", func() float64 {
			if held() {
				return 1
			}
			return 0
		}),
		gauge("kamerad_sessions", "Sessions that run.", func() float64 { return float64(len(v.registry.All())) }),
		gauge("kamerad_records_waiting", "Records that are not stored yet.", func() float64 {
			return float64(v.recorder.Backlog().Waiting)
		}),
		gauge("kamerad_records_waiting_bytes", "Memory that records take which are not stored yet, about.",
			func() float64 { return float64(v.recorder.Backlog().Bytes) }),
		dropped("kept", func(b store.Backlog) int64 { return b.DroppedKept }),
		dropped("refused", func(b store.Backlog) int64 { return b.DroppedRefused }),
	)
}

// Admin returns a client of the service within this process, which may do everything; name is who it is noted to be.
func (v *Service) Admin(name string) api.Client {
	return api.Client{
		Service: "http://127.0.0.1",
		HTTP:    &http.Client{Transport: httpapi.Inside(v.handler, name)},
	}
}

// WantsTickets reports whether clients join by tickets alone.
func (v *Service) WantsTickets() bool { return v.door.WantsTickets() }

// Handler returns the handler of all that the service answers; see package httpapi.
func (v *Service) Handler() http.Handler { return v.handler }

// Serve answers on a listener until ctx ends, and then stops in order: clients are told, records are stored,
// connections end.
func (v *Service) Serve(ctx context.Context, l net.Listener) error {
	idle := gateway.NewIdle()
	l = v.addresses.Listen(l)
	if v.certificate != nil {
		l = tls.NewListener(l, &tls.Config{
			MinVersion:     tls.VersionTLS12,
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return v.certificate() },
			NextProtos:     []string{"http/1.1"}, // WebSockets are opened by it
		})
	}
	server := &http.Server{
		Handler:           httpapi.Bodiless(v.handler),
		ReadHeaderTimeout: 5 * time.Second,
		ReadTimeout:       httpapi.BodyWithin,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    16 << 10,
		ConnState: func(c net.Conn, state http.ConnState) {
			idle.Changed(c, state)
			v.addresses.Changed(c, state)
		},
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	go v.registry.WatchHeld(ctx)
	go v.door.Watch(ctx)
	go v.backend.Run(ctx)
	if v.recordings != nil {
		go v.retain(ctx)
	}
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

// retainEvery is how often it is looked for recordings that are over their bound.
const retainEvery = time.Minute

// retain deletes recordings that are over their bound, until ctx ends.
func (v *Service) retain(ctx context.Context) {
	for {
		deleted, err := v.recordings.Retain(ctx, v.retention)
		if deleted > 0 {
			slog.Info("deleted recordings that were over their bound", "count", deleted)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("recordings that are over their bound could not be deleted", "error", err)
		}
		select {
		case <-time.After(retainEvery):
		case <-ctx.Done():
			return
		}
	}
}

// Host seats a client of a session within this process: the player at whose machine the service runs. It is a client
// like any other, on a pipe instead of a socket.
func (v *Service) Host(
	ctx context.Context, session int64, name, role string, o client.Options,
) (*client.Client, error) {
	x := v.registry.Find(session)
	if x == nil {
		return nil, fmt.Errorf("host session %d: it does not run", session)
	}
	c, err := x.SeatInside(ctx, wire.Join{Name: name, Role: role}, false, o)
	if err != nil {
		return nil, fmt.Errorf("host session %d as %s: %w", session, name, err)
	}
	return c.Client, nil
}
