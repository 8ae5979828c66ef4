package wire

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strings"

	"kamerad/core/contract"
)

// Reader turns the binary frames of one client into Frames, in the order in which they were sent. It remembers what the
// next differences are measured from.
type Reader struct {
	layout  *Layout
	outline *contract.Outline
	tick    int64
	settled int64
	tables  map[uint64]*table
	things  map[uint32]*thing
	touched []*thing  // in this frame
	out     *Frame    // that is read
	chosen  []int     // the memory of what was read of a column
	changed []bool    // by column
	leaving []leaving // at the end of the frame
}

// thing is an entity as the reader knows it.
type thing struct {
	number  uint32
	kind    int
	owner   int
	whole   int // by how many groups it is known
	known   bool
	fresh   bool
	touched bool
	held    []int // by property: how many groups carry it
	fields  []Field
	news    uint64 // properties to be told
	lost    uint64 // properties that may be withdrawn
	given   bool
}

// table is a group at the side that reads.
type table struct {
	group int
	cols  *columns
	slots [][]tableSlot
	free  []int // by lane: no slot before it is free
}

func newTable(s *shape, group int) *table {
	cols := s.columns(nil, nil)
	return &table{
		group: group,
		cols:  &cols,
		slots: make([][]tableSlot, len(s.lanes)),
		free:  make([]int, len(s.lanes)),
	}
}

type tableSlot struct {
	thing *thing
	whole bool
	mask  uint64
}

type leaving struct {
	thing *thing
	whole bool
	props uint64
}

// NewReader makes the reader of a client that was given an outline.
func NewReader(l *Layout) *Reader {
	r := &Reader{layout: l, outline: l.Outline}
	r.begin()
	return r
}

func (r *Reader) begin() {
	r.settled = 0
	r.tables = map[uint64]*table{}
	r.things = map[uint32]*thing{}
	r.tables[0] = newTable(r.layout.own, 0)
}

// cursor reads bytes.
type cursor struct {
	buf []byte
	bad bool
}

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

func (c *cursor) part() []byte { return c.bytes(c.uvarint()) }

func (c *cursor) rest() []byte { return c.bytes(uint64(len(c.buf))) }

// Read reads a frame. What was read before an error is lost: the connection has to end, or a snapshot to come.
func (r *Reader) Read(raw []byte) (f *Frame, err error) {
	if len(raw) == 0 {
		return nil, fmt.Errorf("read a frame: it is empty")
	}
	c := &cursor{buf: raw}
	head := c.uvarint()
	f = &Frame{Tick: r.tick, Snapshot: head&(1<<snapshotBit) != 0}
	r.out = f
	if f.Snapshot {
		r.begin()
		f.Tick = 0
	}
	if by := c.uvarint(); by > 1<<53 {
		c.bad = true
	} else {
		f.Tick += int64(by)
	}
	f.Settled = r.settled
	block := &Block{}
	r.touched = r.touched[:0]
	r.leaving = r.leaving[:0]
	for rest := head &^ (1 << snapshotBit); rest != 0 && !c.bad; rest &= rest - 1 {
		in := &cursor{buf: c.part()}
		r.section(section(bits.TrailingZeros64(rest)), in, f, block)
		c.bad = c.bad || in.bad
	}
	r.finish(block)
	if !block.Empty() {
		f.Blocks = []*Block{block}
	}
	if c.bad || len(c.buf) > 0 {
		return nil, fmt.Errorf("read the frame after tick %d: it is broken", r.tick)
	}
	r.tick = f.Tick
	r.settled = f.Settled
	return f, nil
}

// section reads one section of a frame. One that it does not know tells it nothing.
func (r *Reader) section(s section, c *cursor, f *Frame, block *Block) {
	switch s {
	case stateSection:
		for n := c.uvarint(); n > 0 && !c.bad; n-- {
			r.block(c, f.Tick, n == 1)
		}
	case eventsSection:
		for len(c.buf) > 0 {
			r.event(&bitReader{buf: c.part()}, f, c)
		}
	case decisionsSection:
		r.decisions(&bitReader{buf: c.rest()}, f, c)
	case digestSection:
		if raw := c.bytes(4); raw != nil {
			digest := binary.LittleEndian.Uint32(raw)
			f.Digest = &digest
		}
	case rosterSection:
		r.roster(&bitReader{buf: c.rest()}, block, c)
	case logsSection:
		for len(c.buf) > 0 {
			f.Logs = append(f.Logs, string(c.part()))
		}
	case settledSection:
		f.Settled = f.Tick - int64(min(c.uvarint(), uint64(f.Tick)))
	default:
		return
	}
	c.bad = c.bad || len(c.buf) > 0
}

