package service

import (
	"encoding/binary"
	"errors"
	"net"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Bounds of what waits for one client. One that falls behind is sent a snapshot in place of its backlog; one that takes nothing is cut.
const (
	maxBacklog = 256 << 10        // bytes of frames that wait
	behindAt   = time.Second      // a client whose oldest frame waits for longer is behind
	takesNone  = 10 * time.Second // and is cut when it takes nothing for so long
)

// outbox is what waits to be sent to one client, as the bytes that go out. The room puts messages in, a writer takes all of them at
// once.
type outbox struct {
	mu      sync.Mutex
	bytes   []byte
	marks   []mark
	spare   []byte // the memory of what was taken before
	spared  []mark
	busy    bool      // a writer has taken something and is not done
	taken   int64     // the tick of the newest frame that a writer took
	oldest  time.Time // when the oldest message came that is not written; zero when there is none
	arrived time.Time // when the oldest request was read whose decision waits
	wake    chan struct{}
}

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
	b.marks = append(b.marks, mark{len(b.bytes), tick})
	if b.oldest.IsZero() {
		b.oldest = now
	}
	if b.arrived.IsZero() {
		b.arrived = arrived
	}
	if b.wake != nil {
		select {
		case b.wake <- struct{}{}:
		default:
		}
	}
}

// take gives all that waits to the only one who writes; nil when there is nothing or somebody is at it. done has to follow.
func (b *outbox) take() (bytes []byte, marks []mark) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.busy || len(b.bytes) == 0 {
		return nil, nil
	}
	bytes, marks = b.bytes, b.marks
	b.bytes, b.marks, b.spare, b.spared = b.spare[:0], b.spared[:0], nil, nil
	b.busy = true
	for _, m := range marks {
		b.taken = max(b.taken, m.tick)
	}
	return bytes, marks
}

// done gives back what take gave, once it is written, and tells when the oldest request came that was answered in it.
func (b *outbox) done(bytes []byte, marks []mark, now time.Time) (arrived time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.busy, b.spare, b.spared = false, bytes, marks
	arrived, b.arrived = b.arrived, time.Time{}
	if b.oldest = (time.Time{}); len(b.bytes) > 0 {
		b.oldest = now
	}
	return arrived
}

// late tells whether the client is behind, and whether it is to be cut.
func (b *outbox) late(now time.Time) (behind, cut bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.oldest.IsZero() {
		return false, false
	}
	age := now.Sub(b.oldest)
	return age > behindAt || len(b.bytes) > maxBacklog, age > takesNone
}

// drop forgets the frames that no writer has taken, and gives the tick of the newest that one took.
func (b *outbox) drop() (taken int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	kept, from := b.bytes[:0], 0
	marks := b.marks[:0]
	for _, m := range b.marks {
		if m.tick == 0 {
			kept = append(kept, b.bytes[from:m.end]...)
			marks = append(marks, mark{len(kept), 0})
		}
		from = m.end
	}
	b.bytes, b.marks = kept, marks
	return b.taken
}

// empty tells whether all was written.
func (b *outbox) empty() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.busy && len(b.bytes) == 0
}

// Opcodes of RFC 6455, with the bit that says that a frame ends its message.
const (
	opText   = 0x81
	opBinary = 0x82
	opClose  = 0x88
	opPong   = 0x8a
)

// appendWebSocket appends a message as a WebSocket frame of a server (RFC 6455, 5.2): never masked, never in parts.
func appendWebSocket(dst []byte, op byte, message []byte) []byte {
	switch n := len(message); {
	case n < 126:
		dst = append(dst, op, byte(n))
	case n < 1<<16:
		dst = binary.BigEndian.AppendUint16(append(dst, op, 126), uint16(n))
	default:
		dst = binary.BigEndian.AppendUint64(append(dst, op, 127), uint64(n))
	}
	return append(dst, message...)
}

func appendMessage(dst, message []byte) []byte {
	if len(message) > 0 && message[0] == '{' {
		return appendWebSocket(dst, opText, message)
	}
	return appendWebSocket(dst, opBinary, message)
}

