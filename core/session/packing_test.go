package session

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

const wrappingText = `contract winch language 2
tick 20 per second
entity Winch per player {
  turn: real 0..359.5 step 0.5 wrapping = 350 follows pull
  pull: real -9000..9000 step 1 = 0
  hand: int -2..2 wrapping = 0
  odd:  int -2..2 wrapping := hand * 7
  request spin(by: int -1000..1000) { hand += by }
  request put(at: int -1000..1000) { hand = at }
  request raise(by: int -1000..1000) { let w = spawn Hook { hand = by }; w.turn += by }
}
entity Hook { hand: int 0..9 wrapping = 0; turn: real -1..1 step 0.1 wrapping = 0 }
`

// What is written out of a range that wraps comes around, however it is written, and what follows a rate does.
func TestWhatWrapsGoesAround(t *testing.T) {
	g := open(t, wrappingText)
	ana := g.join("Ana", "")
	bo := g.join("Bo", "")
	g.tick()
	hand := int64(0)
	for _, by := range []string{"1", "1", "1", "-1", "7", "-13", "1000", "-1000"} {
		g.ask(ana, 0, "Winch.spin", by)
		var n int64
		for _, d := range []byte(by) {
			if d != '-' {
				n = n*10 + int64(d-'0')
			}
		}
		if by[0] == '-' {
			n = -n
		}
		hand = ((hand+n+2)%5+5)%5 - 2
		for _, who := range []int{ana, bo} {
			v, _ := g.copies[who].OwnedBy("Winch", ana).Value("hand")
			require.Equal(t, hand, v.Num, "after %s", by)
			v, _ = g.copies[who].OwnedBy("Winch", ana).Value("odd")
			require.Equal(t, ((hand*7+2)%5+5)%5-2, v.Num, "what is computed wraps as well")
		}
	}
	g.ask(ana, 0, "Winch.put", "-8")
	assert.Equal(t, "2", g.sees(bo, ana, "Winch", "hand"))
	g.ask(ana, 0, "Winch.raise", "-23")
	hook := g.copies[bo].OwnedBy("Hook", 0)
	v, _ := hook.Value("hand")
	assert.EqualValues(t, 7, v.Num)
	v, _ = hook.Value("turn")
	assert.EqualValues(t, -230+11*21, v.Num, "steps of 0.1, of which there are 21")

	// 20 degrees a tick, from 350 on.
	winch := entityOf(t, g.s, "Winch", ana)
	require.NoError(t, g.s.Set(winch.Entity, "pull", contract.Value{Num: 400}))
	start := g.s.world.Value(g.s.world.OfClient(0, ana), g.s.contract.Kinds[0].Property("turn")).Num
	for range 50 {
		g.tick()
		start = (start + 40) % 720
		for _, who := range []int{ana, bo} {
			v, _ := g.copies[who].OwnedBy("Winch", ana).Value("turn")
			require.Equal(t, start, v.Num)
		}
	}
	require.Error(t, g.s.Set(winch.Entity, "hand", contract.Value{Num: 3}), "what is no value is none")
}

// The number in a range that stands for another one is whole turns away from it, over all 64 bits.
func TestEveryNumberIsBroughtIntoARange(t *testing.T) {
	for _, typ := range []contract.Type{
		{Form: contract.FormInt, Low: -2, High: 2, Wraps: true},
		{Form: contract.FormInt, Low: 5, High: 9, Wraps: true},
		{Form: contract.FormInt, Low: -1 << 52, High: 1<<52 - 1, Wraps: true},
		{Form: contract.FormInt, Low: -1 << 63, High: -1<<63 + 6, Wraps: true},
		{Form: contract.FormInt, Low: 1<<63 - 7, High: 1<<63 - 1, Wraps: true},
		{Form: contract.FormInt, Low: 3, High: 3, Wraps: true},
	} {
		turn := uint64(typ.High-typ.Low) + 1
		for _, n := range []int64{0, 1, -1, 7, -8, 1 << 40, -1 << 40, -1 << 63, 1<<63 - 1, typ.Low, typ.High} {
			got := typ.Bring(n)
			require.True(t, got >= typ.Low && got <= typ.High, "%d for %s: %d", n, &typ, got)
			away := uint64(n) - uint64(got)
			if n < got {
				away = uint64(got) - uint64(n)
			}
			require.Zero(t, away%turn, "%d for %s: %d", n, &typ, got)
		}
	}
}
