package replicate

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// EndTick decides who gets what of a tick, and packs what clients share. FrameParts then returns each client's share;
// AcceptFrames has to follow before the next tick.
func (v *View) EndTick() {
	v.forgetLastTick()
	v.updateDeferred()
	spawned := v.announceSpawned()
	v.updateOwners()
	for _, b := range v.ownerChanged {
		b.markEntitySideChanged()
	}
	v.placeEntities(spawned)
	for _, b := range spawned {
		b.markEntitySideChanged()
	}
	v.updateSubscriptions()
	v.updatePrivateEntries(spawned)
	v.recordChanges()
	v.packShared()
}

// forgetLastTick drops what held for the last EndTick alone.
func (v *View) forgetLastTick() {
	for _, b := range v.forgotten {
		delete(v.baselines, b.entity.ID)
	}
	v.forgotten = v.forgotten[:0]
	for _, b := range v.membershipChanged {
		b.exits = b.exits[:0]
		for i := range b.placements {
			b.placements[i].isNew = false
		}
	}
	v.membershipChanged = v.membershipChanged[:0]
	for _, u := range v.viewersToReset {
		u.leftSets = u.leftSets[:0]
		u.leftHandles = u.leftHandles[:0]
		u.droppedEntities = u.droppedEntities[:0]
		u.toReset = false
		for i := range u.subscriptions {
			u.subscriptions[i].isNew = false
		}
	}
	v.viewersToReset = v.viewersToReset[:0]
}

// updateDeferred takes over the changes that had to wait and may be sent now. It goes by the entities' numbers: the
// order in which they came to wait may follow from what some clients may not know.
func (v *View) updateDeferred() {
	waiting := v.rateLimited
	v.rateLimited = nil
	slices.SortFunc(waiting, compareNumbers)
	for _, b := range waiting {
		if deferred := b.deferredMask; deferred != 0 && !b.entity.Gone {
			b.deferredMask = 0
			v.MarkWritten(b.entity, deferred)
		}
	}
}

// announceSpawned makes the new entities ones that clients can be told of, and returns them. One that is gone already
// is left out unless an event names it.
func (v *View) announceSpawned() []*baseline {
	spawned := slices.DeleteFunc(v.spawned, func(b *baseline) bool {
		if b.entity.Gone && !b.spawnedAndGone {
			delete(v.baselines, b.entity.ID)
			return true
		}
		return false
	})
	for _, b := range spawned {
		b.announce()
		if b.entity.Gone {
			v.despawned = append(v.despawned, b)
		}
	}
	return spawned
}

// updateOwners takes over the owners of this tick.
func (v *View) updateOwners() {
	for _, b := range v.ownerChanged {
		if b.owner == b.entity.Owner {
			continue
		}
		b.owner = b.entity.Owner
		before := b.entityDigest
		b.entityDigest = wire.DigestEntity(b.number, b.plan.outlineIndex, b.owner)
		b.ownerDigestDelta = b.entityDigest - before
	}
}

// recordChanges tells the groups what changed of the entities that were in them before.
func (v *View) recordChanges() {
	for _, b := range v.ownerChanged {
		if b.ownerDigestDelta != 0 && !b.entity.Gone {
			v.recordOwner(b)
		}
	}
	for _, b := range v.changed {
		b.queues &^= inChanged
		if !b.entity.Gone && b.changedMask != 0 {
			b.recordProperties()
		}
	}
	if v.masksRefs { // which entities a client may know of may be others than before
		for _, u := range v.viewers {
			for _, entry := range u.entryList {
				if entry.plan.masksRefs {
					entry.markChanged()
				}
			}
		}
	}
	for _, r := range v.resends {
		v.recordResend(r)
	}
	v.resends = v.resends[:0]
}

// recordOwner tells all who know of an entity that it has another owner.
func (v *View) recordOwner(b *baseline) {
	for _, at := range b.placements {
		if !at.isNew && at.set.audience.Lanes[at.lane].Whole {
			at.set.group.SetOwner(at.lane, at.slot)
			at.set.digest += b.ownerDigestDelta
		}
	}
	for entry := b.privateEntries; entry != nil; entry = entry.nextOfEntity {
		entry.markChanged()
	}
}

