// Package world holds what exists in a running session: entities with the values of their properties, and the
// transactions that change them all or not at all.
//
// A row is flat: everything stands in one slice of 64-bit numbers, a text as its place in the world's list of texts. A
// World is used by one goroutine at a time.
package world

import (
	"math/bits"
	"slices"

	"kamerad/core/contract"
)

// ID numbers an entity inside the server, from 1, in the order of spawning; a number is never used twice. Clients never
// see it: toward them an entity has another number.
type ID int64

// Entity is one thing in the world.
type Entity struct {
	// The row, by the slots of the kind's properties; to be read only: writes go through the World. Behind it, in the
	// same memory, stands for each property when it last changed.
	Nums    []int64
	dirty   uint64 // one bit for each property written since the last Flush
	Shown   any    // what shows the world to others keeps here what it knows of the entity
	Kind    *contract.Kind
	ID      ID
	Owner   int   // number of the client it belongs to; 0 is the server
	Serial  int64 // numbers the entities of its kind from 1, so that no kind tells how many there are of another
	given   int64 // when it last came to have another owner
	delayed []Delayed
	Gone    bool // it was despawned
}

// ticks tells by property when it last changed.
func (e *Entity) ticks() []int64 { return e.Nums[len(e.Nums):cap(e.Nums)] }

// Delayed is an action that runs at a tick, with its arguments.
type Delayed struct {
	At     int64
	Action *contract.Action
	Args   []int64
}

// Client is what the world knows of a client.
type Client struct {
	Number int // from 1
	Name   string
	Role   int
	text   int64 // the name among the texts
}

// World is the state of one session.
type World struct {
	Tick     int64   // of what is written now
	Settings []int64 // by the slots of the contract's settings
	MostHeld int64   // bytes that may be held; 0 for no bound
	Beside   int64   // bytes that are held for clients, beside the world's own
	// of the last entity of which it was noted where it began to move; a later one has swept nothing yet
	Swept ID

	contract *contract.Contract
	last     ID
	serials  []int64   // by kind: that of the last one
	entities []*Entity // by ID
	byID     map[ID]*Entity
	kinds    [][]*Entity       // by kind, then ID
	shared   []*Entity         // by kind
	per      []map[int]*Entity // by kind, then client
	clients  []Client          // by number
	roster   int64             // when a client last came, went or changed its role
	texts    []string
	places   map[string]int64
	sweepAt  int // texts, see Sweep
	journal  []entry
	dirty    []*Entity
	news     []News
	sizes    []int64 // by kind: the bytes of memory that one entity takes
	held     int64   // bytes of all entities and of what they delay
}

// what a journal entry undoes.
type what uint8

const (
	wroteSlot  what = iota
	wroteQuiet      // a slot that is no part of a property
	spawned
	despawned
	gave
	delayedIt
	setRole
)

// entry remembers what a write replaced. It is small: a body that writes three numbers should not wait for memory.
type entry struct {
	entity *Entity
	num    int64 // the old number
	slot   int32
	prop   uint8
	what   what
}

// News is what a committed transaction did to the list of entities, or to the role of a client.
type News struct {
	Entity *Entity
	Gone   bool // it was despawned; else it was spawned or changed its owner
	Owner  int  // whose it was before
	Spawn  bool
	Role   int // number of a client that has another role; Entity is nil then
}

// New makes the world of a contract with its shared entities. settings are the slots of the contract's settings; nil
// means the defaults.
func New(c *contract.Contract, settings []int64) *World {
	w := &World{
		contract: c,
		shared:   make([]*Entity, len(c.Kinds)),
		per:      make([]map[int]*Entity, len(c.Kinds)),
		kinds:    make([][]*Entity, len(c.Kinds)),
		serials:  make([]int64, len(c.Kinds)),
		byID:     map[ID]*Entity{},
		places:   map[string]int64{},
		Settings: settings,
	}
	for i, s := range c.Texts {
		w.texts = append(w.texts, s)
		w.places[s] = int64(i)
	}
	if settings == nil {
		for _, s := range c.Settings {
			w.Settings = append(w.Settings, s.Default...)
		}
	}
	for _, k := range c.Kinds {
		w.sizes = append(w.sizes, k.Memory())
	}
	for _, k := range c.Kinds {
		w.per[k.Index] = map[int]*Entity{}
		if k.Shared {
			w.shared[k.Index] = w.Spawn(k, 0)
		}
	}
	w.Commit()
	w.News(func(News) {})
	return w
}

