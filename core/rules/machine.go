// Package rules compiles the checks and bodies of a contract for a register machine over flat 64-bit slots, and runs them
// against a world. It decides nothing about who may ask: that is the session's part.
package rules

import (
	"fmt"
	"math"
	"math/bits"
	"unicode/utf8"

	"kamerad/core/contract"
	"kamerad/core/world"
)

// Client is what rules may know of a client.
type Client struct {
	Number int // from 1
	Name   string
	Role   int
}

// Told is an event that a body told, with the values that it had at that moment.
type Told struct {
	Event    *contract.Event
	Entity   *world.Entity // nil for an event of the contract itself
	Values   []contract.Value
	Everyone bool  // told to all clients, whoever they are
	Clients  []int // else to these, by number
}

// Machine is the state of one run. It is made once for a session and used for one run after the other.
type Machine struct {
	World   *world.World
	Clients []Client       // by number
	Told    []Told         // by the present run; the caller empties it with Told[:0], so that its memory is used again
	Reply   contract.Value // of the present run, when its request gives one

	program *Program
	caller  int64
	frames  []*frame // of the body that runs, and of the actions that it is in
	touched []world.Touched
	reason  string   // of a fault that was worded when it happened
	inner   *Outcome // of an action that failed
	outcome Outcome  // of the last run that was not accepted
}

// frame holds the registers of one body.
type frame struct {
	nums     [registers]int64
	texts    [registers]string
	entities [registers]*world.Entity
}

// maxRounds is how many rounds of `on change` one cause may set off.
const maxRounds = 8

// NewMachine makes a machine for a program and a world.
func NewMachine(p *Program, w *world.World) *Machine {
	m := &Machine{World: w, program: p}
	for range len(p.actions) + 1 { // actions run each other without a circle: no more can be open at once
		m.frames = append(m.frames, nil)
	}
	m.frames[0] = &frame{}
	return m
}

// Outcome is how a run ended.
type Outcome struct {
	Denied  bool
	Dropped bool
	Faulted bool
	Reason  string // of a denial, as the contract words it; of a fault, what went wrong; none of a drop
	Check   int    // index of the check that failed, or -1
	Line    int    // of the statement that denied or faulted
}

// Ask runs a request: its checks in order, its body if all of them hold, and what that sets off. nums and texts are its
// arguments, of the declared types, each sort in the order of declaration. What was written stands in the world's open
// transaction and what was told in m.Told; the caller commits or rolls back. The outcome is nil for an accepted request, and
// else holds until the next run.
func (m *Machine) Ask(r *contract.Request, self *world.Entity, caller int, nums []int64, texts []string) *Outcome {
	f := m.frames[0]
	m.caller = int64(caller)
	for i, v := range nums {
		f.nums[i&(registers-1)] = v
	}
	for i, v := range texts {
		f.texts[i&(registers-1)] = v
	}
	if out := m.run(&m.program.requests[r.Index], 0, self); out != nil || !m.program.watches {
		return out
	}
	return m.rounds()
}

// Spawned runs `on spawn` of a new entity, in the transaction that it was made in.
func (m *Machine) Spawned(e *world.Entity) *Outcome {
	m.caller = 0
	return m.handle(m.program.kinds[e.Kind.Index].spawn, e)
}

// Join runs `on join` for a client that has its entities already, and what that and their spawning set off.
func (m *Machine) Join(client int) *Outcome {
	m.caller = 0
	m.frames[0].nums[0] = int64(client)
	if out := m.handle(m.program.join, nil); out != nil {
		return out
	}
	return m.rounds()
}

// Holds tells whether the condition of an entity's timer holds; one that cannot be computed does not.
func (m *Machine) Holds(e *world.Entity, timer int) bool {
	m.caller = 0
	return m.handle(m.program.kinds[e.Kind.Index].timers[timer].while, e) == nil
}

// Fire runs the body of an entity's timer, and what it sets off.
func (m *Machine) Fire(e *world.Entity, timer int) *Outcome {
	m.caller = 0
	if out := m.handle(m.program.kinds[e.Kind.Index].timers[timer].body, e); out != nil {
		return out
	}
	return m.rounds()
}

func (m *Machine) handle(c *code, self *world.Entity) *Outcome {
	if c == nil {
		return nil
	}
	return m.run(c, 0, self)
}

