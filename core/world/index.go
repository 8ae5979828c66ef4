package world

import (
	"math"
	"math/rand/v2"

	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// An index finds entities of a kind without looking at all of them: those that are near a place, and those of which a
// property has a value. Both are tables of chains. In one of values a chain has the entities with a value; in a grid
// those of a cell, whose edges are a power of two of the steps that places are counted in, so that the cell of a place
// is a shift, and a world may be as wide as it likes.
//
// Nothing is written to an index when an entity changes. The journal says what was written, and who asks next sorts in
// what has changed since; a rollback counts as changing back.
//
// What a search comes to, and the steps that it takes, follow from the state of the entities alone: not from how the
// index came about, nor from how its tables are laid out.

// Index says what an index of a kind's entities finds them by.
type Index struct {
	Place  *contract.Property // a vector, for Near; nil for none
	Shifts []int              // of the grids: cells are 1<<shift steps wide, the finest first
	Values []*contract.Property
}

// cellBits is how many bits of a cell's number each dimension has.
const cellBits = 21

// index is the index of the entities of one kind.
type index struct {
	properties uint64    // that it is by, as a bit set
	entities   []*Entity // by their numbers in the index; nil for a free one
	free       []int32
	place      *contract.Property
	grids      []grid
	values     []table
	byProperty []int // by property: among values, plus one
}

// table sorts entities into chains by a key.
type table struct {
	property *contract.Property // of values
	heads    []int32            // by hash: the first of a chain, plus one; 0 for none
	links    []link             // by the entity's number
	hash     uint64             // random and odd, so that nobody can choose keys whose chains are long
}

// link is an entity in its chain.
type link struct {
	key        uint64
	next, prev int32 // plus one; 0 for none
	there      bool
}

// KeepIndex has the world keep an index of the entities of a kind. A second call for a kind does nothing.
func (w *World) KeepIndex(k *contract.Kind, by Index) {
	if w.indexes == nil {
		w.indexes = make([]*index, len(w.contract.Kinds))
	}
	if w.indexes[k.Index] != nil {
		return
	}
	x := &index{place: by.Place, byProperty: make([]int, len(k.Properties))}
	if p := by.Place; p != nil {
		x.properties |= 1 << (p.Index & 63)
		for _, shift := range by.Shifts {
			for (uint64(p.Type.High)-uint64(p.Type.Low))>>shift >= 1<<cellBits {
				shift++
			}
			x.grids = append(x.grids, newGrid(shift, p.Type.Width()))
		}
	}
	for _, p := range by.Values {
		x.properties |= 1 << (p.Index & 63)
		x.values = append(x.values, newTable(p))
		x.byProperty[p.Index] = len(x.values)
	}
	w.indexes[k.Index] = x
	for _, e := range w.kinds[k.Index] {
		e.indexed = x.properties
		w.noteStale(e)
	}
}

// newTable returns a table without entities.
func newTable(p *contract.Property) table {
	return table{property: p, heads: make([]int32, 16), hash: rand.Uint64() | 1}
}

// Reach is what is to be found near a line: what is farther from it than Beyond, and at most Most away.
type Reach struct {
	Line   geometry.Line
	Beyond float64 // less than 0 for all that is not too far
	Most   float64
}

// isBeyond reports whether a place is far enough away.
func (r *Reach) isBeyond(at *geometry.Point) bool {
	return r.Beyond < 0 || r.Line.Distance(at) > r.Beyond
}

// Near appends to found the entities of a kind whose places are within reach, in any order. The kind has an index by
// place. steps is how many cells and entities were looked at, at most as many as there are entities, or 1; it follows
// from the places of the kind's entities alone.
func (w *World) Near(k *contract.Kind, r *Reach, found []*Entity) (_ []*Entity, steps int64) {
	w.refreshIndexes()
	x := w.indexes[k.Index]
	all := w.kinds[k.Index]
	if !(r.Most >= 0) || len(all) == 0 {
		return found, 1
	}
	before := len(found)
	if len(all) > fewEntities {
		found, steps = x.gridFor(r.Most).search(x, r, int64(len(all)), found)
		if steps < int64(len(all)) {
			return found, steps
		}
	}
	// To look at all is no more.
	found = found[:before]
	for _, e := range all {
		if at := x.placeOf(e); r.Line.Distance(&at) <= r.Most && r.isBeyond(&at) {
			found = append(found, e)
		}
	}
	return found, int64(len(all))
}

// Nearest returns the entity of a kind that is nearest to a place, with its distance, and among equals the one that was
// spawned first; nil for none. The kind has an index by place. steps is how many cells and entities were looked at,
// at most twice as many as there are entities, and one; it follows from the places of the kind's entities alone. The
// distance is no finite number when the place is none.
func (w *World) Nearest(k *contract.Kind, from *geometry.Point) (best *Entity, distance float64, steps int64) {
	w.refreshIndexes()
	x := w.indexes[k.Index]
	all := w.kinds[k.Index]
	if len(all) == 0 {
		return nil, 0, 1
	}
	size := math.Abs(from[0]) + math.Abs(from[1]) + math.Abs(from[2])
	if len(all) > fewEntities && size < 1e100 { // else squares would have no digits left, or it is no place

		number, least, looked := x.grids[0].nearest(x, from, int64(len(all)))
		if looked < int64(len(all)) {
			return x.entities[number-1], least, looked
		}
		steps = looked
	}
	for _, e := range all {
		at := x.placeOf(e)
		if d := geometry.Distance(&at, from); best == nil || d < distance {
			best = e
			distance = d
		}
	}
	return best, distance, steps + int64(len(all))
}

// fewEntities is of how few entities all are looked at, whatever the grid.
const fewEntities = 8

// PlaceOf returns where an entity is whose kind has an index by place.
func (w *World) PlaceOf(e *Entity) geometry.Point { return w.indexes[e.Kind.Index].placeOf(e) }

// NearestReach returns how far from a place the nearest entity of a kind is looked for first, in units of the world.
// The kind has an index by place.
func (w *World) NearestReach(k *contract.Kind) float64 {
	x := w.indexes[k.Index]
	t := x.place.Type
	return float64(int64(1)<<x.grids[0].shift) * float64(t.Unit) / float64(t.Per)
}

// WithValue appends to found the entities of a kind in whose row a property has a number, in any order. The kind has an
// index by that property. steps is how many entities were looked at, plus one.
func (w *World) WithValue(
	k *contract.Kind, p *contract.Property, value int64, found []*Entity,
) (_ []*Entity, steps int64) {
	w.refreshIndexes()
	x := w.indexes[k.Index]
	t := &x.values[x.byProperty[p.Index]-1]
	steps = 1
	for n := *t.head(uint64(value)); n != 0; {
		l := &t.links[n-1]
		if l.key == uint64(value) {
			steps++
			found = append(found, x.entities[n-1])
		}
		n = l.next
	}
	return found, steps
}

// noteWritten notes the entities whose place in an index the journal's entries from one on have changed.
func (w *World) noteWritten(from int) {
	for i := from; i < len(w.journal); i++ {
		j := &w.journal[i]
		switch j.typ {
		case wroteSlot:
			if j.entity.indexed>>(j.property&63)&1 != 0 {
				w.noteStale(j.entity)
			}
		case didSpawn, didDespawn:
			if j.entity.indexed != 0 {
				w.noteStale(j.entity)
			}
		}
	}
}

// noteStale notes that an entity is to be sorted into its index.
func (w *World) noteStale(e *Entity) {
	if !e.isStale {
		e.isStale = true
		w.stale = append(w.stale, e)
	}
}

// keptStale is how many more entities than there are may wait to be sorted in, though nobody asks.
const keptStale = 1024

// endIndexed notes what the journal's entries from one on have changed, before it is emptied.
func (w *World) endIndexed(from int) {
	if w.indexes == nil {
		return
	}
	w.noteWritten(from)
	w.indexedJournal = 0
	if len(w.stale) > len(w.entities)+keptStale {
		w.sortStale() // most of it is gone, and nobody asks
	}
}

// refreshIndexes brings the indexes up to date with what was written.
func (w *World) refreshIndexes() {
	w.noteWritten(w.indexedJournal)
	w.indexedJournal = len(w.journal)
	w.sortStale()
}

// sortStale puts what has changed where it belongs.
func (w *World) sortStale() {
	if len(w.stale) == 0 {
		return
	}
	for _, e := range w.stale {
		e.isStale = false
		w.indexes[e.Kind.Index].sort(e)
	}
	clear(w.stale)
	w.stale = w.stale[:0]
}

// sort puts an entity into the chains where it belongs; out of all when it is gone.
func (x *index) sort(e *Entity) {
	if e.Gone {
		x.remove(e)
		return
	}
	if e.indexNumber == 0 {
		e.indexNumber = x.add(e) + 1
	}
	number := e.indexNumber - 1
	for i := range x.values {
		t := &x.values[i]
		t.move(number, uint64(e.Nums[t.property.Slot]))
	}
	if x.place == nil {
		return
	}
	at := x.placeOf(e)
	row := e.Nums[x.place.Slot : x.place.Slot+x.place.Type.Width()]
	for i := range x.grids {
		x.grids[i].move(number, x.grids[i].cellOf(row, x.place.Type.Low), at)
	}
}

// remove takes an entity out of all chains, and frees its number.
func (x *index) remove(e *Entity) {
	if e.indexNumber == 0 {
		return
	}
	number := e.indexNumber - 1
	for i := range x.values {
		x.values[i].unlink(number)
	}
	for i := range x.grids {
		x.grids[i].unlink(number)
	}
	x.entities[number] = nil
	x.free = append(x.free, number)
	e.indexNumber = 0
}

// add gives an entity a number, which is in no chain yet.
func (x *index) add(e *Entity) int32 {
	if n := len(x.free); n > 0 {
		number := x.free[n-1]
		x.free = x.free[:n-1]
		x.entities[number] = e
		return number
	}
	x.entities = append(x.entities, e)
	for i := range x.values {
		x.values[i].grow()
	}
	for i := range x.grids {
		x.grids[i].grow()
	}
	return int32(len(x.entities) - 1)
}

// placeOf returns where an entity is.
func (x *index) placeOf(e *Entity) (at geometry.Point) {
	t := x.place.Type
	for i, n := range e.Nums[x.place.Slot : x.place.Slot+t.Width()] {
		at[i] = t.Real(n)
	}
	return at
}

// head returns where the chain begins in which all entities with a key are.
func (t *table) head(key uint64) *int32 {
	return &t.heads[key*t.hash>>32&uint64(len(t.heads)-1)]
}

// grow makes room for one more entity.
func (t *table) grow() {
	t.links = append(t.links, link{})
	if len(t.links) <= len(t.heads) {
		return
	}
	t.heads = make([]int32, 2*len(t.heads))
	for i := range t.links {
		if l := &t.links[i]; l.there {
			t.link(int32(i), l.key)
		}
	}
}

// move puts an entity into the chain of a key, and out of the one where it was.
func (t *table) move(number int32, key uint64) {
	l := &t.links[number]
	if l.there && l.key == key {
		return
	}
	t.unlink(number)
	t.link(number, key)
}

// link puts an entity that is in no chain into that of a key.
func (t *table) link(number int32, key uint64) {
	head := t.head(key)
	t.links[number] = link{key: key, next: *head, there: true}
	if *head != 0 {
		t.links[*head-1].prev = number + 1
	}
	*head = number + 1
}

// unlink takes an entity out of its chain.
func (t *table) unlink(number int32) {
	l := &t.links[number]
	if !l.there {
		return
	}
	if l.prev != 0 {
		t.links[l.prev-1].next = l.next
	} else {
		*t.head(l.key) = l.next
	}
	if l.next != 0 {
		t.links[l.next-1].prev = l.prev
	}
	*l = link{}
}
