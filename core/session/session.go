// Package session runs one shared world: its tick, its clients' seats, and the way of a request from arrival to
// decision.
//
// A Session is a function of its contract, its key and its inputs. It knows no clock and no network; who owns it queues
// inputs as they arrive and calls Tick.
package session

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"kamerad/core/contract"
	"kamerad/core/replicate"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// Bounds of a session.
const (
	MaxName     = 24      // characters of a client's name
	MaxHeld     = 4000    // events, decisions and log lines that a client has not confirmed; over it the client is cut
	maxTexts    = 1 << 16 // texts that the world keeps before it forgets those that nothing holds
	rememberAsk = 64      // first decisions kept for each client, against repeats
	healPause   = 5       // seconds between two snapshots for a copy that differs
	keptOut     = 60      // seconds that who was expelled may not come back
	maxOut      = 10_000  // names of such

	// maxPerTick is how many requests of one client are decided in one tick; more are dropped unseen. A client whose
	// connection was made again asks all that is undecided once more, and that arrives in one tick.
	maxPerTick = wire.MaxUndone
	// maxAsked is how many requests, writes and presses of one client are queued for one tick; more get no answer. All
	// that is undecided may come twice in a tick, over the old connection and over the new one, with writes and presses
	// besides.
	maxAsked = 3 * maxPerTick
)

// Session is one running world. It is used by one goroutine at a time.
type Session struct {
	contract  *contract.Contract
	world     *world.World
	machine   *rules.Machine
	view      *replicate.View
	truth     *replicate.ServerState // what the server holds; nil unless traced
	teller    *replicate.ServerState // tells of it when asked; nothing is kept
	prove     bool                   // see Options
	strict    bool                   // see Options
	asking    bool                   // what ends now is a request
	requests  map[string]*contract.Request
	seats     map[int]*seat
	order     []*seat // by number
	told      []Told  // in this tick
	faults    []Fault
	handed    []*world.Entity // with holds, that have another owner since the last cause
	logs      []Log
	ties      bool                          // something may be attached to something else
	holding   bool                          // there are holds
	moving    bool                          // something moves by itself
	paths     bool                          // what something has swept is asked for
	ticking   bool                          // there are `on tick`s
	roled     bool                          // a cause gave a client another role
	closed    string                        // why the session ended, once it has
	moves     map[string]*contract.Property // holds and properties that clients write, by full name
	moveKinds map[string]*contract.Kind
	plain     []bool // by request: its arguments are numbers, neither texts nor refs nor clients
	budgets   map[key]*budget
	args      []int64         // of the request that is decided
	walked    []*world.Entity // the entities that a stage goes over
	waiting   []waiting       // requests that came a little early
	settled   int64
	last      int // client number
	absent    int // clients whose connections are gone

	// The budget of a tick; see budget.go.
	steps    int64   // see Options.Steps
	ownSteps int64   // see TickOwnSteps
	beganAt  int64   // what the machine had used when the tick began
	ownAt    int64   // and when what runs by itself began
	causeAt  int64   // and when the present cause began
	line     []*seat // clients with inputs that wait, in turn
	joining  []*seat // clients whose join waits
	heaviest Heavy   // of this tick

	out map[string]int64 // by name: until which tick who was expelled is kept out

	tick   int64
	inputs []input
	spare  []input // the memory of the last tick's inputs

	overtaken []Overtaken // since the last tick
	refused   []Refused   // in this tick
	touched   bool        // something was changed from outside since the last tick
	step      Step        // of the last tick
	arena     []byte      // the memory of its frames
	empty     []byte      // that is left free before each
	warmth    int64       // see world.Warm
	parts     wire.Parts
}

