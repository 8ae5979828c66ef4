package replicate

import (
	"math"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// A property that follows a rate keeps, from Follows.Slot on, how its motion began: the value at the start, the tick
// of the start and one (0 while it has not moved), the rate, and the value that was computed last.
type motionState struct {
	start []int64
	tick  int64 // of the start
	began bool
	rate  []int64
	last  []int64 // the value that was computed last
}

// motionStateOf returns where the world keeps the motion of a property of an entity.
func motionStateOf(e *world.Entity, p *contract.Property) motionState {
	width := p.Type.Width()
	from := p.Follows.Slot
	began := from + width
	return motionState{
		start: e.Nums[from:began],
		tick:  e.Nums[began] - 1,
		began: e.Nums[began] != 0,
		rate:  e.Nums[began+1 : began+1+width],
		last:  e.Nums[began+1+width : began+1+2*width],
	}
}

// motionOf returns the motion of a property that follows a rate, or nil for another property. The motion begins at the
// world's tick when the property or its rate was written since it was last computed.
func motionOf(w *world.World, e *world.Entity, p *contract.Property) *wire.Motion {
	if !p.Moves() {
		return nil
	}
	rate := p.Follows.Rate
	value := e.Nums[p.Slot : p.Slot+p.Type.Width()]
	wanted := e.Nums[rate.Slot : rate.Slot+p.Type.Width()]
	m := &wire.Motion{
		RateType: rate.Type,
		Rate:     rate.Type.FromSlots(wanted, nil),
		Ticks:    w.Contract().TickRate,
	}
	s := motionStateOf(e, p)
	if s.began && slices.Equal(s.rate, wanted) && slices.Equal(s.last, value) {
		m.From = p.Type.FromSlots(s.start, nil)
		m.At = s.tick
	} else {
		m.From = p.Type.FromSlots(value, nil)
		m.At = w.Tick
	}
	return m
}

// continues reports whether the motion of a property is still the one that was sent.
func continues(e *world.Entity, p *contract.Property, sent *wire.Motion) bool {
	width := p.Type.Width()
	rate := p.Follows.Rate
	s := motionStateOf(e, p)
	return s.tick == sent.At &&
		equalsSlots(sent.From, s.start) &&
		equalsSlots(sent.Rate, s.rate) &&
		slices.Equal(s.rate, e.Nums[rate.Slot:rate.Slot+width]) &&
		slices.Equal(s.last, e.Nums[p.Slot:p.Slot+width])
}

// movingSlots is where a property that follows a rate stands in an entity's row, with its motion.
type movingSlots struct {
	bit               uint64 // the property's, in a set of properties
	width             int    // of each of the values below, in slots
	value, wantedRate int
	began, rate, last int // see motionState
}

// movingSlotsOf returns where a property that follows a rate stands.
func movingSlotsOf(p *contract.Property) movingSlots {
	width := p.Type.Width()
	began := p.Follows.Slot + width
	return movingSlots{
		bit:        1 << p.Index,
		width:      width,
		value:      p.Slot,
		wantedRate: p.Follows.Rate.Slot,
		began:      began,
		rate:       began + 1,
		last:       began + 1 + width,
	}
}

// movesOn reports whether a motion surely was the same at the end of the tick before: it began earlier than that. It is
// asked of everything that moves, in every tick, and therefore looks at the entity's row alone.
//
// What a motion began with in the tick before is told with that tick's end; what was written before the sweep of this
// tick has begun one tick earlier as well. So only what began before both is sure.
func (m *movingSlots) movesOn(row []int64, tick int64) bool {
	if row[m.began] == 0 || row[m.began]-1 >= tick-1 {
		return false
	}
	for i := range m.width {
		if row[m.rate+i] != row[m.wantedRate+i] || row[m.last+i] != row[m.value+i] {
			return false
		}
	}
	return true
}

// equalsSlots reports whether slots hold a value that is made of numbers.
func equalsSlots(v contract.Value, slots []int64) bool {
	if len(v.Parts) == 0 {
		return v.Num == slots[0]
	}
	for i := range v.Parts {
		if v.Parts[i].Num != slots[i] {
			return false
		}
	}
	return true
}

// attachmentOf returns what a property is attached to now, or nil. It is nil also when not everyone who gets the
// property can compute it from that: then the value itself is sent.
func attachmentOf(w *world.World, e *world.Entity, p *contract.Property) *wire.Attached {
	if !p.Attaches() {
		return nil
	}
	f := p.Follows
	carrier := w.Entity(world.ID(e.Nums[f.Holder.Slot]))
	if carrier == nil {
		return nil
	}
	a := &wire.Attached{Ref: f.Holder.Name, Prop: f.To[carrier.Kind.Index].Name}
	for _, n := range f.By {
		a.By = append(a.By, math.Float64frombits(uint64(n)))
	}
	return a
}

// withMotion adds to a set of written properties those whose motion changes with them: they follow a rate or a carrier
// that was written, also when their own value is the same.
func withMotion(k *contract.Kind, properties uint64) uint64 {
	written := func(p *contract.Property) bool { return p != nil && properties&(1<<p.Index) != 0 }
	for i, p := range k.Properties {
		if f := p.Follows; f != nil && (written(f.Rate) || written(f.Holder)) {
			properties |= 1 << i
		}
	}
	return properties
}
