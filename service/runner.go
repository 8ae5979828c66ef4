package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/client"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/store"
)

const (
	inboxSize  = 1024 // of what is asked of a runner between two ticks; who asks waits when it is full
	maxInbound = 256  // messages of one client that wait for a tick; then they wait in its own socket
	maxSteps   = 10_000
)

// errClosed says that a session ended while something was asked of it.
var errClosed = errors.New("the session has closed")

// errBusy says that a session did not come to what was asked of it in time.
var errBusy = errors.New("the session is busy: it has not come to this in time; try again")

// runner runs one session. Its goroutine, loop, owns the session and every field below that is not said to be
// another's; everybody else hands it functions to run between two ticks, with do and post.
type runner struct {
	id       int64
	row      store.Session // as it is stored
	session  *session.Session
	outline  *contract.Outline // what clients are given; it never changes
	recorder Recorder
	meters   *meters
	now      func() time.Time

	inbox chan func()   // what others ask of the goroutine
	stop  chan string   // the reason to end; it takes one
	done  chan struct{} // closed when the goroutine has ended
	// halted is closed when connections are to end without the runner.
	halted <-chan struct{}
	failed func()              // called when the session has failed inside
	ended  func(reason string) // called when the contract ends the session; it waits for the runner
	paused bool
	ending bool // the contract has ended the session

	// Seats and connections, by the client's number.
	conns         map[int]*connection
	seatRows      map[int]store.Seat
	saidReady     map[int]bool          // the client has said that it is ready, on some connection
	refusedLimits map[int]*rate.Limiter // how many of the client's refused requests are stored
	seatByToken   map[string]int        // the client that a token takes the seat of
	tokensOf      map[int][]string      // the tokens of the client's seat, oldest first
	lostSeats     []lostSeat            // that wait for a connection, oldest first
	lastCheck     time.Time             // when the progress of connections was looked at

	// Sending.
	writers           *writers
	outgoing          []outgoing       // of this tick
	memories          []*memory        // of the frames of this tick and of earlier ones that are still being written
	slots             []connectionSlot // of conns, by number; nil when they have to be listed again
	awaitingDecision  []*connection    // that asked something and got no frame since
	behindConnections []*connection    // that were not sent everything
	slowSockets       atomic.Int32     // how many sockets take less than they are sent; writers count
	pipeCount         int              // how many of conns are no sockets

	// Receiving.
	readers   socketReaders
	inboundMu sync.Mutex
	// from clients that are read on other goroutines, in the order of arrival; under inboundMu
	inbound      []inboundMessage
	spareInbound []inboundMessage // the memory of those that were handled before

	// What is told of the session.
	watchers    *watchers
	lastTick    atomic.Int64                   // the newest tick; everyone may read it
	summary     atomic.Pointer[client.Session] // at most a second older than lastTick; for who does not wait
	clock       sessionClock
	slowness    *client.Slowness // of the last minute; nil when its ticks take no longer than they may
	slowSince   time.Time
	overrunLog  repeatLog
	contractLog repeatLog
	faults      faultList

	seed       uint64
	transcript *drill.Transcript // nil unless the session was opened with a seed
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

// inboundMessage is a message of a client that was read and not handled yet.
type inboundMessage struct {
	from      *connection
	typ       string // the type of the message
	confirmed int64  // the tick that it confirms
	at        time.Time
	request   *session.Request // of a request
	steering  session.Steering // of a press, a release or a write
	original  *wire.FromClient // as it came, for a transcript
}

// connection is a client's connection as its runner knows it. Messages go out through a bounded outbox, so that a slow
// client holds up nobody. The runner's goroutine owns it, but for what the comments give to others.
type connection struct {
	// What is looked at a few times a second of each client stands in one cache line.
	client   int
	outbox   *outbox
	progress progress
	behind   bool // it was not sent everything
	seated   bool // the client has its seat

	socket *clientSocket  // nil for a pipe
	reader *messageReader // nil when it is read on another goroutine
	// of a client that speaks JSON: its frames are made from the binary ones
	jsonReader    *wire.Reader
	oldestRequest time.Time                        // when the oldest request came that is not answered
	isTest        bool                             // it is a test client's
	token         string                           // that takes the seat again
	framing       func(dst, message []byte) []byte // appends a message as the transport wants it
	// waitingMessages counts the messages of this client in the runner's inbound; who reads counts up.
	waitingMessages atomic.Int32
	messageHandled  chan struct{} // has something when one of them was handled
	// spentToken is the token that it came with, good until something comes over the connection; then empty.
	spentToken string
	address    string // see joinRequest

	once   sync.Once     // guards the end
	ended  chan struct{} // closed when the client is out
	reason string        // why; to be read once ended is closed
	broken bool          // it is out for a message that could not be read
	silent bool          // it ends without a goodbye; to be read once ended is closed
}

// end closes the queue; what waits in it is still written. Only the first end counts.
func (c *connection) end(reason string) {
	c.once.Do(func() {
		c.reason = reason
		close(c.ended)
	})
}

// endSilently ends the connection as if it had broken, so that its client comes back.
func (c *connection) endSilently(reason string) {
	c.once.Do(func() {
		c.reason = reason
		c.silent = true
		close(c.ended)
	})
}

func newRunner(row store.Session, s *session.Session, paused bool, recorder Recorder, m *meters) *runner {
	r := &runner{
		id:            row.ID,
		row:           row,
		session:       s,
		outline:       s.Contract().Outline(),
		recorder:      recorder,
		meters:        m,
		paused:        paused,
		inbox:         make(chan func(), inboxSize),
		stop:          make(chan string, 1),
		done:          make(chan struct{}),
		conns:         map[int]*connection{},
		seatByToken:   map[string]int{},
		tokensOf:      map[int][]string{},
		saidReady:     map[int]bool{},
		refusedLimits: map[int]*rate.Limiter{},
		seatRows:      map[int]store.Seat{},
		watchers:      newWatchers(s.SetWatched),
		now:           time.Now,
	}
	shown := r.describe()
	r.summary.Store(&shown)
	return r
}

// loop is the runner's goroutine. It ends when stop gives a reason, and has then told everyone.
func (r *runner) loop() {
	defer close(r.done)
	defer func() {
		if p := recover(); p != nil {
			r.failInside(p, debug.Stack())
		}
	}()
	// A ticker drops ticks that come while the goroutine is busy: a server that stalls skips time and never bursts.
	every := time.Second / time.Duration(r.session.Contract().TickRate)
	times := max(1, int(every/readEvery)) // that it listens, for one tick
	ticker := time.NewTicker(every / time.Duration(times))
	defer ticker.Stop()
	defer r.readers.poller.Close()
	for beat := 0; ; {
		select {
		case f := <-r.inbox:
			r.handleInbound()
			f()
		case <-ticker.C:
			beat++
			if beat%times == 0 && !r.paused {
				r.tick()
			} else {
				r.handleInbound()
			}
		case reason := <-r.stop:
			for n := range r.seatRows {
				r.dropSeat(n, "the session closed: "+reason)
			}
			r.watchers.end(reason)
			return
		}
	}
}

// failInside closes the session after a panic in it, which nobody else is to notice. What the session holds may be
// anything by now: it is left alone.
func (r *runner) failInside(p any, stack []byte) {
	slog.Error("a session failed inside and is closed", "session", r.id, "panic", p, "stack", string(stack))
	r.meters.failures.Inc()
	if r.failed != nil {
		r.failed()
	}
	now := time.Now()
	reason := "the session closed: it failed inside"
	for n, seat := range r.seatRows {
		if c := r.conns[n]; c != nil {
			c.end(reason)
		}
		seat.LeftAt = &now
		seat.LeftReason = &reason
		r.recorder.Seat(seat)
		r.meters.clients.Dec()
	}
	r.watchers.watched = func(bool) {}
	r.watchers.end("it failed inside")
	if r.ended != nil {
		go r.ended("it failed inside")
	}
}

// close ends the runner, and reports whether it had ended before ctx did.
func (r *runner) close(ctx context.Context, reason string) bool {
	select {
	case r.stop <- reason:
	default: // somebody else is closing it
	}
	select {
	case <-r.done:
		return true
	case <-ctx.Done():
		return false
	}
}

// askWithin is how long anybody waits for a session's goroutine to come to what is asked of it.
const askWithin = 3 * time.Second

// do runs f on the runner's goroutine and waits for it. When the runner does not come to it in time, f never runs and
// the error is errBusy.
func (r *runner) do(ctx context.Context, f func()) error {
	limited, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	late := func() error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errBusy
	}
	var taken atomic.Bool // by the runner, or by who gives up waiting
	ran := make(chan struct{})
	select {
	case r.inbox <- func() {
		if taken.CompareAndSwap(false, true) {
			f()
			close(ran)
		}
	}:
	case <-r.done:
		return errClosed
	case <-limited.Done():
		return late()
	}
	select {
	case <-ran:
		return nil
	case <-r.done:
		return errClosed
	case <-limited.Done():
	}
	if taken.CompareAndSwap(false, true) {
		return late()
	}
	select { // it runs now
	case <-ran:
		return nil
	case <-r.done:
		return errClosed
	}
}