func (r *Reader) roster(b *bitReader, block *Block, c *cursor) {
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

// block reads one group's part of a frame. The last block of a frame has all that is left of its section.
func (r *Reader) block(c *cursor, tick int64, last bool) {
	head := c.uvarint()
	handle := head >> 2
	op := head & 3
	content := func() *bitReader {
		if last {
			return &bitReader{buf: c.rest()}
		}
		return &bitReader{buf: c.part()}
	}
	t := r.tables[handle]
	switch {
	case op == opOther:
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
		r.snapshot(b, t, tick)
		c.bad = c.bad || !b.done()
	case op == opChange && t != nil:
		b := content()
		r.changes(b, t, tick)
		c.bad = c.bad || !b.done()
	case op == opLeave && t != nil && handle != 0:
		delete(r.tables, handle)
		for i, list := range t.slots {
			for _, s := range list {
				if s.thing != nil {
					r.leaves(t, i, s)
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
	opOther // free for later kinds of blocks, which are skipped

	maxTables = 100_000
	maxSlots  = 1 << 20
)

// lane gives the properties of a lane as a mask of those of its kind.
func mask(l *Lane) (out uint64) {
	for _, p := range l.Properties {
		out |= 1 << p
	}
	return out
}

func (r *Reader) leaves(t *table, lane int, s tableSlot) {
	l := &t.cols.lanes[lane]
	props := s.mask
	if !t.cols.private {
		props = mask(l)
	}
	r.leaving = append(r.leaving, leaving{s.thing, s.whole, props})
}

func (r *Reader) snapshot(b *bitReader, t *table, tick int64) {
	for i := range t.cols.lanes {
		for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
			t.slots[i] = append(t.slots[i], r.item(b, t, i, tick))
		}
	}
}

// item reads an entity that comes to a group.
func (r *Reader) item(b *bitReader, t *table, lane int, tick int64) tableSlot {
	l := &t.cols.lanes[lane]
	number := uint32(b.get(32))
	owner := b.count(1 << 31)
	s := tableSlot{whole: l.Whole, mask: mask(l)}
	if t.cols.private {
		s.whole = b.bit()
		s.mask = b.get(uint(len(l.Properties)))
	}
	x := r.things[number]
	if b.bad || number == 0 || x != nil && x.kind != l.Kind {
		b.bad = true
		return tableSlot{}
	}
	x = r.thing(number, l.Kind, owner)
	s.thing = x
	if s.whole {
		x.whole++
		r.owner(x, owner)
	}
	for p := range r.layout.kinds[l.Kind] {
		if s.mask&(1<<p) != 0 {
			x.held[p]++
			r.field(b, x, p, tick)
		}
	}
	r.touch(x)
	return s
}

// thing gives the entity of a number, a new one if need be.
func (r *Reader) thing(number uint32, kind, owner int) *thing {
	x := r.things[number]
	if x == nil {
		n := len(r.layout.kinds[kind])
		x = &thing{
			number: number,
			kind:   kind,
			owner:  owner,
			held:   make([]int, n),
			fields: make([]Field, n),
			fresh:  true,
		}
		r.things[number] = x
	}
	return x
}

func (r *Reader) touch(x *thing) {
	if !x.touched {
		x.touched = true
		r.touched = append(r.touched, x)
	}
}

func (r *Reader) owner(x *thing, owner int) {
	x.given = x.given || x.known && x.owner != owner
	x.owner = owner
}

// field reads a property as a whole.
func (r *Reader) field(b *bitReader, x *thing, p int, tick int64) {
	col := &r.layout.kinds[x.kind][p]
	f := Field{Name: r.outline.Kinds[x.kind].Properties[p].Name, Type: col.typ}
	switch {
	case col.way == asMotion:
		f.Motion = b.motion(col.typ, col.rate, r.outline.Tick, tick)
	case col.way == asAttached && b.bit():
		r.attached(b, x, p, &f)
	default:
		f.Value = b.value(col.typ)
	}
	if !b.bad {
		r.set(x, p, f)
	}
}

// attached reads what a property is attached to.
func (r *Reader) attached(b *bitReader, x *thing, p int, f *Field) {
	k := &r.outline.Kinds[x.kind]
	f.Tied = &Attached{}
	f.Tied.Ref, f.Tied.Prop, _ = strings.Cut(k.Properties[p].Follows, ".")
	if b.bit() {
		for range f.Type.Reals() {
			f.Tied.By = append(f.Tied.By, math.Float64frombits(b.get(64)))
		}
	}
	f.Value = b.value(f.Type)
}

func (r *Reader) set(x *thing, p int, f Field) {
	if old := &x.fields[p]; old.Type != nil && old.Same(f) && x.lost&(1<<p) == 0 && x.held[p] > 1 {
		return // it comes by another group and is the same
	}
	x.fields[p] = f
	x.news |= 1 << p
	r.touch(x)
}

// changes reads a block.
func (r *Reader) changes(b *bitReader, t *table, tick int64) {
	if b.bit() {
		t.cols.begin()
		for i, list := range t.slots {
			list = slices.DeleteFunc(list, func(s tableSlot) bool { return s.thing == nil })
			slices.SortFunc(list, func(a, b tableSlot) int { return cmp.Compare(a.thing.number, b.thing.number) })
			t.slots[i] = list
			t.free[i] = len(list)
		}
	}
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		lane := int(b.below(uint64(len(t.cols.lanes))))
		s := r.item(b, t, lane, tick)
		if b.bad {
			return
		}
		list := t.slots[lane]
		at := t.free[lane]
		for at < len(list) && list[at].thing != nil {
			at++
		}
		t.free[lane] = at + 1
		if at < len(list) {
			list[at] = s
		} else {
			t.slots[lane] = append(list, s)
		}
	}
	where := func() (lane, at int, s *tableSlot) {
		lane = int(b.below(uint64(len(t.cols.lanes))))
		if b.bad || len(t.slots[lane]) == 0 {
			b.bad = true
			return 0, 0, nil
		}
		at = int(b.below(uint64(len(t.slots[lane]))))
		s = &t.slots[lane][at]
		if s.thing == nil {
			b.bad = true
		}
		return lane, at, s
	}
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		_, _, s := where()
		owner := b.count(1 << 31)
		if !b.bad {
			r.owner(s.thing, owner)
			r.touch(s.thing)
		}
	}
	type exit struct{ lane, at int }
	var exits []exit
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		lane, at, s := where()
		if !b.bad {
			exits = append(exits, exit{lane, at})
			r.leaves(t, lane, *s)
		}
	}
	if t.cols.private {
		r.single(b, t, where, tick)
	}
	r.columns(b, t, tick)
	if t.cols.private {
		r.corrections(b, tick)
	}
	if b.bad {
		return
	}
	for _, e := range exits {
		t.slots[e.lane][e.at] = tableSlot{}
		t.free[e.lane] = min(t.free[e.lane], e.at)
	}
	for i, list := range t.slots {
		for len(list) > 0 && list[len(list)-1].thing == nil {
			list = list[:len(list)-1]
		}
		t.slots[i] = list
		t.free[i] = min(t.free[i], len(list))
	}
}

func (r *Reader) single(b *bitReader, t *table, where func() (int, int, *tableSlot), tick int64) {
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		lane, _, s := where()
		if b.bad {
			return
		}
		now := b.get(uint(len(t.cols.lanes[lane].Properties)))
		if lost := s.mask &^ now; lost != 0 {
			r.leaving = append(r.leaving, leaving{thing: s.thing, props: lost})
		}
		for p := range r.layout.kinds[s.thing.kind] {
			if now&^s.mask&(1<<p) != 0 {
				s.thing.held[p]++
				r.field(b, s.thing, p, tick)
			}
		}
		s.mask = now
	}
}

