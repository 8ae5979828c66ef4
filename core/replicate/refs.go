package replicate

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Entity returns the entity that clients know by a number, if this client may know of it at this moment; else nil.
func (v *View) Entity(client int, number uint32) *world.Entity {
	e := v.entityByNumber[number]
	if e == nil || e.Gone || !v.rules.Sees(e, client) {
		return nil
	}
	return e
}

// Number returns the number by which clients know an entity.
func (v *View) Number(e *world.Entity) uint32 {
	if b := v.baselines[e.ID]; b != nil {
		return b.number
	}
	return PublicNumber(v.key, e, len(v.plans))
}

// PublicRefs returns a value whose refs are the numbers that clients know entities by, whoever may know of them.
func (v *View) PublicRefs(t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, v.publicID)
}

// publicID returns the number by which clients know the entity with an ID of the world; 0 when it is gone.
func (v *View) publicID(id int64) int64 {
	if e := v.world.Entity(world.ID(id)); e != nil {
		return int64(v.Number(e))
	}
	return 0
}

// RefsFor returns a value as one client may have it at this moment: a ref is a public number, or nothing when the
// client may not know of the entity.
func (v *View) RefsFor(client int, t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		if e := v.world.Entity(world.ID(id)); e != nil && v.rules.Sees(e, client) {
			return int64(v.Number(e))
		}
		return 0
	})
}

// RefsInFrame returns a value as it travels with the last EndTick: a ref is a public number, or nothing when the client
// does not know the entity then.
func (v *View) RefsInFrame(client int, t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		return int64(v.KnownNumber(client, world.ID(id)))
	})
}

// KnownNumber returns the public number of an entity when the client knows of it with the last EndTick, or loses it
// with that; else 0.
func (v *View) KnownNumber(client int, id world.ID) uint32 {
	u := v.viewer(client)
	b := v.baselines[id]
	if u == nil || b == nil {
		return 0
	}
	if u.meter != nil {
		if u.meter.knows(u, id) {
			return b.number
		}
		return 0
	}
	if entry := u.entries[id]; entry != nil && entry.whole || slices.Contains(u.droppedEntities, id) {
		return b.number
	}
	if slices.ContainsFunc(b.placements, func(x placement) bool { return u.knowsBy(x, false) }) ||
		slices.ContainsFunc(b.exits, func(x placement) bool { return u.knowsBy(x, true) }) {
		return b.number
	}
	return 0
}

// knowsBy reports whether a viewer knows of an entity by its place in a set. hasExited says that the entity left that
// place in this tick: then a viewer that came to the set in this tick has not been told of it.
func (u *viewer) knowsBy(x placement, hasExited bool) bool {
	if !x.set.audience.Lanes[x.lane].Whole {
		return false
	}
	if !x.isNew && slices.Contains(u.leftSets, x.set) {
		return true
	}
	return slices.ContainsFunc(u.subscriptions, func(s subscription) bool {
		return s.set == x.set && !(hasExited && s.isNew)
	})
}