// recordProperties tells the recipient sets that an entity is in which of its properties changed.
func (b *baseline) recordProperties() {
	for i := range b.placements {
		at := &b.placements[i]
		if at.isNew {
			continue
		}
		a := at.set.audience
		for rest := a.laneMask[at.lane] & b.changedMask; rest != 0; rest &= rest - 1 {
			property := lowestBit(rest)
			at.set.group.Change(at.lane, at.slot, a.laneProperty[at.lane][property], b)
			at.set.digest += b.digestDeltas[property]
		}
	}
}

// recordResend marks the value of a property to be sent to a client once more, when it gets the property at all.
func (v *View) recordResend(r resend) {
	u := v.viewer(r.client)
	if u == nil || r.baseline.entity.Gone {
		return
	}
	if u.meter != nil {
		if !slices.Contains(u.meter.resends, r) { // a client that takes nothing may go on writing
			u.meter.resends = append(u.meter.resends, r)
		}
		return
	}
	if !v.hasProperty(u, r.baseline, r.property) {
		return
	}
	u.markToPack(v)
	var item wire.Item = r.baseline
	if entry := u.entries[r.baseline.entity.ID]; entry != nil {
		item = entry
	}
	plan := r.baseline.plan
	u.private.Resend(item, plan.outlineIndex, plan.outlineProperty[r.property.Index])
}

// packShared packs what several clients are sent.
func (v *View) packShared() {
	for _, a := range v.audiences {
		if a.fixed != nil {
			a.fixed.pack(v.world.Tick)
		}
		for _, set := range a.sets {
			set.pack(v.world.Tick)
		}
	}
	if v.hasLimits {
		v.noteRosters()
	}
	v.roster = nil
	if len(v.joined)+len(v.left) > 0 {
		v.roster = wire.PackRoster(v.outline, v.joined, v.left)
	}
	v.joined = v.joined[:0]
	v.left = v.left[:0]
}

// FrameParts puts what a client gets of the last EndTick into out, and reports whether that is anything. A client that
// was sent nothing yet gets a snapshot. What out refers to holds until the next call.
func (v *View) FrameParts(client int, out *wire.Parts) bool {
	u := v.viewer(client)
	if u.meter != nil {
		return v.meteredParts(u, out)
	}
	out.Snapshot = u.needsSnapshot
	out.Blocks = out.Blocks[:0]
	out.Roster = v.roster
	for _, handle := range u.leftHandles {
		out.Blocks = append(out.Blocks, wire.Leave(handle))
	}
	for i := range u.subscriptions {
		s := &u.subscriptions[i]
		switch set := s.set; {
		case s.isNew:
			if set.snapshot == nil {
				set.group.Restart()
				set.snapshot = set.group.Snapshot(v.world.Tick)
			}
			out.Blocks = append(out.Blocks, wire.Enter(int(s.handle), set.audience.index, set.snapshot))
		case set.block != nil:
			out.Blocks = append(out.Blocks, wire.Change(int(s.handle), set.block))
		}
	}
	if u.toPack {
		v.recordEntryChanges(u)
		if block := u.private.Pack(v.world.Tick); block != nil {
			out.Blocks = append(out.Blocks, wire.Change(0, block))
		}
	}
	if u.needsSnapshot {
		var all []wire.Client
		for _, x := range v.viewers {
			all = append(all, x.client)
		}
		out.Roster = wire.PackRoster(v.outline, all, nil)
		u.needsSnapshot = false
	}
	return out.Snapshot || len(out.Blocks) > 0 || out.Roster != nil
}

// AcceptFrames makes what was sent the base of the next tick, once FrameParts was called for every client that is sent
// a frame. A client that is not has to get a snapshot with its next frame.
func (v *View) AcceptFrames() {
	for _, u := range v.viewersToPack {
		if u.toPack { // FrameParts was not called for it
			v.recordEntryChanges(u)
			u.private.Drop()
		}
	}
	v.viewersToPack = v.viewersToPack[:0]
	v.epoch++
	for _, b := range v.ownerChanged {
		b.ownerDigestDelta = 0
		b.queues &^= inOwnerChanged
	}
	v.changed = v.changed[:0]
	v.ownerChanged = v.ownerChanged[:0]
	v.spawned = v.spawned[:0]
	v.forgotten, v.despawned = v.despawned, v.forgotten
	for _, b := range v.entitiesToCheck {
		b.queues &^= inToCheck
	}
	v.entitiesToCheck = v.entitiesToCheck[:0]
	for _, u := range v.viewersChecked {
		u.queued = false
		if u.reset { // it was restarted after EndTick
			u.markChanged(v)
		}
	}
}

