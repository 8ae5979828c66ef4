package wire

import (
	"math/bits"
	"slices"
	"strings"

	"kamerad/core/contract"
)

// Lane says what of the entities of a kind a group carries: the properties, by their places in the kind's outline, and with
// Whole that they are there at all. Kind is its place in the outline.
type Lane = contract.LaneOutline

// way is how the values of a column travel.
type way uint8

const (
	byDifference way = iota
	asWhole
	asMotion
	asAttached // or as a whole value, when it is attached to nothing that everyone knows of
)

// column is one property of one lane. Its changes are written together.
type column struct {
	lane, prop int
	way        way
	typ        *contract.Type
	rate       *contract.Type // of what moves by itself
	sizes      []usual
}

// columns are the columns of a group, with what both sides learn from the changes that everyone in the group has got: those
// that changed last come first, and the usual size of each one's differences.
type columns struct {
	list  []column
	first []int // of each lane
	order []int
}

// travels tells how a property goes over the wire.
func travels(k *contract.KindOutline, p *contract.PropertyOutline) (w way, rate *contract.Type) {
	if _, _, attached := strings.Cut(p.Follows, "."); attached {
		return asAttached, nil
	}
	if of := k.Property(p.Follows); of != nil && of.Type.Form == p.Type.Form {
		return asMotion, of.Type
	}
	if p.Loose || !plain(p.Type) {
		return asWhole, nil // what may be lost is no base for a difference
	}
	return byDifference, nil
}

// Layout is what both sides know of an outline: how each property travels.
type Layout struct {
	Outline *contract.Outline
	kinds   [][]column // by kind and property
	private []Lane
}

// NewLayout lays an outline out.
func NewLayout(o *contract.Outline) *Layout {
	l := &Layout{Outline: o}
	for i := range o.Kinds {
		k := &o.Kinds[i]
		var cols []column
		lane := Lane{Kind: i}
		for p := range k.Properties {
			c := column{prop: p, typ: k.Properties[p].Type}
			c.way, c.rate = travels(k, &k.Properties[p])
			cols = append(cols, c)
			lane.Properties = append(lane.Properties, p)
		}
		l.kinds, l.private = append(l.kinds, cols), append(l.private, lane)
	}
	return l
}

func newColumns(layout *Layout, lanes []Lane) *columns {
	c := &columns{}
	for i, l := range lanes {
		c.first = append(c.first, len(c.list))
		for _, p := range l.Properties {
			col := layout.kinds[l.Kind][p]
			col.lane = i
			c.list = append(c.list, col)
		}
	}
	c.begin()
	return c
}

// begin forgets what was learnt: somebody came who did not get it.
func (c *columns) begin() {
	c.order = c.order[:0]
	for i := range c.list {
		c.order = append(c.order, i)
		col := &c.list[i]
		if col.way != byDifference {
			continue
		}
		n := max(1, col.typ.Reals())
		col.sizes = col.sizes[:0]
		for range n {
			col.sizes = append(col.sizes, begin(span(col.typ)))
		}
	}
}

// front moves the columns that changed to the front, in the order that they have.
func (c *columns) front(changed func(col int) bool) {
	slices.SortStableFunc(c.order, func(a, b int) int {
		switch one, two := changed(a), changed(b); {
		case one && !two:
			return -1
		case two && !one:
			return 1
		}
		return 0
	})
}

// gapSize is the Rice parameter of the gaps between so many of n places.
func gapSize(chosen, n int) uint {
	mean := (n - chosen) / (chosen + 1)
	return uint(bits.Len64(uint64(mean*2/3+1))) - 1
}

// places writes which of n places were chosen, at least one; they are in order.
func (w *bitWriter) places(chosen []int, n int) {
	w.below(uint64(len(chosen)-1), uint64(n))
	if 2*len(chosen) <= n {
		w.gaps(chosen, n)
		return
	}
	rest := make([]int, 0, n-len(chosen))
	for i, at := 0, 0; i < n; i++ {
		if at < len(chosen) && chosen[at] == i {
			at++
		} else {
			rest = append(rest, i)
		}
	}
	w.gaps(rest, n)
}

func (w *bitWriter) gaps(chosen []int, n int) {
	last := -1
	for _, at := range chosen {
		w.rice(uint64(at-last-1), gapSize(len(chosen), n))
		last = at
	}
}

func (r *bitReader) places(n int) []int {
	if n < 1 {
		r.bad = true
		return nil
	}
	count := int(r.below(uint64(n))) + 1
	if 2*count <= n {
		return r.gaps(count, n)
	}
	rest := r.gaps(n-count, n)
	out := make([]int, 0, count)
	for i, at := 0, 0; i < n; i++ {
		if at < len(rest) && rest[at] == i {
			at++
		} else {
			out = append(out, i)
		}
	}
	return out
}

func (r *bitReader) gaps(count, n int) []int {
	out := make([]int, 0, min(count, 1024))
	last := -1
	for range count {
		if r.bad {
			return nil
		}
		gap := r.rice(gapSize(count, n))
		if gap >= uint64(n-last-1) {
			r.bad = true
			return nil
		}
		last += int(gap) + 1
		out = append(out, last)
	}
	return out
}
