// Package client is the Go library for game clients and tools: Client is a seat in a session with its copy of the
// world.
//
// Join takes a seat over the network, New over any Transport, Rejoin with the token of a seat that was lost. A Client
// reads in the background from then on and may be used by any number of goroutines; its copy is shown by Look, and
// never given away.
//
// # How it works
//
// One goroutine reads: it parses a frame, brings the copy to the frame's tick, calls OnFrame, and confirms the tick.
// Calls such as Ask send from the goroutine that calls them and wait for their decision there. When the connection is
// lost, the reading goroutine makes a new one with the seat's token and asks again what was not decided: the server
// answers what it has decided already with its first decision.
//
// # Using it
//
//	c, err := client.Join(ctx, "http://127.0.0.1:7707", session, "Ana", "", client.Options{})
//	if err != nil { … }
//	defer c.Close()
//	d, err := c.Ask(ctx, 0, "Diver.use", json.RawMessage(`"patch"`))
//	c.Look(func(held *replicate.Copy) { … })
package client

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gorilla/websocket"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/core/foresee"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// maxFrame is the greatest message that a client takes from a server, in bytes.
const maxFrame = 16 << 20

// Transport carries messages to and from a server, whole and in order. Read returns an error once the connection has
// ended. Write may be called by several goroutines.
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
	// OnDiffer is called when the copy is not what the server says that it should be; a snapshot follows.
	OnDiffer func(tick int64)
	// JSON asks for kamerad.json.v2 instead of kamerad.v2.
	JSON bool
	// Outline is what the client was made for; a session with another one refuses it, and the error names what differs.
	// Nil takes what the session gives.
	Outline *contract.Outline
	// Again makes a new connection to the seat after one was lost. It is called until it succeeds, the server refuses,
	// or the seat is gone. Join sets it.
	Again func(ctx context.Context, seat Seat) (Transport, error)
	// OnLost is called when the connection is lost and is to be made again, OnBack when that is done; a snapshot
	// follows.
	OnLost func(reason string)
	OnBack func()
	// OnUndone is called, before OnFrame, when the service ended without warning and the session goes on from what had
	// been stored: the decisions on these requests, by their numbers, and all that frames after the tick kept told
	// besides, are undone. At most the last 1024 decisions are named.
	OnUndone func(requests []uint64, kept int64)
	// Ticket says who the player is, for a service that wants tickets: the game's backend makes it. It is good once;
	// name and role may be empty with it.
	Ticket string
	// TLS says which certificates of services are believed; nil for those that the system believes.
	TLS *tls.Config
	// NotReady keeps the client from saying that it is ready; events wait until Ready is called.
	NotReady bool
}

// Seat is what a new connection to a seat needs.
type Seat struct {
	Token       string // of the last hello
	Seen        int64  // the newest tick that was applied
	Fingerprint string // of the outline that the client has
}

// Client is one seat in a session. Its methods may be called by several goroutines.
type Client struct {
	options   Options
	hello     wire.Hello         // the first one
	binary    bool               // frames are in bits; else JSON
	reader    *wire.Reader       // nil for JSON; the goroutine that reads messages owns it
	foresight *foresee.Foresight // nil when no check can be evaluated
	sending   chan struct{}      // has something while somebody sends: requests are sent in the order of their numbers
	life      context.Context    // ends when the client is closed
	stop      context.CancelFunc // ends it
	slots     chan struct{}      // one for each undecided request
	ended     chan struct{}      // closed when the client is out for good

	mu        sync.Mutex // guards the rest
	transport Transport  // changes with the connection
	token     string     // of the last hello
	ready     bool       // it has said so
	closing   bool       // Close was called
	copy      replicate.Copy
	follows   map[int]*follow // properties that somebody follows, by the number of the call
	followed  int             // the number of the newest call
	clock     clock
	seq       uint64 // of the newest request or write
	presses   uint64 // the number of the newest press
	waiting   map[uint64]*undecided
	decided   []decided // the newest decisions, oldest first
	reason    string    // why it is out; set before ended is closed
	arrival   *Arrival  // where it was sent; nil for one that was not
}

// Arrival is where a client was sent: another session, in which it has no seat before it joins there. Ticket lets it in
// once, within a minute; it is empty where the service wants none, and then the client goes by its name.
type Arrival struct {
	Session  int64
	Contract string
	Ticket   string
}

