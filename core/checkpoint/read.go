package checkpoint

import (
	"encoding/binary"
	"fmt"
	"reflect"
	"unsafe"
)

// reader makes the blocks of a graph.
type reader struct {
	codec *Codec
	in    []byte
	made  []madeBlock
}

// madeBlock is a block that was made.
type madeBlock struct {
	at    unsafe.Pointer // of a map, the map itself
	plan  *plan
	count int
	value reflect.Value // of a map
	size  uintptr
}

// run makes all blocks, and then fills them. The first one is the root's.
func (r *reader) run(root unsafe.Pointer) error {
	n := r.number()
	if n > len(r.in) {
		return ErrBroken
	}
	r.made = make([]madeBlock, 0, n)
	for i := range n {
		t := r.codec.types[r.number()]
		count := r.number()
		if count == 0 {
			m := reflect.MakeMap(t)
			r.made = append(r.made, madeBlock{at: m.UnsafePointer(), value: m, plan: r.codec.plans[t.Elem()]})
			continue
		}
		if uintptr(count)*t.Size() > maxBlock {
			return ErrBroken
		}
		b := madeBlock{at: root, plan: r.codec.plans[t], count: count, size: uintptr(count) * t.Size()}
		switch {
		case i == 0:
		case count == 1:
			b.at = reflect.New(t).UnsafePointer()
		default:
			b.at = reflect.MakeSlice(reflect.SliceOf(t), count, count).UnsafePointer()
		}
		r.made = append(r.made, b)
	}
	for i := range r.made {
		r.fill(&r.made[i])
	}
	if len(r.in) > 0 {
		return fmt.Errorf("%w: %d bytes are left", ErrBroken, len(r.in))
	}
	return nil
}

// maxBlock bounds what one block may take, in bytes.
const maxBlock = 1 << 32

// fill reads what is in a block.
func (r *reader) fill(b *madeBlock) {
	if b.value.IsValid() {
		r.fillMap(b)
		return
	}
	if len(b.plan.parts) == 0 {
		r.raw(b.at, 0, b.size)
		return
	}
	for n := range b.count {
		r.value(unsafe.Add(b.at, uintptr(n)*b.plan.typ.Size()), b.plan)
	}
}

// fillMap reads the keys and values of a map.
func (r *reader) fillMap(b *madeBlock) {
	t := b.value.Type()
	keyPlan := r.codec.plans[t.Key()]
	for range r.number() {
		key := reflect.New(t.Key())
		value := reflect.New(t.Elem())
		r.value(key.UnsafePointer(), keyPlan)
		r.value(value.UnsafePointer(), b.plan)
		b.value.SetMapIndex(key.Elem(), value.Elem())
	}
}

// number reads a number. It panics on broken bytes, as everything here does: Read makes an error of it.
func (r *reader) number() int {
	n, size := binary.Uvarint(r.in)
	if size <= 0 || n > 1<<62 {
		panic(ErrBroken)
	}
	r.in = r.in[size:]
	return int(n)
}

// raw reads memory as it stood, from one offset to another; see writer.raw.
func (r *reader) raw(at unsafe.Pointer, from, to uintptr) {
	if from < to {
		copy(unsafe.Slice((*byte)(unsafe.Add(at, from)), to-from), r.in[:to-from])
		r.in = r.in[to-from:]
	}
}

// value reads a value.
func (r *reader) value(at unsafe.Pointer, p *plan) {
	done := uintptr(0)
	for i := range p.parts {
		x := &p.parts[i]
		r.raw(at, done, x.offset)
		done = x.offset + x.size
		field := unsafe.Add(at, x.offset)
		switch x.kind {
		case partPointer, partMap:
			*(*unsafe.Pointer)(field) = r.pointer()
		case partSlice:
			r.slice((*sliceHeader)(field), x)
		case partString:
			n := r.number()
			*(*string)(field) = string(r.in[:n])
			r.in = r.in[n:]
		case partInterface:
			if n := r.number(); n > 0 {
				t := r.codec.dynamic[n-1]
				reflect.NewAt(x.typ, field).Elem().Set(reflect.NewAt(t.Elem(), r.pointer()))
			}
		case partLeftOut:
		}
	}
	r.raw(at, done, p.typ.Size())
}

// slice reads a slice. But where it is said otherwise its capacity is its length: what
// another slice has behind it is not this one's to write to.
func (r *reader) slice(s *sliceHeader, x *part) {
	n := r.number()
	if n == 0 {
		return
	}
	capacity := n - 1
	if x.whole {
		capacity = r.number()
	}
	if capacity == 0 || x.elem.typ.Size() == 0 {
		reflect.NewAt(x.typ, unsafe.Pointer(s)).Elem().Set(reflect.MakeSlice(x.typ, n-1, n-1))
		return
	}
	s.data = r.pointer()
	s.length = n - 1
	s.capacity = capacity
}

// pointer reads where a pointer leads to.
func (r *reader) pointer() unsafe.Pointer {
	n := r.number()
	if n == 0 {
		return nil
	}
	offset := uintptr(r.number())
	fixed := r.codec.fixed.written
	if n <= len(fixed) {
		if b := fixed[n-1]; offset == 0 || offset < b.bytes {
			return unsafe.Add(b.at, offset)
		}
		panic(ErrBroken)
	}
	if b := &r.made[n-1-len(fixed)]; offset == 0 || offset < b.size {
		return unsafe.Add(b.at, offset)
	}
	panic(ErrBroken)
}
