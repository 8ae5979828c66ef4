package wire

import (
	"cmp"
	"slices"
)

// Item is an entity as a Group reads it when it packs. An index of a property is that within its kind's outline.
type Item interface {
	// Number returns the number by which clients know the entity.
	Number() uint32
	// Owner returns the number of the client that owns it, 0 for the server.
	Owner() int
	// Field returns a property as it is sent; a motion as it stands at the tick.
	Field(prop int) Field
	// Slots returns a property that is made of numbers as it was before the change that is sent, and after it.
	Slots(prop int) (old, now []int64)
	// SlotMoved is called when the entity gets another slot in a group.
	SlotMoved(g *Group, lane, slot int)
}

// Group is what the clients of one recipient set have in common, at the server's side: their entities in dense slots,
// and the changes of one tick. All of them get the same bytes. A private group is that of one client.
//
// During a tick, Enter, Exit, Change and the like record what happened; Pack ends the tick.
type Group struct {
	columnState
	changes      []change
	writer       *bitWriter
	otherChanges int32 // how much was recorded that is no change of a property
	restarts     bool  // a client came: the next block begins what was learnt anew
	slots        [][]slot
	layout       *Layout
	firstFree    []int // by lane: no slot before it is free
	entered      []slotRef
	exited       []slotRef
	owned        []slotRef
	masks        []slotRef
	resends      []resend
	touched      []bool // by column: there is a change of it; nil for a group of which nobody asks for bounds
}

// Buffer is memory that private groups share: each packs into it, and its block is used before the next one packs.
type Buffer struct{ w bitWriter }

type slot struct {
	item     Item
	whole    bool
	mask     uint64 // of a private group: the properties that the client has
	nextMask uint64 // the same from the next block on
	leaves   bool   // it leaves with the next block
}

type slotRef struct{ lane, slot int }

// change is a property that changed. The upper half of its key is the column, the lower half the slot, so that sorted
// changes are in columns.
type change struct {
	key  uint64
	item Item
}

// compareKeys orders changes by lane, slot and property.
func compareKeys(a, b change) int { return cmp.Compare(a.key, b.key) }

type resend struct {
	item     Item
	kind     int
	property int
}

// NewGroup returns an empty group. index is that of the group within the outline.
func NewGroup(l *Layout, place int) *Group { return newGroup(l, l.groups[place], &bitWriter{}) }

// NewPrivate returns the empty group of one client. It has a lane for each kind of the outline, with all properties.
func NewPrivate(l *Layout, b *Buffer) *Group { return newGroup(l, l.private, &b.w) }

// newGroup returns an empty group that packs with a writer, which other groups may share.
func newGroup(l *Layout, s *groupLayout, out *bitWriter) *Group {
	// There is one for each client, and each tick looks at most of them: what it looks at stands in one piece of
	// memory.
	m := &struct {
		Group
		changes [4]change
		slots   [8][]slot
		order   [16]int32
		sizes   [16]estimate
	}{}
	g := &m.Group
	g.layout = l
	g.writer = out
	g.changes = m.changes[:0]
	g.firstFree = make([]int, len(s.lanes))
	g.columnState = s.newColumns(m.order[:0], m.sizes[:0])
	g.slots = append(m.slots[:0], make([][]slot, len(s.lanes))...)
	return g
}

// Enter takes an entity in with the next block, and returns its slot. In a private group, mask says which properties
// the client has by it, and whole whether it knows of the entity by it.
func (g *Group) Enter(lane int, item Item, whole bool, mask uint64) int {
	list := g.slots[lane]
	at := g.firstFree[lane]
	for at < len(list) && list[at].item != nil {
		at++
	}
	g.firstFree[lane] = at + 1
	if at == len(list) {
		list = append(list, slot{})
	}
	list[at] = slot{
		item:     item,
		whole:    whole || g.lanes[lane].Whole,
		mask:     mask,
		nextMask: mask,
	}
	g.slots[lane] = list
	g.entered = append(g.entered, slotRef{lane, at})
	g.otherChanges++
	return at
}

// Exit removes an entity with the next block.
func (g *Group) Exit(lane, at int) {
	g.slots[lane][at].leaves = true
	g.exited = append(g.exited, slotRef{lane, at})
	g.otherChanges++
}

