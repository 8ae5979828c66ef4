// Package replicate decides which client is sent what, and holds what a client makes of it: its copy.
//
// The server's side, the View, remembers what each audience was last sent. What changed in a tick is put into one block for
// everyone and one for each owner, so that the cost of a tick grows with changes plus clients.
package replicate

import (
	"slices"

	"kamerad/core/contract"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// View is what has been sent to the clients of one session. With Everything it is what the server itself holds, for those
// who run the session: then all goes into the shared block.
type View struct {
	Everything bool
	key        [32]byte
	clients    []wire.Client
	sent       map[world.ID]*sent
	byNumber   map[uint32]*world.Entity
	fresh      []*sent // spawned in this tick
	shared     *wire.Block
	private    map[int]*wire.Block
}

// sent is an entity as its audiences were last told.
type sent struct {
	number uint32
	entity *world.Entity
	values []contract.Value // by property; nil until it is first sent
}

// NewView makes the view of a session. The key hides how entities are numbered inside the server.
func NewView(key [32]byte) *View {
	return &View{key: key, sent: map[world.ID]*sent{}, byNumber: map[uint32]*world.Entity{}, shared: &wire.Block{}, private: map[int]*wire.Block{}}
}

// audience tells who gets a property of an entity: Everyone, Owner or Nobody.
func (v *View) audience(to contract.Audience) contract.Audience {
	if v.Everything {
		return contract.Everyone
	}
	return to
}

// block gives the block that goes to an audience, or nil when nobody gets it.
func (v *View) block(to contract.Audience, owner int) *wire.Block {
	switch {
	case to == contract.Everyone:
		return v.shared
	case to == contract.Owner && owner != 0:
		b := v.private[owner]
		if b == nil {
			b = &wire.Block{}
			v.private[owner] = b
		}
		return b
	}
	return nil
}

// Joined tells of a new client.
func (v *View) Joined(c wire.Client) {
	v.clients = append(v.clients, c)
	v.shared.Joined = append(v.shared.Joined, c)
}

// Left tells of a client that is gone.
func (v *View) Left(number int) {
	v.clients = slices.DeleteFunc(v.clients, func(c wire.Client) bool { return c.Number == number })
	v.shared.Left = append(v.shared.Left, number)
}

// Spawned tells of a new entity. It is sent with the values that it has when the tick is cut.
func (v *View) Spawned(e *world.Entity) {
	s := &sent{number: number(v.key, e.ID), entity: e}
	v.sent[e.ID] = s
	v.byNumber[s.number] = e
	v.fresh = append(v.fresh, s)
}

// announce puts a new entity into the blocks of those who may know of it.
func (v *View) announce(s *sent) {
	e := s.entity
	s.values = make([]contract.Value, 0, len(e.Kind.Properties)) // not nil, also without a property
	for _, p := range e.Kind.Properties {
		s.values = append(s.values, e.Value(p))
	}
	to := v.audience(e.Kind.To)
	b := v.block(to, e.Owner)
	if b == nil {
		return
	}
	b.Spawned = append(b.Spawned, s.spawn(v, func(p contract.Audience) bool { return p >= to }))
	if to != contract.Everyone {
		return
	}
	// What only the owner may have travels with the same frame, in the owner's own block.
	u := wire.Update{Entity: s.number, Kind: e.Kind.Name}
	for i, p := range e.Kind.Properties {
		if v.audience(p.To) == contract.Owner {
			u.Fields = append(u.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: s.values[i]})
		}
	}
	if own := v.block(contract.Owner, e.Owner); own != nil && u.Fields != nil {
		own.Values = append(own.Values, u)
	}
}

func (s *sent) spawn(v *View, may func(to contract.Audience) bool) wire.Spawn {
	out := wire.Spawn{Entity: s.number, Kind: s.entity.Kind.Name, Owner: s.entity.Owner}
	for i, p := range s.entity.Kind.Properties {
		if to := v.audience(p.To); to != contract.Nobody && may(to) {
			out.Fields = append(out.Fields, wire.Field{Name: p.Name, Type: p.Type, Value: s.values[i]})
		}
	}
	return out
}

// Despawned tells that an entity is gone.
func (v *View) Despawned(e *world.Entity) {
	s := v.sent[e.ID]
	if s == nil {
		return
	}
	delete(v.sent, e.ID)
	delete(v.byNumber, s.number)
	if s.values == nil {
		v.fresh = slices.DeleteFunc(v.fresh, func(x *sent) bool { return x == s })
		return // nobody was told of it
	}
	if b := v.block(v.audience(e.Kind.To), e.Owner); b != nil {
		b.Gone = append(b.Gone, s.number)
	}
}

// Written tells that properties of an entity may have changed, one bit each. A value that is what was last sent is not sent.
func (v *View) Written(e *world.Entity, properties uint64) {
	s := v.sent[e.ID]
	if s == nil || s.values == nil {
		return
	}
	var all, own []wire.Field
	for i, p := range e.Kind.Properties {
		to := v.audience(p.To)
		if properties&(1<<i) == 0 || to == contract.Nobody {
			continue
		}
		value := e.Value(p)
		if value.Equal(s.values[i]) {
			continue
		}
		s.values[i] = value
		f := wire.Field{Name: p.Name, Type: p.Type, Value: value}
		if to == contract.Everyone {
			all = append(all, f)
		} else {
			own = append(own, f)
		}
	}
	if all != nil {
		v.shared.Values = append(v.shared.Values, wire.Update{Entity: s.number, Kind: e.Kind.Name, Fields: all})
	}
	if b := v.block(contract.Owner, e.Owner); own != nil && b != nil {
		b.Values = append(b.Values, wire.Update{Entity: s.number, Kind: e.Kind.Name, Fields: own})
	}
}

// Snapshot gives a client all that it may have, as it was last sent: the blocks of the present tick fit on top of it. It has
// to be asked for before the tick's changes are told to the view.
func (v *View) Snapshot(client int) *wire.Block {
	b := &wire.Block{Joined: slices.Clone(v.clients)}
	ids := make([]world.ID, 0, len(v.sent))
	for id := range v.sent {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		s := v.sent[id]
		if s.values == nil {
			continue
		}
		may := func(to contract.Audience) bool {
			return to == contract.Everyone || to == contract.Owner && client != 0 && s.entity.Owner == client
		}
		if may(v.audience(s.entity.Kind.To)) {
			b.Spawned = append(b.Spawned, s.spawn(v, may))
		}
	}
	// By their public numbers: the order of spawning is the server's own.
	if !v.Everything {
		slices.SortFunc(b.Spawned, func(a, c wire.Spawn) int { return int(int64(a.Entity) - int64(c.Entity)) })
	}
	return b
}

// Cut ends a tick: it gives the block for everyone and those for single clients, and begins new ones.
func (v *View) Cut() (shared *wire.Block, private map[int]*wire.Block) {
	for _, s := range v.fresh {
		v.announce(s)
	}
	v.fresh = nil
	shared, private = v.shared, v.private
	v.shared, v.private = &wire.Block{}, map[int]*wire.Block{}
	return shared, private
}

// Entity finds an entity by the number that clients know it by, if this client may know of it; else nil.
func (v *View) Entity(client int, number uint32) *world.Entity {
	e := v.byNumber[number]
	if e == nil || e.Kind.To == contract.Nobody || e.Kind.To == contract.Owner && e.Owner != client {
		return nil
	}
	return e
}

// Number gives the number by which clients know an entity, 0 if none does.
func (v *View) Number(e *world.Entity) uint32 {
	if s := v.sent[e.ID]; s != nil {
		return s.number
	}
	return 0
}
