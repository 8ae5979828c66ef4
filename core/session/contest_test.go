package session

import (
	"encoding/binary"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kamerad.example/core/compile"
	"kamerad.example/core/link"
	"kamerad.example/core/wire"
)

const contestText = `contract contest language 1
shared Winch {
  holder: int 0..99
  turned: int 0..9999
  request grab() from everyone
    check holder == 0 or holder == caller.number else deny "someone has it"
  { holder = caller.number }
  request let_go() from everyone
    check holder == caller.number else deny "not the holder"
  { holder = 0 }
  request turn() from everyone
    limit 3 per second
    check holder == caller.number else deny "not the holder"
  { turned += 1 }
}
entity Diver per player { n: int 0..9 }
`

// Whoever grabs at once, in whatever order it arrives: one gets it, the others are told, and all copies agree on who.
func TestOfThoseWhoGrabAtOnceOneGetsIt(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g := open(rt, contestText)
		var clients []int
		for i := range rapid.IntRange(2, 6).Draw(rt, "clients") {
			clients = append(clients, g.join(fmt.Sprint("c", i), ""))
		}
		g.tick()
		for range 20 {
			order := rapid.Permutation(clients).Draw(rt, "order")
			seqs := map[int]uint64{}
			for _, n := range order {
				g.seq++
				seqs[n] = g.seq
				g.s.Ask(n, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Winch.grab"}))
			}
			g.tick()
			for i, n := range order {
				d := g.decided[n]
				require.Equal(rt, seqs[n], d.Seq, "each has its answer in the same tick")
				require.Equal(rt, i == 0, d.Outcome == wire.Accepted)
				if i > 0 {
					require.Equal(rt, "someone has it", d.Reason)
				}
				require.Equal(rt, fmt.Sprint(order[0]), g.sees(n, 0, "Winch", "holder"))
			}
			require.Equal(rt, wire.Denied, g.ask(order[1], 0, "Winch.let_go").Outcome)
			require.Equal(rt, wire.Accepted, g.ask(order[0], 0, "Winch.let_go").Outcome)
		}
	})
}

// However requests are spread, no span of the limit's length holds more than the limit; and who keeps to it loses none.
func TestALimitHoldsInEverySpan(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g := open(rt, contestText)
		n := g.join("a", "")
		other := g.join("b", "")
		g.tick()
		g.ask(n, 0, "Winch.grab")
		var taken []int64
		honest := rapid.Bool().Draw(rt, "honest")
		last := int64(-100)
		for range rapid.IntRange(50, 300).Draw(rt, "ticks") {
			count := rapid.IntRange(0, 4).Draw(rt, "requests")
			if honest { // three a second, evenly: never more than one in seven ticks
				count = 0
				if g.s.Now()-last >= 7 {
					count = 1
					last = g.s.Now()
				}
			}
			for range count {
				g.seq++
				g.s.Ask(n, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Winch.turn"}))
			}
			g.seq++
			g.s.Ask(other, g.s.ReadRequest(wire.Ask{Seq: g.seq, Request: "Winch.turn"}))
			g.tick()
			for _, d := range g.step.Decisions {
				if d.Client.Number != n {
					continue // each caller has a limit of its own
				}
				require.Contains(rt, []wire.Outcome{wire.Accepted, wire.Dropped}, d.Outcome)
				if honest {
					require.Equal(rt, wire.Accepted, d.Outcome)
				}
				if d.Outcome == wire.Accepted {
					taken = append(taken, d.Tick)
				}
			}
		}
		for i, tick := range taken {
			end := slices.IndexFunc(taken[i:], func(later int64) bool { return later >= tick+20 })
			if end < 0 {
				end = len(taken) - i
			}
			require.LessOrEqual(rt, end, 3, "within a second from tick %d", tick)
		}
		require.Equal(rt, fmt.Sprint(len(taken)), g.sees(n, 0, "Winch", "turned"))
	})
}

// A name that has left is free at once, and what the new one gets is a new seat with nothing of the old.
func TestASeatLeavesNothingToTheNext(t *testing.T) {
	g := open(t, contestText)
	first := g.join("Ana", "")
	watcher := g.join("Bo", "")
	g.tick()
	for range 3 {
		g.ask(first, 0, "Winch.grab")
		g.ask(first, 0, "Winch.turn")
	}
	require.Equal(t, wire.Dropped, g.ask(first, 0, "Winch.turn").Outcome)
	entity := g.copies[first].OwnedBy("Diver", first).Number
	g.s.Leave(first)
	g.s.Leave(first)
	second := g.join("Ana", "")
	require.NotEqual(t, first, second, "a number is never used twice")
	g.tick()
	require.NotEqual(t, entity, g.copies[second].OwnedBy("Diver", second).Number)
	require.Nil(t, g.copies[watcher].Entity(entity))
	g.seq = 0 // the first number is new here
	require.Equal(
		t, "not the holder", g.ask(second, 0, "Winch.turn").Reason, "neither its sequence, nor its limit, nor its hold",
	)
}

// A hundred requests a second where five are allowed: no more than five a second take effect, for a minute. A client
// that keeps to the limit loses none of them, though its link jitters.
func TestALimitOverAMinute(t *testing.T) {
	c, problems := compile.Load(
		"bell.kam",
		"contract bell language 1\nshared Bell { rung: int 0..9999 = 0\n"+
			"  request ring() from everyone limit 5 per second { rung += 1 } }\n",
	)
	require.NotNil(t, c, problems)
	for seed := range uint64(20) {
		s, err := New(c, Options{})
		require.NoError(t, err)
		flood, err := s.Join("Eve", "")
		require.NoError(t, err)
		honest, err := s.Join("Ana", "")
		require.NoError(t, err)
		up, err := link.New(seed, link.Conditions{Delay: 80 * time.Millisecond, Jitter: 120 * time.Millisecond})
		require.NoError(t, err)
		taken := map[int]int{}
		outcomes := map[wire.Outcome]int{}
		ask := func(client int, seq uint64) { s.Ask(client, s.ReadRequest(wire.Ask{Seq: seq, Request: "Bell.ring"})) }
		tick := func(now time.Duration) {
			for _, raw := range up.Receive(now) {
				ask(honest, binary.BigEndian.Uint64(raw))
			}
			for _, d := range s.Tick().Decisions {
				if d.Client.Number == honest {
					outcomes[d.Outcome]++
				}
				if d.Outcome == wire.Accepted {
					taken[d.Client.Number]++
				}
			}
			s.Confirm(flood, s.Now())
			s.Confirm(honest, s.Now())
		}
		for i := range 1200 { // a minute, at 20 ticks a second
			now := time.Duration(i) * 50 * time.Millisecond
			for j := range 5 {
				ask(flood, uint64(i*5+j+1))
			}
			if i%4 == 0 {
				up.Send(now, binary.BigEndian.AppendUint64(nil, uint64(i/4+1)))
			}
			tick(now)
		}
		assert.LessOrEqual(t, taken[flood], 301)
		assert.GreaterOrEqual(t, taken[flood], 295)
		for i := range 40 { // what is on its way
			tick(time.Minute + time.Duration(i)*50*time.Millisecond)
		}
		assert.GreaterOrEqual(t, taken[honest], 299, "seed %d: %v", seed, outcomes)
	}
}
