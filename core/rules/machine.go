// Package rules runs the checks and bodies of a contract, which package codegen has translated, against a world. It
// decides nothing about who may ask: that is the session's part.
//
// Each session has a Machine of its own, for a Program that it may share and its World. It tells the Machine the Cause,
// calls the method for what happened, and reads the Outcome and what was told: the Machine owns these, and uses their
// memory again for the next run. A run that is denied, dropped or faulted has changed nothing.
//
// # How it works
//
// exec (machine.go) is the loop over instructions: one switch, in which everything that is cheap is done in place. What
// costs more than its dispatch is in run.go, reals apart from whole numbers in reals, since together they would take
// each other's registers. Nothing is worded in the loop: an instruction that fails returns how, and the message is made
// afterwards from what the registers still hold (word).
//
// Bodies run each other in frames, at most 32 deep. After a body, handlers of what it changed are run in rounds until
// nothing changes any more (rounds). Every run has a bound on its steps, counted by the length of the code that is
// entered, so that the count depends on what was run alone and never on a clock. dice.go makes the rolls; split.go
// computes the two sides of an audience.
package rules

import (
	"encoding/json"
	"fmt"
	"math"
	"math/bits"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
	"kamerad.example/core/world"
)

// Told is an event that a body told, with the values that it had at that moment.
//
// Values and Clients use memory of the machine again: whoever keeps a Told beyond the next run copies
// them.
type Told struct {
	Event    *contract.Event
	Entity   *world.Entity // nil for an event of the contract itself
	Values   []contract.Value
	Everyone bool  // told to all clients, whoever they are
	Clients  []int // else to these, by number
}

// EffectKind says what an effect does.
type EffectKind uint8

// The kinds of effects.
const (
	ExpelClient  EffectKind = iota // expels Client, for the reason Text
	CloseSession                   // closes the session, for the reason Text
	SendClient                     // sends Client to the Exit
	LogLine                        // logs Text, for Clients and whoever runs the session
)

// Effect is what a body did beside its changes and events.
//
// Like events, effects count only when the run was accepted; the caller drops those of one that was
// not.
type Effect struct {
	Kind    EffectKind
	Client  int              // that is expelled, or sent
	Exit    *contract.Exit   // of who is sent
	Key     string           // of the session that the exit leads to
	Values  []contract.Value // of the exit's parameters
	Text    string           // the reason, or the words of the log
	Clients []int            // that get the log
	Result  json.RawMessage  // of the session that is closed; nil for none
}

// Cause keys the rolls of a run: no two runs of a session have the same one.
//
// A replay that gives each run the same cause gets the same rolls. What tells apart runs of one tick
// with equal A and B.
type Cause struct {
	Tick int64
	What byte // of the caller's choice
	A, B int64
}

// Reveal is a value that a contract has revealed.
type Reveal struct {
	Place   string // in the contract
	Clients []int  // who may learn it; nil for everyone
	Value   string // the same for the same value
}

// maxReveals bounds how many reveals a Machine keeps; it tells no more until they are emptied.
const maxReveals = 10_000

// Machine is the state of one run. It is made once for a session and used for one run after the other.
//
// A Machine is for one goroutine, the one that owns the world. It starts no transaction and ends none.
type Machine struct {
	warmth  int64 // see world.Prefetch
	World   *world.World
	Cause   Cause           // of the next run; set by the caller
	Told    []Told          // by the present run; the caller empties it with Told[:0], so that its memory is used again
	Effects []Effect        // the same
	Reply   contract.Value  // of the present run, when its request gives one
	result  json.RawMessage // of a session that is about to be closed
	Reveals []Reveal        // of code that is traced, also of runs that failed; the caller empties it
	// HasSeen reports whether a client has confirmed that it knows of an entity or, with a property, its value as it is
	// now. Nil when nobody has.
	HasSeen func(client int, e *world.Entity, p *contract.Property) bool `checkpoint:"-"`
	// InitOwn is called with each entity that a client has come to have one of, before anything of it runs, and may
	// give it first values. Nil for nobody.
	InitOwn func(e *world.Entity) `checkpoint:"-"`
	// PublicNumber returns the number by which clients know an entity. Nil where there are no clients.
	PublicNumber func(e *world.Entity) uint32 `checkpoint:"-"`

	Incarnation int // of the session; it is part of every roll

	// See TraceRuns.
	tracing bool        `checkpoint:"-"`
	runs    []tracedRun `checkpoint:"-"`
	stack   []RunBody   `checkpoint:"-"`

	program *bytecode.Program
	dice    dice `checkpoint:"-"`
	caller  int64
	viewer  int64
	steps   int64  // that the present run has left
	used    int64  // steps of the runs before it
	way     uint64 // from the cause to the body that runs, for its rolls
	recent  int64  // when what a failed check read last changed
	// of the body that runs, and of the actions and functions that it is in
	frames    []*frame `checkpoint:"-"`
	loops     []loop   `checkpoint:"-"` // that are open
	open      int      // how many
	touched   []world.ChangedProperty
	ending    []*world.Entity // whose `on despawn` runs
	wallList  []geometry.Wall `checkpoint:"-"` // that along_walls and its like look at
	nearWalls []geometry.Wall `checkpoint:"-"` // memory of a search for the nearest
	// of constants and settings, by where these stand
	wallsOf map[wallKey]*geometry.WallIndex `checkpoint:"-"`
	// of constant places and links, by where these stand among the constants
	maps       map[mapKey]*geometry.Map `checkpoint:"-"`
	sortKeys   []int64                  // what decides the order of the list that is being sorted
	sortPlaces []int
	// entities whose computed properties computeChanged looks at
	outdated []*world.Entity
	slots    []int64  // for values on their way
	reason   string   // of a fault that was worded when it happened
	inner    *Outcome // of an action or function that failed
	outcome  Outcome  // of the last run that was not accepted
}

