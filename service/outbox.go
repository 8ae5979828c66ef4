package service

import (
	"math"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kamerad.example/service/rawsocket"
)

// maxBacklog is how many bytes of frames may wait for one client before it is behind.
const maxBacklog = 256 << 10

// outbox is what waits to be sent to one client, as the bytes that go out. The runner puts messages in, a writer takes
// all of them at once.
type outbox struct {
	// What each tick looks at stands together.
	prefetched atomic.Int32 // read to have the outbox near, and never written
	busy       bool         // a writer has taken something and is not done
	mu         sync.Mutex
	fd         int // of the socket that it goes to; -1 when it is closed, or goes elsewhere
	bytes      []byte
	takenTick  int64 // the tick of the newest frame that a writer took
	// frames up to this tick do not go out any more: a snapshot comes in their place, or the last message has been put
	// in
	voidTick   int64
	newestTick int64 // the tick of the newest frame that was put in

	marks      []mark
	spareBytes []byte // the memory of what was taken before
	spareMarks []mark
	oldest     time.Time // when the oldest message came that is not written; zero when there is none
	arrived    time.Time // when the oldest request was read whose decision waits
	wake       chan struct{}
}

func newOutbox() *outbox { return &outbox{fd: -1} }

// mark ends a message.
type mark struct {
	end  int
	tick int64 // of a frame; 0 for another message
}

// put adds a message. How it is framed is up to the transport.
func (b *outbox) put(frame func(dst, message []byte) []byte, message []byte, tick int64, now, arrived time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.bytes = frame(b.bytes, message)
	b.addMark(tick, now, arrived)
	if b.wake != nil {
		select {
		case b.wake <- struct{}{}:
		default:
		}
	}
}

// addFramed adds a message that is framed already; the lock is held.
func (b *outbox) addFramed(message []byte, tick int64, now, arrived time.Time) {
	b.bytes = append(b.bytes, message...)
	b.addMark(tick, now, arrived)
}

func (b *outbox) addMark(tick int64, now, arrived time.Time) {
	b.marks = append(b.marks, mark{len(b.bytes), tick})
	if b.oldest.IsZero() {
		b.oldest = now
	}
	if b.arrived.IsZero() {
		b.arrived = arrived
	}
}

// take returns all that waits to the only one who writes; nil when there is nothing or somebody is at it. done has to
// follow.
func (b *outbox) take() (bytes []byte, marks []mark) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.busy || len(b.bytes) == 0 {
		return nil, nil
	}
	bytes = b.bytes
	marks = b.marks
	b.bytes = b.spareBytes[:0]
	b.marks = b.spareMarks[:0]
	b.spareBytes = nil
	b.spareMarks = nil
	b.busy = true
	for _, m := range marks {
		b.takenTick = max(b.takenTick, m.tick)
	}
	return bytes, marks
}

// done takes back what take returned, once it is written, and tells when the oldest request came that was answered in
// it.
func (b *outbox) done(bytes []byte, marks []mark, now time.Time) (arrived time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.busy = false
	b.spareBytes = bytes
	b.spareMarks = marks
	arrived, b.arrived = b.arrived, time.Time{}
	b.oldest = (time.Time{})
	if len(b.bytes) > 0 {
		b.oldest = now
	}
	return arrived
}

// waitsFor returns how long what is oldest has waited to be written.
func (b *outbox) waitsFor(now time.Time) time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.oldest.IsZero() {
		return 0
	}
	return now.Sub(b.oldest)
}

// full reports whether more waits than may, or for longer.
func (b *outbox) full(now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.oldest.IsZero() && now.Sub(b.oldest) > behindAfter || len(b.bytes) > maxBacklog
}

// drop forgets the frames up to a tick that no writer has taken, also those that one has not come to yet, and gives the
// tick of the newest that one took.
func (b *outbox) drop(upTo int64) (taken int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.voidTick = upTo
	kept := b.bytes[:0]
	from := 0
	marks := b.marks[:0]
	for _, m := range b.marks {
		if m.tick == 0 {
			kept = append(kept, b.bytes[from:m.end]...)
			marks = append(marks, mark{len(kept), 0})
		}
		from = m.end
	}
	b.bytes = kept
	b.marks = marks
	return b.takenTick
}

// last puts in the last message and the end of the connection. Frames that come afterwards do not go out.
func (b *outbox) last(bye []byte, ending []byte, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.voidTick = math.MaxInt64
	if bye != nil {
		b.bytes = appendMessage(b.bytes, bye)
		b.addMark(0, now, time.Time{})
	}
	b.bytes = appendWebSocket(b.bytes, opClose, ending)
	b.addMark(0, now, time.Time{})
}

// empty reports whether all was written.
func (b *outbox) empty() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.busy && len(b.bytes) == 0
}

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

// try writes as much as the socket takes at once, nothing once it is closed; the lock is held.
func (b *outbox) try(bytes []byte) (n int, err error) {
	if b.fd < 0 {
		return 0, nil
	}
	return rawsocket.TryWrite(b.fd, bytes)
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

func (w *clientSocket) fail(err error) {
	if !w.ended.Swap(true) {
		w.onFailed(err)
	}
}
