package replicate

import (
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
	"kamerad.example/core/world"
)

// ServerState tells those who run a session what the server holds: everything, each time that it changes. Nothing of it
// is ever meant for a client.
//
// While nobody watches it keeps only what could not be told later: a ref names an entity by its public number, also
// when the entity is gone.
type ServerState struct {
	key        [32]byte `checkpoint:"-"`
	world      *world.World
	unwatched  bool
	alwaysKept []uint64        // by kind: properties that refer to entities or are attached to one, as a bit set
	moving     [][]movingSlots // by kind: the properties that follow a rate
	clients    []wire.Client
	entities   map[world.ID]*serverEntity
	numbers    map[world.ID]uint32 // that were computed: computing one takes 12 hashes
	spawned    []*serverEntity     // in this tick
	changes    *wire.Block         // of this tick
}

// serverEntity is an entity as it was last told.
type serverEntity struct {
	number uint32
	entity *world.Entity
	owner  int
	fields []wire.Field // by property; nil until the entity is told
}

// NewServerState returns the state of a session whose world is empty. The key has to be that of the session's View:
// then entities have the same numbers.
func NewServerState(key [32]byte, w *world.World) *ServerState {
	s := &ServerState{
		key:      key,
		world:    w,
		entities: map[world.ID]*serverEntity{},
		numbers:  map[world.ID]uint32{},
		changes:  &wire.Block{},
	}
	for _, k := range w.Contract().Kinds {
		mask := uint64(0)
		var moving []movingSlots
		for _, p := range k.Properties {
			if p.Moves() {
				moving = append(moving, movingSlotsOf(p))
			}
			if p.Type.Has(contract.FormEntity) || p.Attaches() {
				mask |= 1 << p.Index
			}
		}
		s.alwaysKept = append(s.alwaysKept, mask)
		s.moving = append(s.moving, moving)
	}
	return s
}

// SetKey gives a state that was read from a checkpoint its key, which checkpoints leave out.
func (s *ServerState) SetKey(key [32]byte) { s.key = key }

// Watched reports whether EndTick returns what changed.
func (s *ServerState) Watched() bool { return !s.unwatched }

// SetWatched says whether EndTick is to return what changed. It does until SetWatched says otherwise.
func (s *ServerState) SetWatched(on bool) {
	if s.unwatched != on {
		return
	}
	s.unwatched = !on
	s.changes = &wire.Block{}
	if !on {
		return
	}
	for _, x := range s.entities {
		for i, p := range x.entity.Kind.Properties {
			if x.fields != nil && !s.keeps(p, x.entity.Kind) {
				x.fields[i] = s.field(x.entity, p)
			}
		}
	}
}

// keeps reports whether a property is followed also while nobody watches.
func (s *ServerState) keeps(p *contract.Property, k *contract.Kind) bool {
	return s.alwaysKept[k.Index]&(1<<p.Index) != 0
}

// AddClient adds a client, or gives one that is there another role.
func (s *ServerState) AddClient(c wire.Client) {
	i := slices.IndexFunc(s.clients, func(x wire.Client) bool { return x.Number == c.Number })
	if i >= 0 {
		s.clients[i] = c
	} else {
		s.clients = append(s.clients, c)
	}
	if !s.unwatched {
		s.changes.Joined = append(s.changes.Joined, c)
	}
}

// RemoveClient removes a client.
func (s *ServerState) RemoveClient(number int) {
	s.clients = slices.DeleteFunc(s.clients, func(c wire.Client) bool { return c.Number == number })
	if !s.unwatched {
		s.changes.Left = append(s.changes.Left, number)
	}
}

// AddEntity adds an entity. It is told with the values that it has when the tick ends.
func (s *ServerState) AddEntity(e *world.Entity) {
	x := &serverEntity{number: s.Number(e), entity: e, owner: e.Owner}
	s.entities[e.ID] = x
	s.spawned = append(s.spawned, x)
}

// RemoveEntity removes an entity that the world has despawned. One that came in this tick is never told.
func (s *ServerState) RemoveEntity(e *world.Entity) {
	x := s.entities[e.ID]
	delete(s.numbers, e.ID)
	if x == nil {
		return
	}
	delete(s.entities, e.ID)
	if x.fields == nil {
		s.spawned = slices.DeleteFunc(s.spawned, func(y *serverEntity) bool { return y == x })
		return
	}
	if !s.unwatched {
		s.changes.Gone = append(s.changes.Gone, x.number)
	}
}

// MarkOwnerChanged says that an entity may have another owner.
func (s *ServerState) MarkOwnerChanged(e *world.Entity) {
	x := s.entities[e.ID]
	if x == nil || x.fields == nil || x.owner == e.Owner {
		return
	}
	x.owner = e.Owner
	if !s.unwatched {
		s.changes.Owned = append(s.changes.Owned, wire.Owned{Entity: x.number, Owner: e.Owner})
	}
}

