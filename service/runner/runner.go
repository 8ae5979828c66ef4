// Package runner runs one session: it ticks, has seats for clients, and tells those who watch. It knows no socket and
// no HTTP: what it needs of its clients' connections is Connections, which a gateway provides.
//
// # How it works
//
// Run is the loop of the session's goroutine: it waits for the next tick and meanwhile runs what others hand it by Do
// and Post. Everything of a session is owned by that goroutine, so that nothing in it is locked. At a tick it lets the
// Connections read what has come, which ends in calls of ReadMessage and Handle, calls Session.Tick, hands the step to
// the Connections to send it, to those who watch (watch.go), and to the Recorder, and never waits for any of them.
//
// A seat (seats.go) outlives its connection: for a while after one was lost, the client may come back with its token. A
// session that takes longer than it may is slowed down for itself alone, and says so; one that
// fails inside is ended.
//
// New makes a runner, Attach gives it its clients' connections, and Close ends it with a reason and waits for its
// goroutine.
package runner

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"runtime/debug"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"kamerad.example/api"
	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/transcript"
	"kamerad.example/core/wire"
	"kamerad.example/journal"
	"kamerad.example/service/observe"
	"kamerad.example/service/traces"
	"kamerad.example/store"
)

const (
	inboxSize = 1024 // of what is asked of a runner between two ticks; who asks waits when it is full

	// receiveEvery is how often a runner has its connections read, at least: with its ticks, and between them when they
	// are rare. To read what all clients have said together costs a fraction of waking up for each, and what they say
	// waits for a tick anyway.
	receiveEvery = 50 * time.Millisecond
)

// ErrClosed says that a session ended while something was asked of it.
var ErrClosed = errors.New("the session has closed")

// ErrBusy says that a session did not come to what was asked of it in time.
var ErrBusy = errors.New("the session is busy: it has not come to this in time; try again")

// Refusal is the error of who asks a session for something that it does not give. Code is one of those of package api,
// or empty.
type Refusal struct {
	Code   string
	Detail string
}

// Error says what is refused, and what would be right.
func (r *Refusal) Error() string { return r.Detail }

// Connections are the connections of a session's clients, at most one for each client. The runner calls all methods on
// its own goroutine, but Close, which may be called by anybody.
type Connections interface {
	// Receive hands the runner what clients have said since the last call, in the order in which each of them said it.
	Receive()
	// BeginTick tells the time at which a tick begins. It receives, and ends the connections that make no progress.
	BeginTick(now time.Time)
	// FrameMemory returns memory for the frames of the tick that has begun.
	FrameMemory() []byte
	// Send sends the frames of a tick, which stand in step.Memory.
	Send(step *session.Step, began time.Time)
	// Replace ends the connection of a client whose seat another connection takes, if it has one.
	Replace(client int)
	// End ends the connection of a client that has lost it or its seat, if it has one, and tells it why.
	End(client int, reason string)
	// Abandon ends all connections after a failure inside, and touches nothing else.
	Abandon(reason string)
	// Suspend ends all connections as if they had broken: the session goes on elsewhere.
	Suspend()
	// Depart is End of a client that is sent elsewhere: bye waits until it can go, and returns its last message.
	Depart(client int, reason string, bye func() wire.Bye)
	// Close gives back what receiving took, when the runner has ended.
	Close()
}

// Recorder notes what sessions leave behind, without waiting for it to be stored.
type Recorder interface {
	Seat(s store.Seat)
	Record(list []store.Decision)
}

// Players has what players keep from session to session.
type Players interface {
	// Lease takes it for a session; the error is a *store.ErrLeased while another one has it.
	Lease(ctx context.Context, k store.Keeper, session int64) (store.Kept, error)
}

// Options are what a runner is made of. Row, Session, Recorder and Meters have to be there.
type Options struct {
	Row      store.Session // as it is stored
	Session  *session.Session
	Recorder Recorder
	Meters   *Meters
	Paused   bool   // it does not tick until it is resumed
	Seed     uint64 // that the session was opened with; with one, what clients do is noted
	Settings map[string]json.RawMessage
	Log      *journal.Log // stores what the session is given; nil for nobody
	// Players has what players keep; nil when nothing is kept.
	Players Players
	// Recovered has, for a session that goes on, the hashes of the tokens of its seats by client; nil for a new one.
	Recovered map[int][][]byte

	// Destinations find where clients are sent; nil when they cannot be.
	Destinations Destinations
	// Requests follows what clients ask; nil for nothing.
	Requests *traces.Requests

	// Failed is called when the session has failed inside; nil for nothing.
	Failed func()
	// Ended is called, on a goroutine of its own, when the contract ends the session or it has failed inside: whoever
	// is called has to Close the runner.
	Ended func(reason string)
	// Now is the clock; nil for time.Now.
	Now func() time.Time
}

