// Package replicate decides which client is sent what, and holds what a client makes of it: its copy.
//
// The server's side, the View, remembers what each audience was last sent. What changed in a tick is put into one block for
// everyone and one for each client, so that the cost of a tick grows with changes plus clients. Audiences that have to be
// asked for each client and entity are asked in each tick.
package replicate

import (
	"math"
	"slices"

	"kamerad/core/contract"
	"kamerad/core/wire"
	"kamerad/core/world"
)

// Rules answer whether a client may have something.
type Rules interface {
	// Sees tells whether a client may know of an entity.
	Sees(e *world.Entity, client int) bool
	// Gets tells whether a client gets a property of an entity that it may know of.
	Gets(e *world.Entity, p *contract.Property, client int) bool
}

// View is what has been sent to the clients of one session. With Everything it is what the server itself holds, for those
// who run the session: then all goes into the shared block.
type View struct {
	Everything bool
	key        [32]byte
	world      *world.World
	rules      Rules
	classes    []class // by kind
	clients    []wire.Client
	sent       map[world.ID]*sent
	byNumber   map[uint32]*world.Entity
	fresh      []*sent // spawned in this tick
	shared     *wire.Block
	private    map[int]*wire.Block
	asked      map[int]map[world.ID]*asked // by client
	waiting    []*sent                     // those with properties that wait for their time
}

// class says how a kind and its properties travel.
type class struct {
	to    contract.Audience   // of the kind: Everyone, Some or Nobody
	props []contract.Audience // Everyone, Owner, Some or Nobody
	some  bool                // the kind or a property has to be asked for
}

// sent is an entity as its audiences were last told.
type sent struct {
	number uint32
	entity *world.Entity
	owner  int
	fields []wire.Field // by property, as they were sent; nil until it is first sent
	ticks  []int64      // by property: when it was last sent; only for what is sent `at most` so often
	later  uint64       // properties that changed and wait for their time
}

// asked is what one client was last told of an entity by audiences that have to be asked.
type asked struct {
	owner  int
	fields map[int]wire.Field // by property
	ticks  map[int]int64      // by property: when it was last sent; only for what is sent `at most` so often
}

// NewView makes the view of a session. The key hides how entities are numbered inside the server.
func NewView(key [32]byte, w *world.World, rules Rules, everything bool) *View {
	v := &View{
		Everything: everything, key: key, world: w, rules: rules, sent: map[world.ID]*sent{}, byNumber: map[uint32]*world.Entity{},
		shared: &wire.Block{}, private: map[int]*wire.Block{}, asked: map[int]map[world.ID]*asked{},
	}
	for _, k := range w.Contract().Kinds {
		v.classes = append(v.classes, v.classify(k))
	}
	return v
}

func (v *View) classify(k *contract.Kind) class {
	c := class{to: k.To}
	if c.to == contract.Owner {
		c.to = contract.Some
	}
	if v.Everything {
		c.to = contract.Everyone
	}
	c.some = c.to == contract.Some
	for _, p := range k.Properties {
		to := p.To
		switch {
		case v.Everything:
			to = contract.Everyone
		case to == contract.Nobody || c.to == contract.Nobody:
			to = contract.Nobody
		case c.to == contract.Some || hides(p.Type):
			to = contract.Some
		}
		c.some = c.some || to == contract.Some
		c.props = append(c.props, to)
	}
	return c
}

// hides tells whether a value refers to entities that not everyone may know of.
func hides(t *contract.Type) bool {
	if t.Form == contract.FormEntity {
		return slices.ContainsFunc(t.Kinds, func(k *contract.Kind) bool { return k.To != contract.Everyone })
	}
	return t.Key != nil && hides(t.Key) || t.Of != nil && hides(t.Of) || slices.ContainsFunc(t.Parts, func(p contract.Param) bool { return hides(p.Type) })
}

// own gives the block of one client.
func (v *View) own(client int) *wire.Block {
	b := v.private[client]
	if b == nil {
		b = &wire.Block{}
		v.private[client] = b
	}
	return b
}

// Joined tells of a new client, or of one that has another role.
func (v *View) Joined(c wire.Client) {
	if i := slices.IndexFunc(v.clients, func(x wire.Client) bool { return x.Number == c.Number }); i >= 0 {
		v.clients[i] = c
	} else {
		v.clients = append(v.clients, c)
		v.asked[c.Number] = map[world.ID]*asked{}
	}
	v.shared.Joined = append(v.shared.Joined, c)
}

// Left tells of a client that is gone.
func (v *View) Left(number int) {
	v.clients = slices.DeleteFunc(v.clients, func(c wire.Client) bool { return c.Number == number })
	delete(v.asked, number)
	delete(v.private, number)
	v.shared.Left = append(v.shared.Left, number)
}