// MarkWritten says that properties of an entity may have changed. properties is a bit set over the kind's properties.
func (s *ServerState) MarkWritten(e *world.Entity, properties uint64) {
	properties = withMotion(e.Kind, properties)
	if s.unwatched {
		properties &= s.alwaysKept[e.Kind.Index]
	}
	for i := range s.moving[e.Kind.Index] {
		if m := &s.moving[e.Kind.Index][i]; properties&m.bit != 0 && m.movesOn(e.Nums, s.world.Tick) {
			properties &^= m.bit
		}
	}
	if properties == 0 {
		return
	}
	x := s.entities[e.ID]
	if x == nil || x.fields == nil {
		return
	}
	u := wire.Update{Entity: x.number, Kind: e.Kind.Name}
	for i, p := range e.Kind.Properties {
		if properties&(1<<i) == 0 {
			continue
		}
		if f := s.field(e, p); !f.Same(x.fields[i]) {
			x.fields[i] = f
			u.Fields = append(u.Fields, f)
		}
	}
	if u.Fields != nil && !s.unwatched {
		s.changes.Values = append(s.changes.Values, u)
	}
}

// field returns a property as it is now.
func (s *ServerState) field(e *world.Entity, p *contract.Property) wire.Field {
	return wire.Field{
		Name:     p.Name,
		Type:     p.Type,
		Value:    s.PublicRefs(p.Type, s.world.Value(e, p)),
		Motion:   motionOf(s.world, e, p),
		Attached: attachmentOf(s.world, e, p),
	}
}

// Spawn returns an entity as it is now.
func (s *ServerState) Spawn(e *world.Entity) wire.Spawn {
	out := wire.Spawn{
		Entity: s.Number(e),
		Kind:   e.Kind.Name,
		Owner:  e.Owner,
		Fields: make([]wire.Field, len(e.Kind.Properties)),
	}
	for i, p := range e.Kind.Properties {
		out.Fields[i] = s.field(e, p)
	}
	return out
}

// Number returns the number by which clients, and those who run the session, know an entity.
func (s *ServerState) Number(e *world.Entity) uint32 {
	n, known := s.numbers[e.ID]
	if !known {
		n = PublicNumber(s.key, e, len(s.world.Contract().Kinds))
		s.numbers[e.ID] = n
	}
	return n
}

// PublicRefs returns a value whose refs are the numbers that clients know entities by.
func (s *ServerState) PublicRefs(t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		if e := s.world.Entity(world.ID(id)); e != nil {
			return int64(s.Number(e))
		}
		return 0
	})
}

// Snapshot returns all that the server holds, as of the last EndTick.
func (s *ServerState) Snapshot() *wire.Block {
	out := &wire.Block{Joined: slices.Clone(s.clients)}
	for _, e := range s.world.Entities() {
		x := s.entities[e.ID]
		if x == nil || x.fields == nil {
			continue
		}
		spawn := x.spawn()
		for i, p := range e.Kind.Properties {
			if s.unwatched && !s.keeps(p, e.Kind) {
				spawn.Fields[i] = s.field(e, p)
			}
			if f := &spawn.Fields[i]; f.Attached != nil || f.Motion != nil { // where it is now
				f.Value = s.PublicRefs(p.Type, s.world.Value(e, p))
			}
		}
		out.Spawned = append(out.Spawned, spawn)
	}
	return out
}

// spawn returns an entity as it was last told.
func (x *serverEntity) spawn() wire.Spawn {
	return wire.Spawn{
		Entity: x.number,
		Kind:   x.entity.Kind.Name,
		Owner:  x.owner,
		Fields: slices.Clone(x.fields),
	}
}

// EndTick ends a tick and returns what changed in it; nil while nobody watches.
func (s *ServerState) EndTick() *wire.Block {
	for _, x := range s.spawned {
		properties := x.entity.Kind.Properties
		x.owner = x.entity.Owner
		x.fields = make([]wire.Field, len(properties)) // not nil, also without a property
		for i, p := range properties {
			if !s.unwatched || s.keeps(p, x.entity.Kind) {
				x.fields[i] = s.field(x.entity, p)
			}
		}
		if !s.unwatched {
			s.changes.Spawned = append(s.changes.Spawned, x.spawn())
		}
	}
	s.spawned = s.spawned[:0]
	if s.unwatched {
		return nil
	}
	out := s.changes
	s.changes = &wire.Block{Values: make([]wire.Update, 0, len(out.Values))}
	return out
}
