package gateway

import (
	"container/list"
	"net"
	"net/http"
	"sync"
)

// maxIdle is how many connections there may be on which nothing was asked yet, or that wait for the next call; the
// oldest gives way.
const maxIdle = 1024

// Idle keeps the connections on which nothing goes on, oldest first, and closes the oldest when there are too many: who
// opens connections and says nothing takes the place of others of that kind alone.
type Idle struct {
	mu   sync.Mutex
	list *list.List
	at   map[net.Conn]*list.Element
}

// NewIdle returns a list without connections.
func NewIdle() *Idle { return &Idle{list: list.New(), at: map[net.Conn]*list.Element{}} }

// Changed is an http.Server's ConnState.
func (i *Idle) Changed(c net.Conn, state http.ConnState) {
	i.remove(c)
	if state == http.StateNew || state == http.StateIdle {
		i.add(c)
	}
}

// add takes a connection in as the youngest; of too many the oldest is closed.
func (i *Idle) add(c net.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.at[c] = i.list.PushBack(c)
	if i.list.Len() > maxIdle {
		oldest := i.list.Remove(i.list.Front()).(net.Conn)
		delete(i.at, oldest)
		_ = oldest.Close()
	}
}

// remove removes a connection, since something goes on on it or it is gone.
func (i *Idle) remove(c net.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if e := i.at[c]; e != nil {
		i.list.Remove(e)
		delete(i.at, c)
	}
}

// close closes all of them.
func (i *Idle) close() {
	i.mu.Lock()
	defer i.mu.Unlock()
	for c := range i.at {
		_ = c.Close()
	}
}
