// Package gateway has the connections of clients: WebSockets with their handshake, framing, reading and writing, and
// the simulated links of clients within the service. What a client says it hands to a runner; it decides nothing of a
// session and knows no other route of the API.
//
// # How it works
//
// Join answers a handshake (gateway.go). A connection that has not said who it is waits in Idle, which many of them
// cannot fill; once its first message has come, its socket is handed to the Connections of the session, which its
// runner's goroutine owns.
//
// That goroutine reads all sockets of its session between two ticks (readers.go), by way of package rawsocket where the
// system allows it, unframes messages in place (framing.go), and counts them against what a client may send. Frames go
// into the outbox of each client (outbox.go) and are written by a few goroutines (writers.go); a client belongs to one
// of them as long as it is connected, so that its frames keep their order. One that takes less than it is sent is
// behind (progress.go), and gets a snapshot later instead of all that it missed.
//
// pipe.go connects clients within the service, such as test clients, over a link that is as bad as one likes. watch.go
// serves those who watch a session.
//
// A Gateway is made by New, connects a runner by Connect, and is stopped by Stop. It keeps nothing of a session that
// has ended.
package gateway

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gorilla/websocket"
	"github.com/prometheus/client_golang/prometheus"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/core/wire"
	"kamerad.example/service/door"
	"kamerad.example/service/problems"
	"kamerad.example/service/runner"
)

const (
	writeTimeout  = 15 * time.Second
	goodbyeWithin = 2 * time.Second // for what a client that is out is still told
	// StatusBroken closes the connection of a client whose message could not be read.
	StatusBroken = 4400
	// StatusRefused closes the connection of a client that was not seated.
	StatusRefused = 4403
	// StatusOut closes the connection of a client that has lost its seat.
	StatusOut = 4410
)

// Gateway connects clients with the sessions that they play: it does handshakes, reads and writes their sockets, and
// has the links of clients within the service.
type Gateway struct {
	meters   *meters
	writers  *writers
	greeting *Idle // connections whose first message has not come
	sockets  sync.WaitGroup
	haltOnce sync.Once
	halted   chan struct{} // closed when connections end without their sessions

	// Door says who may join; it has to be set before a client does.
	Door *door.Door
	// SendBuffer is what the system keeps of what was written to a client, in bytes; 0 leaves that to the system.
	SendBuffer int

	// Decided, when it is set before a client joins, is called with the time from reading a request to having written
	// its decision, of the one that waited longest for a write.
	Decided func(took time.Duration)
}

// New makes a gateway and registers what it measures.
func New(registry prometheus.Registerer) *Gateway {
	g := &Gateway{
		writers:  newWriters(),
		greeting: NewIdle(),
		halted:   make(chan struct{}),
	}
	g.meters = newMeters(registry, &g.writers.misordered)
	return g
}

// Halt ends the connections of sessions that cannot do it themselves.
func (g *Gateway) Halt() {
	g.haltOnce.Do(func() { close(g.halted) })
	g.greeting.close()
}

// Wait waits until all connections have ended. They end with their sessions, or with Halt.
func (g *Gateway) Wait() { g.sockets.Wait() }

// Stop ends the writers, once they have written what they were handed.
func (g *Gateway) Stop() { g.writers.stop() }

// meters are what a gateway measures.
type meters struct {
	joins    *prometheus.CounterVec
	sent     prometheus.Counter
	received prometheus.Counter
	broken   prometheus.Counter
	behind   prometheus.Counter
	decision prometheus.Histogram
}

// newMeters registers what a gateway measures.
func newMeters(registry prometheus.Registerer, misordered *atomic.Int64) *meters {
	m := &meters{
		joins: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "kamerad_joins_total",
				Help: "Clients that asked for a seat over a socket, by what came of it: seated, back or the code " +
					"of a refusal.",
			},
			[]string{"result"},
		),
		sent: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "kamerad_frame_bytes_total",
				Help: "Bytes of frames that were made for clients, before TLS.",
			},
		),
		received: prometheus.NewCounter(
			prometheus.CounterOpts{Name: "kamerad_messages_total", Help: "Messages of clients that were read."},
		),
		broken: prometheus.NewCounter(
			prometheus.CounterOpts{
				Name: "kamerad_broken_messages_total",
				Help: "Messages of clients that could not be read; their connections were cut.",
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
	}
	registry.MustRegister(m.joins, m.sent, m.received, m.broken, m.behind, m.decision, prometheus.NewCounterFunc(
		prometheus.CounterOpts{
			Name: "kamerad_misordered_frames_total",
			Help: "Frames that were refused since their client had a newer one. There must be none.",
		},
		func() float64 { return float64(misordered.Load()) },
	))
	return m
}

