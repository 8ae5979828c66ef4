// Package world holds what exists in a running session: entities with the values of their properties, and the
// transactions that change them all or not at all.
//
// An entity's values stand in one flat slice of 64-bit numbers, its row; a text is an index into the world's list of
// texts. The package knows nothing of rules or of who may see what. A World is used by one goroutine at a time.
//
// Spawn, Despawn and the setters write a journal; Commit keeps what it holds and Rollback undoes it. An Entity belongs
// to the world, and its row must be changed by the world's methods alone.
//
// # How it works
//
// Entities of a kind stand in a list, and all of them in a map by their ID. A write puts the old number into the
// journal before it changes the row, so that a rollback goes over the journal backwards. The journal says too which
// properties a transaction has changed, which is what handlers of changes are run for. holders.go has the operations on
// lists, maps and stacks, which are laid out in the row with room for as many values as they may have: nothing is
// allocated while a session runs, and what a session may take is known beforehand. index.go finds entities by where
// they are, or by a value.
package world

import (
	"cmp"
	"math/bits"
	"slices"

	"kamerad.example/core/contract"
)

// ID numbers an entity inside the server, from 1, in the order of spawning; no number is used twice. Clients never see
// it: they know an entity by another number.
type ID int64

// Entity is one entity of the world. Its fields are to be read only: changes go through the World.
type Entity struct {
	// Nums is the row, by the slots of the kind's properties. Behind it, in the same memory, stands for each property
	// the tick in which it last changed: what writes the one also writes the other.
	Nums        []int64 `checkpoint:"cap"`
	writtenMask uint64  // properties that were written since the last VisitWritten, as a bit set
	Baseline    any     // for whoever replicates the world: what it knows of the entity
	Kind        *contract.Kind
	ID          ID
	Owner       int   // number of the client that owns it; 0 is the server
	Serial      int64 // counts the entities of its kind from 1, so that no kind tells how many there are of another
	ownerTick   int64 // the tick in which it last came to have another owner
	delayed     []Delayed
	Gone        bool // it was despawned

	// What an index keeps of it; see index.go.
	indexed     uint64 // properties that it is indexed by, as a bit set
	indexNumber int32  // its number in the index, plus one; 0 for none
	isStale     bool   // it is to be sorted in anew
}

// changeTicks returns the tick in which each property last changed.
func (e *Entity) changeTicks() []int64 { return e.Nums[len(e.Nums):cap(e.Nums)] }

// Delayed is an action that runs at a tick, with its arguments.
type Delayed struct {
	Tick   int64
	Since  int64 // the tick in which it began to wait
	Action *contract.Action
	Args   []int64
}

// Client is what the world knows of a client.
type Client struct {
	Number   int // from 1
	Name     string
	Role     int
	nameText int64 // the name among the texts
}

// World is the state of one session. Everything that changes it belongs to the open transaction, which begins with the
// last Commit or Rollback, unless the method says otherwise.
type World struct {
	Tick         int64   // in which writes happen
	Settings     []int64 // by the slots of the contract's settings
	MaxMemory    int64   // bytes that entities, and what clients are told of them, may take; 0 for no bound
	ClientMemory int64   // bytes that are held for clients, beside the entities' own
	// of the last entity of which it was noted where it began to move; a later one has not moved yet
	LastMoved ID

	contract       *contract.Contract
	lastID         ID
	serials        []int64   // by kind: that of the last entity
	entities       []*Entity // by ID
	byID           map[ID]*Entity
	kinds          [][]*Entity       // by kind, then ID
	shared         []*Entity         // by kind
	ofClient       []map[int]*Entity // by kind, then client
	clients        []Client          // by number
	clientsTick    int64             // the tick in which a client last came, went or changed its role
	texts          []string
	textIndex      map[string]int64 // index of each text
	nextCollection int              // how many texts there have to be for the next CollectTexts
	journal        []journalEntry   // of the open transaction
	written        []*Entity        // written since the last VisitWritten
	events         []Event          // since the last Events
	kindMemory     []int64          // by kind: bytes of memory that one entity takes
	memoryUsed     int64            // bytes of all entities and of what they delay
	indexes        []*index         // by kind; nil where there is none
	stale          []*Entity        // that are to be sorted into the indexes
	indexedJournal int              // up to which entry the journal was looked at for what is stale
}

