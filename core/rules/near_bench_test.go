package rules

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/bench/floor"
	"kamerad.example/core/codegen"
	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/world"
)

// Shots fly among things; each tick one query a shot asks what it comes past. There are as many things to the area
// whatever their number: each query finds five in the mean.
const (
	shots     = 100
	shotReach = 0.8
	shotPath  = 0.7   // what a shot flies in a tick
	densityOf = 1.601 // things to a square of 1: five hits in the capsule of 0.8 about a path of 0.7
)

const nearText = `contract near language 1
tick 20 per second
type Place = vec2 -200..200 step 0.001
entity Thing { pos: Place }
entity Shot {
  pos: Place
  met: int 0..1000000000 = 0
  nearest: ref Thing = nothing
  action fly() { met = count(t in Thing within 0.8 of path(pos)) }
  action meet() { met = sum(t in Thing within 0.8 of path(pos): 1) }
  action look() { nearest = least(t in Thing: distance(t.pos, pos)) }
  action count_all() { met = count(Thing) }
}
shared Sea {
  on start {
    spawn Thing { pos = vec(0, 0) }
    let s = spawn Shot { pos = vec(0, 0) }
    do s.fly()
    do s.meet()
    do s.look()
    do s.count_all()
  }
}`

// nearWorld is a world of shots among things, and the same in a grid.
type nearWorld struct {
	machine *Machine
	shots   []*world.Entity
	actions map[string]*contract.Action
	grid    *floor.Grid
	lines   [][4]float64
}

// newNearWorld makes a world of so many things.
func newNearWorld(t require.TestingT, things int) *nearWorld {
	c, problems := compile.Load("near.kam", nearText)
	require.NotNil(t, c, problems.Error())
	w := world.New(c, nil)
	p, err := codegen.Generate(c)
	require.NoError(t, err)
	n := &nearWorld{machine: NewMachine(p, w, [32]byte{}), actions: map[string]*contract.Action{}}
	for _, a := range c.Actions {
		n.actions[a.Name] = a
	}
	random := rand.New(rand.NewPCG(1, 2))
	side := 1000 * 0.5 * math.Sqrt(float64(things)/densityOf) // in steps, from the middle
	at := func() int64 { return int64((random.Float64()*2 - 1) * side) }
	thing := c.Kinds[0]
	pos := thing.Property("pos")
	var places []floor.Place
	for range things {
		e := w.Spawn(thing, 0)
		x, y := at(), at()
		w.Set(e, pos, []int64{x, y})
		places = append(places, floor.Place{X: float64(x) / 1000, Y: float64(y) / 1000, Number: int32(e.ID)})
	}
	shot := c.Kinds[1]
	for range shots {
		e := w.Spawn(shot, 0)
		x, y := at()*9/10, at()*9/10
		pos := shot.Property("pos")
		copy(e.Nums[pos.Path:], []int64{x, y}) // where the tick began
		w.Set(e, pos, []int64{x + 500, y + 490})
		n.shots = append(n.shots, e)
		n.lines = append(n.lines, [4]float64{
			float64(x) / 1000, float64(y) / 1000, float64(x+500) / 1000, float64(y+490) / 1000,
		})
	}
	w.Commit()
	w.LastMoved = w.LastID()
	n.grid = floor.NewGrid(places, -side/1000, side/1000, shotReach)
	return n
}

// tick has all shots do something.
func (n *nearWorld) tick(t require.TestingT, action string) {
	what := world.Delayed{Action: n.actions[action]}
	for _, s := range n.shots {
		if out := n.machine.Due(s, what); out != nil {
			require.Fail(t, out.Reason)
		}
		n.machine.World.Commit()
	}
}

// What is measured beside each other finds the same.
func TestTheFloorFindsWhatTheEngineFinds(t *testing.T) {
	n := newNearWorld(t, 10_000)
	n.tick(t, "fly")
	n.tick(t, "look")
	met := n.shots[0].Kind.Property("met")
	found := n.machine.World.Value(n.shots[0], met).Num
	n.tick(t, "meet")
	require.Equal(t, found, n.machine.World.Value(n.shots[0], met).Num)
	sum := 0
	for i, s := range n.shots {
		l := n.lines[i]
		found := n.grid.Near(l[0], l[1], l[2], l[3], shotReach, nil)
		sum += len(found)
		k := s.Kind
		require.Equal(t, int64(len(found)), n.machine.World.Value(s, k.Property("met")).Num)
		require.Equal(t, int64(n.grid.Nearest(l[2], l[3])), s.Nums[k.Property("nearest").Slot])
	}
	require.InDelta(t, 5, float64(sum)/shots, 1, "hits in the mean")
}

func BenchmarkWithin(b *testing.B) {
	for _, things := range []int{1000, 10_000} {
		n := newNearWorld(b, things)
		b.Run(fmt.Sprint(things), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				n.tick(b, "fly")
			}
		})
	}
}

// BenchmarkWithinEach goes over what it finds.
func BenchmarkWithinEach(b *testing.B) {
	n := newNearWorld(b, 10_000)
	b.Run("10000", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			n.tick(b, "meet")
		}
	})
}

func BenchmarkWithinByHand(b *testing.B) {
	for _, things := range []int{1000, 10_000} {
		n := newNearWorld(b, things)
		b.Run(fmt.Sprint(things), func(b *testing.B) {
			b.ReportAllocs()
			var found []int32
			met := 0
			for b.Loop() {
				for _, l := range n.lines {
					found = n.grid.Near(l[0], l[1], l[2], l[3], shotReach, found[:0])
					met += len(found)
				}
			}
			require.Positive(b, met)
		})
	}
}

func BenchmarkNearest(b *testing.B) {
	for _, things := range []int{1000, 10_000} {
		n := newNearWorld(b, things)
		b.Run(fmt.Sprint(things), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				n.tick(b, "look")
			}
		})
	}
}

func BenchmarkNearestByHand(b *testing.B) {
	for _, things := range []int{1000, 10_000} {
		n := newNearWorld(b, things)
		b.Run(fmt.Sprint(things), func(b *testing.B) {
			b.ReportAllocs()
			sum := int32(0)
			for b.Loop() {
				for _, l := range n.lines {
					sum += n.grid.Nearest(l[2], l[3])
				}
			}
			require.NotZero(b, sum)
		})
	}
}

func BenchmarkCount(b *testing.B) {
	for _, things := range []int{10, 10_000} {
		n := newNearWorld(b, things)
		b.Run(fmt.Sprint(things), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				n.tick(b, "count_all")
			}
		})
	}
}
