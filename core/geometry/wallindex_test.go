package geometry

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// town returns many walls of all sorts: of houses, long ones across everything, circles, walls that stand twice, all on
// one line, and with places that are far from 0.
func town(r *rand.Rand) []Wall {
	var walls []Wall
	size := []float64{10, 100, 3000}[r.IntN(3)]
	off := []float64{0, 0, 1e6, -1e9}[r.IntN(4)]
	step := []float64{0, 0.01, 1}[r.IntN(3)]
	number := func() float64 {
		v := off + size*(r.Float64()-0.5)
		if step > 0 {
			v = math.Round(v/step) * step
		}
		return v
	}
	isFlat := r.IntN(8) == 0
	for range r.IntN(400) {
		a := Flat{number(), number()}
		b := a.plus(size/30, Flat{r.Float64() - 0.5, r.Float64() - 0.5})
		w := Wall{A: a, B: b}
		switch r.IntN(8) {
		case 0:
			w.B = a
			w.Round = size / 20 * r.Float64()
		case 1:
			w.B = Flat{a.X, b.Y}
		case 2:
			w.B = Flat{b.X, a.Y}
		case 3:
			w.B = Flat{number(), number()}
		case 4:
			if len(walls) > 0 {
				w = walls[r.IntN(len(walls))]
			}
		}
		if isFlat {
			w.A.Y = off
			w.B.Y = off
		}
		walls = append(walls, w)
	}
	return walls
}

// What is asked of the walls that an index finds comes to what it comes to of all walls, bit for bit, and never takes
// more looks. KAMERAD_OFTEN says how many questions are asked.
func TestTheIndexOfWallsFindsAllThatMatters(t *testing.T) {
	questions := 20_000
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		questions = n
	}
	r := rand.New(rand.NewPCG(4, 4))
	looks, walls := 0, 0
	met := map[string]int{}
	for asked := 0; asked < questions; {
		all := town(r)
		x := NewWallIndex(all)
		place := func() Flat {
			if len(all) == 0 || r.IntN(20) == 0 {
				return Flat{1e4 * (r.Float64() - 0.5), 1e4 * (r.Float64() - 0.5)}
			}
			w := all[r.IntN(len(all))]
			p := w.A.plus(r.Float64(), w.B.minus(w.A))
			if r.IntN(3) == 0 {
				return p
			}
			return p.plus(w.B.minus(w.A).length()+w.Round, Flat{2*r.Float64() - 1, 2*r.Float64() - 1})
		}
		for range 40 {
			asked++
			from := place()
			to := from.plus(math.Pow(10, r.Float64()*5-2), Flat{r.Float64() - 0.5, r.Float64() - 0.5})
			if r.IntN(4) == 0 {
				to = place()
			}
			radius := []float64{0, 0.4, 5, -1}[r.IntN(4)]
			about := fmt.Sprintf("%d walls, %v to %v, radius %g", len(all), from, to, radius)

			near, looked := x.Near(nil, from, to)
			require.LessOrEqual(t, looked, len(all))
			looks += looked
			walls += len(all)
			crosses := func(list []Wall) bool {
				return slices.ContainsFunc(list, func(w Wall) bool { return Cross(from, to, w.A, w.B) })
			}
			require.Equal(t, crosses(all), crosses(near), about)
			if crosses(all) {
				met["crossed"]++
			}

			near, _ = x.Near(near[:0], Flat{from.X - radius, from.Y - radius}, Flat{from.X + radius, from.Y + radius})
			require.Equal(t, Free(from, all, radius), Free(from, near, radius), about)
			if !Free(from, all, radius) {
				met["not free"]++
			}

			low, high := x.Reach(from, to, max(radius, 0))
			near, _ = x.Near(near[:0], low, high)
			want := AlongWalls(from, to, all, max(radius, 0))
			require.Equal(t, want, AlongWalls(from, to, near, max(radius, 0)), about)
			if want != to {
				met["stopped"]++
			}

			if len(all) > 0 {
				first := slices.MinFunc(all, func(a, b Wall) int {
					if d, e := a.Distance(from), b.Distance(from); d != e {
						return map[bool]int{true: -1, false: 1}[d < e]
					}
					return 0
				})
				nearest, _, looked := x.Nearest(from, near)
				require.Equal(t, first, nearest, about)
				require.LessOrEqual(t, looked, 2*len(all))
			}
		}
	}
	t.Logf("%d questions, %v, %.1f %% of the walls looked at for a line", questions, met, 100*float64(looks)/float64(walls))
	for what, least := range map[string]int{"crossed": questions / 20, "not free": questions / 100, "stopped": questions / 20} {
		require.Greater(t, met[what], least, what)
	}
}

