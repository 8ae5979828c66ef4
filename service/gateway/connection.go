package gateway

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/wire"
	"kamerad.example/service/door"
)

// connection is a client's connection as its runner knows it. Messages go out through a bounded outbox, so that a slow
// client holds up nobody. The runner's goroutine owns it, but for what the comments give to others.
type connection struct {
	// What is looked at a few times a second of each client stands in one cache line.
	client   int
	outbox   *outbox
	progress progress
	behind   bool          // it was not sent everything
	state    atomic.Uint32 // a connectionState; the runner's goroutine sets it

	stored func(context.Context) error // see runner.Seating; nil when nothing is stored
	socket *clientSocket               // nil for a pipe
	reader *messageReader              // nil when it is read on another goroutine
	// of a client that speaks JSON: its frames are made from the binary ones
	jsonReader    *wire.Reader
	oldestRequest time.Time                        // when the oldest request came that is not answered
	from          *door.Address                    // that it comes from; nil when that is not counted
	isTest        bool                             // it is a test client's
	token         string                           // that takes the seat again
	framing       func(dst, message []byte) []byte // appends a message as the transport wants it
	// waitingMessages counts the messages of this client in the runner's inbound; who reads counts up.
	waitingMessages atomic.Int32
	messageHandled  chan struct{} // has something when one of them was handled

	once   sync.Once     // guards the end
	ended  chan struct{} // closed when the client is out
	reason string        // why; to be read once ended is closed
	// farewell waits until its client may be told where it is sent, and returns the last message; nil for others. It is
	// to be read once ended is closed.
	farewell func() wire.Bye
}

// connectionState says how far a connection has come.
type connectionState uint32

const (
	// connectionNew is one whose client came with a token, and over which nothing has come since: its client may not
	// have the hello, and still have another connection in hand. See runner.Seating.
	connectionNew      connectionState = iota
	connectionOpen                     // its client has the seat
	connectionOut                      // the seat is gone, and its client is told why
	connectionBroken                   // the same, for a message that could not be read
	connectionReplaced                 // another connection has the seat, or will: this one ends as if it had broken
	connectionStates                   // how many there are
)

// seated reports whether the connection has its client's seat.
func (s connectionState) seated() bool { return s == connectionNew || s == connectionOpen }

// connectionEvent is what changes the state of a connection.
type connectionEvent uint8

const (
	somethingCame    connectionEvent = iota // a message of its client was handled
	messageBroken                           // a message of its client could not be read
	seatRetaken                             // another connection took the seat
	seatGone                                // the seat or the connection is gone
	sessionSuspended                        // the session goes on in another service
	connectionEvents                        // how many there are
)

// connectionTransitions is the state that a connection has after an event. What ends one stays as it was first.
var connectionTransitions = [connectionStates][connectionEvents]connectionState{
	connectionNew: {
		somethingCame:    connectionOpen,
		messageBroken:    connectionBroken,
		seatRetaken:      connectionReplaced,
		seatGone:         connectionOut,
		sessionSuspended: connectionReplaced,
	},
	connectionOpen: {
		somethingCame:    connectionOpen,
		messageBroken:    connectionBroken,
		seatRetaken:      connectionOut,
		seatGone:         connectionOut,
		sessionSuspended: connectionReplaced,
	},
	connectionOut:      stays(connectionOut),
	connectionBroken:   stays(connectionBroken),
	connectionReplaced: stays(connectionReplaced),
}

// stays is the row of a state that nothing changes.
func stays(s connectionState) (row [connectionEvents]connectionState) {
	for i := range row {
		row[i] = s
	}
	return row
}

// is returns the connection's state. Everybody may call it.
func (c *connection) is() connectionState { return connectionState(c.state.Load()) }

// on brings the connection into the state that follows an event. It is called on the runner's goroutine.
func (c *connection) on(e connectionEvent) { c.state.Store(uint32(connectionTransitions[c.is()][e])) }

// end lets whoever serves the connection end it; what waits for its client is still written. Only the first end counts.
func (c *connection) end(reason string) {
	c.once.Do(func() {
		c.reason = reason
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
