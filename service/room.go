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
	inboxSize = 1024 // of what is asked of a room between two ticks; who asks waits when it is full
	maxMail   = 256  // messages of one client that wait for a tick; then they wait in its own socket
	maxSteps  = 10_000
)

// errClosed says that a session ended while something was asked of it.
var errClosed = errors.New("the session has closed")

// errBusy says that a session did not come to what was asked of it in time.
var errBusy = errors.New("the session is busy: it has not come to this in time; try again")

// room runs one session: a goroutine of its own owns the session's state and ticks it. Everybody else hands it
// functions to run between two ticks.
type room struct {
	id       int64
	row      store.Session
	session  *session.Session
	outline  *contract.Outline // what clients are given; it never changes
	recorder Recorder
	meters   *meters
	inbox    chan func()
	stop     chan string
	done     chan struct{}
	paused   bool
	watch    watch
	conns    map[int]*conn
	tokens   map[string]int   // what takes a seat again, by itself: the client
	granted  map[int][]string // the tokens of each client's seat, oldest first
	names    map[int]store.Seat
	watchers *watchers
	failed   func()              // called when it has failed inside
	ended    func(reason string) // called when the contract ends the session; it waits for the room
	writers  *writers
	outgoing []outgoing // of this tick
	memories []*memory
	lineup   []place      // the conns by number; nil when it has to be made anew
	askers   []*conn      // that asked something and got no frame since
	behind   []*conn      // that were not sent everything
	slow     atomic.Int32 // sockets that take less than they are sent
	pipes    int          // conns that are no sockets
	tended   time.Time
	now      func() time.Time

	seed       uint64
	transcript *drill.Transcript // nil unless it was opened with a seed
	ending     bool              // the contract has ended it
	ticked     atomic.Int64      // the last tick
	// as it was at most a second before that; for who does not wait for the room
	shown     atomic.Pointer[client.Session]
	halted    <-chan struct{}  // closed when connections are to end without the room
	lost      []lostSeat       // that wait for a connection, oldest first
	slowness  *client.Slowness // of the last minute; nil when its ticks take no longer than they may
	slowSince time.Time
	overruns  repeats
	faults    faultList
	logged    repeats
	refused   map[int]*rate.Limiter // by client that is in: of its refused requests, how many are stored
	readied   map[int]bool          // by client that is in: it has said that it is ready, on some connection

	ears     hearing
	mailMu   sync.Mutex
	mail     []letter // of clients that are read elsewhere, in the order of arrival
	readMail []letter // the memory of what was read before
}

// place is what a tick has to know of a conn, so that it does not have to look at each.
type place struct {
	client int
	box    *outbox
	wired  *wired
	conn   *conn
	plain  bool  // its frames go out as they are
	writer uint8 // that it is tied to
	follow int64 // the first tick whose frame its conn is told of again
}

// letter is a message of a client that was read.
type letter struct {
	from *conn
	what string // the message's type
	seen int64
	at   time.Time
	call *session.Request
	move session.Steering
	sent *wire.FromClient // as it came, for a transcript
}

// conn is a client's connection as its room knows it. Messages go out through a bounded outbox, so that a slow client
// holds up nobody.
type conn struct {
	// What is looked at a few times a second of each client is one cache line.
	client   int
	box      *outbox
	progress progress
	behind   bool
	seated   bool // it has its seat

	wired  *wired       // nil for a pipe
	ear    *hearer      // how it is heard by the room; nil when it is read elsewhere
	json   *wire.Reader // of a client that speaks JSON: its frames are told anew from the binary ones
	asked  time.Time    // when the oldest request came that is not answered
	test   bool
	token  string                           // that takes the seat again
	frame  func(dst, message []byte) []byte // as its transport wants messages
	mailed atomic.Int32                     // letters that wait
	opened chan struct{}                    // has something when one that waited was opened
	// the token that it came with, good until something comes over the connection; else empty
	spends  string
	address string // see joining
	once    sync.Once
	cut     chan struct{} // closed when the client is out
	reason  string
	broken  bool // it is out for a message that could not be read
	silent  bool // it ends without a goodbye; to be read once it is out, as the reason
}

