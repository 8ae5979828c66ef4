package replicate

import (
	"cmp"
	"math/bits"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// baseline is what was last sent of one entity, to whomever: all clients see the same values. The view owns it from
// AddEntity until the tick after the entity is gone.
//
// The fields that every tick looks at stand first, within two cache lines.
type baseline struct {
	plan           *kindPlan
	entity         *world.Entity
	number         uint32 // that clients know the entity by
	announced      bool   // clients can be told of it
	spawnedAndGone bool   // it came and went in one tick, and an event names it
	queues         queue
	epoch          int64         // the view's, when something was last sent
	changedMask    uint64        // properties that were sent then; only changedNow reads it
	deferredMask   uint64        // properties that changed and wait until they may be sent
	privateEntries *privateEntry // of clients that have something of it by themselves; the head of a list
	// of each property of the plan's deltaMask: what was last sent, then what was sent before
	values []int64

	// by property: when it was last sent; kept only for those that are rate-limited, or when bodies ask what was seen
	sentTick         []int64
	digests          []uint64 // by property: what it adds to the digest of who has it
	digestDeltas     []uint64 // by property: by how much this tick's change changes that
	placements       []placement
	entityDigest     uint64 // what the entity itself, with its owner, adds to the digest of who knows of it
	ownerDigestDelta uint64 // by how much another owner changed that in this tick
	owner            int
	fields           []wire.Field // by property: what was last sent of those outside of deltaMask
	exits            []placement  // the recipient sets that it left in this tick
	movedTick        int64        // when it last entered or left a recipient set
}

// queue is a set of the view's lists that an entity is in, so that it is in none of them twice.
type queue uint8

const (
	inOwnerChanged queue = 1 << iota
	inChanged
	inToCheck
)

// placement is where an entity stands in a recipient set.
type placement struct {
	set        *recipientSet
	lane, slot int
	since      int64 // the tick in which it entered
	isNew      bool  // it entered in this tick
}

// announce makes a new entity one that clients can be told of, with the values that it has now.
func (b *baseline) announce() {
	n := len(b.entity.Kind.Properties)
	digests := make([]uint64, 2*n)
	b.announced = true
	b.owner = b.entity.Owner
	b.values = make([]int64, b.plan.baselineWidth)
	b.sentTick = make([]int64, n)
	b.digests = digests[:n]
	b.digestDeltas = digests[n:]
	b.fields = make([]wire.Field, n)
	for _, p := range b.plan.sentProperties {
		b.update(p)
	}
	b.changedMask = 0 // they travel with the entity itself
	b.entityDigest = wire.DigestEntity(b.number, b.plan.outlineIndex, b.owner)
}

// isCurrent reports whether a property is what was last sent.
func (b *baseline) isCurrent(p *contract.Property) bool {
	if b.plan.deltaMask&(1<<p.Index) != 0 {
		now := b.plan.worldSlots[p.Index]
		sent := b.plan.baselineSlots[p.Index]
		return slices.Equal(b.values[sent.from:sent.to], b.entity.Nums[now.from:now.to])
	}
	sent := &b.fields[p.Index]
	if sent.Motion != nil && p.Moves() && continues(b.entity, p, sent.Motion) {
		return true
	}
	return b.currentField(p).Same(*sent)
}

// currentField returns a property as it is now.
func (b *baseline) currentField(p *contract.Property) wire.Field {
	v := b.plan.view
	return wire.Field{
		Name:     p.Name,
		Type:     p.Type,
		Value:    p.Type.Refs(v.world.Value(b.entity, p), v.publicID),
		Motion:   motionOf(v.world, b.entity, p),
		Attached: attachmentOf(v.world, b.entity, p),
	}
}

// update marks a property to be sent in this tick as it is now.
func (b *baseline) update(p *contract.Property) {
	v := b.plan.view
	bit := uint64(1) << p.Index
	if b.epoch != v.epoch {
		b.epoch = v.epoch
		b.changedMask = 0
	}
	if b.queues&inChanged == 0 && b.plan.sharedMask&bit != 0 {
		b.queues |= inChanged
		v.changed = append(v.changed, b)
	}
	b.deferredMask &^= bit
	b.changedMask |= bit
	if p.AtMost > 0 || v.tracksSent {
		b.sentTick[p.Index] = v.world.Tick
	}
	if b.plan.deltaMask&bit != 0 {
		now := b.plan.worldSlots[p.Index]
		sent := b.plan.baselineSlots[p.Index]
		values := b.values[sent.from:sent.to]
		copy(b.values[sent.to:], values)
		copy(values, b.entity.Nums[now.from:now.to])
	} else {
		b.fields[p.Index] = b.currentField(p)
	}
	if b.plan.lazyDigestMask&bit == 0 {
		before := b.digests[p.Index]
		b.digests[p.Index] = b.digest(p)
		b.digestDeltas[p.Index] = b.digests[p.Index] - before
	}
}

// digest returns what a property, as it was last sent, adds to the digest of who has it.
func (b *baseline) digest(p *contract.Property) uint64 {
	index := b.plan.outlineProperty[p.Index]
	switch {
	case p.Loose:
		return 0 // a client may have missed it
	case b.plan.deltaMask&(1<<p.Index) != 0:
		sent := b.plan.baselineSlots[p.Index]
		return wire.DigestSlots(b.number, index, b.values[sent.from:sent.to])
	}
	return b.fields[p.Index].Digest(b.number, index)
}

// changedNow returns the properties that are sent in this tick.
func (b *baseline) changedNow() uint64 {
	if b.epoch != b.plan.view.epoch {
		return 0
	}
	return b.changedMask
}

// markEntitySideChanged queues the entity for another check of its audiences.
func (b *baseline) markEntitySideChanged() {
	if b.queues&inToCheck == 0 {
		b.queues |= inToCheck
		v := b.plan.view
		v.entitiesToCheck = append(v.entitiesToCheck, b)
	}
}

// Number returns the number that clients know the entity by. With the four methods that follow it makes a baseline a
// wire.Item, from which groups read what they pack.
func (b *baseline) Number() uint32 { return b.number }

// Owner returns the number of the client that owns the entity, 0 for the server.
func (b *baseline) Owner() int { return b.owner }

// Field returns a property as it was last sent. index is its index within the outline.
func (b *baseline) Field(index int) wire.Field {
	p := b.plan.sentProperties[index]
	if b.plan.deltaMask&(1<<p.Index) != 0 {
		_, now := b.Slots(index)
		return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.FromSlots(now, nil)}
	}
	f := b.fields[p.Index]
	if f.Attached != nil { // where it is now, for when what it is attached to is gone
		f.Value = b.plan.view.world.Value(b.entity, p)
	}
	return f
}

// Slots returns a property of the plan's deltaMask as it was sent before this tick, and as it is sent now. index is its
// index within the outline. The slices are the baseline's own.
func (b *baseline) Slots(index int) (old, now []int64) {
	i := b.plan.sentProperties[index].Index
	sent := b.plan.baselineSlots[i]
	now = b.values[sent.from:sent.to]
	if b.changedNow()&(1<<i) == 0 {
		return now, now
	}
	return b.values[sent.to : 2*sent.to-sent.from], now
}

// SlotMoved notes that a group has given the entity another slot.
func (b *baseline) SlotMoved(g *wire.Group, lane, slot int) {
	for i := range b.placements {
		at := &b.placements[i]
		if at.set.group == g && at.lane == lane {
			at.slot = slot
		}
	}
}

// compareNumbers orders entities by the numbers that clients know them by: an order that tells a client nothing.
func compareNumbers(a, b *baseline) int { return cmp.Compare(a.number, b.number) }

// lowestBit returns the index of the lowest bit of a set that is not empty.
func lowestBit(set uint64) int { return bits.TrailingZeros64(set) }
