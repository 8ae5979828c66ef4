package session

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// propertyKey names a property of an entity.
type propertyKey struct {
	entity   world.ID
	property int // index
}

// paceBudget is what a client may still spend on writes of a property.
type paceBudget struct {
	key       propertyKey
	left      float64
	tick      int64 // up to which it has grown
	lastWrite int64 // the tick in which a write of the client last changed the property; -1 for none
}

// verdict is what became of a press, release or write. An empty reason means that it was carried out.
type verdict struct {
	outcome wire.Outcome
	stage   wire.Stage
	reason  string
}

// steer carries out a press, release or write. Only what is refused gets a decision.
func (s *Session) steer(t *seat, m *Steering) {
	v := s.trySteering(t, m)
	if v.reason == "" {
		return
	}
	t.queuedDecisions = append(t.queuedDecisions, m.decision(v))
	t.hasMessages = true
	s.refused = append(s.refused, Refused{
		Client:   t.public,
		Type:     m.typ.String(),
		Property: m.message.Property,
		Outcome:  v.outcome,
		Reason:   v.reason,
	})
}

// trySteering runs a press, a release or a write, and returns what became of it.
func (s *Session) trySteering(t *seat, m *Steering) verdict {
	if m.problem != "" {
		return verdict{wire.Malformed, wire.StageTypes, m.problem}
	}
	e := s.target(t, m.kind, m.message.Entity)
	switch {
	case e == nil:
		return verdict{wire.Denied, wire.StageTarget, "no such entity"}
	case m.typ == inputWrite:
		v := s.write(t, e, m)
		if v.reason != "" {
			s.view.Resend(e, m.property, t.client.Number)
		}
		return v
	case e.Owner != t.client.Number:
		return verdict{wire.Denied, wire.StageFrom, "not the owner"}
	case m.typ == inputPress:
		if !s.press(t, e, m) {
			return verdict{wire.Denied, wire.StageCheck, "when"}
		}
	default:
		if t.presses[propertyKey{e.ID, m.property.Index}] == m.message.Press {
			s.setHold(e, m.property, false)
		}
	}
	return verdict{}
}

// decision returns the decision about a press, release or write that is refused, with the number that its client gave
// it.
func (m *Steering) decision(v verdict) wire.Decision {
	d := wire.Decision{
		Outcome: v.outcome,
		Stage:   v.stage,
		Reason:  v.reason,
		Check:   -1,
	}
	switch m.typ {
	case inputPress:
		d.Press = m.message.Press
	case inputRelease:
		d.Release = m.message.Press
	default:
		d.Seq = m.message.Seq
	}
	return d
}

// press begins a hold, or renews its lease. A hold that has ended begins again only with a new press. It reports false
// for a new press while the condition of the hold fails: such a hold does not begin.
func (s *Session) press(t *seat, e *world.Entity, m *Steering) bool {
	key := propertyKey{e.ID, m.property.Index}
	isHeld := e.Nums[m.property.Slot] != 0
	isNew := m.message.Press > t.presses[key]
	if !isNew && !isHeld || m.message.Press < t.presses[key] {
		return true
	}
	if t.presses == nil {
		t.presses = map[propertyKey]uint64{}
	}
	t.presses[key] = m.message.Press
	if !isHeld && !s.machine.MayHold(e, m.property) {
		return false
	}
	e.Nums[m.property.Hold.Slot] = s.tick + m.property.Hold.Lease
	s.setHold(e, m.property, true)
	return true
}

// setHold sets a hold and runs what that sets off.
func (s *Session) setHold(e *world.Entity, p *contract.Property, isHeld bool) {
	value := int64(0)
	if isHeld {
		value = 1
	}
	s.world.Write(e, p.Index, p.Slot, value)
	s.setCauseOf(e, causeHold, int64(p.Index))
	s.endHandler("the hold "+p.Name, e, s.machine.Settle())
}

// endHolds ends the holds whose lease has run out or whose condition fails.
func (s *Session) endHolds() {
	if !s.hasHolds {
		return
	}
	s.eachEntity(func(e *world.Entity) {
		for _, p := range e.Kind.Properties {
			if p.Hold == nil || e.Gone || e.Nums[p.Slot] == 0 {
				continue
			}
			if s.tick >= e.Nums[p.Hold.Slot] || s.seats[e.Owner] == nil || !s.machine.MayHold(e, p) {
				s.setHold(e, p, false)
			}
		}
	})
}

// write carries out a client's write of a property, within its pace and rule.
func (s *Session) write(t *seat, e *world.Entity, m *Steering) verdict {
	p := m.property
	writer, ok := s.machine.Writer(e, p)
	if !ok || writer != t.client.Number {
		return verdict{wire.Denied, wire.StageFrom, "not the owner"}
	}
	if s.carrier(e, p) != nil {
		return verdict{wire.Denied, wire.StageCheck, "carried"}
	}
	b := s.paceBudget(t, propertyKey{e.ID, p.Index}, p)
	changed := s.world.ChangedTick(e, p.Index)
	if changed == b.lastWrite {
		changed = 0
	}
	if f := p.Follows; f != nil && f.Holder != nil { // getting in and out makes writes under way void
		changed = max(changed, s.world.ChangedTick(e, f.Holder.Index))
	}
	if changed > m.message.Seen {
		return verdict{wire.Denied, wire.StageBounds, "older than the server's last write"}
	}
	slots := m.message.Numbers[:m.message.Wide]
	if m.message.Wide == 0 {
		slots = p.Type.AppendSlots(s.args[:0], m.value, s.world.Intern)
		s.args = slots[:0]
	}
	if p.Set.Pace != nil {
		grown := s.machine.Rate(e, p) * float64(s.tick-b.tick) / float64(s.contract.TickRate)
		b.left = min(p.Set.Burst, b.left+grown)
		b.tick = s.tick
		cost := s.machine.Pace(e, p, slots)
		const rounding = 1e-9
		if cost > b.left+rounding {
			return verdict{wire.Denied, wire.StageLimit, "pace"}
		}
		defer func() { b.left -= cost }() // also of a write that its rule refuses
	}
	if !s.machine.Obeys(e, p, slots) {
		return verdict{wire.Denied, wire.StageCheck, "rule"}
	}
	s.world.Set(e, p, slots)
	s.setCauseOf(e, causeWrite, int64(p.Index))
	if o := s.machine.Settle(); o != nil {
		s.endHandler("a write of "+p.Name, e, o)
		f := &s.faults[len(s.faults)-1]
		f.Client = t.client.Number
		f.Seq = m.message.Seq
		return verdict{wire.Faulted, wire.StageBody, "the write failed inside and changed nothing"}
	}
	s.endTransaction(nil)
	s.runFollowUps()
	b.lastWrite = s.world.ChangedTick(e, p.Index) // not this tick: a write of the same value changes nothing
	return verdict{outcome: wire.Accepted}
}

// paceBudget returns what a client may still spend on writes of a property. Mostly a client writes one property.
func (s *Session) paceBudget(t *seat, key propertyKey, p *contract.Property) *paceBudget {
	if t.lastBudget != nil && t.lastBudget.key == key {
		return t.lastBudget
	}
	b := s.budgets[key]
	if b == nil {
		b = &paceBudget{
			key:       key,
			left:      p.Set.Burst,
			tick:      s.tick,
			lastWrite: -1,
		}
		s.budgets[key] = b
	}
	t.lastBudget = b
	return b
}
