package replicate

import (
	"slices"

	"kamerad/core/contract"
	"kamerad/core/wire"
)

// Copy is what a client holds: a function of the frames that it got, and of nothing else. The zero value is an empty copy.
type Copy struct {
	Tick    int64
	Me      int // the client whose copy it is, 0 when that does not matter
	Clients []wire.Client
	Brief   bool // Apply does not tell of changed values: nobody asks
	things  map[uint32]*Thing
	moves   bool // something may move by itself
}

// Thing is an entity as a client knows it.
type Thing struct {
	Entity uint32
	Kind   string
	Owner  int
	Fields []wire.Field // those that the client has, in the order of their arrival
}

// Field gives a property as it came; ok is false when the client does not have it.
func (t *Thing) Field(name string) (f wire.Field, ok bool) {
	if i := t.place(name); i >= 0 {
		return t.Fields[i], true
	}
	return wire.Field{}, false
}

// place finds a property, -1 for none.
func (t *Thing) place(name string) int {
	for i := range t.Fields {
		if t.Fields[i].Name == name {
			return i
		}
	}
	return -1
}

// Value gives a property's value at the copy's tick; ok is false when the client does not have it.
func (t *Thing) Value(name string) (v contract.Value, ok bool) {
	f, ok := t.Field(name)
	return f.Value, ok
}

// Notice tells what a frame did to a copy.
type Notice struct {
	What   What
	Client wire.Client     // joined, left
	Thing  *Thing          // all but joined and left
	Field  wire.Field      // changed: the new value; lost: the last one
	Old    *contract.Value // changed: nil when the client had none
	Owner  int             // given: whose it was before
	Event  *wire.Event     // heard; Thing is then the entity that it is of, nil for none
}

// What is the sort of a notice.
type What string

// The sorts of notices.
const (
	Joined  What = "joined"
	Left    What = "left"
	Spawned What = "spawned"
	Given   What = "given" // it has another owner
	Lost    What = "lost"  // a value that the client may no longer have
	Changed What = "changed"
	Heard   What = "heard" // an event
	Gone    What = "gone"
	Mine    What = "mine" // it belongs to Me from now on
)

// Role says whose an entity is, as seen by the client that holds the copy.
type Role string

// The roles of entities.
const (
	Own     Role = "own"
	Other   Role = "other" // another client's
	Servers Role = "server"
)

// Role tells whose an entity is.
func (c *Copy) Role(t *Thing) Role {
	switch t.Owner {
	case 0:
		return Servers
	case c.Me:
		return Own
	}
	return Other
}

// Thing gives an entity by its number, or nil.
func (c *Copy) Thing(entity uint32) *Thing { return c.things[entity] }

// Things lists the entities by kind, owner and number.
func (c *Copy) Things() []*Thing {
	out := make([]*Thing, 0, len(c.things))
	for _, t := range c.things {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b *Thing) int {
		switch {
		case a.Kind != b.Kind:
			return map[bool]int{true: -1, false: 1}[a.Kind < b.Kind]
		case a.Owner != b.Owner:
			return a.Owner - b.Owner
		}
		return int(int64(a.Entity) - int64(b.Entity))
	})
	return out
}

// Own gives the entity of a kind that belongs to a client, or nil.
func (c *Copy) Own(kind string, client int) *Thing {
	for _, t := range c.Things() {
		if t.Kind == kind && t.Owner == client {
			return t
		}
	}
	return nil
}

