package examples

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// layoutOf is what a client's own layout of the crates of sleds.kam comes to.
func layoutOf(seed int64) (total int64) {
	for place := range int64(12) {
		total = (total*101 + contract.Sown(seed, place, -50, 50) + 50) % 65521
	}
	return total
}

// Four clients lay out the yard from its seed. The one among them whose seed is another is found, and nobody else.
func TestAClientOfAnotherSeedIsFound(t *testing.T) {
	const file = "sleds/sleds.kam"
	c, problems := compile.LoadWith(file, read(t, file), contracts.Beside(file))
	require.NotNil(t, c, problems.Error())
	r := rand.New(rand.NewPCG(3, 1))
	for range 100 {
		seed := r.Int64N(65536)
		s, err := session.New(c, session.Options{
			Settings: map[string]json.RawMessage{"seed": json.RawMessage(fmt.Sprint(seed))},
		})
		require.NoError(t, err)
		var public int64
		require.NoError(t, json.Unmarshal(s.PublicSettings()["seed"], &public))
		wrong := 1 + r.IntN(4)
		for n := 1; n <= 4; n++ {
			_, err := s.Join(fmt.Sprint("diver", n), "")
			require.NoError(t, err)
			s.Ready(n)
		}
		s.Tick()
		for n := 1; n <= 4; n++ {
			own := public
			if n == wrong {
				own ^= 1 << r.IntN(16)
			}
			ask := wire.Ask{
				Seq:     1,
				Request: "Diver.laid_out",
				Args:    []json.RawMessage{json.RawMessage(fmt.Sprint(layoutOf(own)))},
			}
			s.Ask(n, s.ReadRequest(ask))
		}
		step := s.Tick()
		for _, d := range step.Decisions {
			if d.Client.Number != wrong {
				assert.Equal(t, wire.Accepted, d.Outcome, "client %d, seed %d: %s", d.Client.Number, seed, d.Reason)
			}
		}
		assert.Len(t, step.Decisions, 4)
		assert.Equal(t, []session.Cut{{Client: wrong, Reason: "this is another yard"}}, step.Cuts, "seed %d", seed)
	}
}
