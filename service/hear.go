package service

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

const (
	// hearEvery is how often a room listens, at least: with its ticks, and between them when they are rare. To read
	// what all clients have said together costs a fraction of waking up for each, and what they say waits for a tick
	// anyway.
	hearEvery = 50 * time.Millisecond
	// maxHeard is how many messages of one client are read at once; more wait in its own socket.
	maxHeard = 64
)

// Bounds of what a client may send, whatever it is. What is over them waits in the client's own socket.
const (
	controlPerSecond = 20 // frames that carry no whole message: pings, pongs, parts
	controlAtOnce    = 64
	bytesPerSecond   = 128 << 10
	bytesAtOnce      = 256 << 10
	// floods is how long a client may send more such frames than it may, without a pause, before it is cut.
	floods = 10 * time.Second
)

var errPaused = errors.New("the client has sent more than it may and is read later")

// hearing is how a room hears what its clients say: its goroutine asks the system which sockets have something (epoll),
// in place of a goroutine for each client.
type hearing struct {
	poller  rawsocket.Poller
	heard   []*hearer // by the numbers of their sockets
	waiting []*hearer // that were not read to the end
	count   int
}

// hearer is a client's connection as it is read.
type hearer struct {
	conn  *conn
	out   *wired
	fd    int // the number by which it is heard
	in    reader
	limit *rate.Limiter // of its messages
	frees *rate.Limiter // of its frames that carry no whole message
	bytes *rate.Limiter
	read  int       // bytes that were read and are not counted yet
	now   time.Time // of what is read now
	// since when it has sent more frames without a message than it may; zero when all that came was read since
	flood time.Time
	until time.Time // nothing is read before
	waits bool      // it is among those that wait
	gone  bool
	ended bool // the other side writes no more: it is read until its end
	spent bool // all that had come was read
}

// newHearer makes what reads a client's connection. read holds what was read of it before.
func newHearer(c *conn, out *wired, read []byte) *hearer {
	l := &hearer{
		conn:  c,
		out:   out,
		limit: rate.NewLimiter(messagesPerSecond, 2*messagesPerSecond),
		frees: rate.NewLimiter(controlPerSecond, controlAtOnce),
		bytes: rate.NewLimiter(bytesPerSecond, bytesAtOnce),
	}
	l.in = reader{
		conn: l,
		buf:  read,
		took: l.took,
		ping: func(data []byte) {
			c.box.put(
				func(dst, m []byte) []byte { return appendWebSocket(dst, opPong, m) }, data, 0, time.Now(), time.Time{},
			)
			out.flush()
		},
	}
	return l
}