// Runner runs one session. Its goroutine, Run, owns the session and every field below that is not said to be
// another's; everybody else hands it functions to run between two ticks, with Do and Post.
type Runner struct {
	row      store.Session // as it is stored
	session  *session.Session
	outline  *contract.Outline          // what clients are given; it never changes
	settings map[string]json.RawMessage // of those, the public ones; they never change
	recorder Recorder
	log      *journal.Log    // nil for nobody
	players  Players         // nil when nothing is kept
	loading  map[string]bool // names of players whose kept values are being read, to join
	meters   *Meters
	requests *traces.Requests // nil for none
	// where clients are sent, whose places are ready and who have not gone yet, by client
	destinations Destinations // nil for none
	arrivals     map[int]Arrival
	now          func() time.Time

	connections Connections

	inbox  chan func()   // what others ask of the goroutine
	stop   chan ending   // how to end; it takes one
	done   chan struct{} // closed when the goroutine has ended
	failed func()        // see Options
	ended  func(reason string)
	paused bool
	ending bool            // the contract has ended the session
	result json.RawMessage // what the session came to; nil for none. Others read it once the runner has ended

	seats       map[int]*seat     // by the client's number
	seatByToken map[tokenHash]int // the client that a token takes the seat of
	lostSeats   []lostSeat        // that wait for a connection, oldest first
	// refusedLimits says, by the client's number, how many of its refused requests are stored.
	refusedLimits map[int]*rate.Limiter
	leaving       []lease   // of clients that leave with the next tick
	lastExpiry    time.Time // when seats that have waited long enough were last looked for

	watchers    *watchers
	lastTick    atomic.Int64                // the newest tick; everyone may read it
	summary     atomic.Pointer[api.Session] // at most a second older than lastTick; for who does not wait
	load        tickLoad
	slowness    *api.Slowness // of the last minute; nil when its ticks take no longer than they may
	slowSince   time.Time
	overrunLog  repeatLog
	contractLog repeatLog
	faultLog    repeatLog
	faults      observe.FaultList

	seed       uint64
	transcript *transcript.Transcript // nil unless the session was opened with a seed
}

// New makes a runner that does not run yet: Attach and Run have to follow.
func New(o Options) *Runner {
	r := &Runner{
		row:           o.Row,
		session:       o.Session,
		outline:       o.Session.Contract().Outline(),
		settings:      o.Session.PublicSettings(),
		recorder:      o.Recorder,
		meters:        o.Meters,
		requests:      o.Requests,
		destinations:  o.Destinations,
		arrivals:      map[int]Arrival{},
		now:           o.Now,
		inbox:         make(chan func(), inboxSize),
		stop:          make(chan ending, 1),
		done:          make(chan struct{}),
		failed:        o.Failed,
		ended:         o.Ended,
		paused:        o.Paused,
		seats:         map[int]*seat{},
		seatByToken:   map[tokenHash]int{},
		log:           o.Log,
		loading:       map[string]bool{},
		refusedLimits: map[int]*rate.Limiter{},
		watchers:      &watchers{list: map[*Watcher]struct{}{}, observer: observe.New(o.Session)},
		seed:          o.Seed,
	}
	if r.now == nil {
		r.now = time.Now
	}
	o.Session.SetWatched(false)
	r.watchers.observer.IsTest = r.isTest
	if o.Seed > 0 {
		r.transcript = transcript.New(o.Session, o.Seed, o.Settings)
	}
	if o.Log != nil && o.Session.Keeps() {
		r.players = o.Players
	}
	if o.Recovered != nil {
		r.recoverSeats(o.Recovered)
	}
	r.lastTick.Store(o.Session.Now())
	shown := r.Describe()
	r.summary.Store(&shown)
	return r
}

// isTest reports whether a client was opened through the API and is there.
func (r *Runner) isTest(client int) bool {
	s := r.seats[client]
	return s != nil && s.test && s.state.connected()
}

// Attach hands the runner the connections of its clients, before it runs.
func (r *Runner) Attach(c Connections) { r.connections = c }

// ID returns the session's number.
func (r *Runner) ID() int64 { return r.row.ID }

// Row returns the session as it was stored when it was opened.
func (r *Runner) Row() store.Session { return r.row }

// Outline returns what clients are given of the contract. Nobody changes it.
func (r *Runner) Outline() *contract.Outline { return r.outline }

// Session returns the session itself, which belongs to the runner's goroutine.
func (r *Runner) Session() *session.Session { return r.session }

// Done is closed when the runner has ended.
func (r *Runner) Done() <-chan struct{} { return r.done }

// Result returns what the session came to when its contract ended it; nil for none. It is called once the runner has
// ended.
func (r *Runner) Result() json.RawMessage { return r.result }

// LastTick returns the newest tick. Everybody may call it.
func (r *Runner) LastTick() int64 { return r.lastTick.Load() }

