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
	Owner int // number of the client it belongs to; 0 is the server
	nums  []int64
	texts []string
	dirty uint64 // one bit for each property written since the last Flush
}

// World is the state of one session.
type World struct {
	contract *contract.Contract
	last     ID
	entities []*Entity         // by ID
	shared   []*Entity         // by kind
	per      []map[int]*Entity // by kind, then client
	journal  []entry
	dirty    []*Entity
}

// entry remembers what a write replaced.
type entry struct {
	entity *Entity
	prop   *contract.Property
	slot   int
	num    int64
	text   string
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
	e := &Entity{ID: w.last, Kind: k, Owner: owner, nums: make([]int64, k.Nums), texts: make([]string, k.Texts)}
	for _, p := range k.Properties {
		switch p.Type.Form {
		case contract.FormText:
			e.texts[p.Slot] = p.Default.Text
		case contract.FormStacks:
		default:
			e.nums[p.Slot] = p.Default.Num
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

// Shared gives the entity of a shared kind.
func (w *World) Shared(k *contract.Kind) *Entity { return w.shared[k.Index] }

// Of gives the entity of a per-role kind that a client has, or nil.
func (w *World) Of(k *contract.Kind, client int) *Entity { return w.per[k.Index][client] }

// Num reads a property that is one number.
func (e *Entity) Num(p *contract.Property) int64 { return e.nums[p.Slot] }

// Text reads a property that is a text.
func (e *Entity) Text(p *contract.Property) string { return e.texts[p.Slot] }

// Value reads any property. Stacks are copied.
func (e *Entity) Value(p *contract.Property) contract.Value {
	switch p.Type.Form {
	case contract.FormText:
		return contract.Value{Text: e.texts[p.Slot]}
	case contract.FormStacks:
		var v contract.Value
		row := e.stacks(p)
		for i := 0; i < len(row) && row[i+1] > 0; i += 2 {
			v.Stacks = append(v.Stacks, contract.Stack{Item: row[i], Count: row[i+1]})
		}
		return v
	}
	return contract.Value{Num: e.nums[p.Slot]}
}

// stacks gives the pairs of item and count of a property; a count of 0 ends them.
func (e *Entity) stacks(p *contract.Property) []int64 {
	return e.nums[p.Slot : p.Slot+2*p.Type.Max]
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

// mark notes that a property is about to be written.
func (w *World) mark(e *Entity, p *contract.Property) {
	if e.dirty == 0 {
		w.dirty = append(w.dirty, e)
	}
	e.dirty |= 1 << p.Index
}

func (w *World) write(e *Entity, p *contract.Property, slot int, v int64) {
	if e.nums[slot] == v {
		return
	}
	w.journal = append(w.journal, entry{entity: e, prop: p, slot: slot, num: e.nums[slot]})
	e.nums[slot] = v
	w.mark(e, p)
}

// SetNum writes a number. What is out of the range is clipped if the property is clamped, and else an error that changes
// nothing.
func (w *World) SetNum(e *Entity, p *contract.Property, v int64) error {
	if t := p.Type; t.Form == contract.FormInt && (v < t.Low || v > t.High) {
		if !p.Clamped {
			return fmt.Errorf("%s.%s cannot become %d: its range is %d..%d", e.Kind.Name, p.Name, v, t.Low, t.High)
		}
		v = min(max(v, t.Low), t.High)
	}
	w.write(e, p, p.Slot, v)
	return nil
}

// SetText writes a text. One that is too long is an error that changes nothing.
func (w *World) SetText(e *Entity, p *contract.Property, v string) error {
	if n := utf8.RuneCountInString(v); n > p.Type.Max {
		return fmt.Errorf("%s.%s cannot hold a text of %d characters: at most %d", e.Kind.Name, p.Name, n, p.Type.Max)
	}
	if e.texts[p.Slot] == v {
		return nil
	}
	w.journal = append(w.journal, entry{entity: e, prop: p, slot: p.Slot, text: e.texts[p.Slot]})
	e.texts[p.Slot] = v
	w.mark(e, p)
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
			w.write(e, p, p.Slot+i, item)
			w.write(e, p, p.Slot+i+1, row[i+1]+add)
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
			w.write(e, p, p.Slot+i+1, row[i+1]-take)
			continue
		}
		for j := i; j < len(row); j++ {
			next := int64(0)
			if j+2 < len(row) {
				next = row[j+2]
			}
			w.write(e, p, p.Slot+j, next)
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
		if seen[j.entity]&(1<<j.prop.Index) == 0 {
			seen[j.entity] |= 1 << j.prop.Index
			out = append(out, Change{Entity: j.entity, Property: j.prop, New: j.entity.Value(j.prop)})
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
		if j.prop.Type.IsText() {
			j.text, j.entity.texts[j.slot] = j.entity.texts[j.slot], j.text
		} else {
			j.num, j.entity.nums[j.slot] = j.entity.nums[j.slot], j.num
		}
	}
	slices.Reverse(w.journal)
}

// Commit keeps what was written since the last Commit or Rollback.
func (w *World) Commit() {
	clear(w.journal) // texts must not be kept alive
	w.journal = w.journal[:0]
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