// rounds runs `on change` of what the transaction changed, then of what that changed, until nothing changes any more.
func (m *Machine) rounds() *Outcome {
	if !m.program.watches {
		return nil
	}
	m.caller = 0
	for round, mark := 1, 0; ; round++ {
		m.touched = m.World.ChangedSince(mark, m.touched[:0])
		mark = m.World.Mark()
		for _, t := range m.touched {
			c := m.program.kinds[t.Entity.Kind.Index].change[t.Property]
			if c == nil {
				continue
			}
			if round > maxRounds {
				m.outcome = Outcome{Faulted: true, Check: -1, Line: int(c.lines[0]), Reason: fmt.Sprintf(
					"`on change %s` would run in a round after the %dth; does it set itself off?", t.Entity.Kind.Properties[t.Property].Name, maxRounds)}
				return &m.outcome
			}
			if out := m.run(c, 0, t.Entity); out != nil {
				return out
			}
		}
		if m.World.Mark() == mark {
			return nil
		}
	}
}

// run runs code in the frame of a depth.
func (m *Machine) run(c *code, depth int, self *world.Entity) *Outcome {
	f := m.frames[depth]
	var row []int64
	if f.entities[0] = self; self != nil {
		row = self.Nums
	}
	at, how := m.exec(f, depth, c.ins, row, c)
	if how == ended {
		return nil
	}
	if how == failedInside {
		return m.inner
	}
	return m.word(c, f, at, how)
}

// word tells how a run ended that did not come to its end. It is done afterwards, from the instruction and what its registers
// still hold, so that the way of what goes well is short.
func (m *Machine) word(c *code, f *frame, at int, how end) *Outcome {
	in := &c.ins[at]
	out := &m.outcome
	*out = Outcome{Check: -1, Line: int(c.lines[at])}
	switch check := c.checks[at]; {
	case in.op == opFail || how == nothing && check >= 0:
		out.Denied, out.Dropped = !c.drops[check], c.drops[check]
		out.Check, out.Reason, out.Line = int(check), c.reasons[check], int(c.checkLines[check])
	case how == denied:
		out.Denied, out.Reason = true, c.strings[in.k]
	default:
		out.Faulted, out.Reason = true, m.faultOf(c, f, in, how)
	}
	return out
}

func (m *Machine) faultOf(c *code, f *frame, in *ins, how end) string {
	p, q := f.nums[in.b], f.nums[uint8(in.c)]
	sum := func(p, q int64, sign string) string {
		return fmt.Sprintf("%d %s %d is not a 64-bit whole number", p, sign, q)
	}
	if how == worded {
		return m.reason
	}
	if how == nothing {
		what := "owner"
		switch in.op {
		case opLoad, opTextLoad, opTextStore, opHas, opCount, opRoom, opPut, opTake:
			what = c.props[in.k].Name
		case opStore, opStoreK, opBump:
			what = c.stores[in.c].prop.Name
		case opRun:
			return "an action is run on nothing: the client has no such entity"
		case opTell:
			return fmt.Sprintf("the event `%s` is told of nothing: the client has no such entity", c.tells[in.k].event.Name)
		}
		return fmt.Sprintf("`%s` is reached through nothing: the client has no such entity", what)
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
		if v += old; (old^v)&(in.k^v) < 0 {
			return sum(old, in.k, "+")
		}
	}
	t := s.prop.Type
	return fmt.Sprintf("%s.%s cannot become %s: its range is %s..%s", e.Kind.Name, s.prop.Name,
		t.Format(contract.Value{Num: v}), t.Format(contract.Value{Num: s.low}), t.Format(contract.Value{Num: s.high}))
}

// end says how a piece of code came to its end.
type end uint8

const (
	ended        end = iota
	denied           // a check failed, or the body denies
	faulted          // the instruction tells why
	worded           // a fault too; m.reason says why
	nothing          // a read through nothing: a fault in a body, a failed check in a head
	failedInside     // of an action; m.inner tells
)

func (m *Machine) fault(format string, args ...any) end {
	m.reason = fmt.Sprintf(format, args...)
	return worded
}