// entryType says what a journal entry undoes.
type entryType uint8

const (
	wroteSlot   entryType = iota
	wroteHidden           // a slot that is no part of a property
	didSpawn
	didDespawn
	changedOwner
	didDelay
	changedRole
)

// journalEntry remembers what a change replaced. It is small, 24 bytes: a body that writes three numbers should not
// wait for memory.
type journalEntry struct {
	entity   *Entity
	old      int64 // the number before; of gave the owner, of setRole the role
	slot     int32 // of setRole the client
	property uint8
	typ      entryType
}

// Event is what a committed transaction did to an entity as a whole, or to the role of a client.
type Event struct {
	Entity    *Entity // nil for a role
	Despawned bool    // it was despawned; else it was spawned or changed its owner
	Owner     int     // whose it was before
	Spawned   bool
	Role      int // number of the client that has another role; 0 for an entity
}

// New returns the world of a contract with its shared entities. settings are the slots of the contract's settings; nil
// means the defaults.
func New(c *contract.Contract, settings []int64) *World {
	w := &World{
		contract:  c,
		shared:    make([]*Entity, len(c.Kinds)),
		ofClient:  make([]map[int]*Entity, len(c.Kinds)),
		kinds:     make([][]*Entity, len(c.Kinds)),
		serials:   make([]int64, len(c.Kinds)),
		byID:      map[ID]*Entity{},
		textIndex: map[string]int64{},
		Settings:  settings,
	}
	for i, s := range c.Texts {
		w.texts = append(w.texts, s)
		w.textIndex[s] = int64(i)
	}
	if settings == nil {
		for _, s := range c.Settings {
			w.Settings = append(w.Settings, s.Default...)
		}
	}
	for _, k := range c.Kinds {
		w.kindMemory = append(w.kindMemory, k.Memory())
	}
	for _, k := range c.Kinds {
		w.ofClient[k.Index] = map[int]*Entity{}
		if k.Shared {
			w.shared[k.Index] = w.Spawn(k, 0)
		}
	}
	w.Commit()
	w.Events(func(Event) {})
	return w
}

// Contract returns the contract that the world is made of.
func (w *World) Contract() *contract.Contract { return w.contract }

// Intern returns the index of a text among the world's texts, and adds the text if need be.
func (w *World) Intern(s string) int64 {
	n, known := w.textIndex[s]
	if !known {
		n = int64(len(w.texts))
		w.texts = append(w.texts, s)
		w.textIndex[s] = n
	}
	return n
}

// LastID returns the ID of the entity that was spawned last; 0 for none.
func (w *World) LastID() ID { return w.lastID }

// Text returns the text with an index.
func (w *World) Text(n int64) string { return w.texts[n] }

// Spawn adds an entity with the defaults of its kind, and returns it.
func (w *World) Spawn(k *contract.Kind, owner int) *Entity {
	w.lastID++
	w.serials[k.Index]++
	row := make([]int64, k.Slots+len(k.Properties))
	row = row[:k.Slots:len(row)]
	e := &Entity{
		ID:     w.lastID,
		Serial: w.serials[k.Index],
		Kind:   k,
		Owner:  owner,
		Nums:   row,
	}
	for _, p := range k.Properties {
		copy(e.Nums[p.Slot:], p.Default)
	}
	for i := range e.changeTicks() {
		e.changeTicks()[i] = w.Tick
	}
	if w.indexes != nil && w.indexes[k.Index] != nil {
		e.indexed = w.indexes[k.Index].properties
	}
	w.insert(e)
	w.journal = append(w.journal, journalEntry{entity: e, typ: didSpawn})
	return e
}

// MaxSerial returns how many entities of one kind a session of a contract can number: clients know them by 32 bits,
// some of which are the kind's.
func MaxSerial(c *contract.Contract) int64 { return 1<<(32-bits.Len(uint(len(c.Kinds)))) - 1 }

// Full reports whether no more entities of a kind can be numbered.
func (w *World) Full(k *contract.Kind) bool { return w.serials[k.Index] >= MaxSerial(w.contract) }

