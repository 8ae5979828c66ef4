package service

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/client"
	"kamerad.example/core/wire"
)

const (
	messagesPerSecond = 400 // of one client; more wait in its own socket
	writeTimeout      = 15 * time.Second
	goodbyeWithin     = 2 * time.Second // for what a client that is out is still told
	// statusBroken closes the connection of a client whose message could not be read.
	statusBroken = 4400
	// statusRefused closes the connection of a client that was not seated.
	statusRefused = 4403
	// statusOut closes the connection of a client that has lost its seat.
	statusOut = 4410
)

// Frames are written and read by the service itself: what a tick has for a client goes out in one write of bytes that
// need no other copy, and what comes is read where it stands. The library does the handshake.
var upgrader = websocket.Upgrader{
	Subprotocols:     []string{wire.Binary, wire.Protocol},
	ReadBufferSize:   1024,
	WriteBufferSize:  256,
	HandshakeTimeout: 5 * time.Second,
}

// Codes of refusals that are the service's own, beside those of session.RefusalCode.
const (
	codeNoSocket     = "no_socket"      // the request asks for no WebSocket
	codeNoProtocol   = "no_protocol"    // it asks for neither sub-protocol
	codeTokenSpent   = "token_spent"    // no seat waits for the token
	codeOtherOutline = "other_outline"  // the client was made for another outline
	codeNotRunning   = "not_running"    // the session has closed or never was
	codeBusy         = "busy"           // the session has not come to it in time
	codeNoJoin       = "no_join"        // the first message did not come, or is no `join`
	codeServiceFails = "service_failed" // the service could not do it
)

// join seats a client over a WebSocket. Nothing happens to the session before the client's first message has come; a
// web page from elsewhere does not get so far.
func (v *Service) join(w http.ResponseWriter, r *http.Request) {
	switch {
	case !websocket.IsWebSocketUpgrade(r):
		send(
			w,
			&client.Problem{
				Status: http.StatusUpgradeRequired,
				Code:   codeNoSocket,
				Detail: "join: this is where clients open a WebSocket; the request asks for none",
			},
		)
		return
	case !speaks(r, upgrader.Subprotocols):
		send(w, &client.Problem{
			Status: http.StatusBadRequest,
			Code:   codeNoProtocol,
			Detail: "join: ask for one of the sub-protocols " + strings.Join(upgrader.Subprotocols, ", "),
			Known:  upgrader.Subprotocols,
		})
		return
	}
	v.sockets.Add(1)
	defer v.sockets.Done()
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return
	}
	x, c, read, err := v.greet(socket, r)
	if err != nil {
		refuse(socket.NetConn(), r, err)
		return
	}
	if tcp, ok := socket.NetConn().(*net.TCPConn); ok && v.SendBuffer > 0 {
		_ = tcp.SetWriteBuffer(v.SendBuffer)
	}
	out := newClientSocket(c.outbox, socket.NetConn(), &x.slowSockets, func(error) {
		go x.post(func() { x.loseConnection(c, "nothing could be written to the client") }) // a writer waits for nobody
	}, v.decided)
	defer out.close()
	out.writers, out.writer = v.writers, v.writers.assign()
	defer v.writers.release(out.writer)
	x.post(func() {
		c.socket = out
		x.slots = nil
		if c.seated {
			c.progress.minRoundTrip = out.prepare()
			if err := x.startReading(newMessageReader(c, out, read)); err != nil {
				x.loseConnection(c, "it cannot be heard: "+err.Error())
			}
		}
	})
	failpoints.helloQueued.Hit()
	out.flush()
	select {
	case <-c.ended:
	case <-x.done: // it ended without a word to this client
		c.end("the session closed")
	case <-x.halted:
		c.end("the session closed: the service is stopping")
	}
	if c.silent {
		return
	}
	status := statusOut
	if c.broken {
		status = statusBroken
	}
	out.end(encode(wire.Bye{Type: "bye", Reason: c.reason}), status, c.reason)
}

// greetWithin is how long a client may take for its first message.
const greetWithin = 5 * time.Second

