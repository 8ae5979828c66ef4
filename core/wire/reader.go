package wire

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strings"

	"kamerad.example/core/contract"
)

// Reader turns the binary frames of one client into Frames. They have to come in the order in which they were sent, all
// of them from the client's first one or a snapshot on: differences are measured from what the frames before said.
type Reader struct {
	layout         *Layout
	outline        *contract.Outline
	tick           int64
	settled        int64
	tables         map[uint64]*groupTable
	entities       map[uint32]*readEntity
	changed        []*readEntity  // in this frame
	frame          *Frame         // the one that is being read
	indices        []int          // memory that readColumns uses again
	changedColumns []bool         // by column
	leaving        []leavingEntry // at the end of the frame
	usage          *Usage         // nil unless CountUsage was called
}

// readEntity is an entity as the reader knows it, by all groups together.
type readEntity struct {
	number       uint32
	kind         int
	owner        int
	groups       int // by how many groups it is known
	known        bool
	isNew        bool
	isListed     bool
	carriers     []int // by property: how many groups carry it
	fields       []Field
	changedMask  uint64 // properties that this frame gave
	lostMask     uint64 // properties that some group stopped carrying with this frame
	ownerChanged bool
}

// groupTable is a group at the client's side.
type groupTable struct {
	group     int
	cols      *columnState
	slots     [][]tableSlot
	firstFree []int // by lane: no slot before it is free
}

// newTable returns the table that a reader keeps of a group that it has just entered.
func newTable(s *groupLayout, group int) *groupTable {
	cols := s.newColumns(nil, nil)
	return &groupTable{
		group:     group,
		cols:      &cols,
		slots:     make([][]tableSlot, len(s.lanes)),
		firstFree: make([]int, len(s.lanes)),
	}
}

type tableSlot struct {
	entity *readEntity
	whole  bool
	mask   uint64
}

type leavingEntry struct {
	entity     *readEntity
	whole      bool
	properties uint64
}

// NewReader returns the reader of a client that has been sent nothing yet. l is the layout of the outline that it has.
func NewReader(l *Layout) *Reader {
	r := &Reader{layout: l, outline: l.Outline}
	r.restart()
	return r
}

// restart forgets everything, as a snapshot demands.
func (r *Reader) restart() {
	r.settled = 0
	r.tables = map[uint64]*groupTable{}
	r.entities = map[uint32]*readEntity{}
	r.tables[0] = newTable(r.layout.private, 0)
}

// cursor reads whole bytes. Reading beyond the end returns nothing and sets bad.
type cursor struct {
	buf []byte
	bad bool
}

// uvarint reads an unsigned number; one that is cut short makes the cursor bad.
func (c *cursor) uvarint() uint64 {
	v, n := binary.Uvarint(c.buf)
	if n <= 0 {
		c.bad = true
		c.buf = nil
		return 0
	}
	c.buf = c.buf[n:]
	return v
}

// bytes reads n bytes. They are part of what is read, not copies.
func (c *cursor) bytes(n uint64) []byte {
	if n > uint64(len(c.buf)) {
		c.bad = true
		c.buf = nil
		return nil
	}
	out := c.buf[:n]
	c.buf = c.buf[n:]
	return out
}

// lengthAndBytes reads a length and so many bytes.
func (c *cursor) lengthAndBytes() []byte { return c.bytes(c.uvarint()) }

// rest reads all that is left.
func (c *cursor) rest() []byte { return c.bytes(uint64(len(c.buf))) }

