package gateway

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"time"

	"github.com/gorilla/websocket"
	"golang.org/x/time/rate"

	"kamerad.example/core/wire"
	"kamerad.example/service/rawsocket"
)

// logicTimes is how many times as much the logic process of a session may send: it writes what many entities do in each
// tick.
const logicTimes = 32

// maxReadAtOnce is how many messages of one client are read at once; more wait in its own socket.
const maxReadAtOnce = 64

// messagesPerSecond is how many messages of one client are read in a second; more wait in its own socket.
const messagesPerSecond = 400

// Bounds of what a client may send, whatever it is. What is over them waits in the client's own socket.
const (
	controlPerSecond = 20 // frames that carry no whole message: pings, pongs, parts
	controlAtOnce    = 64
	bytesPerSecond   = 128 << 10
	bytesAtOnce      = 256 << 10
	// floodFor is how long a client may send more such frames than it may, without a pause, before it is cut.
	floodFor = 10 * time.Second
)

var errPaused = errors.New("the client has sent more than it may and is read later")

// socketReaders reads all sockets of a session on the runner's goroutine: it asks the system which of them have
// something (epoll), in place of a goroutine for each client. The runner's goroutine owns it.
type socketReaders struct {
	poller  rawsocket.Poller
	byFD    []*messageReader // by the descriptors of their sockets; nil where there is none
	waiting []*messageReader // that were not read to the end
	count   int              // how many are in byFD
}

// messageReader reads the messages of one connection and counts them against what a client may send. The goroutine that
// reads the connection owns it: the runner's, or one of its own for what is no socket of the system's.
type messageReader struct {
	conn         *connection
	socket       *clientSocket
	fd           int // of the socket; its index in socketReaders.byFD
	atOnce       int // how many messages are read of it at once
	frames       frameReader
	messageLimit *rate.Limiter // of its messages
	controlLimit *rate.Limiter // of its frames that carry no whole message
	byteLimit    *rate.Limiter
	// of all clients of its address; nil when that is not counted
	addressMessageLimit, addressByteLimit *rate.Limiter

	uncounted int       // bytes that were read and are not counted against byteLimit yet
	now       time.Time // when what is being read was read
	// when more such frames began to come than it may send; zero when all that came was read since
	floodSince  time.Time
	pausedUntil time.Time // nothing is read before
	isWaiting   bool      // it is in socketReaders.waiting
	isStopped   bool      // it is read no more
	peerClosed  bool      // the other side writes no more: it is read until its end
	drained     bool      // all that had come was read
}

// newMessageReader makes what reads a client's connection. read holds what was read of it before.
// times is how many times as much as a player the client may send.
func newMessageReader(c *connection, out *clientSocket, read []byte, times int) *messageReader {
	l := &messageReader{
		conn:         c,
		socket:       out,
		atOnce:       times * maxReadAtOnce,
		messageLimit: rate.NewLimiter(rate.Limit(times*messagesPerSecond), 2*times*messagesPerSecond),
		controlLimit: rate.NewLimiter(controlPerSecond, controlAtOnce),
		byteLimit:    rate.NewLimiter(rate.Limit(times*bytesPerSecond), times*bytesAtOnce),

		addressMessageLimit: c.from.Messages(),
		addressByteLimit:    c.from.Bytes(),
	}
	l.frames = frameReader{
		conn:    l,
		buf:     read,
		onFrame: l.countFrame,
		onPing: func(data []byte) {
			c.outbox.put(
				func(dst, m []byte) []byte { return appendWebSocket(dst, opPong, m) }, data, 0, time.Now(), time.Time{},
			)
			out.flush()
		},
	}
	return l
}

// countFrame counts a frame against what its client may send; errPaused says that no more is to be read of it before
// l.until.
func (l *messageReader) countFrame(bytes int, message bool) error {
	l.uncounted += bytes + frameCost
	if l.uncounted >= countedAtOnce {
		l.charge(l.byteLimit, l.uncounted)
		if l.addressByteLimit != nil {
			l.charge(l.addressByteLimit, l.uncounted)
		}
		l.uncounted = 0
	}
	if message {
		return nil // pace counts it
	}
	if l.charge(l.controlLimit, 1); !l.now.Before(l.pausedUntil) {
		return nil
	}
	if l.floodSince.IsZero() {
		l.floodSince = l.now
	}
	if l.now.Sub(l.floodSince) > floodFor {
		return errBroken(
			fmt.Sprintf("more than %d frames a second without a message came for %s", controlPerSecond, floodFor),
		)
	}
	return errPaused
}

const (
	// frameCost is what a frame counts beside what it carries: its header, and the work that any frame makes.
	frameCost = 16
	// countedAtOnce is how many bytes are counted in one go: to count each small message would cost as much as to read
	// it.
	countedAtOnce = 4 << 10
)

// charge takes from a limit, and makes the client wait for as long as it is overdrawn.
func (l *messageReader) charge(limit *rate.Limiter, n int) {
	if wait := limit.ReserveN(l.now, n).DelayFrom(l.now); wait > 0 {
		if until := l.now.Add(wait); until.After(l.pausedUntil) {
			l.pausedUntil = until
		}
	}
}