// seat is a client's place.
type seat struct {
	// What each tick looks at stands together.
	client   world.Client
	joined   bool // its join has been carried out
	ready    bool
	readying bool // it has said so; the next tick makes it so
	leaving  bool
	lost     bool     // its connection is gone
	behind   bool     // it does not take what it is sent; frames wait until it has caught up
	busy     bool     // there may be messages for it, or it is cut
	sent     int64    // tick of the last frame
	settled  int64    // that it was told
	proven   int64    // tick of the last digest
	asked    int      // requests queued for the next tick
	decided  int      // requests in this tick
	seen     int64    // newest tick that it has applied
	flights  []flight // what travelled and is not confirmed, by tick
	flying   int      // messages in them
	received uint64   // number of anything that it sent
	writes   []int    // among the inputs of the next tick
	spends   *budget  // of what it wrote last

	public   wire.Client // what clients know of it
	deferred []deferred  // inputs that wait for a tick with steps to spare, oldest first
	lostAt   int64       // the tick that its loss was carried out in; 0 while it is there
	healed   int64       // the tick of the last snapshot for a copy that differed
	differed int         // how often its copy differed
	held     []*told     // events that wait: for it to get ready, to come back, or to catch up

	newest uint64 // request that was decided
	// the last decisions, for repeats, by sequence number; apart, so that seats stand close together
	first   *[rememberAsk]wire.Decision
	presses map[key]uint64  // its newest press of each hold
	paused  map[use]int64   // tick from which a request with a pause is taken again
	uses    map[use]*window // by limit
	events  []*told         // of this tick
	replies []answer        // of this tick, that hold refs
	said    []wire.Decision // of this tick
	logs    []string        // of this tick
	strikes window
	cut     string // why it is out with the end of this tick
}

type use struct {
	request int
	entity  world.ID
}

// window remembers the ticks of the last uses of a limit.
type window struct {
	ticks []int64
	next  int
}

// take tells whether another use is within the limit, and counts it if so.
func (w *window) take(count int, length, tick int64) bool {
	if len(w.ticks) < count {
		w.ticks = append(w.ticks, tick)
		return true
	}
	if w.ticks[w.next]+length > tick {
		return false
	}
	w.ticks[w.next] = tick
	w.next = (w.next + 1) % count
	return true
}

type input struct {
	seat *seat
	what string // join, ready, lost, back, leave, ask, press, release or write; empty for what no longer counts
	call *Call
	move Move
}

// Call is a request that was read: its name and arguments are what the contract declares, or it is known what is wrong.
type Call struct {
	ask     wire.Ask
	request *contract.Request
	args    []contract.Value
	slots   []int64 // of the arguments, when they mean the same to every client and tick; else nil
	wrong   string  // empty when it can be run
	waited  bool    // it has, for its limit
	tooLate bool    // the session could not come to it in time
	seen    int64   // the newest tick that its client had confirmed when it came: what came after it does not count
}

// Read holds a request against the contract. It may be called by any goroutine, so that reading does not take the time
// of ticks.
func (s *Session) Read(ask wire.Ask) Call {
	c := Call{ask: ask}
	r := s.requests[ask.Request]
	if r == nil || !r.Kind.Visible() {
		c.wrong = fmt.Sprintf("the contract has no request %.80q", ask.Request)
		return c
	}
	c.request = r
	if len(ask.Args) != len(r.Params) {
		c.wrong = fmt.Sprintf("%s has %d arguments, not %d", r.FullName(), len(r.Params), len(ask.Args))
		return c
	}
	for i, p := range r.Params {
		v, err := p.Type.ParseJSON(ask.Args[i])
		if err != nil {
			c.wrong = fmt.Sprintf("the argument `%s` %s", p.Name, err)
			return c
		}
		c.args = append(c.args, v)
	}
	if s.plain[r.Index] {
		c.slots = make([]int64, 0, len(r.Params))
		for i, p := range r.Params {
			c.slots = p.Type.AppendSlots(c.slots, c.args[i], nil)
		}
	}
	return c
}

// Options of a session.
type Options struct {
	// hides the numbering of entities, and what rolls come from; never sent nor logged
	Key     [32]byte
	Trace   bool // say what each request changed, and what the server holds
	Reveals bool // say what was revealed to whom: Step.Reveals
	Prove   bool // send a digest with every frame
	Strict  bool // what comes too early for its limit is dropped, and never waits for its turn
	// of the rules' machine that requests, writes and joins may take in one tick; 0 for TickSteps
	Steps int64
	// bytes that entities and what clients are told of them may take; 0 for DefaultMemory
	Memory   int64
	Headroom int // bytes that are left free before each frame, for who sends it
	// values of the contract's settings; those that are not named have their defaults
	Settings map[string]json.RawMessage
}

