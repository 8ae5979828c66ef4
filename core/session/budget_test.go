package session

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
)

const heavyText = `contract heavy language 1
seats 40
roles player
entity Rock { n: int 0..9 = 0 }
entity Diver per player {
  n: int 0..99999 = 0
  sum: int 0..999999 = 0 to owner
  pos: vec2 -99..99 step 0.1 = vec(0, 0) set by owner pace length(new - old) 99 per second
  request tap(k: int 0..99999) { n = k }
  request grind(k: int 0..99999) { n = k; for a in Rock { for b in Rock { sum = (sum + 1) % 900000 } } }
}
shared Sea { on start { for i in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for j in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15] { spawn Rock } } } }
`

// One client that asks for all that a tick can do, over and over, delays the others by a tick or two, and no tick takes
// more than its budget and one request.
func TestWhoAsksForMuchWaitsForIt(t *testing.T) {
	g := open(t, heavyText)
	g.confirms = true
	eve := g.join("Eve", "")
	var honest []int
	for i := range 20 {
		honest = append(honest, g.join(fmt.Sprint("Diver ", i), ""))
	}
	g.tick()
	seq := uint64(0)
	most := int64(0)
	worst := int64(0)
	waits := map[int]int64{} // by honest client: since when it waits
	dropped := 0
	for tick := range 70 {
		for range 20 {
			seq++
			g.s.Ask(
				eve, g.s.ReadRequest(wire.Ask{Seq: seq, Request: "Diver.grind", Args: raws(fmt.Sprint(seq % 99999))}),
			)
		}
		for _, n := range honest {
			if waits[n] == 0 {
				waits[n] = g.s.Now() + 1
				g.s.Ask(n, g.s.ReadRequest(wire.Ask{Seq: uint64(tick + 1), Request: "Diver.tap", Args: raws("5")}))
			}
		}
		before := g.s.machine.Used()
		g.tick()
		most = max(most, g.s.machine.Used()-before)
		for _, n := range honest {
			if d, ok := g.decided[n]; ok {
				require.Equal(t, wire.Accepted, d.Outcome, d.Reason)
				worst = max(worst, g.s.Now()-waits[n])
				waits[n] = 0
				delete(g.decided, n)
			}
		}
		for _, d := range g.step.Decisions {
			if d.Client.Number == eve && d.Outcome == wire.Dropped {
				dropped++
			}
		}
	}
	assert.LessOrEqual(t, worst, int64(2), "ticks that an honest client waited")
	assert.Less(t, most, int64(2_000_000+2_000_000), "steps of a tick")
	assert.Greater(t, dropped, 30, "what waits for too long is dropped")
	assert.Less(t, g.s.Queued(), 200)
}

// What waits is carried out in its client's own order, a repeat of it counts once, and all of it is the same when the
// session is run again.
func TestWhatWaitsKeepsItsOrder(t *testing.T) {
	var first []string
	for run := range 2 {
		g := open(t, heavyText)
		g.confirms = true
		clients := []int{g.join("Ana", ""), g.join("Bo", ""), g.join("Cleo", "")}
		g.tick()
		order := map[int][]uint64{}
		seq := uint64(0)
		for i := range 60 {
			for _, n := range clients {
				for j := range 3 {
					seq++
					request := []string{"Diver.grind", "Diver.tap"}[(i+j)%2]
					call := g.s.ReadRequest(wire.Ask{Seq: seq, Request: request, Args: raws(fmt.Sprint(seq))})
					if i < 6 {
						g.s.Ask(n, call)
						g.s.Ask(n, call)
					}
				}
			}
			g.tick()
			for _, d := range g.step.Decisions {
				order[d.Client.Number] = append(order[d.Client.Number], d.Ask.Seq)
			}
		}
		for _, n := range clients {
			require.Len(t, order[n], 18, "each is decided once")
			require.IsIncreasing(t, order[n])
		}
		assert.Zero(t, g.s.Queued())
		if run == 0 {
			first = g.bytes[clients[0]]
		} else {
			assert.Equal(t, first, g.bytes[clients[0]])
		}
	}
}

// A session whose timers alone take more than a tick may is closed with that, and its tick ends.
func TestASessionThatRunsAwayIsClosed(t *testing.T) {
	g := open(t, strings.Replace(heavyText, "entity Rock { n: int 0..9 = 0 }", `entity Rock { n: int 0..9 = 0
  every 50ms { for a in Rock { for b in Rock { n = (n + 1) % 9 } } } }`, 1))
	before := g.s.machine.Used()
	g.tick()
	assert.Contains(t, g.step.Closed, "steps in one tick")
	assert.Contains(t, g.step.Closed, "a timer of Rock")
	assert.Less(t, g.s.machine.Used()-before, int64(23_000_000))
	assert.Equal(t, "a timer of Rock", g.step.Heaviest.Of)
}

// Joins wait as well, and what a client says before its own is carried out waits behind it.
func TestAJoinThatWaitsComesBeforeItsRequests(t *testing.T) {
	g := open(
		t,
		strings.Replace(
			heavyText, "shared Sea",
			"on join(c) { for a in Rock { for b in Rock { c.Diver.sum = (c.Diver.sum + 1) % 900000 } } }\nshared Sea",
			1,
		),
	)
	g.confirms = true
	var clients []int
	for i := range 30 {
		n := g.join(fmt.Sprint("Diver ", i), "")
		clients = append(clients, n)
		g.s.Ask(n, g.s.ReadRequest(wire.Ask{Seq: 1, Request: "Diver.tap", Args: []json.RawMessage{[]byte("7")}}))
	}
	g.s.Lost(clients[29])
	ticks := 0
	for ; len(g.decided) < 29 && ticks < 60; ticks++ {
		g.tick()
	}
	assert.Len(t, g.decided, 29)
	for _, n := range clients[:29] {
		assert.Equal(t, wire.Accepted, g.decided[n].Outcome, g.decided[n].Reason)
	}
	assert.Greater(t, ticks, 2)
}