// startReading reads a client from now on, on the runner's goroutine. What is no socket of the system's is read by
// a goroutine of its own.
func (s *Connections) startReading(l *messageReader) error {
	if l.socket.conn != nil {
		go s.readOnGoroutine(l)
		return nil
	}
	e := &s.readers
	fd := l.socket.descriptor()
	if fd < 0 {
		return net.ErrClosed
	}
	for len(e.byFD) <= fd {
		e.byFD = append(e.byFD, nil)
	}
	if old := e.byFD[fd]; old != nil { // its socket is closed
		s.stopReading(old)
	}
	e.byFD[fd] = l
	l.fd = fd
	l.conn.reader = l
	e.count++
	if len(l.frames.buf) > 0 { // of which the system tells nothing
		l.isWaiting = true
		e.waiting = append(e.waiting, l)
	}
	return e.poller.Add(fd)
}

// stopReading reads a client no more.
func (s *Connections) stopReading(l *messageReader) {
	if l == nil || l.isStopped {
		return
	}
	l.isStopped = true
	if l.conn.reader == l {
		l.conn.reader = nil
		s.readers.byFD[l.fd] = nil
		s.readers.count--
	}
}

// readMessages reads what clients have said since it was called last.
func (s *Connections) readMessages() {
	e := &s.readers
	if e.count == 0 {
		return
	}
	now := time.Now()
	waiting := e.waiting
	e.waiting = nil
	for _, l := range waiting {
		l.isWaiting = false
		s.readFrom(l, now)
	}
	e.poller.Poll(func(event rawsocket.Event) {
		if l := e.byFD[event.FD]; l != nil {
			l.peerClosed = l.peerClosed || event.Closed
			s.readFrom(l, now)
		}
	})
}

// readFrom reads what one client has said, or as much as it may say at once.
func (s *Connections) readFrom(l *messageReader, now time.Time) {
	if l.isWaiting || l.isStopped {
		return
	}
	l.drained = false
	for range l.atOnce {
		if now.Before(l.pausedUntil) {
			break
		}
		err := l.next(&s.received, s, now)
		if err == rawsocket.ErrAgain {
			l.floodSince = time.Time{}
			return
		}
		if err == errPaused {
			break
		}
		if err != nil {
			s.readFailed(l, err)
			return
		}
		if s.handle(&s.received); l.isStopped {
			return
		}
		l.countMessage(now)
	}
	l.isWaiting = true
	s.readers.waiting = append(s.readers.waiting, l)
}

// countMessage counts a message; a client that says too much has to wait.
func (l *messageReader) countMessage(now time.Time) {
	if !l.messageLimit.AllowN(now, 1) {
		if until := now.Add(l.messageLimit.ReserveN(now, 1).DelayFrom(now)); until.After(l.pausedUntil) {
			l.pausedUntil = until
		}
	}
	if l.addressMessageLimit != nil {
		l.charge(l.addressMessageLimit, 1)
	}
}

// readOnGoroutine reads one client on a goroutine of its own.
func (s *Connections) readOnGoroutine(l *messageReader) {
	for {
		now := time.Now()
		var m inboundMessage
		err := l.next(&m, s, now)
		if err != nil && err != errPaused {
			s.runner.Post(func() { s.readFailed(l, err) })
			return
		}
		if err == nil {
			if !s.deliver(m) {
				return
			}
			l.countMessage(now)
		}
		if now.Before(l.pausedUntil) {
			select {
			case <-time.After(l.pausedUntil.Sub(now)):
			case <-l.conn.ended:
				return
			}
		}
	}
}

// next reads the next message into m.
func (l *messageReader) next(m *inboundMessage, s *Connections, now time.Time) error {
	l.now = now
	op, raw, err := l.frames.next()
	if err != nil {
		return err
	}
	if op != opText && l.conn.jsonReader != nil {
		return errBroken("the message is binary; " + wire.Protocol + " is text")
	}
	if err := s.readMessage(m, l.conn, raw, now); err != nil {
		return errBroken(err.Error())
	}
	return nil
}

// readFailed ends a connection of which nothing more can be read.
func (s *Connections) readFailed(l *messageReader, err error) {
	c := l.conn
	s.stopReading(l)
	var broken errBroken
	switch {
	case errors.As(err, &broken):
		slog.Info(
			"a client was cut for a broken message", "session", s.runner.ID(), "client", c.client, "tick",
			s.runner.Session().Now(), "error", err,
		)
		c.on(messageBroken)
		s.leave(c, err.Error())
	case websocket.IsCloseError(err, websocket.CloseNormalClosure, websocket.CloseGoingAway):
		s.leave(c, "the client closed the connection")
	default:
		s.lose(c, "the connection was lost")
	}
}

// Read reads what has come, without waiting for more.
func (l *messageReader) Read(to []byte) (int, error) {
	w := l.socket
	if w.conn != nil {
		return w.conn.Read(to)
	}
	if l.drained {
		return 0, rawsocket.ErrAgain
	}
	w.reading.Lock()
	defer w.reading.Unlock()
	if w.outbox.fd < 0 {
		return 0, net.ErrClosed
	}
	n, err := rawsocket.TryRead(w.outbox.fd, to)
	if err == nil {
		l.drained = n < len(to) && !l.peerClosed
	}
	return n, err
}
