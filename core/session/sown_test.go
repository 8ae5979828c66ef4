package session

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// A body gets the numbers that everybody can compute, and an empty range is a fault.
func TestBodiesGetWhatIsSown(t *testing.T) {
	g := open(t, `contract reef language 2
setting seed: int 0..99 = 7
entity Diver per player {
  n: int -99..99 = 0
  request draw(at: int -9..9, high: int -99..99) { n = sown(seed, at, -50..high) }
  request ask_sign(high: int -99..99) { n = if sown(seed, 1, -50..high) > 0 then 1 else 2 }
}
`)
	ana := g.join("Ana", "")
	g.tick()
	for _, at := range []int64{-9, 0, 9} {
		require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.draw", fmt.Sprint(at), "50").Outcome)
		assert.Equal(t, fmt.Sprint(contract.Sown(7, at, -50, 50)), g.sees(ana, ana, "Diver", "n"))
	}
	require.Equal(t, wire.Accepted, g.ask(ana, 0, "Diver.draw", "1", "-50").Outcome)
	assert.Equal(t, "-50", g.sees(ana, ana, "Diver", "n"))
	assert.Equal(t, wire.Faulted, g.ask(ana, 0, "Diver.ask_sign", "-51").Outcome)
	assert.Equal(t, "-50", g.sees(ana, ana, "Diver", "n"))
}
