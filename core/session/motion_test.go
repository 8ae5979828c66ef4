package session

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

const moving = `contract moving language 1
roles player, spectator
audience close_by(e: Eel) = distance(viewer.Diver.pos, e.pos) <= 40
type Place = vec2 -100..100 step 0.01

entity Diver per player {
  pos: Place = vec(0, 0)
  request launch(x: int -90..90, y: int -90..90) limit 20 per second check count(Flare) < 9 else deny "enough" {
    spawn Flare { pos = pos; vel = vec(x, y) }
  }
  request turn(x: int -90..90) { for f in Flare { f.vel = vec(x, 1) } }
  request push(x: int -90..90) { for f in Flare { f.pos = vec(x, 0) } }
  request stop() { for f in Flare { f.vel = vec(0, 0) } }
  request startle(x: int -90..90) limit 20 per second check count(Eel) < 5 else deny "enough" {
    spawn Eel { pos = vec(x, 0); vel = vec(-x, 0) }
  }
  request drop() limit 20 per second check count(Relic) < 4 else deny "enough" { spawn Relic { pos = vec(9, 9) } }
  request lift() limit 20 per second check count(Relic) > 0 else deny "none" { for r in Relic { r.carrier = self } }
  request sink() limit 20 per second check count(Relic) > 0 else deny "none" { for r in Relic { r.carrier = nothing } }
  request walk(x: int -90..90) { pos = vec(x, 2) }
  request pin() limit 20 per second check count(Flare) > 0 else deny "none" {
    for r in Relic { r.shot = first(f in Flare) }
  }
}
entity Flare {
  pos:  Place follows vel
  vel:  vec2 -90..90 step 0.01
  deep: real -50..50 step 0.5 = 0 follows sinks
  sinks: real -5..5 step 0.1 = 1
  on tick { if pos.x > 60 { vel = vec(-30, 0) } }
  after 8s { despawn self }
}
entity Relic {
  carrier: ref Diver = nothing
  shot:    ref Flare = nothing
  pos:     Place follows carrier.pos by vec(0, -1)
  mark:    Place = vec(1, 1) follows shot.pos
  hid:     Place = vec(1, 1) to close_relic(self) follows shot.pos
}
audience close_relic(r: Relic) = distance(viewer.Diver.pos, r.pos) <= 40
entity Eel to close_by(self) or spectator {
  pos: Place follows vel
  vel: vec2 -90..90 step 0.01
  after 4s { despawn self }
}
`

func loadMoving(t require.TestingT) *contract.Contract {
	c, problems := compile.Load("moving.kam", moving)
	require.NotNil(t, c, problems.Error())
	return c
}

// A shot costs nothing while it flies, and every copy, a late joiner's too, shows it where the server has it at every
// tick.
func TestAShotInFlightCostsNothing(t *testing.T) {
	c := loadMoving(t)
	s, err := New(c, Options{Key: [32]byte{1}, Trace: true})
	require.NoError(t, err)
	copies := map[int]*replicate.Copy{}
	readers := map[int]*wire.Reader{}
	join := func(name, role string) int {
		n, err := s.Join(name, role)
		require.NoError(t, err)
		copies[n], readers[n] = &replicate.Copy{}, s.Reader(n)
		return n
	}
	flares := 0
	longest := 0
	tick := func() (values int) {
		step := s.Tick()
		longest = 0
		for _, cf := range step.Frames {
			longest = max(longest, len(cf.Bytes))
			f, err := readers[cf.Client].Read(cf.Bytes)
			require.NoError(t, err)
			copies[cf.Client].Apply(f)
			for _, b := range f.Blocks {
				values += len(b.Spawned) + len(b.Values)
			}
		}
		for n, held := range copies {
			held.Advance(step.Tick)
			for _, e := range s.world.OfKind(c.Kinds[1].Index) {
				flares++
				thing := held.Entity(s.view.Number(e))
				require.NotNil(t, thing, "client %d at tick %d", n, step.Tick)
				for _, name := range []string{"pos", "deep"} {
					p := e.Kind.Property(name)
					got, _ := thing.Value(name)
					require.Equal(
						t, p.Type.Format(s.world.Value(e, p)), p.Type.Format(got), "client %d at tick %d", n, step.Tick,
					)
				}
			}
		}
		return values
	}
	ana := join("Ana", "player")
	tick()
	s.Ask(ana, s.ReadRequest(wire.Ask{Seq: 1, Request: "Diver.launch", Args: raws("7", "3")}))
	require.NotZero(t, tick(), "it is sent once")
	sent := 0
	for i := range 150 {
		n := tick()
		if i == 40 || i == 90 {
			join(fmt.Sprint("late ", i), "spectator")
			tick() // what a joiner gets is no cost of the flight
			continue
		}
		sent += n
		require.LessOrEqual(
			t, longest, 7,
			"a frame that only says that the server is there, once a second: flags, tick, digest, no block",
		)
	}
	assert.Zero(t, sent, "nothing is sent while the rule holds")
	assert.Greater(t, flares, 300)
	for range 20 {
		tick()
	}
	assert.Empty(t, s.world.OfKind(c.Kinds[1].Index), "it has ended by itself")
}