// plain leaves a message as it is, for a pipe.
func plain(dst, message []byte) []byte { return append(dst, message...) }

// wired writes an outbox to a socket. What fits into the socket's buffer goes out at once, by whichever writer; for a client that takes
// less, a goroutine of its own writes the rest, so that nobody waits for it.
type wired struct {
	box   *outbox
	conn  net.Conn
	raw   syscall.RawConn
	try   func(fd uintptr) bool
	rest  []byte // of what is written now
	err   error
	gone  func(error)         // called once when nothing can be written any more
	sent  func(time.Duration) // called with how long the oldest request waited whose decision was written
	ended atomic.Bool
}

func newWired(box *outbox, conn net.Conn, gone func(error), sent func(time.Duration)) *wired {
	w := &wired{box: box, conn: conn, gone: gone, sent: sent}
	if c, ok := conn.(syscall.Conn); ok {
		w.raw, _ = c.SyscallConn()
	}
	w.try = func(fd uintptr) bool {
		for len(w.rest) > 0 {
			n, err := syscall.Write(int(fd), w.rest)
			if n > 0 {
				w.rest = w.rest[n:]
				continue
			}
			if err == syscall.EINTR {
				continue
			}
			if err != syscall.EAGAIN {
				w.err = err
			}
			break
		}
		return true // whatever is left is not waited for here
	}
	return w
}

var errShort = errors.New("the connection took no byte")

// flush writes all that waits, without waiting for the client.
func (w *wired) flush() {
	for {
		bytes, marks := w.box.take()
		if bytes == nil {
			return
		}
		w.rest, w.err = bytes, nil
		if w.raw == nil || w.raw.Write(w.try) != nil {
			w.err = errShort
		}
		switch {
		case w.err == errShort && w.raw == nil, w.err == nil && len(w.rest) > 0:
			go w.struggle(bytes, marks)
			return
		case w.err != nil:
			w.fail(w.err)
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

// struggle writes what the socket did not take, however long that takes; the room's watch ends it by closing the connection.
func (w *wired) struggle(bytes []byte, marks []mark) {
	for {
		if _, err := w.conn.Write(w.rest); err != nil {
			w.fail(err)
			return
		}
		w.written(bytes, marks)
		if bytes, marks = w.box.take(); bytes == nil {
			return
		}
		w.rest = bytes
	}
}

func (w *wired) fail(err error) {
	if !w.ended.Swap(true) {
		w.gone(err)
	}
}

// writers write what rooms have put into outboxes. There are a few; a client is always written to by the same.
type writers struct {
	queues []chan *batch
	free   chan *batch
}

// batch is what one tick has for one writer.
type batch struct{ list []*wired }

func newWriters() *writers {
	n := min(runtime.GOMAXPROCS(0), 4)
	w := &writers{free: make(chan *batch, 64)}
	for range n {
		queue := make(chan *batch, 64)
		w.queues = append(w.queues, queue)
		go func() {
			for b := range queue {
				for _, x := range b.list {
					x.flush()
				}
				clear(b.list)
				b.list = b.list[:0]
				select {
				case w.free <- b:
				default:
				}
			}
		}()
	}
	return w
}

// stop ends the writers once they have written what they were handed.
func (w *writers) stop() {
	for _, q := range w.queues {
		close(q)
	}
}

// round hands a tick's outboxes to the writers, beginning with another client each tick.
func (w *writers) round(tick int64, list []*wired) {
	if len(list) == 0 {
		return
	}
	batches := [4]*batch{}
	at := int(tick) * 7 % len(list)
	for i := range list {
		x := list[(at+i)%len(list)]
		n := (at + i) % len(list) % len(w.queues)
		if batches[n] == nil {
			select {
			case batches[n] = <-w.free:
			default:
				batches[n] = &batch{}
			}
		}
		batches[n].list = append(batches[n].list, x)
	}
	for n, b := range batches {
		if b != nil {
			w.queues[n] <- b
		}
	}
}
