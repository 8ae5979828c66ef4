package world

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/geometry"
)

// indexed returns a world of a kind whose places are of a type, with an index.
func indexed(t require.TestingT, typ string, shifts ...int) (*World, *contract.Kind) {
	zero := map[bool]string{true: "vec(0, 0)", false: "vec(0, 0, 0)"}[typ[3] == '2']
	c, problems := compile.Load("thing.kam", fmt.Sprintf(`contract thing language 1
entity Thing {
  pos: %s = %s
  n: int 0..3 = 0
  other: int 0..1000 = 0
}
shared Sea { on start { spawn Thing } }`, typ, zero))
	require.NotNil(t, c, problems.Error())
	w := New(c, nil)
	k := c.Kinds[0]
	w.KeepIndex(k, Index{
		Place:  k.Property("pos"),
		Shifts: shifts,
		Values: []*contract.Property{k.Property("n"), k.Property("other")},
	})
	return w, k
}

// scan finds what is near by looking at all of it.
func scan(w *World, k *contract.Kind, r *Reach) (found []ID) {
	for _, e := range w.OfKind(k.Index) {
		var at geometry.Point
		p := k.Property("pos")
		for i := range p.Type.Width() {
			at[i] = p.Type.Real(e.Nums[p.Slot+i])
		}
		if d := r.Line.Distance(&at); d <= r.Most && d > r.Beyond {
			found = append(found, e.ID)
		}
	}
	return found
}

// near finds what is near by the index.
func near(w *World, k *contract.Kind, r *Reach) (found []ID, steps int64) {
	list, steps := w.Near(k, r, nil)
	return sorted(list), steps
}

// nearest finds the nearest entity by the index, as its place among all of its kind; -1 for none.
func nearest(w *World, k *contract.Kind, from *geometry.Point) (number int, distance float64, steps int64) {
	e, distance, steps := w.Nearest(k, from)
	return slices.Index(w.OfKind(k.Index), e), distance, steps
}

// scanNearest finds the nearest entity by looking at all of them.
func scanNearest(w *World, k *contract.Kind, from *geometry.Point) (number int, distance float64) {
	number = -1
	for i, e := range w.OfKind(k.Index) {
		at := pointOf(k.Property("pos"), e.Nums[k.Property("pos").Slot:])
		if d := geometry.Distance(&at, from); number < 0 || d < distance {
			number = i
			distance = d
		}
	}
	return number, distance
}

// sorted returns the IDs of entities, the least first.
func sorted(list []*Entity) (out []ID) {
	for _, e := range list {
		out = append(out, e.ID)
	}
	slices.Sort(out)
	return out
}

// within is what is at most a distance away from a line.
func within(l geometry.Line, distance float64) *Reach {
	return &Reach{Line: l, Beyond: -1, Most: distance}
}

// places draws places of a type: all over it, at its ends, and close to each other.
func places(t *rapid.T, p *contract.Property, around []int64) []int64 {
	out := make([]int64, p.Type.Width())
	low, high := p.Type.Low, p.Type.High
	for i := range out {
		switch rapid.IntRange(0, 5).Draw(t, "where") {
		case 0:
			out[i] = rapid.Int64Range(low, high).Draw(t, "anywhere")
		case 1:
			out[i] = rapid.SampledFrom([]int64{low, high}).Draw(t, "end")
		default:
			reach := int64(1) << rapid.IntRange(0, 12).Draw(t, "reach")
			out[i] = min(max(around[i]+rapid.Int64Range(-reach, reach).Draw(t, "by"), low), high)
		}
	}
	return out
}

