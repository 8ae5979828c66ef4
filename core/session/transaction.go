package session

import (
	"slices"

	"kamerad.example/core/rules"
	"kamerad.example/core/world"
)

// A cause is one thing that the machine runs: a request, a handler, a timer. Its type is part of what rolls are drawn
// from, so the values never change.
const (
	causeRequest    = 'q' // with the client and the request's number
	causeWrite      = 'w' // with the entity and the property
	causeHold       = 'o' // with the entity and the property
	causeJoin       = 'j' // with the client
	causeLeave      = 'l' // with the client
	causeConnection = 'c' // with the client, and 0 for lost or 1 for back
	causeStay       = 'y' // with the client
	causeLogic      = 'g' // with 0 when the logic process is silent or 1 when it is heard
	causeRole       = 'r' // with the client
	causeHandler    = 'h' // with the entity and the rules.When
	causeTimer      = 't' // with the entity and the timer's index
	causeDelayed    = 'd' // with the entity; counts its delayed actions of this tick
	causeMotion     = 'm' // with the entity
	causeOutside    = 's' // with the entity and the property
)

// setCause says what the machine runs next. typ is one of the cause constants; a and b tell causes of one type apart.
func (s *Session) setCause(typ byte, a, b int64) {
	s.stepsAtCause = s.machine.Used()
	s.causeEntity = nil
	s.machine.Cause = rules.Cause{
		Tick: s.tick,
		What: typ,
		A:    a,
		B:    b,
	}
}

// setCauseOf says what the machine runs next, of an entity.
func (s *Session) setCauseOf(e *world.Entity, typ byte, b int64) {
	s.setCause(typ, e.Key(), b)
	s.causeEntity = e
}

// endHandler ends the transaction of a handler or timer of an entity. A fault undoes it and is told to those who run
// the session.
func (s *Session) endHandler(what string, e *world.Entity, o *rules.Outcome) {
	s.noteSteps(what, e.Kind)
	if o != nil {
		f := newFault(what+" of "+e.Kind.Name, o)
		f.Entity = s.numbers.Number(e)
		f.Kind = e.Kind.Name
		f.Serial = e.Serial
		f.Owner = e.Owner
		s.faults = append(s.faults, f)
	}
	s.endTransaction(o)
	s.runFollowUps()
}

// endClientHandler ends the transaction of a handler of the contract that a client set off.
func (s *Session) endClientHandler(client int, what string, o *rules.Outcome) {
	s.noteSteps(what, nil)
	if o != nil {
		f := newFault(what, o)
		f.Client = client
		s.faults = append(s.faults, f)
	}
	s.endTransaction(o)
	s.runFollowUps()
}

// newFault returns the fault that an outcome ended with; of names the code that ran.
func newFault(of string, o *rules.Outcome) Fault {
	return Fault{
		Of:     of,
		In:     o.In,
		File:   o.File,
		Line:   o.Line,
		Reason: o.Reason,
	}
}

// endTransaction ends a transaction as its outcome says: nil keeps all that it did, another one undoes it. It returns
// what a request changed, when traced, and the events that were sent.
func (s *Session) endTransaction(o *rules.Outcome) (changes []Change, events []rules.Told) {
	// The machine's memory is used again by the next run, which begins after these were dealt with.
	events = s.machine.Told
	effects := s.machine.Effects
	s.machine.Told = s.machine.Told[:0]
	s.machine.Effects = s.machine.Effects[:0]
	if o != nil {
		s.world.Rollback()
		s.machine.ForgetRuns()
		return nil, nil
	}
	if s.serverState != nil && s.asking != nil {
		changes = s.changes()
	}
	if s.traceCause != nil {
		s.tellCause()
		s.machine.ForgetRuns()
	}
	if s.asking != nil && s.view.IsMetered(s.asking.client.Number) {
		s.noteTouched(s.asking)
	}
	s.world.Commit()
	s.world.Events(s.tellListeners)
	for _, event := range events {
		s.queueEvent(event)
	}
	for _, effect := range effects {
		s.applyEffect(effect)
	}
	return changes, events
}

