package api

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gorilla/websocket"
)

// Closed is the error of a WebSocket that the other side has closed, with what it said.
type Closed struct {
	Status int // of RFC 6455, section 7.4
	Reason string
}

// Error returns the reason, or the status when there is none.
func (c *Closed) Error() string {
	if c.Reason == "" {
		return fmt.Sprintf("the other side has closed the connection (status %d)", c.Status)
	}
	return c.Reason
}

// goodbyeWithin is how long Close waits for the other side's answer.
const goodbyeWithin = 5 * time.Second

// maxReason is how many bytes of a reason a close frame has room for (RFC 6455, section 5.5).
const maxReason = 123

// Socket is the client's end of a WebSocket. One goroutine may read and any number may write at the same time.
type Socket struct {
	conn    *websocket.Conn
	reading sync.Mutex // held while a message is read
	writing sync.Mutex // held while a message is written
	once    sync.Once  // guards Close
}

// Dialing is how a WebSocket is opened.
type Dialing struct {
	MaxMessage int64       // bytes of a message; a longer one ends the WebSocket
	Header     http.Header // of the handshake; may be nil
	TLS        *tls.Config // which certificates are believed; nil for those that the system believes
}

// DialWebSocket opens a WebSocket at an address that begins with ws: or wss:, for one sub-protocol. When the service
// refuses the handshake and says why, the error is a *Problem.
func DialWebSocket(ctx context.Context, address, protocol string, o Dialing) (*Socket, error) {
	d := websocket.Dialer{
		Subprotocols:    []string{protocol},
		Proxy:           http.ProxyFromEnvironment,
		TLSClientConfig: o.TLS,
	}
	conn, answer, err := d.DialContext(ctx, address, o.Header)
	if err != nil {
		if answer != nil && answer.StatusCode != http.StatusSwitchingProtocols {
			if p := readProblem(answer.Body); p != nil {
				return nil, p
			}
		}
		return nil, err
	}
	s := &Socket{conn: conn}
	if conn.Subprotocol() != protocol {
		s.Close(websocket.CloseProtocolError, "wrong sub-protocol")
		return nil, fmt.Errorf("the server does not speak %s", protocol)
	}
	conn.SetReadLimit(o.MaxMessage)
	return s, nil
}

// Read waits for the next message. It returns a *Closed when the other side has closed the WebSocket; after any error
// the WebSocket is of no more use. When ctx ends, the connection is closed.
func (s *Socket) Read(ctx context.Context) ([]byte, error) {
	s.reading.Lock()
	defer s.reading.Unlock()
	defer context.AfterFunc(ctx, func() { s.conn.NetConn().Close() })()
	_, message, err := s.conn.ReadMessage()
	return message, s.errorOf(ctx, err)
}

// Write sends a message: text when it begins as JSON does, with a brace, else binary. When ctx ends before it is
// written, the connection is closed.
func (s *Socket) Write(ctx context.Context, message []byte) error {
	kind := websocket.BinaryMessage
	if len(message) > 0 && message[0] == '{' {
		kind = websocket.TextMessage
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	defer context.AfterFunc(ctx, func() { s.conn.NetConn().Close() })()
	return s.errorOf(ctx, s.conn.WriteMessage(kind, message))
}

// errorOf returns the error of the package for one of the connection.
func (s *Socket) errorOf(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var closed *websocket.CloseError
	if errors.As(err, &closed) && closed.Code != websocket.CloseAbnormalClosure { // which nobody says: it was cut
		return &Closed{Status: closed.Code, Reason: closed.Text}
	}
	return err
}

// Close says goodbye with a status and a reason, waits for the other side to do the same, and ends the connection. What
// comes until then is dropped, so that nothing that was written is lost to a reset. Only the first call does anything.
func (s *Socket) Close(status int, reason string) {
	s.once.Do(func() {
		if len(reason) > maxReason {
			reason = strings.ToValidUTF8(reason[:maxReason], "")
		}
		until := time.Now().Add(goodbyeWithin)
		err := s.conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(status, reason), until)
		_ = s.conn.SetReadDeadline(until) // a read that is under way ends then
		s.reading.Lock()
		defer s.reading.Unlock()
		for err == nil {
			_, _, err = s.conn.NextReader()
		}
		s.conn.Close()
	})
}
