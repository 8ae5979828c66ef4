package wire

import "math/bits"

// A client that may be sent only so many bytes a second has its private block filled item by item: how much an item
// takes has to be known before the block is packed, and what it takes depends on all the others. So these are bounds,
// in bits. Their sum is no less than what Pack then writes; mostly it is about three times as much, since a bound
// counts with the longest code of each number.

// blockBound is what a private block takes besides its items. The gamma code of how many items of a sort there are
// takes no more than two bits and one for each; that one is in the bounds of the items, which count a bit more for a
// lane than it takes.
const blockBound = 16

// FrameBound is how many bytes a frame takes at most besides roster, messages and the bytes of its one block: head,
// tick, digest, what is settled, the incarnation, and lengths.
const FrameBound = 2 + 10 + 5 + 11 + 16 + 12

// BlockBound returns what a private block takes besides its items.
func (g *Group) BlockBound() int { return blockBound }

// EnterBound returns what Enter adds to a private group's block at most.
func (g *Group) EnterBound(lane int, item Item, mask uint64, tick int64) int {
	return bits.Len(uint(len(g.lanes))) + measure(func(w *bitWriter) {
		w.member(g, &g.lanes[lane], &slot{item: item, nextMask: mask}, tick)
	})
}

// SlotBound returns what Exit adds at most. more is, here and below, how many entities may still enter before the block
// is packed.
func (g *Group) SlotBound(lane, more int) int {
	return bits.Len(uint(len(g.lanes))) + bits.Len(uint(len(g.slots[lane])+more))
}

// OwnerBound returns what SetOwner adds at most.
func (g *Group) OwnerBound(lane, more, owner int) int {
	return g.SlotBound(lane, more) + 2*bits.Len(uint(owner)+1)
}

// MaskBound returns what SetMask adds at most. gained are the properties that the client did not have before.
func (g *Group) MaskBound(lane, more int, item Item, gained uint64, tick int64) int {
	l := &g.lanes[lane]
	return g.SlotBound(lane, more) + len(l.Properties) + measure(func(w *bitWriter) {
		for i, p := range l.Properties {
			if gained&(1<<i) != 0 {
				w.field(&g.layout.kinds[l.Kind][p], item, tick)
			}
		}
	})
}

// ResendBound returns what Resend adds at most.
func (g *Group) ResendBound(item Item, kind, property int, tick int64) int {
	k := g.layout.kinds[kind]
	return 32 + bits.Len(uint(len(k))) + measure(func(w *bitWriter) { w.field(&k[property], item, tick) })
}

// ChangeBound returns what Change adds at most, the first change of a column with what the column takes.
func (g *Group) ChangeBound(lane, more, property int, item Item, tick int64) int {
	column := g.firstColumn[lane] + property
	col := &g.columns[column]
	slotBits := bits.Len(uint(len(g.slots[lane]) + more))
	// With Rice's code for the gaps of c slots of n, their quotients add up to less than 4(c+1), and escapes to 2.2
	// times c+1 more; the code's parameter is less than the bits of n.
	bound := slotBits + 7
	if !g.isTouched(column) {
		bound += 2*bits.Len(uint(len(g.columns))) + slotBits + 7
	}
	if col.encoding != encodeDifference {
		return bound + measure(func(w *bitWriter) { w.field(col, item, tick) })
	}
	most, _ := col.typ.Bits()
	return bound + most + (maxOnes+1)*col.numbers
}

// isTouched reports whether a change of the column was recorded for this block.
func (g *Group) isTouched(column int) bool {
	return g.touched != nil && g.touched[column]
}

// CountColumns has the group know which columns it has changes of, as ChangeBound asks.
func (g *Group) CountColumns() { g.touched = make([]bool, len(g.columns)) }

// measure returns how many bits are written.
func measure(write func(w *bitWriter)) int {
	var memory [256]byte
	w := bitWriter{buf: memory[:0]}
	write(&w)
	return 8*len(w.buf) + int(w.free)
}
