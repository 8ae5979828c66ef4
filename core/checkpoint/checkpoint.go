// Package checkpoint writes a graph of Go values as bytes and makes the same graph again from them: everything that can
// be reached from a pointer, with every alias, so that what reads the graph cannot tell it from the original. It knows
// nothing of what the values mean.
//
// What never changes and is there on both sides anyway, as the model of a contract, is not written: a Codec is given it
// as fixed values, and writes where in them a pointer leads. A field with the tag `checkpoint:"-"` is left out and is
// zero afterwards; it has to be memory that is used again, a cache, or something that the caller sets. A slice with the
// tag `checkpoint:"cap"` is written up to its capacity.
//
// # How it works
//
// Write goes over the graph twice. First it finds the blocks: what a pointer leads to, the memory of slices, and maps.
// A block that stands within another one, as the field that a pointer leads to, is a part of that one. Then it writes
// each block: numbers as they stand in memory, and pointers as the number of a block with an offset. Read makes all
// blocks first, and then fills them, so that cycles need no care.
//
// Bytes fit only programs whose types have the same fields in the same order: Format says so, and Read refuses others.
// Read checks a sum and every bound, and yet trusts who wrote: bytes from outside must never come to it.
package checkpoint

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"hash/fnv"
	"reflect"
)

// Codec writes and reads graphs of one type of root. It may be used for one graph at a time.
type Codec struct {
	root    *plan
	plans   map[reflect.Type]*plan
	dynamic []reflect.Type // what interfaces may hold
	fixed   *blocks        // what is not written
	format  uint64
	found   int // blocks of the graph that was written last
	// the types of blocks by number, and their numbers
	types       []reflect.Type
	typeNumbers map[reflect.Type]int
}

// New returns a codec for graphs that begin with a pointer of root's type. dynamic has a value of each type that
// interfaces in the graph may hold: all of them are pointers. fixed has the pointers to what both sides have, in the
// same order on both sides. The error says which type cannot be written.
func New(root any, dynamic []any, fixed ...any) (*Codec, error) {
	c := &Codec{plans: map[reflect.Type]*plan{}}
	for _, x := range dynamic {
		if reflect.TypeOf(x).Kind() != reflect.Pointer {
			return nil, fmt.Errorf("write a checkpoint: %T is no pointer, and cannot stand in an interface", x)
		}
		c.dynamic = append(c.dynamic, reflect.TypeOf(x))
	}
	var err error
	c.root, err = c.planOf(reflect.TypeOf(root).Elem())
	if err != nil {
		return nil, err
	}
	for _, t := range c.dynamic {
		if _, err := c.planOf(t.Elem()); err != nil {
			return nil, err
		}
	}
	c.numberTypes()
	c.format = c.formatOf()
	find := &finder{codec: c, blocks: newBlocks(1000), isFixed: true}
	for _, x := range fixed {
		v := reflect.ValueOf(x)
		p, err := c.planOf(v.Type().Elem())
		if err != nil {
			return nil, err
		}
		find.add(v.UnsafePointer(), p, 1, ofPointer)
	}
	if err := find.run(); err != nil {
		return nil, err
	}
	c.fixed = find.blocks
	c.fixed.arrange()
	return c, nil
}

// Format returns a number for how the graph's types stand in memory. Bytes fit codecs of the same format only.
func (c *Codec) Format() uint64 { return c.format }

// formatOf adds up the plans of all types that the graph may hold.
func (c *Codec) formatOf() uint64 {
	h := fnv.New64a()
	seen := map[*plan]bool{}
	var add func(p *plan)
	add = func(p *plan) {
		fmt.Fprintf(h, "%s %d %d;", p.typ, p.typ.Size(), len(p.parts))
		if seen[p] {
			return
		}
		seen[p] = true
		if p.typ.Kind() == reflect.Struct {
			for f := range p.typ.Fields() {
				fmt.Fprintf(h, "%s %s %d %s;", f.Name, f.Type, f.Offset, f.Tag)
			}
		}
		for _, x := range p.parts {
			fmt.Fprintf(h, "%d %d;", x.kind, x.offset)
			if x.elem != nil {
				add(x.elem)
			}
			if x.key != nil {
				add(x.key)
			}
		}
	}
	add(c.root)
	for _, t := range c.dynamic {
		add(c.plans[t.Elem()])
	}
	return h.Sum64()
}

// Bytes begin with the format, a count over the fixed values, and a sum of what follows.
const headSize = 8 + 8 + 4

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write returns the graph that root leads to. Nobody may change it meanwhile.
func (c *Codec) Write(root any) (out []byte, err error) {
	defer recovered("write", &err)
	v := reflect.ValueOf(root)
	if v.Type().Elem() != c.root.typ {
		return nil, fmt.Errorf("write a checkpoint: the root is a %s, not a %s", v.Type(), c.root.typ)
	}
	find := &finder{codec: c, blocks: newBlocks(c.found)}
	find.add(v.UnsafePointer(), c.root, 1, ofPointer)
	if err := find.run(); err != nil {
		return nil, err
	}
	c.found = len(find.blocks.list)
	find.blocks.arrange()
	w := &writer{codec: c, blocks: find.blocks, out: make([]byte, headSize, headSize+find.size)}
	if err := w.run(); err != nil {
		return nil, err
	}
	binary.LittleEndian.PutUint64(w.out, c.format)
	binary.LittleEndian.PutUint64(w.out[8:], c.fixed.sum())
	binary.LittleEndian.PutUint32(w.out[16:], crc32.Checksum(w.out[headSize:], castagnoli))
	return w.out, nil
}

// Errors of Read: whoever has the inputs can play them again in place of reading.
var (
	ErrFormat = errors.New("it was written by a program whose types stand otherwise in memory")
	ErrBroken = errors.New("its bytes are not what was written")
)

// Read makes the graph that was written, below root, whose own fields are overwritten but for those that are left out.
// When it fails root is not to be used. The error is ErrFormat, ErrBroken, or says what else does not fit.
func (c *Codec) Read(data []byte, root any) (err error) {
	defer recovered("read", &err)
	v := reflect.ValueOf(root)
	switch {
	case v.Type().Elem() != c.root.typ:
		return fmt.Errorf("read a checkpoint: the root is a %s, not a %s", v.Type(), c.root.typ)
	case len(data) < headSize:
		return fmt.Errorf("read a checkpoint: %w", ErrBroken)
	case binary.LittleEndian.Uint64(data) != c.format || binary.LittleEndian.Uint64(data[8:]) != c.fixed.sum():
		return fmt.Errorf("read a checkpoint: %w", ErrFormat)
	case binary.LittleEndian.Uint32(data[16:]) != crc32.Checksum(data[headSize:], castagnoli):
		return fmt.Errorf("read a checkpoint: %w", ErrBroken)
	}
	r := &reader{codec: c, in: data[headSize:]}
	if err := r.run(v.UnsafePointer()); err != nil {
		return fmt.Errorf("read a checkpoint: %w", err)
	}
	return nil
}

// recovered makes an error of a panic, which would mean that bytes with a right sum were not written by Write.
func recovered(verb string, err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("%s a checkpoint: %v", verb, p)
	}
}