// A search that is asked of what is no number finds as much as one that looks at all walls.
func TestTheIndexOfWallsIsAskedAnything(t *testing.T) {
	var walls []Wall
	for i := range 50 {
		walls = append(walls, Wall{A: Flat{float64(i), 0}, B: Flat{float64(i), 5}})
	}
	x := NewWallIndex(walls)
	inf := math.Inf(1)
	for _, p := range []Flat{{math.NaN(), 0}, {0, inf}, {-inf, inf}, {1e300, 1e300}, {-1e18, 0}} {
		near, looked := x.Near(nil, p, Flat{3, 3})
		require.LessOrEqual(t, looked, 50)
		if math.IsNaN(p.X) || math.IsInf(p.Y, 0) {
			require.Len(t, near, 50)
		}
		_, _, _ = x.Nearest(p, nil)
	}
	near, looked := x.Near(nil, Flat{20.5, 1}, Flat{21.5, 2})
	require.Contains(t, near, walls[21])
	require.Less(t, len(near), 15)
	require.Less(t, looked, 20)
	for _, list := range [][]Wall{nil, slices.Repeat([]Wall{{}}, 40), slices.Repeat([]Wall{{A: Flat{1e200, 0}}}, 40)} {
		near, _ := NewWallIndex(list).Near(nil, Flat{}, Flat{})
		require.Len(t, near, len(list), "no grid can be made of them")
	}
}

// Segments that lie one behind the other on a line do not cross: rounding puts the ends of each on different sides of
// the other.
func TestOneBehindTheOtherDoesNotCross(t *testing.T) {
	for _, c := range [][4]Flat{
		{{0.68, 1.09}, {1.46, 1.8900000000000001}, {2.24, 2.6900000000000004}, {3.02, 3.49}},
		{{0.6, 0.23}, {0.82, 0.87}, {1.92, 4.07}, {2.14, 4.710000000000001}},
		{{1.39, 0.85}, {2.19, 1.63}, {2.99, 2.41}, {3.79, 3.19}},
	} {
		require.False(t, Cross(c[0], c[1], c[2], c[3]), c)
	}
	require.True(t, Cross(Flat{0, 0}, Flat{2, 2}, Flat{1, 1}, Flat{3, 3}), "one on the other")
	require.True(t, Cross(Flat{0, 0}, Flat{2, 2}, Flat{2, 2}, Flat{3, 0}), "an end on an end")
}

func BenchmarkCross(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, n := range []int{100, 1000} {
		var walls []Wall
		for range n {
			a := Flat{r.Float64() * 400, r.Float64() * 400}
			walls = append(walls, Wall{A: a, B: a.plus(8, Flat{r.Float64() - 0.5, r.Float64() - 0.5})})
		}
		x := NewWallIndex(walls)
		from := Flat{200, 200}
		to := Flat{203, 202}
		b.Run(fmt.Sprint("all/", n), func(b *testing.B) {
			for b.Loop() {
				for i := range walls {
					Cross(from, to, walls[i].A, walls[i].B)
				}
			}
		})
		b.Run(fmt.Sprint("near/", n), func(b *testing.B) {
			var near []Wall
			for b.Loop() {
				near, _ = x.Near(near[:0], from, to)
				for i := range near {
					Cross(from, to, near[i].A, near[i].B)
				}
			}
		})
	}
}
