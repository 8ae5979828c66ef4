package replicate

import (
	"cmp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// sentState is what a metered client has been sent of an entity.
type sentState struct {
	waits   bool  // it is among the meter's waiting
	entered bool  // the client has it
	since   int64 // the tick since which something of it waits; 0 when nothing does
	pending uint64
	// by property, like a baseline's
	values  []int64
	fields  []wire.Field
	digests []uint64
	ticks   []int64 // when it was last sent; only when bodies ask what was seen
	owner   int
	digest  uint64 // of the entity itself

	changed      uint64 // properties that are sent with this tick
	changedEpoch int64  // the view's, for which changed holds
}

// newSentState returns the state of a new entry: nothing of it has been sent.
func newSentState(b *baseline) *sentState {
	n := len(b.entity.Kind.Properties)
	s := &sentState{
		values:       make([]int64, b.plan.baselineWidth),
		digests:      make([]uint64, n),
		changedEpoch: -1,
	}
	if b.plan.view.tracksSent {
		s.ticks = make([]int64, n)
	}
	if b.plan.visibleMask&^b.plan.deltaMask != 0 {
		s.fields = make([]wire.Field, n)
	}
	return s
}

// field returns a property as the client has it. index is its index within the outline.
func (s *sentState) field(b *baseline, index int) wire.Field {
	p := b.plan.sentProperties[index]
	if b.plan.deltaMask&(1<<p.Index) != 0 {
		at := b.plan.baselineSlots[p.Index]
		return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.FromSlots(s.values[at.from:at.to], nil)}
	}
	f := s.fields[p.Index]
	if f.Attached != nil && !b.entity.Gone { // where it is now, for when what it is attached to is gone
		f.Value = b.plan.view.world.Value(b.entity, p)
	}
	return f
}

// slots returns a property of the plan's deltaMask as the client had it, and as it is sent to it now.
func (s *sentState) slots(b *baseline, index int) (old, now []int64) {
	i := b.plan.sentProperties[index].Index
	at := b.plan.baselineSlots[i]
	now = s.values[at.from:at.to]
	if s.changedEpoch != b.plan.view.epoch || s.changed&(1<<i) == 0 {
		return now, now
	}
	return s.values[at.to : 2*at.to-at.from], now
}

// compareEntries orders entries by the numbers that clients know their entities by.
func compareEntries(a, b *privateEntry) int { return cmp.Compare(a.number, b.number) }

// hasNews reports whether there is something of an entry that its client has not been sent.
func (v *View) hasNews(u *viewer, entry *privateEntry) bool {
	s := entry.sent
	if !s.entered {
		return true
	}
	p := entry.plan
	if p.masksRefs { // whom the client knows may be others than before
		for i := range p.Properties {
			if p.Properties[i].Hides {
				s.pending |= 1 << i
			}
		}
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		i := lowestBit(rest)
		index := p.outlineProperty[i]
		if index < 0 || entry.mask&(1<<index) == 0 || v.isSent(u, entry, entry.entity.Kind.Properties[i]) {
			s.pending &^= 1 << i
		}
	}
	return s.pending != 0 || s.owner != entry.owner || entry.mask != entry.nextMask
}

// isSent reports whether a property is what the client has been sent.
func (v *View) isSent(u *viewer, entry *privateEntry, p *contract.Property) bool {
	if entry.plan.deltaMask&(1<<p.Index) != 0 {
		at := entry.plan.baselineSlots[p.Index]
		return slices.Equal(entry.sent.values[at.from:at.to], entry.values[at.from:at.to])
	}
	return v.fieldFor(u, entry, p).Same(entry.sent.fields[p.Index])
}

// fieldFor returns a property, one outside of the plan's deltaMask, as a client may have it.
func (v *View) fieldFor(u *viewer, entry *privateEntry, p *contract.Property) wire.Field {
	f := entry.baseline.fields[p.Index]
	if entry.plan.Properties[p.Index].Hides {
		f.Value = v.withoutHidden(u, p, f.Value)
	}
	return f
}

// mayHave reports whether the client may have a property of the entry.
func (entry *privateEntry) mayHave(p *contract.Property) bool {
	return entry.nextMask&(1<<entry.plan.outlineProperty[p.Index]) != 0
}

// sentDigest returns what properties of the entry add to the client's digest. mask is a set over their indices within
// the outline.
func (entry *privateEntry) sentDigest(mask uint64) (sum uint64) {
	for ; mask != 0; mask &= mask - 1 {
		sum += entry.sent.digests[entry.plan.sentProperties[lowestBit(mask)].Index]
	}
	return sum
}

// take makes what a property is now what the client has been sent of it.
func (v *View) take(u *viewer, entry *privateEntry, p *contract.Property) {
	s := entry.sent
	bit := uint64(1) << p.Index
	if s.changedEpoch != v.epoch {
		s.changedEpoch = v.epoch
		s.changed = 0
	}
	s.changed |= bit
	if s.ticks != nil {
		s.ticks[p.Index] = v.world.Tick
	}
	s.pending &^= bit
	index := entry.plan.outlineProperty[p.Index]
	if entry.plan.deltaMask&bit != 0 {
		at := entry.plan.baselineSlots[p.Index]
		copy(s.values[at.to:], s.values[at.from:at.to])
		copy(s.values[at.from:at.to], entry.values[at.from:at.to])
		if !p.Loose {
			s.digests[p.Index] = wire.DigestSlots(entry.number, index, s.values[at.from:at.to])
		}
		return
	}
	s.fields[p.Index] = v.fieldFor(u, entry, p)
	if !p.Loose {
		s.digests[p.Index] = s.fields[p.Index].Digest(entry.number, index)
	}
}