// post runs f on the runner's goroutine without waiting for it, but for room in the inbox.
func (r *runner) post(f func()) {
	select {
	case r.inbox <- f:
	case <-r.done:
	}
}

func (r *runner) tick() {
	began := r.now()
	failpoints.tickBegins.Hit()
	r.clock.tick(began, time.Second/time.Duration(r.session.Contract().TickRate))
	r.handleInbound()
	r.checkProgress(began)
	m := r.frameMemory()
	r.session.UseMemory(m.bytes)
	step := r.session.Tick()
	if r.transcript != nil {
		r.transcript.Ticked(step)
	}
	m.bytes = step.Memory
	r.sendFrames(step, began, m)
	for _, cut := range step.Cuts {
		if r.transcript != nil {
			r.transcript.Out(cut.Client)
		}
		r.dropSeat(cut.Client, cut.Reason)
	}
	failed := r.noteFaults(step)
	if len(step.Decisions) > 0 {
		r.record(step.Decisions)
	}
	r.watchers.tick(r, step, failed)
	if step.Closed != "" && !r.ending {
		r.ending = true
		go r.ended(step.Closed) // it waits for this goroutine
	}
	r.lastTick.Store(step.Tick)
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		shown := r.describe()
		r.summary.Store(&shown)
	}
	for _, l := range step.Logs {
		if times := r.contractLog.count(l.Text, began); times > 0 {
			slog.Info("logged by the contract", "session", r.id, "tick", step.Tick, "words", l.Text, "times", times)
		}
	}
	r.meters.deferred.Add(float64(step.Deferred))
	r.noteDuration(step, began, r.now().Sub(began))
}

