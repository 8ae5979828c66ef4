package gateway

import (
	"math"
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

// newOutbox returns an empty outbox that goes to no socket yet.
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

// addMark ends the message that was put in; the lock is held. arrived is when the request came that it answers, zero
// for none.
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

// drop forgets the frames up to a tick that no writer has taken, also those that one has not come to yet, and returns
// the tick of the newest that one took.
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

// try writes as much as the socket takes at once, nothing once it is closed; the lock is held.
func (b *outbox) try(bytes []byte) (n int, err error) {
	if b.fd < 0 {
		return 0, nil
	}
	return rawsocket.TryWrite(b.fd, bytes)
}
