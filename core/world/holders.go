package world

import (
	"cmp"
	"fmt"
	"slices"

	"kamerad.example/core/contract"
)

// Place is where a property, or a part of one, stands in an entity's row.
type Place struct {
	Entity   *Entity
	Property *contract.Property
	Type     *contract.Type
	Slot     int
}

// Slots returns what stands there. To be read only.
func (p Place) Slots() []int64 { return p.Entity.Nums[p.Slot : p.Slot+p.Type.Width()] }

// String returns the place as faults name it: `Diver.satchel`.
func (p Place) String() string { return p.Entity.Kind.Name + "." + p.Property.Name }

// put writes one slot of a holder, in the present transaction.
func (w *World) put(p Place, offset int, v int64) {
	w.Write(p.Entity, p.Property.Index, p.Slot+offset, v)
}

// HasStack returns how many of an item stacks hold. Slots are pairs of item and count; a count of 0 ends them.
func HasStack(slots []int64, item int64) int64 {
	var n int64
	for i := 0; i < len(slots) && slots[i+1] > 0; i += 2 {
		if slots[i] == item {
			n += slots[i+1]
		}
	}
	return n
}

// StackRoom returns how many more of an item stacks can take, each of which takes `each`.
func StackRoom(slots []int64, item, each int64) int64 {
	var n int64
	for i := 0; i < len(slots); i += 2 {
		if slots[i+1] == 0 {
			n += each
		} else if slots[i] == item {
			n += each - slots[i+1]
		}
	}
	return n
}

// AllStacked returns how many of all items stacks hold together.
func AllStacked(slots []int64) int64 {
	var n int64
	for i := 0; i < len(slots) && slots[i+1] > 0; i += 2 {
		n += slots[i+1]
	}
	return n
}

// FreeStacks returns how many more stacks there may be.
func FreeStacks(slots []int64) int64 {
	var n int64
	for i := 0; i < len(slots); i += 2 {
		if slots[i+1] == 0 {
			n++
		}
	}
	return n
}

// PutStack adds n of an item: first onto stacks that have it, then as new ones. When there is no room for all, nothing
// changes and the error says so.
func (w *World) PutStack(p Place, item, n int64) error {
	row := p.Slots()
	each := p.Type.Each
	name := p.Type.Enum.Values[item]
	if n < 0 {
		return fmt.Errorf("%s cannot be given %d %s: a count is not negative", p, n, name)
	}
	if room := StackRoom(row, item, each); n > room {
		return fmt.Errorf("%s has no room for %d %s: only for %d", p, n, name, room)
	}
	for i := 0; i < len(row) && n > 0; i += 2 {
		if row[i+1] > 0 && row[i] != item {
			continue
		}
		if add := min(n, each-row[i+1]); add > 0 {
			w.put(p, i, item)
			w.put(p, i+1, row[i+1]+add)
			n -= add
		}
	}
	return nil
}

// TakeStack removes n of an item, from the last stacks first; a stack that is empty closes up. When there are not
// enough, nothing changes and the error says so.
func (w *World) TakeStack(p Place, item, n int64) error {
	row := p.Slots()
	name := p.Type.Enum.Values[item]
	if n < 0 {
		return fmt.Errorf("%d %s cannot be taken from %s: a count is not negative", n, name, p)
	}
	if has := HasStack(row, item); n > has {
		return fmt.Errorf("%s has %d %s, not %d", p, has, name, n)
	}
	for i := len(row) - 2; i >= 0 && n > 0; i -= 2 {
		if row[i+1] == 0 || row[i] != item {
			continue
		}
		take := min(n, row[i+1])
		n -= take
		if take < row[i+1] {
			w.put(p, i+1, row[i+1]-take)
			continue
		}
		w.close(p, i, 2, len(row))
	}
	return nil
}

// SplitStack moves n of an item from the first stack that has more onto a new one.
func (w *World) SplitStack(p Place, item, n int64) error {
	row := p.Slots()
	name := p.Type.Enum.Values[item]
	for i := 0; i < len(row) && row[i+1] > 0; i += 2 {
		if row[i] != item || row[i+1] <= n {
			continue
		}
		for j := i; j < len(row); j += 2 {
			if row[j+1] == 0 && n > 0 {
				w.put(p, i+1, row[i+1]-n)
				w.put(p, j, item)
				w.put(p, j+1, n)
				return nil
			}
		}
		return fmt.Errorf("%s has no room for another stack of %s", p, name)
	}
	return fmt.Errorf("%s has no stack of more than %d %s to split", p, n, name)
}