// took counts a frame against what its client may send; errPaused says that no more is to be read of it before l.until.
func (l *hearer) took(bytes int, message bool) error {
	l.read += bytes + frameCost
	if l.read >= countedAtOnce {
		l.charge(l.bytes, l.read)
		l.read = 0
	}
	if message {
		return nil // pace counts it
	}
	if l.charge(l.frees, 1); !l.now.Before(l.until) {
		return nil
	}
	if l.flood.IsZero() {
		l.flood = l.now
	}
	if l.now.Sub(l.flood) > floods {
		return errBroken(
			fmt.Sprintf("more than %d frames a second without a message came for %s", controlPerSecond, floods),
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

// charge takes from a limit, and has the client wait for as long as it is overdrawn.
func (l *hearer) charge(limit *rate.Limiter, n int) {
	if wait := limit.ReserveN(l.now, n).DelayFrom(l.now); wait > 0 {
		if until := l.now.Add(wait); until.After(l.until) {
			l.until = until
		}
	}
}

// listen has a client heard from now on, on the room's goroutine. What is no socket of the system's is read by a
// goroutine of its own.
func (r *room) listen(l *hearer) error {
	if l.out.conn != nil {
		go r.wait(l)
		return nil
	}
	e := &r.ears
	fd := l.out.number()
	if fd < 0 {
		return net.ErrClosed
	}
	for len(e.heard) <= fd {
		e.heard = append(e.heard, nil)
	}
	if old := e.heard[fd]; old != nil { // its socket is closed
		r.deaf(old)
	}
	e.heard[fd] = l
	l.fd = fd
	l.conn.ear = l
	e.count++
	if len(l.in.buf) > 0 { // of which the system tells nothing
		l.waits = true
		e.waiting = append(e.waiting, l)
	}
	return e.poller.Add(fd)
}

// deaf has a client heard no more.
func (r *room) deaf(l *hearer) {
	if l == nil || l.gone {
		return
	}
	l.gone = true
	if l.conn.ear == l {
		l.conn.ear = nil
		r.ears.heard[l.fd] = nil
		r.ears.count--
	}
}

// hear reads what clients have said since it was called last.
func (r *room) hear() {
	e := &r.ears
	if e.count == 0 {
		return
	}
	now := time.Now()
	waiting := e.waiting
	e.waiting = nil
	for _, l := range waiting {
		l.waits = false
		r.hearOut(l, now)
	}
	e.poller.Poll(func(event rawsocket.Event) {
		if l := e.heard[event.FD]; l != nil {
			l.ended = l.ended || event.Closed
			r.hearOut(l, now)
		}
	})
}

// hearOut reads what one client has said, or as much as it may say at once.
func (r *room) hearOut(l *hearer, now time.Time) {
	if l.waits || l.gone {
		return
	}
	l.spent = false
	for range maxHeard {
		if now.Before(l.until) {
			break
		}
		m, err := l.next(r, now)
		if err == rawsocket.ErrAgain {
			l.flood = time.Time{}
			return
		}
		if err == errPaused {
			break
		}
		if err != nil {
			r.unheard(l, err)
			return
		}
		if r.handle(&m); l.gone {
			return
		}
		l.pace(now)
	}
	l.waits = true
	r.ears.waiting = append(r.ears.waiting, l)
}

// pace has a client wait that says too much.
func (l *hearer) pace(now time.Time) {
	if !l.limit.AllowN(now, 1) {
		if until := now.Add(l.limit.ReserveN(now, 1).DelayFrom(now)); until.After(l.until) {
			l.until = until
		}
	}
}

// wait reads one client on a goroutine of its own.
func (r *room) wait(l *hearer) {
	for {
		now := time.Now()
		m, err := l.next(r, now)
		if err != nil && err != errPaused {
			r.post(func() { r.unheard(l, err) })
			return
		}
		if err == nil {
			if !r.put(m) {
				return
			}
			l.pace(now)
		}
		if now.Before(l.until) {
			select {
			case <-time.After(l.until.Sub(now)):
			case <-l.conn.cut:
				return
			}
		}
	}
}

// next reads the next message.
func (l *hearer) next(r *room, now time.Time) (letter, error) {
	l.now = now
	op, raw, err := l.in.next()
	if err != nil {
		return letter{}, err
	}
	if op != opText && l.conn.json != nil {
		return letter{}, errBroken("the message is binary; " + wire.Protocol + " is text")
	}
	m, err := r.read(l.conn, raw, now)
	if err != nil {
		return m, errBroken(err.Error())
	}
	return m, nil
}

// unheard ends a connection of which nothing more can be read.
func (r *room) unheard(l *hearer, err error) {
	c := l.conn
	r.deaf(l)
	var broken errBroken
	switch {
	case errors.As(err, &broken):
		slog.Info("a client was cut for a broken message", "session", r.id, "client", c.client, "error", err)
		c.broken = true
		r.leave(c, err.Error())
	case websocket.IsCloseError(err, websocket.CloseNormalClosure, websocket.CloseGoingAway):
		r.leave(c, "the client closed the connection")
	default:
		r.lose(c, "the connection was lost")
	}
}

// Read reads what has come, without waiting for more.
func (l *hearer) Read(to []byte) (int, error) {
	w := l.out
	if w.conn != nil {
		return w.conn.Read(to)
	}
	if l.spent {
		return 0, rawsocket.ErrAgain
	}
	w.reading.Lock()
	defer w.reading.Unlock()
	if w.box.fd < 0 {
		return 0, net.ErrClosed
	}
	n, err := rawsocket.TryRead(w.box.fd, to)
	if err == nil {
		l.spent = n < len(to) && !l.ended
	}
	return n, err
}

// number returns the number of the socket, -1 once it is closed.
func (w *wired) number() int {
	w.reading.Lock()
	defer w.reading.Unlock()
	return w.box.fd
}