// undecided is a request that waits for its decision.
type undecided struct {
	ask    wire.Ask
	answer chan wire.Decision
}

// decided is a request on which a decision has come.
type decided struct {
	seq  uint64
	tick int64 // of the frame
}

// maxDecided is how many decisions a client can say that they are undone.
const maxDecided = 1024

// Ended is the error of a Transport that the other side has ended for good, and why.
type Ended string

// Error says why the other side has ended the connection.
func (e Ended) Error() string { return string(e) }

// ErrEnded says that the connection has ended; the text after it says why.
var ErrEnded = errors.New("the connection has ended")

// Refused is the error of a server that does not give the seat that was asked for.
type Refused struct {
	Reason string
	Code   string // for programs, as docs/protocol.md lists them
}

// Error says why the seat was not given.
func (r *Refused) Error() string { return r.Reason }

// Join takes a seat in a session over a WebSocket. service is the service's address, such as http://127.0.0.1:7707. An
// empty role means the contract's first one. The error of a seat that is not given is a *Refused.
func Join(ctx context.Context, service string, session int64, name, role string, o Options) (*Client, error) {
	c, err := join(ctx, service, session, wire.Join{Name: name, Role: role, Ticket: o.Ticket}, o)
	if err != nil {
		if name == "" { // the ticket has it
			return nil, fmt.Errorf("join session %d: %w", session, err)
		}
		return nil, fmt.Errorf("join session %d as %s: %w", session, name, err)
	}
	return c, nil
}

// Rejoin takes a seat again whose connection was lost, with the Token of the client that had it.
func Rejoin(ctx context.Context, service string, session int64, token string, o Options) (*Client, error) {
	c, err := join(ctx, service, session, wire.Join{Token: token}, o)
	if err != nil {
		return nil, fmt.Errorf("take a seat in session %d again: %w", session, err)
	}
	return c, nil
}

// join connects to a session and takes the seat that j asks for.
func join(ctx context.Context, service string, session int64, j wire.Join, o Options) (*Client, error) {
	u, err := url.Parse(service)
	if err != nil {
		return nil, fmt.Errorf("read the service's address: %w", err)
	}
	if o.Outline != nil {
		j.Outline = o.Outline.Fingerprint()
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	u.Path = fmt.Sprintf("/api/sessions/%d/join", session)
	protocol := wire.Binary
	if o.JSON {
		protocol = wire.Protocol
	}
	if o.Again == nil {
		o.Again = func(ctx context.Context, seat Seat) (Transport, error) {
			return ask(
				ctx, u.String(), protocol, wire.Join{Token: seat.Token, Seen: seat.Seen, Outline: seat.Fingerprint},
				o.TLS,
			)
		}
	}
	t, err := ask(ctx, u.String(), protocol, j, o.TLS)
	if err != nil {
		return nil, err
	}
	c, err := New(ctx, t, o)
	var refused *Refused
	if o.Outline != nil && errors.As(err, &refused) && refused.Code == api.CodeOtherOutline {
		if theirs, failed := (api.Client{Service: service, TLS: o.TLS}).Outline(ctx, session); failed == nil {
			return nil, fmt.Errorf("%w: %s", err, strings.Join(o.Outline.Differences(theirs), ", "))
		}
	}
	return c, err
}

// New takes the seat that a transport leads to: it waits for the server's hello.
func New(ctx context.Context, t Transport, o Options) (*Client, error) {
	c := &Client{
		options: o,
		waiting: map[uint64]*undecided{},
		slots:   make(chan struct{}, wire.MaxUndone),
		ended:   make(chan struct{}),
		sending: make(chan struct{}, 1),
	}
	c.life, c.stop = context.WithCancel(context.Background())
	if err := c.greet(ctx, t); err != nil {
		c.stop()
		return nil, err
	}
	c.copy.Me = c.hello.Client.Number
	c.foresight, _ = foresee.New(c.hello.Outline) // without it, the server alone decides
	if !o.NotReady {
		c.Ready()
	}
	go c.read()
	return c, nil
}

// greet takes the hello of a new connection, and closes the connection when it cannot.
func (c *Client) greet(ctx context.Context, t Transport) error {
	err := c.takeHello(ctx, t)
	if err != nil {
		t.Close("the connection was of no use")
	}
	return err
}

// takeHello reads the first message of a connection: who the client is, and the outline.
func (c *Client) takeHello(ctx context.Context, t Transport) error {
	raw, err := t.Read(ctx)
	if err != nil {
		return err
	}
	var hello wire.Hello
	err = json.Unmarshal(raw, &hello)
	if err == nil && hello.Outline == nil {
		hello.Outline = c.hello.Outline
		if hello.Outline == nil {
			hello.Outline = c.options.Outline
		}
	}
	if err != nil || hello.Type != wire.MessageHello || hello.Outline == nil {
		var bye wire.Bye
		switch {
		case json.Unmarshal(raw, &bye) != nil || bye.Type != wire.MessageBye:
		case bye.Code != "":
			return &Refused{bye.Reason, bye.Code}
		default:
			return Ended(bye.Reason)
		}
		return errors.New("the server's first message is no hello")
	}
	if c.options.OnRaw != nil {
		c.options.OnRaw(raw)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.transport == nil {
		c.hello, c.binary = hello, hello.Protocol == wire.Binary
	} else if hello.Fingerprint != c.hello.Fingerprint || hello.Protocol != c.hello.Protocol {
		return fmt.Errorf(
			"the server now has the outline %.40s and speaks %.40s; this client was made for another",
			hello.Fingerprint, hello.Protocol,
		)
	}
	c.token = hello.Token
	c.transport = t
	if c.binary {
		c.reader = wire.NewReader(wire.NewLayout(c.hello.Outline))
	}
	// Whoever had the seat before gave numbers up to this one.
	c.seq = max(c.seq, hello.Received)
	c.presses = max(c.presses, hello.Received)
	return nil
}

// Me returns which client this is.
func (c *Client) Me() wire.Client { return c.hello.Client }

// Token takes the seat again once the connection is lost, for as long as Grace; it is good once. Another one comes with
// each connection.
func (c *Client) Token() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.token
}

// Grace is how long the seat waits for a lost connection.
func (c *Client) Grace() time.Duration { return time.Duration(c.hello.GraceMs) * time.Millisecond }

// Clock estimates the session's clock, as it is at the server now: the time that its ticks have taken, counted from its
// first one.
func (c *Client) Clock() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.clock.now(time.Now())
}