// Contract gives the contract that the world is made of.
func (w *World) Contract() *contract.Contract { return w.contract }

// Intern gives the place of a text among the world's texts.
func (w *World) Intern(s string) int64 {
	n, known := w.places[s]
	if !known {
		n = int64(len(w.texts))
		w.texts = append(w.texts, s)
		w.places[s] = n
	}
	return n
}

// Last returns the ID of the entity that was spawned last; 0 for none.
func (w *World) Last() ID { return w.last }

// Text gives the text at a place.
func (w *World) Text(n int64) string { return w.texts[n] }

// Spawn adds an entity with the defaults of its kind, in the open transaction.
func (w *World) Spawn(k *contract.Kind, owner int) *Entity {
	w.last++
	w.serials[k.Index]++
	row := make([]int64, k.Slots+len(k.Properties)) // in one piece, since what writes the one also writes the other
	row = row[:k.Slots:len(row)]
	e := &Entity{
		ID:     w.last,
		Serial: w.serials[k.Index],
		Kind:   k,
		Owner:  owner,
		Nums:   row,
	}
	for _, p := range k.Properties {
		copy(e.Nums[p.Slot:], p.Default)
	}
	for i := range e.ticks() {
		e.ticks()[i] = w.Tick
	}
	w.insert(e)
	w.journal = append(w.journal, entry{entity: e, what: spawned})
	return e
}

// MostSerials is how many entities of one kind a session of a contract can number: clients know them by 32 bits, some
// of which are the kind's.
func MostSerials(c *contract.Contract) int64 { return 1<<(32-bits.Len(uint(len(c.Kinds)))) - 1 }

// Full reports whether no more entities of a kind can be numbered.
func (w *World) Full(k *contract.Kind) bool { return w.serials[k.Index] >= MostSerials(w.contract) }

// Held returns how many bytes of memory the session takes for its entities, what they delay, and what clients are told
// by themselves. It is an estimate that depends on what there is alone; see contract.Kind.Memory.
func (w *World) Held() int64 { return w.held + w.Beside }

// HasRoom reports whether an entity of a kind may be added, by the memory that it takes.
func (w *World) HasRoom(k *contract.Kind) bool {
	return w.MostHeld == 0 || w.Held()+w.sizes[k.Index] <= w.MostHeld
}

// HasRoomToDelay reports whether an action may wait for its time, by the memory that it takes meanwhile.
func (w *World) HasRoomToDelay(a *contract.Action) bool {
	return w.MostHeld == 0 || w.Held()+a.Memory() <= w.MostHeld
}

// memory returns the bytes that an entity takes.
func (w *World) memory(e *Entity) int64 {
	out := w.sizes[e.Kind.Index]
	for i := range e.delayed {
		out += e.delayed[i].Action.Memory()
	}
	return out
}

// Key names an entity by its kind and serial: whatever happens to other kinds, it is the same.
func (e *Entity) Key() int64 { return int64(e.Kind.Index)<<48 | e.Serial }

func byID(x *Entity, id ID) int { return int(x.ID - id) }

// insert puts an entity into all lists. It nearly always comes at their end.
func (w *World) insert(e *Entity) {
	for _, list := range []*[]*Entity{&w.entities, &w.kinds[e.Kind.Index]} {
		if n := len(*list); n == 0 || (*list)[n-1].ID < e.ID {
			*list = append(*list, e)
		} else {
			i, _ := slices.BinarySearchFunc(*list, e.ID, byID)
			*list = slices.Insert(*list, i, e)
		}
	}
	w.byID[e.ID] = e
	w.held += w.memory(e)
	if e.Kind.Per >= 0 {
		w.per[e.Kind.Index][e.Owner] = e
	}
	e.Gone = false
}

// remove takes an entity out of all lists.
func (w *World) remove(e *Entity) {
	for _, list := range []*[]*Entity{&w.entities, &w.kinds[e.Kind.Index]} {
		if i, found := slices.BinarySearchFunc(*list, e.ID, byID); found {
			*list = slices.Delete(*list, i, i+1)
		}
	}
	delete(w.byID, e.ID)
	w.held -= w.memory(e)
	if e.Kind.Per >= 0 && w.per[e.Kind.Index][e.Owner] == e {
		delete(w.per[e.Kind.Index], e.Owner)
	}
	e.Gone = true
}