// StepsAtOnce is how many ticks a session may have by hand before what it was given is stored: were the process to end,
// nobody could know of more.
const StepsAtOnce = 100

// StartFlush has all that the session was given stored at once, and returns what waits for that; nil when nothing is
// stored. It is called on the runner's goroutine, or once that has ended.
func (r *Runner) StartFlush() (wait func(context.Context) error) {
	if r.log == nil {
		return nil
	}
	return r.log.Flush()
}

// ForgetLog ends the log of a session whose end was stored.
func (r *Runner) ForgetLog() {
	if r.log != nil {
		r.log.Forget()
	}
}

// Period is the time between two ticks.
func (r *Runner) Period() time.Duration {
	return time.Second / time.Duration(r.session.Contract().TickRate)
}

// SetPaused stops the ticks, or lets them run again. It is called on the runner's goroutine.
func (r *Runner) SetPaused(paused bool) { r.paused = paused }

// Paused reports whether the runner does not tick by itself. It is called on the runner's goroutine.
func (r *Runner) Paused() bool { return r.paused }

// Run is the runner's goroutine. It returns when Close has given a reason, and has then told everyone.
func (r *Runner) Run() {
	defer close(r.done)
	defer func() {
		if p := recover(); p != nil {
			r.failInside(p, debug.Stack())
		}
	}()
	// A ticker drops ticks that come while the goroutine is busy: a server that stalls skips time and never bursts.
	every := r.Period()
	times := max(1, int(every/receiveEvery)) // that it receives, for one tick
	ticker := time.NewTicker(every / time.Duration(times))
	defer ticker.Stop()
	defer r.connections.Close()
	for beat := 0; ; {
		select {
		case f := <-r.inbox:
			r.connections.Receive()
			f()
		case <-ticker.C:
			beat++
			if beat%times == 0 && !r.paused {
				r.Tick()
			} else {
				r.connections.Receive()
			}
		case end := <-r.stop:
			reason := end.reason
			if end.isSuspended {
				r.connections.Suspend()
				r.watchers.end(reason)
				if r.log != nil {
					r.log.Close(r.session)
				}
				return
			}
			for n := range r.seats {
				r.Leave(n, "the session closed: "+reason)
			}
			r.watchers.end(reason)
			if r.log != nil {
				if !r.ending && r.players != nil && len(r.leaving) > 0 {
					r.Tick() // what those who left were still to change is kept
				}
				r.log.Close(r.session)
			}
			return
		}
	}
}

// failInside closes the session after a panic in it, which nobody else is to notice. What the session holds may be
// anything by now: it is left alone.
func (r *Runner) failInside(p any, stack []byte) {
	slog.Error("a session failed inside and is closed", "session", r.row.ID, "panic", p, "stack", string(stack))
	r.meters.failures.Inc()
	if r.failed != nil {
		r.failed()
	}
	reason := "the session closed: it failed inside"
	r.connections.Abandon(reason)
	for _, s := range r.seats {
		r.recordLeft(s, reason)
	}
	r.watchers.observer = observe.New(r.session) // which leaves the session alone
	r.watchers.end("it failed inside")
	if r.ended != nil {
		go r.ended("it failed inside")
	}
}

// Close ends the runner, and reports whether it had ended before ctx did.
func (r *Runner) Close(ctx context.Context, reason string) bool {
	return r.end(ctx, ending{reason: reason})
}

// Suspend ends the runner, and not the session: it goes on where its recording is taken up, and its clients connect to
// it again. It reports whether the runner had ended before ctx did. The session has to be recorded.
func (r *Runner) Suspend(ctx context.Context) bool {
	return r.end(ctx, ending{reason: "the session goes on in another service", isSuspended: true})
}

// ending is how a runner ends.
type ending struct {
	reason      string
	isSuspended bool // the session goes on elsewhere
}

// end ends the runner, and reports whether it had ended before ctx did.
func (r *Runner) end(ctx context.Context, how ending) bool {
	select {
	case r.stop <- how:
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

// Do runs f on the runner's goroutine and waits for it. When the runner does not come to it in time, f never runs and
// the error is ErrBusy.
func (r *Runner) Do(ctx context.Context, f func()) error {
	limited, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	late := func() error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return ErrBusy
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
		return ErrClosed
	case <-limited.Done():
		return late()
	}
	select {
	case <-ran:
		return nil
	case <-r.done:
		return ErrClosed
	case <-limited.Done():
	}
	if taken.CompareAndSwap(false, true) {
		return late()
	}
	select { // it runs now
	case <-ran:
		return nil
	case <-r.done:
		return ErrClosed
	}
}

// Post runs f on the runner's goroutine without waiting for it, but for room in the inbox.
func (r *Runner) Post(f func()) {
	select {
	case r.inbox <- f:
	case <-r.done:
	}
}
