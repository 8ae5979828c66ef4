package replicate

import (
	"cmp"
	"slices"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Copy is what a client holds: a function of the frames that it was given, and of nothing else. The zero value is an
// empty copy. Entities that it returns are its own: they change with the next Apply.
type Copy struct {
	Tick        int64 // of the last frame
	Me          int   // the number of the client whose copy it is; 0 when that does not matter
	Clients     []wire.Client
	OmitChanges bool // Apply returns no FieldChanged notices; set by who does not read them
	// OmitMotion leaves what changes with time alone at the value that it came with, until Advance: for who keeps many
	// copies and looks at few.
	OmitMotion bool
	entities   map[uint32]*Entity
	hasMotion  bool // some property may change with time alone
}

// Entity is an entity as a client knows it.
type Entity struct {
	Number uint32 // stays the same for as long as the entity exists, and is the same for all clients
	Kind   string
	Owner  int          // the owner's number, 0 for the server
	Fields []wire.Field // those that the client has, in the order in which they came
}

// Ownership says whose an entity is, seen from the client that holds the copy.
type Ownership string

// The values of Ownership.
const (
	OwnedByMe     Ownership = "own"
	OwnedByOther  Ownership = "other"
	OwnedByServer Ownership = "server"
)

// Field returns a property as it came. ok is false when the client does not have it.
func (e *Entity) Field(name string) (f wire.Field, ok bool) {
	if i := e.fieldIndex(name); i >= 0 {
		return e.Fields[i], true
	}
	return wire.Field{}, false
}

// fieldIndex returns the index of a property in Fields, or -1.
func (e *Entity) fieldIndex(name string) int {
	for i := range e.Fields {
		if e.Fields[i].Name == name {
			return i
		}
	}
	return -1
}

// Value returns a property's value at the copy's tick. ok is false when the client does not have it.
func (e *Entity) Value(name string) (v contract.Value, ok bool) {
	f, ok := e.Field(name)
	return f.Value, ok
}

// Ownership returns whose an entity is.
func (c *Copy) Ownership(e *Entity) Ownership {
	switch e.Owner {
	case 0:
		return OwnedByServer
	case c.Me:
		return OwnedByMe
	}
	return OwnedByOther
}

// Entity returns the entity with a number, or nil.
func (c *Copy) Entity(number uint32) *Entity { return c.entities[number] }

// Entities returns all entities, sorted by kind, owner and number.
func (c *Copy) Entities() []*Entity {
	out := make([]*Entity, 0, len(c.entities))
	for _, e := range c.entities {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b *Entity) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Owner, b.Owner), cmp.Compare(a.Number, b.Number))
	})
	return out
}

// OwnedBy returns the first entity of a kind that belongs to a client, or nil.
func (c *Copy) OwnedBy(kind string, client int) *Entity {
	for _, e := range c.Entities() {
		if e.Kind == kind && e.Owner == client {
			return e
		}
	}
	return nil
}

// Apply brings the copy to the tick of a frame and returns what that did. Frames have to come in the order of their
// ticks; a snapshot replaces all that the copy held.
//
// The parts of all blocks are applied in one order: joins, spawns, owners, values, events, entities that are gone,
// leaves. So an event finds its entity, also one that goes in the same tick.
func (c *Copy) Apply(f *wire.Frame) []Notice {
	if f.Snapshot && c.entities != nil {
		return c.applySnapshot(f)
	}
	if c.entities == nil {
		c.entities = map[uint32]*Entity{}
	}
	c.Tick = f.Tick
	var a application
	a.copy = c
	for _, block := range f.Blocks {
		a.join(block.Joined)
	}
	for _, block := range f.Blocks {
		a.spawn(block.Spawned)
	}
	for _, block := range f.Blocks {
		a.changeOwners(block.Owned)
	}
	for _, block := range f.Blocks {
		for i := range block.Values {
			a.update(&block.Values[i])
		}
	}
	if !c.OmitMotion {
		c.updateMotion()
	}
	for _, event := range f.Events {
		a.add(Notice{Type: EventReceived, Event: event, Entity: c.entities[event.Entity]})
	}
	for _, block := range f.Blocks {
		a.remove(block.Gone)
		a.leave(block.Left)
	}
	return a.notices
}

// application is a frame being applied to a copy.
type application struct {
	copy    *Copy
	notices []Notice
	spawned map[uint32]bool // the entities that this frame spawned
}

// add adds a notice to what Apply returns.
func (a *application) add(n Notice) { a.notices = append(a.notices, n) }