// Outline returns what the contract lets clients know.
func (c *Client) Outline() *contract.Outline { return c.hello.Outline }

// Public returns the value of a public constant or setting of the contract, and its type. The error names those that
// there are.
func (c *Client) Public(name string) (contract.Value, *contract.Type, error) {
	all := slices.Clone(c.hello.Outline.Constants)
	for _, x := range c.hello.Outline.Settings {
		all = append(all, contract.ConstantOutline{Name: x.Name, Type: x.Type, Value: c.hello.Settings[x.Name]})
	}
	var known []string
	for _, x := range all {
		known = append(known, x.Name)
		if x.Name != name {
			continue
		}
		v, err := x.Type.ParseJSON(x.Value)
		if err != nil {
			return v, x.Type, fmt.Errorf("read `%s`, which the service sent: it %w", name, err)
		}
		return v, x.Type, nil
	}
	return contract.Value{}, nil, fmt.Errorf(
		"read a public constant or setting: there is no %.60q, only: %s", name, strings.Join(known, ", "),
	)
}

// Look calls f with the copy, which must not be changed nor kept. What moves by itself stands where it was at the tick
// of the last frame; Copy.Advance brings it to a later one.
func (c *Client) Look(f func(*replicate.Copy)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.copy)
}

// follow is a property that somebody follows.
type follow struct {
	of       func(t *replicate.Entity) bool
	property string
	f        func(t *replicate.Entity, now wire.Field, old *contract.Value)
}

// Follow calls f with the value of a property of those entities that of tells: with the present value at once, or when
// it arrives, and then with each other value that comes and the one before it. It is called from one goroutine at a
// time, at first from this one, and must not call the client.
func (c *Client) Follow(
	property string, of func(t *replicate.Entity) bool,
	f func(t *replicate.Entity, now wire.Field, old *contract.Value),
) (stop func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, t := range c.copy.Entities() {
		if now, has := t.Field(property); has && of(t) {
			f(t, now, nil)
		}
	}
	c.followed++
	n := c.followed
	if c.follows == nil {
		c.follows = map[int]*follow{}
	}
	c.follows[n] = &follow{of, property, f}
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.follows, n)
	}
}