// Spawned tells of a new entity. It is sent with the values that it has when the tick is cut.
func (v *View) Spawned(e *world.Entity) {
	s := &sent{number: number(v.key, e, len(v.classes)), entity: e, owner: e.Owner}
	v.sent[e.ID] = s
	v.byNumber[s.number] = e
	v.fresh = append(v.fresh, s)
}

// field reads a property for everyone.
func (v *View) field(e *world.Entity, p *contract.Property) wire.Field {
	return wire.Field{Name: p.Name, Type: p.Type, Value: p.Type.Refs(v.world.Value(e, p), v.number), Motion: v.motion(e, p), Tied: v.tied(e, p)}
}

// fieldFor reads a property for one client, to whom a ref to what it may not know of is nothing.
func (v *View) fieldFor(e *world.Entity, p *contract.Property, client int) wire.Field {
	return wire.Field{Name: p.Name, Type: p.Type, Value: v.For(client, p.Type, v.world.Value(e, p)), Motion: v.motion(e, p)}
}

// tied says to what a property is attached now, or nil. Only what everyone has can be computed by everyone: else the value is sent.
func (v *View) tied(e *world.Entity, p *contract.Property) *wire.Attached {
	f := p.Follows
	if f == nil || f.Holder == nil || !f.Open {
		return nil
	}
	holder := v.world.Entity(world.ID(e.Nums[f.Holder.Slot]))
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
// written since it was last computed. What is sent only so often travels as it is: its copies lag behind.
func (v *View) motion(e *world.Entity, p *contract.Property) *wire.Motion {
	f := p.Follows
	if f == nil || f.Rate == nil || p.AtMost > 0 || f.Rate.AtMost > 0 {
		return nil
	}
	w := p.Type.Width()
	began := f.Slot + w
	now, wanted := e.Nums[p.Slot:p.Slot+w], e.Nums[f.Rate.Slot:f.Rate.Slot+w]
	start, rate, made := e.Nums[f.Slot:began], e.Nums[began+1:began+1+w], e.Nums[began+1+w:began+1+2*w]
	m := &wire.Motion{RateType: f.Rate.Type, Rate: f.Rate.Type.FromSlots(wanted, nil), Ticks: v.world.Contract().TickRate}
	if e.Nums[began] != 0 && slices.Equal(rate, wanted) && slices.Equal(made, now) {
		m.From, m.At = p.Type.FromSlots(start, nil), e.Nums[began]-1
	} else {
		m.From, m.At = p.Type.FromSlots(now, nil), v.world.Tick
	}
	return m
}

// For gives a value as one client may have it: refs as public numbers, and as nothing where the client may not know the entity.
func (v *View) For(client int, t *contract.Type, value contract.Value) contract.Value {
	return t.Refs(value, func(id int64) int64 {
		e := v.world.Entity(world.ID(id))
		if e == nil || !v.Everything && !v.rules.Sees(e, client) {
			return 0
		}
		return v.number(id)
	})
}

// number gives the public number of an entity by its ID; of one that is gone, as of nothing, it is 0.
func (v *View) number(id int64) int64 {
	if e := v.world.Entity(world.ID(id)); e != nil {
		return int64(v.Number(e))
	}
	return 0
}

// announce puts a new entity into the blocks of those who may know of it.
func (v *View) announce(s *sent) {
	e := s.entity
	c := &v.classes[e.Kind.Index]
	s.owner = e.Owner
	s.fields = make([]wire.Field, len(e.Kind.Properties)) // not nil, also without a property
	s.ticks = make([]int64, len(e.Kind.Properties))
	for i := range s.ticks {
		s.ticks[i] = v.world.Tick
	}
	if c.to != contract.Everyone {
		return // it is asked for
	}
	for i, p := range e.Kind.Properties {
		if c.props[i] == contract.Everyone || c.props[i] == contract.Owner {
			s.fields[i] = v.field(e, p)
		}
	}
	v.shared.Spawned = append(v.shared.Spawned, v.spawn(s, c, func(to contract.Audience) bool { return to == contract.Everyone }))
	// What only the owner may have travels with the same frame, in the owner's own block.
	v.handOver(s, e.Owner)
}

// handOver gives an owner what only owners have.
func (v *View) handOver(s *sent, owner int) {
	c := &v.classes[s.entity.Kind.Index]
	u := wire.Update{Entity: s.number, Kind: s.entity.Kind.Name}
	for i := range s.entity.Kind.Properties {
		if c.props[i] == contract.Owner {
			u.Fields = append(u.Fields, s.fields[i])
		}
	}
	if u.Fields != nil && v.asked[owner] != nil {
		b := v.own(owner)
		b.Values = append(b.Values, u)
	}
}

func (v *View) spawn(s *sent, c *class, may func(to contract.Audience) bool) wire.Spawn {
	out := wire.Spawn{Entity: s.number, Kind: s.entity.Kind.Name, Owner: s.owner}
	for i, p := range s.entity.Kind.Properties {
		if may(c.props[i]) {
			f := s.fields[i]
			if f.Tied != nil { // where it is now, for when what it is attached to is gone
				f.Value = v.world.Value(s.entity, p)
			}
			out.Fields = append(out.Fields, f)
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
	if s.fields == nil {
		v.fresh = slices.DeleteFunc(v.fresh, func(x *sent) bool { return x == s })
		return // nobody was told of it
	}
	if v.classes[e.Kind.Index].to == contract.Everyone {
		v.shared.Gone = append(v.shared.Gone, s.number)
	}
	for client, known := range v.asked {
		if known[e.ID] != nil && v.classes[e.Kind.Index].to == contract.Some {
			b := v.own(client)
			b.Gone = append(b.Gone, s.number)
		}
		delete(known, e.ID)
	}
}

// Given tells that an entity may have another owner.
func (v *View) Given(e *world.Entity) {
	s := v.sent[e.ID]
	if s == nil || s.fields == nil || s.owner == e.Owner {
		return
	}
	c := &v.classes[e.Kind.Index]
	before := s.owner
	if s.owner = e.Owner; c.to != contract.Everyone {
		return // those who know of it are told when they are asked for
	}
	v.shared.Owned = append(v.shared.Owned, wire.Owned{Entity: s.number, Owner: e.Owner})
	u := wire.Update{Entity: s.number, Kind: e.Kind.Name}
	for i, p := range e.Kind.Properties {
		if c.props[i] == contract.Owner {
			u.Withdrawn = append(u.Withdrawn, p.Name)
			s.fields[i] = v.field(e, p)
		}
	}
	if before != 0 && u.Withdrawn != nil && v.asked[before] != nil {
		b := v.own(before)
		b.Values = append(b.Values, u)
	}
	v.handOver(s, e.Owner)
}

// Written tells that properties of an entity may have changed, one bit each. A value that is what was last sent is not sent.
func (v *View) Written(e *world.Entity, properties uint64) {
	s := v.sent[e.ID]
	if s == nil || s.fields == nil {
		return
	}
	c := &v.classes[e.Kind.Index]
	for i, p := range e.Kind.Properties { // another rate or holder is another motion, also of what stands where it was
		if f := p.Follows; f != nil && (f.Rate != nil && properties&(1<<f.Rate.Index) != 0 || f.Holder != nil && properties&(1<<f.Holder.Index) != 0) {
			properties |= 1 << i
		}
	}
	var all, own []wire.Field
	for i, p := range e.Kind.Properties {
		to := c.props[i]
		if properties&(1<<i) == 0 || to != contract.Everyone && to != contract.Owner {
			continue
		}
		f := v.field(e, p)
		if f.Same(s.fields[i]) {
			continue
		}
		if !v.due(p, s.ticks[i]) {
			if s.later == 0 {
				v.waiting = append(v.waiting, s)
			}
			s.later |= 1 << i
			continue
		}
		s.fields[i], s.ticks[i] = f, v.world.Tick
		if to == contract.Everyone {
			all = append(all, f)
		} else {
			own = append(own, f)
		}
	}
	if all != nil {
		v.shared.Values = append(v.shared.Values, wire.Update{Entity: s.number, Kind: e.Kind.Name, Fields: all})
	}
	if own != nil && v.asked[s.owner] != nil {
		b := v.own(s.owner)
		b.Values = append(b.Values, wire.Update{Entity: s.number, Kind: e.Kind.Name, Fields: own})
	}
}

// Again sends a client the value of a property once more, as it is: what the client wrote itself was not taken.
func (v *View) Again(e *world.Entity, p *contract.Property, client int) {
	s := v.sent[e.ID]
	if s == nil || s.fields == nil || v.Everything || !v.rules.Sees(e, client) || !v.rules.Gets(e, p, client) {
		return
	}
	b := v.own(client)
	b.Values = append(b.Values, wire.Update{Entity: s.number, Kind: e.Kind.Name, Fields: []wire.Field{v.fieldFor(e, p, client)}})
}

// due tells whether a property that was last sent at a tick may be sent again. What the server itself holds is always told.
func (v *View) due(p *contract.Property, last int64) bool {
	return p.AtMost == 0 || v.Everything || (v.world.Tick-last)*int64(p.AtMost) >= int64(v.world.Contract().TickRate)
}

// ask brings a client's knowledge of what has to be asked for up to date.
func (v *View) ask(client int, known map[world.ID]*asked) {
	for k := range v.classes {
		c := &v.classes[k]
		if !c.some {
			continue
		}
		for _, e := range v.world.Kind(k) {
			s := v.sent[e.ID]
			if s == nil {
				continue
			}
			a := known[e.ID]
			if c.to == contract.Some && !v.rules.Sees(e, client) {
				if a != nil {
					b := v.own(client)
					b.Gone = append(b.Gone, s.number)
					delete(known, e.ID)
				}
				continue
			}
			first := a == nil
			if first {
				a = &asked{owner: e.Owner, fields: map[int]wire.Field{}, ticks: map[int]int64{}}
				known[e.ID] = a
			}
			u := wire.Update{Entity: s.number, Kind: e.Kind.Name}
			for i, p := range e.Kind.Properties {
				if c.props[i] != contract.Some {
					continue
				}
				old, had := a.fields[i]
				if !v.rules.Gets(e, p, client) {
					if had {
						delete(a.fields, i)
						u.Withdrawn = append(u.Withdrawn, p.Name)
					}
					continue
				}
				f := v.fieldFor(e, p, client)
				if had && (f.Same(old) || !v.due(p, a.ticks[i])) {
					continue
				}
				if a.fields[i] = f; p.AtMost > 0 {
					a.ticks[i] = v.world.Tick
				}
				u.Fields = append(u.Fields, f)
			}
			switch {
			case first && c.to == contract.Some:
				b := v.own(client)
				b.Spawned = append(b.Spawned, wire.Spawn{Entity: s.number, Kind: e.Kind.Name, Owner: e.Owner, Fields: u.Fields})
				continue
			case c.to == contract.Some && a.owner != e.Owner:
				a.owner = e.Owner
				b := v.own(client)
				b.Owned = append(b.Owned, wire.Owned{Entity: s.number, Owner: e.Owner})
			}
			if u.Fields != nil || u.Withdrawn != nil {
				b := v.own(client)
				b.Values = append(b.Values, u)
			}
		}
	}
	// The order of spawning is the server's own.
	if b := v.private[client]; b != nil {
		slices.SortFunc(b.Spawned, func(a, c wire.Spawn) int { return int(int64(a.Entity) - int64(c.Entity)) })
		slices.SortStableFunc(b.Values, func(a, c wire.Update) int { return int(int64(a.Entity) - int64(c.Entity)) })
		slices.Sort(b.Gone)
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
		if s.fields == nil {
			continue
		}
		c := &v.classes[s.entity.Kind.Index]
		a := v.asked[client][id]
		if c.to == contract.Nobody || c.to == contract.Some && a == nil {
			continue
		}
		out := v.spawn(s, c, func(to contract.Audience) bool {
			return to == contract.Everyone || to == contract.Owner && client != 0 && s.owner == client
		})
		if a != nil {
			if c.to == contract.Some {
				out.Owner = a.owner
			}
			for i := range s.entity.Kind.Properties {
				if f, had := a.fields[i]; had {
					out.Fields = append(out.Fields, f)
				}
			}
		}
		b.Spawned = append(b.Spawned, out)
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
	waiting := v.waiting
	v.waiting = nil
	// The order in which they came to wait may come from what some clients may not have.
	slices.SortFunc(waiting, func(a, b *sent) int { return int(a.entity.ID - b.entity.ID) })
	for _, s := range waiting {
		if later := s.later; v.sent[s.entity.ID] == s {
			s.later = 0
			v.Written(s.entity, later)
		}
	}
	if !v.Everything {
		for _, c := range v.clients {
			v.ask(c.Number, v.asked[c.Number])
		}
		slices.SortFunc(v.shared.Spawned, func(a, c wire.Spawn) int { return int(int64(a.Entity) - int64(c.Entity)) })
	}
	shared, private = v.shared, v.private
	v.shared, v.private = &wire.Block{}, map[int]*wire.Block{}
	return shared, private
}

// Entity finds an entity by the number that clients know it by, if this client may know of it; else nil.
func (v *View) Entity(client int, number uint32) *world.Entity {
	e := v.byNumber[number]
	if e == nil || e.Gone || !v.rules.Sees(e, client) {
		return nil
	}
	return e
}

// Number gives the number by which clients know an entity, 0 if none does.
func (v *View) Number(e *world.Entity) uint32 {
	if s := v.sent[e.ID]; s != nil {
		return s.number
	}
	return number(v.key, e, len(v.classes))
}