// Apply brings a copy to the frame's tick and tells what changed. The parts are applied across all blocks in their order:
// joins, spawns, owners, values, events, what is gone, leaves. An event finds its entity, also one that goes in the same tick.
func (c *Copy) Apply(f *wire.Frame) []Notice {
	if f.Snapshot && c.things != nil {
		return c.replace(f)
	}
	var out []Notice
	if c.things == nil {
		c.things = map[uint32]*Thing{}
	}
	c.Tick = f.Tick
	for _, b := range f.Blocks {
		for _, j := range b.Joined {
			c.Clients = slices.DeleteFunc(c.Clients, func(x wire.Client) bool { return x.Number == j.Number })
			c.Clients = append(c.Clients, j)
			out = append(out, Notice{What: Joined, Client: j})
		}
	}
	var fresh map[uint32]bool
	for _, b := range f.Blocks {
		for _, s := range b.Spawned {
			t := &Thing{s.Entity, s.Kind, s.Owner, slices.Clone(s.Fields)}
			c.things[s.Entity] = t
			if fresh == nil {
				fresh = map[uint32]bool{}
			}
			fresh[s.Entity] = true
			c.moves = c.moves || slices.ContainsFunc(s.Fields, func(f wire.Field) bool { return f.Motion != nil || f.Tied != nil })
			out = append(out, Notice{What: Spawned, Thing: t})
			if c.Me != 0 && t.Owner == c.Me {
				out = append(out, Notice{What: Mine, Thing: t})
			}
		}
	}
	for _, b := range f.Blocks {
		for _, o := range b.Owned {
			if t := c.things[o.Entity]; t != nil && t.Owner != o.Owner {
				out = append(out, Notice{What: Given, Thing: t, Owner: t.Owner})
				t.Owner = o.Owner
				if c.Me != 0 && t.Owner == c.Me {
					out = append(out, Notice{What: Mine, Thing: t})
				}
			}
		}
	}
	for _, b := range f.Blocks {
		for _, u := range b.Values {
			t := c.things[u.Entity]
			if t == nil {
				continue
			}
			for _, name := range u.Withdrawn {
				if i := t.place(name); i >= 0 {
					out = append(out, Notice{What: Lost, Thing: t, Field: t.Fields[i]})
					t.Fields = slices.Delete(t.Fields, i, i+1)
				}
			}
			for j := range u.Fields {
				field := &u.Fields[j]
				c.moves = c.moves || field.Motion != nil || field.Tied != nil
				i := t.place(field.Name)
				if !c.Brief && !fresh[u.Entity] { // what arrives together with the spawn is no change
					n := Notice{What: Changed, Thing: t, Field: *field}
					if i >= 0 {
						old := t.Fields[i].Value
						n.Old = &old
					}
					out = append(out, n)
				}
				if i >= 0 {
					t.Fields[i] = *field
				} else {
					t.Fields = append(t.Fields, *field)
				}
			}
		}
	}
	c.move()
	for _, e := range f.Events {
		out = append(out, Notice{What: Heard, Event: e, Thing: c.things[e.Entity]})
	}
	for _, b := range f.Blocks {
		for _, n := range b.Gone {
			if t := c.things[n]; t != nil {
				delete(c.things, n)
				out = append(out, Notice{What: Gone, Thing: t})
			}
		}
		for _, n := range b.Left {
			if i := slices.IndexFunc(c.Clients, func(x wire.Client) bool { return x.Number == n }); i >= 0 {
				out = append(out, Notice{What: Left, Client: c.Clients[i]})
				c.Clients = slices.Delete(c.Clients, i, i+1)
			}
		}
	}
	return out
}

// replace brings a copy to a snapshot's tick and tells what is another than before.
func (c *Copy) replace(f *wire.Frame) (out []Notice) {
	old := *c
	*c = Copy{Me: old.Me, Brief: old.Brief}
	for _, n := range c.Apply(f) {
		switch n.What {
		case Joined:
			if slices.Contains(old.Clients, n.Client) {
				continue
			}
		case Spawned, Mine:
			was := old.things[n.Thing.Entity]
			switch {
			case was == nil:
			case n.What == Mine && was.Owner == n.Thing.Owner:
				continue
			case n.What == Spawned:
				out = append(out, was.becomes(n.Thing)...)
				continue
			}
		}
		out = append(out, n)
	}
	for _, t := range old.Things() {
		if c.things[t.Entity] == nil {
			out = append(out, Notice{What: Gone, Thing: t})
		}
	}
	for _, x := range old.Clients {
		if !slices.ContainsFunc(c.Clients, func(y wire.Client) bool { return y.Number == x.Number }) {
			out = append(out, Notice{What: Left, Client: x})
		}
	}
	return out
}