// frame holds the registers of one body.
//
// nums holds whole numbers, doubles by their bits, places of texts, and numbers of entities and
// clients; entities holds the entities that code reads through. Code writes a register before it reads
// it, so frames are not cleared between runs.
type frame struct {
	nums     [bytecode.Registers]int64
	entities [bytecode.Registers]*world.Entity
	memory   []int64
}

// Bounds of one run.
const (
	maxRounds = 8  // of `on change` that one cause may set off
	maxDepth  = 32 // of bodies that run each other
	maxSteps  = bytecode.MaxSteps
	runSteps  = 20   // that every run counts, however short
	maxTold   = 1000 // events and logs of one cause
)

// NewMachine makes a machine for a program and a world. The key, which is never told to anybody, is what its rolls come
// from.
//
// p may be shared by any number of machines; w belongs to this one. Frames below the first are made
// when a body first runs another one.
func NewMachine(p *bytecode.Program, w *world.World, key [32]byte) *Machine {
	m := &Machine{
		World:   w,
		program: p,
		steps:   maxSteps,
	}
	for i, x := range p.Indexes {
		if x.Place != nil || x.Values != nil {
			w.KeepIndex(p.Contract.Kinds[i], world.Index{Place: x.Place, Shifts: x.Shifts, Values: x.Values})
		}
	}
	m.Rebuild(key)
	return m
}

// Rebuild makes what a checkpoint of the machine leaves out: the key, and memory that its runs use.
func (m *Machine) Rebuild(key [32]byte) {
	m.dice = dice{key: key, cause: &m.Cause, incarnation: &m.Incarnation}
	m.frames = make([]*frame, maxDepth+1)
	m.frames[0] = &frame{memory: make([]int64, m.program.Memory)}
}

// Outcome is how a run ended.
//
// Exactly one of Denied, Dropped and Faulted is set. The machine owns it: it holds until the next run.
type Outcome struct {
	Denied  bool
	Then    contract.Then // of a denial by a check: deny, strike or expel; drop for one that is dropped
	Dropped bool
	Faulted bool
	Reason  string // of a denial, as the contract words it; of a fault, what went wrong; none of a drop
	Check   int    // index of the check that failed, or -1
	In      string // the body that denied or faulted, such as `on spawn of Diver`; what set it off may be another one
	File    string // that the statement is in
	Line    int    // of the statement that denied or faulted
	Recent  int64  // of a check that strikes or expels: the tick at which what it read last changed
}

// Used returns how many steps all runs have taken until now. It depends on what was run alone, never on a clock.
func (m *Machine) Used() int64 { return m.used + maxSteps - m.steps }

// begin makes the machine ready for a run.
//
// caller is 0 where no client asks. The dice forget how often they were rolled: they start again with
// each cause.
func (m *Machine) begin(caller int) {
	m.caller = int64(caller)
	m.viewer = 0
	m.used += maxSteps - m.steps + runSteps
	m.steps = maxSteps
	m.open = 0
	m.recent = 0
	m.way = 0
	m.ending = m.ending[:0]
	if len(m.dice.rolls) > 0 {
		clear(m.dice.rolls)
	}
}

// Ask runs a request: its checks in order, its body if all of them hold, and what that sets off. args are the slots of
// its arguments, of the declared types, in the order of declaration. What was written stands in the world's open
// transaction and what was told in m.Told; the caller commits or rolls back. The outcome is nil for an accepted
// request, and else holds until the next run.
func (m *Machine) Ask(r *contract.Request, self *world.Entity, caller int, args []int64) *Outcome {
	m.begin(caller)
	c := &m.program.Requests[r.Index]
	f := m.frames[0]
	// Without lists the arguments are the first registers, in their order. The mask spares a bounds
	// check.
	if c.Memory == 0 {
		for i, v := range args {
			f.nums[i&(bytecode.Registers-1)] = v
		}
	} else {
		f.hand(c, args)
	}
	if out := m.run(c, 0, self); out != nil {
		return out
	}
	return m.rounds()
}

