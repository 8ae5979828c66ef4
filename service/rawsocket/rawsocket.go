// Package rawsocket reads and writes TCP sockets without Go's network poller: a call does what the socket allows at
// once and never waits, so that one goroutine can look after thousands of connections. A socket is known by its file
// descriptor, an int; -1 is none.
//
// It is for Linux. Elsewhere Own returns no socket, and the caller goes on with the net.Conn that it has. The package
// knows nothing of what is sent.
package rawsocket

import "errors"

// ErrAgain says that nothing more has come yet, or that the socket takes no more now.
var ErrAgain = errors.New("nothing more has come yet")

// Event is a socket that has something to read.
type Event struct {
	FD     int
	Closed bool // the other side writes no more: what is left is followed by the end
}
