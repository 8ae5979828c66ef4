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

// outbox is what waits to be sent to one client, as the bytes that go out. The room puts messages in, a writer takes
// all of them at once.
type outbox struct {
	// What each tick looks at stands together.
	warm  atomic.Int32 // read to have the outbox near, and never written
	busy  bool         // a writer has taken something and is not done
	mu    sync.Mutex
	fd    int // of the socket that it goes to; -1 when it is closed, or goes elsewhere
	bytes []byte
	taken int64 // the tick of the newest frame that a writer took
	// frames up to this tick do not go out any more: a snapshot comes in their place, or the last message has been put
	// in
	void   int64
	newest int64 // the tick of the newest frame that was put in

	marks   []mark
	spare   []byte // the memory of what was taken before
	spared  []mark
	oldest  time.Time // when the oldest message came that is not written; zero when there is none
	arrived time.Time // when the oldest request was read whose decision waits
	wake    chan struct{}
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
	b.marked(tick, now, arrived)
	if b.wake != nil {
		select {
		case b.wake <- struct{}{}:
		default:
		}
	}
}

// add adds a message that is framed already; the lock is held.
func (b *outbox) add(message []byte, tick int64, now, arrived time.Time) {
	b.bytes = append(b.bytes, message...)
	b.marked(tick, now, arrived)
}

func (b *outbox) marked(tick int64, now, arrived time.Time) {
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
	b.bytes = b.spare[:0]
	b.marks = b.spared[:0]
	b.spare = nil
	b.spared = nil
	b.busy = true
	for _, m := range marks {
		b.taken = max(b.taken, m.tick)
	}
	return bytes, marks
}

// done takes back what take returned, once it is written, and tells when the oldest request came that was answered in
// it.
func (b *outbox) done(bytes []byte, marks []mark, now time.Time) (arrived time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.busy = false
	b.spare = bytes
	b.spared = marks
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
	b.void = upTo
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
	return b.taken
}

// last puts in the last message and the end of the connection. Frames that come afterwards do not go out.
func (b *outbox) last(bye []byte, ending []byte, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.void = math.MaxInt64
	if bye != nil {
		b.bytes = appendMessage(b.bytes, bye)
		b.marked(0, now, time.Time{})
	}
	b.bytes = appendWebSocket(b.bytes, opClose, ending)
	b.marked(0, now, time.Time{})
}

// empty reports whether all was written.
func (b *outbox) empty() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.busy && len(b.bytes) == 0
}

// wired writes to a client's socket. What fits into the socket's buffer goes out at once, by whichever writer; for a
// client that takes less, a goroutine of its own writes the rest, so that nobody waits for it. What waits for that
// stands in the outbox, whose lock is held while something is tried.
type wired struct {
	box     *outbox
	slow    *atomic.Int32       // counts those that take less than they are sent
	conn    net.Conn            // of what is no socket of the system's; else nil
	gone    func(error)         // called once when nothing can be written any more
	sent    func(time.Duration) // called with how long the oldest request waited whose decision was written
	reading sync.Mutex          // held while it is read from
	ended   atomic.Bool
	writers *writers // nil when it is tied to none
	writer  uint8    // that it is tied to
}

func newWired(box *outbox, conn net.Conn, slow *atomic.Int32, gone func(error), sent func(time.Duration)) *wired {
	w := &wired{
		box:  box,
		conn: conn,
		slow: slow,
		gone: gone,
		sent: sent,
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
func (w *wired) close() {
	if w.conn != nil {
		w.conn.Close()
		return
	}
	w.box.mu.Lock()
	defer w.box.mu.Unlock()
	w.reading.Lock()
	defer w.reading.Unlock()
	if w.box.fd >= 0 {
		rawsocket.Close(w.box.fd)
		w.box.fd = -1
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
	b := x.box
	frame := x.frame
	arrived := x.arrived
	if x.whole {
		frame = head(opBin, frame)
	}
	b.mu.Lock()
	if tick <= b.void { // those before it are gone: it could not be read
		b.mu.Unlock()
		return true
	}
	if tick <= b.newest {
		b.mu.Unlock()
		return false
	}
	b.newest = tick
	if len(b.bytes) > 0 || b.busy {
		b.add(frame, tick, now, arrived)
		b.mu.Unlock()
		x.to.flush()
		return true
	}
	n, err := b.try(frame)
	b.taken = tick
	if err == nil && n < len(frame) {
		b.busy = true
		b.oldest = now
		b.arrived = arrived
		x.to.slow.Add(1)
		go x.to.struggle(slices.Clone(frame[n:]), nil) // the frame's memory is used again
		arrived = time.Time{}
	}
	b.mu.Unlock()
	if err != nil {
		x.to.fail(err)
	} else if !arrived.IsZero() && x.to.sent != nil {
		x.to.sent(time.Since(arrived))
	}
	return true
}

// flush writes all that waits, without waiting for the client.
func (w *wired) flush() {
	for {
		bytes, marks := w.box.take()
		if bytes == nil {
			return
		}
		w.box.mu.Lock()
		n, err := w.box.try(bytes)
		w.box.mu.Unlock()
		switch {
		case err != nil:
			w.fail(err)
			return
		case n < len(bytes):
			w.slow.Add(1)
			go w.struggle(bytes[n:], marks)
			return
		}
		w.written(bytes, marks)
	}
}

func (w *wired) written(bytes []byte, marks []mark) {
	now := time.Now()
	if arrived := w.box.done(bytes, marks, now); !arrived.IsZero() && w.sent != nil {
		w.sent(now.Sub(arrived))
	}
}

// struggle writes what the socket did not take, however long that takes; the room's watch ends it by closing the
// connection.
func (w *wired) struggle(bytes []byte, marks []mark) {
	defer w.slow.Add(-1)
	for {
		if err := w.insist(bytes); err != nil {
			w.fail(err)
			return
		}
		w.written(bytes, marks)
		bytes, marks = w.box.take()
		if bytes == nil {
			return
		}
	}
}

// insist writes all of it, looking again and again whether the socket takes more: a client that takes less than it is
// sent has no hurry.
func (w *wired) insist(bytes []byte) error {
	if w.conn != nil {
		_, err := w.conn.Write(bytes)
		return err
	}
	for wait := time.Millisecond; ; wait = min(2*wait, 32*time.Millisecond) {
		w.box.mu.Lock()
		n, err := w.box.try(bytes)
		closed := w.box.fd < 0
		w.box.mu.Unlock()
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

func (w *wired) fail(err error) {
	if !w.ended.Swap(true) {
		w.gone(err)
	}
}
