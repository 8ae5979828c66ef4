package geometry

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// A route is a shortest way, as trying all links again and again finds it (Bellman, 1958), and goes by links alone.
func TestARouteIsAShortestWay(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	ways := 0
	for range 10_000 {
		n := 1 + r.IntN(14)
		var places []Flat
		for range n {
			places = append(places, Flat{math.Round(6 * r.Float64()), math.Round(6 * r.Float64())})
		}
		var links []Link
		for range r.IntN(24) {
			links = append(links, Link{r.IntN(n+2) - 1, r.IntN(n+2) - 1})
		}
		isThere := func(l Link) bool { return min(l.A, l.B) >= 0 && max(l.A, l.B) < n }
		from, to := r.IntN(n), r.IntN(n)
		least := make([]float64, n)
		for i := range least {
			least[i] = math.Inf(1)
		}
		least[from] = 0
		for range n {
			for _, l := range links {
				if isThere(l) {
					d := places[l.A].minus(places[l.B]).length()
					least[l.B] = min(least[l.B], least[l.A]+d)
					least[l.A] = min(least[l.A], least[l.B]+d)
				}
			}
		}
		m := NewMap(places, links)
		way := m.Route(from, to)
		if math.IsInf(least[to], 1) {
			require.Nil(t, way)
			continue
		}
		ways++
		require.Equal(t, from, way[0])
		require.Equal(t, to, way[len(way)-1])
		length := 0.0
		for i := 1; i < len(way); i++ {
			a, b := way[i-1], way[i]
			length += places[a].minus(places[b]).length()
			linked := false
			for _, l := range links {
				linked = linked || l == (Link{a, b}) || l == (Link{b, a})
			}
			require.True(t, linked)
		}
		require.InDelta(t, least[to], length, 1e-9)
		require.Equal(t, way, m.Route(from, to), "the same again")
	}
	require.Greater(t, ways, 3000)
	m := NewMap(nil, nil)
	require.Nil(t, m.Route(0, 0))
	require.Nil(t, NewMap([]Flat{{}}, nil).Route(0, 1))
}
