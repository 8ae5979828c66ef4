package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/go-chi/chi/v5"
	"golang.org/x/time/rate"

	"kamerad/client"
	"kamerad/core/contract"
	"kamerad/core/wire"
)

const (
	messagesPerSecond = 400 // of one client; more wait in its own socket
	writeTimeout      = 15 * time.Second
	// statusBroken closes the connection of a client whose message could not be read.
	statusBroken = websocket.StatusCode(4400)
	// statusOut closes the connection of a client that has lost its seat.
	statusOut = websocket.StatusCode(4410)
)

type (
	outcome = wire.Outcome
	stage   = wire.Stage
)

// join seats a client over a WebSocket.
func (v *Service) join(w http.ResponseWriter, r *http.Request) {
	x, err := v.running(r)
	var c *conn
	if err == nil {
		var refused error
		q := r.URL.Query()
		j := joining{name: q.Get("name"), role: q.Get("role"), token: q.Get("token"), fingerprint: q.Get("outline"), json: !speaks(r, wire.Binary)}
		err = x.do(r.Context(), func() { c, refused = x.join(j) })
		var other *otherOutline
		if errors.As(refused, &other) {
			err = refused
		} else if refused != nil {
			err = &bad{refused.Error()}
		}
	}
	if err != nil {
		answer(func(*http.Request) (any, error) { return nil, err })(w, r)
		return
	}
	v.sockets.Add(1)
	defer v.sockets.Done()
	socket, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{wire.Binary, wire.Protocol}})
	if err != nil {
		x.post(func() { x.leave(c, "the connection was never made") })
		return
	}
	if p := socket.Subprotocol(); p != wire.Protocol && p != wire.Binary {
		x.post(func() { x.leave(c, "it speaks neither "+wire.Binary+" nor "+wire.Protocol) })
		socket.Close(websocket.StatusProtocolError, "ask for the sub-protocol "+wire.Binary+" or "+wire.Protocol)
		return
	}
	socket.SetReadLimit(wire.MaxMessage)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	// The reader never closes the connection: it has the client dropped, and the writer below says goodbye.
	go func() {
		limit := rate.NewLimiter(messagesPerSecond, 2*messagesPerSecond)
		for {
			kind, raw, err := socket.Read(ctx)
			if err != nil {
				switch status := websocket.CloseStatus(err); {
				case status == websocket.StatusNormalClosure || status == websocket.StatusGoingAway:
					x.post(func() { x.leave(c, "the client closed the connection") })
				case errors.Is(err, websocket.ErrMessageTooBig):
					x.post(func() { x.leave(c, fmt.Sprintf("a message was longer than %d bytes", wire.MaxMessage)) })
				default:
					x.post(func() { x.lose(c, "the connection was lost") })
				}
				return
			}
			if kind != websocket.MessageText && c.json != nil {
				err = fmt.Errorf("the message is binary; %s is text", wire.Protocol)
			} else {
				err = x.take(c, raw)
			}
			if err != nil {
				slog.Info("a client was cut for a broken message", "session", x.id, "client", c.client, "error", err)
				x.post(func() {
					c.broken = true
					x.leave(c, err.Error())
				})
				return
			}
			if limit.Wait(ctx) != nil {
				return
			}
		}
	}()
	write := func(message []byte) bool {
		ctx, cancel := context.WithTimeout(ctx, writeTimeout)
		defer cancel()
		return socket.Write(ctx, kindOf(message), message) == nil
	}
	for {
		select {
		case message := <-c.out:
			if !write(message) {
				x.post(func() { x.lose(c, "nothing could be written to the client") })
				socket.CloseNow()
				return
			}
		case <-c.cut:
			for len(c.out) > 0 {
				if !write(<-c.out) {
					break
				}
			}
			write(encode(wire.Bye{Type: "bye", Reason: c.reason}))
			status := statusOut
			if c.broken {
				status = statusBroken
			}
			socket.Close(status, short(c.reason))
			return
		}
	}
}

