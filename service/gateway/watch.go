package gateway

import (
	"net/http"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/api"
	"kamerad.example/core/wire"
	"kamerad.example/service/problems"
	"kamerad.example/service/runner"
)

// Watch returns the handler that lets somebody watch a session from outside. inside reports whether who calls is told
// what no client may know.
func (g *Gateway) Watch(find Find, inside func(*http.Request) bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s, err := find(r)
		var me *runner.Watcher
		if err == nil {
			me, err = s.runner.Watch(r.Context(), inside(r))
		}
		if err != nil {
			problems.Send(w, problems.Of(err, r))
			return
		}
		g.sockets.Add(1)
		defer g.sockets.Done()
		defer s.runner.Unwatch(me)
		up := upgrader
		up.Subprotocols = []string{api.WatchProtocol}
		socket, err := up.Upgrade(w, r, nil)
		if err != nil {
			return
		}
		defer socket.Close()
		g.serveWatcher(socket, me)
	}
}

// serveWatcher writes a watcher's messages to its socket until the watcher goes away, the session ends or the service
// stops. The last message of a session that ends says why.
func (g *Gateway) serveWatcher(socket *websocket.Conn, me *runner.Watcher) {
	gone := make(chan struct{})
	go func() { // a watcher says nothing; reading tells when it is gone
		defer close(gone)
		socket.SetReadLimit(wire.MaxMessage)
		for {
			if _, _, err := socket.NextReader(); err != nil {
				return
			}
		}
	}()
	write := func(message []byte) error {
		_ = socket.SetWriteDeadline(time.Now().Add(writeTimeout))
		return socket.WriteMessage(websocket.TextMessage, message)
	}
	for {
		select {
		case message := <-me.Messages():
			if write(message) != nil {
				return
			}
		case <-me.Ended():
			for len(me.Messages()) > 0 {
				_ = write(<-me.Messages())
			}
			_ = write(api.Encode(api.Watch{
				Type:      api.WatchClose,
				Reason:    me.Why(),
				Clients:   []api.WatchClient{},
				Decisions: []api.Decision{},
				Told:      []api.Told{},
			}))
			_ = socket.WriteControl(
				websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, short(me.Why())),
				time.Now().Add(goodbyeWithin),
			)
			select { // the other side answers
			case <-gone:
			case <-time.After(goodbyeWithin):
			}
			return
		case <-gone:
			return
		case <-g.halted:
			return
		}
	}
}
