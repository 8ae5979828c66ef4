package codegen

import (
	"math"
	"math/bits"
	"slices"

	"kamerad.example/core/bytecode"
	"kamerad.example/core/contract"
)

const (
	// maxGrids is how many grids an index has at most: each has to be told of everything that moves.
	maxGrids = 3
	// usualReach is what part of a kind's range is taken for near when the contract computes how near.
	usualReach = 1.0 / 64
)

// indexPlaces notes that a query asks which entities of its kinds are near. The radius may be nil.
func (g *compiler) indexPlaces(kinds []*contract.Kind, radius *contract.Expr) {
	for _, k := range kinds {
		index := &g.program.Indexes[k.Index]
		index.Place = k.Property("pos")
		t := index.Place.Type
		reach := (float64(t.High) - float64(t.Low)) * usualReach
		if radius != nil && radius.Op == contract.OpConst {
			reach = math.Float64frombits(uint64(radius.Num)) * float64(t.Per) / float64(t.Unit)
		}
		// The cells are at least as wide as what is near.
		shift := bits.Len64(uint64(min(max(reach, 1), 1<<52)) - 1)
		if !slices.Contains(index.Shifts, shift) {
			index.Shifts = append(index.Shifts, shift)
		}
	}
}

// indexValues notes that a query asks which entities of its kinds have a value.
func (g *compiler) indexValues(kinds []*contract.Kind, properties []*contract.Property) {
	for _, k := range kinds {
		index := &g.program.Indexes[k.Index]
		if p := properties[k.Index]; !slices.Contains(index.Values, p) {
			index.Values = append(index.Values, p)
		}
	}
}

// endIndexes makes do with as many grids as an index may have. Each is at least four times as coarse as the one before.
func endIndexes(indexes []bytecode.Index) {
	for i := range indexes {
		slices.Sort(indexes[i].Shifts)
		var kept []int
		for _, shift := range indexes[i].Shifts {
			if n := len(kept); n == 0 || n < maxGrids && shift >= kept[n-1]+2 {
				kept = append(kept, shift)
			}
		}
		indexes[i].Shifts = kept
	}
}
