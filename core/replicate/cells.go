package replicate

import (
	"math"

	"kamerad.example/core/rules"
)

// Audiences that compare distances sort entities into the cells of a grid. All entities of a cell are one recipient
// set: a client gets the sets that are within its radius as a whole, and the view looks one by one at the entities of
// those that its radius cuts.
const (
	// cellsPerRadius is how many cells lie along a radius. Finer cells leave fewer entities to be looked at one by
	// one, and put each client into more sets.
	cellsPerRadius = 4
	// minCellSize is the size of a cell when the radius is small or nothing, in units of the world.
	minCellSize = 1e-3
	// cellSlack is how far an entity may stray from its cell before it enters another one, in sizes of a cell.
	cellSlack = 0.25
)

// cellOf returns the cell of a place.
func (a *audience) cellOf(at [3]float64) (cell [3]int64) {
	for i, x := range at {
		cell[i] = int64(min(max(math.Floor(x/a.cellSize), -1<<60), 1<<60))
	}
	return cell
}

// staysInCell reports whether an entity of a cell stays in it at a place.
func (a *audience) staysInCell(cell [3]int64, at [3]float64) bool {
	slack := cellSlack * a.cellSize
	for i, x := range at {
		low := float64(cell[i]) * a.cellSize
		if x < low-slack || x >= low+a.cellSize+slack {
			return false
		}
	}
	return true
}

// distances returns the least and the greatest distance from a place to an entity of a cell.
func (a *audience) distances(cell [3]int64, from [3]float64) (nearest, farthest float64) {
	for i, x := range from {
		low := float64(cell[i])*a.cellSize - cellSlack*a.cellSize
		high := low + a.cellSize + 2*cellSlack*a.cellSize
		if x < low {
			nearest += (low - x) * (low - x)
		} else if x > high {
			nearest += (x - high) * (x - high)
		}
		across := max(x-low, high-x)
		farthest += across * across
	}
	return math.Sqrt(nearest), math.Sqrt(farthest)
}

// eachNearbySet calls f for the sets with the side's keys whose cells may be within the radius of the side's place, in
// any order.
func (a *audience) eachNearbySet(side rules.Side, f func(set *recipientSet)) {
	const reach = cellsPerRadius + 1 // cells in each direction, with the slack
	const across = 2*reach + 1
	candidates := 1
	for range a.dimensions {
		candidates *= across
	}
	if len(a.sets) <= candidates {
		for key, set := range a.sets {
			if key.values == side.Keys && len(set.entities) > 0 {
				f(set)
			}
		}
		return
	}
	at := a.cellOf(side.At)
	key := setKey{values: side.Keys, cell: at}
	for i := range candidates {
		for dimension := range a.dimensions {
			key.cell[dimension] = at[dimension] - reach + int64(i%across)
			i /= across
		}
		if set := a.sets[key]; set != nil && len(set.entities) > 0 {
			f(set)
		}
	}
}

// closerThan reports whether two places are less than some distance from each other.
func closerThan(a, b [3]float64, distance float64) bool {
	sum := 0.0
	for i := range a {
		sum += (a[i] - b[i]) * (a[i] - b[i])
	}
	return distance > 0 && sum < distance*distance
}