// join brings clients into the copy, or gives those that it has another role.
func (a *application) join(joined []wire.Client) {
	c := a.copy
	for _, client := range joined {
		c.Clients = slices.DeleteFunc(c.Clients, func(x wire.Client) bool { return x.Number == client.Number })
		c.Clients = append(c.Clients, client)
		a.add(Notice{Type: ClientJoined, Client: client})
	}
}

// leave removes clients from the copy.
func (a *application) leave(left []int) {
	c := a.copy
	for _, number := range left {
		i := slices.IndexFunc(c.Clients, func(x wire.Client) bool { return x.Number == number })
		if i >= 0 {
			a.add(Notice{Type: ClientLeft, Client: c.Clients[i]})
			c.Clients = slices.Delete(c.Clients, i, i+1)
		}
	}
}

// spawn brings entities into the copy.
func (a *application) spawn(spawned []wire.Spawn) {
	c := a.copy
	for _, s := range spawned {
		e := &Entity{
			Number: s.Entity,
			Kind:   s.Kind,
			Owner:  s.Owner,
			Fields: slices.Clone(s.Fields),
		}
		c.entities[s.Entity] = e
		if a.spawned == nil {
			a.spawned = map[uint32]bool{}
		}
		a.spawned[s.Entity] = true
		c.hasMotion = c.hasMotion || slices.ContainsFunc(s.Fields, changesWithTime)
		a.add(Notice{Type: EntitySpawned, Entity: e})
		a.addIfMine(e)
	}
}

// changesWithTime reports whether a field's value may change without being sent.
func changesWithTime(f wire.Field) bool { return f.Motion != nil || f.Attached != nil }

// addIfMine notices that an entity belongs to the copy's own client, when it does.
func (a *application) addIfMine(e *Entity) {
	if a.copy.Me != 0 && e.Owner == a.copy.Me {
		a.add(Notice{Type: BecameMine, Entity: e})
	}
}

// changeOwners gives entities other owners.
func (a *application) changeOwners(owned []wire.Owned) {
	for _, o := range owned {
		e := a.copy.entities[o.Entity]
		if e == nil || e.Owner == o.Owner {
			continue
		}
		a.add(Notice{Type: OwnerChanged, Entity: e, OldOwner: e.Owner})
		e.Owner = o.Owner
		a.addIfMine(e)
	}
}

// update sets an entity's properties to other values, and takes back those that the client may no longer have.
func (a *application) update(u *wire.Update) {
	e := a.copy.entities[u.Entity]
	if e == nil {
		return
	}
	for _, name := range u.Withdrawn {
		if i := e.fieldIndex(name); i >= 0 {
			a.add(Notice{Type: FieldLost, Entity: e, Field: e.Fields[i]})
			e.Fields = slices.Delete(e.Fields, i, i+1)
		}
	}
	// What arrives together with its entity is no change.
	tellChanges := !a.copy.OmitChanges && !a.spawned[u.Entity]
	for j := range u.Fields {
		field := &u.Fields[j]
		if changesWithTime(*field) {
			a.copy.hasMotion = true
		}
		i := e.fieldIndex(field.Name)
		if tellChanges {
			n := Notice{Type: FieldChanged, Entity: e, Field: *field}
			if i >= 0 {
				old := e.Fields[i].Value
				n.Old = &old
			}
			a.add(n)
		}
		if i >= 0 {
			e.Fields[i] = *field
		} else {
			e.Fields = append(e.Fields, *field)
		}
	}
}

// remove removes entities from the copy.
func (a *application) remove(gone []uint32) {
	for _, number := range gone {
		if e := a.copy.entities[number]; e != nil {
			delete(a.copy.entities, number)
			a.add(Notice{Type: EntityGone, Entity: e})
		}
	}
}

// applySnapshot replaces all that the copy holds by a snapshot, and returns what is another than before.
func (c *Copy) applySnapshot(f *wire.Frame) (out []Notice) {
	old := *c
	*c = Copy{Me: old.Me, OmitChanges: old.OmitChanges, OmitMotion: old.OmitMotion}
	for _, n := range c.Apply(f) {
		switch n.Type {
		case ClientJoined:
			if slices.Contains(old.Clients, n.Client) {
				continue
			}
		case EntitySpawned:
			if before := old.entities[n.Entity.Number]; before != nil {
				out = append(out, before.differences(n.Entity)...)
				continue
			}
		case BecameMine:
			if before := old.entities[n.Entity.Number]; before != nil && before.Owner == n.Entity.Owner {
				continue
			}
		}
		out = append(out, n)
	}
	for _, e := range old.Entities() {
		if c.entities[e.Number] == nil {
			out = append(out, Notice{Type: EntityGone, Entity: e})
		}
	}
	for _, client := range old.Clients {
		sameNumber := func(x wire.Client) bool { return x.Number == client.Number }
		if !slices.ContainsFunc(c.Clients, sameNumber) {
			out = append(out, Notice{Type: ClientLeft, Client: client})
		}
	}
	return out
}