// hand puts arguments where the code wants them.
//
// args has as many slots as the parameters together. No value is checked here: they were when they came
// from a client or a timer's queue.
func (f *frame) hand(c *bytecode.Code, args []int64) {
	for _, p := range c.Params {
		n := p.Type.Width()
		if p.InMemory {
			copy(f.memory[p.Offset:], args[:n])
		} else {
			copy(f.nums[p.Offset:], args[:n])
		}
		args = args[n:]
	}
}

// When says which handler of an entity runs.
type When int

// The handlers of a kind.
const (
	OnStart When = iota
	OnSpawn
	OnTick
	OnOwnerLost
	OnOwnerLeave
	OnDespawn
)

// Handles reports whether a kind has a handler.
func (m *Machine) Handles(k *contract.Kind, when When) bool { return m.handler(k, when) != nil }

// handler returns the code that a kind has for an occasion, or nil.
func (m *Machine) handler(k *contract.Kind, when When) *bytecode.Code {
	kind := &m.program.Kinds[k.Index]
	return [...]*bytecode.Code{kind.Start, kind.Spawn, kind.Tick, kind.OwnerLost, kind.OwnerLeave, kind.Despawn}[when]
}

// Handle runs a handler of an entity, and what it sets off.
//
// A kind without that handler still gets the rounds of what was changed before.
func (m *Machine) Handle(e *world.Entity, when When) *Outcome {
	m.begin(0)
	return m.whole(m.handler(e.Kind, when), e)
}

// whole runs code and the rounds that it sets off.
func (m *Machine) whole(c *bytecode.Code, self *world.Entity) *Outcome {
	if c != nil {
		if out := m.run(c, 0, self); out != nil {
			return out
		}
	}
	return m.rounds()
}

// Join makes the entities that a client has one each of, runs their `on spawn`, then `on join`.
//
// The client has to be in the world already. A fault in any of these leaves the join undone: the caller
// rolls the transaction back.
func (m *Machine) Join(client *world.Client) *Outcome {
	m.begin(0)
	if out := m.own(client); out != nil {
		return out
	}
	m.frames[0].nums[0] = int64(client.Number)
	return m.whole(m.program.OnJoin, nil)
}

// Enter makes the entities of a client that has got another role.
//
// What it had for its old role is gone by then; `on join` does not run again.
func (m *Machine) Enter(client world.Client) *Outcome {
	m.begin(0)
	if out := m.own(&client); out != nil {
		return out
	}
	return m.rounds()
}

// own makes the entities that a client has one each of.
//
// Room is asked for first, because a failure afterwards could not say which bound it was.
func (m *Machine) own(client *world.Client) *Outcome {
	for _, k := range m.program.Contract.Kinds {
		if k.Per != client.Role {
			continue
		}
		if m.World.Full(k) {
			m.outcome = Outcome{
				Faulted: true,
				Check:   -1,
				Reason: fmt.Sprintf(
					"there have been %d entities of the kind %s, and no more can be numbered",
					world.MaxSerial(m.program.Contract), k.Name,
				),
			}
			return &m.outcome
		}
		if !m.World.HasRoom(k) {
			m.outcome = Outcome{Faulted: true, Check: -1, Reason: m.noRoom("another " + k.Name)}
			return &m.outcome
		}
		e := m.World.Spawn(k, client.Number)
		if m.InitOwn != nil {
			m.InitOwn(e)
		}
		if out := m.ComputeInitial(e); out != nil {
			return out
		}
		if c := m.program.Kinds[k.Index].Spawn; c != nil {
			if out := m.run(c, 0, e); out != nil {
				return out
			}
		}
	}
	return nil
}

// Lost runs `on lost` for a client whose connection is gone.
func (m *Machine) Lost(client int) *Outcome { return m.of(m.program.OnLost, client) }

// Back runs `on back` for a client whose connection is there again.
func (m *Machine) Back(client int) *Outcome { return m.of(m.program.OnBack, client) }

// Leave runs `on leave` for a client whose seat ends.
func (m *Machine) Leave(client int) *Outcome { return m.of(m.program.OnLeave, client) }

// Stay runs `on stay` for a client that was sent elsewhere and could not be.
func (m *Machine) Stay(client int) *Outcome { return m.of(m.program.OnStay, client) }