// New opens a session of a contract. The error says what is wrong with the settings, or that the contract asks for more
// than the machine has.
func New(c *contract.Contract, o Options) (*Session, error) {
	compile := rules.Compile
	if o.Reveals {
		compile = rules.CompileTraced
	}
	program, err := compile(c)
	if err != nil {
		return nil, err
	}
	s := &Session{contract: c, requests: map[string]*contract.Request{}, seats: map[int]*seat{}}
	s.world = world.New(c, nil)
	s.world.MaxMemory = o.Memory
	if o.Memory <= 0 {
		s.world.MaxMemory = DefaultMemory
	}
	if err := s.settings(o.Settings); err != nil {
		return nil, err
	}
	s.moves = map[string]*contract.Property{}
	s.moveKinds = map[string]*contract.Kind{}
	s.budgets = map[key]*budget{}
	for _, k := range c.Kinds {
		s.ticking = s.ticking || k.OnTick != nil
		for _, p := range k.Properties {
			s.ties = s.ties || p.Follows != nil && p.Follows.Holder != nil
			s.moving = s.moving || p.Follows != nil && p.Follows.Rate != nil
			s.holding = s.holding || p.Hold != nil
			s.paths = s.paths || p.Path >= 0
			if p.Hold != nil || p.Set != nil {
				s.moves[k.Name+"."+p.Name] = p
				s.moveKinds[k.Name+"."+p.Name] = k
			}
		}
	}
	s.machine = rules.NewMachine(program, s.world, o.Key)
	s.steps = o.Steps
	s.ownSteps = TickOwnSteps
	if s.steps <= 0 {
		s.steps = TickSteps
	}
	s.view = replicate.NewView(o.Key, s.world, s.machine)
	s.teller = replicate.NewServerState(o.Key, s.world)
	s.prove = o.Prove
	s.strict = o.Strict
	for _, r := range c.Requests {
		s.requests[r.FullName()] = r
		s.plain = append(s.plain, !slices.ContainsFunc(r.Params, func(p contract.Param) bool {
			return p.Type.Has(contract.FormText) || p.Type.Has(contract.FormEntity) || p.Type.Has(contract.FormClient)
		}))
	}
	s.empty = make([]byte, o.Headroom)
	if o.Trace {
		s.truth = replicate.NewServerState(o.Key, s.world)
	}
	for _, e := range slices.Clone(s.world.Entities()) {
		s.eachView(func(v listener) { v.AddEntity(e) })
		s.handle(e, rules.OnStart, "on start")
	}
	return s, nil
}

// settings gives the session its settings.
func (s *Session) settings(given map[string]json.RawMessage) error {
	for name, raw := range given {
		i := slices.IndexFunc(s.contract.Settings, func(x *contract.Setting) bool { return x.Name == name })
		if i < 0 {
			return fmt.Errorf("open a session: the contract has no setting %.80q", name)
		}
		x := s.contract.Settings[i]
		v, err := x.Type.ParseJSON(raw)
		if err != nil {
			return fmt.Errorf("open a session: the setting `%s` %w", name, err)
		}
		copy(s.world.Settings[x.Slot:], x.Type.AppendSlots(nil, v, s.world.Intern))
	}
	return nil
}

// Step is what one tick did. It holds until the next one.
type Step struct {
	Tick      int64
	Frames    []ClientFrame
	Decisions []Decision
	Told      []Told
	Cuts      []Cut
	Logs      []Log
	Closed    string  // why the contract ended the session with this tick; empty when it goes on
	Faults    []Fault // of handlers and timers; what they did was undone
	// writes that a newer one of the same client came after in the same tick: nobody looked at them
	Overtaken []Overtaken
	Refused   []Refused      // writes, presses and releases that were not carried out
	Reveals   []rules.Reveal // since the last tick, in their order; only when asked for
	Deferred  int            // inputs that came in this tick and wait for another one
	Heaviest  Heavy          // the cause that took the most steps
	// bytes of memory that its entities take, and what clients are told of them; see Options.Memory
	Held   int64
	Memory []byte      // in which the frames stand
	Truth  *wire.Block // what changed for the server itself; only when traced and watched, else nil
}