// slowFor is how long it is told that a session's ticks take too long.
const slowFor = time.Minute

// noteDuration notes how long a tick took; of one that took longer than there is between two, by what.
func (r *runner) noteDuration(step *session.Step, at time.Time, d time.Duration) {
	r.meters.tick.Observe(d.Seconds())
	if r.slowness != nil && at.Sub(r.slowSince) > slowFor {
		r.slowness = nil
	}
	if d <= time.Second/time.Duration(r.session.Contract().TickRate) {
		return
	}
	r.meters.overruns.Inc()
	if r.slowness == nil {
		r.slowness = &client.Slowness{}
		r.slowSince = at
	}
	r.slowness.Ticks++
	if ms := float64(d.Microseconds()) / 1000; ms > r.slowness.Ms {
		r.slowness.Ms = ms
	}
	if step.Heaviest.Of != "" {
		r.slowness.Of = step.Heaviest.Of
	}
	if times := r.overrunLog.count("tick", at); times > 0 {
		slog.Warn(
			"a session's ticks take longer than there is between them", "session", r.id, "ms",
			float64(d.Microseconds())/1000, "most_of_all", step.Heaviest.Of, "steps", step.Heaviest.Steps, "times",
			times,
		)
	}
}

// keptFrames is how many bytes of frames are kept for the next ticks. One in which everybody is sent a snapshot of a
// great world takes more.
const keptFrames = 16 << 20

