// Package session runs one shared world: its tick, its clients' seats, and the way of a request from arrival to
// decision.
//
// A Session is a function of its contract, its key and its inputs. It knows no clock, no goroutine and no network:
// whoever owns it queues inputs as they arrive, calls Tick, and sends the frames that Tick returns. All methods have to
// be called by one goroutine at a time, but for ReadRequest and ReadSteering.
//
// What a Step holds belongs to the session until the next Tick.
//
// # How it works
//
// Tick (tick.go) takes the queued inputs in the order of their arrival, runs timers, moves what moves by itself, and
// makes the frames. decide.go puts a request through its stages: bounds, types, target, who may ask, limit and pause,
// checks, body. The first one that fails decides, and nothing has changed by then. steer.go does the same for writes
// and held inputs, which are decided by the newest one only.
//
// Each thing that is run is a cause of its own (transaction.go), with a transaction that is kept or undone as a whole.
// seat.go has what the session knows of one client: what was sent and is not confirmed, what it may still ask, and the
// first decision of each request, so that one that is asked again after a lost connection gets the same answer.
// deliver.go makes a frame of all that waits for a client. budget.go bounds what one tick may take, outside.go is what
// those who run the session may do to it.
package session

import (
	"encoding/json"
	"fmt"
	"slices"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/checkpoint"
	"kamerad.example/core/codegen"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// Bounds of a session.
const (
	MaxName = 24 // characters of a client's name
	// events, decisions and log lines that a client has not confirmed; over it the client is cut
	MaxUnconfirmed      = 4000
	maxTexts            = 1 << 16 // texts that the world keeps before it forgets those that nothing holds
	rememberedDecisions = 64      // the last decisions of each client are kept, against repeats of its requests
	resyncPause         = 5       // seconds between two snapshots for a copy that differs
	expelledFor         = 60      // seconds that an expelled client may not come back
	maxExpelled         = 10_000  // names that are remembered for that

	// maxPerTick is how many requests of one client are decided in one tick; more are dropped unseen. A client whose
	// connection was made again sends all that is undecided once more, and that arrives in one tick.
	maxPerTick = wire.MaxUndone
	// maxQueued is how many requests, writes and presses of one client are queued for one tick; more get no answer. All
	// that is undecided may come twice in a tick, over the old connection and over the new one, with writes and presses
	// besides.
	maxQueued = 3 * maxPerTick
	// maxLogicQueued is the same of the logic process, which writes what many entities do in each tick.
	maxLogicQueued = 1024
)

// Session is one running world.
type Session struct {
	contract    *contract.Contract
	program     *bytecode.Program
	world       *world.World
	machine     *rules.Machine
	view        *replicate.View
	serverState *replicate.ServerState // what changed for the server itself; nil unless Options.Trace
	numbers     *replicate.ServerState // asked for public numbers and values only; told of nothing but what is gone
	prove       bool                   // see Options
	strict      bool                   // see Options
	tick        int64                  // the last one

	// What the contract has, so that ticks skip what it does not.
	hasAttached     bool       // something may be attached to something else
	goneCarriers    []world.ID // despawned in this tick, while anything may be attached to them
	chain           []attached // scratch of followCarrier
	hasHolds        bool
	hasMotion       bool // something follows a rate
	hasPaths        bool // something asks which way something moved
	hasTickHandlers bool // there are `on tick`s

	// What clients may send, by full name.
	requests map[string]*contract.Request `checkpoint:"-"`
	// by request: its arguments are numbers, neither texts nor refs nor clients
	numericArgs    []bool                        `checkpoint:"-"`
	keptProperties []uint64                      `checkpoint:"-"` // by kind, as a bit set
	steerable      map[string]*contract.Property `checkpoint:"-"` // holds, and properties that clients write
	steerableKinds map[string]*contract.Kind     `checkpoint:"-"` // the kinds of those

	// Clients.
	seats         map[int]*seat // by number
	order         []*seat       // the same, by number
	lastClient    int           // the number given last
	absent        int           // clients whose connections are gone
	logic         logicWatch
	sendings      []Sending        // of this tick
	expelledUntil map[string]int64 // by player: the tick from which an expelled client may come back

	// Inputs.
	inputs      []input // for the next tick, in the order of their arrival
	spareInputs []input `checkpoint:"-"` // the memory of the last tick's inputs
	early       []earlyRequest
	budgets     map[propertyKey]*paceBudget
	storedTick  int64 // all that is kept was stored up to this tick
	sharedWorld World // what is kept of shared kinds, as it is now

	// The budget of a tick; see budget.go.
	steps        int64   // see Options.Steps
	ownSteps     int64   // see tickOwnSteps
	stepsAtTick  int64   // what the machine had used when the tick began,
	stepsAtOwn   int64   // when what runs by itself began,
	stepsAtCause int64   // and when the present cause began
	deferring    []*seat // clients with inputs that wait, in turn
	joining      []*seat // clients whose join waits
	heaviest     Heavy   // of this tick

	// What happened since the last tick, or in this one.
	events         []EventSent
	faults         []Fault
	logs           []Log
	overtaken      []Overtaken
	refused        []Refused
	keptChanges    []KeptChange
	misfits        []KeptMisfit
	newOwners      []*world.Entity // entities with holds that have another owner since the last cause
	roleChanged    bool            // a cause gave a client another role
	asking         *seat           // of the request whose transaction ends now; nil when it is another cause's
	askingSeq      uint64          // the request's number
	incarnations   []incarnation   // but for the first, oldest first
	result         json.RawMessage // what the session came to, when it has closed with a result
	closed         string          // why the session ended; empty while it goes on
	changedOutside bool            // something was changed by Set or Hand since the last tick

	// Memory that is used again.
	step         Step            `checkpoint:"-"`
	args         []int64         `checkpoint:"-"` // of the request that is decided
	visited      []*world.Entity `checkpoint:"-"` // the entities that a stage goes over
	frameMemory  []byte          `checkpoint:"-"` // see UseMemory
	headroom     []byte          `checkpoint:"-"` // that is left free before each frame
	parts        wire.Parts      `checkpoint:"-"`
	prefetchSink int64

	checkpoints *checkpoint.Codec `checkpoint:"-"` // nil until the first one is written
	recordCall  func(*Call)       `checkpoint:"-"` // see RecordCalls; nil for nobody
	traceCause  func(*Caused)     `checkpoint:"-"` // see TraceCauses; nil for nobody
	causeEntity *world.Entity     `checkpoint:"-"` // that the present cause is about; nil for none
	causeAction world.Delayed     `checkpoint:"-"` // of a cause that is an action which has waited
	steering    *seat             `checkpoint:"-"` // whose write, press or release is carried out; nil for nobody's
	call        Call              `checkpoint:"-"` // that is recorded
	callMove    wire.Move         `checkpoint:"-"` // of that
}

// Options of a session.
type Options struct {
	// hides how entities are numbered, and what rolls come from; never sent nor logged
	Key     [32]byte
	Trace   bool // say what each request changed, and what the server holds
	Reveals bool // say what was revealed to whom: Step.Reveals
	Prove   bool // send a digest with every frame
	Strict  bool // drop what comes too early for its limit, instead of having it wait its turn
	// of the rules' machine for requests, writes and joins in one tick; 0 for tickSteps
	Steps int64
	// bytes that entities, and what clients are told of them, may take; 0 for DefaultMemory
	Memory   int64
	Headroom int                        // bytes that are left free before each frame, for whoever sends it
	Settings map[string]json.RawMessage // values of the contract's settings; the others have their defaults
	World    World                      // that keeps what is kept of shared kinds; its zero value for none
}

// World has what is kept of shared kinds, under a name, from session to session.
type World struct {
	Name string
	Kept
}

// New opens a session of a contract. The error says what is wrong with the settings, or that the contract asks for more
// than the machine has.
func New(c *contract.Contract, o Options) (*Session, error) {
	program, err := generate(c, o)
	if err != nil {
		return nil, err
	}
	s := &Session{
		contract: c,
		program:  program,
		world:    world.New(c, nil),
		prove:    o.Prove,
		strict:   o.Strict,
		seats:    map[int]*seat{},
		budgets:  map[propertyKey]*paceBudget{},
		steps:    o.Steps,
		ownSteps: tickOwnSteps,
		headroom: make([]byte, o.Headroom),
	}
	if s.steps <= 0 {
		s.steps = tickSteps
	}
	s.world.MaxMemory = o.Memory
	if o.Memory <= 0 {
		s.world.MaxMemory = DefaultMemory
	}
	if err := s.applySettings(o.Settings); err != nil {
		return nil, err
	}
	s.indexContract()
	s.machine = rules.NewMachine(program, s.world, o.Key)
	s.view = replicate.NewView(o.Key, s.world, s.machine)
	s.numbers = replicate.NewServerState(o.Key, s.world)
	if o.Trace {
		s.serverState = replicate.NewServerState(o.Key, s.world)
	}
	s.connectMachine(o.Key)
	s.loadWorld(o.World)
	for _, e := range s.world.Entities() {
		if o := s.machine.ComputeInitial(e); o != nil {
			return nil, fmt.Errorf("open a session: %s", o.Reason)
		}
	}
	for _, e := range slices.Clone(s.world.Entities()) {
		s.eachListener(func(l listener) { l.AddEntity(e) })
		s.handle(e, rules.OnStart, "on start")
	}
	return s, nil
}

// generate translates the bodies of a contract for a session with these options.
func generate(c *contract.Contract, o Options) (*bytecode.Program, error) {
	if o.Reveals {
		return codegen.GenerateTraced(c)
	}
	return codegen.Generate(c)
}

// connectMachine gives the machine what it asks of the session.
func (s *Session) connectMachine(key [32]byte) {
	s.machine.HasSeen = s.hasSeen
	s.machine.InitOwn = s.initKept
	// Nothing is remembered: an entity whose spawning is undone leaves its number to another one.
	kinds := len(s.contract.Kinds)
	s.machine.PublicNumber = func(e *world.Entity) uint32 { return replicate.PublicNumber(key, e, kinds) }
}

// indexContract finds out what the contract has, and indexes what clients may send.
func (s *Session) indexContract() {
	s.requests = map[string]*contract.Request{}
	s.steerable = map[string]*contract.Property{}
	s.steerableKinds = map[string]*contract.Kind{}
	for _, k := range s.contract.Kinds {
		kept := uint64(0)
		for _, p := range k.Properties {
			if p.Keep {
				kept |= 1 << p.Index
			}
		}
		s.keptProperties = append(s.keptProperties, kept)
		s.hasTickHandlers = s.hasTickHandlers || k.OnTick != nil
		for _, p := range k.Properties {
			s.hasAttached = s.hasAttached || p.Follows != nil && p.Follows.Holder != nil
			s.hasMotion = s.hasMotion || p.Follows != nil && p.Follows.Rate != nil
			s.hasHolds = s.hasHolds || p.Hold != nil
			s.hasPaths = s.hasPaths || p.Path >= 0
			if p.Hold != nil || p.Set != nil {
				name := k.Name + "." + p.Name
				s.steerable[name] = p
				s.steerableKinds[name] = k
			}
		}
	}
	isNumeric := func(t *contract.Type) bool {
		return !t.Has(contract.FormText) && !t.Has(contract.FormEntity) && !t.Has(contract.FormClient)
	}
	for _, r := range s.contract.Requests {
		s.requests[r.FullName()] = r
		notNumeric := func(p contract.Param) bool { return !isNumeric(p.Type) }
		s.numericArgs = append(s.numericArgs, !slices.ContainsFunc(r.Params, notNumeric))
	}
}

// applySettings takes over the values of settings that were given.
func (s *Session) applySettings(given map[string]json.RawMessage) error {
	for name, raw := range given {
		isNamed := func(x *contract.Setting) bool { return x.Name == name }
		i := slices.IndexFunc(s.contract.Settings, isNamed)
		if i < 0 {
			return fmt.Errorf("open a session: the contract has no setting %.80q", name)
		}
		setting := s.contract.Settings[i]
		v, err := setting.Type.ParseJSON(raw)
		if err != nil {
			return fmt.Errorf("open a session: the setting `%s` %w", name, err)
		}
		copy(s.world.Settings[setting.Slot:], setting.Type.AppendSlots(nil, v, s.world.Intern))
	}
	return nil
}

// PublicSettings returns the values of the contract's public settings, in the JSON form of their types; nil when there
// are none. They are the same for as long as the session lasts.
func (s *Session) PublicSettings() map[string]json.RawMessage {
	var out map[string]json.RawMessage
	for _, x := range s.contract.Settings {
		if !x.Public {
			continue
		}
		if out == nil {
			out = map[string]json.RawMessage{}
		}
		slots := s.world.Settings[x.Slot : x.Slot+x.Type.Width()]
		out[x.Name] = x.Type.AppendJSON(nil, x.Type.FromSlots(slots, s.world.Text))
	}
	return out
}

// Contract returns the contract that the session runs.
func (s *Session) Contract() *contract.Contract { return s.contract }

// Now returns the number of the last tick.
func (s *Session) Now() int64 { return s.tick }

// Idle reports whether nothing waits for the next tick: no input, and no change from outside that clients have to be
// told of.
func (s *Session) Idle() bool {
	return !s.changedOutside && len(s.inputs)+len(s.early)+len(s.joining)+len(s.deferring) == 0
}

// Queued returns how many inputs wait for the next tick, and for those after it.
func (s *Session) Queued() int {
	n := len(s.inputs) + len(s.joining)
	for _, t := range s.deferring {
		n += len(t.deferred)
	}
	return n
}

// SetWatched says whether Steps are to tell what changed for the server itself. With Options.Trace they are, until
// SetWatched says otherwise.
func (s *Session) SetWatched(on bool) {
	if s.serverState != nil {
		s.serverState.SetWatched(on)
	}
}

// ServerState returns all that the server holds, as of the last tick; nil without Options.Trace.
func (s *Session) ServerState() *wire.Block {
	if s.serverState == nil {
		return nil
	}
	return s.serverState.Snapshot()
}

// ClientState returns all that a client has been sent, as of the last tick, and the tick of its last frame. The block
// is nil while the client's join has not been carried out.
func (s *Session) ClientState(client int) (*wire.Block, int64) {
	t := s.seats[client]
	if t == nil || !t.joined {
		return nil, 0
	}
	return s.view.Snapshot(client), t.lastFrame
}

// LastFrame returns the tick of the last frame that was cut for a client; 0 before the first.
func (s *Session) LastFrame(client int) int64 {
	if t := s.seats[client]; t != nil {
		return t.lastFrame
	}
	return 0
}

// Layout returns the layout of the frames of the session's clients. It never changes, and everybody may read it.
func (s *Session) Layout() *wire.Layout { return s.view.Layout() }

// Reader returns a reader of a client's frames from the next one on; for a client that has been sent nothing yet, from
// the first.
func (s *Session) Reader(client int) *wire.Reader {
	if t := s.seats[client]; t != nil && t.lastFrame > 0 {
		return s.view.Reader(client, t.lastFrame, t.toldStored)
	}
	return wire.NewReader(s.view.Layout())
}

// ConfirmStored says that all that is kept was stored, up to a tick. Frames tell it to clients; nothing counts as
// stored until it is said.
func (s *Session) ConfirmStored(tick int64) {
	if stored := min(tick, s.tick); stored > s.storedTick {
		s.storedTick = stored
		s.record(Call{Type: CallConfirmStored, Tick: stored})
	}
}

// UseMemory lends memory for the frames of the next tick, as far as it is large enough; its content is lost.
// Without it they stand where those of the last tick did.
func (s *Session) UseMemory(memory []byte) { s.frameMemory = memory }