// report tells those who follow what changed.
func (c *Client) report(notices []replicate.Notice) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, n := range slices.Sorted(maps.Keys(c.follows)) {
		x := c.follows[n]
		for i := range notices {
			switch n := &notices[i]; {
			case n.Type == replicate.FieldChanged && n.Field.Name == x.property && x.of(n.Entity):
				x.f(n.Entity, n.Field, n.Old)
			case n.Type == replicate.EntitySpawned && x.of(n.Entity):
				if now, has := n.Entity.Field(x.property); has {
					x.f(n.Entity, now, nil)
				}
			}
		}
	}
}

// Ended is closed when the connection has ended; Reason then says why.
func (c *Client) Ended() <-chan struct{} { return c.ended }

// Reason says why the connection ended; empty while it lasts.
func (c *Client) Reason() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.reason
}

// Sent says to which session the contract has sent the client, once it is out; ok is false for one that was not sent.
func (c *Client) Sent() (to Arrival, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.arrival == nil {
		return Arrival{}, false
	}
	return *c.arrival, true
}

// Ready tells the server that events may come.
func (c *Client) Ready() {
	c.mu.Lock()
	c.ready = true
	c.mu.Unlock()
	c.send(wire.FromClient{Type: wire.MessageReady})
}

// Log sends a line of the game's own log up, with the tick that the copy is at: who watches the session finds it in
// the time line. A text of more than wire.MaxLog bytes is cut, and one too many a second is dropped by the server.
// Nothing is sent to a server that is too old to take it.
func (c *Client) Log(text string) {
	if c.hello.Revision < 2 {
		return
	}
	if len(text) > wire.MaxLog {
		text = strings.ToValidUTF8(text[:wire.MaxLog-len("…")], "") + "…"
	}
	c.mu.Lock()
	seen := c.copy.Tick
	c.mu.Unlock()
	c.send(wire.FromClient{Type: wire.MessageLog, Ask: wire.Ask{Seen: seen}, Text: text})
}

// Close gives the seat up. It also ends a connection that is being made again; a seat that was taken anew meanwhile
// is given up as well. It must not be called from one of the callbacks.
func (c *Client) Close() {
	c.mu.Lock()
	c.closing = true
	c.mu.Unlock()
	c.farewell(c.way())
	c.stop()
	c.way().Close("the client left")
	<-c.ended
}

// farewell says over a connection that the client leaves, and waits for that no longer than a moment.
func (c *Client) farewell(t Transport) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = t.Write(ctx, c.word(wire.FromClient{Type: wire.MessageLeave})) // an ended connection shows in read
}

// way returns the present connection.
func (c *Client) way() Transport {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.transport
}

// word returns a message as the connection wants it.
func (c *Client) word(message wire.FromClient) []byte {
	if c.binary {
		return message.Pack(c.hello.Outline)
	}
	return message.JSON()
}

// send queues a message for the connection, in order.
func (c *Client) send(message wire.FromClient) {
	_ = c.Send(c.word(message)) // an ended connection shows in read
}

// Send sends a message as it stands, whatever it is, as somebody would who has no library: to see what the server does
// with it. The connection is cut when it cannot be read.
func (c *Client) Send(message []byte) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return c.way().Write(ctx, message)
}

// Ask sends a request and waits for its decision. entity 0 means the one of a shared kind, or the client's own. A name
// that the outline lacks, and arguments of other types than it says, are refused with an error. When a check that the
// client can evaluate itself fails on its copy, nothing is sent: the decision is the denial that would come, with Seq
// 0.
func (c *Client) Ask(
	ctx context.Context, entity uint32, request string, args ...json.RawMessage,
) (wire.Decision, error) {
	o := c.hello.Outline
	kind, name, _ := strings.Cut(request, ".")
	k := o.Kind(kind)
	if k == nil || k.Request(name) == nil {
		return wire.Decision{}, fmt.Errorf(
			"ask %s: the outline of %s has no such request; there is %s", request, o.Contract,
			strings.Join(requestNames(o), ", "),
		)
	}
	r := k.Request(name)
	if len(args) != len(r.Params) {
		return wire.Decision{}, fmt.Errorf("ask %s: it has %d arguments, not %d", request, len(r.Params), len(args))
	}
	values := make([]contract.Value, len(args))
	for i, p := range r.Params {
		var err error
		values[i], err = p.Type.ParseJSON(args[i])
		if err != nil {
			return wire.Decision{}, fmt.Errorf("ask %s: the argument `%s` %w", request, p.Name, err)
		}
	}
	c.mu.Lock()
	failed := -1
	if c.foresight != nil {
		failed = c.foresight.Denies(&c.copy, c.hello.Client.Number, o, request, entity, values)
	}
	c.mu.Unlock()
	if failed >= 0 {
		return wire.Decision{
			Outcome: wire.Denied,
			Stage:   wire.StageCheck,
			Reason:  r.Reasons[failed],
			Check:   failed,
		}, nil
	}
	return c.Forge(ctx, entity, request, args...)
}