// Overtaken is a write of a client, by its sequence number, that was not carried out because a newer one of the same
// property came in the same tick. Its client is told nothing: the newer one counts.
type Overtaken struct {
	Client int
	Seq    uint64
}

// Refused is a write, press or release that was not carried out.
type Refused struct {
	Client   wire.Client
	What     string // write, press or release
	Property string // full name
	Outcome  wire.Outcome
	Reason   string
}

// Log is a line that the contract logged, and for whom.
type Log struct {
	Text    string
	Clients []int
}

// Fault says that something failed inside that the contract does by itself, or a write of a client. What it did was
// undone. A request that fails has a Decision instead.
type Fault struct {
	Of     string // what was run, such as "on join" or "a timer of Diver"
	In     string // the body that failed, such as "on spawn of Diver"
	File   string // of the contract, or one that it includes
	Line   int
	Entity uint32 // whose handler or timer was run, by its number toward clients; 0 for none
	Kind   string // of that entity
	Serial int64  // it was the how manyth of its kind to be spawned, from 1
	Owner  int    // of that entity
	Client int    // that joined, left, lost its connection or wrote; 0 for none
	Seq    uint64 // of a write
	Reason string
}

// Words tells a fault with its place in the contract, what it was about unless that is empty, and why.
func (f *Fault) Words(about string) string {
	in := f.In
	if in == "" {
		in = f.Of
	}
	if about != "" {
		about = " (" + about + ")"
	}
	return fmt.Sprintf("%s fails inside, in line %d of %s%s: %s", in, f.Line, f.File, about, f.Reason)
}

// Cause names what failed and why, without the numbers of this one time: faults of one cause are the same fault again.
func (f *Fault) Cause() string {
	return fmt.Sprintf("%s in line %d of %s: %s", f.In, f.Line, f.File, numbers.ReplaceAllString(f.Reason, "N"))
}