// Read reads a frame. After an error nothing more can be read until a snapshot comes: the connection has to end, or
// begin anew.
func (r *Reader) Read(raw []byte) (f *Frame, err error) {
	if len(raw) == 0 {
		return nil, fmt.Errorf("read a frame: it is empty")
	}
	c := &cursor{buf: raw}
	head := c.uvarint()
	f = &Frame{Tick: r.tick, Snapshot: head&(1<<snapshotBit) != 0}
	r.frame = f
	if f.Snapshot {
		r.restart()
		f.Tick = 0
	}
	if by := c.uvarint(); by > 1<<53 {
		c.bad = true
	} else {
		f.Tick += int64(by)
	}
	f.Settled = r.settled
	block := &Block{}
	r.changed = r.changed[:0]
	r.leaving = r.leaving[:0]
	for rest := head &^ (1 << snapshotBit); rest != 0 && !c.bad; rest &= rest - 1 {
		in := &cursor{buf: c.lengthAndBytes()}
		r.readSection(section(bits.TrailingZeros64(rest)), in, f, block)
		c.bad = c.bad || in.bad
	}
	r.finishFrame(block)
	if !block.Empty() {
		f.Blocks = []*Block{block}
	}
	if c.bad || len(c.buf) > 0 {
		return nil, fmt.Errorf("read the frame after tick %d: it is broken", r.tick)
	}
	r.usage.endFrame(len(raw))
	r.tick = f.Tick
	r.settled = f.Settled
	return f, nil
}

// readSection reads one section of a frame. A section that it does not know is skipped.
func (r *Reader) readSection(s section, c *cursor, f *Frame, block *Block) {
	size := len(c.buf)
	switch s {
	case stateSection:
		for n := c.uvarint(); n > 0 && !c.bad; n-- {
			r.readBlock(c, f.Tick, n == 1)
		}
	case eventsSection:
		for len(c.buf) > 0 {
			r.readEvent(&bitReader{buf: c.lengthAndBytes()}, f, c)
		}
	case decisionsSection:
		r.readDecisions(&bitReader{buf: c.rest()}, f, c)
		r.usage.section(UsageDecision, size, len(f.Decisions))
	case digestSection:
		if raw := c.bytes(4); raw != nil {
			digest := binary.LittleEndian.Uint32(raw)
			f.Digest = &digest
		}
		r.usage.section(UsageDigest, size, 1)
	case rosterSection:
		r.readRoster(&bitReader{buf: c.rest()}, block, c)
		r.usage.section(UsageRoster, size, len(block.Joined)+len(block.Left))
	case logsSection:
		for len(c.buf) > 0 {
			f.Logs = append(f.Logs, string(c.lengthAndBytes()))
		}
		r.usage.section(UsageLog, size, len(f.Logs))
	case settledSection:
		f.Settled = f.Tick - int64(min(c.uvarint(), uint64(f.Tick)))
	case incarnationSection:
		number := c.uvarint()
		kept := c.uvarint()
		if number > 1<<31 || kept > 1<<53 {
			c.bad = true
			return
		}
		f.Incarnation = &Incarnation{Number: int(number), Kept: int64(kept)}
	default:
		return
	}
	c.bad = c.bad || len(c.buf) > 0
}

// readRoster reads the section with who joined and who left.
func (r *Reader) readRoster(b *bitReader, block *Block, c *cursor) {
	for n := b.count(1 << 16); n > 0 && !b.bad; n-- {
		j := Client{Number: b.count(1 << 31)}
		role := int(b.below(uint64(len(r.outline.Roles))))
		j.Name = b.text(256)
		if b.bad {
			break
		}
		j.Role = r.outline.Roles[role]
		block.Joined = append(block.Joined, j)
	}
	for n := b.count(1 << 16); n > 0 && !b.bad; n-- {
		block.Left = append(block.Left, b.count(1<<31))
	}
	c.bad = c.bad || !b.done()
}

// readBlock reads one group's block. The last block of a frame has all that is left of the section, and no length.
func (r *Reader) readBlock(c *cursor, tick int64, last bool) {
	head := c.uvarint()
	handle := head >> 2
	op := head & 3
	content := func() *bitReader {
		if last {
			return &bitReader{buf: c.rest()}
		}
		return &bitReader{buf: c.lengthAndBytes()}
	}
	t := r.tables[handle]
	switch {
	case op == opReserved:
		content()
	case op == opEnter && t == nil && len(r.tables) < maxTables:
		group := c.uvarint()
		if group >= uint64(len(r.outline.Groups)) {
			c.bad = true
			return
		}
		t = newTable(r.layout.groups[group], int(group))
		r.tables[handle] = t
		b := content()
		r.readSnapshot(b, t, tick)
		c.bad = c.bad || !b.done()
	case op == opChange && t != nil:
		b := content()
		r.readChanges(b, t, tick)
		c.bad = c.bad || !b.done()
	case op == opLeave && t != nil && handle != 0:
		delete(r.tables, handle)
		for i, list := range t.slots {
			for _, s := range list {
				if s.entity != nil {
					r.markLeaving(t, i, s)
				}
			}
		}
	default:
		c.bad = true
	}
}