// MemoryUsed returns how many bytes of memory the session takes for its entities, for what they delay, and for what
// clients have by themselves. It is an estimate that depends on the world alone; see contract.Kind.Memory.
func (w *World) MemoryUsed() int64 { return w.memoryUsed + w.ClientMemory }

// HasRoom reports whether an entity of a kind may be added, by the memory that it takes.
func (w *World) HasRoom(k *contract.Kind) bool {
	return w.MaxMemory == 0 || w.MemoryUsed()+w.kindMemory[k.Index] <= w.MaxMemory
}

// HasRoomToDelay reports whether an action may wait for its time, by the memory that it takes meanwhile.
func (w *World) HasRoomToDelay(a *contract.Action) bool {
	return w.MaxMemory == 0 || w.MemoryUsed()+a.Memory() <= w.MaxMemory
}

// memoryOf returns the bytes that an entity takes.
func (w *World) memoryOf(e *Entity) int64 {
	out := w.kindMemory[e.Kind.Index]
	for i := range e.delayed {
		out += e.delayed[i].Action.Memory()
	}
	return out
}

// Key returns a number for an entity that follows from its kind and serial alone: whatever happens to other kinds, it
// is the same.
func (e *Entity) Key() int64 { return int64(e.Kind.Index)<<48 | e.Serial }

// compareID orders entities by the order in which they were spawned.
func compareID(x *Entity, id ID) int { return int(x.ID - id) }

// insert puts an entity into all lists. It nearly always belongs at their end: only one that comes back does not.
func (w *World) insert(e *Entity) {
	for _, list := range []*[]*Entity{&w.entities, &w.kinds[e.Kind.Index]} {
		if n := len(*list); n == 0 || (*list)[n-1].ID < e.ID {
			*list = append(*list, e)
		} else {
			i, _ := slices.BinarySearchFunc(*list, e.ID, compareID)
			*list = slices.Insert(*list, i, e)
		}
	}
	w.byID[e.ID] = e
	w.memoryUsed += w.memoryOf(e)
	if e.Kind.Per >= 0 {
		w.ofClient[e.Kind.Index][e.Owner] = e
	}
	e.Gone = false
}

// remove removes an entity from all lists.
func (w *World) remove(e *Entity) {
	for _, list := range []*[]*Entity{&w.entities, &w.kinds[e.Kind.Index]} {
		if i, found := slices.BinarySearchFunc(*list, e.ID, compareID); found {
			*list = slices.Delete(*list, i, i+1)
		}
	}
	delete(w.byID, e.ID)
	w.memoryUsed -= w.memoryOf(e)
	if e.Kind.Per >= 0 && w.ofClient[e.Kind.Index][e.Owner] == e {
		delete(w.ofClient[e.Kind.Index], e.Owner)
	}
	e.Gone = true
}

// Despawn removes an entity from the world. One that is gone already stays so.
func (w *World) Despawn(e *Entity) {
	if !e.Gone {
		w.remove(e)
		w.journal = append(w.journal, journalEntry{entity: e, typ: didDespawn})
	}
}

// SetOwner changes the owner of an entity; 0 is the server.
func (w *World) SetOwner(e *Entity, owner int) {
	if e.Owner != owner {
		w.journal = append(w.journal, journalEntry{entity: e, old: int64(e.Owner), typ: changedOwner})
		e.Owner = owner
	}
}

// Delay lets an action of an entity run at a later tick. args are copied. It reports false when too many wait already.
func (w *World) Delay(e *Entity, at int64, a *contract.Action, args []int64) bool {
	if len(e.delayed) >= maxDelayed {
		return false
	}
	w.journal = append(w.journal, journalEntry{entity: e, typ: didDelay})
	d := Delayed{at, w.Tick, a, slices.Clone(args)}
	e.delayed = append(e.delayed, d)
	if !e.Gone {
		w.memoryUsed += a.Memory()
	}
	return true
}

// Delayed returns the actions of an entity that wait for their tick.
func (w *World) Delayed(e *Entity) []Delayed { return slices.Clone(e.delayed) }

// maxDelayed is how many actions of one entity may wait.
const maxDelayed = 100