// frameMemory finds memory for the frames of a tick that no writer is at any more.
func (r *runner) frameMemory() *memory {
	for _, m := range r.memories {
		if m.users.Load() == 0 {
			if cap(m.bytes) > keptFrames {
				m.bytes = nil
			}
			return m
		}
	}
	m := &memory{}
	if len(r.memories) < 8 {
		r.memories = append(r.memories, m)
	}
	return m
}

// connectionSlots makes the lineup anew when somebody has come or gone.
func (r *runner) connectionSlots() []connectionSlot {
	if r.slots != nil {
		return r.slots
	}
	for _, c := range r.conns {
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
		r.slots = append(r.slots, at)
	}
	slices.SortFunc(r.slots, func(a, b connectionSlot) int { return a.client - b.client })
	return r.slots
}

// sendFrames hands the frames of a tick to the writers. Both the frames and the clients are in the order of their
// numbers.
func (r *runner) sendFrames(step *session.Step, now time.Time, m *memory) {
	r.outgoing = r.outgoing[:0]
	rest := r.connectionSlots()
	follow := max(int64(r.session.Contract().TickRate)/4, 1)
	for i := range step.Frames {
		f := &step.Frames[i]
		for len(rest) > 0 && rest[0].client < f.Client {
			rest = rest[1:]
		}
		if len(rest) == 0 || rest[0].client != f.Client {
			continue
		}
		at := &rest[0]
		if step.Tick >= at.nextFollowed {
			at.nextFollowed = step.Tick + follow
			at.conn.progress.noteSent(step.Tick, r.clock.passed)
		}
		var asked time.Time
		if len(r.awaitingDecision) > 0 {
			asked, at.conn.oldestRequest = at.conn.oldestRequest, asked
		}
		switch {
		case at.asIs:
			r.outgoing = append(r.outgoing, outgoing{at.outbox, at.socket, f.Whole, true, at.writer, asked})
		case at.socket == nil:
			at.conn.outbox.put(at.conn.framing, at.conn.inProtocol(f.Bytes), step.Tick, now, asked)
		default:
			r.outgoing = append(
				r.outgoing,
				outgoing{
					at.outbox, at.socket, appendMessage(nil, at.conn.inProtocol(f.Bytes)), false, at.writer, asked,
				},
			)
		}
	}
	r.awaitingDecision = slices.DeleteFunc(
		r.awaitingDecision, func(c *connection) bool { return c.oldestRequest.IsZero() || !c.seated },
	)
	r.writers.distribute(step.Tick, now, r.outgoing, m)
}

// checkProgress looks after clients that do not take what they are sent: one that is behind gets a snapshot once it has
// taken what was written, and one that makes no progress is cut.
func (r *runner) checkProgress(now time.Time) {
	r.behindConnections = slices.DeleteFunc(r.behindConnections, func(c *connection) bool {
		if r.conns[c.client] != c {
			return true
		}
		patience := c.progress.patience()
		if c.progress.isStuck(r.clock.passed) || c.outbox.waitsFor(now) > patience {
			r.loseConnection(
				c, fmt.Sprintf("it confirmed nothing of what it was sent for %s", patience.Round(time.Second/10)),
			)
			return true
		}
		if !c.outbox.empty() || c.progress.isBehind(r.clock.passed) {
			return false
		}
		c.behind = false
		r.session.CaughtUp(c.client)
		return true
	})
	if now.Sub(r.lastCheck) < behindAfter/4 {
		return
	}
	r.lastCheck = now
	r.endExpiredSeats(now)
	waiting := r.slowSockets.Load() > 0 || r.pipeCount > 0 // else no outbox holds anything
	for _, at := range r.connectionSlots() {
		c := at.conn
		if !c.behind && (c.progress.isBehind(r.clock.passed) || waiting && c.outbox.full(now)) {
			c.behind = true
			r.behindConnections = append(r.behindConnections, c)
			taken := c.outbox.drop(r.session.Now())
			c.progress.noteDropped(taken)
			r.session.Behind(c.client, taken)
			r.meters.behind.Inc()
		}
	}
}

