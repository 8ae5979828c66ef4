package session

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

func tidewreck(t require.TestingT) *contract.Contract {
	raw, err := os.ReadFile("../../demo/tidewreck.kam")
	require.NoError(t, err)
	wreck, err := os.ReadFile("../../demo/wreck.json")
	require.NoError(t, err)
	c, problems := compile.LoadWith("tidewreck.kam", string(raw), contract.Files{"wreck.json": string(wreck)}.Open)
	require.NotNil(t, c, problems.Error())
	return c
}

// argument draws a value that a client may send: mostly one of the declared type.
func argument(t *rapid.T, typ *contract.Type, entities []uint32, here string) string {
	n := rapid.Int64Range(typ.Low, typ.High).Draw(t, "number")
	switch typ.Form {
	case contract.FormInt:
		return fmt.Sprint(n)
	case contract.FormEnum:
		return fmt.Sprintf("%q", rapid.SampledFrom(typ.Enum.Values).Draw(t, "value"))
	case contract.FormVec2:
		if here != "" && rapid.IntRange(0, 3).Draw(t, "here") > 0 {
			return here
		}
		return fmt.Sprintf("[%g,%g]", rapid.Float64Range(-40, 40).Draw(t, "x"), rapid.Float64Range(-40, 5).Draw(t, "y"))
	case contract.FormDirection:
		return fmt.Sprintf("%g", rapid.Float64Range(-3.1, 3.1).Draw(t, "angle"))
	case contract.FormEntity:
		return fmt.Sprint(rapid.SampledFrom(append(entities, 7)).Draw(t, "entity"))
	}
	return "null"
}

