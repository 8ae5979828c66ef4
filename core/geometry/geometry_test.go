package geometry

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A place has the distance from a line that the nearest of many points of it has.
func TestDistanceIsThatOfTheNearestPoint(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		point := func(name string) (p Point) {
			for i := range p {
				p[i] = rapid.Float64Range(-10, 10).Draw(t, name)
			}
			return p
		}
		p := point("p")
		l := Line{point("from"), point("to")}
		nearest := math.Inf(1)
		for i := range 2001 {
			f := float64(i) / 2000
			var q Point
			for d := range q {
				q[d] = l.From[d] + f*(l.To[d]-l.From[d])
			}
			nearest = min(nearest, Distance(&p, &q))
		}
		require.InDelta(t, nearest, l.Distance(&p), 0.02)
		place := Line{l.From, l.From}
		require.Equal(t, Distance(&p, &l.From), place.Distance(&p), "a line of no length is a place")
	})
}

// A capsule has what the distance says, bit for bit, also on its edge and for numbers of any size.
func TestACapsuleHasWhatIsNearEnough(t *testing.T) {
	inside := 0
	onEdge := 0
	rapid.Check(t, func(t *rapid.T) {
		scale := rapid.SampledFrom([]float64{1e-300, 1e-9, 0.01, 1, 200, 1e9, 1e15, 1e154, 1e300}).Draw(t, "scale")
		point := func(name string) (p Point) {
			for i := range rapid.IntRange(2, 3).Draw(t, "dimensions") {
				p[i] = scale * rapid.Float64Range(-1, 1).Draw(t, name)
			}
			return p
		}
		l := Line{From: point("from"), To: point("to")}
		if rapid.Bool().Draw(t, "place") {
			l.To = l.From
		}
		for range 20 {
			p := point("p")
			most := scale * rapid.Float64Range(0, 2).Draw(t, "most")
			switch rapid.IntRange(0, 3).Draw(t, "edge") {
			case 0:
				most = l.Distance(&p)
				onEdge++
			case 1:
				most = math.Nextafter(l.Distance(&p), 0)
				onEdge++
			}
			c := NewCapsule(&l, most)
			near := l.Distance(&p) <= most
			require.Equal(t, near, c.Has(&p), "%v %v %v", l, p, most)
			if near {
				inside++
			}
		}
	})
	assert.Greater(t, inside, 300)
	assert.Greater(t, onEdge, 300)
}