// Whatever was written, rolled back, spawned and despawned, the index finds what a scan finds. The steps are those of
// an index that is made anew of the same places.
func TestAnIndexFindsWhatAScanFinds(t *testing.T) {
	types := []string{
		"vec2 -200..200 step 0.01", "vec3 -9..9 step 0.5", "vec2 0..1 step 1", "vec2 -1000000..1000000 step 5",
		"vec3 -100000..100000 step 0.001", "vec2 -4503599627370496..4503599627370496 step 1",
	}
	indexWasUsed := 0
	nearestWasUsed := 0
	rapid.Check(t, func(t *rapid.T) {
		typ := rapid.SampledFrom(types).Draw(t, "type")
		shifts := slices.Compact(slices.Sorted(slices.Values(
			rapid.SliceOfN(rapid.SampledFrom([]int{0, 3, 5, 7, 9, 12, 30, 52}), 1, 3).Draw(t, "shifts"))))
		w, k := indexed(t, typ, shifts...)
		p := k.Property("pos")
		around := make([]int64, p.Type.Width())
		for i := range around {
			around[i] = rapid.Int64Range(p.Type.Low, p.Type.High).Draw(t, "around")
		}
		for range rapid.SampledFrom([]int{0, 5, 60, 150}).Draw(t, "things") {
			w.Set(w.Spawn(k, 0), p, places(t, p, around))
		}
		w.Commit()
		for range rapid.IntRange(1, 40).Draw(t, "actions") {
			all := w.OfKind(k.Index)
			what := rapid.IntRange(0, 8).Draw(t, "what")
			switch {
			case what == 0:
				w.Commit()
			case what == 1:
				w.Rollback()
			case what == 2:
				w.Set(w.Spawn(k, 0), p, places(t, p, around))
			case what == 3 && len(all) > 0:
				w.Despawn(rapid.SampledFrom(all).Draw(t, "gone"))
			case what < 6 && len(all) > 0:
				e := rapid.SampledFrom(all).Draw(t, "moved")
				w.Set(e, p, places(t, p, around))
				w.Set(e, k.Property("n"), []int64{rapid.Int64Range(0, 3).Draw(t, "n")})
			default:
				l := geometry.Line{From: pointOf(p, places(t, p, around))}
				l.To = l.From
				if rapid.Bool().Draw(t, "line") {
					l.To = pointOf(p, places(t, p, around))
				}
				step := p.Type.Real(1) - p.Type.Real(0)
				distance := step * rapid.Float64Range(0, 5000).Draw(t, "distance")
				if rapid.Bool().Draw(t, "about a cell") {
					distance = step * rapid.Float64Range(0, 1).Draw(t, "part of a cell") * float64(int64(1)<<shifts[0])
				}
				if rapid.IntRange(0, 4).Draw(t, "exactly") == 0 && len(all) > 0 {
					at := pointOf(p, rapid.SampledFrom(all).Draw(t, "edge").Nums[p.Slot:])
					distance = l.Distance(&at)
				}
				r := within(l, distance)
				if rapid.Bool().Draw(t, "beyond") {
					r.Beyond = distance * rapid.Float64Range(0, 1).Draw(t, "part")
				}
				found, steps := near(w, k, r)
				require.Equal(t, scan(w, k, r), found)
				if steps < int64(len(all)) {
					indexWasUsed++
				}
				n := rapid.Int64Range(-1, 4).Draw(t, "value")
				valued, valueSteps := w.WithValue(k, k.Property("n"), n, nil)
				var scanned []ID
				for _, e := range all {
					if e.Nums[k.Property("n").Slot] == n {
						scanned = append(scanned, e.ID)
					}
				}
				require.Equal(t, scanned, sorted(valued))

				anew, k2 := indexed(t, typ, shifts...)
				for _, e := range all {
					copied := anew.Spawn(k2, 0)
					for _, p := range k2.Properties {
						anew.Set(copied, p, e.Nums[p.Slot:p.Slot+p.Type.Width()])
					}
				}
				_, stepsAnew := near(anew, k2, r)
				require.Equal(t, stepsAnew, steps)
				require.LessOrEqual(t, steps, max(1, int64(len(all))))
				number, distance, nearestSteps := nearest(w, k, &l.From)
				wanted, exactly := scanNearest(w, k, &l.From)
				require.Equal(t, wanted, number)
				require.Equal(t, exactly, distance)
				require.LessOrEqual(t, nearestSteps, max(1, 2*int64(len(all))))
				_, _, stepsAnew = nearest(anew, k2, &l.From)
				require.Equal(t, stepsAnew, nearestSteps)
				if nearestSteps < int64(len(all)) {
					nearestWasUsed++
				}
				_, stepsAnew = anew.WithValue(k2, k2.Property("n"), n, nil)
				require.Equal(t, stepsAnew, valueSteps)
			}
		}
	})
	assert.Greater(t, indexWasUsed, 30, "searches that looked at fewer than all")
	assert.Greater(t, nearestWasUsed, 30, "searches for the nearest that looked at fewer than all")
}

// pointOf returns the place of a property's slots.
func pointOf(p *contract.Property, slots []int64) (at geometry.Point) {
	for i := range p.Type.Width() {
		at[i] = p.Type.Real(slots[i])
	}
	return at
}

