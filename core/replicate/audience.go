package replicate

import (
	"cmp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/rules"
	"kamerad.example/core/wire"
)

// audience is a group of the outline with its recipient sets: everyone of a role, or whoever an audience of the
// contract holds for.
type audience struct {
	*contract.Group
	index int
	fixed *recipientSet            // of a group that some role always gets; else nil
	sets  map[setKey]*recipientSet // of a group that is decided by comparing sides

	// By lane: which properties the lane has.
	laneProperty [][]int // by property: its index within the lane, or -1
	laneMask     []uint64

	// Of an audience that compares distances.
	byDistance bool
	dimensions int     // of the places that it compares
	radius     float64 // as of the last EndTick
	cellSize   float64

	viewerReads    []uint64 // by kind: properties of a client's own entities that its side reads
	viewerVolatile bool     // the client's side may change without anything being written
	entityVolatile bool     // the entity's side may
	version        int      // grows when a set becomes empty or is no longer empty, and with the radius
}

// setKey is what the members of a recipient set have in common: equal keys and, when distances count, the cell that
// the entities are in.
type setKey struct {
	values [4]int64
	cell   [3]int64
}

// recipientSet is a set of clients and of entities: all of the clients get what its audience may have of all of the
// entities.
type recipientSet struct {
	audience *audience
	key      setKey
	group    *wire.Group
	members  int // clients
	entities []*baseline
	entering []pendingEntry
	digest   uint64 // what its entities add to the digest of each client in it
	block    []byte // the changes of this tick, packed; nil for none
	snapshot []byte // all of it, packed in this tick for who has just come; nil until one has

	checkedTick int64 // when entities of it were last checked
	toCheck     []*baseline
}

// pendingEntry is an entity that enters a set with this tick. Entries are sorted before they get their slots.
type pendingEntry struct {
	baseline *baseline
	lane     int
}

// newRecipientSet returns a set without clients, for those of an audience that a key tells apart.
func (v *View) newRecipientSet(a *audience, key setKey) *recipientSet {
	return &recipientSet{audience: a, key: key, group: wire.NewGroup(v.layout, a.index)}
}

// newAudience makes the audience of a group, and notes in the plans and the view what it needs of them.
func (v *View) newAudience(index int, group *contract.Group) *audience {
	a := &audience{Group: group, index: index, sets: map[setKey]*recipientSet{}}
	if group.Aud != nil {
		v.addReads(a)
		_, a.byDistance = v.rules.Splits(group.Aud)
		if a.byDistance {
			a.dimensions = group.Aud.Split().At[0].Value.Type.Width()
		}
	}
	for i, lane := range group.Lanes {
		indices := make([]int, len(lane.Kind.Properties))
		mask := uint64(0)
		for j, property := range lane.Kind.Properties {
			indices[j] = slices.Index(lane.Properties, property)
			if indices[j] >= 0 {
				mask |= 1 << j
			}
		}
		a.laneProperty = append(a.laneProperty, indices)
		a.laneMask = append(a.laneMask, mask)
		plan := &v.plans[lane.Kind.Index]
		plan.sharedMask |= mask
		plan.lanes = append(plan.lanes, laneRef{index, i})
	}
	if group.Yes != 0 {
		a.fixed = v.newRecipientSet(a, setKey{})
	}
	return a
}

// addReads notes what the two sides of an audience read.
func (v *View) addReads(a *audience) {
	split := a.Aud.Split()
	if split == nil {
		return
	}
	reads := split.Reads()
	viewer := reads[0]
	entity := reads[1]
	a.viewerVolatile = viewer.All
	a.entityVolatile = entity.All
	a.viewerReads = make([]uint64, len(v.plans))
	for kind, mask := range viewer.Own {
		a.viewerReads[kind.Index] = mask
		v.viewerReads[kind.Index] |= mask
	}
	for kind, mask := range entity.Own {
		v.entityReads[kind.Index] |= mask
	}
	for _, side := range reads {
		for kind, mask := range side.Shared {
			v.sharedReads[kind.Index] |= mask
		}
	}
	v.viewerSidesVolatile = v.viewerSidesVolatile || viewer.All
	v.entitySidesVolatile = v.entitySidesVolatile || viewer.All || entity.All
}

// placeEntities brings every entity into the recipient sets that it belongs to. spawned are the entities that are sent
// for the first time with this tick.
func (v *View) placeEntities(spawned []*baseline) {
	for _, b := range spawned {
		for _, at := range b.plan.lanes {
			if a := v.audiences[at.audience]; a.fixed != nil {
				v.enterSet(b, a.fixed, at.lane)
			}
		}
	}
	for _, a := range v.audiences {
		if a.Term == contract.ByAudience {
			v.placeInAudience(a, spawned)
		}
	}
	v.checkAllEntities = false
	v.exitDespawned()
	// The order in which entities came to enter is the server's own; admitEntering replaces it by that of their
	// numbers.
	for _, a := range v.audiences {
		if a.fixed != nil {
			v.admitEntering(a.fixed)
		}
		for _, set := range a.sets {
			v.admitEntering(set)
		}
	}
	v.exitDespawned() // an entity that came and went in this tick leaves once it is in
}

