package session

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// moveEntities moves what follows a rate, then what is attached to it, and runs `on tick`.
func (s *Session) moveEntities() {
	if s.hasMotion || s.hasPaths {
		s.followRates()
	}
	s.followCarriers()
	if s.hasTickHandlers {
		s.eachEntity(func(e *world.Entity) {
			if !s.isRunaway() {
				s.handle(e, rules.OnTick, "on tick")
			}
		})
		s.followCarriers() // to where the carriers are at the end of the tick: so copies compute it
	}
	s.goneCarriers = s.goneCarriers[:0]
	if !s.hasPaths {
		return
	}
	for _, e := range s.world.Entities() {
		startPath(e)
	}
	s.world.LastMoved = s.world.LastID()
}

// startPaths notes where what was spawned since the last motion begins to move: its place when it was spawned, and not
// where it is by the next motion.
func (s *Session) startPaths() {
	if !s.hasPaths {
		return
	}
	for _, e := range slices.Backward(s.world.Entities()) {
		if e.ID <= s.world.LastMoved {
			break
		}
		startPath(e)
	}
	s.world.LastMoved = s.world.LastID()
}

// startPath notes the places of an entity as those from which it moves next. What follows a rate is noted as it moves.
func startPath(e *world.Entity) {
	for _, p := range e.Kind.Properties {
		if p.Path >= 0 && p.Follows == nil {
			copy(e.Nums[p.Path:], e.Nums[p.Slot:p.Slot+p.Type.Width()])
		}
	}
}

// followRates moves what follows a rate, and notes from where.
func (s *Session) followRates() {
	s.eachEntity(func(e *world.Entity) {
		hasMoved := false
		for _, p := range e.Kind.Properties {
			if p.Path >= 0 && p.Follows != nil {
				copy(e.Nums[p.Path:], e.Nums[p.Slot:p.Slot+p.Type.Width()])
			}
			if f := p.Follows; f != nil && f.Rate != nil {
				s.followRate(e, p, f)
				hasMoved = true
			}
		}
		s.endMotion(e, hasMoved)
	})
}

// followCarriers moves what is attached to something else.
func (s *Session) followCarriers() {
	if !s.hasAttached {
		return
	}
	s.eachEntity(func(e *world.Entity) {
		hasMoved := false
		for _, p := range e.Kind.Properties {
			if f := p.Follows; f != nil && f.Holder != nil {
				s.followCarrier(e, p)
				hasMoved = true
			}
		}
		s.endMotion(e, hasMoved)
	})
}

// endMotion runs what the motion of an entity sets off.
func (s *Session) endMotion(e *world.Entity, hasMoved bool) {
	if hasMoved {
		s.setCauseOf(e, causeMotion, 0)
		s.endHandler("the motion", e, s.machine.Settle())
	}
}

// followRate computes a property from where and when its motion began. It is never summed, so that no rounding adds up.
// The motion begins anew when the rate or the property itself was written.
//
// From Follows.Slot on stand the value at the start, the tick of the start plus one (0 for no motion), the rate, and
// the value that was computed last.
func (s *Session) followRate(e *world.Entity, p *contract.Property, f *contract.Follows) {
	width := p.Type.Width()
	row := e.Nums
	began := f.Slot + width
	start := row[f.Slot:began]
	rate := row[began+1 : began+1+width]
	last := row[began+1+width : began+1+2*width]
	value := row[p.Slot : p.Slot+width]
	wanted := row[f.Rate.Slot : f.Rate.Slot+width]
	if row[began] == 0 || !slices.Equal(rate, wanted) || !slices.Equal(last, value) {
		for i := range width {
			s.world.WriteHidden(e, f.Slot+i, value[i])
			s.world.WriteHidden(e, began+1+i, wanted[i])
		}
		s.world.WriteHidden(e, began, s.tick)
	}
	seconds := float64(s.tick-row[began]+1) / float64(s.contract.TickRate)
	for i := range width {
		v := wire.Extrapolate(p.Type.Real(start[i]), f.Rate.Type.Real(rate[i]), seconds)
		steps, _ := p.Type.Steps(v)
		steps = p.Type.Bring(steps)
		s.world.Write(e, p.Index, p.Slot+i, steps)
		s.world.WriteHidden(e, began+1+width+i, steps)
	}
}

// attached is a property of an entity that may be attached to something else.
type attached struct {
	entity   *world.Entity
	property *contract.Property
}

// carrier returns what a property is attached to now, or nil.
func (s *Session) carrier(e *world.Entity, p *contract.Property) *world.Entity {
	if p.Follows == nil || p.Follows.Holder == nil {
		return nil
	}
	return s.world.Entity(world.ID(e.Nums[p.Follows.Holder.Slot]))
}

// followCarrier puts a property where what it is attached to is, and before that what carries it, from where its chain
// of carriers begins. While there is no carrier it stays; so does all that hangs on a ring of carriers.
func (s *Session) followCarrier(e *world.Entity, p *contract.Property) {
	if s.carrier(e, p) == nil {
		if slices.Contains(s.goneCarriers, world.ID(e.Nums[p.Follows.Holder.Slot])) {
			s.world.Touch(e, p.Index) // copies may have moved it along once more
		}
		return
	}
	chain := s.chain[:0]
	for at := (attached{e, p}); ; {
		carrier := s.carrier(at.entity, at.property)
		if carrier == nil {
			break
		}
		if slices.Contains(chain, at) {
			chain = chain[:0]
			break
		}
		chain = append(chain, at)
		at = attached{carrier, at.property.Follows.To[carrier.Kind.Index]}
	}
	s.chain = chain
	for _, at := range slices.Backward(chain) {
		s.putOnCarrier(at.entity, at.property)
	}
}

// putOnCarrier puts a property where its carrier is now.
func (s *Session) putOnCarrier(e *world.Entity, p *contract.Property) {
	f := p.Follows
	carrier := s.carrier(e, p)
	to := f.To[carrier.Kind.Index]
	for i := range p.Type.Width() {
		v := to.Type.Real(carrier.Nums[to.Slot+i])
		if f.By != nil {
			v += rules.Float(f.By[i])
		}
		steps, _ := p.Type.Steps(v)
		s.world.Write(e, p.Index, p.Slot+i, p.Type.Bring(steps))
	}
}
