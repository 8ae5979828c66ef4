package wire

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// boundItem is an entity of boundOutline, as it was and as it is.
type boundItem struct {
	number   uint32
	owner    int
	types    []*contract.Type
	old, now [][]int64
	at       int // its slot
}

func (x *boundItem) Number() uint32                    { return x.number }
func (x *boundItem) Owner() int                        { return x.owner }
func (x *boundItem) Slots(prop int) (old, now []int64) { return x.old[prop], x.now[prop] }
func (x *boundItem) SlotMoved(_ *Group, _, at int)     { x.at = at }
func (x *boundItem) Field(prop int) Field {
	return Field{Type: x.types[prop], Value: x.types[prop].FromSlots(x.now[prop], nil)}
}

// change gives a property another value, one that is near or far, and reports whether it is another one.
func (x *boundItem) change(r *rand.Rand, prop int, far bool) bool {
	t := x.types[prop]
	x.old[prop] = append([]int64{}, x.now[prop]...)
	for i, n := range x.now[prop] {
		switch {
		case t.Form == contract.FormBool:
			x.now[prop][i] = 1 - n
		case t.Form == contract.FormEnum:
			x.now[prop][i] = r.Int64N(int64(len(t.Enum.Values)))
		case far:
			x.now[prop][i] = t.Low + int64(r.Uint64N(spanOf(t)+1))
		default:
			x.now[prop][i] = min(max(n+r.Int64N(5)-2, t.Low), t.High)
		}
	}
	return x.now[prop][0] != x.old[prop][0]
}

// changing is a private group whose entities change, with the bound of the next block.
type changing struct {
	*Group
	r     *rand.Rand
	types []*contract.Type
	here  []*boundItem
	bound int
	tick  int64
}

const boundLane = 1

// newChanging returns an empty group of an outline whose second kind has properties of the types, the last one loose.
func newChanging(seed uint64, types ...*contract.Type) *changing {
	kind := contract.KindOutline{Name: "Crate"}
	for i, typ := range types {
		kind.Properties = append(kind.Properties, contract.PropertyOutline{Name: fmt.Sprint("p", i), Type: typ})
	}
	kind.Properties[len(types)-1].Loose = true
	layout := NewLayout(&contract.Outline{Kinds: []contract.KindOutline{{Name: "Eel"}, kind}, Roles: []string{"player"}})
	g := NewPrivate(layout, &Buffer{})
	g.CountColumns()
	return &changing{Group: g, r: rand.New(rand.NewPCG(seed, 1)), types: types}
}

// all is the set of all properties.
func (g *changing) all() uint64 { return 1<<len(g.types) - 1 }

// come lets entities enter, with a bound of how many come in this tick.
func (g *changing) come(n int) {
	for range n {
		x := &boundItem{number: g.r.Uint32(), owner: g.r.IntN(3), types: g.types}
		for _, typ := range g.types {
			x.now = append(x.now, make([]int64, typ.Width()))
			x.old = append(x.old, make([]int64, typ.Width()))
		}
		mask := g.all()
		if g.r.IntN(3) == 0 {
			mask = g.r.Uint64N(mask + 1)
		}
		g.bound += g.EnterBound(boundLane, x, mask, g.tick)
		x.at = g.Enter(boundLane, x, true, mask)
		g.here = append(g.here, x)
	}
}

// change changes a property of an entity.
func (g *changing) change(x *boundItem, prop, coming int, far bool) {
	if g.Held(boundLane, x.at)&(1<<prop) != 0 && x.change(g.r, prop, far) {
		g.bound += g.ChangeBound(boundLane, coming, prop, x, g.tick)
		g.Change(boundLane, x.at, prop, x)
	}
}

// pack packs the block and returns how much of its bound it takes.
func (g *changing) pack(t *testing.T) float64 {
	took := 8 * len(g.Pack(g.tick))
	bound := g.bound + g.BlockBound()
	require.LessOrEqual(t, took, bound+7, "tick %d", g.tick)
	g.tick++
	g.bound = 0
	return float64(took) / float64(bound)
}

// Whatever a private block has in it, it takes no more than its items' bounds together.
func TestNoBlockTakesMoreThanItsBounds(t *testing.T) {
	types := []*contract.Type{
		{Form: contract.FormBool},
		{Form: contract.FormInt, Low: 0, High: 3},
		{Form: contract.FormInt, Low: 0, High: 1000},
		{Form: contract.FormInt, Low: -1 << 62, High: 1 << 62},
		{Form: contract.FormVec2, Low: -20000, High: 20000, Per: 100, Unit: 1},
		{Form: contract.FormEnum, Enum: &contract.Enum{Values: []string{"a", "b", "c", "d", "e"}}},
		{Form: contract.FormInt, Low: 0, High: 99},
	}
	for seed := range uint64(30) {
		g := newChanging(seed, types...)
		r := g.r
		for range 40 {
			coming := r.IntN(4) * r.IntN(30)
			for i := len(g.here) - 1; i >= 0 && r.IntN(3) > 0; i-- {
				g.bound += g.SlotBound(boundLane, coming)
				g.Exit(boundLane, g.here[i].at)
				g.here = append(g.here[:i], g.here[i+1:]...)
			}
			for _, x := range g.here {
				if r.IntN(6) == 0 {
					x.owner = r.IntN(1000)
					g.bound += g.OwnerBound(boundLane, coming, x.owner)
					g.SetOwner(boundLane, x.at)
				}
				if gained := g.all() &^ g.Held(boundLane, x.at); gained != 0 && r.IntN(3) == 0 {
					g.bound += g.MaskBound(boundLane, coming, x, gained, g.tick)
					g.SetMask(boundLane, x.at, g.all())
					continue
				}
				for prop := range types {
					if r.IntN(3) == 0 {
						g.change(x, prop, coming, r.IntN(4) == 0)
					}
				}
				if r.IntN(20) == 0 {
					g.bound += g.ResendBound(x, boundLane, 2, g.tick)
					g.Resend(x, boundLane, 2)
				}
			}
			g.come(coming)
			g.pack(t)
		}
	}
}

// The same where bounds are closest: of numbers that change by little for a long time and then by much, all of many
// entities or a few that stand far apart, and of items that say next to nothing.
func TestNoCloseBlockTakesMoreThanItsBounds(t *testing.T) {
	closest := map[string]float64{}
	note := func(what string, part float64) { closest[what] = max(closest[what], part) }
	for seed := range uint64(20) {
		for _, far := range []int{1, 3, 40, 300} {
			g := newChanging(seed, &contract.Type{Form: contract.FormInt, Low: 0, High: 1000}, &contract.Type{Form: contract.FormBool})
			g.come(300)
			note("spawns", g.pack(t))
			for range 60 {
				for _, x := range g.here {
					g.change(x, 0, 0, false)
				}
				g.pack(t)
			}
			for _, i := range g.r.Perm(300)[:far] {
				g.change(g.here[i], 0, 0, true)
			}
			note(fmt.Sprint(far, " far"), g.pack(t))
			for _, i := range g.r.Perm(300)[:far] {
				g.change(g.here[i], 1, 0, true)
			}
			note(fmt.Sprint(far, " truths"), g.pack(t))
			for _, i := range g.r.Perm(300)[:far] {
				g.bound += g.SlotBound(boundLane, 0)
				g.Exit(boundLane, g.here[i].at)
			}
			note(fmt.Sprint(far, " exits"), g.pack(t))
		}
	}
	for what, part := range closest {
		t.Logf("%s: %.2f of the bound", what, part)
		assert.Greater(t, part, 0.1, what)
	}
}
