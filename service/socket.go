package service

import (
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"

	"kamerad/client"
	"kamerad/core/wire"
)

const (
	messagesPerSecond = 400 // of one client; more wait in its own socket
	writeTimeout      = 15 * time.Second
	goodbye           = 2 * time.Second // for what a client that is out is still told
	// statusBroken closes the connection of a client whose message could not be read.
	statusBroken = 4400
	// statusRefused closes the connection of a client that was not seated and asked to be told so by a message.
	statusRefused = 4403
	// statusOut closes the connection of a client that has lost its seat.
	statusOut = 4410
)

// Frames are written and read by the service itself: what a tick has for a client goes out in one write of bytes that need no other copy,
// and what comes is read where it stands. The library does the handshake.
var upgrader = websocket.Upgrader{
	Subprotocols: []string{wire.Binary, wire.Protocol}, ReadBufferSize: 1024, WriteBufferSize: 256, HandshakeTimeout: 5 * time.Second,
}

// Codes of refusals that are the service's own, beside those of session.RefusalCode.
const (
	codeNoSocket     = "no_socket"      // the request asks for no WebSocket
	codeNoProtocol   = "no_protocol"    // it asks for neither sub-protocol
	codeTokenSpent   = "token_spent"    // no seat waits for the token
	codeOtherOutline = "other_outline"  // the client was made for another outline
	codeNotRunning   = "not_running"    // the session has closed or never was
	codeServiceFails = "service_failed" // the service could not do it
)

// join seats a client over a WebSocket. Nothing happens to the session before it is known that the request is for one, and that no web page
// from elsewhere sent it.
func (v *Service) join(w http.ResponseWriter, r *http.Request) {
	x, c, err := v.seatOver(r)
	if err != nil {
		v.refuse(w, r, err)
		return
	}
	v.sockets.Add(1)
	defer v.sockets.Done()
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		x.post(func() { x.unmade(c) })
		return
	}
	if tcp, ok := socket.NetConn().(*net.TCPConn); ok && v.SendBuffer > 0 {
		_ = tcp.SetWriteBuffer(v.SendBuffer)
	}
	out := newWired(c.box, socket.NetConn(), &x.slow, func(error) {
		go x.post(func() { x.lose(c, "nothing could be written to the client") }) // a writer waits for nobody
	}, v.decided)
	defer out.close()
	out.writers, out.writer = v.writers, v.writers.tie()
	defer v.writers.untie(out.writer)
	x.post(func() {
		if c.wired, x.lineup = out, nil; c.seated {
			c.progress.least = out.prepare()
			if err := x.listen(newHearer(x, c, out)); err != nil {
				x.lose(c, "it cannot be heard: "+err.Error())
			}
		}
	})
	points.helloQueued.Hit()
	out.flush()
	select {
	case <-c.cut:
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

// seatOver takes a seat for who asks for one over a WebSocket.
func (v *Service) seatOver(r *http.Request) (*room, *conn, error) {
	binary := speaks(r, wire.Binary)
	switch {
	case !websocket.IsWebSocketUpgrade(r):
		return nil, nil, &refusal{status: http.StatusUpgradeRequired, code: codeNoSocket, detail: "join: this is where clients open a WebSocket; the request asks for none"}
	case !binary && !speaks(r, wire.Protocol):
		return nil, nil, &refusal{status: http.StatusBadRequest, code: codeNoProtocol, detail: "join: ask for the sub-protocol " + wire.Binary + " or " + wire.Protocol}
	}
	x, err := v.running(r)
	if err != nil {
		return nil, nil, err
	}
	q := r.URL.Query()
	seen, _ := strconv.ParseInt(q.Get("seen"), 10, 64) // nothing, when it is not said
	address, _, _ := net.SplitHostPort(r.RemoteAddr)
	j := joining{name: q.Get("name"), role: q.Get("role"), token: q.Get("token"), fingerprint: q.Get("outline"), seen: seen, json: !binary, address: address}
	c, err := x.enter(r.Context(), j)
	return x, c, err
}

// refuse tells a client that it is not seated: as problem details, or, when it asks for that with refusal=message, by a last message over
// the socket. A program in a browser can read no answer to a handshake but that it failed.
func (v *Service) refuse(w http.ResponseWriter, r *http.Request, err error) {
	if r.URL.Query().Get("refusal") != "message" || !websocket.IsWebSocketUpgrade(r) || !speaks(r, wire.Binary) && !speaks(r, wire.Protocol) {
		send(w, problemOf(err, r))
		return
	}
	p := problemOf(err, r)
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return
	}
	defer socket.Close()
	if p.Code == "" {
		p.Code = codeNotRunning
	}
	_ = socket.SetWriteDeadline(time.Now().Add(goodbye))
	_ = socket.WriteMessage(websocket.TextMessage, encode(wire.Bye{Type: "bye", Reason: p.Error(), Code: p.Code}))
	_ = socket.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(statusRefused, p.Code), time.Now().Add(goodbye))
}

// decided notes how long a request waited until its decision was written.
func (v *Service) decided(took time.Duration) {
	v.meters.decision.Observe(took.Seconds())
	if v.Decided != nil {
		v.Decided(took)
	}
}

// end writes what still waits, a last message and a close frame, for as long as a client that is out is given.
func (w *wired) end(bye []byte, status int, reason string) {
	deadline := time.Now().Add(goodbye)
	if w.conn != nil {
		_ = w.conn.SetDeadline(deadline) // also for who writes now
	}
	if w.writers != nil { // the frames that a writer still has for it come first
		select {
		case <-w.writers.passed(w.writer):
		case <-time.After(goodbye):
		}
	}
	w.box.last(bye, websocket.FormatCloseMessage(status, short(reason)), time.Now())
	for !w.box.empty() && !w.ended.Load() && time.Now().Before(deadline) {
		w.flush()
		if !w.box.empty() {
			time.Sleep(2 * time.Millisecond)
		}
	}
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
			_ = write(encode(client.Watch{Type: "close", Reason: me.why, Clients: []client.WatchClient{}, Decisions: []client.Decision{}, Told: []client.Told{}}))
			_ = socket.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, short(me.why)), time.Now().Add(goodbye))
			select { // the other side answers
			case <-gone:
			case <-time.After(goodbye):
			}
			return
		case <-gone:
			return
		case <-x.halted:
			return
		}
	}
}