const (
	opChange = iota
	opEnter
	opLeave
	opReserved // free for later kinds of blocks, which are skipped

	maxTables = 100_000
	maxSlots  = 1 << 20
)

// laneMask returns the properties of a lane as a bit set over the indices within the kind's outline.
func laneMask(l *Lane) (out uint64) {
	for _, p := range l.Properties {
		out |= 1 << p
	}
	return out
}

// markLeaving notes that an entry goes: what it carried is gone at the end of the frame, unless another group has it by
// then.
func (r *Reader) markLeaving(t *groupTable, lane int, s tableSlot) {
	l := &t.cols.lanes[lane]
	props := s.mask
	if !t.cols.private {
		props = laneMask(l)
	}
	r.leaving = append(r.leaving, leavingEntry{s.entity, s.whole, props})
}

// readSnapshot reads all entries of a group that is entered, lane by lane.
func (r *Reader) readSnapshot(b *bitReader, t *groupTable, tick int64) {
	for i := range t.cols.lanes {
		for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
			t.slots[i] = append(t.slots[i], r.readMember(b, t, i, tick))
		}
	}
}

// readMember reads an entity that enters a group.
func (r *Reader) readMember(b *bitReader, t *groupTable, lane int, tick int64) tableSlot {
	l := &t.cols.lanes[lane]
	from := b.at
	number := uint32(b.get(32))
	owner := b.count(1 << 31)
	s := tableSlot{whole: l.Whole, mask: laneMask(l)}
	if t.cols.private {
		s.whole = b.bit()
		s.mask = b.get(uint(len(l.Properties)))
	}
	x := r.entities[number]
	if b.bad || number == 0 || x != nil && x.kind != l.Kind {
		b.bad = true
		return tableSlot{}
	}
	x = r.entity(number, l.Kind, owner)
	s.entity = x
	if s.whole {
		x.groups++
		r.setOwner(x, owner)
	}
	r.usage.entity(l.Kind, b.at-from)
	for p := range r.layout.kinds[l.Kind] {
		if s.mask&(1<<p) != 0 {
			x.carriers[p]++
			r.readCountedField(b, x, p, tick)
		}
	}
	r.markChanged(x)
	return s
}

// entity returns the entity with a number, and adds it if need be.
func (r *Reader) entity(number uint32, kind, owner int) *readEntity {
	x := r.entities[number]
	if x == nil {
		n := len(r.layout.kinds[kind])
		x = &readEntity{
			number:   number,
			kind:     kind,
			owner:    owner,
			carriers: make([]int, n),
			fields:   make([]Field, n),
			isNew:    true,
		}
		r.entities[number] = x
	}
	return x
}

// markChanged puts an entity into the list of those that the frame says something about, once.
func (r *Reader) markChanged(x *readEntity) {
	if !x.isListed {
		x.isListed = true
		r.changed = append(r.changed, x)
	}
}

// setOwner notes another owner of an entity. Several groups may tell the same.
func (r *Reader) setOwner(x *readEntity, owner int) {
	x.ownerChanged = x.ownerChanged || x.known && x.owner != owner
	x.owner = owner
}

// readCountedField reads a whole property as readField does, and counts its bits.
func (r *Reader) readCountedField(b *bitReader, x *readEntity, p int, tick int64) {
	from := b.at
	r.readField(b, x, p, tick)
	r.usage.property(x.kind, p, b.at-from, 1)
}

// readField reads a whole property and takes it over.
func (r *Reader) readField(b *bitReader, x *readEntity, p int, tick int64) {
	col := &r.layout.kinds[x.kind][p]
	f := Field{Name: r.outline.Kinds[x.kind].Properties[p].Name, Type: col.typ}
	switch {
	case col.encoding == encodeMotion:
		f.Motion = b.motion(col.typ, col.rate, r.outline.Tick, tick)
	case col.encoding == encodeAttached && b.bit():
		r.readAttached(b, x, p, &f)
	default:
		f.Value = b.value(col.typ)
	}
	if !b.bad {
		r.setField(x, p, f)
	}
}