func (m *Machine) client(number int64) *Client {
	for i := range m.Clients {
		if int64(m.Clients[i].Number) == number {
			return &m.Clients[i]
		}
	}
	return nil
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// exec runs code until it ends, and gives the instruction that ended it. row is the row of self. Nothing is worded here: a
// call with values in it would cost every instruction its registers.
func (m *Machine) exec(f *frame, depth int, ins []ins, row []int64, c *code) (at int, how end) {
	r, ents := &f.nums, &f.entities
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
			if e == nil {
				return pc, nothing
			}
			r[uint8(in.a)] = e.Nums[in.c]
		case opShared:
			r[uint8(in.a)] = m.World.Shared(int(in.k)).Nums[in.c]

		case opAdd:
			p, q := r[in.b], r[uint8(in.c)]
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
			p, q := r[in.b], r[uint8(in.c)]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opSubSelf:
			p, q := r[in.b], row[in.c]
			s := p - q
			if (p^q)&(p^s) < 0 {
				return pc, faulted
			}
			r[uint8(in.a)] = s
		case opMul:
			p, q := r[in.b], r[uint8(in.c)]
			if (!small(p) || !small(q)) && !fits(p, q) {
				return pc, faulted
			}
			r[uint8(in.a)] = p * q
		case opDiv, opMod:
			p, q := r[in.b], r[uint8(in.c)]
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

		case opStore, opStoreK, opBump:
			e := ents[in.b]
			s := &c.stores[in.c]
			if e == nil {
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
			ents[uint8(in.a)] = m.World.Of(int(in.k), int(r[in.b]))
		case opEntityShared:
			ents[uint8(in.a)] = m.World.Shared(int(in.k))
		case opEntityID:
			ents[uint8(in.a)] = m.World.Entity(world.ID(r[in.b]))
		case opID:
			r[uint8(in.a)] = 0
			if e := ents[in.b]; e != nil {
				r[uint8(in.a)] = int64(e.ID)
			}
		case opOwner:
			e := ents[in.b]
			if e == nil {
				return pc, nothing
			}
			r[uint8(in.a)] = int64(e.Owner)
		case opCaller:
			r[uint8(in.a)] = m.caller
		case opRole:
			r[uint8(in.a)] = -1
			if x := m.client(r[in.b]); x != nil {
				r[uint8(in.a)] = int64(x.Role)
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

// reals runs the instructions on reals. They stand apart because their needs would cost those on whole numbers their registers.
func reals(f *frame, c *code, in *ins) end {
	r := &f.nums
	switch in.op {
	case opReal:
		t := c.steps[in.k]
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
		p, q := fromBits(r[in.b]), fromBits(r[uint8(in.c)])
		r[uint8(in.a)] = truth(in.k == 0 && p == q || in.k == 1 && p != q || in.k == 2 && p < q || in.k == 3 && p <= q)
	}
	return ended
}

// rare runs the instructions that cost more than their dispatch.
func (m *Machine) rare(f *frame, depth int, c *code, in *ins) end {
	r, t := &f.nums, &f.texts
	switch in.op {
	case opSteps:
		n, ok := c.steps[in.k].Steps(fromBits(r[in.b]))
		if !ok {
			return m.fault("a real came to be no finite number")
		}
		r[uint8(in.a)] = n
	case opText:
		t[uint8(in.a)] = c.strings[in.k]
	case opTextMove:
		t[uint8(in.a)] = t[in.b]
	case opTextLoad:
		e := f.entities[in.b]
		if e == nil {
			return nothing
		}
		t[uint8(in.a)] = e.Texts[in.c]
	case opTextEq:
		r[uint8(in.a)] = truth(t[in.b] == t[uint8(in.c)])
	case opTextStore:
		e, p := f.entities[in.b], c.props[in.k]
		if e == nil {
			return nothing
		}
		if err := m.World.SetText(e, p, t[uint8(in.a)]); err != nil {
			return m.fault("%s", err)
		}
	case opName:
		t[uint8(in.a)] = ""
		if x := m.client(r[in.b]); x != nil {
			t[uint8(in.a)] = x.Name
		}
	case opHas, opCount, opRoom, opPut, opTake:
		e, p := f.entities[in.b], c.props[in.k]
		if e == nil {
			return nothing
		}
		item, count := r[uint8(in.c)], r[uint8(in.c)+1]
		var err error
		switch in.op {
		case opHas:
			r[uint8(in.a)] = truth(e.Count(p, item) >= count)
		case opCount:
			r[uint8(in.a)] = e.Count(p, item)
		case opRoom:
			r[uint8(in.a)] = e.Room(p, item)
		case opPut:
			err = m.World.Put(e, p, item, count)
		case opTake:
			err = m.World.Take(e, p, item, count)
		}
		if err != nil {
			return m.fault("%s", err)
		}
	case opReply:
		m.Reply = contract.Value{Num: r[uint8(in.a)]}
		if t := c.steps[in.k]; !t.Within(m.Reply.Num) {
			return m.fault("the reply would be %s, which is no %s", t.Format(m.Reply), t)
		}
	case opTextReply:
		m.Reply = contract.Value{Text: t[uint8(in.a)]}
	case opRun:
		return m.act(f, depth, &c.calls[in.k], f.entities[in.b])
	case opTell:
		before := len(m.Told)
		how := m.tell(f, &c.tells[in.k])
		if how != ended {
			m.Told = m.Told[:before]
		}
		return how
	}
	return ended
}

// act runs an action in the next frame.
func (m *Machine) act(f *frame, depth int, c *call, on *world.Entity) end {
	if on == nil {
		return nothing
	}
	if m.frames[depth+1] == nil {
		m.frames[depth+1] = &frame{}
	}
	next := m.frames[depth+1]
	for i, reg := range c.nums {
		if v := f.nums[reg]; c.types[i].Within(v) {
			next.nums[i] = v
		} else {
			return m.fault("an action is run with %s, which is no %s", c.types[i].Format(contract.Value{Num: v}), c.types[i])
		}
	}
	for i, reg := range c.texts {
		next.texts[i] = f.texts[reg]
	}
	if out := m.run(&m.program.actions[c.action], depth+1, on); out != nil {
		m.inner = out
		return failedInside
	}
	return ended
}

// tell adds an event to those told; its lists use the memory of events of earlier runs.
func (m *Machine) tell(f *frame, t *tell) end {
	if t.entity >= 0 && f.entities[t.entity] == nil {
		return nothing
	}
	if len(m.Told) < cap(m.Told) {
		m.Told = m.Told[:len(m.Told)+1]
	} else {
		m.Told = append(m.Told, Told{})
	}
	out := &m.Told[len(m.Told)-1]
	*out = Told{Event: t.event, Everyone: t.everyone, Values: out.Values[:0], Clients: out.Clients[:0]}
	if t.entity >= 0 {
		out.Entity = f.entities[t.entity]
	}
	for i, reg := range t.args {
		p := &t.event.Params[i]
		var v contract.Value
		if p.Type.IsText() {
			v.Text = f.texts[reg]
			if n := utf8.RuneCountInString(v.Text); n > p.Type.Max {
				return m.fault("`%s` of the event `%s` has %d characters, at most %d are allowed", p.Name, t.event.Name, n, p.Type.Max)
			}
		} else {
			v.Num = f.nums[reg]
			if !p.Type.Within(v.Num) {
				return m.fault("`%s` of the event `%s` would be %s, which is no %s", p.Name, t.event.Name, p.Type.Format(v), p.Type)
			}
		}
		out.Values = append(out.Values, v)
	}
	if t.everyone {
		return ended
	}
	owner := 0
	if self := f.entities[0]; self != nil {
		owner = self.Owner
	}
	for _, client := range m.Clients {
		in := false
		for _, w := range t.who {
			hit := false
			switch w.sort {
			case contract.ToEveryone:
				hit = true
			case contract.ToOwner:
				hit = client.Number == owner
			case contract.ToCaller:
				hit = int64(client.Number) == m.caller
			case contract.ToRole:
				hit = client.Role == w.role
			case contract.ToClient:
				hit = int64(client.Number) == f.nums[w.reg]
			}
			if hit {
				in = !w.but
			}
		}
		if in {
			out.Clients = append(out.Clients, client.Number)
		}
	}
	return ended
}

// Among tells whether a client belongs to a list of clients that needs nothing but who is asking: everyone, the owner or roles.
func Among(who []contract.Who, client Client, owner int) bool {
	in := false
	for _, w := range who {
		hit := w.Sort == contract.ToEveryone || w.Sort == contract.ToOwner && client.Number == owner ||
			w.Sort == contract.ToRole && client.Role == w.Role
		if hit {
			in = !w.But
		}
	}
	return in
}

func toBits(v float64) int64   { return int64(math.Float64bits(v)) }
func fromBits(v int64) float64 { return math.Float64frombits(uint64(v)) }

// finite tells whether a real is one that may go on: neither infinite nor no number.
func finite(v float64) bool { return v-v == 0 }

// small tells whether a number has 31 bits, so that the product of two such has 64.
func small(v int64) bool { return int64(int32(v)) == v }

// fits tells whether a product has 64 bits.
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

func magnitude(v int64) uint64 {
	if v < 0 {
		return -uint64(v)
	}
	return uint64(v)
}
