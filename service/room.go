package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"kamerad/client"
	"kamerad/core/session"
	"kamerad/core/wire"
	"kamerad/store"
)

const (
	inboxSize = 1024 // inputs that may wait between two ticks; senders wait when it is full
	queueSize = 256  // messages that may wait for one client; over it the client is cut
	maxSteps  = 10_000
)

// errClosed says that a session ended while something was asked of it.
var errClosed = errors.New("the session has closed")

// room runs one session: a goroutine of its own owns the session's state and ticks it. Everybody else hands it functions to
// run between two ticks.
type room struct {
	id       int64
	row      store.Session
	session  *session.Session
	recorder *store.Recorder
	meters   *meters
	inbox    chan func()
	stop     chan string
	done     chan struct{}
	paused   bool
	conns    map[int]*conn
	names    map[int]store.Seat
	watchers *watchers
	ended    func(reason string) // called when the contract ends the session; it waits for the room
}

// conn is a client's connection as its room knows it. Messages go out through a bounded queue, so that a slow client holds
// up nobody.
type conn struct {
	client int
	test   bool
	out    chan []byte
	once   sync.Once
	cut    chan struct{} // closed when the client is out
	reason string
	broken bool // it is out for a message that could not be read
}

// end closes the queue; what waits in it is still written.
func (c *conn) end(reason string) {
	c.once.Do(func() {
		c.reason = reason
		close(c.cut)
	})
}

func newRoom(row store.Session, s *session.Session, paused bool, recorder *store.Recorder, m *meters) *room {
	return &room{
		id: row.ID, row: row, session: s, recorder: recorder, meters: m, paused: paused,
		inbox: make(chan func(), inboxSize), stop: make(chan string, 1), done: make(chan struct{}),
		conns: map[int]*conn{}, names: map[int]store.Seat{}, watchers: newWatchers(),
	}
}

// run is the room's goroutine. It ends when stop gives a reason, and has then told everyone.
func (r *room) run() {
	defer close(r.done)
	// A ticker drops ticks that come while the goroutine is busy: a server that stalls skips time and never bursts.
	ticker := time.NewTicker(time.Second / time.Duration(r.session.Contract().TickRate))
	defer ticker.Stop()
	for {
		select {
		case f := <-r.inbox:
			f()
		case <-ticker.C:
			if !r.paused {
				r.tick()
			}
		case reason := <-r.stop:
			for n := range r.conns {
				r.drop(n, "the session closed: "+reason)
			}
			r.watchers.end(reason)
			return
		}
	}
}

// close ends the room and waits until it has ended.
func (r *room) close(reason string) {
	select {
	case r.stop <- reason:
	default: // somebody else is closing it
	}
	<-r.done
}

// do runs f on the room's goroutine and waits for it.
func (r *room) do(ctx context.Context, f func()) error {
	ran := make(chan struct{})
	select {
	case r.inbox <- func() { f(); close(ran) }:
	case <-r.done:
		return errClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-ran:
		return nil
	case <-r.done:
		return errClosed
	}
}

// post runs f on the room's goroutine without waiting for it, but for room in the inbox.
func (r *room) post(f func()) {
	select {
	case r.inbox <- f:
	case <-r.done:
	}
}