// maxTouched is of how many entities it is noted that a request changed them.
const maxTouched = 64

// noteTouched notes what the open transaction, that of a request, has changed: its metered client is sent that before
// the decision.
func (s *Session) noteTouched(t *seat) {
	if touched := s.world.Touched(nil); len(touched) > 0 {
		if t.touched == nil {
			t.touched = map[uint64][]world.Touched{}
		}
		t.touched[s.askingSeq] = touched[:min(len(touched), maxTouched)]
	}
}

// changes returns what the open transaction has changed.
func (s *Session) changes() (out []Change) {
	for _, c := range s.world.Changes() {
		t := c.Property.Type
		out = append(out, Change{
			Entity:   s.view.Number(c.Entity),
			Kind:     c.Entity.Kind.Name,
			Owner:    c.Entity.Owner,
			Property: c.Property.Name,
			Type:     t,
			Old:      s.view.PublicRefs(t, c.Old),
			New:      s.view.PublicRefs(t, c.New),
		})
	}
	return out
}

// tellListeners tells the listeners what a transaction did to an entity.
func (s *Session) tellListeners(event world.Event) {
	if event.Role != 0 {
		s.roleChanged = true // runFollowUps deals with it
		return
	}
	e := event.Entity
	if event.Despawned {
		if s.hasAttached {
			s.goneCarriers = append(s.goneCarriers, e.ID)
		}
		s.forgetEntity(e)
		s.numbers.RemoveEntity(e)
	}
	s.eachListener(func(l listener) {
		switch {
		case event.Spawned:
			l.AddEntity(e)
		case event.Despawned:
			l.RemoveEntity(e)
		default:
			l.MarkOwnerChanged(e)
		}
	})
	if s.hasHolds && !event.Spawned && !event.Despawned && e.Owner != event.Owner {
		s.newOwners = append(s.newOwners, e)
	}
}

// applyEffect carries out what a body did beside its changes and events.
func (s *Session) applyEffect(effect rules.Effect) {
	switch effect.Kind {
	case rules.CloseSession:
		if s.closed == "" {
			s.closed = effect.Text
			s.result = effect.Result
		}
	case rules.ExpelClient:
		s.expel(effect.Client, effect.Text)
	case rules.SendClient:
		s.send(effect)
	case rules.LogLine:
		s.logs = append(s.logs, Log{effect.Text, effect.Clients})
		for _, t := range s.order {
			if t.joined && slices.Contains(effect.Clients, t.client.Number) {
				t.queuedLogLines = append(t.queuedLogLines, effect.Text)
				t.hasMessages = true
			}
		}
	}
}

// runFollowUps runs what a cause brings with it once its transaction has ended: the holds of an entity that has another
// owner end, and clients with another role get the entities of that.
func (s *Session) runFollowUps() {
	for len(s.newOwners) > 0 {
		e := s.newOwners[0]
		s.newOwners = s.newOwners[1:]
		for _, p := range e.Kind.Properties {
			if p.Hold != nil && !e.Gone && e.Nums[p.Slot] != 0 {
				s.setHold(e, p, false)
			}
		}
	}
	s.updateRoles()
}

// forgetEntity drops what is kept about an entity that is gone.
func (s *Session) forgetEntity(e *world.Entity) {
	for _, p := range e.Kind.Properties {
		key := propertyKey{e.ID, p.Index}
		delete(s.budgets, key)
		if p.Hold == nil {
			continue
		}
		for _, t := range s.order {
			delete(t.presses, key)
		}
	}
	for _, r := range e.Kind.Requests {
		key := limitKey{r.Index, e.ID}
		for _, t := range s.order {
			delete(t.limits, key)
			delete(t.acceptedTick, key)
		}
	}
}