// Despawn takes an entity out of the world, in the open transaction. One that is gone already stays so.
func (w *World) Despawn(e *Entity) {
	if !e.Gone {
		w.remove(e)
		w.journal = append(w.journal, entry{entity: e, what: despawned})
	}
}

// Give changes the owner of an entity, in the open transaction.
func (w *World) Give(e *Entity, owner int) {
	if e.Owner != owner {
		w.journal = append(w.journal, entry{entity: e, num: int64(e.Owner), what: gave})
		e.Owner = owner
	}
}

// Delay lets an action of an entity run at a later tick, in the open transaction. It reports false when too many wait
// already.
func (w *World) Delay(e *Entity, at int64, a *contract.Action, args []int64) bool {
	if len(e.delayed) >= maxDelayed {
		return false
	}
	w.journal = append(w.journal, entry{entity: e, what: delayedIt})
	d := Delayed{at, a, slices.Clone(args)}
	e.delayed = append(e.delayed, d)
	if !e.Gone {
		w.held += a.Memory()
	}
	return true
}

// Waiting lists the actions of an entity that wait for their time.
func (w *World) Waiting(e *Entity) []Delayed { return slices.Clone(e.delayed) }

// maxDelayed is how many actions of one entity wait for their time.
const maxDelayed = 100

// Due takes the first action out of an entity's list whose tick has come; ok is false when there is none.
func (w *World) Due(e *Entity) (d Delayed, ok bool) {
	for i, d := range e.delayed {
		if d.At <= w.Tick {
			e.delayed = slices.Delete(e.delayed, i, i+1)
			if !e.Gone {
				w.held -= d.Action.Memory()
			}
			return d, true
		}
	}
	return d, false
}

// Entities lists all entities by ID. The slice is the world's own and holds until the next Spawn or Despawn.
func (w *World) Entities() []*Entity { return w.entities }

// Kind lists the entities of a kind by ID, as Entities does.
func (w *World) Kind(kind int) []*Entity { return w.kinds[kind] }

// Shared gives the entity of a shared kind, by the kind's index.
func (w *World) Shared(kind int) *Entity { return w.shared[kind] }

// Of gives the entity of a per-role kind that a client has, or nil.
func (w *World) Of(kind, client int) *Entity { return w.per[kind][client] }

// Entity gives an entity by its ID, or nil if there is none.
func (w *World) Entity(id ID) *Entity { return w.byID[id] }

// Clients lists the clients by number. The slice is the world's own.
func (w *World) Clients() []Client { return w.clients }

// Client gives a client by its number, or nil.
func (w *World) Client(number int) *Client {
	i, found := slices.BinarySearchFunc(w.clients, number, func(c Client, n int) int { return c.Number - n })
	if !found {
		return nil
	}
	return &w.clients[i]
}

// NameOf gives the place of a client's name among the texts, that of the empty text for none.
func (w *World) NameOf(client int) int64 {
	if c := w.Client(client); c != nil {
		return c.text
	}
	return 0
}

// Enter adds a client, whose number is greater than that of any before. It is no part of a transaction.
func (w *World) Enter(c Client) {
	c.text = w.Intern(c.Name)
	w.clients = append(w.clients, c)
	w.roster = w.Tick
}

// Leave takes a client out. It is no part of a transaction.
func (w *World) Leave(number int) {
	w.clients = slices.DeleteFunc(w.clients, func(c Client) bool { return c.Number == number })
	w.roster = w.Tick
}

// SetRole changes the role of a client, in the open transaction.
func (w *World) SetRole(client, role int) {
	if c := w.Client(client); c != nil && c.Role != role {
		w.journal = append(w.journal, entry{num: int64(c.Role), slot: int32(client), what: setRole})
		c.Role = role
	}
}

// Value reads any property. Refs are IDs.
func (w *World) Value(e *Entity, p *contract.Property) contract.Value {
	return p.Type.FromSlots(e.Nums[p.Slot:], w.Text)
}

// Changed tells at which tick a property last changed. What the open transaction has changed, has changed now.
func (w *World) Changed(e *Entity, property int) int64 {
	for i := range w.journal {
		if j := &w.journal[i]; j.entity == e && j.what == wroteSlot && int(j.prop) == property &&
			e.Nums[j.slot] != j.num {
			return w.Tick
		}
	}
	return e.ticks()[property]
}

// Given tells at which tick an entity last came to have another owner, or was spawned.
func (w *World) Given(e *Entity) int64 { return e.given }