func (r *room) tick() {
	began := time.Now()
	step := r.session.Tick()
	for _, cf := range step.Frames {
		c := r.conns[cf.Client]
		if c == nil {
			continue
		}
		if !r.send(c, cf.Frame.AppendJSON(nil)) {
			r.drop(cf.Client, fmt.Sprintf("too slow: %d messages waited for this client", queueSize))
		}
	}
	for _, cut := range step.Cuts {
		r.drop(cut.Client, cut.Reason)
	}
	for _, f := range step.Faults {
		slog.Warn("a handler or timer faulted", "session", r.id, "of", f.Of, "line", f.Line, "fault", f.Reason)
	}
	if len(step.Decisions) > 0 {
		now := time.Now()
		list := make([]store.Decision, len(step.Decisions))
		for i, d := range step.Decisions {
			list[i] = store.Decision{
				Session: r.id, Tick: d.Tick, Client: d.Client.Number, Name: d.Client.Name, Seq: d.Ask.Seq, Request: d.Ask.Request,
				Entity: int64(d.Entity), Args: rawArgs(d.Ask.Args), Outcome: string(d.Outcome), Stage: string(d.Stage),
				Reason: d.Reason, CheckText: d.Text, Line: d.Line, At: now,
			}
			r.meters.decisions.WithLabelValues(string(d.Outcome), string(d.Stage)).Inc()
			if d.Outcome == wire.Faulted {
				slog.Warn("a request faulted", "session", r.id, "client", d.Client.Name, "request", d.Ask.Request, "line", d.Line, "fault", d.Reason)
			}
		}
		r.recorder.Decisions(list)
	}
	r.watchers.tick(r, step)
	if step.Closed != "" {
		go r.ended(step.Closed) // it waits for this goroutine
	}
	for _, l := range step.Logs {
		slog.Info("logged by the contract", "session", r.id, "tick", step.Tick, "words", l.Text)
	}
	r.meters.tick.Observe(time.Since(began).Seconds())
}

func (r *room) send(c *conn, message []byte) bool {
	select {
	case c.out <- message:
		return true
	default:
		return false
	}
}

// join seats a client; its messages then come out of the returned connection.
func (r *room) join(name, role string, test bool) (*conn, error) {
	n, err := r.session.Join(name, role)
	if err != nil {
		return nil, err
	}
	c := &conn{client: n, test: test, out: make(chan []byte, queueSize), cut: make(chan struct{})}
	r.conns[n] = c
	outline := r.session.Contract().Outline()
	clients := r.session.Clients()
	me := clients[len(clients)-1]
	r.send(c, encode(wire.Hello{Type: "hello", Protocol: wire.Protocol, Client: me, Fingerprint: outline.Fingerprint(), Outline: outline}))
	seat := store.Seat{Session: r.id, Client: n, Name: me.Name, Role: me.Role, JoinedAt: time.Now()}
	r.names[n] = seat
	r.recorder.Seat(seat)
	r.meters.clients.Inc()
	return c, nil
}

// drop takes a client's seat and tells it why.
func (r *room) drop(n int, reason string) {
	c := r.conns[n]
	if c == nil {
		return
	}
	delete(r.conns, n)
	r.session.Leave(n)
	c.end(reason)
	seat := r.names[n]
	delete(r.names, n)
	now := time.Now()
	seat.LeftAt, seat.LeftReason = &now, &reason
	r.recorder.Seat(seat)
	r.meters.clients.Dec()
}

// take handles a message of a client. The error says that the message is broken, and cuts it.
func (r *room) take(c *conn, raw []byte) error {
	m, err := wire.ParseFromClient(raw)
	if err != nil {
		r.meters.broken.Inc()
		return err
	}
	var call session.Call
	var move session.Move
	switch m.Type {
	case "ask":
		call = r.session.Read(m.Ask)
	case "press", "release", "write":
		move = r.session.ReadMove(m.Type, m.Move())
	}
	r.post(func() {
		if r.conns[c.client] != c {
			return
		}
		switch m.Type {
		case "ready":
			r.session.Ready(c.client)
		case "seen":
			r.session.Confirm(c.client, m.Seen)
			r.watchers.confirmed(r, c.client)
		case "leave":
			r.drop(c.client, "the client left")
		case "ask":
			r.session.Ask(c.client, call)
		case "press", "release", "write":
			r.session.Move(c.client, move)
		}
	})
	return nil
}

// describe tells of the session as it is now.
func (r *room) describe() client.Session {
	s := sessionOf(r.row)
	s.Open, s.Tick, s.Paused, s.Queued, s.Clients = true, r.session.Now(), r.paused, r.session.Queued(), r.session.Clients()
	return s
}

func sessionOf(row store.Session) client.Session {
	s := client.Session{
		ID: row.ID, Contract: row.Contract, Version: row.Version, OpenedAt: row.OpenedAt, ClosedAt: row.ClosedAt,
		Open: false, Tick: row.LastTick, Clients: []wire.Client{},
	}
	if row.CloseReason != nil {
		s.CloseReason = *row.CloseReason
	}
	return s
}
