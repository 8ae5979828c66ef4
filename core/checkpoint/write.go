package checkpoint

import (
	"encoding/binary"
	"fmt"
	"reflect"
	"slices"
	"unsafe"
)

// How a pointer is written: a number for where it leads to, and then how far into that. 0 is nil; then the fixed blocks
// come, and then those of the graph.
//
// A slice begins with its length plus one, 0 being nil, and an empty one ends there. A string is its length and its
// bytes.

// writer writes the blocks of a graph.
type writer struct {
	codec  *Codec
	blocks *blocks
	out    []byte
}

// run writes the types of all blocks, the blocks' types and sizes, and what is in them.
func (w *writer) run() error {
	w.number(len(w.blocks.written))
	for _, b := range w.blocks.written {
		if b.kind == ofMap { // told by its count, since a block may also have maps side by side
			w.number(w.codec.typeNumbers[b.typ])
			w.number(0)
			continue
		}
		w.number(w.codec.typeNumbers[b.plan.typ])
		w.number(b.count)
	}
	for _, b := range w.blocks.written {
		if b.kind == ofMap {
			if err := w.putMap(b); err != nil {
				return err
			}
			continue
		}
		if len(b.plan.parts) == 0 {
			w.out = append(w.out, unsafe.Slice((*byte)(b.at), b.bytes)...)
			continue
		}
		for n := range b.count {
			if err := w.value(unsafe.Add(b.at, uintptr(n)*b.plan.size), b.plan); err != nil {
				return err
			}
		}
	}
	return nil
}

// numberTypes numbers all types that a codec knows, in an order that both sides come to.
func (c *Codec) numberTypes() {
	c.typeNumbers = map[reflect.Type]int{}
	known := func(t reflect.Type) {
		if _, is := c.typeNumbers[t]; !is {
			c.typeNumbers[t] = len(c.types)
			c.types = append(c.types, t)
		}
	}
	seen := map[*plan]bool{}
	var add func(p *plan)
	add = func(p *plan) {
		if seen[p] {
			return
		}
		seen[p] = true
		known(p.typ)
		for _, x := range p.parts {
			if x.kind == partMap {
				known(x.typ)
			}
			if x.key != nil {
				add(x.key)
			}
			if x.elem != nil {
				add(x.elem)
			}
		}
	}
	add(c.root)
	for _, t := range c.dynamic {
		add(c.plans[t.Elem()])
	}
}

// number writes a number that is not negative.
func (w *writer) number(n int) { w.out = binary.AppendUvarint(w.out, uint64(n)) }

// value writes a value: what is between its parts as it stands in memory, and the parts.
func (w *writer) value(at unsafe.Pointer, p *plan) error {
	done := uintptr(0)
	for i := range p.parts {
		x := &p.parts[i]
		w.raw(at, done, x.offset)
		done = x.offset + x.size
		field := unsafe.Add(at, x.offset)
		switch x.kind {
		case partPointer, partMap:
			if err := w.pointer(*(*unsafe.Pointer)(field), x.typ); err != nil {
				return err
			}
		case partSlice:
			s := (*sliceHeader)(field)
			if s.data == nil {
				w.number(0)
				continue
			}
			w.number(s.length + 1)
			if x.whole {
				w.number(s.capacity)
			}
			if s.written(x) > 0 && x.elem.size > 0 {
				if err := w.pointer(s.data, x.typ); err != nil {
					return err
				}
			}
		case partString:
			s := *(*string)(field)
			w.number(len(s))
			w.out = append(w.out, s...)
		case partInterface:
			if err := w.inInterface(reflect.NewAt(x.typ, field).Elem()); err != nil {
				return err
			}
		case partLeftOut:
		}
	}
	w.raw(at, done, p.size)
	return nil
}

// raw writes memory as it stands, from one offset to another. Where there is none no pointer is made: behind the end of
// a value another one may stand.
func (w *writer) raw(at unsafe.Pointer, from, to uintptr) {
	if from < to {
		w.out = append(w.out, unsafe.Slice((*byte)(unsafe.Add(at, from)), to-from)...)
	}
}

// inInterface writes which type an interface holds, and where that is.
func (w *writer) inInterface(v reflect.Value) error {
	if v.IsNil() {
		w.number(0)
		return nil
	}
	w.number(slices.Index(w.codec.dynamic, v.Elem().Type()) + 1)
	return w.pointer(v.Elem().UnsafePointer(), v.Elem().Type())
}

// pointer writes where a pointer leads to.
func (w *writer) pointer(p unsafe.Pointer, t reflect.Type) error {
	if p == nil {
		w.number(0)
		return nil
	}
	fixed := w.codec.fixed
	b, offset := w.blocks.find(p)
	switch {
	case b != nil:
		w.number(1 + len(fixed.written) + b.number)
	default:
		b, offset = fixed.find(p)
		if b == nil {
			return fmt.Errorf("write a checkpoint: a %s leads to nothing that was found", t)
		}
		w.number(1 + b.number)
	}
	w.number(int(offset))
	return nil
}

// putMap writes the keys and values of a map.
func (w *writer) putMap(b *block) error {
	m := mapAt(b)
	w.number(m.Len())
	key := reflect.New(b.typ.Key())
	value := reflect.New(b.typ.Elem())
	keyPlan := w.codec.plans[b.typ.Key()]
	for i := m.MapRange(); i.Next(); {
		key.Elem().SetIterKey(i)
		value.Elem().SetIterValue(i)
		if err := w.value(key.UnsafePointer(), keyPlan); err != nil {
			return err
		}
		if err := w.value(value.UnsafePointer(), b.plan); err != nil {
			return err
		}
	}
	return nil
}
