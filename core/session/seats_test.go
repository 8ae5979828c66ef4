package session

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const seatsText = `contract sleds language 2
tick 20 per second
type Place = vec2 -100..100 step 0.01

entity Sled {
  pos:    Place = vec(0, 0) follows vel
  vel:    vec2 -9..9 step 0.01 = vec(1, 0)
  hull:   int 0..2 = 2 clamped
  driver: ref Diver = nothing
  on despawn { if driver != nothing { driver.thrown += 1 } }
}

entity Diver per player {
  sled:   ref Sled = nothing
  thrown: int 0..9999 = 0
  pos:    Place = vec(1, 1) set by owner pace distance(old, new) 8 per second burst 2 follows sled.pos by vec(0, 0.5)

  request board() check sled == nothing else deny "on one" {
    let s = first(s in Sled where s.driver == nothing else nothing)
    if s != nothing { sled = s; s.driver = self }
  }
  request leave() check sled != nothing else deny "on none" {
    sled.driver = nothing
    pos = sled.pos + vec(1, 0)
    sled = nothing
  }
  request steer(way: vec2 -1..1 step 0.1) check sled != nothing else deny "on none" { sled.vel = way * 4 }
  request ram() check sled != nothing else deny "on none" {
    sled.hull -= 1
    if sled.hull == 0 { despawn sled }
  }
}

entity Lamp {
  hung: ref Hook
  pos:  Place = vec(0, 0) follows hung.pos by vec(0, 1)
}

entity Hook {
  hung: ref Diver
  pos:  Place = vec(0, 0) follows hung.pos by vec(0, 1)
}

shared Dock {
  on start { for n in 1..3 { spawn Sled } }
  every 200ms while count(Sled) < 3 { spawn Sled { pos = vec(roll(-9..9), 0) } }
}
on join(c) {
  let lamp = spawn Lamp { hung = nothing }
  let hook = spawn Hook { hung = c.Diver }
  lamp.hung = hook
}
`

// sledders are three clients whose links take some ticks each way, and who do what comes to mind.
type sledders struct {
	*game
	random  *rand.Rand
	refused map[string]int
}

// act sends what each client does in a tick, as one that has last seen what was so some ticks ago.
func (g *sledders) act(delay int64) {
	for n := 1; n <= len(g.copies); n++ {
		g.seq++
		seen := max(g.s.Now()-delay, 0)
		if g.random.IntN(3) == 0 {
			at := fmt.Sprintf("[%d,%d]", g.random.IntN(5), g.random.IntN(3))
			g.s.Steer(n, g.s.ReadSteering("write", wire.Move{
				Seq:      g.seq,
				Property: "Diver.pos",
				Value:    json.RawMessage(at),
				Seen:     seen,
			}))
			continue
		}
		ask := wire.Ask{Seq: g.seq, Args: []json.RawMessage{}, Seen: seen}
		switch g.random.IntN(10) {
		case 0, 1, 2:
			ask.Request = "Diver.board"
		case 3:
			ask.Request = "Diver.leave"
		case 4, 5:
			ask.Request = "Diver.steer"
			ask.Args = append(ask.Args, fmt.Appendf(nil, "[%d,%d]", g.random.IntN(3)-1, g.random.IntN(3)-1))
		default:
			ask.Request = "Diver.ram"
		}
		g.s.Ask(n, g.s.ReadRequest(ask))
	}
	g.tick()
	for _, d := range g.decided {
		g.refused[d.Reason]++
	}
	clear(g.decided)
}

