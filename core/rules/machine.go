// Package rules compiles the checks and bodies of a contract for a register machine over flat 64-bit slots, and runs
// them against a world. It decides nothing about who may ask: that is the session's part.
//
// Generate makes a Program of a contract, once; sessions share it. Each session has a Machine of its own with its
// World, tells it the Cause, calls the method for what happened, and reads the Outcome and what was told: the Machine
// owns these, and uses their memory again for the next run. A run that is denied, dropped or faulted has changed
// nothing.
package rules

import (
	"fmt"
	"math"
	"math/bits"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Told is an event that a body told, with the values that it had at that moment.
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
	LogLine                        // logs Text, for Clients and whoever runs the session
)

// Effect is what a body did beside its changes and events.
type Effect struct {
	Kind    EffectKind
	Client  int    // that is expelled
	Text    string // the reason, or the words of the log
	Clients []int  // that get the log
}

// Cause keys the rolls of a run: no two runs of a session have the same one.
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
type Machine struct {
	warmth  int64 // see world.Prefetch
	World   *world.World
	Cause   Cause          // of the next run; set by the caller
	Told    []Told         // by the present run; the caller empties it with Told[:0], so that its memory is used again
	Effects []Effect       // the same
	Reply   contract.Value // of the present run, when its request gives one
	Reveals []Reveal       // of code that is traced, also of runs that failed; the caller empties it

	program *Program
	dice    dice
	caller  int64
	viewer  int64
	steps   int64    // that the present run has left
	used    int64    // steps of the runs before it
	way     uint64   // from the cause to the body that runs, for its rolls
	recent  int64    // when what a failed check read last changed
	frames  []*frame // of the body that runs, and of the actions and functions that it is in
	loops   []loop   // that are open
	open    int      // how many
	touched []world.ChangedProperty
	slots   []int64  // for values on their way
	reason  string   // of a fault that was worded when it happened
	inner   *Outcome // of an action or function that failed
	outcome Outcome  // of the last run that was not accepted
}

// frame holds the registers of one body.
type frame struct {
	nums     [registers]int64
	entities [registers]*world.Entity
	memory   []int64
}

// Bounds of one run.
const (
	maxRounds = 8         // of `on change` that one cause may set off
	maxDepth  = 32        // of bodies that run each other
	maxSteps  = 2_000_000 // instructions of one cause, counted generously
	runSteps  = 20        // that every run counts, however short
	maxTold   = 1000      // events and logs of one cause
)

// NewMachine makes a machine for a program and a world. The key, which is never told to anybody, is what its rolls come
// from.
func NewMachine(p *Program, w *world.World, key [32]byte) *Machine {
	m := &Machine{
		World:   w,
		program: p,
		dice:    dice{key: key},
		steps:   maxSteps,
	}
	m.dice.cause = &m.Cause
	m.frames = make([]*frame, maxDepth+1)
	m.frames[0] = &frame{memory: make([]int64, p.memory)}
	return m
}

// Outcome is how a run ended.
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
func (m *Machine) begin(caller int) {
	m.caller = int64(caller)
	m.viewer = 0
	m.used += maxSteps - m.steps + runSteps
	m.steps = maxSteps
	m.open = 0
	m.recent = 0
	m.way = 0
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
	c := &m.program.requests[r.Index]
	f := m.frames[0]
	if c.memory == 0 {
		for i, v := range args {
			f.nums[i&(registers-1)] = v
		}
	} else {
		f.hand(c, args)
	}
	if out := m.run(c, 0, self); out != nil || !m.program.watches {
		return out
	}
	return m.rounds()
}