// SetOwner records that an entity has another owner.
func (g *Group) SetOwner(lane, at int) {
	g.owned = append(g.owned, slotRef{lane, at})
	g.otherChanges++
}

// SetMask records which properties of an entity the client of a private group has from the next block on.
func (g *Group) SetMask(lane, at int, mask uint64) {
	s := &g.slots[lane][at]
	if s.nextMask == s.mask {
		g.masks = append(g.masks, slotRef{lane, at})
		g.otherChanges++
	}
	s.nextMask = mask
}

// Held returns the mask of an entity in a private group.
func (g *Group) Held(lane, at int) uint64 { return g.slots[lane][at].nextMask }

// Change records that a property changed. property is its index among those of the lane, item what is in the slot.
func (g *Group) Change(lane, at, property int, item Item) {
	column := g.firstColumn[lane] + property
	if g.touched != nil {
		g.touched[column] = true
	}
	g.changes = append(g.changes, change{uint64(column)<<32 | uint64(at), item})
}

// Resend records that a property is sent once more as it is, to a client that has it by whichever group.
func (g *Group) Resend(item Item, kind, prop int) {
	g.resends = append(g.resends, resend{item, kind, prop})
	g.otherChanges++
}

// Prefetch reads what Pack is about to read of the group itself, so that the packing of several groups does not wait
// for memory each by itself. What it returns means nothing.
func (g *Group) Prefetch() uint64 { return uint64(len(g.order) + int(g.otherChanges)) }

// PrefetchMore reads what Pack is about to read of what the group refers to. It is called once Prefetch has had its
// time.
func (g *Group) PrefetchMore() (sum uint64) {
	for i := 0; i < len(g.sizes); i += 8 {
		sum += uint64(g.sizes[i])
	}
	if len(g.order) > 0 && cap(g.changes) > 0 {
		sum += g.changes[:1][0].key + uint64(g.order[0]) + uint64(len(g.slots[0]))
	}
	return sum
}

// hasChanges reports whether there is anything to pack.
func (g *Group) hasChanges() bool { return g.otherChanges > 0 || len(g.changes) > 0 }

// Restart prepares the group for a client that comes and has not got the blocks before: what was learnt no longer
// counts, nor does the order of the slots, which tells of earlier times. It has to be called after Pack, before
// Snapshot.
func (g *Group) Restart() {
	if g.restarts {
		return
	}
	g.restarts = true
	for lane, list := range g.slots {
		list = slices.DeleteFunc(list, func(s slot) bool { return s.item == nil })
		slices.SortFunc(list, func(a, b slot) int { return cmp.Compare(a.item.Number(), b.item.Number()) })
		for i, s := range list {
			s.item.SlotMoved(g, lane, i)
		}
		g.slots[lane] = list
		g.firstFree[lane] = len(list)
	}
}

// LowestNumber returns the lowest number of the entities in the group, 0 for none.
func (g *Group) LowestNumber() (first uint32) {
	for _, list := range g.slots {
		for _, s := range list {
			if s.item != nil && (first == 0 || s.item.Number() < first) {
				first = s.item.Number()
			}
		}
	}
	return first
}

// Drop ends the tick like Pack, for a block that nobody gets.
func (g *Group) Drop() {
	for _, p := range g.entered {
		s := &g.slots[p.lane][p.slot]
		s.mask = s.nextMask
	}
	g.endTick()
	g.restarts = false // the next client to come restarts it
}

// endTick frees the slots of what left, and forgets what was recorded.
func (g *Group) endTick() {
	g.changes = g.changes[:0]
	clear(g.touched)
	if g.otherChanges == 0 {
		return
	}
	g.otherChanges = 0
	for _, p := range g.exited {
		g.slots[p.lane][p.slot] = slot{}
		g.firstFree[p.lane] = min(g.firstFree[p.lane], p.slot)
	}
	for i, list := range g.slots {
		for len(list) > 0 && list[len(list)-1].item == nil {
			list = list[:len(list)-1]
		}
		g.slots[i] = list
		g.firstFree[i] = min(g.firstFree[i], len(list))
	}
	clear(g.resends)
	g.entered = g.entered[:0]
	g.exited = g.exited[:0]
	g.owned = g.owned[:0]
	g.masks = g.masks[:0]
	g.resends = g.resends[:0]
}

