package geometry

import (
	"math"
	"math/bits"
)

// Fewer walls than this are looked at one by one; the longer side of a grid has at most so many cells.
const (
	minIndexed = 16
	maxAxis    = 64
)

// WallIndex finds the walls of a list that stays as it is by where they are: a grid of square cells, each with the
// walls that may come into it. The zero value has no walls.
type WallIndex struct {
	walls         []Wall
	low           Flat
	cell          float64 // the side of a cell; 0 for no grid
	columns, rows int
	starts        []int32  // by cell, from the lowest row on: where its walls begin in items; one more at the end
	items         []uint16 // of walls, by their places in the list
	margin        float64  // by which rounding may bring something near
	round         float64  // the greatest Round
	seen          []uint64 // a bit set over walls, empty between two calls
}

// NewWallIndex returns the index of a list of at most 65,535 walls, which the caller must not change any more.
func NewWallIndex(walls []Wall) *WallIndex {
	x := &WallIndex{walls: walls}
	for i := range walls {
		x.round = max(x.round, walls[i].Round)
	}
	if len(walls) < minIndexed {
		return x
	}
	x.low = Flat{math.Inf(1), math.Inf(1)}
	high := Flat{math.Inf(-1), math.Inf(-1)}
	for i := range walls {
		low, top := walls[i].box()
		x.low = Flat{min(x.low.X, low.X), min(x.low.Y, low.Y)}
		high = Flat{max(high.X, top.X), max(high.Y, top.Y)}
	}
	size := high.minus(x.low)
	longer := max(size.X, size.Y)
	scale := math.Abs(x.low.X) + math.Abs(x.low.Y) + math.Abs(high.X) + math.Abs(high.Y)
	if !(longer > 0 && scale < 1e100) {
		return x // all in one place, or where a grid has no digits left
	}
	x.margin = scale * 1e-9
	perAxis := min(math.Ceil(math.Sqrt(float64(len(walls)))), maxAxis)
	x.cell = max(longer/perAxis, 4*x.margin)
	x.columns = int(size.X/x.cell) + 1
	x.rows = int(size.Y/x.cell) + 1
	x.seen = make([]uint64, (len(walls)+63)/64)
	x.fill()
	return x
}

// fill puts each wall into the cells that it may come into, in the order of the list.
func (x *WallIndex) fill() {
	x.starts = make([]int32, x.columns*x.rows+1)
	for i := range x.walls {
		x.eachCell(&x.walls[i], func(cell int) { x.starts[cell+1]++ })
	}
	for i := range x.columns * x.rows {
		x.starts[i+1] += x.starts[i]
	}
	x.items = make([]uint16, x.starts[len(x.starts)-1])
	next := append([]int32(nil), x.starts...)
	for i := range x.walls {
		x.eachCell(&x.walls[i], func(cell int) {
			x.items[next[cell]] = uint16(i)
			next[cell]++
		})
	}
}

// eachCell calls f for each cell that a wall may come into: of each row those between where the wall comes into it and
// where it leaves it.
func (x *WallIndex) eachCell(w *Wall, f func(cell int)) {
	pad := w.Round + x.margin
	low, high := w.box()
	along := w.B.minus(w.A)
	for row := x.row(low.Y - x.margin); row <= x.row(high.Y+x.margin); row++ {
		from := min(w.A.X, w.B.X)
		to := max(w.A.X, w.B.X)
		if math.Abs(along.Y) > x.margin { // only the part of it between the row's edges
			bottom := x.low.Y + float64(row)*x.cell - pad
			a := w.A.X + (bottom-w.A.Y)/along.Y*along.X
			b := w.A.X + (bottom+x.cell+2*pad-w.A.Y)/along.Y*along.X
			from = max(from, min(a, b))
			to = min(to, max(a, b))
		}
		for column := x.column(from - pad); column <= x.column(to+pad); column++ {
			f(row*x.columns + column)
		}
	}
}

