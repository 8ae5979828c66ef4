package session

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
)

// A timer that fails in every tick, after as many steps as a body may take, keeps nobody waiting: each tick's frames
// tell of that very tick, and what is asked is decided in it.
func TestAFaultMakesNoFrameLate(t *testing.T) {
	g := open(t, `contract kiln language 1
tick 20 per second
roles player
const many: list<int 0..9> max 10 = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9]
shared Oven {
  n:    int 0..1000 = 0
  heat: int 0..9 = 0
  on tick { n += 1 }
  every 50ms {
    for a in many { for b in many { for c in many { for d in many { for e in many { for f in many { for g in many { heat = a } } } } } } }
  }
}
entity Potter per player {
  made: int 0..1000 = 0
  request work() { made += 1 }
  request fail() { made = made / (made - made) }
}
`)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	for i := range 40 {
		g.s.Ask(ana, g.s.ReadRequest(wire.Ask{Seq: uint64(2*i + 1), Request: "Potter.work", Args: []json.RawMessage{}}))
		g.s.Ask(bo, g.s.ReadRequest(wire.Ask{Seq: uint64(2*i + 1), Request: "Potter.fail", Args: []json.RawMessage{}}))
		g.tick()
		require.Len(t, g.step.Faults, 1)
		assert.Contains(t, g.step.Faults[0].Reason, "too many steps")
		assert.Equal(t, "timer of Oven", g.step.Faults[0].In)
		require.Len(t, g.step.Decisions, 2, "both were decided at once")
		require.Len(t, g.step.Frames, 2)
		for _, who := range []int{ana, bo} {
			assert.Equal(t, int64(i+2), g.copies[who].Tick)
			assert.Equal(t, fmt.Sprint(i+2), g.sees(who, 0, "Oven", "n"))
			assert.Equal(t, fmt.Sprint(i+1), g.sees(who, ana, "Potter", "made"))
		}
	}
}