// ChangedClients tells at which tick a client last came, went or changed its role.
func (w *World) ChangedClients() int64 { return w.roster }

// Write puts a number that is known to be right into a slot of a property.
func (w *World) Write(e *Entity, property, slot int, v int64) {
	old := e.Nums[slot]
	if old == v {
		return
	}
	w.journal = append(w.journal, entry{
		entity: e,
		num:    old,
		slot:   int32(slot),
		prop:   uint8(property),
	})
	e.Nums[slot] = v
	if bit := uint64(1) << (property & 63); e.dirty&bit == 0 {
		if e.dirty == 0 {
			w.dirty = append(w.dirty, e)
		}
		e.dirty |= bit
	}
}

// WriteQuiet puts a number into a slot that is no part of a property, such as the lease of a hold.
func (w *World) WriteQuiet(e *Entity, slot int, v int64) {
	if old := e.Nums[slot]; old != v {
		w.journal = append(w.journal, entry{
			entity: e,
			num:    old,
			slot:   int32(slot),
			what:   wroteQuiet,
		})
		e.Nums[slot] = v
	}
}

// Set writes a whole property from slots that are known to be right.
func (w *World) Set(e *Entity, p *contract.Property, slots []int64) {
	for i, v := range slots {
		w.Write(e, p.Index, p.Slot+i, v)
	}
}

// Change is a property that a transaction changed.
type Change struct {
	Entity   *Entity
	Property *contract.Property
	Old, New contract.Value
}

// Changes lists what the transaction has changed so far, each property once, in the order of the first writes. What was
// spawned in it has not changed.
func (w *World) Changes() []Change {
	var out []Change
	seen := map[*Entity]uint64{}
	for _, j := range w.journal {
		switch {
		case j.what == spawned:
			seen[j.entity] = ^uint64(0)
		case j.what == wroteSlot && seen[j.entity]&(1<<j.prop) == 0:
			seen[j.entity] |= 1 << j.prop
			p := j.entity.Kind.Properties[j.prop]
			out = append(out, Change{Entity: j.entity, Property: p, New: w.Value(j.entity, p)})
		}
	}
	if out == nil {
		return nil
	}
	w.swap()
	for i := range out {
		out[i].Old = w.Value(out[i].Entity, out[i].Property)
	}
	w.swap()
	return slices.DeleteFunc(out, func(c Change) bool { return c.Old.Equal(c.New) })
}

// swap exchanges the journal's numbers with the world's: once for the state before the transaction, twice for no
// change.
func (w *World) swap() {
	for i := len(w.journal) - 1; i >= 0; i-- {
		if j := &w.journal[i]; j.what <= wroteQuiet {
			j.num, j.entity.Nums[j.slot] = j.entity.Nums[j.slot], j.num
		}
	}
	slices.Reverse(w.journal)
}

// Mark gives a place in the open transaction for ChangedSince.
func (w *World) Mark() int { return len(w.journal) }

// Touched is a property of an entity that differs from what it was at a mark.
type Touched struct {
	Entity   *Entity
	Property int
}

// ChangedSince appends the properties that the open transaction has changed since a mark, each once, by ID and then in
// the order of declaration. What was put back to what it was at the mark has not changed; nor has what is gone.
func (w *World) ChangedSince(mark int, out []Touched) []Touched {
	for i := mark; i < len(w.journal); i++ {
		j := &w.journal[i]
		if j.what != wroteSlot || j.entity.Gone || j.entity.Nums[j.slot] == j.num {
			continue
		}
		first := !slices.ContainsFunc(w.journal[mark:i], func(k entry) bool {
			return k.entity == j.entity && k.slot == j.slot && k.what == wroteSlot
		})
		if t := (Touched{j.entity, int(j.prop)}); first && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b Touched) int {
		if a.Entity != b.Entity {
			return int(a.Entity.ID - b.Entity.ID)
		}
		return a.Property - b.Property
	})
	return out
}

// Commit keeps what was written since the last Commit or Rollback.
func (w *World) Commit() {
	for i := range w.journal {
		j := &w.journal[i]
		if j.what == wroteSlot {
			j.entity.ticks()[j.prop] = w.Tick
			continue
		}
		w.report(j)
	}
	w.forget()
}

// keptJournal is how many entries a journal has room for that is used again. One body may write hundreds of thousands.
const keptJournal = 1 << 16

// forget empties the journal.
func (w *World) forget() {
	if cap(w.journal) > keptJournal {
		w.journal = nil
		return
	}
	w.journal = w.journal[:0]
}

