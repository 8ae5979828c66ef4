package replicate

import (
	"math"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// Truth tells those who run a session what the server itself holds: everything, each time that it changes. Nothing of it is ever
// meant for a client. While nobody watches, it keeps only what could not be told later: a ref goes on naming what is gone by the
// number that copies were told.
type Truth struct {
	key     [32]byte
	world   *world.World
	quiet   bool
	keeps   []uint64 // by kind: properties that name entities or are attached to one
	clients []wire.Client
	held    map[world.ID]*truth
	numbers map[world.ID]uint32 // they take a while to compute
	fresh   []*truth            // spawned in this tick
	block   *wire.Block
}

// truth is an entity as it was last told.
type truth struct {
	number uint32
	entity *world.Entity
	owner  int
	fields []wire.Field // by property; nil until it is told
}

// NewTruth makes the truth of a session. The key is that of its View: entities have the same numbers.
func NewTruth(key [32]byte, w *world.World) *Truth {
	v := &Truth{key: key, world: w, held: map[world.ID]*truth{}, numbers: map[world.ID]uint32{}, block: &wire.Block{}}
	for _, k := range w.Contract().Kinds {
		mask := uint64(0)
		for _, p := range k.Properties {
			if p.Type.Has(contract.FormEntity) || p.Attaches() {
				mask |= 1 << p.Index
			}
		}
		v.keeps = append(v.keeps, mask)
	}
	return v
}

// Watch tells whether Cut is to give what changes. It is, until Watch says otherwise.
func (v *Truth) Watch(on bool) {
	if v.quiet != on {
		return
	}
	v.quiet = !on
	v.block = &wire.Block{}
	if !on {
		return
	}
	for _, s := range v.held {
		for i, p := range s.entity.Kind.Properties {
			if s.fields != nil && v.keeps[s.entity.Kind.Index]&(1<<i) == 0 {
				s.fields[i] = v.field(s.entity, p)
			}
		}
	}
}

// Joined tells of a new client, or of one that has another role.
func (v *Truth) Joined(c wire.Client) {
	if i := slices.IndexFunc(v.clients, func(x wire.Client) bool { return x.Number == c.Number }); i >= 0 {
		v.clients[i] = c
	} else {
		v.clients = append(v.clients, c)
	}
	if !v.quiet {
		v.block.Joined = append(v.block.Joined, c)
	}
}

// Left tells of a client that is gone.
func (v *Truth) Left(number int) {
	v.clients = slices.DeleteFunc(v.clients, func(c wire.Client) bool { return c.Number == number })
	if !v.quiet {
		v.block.Left = append(v.block.Left, number)
	}
}

// Spawned tells of a new entity. It is told with the values that it has when the tick is cut.
func (v *Truth) Spawned(e *world.Entity) {
	s := &truth{number: v.Number(e), entity: e, owner: e.Owner}
	v.held[e.ID] = s
	v.fresh = append(v.fresh, s)
}

// Despawned tells that an entity is gone.
func (v *Truth) Despawned(e *world.Entity) {
	s := v.held[e.ID]
	delete(v.numbers, e.ID)
	if s == nil {
		return
	}
	delete(v.held, e.ID)
	if s.fields == nil {
		v.fresh = slices.DeleteFunc(v.fresh, func(x *truth) bool { return x == s })
		return // nobody was told of it
	}
	if !v.quiet {
		v.block.Gone = append(v.block.Gone, s.number)
	}
}

// Given tells that an entity may have another owner.
func (v *Truth) Given(e *world.Entity) {
	if s := v.held[e.ID]; s != nil && s.fields != nil && s.owner != e.Owner {
		if s.owner = e.Owner; !v.quiet {
			v.block.Owned = append(v.block.Owned, wire.Owned{Entity: s.number, Owner: e.Owner})
		}
	}
}

// Written tells that properties of an entity may have changed, one bit each.
func (v *Truth) Written(e *world.Entity, properties uint64) {
	if properties = moved(e.Kind, properties); v.quiet {
		properties &= v.keeps[e.Kind.Index]
	}
	if properties == 0 {
		return
	}
	s := v.held[e.ID]
	if s == nil || s.fields == nil {
		return
	}
	u := wire.Update{Entity: s.number, Kind: e.Kind.Name}
	for i, p := range e.Kind.Properties {
		if properties&(1<<i) == 0 {
			continue
		}
		if f := v.field(e, p); !f.Same(s.fields[i]) {
			s.fields[i] = f
			u.Fields = append(u.Fields, f)
		}
	}
	if u.Fields != nil && !v.quiet {
		v.block.Values = append(v.block.Values, u)
	}
}

// moved adds the properties whose motion may be another one: that of what follows another rate or holder, also where it stood.
func moved(k *contract.Kind, properties uint64) uint64 {
	for i, p := range k.Properties {
		if f := p.Follows; f != nil && (f.Rate != nil && properties&(1<<f.Rate.Index) != 0 || f.Holder != nil && properties&(1<<f.Holder.Index) != 0) {
			properties |= 1 << i
		}
	}
	return properties
}

func (v *Truth) field(e *world.Entity, p *contract.Property) wire.Field {
	return wire.Field{Name: p.Name, Type: p.Type, Value: v.Refs(p.Type, v.world.Value(e, p)), Motion: motion(v.world, e, p), Tied: tied(v.world, e, p)}
}

// Tell tells of an entity as it is now.
func (v *Truth) Tell(e *world.Entity) wire.Spawn {
	out := wire.Spawn{Entity: v.Number(e), Kind: e.Kind.Name, Owner: e.Owner, Fields: make([]wire.Field, len(e.Kind.Properties))}
	for i, p := range e.Kind.Properties {
		out.Fields[i] = v.field(e, p)
	}
	return out
}

// Number gives the number by which those who run the session, and clients, know an entity.
func (v *Truth) Number(e *world.Entity) uint32 {
	n, known := v.numbers[e.ID]
	if !known {
		n = number(v.key, e, len(v.world.Contract().Kinds))
		v.numbers[e.ID] = n
	}
	return n
}

// Refs gives a value with the numbers that entities have toward clients.
func (v *Truth) Refs(t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		if e := v.world.Entity(world.ID(id)); e != nil {
			return int64(v.Number(e))
		}
		return 0
	})
}

