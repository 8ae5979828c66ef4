package geometry

import (
	"bytes"
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// maze returns walls of all sorts: long and short ones, corners, circles, parallel ones that are nearly too close.
func maze(r *rand.Rand) []Wall {
	var walls []Wall
	place := func() Flat { return Flat{20*r.Float64() - 10, 20*r.Float64() - 10} }
	for range r.IntN(12) {
		a := place()
		b := a.plus(1, Flat{r.Float64()*8 - 4, r.Float64()*8 - 4})
		w := Wall{A: a, B: b}
		switch r.IntN(6) {
		case 0:
			w.B = a
			w.Round = 3 * r.Float64()
		case 1:
			w.B = Flat{a.X, b.Y}
		case 2:
			w.B = Flat{b.X, a.Y}
		case 3: // a corner
			walls = append(walls, Wall{A: b, B: b.plus(1, Flat{r.Float64()*6 - 3, r.Float64()*6 - 3})})
		case 4: // beside it
			off := Flat{r.Float64(), r.Float64()}
			walls = append(walls, Wall{A: a.plus(1, off), B: b.plus(1, off)})
		}
		walls = append(walls, w)
	}
	return walls
}

// however often something moves, whatever is in its way: it is never nearer to a wall than its radius, on no part of its
// way, and comes no farther than it wanted. KAMERAD_OFTEN says how many moves there are.
func TestNobodyPassesAWall(t *testing.T) {
	moves := 100_000
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		moves = n
	}
	r := rand.New(rand.NewPCG(1, 1))
	const little = 1e-6
	slid := 0
	for done := 0; done < moves; {
		walls := maze(r)
		radius := []float64{0, 0.01, 0.4, 1}[r.IntN(4)]
		p := Flat{20*r.Float64() - 10, 20*r.Float64() - 10}
		for range 40 {
			done++
			to := Flat{20*r.Float64() - 10, 20*r.Float64() - 10}
			if r.IntN(2) == 0 {
				to = p.plus(1, Flat{r.Float64() - 0.5, r.Float64() - 0.5})
			}
			if len(walls) > 0 && r.IntN(4) == 0 { // straight at one
				to = walls[r.IntN(len(walls))].core(p)
			}
			began := make([]float64, len(walls))
			for i := range walls {
				began[i] = walls[i].Distance(p)
			}
			turns := 0
			next := along(p, to, walls, radius, func(a, b Flat) {
				turns++
				leg := Line{From: Point{a.X, a.Y}, To: Point{b.X, b.Y}}
				for i := range walls {
					w := &walls[i]
					// Two segments are nearest to each other at an end, or cross.
					nearest := min(w.Distance(a), w.Distance(b))
					for _, end := range []Flat{w.A, w.B} {
						nearest = min(nearest, leg.Distance(&Point{end.X, end.Y})-w.Round)
					}
					allowed := min(began[i], max(radius, LeastRadius))
					require.GreaterOrEqual(t, nearest, allowed-little, "%v to %v passes %v with %v", a, b, *w, radius)
					if allowed > little {
						require.False(t, cross(a, b, w.A, w.B), "%v to %v crosses %v", a, b, *w)
					}
				}
			})
			if turns > 1 {
				slid++
			}
			most := to.minus(p).length()
			for i := range began {
				most = max(most, to.minus(p).length()+max(radius, LeastRadius)+walls[i].Round-began[i])
			}
			require.LessOrEqual(t, next.minus(p).length(), most+little)
			if len(walls) == 0 {
				require.InDelta(t, 0, next.minus(to).length(), little, "nothing is in the way")
			}
			p = next
		}
	}
	t.Logf("%d moves, %d of them along a wall", moves, slid)
	require.Greater(t, slid, moves/10)
}

// cross reports whether two segments cross each other in their insides.
func cross(a, b, c, d Flat) bool {
	side := func(p, q, x Flat) float64 { return (q.X-p.X)*(x.Y-p.Y) - (q.Y-p.Y)*(x.X-p.X) }
	return side(a, b, c)*side(a, b, d) < -1e-9 && side(c, d, a)*side(c, d, b) < -1e-9
}

