// Package client is the Go library for game clients and tools: Client is a seat in a session with its copy of the world, API
// the service's administration.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/wire"
)

// maxFrame is the greatest message that a client takes from a server, in bytes.
const maxFrame = 16 << 20

// Transport carries messages to and from a server, whole and in order. Read gives an error once the connection has ended.
// Write may be called by several goroutines.
type Transport interface {
	Read(ctx context.Context) ([]byte, error)
	Write(ctx context.Context, message []byte) error
	Close(reason string)
}

// Options of a client. The zero value is useful.
type Options struct {
	// OnFrame is called for each frame, after the copy was brought to its tick, from one goroutine.
	OnFrame func(frame *wire.Frame, notices []replicate.Notice)
	// OnRaw is called with each message as it came, before it is read.
	OnRaw func(message []byte)
	// OnEnd is called once when the connection has ended, with the reason.
	OnEnd func(reason string)
	// NotReady keeps the client from saying that it is ready; events wait until Ready is called.
	NotReady bool
}

// Client is one seat in a session. Its methods may be called by several goroutines.
type Client struct {
	transport Transport
	options   Options
	hello     wire.Hello
	sending   sync.Mutex // requests are sent in the order of their numbers
	mu        sync.Mutex
	copy      replicate.Copy
	seq       uint64
	presses   uint64
	waiting   map[uint64]chan wire.Decision
	slots     chan struct{} // one for each undecided request
	ended     chan struct{}
	reason    string
}

// ErrEnded says that the connection has ended; the text after it says why.
var ErrEnded = errors.New("the connection has ended")

// Join takes a seat in a session over a WebSocket. service is the service's address, such as http://127.0.0.1:7707. An empty
// role means the contract's first one.
func Join(ctx context.Context, service string, session int64, name, role string, o Options) (*Client, error) {
	u, err := url.Parse(service)
	if err != nil {
		return nil, fmt.Errorf("join session %d: read the service's address: %w", session, err)
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	u.Path = fmt.Sprintf("/api/sessions/%d/join", session)
	u.RawQuery = url.Values{"name": {name}, "role": {role}}.Encode()
	t, err := dial(ctx, u.String(), wire.Protocol)
	if err != nil {
		return nil, fmt.Errorf("join session %d as %s: %w", session, name, err)
	}
	c, err := New(ctx, t, o)
	if err != nil {
		return nil, fmt.Errorf("join session %d as %s: %w", session, name, err)
	}
	return c, nil
}

// New takes the seat that a transport leads to: it waits for the server's hello.
func New(ctx context.Context, t Transport, o Options) (*Client, error) {
	c := &Client{transport: t, options: o, waiting: map[uint64]chan wire.Decision{}, slots: make(chan struct{}, wire.MaxUndone), ended: make(chan struct{})}
	raw, err := t.Read(ctx)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &c.hello); err != nil || c.hello.Type != "hello" || c.hello.Outline == nil {
		var bye wire.Bye
		if json.Unmarshal(raw, &bye) == nil && bye.Type == "bye" {
			return nil, errors.New(bye.Reason)
		}
		t.Close("no hello")
		return nil, errors.New("the server's first message is no hello")
	}
	if o.OnRaw != nil {
		o.OnRaw(raw)
	}
	if !o.NotReady {
		c.Ready()
	}
	go c.read()
	return c, nil
}

// Me tells which client this is.
func (c *Client) Me() wire.Client { return c.hello.Client }

// Outline gives what the contract lets clients know.
func (c *Client) Outline() *contract.Outline { return c.hello.Outline }

// Look calls f with the copy, which must not be changed nor kept. What moves by itself stands where it was at the tick of the last
// frame; Copy.Advance brings it to a later one.
func (c *Client) Look(f func(*replicate.Copy)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.copy)
}

// Ended is closed when the connection has ended; Reason then says why.
func (c *Client) Ended() <-chan struct{} { return c.ended }

// Reason says why the connection ended; empty while it lasts.
func (c *Client) Reason() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.reason
}

// Ready tells the server that events may come.
func (c *Client) Ready() { c.send(map[string]any{"type": "ready"}) }

// Close gives the seat up.
func (c *Client) Close() {
	c.send(map[string]any{"type": "leave"})
	c.transport.Close("the client left")
	<-c.ended
}

func (c *Client) send(message any) {
	raw, err := json.Marshal(message)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	_ = c.transport.Write(ctx, raw) // an ended connection shows in read
}

// Ask sends a request and waits for its decision. entity 0 means the one of a shared kind, or the client's own. The arguments
// are sent as they stand: nothing is checked here, so a forged request can be sent too.
func (c *Client) Ask(ctx context.Context, entity uint32, request string, args ...json.RawMessage) (wire.Decision, error) {
	if args == nil {
		args = []json.RawMessage{}
	}
	for i, a := range args {
		if !json.Valid(a) {
			return wire.Decision{}, fmt.Errorf("ask %s: argument %d is not JSON", request, i+1)
		}
	}
	// A slot is free again when the decision has come, even if nobody waits for it any more: the server counts it until then.
	select {
	case c.slots <- struct{}{}:
	case <-c.ended:
		return wire.Decision{}, fmt.Errorf("ask %s: %w: %s", request, ErrEnded, c.Reason())
	case <-ctx.Done():
		return wire.Decision{}, ctx.Err()
	}
	answer := make(chan wire.Decision, 1)
	c.sending.Lock()
	c.mu.Lock()
	c.seq++
	seq, seen := c.seq, c.copy.Tick
	c.waiting[seq] = answer
	c.mu.Unlock()
	c.send(wire.FromClient{Type: "ask", Ask: wire.Ask{Seq: seq, Entity: entity, Request: request, Args: args, Seen: seen}})
	c.sending.Unlock()
	select {
	case d := <-answer:
		return d, nil
	case <-c.ended:
		return wire.Decision{}, fmt.Errorf("ask %s: %w: %s", request, ErrEnded, c.Reason())
	case <-ctx.Done():
		return wire.Decision{}, fmt.Errorf("ask %s: no decision came: %w", request, ctx.Err())
	}
}

