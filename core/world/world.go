// Package world holds what exists in a running session: entities with the values of their properties, and the transactions
// that change them all or not at all.
//
// A row is flat: whole numbers, enums, booleans and stacks stand in one slice of 64-bit numbers, texts in one of texts. A
// World is used by one goroutine at a time.
package world

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"kamerad/core/contract"
)

// ID numbers an entity inside the server, from 1, in the order of spawning; a number is never used twice. Clients never see
// it: toward them an entity has another number.
type ID int64

// Entity is one thing in the world.
type Entity struct {
	ID    ID
	Kind  *contract.Kind
	Owner int      // number of the client it belongs to; 0 is the server
	Nums  []int64  // the row, by the slots of the kind's properties; to be read only: writes go through the World
	Texts []string // the same for texts
	dirty uint64   // one bit for each property written since the last Flush
}

// World is the state of one session.
type World struct {
	contract *contract.Contract
	last     ID
	entities []*Entity         // by ID
	shared   []*Entity         // by kind
	per      []map[int]*Entity // by kind, then client
	journal  []entry
	replaced []string // texts that the journal's entries replaced
	dirty    []*Entity
}

// entry remembers what a write replaced. It is small: a body that writes three numbers should not wait for memory.
type entry struct {
	entity *Entity
	num    int64 // the old number, or where the old text stands among those replaced
	slot   int32
	prop   uint8
	text   bool
}

// New makes the world of a contract with its shared entities.
func New(c *contract.Contract) *World {
	w := &World{contract: c, shared: make([]*Entity, len(c.Kinds)), per: make([]map[int]*Entity, len(c.Kinds))}
	for _, k := range c.Kinds {
		w.per[k.Index] = map[int]*Entity{}
		if k.Shared {
			w.shared[k.Index] = w.Spawn(k, 0)
		}
	}
	return w
}

// Spawn adds an entity with the defaults of its kind.
func (w *World) Spawn(k *contract.Kind, owner int) *Entity {
	w.last++
	e := &Entity{ID: w.last, Kind: k, Owner: owner, Nums: make([]int64, k.Nums), Texts: make([]string, k.Texts)}
	for _, p := range k.Properties {
		switch p.Type.Form {
		case contract.FormText:
			e.Texts[p.Slot] = p.Default.Text
		case contract.FormStacks:
		default:
			e.Nums[p.Slot] = p.Default.Num
		}
	}
	w.entities = append(w.entities, e)
	if !k.Shared {
		w.per[k.Index][owner] = e
	}
	return e
}

// Despawn takes an entity out of the world.
func (w *World) Despawn(e *Entity) {
	if i, found := slices.BinarySearchFunc(w.entities, e.ID, func(x *Entity, id ID) int { return int(x.ID - id) }); found {
		w.entities = slices.Delete(w.entities, i, i+1)
	}
	if !e.Kind.Shared && w.per[e.Kind.Index][e.Owner] == e {
		delete(w.per[e.Kind.Index], e.Owner)
	}
}

// Entities lists all entities by ID. The slice is the world's own and holds until the next Spawn or Despawn.
func (w *World) Entities() []*Entity { return w.entities }

// Shared gives the entity of a shared kind, by the kind's index.
func (w *World) Shared(kind int) *Entity { return w.shared[kind] }

// Of gives the entity of a per-role kind that a client has, or nil.
func (w *World) Of(kind, client int) *Entity { return w.per[kind][client] }

// Num reads a property that is one number.
func (e *Entity) Num(p *contract.Property) int64 { return e.Nums[p.Slot] }

// Text reads a property that is a text.
func (e *Entity) Text(p *contract.Property) string { return e.Texts[p.Slot] }

// Value reads any property. Stacks are copied.
func (e *Entity) Value(p *contract.Property) contract.Value {
	switch p.Type.Form {
	case contract.FormText:
		return contract.Value{Text: e.Texts[p.Slot]}
	case contract.FormStacks:
		var v contract.Value
		row := e.stacks(p)
		for i := 0; i < len(row) && row[i+1] > 0; i += 2 {
			v.Stacks = append(v.Stacks, contract.Stack{Item: row[i], Count: row[i+1]})
		}
		return v
	}
	return contract.Value{Num: e.Nums[p.Slot]}
}