var numbers = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?`)

// Fault returns the fault of a request that failed inside, as that of a handler is told, and what it was about.
func (d *Decision) Fault() (f Fault, about string) {
	kind, name, _ := strings.Cut(d.Ask.Request, ".")
	f = Fault{
		Of:     "request " + name + " of " + kind,
		In:     d.In,
		File:   d.File,
		Line:   d.Line,
		Client: d.Client.Number,
		Seq:    d.Ask.Seq,
		Reason: d.Reason,
	}
	values := make([]string, len(d.Ask.Args))
	for i, value := range d.Ask.Args {
		values[i] = string(value)
	}
	asked := strings.Join(values, ", ")
	if asked == "" {
		asked = "nothing"
	}
	return f, fmt.Sprintf("asked by %s with %s", d.Client.Name, asked)
}

// maxAbout is how many values of an entity are told with a fault of one of its handlers.
const maxAbout = 8

// About words what a fault of the last tick was about: the entity by name, with the values that it has now, or the
// client.
func (s *Session) About(f *Fault) string {
	name := func(client int) string {
		if t := s.seats[client]; t != nil && client != 0 {
			return t.client.Name
		}
		return ""
	}
	if f.Kind == "" {
		return name(f.Client)
	}
	out := fmt.Sprintf("%s[%d]", f.Kind, f.Serial)
	if owner := name(f.Owner); owner != "" {
		out = owner + "." + f.Kind
	}
	e := s.find(f.Entity)
	if e == nil {
		return out
	}
	var values []string
	for _, x := range s.teller.Spawn(e).Fields {
		if len(values) == maxAbout {
			values = append(values, "…")
			break
		}
		values = append(values, x.Name+" = "+x.Type.Format(x.Value))
	}
	return out + " with " + strings.Join(values, ", ")
}

// ClientFrame is a binary frame for one client. It holds until the next Tick, unless that goes Into other memory.
type ClientFrame struct {
	Client int
	Bytes  []byte
	Whole  []byte // the same, after as many bytes as the session's Headroom
}

// Cut says that a client is out and why; it had a seat until now.
type Cut struct {
	Client int
	Reason string
}

// Told is an event and who it was told to.
type Told struct {
	Event   *wire.Event
	Clients []int
}

// Decision is a decided request with all that there is to tell of it. It is for those who run the session: Reason may
// speak of what the client may not see.
type Decision struct {
	Tick    int64
	Client  wire.Client
	Ask     wire.Ask
	Entity  uint32 // that the request met; 0 if it met none
	Kind    string
	Owner   int
	Outcome wire.Outcome
	Stage   wire.Stage
	Reason  string
	Reply   json.RawMessage // of an accepted request that gives one
	Check   int             // index of the check that decided, or -1
	Strike  bool            // it counted a strike, or expelled
	Text    string          // of that check
	In      string          // the body that decided, such as `request use of Diver`; empty if none did
	File    string          // of that body
	Line    int             // of the contract, 0 if none decided
	Changes []Change
	Told    []string // names of the events
}

// Change is what an accepted request changed.
type Change struct {
	Entity   uint32
	Kind     string
	Owner    int
	Property string
	Type     *contract.Type
	Old, New contract.Value
}

// Contract gives the contract that the session runs.
func (s *Session) Contract() *contract.Contract { return s.contract }

// Now gives the number of the last tick.
func (s *Session) Now() int64 { return s.tick }

// Idle reports whether nothing waits for the next tick: no input, and no change from outside that clients have to be
// told of.
func (s *Session) Idle() bool {
	return !s.touched && len(s.inputs)+len(s.waiting)+len(s.joining)+len(s.line) == 0
}

// Queued tells how many inputs wait for the next tick, and for those after it.
func (s *Session) Queued() int {
	n := len(s.inputs) + len(s.joining)
	for _, t := range s.line {
		n += len(t.deferred)
	}
	return n
}

// Clients lists who has a seat, by number.
func (s *Session) Clients() []wire.Client {
	out := make([]wire.Client, 0, len(s.order))
	for _, t := range s.order {
		out = append(out, t.public)
	}
	return out
}

// known tells what clients know of one, and keeps it with the seat.
func (s *Session) known(t *seat) wire.Client {
	t.public = wire.Client{Number: t.client.Number, Name: t.client.Name, Role: s.contract.Roles[t.client.Role]}
	return t.public
}

// Seen gives the newest tick that a client has said to have applied.
func (s *Session) Seen(client int) int64 {
	if t := s.seats[client]; t != nil {
		return t.seen
	}
	return 0
}

// Watched tells whether Steps are to tell what changed for the server itself. They are when traced, until this says
// otherwise.
func (s *Session) Watched(on bool) {
	if s.truth != nil {
		s.truth.SetWatched(on)
	}
}

// Truth gives all that the server holds, as of the last tick; nil unless traced.
func (s *Session) Truth() *wire.Block {
	if s.truth == nil {
		return nil
	}
	return s.truth.Snapshot()
}

// Sent gives all that a client has been sent, as of the last tick, and the tick of its last frame. A client that has
// not yet been carried in has been sent nothing: the block is nil.
func (s *Session) Sent(client int) (*wire.Block, int64) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return nil, 0
	}
	return s.view.Snapshot(client), t.sent
}

// Reader gives what reads the frames of a client from the next one on; for one that has been sent nothing yet, from the
// first.
func (s *Session) Reader(client int) *wire.Reader {
	if t := s.seats[client]; t != nil && t.sent > 0 {
		return s.view.Reader(client, t.sent, t.settled)
	}
	return wire.NewReader(s.view.Layout())
}

// Join gives a seat to a new client; its entities come with the next tick. An empty role means the contract's first
// one. The error is a *Refusal.
func (s *Session) Join(name, role string) (int, error) {
	if role == "" {
		role = s.contract.Roles[0]
	}
	index := slices.Index(s.contract.Roles, role)
	if index < 0 {
		return 0, &Refusal{
			RoleUnknown, fmt.Sprintf("as %.40q: the contract has no such role, only %v", role, s.contract.Roles),
		}
	}
	name, err := CleanName(name)
	if err != nil {
		return 0, &Refusal{NameUnfit, err.Error()}
	}
	if s.last >= wire.MaxClient {
		return 0, &Refusal{NumbersSpent, fmt.Sprintf("the session has had %d clients and can number no more", s.last)}
	}
	taken := 0
	for _, t := range s.order {
		if t.leaving {
			continue
		}
		taken++
		if t.client.Name == name {
			return 0, &Refusal{NameTaken, fmt.Sprintf("the name %q is in use in this session", name)}
		}
		// Two that nobody can tell apart are one too many: a game shows names alone.
		if alike(t.client.Name, name) {
			return 0, &Refusal{
				NameTaken,
				fmt.Sprintf("the name %q looks like %q, which is in use in this session", name, t.client.Name),
			}
		}
	}
	if s.world.MemoryUsed() >= s.world.MaxMemory {
		return 0, &Refusal{MemorySpent, "the session has no memory left for another client"}
	}
	if taken >= s.contract.Seats {
		return 0, &Refusal{SeatsTaken, fmt.Sprintf("all %d seats of the session are taken", s.contract.Seats)}
	}
	if until := s.out[name]; s.tick < until {
		return 0, &Refusal{
			Expelled,
			fmt.Sprintf(
				"%q was expelled and may come back in %g s", name,
				math.Ceil(float64(until-s.tick)/float64(s.contract.TickRate)),
			),
		}
	}
	delete(s.out, name)
	s.last++
	t := &seat{
		client: world.Client{Number: s.last, Name: name, Role: index},
		uses:   map[use]*window{},
		paused: map[use]int64{},
	}
	s.known(t)
	s.seats[s.last] = t
	s.order = append(s.order, t)
	s.inputs = append(s.inputs, input{seat: t, what: "join"})
	return s.last, nil
}

// Leave takes a client's seat with the next tick.
func (s *Session) Leave(client int) {
	if t := s.seats[client]; t != nil && !t.leaving {
		t.leaving = true
		s.inputs = append(s.inputs, input{seat: t, what: "leave"})
	}
}

// Lost says that a client's connection is gone. Its seat waits for as long as the contract says; then it is cut.
func (s *Session) Lost(client int) {
	if t := s.seats[client]; t != nil && !t.leaving && !t.lost {
		t.lost = true
		s.inputs = append(s.inputs, input{seat: t, what: "lost"})
	}
}

// Back says that a client has a connection again, and has applied all frames up to the tick seen. It is sent everything
// anew, with the events and decisions of the frames that were lost; it has to say again that it is ready.
func (s *Session) Back(client int, seen int64) {
	if t := s.seats[client]; t != nil && !t.leaving {
		s.Confirm(client, seen)
		t.land(0)
		t.behind = false
		if !t.lost {
			s.inputs = append(s.inputs, input{seat: t, what: "lost"}) // nobody had noticed
		}
		t.lost = false
		t.readying = false
		s.inputs = append(s.inputs, input{seat: t, what: "back"})
	}
}

// Settle says that all that is kept was stored, up to a tick; frames tell it. Nothing is settled until it is said.
func (s *Session) Settle(tick int64) { s.settled = max(s.settled, min(tick, s.tick)) }

// Differs says that a client's copy is not what a frame's digest says. It is sent everything anew, at most once in five
// seconds; healed tells whether it will be now.
func (s *Session) Differs(client int) (healed bool) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return false
	}
	t.differed++
	if t.healed > 0 && s.tick-t.healed < int64(healPause*s.contract.TickRate) {
		return false
	}
	t.healed = s.tick
	s.view.Resync(client)
	return true
}

// Differences tells how often a client's copy was not what it should be.
func (s *Session) Differences(client int) int {
	if t := s.seats[client]; t != nil {
		return t.differed
	}
	return 0
}

// graces cuts those whose seats have waited long enough.
func (s *Session) graces(step *Step) {
	if s.absent == 0 {
		return
	}
	for _, t := range slices.Clone(s.order) {
		if t.lostAt > 0 && s.tick-t.lostAt >= s.contract.Grace {
			step.Cuts = append(
				step.Cuts,
				Cut{
					t.client.Number,
					fmt.Sprintf(
						"its connection was lost and did not come back within %g s",
						float64(s.contract.Grace)/float64(s.contract.TickRate),
					),
				},
			)
			s.leave(t)
		}
	}
}

// Ready says that a client has its handlers in place: the events that were held for it follow.
func (s *Session) Ready(client int) {
	if t := s.seats[client]; t != nil && !t.readying {
		t.readying = true
		s.inputs = append(s.inputs, input{seat: t, what: "ready"})
	}
}

// Confirm notes the newest tick that a client has applied. It counts at once and is no more than a statement of the
// client: one beyond what it was sent is ignored.
func (s *Session) Confirm(client int, tick int64) {
	if t := s.seats[client]; t != nil {
		s.confirm(t, tick)
	}
}

func (s *Session) confirm(t *seat, tick int64) {
	if tick > t.seen && tick <= s.tick {
		t.seen = tick
		t.confirm()
	}
}

// Ask queues a request for the next tick. A client's surplus over the general limit is dropped without being looked at.
func (s *Session) Ask(client int, call Call) {
	t := s.seats[client]
	if t == nil {
		return
	}
	t.asked++
	if t.asked > maxAsked {
		return // a flood gets no answer; it already has maxPerTick decisions and more drops in this tick
	}
	s.confirm(t, call.ask.Seen)
	t.received = max(t.received, call.ask.Seq)
	call.seen = t.seen
	s.inputs = append(s.inputs, input{seat: t, what: "ask", call: &call})
}

// Into has the frames of the next tick stand in some memory, as much as it holds; what was in it is lost. Without it,
// they stand where those of the last tick did.
func (s *Session) Into(memory []byte) { s.arena = memory }

// Tick carries out all inputs in the order of their arrival and cuts the frames.
func (s *Session) Tick() *Step {
	s.tick++
	s.world.Tick = s.tick
	step := &s.step
	*step = Step{Tick: s.tick, Frames: step.Frames[:0], Cuts: step.Cuts[:0]}
	inputs := s.inputs
	s.inputs = s.spare[:0]
	for i := range inputs {
		if t := inputs[i].seat; len(t.writes) > 0 {
			t.writes = t.writes[:0]
		}
	}
	defer func() {
		clear(inputs) // what clients sent is not kept alive
		s.spare = inputs
	}()
	step.Overtaken = s.overtaken
	s.overtaken = nil
	s.refused = nil
	s.touched = false
	s.beganAt = s.machine.Used()
	s.heaviest = Heavy{}
	s.sweepNew()
	s.admit(step)
	s.resume(step)
	for i := range inputs {
		in := &inputs[i]
		t := in.seat
		if s.seats[t.client.Number] != t {
			continue // it left earlier in this tick
		}
		switch in.what {
		case "join":
			if s.overBudget() || len(s.joining) > 0 {
				s.joining = append(s.joining, t)
				step.Deferred++
			} else {
				s.join(t)
			}
		case "ready":
			t.ready = true
		case "lost":
			if t.lostAt == 0 {
				s.absent++
			}
			t.lostAt = s.tick
			if !t.joined {
				continue
			}
			s.cause('c', int64(t.client.Number), 0)
			s.concludeFor(t.client.Number, "on lost", s.machine.Lost(t.client.Number))
			s.owned(t.client.Number, rules.OnOwnerLost, "on owner lost")
		case "back":
			if t.lostAt > 0 {
				s.absent--
			}
			t.lostAt = 0
			t.ready = false
			if !t.joined {
				continue
			}
			s.view.Resync(t.client.Number)
			s.cause('c', int64(t.client.Number), 1)
			s.concludeFor(t.client.Number, "on back", s.machine.Back(t.client.Number))
		case "leave":
			s.leave(t)
		case "ask", "press", "release", "write":
			s.meet(t, in, step)
		}
	}
	s.ownAt = s.machine.Used()
	s.graces(step)
	s.leases()
	s.timers()
	s.motion()
	s.collect(step)
	s.frames(step)
	s.weighMemory()
	s.runaway() // audiences count as well
	step.Closed = s.closed
	step.Heaviest, step.Held = s.heaviest, s.world.MemoryUsed()
	s.world.CollectTexts(maxTexts)
	return step
}
