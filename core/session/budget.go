package session

import (
	"fmt"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// A tick has a budget of steps of the rules' machine: what is over it waits for the next ticks. Steps are a function of
// the session's state alone, never of a clock, so that a session that is run again with the same inputs defers the same
// ones. Where the budget binds, when a client is answered depends on what others do.
const (
	tickSteps    = 2_000_000      // for requests, writes and joins in one tick; the one that goes over it is the last
	tickOwnSteps = 10 * tickSteps // for what runs by itself in one tick; a session that takes more is closed
	maxDeferred  = 64             // inputs of one client that wait; more are dropped
	deferSeconds = 1              // how long an input waits at most; then it is dropped
	heavySteps   = 20_000         // what a cause has to take to be told of
)

// DefaultMemory is how many bytes the entities of a session may take, and what its clients are told of them: over it,
// nothing is spawned. A session of which clients come to see so much that it takes twice as much is closed.
const DefaultMemory = 256 << 20

// tooMuchToDo is the reason of what was dropped because the budget was spent.
const tooMuchToDo = "the session has too much to do"

// deferred is an input that waits for a tick with steps to spare.
type deferred struct {
	input input
	since int64 // the tick in which it came
}

// Heavy says which cause of a tick took the most steps.
type Heavy struct {
	Of    string // such as "a timer of Diver"; empty when none took many
	Steps int64
}

// isOverBudget reports whether requests, writes and joins have taken the steps of this tick: what else there is has to
// wait.
func (s *Session) isOverBudget() bool { return s.machine.Used()-s.stepsAtTick >= s.steps }

// actOrDefer carries out a request, press, release or write, or has it wait: behind those of its client that wait
// already, or while the tick has no steps left.
func (s *Session) actOrDefer(t *seat, in *input, step *Step) {
	if t.joined && len(t.deferred) == 0 && !s.isOverBudget() {
		s.act(t, in, step)
		return
	}
	if in.typ == inputAsk && t.hasDeferred(in.request.ask.Seq) {
		return // a repeat of a request that waits: its decision is to come
	}
	if len(t.deferred) >= maxDeferred && !s.isLogic(t) || len(t.deferred) >= maxLogicQueued {
		s.giveUp(t, in, step)
		return
	}
	if len(t.deferred) == 0 {
		s.deferring = append(s.deferring, t)
	}
	t.deferred = append(t.deferred, deferred{*in, s.tick})
	step.Deferred++
}

// hasDeferred reports whether the request with a number waits.
func (t *seat) hasDeferred(seq uint64) bool {
	for i := range t.deferred {
		if in := &t.deferred[i].input; in.typ == inputAsk && in.request.ask.Seq == seq {
			return true
		}
	}
	return false
}

// act carries out a request, press, release or write.
func (s *Session) act(t *seat, in *input, step *Step) {
	if in.typ == inputAsk {
		s.decide(t, in.request, step)
	} else {
		s.steering = t
		s.steer(t, &in.steering)
		s.steering = nil
	}
}

// giveUp tells a client that the session has too much to do for what it sent.
func (s *Session) giveUp(t *seat, in *input, step *Step) {
	if in.typ == inputAsk {
		in.request.tooLate = true
		s.decide(t, in.request, step)
		return
	}
	v := verdict{wire.Dropped, wire.StageBounds, tooMuchToDo}
	t.queuedDecisions = append(t.queuedDecisions, in.steering.decision(v))
	t.hasMessages = true
}

// resumeDeferred carries out what waits from earlier ticks: joins first, then one input of each client in turn, each
// client's in its own order. What has waited for too long is dropped.
func (s *Session) resumeDeferred(step *Step) {
	for len(s.joining) > 0 && !s.isOverBudget() {
		t := s.joining[0]
		s.joining = s.joining[1:]
		if s.seats[t.client.Number] == t {
			s.join(t)
		}
	}
	var unseated []*seat // clients whose join waits as well
	for len(s.deferring) > 0 && !s.isOverBudget() {
		t := s.deferring[0]
		s.deferring = s.deferring[1:]
		switch {
		case s.seats[t.client.Number] != t:
			continue
		case !t.joined:
			unseated = append(unseated, t)
			continue
		}
		in := t.deferred[0].input
		t.deferred = t.deferred[1:]
		s.act(t, &in, step)
		if len(t.deferred) > 0 {
			s.deferring = append(s.deferring, t)
		}
	}
	s.deferring = append(unseated, s.deferring...)
	s.dropExpired(step)
}

// dropExpired drops what has waited for too long, and forgets the clients of which nothing waits.
func (s *Session) dropExpired(step *Step) {
	oldest := s.tick - deferSeconds*int64(s.contract.TickRate)
	left := s.deferring[:0]
	for _, t := range s.deferring {
		for len(t.deferred) > 0 && t.deferred[0].since <= oldest {
			in := t.deferred[0].input
			t.deferred = t.deferred[1:]
			s.giveUp(t, &in, step)
		}
		if len(t.deferred) > 0 && s.seats[t.client.Number] == t {
			left = append(left, t)
		}
	}
	s.deferring = left
}

// isRunaway reports whether what runs by itself has taken more steps than it may in one tick. Then the session is
// closed with this tick.
func (s *Session) isRunaway() bool {
	if s.machine.Used()-s.stepsAtOwn <= s.ownSteps {
		return false
	}
	if s.closed == "" {
		s.closed = fmt.Sprintf("what it does by itself takes more than %d steps in one tick", s.ownSteps)
		if s.heaviest.Of != "" {
			s.closed += ", most of all " + s.heaviest.Of
		}
	}
	return true
}

// Memory returns how many bytes the session's entities take, and what clients are told of them, and how many they may
// take. Both are estimates that depend on the session's state alone.
func (s *Session) Memory() (used, most int64) { return s.world.MemoryUsed(), s.world.MaxMemory }

// countMemory counts what clients have by themselves, once they have been told of it. A session that takes too much is
// closed with this tick. Only what clients come to see can take more than the bound: entities and actions that wait are
// refused at it.
func (s *Session) countMemory() {
	s.world.ClientMemory = s.view.EntryMemory() + int64(len(s.order))*contract.ClientMemory
	if s.world.MemoryUsed() > 2*s.world.MaxMemory && s.closed == "" {
		s.closed = fmt.Sprintf(
			"what its clients see of %d entities takes more than twice the %d MB of memory that it may",
			len(s.world.Entities()), s.world.MaxMemory>>20,
		)
	}
}

// noteSteps notes how many steps a cause has taken. of is the kind that it is about; nil for none.
func (s *Session) noteSteps(what string, of *contract.Kind) {
	steps := s.machine.Used() - s.stepsAtCause
	if steps < heavySteps || steps <= s.heaviest.Steps {
		return
	}
	if of != nil {
		what += " of " + of.Name
	}
	s.heaviest = Heavy{what, steps}
}
