package session

import "kamerad.example/core/world"

// incarnation says which life of the session this is: each begins with Recover.
type incarnation struct {
	number int   // 0 for the first
	kept   int64 // the last tick before it that was kept: what came after it is undone
	first  int64 // its first tick
}

// Recover begins another incarnation of a session whose process has ended: what it has had up to Now is what was kept,
// and what clients were sent beyond that is undone. The next tick is the one with the number next, which has to be
// above every tick that clients may have been sent.
//
// The world stands still between the two: what moves goes on from where it is, and actions wait as long as they would
// have. Every client counts as one whose connection is lost, from the first tick on, and is told of the incarnation
// with its next frame.
func (s *Session) Recover(next int64) {
	if next <= s.tick {
		next = s.tick + 1
	}
	s.record(Call{Type: CallRecover, Tick: next})
	s.incarnation = incarnation{number: s.incarnation.number + 1, kept: s.tick, first: next}
	s.machine.Incarnation = s.incarnation.number
	for _, t := range s.order {
		t.behind = false
		if t.lostTick > 0 {
			t.lostTick = next // its seat waits as long as that of any other
		}
		if !t.leaving && !t.lost {
			t.lost = true
			s.inputs = append(s.inputs, input{seat: t, typ: inputLost})
		}
	}
	stood := next - 1 - s.tick
	s.tick = next - 1
	s.world.Tick = s.tick
	for _, e := range s.world.Entities() {
		s.world.PutOff(e, stood)
		s.restartMotion(e)
	}
}

// restartMotion has what follows a rate begin to move anew from where it is.
func (s *Session) restartMotion(e *world.Entity) {
	moving := uint64(0)
	for _, p := range e.Kind.Properties {
		if p.Follows != nil && p.Follows.Rate != nil {
			e.Nums[p.Follows.Slot+p.Type.Width()] = 0
			moving |= 1 << p.Index
		}
	}
	if moving != 0 {
		s.eachListener(func(l listener) { l.MarkWritten(e, moving) })
	}
}

// survived returns the newest tick up to which a client that has applied the frames up to a tick has what was kept: of
// what it was sent later than that, by an earlier incarnation, nothing counts.
func (i *incarnation) survived(tick int64) int64 {
	if i.number > 0 && tick > i.kept && tick < i.first {
		return i.kept
	}
	return tick
}