// What may slide does not stick.
func TestAMoveGoesAlongAWall(t *testing.T) {
	wall := []Wall{{A: Flat{-10, 0}, B: Flat{10, 0}}}
	corner := append(wall, Wall{A: Flat{5, 0}, B: Flat{5, 10}})
	round := []Wall{{A: Flat{0, 0}, B: Flat{0, 0}, Round: 2}}
	for _, c := range []struct {
		from, to Flat
		walls    []Wall
		radius   float64
		want     Flat
	}{
		{Flat{0, 3}, Flat{4, -3}, wall, 1, Flat{4, 1}},
		{Flat{0, 1}, Flat{3, 1}, wall, 1, Flat{3, 1}},
		{Flat{0, 1}, Flat{3, 0}, wall, 1, Flat{3, 1}},
		{Flat{0, 3}, Flat{0, -3}, wall, 1, Flat{0, 1}},
		{Flat{0, -3}, Flat{0, 3}, wall, 1, Flat{0, -1}},
		{Flat{0, 0.5}, Flat{2, 0.5}, wall, 1, Flat{2, 1}},
		{Flat{0, 3}, Flat{9, -3}, corner, 1, Flat{4, 1}},
		{Flat{0, 3}, Flat{9, 2}, corner, 1, Flat{4, 2}},
		{Flat{-5, 0}, Flat{5, 0}, round, 1, Flat{-3, 0}},
		{Flat{-12, 0}, Flat{-8, 0}, wall, 1, Flat{-11, 0}},
		{Flat{0, 2}, Flat{0, -2}, wall, 0, Flat{0, 0.001}},
	} {
		got := AlongWalls(c.from, c.to, c.walls, c.radius)
		assert.InDelta(t, 0, got.minus(c.want).length(), 1e-9, "from %v to %v: %v, not %v", c.from, c.to, got, c.want)
	}
	past := AlongWalls(Flat{-5, 2.5}, Flat{5, 2.5}, round, 1)
	assert.Greater(t, past.X, -1.0, "it goes some way round a circle")
}

func TestWhatIsNearestOfAWall(t *testing.T) {
	w := Wall{A: Flat{0, 0}, B: Flat{4, 0}, Round: 1}
	assert.Equal(t, Flat{2, 1}, w.Nearest(Flat{2, 5}))
	assert.Equal(t, Flat{2, 0.5}, w.Nearest(Flat{2, 0.5}))
	assert.Equal(t, Flat{5, 0}, w.Nearest(Flat{9, 0}))
	assert.InDelta(t, 4.0, w.Distance(Flat{2, 5}), 0)
	assert.InDelta(t, -1.0, w.Distance(Flat{2, 0}), 0)
	assert.True(t, Free(Flat{2, 5}, []Wall{w}, 4))
	assert.False(t, Free(Flat{2, 5}, []Wall{w}, 4.01))
	assert.False(t, math.Signbit(w.Distance(Flat{2, 1})))
}

// moveVector is a move as the vectors of the protocol have it.
type moveVector struct {
	From    [2]float64 `json:"from"`
	To      [2]float64 `json:"to"`
	Radius  float64    `json:"radius"`
	Walls   [][3]any   `json:"walls"` // the ends, and how much wider than a line it is
	ComesTo [2]float64 `json:"comes_to"`
}

// The vectors of the protocol say where moves come to, bit for bit: whoever writes a client can compute the same.
func TestTheVectorsOfMoves(t *testing.T) {
	const file = "../wire/testdata/vectors/moves.json"
	r := rand.New(rand.NewPCG(6, 1))
	pair := func(p Flat) [2]float64 { return [2]float64{p.X, p.Y} }
	var moves []moveVector
	for range 40 {
		walls := append(maze(r), maze(r)...)
		v := moveVector{Radius: []float64{0, 0.25, 0.4, 1}[r.IntN(4)], Walls: [][3]any{}}
		for _, w := range walls {
			v.Walls = append(v.Walls, [3]any{pair(w.A), pair(w.B), w.Round})
		}
		p := Flat{20*r.Float64() - 10, 20*r.Float64() - 10}
		for range 2 {
			to := p.plus(1, Flat{8*r.Float64() - 4, 8*r.Float64() - 4})
			next := AlongWalls(p, to, walls, v.Radius)
			v.From, v.To, v.ComesTo = pair(p), pair(to), pair(next)
			moves = append(moves, v)
			p = next
		}
	}
	raw, err := json.Marshal(map[string]any{"moves": moves})
	require.NoError(t, err)
	raw = append(bytes.ReplaceAll(raw, []byte(`{"from"`), []byte("\n{\"from\"")), '\n')
	if os.Getenv("KAMERAD_UPDATE_VECTORS") != "" {
		require.NoError(t, os.WriteFile(file, raw, 0o644))
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(kept, raw), "moves come to other places: KAMERAD_UPDATE_VECTORS=1 writes the vectors anew")
}