// stacks gives the pairs of item and count of a property; a count of 0 ends them.
func (e *Entity) stacks(p *contract.Property) []int64 {
	return e.Nums[p.Slot : p.Slot+2*p.Type.Max]
}

// Count tells how many of an item stacks hold.
func (e *Entity) Count(p *contract.Property, item int64) int64 {
	var n int64
	row := e.stacks(p)
	for i := 0; i < len(row) && row[i+1] > 0; i += 2 {
		if row[i] == item {
			n += row[i+1]
		}
	}
	return n
}

// Room tells how many more of an item stacks can take.
func (e *Entity) Room(p *contract.Property, item int64) int64 {
	var n int64
	row := e.stacks(p)
	for i := 0; i < len(row); i += 2 {
		if row[i+1] == 0 {
			n += p.Type.Each
		} else if row[i] == item {
			n += p.Type.Each - row[i+1]
		}
	}
	return n
}

// mark notes that a property was written.
func (w *World) mark(e *Entity, bit uint64) {
	if e.dirty == 0 {
		w.dirty = append(w.dirty, e)
	}
	e.dirty |= bit
}

// Write puts a number that is known to be right into a slot of a property.
func (w *World) Write(e *Entity, property, slot int, v int64) {
	old := e.Nums[slot]
	if old == v {
		return
	}
	w.journal = append(w.journal, entry{entity: e, num: old, slot: int32(slot), prop: uint8(property)})
	e.Nums[slot] = v
	if bit := uint64(1) << (property & 63); e.dirty&bit == 0 {
		w.mark(e, bit)
	}
}

// SetNum writes a number. What is out of the range is clipped if the property is clamped, and else an error that changes
// nothing.
func (w *World) SetNum(e *Entity, p *contract.Property, v int64) error {
	if t := p.Type; !t.Within(v) {
		if !p.Clamped {
			return fmt.Errorf("%s.%s cannot become %d: its range is %d..%d", e.Kind.Name, p.Name, v, t.Low, t.High)
		}
		v = min(max(v, t.Low), t.High)
	}
	w.Write(e, p.Index, p.Slot, v)
	return nil
}

// SetText writes a text. One that is too long is an error that changes nothing.
func (w *World) SetText(e *Entity, p *contract.Property, v string) error {
	if n := utf8.RuneCountInString(v); n > p.Type.Max {
		return fmt.Errorf("%s.%s cannot hold a text of %d characters: at most %d", e.Kind.Name, p.Name, n, p.Type.Max)
	}
	if e.Texts[p.Slot] == v {
		return nil
	}
	w.journal = append(w.journal, entry{entity: e, num: int64(len(w.replaced)), slot: int32(p.Slot), prop: uint8(p.Index), text: true})
	w.replaced = append(w.replaced, e.Texts[p.Slot])
	e.Texts[p.Slot] = v
	w.mark(e, 1<<p.Index)
	return nil
}

// Put adds n of an item: first onto stacks that have it, then as new ones. When there is no room for all, nothing changes
// and the error says so.
func (w *World) Put(e *Entity, p *contract.Property, item, n int64) error {
	if n < 0 {
		return fmt.Errorf("%s.%s cannot be given %d %s: a count is not negative", e.Kind.Name, p.Name, n, p.Type.Enum.Values[item])
	}
	if room := e.Room(p, item); n > room {
		return fmt.Errorf("%s.%s has no room for %d %s: only for %d", e.Kind.Name, p.Name, n, p.Type.Enum.Values[item], room)
	}
	row := e.stacks(p)
	for i := 0; i < len(row) && n > 0; i += 2 {
		if row[i+1] > 0 && row[i] != item {
			continue
		}
		if add := min(n, p.Type.Each-row[i+1]); add > 0 {
			w.Write(e, p.Index, p.Slot+i, item)
			w.Write(e, p.Index, p.Slot+i+1, row[i+1]+add)
			n -= add
		}
	}
	return nil
}

