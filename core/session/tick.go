package session

import (
	"slices"

	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// listener is told what becomes of clients and entities: the clients' view and, when traced, the server's own state.
type listener interface {
	AddClient(c wire.Client)
	RemoveClient(number int)
	AddEntity(e *world.Entity)
	RemoveEntity(e *world.Entity)
	MarkOwnerChanged(e *world.Entity)
	MarkWritten(e *world.Entity, properties uint64)
}

// eachListener calls f for everyone who is told of changes of the world.
func (s *Session) eachListener(f func(l listener)) {
	f(s.view)
	if s.serverState != nil {
		f(s.serverState)
	}
}

// Tick carries out all inputs in the order of their arrival, then what the contract does by itself, and makes the
// frames.
func (s *Session) Tick() *Step {
	s.tick++
	s.world.Tick = s.tick
	step := s.beginStep()
	inputs := s.takeInputs()
	s.startPaths()
	s.decideEarly(step)
	s.resumeDeferred(step)
	for i := range inputs {
		in := &inputs[i]
		if s.seats[in.seat.client.Number] == in.seat { // else it left earlier in this tick
			s.carryOut(in, step)
		}
	}
	clear(inputs) // what clients sent is not kept alive
	s.spareInputs = inputs

	s.stepsAtOwn = s.machine.Used()
	s.cutLost(step)
	s.watchLogic(step)
	s.endHolds()
	s.runTimers()
	s.moveEntities()
	s.collect(step)
	s.makeFrames(step)
	s.countMemory()
	s.isRunaway() // audiences count as well
	step.Sendings = s.sendings
	s.sendings = nil
	step.Closed = s.closed
	step.Result = s.result
	step.Heaviest = s.heaviest
	step.MemoryUsed = s.world.MemoryUsed()
	s.world.CollectTexts(maxTexts)
	if s.recordCall != nil {
		s.record(Call{Type: CallTick, Tick: s.tick, Frames: step.Sum()})
	}
	return step
}

// beginStep empties what is gathered in a tick.
func (s *Session) beginStep() *Step {
	step := &s.step
	*step = Step{
		Tick:      s.tick,
		Frames:    step.Frames[:0],
		Cuts:      step.Cuts[:0],
		Overtaken: s.overtaken,
	}
	s.overtaken = nil
	s.refused = nil
	s.changedOutside = false
	s.stepsAtTick = s.machine.Used()
	s.heaviest = Heavy{}
	return step
}

// takeInputs returns the inputs of this tick. Those that come from now on are for the next one.
func (s *Session) takeInputs() []input {
	inputs := s.inputs
	s.inputs = s.spareInputs[:0]
	for i := range inputs {
		if t := inputs[i].seat; len(t.queuedWrites) > 0 {
			t.queuedWrites = t.queuedWrites[:0]
		}
	}
	return inputs
}

// carryOut carries out one input.
func (s *Session) carryOut(in *input, step *Step) {
	t := in.seat
	switch in.typ {
	case inputJoin:
		if s.isOverBudget() || len(s.joining) > 0 {
			s.joining = append(s.joining, t)
			step.Deferred++
		} else {
			s.join(t)
		}
	case inputReady:
		t.ready = true
	case inputLost:
		s.lose(t)
	case inputBack:
		s.takeBack(t)
	case inputLeave:
		s.leave(t)
	case inputDepart:
		s.depart(t, step)
	case inputStay:
		s.stay(t)
	case inputAsk, inputPress, inputRelease, inputWrite:
		s.actOrDefer(t, in, step)
	case inputOvertaken:
	}
}

// join carries out a client's join.
func (s *Session) join(t *seat) {
	t.joined = true
	s.world.AddClient(t.client)
	c := s.updatePublic(t)
	s.eachListener(func(l listener) { l.AddClient(c) })
	s.setCause(causeJoin, int64(c.Number), 0)
	s.endClientHandler(c.Number, "on join", s.machine.Join(&t.client))
}

// lose carries out that a client's connection is gone.
func (s *Session) lose(t *seat) {
	if t.lostTick == 0 {
		s.absent++
	}
	t.lostTick = s.tick
	if !t.joined {
		return
	}
	client := t.client.Number
	s.setCause(causeConnection, int64(client), 0)
	s.endClientHandler(client, "on lost", s.machine.Lost(client))
	s.handleOwned(client, rules.OnOwnerLost, "on owner lost")
}

// takeBack carries out that a client has a connection again.
func (s *Session) takeBack(t *seat) {
	if t.lostTick > 0 {
		s.absent--
	}
	t.lostTick = 0
	t.ready = false
	if !t.joined {
		return
	}
	client := t.client.Number
	s.view.Resync(client)
	s.setCause(causeConnection, int64(client), 1)
	s.endClientHandler(client, "on back", s.machine.Back(client))
}

// leave carries out a client's leave: its entities of a role go with it, others come to belong to the server.
func (s *Session) leave(t *seat) {
	client := t.client.Number
	delete(s.seats, client)
	if t.lostTick > 0 {
		s.absent--
	}
	s.order = slices.DeleteFunc(s.order, func(x *seat) bool { return x == t })
	if !t.joined {
		return
	}
	s.setCause(causeLeave, int64(client), 0)
	s.endClientHandler(client, "on leave", s.machine.Leave(client))
	if t.lostTick == 0 { // else it has run
		s.handleOwned(client, rules.OnOwnerLost, "on owner lost")
	}
	s.handleOwned(client, rules.OnOwnerLeave, "on owner leave")
	s.eachEntity(func(e *world.Entity) {
		if e.Owner == client && e.Kind.Per >= 0 {
			s.handle(e, rules.OnDespawn, "on despawn")
		}
	})
	s.noteKeptOf(t)
	s.world.RemoveClient(client)
	s.eachEntity(func(e *world.Entity) {
		if e.Owner != client {
			return
		}
		if e.Kind.Per < 0 {
			s.world.SetOwner(e, 0)
			return
		}
		s.world.Despawn(e)
	})
	s.endTransaction(nil)
	s.eachListener(func(l listener) { l.RemoveClient(client) })
}

// eachEntity calls f for all entities that are there now, by ID. f may spawn and despawn.
func (s *Session) eachEntity(f func(e *world.Entity)) {
	s.visited = append(s.visited[:0], s.world.Entities()...)
	for _, e := range s.visited {
		if !e.Gone {
			f(e)
		}
	}
}

// handle runs a handler of an entity, if its kind has it.
func (s *Session) handle(e *world.Entity, when rules.When, name string) {
	if e.Gone || !s.machine.Handles(e.Kind, when) {
		return
	}
	s.setCauseOf(e, causeHandler, int64(when))
	s.endHandler(name, e, s.machine.Handle(e, when))
}

// handleOwned runs a handler of all entities that a client owns.
func (s *Session) handleOwned(client int, when rules.When, name string) {
	s.eachEntity(func(e *world.Entity) {
		if e.Owner == client {
			s.handle(e, when, name)
		}
	})
}

// runTimers moves all timers on by a tick, and runs the actions whose tick has come.
func (s *Session) runTimers() {
	s.eachEntity(func(e *world.Entity) {
		if s.isRunaway() {
			return
		}
		for i := range e.Kind.Timers {
			s.runTimer(e, i)
			if e.Gone {
				return
			}
		}
		for n := int64(0); !e.Gone; n++ {
			action, due := s.world.NextDue(e)
			if !due {
				return
			}
			s.causeAction = action
			s.setCauseOf(e, causeDelayed, n)
			s.endHandler("the action "+action.Action.Name, e, s.machine.Due(e, action))
		}
	})
}

// runTimer moves one timer of an entity on by a tick. Its count is no part of a transaction: a timer whose body faults
// has fired.
func (s *Session) runTimer(e *world.Entity, index int) {
	timer := e.Kind.Timers[index]
	count := &e.Nums[timer.Slot]
	if *count < 0 || timer.While != nil && !s.machine.While(e, index) {
		return
	}
	*count++
	wait := timer.Ticks
	if timer.Wait != nil {
		ticks, ok := s.machine.TimerTicks(e, index)
		if !ok {
			return
		}
		wait = ticks
	}
	if *count < wait {
		return
	}
	*count = 0
	if timer.After {
		*count = -1 // it has fired, once for all
	}
	s.setCauseOf(e, causeTimer, int64(index))
	s.endHandler("a timer", e, s.machine.Fire(e, index))
}

// prefetched is how many entities and clients are read ahead.
const prefetched = 16

// collect brings what the tick changed into the views, and what happened into the step.
func (s *Session) collect(step *Step) {
	written := s.world.Written()
	next := 0
	s.world.VisitWritten(func(e *world.Entity, properties uint64) {
		for written[next] != e { // it is gone
			next++
		}
		if next%prefetched == 0 {
			s.view.Prefetch(written[next:min(next+prefetched, len(written))])
		}
		next++
		if properties&s.keptProperties[e.Kind.Index] != 0 {
			s.noteKept(s.seats[e.Owner], e, properties)
		}
		s.view.MarkWritten(e, properties)
		if s.serverState != nil {
			s.serverState.MarkWritten(e, properties)
		}
	})
	if s.serverState != nil {
		step.ServerState = s.serverState.EndTick()
	}
	step.Events = s.events
	step.Faults = s.faults
	step.Refused = s.refused
	step.Reveals = s.machine.Reveals
	step.Logs = s.logs
	step.Kept = s.keptChanges
	step.Misfits = s.misfits
	s.keptChanges = nil
	s.misfits = nil
	step.Closed = s.closed
	step.Result = s.result
	s.events = nil
	s.faults = nil
	s.machine.Reveals = nil
	s.logs = nil
}
