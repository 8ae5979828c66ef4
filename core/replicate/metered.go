package replicate

import (
	"slices"

	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// waitFor puts an entry among those that wait. properties are those of it that changed.
func (m *meter) waitFor(entry *privateEntry, properties uint64) {
	s := entry.sent
	s.pending |= properties
	if !s.waits {
		s.waits = true
		m.waiting = append(m.waiting, entry)
	}
}

// release notes that the client may no longer have an entry.
func (m *meter) release(entry *privateEntry) {
	switch {
	case entry.sent.entered:
		entry.sent.since = entry.plan.view.world.Tick
		m.exiting = append(m.exiting, entry)
	case entry.entity.Gone:
		entry.sent.since = entry.plan.view.world.Tick // a message of this tick may bring it
		m.gone = append(m.gone, entry)
	}
}

// updateMeteredEntries brings up to date what metered clients may have: where its audiences, or the entities in them,
// are others than before. spawned are the entities that are sent for the first time with this tick.
func (v *View) updateMeteredEntries(spawned []*baseline) {
	if !v.hasLimits {
		return
	}
	for _, u := range v.viewers {
		if u.meter == nil {
			continue
		}
		u.meter.gone = u.meter.gone[:0]
		switch {
		case u.reset:
			for kind := range v.plans {
				if v.plans[kind].outlineIndex >= 0 {
					v.updateEntriesOfKind(u, kind)
				}
			}
		case u.queued && !u.unchanged:
			v.updateMeteredSets(u)
		}
		for _, list := range [][]*baseline{spawned, v.membershipChanged} {
			for _, b := range list {
				if b.plan.outlineIndex >= 0 && !b.entity.Gone {
					v.updateEntry(u, b)
				}
			}
		}
	}
}

// updateMeteredSets updates a client's entries when it is in other recipient sets than before. What is at their edge
// has been looked at already.
func (v *View) updateMeteredSets(u *viewer) {
	for i := len(u.entryList) - 1; i >= 0; i-- { // the last entry takes the place of one that is released
		if entry := u.entryList[i]; !entry.entity.Gone {
			v.updateEntry(u, entry.baseline)
		}
	}
	for _, s := range u.subscriptions {
		if !s.isNew {
			continue
		}
		for _, b := range s.set.entities {
			if !b.entity.Gone {
				v.updateEntry(u, b)
			}
		}
	}
}

// dropQuiet leaves among the entries that wait those of which there is something to send, and notes since when.
func (v *View) dropQuiet(u *viewer) {
	m := u.meter
	m.waiting = slices.DeleteFunc(m.waiting, func(entry *privateEntry) bool {
		s := entry.sent
		if entry.isReleased {
			return true
		}
		if !v.hasNews(u, entry) {
			s.waits = false
			s.since = 0
			return true
		}
		if s.since == 0 {
			s.since = v.world.Tick
		}
		return false
	})
}

// withdraw takes from the client what it may no longer have.
func (v *View) withdraw(u *viewer) {
	m := u.meter
	n := 0
	slices.SortFunc(m.exiting, compareEntries)
	for _, entry := range m.exiting {
		bound := u.private.SlotBound(entry.plan.outlineIndex, len(m.waiting))
		if !m.fits(bound) {
			break
		}
		m.spend(bound, true)
		n++
		v.exit(u, entry)
	}
	m.exiting = slices.Delete(m.exiting, 0, n)
	var losing []*privateEntry
	for _, entry := range m.waiting {
		if entry.sent.entered && entry.mask&^entry.nextMask != 0 {
			losing = append(losing, entry)
		}
	}
	slices.SortFunc(losing, compareEntries)
	for _, entry := range losing {
		bound := u.private.MaskBound(entry.plan.outlineIndex, len(m.waiting), entry, 0, v.world.Tick)
		if !m.fits(bound) {
			return
		}
		m.spend(bound, true)
		v.setMask(u, entry, entry.mask&entry.nextMask)
	}
}

// resendMetered sends once more what the client wrote itself and was not taken.
func (v *View) resendMetered(u *viewer) {
	m := u.meter
	for i, r := range m.resends {
		entry := u.entries[r.baseline.entity.ID]
		if entry == nil || !v.hasProperty(u, r.baseline, r.property) {
			continue
		}
		lane := entry.plan.outlineIndex
		index := entry.plan.outlineProperty[r.property.Index]
		bound := u.private.ResendBound(entry.baseline, lane, index, v.world.Tick)
		if !m.fits(bound) {
			m.resends = slices.Delete(m.resends, 0, i)
			return
		}
		m.spend(bound, true)
		u.private.Resend(entry, lane, index)
	}
	m.resends = m.resends[:0]
}

// setMask changes which properties of an entry the client has. Those that it gains are sent as they are now.
func (v *View) setMask(u *viewer, entry *privateEntry, mask uint64) {
	u.digest -= entry.sentDigest(entry.mask &^ mask)
	gained := mask &^ entry.mask
	for rest := gained; rest != 0; rest &= rest - 1 {
		v.take(u, entry, entry.plan.sentProperties[lowestBit(rest)])
	}
	entry.mask = mask
	u.digest += entry.sentDigest(gained)
	u.private.SetMask(entry.plan.outlineIndex, int(entry.slot), mask)
}

// exit takes an entity from the client.
func (v *View) exit(u *viewer, entry *privateEntry) {
	u.private.Exit(entry.plan.outlineIndex, int(entry.slot))
	u.droppedEntities = append(u.droppedEntities, entry.entity.ID)
	u.markForReset(v)
	u.digest -= entry.sentDigest(entry.mask) + entry.sent.digest
}

// entryBound returns what an entry that waits adds to the block at most.
func (v *View) entryBound(u *viewer, entry *privateEntry) int {
	p := entry.plan
	s := entry.sent
	lane := p.outlineIndex
	if !s.entered {
		return u.private.EnterBound(lane, entry.baseline, entry.nextMask, v.world.Tick)
	}
	more := len(u.meter.waiting)
	bound := 0
	if s.owner != entry.owner {
		bound += u.private.OwnerBound(lane, more, entry.owner)
	}
	if entry.mask != entry.nextMask {
		bound += u.private.MaskBound(lane, more, entry.baseline, entry.nextMask&^entry.mask, v.world.Tick)
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		index := p.outlineProperty[lowestBit(rest)]
		if index >= 0 && entry.mask&entry.nextMask&(1<<index) != 0 {
			bound += u.private.ChangeBound(lane, more, index, entry.baseline, v.world.Tick)
		}
	}
	return bound
}

// send puts all that waits of an entry into the client's block.
func (v *View) send(u *viewer, entry *privateEntry) {
	p := entry.plan
	s := entry.sent
	lane := p.outlineIndex
	s.since = 0
	if !s.entered {
		s.entered = true
		entry.since = v.world.Tick
		for rest := entry.nextMask; rest != 0; rest &= rest - 1 {
			v.take(u, entry, p.sentProperties[lowestBit(rest)])
		}
		s.owner = entry.owner
		s.digest = wire.DigestEntity(entry.number, lane, s.owner)
		s.pending = 0
		entry.mask = entry.nextMask
		entry.slot = int32(u.private.Enter(lane, entry, entry.whole, entry.mask))
		u.digest += s.digest + entry.sentDigest(entry.mask)
		return
	}
	if s.owner != entry.owner {
		s.owner = entry.owner
		u.digest -= s.digest
		s.digest = wire.DigestEntity(entry.number, lane, s.owner)
		u.digest += s.digest
		u.private.SetOwner(lane, int(entry.slot))
	}
	had := entry.mask & entry.nextMask
	if entry.mask != entry.nextMask {
		v.setMask(u, entry, entry.nextMask)
	}
	for rest := s.pending; rest != 0; rest &= rest - 1 {
		i := lowestBit(rest)
		index := p.outlineProperty[i]
		if index < 0 || had&(1<<index) == 0 {
			continue
		}
		u.digest -= s.digests[i]
		v.take(u, entry, entry.entity.Kind.Properties[i])
		u.digest += s.digests[i]
		u.private.Change(lane, int(entry.slot), index, entry)
	}
	s.pending = 0
}

// knows reports whether a metered client has been told of an entity, by its frame of this tick or before.
func (m *meter) knows(u *viewer, id world.ID) bool {
	if entry := u.entries[id]; entry != nil && entry.sent.entered || slices.Contains(u.droppedEntities, id) {
		return true
	}
	return slices.ContainsFunc(m.exiting, func(entry *privateEntry) bool { return entry.entity.ID == id })
}

// meteredSnapshot is Snapshot for a metered client: what it has been sent, which is all that it may have once nothing
// waits.
func (v *View) meteredSnapshot(u *viewer) *wire.Block {
	out := &wire.Block{}
	for _, x := range v.viewers {
		if _, isTold := u.meter.told[x.number]; isTold {
			out.Joined = append(out.Joined, x.client)
		}
	}
	entries := append(slices.Clone(u.entryList), u.meter.exiting...)
	slices.SortFunc(entries, compareEntries)
	for _, entry := range entries {
		if !entry.sent.entered {
			continue
		}
		spawn := wire.Spawn{Entity: entry.number, Kind: entry.entity.Kind.Name, Owner: entry.sent.owner}
		for rest := entry.mask; rest != 0; rest &= rest - 1 {
			spawn.Fields = append(spawn.Fields, entry.Field(lowestBit(rest)))
		}
		out.Spawned = append(out.Spawned, spawn)
	}
	return out
}
