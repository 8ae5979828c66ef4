package gateway

import (
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/service/rawsocket"
)

// clientSocket writes to a client's socket. What fits into the socket's buffer goes out at once, by whichever writer;
// for a client that takes less, a goroutine of its own writes the rest, so that nobody waits for it. What waits for
// that stands in the outbox, whose lock is held while something is tried.
type clientSocket struct {
	outbox            *outbox
	slowCount         *atomic.Int32       // counts those that take less than they are sent
	conn              net.Conn            // of what is no socket of the system's; else nil
	onFailed          func(error)         // called once when nothing can be written any more
	onDecisionWritten func(time.Duration) // called with how long the oldest request waited whose decision was written
	reading           sync.Mutex          // held while it is read from
	ended             atomic.Bool
	writers           *writers // nil when it is tied to none
	writer            uint8    // that it is tied to
}

// newClientSocket returns what writes the messages of an outbox to a connection, whose descriptor it takes over where
// that is possible. gone is called once when nothing can be written any more, sent when a decision was written.
func newClientSocket(
	box *outbox, conn net.Conn, slow *atomic.Int32, gone func(error), sent func(time.Duration),
) *clientSocket {
	w := &clientSocket{
		outbox:            box,
		conn:              conn,
		slowCount:         slow,
		onFailed:          gone,
		onDecisionWritten: sent,
	}
	box.mu.Lock()
	defer box.mu.Unlock()
	if fd, ok := rawsocket.Own(conn); ok {
		box.fd = fd
		w.conn = nil
	}
	return w
}

// close closes the connection. Who writes or reads holds a lock, so that the number of the socket is never used for
// what it has come to mean since.
func (w *clientSocket) close() {
	if w.conn != nil {
		w.conn.Close()
		return
	}
	w.outbox.mu.Lock()
	defer w.outbox.mu.Unlock()
	w.reading.Lock()
	defer w.reading.Unlock()
	if w.outbox.fd >= 0 {
		rawsocket.Close(w.outbox.fd)
		w.outbox.fd = -1
	}
}

// descriptor returns the number of the socket, -1 once it is closed.
func (w *clientSocket) descriptor() int {
	w.reading.Lock()
	defer w.reading.Unlock()
	return w.outbox.fd
}

// unsentInKernel is how much the system keeps for a client that it has not begun to send, in bytes. What waits here can
// be replaced by a snapshot; what waits there cannot.
const unsentInKernel = 16 << 10

// prepare keeps little unsent in the system, and returns the round trip that the system has measured while it
// connected, 0 when it does not tell.
func (w *clientSocket) prepare() time.Duration {
	w.outbox.mu.Lock()
	defer w.outbox.mu.Unlock()
	if w.outbox.fd < 0 {
		return 0
	}
	return rawsocket.LimitUnsent(w.outbox.fd, unsentInKernel)
}

type outgoing struct {
	outbox      *outbox
	socket      *clientSocket
	frame       []byte
	hasHeadroom bool      // the frame has headroom, and no header yet
	writer      uint8     // that its client is tied to
	arrived     time.Time // when the oldest request came that is answered in it
}

// send sends the frame of a tick, at once when nothing else waits. It reports false for a frame that is not newer than
// what the outbox has had; that one is not sent.
func (x *outgoing) send(tick int64, now time.Time) bool {
	b := x.outbox
	frame := x.frame
	arrived := x.arrived
	if x.hasHeadroom {
		frame = putHeader(opBin, frame)
	}
	b.mu.Lock()
	if tick <= b.voidTick { // those before it are gone: it could not be read
		b.mu.Unlock()
		return true
	}
	if tick <= b.newestTick {
		b.mu.Unlock()
		return false
	}
	b.newestTick = tick
	if len(b.bytes) > 0 || b.busy {
		b.addFramed(frame, tick, now, arrived)
		b.mu.Unlock()
		x.socket.flush()
		return true
	}
	n, err := b.try(frame)
	b.takenTick = tick
	if err == nil && n < len(frame) {
		b.busy = true
		b.oldest = now
		b.arrived = arrived
		x.socket.slowCount.Add(1)
		go x.socket.writeRest(slices.Clone(frame[n:]), nil) // the frame's memory is used again
		arrived = time.Time{}
	}
	b.mu.Unlock()
	if err != nil {
		x.socket.fail(err)
	} else if !arrived.IsZero() && x.socket.onDecisionWritten != nil {
		x.socket.onDecisionWritten(time.Since(arrived))
	}
	return true
}

// flush writes all that waits, without waiting for the client.
func (w *clientSocket) flush() {
	for {
		bytes, marks := w.outbox.take()
		if bytes == nil {
			return
		}
		w.outbox.mu.Lock()
		n, err := w.outbox.try(bytes)
		w.outbox.mu.Unlock()
		switch {
		case err != nil:
			w.fail(err)
			return
		case n < len(bytes):
			w.slowCount.Add(1)
			go w.writeRest(bytes[n:], marks)
			return
		}
		w.written(bytes, marks)
	}
}

// written gives back the memory of what was written, and tells how long the oldest request waited that was answered in
// it.
func (w *clientSocket) written(bytes []byte, marks []mark) {
	now := time.Now()
	if arrived := w.outbox.done(bytes, marks, now); !arrived.IsZero() && w.onDecisionWritten != nil {
		w.onDecisionWritten(now.Sub(arrived))
	}
}

// writeRest writes what the socket did not take, however long that takes; the runner's clock ends it by closing the
// connection.
func (w *clientSocket) writeRest(bytes []byte, marks []mark) {
	defer w.slowCount.Add(-1)
	for {
		if err := w.writeAll(bytes); err != nil {
			w.fail(err)
			return
		}
		w.written(bytes, marks)
		bytes, marks = w.outbox.take()
		if bytes == nil {
			return
		}
	}
}

// writeAll writes all of it, looking again and again whether the socket takes more: a client that takes less than it is
// sent has no hurry.
func (w *clientSocket) writeAll(bytes []byte) error {
	if w.conn != nil {
		_, err := w.conn.Write(bytes)
		return err
	}
	for wait := time.Millisecond; ; wait = min(2*wait, 32*time.Millisecond) {
		w.outbox.mu.Lock()
		n, err := w.outbox.try(bytes)
		closed := w.outbox.fd < 0
		w.outbox.mu.Unlock()
		bytes = bytes[n:]
		switch {
		case err != nil:
			return err
		case len(bytes) == 0:
			return nil
		case closed:
			return net.ErrClosed
		case n > 0:
			wait = time.Millisecond
		}
		time.Sleep(wait)
	}
}

// fail tells once that nothing can be written any more.
func (w *clientSocket) fail(err error) {
	if !w.ended.Swap(true) {
		w.onFailed(err)
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

// short cuts a reason to what a close frame may hold.
func short(reason string) string {
	if len(reason) > 120 {
		return reason[:117] + "..."
	}
	return reason
}