// Silent runs `on silent`, when nothing has been heard of the logic process for some time.
func (m *Machine) Silent() *Outcome { return m.of(m.program.OnSilent, 0) }

// Heard runs `on heard`, when the logic process is heard for the first time or again.
func (m *Machine) Heard() *Outcome { return m.of(m.program.OnHeard, 0) }

// of runs a body that has no self, for a client.
//
// The client is the body's only argument and stands in the first register. c may be nil.
func (m *Machine) of(c *bytecode.Code, client int) *Outcome {
	m.begin(0)
	m.frames[0].nums[0] = int64(client)
	return m.whole(c, nil)
}

// holds reports whether a condition holds; one that cannot be computed does not.
//
// Conditions change nothing, so there are no rounds after them. Without a condition it holds.
func (m *Machine) holds(c *bytecode.Code, self *world.Entity) bool {
	if c == nil {
		return true
	}
	m.begin(0)
	return m.run(c, 0, self) == nil && m.frames[0].nums[0] != 0
}

// wait computes a time and returns it in ticks; ok is false for one that cannot be computed.
func (m *Machine) wait(c *bytecode.Code, self *world.Entity, caller int) (ticks int64, ok bool) {
	m.begin(caller)
	if m.run(c, 0, self) != nil {
		return 0, false
	}
	return contract.TicksOf(m.frames[0].nums[0], m.program.Contract.TickRate), true
}

// TimerTicks returns how many ticks an entity's timer waits as things are now; ok is false when that cannot be
// computed.
func (m *Machine) TimerTicks(e *world.Entity, timer int) (ticks int64, ok bool) {
	if c := m.program.Kinds[e.Kind.Index].Timers[timer].Wait; c != nil {
		return m.wait(c, e, 0)
	}
	return e.Kind.Timers[timer].Ticks, true
}

// PauseTicks returns how many ticks have to lie between two requests of a caller as things are now; ok is false when
// that cannot be computed. The request has a pause.
func (m *Machine) PauseTicks(r *contract.Request, e *world.Entity, caller int) (ticks int64, ok bool) {
	if c := m.program.Pauses[r.Index]; c != nil {
		return m.wait(c, e, caller)
	}
	return r.Pause.Ticks, true
}

// Rate returns by how much the budget for writes of a property grows in a second, as things are now: 0 when that cannot
// be computed, or is below.
func (m *Machine) Rate(e *world.Entity, p *contract.Property) float64 {
	c := m.program.Kinds[e.Kind.Index].Properties[p.Index].Rate
	if c == nil {
		return p.Set.Rate
	}
	m.begin(0)
	if m.run(c, 0, e) != nil {
		return 0
	}
	return max(fromBits(m.frames[0].nums[0]), 0)
}

// While reports whether the condition of an entity's timer holds; one that cannot be computed does not.
func (m *Machine) While(e *world.Entity, timer int) bool {
	return m.holds(m.program.Kinds[e.Kind.Index].Timers[timer].While, e)
}

// MayHold reports whether the condition of a hold holds.
func (m *Machine) MayHold(e *world.Entity, p *contract.Property) bool {
	return m.holds(m.program.Kinds[e.Kind.Index].Properties[p.Index].When, e)
}

// Writer returns the client that may write a property; ok is false when there is none.
//
// It is computed for each write, since the client that it names may change with any property.
func (m *Machine) Writer(e *world.Entity, p *contract.Property) (client int, ok bool) {
	m.begin(0)
	if m.run(m.program.Kinds[e.Kind.Index].Properties[p.Index].SetBy, 0, e) != nil {
		return 0, false
	}
	n := int(m.frames[0].nums[0])
	return n, n > 0
}

// Pace returns what a client's write of a property costs, and Obeys whether the property's rule allows it. slots are
// the new value's; a price that cannot be computed is more than any budget.
func (m *Machine) Pace(e *world.Entity, p *contract.Property, slots []int64) float64 {
	if m.write(m.program.Kinds[e.Kind.Index].Properties[p.Index].Pace, e, p, slots) != nil {
		return math.Inf(1)
	}
	return max(fromBits(m.frames[0].nums[0]), 0)
}

// Obeys reports whether the rule of a property allows a client's write.
func (m *Machine) Obeys(e *world.Entity, p *contract.Property, slots []int64) bool {
	c := m.program.Kinds[e.Kind.Index].Properties[p.Index].Rule
	return c == nil || m.write(c, e, p, slots) == nil && m.frames[0].nums[0] != 0
}

// write runs the code that decides about a write of an owner, and makes the write when it passes.
//
// The old value stands in the first registers and the new one behind it, as package check declared
// them.
func (m *Machine) write(c *bytecode.Code, e *world.Entity, p *contract.Property, slots []int64) *Outcome {
	m.begin(0)
	w := p.Type.Width()
	copy(m.frames[0].nums[:], e.Nums[p.Slot:p.Slot+w])
	copy(m.frames[0].nums[w:], slots)
	return m.run(c, 0, e)
}

