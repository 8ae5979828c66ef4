package wire

import (
	"math/bits"
	"strings"

	"kamerad.example/core/contract"
)

// Lane says what of the entities of a kind a group carries: the properties, by their places in the kind's outline, and
// with Whole that they are there at all. Kind is its place in the outline.
type Lane = contract.LaneOutline

// encoding is how the values of a column travel.
type encoding uint8

const (
	encodeDifference encoding = iota
	encodeWhole
	encodeMotion
	encodeAttached // or as a whole value, when it is attached to nothing that everyone knows of
)

// column is one property of one lane. Its changes are written together.
type column struct {
	lane, property int
	encoding       encoding
	typ            *contract.Type
	rate           *contract.Type // of what moves by itself
	// of a difference: where its numbers stand among those of the group, and how many
	firstNumber, numbers int
}

// groupLayout is what all groups of the same lanes have in common.
type groupLayout struct {
	lanes       []Lane
	private     bool // of one client: an entity's properties are chosen one by one
	columns     []column
	firstColumn []int      // of each lane
	sizes       []estimate // as they begin
}

// columnState are the columns of a group, with what both sides learn from the changes that everyone in the group has
// got: those that changed last come first, and the usual size of the numbers of each one's differences.
type columnState struct {
	*groupLayout
	order []int32
	sizes []estimate
}

// encodingOf returns how a property goes over the wire.
func encodingOf(k *contract.KindOutline, p *contract.PropertyOutline) (w encoding, rate *contract.Type) {
	if _, _, attached := strings.Cut(p.Follows, "."); attached {
		return encodeAttached, nil
	}
	if of := k.Property(p.Follows); of != nil && of.Type.Form == p.Type.Form {
		return encodeMotion, of.Type
	}
	if p.Loose || !isNumeric(p.Type) {
		return encodeWhole, nil // what may be lost is no base for a difference
	}
	return encodeDifference, nil
}

// Layout is what both sides know of an outline: how each property travels.
type Layout struct {
	Outline *contract.Outline
	kinds   [][]column     // by kind and property
	groups  []*groupLayout // as in the outline
	private *groupLayout   // of the private groups
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
			c := column{property: p, typ: k.Properties[p].Type}
			c.encoding, c.rate = encodingOf(k, &k.Properties[p])
			cols = append(cols, c)
			lane.Properties = append(lane.Properties, p)
		}
		l.kinds = append(l.kinds, cols)
		all = append(all, lane)
	}
	for i := range o.Groups {
		l.groups = append(l.groups, l.shape(o.Groups[i].Lanes))
	}
	l.private = l.shape(all)
	l.private.private = true
	return l
}

func (l *Layout) shape(lanes []Lane) *groupLayout {
	s := &groupLayout{lanes: lanes}
	for i, lane := range lanes {
		s.firstColumn = append(s.firstColumn, len(s.columns))
		for _, p := range lane.Properties {
			col := l.kinds[lane.Kind][p]
			col.lane = i
			if col.encoding == encodeDifference {
				col.firstNumber, col.numbers = len(s.sizes), max(1, col.typ.Reals())
				for range col.numbers {
					s.sizes = append(s.sizes, newEstimate(spanOf(col.typ)))
				}
			}
			s.columns = append(s.columns, col)
		}
	}
	return s
}

// newColumns returns those of a group, in memory that is given when there is enough of it.
func (s *groupLayout) newColumns(order []int32, sizes []estimate) columnState {
	c := columnState{
		groupLayout: s,
		order:       append(order, make([]int32, len(s.columns))...),
		sizes:       append(sizes, s.sizes...),
	}
	c.restart()
	return c
}

// restart forgets what was learnt: somebody came who did not get it.
func (c *columnState) restart() {
	for i := range c.order {
		c.order[i] = int32(i)
	}
	copy(c.sizes, c.groupLayout.sizes)
}

// estimates returns the usual sizes of the numbers of a column.
func (c *columnState) estimates(col *column) []estimate {
	return c.sizes[col.firstNumber : col.firstNumber+col.numbers]
}

// moveToFront moves the columns that changed to the front, in the order that they have. The last of them is at a place.
func (c *columnState) moveToFront(last int, changed func(col int32) bool) {
	n := 0
	for i := range last + 1 {
		if x := c.order[i]; changed(x) {
			copy(c.order[n+1:i+1], c.order[n:i])
			c.order[n] = x
			n++
		}
	}
}

// gapParameter is the Rice parameter of the gaps between so many of n places.
func gapParameter(chosen, n int) uint {
	mean := (n - chosen) / (chosen + 1)
	return uint(bits.Len64(uint64(mean*2/3+1))) - 1
}

// indices writes which of n places were chosen, at least one: those, or the others where these are fewer. They are in
// order and stand in the lower halves of their keys.
func (w *bitWriter) indices(chosen []change, n int) {
	w.below(uint64(len(chosen)-1), uint64(n))
	if len(chosen) == n {
		return
	}
	last := -1
	if 2*len(chosen) <= n {
		k := gapParameter(len(chosen), n)
		for i := range chosen {
			at := int(uint32(chosen[i].key))
			w.rice(uint64(at-last-1), k)
			last = at
		}
		return
	}
	k := gapParameter(n-len(chosen), n)
	for at, i := 0, 0; at < n; at++ {
		if i < len(chosen) && int(uint32(chosen[i].key)) == at {
			i++
			continue
		}
		w.rice(uint64(at-last-1), k)
		last = at
	}
}

// indices reads what places wrote, and appends it.
func (r *bitReader) indices(out []int, n int) []int {
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
		gap := r.rice(gapParameter(count, n))
		if gap >= uint64(n-last-1) {
			r.bad = true
			return nil
		}
		last += int(gap) + 1
		out = append(out, last)
	}
	return out
}
