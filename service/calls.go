package service

import (
	"bytes"
	"container/list"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"
)

// Bounds of what those who call the service may hold of it.
const (
	// connections on which nothing was asked yet, or that wait for the next call; the oldest gives way
	maxIdle      = 1024
	bodyWithin   = 10 * time.Second // how long a body may take to arrive
	smallBody    = 64 << 10         // bytes; a longer body takes one of the places for long ones
	longBodies   = 32               // that arrive at once
	publishings  = 2                // contracts that are checked at once: a long one takes a hundred megabytes
	turnWithin   = 20 * time.Second // how long a call waits for such a place
	slowToArrive = "the body did not arrive within 10 s"
)

// errNoTurn refuses a call that found no place in time.
var errNoTurn = &refusal{
	status: http.StatusServiceUnavailable,
	detail: "the service does as many of these at once as it may; try again",
}

// places bounds how many do something at once.
type places chan struct{}

// take waits for a place, which leave gives back.
func (p places) take(ctx context.Context) (leave func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, turnWithin)
	defer cancel()
	select {
	case p <- struct{}{}:
		return func() { <-p }, nil
	case <-ctx.Done():
		return nil, errNoTurn
	}
}

// bodiless lets what a call without a body asks for take as long as it does. A call with a body is refused or read to
// its end within the server's ReadTimeout, whoever answers it: a server reads a body to its end before it answers.
func bodiless(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 {
			_ = http.NewResponseController(w).SetReadDeadline(time.Time{})
		}
		next.ServeHTTP(w, r)
	})
}

// readBody reads the body of a call, which has to arrive in time, so that nothing else waits for it.
func (v *Service) readBody(w http.ResponseWriter, r *http.Request) error {
	if r.ContentLength == 0 || r.Body == nil {
		return nil
	}
	if r.ContentLength < 0 || r.ContentLength > smallBody {
		leave, err := v.bodies.take(r.Context())
		if err != nil {
			return err
		}
		defer leave()
	}
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Now().Add(bodyWithin)) // what is no connection has none
	body, err := io.ReadAll(r.Body)
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		return &refusal{status: http.StatusRequestTimeout, detail: slowToArrive}
	}
	_ = control.SetReadDeadline(time.Time{})
	if err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return err
		}
		return &badRequest{"read what was sent: " + err.Error()}
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return nil
}

// idle keeps the connections on which nothing goes on, oldest first, and closes the oldest when there are too many: who
// opens connections and says nothing takes the place of others of that kind alone.
type idle struct {
	mu   sync.Mutex
	list *list.List
	at   map[net.Conn]*list.Element
}

func newIdle() *idle { return &idle{list: list.New(), at: map[net.Conn]*list.Element{}} }

// changed is an http.Server's ConnState.
func (i *idle) changed(c net.Conn, state http.ConnState) {
	i.remove(c)
	if state == http.StateNew || state == http.StateIdle {
		i.add(c)
	}
}

func (i *idle) add(c net.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.at[c] = i.list.PushBack(c)
	if i.list.Len() > maxIdle {
		oldest := i.list.Remove(i.list.Front()).(net.Conn)
		delete(i.at, oldest)
		_ = oldest.Close()
	}
}

func (i *idle) remove(c net.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if e := i.at[c]; e != nil {
		i.list.Remove(e)
		delete(i.at, c)
	}
}

// close closes all of them.
func (i *idle) close() {
	i.mu.Lock()
	defer i.mu.Unlock()
	for c := range i.at {
		_ = c.Close()
	}
}