// Empty reports whether nothing is in the group.
func (g *Group) Empty() bool {
	for _, list := range g.slots {
		if slices.ContainsFunc(list, func(s slot) bool { return s.item != nil }) {
			return false
		}
	}
	return true
}

// member writes what comes into a group: the entity's number and owner, and the values that the group carries of it.
func (w *bitWriter) member(g *Group, l *Lane, s *slot, tick int64) {
	w.put(uint64(s.item.Number()), 32)
	w.gamma(uint64(s.item.Owner()))
	if g.private {
		w.bit(s.whole)
		w.put(s.nextMask, uint(len(l.Properties)))
	}
	for i, p := range l.Properties {
		if !g.private || s.nextMask&(1<<i) != 0 {
			w.field(&g.layout.kinds[l.Kind][p], s.item, tick)
		}
	}
}

// field writes a property as a whole.
func (w *bitWriter) field(c *column, item Item, tick int64) {
	f := item.Field(c.property)
	switch c.encoding {
	case encodeMotion:
		w.motion(f.Type, f.Motion, tick)
	case encodeAttached:
		if w.bit(f.Attached != nil); f.Attached != nil {
			w.attached(&f)
			return
		}
		w.value(f.Type, f.Value)
	default:
		w.value(f.Type, f.Value)
	}
}

// Pack ends the tick and returns its block, nil when nothing was recorded. The bytes hold until the next Pack; those of
// a private group until the next Pack of any group with the same Buffer.
func (g *Group) Pack(tick int64) []byte {
	if !g.hasChanges() {
		return nil
	}
	w := g.writer
	w.buf = w.buf[:0]
	w.acc = 0
	w.free = 0
	if g.otherChanges > 0 {
		g.packMembers(w, tick)
	} else { // what packMembers writes when there is nothing
		bits := uint64(1<<4 - 1)
		n := uint(4) // of nobody, three times, or four
		if g.private {
			bits = 1<<5 - 1
			n = 5
		}
		if !g.restarts {
			bits--
		} else {
			g.restart()
			g.restarts = false
		}
		w.put(bits, n)
	}
	g.packChanges(w, tick)
	if g.private { // after the columns, whose differences are from what was sent before
		w.gamma(uint64(len(g.resends)))
		for _, a := range g.resends {
			k := g.layout.kinds[a.kind]
			w.put(uint64(a.item.Number()), 32)
			w.below(uint64(a.property), uint64(len(k)))
			w.field(&k[a.property], a.item, tick)
		}
	}
	g.endTick()
	return w.bytes()
}

// packMembers writes which entities came and went, and whatever else is no change of a property.
func (g *Group) packMembers(w *bitWriter, tick int64) {
	for _, list := range [][]slotRef{g.owned, g.exited, g.masks} { // the order in which it happened is the server's own
		if len(list) > 1 {
			slices.SortFunc(list, func(a, b slotRef) int { return cmp.Or(a.lane-b.lane, a.slot-b.slot) })
		}
	}
	if w.bit(g.restarts); g.restarts {
		g.restart()
		g.restarts = false
	}
	// An entity that came and went in one tick is still in its slot: clients are told of it, for the events that name
	// it.
	w.gamma(uint64(len(g.entered)))
	for _, p := range g.entered {
		w.below(uint64(p.lane), uint64(len(g.lanes)))
		s := &g.slots[p.lane][p.slot]
		w.member(g, &g.lanes[p.lane], s, tick)
		s.mask = s.nextMask
	}
	where := func(p slotRef) {
		w.below(uint64(p.lane), uint64(len(g.lanes)))
		w.below(uint64(p.slot), uint64(len(g.slots[p.lane])))
	}
	w.gamma(uint64(len(g.owned)))
	for _, p := range g.owned {
		where(p)
		w.gamma(uint64(g.slots[p.lane][p.slot].item.Owner()))
	}
	w.gamma(uint64(len(g.exited)))
	for _, p := range g.exited {
		where(p)
	}
	if g.private {
		g.packMasks(w, where, tick)
	}
}