// corrections reads values that are sent once more.
func (r *Reader) corrections(b *bitReader, tick int64) {
	for n := b.count(maxSlots); n > 0 && !b.bad; n-- {
		x := r.things[uint32(b.get(32))]
		if x == nil {
			b.bad = true
			return
		}
		p := int(b.below(uint64(len(r.layout.kinds[x.kind]))))
		if b.bad || x.held[p] == 0 {
			b.bad = true
			return
		}
		r.field(b, x, p, tick)
		x.news |= 1 << p
		r.touch(x)
	}
}

func (r *Reader) columns(b *bitReader, t *table, tick int64) {
	for len(r.changed) < len(t.cols.list) {
		r.changed = append(r.changed, false)
	}
	changed := r.changed
	clear(changed)
	at := -1
	for n := b.count(len(t.cols.order)); n > 0 && !b.bad; n-- {
		at += b.count(len(t.cols.order)) + 1
		if at >= len(t.cols.order) {
			b.bad = true
			return
		}
		c := t.cols.order[at]
		changed[c] = true
		col := &t.cols.list[c]
		r.chosen = b.places(r.chosen[:0], len(t.slots[col.lane]))
		for _, at := range r.chosen {
			x := t.slots[col.lane][at].thing
			if x == nil || x.held[col.prop] == 0 || b.bad {
				b.bad = true
				return
			}
			if col.way != byDifference {
				r.field(b, x, col.prop, tick)
				continue
			}
			if x.held[col.prop] == 1 { // it comes by no other group
				f := &x.fields[col.prop]
				f.Value = b.difference(col.typ, f.Value, t.cols.usual(col))
				x.news |= 1 << col.prop
				r.touch(x)
				continue
			}
			f := x.fields[col.prop]
			f.Value = b.difference(col.typ, f.Value, t.cols.usual(col))
			r.set(x, col.prop, f)
		}
	}
	if !b.bad {
		t.cols.front(at, func(c int32) bool { return changed[c] })
	}
}