// readAttached reads what a property is attached to.
func (r *Reader) readAttached(b *bitReader, x *readEntity, p int, f *Field) {
	k := &r.outline.Kinds[x.kind]
	f.Attached = &Attached{}
	f.Attached.Ref, f.Attached.Prop, _ = strings.Cut(k.Properties[p].Follows, ".")
	if b.bit() {
		for range f.Type.Reals() {
			f.Attached.By = append(f.Attached.By, math.Float64frombits(b.get(64)))
		}
	}
	f.Value = b.value(f.Type)
}

// setField notes the value of a property, p being its place in the entity's kind. The same value by another group is no
// change.
func (r *Reader) setField(x *readEntity, p int, f Field) {
	if old := &x.fields[p]; old.Type != nil && old.Same(f) && x.lostMask&(1<<p) == 0 && x.carriers[p] > 1 {
		return // another group has brought the same value
	}
	x.fields[p] = f
	x.changedMask |= 1 << p
	r.markChanged(x)
}

// readChanges reads the block of a tick: what Pack wrote.
func (r *Reader) readChanges(b *bitReader, t *groupTable, tick int64) {
	if b.bit() {
		t.restart()
	}
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		lane := int(b.below(uint64(len(t.cols.lanes))))
		s := r.readMember(b, t, lane, tick)
		if b.bad {
			return
		}
		t.insert(lane, s)
	}
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		from := b.at
		_, _, s := t.readSlot(b)
		owner := b.count(1 << 31)
		if !b.bad {
			r.usage.entity(s.entity.kind, b.at-from)
			r.setOwner(s.entity, owner)
			r.markChanged(s.entity)
		}
	}
	type exit struct{ lane, at int }
	var exits []exit
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		from := b.at
		lane, at, s := t.readSlot(b)
		if !b.bad {
			r.usage.entity(s.entity.kind, b.at-from)
			exits = append(exits, exit{lane, at})
			r.markLeaving(t, lane, *s)
		}
	}
	if t.cols.private {
		r.readMasks(b, t, tick)
	}
	r.readColumns(b, t, tick)
	if t.cols.private {
		r.readResends(b, tick)
	}
	if b.bad {
		return
	}
	for _, e := range exits {
		t.slots[e.lane][e.at] = tableSlot{}
		t.firstFree[e.lane] = min(t.firstFree[e.lane], e.at)
	}
	t.trim()
}

// restart closes the gaps of all lanes and orders their members by number, as the writer does when it begins anew.
func (t *groupTable) restart() {
	t.cols.restart()
	for i, list := range t.slots {
		list = slices.DeleteFunc(list, func(s tableSlot) bool { return s.entity == nil })
		slices.SortFunc(list, func(a, b tableSlot) int { return cmp.Compare(a.entity.number, b.entity.number) })
		t.slots[i] = list
		t.firstFree[i] = len(list)
	}
}

// insert puts a member into the first free slot of a lane.
func (t *groupTable) insert(lane int, s tableSlot) {
	list := t.slots[lane]
	at := t.firstFree[lane]
	for at < len(list) && list[at].entity != nil {
		at++
	}
	t.firstFree[lane] = at + 1
	if at < len(list) {
		list[at] = s
	} else {
		t.slots[lane] = append(list, s)
	}
}

// readSlot reads which slot is meant. One that holds no member makes the frame bad.
func (t *groupTable) readSlot(b *bitReader) (lane, at int, s *tableSlot) {
	lane = int(b.below(uint64(len(t.cols.lanes))))
	if b.bad || len(t.slots[lane]) == 0 {
		b.bad = true
		return 0, 0, nil
	}
	at = int(b.below(uint64(len(t.slots[lane]))))
	s = &t.slots[lane][at]
	if s.entity == nil {
		b.bad = true
	}
	return lane, at, s
}

// trim drops the free slots at the end of each lane.
func (t *groupTable) trim() {
	for i, list := range t.slots {
		for len(list) > 0 && list[len(list)-1].entity == nil {
			list = list[:len(list)-1]
		}
		t.slots[i] = list
		t.firstFree[i] = min(t.firstFree[i], len(list))
	}
}