// becomes tells what is another in what takes an entity's place.
func (t *Thing) becomes(now *Thing) (out []Notice) {
	if now.Owner != t.Owner {
		out = append(out, Notice{What: Given, Thing: now, Owner: t.Owner})
	}
	for _, f := range t.Fields {
		if _, has := now.Field(f.Name); !has {
			out = append(out, Notice{What: Lost, Thing: now, Field: f})
		}
	}
	for _, f := range now.Fields {
		was, has := t.Field(f.Name)
		if !has {
			out = append(out, Notice{What: Changed, Thing: now, Field: f})
		} else if !f.Same(was) {
			old := was.Value
			out = append(out, Notice{What: Changed, Thing: now, Field: f, Old: &old})
		}
	}
	return out
}

// Advance brings what moves by itself to a later tick, of which no frame came: nothing else has changed until then.
func (c *Copy) Advance(tick int64) {
	if tick > c.Tick {
		c.Tick = tick
		c.move()
	}
}

// At returns the copy as it stands at a later tick, of which no frame came; c stays as it is. It holds until c is changed.
func (c *Copy) At(tick int64) *Copy {
	out := *c
	if tick <= c.Tick || !c.moves {
		out.Tick = max(tick, c.Tick)
		return &out
	}
	out.things = make(map[uint32]*Thing, len(c.things))
	for n, t := range c.things {
		own := *t
		own.Fields = slices.Clone(t.Fields)
		out.things[n] = &own
	}
	out.Advance(tick)
	return &out
}

// move puts what moves by itself where it is at the copy's tick.
func (c *Copy) move() {
	if !c.moves {
		return
	}
	for _, t := range c.things {
		for i := range t.Fields {
			if f := &t.Fields[i]; f.Motion != nil {
				f.Value = f.Motion.Value(f.Type, c.Tick)
			}
		}
	}
	for _, t := range c.things {
		for i := range t.Fields {
			if f := &t.Fields[i]; f.Tied != nil {
				c.attach(t, f)
			}
		}
	}
}

// attach puts a property where what it is attached to is. What is not there leaves it where it was.
func (c *Copy) attach(t *Thing, f *wire.Field) {
	ref, _ := t.Value(f.Tied.Ref)
	holder := c.things[uint32(ref.Num)]
	if holder == nil {
		return
	}
	if to, ok := holder.Field(f.Tied.Prop); ok && len(to.Value.Parts) == len(f.Value.Parts) {
		f.Value = f.Tied.Value(f.Type, to.Value, to.Type)
	}
}

// Digest gives what a frame's digest has to be for this copy. The outline is that which the client was given.
func (c *Copy) Digest(o *contract.Outline) uint32 {
	sum := uint64(0)
	for _, x := range c.Clients {
		sum += wire.DigestClient(x, slices.Index(o.Roles, x.Role))
	}
	for _, t := range c.things {
		k := slices.IndexFunc(o.Kinds, func(k contract.KindOutline) bool { return k.Name == t.Kind })
		if k < 0 {
			continue
		}
		sum += wire.DigestEntity(t.Entity, k, t.Owner)
		for i := range t.Fields {
			f := &t.Fields[i]
			p := slices.IndexFunc(o.Kinds[k].Properties, func(p contract.PropertyOutline) bool { return p.Name == f.Name })
			if p < 0 || o.Kinds[k].Properties[p].Loose {
				continue // what may be lost is not counted
			}
			sum += f.Digest(t.Entity, p)
		}
	}
	return uint32(sum)
}

// Block gives all that a copy holds, as a snapshot of it.
func (c *Copy) Block() *wire.Block {
	b := &wire.Block{Joined: slices.Clone(c.Clients)}
	for _, t := range c.Things() {
		b.Spawned = append(b.Spawned, wire.Spawn{Entity: t.Entity, Kind: t.Kind, Owner: t.Owner, Fields: slices.Clone(t.Fields)})
	}
	return b
}
