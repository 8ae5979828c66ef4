//go:build !linux

package rawsocket

import (
	"errors"
	"net"
	"time"
)

var errUnsupported = errors.New("sockets are not used raw on this system")

// Own reports false: connections stay as they are.
func Own(net.Conn) (fd int, ok bool) { return -1, false }

// Close is never called: there is no socket.
func Close(int) {}

// TryWrite is never called: there is no socket.
func TryWrite(int, []byte) (int, error) { return 0, errUnsupported }

// TryRead is never called: there is no socket.
func TryRead(int, []byte) (int, error) { return 0, errUnsupported }

// LimitUnsent is never called: there is no socket.
func LimitUnsent(int, int) time.Duration { return 0 }

// Poller reports nothing here.
type Poller struct{}

// Add is never called: there is no socket.
func (*Poller) Add(int) error { return errUnsupported }

// Poll describes nothing.
func (*Poller) Poll(func(e Event)) {}

// Close does nothing.
func (*Poller) Close() {}