// readMasks reads, of the client's own group, which properties of its entities the client has from now on.
func (r *Reader) readMasks(b *bitReader, t *groupTable, tick int64) {
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		lane, _, s := t.readSlot(b)
		if b.bad {
			return
		}
		now := b.get(uint(len(t.cols.lanes[lane].Properties)))
		if lost := s.mask &^ now; lost != 0 {
			r.leaving = append(r.leaving, leavingEntry{entity: s.entity, properties: lost})
		}
		for p := range r.layout.kinds[s.entity.kind] {
			if now&^s.mask&(1<<p) != 0 {
				s.entity.carriers[p]++
				r.readCountedField(b, s.entity, p, tick)
			}
		}
		s.mask = now
	}
}

// readResends reads values that are sent once more.
func (r *Reader) readResends(b *bitReader, tick int64) {
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		x := r.entities[uint32(b.get(32))]
		if x == nil {
			b.bad = true
			return
		}
		p := int(b.below(uint64(len(r.layout.kinds[x.kind]))))
		if b.bad || x.carriers[p] == 0 {
			b.bad = true
			return
		}
		r.readCountedField(b, x, p, tick)
		x.changedMask |= 1 << p
		r.markChanged(x)
	}
}

// readColumns reads the columns of a change: which of them changed, in which slots, and the values.
func (r *Reader) readColumns(b *bitReader, t *groupTable, tick int64) {
	for len(r.changedColumns) < len(t.cols.columns) {
		r.changedColumns = append(r.changedColumns, false)
	}
	changed := r.changedColumns
	clear(changed)
	at := -1
	for n := b.count(len(t.cols.order)); n > 0 && !b.bad; n-- {
		from := b.at
		at += b.count(len(t.cols.order)) + 1
		if at >= len(t.cols.order) {
			b.bad = true
			return
		}
		c := t.cols.order[at]
		changed[c] = true
		col := &t.cols.columns[c]
		r.indices = b.indices(r.indices[:0], len(t.slots[col.lane]))
		for _, at := range r.indices {
			x := t.slots[col.lane][at].entity
			if x == nil || x.carriers[col.property] == 0 || b.bad {
				b.bad = true
				return
			}
			if col.encoding != encodeDifference {
				r.readField(b, x, col.property, tick)
				continue
			}
			if x.carriers[col.property] == 1 { // no other group brings it
				f := &x.fields[col.property]
				f.Value = b.difference(col.typ, f.Value, t.cols.estimates(col))
				x.changedMask |= 1 << col.property
				r.markChanged(x)
				continue
			}
			f := x.fields[col.property]
			f.Value = b.difference(col.typ, f.Value, t.cols.estimates(col))
			r.setField(x, col.property, f)
		}
		r.usage.property(t.cols.lanes[col.lane].Kind, col.property, b.at-from, len(r.indices))
	}
	if !b.bad {
		t.cols.moveToFront(at, func(c int32) bool { return changed[c] })
	}
}

// finishFrame takes out what leaves, once all groups were read, and puts what the frame says into a block.
func (r *Reader) finishFrame(block *Block) {
	for _, l := range r.leaving {
		if l.whole {
			l.entity.groups--
		}
		for p := range l.entity.carriers {
			if l.properties&(1<<p) != 0 {
				l.entity.carriers[p]--
				if l.entity.carriers[p] == 0 {
					l.entity.lostMask |= 1 << p
				}
			}
		}
		r.markChanged(l.entity)
	}
	if n := len(r.changed); n > 4 {
		block.Values = make([]Update, 0, n)
	}
	total := 0
	for _, x := range r.changed {
		total += bits.OnesCount64(x.changedMask)
	}
	room := make([]Field, 0, total) // one piece of memory for all fields of the frame
	for _, x := range r.changed {
		x.isListed = false
		held := uint64(0)
		for p, n := range x.carriers {
			if n > 0 {
				held |= 1 << p
			}
		}
		if x.isNew && !x.known {
			name := r.outline.Kinds[x.kind].Name
			block.Spawned = append(block.Spawned, Spawn{x.number, name, x.owner, r.fieldsOf(x, x.changedMask, &room)})
		} else {
			r.update(block, x, held, &room)
		}
		for p := range x.fields {
			if x.lostMask&^held&(1<<p) != 0 || x.groups <= 0 {
				x.fields[p] = Field{}
			}
		}
		if x.groups <= 0 {
			block.Gone = append(block.Gone, x.number)
			delete(r.entities, x.number)
		}
		x.known = true
		x.isNew = false
		x.ownerChanged = false
		x.changedMask = 0
		x.lostMask = 0
	}
}