// row returns the row of a height; what lies beyond the grid is in its first or last one.
func (x *WallIndex) row(y float64) int { return clampCell((y-x.low.Y)/x.cell, x.rows) }

// column returns the column of a place, as row does.
func (x *WallIndex) column(at float64) int { return clampCell((at-x.low.X)/x.cell, x.columns) }

// clampCell returns which of n cells a distance from the first one lies in, in cells.
func clampCell(at float64, n int) int { return int(min(max(math.Floor(at), 0), float64(n-1))) }

// Reach returns the box that a move along the walls lies in, with all that it may touch.
func (x *WallIndex) Reach(from, to Flat, radius float64) (low, high Flat) {
	radius = max(radius, LeastRadius)
	// It may be moved out of the deepest wall first, and never comes farther from there than to where it wanted.
	most := to.minus(from).length() + 3*(radius+x.round)
	return Flat{from.X - most, from.Y - most}, Flat{from.X + most, from.Y + most}
}

// Near appends the walls that may be in a box between two corners, in the order of their list, and others. looked is
// how many cells and walls it took, never more than there are walls.
func (x *WallIndex) Near(dst []Wall, corner, other Flat) (near []Wall, looked int) {
	low := Flat{min(corner.X, other.X), min(corner.Y, other.Y)}
	high := Flat{max(corner.X, other.X), max(corner.Y, other.Y)}
	isFinite := low.X-high.X > math.Inf(-1) && low.Y-high.Y > math.Inf(-1) // and no NaN
	if x.cell == 0 || !isFinite {
		return append(dst, x.walls...), len(x.walls)
	}
	// Places that far away are themselves known to so many digits only.
	margin := x.margin + 1e-9*(math.Abs(low.X)+math.Abs(low.Y)+math.Abs(high.X)+math.Abs(high.Y))
	left := x.column(low.X - margin)
	right := x.column(high.X + margin)
	bottom := x.row(low.Y - margin)
	top := x.row(high.Y + margin)
	looked = (right - left + 1) * (top - bottom + 1)
	if looked >= len(x.walls) {
		return append(dst, x.walls...), len(x.walls)
	}
	for row := bottom; row <= top; row++ {
		first := row * x.columns
		for _, i := range x.items[x.starts[first+left]:x.starts[first+right+1]] {
			x.seen[i/64] |= 1 << (i % 64)
		}
	}
	before := len(dst)
	for word, set := range x.seen {
		for ; set != 0; set &= set - 1 {
			dst = append(dst, x.walls[64*word+bits.TrailingZeros64(set)])
		}
		x.seen[word] = 0
	}
	return dst, min(looked+len(dst)-before, len(x.walls))
}

// Nearest returns the wall that is nearest to a place, of several the first in the list, and how many cells and walls
// it took to find it. There has to be a wall. near is memory that it may use, and is returned.
func (x *WallIndex) Nearest(p Flat, near []Wall) (wall Wall, memory []Wall, looked int) {
	for reach := x.cell; ; reach *= 2 {
		var some int
		near, some = x.Near(near[:0], Flat{p.X - reach, p.Y - reach}, Flat{p.X + reach, p.Y + reach})
		looked += some
		best := math.Inf(1)
		for i := range near {
			if d := near[i].Distance(p); i == 0 || d < best {
				best = d
				wall = near[i]
			}
		}
		if some >= len(x.walls) || len(near) > 0 && best <= reach {
			return wall, near, min(looked, 2*len(x.walls))
		}
	}
}

// box returns the lowest and the highest place that a wall comes to.
func (w *Wall) box() (low, high Flat) {
	low = Flat{min(w.A.X, w.B.X) - w.Round, min(w.A.Y, w.B.Y) - w.Round}
	high = Flat{max(w.A.X, w.B.X) + w.Round, max(w.A.Y, w.B.Y) + w.Round}
	return low, high
}