// greet reads the first message of a new connection and takes the seat that it asks for. read holds what came after
// that message.
func (v *Service) greet(socket *websocket.Conn, r *http.Request) (x *runner, c *connection, read []byte, err error) {
	x, err = v.running(r)
	if err != nil {
		return nil, nil, nil, err
	}
	conn := socket.NetConn()
	v.greeting.add(conn)
	defer v.greeting.remove(conn)
	join, read, err := firstMessage(conn)
	if err != nil {
		v.meters.broken.Inc()
		return nil, nil, nil, &refusal{code: codeNoJoin, detail: "join: " + err.Error()}
	}
	address, _, _ := net.SplitHostPort(r.RemoteAddr)
	c, err = x.takeSeat(
		r.Context(), joinRequest{Join: join, json: socket.Subprotocol() == wire.Protocol, address: address},
	)
	return x, c, read, err
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
	if join.Ticket != "" {
		return join, nil, errors.New("this service takes no tickets: leave `ticket` out")
	}
	return join, slices.Clone(in.buf[in.at:]), conn.SetReadDeadline(time.Time{})
}

// refuse tells a client that it is not seated, and why, by a last message.
func refuse(conn net.Conn, r *http.Request, err error) {
	defer conn.Close()
	p := problemOf(err, r)
	if p.Code == "" {
		p.Code = codeNotRunning
	}
	status := statusRefused
	if p.Code == codeNoJoin {
		status = statusBroken
	}
	_ = conn.SetWriteDeadline(time.Now().Add(goodbyeWithin))
	out := appendWebSocket(nil, opText, encode(wire.Bye{Type: "bye", Reason: p.Error(), Code: p.Code}))
	_, _ = conn.Write(appendWebSocket(out, opClose, websocket.FormatCloseMessage(status, p.Code)))
	// A connection that is closed with something unread is reset, and what was written is lost.
	_ = conn.SetReadDeadline(time.Now().Add(goodbyeWithin))
	_, _ = io.Copy(io.Discard, io.LimitReader(conn, 4*wire.MaxMessage))
}

// decided notes how long a request waited until its decision was written.
func (v *Service) decided(took time.Duration) {
	v.meters.decision.Observe(took.Seconds())
	if v.Decided != nil {
		v.Decided(took)
	}
}

// end writes what still waits, a last message and a close frame, for as long as a client that is out is given.
func (w *clientSocket) end(bye []byte, status int, reason string) {
	deadline := time.Now().Add(goodbyeWithin)
	if w.conn != nil {
		_ = w.conn.SetDeadline(deadline) // also for who writes now
	}
	if w.writers != nil { // the frames that a writer still has for it come first
		select {
		case <-w.writers.barrier(w.writer):
		case <-time.After(goodbyeWithin):
		}
	}
	w.outbox.last(bye, websocket.FormatCloseMessage(status, short(reason)), time.Now())
	for !w.outbox.empty() && !w.ended.Load() && time.Now().Before(deadline) {
		w.flush()
		if !w.outbox.empty() {
			time.Sleep(2 * time.Millisecond)
		}
	}
}

// speaks reports whether a handshake asks for one of some sub-protocols.
func speaks(r *http.Request, protocols []string) bool {
	return slices.ContainsFunc(websocket.Subprotocols(r), func(p string) bool { return slices.Contains(protocols, p) })
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
		var refused error
		if err = x.do(r.Context(), func() { me, refused = x.watchers.add(x) }); err == nil {
			err = refused
		}
	}
	if err != nil {
		send(w, problemOf(err, r))
		return
	}
	v.sockets.Add(1)
	defer v.sockets.Done()
	defer x.post(func() { x.watchers.remove(me, "") })
	up := upgrader
	up.Subprotocols = []string{client.WatchProtocol}
	socket, err := up.Upgrade(w, r, nil)
	if err != nil {
		return
	}
	defer socket.Close()
	gone := make(chan struct{})
	go func() { // a watcher says nothing; reading tells when it is gone
		defer close(gone)
		socket.SetReadLimit(wire.MaxMessage)
		for {
			if _, _, err := socket.NextReader(); err != nil {
				return
			}
		}
	}()
	write := func(message []byte) error {
		_ = socket.SetWriteDeadline(time.Now().Add(writeTimeout))
		return socket.WriteMessage(websocket.TextMessage, message)
	}
	for {
		select {
		case message := <-me.out:
			if write(message) != nil {
				return
			}
		case <-me.end:
			for len(me.out) > 0 {
				_ = write(<-me.out)
			}
			_ = write(encode(client.Watch{
				Type:      "close",
				Reason:    me.why,
				Clients:   []client.WatchClient{},
				Decisions: []client.Decision{},
				Told:      []client.Told{},
			}))
			_ = socket.WriteControl(
				websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, short(me.why)),
				time.Now().Add(goodbyeWithin),
			)
			select { // the other side answers
			case <-gone:
			case <-time.After(goodbyeWithin):
			}
			return
		case <-gone:
			return
		case <-x.halted:
			return
		}
	}
}