// Fire runs the body of an entity's timer, and what it sets off.
func (m *Machine) Fire(e *world.Entity, timer int) *Outcome {
	m.begin(0)
	return m.whole(m.program.Kinds[e.Kind.Index].Timers[timer].Body, e)
}

// Due runs an action whose tick has come, and what it sets off.
func (m *Machine) Due(e *world.Entity, d world.Delayed) *Outcome {
	m.begin(0)
	c := &m.program.Actions[d.Action.Index]
	m.frames[0].hand(c, d.Args)
	return m.whole(c, e)
}

// Settle runs what a change from outside of the rules sets off, such as the end of a hold.
func (m *Machine) Settle() *Outcome {
	m.begin(0)
	return m.rounds()
}

// rounds runs `on change` of what the transaction changed and of what is computed from it, then of what that changed,
// until nothing changes any more.
//
// Each round goes over what has changed since the round before, by entity and then in the order of
// declaration, so that a replay runs the same handlers in the same order. There is no caller in them,
// even when a request set them off.
func (m *Machine) rounds() *Outcome {
	if !m.program.HasChangeHandlers && !m.program.HasComputed {
		return nil
	}
	m.caller = 0
	for round, mark := 1, 0; ; round++ {
		if out := m.computeChanged(mark); out != nil {
			return out
		}
		m.touched = m.World.ChangedSince(mark, m.touched[:0])
		mark = m.World.JournalMark()
		for _, t := range m.touched {
			c := m.program.Kinds[t.Entity.Kind.Index].Change[t.Property]
			if c == nil || t.Entity.Gone {
				continue
			}
			if round > maxRounds {
				m.outcome = Outcome{
					Faulted: true,
					Check:   -1,
					In:      c.Name,
					File:    c.File,
					Line:    int(c.Lines[0]),
					Reason: fmt.Sprintf(
						"`on change %s` would run in a round after the %dth; does it set itself off?",
						t.Entity.Kind.Properties[t.Property].Name, maxRounds),
				}
				return &m.outcome
			}
			// Two handlers of one cause roll apart, whatever else ran before them.
			m.way = mixed(mixed(1, uint64(t.Entity.Key())), uint64(t.Property))
			if out := m.run(c, 0, t.Entity); out != nil {
				return out
			}
		}
		if m.World.JournalMark() == mark {
			return nil
		}
	}
}

// run runs code in the frame of a depth.
//
// The caller has put the arguments into the frame. Loops that a failure left open are closed here.
func (m *Machine) run(c *bytecode.Code, depth int, self *world.Entity) *Outcome {
	f := m.frames[depth]
	var row []int64
	f.entities[0] = self
	if self != nil {
		row = self.Nums
	}
	open := m.open
	if m.tracing {
		m.enterTraced(c)
	}
	at, how := m.exec(f, depth, c.Instructions, row, c)
	m.open = open
	if m.tracing {
		m.leaveTraced()
	}
	if how == ended {
		return nil
	}
	if how == failedInside {
		return m.inner
	}
	return m.word(c, f, at, how)
}

// word returns how a run ended that did not come to its end. It is done afterwards, from the instruction and what its
// registers still hold, so that the way of what goes well is short.
//
// In a head, an instruction that belongs to a check and reads through nothing makes the check fail,
// rather than the run.
func (m *Machine) word(c *bytecode.Code, f *frame, at int, how end) *Outcome {
	in := &c.Instructions[at]
	out := &m.outcome
	*out = Outcome{
		Check: -1,
		In:    c.Name,
		File:  c.File,
		Line:  int(c.Lines[at]),
	}
	switch check := c.Checks[at]; {
	case in.Op == bytecode.OpFail || how == nothing && check >= 0:
		out.Then = c.Then[check]
		out.Dropped = out.Then == contract.ThenDrop
		out.Denied = !out.Dropped
		out.Check = int(check)
		out.Reason = c.Reasons[check]
		out.Line = int(c.CheckLines[check])
		out.Recent = m.recent
		if how == nothing {
			out.Recent = m.World.Tick // what it read is not there, perhaps since just now
		}
	case how == denied:
		out.Denied = true
		out.Then = contract.ThenDeny
		out.Reason = c.Strings[in.K]
	default:
		out.Faulted, out.Reason = true, m.faultOf(c, f, in, how)
	}
	return out
}

