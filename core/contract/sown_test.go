package contract_test

import (
	"bytes"
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// sownVector is a number of a seed's sequence, as the vectors of the protocol have it.
type sownVector struct {
	Seed  int64 `json:"seed"`
	Place int64 `json:"place"`
	Low   int64 `json:"low"`
	High  int64 `json:"high"`
	Is    int64 `json:"is"`
}

// layouts are the first numbers of the sequences of many seeds, with one sum of them all.
type layouts struct {
	Seeds  int64  `json:"seeds"`
	Places int64  `json:"places"`
	Low    int64  `json:"low"`
	High   int64  `json:"high"`
	Sum    uint64 `json:"sum,string"`
}

// The vectors of the protocol say what stands at which place of a seed's sequence, and what 10,000 layouts come to.
func TestTheVectorsOfWhatIsSown(t *testing.T) {
	const file = "../wire/testdata/vectors/sown.json"
	r := rand.New(rand.NewPCG(8, 1))
	odd := []int64{0, 1, -1, math.MaxInt64, math.MinInt64}
	whole := func() int64 {
		if r.IntN(3) == 0 {
			return odd[r.IntN(len(odd))]
		}
		return r.Int64N(2000) - 1000
	}
	var numbers []sownVector
	for range 200 {
		v := sownVector{Seed: whole(), Place: whole(), Low: whole(), High: whole()}
		v.Low, v.High = min(v.Low, v.High), max(v.Low, v.High)
		v.Is = contract.Sown(v.Seed, v.Place, v.Low, v.High)
		assert.GreaterOrEqual(t, v.Is, v.Low)
		assert.LessOrEqual(t, v.Is, v.High)
		numbers = append(numbers, v)
	}
	all := layouts{Seeds: 10_000, Places: 20, Low: -5000, High: 5000}
	for seed := range all.Seeds {
		for place := range all.Places {
			all.Sum = all.Sum*1099511628211 + uint64(contract.Sown(seed, place, all.Low, all.High))
		}
	}
	raw, err := json.Marshal(map[string]any{"sown": numbers, "layouts": all})
	require.NoError(t, err)
	raw = append(bytes.ReplaceAll(raw, []byte(`{"seed"`), []byte("\n{\"seed\"")), '\n')
	if os.Getenv("KAMERAD_UPDATE_VECTORS") != "" {
		require.NoError(t, os.WriteFile(file, raw, 0o644))
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(kept, raw), "other numbers are sown: KAMERAD_UPDATE_VECTORS=1 writes the vectors anew")
}

// Each number of a range is as likely as any other, along a sequence and across seeds, and neighbours have nothing in
// common.
func TestWhatIsSownIsSpreadEvenly(t *testing.T) {
	const n = 100_000
	for name, at := range map[string]func(i int64) (seed, place int64){
		"places": func(i int64) (int64, int64) { return 7, i },
		"seeds":  func(i int64) (int64, int64) { return i, 3 },
		"both":   func(i int64) (int64, int64) { return i % 300, i / 300 },
	} {
		var counts [10]float64
		same := 0
		last := int64(-1)
		for i := range int64(n) {
			seed, place := at(i)
			v := contract.Sown(seed, place, 0, 9)
			counts[v]++
			if v == last {
				same++
			}
			last = v
		}
		chi := 0.0
		for _, c := range counts {
			chi += (c - n/10) * (c - n/10) / (n / 10)
		}
		assert.Less(t, chi, 27.9, "%s: %v", name, counts) // 9 degrees of freedom, one in a thousand
		assert.InDelta(t, n/10, same, 400, name)
	}
}
