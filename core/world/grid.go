package world

import (
	"math"
	"math/rand/v2"

	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// grid sorts entities by the cells that they are in. It is a table of chains like that of values, laid out for
// searches: what is looked at of an entity stands in one place, and cells that lie side by side begin their chains side
// by side.
type grid struct {
	shift   int       // an edge of a cell is 1<<shift steps
	heads   []int32   // by hash: the first of a chain, plus one; 0 for none
	entries []placed  // by the entity's number
	depths  []float64 // by the entity's number: the third part of its place; nil in a plane
	hash    uint64    // random and odd
}

// placed is an entity in its cell. It takes half a line of the processor's cache, so that one is never in two of them.
type placed struct {
	x, y       float64
	cell       uint64
	next, prev int32 // in its chain, plus one; 0 for none
}

const (
	// noCell is the cell of what is in none.
	noCell = ^uint64(0)
	// besideBits says how many cells begin their chains side by side: 1<<besideBits along the first dimension.
	besideBits = 3
)

// newGrid returns a grid of cells that are 1<<shift steps wide, in so many dimensions.
func newGrid(shift, dimensions int) grid {
	g := grid{shift: shift, heads: make([]int32, 16), hash: rand.Uint64() | 1}
	if dimensions > 2 {
		g.depths = []float64{}
	}
	return g
}

// at returns where an entity is.
func (g *grid) at(number int32) geometry.Point {
	e := &g.entries[number]
	if g.depths == nil {
		return geometry.Point{e.x, e.y, 0}
	}
	return geometry.Point{e.x, e.y, g.depths[number]}
}

// head returns where the chain begins in which all entities of a cell are.
func (g *grid) head(cell uint64) *int32 {
	beside := uint64(1)<<besideBits - 1
	from := cell >> besideBits * g.hash >> 32 << besideBits
	return &g.heads[(from|cell&beside)&uint64(len(g.heads)-1)]
}

// grow makes room for one more entity.
func (g *grid) grow() {
	g.entries = append(g.entries, placed{cell: noCell})
	if g.depths != nil {
		g.depths = append(g.depths, 0)
	}
	if len(g.entries) <= len(g.heads) {
		return
	}
	g.heads = make([]int32, 2*len(g.heads))
	for i := range g.entries {
		if e := &g.entries[i]; e.cell != noCell {
			g.link(int32(i), e.cell)
		}
	}
}

// move puts an entity into the cell where it is now.
func (g *grid) move(number int32, cell uint64, at geometry.Point) {
	e := &g.entries[number]
	e.x = at[0]
	e.y = at[1]
	if g.depths != nil {
		g.depths[number] = at[2]
	}
	if e.cell != cell {
		g.unlink(number)
		g.link(number, cell)
	}
}

// link puts an entity that is in no chain into that of a cell.
func (g *grid) link(number int32, cell uint64) {
	head := g.head(cell)
	e := &g.entries[number]
	e.cell = cell
	e.prev = 0
	e.next = *head
	if *head != 0 {
		g.entries[*head-1].prev = number + 1
	}
	*head = number + 1
}

// unlink takes an entity out of its chain.
func (g *grid) unlink(number int32) {
	e := &g.entries[number]
	if e.cell == noCell {
		return
	}
	if e.prev != 0 {
		g.entries[e.prev-1].next = e.next
	} else {
		*g.head(e.cell) = e.next
	}
	if e.next != 0 {
		g.entries[e.next-1].prev = e.prev
	}
	e.cell = noCell
}

// roundingSlack is how many steps a search looks beyond what it should, for the rounding of what it computes.
const roundingSlack = 4

// gridFor returns the grid to search for a distance: the finest whose cells are at least as wide, or the coarsest.
func (x *index) gridFor(distance float64) *grid {
	steps := distance * float64(x.place.Type.Per) / float64(x.place.Type.Unit)
	for i := range x.grids {
		if float64(int64(1)<<x.grids[i].shift) >= steps {
			return &x.grids[i]
		}
	}
	return &x.grids[len(x.grids)-1]
}

// cellOf returns the cell of a place, which is given in steps.
func (g *grid) cellOf(row []int64, low int64) (cell uint64) {
	for i, n := range row {
		cell |= (uint64(n) - uint64(low)) >> g.shift << (i * cellBits)
	}
	return cell
}

// search appends the entities that are within reach. It gives up when it has looked at as many cells and entities as
// most says: then steps are at least as many, and what was found is not all.
func (g *grid) search(x *index, r *Reach, most int64, found []*Entity) (_ []*Entity, steps int64) {
	s := g.sweepOf(x.place.Type, r)
	rows := s.rows(1)
	if s.dimensions > 2 {
		rows *= s.rows(2)
	}
	if rows >= most {
		return found, most
	}
	capsule := geometry.NewCapsule(&r.Line, r.Most)
	margin := capsule.Margin()
	// A short line comes through nearly all cells about it.
	isNarrow := s.rows(0) > narrowedRow && r.Line.From != r.Line.To
	for z := s.low[2]; z <= s.high[2]; z++ {
		for y := s.low[1]; y <= s.high[1]; y++ {
			low, high := s.low[0], s.high[0]
			if isNarrow {
				low, high = s.row(y, z)
			}
			steps += max(high-low+1, 1)
			if steps >= most {
				return found, steps
			}
			row := uint64(y)<<cellBits | uint64(z)<<(2*cellBits)
			for c := low; c <= high; c++ {
				cell := row | uint64(c)
				for n := *g.head(cell); n != 0; {
					e := &g.entries[n-1]
					number := n - 1
					n = e.next
					if e.cell != cell {
						continue
					}
					steps++
					sure := false
					if g.depths == nil { // nearly always; most of what is looked at is told by this alone
						over := capsule.OverInPlane(e.x, e.y)
						if over > margin {
							continue
						}
						sure = over < -margin && r.Beyond < 0
					}
					if sure || g.isWithin(&capsule, r, number) {
						found = append(found, x.entities[number])
					}
				}
			}
		}
	}
	return found, steps
}

// isWithin reports whether an entity is within reach.
func (g *grid) isWithin(capsule *geometry.Capsule, r *Reach, number int32) bool {
	at := g.at(number)
	return capsule.Has(&at) && r.isBeyond(&at)
}

// narrowedRow is of how many cells a row is before it is asked which of them a line comes through.
const narrowedRow = 5

// sweep is what a search goes over: the cells that a line comes through, as thick as it reaches on each side.
type sweep struct {
	grid       *grid
	dimensions int
	span       float64    // steps between the ends of a dimension
	low, high  [3]int64   // cells
	from, to   [3]float64 // the line, in steps from the lowest place
	reach      float64    // how far it reaches, in steps, with the slack
}

// sweepOf returns what is to be gone over.
func (g *grid) sweepOf(t *contract.Type, r *Reach) sweep {
	s := sweep{grid: g, dimensions: t.Width(), span: float64(t.High) - float64(t.Low)}
	perUnit := float64(t.Per) / float64(t.Unit)
	lowest := float64(t.Low)
	s.reach = r.Most*perUnit + roundingSlack
	for i := range s.dimensions {
		from := r.Line.From[i]*perUnit - lowest
		to := r.Line.To[i]*perUnit - lowest
		s.from[i] = from
		s.to[i] = to
		if from > to {
			from, to = to, from
		}
		s.low[i] = s.lowCell(from - s.reach)
		s.high[i] = s.highCell(to + s.reach)
	}
	return s
}

// rows returns how many cells lie along a dimension.
func (s *sweep) rows(dimension int) int64 { return s.high[dimension] - s.low[dimension] + 1 }

// lowCell returns the cell of a part of a place, in steps from the lowest one: the first cell when it is less, or no
// number.
func (s *sweep) lowCell(steps float64) int64 {
	if !(steps > 0) {
		return 0
	}
	if steps > s.span {
		steps = s.span
	}
	return int64(steps) >> s.grid.shift
}

// highCell is lowCell, but returns the last cell for what is no number.
func (s *sweep) highCell(steps float64) int64 {
	if !(steps < s.span) {
		steps = s.span
	}
	if steps < 0 {
		steps = 0
	}
	return int64(steps) >> s.grid.shift
}

// row returns the first and the last cell of a row that the line comes through; the first is greater when it does not.
func (s *sweep) row(y, z int64) (low, high int64) {
	start, end := 0.0, 1.0 // of the part of the line that is near enough
	for i, cell := range [3]int64{1: y, 2: z} {
		along := s.to[i] - s.from[i]
		if i == 0 || i >= s.dimensions || along == 0 {
			continue // a line that stands still in this dimension is in each of its rows
		}
		from := (float64(cell<<s.grid.shift) - s.reach - s.from[i]) / along
		to := (float64((cell+1)<<s.grid.shift) + s.reach - s.from[i]) / along
		start = max(start, min(from, to))
		end = min(end, max(from, to))
	}
	if start > end {
		return 1, 0
	}
	along := s.to[0] - s.from[0]
	a := s.from[0] + start*along
	b := s.from[0] + end*along
	return s.lowCell(min(a, b) - s.reach), s.highCell(max(a, b) + s.reach)
}

// nearest returns the number of the entity that is nearest to a place, plus one, with its distance; among equals the
// one that was spawned first; 0 for none. It goes from the place's cell outward, cell by cell, until what is farther
// out cannot be nearer. It gives up when it has looked at as many cells and entities as most says: then steps are most.
//
//revive:disable-next-line:function-length The loops are one search; a call for each cell would take as long as it.
func (g *grid) nearest(x *index, from *geometry.Point, most int64) (best int32, least float64, steps int64) {
	t := x.place.Type
	s := sweep{grid: g, dimensions: t.Width(), span: float64(t.High) - float64(t.Low)}
	last := int64(s.span) >> g.shift
	perUnit := float64(t.Per) / float64(t.Unit)
	var center, depth [3]int64 // depth is 0 in a dimension that there is not
	for i := range s.dimensions {
		s.from[i] = from[i]*perUnit - float64(t.Low)
		center[i] = s.lowCell(s.from[i])
		depth[i] = 1
	}
	least = math.Inf(1)
	square := least // of least, and what rounding may take from it
	for ring := int64(0); ; ring++ {
		isAlone := ring == 0
		for z := max(center[2]-ring*depth[2], 0); z <= min(center[2]+ring*depth[2], last); z++ {
			for y := max(center[1]-ring*depth[1], 0); y <= min(center[1]+ring*depth[1], last); y++ {
				step := int64(1)
				if !isAlone && abs(z-center[2]) < ring && abs(y-center[1]) < ring {
					step = 2 * ring // of this row only the ends are in the ring
				}
				for c := center[0] - ring; c <= center[0]+ring; c += step {
					if c < 0 || c > last {
						continue
					}
					cell := uint64(c) | uint64(y)<<cellBits | uint64(z)<<(2*cellBits)
					steps++
					if steps >= most {
						return best, least, most
					}
					for n := *g.head(cell); n != 0; n = g.entries[n-1].next {
						e := &g.entries[n-1]
						if e.cell != cell {
							continue
						}
						steps++
						dx := e.x - from[0]
						dy := e.y - from[1]
						d := dx*dx + dy*dy
						if d > square {
							continue
						}
						at := g.at(n - 1)
						exact := geometry.Distance(&at, from)
						if best == 0 || exact < least || exact == least && x.entities[n-1].ID < x.entities[best-1].ID {
							best = n
							least = exact
							square = exact * exact * (1 + 1e-12)
						}
					}
					if steps >= most {
						return best, least, most
					}
				}
			}
		}
		beyond := math.Inf(1) // how far what is outside of the ring is away at least, in steps
		for i := range s.dimensions {
			if low := center[i] - ring; low > 0 {
				beyond = min(beyond, s.from[i]-float64(low<<g.shift))
			}
			if high := center[i] + ring + 1; high <= last {
				beyond = min(beyond, float64(high<<g.shift)-s.from[i])
			}
		}
		if math.IsInf(beyond, 1) || best != 0 && beyond-roundingSlack > least*perUnit {
			return best, least, steps
		}
	}
}

// abs returns a number without its sign.
func abs(n int64) int64 { return max(n, -n) }