// differences returns what is another in what takes an entity's place.
func (e *Entity) differences(now *Entity) (out []Notice) {
	if now.Owner != e.Owner {
		out = append(out, Notice{Type: OwnerChanged, Entity: now, OldOwner: e.Owner})
	}
	for _, f := range e.Fields {
		if _, has := now.Field(f.Name); !has {
			out = append(out, Notice{Type: FieldLost, Entity: now, Field: f})
		}
	}
	for _, f := range now.Fields {
		before, had := e.Field(f.Name)
		if !had {
			out = append(out, Notice{Type: FieldChanged, Entity: now, Field: f})
		} else if !f.Same(before) {
			old := before.Value
			out = append(out, Notice{
				Type:   FieldChanged,
				Entity: now,
				Field:  f,
				Old:    &old,
			})
		}
	}
	return out
}

// Advance brings the properties that change with time alone to a later tick, of which no frame came: nothing else has
// changed until then. A tick that is not later leaves the copy as it is.
func (c *Copy) Advance(tick int64) {
	if tick > c.Tick {
		c.Tick = tick
		c.updateMotion()
	}
}

// At returns the copy as it stands at a later tick, of which no frame came. c stays as it is. What At returns may share
// memory with c, and holds until c is changed.
func (c *Copy) At(tick int64) *Copy {
	out := *c
	if tick <= c.Tick || !c.hasMotion {
		out.Tick = max(tick, c.Tick)
		return &out
	}
	out.entities = make(map[uint32]*Entity, len(c.entities))
	for number, e := range c.entities {
		own := *e
		own.Fields = slices.Clone(e.Fields)
		out.entities[number] = &own
	}
	out.Advance(tick)
	return &out
}

// updateMotion computes the properties that change with time alone as of the copy's tick: first those that follow a
// rate, then those that are attached to one.
func (c *Copy) updateMotion() {
	if !c.hasMotion {
		return
	}
	for _, e := range c.entities {
		for i := range e.Fields {
			if f := &e.Fields[i]; f.Motion != nil {
				f.Value = f.Motion.Value(f.Type, c.Tick)
			}
		}
	}
	for _, e := range c.entities {
		for i := range e.Fields {
			if f := &e.Fields[i]; f.Attached != nil {
				c.updateAttached(e, f)
			}
		}
	}
}

// updateAttached computes a property that is attached to one of its carrier. It keeps its value when the client does
// not know of the carrier.
func (c *Copy) updateAttached(e *Entity, f *wire.Field) {
	ref, _ := e.Value(f.Attached.Ref)
	carrier := c.entities[uint32(ref.Num)]
	if carrier == nil {
		return
	}
	if to, ok := carrier.Field(f.Attached.Prop); ok && len(to.Value.Parts) == len(f.Value.Parts) {
		f.Value = f.Attached.Value(f.Type, to.Value, to.Type)
	}
}

// Digest returns what a frame's digest has to be for this copy. o is the outline that the client was given.
func (c *Copy) Digest(o *contract.Outline) uint32 {
	sum := uint64(0)
	for _, client := range c.Clients {
		sum += wire.DigestClient(client, slices.Index(o.Roles, client.Role))
	}
	for _, e := range c.entities {
		kind := slices.IndexFunc(o.Kinds, func(k contract.KindOutline) bool { return k.Name == e.Kind })
		if kind < 0 {
			continue
		}
		sum += wire.DigestEntity(e.Number, kind, e.Owner)
		properties := o.Kinds[kind].Properties
		for i := range e.Fields {
			f := &e.Fields[i]
			index := slices.IndexFunc(properties, func(p contract.PropertyOutline) bool { return p.Name == f.Name })
			if index < 0 || properties[index].Loose {
				continue // a loose value may have been missed
			}
			sum += f.Digest(e.Number, index)
		}
	}
	return uint32(sum)
}

// Snapshot returns all that the copy holds. Its fields are clones.
func (c *Copy) Snapshot() *wire.Block {
	out := &wire.Block{Joined: slices.Clone(c.Clients)}
	for _, e := range c.Entities() {
		out.Spawned = append(out.Spawned, wire.Spawn{
			Entity: e.Number,
			Kind:   e.Kind,
			Owner:  e.Owner,
			Fields: slices.Clone(e.Fields),
		})
	}
	return out
}
