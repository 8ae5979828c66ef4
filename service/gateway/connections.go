package gateway

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/service/door"
	"kamerad.example/service/runner"
)

// maxInbound is how many messages of one client may wait for a tick; more wait in its own socket.
const maxInbound = 256

// Connections are the connections of one session's clients, as its runner needs them. The runner's goroutine owns all
// of it, but for what the comments give to others.
type Connections struct {
	gateway     *Gateway
	runner      *runner.Runner
	byClient    map[int]*connection // by the client's number
	clock       sessionClock
	lastCheck   time.Time // when the progress of connections was looked at
	followEvery int64     // ticks after which a connection's progress is told of a frame again

	// Sending.
	outgoing          []outgoing       // of this tick
	memories          []*memory        // of the frames of this tick and of earlier ones that are still being written
	frames            *memory          // of this tick
	slots             []connectionSlot // of byClient, by number; nil when they have to be listed again
	awaitingDecision  []*connection    // that asked something and got no frame since
	behindConnections []*connection    // that were not sent everything
	slowSockets       atomic.Int32     // how many sockets take less than they are sent; writers count
	pipeCount         int              // how many of byClient are no sockets

	// Receiving.
	handled   int // messages since the last tick began
	readers   socketReaders
	received  inboundMessage // the one that is read on the runner's goroutine; its memory is used again
	inboundMu sync.Mutex
	// from clients that are read on other goroutines, in the order of arrival; under inboundMu
	inbound      []inboundMessage
	spareInbound []inboundMessage // the memory of those that were handled before
}

// Connect makes the connections of a runner, which has none yet, and attaches them to it.
func (g *Gateway) Connect(r *runner.Runner) *Connections {
	s := &Connections{
		gateway:     g,
		runner:      r,
		byClient:    map[int]*connection{},
		followEvery: max(int64(r.Session().Contract().TickRate)/4, 1),
	}
	r.Attach(s)
	return s
}

// Runner returns the runner whose connections these are.
func (s *Connections) Runner() *runner.Runner { return s.runner }

// seatRequest is how a connection asks for a seat.
type seatRequest struct {
	runner.SeatRequest
	json bool          // it speaks JSON
	pipe bool          // it is no socket
	from *door.Address // that it comes from; nil when that is not counted
}

// takeSeat asks the runner for a seat for a client; its messages then come out of the returned connection.
func (s *Connections) takeSeat(ctx context.Context, j seatRequest) (c *connection, err error) {
	done, err := s.runner.Prepare(ctx, &j.SeatRequest)
	if err != nil {
		return nil, err
	}
	defer done()
	var refused error
	if err := s.runner.Do(ctx, func() { c, refused = s.join(j) }); err != nil {
		return nil, err
	}
	if refused != nil {
		return nil, refused
	}
	if c.stored != nil {
		waiting, cancel := context.WithTimeout(ctx, seatStoredWithin)
		defer cancel()
		_ = c.stored(waiting) // a database that is away keeps nobody from playing
	}
	return c, nil
}

// seatStoredWithin is how long a client waits for its hello until its seat is stored. Of one that comes later than
// that, a service that ends at once remembers nothing.
const seatStoredWithin = 2 * time.Second

// join seats a client and makes its connection.
func (s *Connections) join(j seatRequest) (*connection, error) {
	seating, err := s.runner.TakeSeat(j.SeatRequest)
	if err != nil {
		return nil, err
	}
	hello := seating.Hello
	c := &connection{
		stored:         seating.Stored,
		client:         hello.Client.Number,
		outbox:         newOutbox(),
		from:           j.from,
		isTest:         j.Test,
		token:          hello.Token,
		framing:        appendMessage,
		messageHandled: make(chan struct{}, 1),
		ended:          make(chan struct{}),
	}
	if !seating.ByToken {
		c.state.Store(uint32(connectionOpen))
	}
	if j.pipe {
		c.framing = asIs
		c.outbox.wake = make(chan struct{}, 1)
		s.pipeCount++
	}
	hello.Protocol = wire.Binary
	if j.json {
		c.jsonReader = s.runner.Session().Reader(0)
		hello.Protocol = wire.Protocol
	}
	s.byClient[c.client] = c
	s.slots = nil
	c.outbox.put(c.framing, api.Encode(hello), 0, time.Now(), time.Time{})
	return c, nil
}

// Len returns how many clients are connected. It is called on the runner's goroutine.
func (s *Connections) Len() int { return len(s.byClient) }

// Replace implements runner.Connections. Of two connections that came with a token, the later one may be an earlier try
// of the client, whose handshake was late. Until something has come over one of them nobody knows which one the client
// has, so the other one ends as if it had broken.
func (s *Connections) Replace(client int) {
	old := s.byClient[client]
	if old == nil {
		return
	}
	old.on(seatRetaken)
	s.End(client, "another connection took the seat")
}