// end closes the queue; what waits in it is still written. Only the first end counts.
func (c *conn) end(reason string) {
	c.once.Do(func() {
		c.reason = reason
		close(c.cut)
	})
}

// endSilently ends the connection as if it had broken, so that its client comes back.
func (c *conn) endSilently(reason string) {
	c.once.Do(func() {
		c.reason = reason
		c.silent = true
		close(c.cut)
	})
}

func newRoom(row store.Session, s *session.Session, paused bool, recorder Recorder, m *meters) *room {
	r := &room{
		id:       row.ID,
		row:      row,
		session:  s,
		outline:  s.Contract().Outline(),
		recorder: recorder,
		meters:   m,
		paused:   paused,
		inbox:    make(chan func(), inboxSize),
		stop:     make(chan string, 1),
		done:     make(chan struct{}),
		conns:    map[int]*conn{},
		tokens:   map[string]int{},
		granted:  map[int][]string{},
		readied:  map[int]bool{},
		refused:  map[int]*rate.Limiter{},
		names:    map[int]store.Seat{},
		watchers: newWatchers(s.SetWatched),
		now:      time.Now,
	}
	shown := r.describe()
	r.shown.Store(&shown)
	return r
}

// run is the room's goroutine. It ends when stop gives a reason, and has then told everyone.
func (r *room) run() {
	defer close(r.done)
	defer func() {
		if p := recover(); p != nil {
			r.fail(p, debug.Stack())
		}
	}()
	// A ticker drops ticks that come while the goroutine is busy: a server that stalls skips time and never bursts.
	every := time.Second / time.Duration(r.session.Contract().TickRate)
	times := max(1, int(every/hearEvery)) // that it listens, for one tick
	ticker := time.NewTicker(every / time.Duration(times))
	defer ticker.Stop()
	defer r.ears.poller.Close()
	for beat := 0; ; {
		select {
		case f := <-r.inbox:
			r.open()
			f()
		case <-ticker.C:
			beat++
			if beat%times == 0 && !r.paused {
				r.tick()
			} else {
				r.open()
			}
		case reason := <-r.stop:
			for n := range r.names {
				r.drop(n, "the session closed: "+reason)
			}
			r.watchers.end(reason)
			return
		}
	}
}