// tied says to what a property is attached now, or nil. Only what everyone has can be computed by everyone: else the value is sent.
func tied(w *world.World, e *world.Entity, p *contract.Property) *wire.Attached {
	if !p.Attaches() {
		return nil
	}
	f := p.Follows
	holder := w.Entity(world.ID(e.Nums[f.Holder.Slot]))
	if holder == nil {
		return nil
	}
	a := &wire.Attached{Ref: f.Holder.Name, Prop: f.To[holder.Kind.Index].Name}
	for _, n := range f.By {
		a.By = append(a.By, math.Float64frombits(uint64(n)))
	}
	return a
}

// motion gives the motion of a property that moves by a rate, or nil. It begins anew now when the property or its rate was
// written since it was last computed.
func motion(w *world.World, e *world.Entity, p *contract.Property) *wire.Motion {
	if !p.Moves() {
		return nil
	}
	f, n := p.Follows, p.Type.Width()
	began := f.Slot + n
	now, wanted := e.Nums[p.Slot:p.Slot+n], e.Nums[f.Rate.Slot:f.Rate.Slot+n]
	start, rate, made := e.Nums[f.Slot:began], e.Nums[began+1:began+1+n], e.Nums[began+1+n:began+1+2*n]
	m := &wire.Motion{RateType: f.Rate.Type, Rate: f.Rate.Type.FromSlots(wanted, nil), Ticks: w.Contract().TickRate}
	if e.Nums[began] != 0 && slices.Equal(rate, wanted) && slices.Equal(made, now) {
		m.From, m.At = p.Type.FromSlots(start, nil), e.Nums[began]-1
	} else {
		m.From, m.At = p.Type.FromSlots(now, nil), w.Tick
	}
	return m
}

// Snapshot gives all that the server holds, as of the last Cut.
func (v *Truth) Snapshot() *wire.Block {
	b := &wire.Block{Joined: slices.Clone(v.clients)}
	for _, e := range v.world.Entities() {
		s := v.held[e.ID]
		if s == nil || s.fields == nil {
			continue
		}
		out := wire.Spawn{Entity: s.number, Kind: e.Kind.Name, Owner: s.owner, Fields: slices.Clone(s.fields)}
		for i, p := range e.Kind.Properties {
			if v.quiet && v.keeps[e.Kind.Index]&(1<<i) == 0 {
				out.Fields[i] = v.field(e, p)
			}
			if f := &out.Fields[i]; f.Tied != nil || f.Motion != nil { // where it is now
				f.Value = v.Refs(p.Type, v.world.Value(e, p))
			}
		}
		b.Spawned = append(b.Spawned, out)
	}
	return b
}

// Cut ends a tick: it gives what changed, nothing while nobody watches.
func (v *Truth) Cut() *wire.Block {
	for _, s := range v.fresh {
		e := s.entity
		s.owner = e.Owner
		s.fields = make([]wire.Field, len(e.Kind.Properties)) // not nil, also without a property
		for i, p := range e.Kind.Properties {
			if !v.quiet || v.keeps[e.Kind.Index]&(1<<i) != 0 {
				s.fields[i] = v.field(e, p)
			}
		}
		if v.quiet {
			continue
		}
		v.block.Spawned = append(v.block.Spawned, wire.Spawn{Entity: s.number, Kind: e.Kind.Name, Owner: s.owner, Fields: slices.Clone(s.fields)})
	}
	if v.fresh = v.fresh[:0]; v.quiet {
		return nil
	}
	out := v.block
	v.block = &wire.Block{}
	return out
}
