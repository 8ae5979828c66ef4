package replicate

import (
	"math"

	"kamerad/core/rules"
)

// cells in a radius: the finer they are, the fewer entities at the edge have to be asked for, and the more circles a client is in.
const cells = 4

// least is the size of the smallest cells, also where the radius is nothing.
const least = 1e-3

// cell gives the cell of a place.
func (a *audience) cell(at [3]float64) (out [3]int64) {
	for i, x := range at {
		out[i] = int64(min(max(math.Floor(x/a.size), -1<<60), 1<<60))
	}
	return out
}

// slack is how far, in sizes of a cell, something may stray from its cell before it goes to another one.
const slack = 0.25

// around tells whether a place is in a cell or not far from it.
func (a *audience) around(cell [3]int64, at [3]float64) bool {
	size := a.size
	for i, x := range at {
		if low := float64(cell[i]) * size; x < low-slack*size || x >= low+size+slack*size {
			return false
		}
	}
	return true
}

// reach tells how near and how far something in a cell may be from a place.
func (a *audience) reach(cell [3]int64, at [3]float64) (near, far float64) {
	size := a.size
	for i, x := range at {
		low := float64(cell[i])*size - slack*size
		high := low + size + 2*slack*size
		if x < low {
			near += (low - x) * (low - x)
		} else if x > high {
			near += (x - high) * (x - high)
		}
		across := max(x-low, high-x)
		far += across * across
	}
	return math.Sqrt(near), math.Sqrt(far)
}

// cells calls f for the circles of equal keys whose cells may be in sight of a place.
func (a *audience) cells(side rules.Side, f func(c *circle)) {
	const far = cells + 1 // cells in each direction, with the slack
	at := a.cell(side.At)
	around := 1
	for range a.parts {
		around *= 2*far + 1
	}
	if len(a.circles) <= around { // in any order: what comes of it is sorted
		for key, c := range a.circles {
			if key.keys == side.Keys && len(c.entities) > 0 {
				f(c)
			}
		}
		return
	}
	key := circleKey{keys: side.Keys, cell: at}
	for i := range around {
		for part := range a.parts {
			key.cell[part] = at[part] - far + int64(i%(2*far+1))
			i /= 2*far + 1
		}
		if c := a.circles[key]; c != nil && len(c.entities) > 0 {
			f(c)
		}
	}
}
