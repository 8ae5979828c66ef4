package session

import (
	"slices"

	"kamerad.example/core/world"
)

// incarnation is a life of the session: each but the first begins with Recover.
type incarnation struct {
	kept  int64 // the last tick before it that was kept: what came after that is undone
	first int64 // its first tick
}

// maxIncarnations is how many are told apart. Of more, the oldest two are taken for one: what was kept before the first
// of them is kept, and the rest is undone.
const maxIncarnations = 1000

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
	s.incarnations = append(s.incarnations, incarnation{kept: s.tick, first: next})
	if len(s.incarnations) > maxIncarnations {
		s.incarnations[1].kept = s.incarnations[0].kept
		s.incarnations = slices.Delete(s.incarnations, 0, 1)
	}
	s.machine.Incarnation++
	for _, t := range s.order {
		t.behind = false
		if t.lostTick > 0 {
			t.lostTick = next // its seat waits as long as that of any other
		}
		if t.isUnderWay && !t.leaving { // who was to send it is gone
			s.inputs = append(s.inputs, input{seat: t, typ: inputStay})
		}
		if !t.leaving && !t.lost {
			t.lost = true
			s.inputs = append(s.inputs, input{seat: t, typ: inputLost})
		}
	}
	stood := next - 1 - s.tick
	s.tick = next - 1
	s.world.Tick = s.tick
	if s.logic.isHeard {
		s.logic.heardTick = s.tick // it has as long as ever to be heard again
	}
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

// undoneAfter returns the tick after which all is undone that a client has which has applied the frames up to a tick.
// ok is false for a client that knows of every incarnation. A client may have missed some, or the frame that told it of
// one: what it knows is what the tick says, not what it was sent.
func (s *Session) undoneAfter(applied int64) (kept int64, ok bool) {
	for _, i := range s.incarnations {
		if applied < i.first {
			return i.kept, true
		}
	}
	return 0, false
}

// survived returns the newest tick up to which a client that has applied the frames up to a tick has what was kept.
func (s *Session) survived(applied int64) int64 {
	if kept, ok := s.undoneAfter(applied); ok {
		return min(applied, kept)
	}
	return applied
}