// Digest returns the digest of all that a client holds once it has applied its share of the last EndTick. FrameParts
// has to have been called for it.
func (v *View) Digest(client int) uint32 {
	u := v.viewer(client)
	if u.meter != nil {
		return uint32(u.meter.rosterDigest + u.digest)
	}
	sum := v.rosterDigest + u.digest
	for _, s := range u.subscriptions {
		sum += s.set.digest
	}
	for _, entry := range u.entryList {
		for rest := entry.mask; rest != 0; rest &= rest - 1 {
			p := entry.plan.sentProperties[lowestBit(rest)]
			if entry.plan.lazyDigestMask&(1<<p.Index) != 0 {
				sum += entry.baseline.digest(p)
			}
		}
	}
	return uint32(sum)
}

// Reader returns a reader of a client's frames from the next one on. tick is that of its last frame, settled that up to
// which the client has confirmed.
func (v *View) Reader(client int, tick, settled int64) *wire.Reader {
	u := v.viewer(client)
	groups := map[int]*wire.Group{0: u.private}
	audiences := map[int]int{}
	for _, s := range u.subscriptions {
		if u.meter != nil {
			break // it is sent nothing by them
		}
		groups[int(s.handle)] = s.set.group
		audiences[int(s.handle)] = s.set.audience.index
	}
	return wire.Resume(v.layout, tick, settled, groups, audiences)
}

// Snapshot returns all that a client holds once it has applied its share of the last EndTick, computed anew from the
// world: tests hold copies against it.
func (v *View) Snapshot(client int) *wire.Block {
	out := &wire.Block{}
	u := v.viewer(client)
	if u == nil {
		return out
	}
	if u.meter != nil {
		return v.meteredSnapshot(u)
	}
	for _, x := range v.viewers {
		out.Joined = append(out.Joined, x.client)
	}
	var known []*baseline
	for _, b := range v.baselines {
		if b.announced && !b.entity.Gone && v.KnownNumber(client, b.entity.ID) != 0 && !v.lostEntity(u, b) {
			known = append(known, b)
		}
	}
	slices.SortFunc(known, compareNumbers)
	for _, b := range known {
		spawn := wire.Spawn{Entity: b.number, Kind: b.entity.Kind.Name, Owner: b.owner}
		for index, p := range b.plan.sentProperties {
			if !v.hasProperty(u, b, p) {
				continue
			}
			f := b.Field(index)
			if entry := u.entries[b.entity.ID]; entry != nil {
				f = entry.Field(index)
			}
			spawn.Fields = append(spawn.Fields, f)
		}
		out.Spawned = append(out.Spawned, spawn)
	}
	return out
}

// hasProperty reports whether a client has a property with the last EndTick.
func (v *View) hasProperty(u *viewer, b *baseline, p *contract.Property) bool {
	index := b.plan.outlineProperty[p.Index]
	if index < 0 {
		return false
	}
	entry := u.entries[b.entity.ID]
	if u.meter != nil {
		return entry != nil && entry.sent.entered && entry.mask&(1<<index) != 0
	}
	if entry != nil && entry.nextMask&(1<<index) != 0 {
		return true
	}
	return slices.ContainsFunc(b.placements, func(x placement) bool {
		return x.set.audience.laneMask[x.lane]&(1<<p.Index) != 0 && u.isIn(x.set)
	})
}

// lostEntity reports whether the last EndTick took an entity from a client.
func (v *View) lostEntity(u *viewer, b *baseline) bool {
	if entry := u.entries[b.entity.ID]; entry != nil && entry.whole {
		return false
	}
	return !slices.ContainsFunc(b.placements, func(x placement) bool {
		return x.set.audience.Lanes[x.lane].Whole && u.isIn(x.set)
	})
}
