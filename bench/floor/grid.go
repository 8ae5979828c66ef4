// Package floor does by hand, for one purpose, what the engine does for any contract: what it takes is what the
// engine's figures are held against.
package floor

import (
	"math"
	"slices"
)

// Grid finds which of many places are near a line. Its places are sorted by cells, in one slice; a second slice says
// where each cell begins. A search allocates nothing but what its result needs.
type Grid struct {
	places []Place // by cell, then number
	begins []int32 // by cell; one more at the end
	low    float64
	size   float64 // of a cell
	across int     // cells in each direction
}

// Place is a place with the number of what is there.
type Place struct {
	X, Y   float64
	Number int32
}

// NewGrid sorts places between low and high, in both directions, into cells of a size.
func NewGrid(places []Place, low, high, size float64) *Grid {
	g := &Grid{low: low, size: size, across: int((high-low)/size) + 1}
	g.begins = make([]int32, g.across*g.across+1)
	for _, p := range places {
		g.begins[g.cell(p.X, p.Y)+1]++
	}
	for i := range g.across * g.across {
		g.begins[i+1] += g.begins[i]
	}
	at := slices.Clone(g.begins)
	g.places = make([]Place, len(places))
	for _, p := range places {
		c := g.cell(p.X, p.Y)
		g.places[at[c]] = p
		at[c]++
	}
	return g
}

// along returns the cell of a coordinate.
func (g *Grid) along(x float64) int { return min(max(int((x-g.low)/g.size), 0), g.across-1) }

func (g *Grid) cell(x, y float64) int { return g.along(y)*g.across + g.along(x) }

// Near appends to found the numbers of the places that are at most a distance away from a line, the least first.
func (g *Grid) Near(ax, ay, bx, by, distance float64, found []int32) []int32 {
	dx := bx - ax
	dy := by - ay
	length := dx*dx + dy*dy
	first := g.along(min(ax, bx) - distance)
	last := g.along(max(ax, bx) + distance)
	for y := g.along(min(ay, by) - distance); y <= g.along(max(ay, by)+distance); y++ {
		row := y * g.across
		for i := g.begins[row+first]; i < g.begins[row+last+1]; i++ {
			p := &g.places[i]
			t := 0.0
			if length > 0 {
				t = min(max(((p.X-ax)*dx+(p.Y-ay)*dy)/length, 0), 1)
			}
			ex := p.X - (ax + t*dx)
			ey := p.Y - (ay + t*dy)
			if ex*ex+ey*ey <= distance*distance {
				found = append(found, p.Number)
			}
		}
	}
	slices.Sort(found)
	return found
}

// Nearest returns the number of the place that is nearest to a place, and among equals the least; -1 for none.
func (g *Grid) Nearest(x, y float64) int32 {
	best := int32(-1)
	least := math.Inf(1)
	cx := g.along(x)
	cy := g.along(y)
	for ring := 0; ring <= g.across; ring++ {
		// Whatever is in a ring is farther away than all cells between it and the place.
		if far := float64(ring-1) * g.size; ring > 0 && far*far > least {
			break
		}
		for yy := max(cy-ring, 0); yy <= min(cy+ring, g.across-1); yy++ {
			step := 2 * ring
			if yy == cy-ring || yy == cy+ring || ring == 0 {
				step = 1
			}
			for xx := cx - ring; xx <= cx+ring; xx += step {
				if xx < 0 || xx >= g.across {
					continue
				}
				for i := g.begins[yy*g.across+xx]; i < g.begins[yy*g.across+xx+1]; i++ {
					p := &g.places[i]
					d := (p.X-x)*(p.X-x) + (p.Y-y)*(p.Y-y)
					if d < least || d == least && p.Number < best {
						least = d
						best = p.Number
					}
				}
			}
		}
	}
	return best
}
