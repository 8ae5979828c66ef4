package rules

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/world"
)

func TestRollsAreEvenAndKeyed(t *testing.T) {
	cause := Cause{Tick: 1}
	d := dice{key: [32]byte{1}, cause: &cause, incarnation: new(int)}
	counts := map[int64]int{}
	for range 60_000 {
		counts[d.roll(-2, 3)]++
	}
	require.Len(t, counts, 6)
	for face, n := range counts {
		assert.InDelta(t, 10_000, n, 500, "%d", face) // five standard deviations
	}
	assert.EqualValues(t, 7, d.roll(7, 7))
	d.roll(math.MinInt64, math.MaxInt64)

	first := func(key byte, c Cause) int64 {
		d := dice{key: [32]byte{key}, cause: &c, incarnation: new(int)}
		return d.roll(0, 1<<62)
	}
	seen := map[int64]string{}
	for _, c := range []Cause{{Tick: 1}, {Tick: 2}, {What: 1}, {A: 1}, {B: 1}, {Tick: 1, A: 1}} {
		for key := range byte(3) {
			n := first(key, c)
			assert.Empty(t, seen[n], "%v and %s roll the same", c, seen[n])
			seen[n] = fmt.Sprint(c, key)
			assert.Equal(t, n, first(key, c), "the same cause rolls the same again")
		}
	}
}

// compute runs one expression over random numbers, as a contract computes it.
func compute(t require.TestingT, expression, result string) func(args ...float64) []float64 {
	c, problems := compile.Load("maths.kam", `contract maths language 1
type P = vec2 -100..100 step 0.001
type S { a: P, b: P }
shared Probe {
  corners: list<P> max 8
  walls:   list<S> max 4
  on start { corners.put(vec(0, 0)); walls.put(S(a = vec(0, 0), b = vec(0, 0))) }
  request try(a: P, b: P, c: P, d: P) -> `+result+` from everyone {
    corners = [vec(-10, -10), vec(10, -10), vec(10, 10), vec(0, 0), vec(-10, 10)]
    walls = [S(a = c, b = d)]
    reply `+expression+`
  }
}`)
	require.NotNil(t, c, problems.Error())
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	w := world.New(c, nil)
	m := NewMachine(p, w, [32]byte{})
	return func(args ...float64) []float64 {
		slots := make([]int64, 8)
		for i, f := range args {
			slots[i] = int64(math.Round(f * 1000))
		}
		out := m.Ask(c.Requests[0], w.Shared(0), 1, slots)
		if out != nil {
			require.Fail(t, out.Reason)
		}
		w.Commit()
		var reals []float64
		v := m.Reply
		of := c.Requests[0].Reply
		for _, part := range append(v.Parts, v) {
			if of.Counted() {
				reals = append(reals, of.Real(part.Num))
			} else {
				reals = append(reals, float64(part.Num))
			}
		}
		return reals
	}
}

// Geometry agrees with what it means, computed in another way.
func TestGeometryIsWhatItMeans(t *testing.T) {
	toLine := compute(t, "distance(a, line(b, c))", "real 0..1000 step 0.001")
	inside := compute(t, "inside(a, corners)", "bool")
	crosses := compute(t, "crosses(line(a, b), walls)", "bool")
	turned := compute(t, "turned(a, angle(b))", "vec2 -200..200 step 0.001")
	rapid.Check(t, func(t *rapid.T) {
		xs := make([]float64, 8)
		for i := range xs {
			xs[i] = float64(rapid.IntRange(-20_000, 20_000).Draw(t, "x")) / 1000
		}
		near := math.Inf(1) // the nearest of many points of the line
		for i := range 2001 {
			f := float64(i) / 2000
			near = min(near, math.Hypot(xs[0]-(xs[2]+f*(xs[4]-xs[2])), xs[1]-(xs[3]+f*(xs[5]-xs[3]))))
		}
		require.InDelta(t, near, toLine(xs...)[0], 0.03)

		// The polygon is a square without the triangle above its centre.
		x := xs[0]
		y := xs[1]
		in := math.Abs(x) < 10 && math.Abs(y) < 10 && !(y > math.Abs(x))
		if onEdge := math.Abs(math.Abs(x)-10) < 0.002 || math.Abs(math.Abs(y)-10) < 0.002 ||
			math.Abs(y-math.Abs(x)) < 0.002; !onEdge {
			require.Equal(t, in, inside(xs...)[0] == 1, "%v", xs[:2])
		}

		// Two lines meet where both are at the same place for some part of the way along each.
		dx := xs[2] - xs[0]
		dy := xs[3] - xs[1]
		ex := xs[6] - xs[4]
		ey := xs[7] - xs[5]
		if det := dx*ey - dy*ex; math.Abs(det) > 0.01 {
			s := ((xs[4]-xs[0])*ey - (xs[5]-xs[1])*ex) / det
			u := ((xs[4]-xs[0])*dy - (xs[5]-xs[1])*dx) / det
			clear := math.Abs(s) > 1e-6 && math.Abs(s-1) > 1e-6 && math.Abs(u) > 1e-6 && math.Abs(u-1) > 1e-6
			if clear {
				require.Equal(t, s > 0 && s < 1 && u > 0 && u < 1, crosses(xs...)[0] == 1, "%v", xs)
			}
		}

		if math.Hypot(xs[2], xs[3]) > 0.1 {
			by := math.Atan2(xs[3], xs[2])
			got := turned(xs...)
			require.InDelta(t, x*math.Cos(by)-y*math.Sin(by), got[0], 0.002)
			require.InDelta(t, x*math.Sin(by)+y*math.Cos(by), got[1], 0.002)
		}
	})
	assert.Equal(t, 1.0, crosses(-1, 0, 1, 0, 0, 0, 0, 5)[0], "an end that touches counts")
	assert.Equal(t, 1.0, crosses(0, 1, 0, 2, 0, 0, 0, 5)[0], "one on the other counts")
	assert.Equal(t, 0.0, crosses(0, 6, 0, 7, 0, 0, 0, 5)[0], "one behind the other does not")
}