// faultOf returns the message of the failure that an instruction ended with.
func (m *Machine) faultOf(c *bytecode.Code, f *frame, in *bytecode.Instruction, how end) string {
	switch how {
	case worded:
		return m.reason
	case nothing:
		return nothingThere(c, in)
	}
	p := f.nums[in.B]
	q := f.nums[uint8(in.C)]
	switch in.Op {
	case bytecode.OpAdd:
		return tooGreat(p, q, "+")
	case bytecode.OpAddK:
		return tooGreat(p, in.K, "+")
	case bytecode.OpSub:
		return tooGreat(p, q, "-")
	case bytecode.OpSubSelf:
		return tooGreat(p, f.entities[0].Nums[in.C], "-")
	case bytecode.OpMul:
		return tooGreat(p, q, "*")
	case bytecode.OpDiv, bytecode.OpMod:
		if q == 0 {
			return "division by zero"
		}
		return tooGreat(p, q, "/")
	case bytecode.OpRealAdd, bytecode.OpRealSub, bytecode.OpRealMul, bytecode.OpRealDiv:
		sign := map[bytecode.Op]string{
			bytecode.OpRealAdd: "+",
			bytecode.OpRealSub: "-",
			bytecode.OpRealMul: "*",
			bytecode.OpRealDiv: "/",
		}[in.Op]
		if in.Op == bytecode.OpRealDiv && fromBits(q) == 0 {
			return "division by zero"
		}
		return fmt.Sprintf("%g %s %g is no finite number", fromBits(p), sign, fromBits(q))
	case bytecode.OpNeg:
		return fmt.Sprintf("-(%d) is not a 64-bit whole number", p)
	}
	// What is left is a number that is stored.
	s := &c.Stores[in.C]
	e := f.entities[in.B]
	v := in.K
	switch old := e.Nums[s.Slot]; in.Op {
	case bytecode.OpStore:
		v = f.nums[uint8(in.A)]
	case bytecode.OpBump:
		v += old
		if (old^v)&(in.K^v) < 0 {
			return tooGreat(old, in.K, "+")
		}
	}
	t := s.Property.Type
	return fmt.Sprintf("%s.%s cannot become %s: its range is %s..%s", e.Kind.Name, s.Property.Name,
		t.Format(contract.Value{Num: v}), t.Format(contract.Value{Num: s.Low}), t.Format(contract.Value{Num: s.High}))
}

// tooGreat says that the result of an operation has more than 64 bits.
func tooGreat(p, q int64, sign string) string {
	return fmt.Sprintf("%d %s %d is not a 64-bit whole number", p, sign, q)
}

// nothingThere says what an instruction tried to reach through an entity that is not there.
//
// Instructions keep their operands in different tables, which is why each group looks in its own.
func nothingThere(c *bytecode.Code, in *bytecode.Instruction) string {
	what := "owner"
	switch in.Op {
	case bytecode.OpLoad, bytecode.OpSince, bytecode.OpPath:
		what = c.Properties[in.K].Name
	case bytecode.OpStore, bytecode.OpStoreK, bytecode.OpBump:
		what = c.Stores[in.C].Property.Name
	case bytecode.OpFetch, bytecode.OpIndex, bytecode.OpKey, bytecode.OpKeyPut:
		what = c.Fetches[in.K].Name()
	case bytecode.OpPutWide, bytecode.OpPutList:
		what = c.Puts[in.K].Address.Name()
	case bytecode.OpHolder:
		what = c.Containers[in.K].Container.Name()
	case bytecode.OpCompute:
		what = c.Computed[in.K].Name()
	case bytecode.OpRun, bytecode.OpDelay:
		return fmt.Sprintf("the action `%s` is run on nothing: there is no such entity", c.Calls[in.K].Action.Name)
	case bytecode.OpTell:
		return fmt.Sprintf("the event `%s` is told of nothing: there is no such entity", c.Tells[in.K].Event.Name)
	case bytecode.OpPublic:
		return "`number` is asked of nothing: there is no such entity"
	case bytecode.OpDespawn, bytecode.OpGive:
		return "there is no such entity (any more)"
	}
	return fmt.Sprintf("`%s` is reached through nothing: there is no such entity", what)
}

// end says how a piece of code came to its end.
type end uint8

const (
	ended        end = iota
	denied           // a check failed, or the body denies
	faulted          // the instruction tells why
	worded           // a fault too; m.reason says why
	nothing          // a read through nothing: a fault in a body, a failed check in a head
	failedInside     // of an action or function; m.inner tells
	again            // a loop goes round once more
)

// fault notes the message of a failure and returns the end that stands for one.
//
// It formats at once: the registers may hold something else by the time that anybody asks.
func (m *Machine) fault(format string, args ...any) end {
	m.reason = fmt.Sprintf(format, args...)
	return worded
}