// update adds to the block what became of an entity that the client had: its owner, values, and what is withdrawn,
// which is what was lost and no group of held carries.
func (r *Reader) update(block *Block, x *readEntity, held uint64, room *[]Field) {
	if x.ownerChanged {
		block.Owned = append(block.Owned, Owned{x.number, x.owner})
	}
	k := &r.outline.Kinds[x.kind]
	u := Update{Entity: x.number, Kind: k.Name}
	if x.groups > 0 {
		for p := range x.fields {
			if x.lostMask&^held&(1<<p) != 0 {
				u.Withdrawn = append(u.Withdrawn, k.Properties[p].Name)
			}
		}
	}
	u.Fields = r.fieldsOf(x, x.changedMask&held, room)
	if len(u.Fields) > 0 || u.Withdrawn != nil {
		block.Values = append(block.Values, u)
	}
}

// fieldsOf puts the fields of some properties into room, moved to the frame's tick, and returns that part of it.
func (r *Reader) fieldsOf(x *readEntity, properties uint64, room *[]Field) []Field {
	from := len(*room)
	for p := range x.fields {
		if properties&(1<<p) == 0 {
			continue
		}
		f := x.fields[p]
		if f.Motion != nil {
			f.Value = f.Motion.Value(f.Type, r.frame.Tick)
		}
		*room = append(*room, f)
	}
	return (*room)[from:len(*room):len(*room)]
}

// readEvent reads one event from its part.
func (r *Reader) readEvent(b *bitReader, f *Frame, c *cursor) {
	e := &Event{}
	var params []contract.Param
	of := -1 // the kind that the event belongs to
	properties := 0
	var at int
	if b.bit() {
		kind := int(b.below(uint64(len(r.outline.Kinds))))
		if b.bad {
			c.bad = true
			return
		}
		of = kind
		k := &r.outline.Kinds[kind]
		properties = len(k.Properties)
		at = int(b.below(uint64(len(k.Events))))
		if b.bad || at >= len(k.Events) {
			c.bad = true
			return
		}
		e.Event = k.Name + "." + k.Events[at].Name
		params = k.Events[at].Params
		if b.bit() {
			e.Entity = uint32(b.get(32))
		}
	} else {
		at = int(b.below(uint64(len(r.outline.Events))))
		if b.bad || at >= len(r.outline.Events) {
			c.bad = true
			return
		}
		e.Event = r.outline.Events[at].Name
		params = r.outline.Events[at].Params
	}
	for _, p := range params {
		e.Fields = append(e.Fields, Field{Name: p.Name, Type: p.Type, Value: b.value(p.Type)})
	}
	f.Events = append(f.Events, e)
	r.usage.event(of, properties, at, partLen(len(b.buf)))
	c.bad = c.bad || !b.done()
}

// readDecisions reads the section with decisions.
func (r *Reader) readDecisions(b *bitReader, f *Frame, c *cursor) {
	for n := b.count(1 << 16); n > 0 && !b.bad; n-- {
		of := b.get(2)
		number := b.gamma()
		d := Decision{Check: b.count(1<<16) - 1}
		switch of {
		case numberIsSeq:
			d.Seq = number
		case numberIsPress:
			d.Press = number
		case numberIsRelease:
			d.Release = number
		}
		d.Outcome = outcomes[b.get(4)]
		if d.Outcome == "" {
			d.Outcome = Unknown
		}
		d.Stage = stages[b.get(4)]
		d.Reason = b.text(1 << 16)
		if reply := b.text(1 << 24); reply != "" {
			d.Reply = []byte(reply)
		}
		f.Decisions = append(f.Decisions, d)
	}
	c.bad = c.bad || !b.done()
}