// packMasks writes, in a private group, which properties a client gets and loses one by one.
func (g *Group) packMasks(w *bitWriter, where func(slotRef), tick int64) {
	masks := slices.DeleteFunc(g.masks, func(p slotRef) bool {
		s := &g.slots[p.lane][p.slot]
		return s.leaves || s.mask == s.nextMask
	})
	w.gamma(uint64(len(masks)))
	for _, p := range masks {
		where(p)
		s := &g.slots[p.lane][p.slot]
		l := &g.lanes[p.lane]
		w.put(s.nextMask, uint(len(l.Properties)))
		for i, prop := range l.Properties {
			if s.nextMask&^s.mask&(1<<i) != 0 {
				w.field(&g.layout.kinds[l.Kind][prop], s.item, tick)
			}
		}
		s.mask = s.nextMask
	}
}

// changesOf returns the changes of a column, which are sorted.
func (g *Group) changesOf(col int32) []change {
	from := 0
	if len(g.changes) > 8 {
		from, _ = slices.BinarySearchFunc(g.changes, change{key: uint64(col) << 32}, compareKeys)
	}
	for from < len(g.changes) && int32(g.changes[from].key>>32) < col {
		from++
	}
	to := from
	for to < len(g.changes) && int32(g.changes[to].key>>32) == col {
		to++
	}
	return g.changes[from:to]
}

// packChanges writes the changes of properties, column by column.
func (g *Group) packChanges(w *bitWriter, tick int64) {
	n := 0
	sorted := true
	for i := range g.changes {
		sorted = sorted && (i == 0 || g.changes[i-1].key < g.changes[i].key)
	}
	if !sorted {
		slices.SortFunc(g.changes, compareKeys)
	}
	for i := range g.changes {
		if i == 0 || g.changes[i].key>>32 != g.changes[i-1].key>>32 {
			n++
		}
	}
	w.gamma(uint64(n))
	last := -1
	for at, left := 0, n; left > 0; at++ {
		c := g.order[at]
		run := g.changesOf(c)
		if len(run) == 0 {
			continue
		}
		left--
		w.gamma(uint64(at - last - 1))
		last = at
		col := &g.columns[c]
		w.indices(run, len(g.slots[col.lane]))
		sizes := g.estimates(col)
		for i := range run {
			if col.encoding == encodeDifference {
				old, now := run[i].item.Slots(col.property)
				w.difference(col.typ, old, now, sizes)
				continue
			}
			w.field(col, run[i].item, tick)
		}
	}
	if last >= n { // else they are in front already
		g.moveToFront(last, func(c int32) bool { return len(g.changesOf(c)) > 0 })
	}
}

// Snapshot returns all that the group holds, for a client that comes. It has to be called after Restart, in the same
// tick.
func (g *Group) Snapshot(tick int64) []byte {
	w := &bitWriter{}
	for i := range g.lanes {
		w.gamma(uint64(len(g.slots[i])))
		for j := range g.slots[i] {
			w.member(g, &g.lanes[i], &g.slots[i][j], tick)
		}
	}
	return w.bytes()
}

// readerTable returns the group as the clients in it hold it after a Pack.
func (g *Group) readerTable(r *Reader, group int) *groupTable {
	t := newTable(g.groupLayout, group)
	copy(t.cols.order, g.order)
	copy(t.cols.sizes, g.sizes)
	for lane, list := range g.slots {
		l := &g.lanes[lane]
		for _, s := range list {
			if s.item == nil {
				t.slots[lane] = append(t.slots[lane], tableSlot{})
				continue
			}
			out := tableSlot{
				entity: r.entity(s.item.Number(), l.Kind, s.item.Owner()),
				whole:  s.whole,
				mask:   laneMask(l),
			}
			if g.private {
				out.mask = s.mask
			}
			if out.whole {
				out.entity.groups++
			}
			for p := range out.entity.fields {
				if out.mask&(1<<p) != 0 {
					out.entity.carriers[p]++
					out.entity.fields[p] = s.item.Field(p)
				}
			}
			t.slots[lane] = append(t.slots[lane], out)
		}
	}
	return t
}

// Resume returns the reader of a client as it is after a frame. groups are those that the client is in, by its handles,
// of which 0 is the private group; places are their indices within the outline.
func Resume(l *Layout, tick, settled int64, groups map[int]*Group, places map[int]int) *Reader {
	r := NewReader(l)
	r.tick = tick
	r.settled = settled
	for handle, g := range groups {
		r.tables[uint64(handle)] = g.readerTable(r, places[handle])
	}
	for _, x := range r.entities {
		x.known = true
		x.isNew = false
	}
	return r
}