// PutOff has the actions of an entity that wait, wait for some ticks more.
func (w *World) PutOff(e *Entity, ticks int64) {
	for i := range e.delayed {
		e.delayed[i].Tick += ticks
	}
}

// NextDue takes the first action out of an entity's list whose tick has come. ok is false when there is none. It is no
// part of a transaction: an action that fails has run.
func (w *World) NextDue(e *Entity) (d Delayed, ok bool) {
	for i, d := range e.delayed {
		if d.Tick <= w.Tick {
			e.delayed = slices.Delete(e.delayed, i, i+1)
			if !e.Gone {
				w.memoryUsed -= d.Action.Memory()
			}
			return d, true
		}
	}
	return d, false
}

// Entities returns all entities, by ID. The slice is the world's own and holds until the next Spawn or Despawn.
func (w *World) Entities() []*Entity { return w.entities }

// OfKind returns the entities of a kind, which is given by its index, as Entities does.
func (w *World) OfKind(kind int) []*Entity { return w.kinds[kind] }

// Shared returns the entity of a shared kind, which is given by its index.
func (w *World) Shared(kind int) *Entity { return w.shared[kind] }

// OfClient returns the entity of a per-role kind that a client has, or nil.
func (w *World) OfClient(kind, client int) *Entity { return w.ofClient[kind][client] }

// Entity returns the entity with an ID, or nil.
func (w *World) Entity(id ID) *Entity { return w.byID[id] }

// Clients returns the clients, by number. The slice is the world's own.
func (w *World) Clients() []Client { return w.clients }

// Client returns the client with a number, or nil. It holds until a client comes or goes.
func (w *World) Client(number int) *Client {
	i, found := slices.BinarySearchFunc(w.clients, number, func(c Client, n int) int { return c.Number - n })
	if !found {
		return nil
	}
	return &w.clients[i]
}

// ClientName returns the index of a client's name among the texts, that of the empty text for no client.
func (w *World) ClientName(client int) int64 {
	if c := w.Client(client); c != nil {
		return c.nameText
	}
	return 0
}

// AddClient adds a client, whose number has to be greater than that of any before. It is no part of a transaction.
func (w *World) AddClient(c Client) {
	c.nameText = w.Intern(c.Name)
	w.clients = append(w.clients, c)
	w.clientsTick = w.Tick
}

// RemoveClient removes a client. It is no part of a transaction.
func (w *World) RemoveClient(number int) {
	w.clients = slices.DeleteFunc(w.clients, func(c Client) bool { return c.Number == number })
	w.clientsTick = w.Tick
}

// ClientOfRole returns the number of the first client of a role, contract.Nothing when there is none.
func (w *World) ClientOfRole(role int) int64 {
	for i := range w.clients {
		if w.clients[i].Role == role {
			return int64(w.clients[i].Number)
		}
	}
	return contract.Nothing
}

// SetRole changes the role of a client.
func (w *World) SetRole(client, role int) {
	if c := w.Client(client); c != nil && c.Role != role {
		w.journal = append(w.journal, journalEntry{old: int64(c.Role), slot: int32(client), typ: changedRole})
		c.Role = role
	}
}

// Value returns a property's value. Refs in it are IDs.
func (w *World) Value(e *Entity, p *contract.Property) contract.Value {
	return p.Type.FromSlots(e.Nums[p.Slot:], w.Text)
}

// ChangedTick returns the tick in which a property last changed: the present one, when the open transaction has changed
// it.
func (w *World) ChangedTick(e *Entity, property int) int64 {
	for i := range w.journal {
		if j := &w.journal[i]; j.entity == e && j.typ == wroteSlot && int(j.property) == property &&
			e.Nums[j.slot] != j.old {
			return w.Tick
		}
	}
	return e.changeTicks()[property]
}

// OwnerTick returns the tick in which an entity last came to have another owner, or was spawned.
func (w *World) OwnerTick(e *Entity) int64 { return e.ownerTick }

// ClientsTick returns the tick in which a client last came, went or changed its role.
func (w *World) ClientsTick() int64 { return w.clientsTick }

