package session

import (
	"fmt"

	"kamerad/core/contract"
	"kamerad/core/wire"
)

// A tick has a budget of steps of the rules' machine: what is over it waits for the next ticks. Steps are a function of
// the session's state alone, never of a clock, so that a session that is run again with the same inputs puts off the
// same ones. Where the budget binds, when a client is answered tells of what others do.
const (
	TickSteps    = 2_000_000      // of requests, writes and joins in one tick; the one that goes over it is the last
	TickOwnSteps = 10 * TickSteps // of what runs by itself, in one tick: a session that takes more is closed
	maxDeferred  = 64             // inputs of one client that wait; more are dropped
	deferSeconds = 1              // how long an input waits at most; then it is dropped
	heavySteps   = 20_000         // what a cause takes at least to be told of
)

// DefaultMemory is how many bytes the entities of a session may take, and what its clients are told of them: over it,
// nothing is spawned. A session of which clients come to see so much that it takes twice as much is closed.
const DefaultMemory = 256 << 20

// deferred is an input that waits for a tick with steps to spare.
type deferred struct {
	input input
	since int64 // the tick that it came in
}

// Heavy says which cause of a tick took the most steps.
type Heavy struct {
	Of    string // such as "a timer of Diver"; empty when none took many
	Steps int64
}

// spent returns the steps that requests, writes and joins have taken in this tick.
func (s *Session) spent() int64 { return s.machine.Used() - s.beganAt }

// overBudget reports whether what else there is in this tick has to wait.
func (s *Session) overBudget() bool { return s.spent() >= s.steps }

// meet carries out a request, press, release or write, or has it wait: behind those of its client that wait already, or
// while the tick has no steps left.
func (s *Session) meet(t *seat, in *input, step *Step) {
	if t.joined && len(t.deferred) == 0 && !s.overBudget() {
		s.act(t, in, step)
		return
	}
	if in.what == "ask" {
		for i := range t.deferred {
			if d := &t.deferred[i]; d.input.what == "ask" && d.input.call.ask.Seq == in.call.ask.Seq {
				return // a repeat of one that waits: its decision is to come
			}
		}
	}
	if len(t.deferred) >= maxDeferred {
		s.giveUp(t, in, step)
		return
	}
	if len(t.deferred) == 0 {
		s.line = append(s.line, t)
	}
	t.deferred = append(t.deferred, deferred{*in, s.tick})
	step.Deferred++
}

// act carries out a request, press, release or write.
func (s *Session) act(t *seat, in *input, step *Step) {
	if in.what == "ask" {
		s.decide(t, in.call, step)
	} else {
		s.carry(t, &in.move)
	}
}

// giveUp tells a client that the session has too much to do for what it sent.
func (s *Session) giveUp(t *seat, in *input, step *Step) {
	if in.what == "ask" {
		in.call.tooLate = true
		s.decide(t, in.call, step)
		return
	}
	t.said = append(t.said, in.move.refused(wire.Dropped, wire.StageBounds, tooMuchToDo))
	t.busy = true
}

const tooMuchToDo = "the session has too much to do"

// resume carries out what waits from earlier ticks: joins first, then one input of each client in turn, each client's
// in its own order. What has waited for too long is dropped.
func (s *Session) resume(step *Step) {
	for len(s.joining) > 0 && !s.overBudget() {
		t := s.joining[0]
		s.joining = s.joining[1:]
		if s.seats[t.client.Number] == t {
			s.join(t)
		}
	}
	var unseated []*seat // whose join waits as well
	for len(s.line) > 0 && !s.overBudget() {
		t := s.line[0]
		s.line = s.line[1:]
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
			s.line = append(s.line, t)
		}
	}
	s.line = append(unseated, s.line...)
	oldest := s.tick - deferSeconds*int64(s.contract.TickRate)
	left := s.line[:0]
	for _, t := range s.line {
		for len(t.deferred) > 0 && t.deferred[0].since <= oldest {
			in := t.deferred[0].input
			t.deferred = t.deferred[1:]
			s.giveUp(t, &in, step)
		}
		if len(t.deferred) > 0 && s.seats[t.client.Number] == t {
			left = append(left, t)
		}
	}
	s.line = left
}

// runaway reports whether what runs by itself has taken more steps than it may in one tick; the session is closed with
// this tick then.
func (s *Session) runaway() bool {
	if s.machine.Used()-s.ownAt <= s.ownSteps {
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
func (s *Session) Memory() (held, most int64) { return s.world.MemoryUsed(), s.world.MaxMemory }

// weighMemory counts what clients are told of by themselves, once they have been told. A session that takes too much is
// closed with this tick: what clients come to see is all that can take more than the bound, since entities and actions
// that wait are refused there.
func (s *Session) weighMemory() {
	s.world.ClientMemory = int64(s.view.PrivateEntries())*contract.EntryMemory + int64(len(s.order))*contract.ClientMemory
	if s.world.MemoryUsed() > 2*s.world.MaxMemory && s.closed == "" {
		s.closed = fmt.Sprintf(
			"what its clients see of %d entities takes more than twice the %d MB of memory that it may",
			len(s.world.Entities()), s.world.MaxMemory>>20,
		)
	}
}

// weigh notes what a cause has taken. of is the kind that it is about; nil for none.
func (s *Session) weigh(what string, of *contract.Kind) {
	if steps := s.machine.Used() - s.causeAt; steps >= heavySteps && steps > s.heaviest.Steps {
		if of != nil {
			what += " of " + of.Name
		}
		s.heaviest = Heavy{what, steps}
	}
}
