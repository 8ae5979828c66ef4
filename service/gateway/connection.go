package gateway

import (
	"sync"
	"sync/atomic"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/wire"
)

// connection is a client's connection as its runner knows it. Messages go out through a bounded outbox, so that a slow
// client holds up nobody. The runner's goroutine owns it, but for what the comments give to others.
type connection struct {
	// What is looked at a few times a second of each client stands in one cache line.
	client   int
	outbox   *outbox
	progress progress
	behind   bool // it was not sent everything
	seated   bool // the client has its seat

	socket *clientSocket  // nil for a pipe
	reader *messageReader // nil when it is read on another goroutine
	// of a client that speaks JSON: its frames are made from the binary ones
	jsonReader    *wire.Reader
	oldestRequest time.Time                        // when the oldest request came that is not answered
	isTest        bool                             // it is a test client's
	token         string                           // that takes the seat again
	framing       func(dst, message []byte) []byte // appends a message as the transport wants it
	// waitingMessages counts the messages of this client in the runner's inbound; who reads counts up.
	waitingMessages atomic.Int32
	messageHandled  chan struct{} // has something when one of them was handled
	// byToken says that the seat was taken with a token, and that nothing has come over the connection since; see
	// runner.Seating.
	byToken bool

	once   sync.Once     // guards the end
	ended  chan struct{} // closed when the client is out
	reason string        // why; to be read once ended is closed
	broken bool          // it is out for a message that could not be read
	silent bool          // it ends without a goodbye; to be read once ended is closed
}

// end closes the queue; what waits in it is still written. Only the first end counts.
func (c *connection) end(reason string) {
	c.once.Do(func() {
		c.reason = reason
		close(c.ended)
	})
}

// endSilently ends the connection as if it had broken, so that its client comes back.
func (c *connection) endSilently(reason string) {
	c.once.Do(func() {
		c.reason = reason
		c.silent = true
		close(c.ended)
	})
}

// inProtocol returns a frame in the client's own protocol.
func (c *connection) inProtocol(frame []byte) []byte {
	if c.jsonReader == nil {
		return frame
	}
	f, err := c.jsonReader.Read(frame)
	if err != nil { // the service wrote it itself
		return api.Encode(wire.Bye{Type: wire.MessageBye, Reason: err.Error()})
	}
	return f.AppendJSON(nil)
}