// Write puts a number into a slot of a property. The caller has checked that it is a value of the property's type.
func (w *World) Write(e *Entity, property, slot int, v int64) {
	old := e.Nums[slot]
	if old == v {
		return
	}
	w.journal = append(w.journal, journalEntry{
		entity:   e,
		old:      old,
		slot:     int32(slot),
		property: uint8(property),
	})
	e.Nums[slot] = v
	w.Touch(e, property)
}

// Touch marks a property as written, whatever its value: clients are told it anew where they may hold another one.
func (w *World) Touch(e *Entity, property int) {
	if bit := uint64(1) << (property & 63); e.writtenMask&bit == 0 {
		if e.writtenMask == 0 {
			w.written = append(w.written, e)
		}
		e.writtenMask |= bit
	}
}

// WriteHidden puts a number into a slot that is no part of a property, such as the start of a motion. It marks
// nothing as changed.
func (w *World) WriteHidden(e *Entity, slot int, v int64) {
	if old := e.Nums[slot]; old != v {
		w.journal = append(w.journal, journalEntry{
			entity: e,
			old:    old,
			slot:   int32(slot),
			typ:    wroteHidden,
		})
		e.Nums[slot] = v
	}
}

// Set writes a whole property from slots that the caller has checked.
func (w *World) Set(e *Entity, p *contract.Property, slots []int64) {
	for i, v := range slots {
		w.Write(e, p.Index, p.Slot+i, v)
	}
}

// SetInitial gives a property its first value: of an entity that the open transaction has spawned, or of one that was
// there when the world was made and about which nobody was told yet. It is no change.
func (w *World) SetInitial(e *Entity, p *contract.Property, slots []int64) {
	copy(e.Nums[p.Slot:], slots)
}

// WrittenSince appends to out the entities that are there and of which the open transaction has written a property
// since a mark that is in its kind's set of properties, each once, by ID.
func (w *World) WrittenSince(mark int, properties func(k *contract.Kind) uint64, out []*Entity) []*Entity {
	for i := mark; i < len(w.journal); i++ {
		j := &w.journal[i]
		if j.typ != wroteSlot || j.entity.Gone || properties(j.entity.Kind)>>j.property&1 == 0 {
			continue
		}
		if n := len(out); n == 0 || out[n-1] != j.entity {
			out = append(out, j.entity)
		}
	}
	slices.SortFunc(out, func(a, b *Entity) int { return cmp.Compare(a.ID, b.ID) })
	return slices.Compact(out)
}

// Change is a property that a transaction changed.
type Change struct {
	Entity   *Entity
	Property *contract.Property
	Old, New contract.Value
}

// Changes returns what the open transaction has changed so far, each property once, in the order of the first writes.
// What was spawned in it has not changed.
func (w *World) Changes() []Change {
	var out []Change
	seen := map[*Entity]uint64{}
	for _, j := range w.journal {
		switch {
		case j.typ == didSpawn:
			seen[j.entity] = ^uint64(0)
		case j.typ == wroteSlot && seen[j.entity]&(1<<j.property) == 0:
			seen[j.entity] |= 1 << j.property
			p := j.entity.Kind.Properties[j.property]
			out = append(out, Change{Entity: j.entity, Property: p, New: w.Value(j.entity, p)})
		}
	}
	if out == nil {
		return nil
	}
	w.swapJournal()
	for i := range out {
		out[i].Old = w.Value(out[i].Entity, out[i].Property)
	}
	w.swapJournal()
	return slices.DeleteFunc(out, func(c Change) bool { return c.Old.Equal(c.New) })
}

// Traced is a property that a transaction changed, or that came with an entity that it spawned.
type Traced struct {
	Change
	Spawned bool
	Mark    int // in the journal, of what changed it last
}