// outline gives what clients of a session are given of its contract.
func (v *Service) outline(r *http.Request) (*contract.Outline, error) {
	x, err := v.running(r)
	if err != nil {
		return nil, err
	}
	return x.outline, nil
}

// kindOf tells how a message travels: what is JSON as text.
func kindOf(message []byte) websocket.MessageType {
	if len(message) > 0 && message[0] == '{' {
		return websocket.MessageText
	}
	return websocket.MessageBinary
}

// speaks tells whether a handshake asks for a sub-protocol.
func speaks(r *http.Request, protocol string) bool {
	for _, list := range r.Header.Values("Sec-WebSocket-Protocol") {
		for p := range strings.SplitSeq(list, ",") {
			if strings.TrimSpace(p) == protocol {
				return true
			}
		}
	}
	return false
}

// short cuts a reason to what a close frame may hold.
func short(reason string) string {
	if len(reason) > 120 {
		return reason[:117] + "..."
	}
	return reason
}

// watch lets somebody look at a session from outside.
func (v *Service) watch(w http.ResponseWriter, r *http.Request) {
	x, err := v.running(r)
	var me *watcher
	if err == nil {
		room := false
		err = x.do(r.Context(), func() { me, room = x.watchers.add(x) })
		if err == nil && !room {
			err = &bad{fmt.Sprintf("%d watch this session already", maxWatchers)}
		}
	}
	if err != nil {
		answer(func(*http.Request) (any, error) { return nil, err })(w, r)
		return
	}
	v.sockets.Add(1)
	defer v.sockets.Done()
	defer x.post(func() { x.watchers.remove(me, "") })
	socket, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{client.WatchProtocol}})
	if err != nil {
		return
	}
	defer socket.CloseNow()
	ctx := socket.CloseRead(context.Background())
	for {
		select {
		case message := <-me.out:
			timed, cancel := context.WithTimeout(ctx, writeTimeout)
			err := socket.Write(timed, websocket.MessageText, message)
			cancel()
			if err != nil {
				return
			}
		case <-me.end:
			for len(me.out) > 0 {
				_ = socket.Write(ctx, websocket.MessageText, <-me.out)
			}
			_ = socket.Write(ctx, websocket.MessageText, encode(client.Watch{Type: "close", Reason: me.why, Clients: []client.WatchClient{}, Decisions: []client.Decision{}, Told: []client.Told{}}))
			socket.Close(websocket.StatusNormalClosure, short(me.why))
			return
		case <-ctx.Done():
			return
		}
	}
}

// pipe is the Transport of a test client: one that was opened through the API and runs inside the service, a real client on
// a pipe instead of a socket.
type pipe struct {
	room *room
	conn *conn
}