// The demo, played at random by clients that come and go, of all roles: at every tick each client's copy is what the
// rules let it have and no more, no handler faults, and the same inputs give the same frames again.
func TestEachCopyOfTidewreckIsWhatItMayBe(t *testing.T) {
	c := tidewreck(t)
	accepted := map[string]int{}
	kinds := map[string]bool{}
	rapid.Check(t, func(rt *rapid.T) {
		s, err := New(
			c,
			Options{
				Key:      [32]byte{9},
				Trace:    true,
				Settings: map[string]json.RawMessage{"divers": json.RawMessage("1")},
			},
		)
		require.NoError(rt, err)
		twin, err := New(
			c,
			Options{Key: [32]byte{
				9,
			}, Trace: true, Settings: map[string]json.RawMessage{"divers": json.RawMessage("1")}},
		)
		require.NoError(rt, err)
		g := &game{t: rt, s: s, outline: c.Outline()}
		g.reset()
		h := &game{t: rt, s: twin, outline: c.Outline()}
		h.reset()
		both := func(f func(g *game)) { f(g); f(h) }
		var clients []int
		names := 0
		join := func(role string) {
			names++
			both(func(g *game) { g.join(fmt.Sprint("Diver ", names), role) })
			clients = append(clients, names)
		}
		join("player")
		join("player")
		join("referee")
		both((*game).tick)
		both(func(g *game) {
			g.seq++
			g.s.Ask(3, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Dive.begin", Args: []json.RawMessage{}}))
		})
		for range rapid.IntRange(30, 120).Draw(rt, "rounds") {
			for range rapid.SampledFrom([]int{0, 2, 4, 6}).Draw(rt, "inputs") {
				who := rapid.SampledFrom(clients).Draw(rt, "who")
				var entities []uint32
				for _, x := range g.copies[who].Entities() {
					entities = append(entities, x.Number)
				}
				switch rapid.IntRange(0, 15).Draw(rt, "what") {
				case 0:
					if len(clients) < 6 {
						join(rapid.SampledFrom(c.Roles).Draw(rt, "role"))
					}
				case 1:
					if len(clients) > 3 {
						i := rapid.IntRange(0, len(clients)-1).Draw(rt, "leaver")
						n := clients[i]
						clients = append(append([]int{}, clients[:i]...), clients[i+1:]...)
						both(func(g *game) { g.s.Leave(n) })
					}
				case 2:
					lost := rapid.Bool().Draw(rt, "lost")
					both(func(g *game) {
						if lost {
							g.s.Lost(who)
						} else {
							g.s.Back(who, g.s.Now())
						}
					})
				case 3, 4, 5, 6, 7:
					value := fmt.Sprintf(
						"[%g,%g]", rapid.Float64Range(-40, 40).Draw(rt, "x"), rapid.Float64Range(-25, 5).Draw(rt, "y"),
					)
					// it swims toward the crane
					if me := g.copies[who].OwnedBy("Diver", who); me != nil &&
						rapid.IntRange(0, 4).Draw(rt, "near") > 0 {
						pos, _ := me.Value("pos")
						x := pos.Parts[0].Num
						y := pos.Parts[1].Num
						value = fmt.Sprintf(
							"[%g,%g]", float64(x+max(-35, min(35, 400-x)))/100, float64(y+max(-10, min(10, -y)))/100,
						)
					}
					both(func(g *game) {
						g.seq++
						g.s.Steer(who, g.s.ReadSteering("write", wire.Move{
							Seq:      g.seq,
							Property: "Diver.pos",
							Value:    json.RawMessage(value),
							Seen:     g.s.Now(),
						}))
					})
				case 8:
					press := uint64(rapid.IntRange(1, 3).Draw(rt, "press"))
					types := []wire.MessageType{wire.MessagePress, wire.MessageRelease}
					what := rapid.SampledFrom(types).Draw(rt, "how")
					both(func(
						g *game,
					) {
						g.s.Steer(who, g.s.ReadSteering(what, wire.Move{Property: "Diver.kick", Press: press}))
					})
				default:
					r := rapid.SampledFrom(c.Requests).Draw(rt, "request")
					if r.Name == "end_dive" && rapid.IntRange(0, 9).Draw(rt, "end") < 9 {
						continue
					}
					ask := wire.Ask{Request: r.FullName(), Args: []json.RawMessage{}}
					here := "" // where the client's own diver is, or another if it has none
					for _, x := range g.copies[who].Entities() {
						if pos, has := x.Value("pos"); has && x.Kind == "Diver" && (here == "" || x.Owner == who) {
							here = fmt.Sprintf("[%g,%g]", float64(pos.Parts[0].Num)/100, float64(pos.Parts[1].Num)/100)
						}
					}
					for _, p := range r.Params {
						ask.Args = append(ask.Args, json.RawMessage(argument(rt, p.Type, entities, here)))
					}
					var of []uint32
					for _, x := range g.copies[who].Entities() {
						if x.Kind == r.Kind.Name {
							of = append(of, x.Number)
						}
					}
					if len(of) > 0 && rapid.Bool().Draw(rt, "named") {
						ask.Entity = rapid.SampledFrom(of).Draw(rt, "of")
					}
					both(func(g *game) {
						g.seq++
						ask.Seq, ask.Seen = g.seq, g.s.Now()
						g.s.Ask(who, g.s.ReadRequest(ask))
					})
				}
			}
			for range rapid.SampledFrom([]int{1, 1, 1, 1, 1, 1, 1, 1, 1, 20}).Draw(rt, "pass") - 1 {
				both((*game).tick)
				require.Empty(rt, g.step.Faults)
			}
			both((*game).tick)
			require.Empty(rt, g.step.Faults)
			for _, d := range g.step.Decisions {
				require.NotEqual(rt, wire.Faulted, d.Outcome, "%s: %s", d.Ask.Request, d.Reason)
				if d.Outcome == wire.Accepted {
					accepted[d.Ask.Request]++
				}
			}
			for _, cut := range g.step.Cuts {
				for i, n := range clients {
					if n == cut.Client {
						clients = append(append([]int{}, clients[:i]...), clients[i+1:]...)
						break
					}
				}
			}
			for _, n := range clients {
				if g.s.seats[n].lost {
					continue // it gets everything anew when it is back
				}
				require.Equal(rt, g.shouldHold(n), g.holds(n), "client %d at tick %d", n, g.s.Now())
				for _, x := range g.copies[n].Entities() {
					kinds[x.Kind] = true
				}
			}
		}
		require.Equal(rt, g.bytes, h.bytes, "the same inputs give the same frames")
	})
	t.Logf("accepted: %v; seen: %v", accepted, kinds)
	require.Greater(t, len(accepted), 7)
	require.Greater(t, len(kinds), 6)
}

// shouldHold describes what a client should hold, by asking the rules; holds, what its copy does.
func (g *game) shouldHold(client int) string {
	lines := map[string]string{}
	for _, e := range g.s.world.Entities() {
		if !g.s.machine.Sees(e, client) {
			continue
		}
		var b strings.Builder
		fmt.Fprint(&b, e.Kind.Name, " of ", e.Owner)
		for _, p := range e.Kind.Properties {
			if g.s.machine.Gets(e, p, client) {
				fmt.Fprint(&b, " ", p.Name, "=", p.Type.Format(g.s.view.RefsFor(client, p.Type, g.s.world.Value(e, p))))
			}
		}
		lines[fmt.Sprintf("%010d", g.s.view.Number(e))] = b.String()
	}
	raw, _ := json.MarshalIndent(lines, "", " ")
	return string(raw)
}

func (g *game) holds(client int) string {
	held := g.copies[client]
	lines := map[string]string{}
	for _, x := range held.Entities() {
		var b strings.Builder
		fmt.Fprint(&b, x.Kind, " of ", x.Owner)
		for _, p := range g.outline.Kind(x.Kind).Properties {
			if v, has := x.Value(p.Name); has {
				v = p.Type.Refs(v, func(n int64) int64 {
					if held.Entity(uint32(n)) == nil { // what is not in the copy is nothing
						return 0
					}
					return n
				})
				fmt.Fprint(&b, " ", p.Name, "=", p.Type.Format(v))
			}
		}
		lines[fmt.Sprintf("%010d", x.Number)] = b.String()
	}
	raw, _ := json.MarshalIndent(lines, "", " ")
	return string(raw)
}