// End implements runner.Connections.
func (s *Connections) End(client int, reason string) {
	c := s.byClient[client]
	if c == nil {
		return
	}
	delete(s.byClient, client)
	if c.outbox.wake != nil {
		s.pipeCount--
	}
	c.on(seatGone)
	s.slots = nil
	s.stopReading(c.reader)
	c.end(reason)
}

// Depart implements runner.Connections.
func (s *Connections) Depart(client int, reason string, bye func() wire.Bye) {
	if c := s.byClient[client]; c != nil {
		c.farewell = bye
		s.End(client, reason)
	}
}

// Abandon implements runner.Connections.
func (s *Connections) Abandon(reason string) {
	for _, c := range s.byClient {
		c.end(reason)
	}
}

// Suspend implements runner.Connections. A client whose connection breaks connects again by itself; one that is told
// why it is out does not.
func (s *Connections) Suspend() {
	for _, c := range s.byClient {
		c.on(sessionSuspended)
		c.end("the session goes on in another service")
	}
}

// Close implements runner.Connections.
func (s *Connections) Close() { s.readers.poller.Close() }

// lose ends a connection that is gone, unless another one has taken its seat.
func (s *Connections) lose(c *connection, reason string) {
	if s.byClient[c.client] == c {
		s.runner.Lose(c.client, reason)
	}
}

// leave takes the seat of a connection, unless another one has it by now.
func (s *Connections) leave(c *connection, reason string) {
	if s.byClient[c.client] == c {
		s.runner.Leave(c.client, reason)
	}
}

// BeginTick implements runner.Connections.
func (s *Connections) BeginTick(now time.Time) {
	if s.handled > 0 {
		s.gateway.meters.received.Add(float64(s.handled))
		s.handled = 0
	}
	s.clock.tick(now, s.runner.Period())
	s.Receive()
	s.checkProgress(now)
}

// Receive implements runner.Connections.
func (s *Connections) Receive() {
	s.readMessages()
	s.inboundMu.Lock()
	mail := s.inbound
	s.inbound = s.spareInbound[:0]
	s.inboundMu.Unlock()
	for i := range mail {
		c := mail[i].from
		if c.waitingMessages.Add(-1) >= maxInbound-1 {
			select {
			case c.messageHandled <- struct{}{}:
			default:
			}
		}
		s.handle(&mail[i])
	}
	clear(mail)
	s.spareInbound = mail
}

// handle hands a message to the runner, unless its client has lost its seat meanwhile.
func (s *Connections) handle(m *inboundMessage) {
	c := m.from
	state := c.is()
	if !state.seated() {
		return
	}
	if state == connectionNew { // the client has the token that came with this connection
		s.runner.KeepToken(c.client, c.token)
		c.on(somethingCame)
	}
	if m.Confirmed > 0 {
		c.progress.noteConfirmed(min(m.Confirmed, s.runner.Session().Now()), s.clock.passed)
	}
	if m.Type == wire.MessageAsk && c.oldestRequest.IsZero() {
		c.oldestRequest = m.At
		s.awaitingDecision = append(s.awaitingDecision, c)
	}
	s.handled++
	s.runner.Handle(c.client, &m.Message)
}

// readMessage reads a message in the client's own protocol into m. The error says that it is broken; who sent it is to
// be cut.
func (s *Connections) readMessage(m *inboundMessage, c *connection, raw []byte, now time.Time) error {
	if err := s.runner.ReadMessage(&m.Message, raw, c.jsonReader != nil); err != nil {
		s.gateway.meters.broken.Inc()
		return err
	}
	m.from = c
	m.At = now
	return nil
}

// deliver leaves a message that was read elsewhere for the runner. It waits while too many of the client's messages
// wait, and reports whether the client is still in.
func (s *Connections) deliver(l inboundMessage) bool {
	c := l.from
	for c.waitingMessages.Load() >= maxInbound { // nobody else adds to this client's
		select {
		case <-c.messageHandled:
		case <-c.ended:
			return false
		case <-s.runner.Done():
			return false
		}
	}
	c.waitingMessages.Add(1)
	s.inboundMu.Lock()
	s.inbound = append(s.inbound, l)
	s.inboundMu.Unlock()
	return true
}

// inboundMessage is a message of a client that was read and not handled yet.
type inboundMessage struct {
	runner.Message
	from *connection
}