// close takes `width` slots out at an offset; what stands behind them up to `end` closes up.
func (w *World) close(p Place, offset, width, end int) {
	row := p.Slots()
	for i := offset; i < end; i++ {
		next := int64(0)
		if i+width < end {
			next = row[i+width]
		}
		w.put(p, i, next)
	}
}

// Clear empties stacks, a list or a map.
func (w *World) Clear(p Place) {
	for i := range p.Slots() {
		w.put(p, i, 0)
	}
}

// FindInList returns the place of a value in a list, or -1. Slots are those of the list.
func FindInList(t *contract.Type, slots, value []int64) int64 {
	width := t.Of.Width()
	for i := range slots[0] {
		at := 1 + int(i)*width
		if slices.Equal(slots[at:at+width], value) {
			return i
		}
	}
	return -1
}

// PutInList puts a value at a place of a list, from 0 to as many as it has; what stands there and behind it moves up.
func (w *World) PutInList(p Place, value []int64, index int64) error {
	row := p.Slots()
	n := row[0]
	if int(n) >= p.Type.Max {
		return fmt.Errorf("%s is full: it holds at most %d values", p, p.Type.Max)
	}
	if index < 0 || index > n {
		return fmt.Errorf("%s has %d values: none can be put at %d", p, n, index)
	}
	width := p.Type.Of.Width()
	at := 1 + int(index)*width
	for j := 1 + int(n)*width - 1; j >= at; j-- {
		w.put(p, j+width, row[j])
	}
	for i, v := range value {
		w.put(p, at+i, v)
	}
	w.put(p, 0, n+1)
	return nil
}

// CutFromList removes the value at a place from a list.
func (w *World) CutFromList(p Place, index int64) error {
	row := p.Slots()
	n := row[0]
	width := p.Type.Of.Width()
	if index < 0 || index >= n {
		return fmt.Errorf("%s has %d values: there is none at %d", p, n, index)
	}
	w.close(p, 1+int(index)*width, width, 1+int(n)*width)
	w.put(p, 0, n-1)
	return nil
}

// FindInMap returns the place of a key in a map, or where it would stand. Keys are in order: numbers by size, texts by
// their characters.
func (w *World) FindInMap(t *contract.Type, slots []int64, key int64) (index int, found bool) {
	width := 1 + t.Of.Width()
	text := t.Key.Form == contract.FormText
	low := 0
	high := int(slots[0])
	for low < high {
		mid := (low + high) / 2
		k := slots[1+mid*width]
		order := cmp.Compare(k, key)
		if text {
			order = cmp.Compare(w.texts[k], w.texts[key])
		}
		switch {
		case order == 0:
			return mid, true
		case order < 0:
			low = mid + 1
		default:
			high = mid
		}
	}
	return low, false
}

// PutInMap makes room for a key in a map, if it is not there, and returns the offset of its value.
func (w *World) PutInMap(p Place, key int64) (offset int, err error) {
	row := p.Slots()
	n := int(row[0])
	width := 1 + p.Type.Of.Width()
	i, found := w.FindInMap(p.Type, row, key)
	at := 1 + i*width
	if found {
		return at + 1, nil
	}
	if n >= p.Type.Max {
		return 0, fmt.Errorf("%s is full: it holds at most %d keys", p, p.Type.Max)
	}
	for j := n*width + width; j >= at+width; j-- {
		w.put(p, j, row[j-width])
	}
	w.put(p, at, key)
	w.put(p, 0, int64(n+1))
	return at + 1, nil
}

// TakeFromMap removes a key and its value from a map.
func (w *World) TakeFromMap(p Place, key int64) error {
	row := p.Slots()
	i, found := w.FindInMap(p.Type, row, key)
	if !found {
		return fmt.Errorf("%s does not have this key", p)
	}
	width := 1 + p.Type.Of.Width()
	w.close(p, 1+i*width, width, 1+int(row[0])*width)
	w.put(p, 0, row[0]-1)
	return nil
}