// Traced returns what the open transaction has changed, in the order of the first writes, and the first values of what
// it has spawned.
func (w *World) Traced() (out []Traced) {
	spawned := map[*Entity]bool{}
	at := map[ChangedProperty]int{}
	for mark, j := range w.journal {
		switch {
		case j.typ == didSpawn:
			spawned[j.entity] = true
			for _, p := range j.entity.Kind.Properties {
				at[ChangedProperty{j.entity, p.Index}] = len(out)
				change := Change{Entity: j.entity, Property: p, New: w.Value(j.entity, p)}
				out = append(out, Traced{change, true, mark})
			}
		case j.typ == wroteSlot:
			key := ChangedProperty{j.entity, int(j.property)}
			if i, known := at[key]; known {
				out[i].Mark = mark
				continue
			}
			at[key] = len(out)
			p := j.entity.Kind.Properties[j.property]
			change := Change{Entity: j.entity, Property: p, New: w.Value(j.entity, p)}
			out = append(out, Traced{change, false, mark})
		}
	}
	w.swapJournal()
	for i := range out {
		if !out[i].Spawned {
			out[i].Old = w.Value(out[i].Entity, out[i].Property)
		}
	}
	w.swapJournal()
	return out
}

// Delay is an action that an entity has wait.
type Delay struct {
	Entity *Entity
	Action *contract.Action
	Tick   int64 // in which it is to run
}

// Delays returns the actions that the open transaction has had wait.
func (w *World) Delays() (out []Delay) {
	seen := map[*Entity]int{}
	for _, j := range slices.Backward(w.journal) {
		if j.typ != didDelay {
			continue
		}
		seen[j.entity]++
		if n := len(j.entity.delayed) - seen[j.entity]; n >= 0 {
			d := &j.entity.delayed[n]
			out = append(out, Delay{j.entity, d.Action, d.Tick})
		}
	}
	slices.Reverse(out)
	return out
}

// swapJournal exchanges the journal's numbers with the world's: once for the state before the transaction, twice for
// the state as it was.
func (w *World) swapJournal() {
	for i := len(w.journal) - 1; i >= 0; i-- {
		if j := &w.journal[i]; j.typ <= wroteHidden {
			j.old, j.entity.Nums[j.slot] = j.entity.Nums[j.slot], j.old
		}
	}
	slices.Reverse(w.journal)
}

// JournalMark returns how far the open transaction is, for ChangedSince.
func (w *World) JournalMark() int { return len(w.journal) }

// ChangedProperty is a property of an entity that differs from what it was at a mark. Property is its index.
type ChangedProperty struct {
	Entity   *Entity
	Property int
}

