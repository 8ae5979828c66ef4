package checkpoint

import (
	"fmt"
	"reflect"
)

// plan says how the values of a type are written: as they stand in memory, but for its parts.
type plan struct {
	typ   reflect.Type
	size  uintptr
	parts []part // by offset
}

// partKind says what a part is.
type partKind uint8

const (
	partPointer partKind = iota
	partSlice
	partString
	partMap
	partInterface
	partLeftOut // memory that is not written
)

// part is what cannot be written as it stands in memory.
type part struct {
	kind   partKind
	offset uintptr
	size   uintptr
	typ    reflect.Type
	elem   *plan // of a pointer, a slice or a map
	key    *plan // of a map
	whole  bool  // of a slice: what is behind its end belongs to it
}

// The tag of fields, and what it says: that they are left out, or that of a slice the memory behind its end is written
// as well.
const (
	tag      = "checkpoint"
	leaveOut = "-"
	toTheCap = "cap"
)

// planOf returns the plan of a type. Types may be recursive: the plan is known before its parts are.
func (c *Codec) planOf(t reflect.Type) (*plan, error) {
	if p := c.plans[t]; p != nil {
		return p, nil
	}
	p := &plan{typ: t, size: t.Size()}
	c.plans[t] = p
	if err := c.addParts(p, t, 0); err != nil {
		return nil, err
	}
	return p, nil
}

// addParts adds the parts of what stands at an offset.
func (c *Codec) addParts(p *plan, t reflect.Type, at uintptr) error {
	x := part{offset: at, size: t.Size(), typ: t}
	var err error
	switch t.Kind() {
	case reflect.Struct:
		for f := range t.Fields() {
			if f.Tag.Get(tag) == leaveOut {
				p.parts = append(p.parts, part{kind: partLeftOut, offset: at + f.Offset, size: f.Type.Size()})
				continue
			}
			if err := c.addParts(p, f.Type, at+f.Offset); err != nil {
				return fmt.Errorf("%w, in the field %s of %s", err, f.Name, t)
			}
			if f.Tag.Get(tag) == toTheCap {
				p.parts[len(p.parts)-1].whole = true
			}
		}
		return nil
	case reflect.Array:
		if elem, err := c.planOf(t.Elem()); err != nil || len(elem.parts) == 0 {
			return err
		}
		for i := range t.Len() {
			if err := c.addParts(p, t.Elem(), at+uintptr(i)*t.Elem().Size()); err != nil {
				return err
			}
		}
		return nil
	case reflect.Pointer:
		x.kind = partPointer
		x.elem, err = c.planOf(t.Elem())
	case reflect.Slice:
		x.kind = partSlice
		x.elem, err = c.planOf(t.Elem())
	case reflect.Map:
		x.kind = partMap
		x.key, err = c.planOf(t.Key())
		if err == nil {
			x.elem, err = c.planOf(t.Elem())
		}
	case reflect.String:
		x.kind = partString
	case reflect.Interface:
		x.kind = partInterface
	case reflect.Func, reflect.Chan, reflect.UnsafePointer, reflect.Uintptr:
		return fmt.Errorf("write a checkpoint: a %s cannot be written", t)
	default: // a number
		return nil
	}
	p.parts = append(p.parts, x)
	return err
}