// checkProgress looks after clients that do not take what they are sent: one that is behind gets a snapshot once it has
// taken what was written, and one that makes no progress is cut.
func (s *Connections) checkProgress(now time.Time) {
	s.behindConnections = slices.DeleteFunc(s.behindConnections, func(c *connection) bool {
		if s.byClient[c.client] != c {
			return true
		}
		patience := c.progress.patience()
		if c.progress.isStuck(s.clock.passed) || c.outbox.waitsFor(now) > patience {
			s.lose(
				c, fmt.Sprintf("it confirmed nothing of what it was sent for %s", patience.Round(time.Second/10)),
			)
			return true
		}
		if !c.outbox.empty() || c.progress.isBehind(s.clock.passed) {
			return false
		}
		c.behind = false
		s.runner.Session().CaughtUp(c.client)
		return true
	})
	if now.Sub(s.lastCheck) < behindAfter/4 {
		return
	}
	s.lastCheck = now
	waiting := s.slowSockets.Load() > 0 || s.pipeCount > 0 // else no outbox holds anything
	for _, at := range s.connectionSlots() {
		c := at.conn
		if !c.behind && (c.progress.isBehind(s.clock.passed) || waiting && c.outbox.full(now)) {
			c.behind = true
			s.behindConnections = append(s.behindConnections, c)
			taken := c.outbox.drop(s.runner.Session().Now())
			c.progress.noteDropped(taken)
			s.runner.Session().Behind(c.client, taken)
			s.gateway.meters.behind.Inc()
		}
	}
}

// keptFrames is how many bytes of frames are kept for the next ticks. One in which everybody is sent a snapshot of a
// great world takes more.
const keptFrames = 16 << 20

// FrameMemory implements runner.Connections.
func (s *Connections) FrameMemory() []byte {
	s.frames = s.freeMemory()
	return s.frames.bytes
}

// freeMemory returns memory for the frames of a tick that no writer is at any more.
func (s *Connections) freeMemory() *memory {
	for _, m := range s.memories {
		if m.users.Load() == 0 {
			if cap(m.bytes) > keptFrames {
				m.bytes = nil
			}
			return m
		}
	}
	m := &memory{}
	if len(s.memories) < 8 {
		s.memories = append(s.memories, m)
	}
	return m
}

// connectionSlot is what a tick has to know of a connection, so that it does not have to follow its pointer.
type connectionSlot struct {
	client       int
	outbox       *outbox
	socket       *clientSocket // nil for a pipe
	conn         *connection
	asIs         bool  // frames go out as the session made them
	writer       uint8 // the goroutine that writes to the socket
	nextFollowed int64 // the first tick whose frame the connection's progress is told of again
}

// connectionSlots makes the lineup anew when somebody has come or gone.
func (s *Connections) connectionSlots() []connectionSlot {
	if s.slots != nil {
		return s.slots
	}
	for _, c := range s.byClient {
		at := connectionSlot{
			client: c.client,
			outbox: c.outbox,
			socket: c.socket,
			conn:   c,
			asIs:   c.socket != nil && c.jsonReader == nil,
		}
		if c.socket != nil {
			at.writer = c.socket.writer
		}
		s.slots = append(s.slots, at)
	}
	slices.SortFunc(s.slots, func(a, b connectionSlot) int { return a.client - b.client })
	return s.slots
}

// Send implements runner.Connections: it hands the frames of a tick to the writers. Both the frames and the clients are
// in the order of their numbers.
func (s *Connections) Send(step *session.Step, now time.Time) {
	s.frames.bytes = step.Memory
	s.outgoing = s.outgoing[:0]
	rest := s.connectionSlots()
	bytes := 0
	defer func() { s.gateway.meters.sent.Add(float64(bytes)) }()
	for i := range step.Frames {
		f := &step.Frames[i]
		for len(rest) > 0 && rest[0].client < f.Client {
			rest = rest[1:]
		}
		if len(rest) == 0 || rest[0].client != f.Client {
			continue
		}
		bytes += len(f.Bytes)
		at := &rest[0]
		if step.Tick >= at.nextFollowed {
			at.nextFollowed = step.Tick + s.followEvery
			at.conn.progress.noteSent(step.Tick, s.clock.passed)
		}
		var asked time.Time
		if len(s.awaitingDecision) > 0 {
			asked, at.conn.oldestRequest = at.conn.oldestRequest, asked
		}
		switch {
		case at.asIs:
			s.outgoing = append(s.outgoing, outgoing{at.outbox, at.socket, f.Whole, true, at.writer, asked})
		case at.socket == nil:
			at.conn.outbox.put(at.conn.framing, at.conn.inProtocol(f.Bytes), step.Tick, now, asked)
		default:
			s.outgoing = append(
				s.outgoing,
				outgoing{
					at.outbox, at.socket, appendMessage(nil, at.conn.inProtocol(f.Bytes)), false, at.writer, asked,
				},
			)
		}
	}
	s.awaitingDecision = slices.DeleteFunc(
		s.awaitingDecision, func(c *connection) bool { return c.oldestRequest.IsZero() || !c.is().seated() },
	)
	s.gateway.writers.distribute(step.Tick, now, s.outgoing, s.frames)
}