// Frames are written and read by the service itself: what a tick has for a client goes out in one write of bytes that
// need no other copy, and what comes is read where it stands. The library does the handshake.
var upgrader = websocket.Upgrader{
	Subprotocols:     []string{wire.Binary, wire.Protocol},
	ReadBufferSize:   1024,
	WriteBufferSize:  256,
	HandshakeTimeout: 5 * time.Second,
	// Pages that may not are turned away before: package httpapi knows which may.
	CheckOrigin: func(*http.Request) bool { return true },
}

// Find returns the connections of the session that a call is about.
type Find func(*http.Request) (*Connections, error)

// From returns what has come from the address of a call; nil when that is not counted.
type From func(*http.Request) *door.Address

// Join returns the handler that seats a client over a WebSocket. Nothing happens to the session before the client's
// first message has come; a web page from elsewhere does not get so far.
func (g *Gateway) Join(find Find, from From) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !websocket.IsWebSocketUpgrade(r):
			problems.Send(w, &api.Problem{
				Status: http.StatusUpgradeRequired,
				Code:   api.CodeNoSocket,
				Detail: "join: this is where clients open a WebSocket; the request asks for none",
			})
			return
		case !speaks(r, upgrader.Subprotocols):
			problems.Send(w, &api.Problem{
				Status: http.StatusBadRequest,
				Code:   api.CodeNoProtocol,
				Detail: "join: ask for one of the sub-protocols " + strings.Join(upgrader.Subprotocols, ", "),
				Known:  upgrader.Subprotocols,
			})
			return
		}
		g.sockets.Add(1)
		defer g.sockets.Done()
		socket, err := upgrader.Upgrade(w, r, nil)
		if err != nil {
			return
		}
		s, c, read, err := g.greet(socket, r, find, from(r))
		if err != nil {
			g.meters.joins.WithLabelValues(refuse(socket.NetConn(), r, err)).Inc()
			return
		}
		g.serve(s, c, socket.NetConn(), read)
	}
}

// serve writes to and reads from a client that was seated, until it is out. read holds what was read of it before.
func (g *Gateway) serve(s *Connections, c *connection, conn net.Conn, read []byte) {
	if tcp, ok := conn.(*net.TCPConn); ok && g.SendBuffer > 0 {
		_ = tcp.SetWriteBuffer(g.SendBuffer)
	}
	failed := func(error) { // a writer waits for nobody
		go s.runner.Post(func() { s.lose(c, "nothing could be written to the client") })
	}
	out := newClientSocket(c.outbox, conn, &s.slowSockets, failed, g.decided)
	defer out.close()
	out.writers = g.writers
	out.writer = g.writers.assign()
	defer g.writers.release(out.writer)
	s.runner.Post(func() { s.start(c, out, read) })
	Failpoints.HelloQueued.Hit()
	out.flush()
	select {
	case <-c.ended:
	case <-s.runner.Done(): // it ended without a word to this client
		c.end("the session closed")
	case <-g.halted:
		c.end("the session closed: the service is stopping")
	}
	status := StatusOut
	switch c.is() {
	case connectionReplaced:
		return
	case connectionBroken:
		status = StatusBroken
	}
	bye := wire.Bye{Type: wire.MessageBye, Reason: c.reason}
	if c.farewell != nil {
		bye = c.farewell()
	}
	out.end(api.Encode(bye), status, c.reason)
}

// start begins to read and write a connection. It is called on the runner's goroutine.
func (s *Connections) start(c *connection, out *clientSocket, read []byte) {
	c.socket = out
	s.slots = nil
	if !c.is().seated() {
		return
	}
	c.progress.minRoundTrip = out.prepare()
	times := 1
	if s.runner.Session().IsLogic(c.client) {
		times = logicTimes
	}
	if err := s.startReading(newMessageReader(c, out, read, times)); err != nil {
		s.lose(c, "it cannot be heard: "+err.Error())
	}
}

// greetWithin is how long a client may take for its first message.
const greetWithin = 5 * time.Second

// greet reads the first message of a new connection and takes the seat that it asks for. read holds what came after
// that message.
func (g *Gateway) greet(
	socket *websocket.Conn, r *http.Request, find Find, from *door.Address,
) (s *Connections, c *connection, read []byte, err error) {
	s, err = find(r)
	if err != nil {
		return nil, nil, nil, err
	}
	conn := socket.NetConn()
	g.greeting.add(conn)
	defer g.greeting.remove(conn)
	join, read, err := firstMessage(conn)
	if err != nil {
		g.meters.broken.Inc()
		return nil, nil, nil, &problems.Refusal{Code: api.CodeNoJoin, Detail: "join: " + err.Error()}
	}
	address, _, _ := net.SplitHostPort(r.RemoteAddr)
	c, err = g.admit(r.Context(), s, seatRequest{
		SeatRequest: runner.SeatRequest{Join: join, Address: address},
		json:        socket.Subprotocol() == wire.Protocol,
		from:        from,
	})
	return s, c, read, err
}

