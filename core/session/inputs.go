package session

import (
	"fmt"

	"kamerad/core/contract"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// Move is a client's press or release of a hold, or its write of a property, once it was read.
type Move struct {
	what  string // press, release or write
	in    wire.Move
	prop  *contract.Property
	kind  *contract.Kind
	value contract.Value // of a write that came as no numbers
	wrong string         // empty when it can be carried out
}

// key names a property of an entity.
type key struct {
	entity   world.ID
	property int
}

// budget is what a client may still spend on writes of a property.
type budget struct {
	of   key
	left float64
	tick int64 // up to which it has grown
	own  int64 // of the last write
}

// ReadMove holds a press, a release or a write against the contract. It may be called by any goroutine.
func (s *Session) ReadMove(what string, in wire.Move) Move {
	m := Move{what: what, in: in}
	m.prop = s.moves[in.Property]
	if m.prop == nil || (m.prop.Hold == nil) != (what == "write") {
		m.prop, m.wrong = nil, fmt.Sprintf(
			"the contract has no hold or property %.80q that a client could %s", in.Property, what,
		)
		return m
	}
	m.kind = s.moveKinds[in.Property]
	if what == "write" && in.Wide != m.prop.Type.Width() {
		var err error
		m.in.Wide = 0
		m.value, err = m.prop.Type.ParseJSON(in.Value)
		if err != nil {
			m.wrong = "the value " + err.Error()
		}
	}
	return m
}

// Move queues a press, release or write for the next tick. Of the writes of one property only the newest counts.
func (s *Session) Move(client int, m Move) {
	t := s.seats[client]
	if t == nil {
		return
	}
	t.asked++
	if t.asked > maxAsked {
		return
	}
	s.confirm(t, m.in.Seen)
	m.in.Seen = min(m.in.Seen, t.seen) // what it says beyond what it was sent says nothing
	t.received = max(t.received, m.in.Seq, m.in.Press)
	if m.what == "write" {
		for _, i := range t.writes {
			if in := &s.inputs[i]; in.move.prop == m.prop && in.move.in.Entity == m.in.Entity {
				in.what = "" // an older one
				s.overtaken = append(s.overtaken, Overtaken{client, in.move.in.Seq})
			}
		}
		t.writes = append(t.writes, len(s.inputs))
	}
	s.inputs = append(s.inputs, input{seat: t, what: m.what, move: m})
}

// carry carries out a press, release or write. Only what is refused gets a decision.
func (s *Session) carry(t *seat, m *Move) {
	outcome := wire.Malformed
	stage := wire.StageTypes
	reason := m.wrong
	if m.wrong == "" {
		e := s.target(t, m.kind, m.in.Entity)
		switch {
		case e == nil:
			outcome = wire.Denied
			stage = wire.StageTarget
			reason = "no such entity"
		case m.what == "write":
			outcome, stage, reason = s.write(t, e, m)
			if reason != "" {
				s.view.Resend(e, m.prop, t.client.Number)
			}
		case e.Owner != t.client.Number:
			outcome = wire.Denied
			stage = wire.StageFrom
			reason = "not the owner"
		case m.what == "press":
			reason = ""
			if !s.press(t, e, m) {
				outcome = wire.Denied
				stage = wire.StageCheck
				reason = "when"
			}
		default:
			reason = ""
			if t.presses[key{e.ID, m.prop.Index}] == m.in.Press {
				s.hold(e, m.prop, false)
			}
		}
	}
	if reason != "" {
		t.said = append(t.said, m.refused(outcome, stage, reason))
		t.busy = true
		s.refused = append(s.refused, Refused{t.public, m.what, m.in.Property, outcome, reason})
	}
}

// refused returns the decision about a press, release or write that is refused, with the number that its client gave
// it.
func (m *Move) refused(outcome wire.Outcome, stage wire.Stage, reason string) wire.Decision {
	d := wire.Decision{
		Outcome: outcome,
		Stage:   stage,
		Reason:  reason,
		Check:   -1,
	}
	switch m.what {
	case "press":
		d.Press = m.in.Press
	case "release":
		d.Release = m.in.Press
	default:
		d.Seq = m.in.Seq
	}
	return d
}

// press begins a hold, or renews its lease. A hold that has ended begins again only with a new press. It reports false
// for a new press while the condition of the hold fails: such a hold does not begin.
func (s *Session) press(t *seat, e *world.Entity, m *Move) bool {
	k := key{e.ID, m.prop.Index}
	held := e.Nums[m.prop.Slot] != 0
	fresh := m.in.Press > t.presses[k]
	if !fresh && !held || m.in.Press < t.presses[k] {
		return true
	}
	if t.presses == nil {
		t.presses = map[key]uint64{}
	}
	t.presses[k] = m.in.Press
	if !held && !s.machine.MayHold(e, m.prop) {
		return false
	}
	e.Nums[m.prop.Hold.Slot] = s.tick + m.prop.Hold.Lease
	s.hold(e, m.prop, true)
	return true
}

// hold sets a hold and runs what that sets off.
func (s *Session) hold(e *world.Entity, p *contract.Property, down bool) {
	v := int64(0)
	if down {
		v = 1
	}
	s.world.Write(e, p.Index, p.Slot, v)
	s.cause('o', e.Key(), int64(p.Index))
	s.conclude("the hold "+p.Name, e, s.machine.Settle())
}

// leases ends the holds whose lease has run out or whose condition fails.
func (s *Session) leases() {
	if !s.holding {
		return
	}
	s.each(func(e *world.Entity) {
		for _, p := range e.Kind.Properties {
			if p.Hold != nil && !e.Gone && e.Nums[p.Slot] != 0 &&
				(s.tick >= e.Nums[p.Hold.Slot] || s.seats[e.Owner] == nil || !s.machine.MayHold(e, p)) {
				s.hold(e, p, false)
			}
		}
	})
}

// write lets a client write a property within its pace and rule; an empty reason means that it was done.
func (s *Session) write(t *seat, e *world.Entity, m *Move) (wire.Outcome, wire.Stage, string) {
	client, ok := s.machine.Writer(e, m.prop)
	if !ok || client != t.client.Number {
		return wire.Denied, wire.StageFrom, "not the owner"
	}
	b := t.spends // mostly a client writes one property
	if k := (key{e.ID, m.prop.Index}); b == nil || b.of != k {
		b = s.budgets[k]
		if b == nil {
			b = &budget{
				of:   k,
				left: m.prop.Set.Burst,
				tick: s.tick,
				own:  -1,
			}
			s.budgets[k] = b
		}
		t.spends = b
	}
	if changed := s.world.ChangedTick(e, m.prop.Index); changed > m.in.Seen && changed != b.own {
		return wire.Denied, wire.StageBounds, "older than the server's last write"
	}
	slots := m.in.Numbers[:m.in.Wide]
	if m.in.Wide == 0 {
		slots = m.prop.Type.AppendSlots(s.args[:0], m.value, s.world.Intern)
		s.args = slots[:0]
	}
	if m.prop.Set.Pace != nil {
		b.left = min(m.prop.Set.Burst, b.left+m.prop.Set.Rate*float64(s.tick-b.tick)/float64(s.contract.TickRate))
		b.tick = s.tick
		cost := s.machine.Pace(e, m.prop, slots)
		if cost > b.left+1e-9 {
			return wire.Denied, wire.StageLimit, "pace"
		}
		defer func() { b.left -= cost }()
	}
	if !s.machine.Obeys(e, m.prop, slots) {
		return wire.Denied, wire.StageCheck, "rule"
	}
	s.world.Set(e, m.prop, slots)
	s.cause('w', e.Key(), int64(m.prop.Index))
	if o := s.machine.Settle(); o != nil {
		s.conclude("a write of "+m.prop.Name, e, o)
		f := &s.faults[len(s.faults)-1]
		f.Client = t.client.Number
		f.Seq = m.in.Seq
		return wire.Faulted, wire.StageBody, "the write failed inside and changed nothing"
	}
	s.settle(nil)
	s.follow()
	b.own = s.world.ChangedTick(e, m.prop.Index) // not this tick: a write of the value that is held already changes nothing
	return wire.Accepted, "", ""
}

// forget drops what is kept about an entity that is gone.
func (s *Session) forget(e *world.Entity) {
	for _, p := range e.Kind.Properties {
		delete(s.budgets, key{e.ID, p.Index})
		if p.Hold == nil {
			continue
		}
		for _, t := range s.order {
			delete(t.presses, key{e.ID, p.Index})
		}
	}
	for _, r := range e.Kind.Requests {
		for _, t := range s.order {
			delete(t.uses, use{r.Index, e.ID})
			delete(t.paused, use{r.Index, e.ID})
		}
	}
}

// follow runs what a concluded cause brings with it: the holds of what has another owner end, and clients with another
// role get the entities of that.
func (s *Session) follow() {
	for len(s.handed) > 0 {
		e := s.handed[0]
		s.handed = s.handed[1:]
		for _, p := range e.Kind.Properties {
			if p.Hold != nil && !e.Gone && e.Nums[p.Slot] != 0 {
				s.hold(e, p, false)
			}
		}
	}
	s.roles()
}

// roles gives clients with another role the entities of it, in place of those of their old one.
func (s *Session) roles() {
	if !s.roled {
		return
	}
	s.roled = false
	for _, t := range s.order {
		c := s.world.Client(t.client.Number)
		if c == nil || c.Role == t.client.Role {
			continue
		}
		t.client.Role = c.Role
		for _, k := range s.contract.Kinds {
			if e := s.world.OfClient(k.Index, c.Number); e != nil && k.Per != c.Role {
				s.world.Despawn(e)
			}
		}
		s.settle(nil)
		known := s.known(t)
		s.eachView(func(v listener) { v.AddClient(known) })
		s.cause('r', int64(c.Number), 0)
		s.concludeFor(c.Number, "on spawn", s.machine.Enter(*c))
	}
}
