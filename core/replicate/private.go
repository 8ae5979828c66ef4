package replicate

import (
	"cmp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// privateEntry is an entity of which one client has something by itself, outside of recipient sets. It is in two lists
// at once: that of its viewer, and that of its entity.
//
// The fields that every tick looks at stand first, within two cache lines.
type privateEntry struct {
	*baseline
	viewer       *viewer
	nextChanged  *privateEntry // of the viewer's entries with something new in this tick
	nextOfEntity *privateEntry // of the entries of this entity
	mask         uint64        // properties that the client has by itself, by their index within the outline
	nextMask     uint64        // the same from the end of this tick on
	slot         int32         // in the viewer's private group
	listIndex    int32         // in the viewer's entryList
	whole        bool          // the client knows of the entity by this entry; else it has properties only
	isNew        bool          // it came in this tick
	isListed     bool          // it is among the viewer's changedEntries
	isReleased   bool
	isMetered    bool // the client has a limit of bytes, and sent says what it was sent

	// by index within the outline: values without the refs that the client may not know
	maskedFields     map[int]wire.Field
	maskedDigests    map[int]uint64 // what these add to its digest
	previousOfEntity *privateEntry
	sent             *sentState // of a metered client; nil for others, who have what was sent last to whomever
	since            int64      // the tick in which it came
	maskSince        int64      // the tick in which the client came to have other properties of it
	_                [16]byte   // makes its size one for which Go's allocator begins at a cache line
}

// Field returns a property as this client may have it. index is its index within the outline.
func (entry *privateEntry) Field(index int) wire.Field {
	if entry.isMetered {
		return entry.sent.field(entry.baseline, index)
	}
	if f, ok := entry.maskedFields[index]; ok {
		return f
	}
	return entry.baseline.Field(index)
}

// Owner returns the number of the client that owns the entity, as this client is sent it.
func (entry *privateEntry) Owner() int {
	if entry.isMetered {
		return entry.sent.owner
	}
	return entry.baseline.Owner()
}

// Slots returns a property as this client had it, and as it is sent to it now. index is its index within the outline.
func (entry *privateEntry) Slots(index int) (old, now []int64) {
	if entry.isMetered {
		return entry.sent.slots(entry.baseline, index)
	}
	return entry.baseline.Slots(index)
}

// markChanged notes that there is something new of the entry.
func (entry *privateEntry) markChanged() {
	if entry.isMetered {
		entry.viewer.meter.waitFor(entry, entry.changedNow())
		return
	}
	if !entry.isListed {
		entry.isListed = true
		entry.nextChanged = entry.viewer.changedEntries
		entry.viewer.changedEntries = entry
		entry.viewer.markToPack(entry.plan.view)
	}
}

// unlink removes the entry from the list of its entity.
func (entry *privateEntry) unlink() {
	entry.isReleased = true
	if entry.previousOfEntity != nil {
		entry.previousOfEntity.nextOfEntity = entry.nextOfEntity
	} else {
		entry.privateEntries = entry.nextOfEntity
	}
	if entry.nextOfEntity != nil {
		entry.nextOfEntity.previousOfEntity = entry.previousOfEntity
	}
	entry.previousOfEntity = nil
	entry.nextOfEntity = nil
}

// digestBefore returns what properties of the entry added to the client's digest before this tick. mask is a set over
// their indices within the outline.
func (entry *privateEntry) digestBefore(mask uint64) (sum uint64) {
	for ; mask != 0; mask &= mask - 1 {
		index := lowestBit(mask)
		if digest, isMasked := entry.maskedDigests[index]; isMasked {
			sum += digest
			continue
		}
		i := entry.plan.sentProperties[index].Index
		if entry.plan.lazyDigestMask&(1<<i) != 0 {
			continue
		}
		sum += entry.digests[i]
		if entry.changedNow()&(1<<i) != 0 {
			sum -= entry.digestDeltas[i]
		}
	}
	return sum
}

// updatePrivateEntries brings up to date what each client has by itself. spawned are the entities that are sent for the
// first time with this tick.
func (v *View) updatePrivateEntries(spawned []*baseline) {
	for kind := range v.plans {
		p := &v.plans[kind]
		if p.outlineIndex < 0 || !p.hasPrivateParts() {
			continue
		}
		if p.perClient {
			for _, u := range v.viewers {
				v.updateEntriesOfKind(u, kind)
			}
			continue
		}
		v.updateEntriesOfChecked(p, kind)
		if p.toOwner {
			v.updateEntriesOfOwners(p, spawned)
		}
	}
	v.updateEdgeEntries()
	v.updateMeteredEntries(spawned)
	for _, b := range spawned {
		if b.entity.Gone {
			v.addGoneToEntries(b)
		}
	}
	for _, u := range v.viewersChecked {
		u.reset = false
	}
	v.enterNewEntries()
	for _, b := range v.despawned {
		for b.privateEntries != nil {
			v.releaseEntry(b.privateEntries)
		}
	}
}

// hasPrivateParts reports whether clients may have something of the kind by themselves.
func (p *kindPlan) hasPrivateParts() bool { return p.perClient || p.toOwner || p.byDistance }

// updateEntriesOfKind updates a client's entries of all entities of a kind, which is given by its index.
func (v *View) updateEntriesOfKind(u *viewer, kind int) {
	for _, e := range v.world.OfKind(kind) {
		v.updateEntry(u, v.baselineOf(e))
	}
}

// updateEntriesOfChecked updates the entries of a kind of those clients whose audiences were checked in this tick.
func (v *View) updateEntriesOfChecked(p *kindPlan, kind int) {
	for _, u := range v.viewersChecked {
		if u.reset {
			v.updateEntriesOfKind(u, kind)
		} else if p.byDistance && !v.entitySidesVolatile && !u.unchanged {
			v.updateNearbyEntries(u, p)
		}
	}
	if p.byDistance && v.entitySidesVolatile {
		for _, u := range v.viewers {
			if !u.reset {
				v.updateNearbyEntries(u, p)
			}
		}
	}
}

// updateEntriesOfOwners updates what owners have of a kind by themselves, where the owner is a new one.
func (v *View) updateEntriesOfOwners(p *kindPlan, spawned []*baseline) {
	for _, b := range spawned {
		if b.plan == p {
			v.updateEntryOf(b, b.owner)
		}
	}
	for _, b := range v.ownerChanged {
		if b.plan != p {
			continue
		}
		for entry := b.privateEntries; entry != nil; {
			next := entry.nextOfEntity // the entry may be released
			v.updateEntry(entry.viewer, b)
			entry = next
		}
		v.updateEntryOf(b, b.owner)
	}
}

// updateEntryOf updates what one client has of an entity, if there is such a client.
func (v *View) updateEntryOf(b *baseline, client int) {
	if u := v.viewer(client); u != nil {
		v.updateEntry(u, b)
	}
}

// updateNearbyEntries updates a client's entries at the edge of its view: those of entities that are there now, and
// those of entities that were there before.
func (v *View) updateNearbyEntries(u *viewer, p *kindPlan) {
	for i := len(u.entryList) - 1; i >= 0; i-- { // the last entry takes the place of one that is released
		if entry := u.entryList[i]; entry.plan == p && !entry.entity.Gone {
			v.updateEntry(u, entry.baseline)
		}
	}
	for _, set := range u.edgeSets {
		for _, b := range set.entities {
			if b.plan == p {
				v.updateEntry(u, b)
			}
		}
	}
}

// updateEdgeEntries looks at the entities whose side may have changed: who has one by itself may lose it, and who has
// it at the edge of its view may get it.
func (v *View) updateEdgeEntries() {
	if v.entitySidesVolatile {
		return // updateEntriesOfChecked has looked at all of them
	}
	isAtEdges := func(b *baseline) bool { return b.plan.byDistance && !b.plan.perClient && b.plan.outlineIndex >= 0 }
	some := false
	for _, b := range v.entitiesToCheck {
		if !isAtEdges(b) {
			continue
		}
		some = true
		for entry := b.privateEntries; entry != nil && !b.entity.Gone; {
			next := entry.nextOfEntity // the entry may be released
			u := entry.viewer
			if b.movedTick == v.world.Tick || len(u.edgeSets) > 0 || u.queued && !u.unchanged {
				v.updateEntry(u, b)
			}
			entry = next
		}
	}
	if !some {
		return
	}
	for _, u := range v.viewers {
		for _, set := range u.edgeSets {
			if set.checkedTick != v.world.Tick {
				continue
			}
			for _, b := range set.toCheck {
				if b.plan.byDistance && !b.plan.perClient && !b.entity.Gone {
					v.updateEntry(u, b)
				}
			}
		}
	}
}

// addGoneToEntries gives an entity that came and went in this tick to every client that may know of it by itself.
func (v *View) addGoneToEntries(b *baseline) {
	for _, u := range v.viewers {
		if b.plan.hasPrivateParts() || u.meter != nil {
			v.updateEntry(u, b)
		}
		if u.meter == nil {
			v.addSpawnedAndGone(u, b)
		}
	}
}

// addSpawnedAndGone gives a client an entity by itself that came and went in the very tick in which the client came
// to the set that would have told of it: a client that comes to a set is sent what is in it at the end of the tick.
func (v *View) addSpawnedAndGone(u *viewer, b *baseline) {
	whole := false
	mask := uint64(0)
	for _, x := range b.exits {
		cameToSet := func(s subscription) bool { return s.set == x.set && s.isNew }
		if !slices.ContainsFunc(u.subscriptions, cameToSet) {
			continue
		}
		whole = whole || x.set.audience.Lanes[x.lane].Whole
		for rest := x.set.audience.laneMask[x.lane]; rest != 0; rest &= rest - 1 {
			mask |= 1 << b.plan.outlineProperty[lowestBit(rest)]
		}
	}
	if !whole || u.entries[b.entity.ID] != nil || u.waitsForSnapshot {
		return
	}
	v.addEntry(u, &privateEntry{
		baseline: b,
		whole:    whole,
		isNew:    true,
		nextMask: mask,
	})
}

// enterNewEntries gives the new entries of this tick their slots, by the numbers of their entities.
func (v *View) enterNewEntries() {
	for _, u := range v.viewersWithNewEntries {
		slices.SortFunc(u.newEntries, func(a, b *privateEntry) int { return cmp.Compare(a.number, b.number) })
		for _, entry := range u.newEntries {
			slot := u.private.Enter(entry.plan.outlineIndex, entry, entry.whole, entry.nextMask)
			entry.slot = int32(slot)
		}
		u.newEntries = u.newEntries[:0]
	}
	v.viewersWithNewEntries = v.viewersWithNewEntries[:0]
}

// updateEntry brings up to date what a client has of an entity by itself.
func (v *View) updateEntry(u *viewer, b *baseline) {
	if u.waitsForSnapshot {
		return
	}
	entry := u.entries[b.entity.ID]
	whole, mask := v.neededEntry(u, b)
	needed := whole || mask != 0
	if entry != nil && (entry.whole != whole || !needed) {
		v.releaseEntry(entry)
		entry = nil
	}
	if !needed {
		return
	}
	if entry == nil {
		entry = &privateEntry{baseline: b, whole: whole, isNew: true}
		v.addEntry(u, entry)
	}
	if mask != entry.nextMask {
		entry.maskSince = v.world.Tick
	}
	entry.nextMask = mask
	if u.meter != nil {
		if mask != entry.mask {
			u.meter.waitFor(entry, 0)
		}
		return
	}
	if mask != entry.mask && !entry.isNew {
		u.private.SetMask(entry.plan.outlineIndex, int(entry.slot), mask)
		entry.markChanged()
	}
}

// neededEntry returns what a client has to have of an entity by itself: whether it is told of the entity that way, and
// a set of properties by their indices within the outline.
func (v *View) neededEntry(u *viewer, b *baseline) (whole bool, mask uint64) {
	p := b.plan
	sees := func() bool { return v.rules.Sees(b.entity, u.number) }
	gets, alone := v.reaches(u, b, p.Reach, p.Whole, sees)
	whole = gets && alone
	if !gets {
		return false, 0
	}
	for i, index := range p.outlineProperty {
		if index < 0 {
			continue
		}
		x := &p.Properties[i]
		property := b.entity.Kind.Properties[i]
		getsProperty := func() bool { return v.rules.Gets(b.entity, property, u.number) }
		switch {
		case x.With:
			gets = whole
		case x.Asked:
			gets = getsProperty()
		default:
			gets, alone = v.reaches(u, b, x.Reach, x.Group, getsProperty)
			gets = gets && alone
		}
		if gets {
			mask |= 1 << index
		}
	}
	return whole, mask
}

// reaches reports whether a client gets something of an entity and, if so, whether it does alone instead of by a
// recipient set. group is the index of the audience that it may have it by; ask decides where the audience does not.
func (v *View) reaches(u *viewer, b *baseline, r contract.Reach, group int, ask func() bool) (gets, alone bool) {
	role := uint64(1) << u.role
	switch {
	case r.Yes&role != 0:
		return true, u.meter != nil
	case r.Maybe&role == 0:
		return false, false
	case r.Term == contract.ByOwner:
		return b.entity.Owner == u.number && u.number != 0, true
	case r.Term == contract.ByAudience:
		inOneOf := func(such func(set *recipientSet) bool) bool {
			return slices.ContainsFunc(b.placements, func(x placement) bool {
				return x.set.audience.index == group && such(x.set)
			})
		}
		if inOneOf(u.isIn) {
			return true, u.meter != nil
		}
		if !v.audiences[group].byDistance {
			return false, false
		}
		isEdge := func(set *recipientSet) bool { return slices.Contains(u.edgeSets, set) }
		if !b.entity.Gone && !inOneOf(isEdge) {
			return false, false // it is neither within the radius nor in a set that the radius cuts
		}
	}
	return ask(), true
}

// addEntry gives a client an entry.
func (v *View) addEntry(u *viewer, entry *privateEntry) {
	entry.viewer = u
	entry.since = v.world.Tick
	entry.listIndex = int32(len(u.entryList))
	entry.nextOfEntity = entry.privateEntries
	if entry.nextOfEntity != nil {
		entry.nextOfEntity.previousOfEntity = entry
	}
	entry.privateEntries = entry
	v.privateEntries++
	u.entryList = append(u.entryList, entry)
	u.entries[entry.entity.ID] = entry
	if u.meter != nil {
		entry.isMetered = true
		entry.sent = newSentState(entry.baseline)
		v.meteredMemory += entry.entity.Kind.MeteredMemory()
		u.meter.waitFor(entry, 0)
		return
	}
	if len(u.newEntries) == 0 {
		v.viewersWithNewEntries = append(v.viewersWithNewEntries, u)
	}
	u.newEntries = append(u.newEntries, entry)
	entry.markChanged()
}

// releaseEntry takes an entry from its client.
func (v *View) releaseEntry(entry *privateEntry) {
	u := entry.viewer
	entry.unlink()
	v.privateEntries--
	delete(u.entries, entry.entity.ID)
	last := u.entryList[len(u.entryList)-1]
	u.entryList[entry.listIndex] = last
	last.listIndex = entry.listIndex
	u.entryList = u.entryList[:len(u.entryList)-1]
	if u.meter != nil {
		v.meteredMemory -= entry.entity.Kind.MeteredMemory()
		u.meter.release(entry)
		return
	}
	u.private.Exit(entry.plan.outlineIndex, int(entry.slot))
	u.markToPack(v)
	if entry.whole {
		u.droppedEntities = append(u.droppedEntities, entry.entity.ID)
		u.markForReset(v)
	}
	if entry.isNew {
		return // the digest does not know of it yet
	}
	u.digest -= entry.digestBefore(entry.mask)
	if entry.whole {
		u.digest -= entry.entityDigest - entry.ownerDigestDelta
	}
}

// recordEntryChanges tells a client's private group what is new of its entries.
func (v *View) recordEntryChanges(u *viewer) {
	u.toPack = false
	for entry := u.changedEntries; entry != nil; {
		entry.isListed = false
		if !entry.isReleased {
			v.recordEntryChange(u, entry)
			entry.isNew = false
		}
		next := entry.nextChanged
		entry.nextChanged = nil
		entry = next
	}
	u.changedEntries = nil
}

// recordEntryChange tells a client's private group what is new of one entry.
func (v *View) recordEntryChange(u *viewer, entry *privateEntry) {
	sent := entry.changedNow()
	p := entry.plan
	if sent == 0 && entry.ownerDigestDelta == 0 && !entry.isNew && entry.nextMask == entry.mask && !p.masksRefs {
		return
	}
	switch {
	case !entry.whole:
	case entry.isNew:
		u.digest += entry.entityDigest
	case entry.ownerDigestDelta != 0:
		u.private.SetOwner(p.outlineIndex, int(entry.slot))
		u.digest += entry.ownerDigestDelta
	}
	before := entry.mask
	if lost := before &^ entry.nextMask; lost != 0 {
		u.digest -= entry.digestBefore(lost)
		for rest := lost; rest != 0; rest &= rest - 1 {
			delete(entry.maskedFields, lowestBit(rest))
			delete(entry.maskedDigests, lowestBit(rest))
		}
	}
	entry.mask = entry.nextMask
	candidates := entry.mask
	if before == entry.mask && !p.masksRefs {
		candidates &= p.outlineMask(sent)
	}
	for rest := candidates; rest != 0; rest &= rest - 1 {
		index := lowestBit(rest)
		property := p.sentProperties[index]
		hadIt := before&(1<<index) != 0
		if p.Properties[property.Index].Hides {
			v.updateMasked(u, entry, index, property, hadIt)
			continue
		}
		counts := p.lazyDigestMask&(1<<property.Index) == 0
		switch {
		case !hadIt:
			if counts {
				u.digest += entry.digests[property.Index]
			}
		case sent&(1<<property.Index) != 0:
			u.private.Change(p.outlineIndex, int(entry.slot), index, entry)
			if counts {
				u.digest += entry.digestDeltas[property.Index]
			}
		}
	}
}

// withoutHidden returns a property's value without the refs to entities that a client does not know of, or may not. A
// metered client may be on its way to know one.
func (v *View) withoutHidden(u *viewer, p *contract.Property, value contract.Value) contract.Value {
	return p.Type.Refs(value, func(number int64) int64 {
		e := v.entityByNumber[uint32(number)]
		knows := e != nil
		if knows && u.meter != nil {
			knows = u.entries[e.ID] != nil
		} else if knows {
			knows = v.KnownNumber(u.number, e.ID) != 0
		}
		if knows && v.rules.Sees(e, u.number) {
			return number
		}
		return 0
	})
}

// updateMasked brings a property up to date whose value may refer to entities that the client may not know of. index is
// the property's index within the outline; hadIt says that the client had the property before this tick.
func (v *View) updateMasked(u *viewer, entry *privateEntry, index int, p *contract.Property, hadIt bool) {
	f := entry.baseline.fields[p.Index]
	f.Value = v.withoutHidden(u, p, f.Value)
	old, wasMasked := entry.maskedFields[index]
	if wasMasked && old.Same(f) {
		return
	}
	if entry.maskedFields == nil {
		entry.maskedFields = map[int]wire.Field{}
		entry.maskedDigests = map[int]uint64{}
	}
	entry.maskedFields[index] = f
	digest := f.Digest(entry.number, index)
	if p.Loose {
		digest = 0
	}
	u.digest += digest - entry.maskedDigests[index]
	entry.maskedDigests[index] = digest
	if hadIt && wasMasked {
		u.private.Change(entry.plan.outlineIndex, int(entry.slot), index, entry)
	}
}