// inProtocol returns a frame in the client's own protocol.
func (c *connection) inProtocol(frame []byte) []byte {
	if c.jsonReader == nil {
		return frame
	}
	f, err := c.jsonReader.Read(frame)
	if err != nil { // the service wrote it itself
		return encode(wire.Bye{Type: "bye", Reason: err.Error()})
	}
	return f.AppendJSON(nil)
}

// joinRequest is how a client asks for a seat.
type joinRequest struct {
	wire.Join
	json, test bool
	pipe       bool
	address    string // that the connection comes from, without its port
}

// join seats a client; its messages then come out of the returned connection.
func (r *runner) join(j joinRequest) (*connection, error) {
	outline := r.outline
	if own := outline.Fingerprint(); j.Outline != "" && j.Outline != own {
		return nil, &refusal{
			status: http.StatusConflict,
			code:   codeOtherOutline,
			detail: fmt.Sprintf(
				"join: this client was made for the outline %.40s, and the session's is %s; what it gives clients "+
					"stands under outline",
				j.Outline, own,
			),
		}
	}
	n, known := r.seatByToken[j.Token]
	if known {
		if old := r.conns[n]; old != nil {
			// Of two connections that came with a token, the later one may be an earlier try of the client, whose
			// handshake was late. Until something has come over one of them nobody knows which one the client has, so
			// the other one ends as if it had broken.
			const reason = "another connection took the seat"
			if old.spentToken != "" {
				old.endSilently(reason)
			}
			r.endConnection(old, reason)
		}
		r.session.Back(n, j.Seen)
		r.noteInTranscript("back", n)
	} else if j.Token != "" {
		return nil, &refusal{
			status: http.StatusBadRequest,
			code:   codeTokenSpent,
			detail: "join: no seat waits for this token; join anew",
		}
	} else {
		var err error
		n, err = r.session.Join(j.Name, j.Role)
		if err != nil {
			return nil, err
		}
	}
	c := &connection{
		client:         n,
		outbox:         newOutbox(),
		seated:         true,
		isTest:         j.test,
		token:          r.grantToken(n, j.Token),
		framing:        appendMessage,
		messageHandled: make(chan struct{}, 1),
		address:        j.address,
		ended:          make(chan struct{}),
	}
	if known {
		c.spentToken = j.Token
	}
	if j.pipe {
		c.framing = asIs
		c.outbox.wake = make(chan struct{}, 1)
		r.pipeCount++
	}
	protocol := wire.Binary
	if j.json {
		c.jsonReader = r.session.Reader(0)
		protocol = wire.Protocol
	}
	r.conns[n] = c
	r.slots = nil
	clients := r.session.Clients()
	me := clients[slices.IndexFunc(clients, func(x wire.Client) bool { return x.Number == n })]
	hello := wire.Hello{
		Type:        "hello",
		Protocol:    protocol,
		Revision:    wire.Revision,
		Client:      me,
		Token:       c.token,
		Received:    r.session.Received(n),
		GraceMs:     r.session.Contract().Grace * 1000 / int64(r.session.Contract().TickRate),
		Fingerprint: outline.Fingerprint(),
		Outline:     outline,
	}
	if j.Outline != "" {
		hello.Outline = nil // it has it
	}
	c.outbox.put(c.framing, encode(hello), 0, time.Now(), time.Time{})
	if !known {
		if r.transcript != nil {
			r.transcript.Joined(me)
		}
		seat := store.Seat{
			Session:  r.id,
			Client:   n,
			Name:     me.Name,
			Role:     me.Role,
			JoinedAt: time.Now(),
		}
		r.seatRows[n] = seat
		r.recorder.Seat(seat)
		r.meters.clients.Inc()
	}
	return c, nil
}

