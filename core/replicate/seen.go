package replicate

import (
	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// HasSeen reports whether a client that has confirmed a tick knows of an entity by that or, with a property, has its
// value as it is now. What the last EndTick sent is what may have been confirmed. It is never true too early, and may
// be some ticks late where a client gets an entity by itself.
func (v *View) HasSeen(client int, e *world.Entity, p *contract.Property, confirmed int64) bool {
	u := v.viewer(client)
	b := v.baselineOf(e)
	if u == nil || b == nil || !b.announced || u.needsSnapshot {
		return false
	}
	if p == nil {
		since, knows := v.knownSince(u, b)
		return knows && since <= confirmed
	}
	if b.plan.outlineProperty[p.Index] < 0 || !b.isCurrent(p) {
		return false
	}
	since, has := v.hasSince(u, b, p)
	return has && since <= confirmed && b.sentTick[p.Index] <= confirmed
}

// knownSince returns the tick with which a client was told of an entity, and false when it does not know of it.
func (v *View) knownSince(u *viewer, b *baseline) (tick int64, knows bool) {
	if entry := u.entries[b.entity.ID]; entry != nil && entry.whole {
		return entry.since, entry.sent == nil || entry.sent.entered
	}
	return u.sinceBy(b, func(at *placement) bool { return at.set.audience.Lanes[at.lane].Whole })
}

// hasSince returns the tick with which a client was told of a property of an entity, or of its last change, and false
// when it does not have it.
func (v *View) hasSince(u *viewer, b *baseline, p *contract.Property) (tick int64, has bool) {
	index := b.plan.outlineProperty[p.Index]
	if entry := u.entries[b.entity.ID]; entry != nil && entry.mask&(1<<index) != 0 {
		if s := entry.sent; s != nil {
			return s.ticks[p.Index], s.entered && s.pending&(1<<p.Index) == 0 && v.isSent(u, entry, p)
		}
		return entry.maskSince, true
	}
	return u.sinceBy(b, func(at *placement) bool { return at.set.audience.laneMask[at.lane]&(1<<p.Index) != 0 })
}

// sinceBy returns since when a viewer and an entity are both in a set that carries something, and false when in none.
func (u *viewer) sinceBy(b *baseline, carries func(at *placement) bool) (tick int64, found bool) {
	if u.meter != nil {
		return 0, false // it is sent nothing by sets
	}
	for i := range b.placements {
		at := &b.placements[i]
		if !carries(at) {
			continue
		}
		for j := range u.subscriptions {
			if s := &u.subscriptions[j]; s.set == at.set {
				if since := max(s.since, at.since); !found || since < tick {
					tick = since
				}
				found = true
			}
		}
	}
	return tick, found
}