// Take removes n of an item, from the last stacks first; a stack that is empty closes up. When there are not enough, nothing
// changes and the error says so.
func (w *World) Take(e *Entity, p *contract.Property, item, n int64) error {
	if n < 0 {
		return fmt.Errorf("%d %s cannot be taken from %s.%s: a count is not negative", n, p.Type.Enum.Values[item], e.Kind.Name, p.Name)
	}
	if has := e.Count(p, item); n > has {
		return fmt.Errorf("%s.%s has %d %s, not %d", e.Kind.Name, p.Name, has, p.Type.Enum.Values[item], n)
	}
	row := e.stacks(p)
	for i := len(row) - 2; i >= 0 && n > 0; i -= 2 {
		if row[i+1] == 0 || row[i] != item {
			continue
		}
		take := min(n, row[i+1])
		n -= take
		if take < row[i+1] {
			w.Write(e, p.Index, p.Slot+i+1, row[i+1]-take)
			continue
		}
		for j := i; j < len(row); j++ {
			next := int64(0)
			if j+2 < len(row) {
				next = row[j+2]
			}
			w.Write(e, p.Index, p.Slot+j, next)
		}
	}
	return nil
}

// Change is a property that a transaction changed.
type Change struct {
	Entity   *Entity
	Property *contract.Property
	Old, New contract.Value
}

// Changes lists what the transaction has changed so far, each property once, in the order of the first writes.
func (w *World) Changes() []Change {
	var out []Change
	seen := map[*Entity]uint64{}
	for _, j := range w.journal {
		if seen[j.entity]&(1<<j.prop) == 0 {
			seen[j.entity] |= 1 << j.prop
			p := j.entity.Kind.Properties[j.prop]
			out = append(out, Change{Entity: j.entity, Property: p, New: j.entity.Value(p)})
		}
	}
	if out == nil {
		return nil
	}
	w.swap()
	for i := range out {
		out[i].Old = out[i].Entity.Value(out[i].Property)
	}
	w.swap()
	return slices.DeleteFunc(out, func(c Change) bool { return c.Old.Equal(c.New) })
}

// swap exchanges the journal's values with the world's: once for the state before the transaction, twice for no change.
func (w *World) swap() {
	n := len(w.journal)
	for i := n - 1; i >= 0; i-- {
		j := &w.journal[i]
		if j.text {
			w.replaced[j.num], j.entity.Texts[j.slot] = j.entity.Texts[j.slot], w.replaced[j.num]
		} else {
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

// ChangedSince appends the properties that the open transaction has changed since a mark, each once, by ID and then in the
// order of declaration. What was put back to what it was at the mark has not changed.
func (w *World) ChangedSince(mark int, out []Touched) []Touched {
	for i := mark; i < len(w.journal); i++ {
		j := &w.journal[i]
		first := !slices.ContainsFunc(w.journal[mark:i], func(k entry) bool {
			return k.entity == j.entity && k.slot == j.slot && k.text == j.text
		})
		if !first || !j.text && j.entity.Nums[j.slot] == j.num || j.text && j.entity.Texts[j.slot] == w.replaced[j.num] {
			continue
		}
		if t := (Touched{j.entity, int(j.prop)}); !slices.Contains(out, t) {
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
	w.journal = w.journal[:0]
	if len(w.replaced) > 0 {
		clear(w.replaced) // the old texts are no longer wanted
		w.replaced = w.replaced[:0]
	}
}

// Rollback puts back everything that was written since the last Commit or Rollback.
func (w *World) Rollback() {
	w.swap()
	w.Commit()
}

// Flush calls visit for each entity that was written since the last Flush, by ID, with one bit for each such property. A
// value may have been put back to what it was.
func (w *World) Flush(visit func(e *Entity, properties uint64)) {
	slices.SortFunc(w.dirty, func(a, b *Entity) int { return int(a.ID - b.ID) })
	for _, e := range w.dirty {
		visit(e, e.dirty)
		e.dirty = 0
	}
	clear(w.dirty)
	w.dirty = w.dirty[:0]
}

// Entity gives an entity by its ID, or nil if there is none.
func (w *World) Entity(id ID) *Entity {
	i, found := slices.BinarySearchFunc(w.entities, id, func(x *Entity, id ID) int { return int(x.ID - id) })
	if !found {
		return nil
	}
	return w.entities[i]
}