// maxTokens is how many tokens of one seat are good at once.
const maxTokens = 8

// grantToken returns another token for a client's seat, which was taken with one, or with none. Those that were given
// before it are void, since the client has it. Those that were given since stay good until something comes over a
// connection: any of their hellos may have arrived, or none. Of many the oldest go.
func (r *runner) grantToken(n int, taken string) string {
	token := rand.Text()
	good := r.tokensOf[n]
	spent := max(slices.Index(good, taken), 0)
	for _, old := range good[:spent] {
		delete(r.seatByToken, old)
	}
	good = append(slices.Clone(good[spent:]), token)
	if len(good) > maxTokens {
		delete(r.seatByToken, good[1])
		good = slices.Delete(good, 1, 2)
	}
	r.tokensOf[n] = good
	r.seatByToken[token] = n
	return token
}

// revokeTokens voids the tokens of a client's seat but one; with none, the seat cannot be taken again.
func (r *runner) revokeTokens(n int, but string) {
	for _, token := range r.tokensOf[n] {
		if token != but {
			delete(r.seatByToken, token)
		}
	}
	r.tokensOf[n] = []string{but}
	if but == "" {
		delete(r.tokensOf, n)
	}
}

// loseConnection ends a connection that is gone; its seat waits for as long as the contract says.
func (r *runner) loseConnection(c *connection, reason string) {
	if r.conns[c.client] != c {
		return // another connection has taken the seat
	}
	if r.session.Contract().Grace == 0 {
		r.dropSeat(c.client, reason)
		return
	}
	delete(r.conns, c.client)
	r.session.Lost(c.client)
	r.noteInTranscript("cut", c.client)
	r.endConnection(c, reason)
	r.waitForReturn(c, r.now())
}

// noteInTranscript puts into the transcript that a client leaves, or that its connection is cut or back.
func (r *runner) noteInTranscript(verb string, client int) {
	if r.transcript != nil {
		r.transcript.Moved(verb, client)
	}
}

// endConnection ends a connection that has its seat no more.
func (r *runner) endConnection(c *connection, reason string) {
	if c.seated && c.outbox.wake != nil {
		r.pipeCount--
	}
	c.seated = false
	r.slots = nil
	r.stopReading(c.reader)
	c.end(reason)
}

// leaveSeat takes the seat of a connection, unless another connection has it by now.
func (r *runner) leaveSeat(c *connection, reason string) {
	if r.conns[c.client] == c {
		r.dropSeat(c.client, reason)
	}
}

// dropSeat takes a client's seat and tells it why.
func (r *runner) dropSeat(n int, reason string) {
	seat, seated := r.seatRows[n]
	if !seated {
		return
	}
	r.revokeTokens(n, "")
	r.session.Leave(n)
	r.noteInTranscript("leave", n)
	if c := r.conns[n]; c != nil {
		delete(r.conns, n)
		r.endConnection(c, reason)
	}
	delete(r.seatRows, n)
	delete(r.saidReady, n)
	delete(r.refusedLimits, n)
	now := time.Now()
	seat.LeftAt = &now
	seat.LeftReason = &reason
	r.recorder.Seat(seat)
	r.meters.clients.Dec()
}

// readMessage reads a message in the client's own protocol. The error says that it is broken; who sent it is to be cut.
func (r *runner) readMessage(c *connection, raw []byte, now time.Time) (l inboundMessage, err error) {
	var m wire.FromClient
	if c.jsonReader != nil {
		m, err = wire.ParseFromClient(raw)
	} else {
		m, err = wire.UnpackFromClient(raw, r.outline)
	}
	if err != nil {
		r.meters.broken.Inc()
		return l, err
	}
	l = inboundMessage{
		from:      c,
		typ:       m.Type,
		confirmed: m.Seen,
		at:        now,
	}
	if r.transcript != nil {
		sent := m // a copy, so that without a transcript no message is put on the heap
		l.original = &sent
	}
	switch m.Type {
	case "ask":
		call := r.session.ReadRequest(m.Ask)
		l.request = &call
	case "press", "release", "write":
		l.steering = r.session.ReadSteering(m.Type, m.Move())
	}
	return l, nil
}