// placeInAudience places the entities whose side of an audience may have changed.
func (v *View) placeInAudience(a *audience, spawned []*baseline) {
	all := v.checkAllEntities || a.entityVolatile
	if a.byDistance && v.updateRadius(a) {
		all = true
	}
	for i, lane := range a.Lanes {
		if all {
			for _, e := range v.world.OfKind(lane.Kind.Index) {
				v.placeEntity(a, i, v.baselineOf(e))
			}
			continue
		}
		for _, b := range v.entitiesToCheck {
			if b.entity.Kind == lane.Kind && !b.entity.Gone {
				v.placeEntity(a, i, b)
			}
		}
	}
	for _, b := range spawned { // one that came and went in this tick is in none of the world's lists
		ofKind := func(lane *contract.Lane) bool { return lane.Kind == b.entity.Kind }
		if i := slices.IndexFunc(a.Lanes, ofKind); i >= 0 && (!all || b.entity.Gone) {
			v.placeEntity(a, i, b)
		}
	}
}

// updateRadius computes the audience's radius anew, and reports whether it is another one than before.
func (v *View) updateRadius(a *audience) bool {
	radius, _ := v.rules.Radius(a.Aud)
	if radius == a.radius && a.cellSize != 0 {
		return false
	}
	a.radius = radius
	a.cellSize = max(radius/cellsPerRadius, minCellSize)
	a.version++
	v.setsChanged = true
	return true
}

// placeEntity brings an entity into the recipient set of its side of an audience, or out of all of them when the side
// cannot be computed.
func (v *View) placeEntity(a *audience, lane int, b *baseline) {
	at := slices.IndexFunc(b.placements, func(x placement) bool {
		return x.set.audience == a && x.lane == lane && x.set != a.fixed
	})
	var side rules.Side
	var key setKey
	computed := v.rules.Subject(a.Aud, b.entity, &side)
	if computed {
		key.values = side.Keys
		if a.byDistance {
			key.cell = a.cellOf(side.At)
			if at >= 0 {
				old := b.placements[at].set.key
				if old.values == key.values && a.staysInCell(old.cell, side.At) {
					key.cell = old.cell
				}
			}
		}
	}
	if at >= 0 {
		if computed && b.placements[at].set.key == key {
			return
		}
		v.exitSet(b, at)
	}
	if computed {
		set := a.sets[key]
		if set == nil {
			set = v.newRecipientSet(a, key)
			a.sets[key] = set
		}
		v.enterSet(b, set, lane)
	}
}

// enterSet marks an entity to enter a set with the next admitEntering.
func (v *View) enterSet(b *baseline, set *recipientSet, lane int) {
	if len(set.entities) == 0 {
		v.markSetsChanged(set.audience)
	}
	set.entering = append(set.entering, pendingEntry{b, lane})
	set.entities = append(set.entities, b)
}

// markSetsChanged notes that a set of an audience became empty, or is no longer empty: clients may belong to others.
func (v *View) markSetsChanged(a *audience) {
	v.setsChanged = true
	a.version++
}

// admitEntering gives the entities that enter a set their slots, in the order of their numbers.
func (v *View) admitEntering(set *recipientSet) {
	if len(set.entering) == 0 {
		return
	}
	slices.SortFunc(set.entering, func(a, b pendingEntry) int {
		return cmp.Compare(a.baseline.number, b.baseline.number)
	})
	for _, entry := range set.entering {
		b := entry.baseline
		slot := set.group.Enter(entry.lane, b, false, 0)
		b.placements = append(b.placements, placement{set, entry.lane, slot, v.world.Tick, true})
		b.movedTick = v.world.Tick
		v.membershipChanged = append(v.membershipChanged, b)
		set.digest += set.digestOf(b, entry.lane, true)
	}
	set.entering = set.entering[:0]
}

// exitDespawned removes the entities that are gone from their sets.
func (v *View) exitDespawned() {
	for _, b := range v.despawned {
		for len(b.placements) > 0 {
			v.exitSet(b, len(b.placements)-1)
		}
	}
}

// exitSet removes an entity from a set. at is an index of its placements.
func (v *View) exitSet(b *baseline, at int) {
	x := b.placements[at]
	x.set.group.Exit(x.lane, x.slot)
	x.set.digest -= x.set.digestOf(b, x.lane, x.isNew)
	if i := slices.Index(x.set.entities, b); i >= 0 {
		x.set.entities = slices.Delete(x.set.entities, i, i+1)
	}
	if len(x.set.entities) == 0 {
		v.markSetsChanged(x.set.audience)
	}
	b.exits = append(b.exits, x)
	b.movedTick = v.world.Tick
	b.placements = slices.Delete(b.placements, at, at+1)
	v.membershipChanged = append(v.membershipChanged, b)
}

// digestOf returns what an entity adds to the digest of a set: with the changes of this tick, or without them.
func (set *recipientSet) digestOf(b *baseline, lane int, withChanges bool) (sum uint64) {
	if set.audience.Lanes[lane].Whole {
		sum = b.entityDigest
		if !withChanges {
			sum -= b.ownerDigestDelta
		}
	}
	for rest := set.audience.laneMask[lane]; rest != 0; rest &= rest - 1 {
		i := lowestBit(rest)
		sum += b.digests[i]
		if !withChanges && b.changedNow()&(1<<i) != 0 {
			sum -= b.digestDeltas[i]
		}
	}
	return sum
}

// pack packs the changes of this tick for the clients in the set, or drops them when there is none.
func (set *recipientSet) pack(tick int64) {
	set.snapshot = nil
	set.block = nil
	if set.members == 0 {
		set.group.Drop()
	} else {
		set.block = set.group.Pack(tick)
	}
}

// removeEmptySets forgets the sets that have neither entities nor clients.
func (v *View) removeEmptySets() {
	for _, a := range v.audiences {
		for key, set := range a.sets {
			if len(set.entities) == 0 && set.members == 0 {
				delete(a.sets, key)
			}
		}
	}
}