func (p *pipe) Read(ctx context.Context) ([]byte, error) {
	select {
	case m := <-p.conn.out:
		return m, nil
	default:
	}
	select {
	case m := <-p.conn.out:
		return m, nil
	case <-p.conn.cut:
		return nil, errors.New(p.conn.reason)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (p *pipe) Write(_ context.Context, message []byte) error {
	err := p.room.take(p.conn, message)
	if err != nil {
		p.room.post(func() { p.room.drop(p.conn.client, err.Error()) })
	}
	return err
}

func (p *pipe) Close(reason string) {
	p.room.post(func() { p.room.drop(p.conn.client, reason) })
}

func (v *Service) openTestClient(r *http.Request) (wire.Client, error) {
	x, err := v.running(r)
	if err != nil {
		return wire.Client{}, err
	}
	var in struct{ Name, Role string }
	if err := read(r, &in); err != nil {
		return wire.Client{}, err
	}
	test, err := x.seat(r.Context(), joining{name: in.Name, role: in.Role, test: true}, client.Options{})
	if err != nil {
		return wire.Client{}, err
	}
	n := test.Me().Number
	v.mu.Lock()
	v.tests[seatKey{x.id, n}] = test
	v.mu.Unlock()
	go func() {
		<-test.Ended()
		v.mu.Lock()
		delete(v.tests, seatKey{x.id, n})
		v.mu.Unlock()
	}()
	return test.Me(), nil
}

// Host seats a client of a session within this process: the player at whose machine the service runs. It is a client like any other,
// on a pipe instead of a socket.
func (v *Service) Host(ctx context.Context, session int64, name, role string, o client.Options) (*client.Client, error) {
	x := v.room(session)
	if x == nil {
		return nil, fmt.Errorf("host session %d: it does not run", session)
	}
	c, err := x.seat(ctx, joining{name: name, role: role, json: o.JSON}, o)
	if err != nil {
		return nil, fmt.Errorf("host session %d as %s: %w", session, name, err)
	}
	return c, nil
}

// seat joins a client that runs within the service.
func (r *room) seat(ctx context.Context, j joining, o client.Options) (*client.Client, error) {
	var c *conn
	var refused error
	if err := r.do(ctx, func() { c, refused = r.join(j) }); err != nil {
		return nil, err
	}
	if refused != nil {
		return nil, &bad{refused.Error()}
	}
	return client.New(ctx, &pipe{r, c}, o)
}

type seatKey struct {
	session int64
	client  int
}

// testClient finds the test client of a call.
func (v *Service) testClient(r *http.Request) (*client.Client, error) {
	x, err := v.running(r)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(chi.URLParam(r, "client"))
	v.mu.Lock()
	defer v.mu.Unlock()
	if test := v.tests[seatKey{x.id, n}]; test != nil && err == nil {
		return test, nil
	}
	no := &refusal{status: http.StatusNotFound, detail: fmt.Sprintf("session %d has no test client %.20s; other clients ask for themselves", x.id, chi.URLParam(r, "client"))}
	for k, test := range v.tests {
		if k.session == x.id && len(no.known) < 20 {
			no.known = append(no.known, fmt.Sprintf("%d (%s)", k.client, test.Me().Name))
		}
	}
	return nil, no
}

func (v *Service) askAsTestClient(r *http.Request) (wire.Decision, error) {
	test, err := v.testClient(r)
	if err != nil {
		return wire.Decision{}, err
	}
	var in struct {
		Entity  uint32
		Request string
		Args    []json.RawMessage
	}
	if err := read(r, &in); err != nil {
		return wire.Decision{}, err
	}
	ctx, cancel := context.WithTimeout(r.Context(), 10*time.Second)
	defer cancel()
	d, err := test.Forge(ctx, in.Entity, in.Request, in.Args...)
	if errors.Is(err, client.ErrEnded) || errors.Is(err, context.DeadlineExceeded) {
		return d, &refusal{status: http.StatusConflict, detail: err.Error()}
	}
	return d, err
}

func (v *Service) closeTestClient(r *http.Request) (wire.Client, error) {
	test, err := v.testClient(r)
	if err != nil {
		return wire.Client{}, err
	}
	test.Close()
	return test.Me(), nil
}

// seatRow is who took part.
type seatRow struct {
	wire.Client
	JoinedAt   time.Time  `json:"joined_at"`
	LeftAt     *time.Time `json:"left_at,omitempty"`
	LeftReason string     `json:"left_reason,omitempty"`
}

func (v *Service) seats(r *http.Request) ([]seatRow, error) {
	s, err := v.session(r)
	if err != nil {
		return nil, err
	}
	list, err := v.store.Seats(r.Context(), s.ID)
	out := []seatRow{}
	for _, x := range list {
		row := seatRow{Client: wire.Client{Number: x.Client, Name: x.Name, Role: x.Role}, JoinedAt: x.JoinedAt, LeftAt: x.LeftAt}
		if x.LeftReason != nil {
			row.LeftReason = *x.LeftReason
		}
		out = append(out, row)
	}
	return out, err
}
