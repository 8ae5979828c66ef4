package session

import "kamerad.example/core/contract"

// logicWatch follows whether the contract's logic process is heard.
//
// It is heard as long as it has confirmed a tick of the last few: it is sent a frame in each. A session begins without
// one, so that the first thing that happens is that it is heard.
type logicWatch struct {
	heardTick int64 // the newest tick that was confirmed
	isHeard   bool
}

// logicSeat returns the seat of the logic process, nil when there is none.
func (s *Session) logicSeat() *seat {
	if s.contract.Logic == nil {
		return nil
	}
	client := s.world.ClientOfRole(s.contract.Logic.Role)
	if client == contract.Nothing {
		return nil
	}
	return s.seats[int(client)]
}

// isLogic reports whether a client is the logic process.
func (s *Session) isLogic(t *seat) bool {
	l := s.contract.Logic
	return l != nil && t.client.Role == l.Role
}

// IsLogic reports whether a client is the logic process.
func (s *Session) IsLogic(client int) bool {
	t := s.seats[client]
	return t != nil && s.isLogic(t)
}

// maxQueuedOf returns how many requests, writes and presses of a client are queued for one tick.
func (s *Session) maxQueuedOf(t *seat) int {
	if s.isLogic(t) {
		return maxLogicQueued
	}
	return maxQueued
}

// watchLogic runs what the contract does once nothing has been heard of its logic process for too long, and once it is
// heard.
func (s *Session) watchLogic(step *Step) {
	if s.contract.Logic == nil {
		return
	}
	s.cutReplaced(step)
	if t := s.logicSeat(); t != nil {
		s.logic.heardTick = max(s.logic.heardTick, t.confirmed)
	}
	isHeard := s.logic.heardTick > 0 && s.tick-s.logic.heardTick <= s.contract.Logic.Silent
	if isHeard == s.logic.isHeard {
		return
	}
	s.logic.isHeard = isHeard
	if isHeard {
		s.setCause(causeLogic, 1, 0)
		s.endClientHandler(0, "on heard", s.machine.Heard())
		return
	}
	s.setCause(causeLogic, 0, 0)
	s.endClientHandler(0, "on silent", s.machine.Silent())
}

// makesWay reports whether a seat is that of a logic process which gives its place to another one: of which nothing is
// heard, or whose connection is gone. A session has one at most.
func (s *Session) makesWay(t *seat) bool {
	return s.isLogic(t) && (t.lost || !s.logic.isHeard)
}

// replaceLogic has the seat of a logic process end with the next tick, for another one that joins.
func (s *Session) replaceLogic() {
	for _, t := range s.order {
		if !t.leaving && s.makesWay(t) {
			t.isReplaced = true
		}
	}
}

// cutReplaced ends the seats of logic processes whose place another one has taken.
func (s *Session) cutReplaced(step *Step) {
	for _, t := range s.order {
		if t.isReplaced && !t.leaving {
			step.Cuts = append(step.Cuts, Cut{
				Client: t.client.Number,
				Reason: "another logic process has taken its place",
			})
			s.leaveNext(t)
		}
	}
}