// A rate that an `on tick` sets and a request replaces before anything moved by it: what was told of it first does not
// stay.
func TestARateThatIsReplacedAtOnce(t *testing.T) {
	c := loadMoving(t)
	s, err := New(c, Options{Key: [32]byte{1}})
	require.NoError(t, err)
	n, err := s.Join("Ana", "player")
	require.NoError(t, err)
	reader := s.Reader(n)
	held := &replicate.Copy{}
	tick := func() {
		for _, cf := range s.Tick().Frames {
			f, err := reader.Read(cf.Bytes)
			require.NoError(t, err)
			held.Apply(f)
		}
		held.Advance(s.Now())
	}
	tick()
	s.Ask(n, s.ReadRequest(wire.Ask{Seq: 1, Request: "Diver.launch", Args: raws("60", "1")}))
	tick()
	flare := s.world.OfKind(c.Kinds[1].Index)[0]
	pos := flare.Kind.Property("pos")
	vel := flare.Kind.Property("vel")
	for s.world.Value(flare, vel).Parts[0].Num > 0 { // until the flare itself has turned
		require.Less(t, s.Now(), int64(60))
		tick()
	}
	s.Ask(n, s.ReadRequest(wire.Ask{Seq: 2, Request: "Diver.turn", Args: raws("-90")}))
	for range 5 {
		tick()
		got, _ := held.Entity(s.view.Number(flare)).Value("pos")
		require.Equal(t, pos.Type.Format(s.world.Value(flare, pos)), pos.Type.Format(got), "at tick %d", s.Now())
	}
}

// there reads a value as a client does: a ref to what is not in its copy is nothing.
func there(c *replicate.Copy, t *contract.Type, v contract.Value) contract.Value {
	return t.Refs(v, func(n int64) int64 {
		if c.Entity(uint32(n)) == nil {
			return 0
		}
		return n
	})
}

// Whatever is launched, turned, carried, dropped and startled, and whoever comes near, joins and leaves: every copy is
// where the server is, bit for bit, at every tick.
func TestMotionIsTheSameOnEveryCopy(t *testing.T) {
	c := loadMoving(t)
	requests := []string{"launch", "turn", "push", "stop", "startle", "drop", "lift", "sink", "walk", "walk", "pin"}
	held := 0
	attached := 0
	rapid.Check(t, func(rt *rapid.T) {
		s, err := New(c, Options{Key: [32]byte{2}, Trace: true})
		require.NoError(rt, err)
		copies := map[int]*replicate.Copy{}
		readers := map[int]*wire.Reader{}
		truth := &replicate.Copy{}
		seq := uint64(0)
		joined := 0
		for range rapid.IntRange(20, 80).Draw(rt, "ticks") {
			if joined < 4 && rapid.IntRange(0, 9).Draw(rt, "join") < 2 || joined == 0 {
				n, err := s.Join(fmt.Sprint("c", joined), c.Roles[joined%2])
				require.NoError(rt, err)
				joined++
				copies[n], readers[n] = &replicate.Copy{}, s.Reader(n)
			}
			if joined > 2 && rapid.IntRange(0, 30).Draw(rt, "leave") == 0 {
				s.Leave(3) // what it carries stays where it is
				delete(copies, 3)
			}
			if rapid.IntRange(0, 2).Draw(rt, "ask") == 0 {
				seq++
				name := rapid.SampledFrom(requests).Draw(rt, "request")
				var args []json.RawMessage
				for range s.requests["Diver."+name].Params {
					args = append(args, json.RawMessage(fmt.Sprint(rapid.IntRange(-90, 90).Draw(rt, "argument"))))
				}
				s.Ask(
					rapid.SampledFrom([]int{1, 3}).Draw(rt, "who"),
					s.ReadRequest(wire.Ask{Seq: seq, Request: "Diver." + name, Args: args}),
				)
			}
			step := s.Tick()
			for _, cf := range step.Frames {
				f, err := readers[cf.Client].Read(cf.Bytes)
				require.NoError(rt, err)
				if copies[cf.Client] != nil {
					copies[cf.Client].Apply(f)
				}
			}
			truth.Apply(&wire.Frame{Tick: step.Tick, Blocks: []*wire.Block{step.ServerState}})
			for _, held := range copies {
				held.Advance(step.Tick)
			}
			for _, e := range s.world.Entities() {
				for n, copy := range copies {
					thing := copy.Entity(s.view.Number(e))
					require.Equal(rt, s.machine.Sees(e, n), thing != nil)
					for _, p := range e.Kind.Properties {
						if thing == nil || !s.machine.Gets(e, p, n) {
							continue
						}
						f, _ := thing.Field(p.Name)
						require.Equal(
							rt, p.Type.Format(s.view.RefsFor(n, p.Type, s.world.Value(e, p))),
							p.Type.Format(there(copy, p.Type, f.Value)), "%s.%s of client %d at tick %d", e.Kind.Name,
							p.Name, n, step.Tick,
						)
						held++
						if f.Attached != nil {
							attached++
						}
					}
				}
				for _, p := range e.Kind.Properties {
					got, _ := truth.Entity(s.view.Number(e)).Value(p.Name)
					require.Equal(
						rt, p.Type.Format(s.serverState.PublicRefs(p.Type, s.world.Value(e, p))),
						p.Type.Format(there(truth, p.Type, got)), "%s.%s for those who run the session at tick %d",
						e.Kind.Name, p.Name, step.Tick,
					)
				}
			}
		}
	})
	t.Logf("%d values held, %d of them attached", held, attached)
	assert.NotZero(t, attached)
}
