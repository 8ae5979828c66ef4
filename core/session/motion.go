package session

import (
	"slices"

	"kamerad/core/contract"
	"kamerad/core/rules"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// motion moves what moves by itself, then what is attached to it, and runs `on tick`.
func (s *Session) motion() {
	if s.moving || s.paths {
		s.sweep()
	}
	s.attached()
	if s.ticking {
		s.each(func(e *world.Entity) {
			if !s.runaway() {
				s.handle(e, rules.OnTick, "on tick")
			}
		})
		s.attached() // to where what they are attached to is at the end of the tick: so copies compute it
	}
	if !s.paths {
		return
	}
	for _, e := range s.world.Entities() {
		sweepFrom(e)
	}
	s.world.LastMoved = s.world.LastID()
}

// sweepNew notes where what was spawned since the last motion begins to move: its place when it was spawned, and not
// where it is by the next motion.
func (s *Session) sweepNew() {
	if !s.paths {
		return
	}
	for _, e := range slices.Backward(s.world.Entities()) {
		if e.ID <= s.world.LastMoved {
			break
		}
		sweepFrom(e)
	}
	s.world.LastMoved = s.world.LastID()
}

// sweepFrom notes the places of an entity as those from which it moves next. What follows a rate is noted as it moves.
func sweepFrom(e *world.Entity) {
	for _, p := range e.Kind.Properties {
		if p.Path >= 0 && p.Follows == nil {
			copy(e.Nums[p.Path:], e.Nums[p.Slot:p.Slot+p.Type.Width()])
		}
	}
}

// sweep moves what moves by itself, and notes from where.
func (s *Session) sweep() {
	s.each(func(e *world.Entity) {
		moved := false
		for _, p := range e.Kind.Properties {
			if p.Path >= 0 && p.Follows != nil {
				copy(e.Nums[p.Path:], e.Nums[p.Slot:p.Slot+p.Type.Width()])
			}
			if f := p.Follows; f != nil && f.Rate != nil {
				s.move(e, p, f)
				moved = true
			}
		}
		s.moved(e, moved)
	})
}

// attached puts what is attached to something else where that is.
func (s *Session) attached() {
	if !s.ties {
		return
	}
	s.each(func(e *world.Entity) {
		moved := false
		for _, p := range e.Kind.Properties {
			if f := p.Follows; f != nil && f.Holder != nil {
				s.attach(e, p, f)
				moved = true
			}
		}
		s.moved(e, moved)
	})
}

// moved concludes the motion of an entity and what it sets off.
func (s *Session) moved(e *world.Entity, moved bool) {
	if moved {
		s.cause('m', e.Key(), 0)
		s.conclude("the motion", e, s.machine.Settle())
	}
}

// move computes a property from where and when its motion began: it is never summed, so that no rounding adds up. The
// motion begins anew when the rate or the property itself was written.
func (s *Session) move(e *world.Entity, p *contract.Property, f *contract.Follows) {
	w := p.Type.Width()
	row := e.Nums
	start := row[f.Slot : f.Slot+w]
	began := f.Slot + w
	rate := row[began+1 : began+1+w]
	made := row[began+1+w : began+1+2*w]
	now := row[p.Slot : p.Slot+w]
	wanted := row[f.Rate.Slot : f.Rate.Slot+w]
	if row[began] == 0 || !slices.Equal(rate, wanted) || !slices.Equal(made, now) {
		for i := range w {
			s.world.WriteHidden(e, f.Slot+i, now[i])
			s.world.WriteHidden(e, began+1+i, wanted[i])
		}
		s.world.WriteHidden(e, began, s.tick) // one more than the tick that it began at, so that 0 is none
	}
	seconds := float64(s.tick-row[began]+1) / float64(s.contract.TickRate)
	for i := range w {
		v := wire.Extrapolate(p.Type.Real(start[i]), f.Rate.Type.Real(rate[i]), seconds)
		n, _ := p.Type.Steps(v)
		n = min(max(n, p.Type.Low), p.Type.High)
		s.world.Write(e, p.Index, p.Slot+i, n)
		s.world.WriteHidden(e, began+1+w+i, n)
	}
}

// attach puts a property where what it is attached to is. While that is nothing it stays.
func (s *Session) attach(e *world.Entity, p *contract.Property, f *contract.Follows) {
	holder := s.world.Entity(world.ID(e.Nums[f.Holder.Slot]))
	if holder == nil {
		return
	}
	to := f.To[holder.Kind.Index]
	for i := range p.Type.Width() {
		v := to.Type.Real(holder.Nums[to.Slot+i])
		if f.By != nil {
			v += rules.Float(f.By[i])
		}
		n, _ := p.Type.Steps(v)
		s.world.Write(e, p.Index, p.Slot+i, min(max(n, p.Type.Low), p.Type.High))
	}
}