// Lines that a body computes may end anywhere, and a distance may be any number.
func TestAnIndexFindsWhatAScanFindsOutsideOfTheWorld(t *testing.T) {
	for _, typ := range []string{"vec2 -200..200 step 0.01", "vec3 -9..9 step 0.5"} {
		w, k := indexed(t, typ, 0, 6)
		p := k.Property("pos")
		for i := range 40 {
			slots := make([]int64, p.Type.Width())
			for d := range slots {
				slots[d] = min(max(int64(i*(d+1)*7), p.Type.Low), p.Type.High)
			}
			w.Set(w.Spawn(k, 0), p, slots)
		}
		ends := []float64{0, 0.1, -150, 1e3, -1e9, 1e300, -math.MaxFloat64, math.MaxFloat64}
		for _, x := range ends {
			for _, y := range ends {
				l := geometry.Line{From: geometry.Point{x, y}, To: geometry.Point{y, 0}}
				for _, distance := range []float64{-1, 0, 1e-300, 0.3, 5, 1e6, math.MaxFloat64} {
					found, _ := near(w, k, within(l, distance))
					assert.Equal(t, scan(w, k, within(l, distance)), found, "%v %v", l, distance)
				}
				number, distance, _ := nearest(w, k, &l.From)
				wanted, exactly := scanNearest(w, k, &l.From)
				assert.Equal(t, wanted, number, "%v", l.From)
				assert.Equal(t, exactly, distance, "%v", l.From)
			}
		}
	}
}

// A search looks at what is near, however much there is elsewhere; where all is in one place it looks at that once.
func TestASearchCostsWhatIsNear(t *testing.T) {
	w, k := indexed(t, "vec2 -200..200 step 0.01", 7)
	p := k.Property("pos")
	for i := range int64(2000) {
		w.Set(w.Spawn(k, 0), p, []int64{i%50*800 - 20000, i/50*800 - 20000})
	}
	here := geometry.Line{From: geometry.Point{0, 0}, To: geometry.Point{0, 0}}
	found, steps := near(w, k, within(here, 1))
	assert.Len(t, found, 1)
	assert.Equal(t, int64(3*3+1), steps, "cells of 1.28 from -1.04 to 1.04, and what is in them")

	across := geometry.Line{From: geometry.Point{-199, -199}, To: geometry.Point{199, 199}}
	found, steps = near(w, k, within(across, 0.5))
	assert.Equal(t, scan(w, k, within(across, 0.5)), found)
	assert.Less(t, steps, int64(1500), "a diagonal does not look at the whole square")

	for _, e := range w.OfKind(k.Index) {
		w.Set(e, p, []int64{5, 5})
	}
	found, steps = near(w, k, within(here, 1))
	assert.Len(t, found, 2000)
	assert.Equal(t, int64(2000), steps)
}

// What is gone and was never looked for is not kept.
func TestAnIndexForgetsWhatIsGone(t *testing.T) {
	w, k := indexed(t, "vec2 -200..200 step 0.01", 7)
	for range 5000 {
		e := w.Spawn(k, 0)
		w.Commit()
		w.Despawn(e)
		w.Commit()
		w.Events(func(Event) {})
		require.Less(t, len(w.stale), 2*keptStale)
	}
	w.refreshIndexes()
	index := w.indexes[k.Index]
	assert.Equal(t, len(index.entities), len(index.free))
	assert.Less(t, len(index.entities), 2*keptStale)
	held := slices.IndexFunc(index.entities, func(e *Entity) bool { return e != nil })
	assert.Equal(t, -1, held, "an entity that is gone is held")
}

// The nearest of many that stand about one to a cell, from everywhere among them and around them.
func TestTheNearestOfManyIsFound(t *testing.T) {
	for typ, shift := range map[string]int{"vec2 -200..200 step 0.01": 9, "vec3 -20..20 step 0.01": 9} {
		w, k := indexed(t, typ, shift)
		p := k.Property("pos")
		random := rand.New(rand.NewPCG(3, 1))
		half := int64(1 << shift * 5)
		somewhere := func(half int64) []int64 {
			out := make([]int64, p.Type.Width())
			for i := range out {
				out[i] = min(max(random.Int64N(2*half)-half, p.Type.Low), p.Type.High)
			}
			return out
		}
		for range map[int]int{2: 120, 3: 1000}[p.Type.Width()] {
			w.Set(w.Spawn(k, 0), p, somewhere(half))
		}
		looked := int64(0)
		for range 1000 {
			from := pointOf(p, somewhere(half+half/4))
			number, distance, steps := nearest(w, k, &from)
			wanted, exactly := scanNearest(w, k, &from)
			require.Equal(t, wanted, number, typ)
			require.Equal(t, exactly, distance, typ)
			looked += steps
		}
		assert.Less(t, looked, int64(1000*90), typ)
	}
}