// hand puts arguments where the code wants them.
func (f *frame) hand(c *code, args []int64) {
	for _, p := range c.params {
		n := p.typ.Width()
		if p.memory {
			copy(f.memory[p.at:], args[:n])
		} else {
			copy(f.nums[p.at:], args[:n])
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
)

// Handles reports whether a kind has a handler.
func (m *Machine) Handles(k *contract.Kind, when When) bool { return m.handler(k, when) != nil }

// handler returns the code that a kind has for an occasion, or nil.
func (m *Machine) handler(k *contract.Kind, when When) *code {
	kind := &m.program.kinds[k.Index]
	return [...]*code{kind.start, kind.spawn, kind.tick, kind.ownerLost, kind.ownerLeave}[when]
}

// Handle runs a handler of an entity, and what it sets off.
func (m *Machine) Handle(e *world.Entity, when When) *Outcome {
	m.begin(0)
	return m.whole(m.handler(e.Kind, when), e)
}

// whole runs code and the rounds that it sets off.
func (m *Machine) whole(c *code, self *world.Entity) *Outcome {
	if c != nil {
		if out := m.run(c, 0, self); out != nil {
			return out
		}
	}
	return m.rounds()
}

// Join makes the entities that a client has one each of, runs their `on spawn`, then `on join`.
func (m *Machine) Join(client *world.Client) *Outcome {
	m.begin(0)
	if out := m.own(client); out != nil {
		return out
	}
	m.frames[0].nums[0] = int64(client.Number)
	return m.whole(m.program.join, nil)
}

// Enter makes the entities of a client that has got another role.
func (m *Machine) Enter(client world.Client) *Outcome {
	m.begin(0)
	if out := m.own(&client); out != nil {
		return out
	}
	return m.rounds()
}

// own makes the entities that a client has one each of.
func (m *Machine) own(client *world.Client) *Outcome {
	for _, k := range m.program.contract.Kinds {
		if k.Per != client.Role {
			continue
		}
		if m.World.Full(k) {
			m.outcome = Outcome{
				Faulted: true,
				Check:   -1,
				Reason: fmt.Sprintf(
					"there have been %d entities of the kind %s, and no more can be numbered",
					world.MaxSerial(m.program.contract), k.Name,
				),
			}
			return &m.outcome
		}
		if !m.World.HasRoom(k) {
			m.outcome = Outcome{Faulted: true, Check: -1, Reason: m.noRoom("another " + k.Name)}
			return &m.outcome
		}
		e := m.World.Spawn(k, client.Number)
		if c := m.program.kinds[k.Index].spawn; c != nil {
			if out := m.run(c, 0, e); out != nil {
				return out
			}
		}
	}
	return nil
}

// Lost runs `on lost` for a client whose connection is gone.
func (m *Machine) Lost(client int) *Outcome { return m.of(m.program.lost, client) }

// Back runs `on back` for a client whose connection is there again.
func (m *Machine) Back(client int) *Outcome { return m.of(m.program.back, client) }

// Leave runs `on leave` for a client whose seat ends.
func (m *Machine) Leave(client int) *Outcome { return m.of(m.program.leave, client) }

// of runs a body that has no self, for a client.
func (m *Machine) of(c *code, client int) *Outcome {
	m.begin(0)
	m.frames[0].nums[0] = int64(client)
	return m.whole(c, nil)
}

// holds reports whether a condition holds; one that cannot be computed does not.
func (m *Machine) holds(c *code, self *world.Entity) bool {
	if c == nil {
		return true
	}
	m.begin(0)
	return m.run(c, 0, self) == nil && m.frames[0].nums[0] != 0
}

// While reports whether the condition of an entity's timer holds; one that cannot be computed does not.
func (m *Machine) While(e *world.Entity, timer int) bool {
	return m.holds(m.program.kinds[e.Kind.Index].timers[timer].while, e)
}

// MayHold reports whether the condition of a hold holds.
func (m *Machine) MayHold(e *world.Entity, p *contract.Property) bool {
	return m.holds(m.program.kinds[e.Kind.Index].props[p.Index].when, e)
}

// Writer returns the client that may write a property; ok is false when there is none.
func (m *Machine) Writer(e *world.Entity, p *contract.Property) (client int, ok bool) {
	m.begin(0)
	if m.run(m.program.kinds[e.Kind.Index].props[p.Index].setBy, 0, e) != nil {
		return 0, false
	}
	n := int(m.frames[0].nums[0])
	return n, n > 0
}

// Pace returns what a client's write of a property costs, and Obeys whether the property's rule allows it. slots are
// the new value's; a price that cannot be computed is more than any budget.
func (m *Machine) Pace(e *world.Entity, p *contract.Property, slots []int64) float64 {
	if m.write(m.program.kinds[e.Kind.Index].props[p.Index].pace, e, p, slots) != nil {
		return math.Inf(1)
	}
	return max(fromBits(m.frames[0].nums[0]), 0)
}

// Obeys reports whether the rule of a property allows a client's write.
func (m *Machine) Obeys(e *world.Entity, p *contract.Property, slots []int64) bool {
	c := m.program.kinds[e.Kind.Index].props[p.Index].rule
	return c == nil || m.write(c, e, p, slots) == nil && m.frames[0].nums[0] != 0
}

// write runs the code that decides about a write of an owner, and makes the write when it passes.
func (m *Machine) write(c *code, e *world.Entity, p *contract.Property, slots []int64) *Outcome {
	m.begin(0)
	w := p.Type.Width()
	copy(m.frames[0].nums[:], e.Nums[p.Slot:p.Slot+w])
	copy(m.frames[0].nums[w:], slots)
	return m.run(c, 0, e)
}

// Fire runs the body of an entity's timer, and what it sets off.
func (m *Machine) Fire(e *world.Entity, timer int) *Outcome {
	m.begin(0)
	return m.whole(m.program.kinds[e.Kind.Index].timers[timer].body, e)
}

// Due runs an action whose tick has come, and what it sets off.
func (m *Machine) Due(e *world.Entity, d world.Delayed) *Outcome {
	m.begin(0)
	c := &m.program.actions[d.Action.Index]
	m.frames[0].hand(c, d.Args)
	return m.whole(c, e)
}

// Settle runs what a change from outside of the rules sets off, such as the end of a hold.
func (m *Machine) Settle() *Outcome {
	m.begin(0)
	return m.rounds()
}

// rounds runs `on change` of what the transaction changed, then of what that changed, until nothing changes any more.
func (m *Machine) rounds() *Outcome {
	if !m.program.watches {
		return nil
	}
	m.caller = 0
	for round, mark := 1, 0; ; round++ {
		m.touched = m.World.ChangedSince(mark, m.touched[:0])
		mark = m.World.JournalMark()
		for _, t := range m.touched {
			c := m.program.kinds[t.Entity.Kind.Index].change[t.Property]
			if c == nil || t.Entity.Gone {
				continue
			}
			if round > maxRounds {
				m.outcome = Outcome{
					Faulted: true,
					Check:   -1,
					In:      c.name,
					File:    c.file,
					Line:    int(c.lines[0]),
					Reason: fmt.Sprintf(
						"`on change %s` would run in a round after the %dth; does it set itself off?",
						t.Entity.Kind.Properties[t.Property].Name, maxRounds),
				}
				return &m.outcome
			}
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
func (m *Machine) run(c *code, depth int, self *world.Entity) *Outcome {
	f := m.frames[depth]
	var row []int64
	f.entities[0] = self
	if self != nil {
		row = self.Nums
	}
	open := m.open
	at, how := m.exec(f, depth, c.ins, row, c)
	m.open = open
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
func (m *Machine) word(c *code, f *frame, at int, how end) *Outcome {
	in := &c.ins[at]
	out := &m.outcome
	*out = Outcome{
		Check: -1,
		In:    c.name,
		File:  c.file,
		Line:  int(c.lines[at]),
	}
	switch check := c.checks[at]; {
	case in.op == opFail || how == nothing && check >= 0:
		out.Then = c.then[check]
		out.Dropped = out.Then == contract.ThenDrop
		out.Denied = !out.Dropped
		out.Check = int(check)
		out.Reason = c.reasons[check]
		out.Line = int(c.checkLines[check])
		out.Recent = m.recent
		if how == nothing {
			out.Recent = m.World.Tick // what it read is not there, perhaps since just now
		}
	case how == denied:
		out.Denied = true
		out.Then = contract.ThenDeny
		out.Reason = c.strings[in.k]
	default:
		out.Faulted, out.Reason = true, m.faultOf(c, f, in, how)
	}
	return out
}

// faultOf returns the message of the failure that an instruction ended with.
func (m *Machine) faultOf(c *code, f *frame, in *ins, how end) string {
	p := f.nums[in.b]
	q := f.nums[uint8(in.c)]
	sum := func(p, q int64, sign string) string {
		return fmt.Sprintf("%d %s %d is not a 64-bit whole number", p, sign, q)
	}
	if how == worded {
		return m.reason
	}
	if how == nothing {
		what := "owner"
		switch in.op {
		case opLoad, opSince, opPath:
			what = c.props[in.k].Name
		case opStore, opStoreK, opBump:
			what = c.stores[in.c].prop.Name
		case opFetch, opIndex, opKey, opKeyPut:
			what = c.fetches[in.k].name()
		case opPutWide, opPutList:
			what = c.puts[in.k].to.name()
		case opHolder:
			what = c.holders[in.k].on.name()
		case opRun, opDelay:
			return fmt.Sprintf("the action `%s` is run on nothing: there is no such entity", c.calls[in.k].action.Name)
		case opTell:
			return fmt.Sprintf("the event `%s` is told of nothing: there is no such entity", c.tells[in.k].event.Name)
		case opDespawn, opGive:
			return "there is no such entity (any more)"
		}
		return fmt.Sprintf("`%s` is reached through nothing: there is no such entity", what)
	}
	switch in.op {
	case opAdd:
		return sum(p, q, "+")
	case opAddK:
		return sum(p, in.k, "+")
	case opSub:
		return sum(p, q, "-")
	case opSubSelf:
		return sum(p, f.entities[0].Nums[in.c], "-")
	case opMul:
		return sum(p, q, "*")
	case opDiv, opMod:
		if q == 0 {
			return "division by zero"
		}
		return sum(p, q, "/")
	case opRealAdd, opRealSub, opRealMul, opRealDiv:
		sign := map[op]string{opRealAdd: "+", opRealSub: "-", opRealMul: "*", opRealDiv: "/"}[in.op]
		if in.op == opRealDiv && fromBits(q) == 0 {
			return "division by zero"
		}
		return fmt.Sprintf("%g %s %g is no finite number", fromBits(p), sign, fromBits(q))
	case opNeg:
		return fmt.Sprintf("-(%d) is not a 64-bit whole number", p)
	}
	// What is left is a number that is stored.
	s := &c.stores[in.c]
	e := f.entities[in.b]
	v := in.k
	switch old := e.Nums[s.slot]; in.op {
	case opStore:
		v = f.nums[uint8(in.a)]
	case opBump:
		v += old
		if (old^v)&(in.k^v) < 0 {
			return sum(old, in.k, "+")
		}
	}
	t := s.prop.Type
	return fmt.Sprintf("%s.%s cannot become %s: its range is %s..%s", e.Kind.Name, s.prop.Name,
		t.Format(contract.Value{Num: v}), t.Format(contract.Value{Num: s.low}), t.Format(contract.Value{Num: s.high}))
}

// name is what a place is called in a message.
func (a *addr) name() string {
	if a.prop != nil {
		return a.prop.Name
	}
	for _, p := range a.props {
		if p != nil {
			return p.Name
		}
	}
	return "a list"
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
func (m *Machine) fault(format string, args ...any) end {
	m.reason = fmt.Sprintf(format, args...)
	return worded
}

// truth returns a bool as a register holds it.
func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// exec runs code until it ends, and gives the instruction that ended it. row is the row of self. Nothing is worded
// here: a call with values in it would cost every instruction its registers.
//
//revive:disable-next-line:function-length It is one switch.
func (m *Machine) exec(f *frame, depth int, ins []ins, row []int64, c *code) (at int, how end) {
	r := &f.nums
	ents := &f.entities
	for pc := 0; uint(pc) < uint(len(ins)); pc++ {
		in := &ins[pc]
		switch in.op {
		case opEnd:
			return pc, ended
		case opFail, opDeny:
			return pc, denied

		case opConst:
			r[uint8(in.a)] = in.k
		case opMove:
			r[uint8(in.a)] = r[in.b]
		case opSelf:
			r[uint8(in.a)] = row[in.c]
		case opLoad:
			e := ents[in.b]
			if e == nil || e.Gone {
				return pc, nothing
			}
			r[uint8(in.a)] = e.Nums[in.c]
		case opShared:
			r[uint8(in.a)] = m.World.Shared(int(in.k)).Nums[in.c]

		case opAdd:
			p := r[in.b]
			q := r[uint8(in.c)]
			s := p + q
			if (p^s)&(q^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opAddK:
			p := r[in.b]
			s := p + in.k
			if (p^s)&(in.k^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opSub:
			p := r[in.b]
			q := r[uint8(in.c)]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opSubSelf:
			p := r[in.b]
			q := row[in.c]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opMul:
			p := r[in.b]
			q := r[uint8(in.c)]
			if (!small(p) || !small(q)) && !fits(p, q) {
				return pc, faulted
			}
			r[uint8(in.a)] = p * q
		case opDiv, opMod:
			p := r[in.b]
			q := r[uint8(in.c)]
			switch {
			case q == 0 || q == -1 && p == math.MinInt64 && in.op == opDiv:
				return pc, faulted
			case q == -1 && in.op == opMod:
				r[uint8(in.a)] = 0
			case in.op == opDiv:
				r[uint8(in.a)] = p / q
			default:
				r[uint8(in.a)] = p % q
			}
		case opNeg:
			if r[in.b] == math.MinInt64 {
				return pc, faulted
			}
			r[uint8(in.a)] = -r[in.b]

		case opJump:
			pc = int(in.c) - 1
		case opEq:
			if r[uint8(in.a)] == r[in.b] {
				pc = int(in.c) - 1
			}
		case opNe:
			if r[uint8(in.a)] != r[in.b] {
				pc = int(in.c) - 1
			}
		case opLt:
			if r[uint8(in.a)] < r[in.b] {
				pc = int(in.c) - 1
			}
		case opLe:
			if r[uint8(in.a)] <= r[in.b] {
				pc = int(in.c) - 1
			}
		case opEqK:
			if r[uint8(in.a)] == in.k {
				pc = int(in.c) - 1
			}
		case opNeK:
			if r[uint8(in.a)] != in.k {
				pc = int(in.c) - 1
			}
		case opLtK:
			if r[uint8(in.a)] < in.k {
				pc = int(in.c) - 1
			}
		case opLeK:
			if r[uint8(in.a)] <= in.k {
				pc = int(in.c) - 1
			}
		case opGtK:
			if r[uint8(in.a)] > in.k {
				pc = int(in.c) - 1
			}
		case opGeK:
			if r[uint8(in.a)] >= in.k {
				pc = int(in.c) - 1
			}
		case opSelfEqK:
			if row[in.a] == in.k {
				pc = int(in.c) - 1
			}
		case opSelfNeK:
			if row[in.a] != in.k {
				pc = int(in.c) - 1
			}
		case opSelfLtK:
			if row[in.a] < in.k {
				pc = int(in.c) - 1
			}
		case opSelfLeK:
			if row[in.a] <= in.k {
				pc = int(in.c) - 1
			}
		case opSelfGtK:
			if row[in.a] > in.k {
				pc = int(in.c) - 1
			}
		case opSelfGeK:
			if row[in.a] >= in.k {
				pc = int(in.c) - 1
			}

		case opSharedEqK:
			if m.World.Shared(int(in.b)).Nums[in.a] == in.k {
				pc = int(in.c) - 1
			}
		case opSharedNeK:
			if m.World.Shared(int(in.b)).Nums[in.a] != in.k {
				pc = int(in.c) - 1
			}

		case opStore, opStoreK, opBump:
			e := ents[in.b]
			s := &c.stores[in.c]
			if e == nil || e.Gone {
				return pc, nothing
			}
			v := in.k
			if in.op == opStore {
				v = r[uint8(in.a)]
			} else if in.op == opBump {
				old := e.Nums[s.slot]
				v += old
				if (old^v)&(in.k^v) < 0 {
					return pc, faulted
				}
			}
			if v < s.low || v > s.high {
				if !s.clamped {
					return pc, faulted
				}
				v = min(max(v, s.low), s.high)
			}
			m.World.Write(e, s.index, s.slot, v)

		case opEntityOf:
			ents[uint8(in.a)] = m.World.OfClient(int(in.k), int(r[in.b]))
		case opEntityShared:
			ents[uint8(in.a)] = m.World.Shared(int(in.k))
		case opEntityID:
			ents[uint8(in.a)] = m.World.Entity(world.ID(r[in.b]))
		case opID:
			r[uint8(in.a)] = 0
			if e := ents[in.b]; e != nil && !e.Gone {
				r[uint8(in.a)] = int64(e.ID)
			}
		case opOwner:
			e := ents[in.b]
			if e == nil || e.Gone {
				return pc, nothing
			}
			r[uint8(in.a)] = int64(e.Owner)
		case opCaller:
			r[uint8(in.a)] = m.caller
		case opNext:
			switch m.next(f, in, len(ins)) {
			case ended:
				pc = int(in.c) - 1
			case worded:
				return pc, worded
			}

		case opReal, opFromInt, opRealAdd, opRealSub, opRealMul, opRealDiv, opRealNeg, opRealTest:
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
func reals(f *frame, c *code, in *ins) end {
	r := &f.nums
	switch in.op {
	case opReal:
		t := c.types[in.k]
		r[uint8(in.a)] = toBits(float64(r[in.b]*t.Unit) / float64(t.Per))
	case opFromInt:
		r[uint8(in.a)] = toBits(float64(r[in.b]))
	case opRealAdd:
		v := fromBits(r[in.b]) + fromBits(r[uint8(in.c)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.a)] = toBits(v)
	case opRealSub:
		v := fromBits(r[in.b]) - fromBits(r[uint8(in.c)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.a)] = toBits(v)
	case opRealMul:
		v := fromBits(r[in.b]) * fromBits(r[uint8(in.c)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.a)] = toBits(v)
	case opRealDiv:
		v := fromBits(r[in.b]) / fromBits(r[uint8(in.c)])
		if !finite(v) {
			return faulted
		}
		r[uint8(in.a)] = toBits(v)
	case opRealNeg:
		r[uint8(in.a)] = toBits(-fromBits(r[in.b]))
	case opRealTest:
		p := fromBits(r[in.b])
		q := fromBits(r[uint8(in.c)])
		r[uint8(in.a)] = truth(in.k == 0 && p == q || in.k == 1 && p != q || in.k == 2 && p < q || in.k == 3 && p <= q)
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
func small(v int64) bool { return int64(int32(v)) == v }

// fits reports whether a product has 64 bits.
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