// requestNames lists the requests of an outline as Kind.request.
func requestNames(o *contract.Outline) (out []string) {
	for _, k := range o.Kinds {
		for _, r := range k.Requests {
			out = append(out, k.Name+"."+r.Name)
		}
	}
	return out
}

// Forge is Ask without any care: the request is sent as it stands, whatever the outline says.
func (c *Client) Forge(
	ctx context.Context, entity uint32, request string, args ...json.RawMessage,
) (wire.Decision, error) {
	if args == nil {
		args = []json.RawMessage{}
	}
	for i, a := range args {
		if !json.Valid(a) {
			return wire.Decision{}, fmt.Errorf("ask %s: argument %d is not JSON", request, i+1)
		}
	}
	// A slot is free again when the decision has come, even if nobody waits for it any more: the server counts it until
	// then.
	select {
	case c.slots <- struct{}{}:
	case <-c.ended:
		return wire.Decision{}, fmt.Errorf("ask %s: %w: %s", request, ErrEnded, c.Reason())
	case <-ctx.Done():
		return wire.Decision{}, ctx.Err()
	}
	answer := make(chan wire.Decision, 1)
	select {
	case c.sending <- struct{}{}:
	case <-c.ended:
		return wire.Decision{}, fmt.Errorf("ask %s: %w: %s", request, ErrEnded, c.Reason())
	case <-ctx.Done():
		<-c.slots // nothing was sent
		return wire.Decision{}, fmt.Errorf("ask %s: it could not be sent: %w", request, ctx.Err())
	}
	c.mu.Lock()
	c.seq++
	ask := wire.Ask{
		Seq:     c.seq,
		Entity:  entity,
		Request: request,
		Args:    args,
		Seen:    c.copy.Tick,
	}
	c.waiting[c.seq] = &undecided{ask, answer}
	c.mu.Unlock()
	go func() { // who asks does not wait for a connection that takes nothing
		c.send(wire.FromClient{Type: wire.MessageAsk, Ask: ask})
		<-c.sending
	}()
	select {
	case d := <-answer:
		return d, nil
	case <-c.ended:
		return wire.Decision{}, fmt.Errorf("ask %s: %w: %s", request, ErrEnded, c.Reason())
	case <-ctx.Done():
		return wire.Decision{}, fmt.Errorf("ask %s: no decision came: %w", request, ctx.Err())
	}
}

// Write sends a new value of a property that this client may write, and returns the number that a refusal in a later
// frame's decisions would carry. entity is as in Ask; the property is called by its full name, such as `Diver.pos`.
func (c *Client) Write(entity uint32, property string, value json.RawMessage) (seq uint64, err error) {
	if !json.Valid(value) {
		return 0, fmt.Errorf("write %s: the value is not JSON", property)
	}
	select {
	case c.sending <- struct{}{}:
		defer func() { <-c.sending }()
	case <-c.ended:
		return 0, fmt.Errorf("write %s: %w: %s", property, ErrEnded, c.Reason())
	}
	c.mu.Lock()
	c.seq++
	seq = c.seq
	seen := c.copy.Tick
	c.mu.Unlock()
	c.send(wire.FromClient{
		Type:     wire.MessageWrite,
		Ask:      wire.Ask{Seq: seq, Entity: entity, Seen: seen},
		Property: property,
		Value:    value,
	})
	return seq, nil
}

// Hold presses a hold, such as `Diver.kick`, and renews its lease until release is called or the client is out. The
// server may end it before; it begins again only with another Hold.
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
	say := func(what wire.MessageType) {
		c.send(wire.FromClient{
			Type:     what,
			Ask:      wire.Ask{Entity: entity},
			Property: property,
			Press:    press,
		})
	}
	stop := make(chan struct{})
	say(wire.MessagePress)
	go func() {
		ticker := time.NewTicker(lease / 3)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
				say(wire.MessagePress)
			case <-stop:
				say(wire.MessageRelease)
				return
			case <-c.ended:
				return
			}
		}
	}()
	return sync.OnceFunc(func() { close(stop) }), nil
}

