package gateway

import (
	"errors"
	"log/slog"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"time"
)

// maxWriters is how many writers there are at most.
const maxWriters = 4

// errMisordered ends a connection whose frames came to its outbox in another order than that of their ticks.
var errMisordered = errors.New("a frame came after a newer one")

// writers write what runners hand them. There are a few. A client is tied to one of them for as long as it is
// connected: a client that changed over to another one could be sent two frames in the wrong order.
type writers struct {
	queues   []chan *batch
	free     chan *batch
	stopped  chan struct{}  // closed when no more is to be handed over
	assigned []atomic.Int32 // by writer: the connections that are tied to it
	current  atomic.Int32   // the writer that new connections are tied to

	misordered atomic.Int64 // frames that an outbox refused since it had a newer one; there must be none
	failed     atomic.Int64 // batches that ended in a panic
}

// batch is what one tick has for one writer.
type batch struct {
	list   []outgoing
	tick   int64
	now    time.Time
	memory *memory
	passed chan struct{} // of a batch that holds no frames: closed when all before it are written; else nil
}

// prefetchedOutboxes is how many clients a writer reads ahead.
const prefetchedOutboxes = 8

// memory is where the frames of a tick stand, until all are written.
type memory struct {
	bytes []byte
	users atomic.Int32
}

// newWriters starts the writers, as many as there are processors, up to maxWriters.
func newWriters() *writers {
	n := min(runtime.GOMAXPROCS(0), maxWriters)
	w := &writers{free: make(chan *batch, 64), stopped: make(chan struct{}), assigned: make([]atomic.Int32, n)}
	for range n {
		queue := make(chan *batch, 64)
		w.queues = append(w.queues, queue)
		go w.write(queue)
	}
	return w
}

// assignBlock is how many connections in a row are tied to one writer. What stands side by side in memory, such as the
// frames of clients who came one after the other, is then written by the same core.
const assignBlock = 32

// assign returns the writer of a new connection, which is tied to it until untie.
func (w *writers) assign() uint8 {
	least := 0
	for i := range w.assigned {
		if w.assigned[i].Load() < w.assigned[least].Load() {
			least = i
		}
	}
	chosen := int(w.current.Load())
	if w.assigned[chosen].Load() >= w.assigned[least].Load()+assignBlock {
		chosen = least
		w.current.Store(int32(least))
	}
	w.assigned[chosen].Add(1)
	return uint8(chosen)
}

// release unties a connection from its writer.
func (w *writers) release(writer uint8) { w.assigned[writer].Add(-1) }

// write writes what comes in one queue, until the writers have stopped and the queue is empty.
func (w *writers) write(queue chan *batch) {
	for {
		select {
		case b := <-queue:
			w.writeBatch(b)
			continue
		default:
		}
		select {
		case b := <-queue:
			w.writeBatch(b)
		case <-w.stopped:
			select {
			case b := <-queue:
				w.writeBatch(b)
			default:
				return
			}
		}
	}
}

// writeBatch writes the frames of a batch. A panic ends the batch and nothing else: whoever missed a frame is cut and
// comes back.
func (w *writers) writeBatch(b *batch) {
	if b.passed != nil {
		close(b.passed)
		return
	}
	next := 0
	defer func() {
		if p := recover(); p != nil {
			w.failed.Add(1)
			slog.Error(
				"a writer failed inside; the clients whose frames it had are cut", "panic", p, "stack",
				string(debug.Stack()),
			)
			for i := next; i < len(b.list); i++ {
				b.list[i].socket.fail(errors.New("the service failed inside while it wrote to the client"))
			}
		}
		clear(b.list)
		b.list = b.list[:0]
		b.memory.users.Add(-1)
		b.memory = nil
		select {
		case w.free <- b:
		default:
		}
	}()
	Failpoints.BatchTaken.Hit()
	warmth := 0
	for ; next < len(b.list); next++ {
		if next%prefetchedOutboxes == 0 { // reads that do not wait for each other take the time of one
			for j := next; j < min(next+prefetchedOutboxes, len(b.list)); j++ {
				warmth += int(b.list[j].outbox.prefetched.Load()) + int(b.list[j].frame[0])
			}
		}
		if !b.list[next].send(b.tick, b.now) {
			w.misordered.Add(1)
			b.list[next].socket.fail(errMisordered)
		}
	}
}

// stop ends the writers once they have written what they were handed. What is handed over later is not written.
func (w *writers) stop() { close(w.stopped) }

// enqueue puts a batch into a writer's queue, and reports whether it will be written.
func (w *writers) enqueue(writer uint8, b *batch) bool {
	select {
	case <-w.stopped:
		return false
	default:
	}
	select {
	case w.queues[writer] <- b:
		return true
	case <-w.stopped:
		return false
	}
}

// barrier returns a channel that is closed once a writer has written all that it has been handed until now.
func (w *writers) barrier(writer uint8) <-chan struct{} {
	b := &batch{passed: make(chan struct{})}
	if !w.enqueue(writer, b) {
		close(b.passed)
	}
	return b.passed
}

// distribute hands a tick's frames to the writers, beginning with another client each tick.
func (w *writers) distribute(tick int64, now time.Time, list []outgoing, m *memory) {
	if len(list) == 0 {
		return
	}
	var batches [maxWriters]*batch
	turn := int(uint64(tick) * 7 % uint64(len(list)))
	for _, part := range [2][]outgoing{list[turn:], list[:turn]} {
		for i := range part {
			b := batches[part[i].writer]
			if b == nil {
				b = w.newBatch()
				b.tick = tick
				b.now = now
				b.memory = m
				batches[part[i].writer] = b
			}
			b.list = append(b.list, part[i])
		}
	}
	for writer, b := range batches {
		if b == nil {
			continue
		}
		m.users.Add(1)
		if !w.enqueue(uint8(writer), b) {
			m.users.Add(-1)
		}
	}
}

// newBatch returns an empty batch.
func (w *writers) newBatch() *batch {
	select {
	case b := <-w.free:
		return b
	default:
		return &batch{}
	}
}
