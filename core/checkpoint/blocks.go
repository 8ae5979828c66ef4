package checkpoint

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"reflect"
	"slices"
	"unsafe"
)

// blockKind says what a block of memory is.
type blockKind uint8

const (
	ofPointer blockKind = iota // one value or more, side by side
	ofMap                      // a map: it is known by its address, and what is in it is not
)

// block is memory of the graph.
type block struct {
	at     unsafe.Pointer
	plan   *plan   // of a value in it
	count  int     // how many stand side by side
	bytes  uintptr // that it takes in memory
	kind   blockKind
	typ    reflect.Type // of a map
	number int          // among the blocks that are written; -1 for one within another
	within *block       // that it stands in
}

// end is the address behind the block.
func (b *block) end() uintptr { return uintptr(b.at) + b.bytes }

// blocks is the memory of a graph.
type blocks struct {
	byAddress map[unsafe.Pointer]*block
	list      []*block // as found
	written   []*block // those that stand within no other, by number
	ordered   []*block // the same, by address
}

// newBlocks returns no blocks, with room for some.
func newBlocks(room int) *blocks {
	return &blocks{byAddress: make(map[unsafe.Pointer]*block, room), list: make([]*block, 0, room)}
}

// arrange numbers the blocks, and finds those that stand within others.
func (b *blocks) arrange() {
	b.ordered = slices.Clone(b.list)
	slices.SortFunc(b.ordered, func(x, y *block) int {
		return cmp.Or(cmp.Compare(uintptr(x.at), uintptr(y.at)), cmp.Compare(y.end(), x.end()))
	})
	var outer *block
	for _, x := range b.ordered {
		if outer != nil && x.end() <= outer.end() {
			x.within = outer
			continue
		}
		outer = x
	}
	b.ordered = slices.DeleteFunc(b.ordered, func(x *block) bool { return x.within != nil })
	b.joinOverlapping()
	for _, x := range b.list {
		x.number = -1
		if x.within == nil {
			x.number = len(b.written)
			b.written = append(b.written, x)
		}
	}
}

// joinOverlapping makes one block of two slices that share a part of their memory.
func (b *blocks) joinOverlapping() {
	kept := b.ordered[:0]
	for _, x := range b.ordered {
		last := len(kept) - 1
		if last >= 0 && uintptr(x.at) < kept[last].end() {
			outer := kept[last]
			outer.bytes = x.end() - uintptr(outer.at)
			outer.count = int(outer.bytes / outer.plan.size)
			x.within = outer
			continue
		}
		kept = append(kept, x)
	}
	b.ordered = kept
}

// find returns the block that an address leads into, and how far; nil when it leads into none.
func (b *blocks) find(p unsafe.Pointer) (x *block, offset uintptr) {
	if x := b.byAddress[p]; x != nil && x.within == nil {
		return x, 0
	}
	i, found := slices.BinarySearchFunc(b.ordered, uintptr(p), func(x *block, p uintptr) int {
		return cmp.Compare(uintptr(x.at), p)
	})
	if !found {
		i--
	}
	if i < 0 || uintptr(p) >= b.ordered[i].end() {
		return nil, 0
	}
	return b.ordered[i], uintptr(p) - uintptr(b.ordered[i].at)
}

// sum is a number for which blocks there are.
func (b *blocks) sum() uint64 {
	h := fnv.New64a()
	var number [8]byte
	for _, x := range b.written {
		binary.LittleEndian.PutUint64(number[:], uint64(x.bytes))
		h.Write(number[:])
	}
	return h.Sum64()
}

// finder finds the blocks of a graph.
type finder struct {
	codec   *Codec
	blocks  *blocks
	isFixed bool // of what is not written: strings and maps need not be looked into
	toScan  []*block
	size    int // that writing takes, about
}

// add notes a block, unless it is known or fixed.
func (f *finder) add(at unsafe.Pointer, p *plan, count int, kind blockKind) *block {
	bytes := uintptr(count) * p.size
	if kind == ofMap {
		bytes = 1 // its address alone counts
	}
	if at == nil || bytes == 0 {
		return nil
	}
	if x := f.blocks.byAddress[at]; x != nil {
		if bytes <= x.bytes {
			return nil
		}
		// A pointer to the first field of what is larger came first.
		x.plan = p
		x.count = count
		x.bytes = bytes
		f.toScan = append(f.toScan, x)
		return x
	}
	if !f.isFixed {
		if x, _ := f.codec.fixed.find(at); x != nil {
			return nil
		}
	}
	x := &block{at: at, plan: p, count: count, bytes: bytes, kind: kind}
	f.blocks.byAddress[at] = x
	f.blocks.list = append(f.blocks.list, x)
	f.toScan = append(f.toScan, x)
	f.size += 16 + count*int(p.size)
	return x
}

