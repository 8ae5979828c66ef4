package wire

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
)

// No whole value takes more bits than its type says, and no change of a number more than twelve above that.
func TestNothingTakesMoreBitsThanTheCostSays(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for _, typ := range []*contract.Type{
		{
			Form: contract.FormInt,
			Low:  -50,
			High: 50,
		},
		{Form: contract.FormInt, Low: 0, High: 1},
		{Form: contract.FormInt, Low: -1 << 62, High: 1 << 62},
		{
			Form: contract.FormVec2,
			Low:  -20000,
			High: 20000,
			Per:  100,
			Unit: 1,
		},
		{Form: contract.FormReal, Low: 0, High: 200, Per: 2, Unit: 1},
	} {
		w := &bitWriter{}
		sizes := []estimate{newEstimate(spanOf(typ)), newEstimate(spanOf(typ))}
		bits := func() uint { return uint(len(w.buf))*8 + w.free }
		most, _ := typ.Bits()
		old := make([]int64, typ.Width())
		for i := range old {
			old[i] = typ.Low
		}
		for range 5000 {
			now := make([]int64, len(old))
			for i := range now {
				now[i] = typ.Low + int64(r.Uint64N(spanOf(typ)+1))
				if r.IntN(3) > 0 { // mostly it stays near, so that what is usual is small
					now[i] = min(max(old[i]+r.Int64N(3)-1, typ.Low), typ.High)
				}
			}
			if now[0] == old[0] {
				continue
			}
			before := bits()
			w.difference(typ, old, now, sizes)
			require.LessOrEqual(t, int(bits()-before), most+12*len(now))
			before = bits()
			w.value(typ, typ.FromSlots(now, nil))
			require.LessOrEqual(t, int(bits()-before), most)
			old = now
		}
	}
}