// truth returns a bool as a register holds it.
//
// Any value but 0 counts as true where it is read.
func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// exec runs code until it ends, and returns the instruction that ended it. row is the row of self. Nothing is worded
// here: a call with values in it would cost every instruction its registers.
//
// Steps are not counted here for each instruction. Code without loops is bounded by its length; loops
// and calls pay the length of what they run (next, hand), which is more than they take.
//
// Registers have as many places as a byte has values, so an index that is converted to uint8 needs no
// bounds check. Code jumps to an instruction's number less one, since the loop adds one.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) exec(
	f *frame, depth int, instructions []bytecode.Instruction, row []int64, c *bytecode.Code,
) (at int, how end) {
	r := &f.nums
	ents := &f.entities
	for pc := 0; uint(pc) < uint(len(instructions)); pc++ {
		in := &instructions[pc]
		switch in.Op {
		case bytecode.OpEnd:
			return pc, ended
		case bytecode.OpFail, bytecode.OpDeny:
			return pc, denied

		case bytecode.OpConst:
			r[uint8(in.A)] = in.K
		case bytecode.OpMove:
			r[uint8(in.A)] = r[in.B]
		case bytecode.OpSelf:
			r[uint8(in.A)] = row[in.C]
		case bytecode.OpLoad:
			e := ents[in.B]
			if e == nil || e.Gone {
				return pc, nothing
			}
			r[uint8(in.A)] = e.Nums[in.C]
		case bytecode.OpShared:
			r[uint8(in.A)] = m.World.Shared(int(in.K)).Nums[in.C]

		case bytecode.OpAdd:
			p := r[in.B]
			q := r[uint8(in.C)]
			s := p + q
			if (p^s)&(q^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.A)] = s
		case bytecode.OpAddK:
			p := r[in.B]
			s := p + in.K
			if (p^s)&(in.K^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.A)] = s
		case bytecode.OpSub:
			p := r[in.B]
			q := r[uint8(in.C)]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.A)] = s
		case bytecode.OpSubSelf:
			p := r[in.B]
			q := row[in.C]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.A)] = s
		case bytecode.OpMul:
			p := r[in.B]
			q := r[uint8(in.C)]
			if (!small(p) || !small(q)) && !fits(p, q) {
				return pc, faulted
			}
			r[uint8(in.A)] = p * q
		case bytecode.OpDiv, bytecode.OpMod:
			p := r[in.B]
			q := r[uint8(in.C)]
			switch {
			case q == 0 || q == -1 && p == math.MinInt64 && in.Op == bytecode.OpDiv:
				return pc, faulted
			case q == -1 && in.Op == bytecode.OpMod:
				r[uint8(in.A)] = 0
			case in.Op == bytecode.OpDiv:
				r[uint8(in.A)] = p / q
			default:
				r[uint8(in.A)] = p % q
			}
		case bytecode.OpNeg:
			if r[in.B] == math.MinInt64 {
				return pc, faulted
			}
			r[uint8(in.A)] = -r[in.B]

		case bytecode.OpJump:
			pc = int(in.C) - 1
		case bytecode.OpEq:
			if r[uint8(in.A)] == r[in.B] {
				pc = int(in.C) - 1
			}
		case bytecode.OpNe:
			if r[uint8(in.A)] != r[in.B] {
				pc = int(in.C) - 1
			}
		case bytecode.OpLt:
			if r[uint8(in.A)] < r[in.B] {
				pc = int(in.C) - 1
			}
		case bytecode.OpLe:
			if r[uint8(in.A)] <= r[in.B] {
				pc = int(in.C) - 1
			}
		case bytecode.OpEqK:
			if r[uint8(in.A)] == in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpNeK:
			if r[uint8(in.A)] != in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpLtK:
			if r[uint8(in.A)] < in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpLeK:
			if r[uint8(in.A)] <= in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpGtK:
			if r[uint8(in.A)] > in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpGeK:
			if r[uint8(in.A)] >= in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfEqK:
			if row[in.A] == in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfNeK:
			if row[in.A] != in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfLtK:
			if row[in.A] < in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfLeK:
			if row[in.A] <= in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfGtK:
			if row[in.A] > in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSelfGeK:
			if row[in.A] >= in.K {
				pc = int(in.C) - 1
			}

		case bytecode.OpSharedEqK:
			if m.World.Shared(int(in.B)).Nums[in.A] == in.K {
				pc = int(in.C) - 1
			}
		case bytecode.OpSharedNeK:
			if m.World.Shared(int(in.B)).Nums[in.A] != in.K {
				pc = int(in.C) - 1
			}

		case bytecode.OpStore, bytecode.OpStoreK, bytecode.OpBump:
			e := ents[in.B]
			s := &c.Stores[in.C]
			if e == nil || e.Gone {
				return pc, nothing
			}
			v := in.K
			if in.Op == bytecode.OpStore {
				v = r[uint8(in.A)]
			} else if in.Op == bytecode.OpBump {
				old := e.Nums[s.Slot]
				v += old
				if (old^v)&(in.K^v) < 0 {
					return pc, faulted
				}
			}
			if v < s.Low || v > s.High {
				if !s.TakesAll {
					return pc, faulted
				}
				v = s.Property.Type.Bring(v)
			}
			m.World.Write(e, s.Index, s.Slot, v)

		case bytecode.OpEntityOf:
			ents[uint8(in.A)] = m.World.OfClient(int(in.K), int(r[in.B]))
		case bytecode.OpEntityShared:
			ents[uint8(in.A)] = m.World.Shared(int(in.K))
		case bytecode.OpEntityID:
			ents[uint8(in.A)] = m.World.Entity(world.ID(r[in.B]))
		case bytecode.OpID:
			r[uint8(in.A)] = 0
			if e := ents[in.B]; e != nil && !e.Gone {
				r[uint8(in.A)] = int64(e.ID)
			}
		case bytecode.OpOwner:
			e := ents[in.B]
			if e == nil || e.Gone {
				return pc, nothing
			}
			r[uint8(in.A)] = int64(e.Owner)
		case bytecode.OpCaller:
			r[uint8(in.A)] = m.caller
		case bytecode.OpNext:
			switch m.next(f, in, len(instructions)) {
			case ended:
				pc = int(in.C) - 1
			case worded:
				return pc, worded
			}

		case bytecode.OpReal, bytecode.OpFromInt, bytecode.OpRealAdd, bytecode.OpRealSub, bytecode.OpRealMul,
			bytecode.OpRealDiv, bytecode.OpRealNeg, bytecode.OpRealTest:
			if how := reals(f, c, in); how != ended {
				return pc, how
			}
		default:
			if how := m.rare(f, depth, c, in); how != ended {
				return pc, how
			}
		}
	}
	return 0, ended // not reached: all code has an end
}