// fail closes the session after a panic in it, which nobody else is to notice. What the session holds may be anything
// by now: it is left alone.
func (r *room) fail(p any, stack []byte) {
	slog.Error("a session failed inside and is closed", "session", r.id, "panic", p, "stack", string(stack))
	r.meters.failures.Inc()
	if r.failed != nil {
		r.failed()
	}
	now := time.Now()
	reason := "the session closed: it failed inside"
	for n, seat := range r.names {
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

// close ends the room, and reports whether it had ended before ctx did.
func (r *room) close(ctx context.Context, reason string) bool {
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

// do runs f on the room's goroutine and waits for it. When the room does not come to it in time, f never runs and the
// error is errBusy.
func (r *room) do(ctx context.Context, f func()) error {
	limited, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	late := func() error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errBusy
	}
	var taken atomic.Bool // by the room, or by who gives up waiting
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

// post runs f on the room's goroutine without waiting for it, but for room in the inbox.
func (r *room) post(f func()) {
	select {
	case r.inbox <- f:
	case <-r.done:
	}
}

func (r *room) tick() {
	began := r.now()
	points.tickBegins.Hit()
	r.watch.tick(began, time.Second/time.Duration(r.session.Contract().TickRate))
	r.open()
	r.tend(began)
	m := r.memory()
	r.session.UseMemory(m.bytes)
	step := r.session.Tick()
	if r.transcript != nil {
		r.transcript.Ticked(step)
	}
	m.bytes = step.Memory
	r.send(step, began, m)
	for _, cut := range step.Cuts {
		if r.transcript != nil {
			r.transcript.Out(cut.Client)
		}
		r.drop(cut.Client, cut.Reason)
	}
	failed := r.fault(step)
	if len(step.Decisions) > 0 {
		r.record(step.Decisions)
	}
	r.watchers.tick(r, step, failed)
	if step.Closed != "" && !r.ending {
		r.ending = true
		go r.ended(step.Closed) // it waits for this goroutine
	}
	r.ticked.Store(step.Tick)
	if step.Tick%int64(r.session.Contract().TickRate) == 0 {
		shown := r.describe()
		r.shown.Store(&shown)
	}
	for _, l := range step.Logs {
		if times := r.logged.again(l.Text, began); times > 0 {
			slog.Info("logged by the contract", "session", r.id, "tick", step.Tick, "words", l.Text, "times", times)
		}
	}
	r.meters.deferred.Add(float64(step.Deferred))
	r.took(step, began, r.now().Sub(began))
}

// slowFor is how long it is told that a session's ticks take too long.
const slowFor = time.Minute

// took notes how long a tick took; of one that took longer than there is between two, by what.
func (r *room) took(step *session.Step, at time.Time, d time.Duration) {
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
	if times := r.overruns.again("tick", at); times > 0 {
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

// memory finds memory for the frames of a tick that no writer is at any more.
func (r *room) memory() *memory {
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

// line makes the lineup anew when somebody has come or gone.
func (r *room) line() []place {
	if r.lineup != nil {
		return r.lineup
	}
	for _, c := range r.conns {
		at := place{
			client: c.client,
			box:    c.box,
			wired:  c.wired,
			conn:   c,
			plain:  c.wired != nil && c.json == nil,
		}
		if c.wired != nil {
			at.writer = c.wired.writer
		}
		r.lineup = append(r.lineup, at)
	}
	slices.SortFunc(r.lineup, func(a, b place) int { return a.client - b.client })
	return r.lineup
}

// send hands the frames of a tick to the writers. Both the frames and the clients are in the order of their numbers.
func (r *room) send(step *session.Step, now time.Time, m *memory) {
	r.outgoing = r.outgoing[:0]
	rest := r.line()
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
		if step.Tick >= at.follow {
			at.follow = step.Tick + follow
			at.conn.progress.sends(step.Tick, r.watch.passed)
		}
		var asked time.Time
		if len(r.askers) > 0 {
			asked, at.conn.asked = at.conn.asked, asked
		}
		switch {
		case at.plain:
			r.outgoing = append(r.outgoing, outgoing{at.box, at.wired, f.Whole, true, at.writer, asked})
		case at.wired == nil:
			at.conn.box.put(at.conn.frame, at.conn.word(f.Bytes), step.Tick, now, asked)
		default:
			r.outgoing = append(
				r.outgoing,
				outgoing{at.box, at.wired, appendMessage(nil, at.conn.word(f.Bytes)), false, at.writer, asked},
			)
		}
	}
	r.askers = slices.DeleteFunc(r.askers, func(c *conn) bool { return c.asked.IsZero() || !c.seated })
	r.writers.round(step.Tick, now, r.outgoing, m)
}

// tend looks after clients that do not take what they are sent: one that is behind gets a snapshot once it has taken
// what was written, and one that makes no progress is cut.
func (r *room) tend(now time.Time) {
	r.behind = slices.DeleteFunc(r.behind, func(c *conn) bool {
		if r.conns[c.client] != c {
			return true
		}
		patience := c.progress.patience()
		if c.progress.stuck(r.watch.passed) || c.box.waitsFor(now) > patience {
			r.lose(c, fmt.Sprintf("it confirmed nothing of what it was sent for %s", patience.Round(time.Second/10)))
			return true
		}
		if !c.box.empty() || c.progress.behind(r.watch.passed) {
			return false
		}
		c.behind = false
		r.session.CaughtUp(c.client)
		return true
	})
	if now.Sub(r.tended) < behindAfter/4 {
		return
	}
	r.tended = now
	r.giveAway(now)
	waiting := r.slow.Load() > 0 || r.pipes > 0 // else no outbox holds anything
	for _, at := range r.line() {
		c := at.conn
		if !c.behind && (c.progress.behind(r.watch.passed) || waiting && c.box.full(now)) {
			c.behind = true
			r.behind = append(r.behind, c)
			taken := c.box.drop(r.session.Now())
			c.progress.dropped(taken)
			r.session.Behind(c.client, taken)
			r.meters.behind.Inc()
		}
	}
}

// word returns a frame in the client's own protocol.
func (c *conn) word(frame []byte) []byte {
	if c.json == nil {
		return frame
	}
	f, err := c.json.Read(frame)
	if err != nil { // the service wrote it itself
		return encode(wire.Bye{Type: "bye", Reason: err.Error()})
	}
	return f.AppendJSON(nil)
}

// joining is how a client asks for a seat.
type joining struct {
	wire.Join
	json, test bool
	pipe       bool
	address    string // that the connection comes from, without its port
}

// join seats a client; its messages then come out of the returned connection.
func (r *room) join(j joining) (*conn, error) {
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
	n, known := r.tokens[j.Token]
	if known {
		if old := r.conns[n]; old != nil {
			// Of two connections that came with a token, the later one may be an earlier try of the client, whose
			// handshake was late. Until something has come over one of them nobody knows which one the client has, so
			// the other one ends as if it had broken.
			const reason = "another connection took the seat"
			if old.spends != "" {
				old.endSilently(reason)
			}
			r.unseat(old, reason)
		}
		r.session.Back(n, j.Seen)
		r.noted("back", n)
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
	c := &conn{
		client:  n,
		box:     newOutbox(),
		seated:  true,
		test:    j.test,
		token:   r.grant(n, j.Token),
		frame:   appendMessage,
		opened:  make(chan struct{}, 1),
		address: j.address,
		cut:     make(chan struct{}),
	}
	if known {
		c.spends = j.Token
	}
	if j.pipe {
		c.frame = plain
		c.box.wake = make(chan struct{}, 1)
		r.pipes++
	}
	protocol := wire.Binary
	if j.json {
		c.json = r.session.Reader(0)
		protocol = wire.Protocol
	}
	r.conns[n] = c
	r.lineup = nil
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
	c.box.put(c.frame, encode(hello), 0, time.Now(), time.Time{})
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
		r.names[n] = seat
		r.recorder.Seat(seat)
		r.meters.clients.Inc()
	}
	return c, nil
}

// maxTokens is how many tokens of one seat are good at once.
const maxTokens = 8

// grant returns another token for a client's seat, which was taken with one, or with none. Those that were given before
// it are void, since the client has it. Those that were given since stay good until something comes over a connection:
// any of their hellos may have arrived, or none. Of many the oldest go.
func (r *room) grant(n int, taken string) string {
	token := rand.Text()
	good := r.granted[n]
	spent := max(slices.Index(good, taken), 0)
	for _, old := range good[:spent] {
		delete(r.tokens, old)
	}
	good = append(slices.Clone(good[spent:]), token)
	if len(good) > maxTokens {
		delete(r.tokens, good[1])
		good = slices.Delete(good, 1, 2)
	}
	r.granted[n] = good
	r.tokens[token] = n
	return token
}

// revoke voids the tokens of a client's seat but one; with none, the seat cannot be taken again.
func (r *room) revoke(n int, but string) {
	for _, token := range r.granted[n] {
		if token != but {
			delete(r.tokens, token)
		}
	}
	r.granted[n] = []string{but}
	if but == "" {
		delete(r.granted, n)
	}
}

// lose ends a connection that is gone; its seat waits for as long as the contract says.
func (r *room) lose(c *conn, reason string) {
	if r.conns[c.client] != c {
		return // another connection has taken the seat
	}
	if r.session.Contract().Grace == 0 {
		r.drop(c.client, reason)
		return
	}
	delete(r.conns, c.client)
	r.session.Lost(c.client)
	r.noted("cut", c.client)
	r.unseat(c, reason)
	r.waits(c, r.now())
}

// noted puts into the transcript that a client leaves, or that its connection is cut or back.
func (r *room) noted(verb string, client int) {
	if r.transcript != nil {
		r.transcript.Moved(verb, client)
	}
}

// unseat ends a connection that has its seat no more.
func (r *room) unseat(c *conn, reason string) {
	if c.seated && c.box.wake != nil {
		r.pipes--
	}
	c.seated = false
	r.lineup = nil
	r.deaf(c.ear)
	c.end(reason)
}

// leave takes the seat of a connection, unless another connection has it by now.
func (r *room) leave(c *conn, reason string) {
	if r.conns[c.client] == c {
		r.drop(c.client, reason)
	}
}

// drop takes a client's seat and tells it why.
func (r *room) drop(n int, reason string) {
	seat, seated := r.names[n]
	if !seated {
		return
	}
	r.revoke(n, "")
	r.session.Leave(n)
	r.noted("leave", n)
	if c := r.conns[n]; c != nil {
		delete(r.conns, n)
		r.unseat(c, reason)
	}
	delete(r.names, n)
	delete(r.readied, n)
	delete(r.refused, n)
	now := time.Now()
	seat.LeftAt = &now
	seat.LeftReason = &reason
	r.recorder.Seat(seat)
	r.meters.clients.Dec()
}

// read reads a message in the client's own protocol. The error says that it is broken; who sent it is to be cut.
func (r *room) read(c *conn, raw []byte, now time.Time) (l letter, err error) {
	var m wire.FromClient
	if c.json != nil {
		m, err = wire.ParseFromClient(raw)
	} else {
		m, err = wire.UnpackFromClient(raw, r.outline)
	}
	if err != nil {
		r.meters.broken.Inc()
		return l, err
	}
	l = letter{
		from: c,
		what: m.Type,
		seen: m.Seen,
		at:   now,
	}
	if r.transcript != nil {
		sent := m // a copy, so that without a transcript no message is put on the heap
		l.sent = &sent
	}
	switch m.Type {
	case "ask":
		call := r.session.ReadRequest(m.Ask)
		l.call = &call
	case "press", "release", "write":
		l.move = r.session.ReadSteering(m.Type, m.Move())
	}
	return l, nil
}

// put leaves a message that was read elsewhere for the room. It waits while too many of the client's messages wait, and
// reports whether the client is still in.
func (r *room) put(l letter) bool {
	c := l.from
	for c.mailed.Load() >= maxMail { // nobody else adds to this client's
		select {
		case <-c.opened:
		case <-c.cut:
			return false
		case <-r.done:
			return false
		}
	}
	c.mailed.Add(1)
	r.mailMu.Lock()
	r.mail = append(r.mail, l)
	r.mailMu.Unlock()
	return true
}

// open handles what clients have said since it was called last.
func (r *room) open() {
	r.hear()
	r.mailMu.Lock()
	mail := r.mail
	r.mail = r.readMail[:0]
	r.mailMu.Unlock()
	for i := range mail {
		c := mail[i].from
		if c.mailed.Add(-1) >= maxMail-1 {
			select {
			case c.opened <- struct{}{}:
			default:
			}
		}
		r.handle(&mail[i])
	}
	clear(mail)
	r.readMail = mail
}

func (r *room) handle(l *letter) {
	c := l.from
	if !c.seated {
		return
	}
	if c.spends != "" { // the client has the token that came with this connection
		r.revoke(c.client, c.token)
		c.spends = ""
	}
	if l.seen > 0 {
		c.progress.confirms(min(l.seen, r.session.Now()), r.watch.passed)
	}
	switch l.what {
	case "ready":
		r.readied[c.client] = true
		r.session.Ready(c.client)
	case "seen":
		r.session.Confirm(c.client, l.seen)
		r.watchers.confirmed(r, c.client)
	case "differs":
		r.meters.differences.Inc()
		if r.session.ReportDifference(c.client) {
			slog.Warn(
				"a client's copy is not what it should be; it is sent anew", "session", r.id, "client", c.client,
				"tick", l.seen,
			)
		}
	case "leave":
		r.drop(c.client, "the client left")
	case "ask":
		r.heard(l)
		if c.asked.IsZero() {
			c.asked = l.at
			r.askers = append(r.askers, c)
		}
		r.session.Ask(c.client, *l.call)
	case "press", "release", "write":
		r.heard(l)
		r.session.Steer(c.client, l.move)
	}
}

// heard puts into the transcript what a client sent.
func (r *room) heard(l *letter) {
	if r.transcript != nil && l.sent != nil {
		r.transcript.Sent(l.from.client, l.sent)
	}
}

// describe tells of the session as it is now.
func (r *room) describe() client.Session {
	s := sessionOf(r.row)
	s.Open = true
	s.Tick = r.session.Now()
	s.Paused = r.paused
	s.Queued = r.session.Queued()
	s.Clients = r.session.Clients()
	s.Seed = r.seed
	s.Memory, s.MemoryMost = r.session.Memory()
	s.Faults = r.faults.shown()
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