// admit seats a client that the door lets in. Whoever has the token of a seat has been let in before.
func (g *Gateway) admit(ctx context.Context, s *Connections, j seatRequest) (*connection, error) {
	if j.Token != "" {
		c, err := s.takeSeat(ctx, j)
		if err == nil {
			g.meters.joins.WithLabelValues("back").Inc()
		}
		return c, err
	}
	if !j.from.MayTry() {
		return nil, &problems.Refusal{
			Code:   api.CodeTooMany,
			Detail: "join: too many wrong tickets have come from your address; try again in a moment",
		}
	}
	entry, err := g.Door.Admit(ctx, door.Session{ID: s.runner.ID(), Contract: s.runner.Session().Contract()}, j.Join)
	if err != nil {
		var ticket *auth.TicketError
		if errors.As(err, &ticket) {
			j.from.Failed()
		}
		return nil, refusedAtDoor(err)
	}
	j.Player = entry.Player
	j.Name = entry.Name
	j.Role = entry.Role
	c, err := s.takeSeat(ctx, j)
	if err != nil {
		g.Door.Return(entry)
		return nil, err
	}
	g.meters.joins.WithLabelValues("seated").Inc()
	return c, nil
}

// refusedAtDoor returns what a client is told that the door does not let in.
func refusedAtDoor(err error) error {
	var ticket *auth.TicketError
	var banned *door.BannedError
	switch {
	case errors.As(err, &ticket):
		return &problems.Refusal{Code: string(ticket.Fault), Detail: ticket.Detail}
	case errors.As(err, &banned):
		return &problems.Refusal{Code: api.CodeBanned, Detail: banned.Error()}
	case errors.Is(err, door.ErrAway):
		return &problems.Refusal{Code: api.CodeBusy, Detail: err.Error()}
	}
	return err
}

// firstMessage reads the message by which a client asks for a seat. rest holds what came after it.
func firstMessage(conn net.Conn) (join wire.Join, rest []byte, err error) {
	if err := conn.SetReadDeadline(time.Now().Add(greetWithin)); err != nil {
		return join, nil, err
	}
	frames := 0
	in := frameReader{
		conn:       conn,
		maxMessage: wire.MaxJoin,
		onPing:     func([]byte) {},
		onFrame: func(int, bool) error {
			frames++
			if frames > controlAtOnce {
				return errBroken(fmt.Sprintf("more than %d frames came before the first message", controlAtOnce))
			}
			return nil
		},
	}
	op, raw, err := in.next()
	var late net.Error
	switch {
	case errors.As(err, &late) && late.Timeout():
		return join, nil, fmt.Errorf("the first message did not come within %s", greetWithin)
	case err != nil:
		return join, nil, err
	case op != opText:
		return join, nil, errors.New("the first message is binary; it has to be a text message, of JSON")
	}
	join, err = wire.ParseJoin(raw)
	if err != nil {
		return join, nil, err
	}
	return join, slices.Clone(in.buf[in.at:]), conn.SetReadDeadline(time.Time{})
}

// refuse tells a client that it is not seated, and why, by a last message. It returns the code.
func refuse(conn net.Conn, r *http.Request, err error) (code string) {
	defer conn.Close()
	p := problems.Of(err, r)
	if p.Code == "" {
		p.Code = api.CodeNotRunning
	}
	status := StatusRefused
	if p.Code == api.CodeNoJoin {
		status = StatusBroken
	}
	_ = conn.SetWriteDeadline(time.Now().Add(goodbyeWithin))
	out := appendWebSocket(nil, opText, api.Encode(wire.Bye{Type: wire.MessageBye, Reason: p.Error(), Code: p.Code}))
	_, _ = conn.Write(appendWebSocket(out, opClose, websocket.FormatCloseMessage(status, p.Code)))
	// A connection that is closed with something unread is reset, and what was written is lost.
	_ = conn.SetReadDeadline(time.Now().Add(goodbyeWithin))
	_, _ = io.Copy(io.Discard, io.LimitReader(conn, 4*wire.MaxMessage))
	return p.Code
}

// decided notes how long a request waited until its decision was written.
func (g *Gateway) decided(took time.Duration) {
	g.meters.decision.Observe(took.Seconds())
	if g.Decided != nil {
		g.Decided(took)
	}
}

// speaks reports whether a handshake asks for one of some sub-protocols.
func speaks(r *http.Request, protocols []string) bool {
	return slices.ContainsFunc(websocket.Subprotocols(r), func(p string) bool { return slices.Contains(protocols, p) })
}
