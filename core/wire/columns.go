package wire

import (
	"math/bits"
	"strings"

	"kamerad/core/contract"
)

// Lane says what of the entities of a kind a group carries: the properties, by their places in the kind's outline, and
// with Whole that they are there at all. Kind is its place in the outline.
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
	at, n      int            // of a difference: where its numbers stand among those of the group, and how many
}

// shape is what all groups of the same lanes have in common.
type shape struct {
	lanes   []Lane
	private bool // of one client: an entity's properties are chosen one by one
	list    []column
	first   []int   // of each lane
	sizes   []usual // as they begin
}

// columns are the columns of a group, with what both sides learn from the changes that everyone in the group has got:
// those that changed last come first, and the usual size of the numbers of each one's differences.
type columns struct {
	*shape
	order []int32
	sizes []usual
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
	groups  []*shape   // as in the outline
	own     *shape     // of the private groups
}

// NewLayout lays an outline out.
func NewLayout(o *contract.Outline) *Layout {
	l := &Layout{Outline: o}
	var all []Lane
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
		l.kinds = append(l.kinds, cols)
		all = append(all, lane)
	}
	for i := range o.Groups {
		l.groups = append(l.groups, l.shape(o.Groups[i].Lanes))
	}
	l.own = l.shape(all)
	l.own.private = true
	return l
}

func (l *Layout) shape(lanes []Lane) *shape {
	s := &shape{lanes: lanes}
	for i, lane := range lanes {
		s.first = append(s.first, len(s.list))
		for _, p := range lane.Properties {
			col := l.kinds[lane.Kind][p]
			col.lane = i
			if col.way == byDifference {
				col.at, col.n = len(s.sizes), max(1, col.typ.Reals())
				for range col.n {
					s.sizes = append(s.sizes, begin(span(col.typ)))
				}
			}
			s.list = append(s.list, col)
		}
	}
	return s
}

// columns gives those of a group, in memory that is given when there is enough of it.
func (s *shape) columns(order []int32, sizes []usual) columns {
	c := columns{shape: s, order: append(order, make([]int32, len(s.list))...), sizes: append(sizes, s.sizes...)}
	c.begin()
	return c
}

// begin forgets what was learnt: somebody came who did not get it.
func (c *columns) begin() {
	for i := range c.order {
		c.order[i] = int32(i)
	}
	copy(c.sizes, c.shape.sizes)
}

// usual gives the usual sizes of the numbers of a column.
func (c *columns) usual(col *column) []usual { return c.sizes[col.at : col.at+col.n] }

// front moves the columns that changed to the front, in the order that they have. The last of them is at a place.
func (c *columns) front(last int, changed func(col int32) bool) {
	n := 0
	for i := range last + 1 {
		if x := c.order[i]; changed(x) {
			copy(c.order[n+1:i+1], c.order[n:i])
			c.order[n] = x
			n++
		}
	}
}

// gapSize is the Rice parameter of the gaps between so many of n places.
func gapSize(chosen, n int) uint {
	mean := (n - chosen) / (chosen + 1)
	return uint(bits.Len64(uint64(mean*2/3+1))) - 1
}

// places writes which of n places were chosen, at least one: those, or the others where these are fewer. They are in
// order and stand in the lower halves of their keys.
func (w *bitWriter) places(chosen []change, n int) {
	w.below(uint64(len(chosen)-1), uint64(n))
	if len(chosen) == n {
		return
	}
	last := -1
	if 2*len(chosen) <= n {
		k := gapSize(len(chosen), n)
		for i := range chosen {
			at := int(uint32(chosen[i].key))
			w.rice(uint64(at-last-1), k)
			last = at
		}
		return
	}
	k := gapSize(n-len(chosen), n)
	for at, i := 0, 0; at < n; at++ {
		if i < len(chosen) && int(uint32(chosen[i].key)) == at {
			i++
			continue
		}
		w.rice(uint64(at-last-1), k)
		last = at
	}
}

// places reads what places wrote, and appends it.
func (r *bitReader) places(out []int, n int) []int {
	if n < 1 {
		r.bad = true
		return nil
	}
	count := int(r.below(uint64(n))) + 1
	if 2*count <= n {
		return r.gaps(out, count, n)
	}
	var rest []int
	if count < n {
		rest = r.gaps(nil, n-count, n)
	}
	for i, at := 0, 0; i < n; i++ {
		if at < len(rest) && rest[at] == i {
			at++
		} else {
			out = append(out, i)
		}
	}
	return out
}

func (r *bitReader) gaps(out []int, count, n int) []int {
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
