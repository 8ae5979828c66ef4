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
	Clients []Client // by number
	Told    []Told   // by the present run; the caller empties it with Told[:0], so that its memory is used again

	caller   int64
	nums     [registers]int64
	texts    [registers]string
	entities [registers]*world.Entity
	reason   string  // of a fault that was worded when it happened
	outcome  Outcome // of the last run that was not accepted
}

// Outcome is how a run ended.
type Outcome struct {
	Denied  bool
	Faulted bool
	Reason  string // of a denial, as the contract words it; of a fault, what went wrong
	Check   int    // index of the check that failed, or -1
	Line    int    // of the statement that denied or faulted
}

// Ask runs a request: its checks in order, and its body if all of them hold. nums and texts are its arguments, of the declared
// types, each sort in the order of declaration. What the body wrote stands in the world's open transaction and what it told in
// m.Told; the caller commits or rolls back. The outcome is nil for an accepted request, and else holds until the next run.
func (p *Program) Ask(m *Machine, r *contract.Request, self *world.Entity, caller int, nums []int64, texts []string) *Outcome {
	m.caller, m.entities[0] = int64(caller), self
	for i, v := range nums {
		m.nums[i&(registers-1)] = v
	}
	for i, v := range texts {
		m.texts[i&(registers-1)] = v
	}
	return m.run(&p.requests[r.Index], self.Nums)
}

// Join runs `on join` for a client that has its entities already. The outcome is as that of Ask.
func (p *Program) Join(m *Machine, client int) *Outcome {
	if p.join.ins == nil {
		return nil
	}
	m.caller, m.entities[0] = 0, nil
	m.nums[0] = int64(client)
	return m.run(&p.join, nil)
}

func (m *Machine) run(c *code, row []int64) *Outcome {
	at, how := m.exec(c.ins, row, c)
	if how == ended {
		return nil
	}
	return m.word(c, at, how)
}

// word tells how a run ended that did not come to its end. It is done afterwards, from the instruction and what its registers
// still hold, so that the way of what goes well is short.
func (m *Machine) word(c *code, at int, how end) *Outcome {
	in := &c.ins[at]
	out := &m.outcome
	*out = Outcome{Check: -1, Line: int(c.lines[at])}
	switch check := c.checks[at]; {
	case in.op == opFail || how == nothing && check >= 0:
		out.Denied, out.Check, out.Reason, out.Line = true, int(check), c.reasons[check], int(c.checkLines[check])
	case how == denied:
		out.Denied, out.Reason = true, c.strings[in.k]
	default:
		out.Faulted, out.Reason = true, m.faultOf(c, in, how)
	}
	return out
}

func (m *Machine) faultOf(c *code, in *ins, how end) string {
	p, q := m.nums[in.b], m.nums[uint8(in.c)]
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
		return sum(p, m.entities[0].Nums[in.c], "-")
	case opMul:
		return sum(p, q, "*")
	case opDiv, opMod:
		if q == 0 {
			return "division by zero"
		}
		return sum(p, q, "/")
	case opNeg:
		return fmt.Sprintf("-(%d) is not a 64-bit whole number", p)
	}
	// What is left is a number that is stored.
	s := &c.stores[in.c]
	e := m.entities[in.b]
	v := in.k
	switch old := e.Nums[s.slot]; in.op {
	case opStore:
		v = m.nums[uint8(in.a)]
	case opBump:
		if v += old; (old^v)&(in.k^v) < 0 {
			return sum(old, in.k, "+")
		}
	}
	return fmt.Sprintf("%s.%s cannot become %d: its range is %d..%d", e.Kind.Name, s.prop.Name, v, s.low, s.high)
}

// end says how a piece of code came to its end.
type end uint8

const (
	ended   end = iota
	denied      // a check failed, or the body denies
	faulted     // the instruction tells why
	worded      // a fault too; m.reason says why
	nothing     // a read through nothing: a fault in a body, a failed check in a head
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
func (m *Machine) exec(ins []ins, row []int64, c *code) (at int, how end) {
	r, ents := &m.nums, &m.entities
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

		default:
			if how := m.rare(c, in); how != ended {
				return pc, how
			}
		}
	}
	return 0, ended // not reached: all code has an end
}

// rare runs the instructions that cost more than their dispatch.
func (m *Machine) rare(c *code, in *ins) end {
	r, t := &m.nums, &m.texts
	switch in.op {
	case opText:
		t[uint8(in.a)] = c.strings[in.k]
	case opTextMove:
		t[uint8(in.a)] = t[in.b]
	case opTextLoad:
		e := m.entities[in.b]
		if e == nil {
			return nothing
		}
		t[uint8(in.a)] = e.Texts[in.c]
	case opTextEq:
		r[uint8(in.a)] = truth(t[in.b] == t[uint8(in.c)])
	case opTextStore:
		e, p := m.entities[in.b], c.props[in.k]
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
		e, p := m.entities[in.b], c.props[in.k]
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
	case opTell:
		before := len(m.Told)
		how := m.tell(&c.tells[in.k])
		if how != ended {
			m.Told = m.Told[:before]
		}
		return how
	}
	return ended
}

// tell adds an event to those told; its lists use the memory of events of earlier runs.
func (m *Machine) tell(t *tell) end {
	if t.entity >= 0 && m.entities[t.entity] == nil {
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
		out.Entity = m.entities[t.entity]
	}
	for i, reg := range t.args {
		p := &t.event.Params[i]
		var v contract.Value
		if p.Type.IsText() {
			v.Text = m.texts[reg]
			if n := utf8.RuneCountInString(v.Text); n > p.Type.Max {
				return m.fault("`%s` of the event `%s` has %d characters, at most %d are allowed", p.Name, t.event.Name, n, p.Type.Max)
			}
		} else {
			v.Num = m.nums[reg]
			if p.Type.Form == contract.FormInt && (v.Num < p.Type.Low || v.Num > p.Type.High) {
				return m.fault("`%s` of the event `%s` would be %d: its range is %d..%d", p.Name, t.event.Name, v.Num, p.Type.Low, p.Type.High)
			}
		}
		out.Values = append(out.Values, v)
	}
	if t.everyone {
		return ended
	}
	owner := 0
	if self := m.entities[0]; self != nil {
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
				hit = int64(client.Number) == m.nums[w.reg]
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