// finish takes out what leaves, once all groups were read, and tells what there is to tell.
func (r *Reader) finish(block *Block) {
	for _, l := range r.leaving {
		if l.whole {
			l.thing.whole--
		}
		for p := range l.thing.held {
			if l.props&(1<<p) != 0 {
				l.thing.held[p]--
				if l.thing.held[p] == 0 {
					l.thing.lost |= 1 << p
				}
			}
		}
		r.touch(l.thing)
	}
	if n := len(r.touched); n > 4 {
		block.Values = make([]Update, 0, n)
	}
	total := 0
	for _, x := range r.touched {
		total += bits.OnesCount64(x.news)
	}
	room := make([]Field, 0, total) // one piece of memory for all that the frame tells
	for _, x := range r.touched {
		x.touched = false
		k := &r.outline.Kinds[x.kind]
		fields := func(such uint64) []Field {
			from := len(room)
			for p := range x.fields {
				if such&(1<<p) == 0 {
					continue
				}
				f := x.fields[p]
				if f.Motion != nil {
					f.Value = f.Motion.Value(f.Type, r.out.Tick)
				}
				room = append(room, f)
			}
			return room[from:len(room):len(room)]
		}
		held := uint64(0)
		for p, n := range x.held {
			if n > 0 {
				held |= 1 << p
			}
		}
		switch {
		case !x.known && x.fresh:
			block.Spawned = append(block.Spawned, Spawn{x.number, k.Name, x.owner, fields(x.news)})
		default:
			if x.given {
				block.Owned = append(block.Owned, Owned{x.number, x.owner})
			}
			u := Update{Entity: x.number, Kind: k.Name}
			if x.whole > 0 {
				for p := range x.fields {
					if x.lost&^held&(1<<p) != 0 {
						u.Withdrawn = append(u.Withdrawn, k.Properties[p].Name)
					}
				}
			}
			u.Fields = fields(x.news & held)
			if len(u.Fields) > 0 || u.Withdrawn != nil {
				block.Values = append(block.Values, u)
			}
		}
		for p := range x.fields {
			if x.lost&^held&(1<<p) != 0 || x.whole <= 0 {
				x.fields[p] = Field{}
			}
		}
		if x.whole <= 0 {
			block.Gone = append(block.Gone, x.number)
			delete(r.things, x.number)
		}
		x.known = true
		x.fresh = false
		x.given = false
		x.news = 0
		x.lost = 0
	}
}

func (r *Reader) event(b *bitReader, f *Frame, c *cursor) {
	e := &Event{}
	var params []contract.Param
	if b.bit() {
		kind := int(b.below(uint64(len(r.outline.Kinds))))
		if b.bad {
			c.bad = true
			return
		}
		k := &r.outline.Kinds[kind]
		at := int(b.below(uint64(len(k.Events))))
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
		at := int(b.below(uint64(len(r.outline.Events))))
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
	c.bad = c.bad || !b.done()
}

func (r *Reader) decisions(b *bitReader, f *Frame, c *cursor) {
	for n := b.count(1 << 16); n > 0 && !b.bad; n-- {
		of := b.get(2)
		number := b.gamma()
		d := Decision{Check: b.count(1<<16) - 1}
		switch of {
		case ofSeq:
			d.Seq = number
		case ofPress:
			d.Press = number
		case ofRelease:
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