// read takes messages from the connection until it ends, then comes back or ends the client.
func (c *Client) read() {
	reason := "the server closed the connection"
	for {
		raw, err := c.way().Read(context.Background())
		if err != nil {
			if err = c.again(err); err == nil {
				continue
			}
			reason = err.Error()
			break
		}
		if c.options.OnRaw != nil {
			c.options.OnRaw(raw)
		}
		frame, bye, err := c.parse(raw)
		if err != nil {
			reason = err.Error()
			break
		}
		if frame == nil {
			reason = bye
			c.noteArrival(raw)
			break
		}
		c.mu.Lock()
		notices := c.copy.Apply(frame)
		c.clock.tick(frame.Tick, c.hello.Outline.Tick, time.Now())
		differs := frame.Digest != nil && c.copy.Digest(c.hello.Outline) != *frame.Digest
		c.mu.Unlock()
		if differs {
			if c.options.OnDiffer != nil {
				c.options.OnDiffer(frame.Tick)
			}
			c.send(wire.FromClient{Type: wire.MessageDiffers, Ask: wire.Ask{Seen: frame.Tick}})
		}
		c.report(notices)
		if frame.Incarnation != nil {
			c.undo(frame.Incarnation.Kept)
		}
		if c.options.OnFrame != nil {
			c.options.OnFrame(frame, notices)
		}
		c.takeDecisions(frame)
		c.send(wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: frame.Tick}})
	}
	c.way().Close(reason)
	c.stop()
	c.mu.Lock()
	c.reason = reason
	c.mu.Unlock()
	close(c.ended)
	if c.options.OnEnd != nil {
		c.options.OnEnd(reason)
	}
}

// takeDecisions tells those who wait for decisions that they have come: after what they changed.
func (c *Client) takeDecisions(frame *wire.Frame) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, d := range frame.Decisions {
		if d.Seq != 0 {
			c.decided = append(c.decided, decided{d.Seq, frame.Tick})
		}
		if w := c.waiting[d.Seq]; w != nil { // else it came before the connection was lost
			w.answer <- d
			delete(c.waiting, d.Seq)
			<-c.slots
		}
	}
	if n := len(c.decided); n >= 2*maxDecided {
		c.decided = append(c.decided[:0], c.decided[n-maxDecided:]...)
	}
}

// undo tells whoever wants to know which decisions came after the last tick that was kept.
func (c *Client) undo(kept int64) {
	c.mu.Lock()
	var undone []uint64
	c.decided = slices.DeleteFunc(c.decided, func(d decided) bool {
		if d.tick > kept {
			undone = append(undone, d.seq)
		}
		return d.tick > kept
	})
	c.mu.Unlock()
	if c.options.OnUndone != nil {
		c.options.OnUndone(undone[max(0, len(undone)-maxDecided):], kept)
	}
}