// Whoever drives is where the sled is, on every copy in every tick; when the sled is destroyed its driver is out in the
// same tick, and what hangs on the driver hangs there still.
func TestADriverIsWithItsSledUntilItIsGone(t *testing.T) {
	g := &sledders{game: open(t, seatsText), random: rand.New(rand.NewPCG(1, 2)), refused: map[string]int{}}
	for _, name := range []string{"Ana", "Bo", "Cem"} {
		g.join(name, "")
	}
	thrown := 0
	for thrown < 1000 {
		g.act(2)
		thrown = 0
		for _, x := range g.s.State().Spawned {
			if x.Kind == "Diver" {
				thrown += int(valueOf(x, "thrown").Num)
			}
		}
		for n, held := range g.copies {
			require.Empty(t, g.s.Compare(n, held), "client %d at tick %d", n, g.step.Tick)
			g.checkSeats(held)
		}
		require.Less(t, g.step.Tick, int64(50_000), "only %d drivers were thrown: %v", thrown, g.refused)
	}
	t.Logf("%d drivers lost their sled in %d ticks; refused: %v", thrown, g.step.Tick, g.refused)
	assert.Greater(t, g.refused["carried"], 100)
	assert.Greater(t, g.refused["older than the server's last write"], 100)
}

// checkSeats holds what is carried on a copy against what carries it.
func (g *sledders) checkSeats(held *replicate.Copy) {
	at := map[uint32][]int64{}
	for _, e := range held.Entities() {
		v, has := e.Value("pos")
		if !has {
			continue
		}
		at[e.Number] = []int64{v.Parts[0].Num, v.Parts[1].Num}
	}
	carried := 0
	for _, e := range held.Entities() {
		ref, by := "sled", int64(50)
		if e.Kind != "Diver" {
			ref, by = "hung", 100
		}
		v, has := e.Value(ref)
		carrier := at[uint32(v.Num)]
		if !has || carrier == nil {
			continue
		}
		require.Equal(g.t, []int64{carrier[0], carrier[1] + by}, at[e.Number], "%s %d at tick %d", e.Kind, e.Number, held.Tick)
		carried++
	}
	require.GreaterOrEqual(g.t, carried, 6, "the lamps hang")
}

// What hangs on a ring stays where it is: no tick moves it along.
func TestARingOfCarriersStandsStill(t *testing.T) {
	g := open(t, `contract ring language 2
tick 20 per second
entity Lamp { hung: ref Lamp = nothing; pos: vec2 -9..9 step 0.01 = vec(1, 1) follows hung.pos by vec(0, 1) }
shared Reef {
  on start {
    let a = spawn Lamp
    let b = spawn Lamp { hung = a }
    let c = spawn Lamp { hung = b }
    a.hung = b
  }
}
`)
	g.join("Ana", "")
	for range 5 {
		g.tick()
	}
	for _, x := range g.s.State().Spawned {
		if x.Kind == "Lamp" {
			v := valueOf(x, "pos")
			assert.Equal(t, []int64{100, 100}, []int64{v.Parts[0].Num, v.Parts[1].Num})
		}
	}
}

// What was written before getting in or out is void after it, also where that has moved nothing.
func TestGettingInMakesWritesUnderWayVoid(t *testing.T) {
	g := open(t, `contract seat language 2
tick 20 per second
type Place = vec2 -9..9 step 0.01
entity Chair { pos: Place = vec(0, 0) }
entity Diver per player {
  seat: ref Chair = nothing
  pos:  Place = vec(0, 0) set by owner pace distance(old, new) 8 per second burst 2 follows seat.pos
  request sit() { seat = first(c in Chair) }
  request rise() { seat = nothing }
}
shared Reef { on start { spawn Chair } }
`)
	ana := g.join("Ana", "")
	g.tick()
	before := g.s.Now()
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.sit").Outcome)
	write := func(seen int64) wire.Decision {
		g.seq++
		delete(g.decided, ana)
		g.s.Steer(ana, g.s.ReadSteering("write", wire.Move{
			Seq:      g.seq,
			Property: "Diver.pos",
			Value:    json.RawMessage("[1,0]"),
			Seen:     seen,
		}))
		g.tick()
		return g.decided[ana]
	}
	assert.Equal(t, "carried", write(g.s.Now()).Reason)
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.rise").Outcome)
	assert.Equal(t, "older than the server's last write", write(before).Reason)
	assert.Empty(t, write(g.s.Now()).Reason)
	assert.Equal(t, "(1, 0)", g.sees(ana, ana, "Diver", "pos"))
}