// Write sends a new value of a property that this client may write, and gives the number that a refusal in a later frame's
// decisions would carry. entity is as in Ask; the property is called by its full name, such as `Diver.pos`.
func (c *Client) Write(entity uint32, property string, value json.RawMessage) (seq uint64, err error) {
	if !json.Valid(value) {
		return 0, fmt.Errorf("write %s: the value is not JSON", property)
	}
	c.sending.Lock()
	defer c.sending.Unlock()
	c.mu.Lock()
	c.seq++
	seq, seen := c.seq, c.copy.Tick
	c.mu.Unlock()
	c.send(wire.FromClient{Type: "write", Ask: wire.Ask{Seq: seq, Entity: entity, Seen: seen}, Property: property, Value: value})
	return seq, nil
}

// Hold presses a hold, such as `Diver.kick`, and renews its lease until release is called or the client is out. The server may
// end it before; it begins again only with another Hold.
func (c *Client) Hold(entity uint32, property string) (release func(), err error) {
	lease := time.Duration(0)
	for _, k := range c.hello.Outline.Kinds {
		for _, p := range k.Properties {
			if k.Name+"."+p.Name == property {
				lease = time.Duration(p.LeaseMs) * time.Millisecond
			}
		}
	}
	if lease == 0 {
		return nil, fmt.Errorf("hold %s: the outline has no such hold", property)
	}
	c.mu.Lock()
	c.presses++
	press := c.presses
	c.mu.Unlock()
	say := func(what string) {
		c.send(wire.FromClient{Type: what, Ask: wire.Ask{Entity: entity}, Property: property, Press: press})
	}
	stop := make(chan struct{})
	say("press")
	go func() {
		ticker := time.NewTicker(lease / 3)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
				say("press")
			case <-stop:
				say("release")
				return
			case <-c.ended:
				return
			}
		}
	}()
	return sync.OnceFunc(func() { close(stop) }), nil
}

func (c *Client) read() {
	reason := "the server closed the connection"
	for {
		raw, err := c.transport.Read(context.Background())
		if err != nil {
			if !errors.Is(err, ErrEnded) {
				reason = err.Error()
			}
			break
		}
		if c.options.OnRaw != nil {
			c.options.OnRaw(raw)
		}
		frame, bye, err := wire.ParseFrame(raw, c.hello.Outline)
		if err != nil {
			reason = err.Error()
			break
		}
		if frame == nil {
			reason = bye
			break
		}
		c.mu.Lock()
		notices := c.copy.Apply(frame)
		c.mu.Unlock()
		if c.options.OnFrame != nil {
			c.options.OnFrame(frame, notices)
		}
		// A decision comes after what it changed, for those who wait for it too.
		c.mu.Lock()
		for _, d := range frame.Decisions {
			if answer := c.waiting[d.Seq]; answer != nil {
				answer <- d
				delete(c.waiting, d.Seq)
				<-c.slots
			}
		}
		c.mu.Unlock()
		c.send(map[string]any{"type": "seen", "seen": frame.Tick})
	}
	c.transport.Close(reason)
	c.mu.Lock()
	c.reason = reason
	c.mu.Unlock()
	close(c.ended)
	if c.options.OnEnd != nil {
		c.options.OnEnd(reason)
	}
}

// socket is a Transport over a WebSocket.
type socket struct{ conn *websocket.Conn }

func dial(ctx context.Context, address, protocol string) (Transport, error) {
	conn, answer, err := websocket.Dial(ctx, address, &websocket.DialOptions{Subprotocols: []string{protocol}})
	if err != nil {
		if answer != nil && answer.StatusCode != http.StatusSwitchingProtocols && answer.Body != nil {
			if p := readProblem(answer.Body); p != nil {
				return nil, p
			}
		}
		return nil, err
	}
	if conn.Subprotocol() != protocol {
		conn.Close(websocket.StatusProtocolError, "wrong sub-protocol")
		return nil, fmt.Errorf("the server does not speak %s", protocol)
	}
	conn.SetReadLimit(maxFrame)
	return &socket{conn}, nil
}

func (s *socket) Read(ctx context.Context) ([]byte, error) {
	_, raw, err := s.conn.Read(ctx)
	var closed websocket.CloseError
	if errors.As(err, &closed) && closed.Reason != "" {
		return nil, errors.New(closed.Reason)
	}
	return raw, err
}

func (s *socket) Write(ctx context.Context, message []byte) error {
	return s.conn.Write(ctx, websocket.MessageText, message)
}

func (s *socket) Close(reason string) {
	_ = s.conn.Close(websocket.StatusNormalClosure, reason) // it may be closed already
}