// again makes the connection anew after it was lost, for as long as the seat waits; the error says why it cannot. What
// was not decided is asked again: the server answers what it has decided with its first decision.
func (c *Client) again(lost error) error {
	c.mu.Lock()
	seat := Seat{c.token, c.copy.Tick, c.hello.Fingerprint}
	closing := c.closing
	c.mu.Unlock()
	var ended Ended
	if closing || c.options.Again == nil || c.Grace() == 0 || errors.As(lost, &ended) || forGood(lost) {
		return lost
	}
	c.way().Close("the connection was lost") // which ends what is being sent over it
	c.sending <- struct{}{}                  // what is asked meanwhile waits
	defer func() { <-c.sending }()
	if c.options.OnLost != nil {
		c.options.OnLost(lost.Error())
	}
	ctx, cancel := context.WithTimeout(c.life, c.Grace())
	defer cancel()
	for pause := 25 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		t, err := c.options.Again(ctx, seat)
		if err == nil {
			err = c.greet(ctx, t)
		}
		if err == nil {
			break
		}
		var refused *Refused
		if errors.As(err, &refused) && refused.Code != api.CodeBusy || errors.As(err, &ended) || ctx.Err() != nil {
			return fmt.Errorf("the connection was lost (%w) and could not be made again: %w", lost, err)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
	c.mu.Lock()
	ready := c.ready
	closing = c.closing // what was said while there was no connection counts as well
	c.mu.Unlock()
	if closing {
		c.farewell(c.way())
		return lost
	}
	if ready {
		c.send(wire.FromClient{Type: wire.MessageReady})
	}
	c.mu.Lock()
	var open []wire.Ask
	for _, seq := range slices.Sorted(maps.Keys(c.waiting)) {
		open = append(open, c.waiting[seq].ask)
	}
	c.mu.Unlock()
	for _, ask := range open {
		c.send(wire.FromClient{Type: wire.MessageAsk, Ask: ask})
	}
	if c.options.OnBack != nil {
		c.options.OnBack()
	}
	return nil
}

// forGood reports whether an error says that the server has closed the connection for good. One that goes away or is
// restarted may be there again in a moment.
func forGood(lost error) bool {
	var closed *api.Closed
	if !errors.As(lost, &closed) {
		return false
	}
	switch closed.Status {
	case websocket.CloseGoingAway, websocket.CloseServiceRestart, websocket.CloseTryAgainLater:
		return false
	}
	return true
}

// noteArrival notes where the client is sent by its last message, if it is.
func (c *Client) noteArrival(raw []byte) {
	var bye wire.Bye
	if json.Unmarshal(raw, &bye) != nil || bye.Code != wire.CodeSent {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.arrival = &Arrival{Session: bye.Session, Contract: bye.Contract, Ticket: bye.Ticket}
}

// parse reads a message of the server: a frame, or the reason of a bye.
func (c *Client) parse(raw []byte) (frame *wire.Frame, bye string, err error) {
	if !c.binary || len(raw) > 0 && raw[0] == '{' {
		return wire.ParseFrame(raw, c.hello.Outline)
	}
	frame, err = c.reader.Read(raw)
	return frame, "", err
}

// clock follows the server's ticks. The frame that was the least late tells how the two clocks stand; what is older
// than a minute counts no more, since clocks drift.
type clock struct {
	period time.Duration
	best   [2]time.Time // when the first tick would have arrived: of this half minute, and of the one before
	turn   time.Time
}

// tick notes when the frame of a tick arrived. The earliest arrivals tell how the server's clock runs; later ones were
// held up on the way.
func (k *clock) tick(tick int64, rate int, arrived time.Time) {
	if rate < 1 {
		return // no server of ours says so
	}
	k.period = time.Second / time.Duration(rate)
	began := arrived.Add(-time.Duration(tick) * k.period)
	if arrived.Sub(k.turn) > 30*time.Second {
		k.turn, k.best[1], k.best[0] = arrived, k.best[0], began
	}
	if began.Before(k.best[0]) {
		k.best[0] = began
	}
}

// now returns the session's time at a moment, as far as frames tell it; 0 before the first one.
func (k *clock) now(at time.Time) time.Duration {
	if k.period == 0 {
		return 0
	}
	began := k.best[0]
	if !k.best[1].IsZero() && k.best[1].Before(began) {
		began = k.best[1]
	}
	return at.Sub(began)
}

// socket is a Transport over a WebSocket.
type socket struct{ *api.Socket }

// Close implements Transport.
func (s socket) Close(reason string) { s.Socket.Close(websocket.CloseNormalClosure, reason) }

// ask opens a WebSocket and asks for a seat over it.
func ask(ctx context.Context, address, protocol string, j wire.Join, believed *tls.Config) (Transport, error) {
	t, err := dial(ctx, address, protocol, believed)
	if err != nil {
		return nil, err
	}
	if err := t.Write(ctx, j.JSON()); err != nil {
		t.Close("the connection was of no use")
		return nil, err
	}
	return t, nil
}

// dial opens a WebSocket. For a handshake that the server refuses the error is a *Refused.
func dial(ctx context.Context, address, protocol string, believed *tls.Config) (Transport, error) {
	conn, err := api.DialWebSocket(ctx, address, protocol, api.Dialing{MaxMessage: maxFrame, TLS: believed})
	var problem *api.Problem
	if errors.As(err, &problem) {
		return nil, &Refused{problem.Error(), problem.Code}
	}
	if err != nil {
		return nil, err
	}
	return socket{conn}, nil
}
