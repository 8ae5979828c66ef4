package main

import (
	"math"

	"github.com/jakecoffman/cp"
)

// The hold: its walls, and how things move in the water.
const (
	wall      = 13.5 // from the middle to each side
	roof      = 13.0
	crateSide = 1.0
	crateMass = 1.0
	gravity   = -6.0
	// drag is what is left of a velocity after a second.
	drag     = 0.5
	friction = 0.6
	substeps = 4 // of a tick
)

// water is the hold with its crates, as rigid bodies.
type water struct {
	space  *cp.Space
	crates map[uint32]*crate // by the numbers of their entities
}

// crate is one of them, with what the session was told of it last.
type crate struct {
	body  *cp.Body
	shape *cp.Shape
	told  placed
}

// placed is where something is, in the steps of the contract.
type placed struct{ x, y, turn float64 }

// newWater returns a hold without crates whose floor is at a height.
func newWater(floor float64) *water {
	w := &water{space: cp.NewSpace(), crates: map[uint32]*crate{}}
	w.space.SetGravity(cp.Vector{Y: gravity})
	w.space.SetDamping(drag)
	for _, line := range [][2]cp.Vector{
		{{X: -wall, Y: floor}, {X: wall, Y: floor}},
		{{X: -wall, Y: roof}, {X: wall, Y: roof}},
		{{X: -wall, Y: floor}, {X: -wall, Y: roof}},
		{{X: wall, Y: floor}, {X: wall, Y: roof}},
	} {
		side := w.space.AddShape(cp.NewSegment(w.space.StaticBody, line[0], line[1], 0.1))
		side.SetFriction(friction)
		side.SetElasticity(0.1)
	}
	return w
}

// put puts a crate at a place, at rest; one that is there already is moved to it.
func (w *water) put(number uint32, at placed) {
	c := w.crates[number]
	if c == nil {
		body := w.space.AddBody(cp.NewBody(crateMass, cp.MomentForBox(crateMass, crateSide, crateSide)))
		shape := w.space.AddShape(cp.NewBox(body, crateSide, crateSide, 0))
		shape.SetFriction(friction)
		shape.SetElasticity(0.2)
		c = &crate{body: body, shape: shape}
		w.crates[number] = c
	}
	c.body.SetPosition(cp.Vector{X: at.x, Y: at.y})
	c.body.SetAngle(at.turn)
	c.body.SetVelocity(0, 0)
	c.body.SetAngularVelocity(0)
	c.told = at
}

// remove takes a crate out.
func (w *water) remove(number uint32) {
	if c := w.crates[number]; c != nil {
		w.space.RemoveShape(c.shape)
		w.space.RemoveBody(c.body)
		delete(w.crates, number)
	}
}

// shove pushes a crate.
func (w *water) shove(number uint32, x, y float64) {
	if c := w.crates[number]; c != nil {
		c.body.ApplyImpulseAtWorldPoint(cp.Vector{X: x, Y: y}, c.body.Position())
	}
}

// step moves all by so many seconds.
func (w *water) step(seconds float64) {
	for range substeps {
		w.space.Step(seconds / substeps)
	}
}

// moved calls f for each crate that is elsewhere than was told, with where it is.
func (w *water) moved(f func(number uint32, at placed)) {
	for number, c := range w.crates {
		at := placed{
			x:    step(c.body.Position().X, 0.01),
			y:    step(c.body.Position().Y, 0.01),
			turn: step(math.Remainder(c.body.Angle(), 2*math.Pi), 0.01),
		}
		if at != c.told {
			c.told = at
			f(number, at)
		}
	}
}

// step returns the nearest whole number of steps.
func step(v, size float64) float64 { return math.Round(v/size) * size }