// reals runs the instructions on reals. They stand apart because their needs would cost those on whole numbers their
// registers.
func reals(f *frame, c *bytecode.Code, in *bytecode.Instruction) end {
	r := &f.nums
	switch in.Op {
	case bytecode.OpReal:
		t := c.Types[in.K]
		r[uint8(in.A)] = toBits(float64(r[in.B]*t.Unit) / float64(t.Per))
	case bytecode.OpFromInt:
		r[uint8(in.A)] = toBits(float64(r[in.B]))
	case bytecode.OpRealAdd:
		v := fromBits(r[in.B]) + fromBits(r[uint8(in.C)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.A)] = toBits(v)
	case bytecode.OpRealSub:
		v := fromBits(r[in.B]) - fromBits(r[uint8(in.C)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.A)] = toBits(v)
	case bytecode.OpRealMul:
		v := fromBits(r[in.B]) * fromBits(r[uint8(in.C)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.A)] = toBits(v)
	case bytecode.OpRealDiv:
		v := fromBits(r[in.B]) / fromBits(r[uint8(in.C)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.A)] = toBits(v)
	case bytecode.OpRealNeg:
		r[uint8(in.A)] = toBits(-fromBits(r[in.B]))
	case bytecode.OpRealTest:
		p := fromBits(r[in.B])
		q := fromBits(r[uint8(in.C)])
		r[uint8(in.A)] = truth(
			in.K == bytecode.RealEqual && p == q || in.K == bytecode.RealNotEqual && p != q ||
				in.K == bytecode.RealLess && p < q || in.K == bytecode.RealLessOrEqual && p <= q,
		)
	}
	return ended
}

// toBits returns a double as a register holds it.
func toBits(v float64) int64 { return int64(math.Float64bits(v)) }

// fromBits returns the double that a register holds.
func fromBits(v int64) float64 { return math.Float64frombits(uint64(v)) }

// finite reports whether a real is one that may go on: neither infinite nor no number.
func finite(v float64) bool { return v-v == 0 }

// small reports whether a number has 31 bits, so that the product of two such has 64.
//
// It spares most multiplications the exact test.
func small(v int64) bool { return int64(int32(v)) == v }

// fits reports whether a product has 64 bits.
//
// A negative product may be one greater in its magnitude than a positive one.
func fits(p, q int64) bool {
	high, low := bits.Mul64(magnitude(p), magnitude(q))
	if high != 0 {
		return false
	}
	if (p < 0) != (q < 0) {
		return low <= 1<<63
	}
	return low < 1<<63
}

// magnitude returns the absolute value of a number, over the whole range of int64.
func magnitude(v int64) uint64 {
	if v < 0 {
		return -uint64(v)
	}
	return uint64(v)
}

// Float returns the real that a slot of an expression holds.
func Float(slot int64) float64 { return fromBits(slot) }
