package wire

import (
	"math/bits"
	"strings"

	"kamerad.example/core/contract"
)

// Lane says what a group carries of the entities of one kind: which properties, by their indices within the kind's
// outline, and with Whole that the entities exist. Kind is the index of the kind within the outline.
type Lane = contract.LaneOutline

// encoding says how the values of a column travel.
type encoding uint8

const (
	encodeDifference encoding = iota
	encodeWhole
	encodeMotion
	encodeAttached // or as a whole value, when it is attached to nothing that everyone knows of
)

// column is one property of one lane. The changes of a column are written one after the other, so that what they have
// in common is written once.
type column struct {
	lane, property int
	encoding       encoding
	typ            *contract.Type
	rate           *contract.Type // of what moves by itself
	// Of encodeDifference: where the numbers of its values stand among the estimates of the group, and how many a value
	// has.
	firstNumber, numbers int
}

// groupLayout is what all groups with the same lanes have in common. It is made once for each group of an outline.
type groupLayout struct {
	lanes       []Lane
	private     bool // the group is one client's: which properties of an entity it carries is said for each
	columns     []column
	firstColumn []int      // of each lane
	sizes       []estimate // as they begin
}

// columnState is what both sides of a group learn from the changes that everyone in it has got: which columns changed
// last, and about how large the differences of each are. Both sides update it alike, so that frames need not tell it.
type columnState struct {
	*groupLayout
	order []int32
	sizes []estimate
}

// encodingOf returns how a property travels, and the type of its rate when that is as a motion.
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
	usage   *usageLayout
}

// NewLayout returns the layout of an outline.
func NewLayout(o *contract.Outline) *Layout {
	l := &Layout{Outline: o, usage: newUsageLayout(o)}
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

// shape returns the layout of a group with these lanes. All groups with the same lanes share one.
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
					s.sizes = append(s.sizes, firstEstimate(col.typ))
				}
			}
			s.columns = append(s.columns, col)
		}
	}
	return s
}

// firstEstimate returns the estimate that a column of a type begins with.
func firstEstimate(t *contract.Type) estimate {
	if t.Small {
		return newEstimate(0)
	}
	return newEstimate(spanOf(t))
}

// newColumns returns the state of a group's columns. It stands in the memory of order and sizes as far as these have
// room.
func (s *groupLayout) newColumns(order []int32, sizes []estimate) columnState {
	c := columnState{
		groupLayout: s,
		order:       append(order, make([]int32, len(s.columns))...),
		sizes:       append(sizes, s.sizes...),
	}
	c.restart()
	return c
}

// restart forgets what was learnt: a client came who did not get it.
func (c *columnState) restart() {
	for i := range c.order {
		c.order[i] = int32(i)
	}
	copy(c.sizes, c.groupLayout.sizes)
}

// estimates returns the estimates of a column, one for each number of a value.
func (c *columnState) estimates(col *column) []estimate {
	return c.sizes[col.firstNumber : col.firstNumber+col.numbers]
}

// moveToFront moves the columns that changed to the front of the order, and keeps their own order. last is where the
// last of them stands.
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

// gapParameter returns the Rice parameter for the gaps between so many chosen ones of n indices.
func gapParameter(chosen, n int) uint {
	mean := (n - chosen) / (chosen + 1)
	return uint(bits.Len64(uint64(mean*2/3+1))) - 1
}

// indices writes which of n indices were chosen, at least one: it writes those, or the others when these are fewer. The
// chosen ones have to be in order; each is the lower half of a key.
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

// indices reads what indices of a bitWriter wrote, and appends it to out.
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

// gaps reads count places below n in rising order, as the gaps between them, and appends them to out.
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