// deliver leaves a message that was read elsewhere for the runner. It waits while too many of the client's messages
// wait, and reports whether the client is still in.
func (r *runner) deliver(l inboundMessage) bool {
	c := l.from
	for c.waitingMessages.Load() >= maxInbound { // nobody else adds to this client's
		select {
		case <-c.messageHandled:
		case <-c.ended:
			return false
		case <-r.done:
			return false
		}
	}
	c.waitingMessages.Add(1)
	r.inboundMu.Lock()
	r.inbound = append(r.inbound, l)
	r.inboundMu.Unlock()
	return true
}

// handleInbound handles what clients have said since it was called last.
func (r *runner) handleInbound() {
	r.readMessages()
	r.inboundMu.Lock()
	mail := r.inbound
	r.inbound = r.spareInbound[:0]
	r.inboundMu.Unlock()
	for i := range mail {
		c := mail[i].from
		if c.waitingMessages.Add(-1) >= maxInbound-1 {
			select {
			case c.messageHandled <- struct{}{}:
			default:
			}
		}
		r.handle(&mail[i])
	}
	clear(mail)
	r.spareInbound = mail
}

func (r *runner) handle(l *inboundMessage) {
	c := l.from
	if !c.seated {
		return
	}
	if c.spentToken != "" { // the client has the token that came with this connection
		r.revokeTokens(c.client, c.token)
		c.spentToken = ""
	}
	if l.confirmed > 0 {
		c.progress.noteConfirmed(min(l.confirmed, r.session.Now()), r.clock.passed)
	}
	switch l.typ {
	case "ready":
		r.saidReady[c.client] = true
		r.session.Ready(c.client)
	case "seen":
		r.session.Confirm(c.client, l.confirmed)
		r.watchers.confirmed(r, c.client)
	case "differs":
		r.meters.differences.Inc()
		if r.session.ReportDifference(c.client) {
			slog.Warn(
				"a client's copy is not what it should be; it is sent anew", "session", r.id, "client", c.client,
				"tick", l.confirmed,
			)
		}
	case "leave":
		r.dropSeat(c.client, "the client left")
	case "ask":
		r.noteSent(l)
		if c.oldestRequest.IsZero() {
			c.oldestRequest = l.at
			r.awaitingDecision = append(r.awaitingDecision, c)
		}
		r.session.Ask(c.client, *l.request)
	case "press", "release", "write":
		r.noteSent(l)
		r.session.Steer(c.client, l.steering)
	}
}

// noteSent puts into the transcript what a client sent.
func (r *runner) noteSent(l *inboundMessage) {
	if r.transcript != nil && l.original != nil {
		r.transcript.Sent(l.from.client, l.original)
	}
}

// describe tells of the session as it is now.
func (r *runner) describe() client.Session {
	s := sessionOf(r.row)
	s.Open = true
	s.Tick = r.session.Now()
	s.Paused = r.paused
	s.Queued = r.session.Queued()
	s.Clients = r.session.Clients()
	s.Seed = r.seed
	s.Memory, s.MemoryMost = r.session.Memory()
	s.Faults = r.faults.summary()
	if r.slowness != nil {
		slow := *r.slowness
		s.Slow = &slow
	}
	return s
}

func sessionOf(row store.Session) client.Session {
	s := client.Session{
		ID:       row.ID,
		Contract: row.Contract,
		Version:  row.Version,
		OpenedAt: row.OpenedAt,
		ClosedAt: row.ClosedAt,
		Open:     false,
		Tick:     row.LastTick,
		Clients:  []wire.Client{},
	}
	if row.CloseReason != nil {
		s.CloseReason = *row.CloseReason
	}
	return s
}
