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
func (p Place) String() string {
	if p.Entity == nil { // an argument of a function, which is only read
		return "the " + string(p.Type.Form)
	}
	return p.Entity.Kind.Name + "." + p.Property.Name
}

// put writes one slot of a holder, in the present transaction.
func (w *World) put(p Place, offset int, v int64) {
	w.Write(p.Entity, p.Property.Index, p.Slot+offset, v)
}

// Stacks are pairs of slots of the row, an item and its count. A pair with a count of 0 is empty; stacks that are not
// slotted have all of these behind the others.

// HasStack returns how many of an item stacks hold.
func HasStack(slots []int64, item int64) int64 {
	var n int64
	for i := 0; i < len(slots); i += 2 {
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
		if slots[i+1] == 0 || slots[i] == item {
			n += each - slots[i+1]
		}
	}
	return n
}

// AllStacked returns how many of all items stacks hold together.
func AllStacked(slots []int64) int64 {
	var n int64
	for i := 0; i < len(slots); i += 2 {
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

// stack writes one stack, which begins at an offset. Nothing of an item is an empty one.
func (w *World) stack(p Place, offset int, item, count int64) {
	if count == 0 {
		item = 0
	}
	w.put(p, offset, item)
	w.put(p, offset+1, count)
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
	for _, onto := range []bool{true, false} { // stacks that have the item, then empty ones
		for i := 0; i < len(row) && n > 0; i += 2 {
			if (row[i+1] > 0) != onto || onto && row[i] != item {
				continue
			}
			if add := min(n, each-row[i+1]); add > 0 {
				w.stack(p, i, item, row[i+1]+add)
				n -= add
			}
		}
	}
	return nil
}

// TakeStack removes n of an item, from the last stacks first. A stack that is empty closes up, but for one that is
// slotted. When there are not enough, nothing changes and the error says so.
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
		if take < row[i+1] || p.Type.Slotted {
			w.stack(p, i, item, row[i+1]-take)
			continue
		}
		w.close(p, i, 2, len(row))
	}
	return nil
}

// splits finds the first stack that has more than n of an item, and the first empty one, by their offsets; -1 for none.
func splits(slots []int64, item, n int64) (from, to int) {
	from, to = -1, -1
	for i := len(slots) - 2; i >= 0; i -= 2 {
		if slots[i+1] == 0 {
			to = i
		} else if slots[i] == item && slots[i+1] > n {
			from = i
		}
	}
	return from, to
}

// CanSplit reports whether SplitStack can move n of an item.
func CanSplit(slots []int64, item, n int64) bool {
	from, to := splits(slots, item, n)
	return n > 0 && from >= 0 && to >= 0
}

// SplitStack moves n of an item from the first stack that has more onto a new one.
func (w *World) SplitStack(p Place, item, n int64) error {
	row := p.Slots()
	name := p.Type.Enum.Values[item]
	from, to := splits(row, item, n)
	switch {
	case from < 0 || n <= 0:
		return fmt.Errorf("%s has no stack of more than %d %s to split", p, n, name)
	case to < 0:
		return fmt.Errorf("%s has no room for another stack of %s", p, name)
	}
	w.put(p, from+1, row[from+1]-n)
	w.stack(p, to, item, n)
	return nil
}

// StackAt returns what is in a slot of slotted stacks; a count of 0 when it is empty. The error says that there is no
// such slot.
func StackAt(p Place, slots []int64, slot int64) (item, count int64, err error) {
	if slot < 0 || slot >= int64(p.Type.Max) {
		return 0, 0, fmt.Errorf("%s has the slots 0 to %d, and none with the number %d", p, p.Type.Max-1, slot)
	}
	return slots[2*slot], slots[2*slot+1], nil
}

// takesAt returns how many of the item are in a slot, after it has made sure that n more fit.
func takesAt(p Place, slot, item, n int64) (count int64, err error) {
	there, count, err := StackAt(p, p.Slots(), slot)
	if err != nil {
		return 0, err
	}
	name := p.Type.Enum.Values[item]
	switch {
	case n < 0:
		return 0, fmt.Errorf("%s cannot be given %d %s: a count is not negative", p, n, name)
	case count > 0 && there != item:
		return 0, fmt.Errorf("slot %d of %s has %s, and cannot take %s", slot, p, p.Type.Enum.Values[there], name)
	case n > p.Type.Each-count:
		return 0, fmt.Errorf("slot %d of %s has no room for %d %s: only for %d", slot, p, n, name, p.Type.Each-count)
	}
	return count, nil
}

// PutStackAt adds n of an item to a slot, which has to be empty or have the item, and room for all. When it fails,
// nothing changes.
func (w *World) PutStackAt(p Place, slot, item, n int64) error {
	count, err := takesAt(p, slot, item, n)
	if err != nil {
		return err
	}
	w.stack(p, int(2*slot), item, count+n)
	return nil
}

// TakeStackAt removes n of what is in a slot. When it fails, nothing changes.
func (w *World) TakeStackAt(p Place, slot, n int64) error {
	item, count, err := StackAt(p, p.Slots(), slot)
	if err != nil {
		return err
	}
	if n < 0 || n > count {
		return fmt.Errorf("slot %d of %s has %d, of which %d cannot be taken", slot, p, count, n)
	}
	w.stack(p, int(2*slot), item, count-n)
	return nil
}

// MoveStackAt moves n of what is in a slot to a slot of the same or other stacks, which has to be empty or have the
// same item, and room for all. When it fails, nothing changes.
func (w *World) MoveStackAt(from Place, slot int64, to Place, other, n int64) error {
	item, count, err := StackAt(from, from.Slots(), slot)
	if err != nil {
		return err
	}
	isSame := from.Entity == to.Entity && from.Slot == to.Slot && slot == other
	if !isSame && n <= count {
		if _, err := takesAt(to, other, item, n); err != nil {
			return err
		}
	}
	if err := w.TakeStackAt(from, slot, n); err != nil || n == 0 {
		return err
	}
	return w.PutStackAt(to, other, item, n)
}

// ShiftStackAt moves as much of what is in a slot to another slot as that has room for. Where another item is in it,
// the two change places. When it fails, nothing changes.
func (w *World) ShiftStackAt(from Place, slot int64, to Place, other int64) error {
	item, count, err := StackAt(from, from.Slots(), slot)
	if err != nil {
		return err
	}
	there, others, err := StackAt(to, to.Slots(), other)
	if err != nil {
		return err
	}
	if count == 0 || from.Entity == to.Entity && from.Slot == to.Slot && slot == other {
		return nil
	}
	if others == 0 || there == item {
		return w.MoveStackAt(from, slot, to, other, min(count, to.Type.Each-others))
	}
	if count > to.Type.Each || others > from.Type.Each {
		return fmt.Errorf(
			"%d %s of %s and %d %s of %s cannot change places: one takes at most %d, the other %d", count,
			from.Type.Enum.Values[item], from, others, to.Type.Enum.Values[there], to, from.Type.Each, to.Type.Each,
		)
	}
	w.stack(from, int(2*slot), there, others)
	w.stack(to, int(2*other), item, count)
	return nil
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