// run scans blocks until no new ones are found.
func (f *finder) run() error {
	for i := 0; i < len(f.toScan); i++ {
		x := f.toScan[i]
		if x.kind == ofMap {
			if err := f.scanMap(x); err != nil {
				return err
			}
			continue
		}
		if len(x.plan.parts) == 0 {
			continue
		}
		for n := range x.count {
			if err := f.scan(unsafe.Add(x.at, uintptr(n)*x.plan.size), x.plan); err != nil {
				return err
			}
		}
	}
	return nil
}

// scan finds the blocks that a value leads to.
func (f *finder) scan(at unsafe.Pointer, p *plan) error {
	for i := range p.parts {
		x := &p.parts[i]
		field := unsafe.Add(at, x.offset)
		switch x.kind {
		case partPointer:
			f.add(*(*unsafe.Pointer)(field), x.elem, 1, ofPointer)
		case partSlice:
			s := (*sliceHeader)(field)
			f.add(s.data, x.elem, s.written(x), ofPointer)
		case partMap:
			if b := f.add(*(*unsafe.Pointer)(field), x.elem, 1, ofMap); b != nil {
				b.typ = x.typ
			}
		case partInterface:
			v := reflect.NewAt(x.typ, field).Elem()
			if v.IsNil() {
				continue
			}
			inside := v.Elem()
			if !slices.Contains(f.codec.dynamic, inside.Type()) {
				return fmt.Errorf("write a checkpoint: an interface holds a %s, which was not declared", inside.Type())
			}
			f.add(inside.UnsafePointer(), f.codec.plans[inside.Type().Elem()], 1, ofPointer)
		case partString, partLeftOut:
		}
	}
	return nil
}

// scanMap finds the blocks that what is in a map leads to.
func (f *finder) scanMap(b *block) error {
	m := mapAt(b)
	key := reflect.New(b.typ.Key())
	value := reflect.New(b.typ.Elem())
	keyPlan := f.codec.plans[b.typ.Key()]
	if f.isFixed {
		return f.scanFixedMap(b, m)
	}
	for i := m.MapRange(); i.Next(); {
		key.Elem().SetIterKey(i)
		value.Elem().SetIterValue(i)
		if err := f.scan(key.UnsafePointer(), keyPlan); err != nil {
			return err
		}
		if err := f.scan(value.UnsafePointer(), b.plan); err != nil {
			return err
		}
		f.size += int(b.typ.Key().Size() + b.typ.Elem().Size())
	}
	return nil
}

// scanFixedMap finds the blocks that what is in a map leads to, by the order of its keys: fixed blocks have the same
// numbers on both sides.
func (f *finder) scanFixedMap(b *block, m reflect.Value) error {
	keys := m.MapKeys()
	rank := func(k reflect.Value) (string, int) {
		switch {
		case k.Kind() == reflect.String:
			return k.String(), 0
		case k.Kind() == reflect.Pointer:
			x := f.blocks.byAddress[k.UnsafePointer()]
			return "", slices.Index(f.blocks.list, x)
		case k.CanInt():
			return "", int(k.Int())
		case k.CanUint():
			return "", int(k.Uint())
		case k.Kind() == reflect.Bool && k.Bool():
			return "", 1
		}
		return "", 0
	}
	slices.SortFunc(keys, func(x, y reflect.Value) int {
		xText, xNumber := rank(x)
		yText, yNumber := rank(y)
		return cmp.Or(cmp.Compare(xText, yText), cmp.Compare(xNumber, yNumber))
	})
	for i, k := range keys {
		if i > 0 {
			lastText, lastNumber := rank(keys[i-1])
			if text, number := rank(k); text == lastText && number == lastNumber {
				return fmt.Errorf("write a checkpoint: the keys of a fixed %s have no order", b.typ)
			}
		}
		value := reflect.New(b.typ.Elem())
		value.Elem().Set(m.MapIndex(k))
		if err := f.scan(value.UnsafePointer(), b.plan); err != nil {
			return err
		}
	}
	return nil
}

// mapAt returns the map of a block.
func mapAt(b *block) reflect.Value {
	at := b.at
	return reflect.NewAt(b.typ, unsafe.Pointer(&at)).Elem()
}

// sliceHeader is how a slice stands in memory.
type sliceHeader struct {
	data             unsafe.Pointer
	length, capacity int
}

// written returns how many elements of the slice are written.
func (s *sliceHeader) written(x *part) int {
	if x.whole {
		return s.capacity
	}
	return s.length
}
