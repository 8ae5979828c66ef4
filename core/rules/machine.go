// Package rules compiles the checks and bodies of a contract into Go closures over flat 64-bit slots, and runs them against a
// world. It decides nothing about who may ask: that is the session's part.
package rules

import (
	"fmt"

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
	Told    []Told   // by the present run; the caller empties it

	self    *world.Entity
	caller  int
	nums    []int64
	texts   []string
	halt    bool   // a denial or fault ends the run
	reason  string // of a denial
	fault   string
	nothing bool // the fault is a read through nothing
	check   int  // that failed, or -1
	line    int  // of the statement that runs
}

// Outcome is how a run ended.
type Outcome struct {
	Denied  bool
	Faulted bool
	Reason  string // of a denial, as the contract words it; of a fault, what went wrong
	Check   int    // index of the check that failed, or -1
	Line    int    // of the statement that denied or faulted
}

func (m *Machine) fail(format string, args ...any) {
	if !m.halt {
		m.halt, m.fault = true, fmt.Sprintf(format, args...)
	}
}

func (m *Machine) begin(self *world.Entity, caller, nums, texts int) {
	m.self, m.caller = self, caller
	m.halt, m.nothing, m.reason, m.fault, m.check, m.line = false, false, "", "", -1, 0
	if cap(m.nums) < nums {
		m.nums = make([]int64, nums)
	}
	if cap(m.texts) < texts {
		m.texts = make([]string, texts)
	}
	m.nums, m.texts = m.nums[:nums], m.texts[:texts]
}

func (m *Machine) outcome() Outcome {
	switch {
	case m.fault != "":
		return Outcome{Faulted: true, Reason: m.fault, Check: -1, Line: m.line}
	case m.halt:
		return Outcome{Denied: true, Reason: m.reason, Check: m.check, Line: m.line}
	}
	return Outcome{Check: -1}
}

func (m *Machine) client(number int64) *Client {
	for i := range m.Clients {
		if int64(m.Clients[i].Number) == number {
			return &m.Clients[i]
		}
	}
	return nil
}

// step is a compiled statement; run is a compiled list of them.
type step func(*Machine)

type run []step

func (r run) do(m *Machine) {
	for _, s := range r {
		if s(m); m.halt {
			return
		}
	}
}

// Program is the compiled form of a contract. It is immutable and may be shared.
type Program struct {
	requests []program
	join     program
}

type program struct {
	head, body  run
	nums, texts int
	params      []contract.Param
}

// Compile turns all bodies of a contract into closures.
func Compile(c *contract.Contract) *Program {
	p := &Program{}
	for _, r := range c.Requests {
		g := &compiler{request: r}
		p.requests = append(p.requests, program{g.head(r.Head), g.run(r.Body), r.Nums, r.Texts, r.Params})
	}
	if h := c.OnJoin; h != nil {
		p.join = program{nil, (&compiler{}).run(h.Body), h.Nums, h.Texts, nil}
	}
	return p
}

// Ask runs a request: its checks in order, and its body if all of them hold. args are of the declared types. What the body
// wrote stands in the world's open transaction and what it told in m.Told; the caller commits or rolls back.
func (p *Program) Ask(m *Machine, r *contract.Request, self *world.Entity, caller int, args []contract.Value) Outcome {
	g := &p.requests[r.Index]
	m.begin(self, caller, g.nums, g.texts)
	nums, texts := 0, 0
	for i, param := range g.params {
		if param.Type.IsText() {
			m.texts[texts] = args[i].Text
			texts++
		} else {
			m.nums[nums] = args[i].Num
			nums++
		}
	}
	g.head.do(m)
	if !m.halt {
		g.body.do(m)
	}
	return m.outcome()
}

// Join runs `on join` for a client that has its entities already.
func (p *Program) Join(m *Machine, client int) Outcome {
	if p.join.body == nil {
		return Outcome{Check: -1}
	}
	m.begin(nil, 0, p.join.nums, p.join.texts)
	m.nums[0] = int64(client)
	p.join.body.do(m)
	return m.outcome()
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