// report notes what a journal entry that is no write of a property tells others.
func (w *World) report(j *entry) {
	switch j.what {
	case spawned, despawned, gave:
		if j.what != despawned {
			j.entity.given = w.Tick
		}
		w.news = append(w.news, News{
			Entity: j.entity,
			Gone:   j.what == despawned,
			Owner:  int(j.num),
			Spawn:  j.what == spawned,
		})
	case setRole:
		w.roster = w.Tick
		w.news = append(w.news, News{Role: int(j.slot)})
	}
}

// Rollback puts back everything that was written since the last Commit or Rollback.
func (w *World) Rollback() {
	for i := len(w.journal) - 1; i >= 0; i-- {
		j := &w.journal[i]
		switch j.what {
		case wroteSlot, wroteQuiet:
			j.entity.Nums[j.slot] = j.num
		case spawned:
			w.remove(j.entity)
			w.last--
			w.serials[j.entity.Kind.Index]--
		case despawned:
			w.insert(j.entity)
		case gave:
			j.entity.Owner = int(j.num)
		case delayedIt:
			last := len(j.entity.delayed) - 1
			if !j.entity.Gone {
				w.held -= j.entity.delayed[last].Action.Memory()
			}
			j.entity.delayed = j.entity.delayed[:last]
		case setRole:
			if c := w.Client(int(j.slot)); c != nil {
				c.Role = int(j.num)
			}
		}
	}
	clear(w.journal) // what was spawned is not kept alive
	w.forget()
}

// Flush calls visit for each entity that was written since the last Flush and is still there, in the order of the first
// writes, with one bit for each such property. A value may have been put back to what it was.
func (w *World) Flush(visit func(e *Entity, properties uint64)) {
	for _, e := range w.dirty {
		if !e.Gone {
			visit(e, e.dirty)
		}
		e.dirty = 0
	}
	clear(w.dirty)
	w.dirty = w.dirty[:0]
}

// Dirty lists the entities that Flush will visit, and those that are gone since.
func (w *World) Dirty() []*Entity { return w.dirty }

// Warm reads what a loop over some entities, a few, is about to read of them: reads that do not wait for each other
// take the time of one. What it gives means nothing.
func Warm(list []*Entity) (sum int64) {
	for _, e := range list {
		sum += int64(e.dirty) + int64(e.Owner)
	}
	for _, e := range list {
		for i := 0; i < len(e.Nums); i += 8 {
			sum += e.Nums[i]
		}
		if n := len(e.ticks()); n > 0 {
			sum += e.ticks()[n-1]
		}
	}
	return sum
}

// News calls visit for what committed transactions have spawned, despawned and given since it was last called, in
// order.
func (w *World) News(visit func(n News)) {
	for _, n := range w.news {
		visit(n)
	}
	clear(w.news)
	w.news = w.news[:0]
}

// Sweep forgets texts that nothing holds any more, once there are many. It must not be called in a transaction.
func (w *World) Sweep(most int) {
	if len(w.texts) <= max(most, w.sweepAt) {
		return
	}
	// With many that are held, the next time is when there are twice as many: what it costs is paid by what came.
	defer func() { w.sweepAt = 2 * len(w.texts) }()
	old := w.texts
	kept := map[int64]int64{}
	w.texts = nil
	w.places = map[string]int64{}
	for i, s := range w.contract.Texts {
		kept[int64(i)] = w.Intern(s)
	}
	move := func(slot *int64) {
		to, known := kept[*slot]
		if !known {
			to = w.Intern(old[*slot])
			kept[*slot] = to
		}
		*slot = to
	}
	texts := func(t *contract.Type, slots []int64) {
		t.Slots(0, func(i int, t *contract.Type) {
			if t.Form == contract.FormText {
				move(&slots[i])
			}
		})
	}
	for _, e := range w.entities {
		for _, p := range e.Kind.Properties {
			if p.Type.Has(contract.FormText) {
				texts(p.Type, e.Nums[p.Slot:])
			}
		}
		for _, d := range e.delayed {
			at := 0
			for _, p := range d.Action.Params {
				texts(p.Type, d.Args[at:])
				at += p.Type.Width()
			}
		}
	}
	at := 0
	for _, s := range w.contract.Settings {
		texts(s.Type, w.Settings[at:])
		at += s.Type.Width()
	}
	for i := range w.clients {
		move(&w.clients[i].text)
	}
}
