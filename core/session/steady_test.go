package session

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// Deciding requests takes no memory once a session has warmed up, whether they are accepted, denied or faulted.
func TestDecidingTakesNoMemory(t *testing.T) {
	c, problems := compile.Load("bench.kam", benchText)
	require.NotNil(t, c, problems.Error())
	s, err := New(c, Options{})
	require.NoError(t, err)
	n, err := s.Join("Ana", "")
	require.NoError(t, err)
	s.Tick()
	seat := s.seats[n]
	step := &Step{}
	near := s.ReadRequest(wire.Ask{Request: "Diver.launch", Args: raws("5", "6")})
	far := s.ReadRequest(wire.Ask{Request: "Diver.launch", Args: raws("500", "6")})
	require.Empty(t, near.problem+far.problem)
	seq := uint64(0)
	allocations := testing.AllocsPerRun(5000, func() {
		for _, call := range []*Request{&near, &far} {
			seq++
			call.ask.Seq = seq
			seat.decidedNow = 0
			if seq%100 == 0 {
				s.tick++
				seat.queuedDecisions = seat.queuedDecisions[:0]
				step.Decisions = step.Decisions[:0]
			}
			s.decide(seat, call, step)
		}
	})
	require.Zero(t, allocations)
}

func raws(args ...string) (out []json.RawMessage) {
	for _, a := range args {
		out = append(out, json.RawMessage(a))
	}
	return out
}

// With timers, handlers and actions at work, clients coming and going: each copy is at every tick what its client may
// see, and the same inputs give the same frames again, byte for byte.
func TestCopiesConvergeAndRunsRepeat(t *testing.T) {
	requests := []string{"Diver.hurt", "Diver.set_kick", "Diver.use", "Ring.spin"}
	args := map[string][]string{
		"Diver.hurt":     {"0", "30", "200"},
		"Diver.set_kick": {"true", "false"},
		"Diver.use":      {`"flare"`, `"patch"`},
		"Ring.spin":      {"2", "45", "60"},
	}
	rapid.Check(t, func(rt *rapid.T) {
		type action struct{ what, who, request, arg int }
		var script [][]action
		for range rapid.IntRange(5, 60).Draw(rt, "ticks") {
			var tick []action
			for range rapid.IntRange(0, 3).Draw(rt, "inputs") {
				tick = append(
					tick,
					action{
						rapid.IntRange(0, 9).Draw(rt, "what"), rapid.IntRange(0, 99).Draw(rt, "who"),
						rapid.IntRange(0, 3).Draw(rt, "request"), rapid.IntRange(0, 9).Draw(rt, "arg"),
					},
				)
			}
			script = append(script, tick)
		}
		play := func() (frames string) {
			g := open(rt, partsText)
			for i, tick := range script {
				for _, a := range tick {
					clients := g.s.Clients()
					switch {
					case len(clients) == 0 || a.what == 0 && len(clients) < 5:
						g.join(fmt.Sprint("c", g.s.lastClient), []string{"player", "referee"}[a.who%2])
					case a.what == 1:
						g.s.Leave(clients[a.who%len(clients)].Number)
					default:
						g.seq++
						name := requests[a.request]
						choice := args[name]
						g.s.Ask(
							clients[a.who%len(clients)].Number,
							g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: name, Args: raws(choice[a.arg%len(choice)])}),
						)
					}
				}
				g.tick()
				truth := &replicate.Copy{}
				truth.Apply(&wire.Frame{Blocks: []*wire.Block{g.s.ServerState()}})
				for _, c := range g.s.Clients() {
					compare(rt, g, truth, c, i)
				}
			}
			for _, n := range []int{1, 2, 3, 4, 5} {
				frames += fmt.Sprint(g.bytes[n])
			}
			return frames
		}
		first := play()
		require.Equal(rt, first, play())
	})
}