// ChangedSince appends to out the properties that the open transaction has changed since a mark, each once, by ID and
// then in the order of declaration. What was put back to what it was at the mark has not changed; nor has what is gone.
func (w *World) ChangedSince(mark int, out []ChangedProperty) []ChangedProperty {
	for i := mark; i < len(w.journal); i++ {
		j := &w.journal[i]
		if j.typ != wroteSlot || j.entity.Gone || j.entity.Nums[j.slot] == j.old {
			continue
		}
		first := !slices.ContainsFunc(w.journal[mark:i], func(k journalEntry) bool {
			return k.entity == j.entity && k.slot == j.slot && k.typ == wroteSlot
		})
		if t := (ChangedProperty{j.entity, int(j.property)}); first && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	slices.SortFunc(out, func(a, b ChangedProperty) int {
		if a.Entity != b.Entity {
			return int(a.Entity.ID - b.Entity.ID)
		}
		return a.Property - b.Property
	})
	return out
}

// Touched is an entity with the properties of it that were written, as a bit set; all of one that was spawned or has
// another owner.
type Touched struct {
	Entity     ID
	Properties uint64
}

// Touched appends to out what the open transaction has touched, each entity once.
func (w *World) Touched(out []Touched) []Touched {
	for i := range w.journal {
		j := &w.journal[i]
		properties := ^uint64(0)
		switch j.typ {
		case wroteSlot:
			properties = 1 << j.property
		case didSpawn, changedOwner:
		default:
			continue
		}
		at := slices.IndexFunc(out, func(t Touched) bool { return t.Entity == j.entity.ID })
		if at < 0 {
			at = len(out)
			out = append(out, Touched{Entity: j.entity.ID})
		}
		out[at].Properties |= properties
	}
	return out
}

// Commit keeps what was written since the last Commit or Rollback.
func (w *World) Commit() {
	w.endIndexed(w.indexedJournal)
	for i := range w.journal {
		j := &w.journal[i]
		if j.typ == wroteSlot {
			j.entity.changeTicks()[j.property] = w.Tick
			continue
		}
		w.addEvent(j)
	}
	w.emptyJournal()
}

// keptJournal is up to how many entries a journal's memory is used again. One body may write hundreds of thousands.
const keptJournal = 1 << 16

// emptyJournal empties the journal.
func (w *World) emptyJournal() {
	if cap(w.journal) > keptJournal {
		w.journal = nil
		return
	}
	w.journal = w.journal[:0]
}

// addEvent adds what a journal entry that is no write of a property means to others.
func (w *World) addEvent(j *journalEntry) {
	switch j.typ {
	case didSpawn, didDespawn, changedOwner:
		if j.typ != didDespawn {
			j.entity.ownerTick = w.Tick
		}
		w.events = append(w.events, Event{
			Entity:    j.entity,
			Despawned: j.typ == didDespawn,
			Owner:     int(j.old),
			Spawned:   j.typ == didSpawn,
		})
	case changedRole:
		w.clientsTick = w.Tick
		w.events = append(w.events, Event{Role: int(j.slot)})
	}
}

// Rollback puts back everything that was written since the last Commit or Rollback.
func (w *World) Rollback() {
	w.endIndexed(0) // what was sorted in already moves back
	for i := len(w.journal) - 1; i >= 0; i-- {
		j := &w.journal[i]
		switch j.typ {
		case wroteSlot, wroteHidden:
			j.entity.Nums[j.slot] = j.old
		case didSpawn:
			w.remove(j.entity)
			w.lastID--
			w.serials[j.entity.Kind.Index]--
		case didDespawn:
			w.insert(j.entity)
		case changedOwner:
			j.entity.Owner = int(j.old)
		case didDelay:
			last := len(j.entity.delayed) - 1
			if !j.entity.Gone {
				w.memoryUsed -= j.entity.delayed[last].Action.Memory()
			}
			j.entity.delayed = j.entity.delayed[:last]
		case changedRole:
			if c := w.Client(int(j.slot)); c != nil {
				c.Role = int(j.old)
			}
		}
	}
	clear(w.journal) // what was spawned is not kept alive
	w.emptyJournal()
}

// VisitWritten calls visit for each entity that was written since the last time and is still there, in the order of the
// first writes, with the written properties as a bit set. A value may have been put back to what it was.
func (w *World) VisitWritten(visit func(e *Entity, properties uint64)) {
	for _, e := range w.written {
		if !e.Gone {
			visit(e, e.writtenMask)
		}
		e.writtenMask = 0
	}
	clear(w.written)
	w.written = w.written[:0]
}

// Written returns the entities that Flush will visit, and those of them that are gone since.
func (w *World) Written() []*Entity { return w.written }

// Prefetch reads what a loop over a few entities is about to read of them: reads that do not wait for each other take
// the time of one. What it returns means nothing; the caller adds it to a field, so that no compiler removes the reads.
// Without it, and without the same in views, seats and writers, a tick that writes an entity of each of a thousand
// clients was measured to take 8 % more.
func Prefetch(list []*Entity) (sum int64) {
	for _, e := range list {
		sum += int64(e.writtenMask) + int64(e.Owner)
	}
	for _, e := range list {
		for i := 0; i < len(e.Nums); i += 8 {
			sum += e.Nums[i]
		}
		if n := len(e.changeTicks()); n > 0 {
			sum += e.changeTicks()[n-1]
		}
	}
	return sum
}

// Events calls visit for what committed transactions have done since it was last called, in order.
func (w *World) Events(visit func(n Event)) {
	for _, n := range w.events {
		visit(n)
	}
	clear(w.events)
	w.events = w.events[:0]
}

// CollectTexts forgets the texts that nothing holds any more, once there are more than most. It must not be called in a
// transaction: the journal may hold indices of texts.
func (w *World) CollectTexts(most int) {
	if len(w.texts) <= max(most, w.nextCollection) {
		return
	}
	// With many that are held, the next time is when there are twice as many: what it costs is paid by what came.
	defer func() { w.nextCollection = 2 * len(w.texts) }()
	old := w.texts
	kept := map[int64]int64{}
	w.texts = nil
	w.textIndex = map[string]int64{}
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
		move(&w.clients[i].nameText)
	}
}
