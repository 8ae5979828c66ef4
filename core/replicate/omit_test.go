package replicate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// A copy that leaves motions out keeps what came, and is where they have led to once it is advanced.
func TestACopyWithoutMotionIsBroughtToATickByAdvance(t *testing.T) {
	number := &contract.Type{Form: contract.FormInt, Low: -1000, High: 1000, Per: 1, Unit: 1}
	frame := func(tick int64) *wire.Frame {
		f := wire.Field{Name: "x", Type: number, Motion: &wire.Motion{
			Rate: contract.Value{Num: 20}, RateType: number, Ticks: 20, At: 1,
		}}
		return &wire.Frame{Tick: tick, Blocks: []*wire.Block{{
			Spawned: []wire.Spawn{{Entity: uint32(tick), Kind: "Eel", Fields: []wire.Field{f}}},
		}}}
	}
	still := Copy{OmitMotion: true}
	moving := Copy{}
	for tick := int64(1); tick <= 5; tick++ {
		still.Apply(frame(tick))
		moving.Apply(frame(tick))
	}
	value := func(c *Copy) int64 {
		v, _ := c.Entity(1).Value("x")
		return v.Num
	}
	assert.Equal(t, int64(4), value(&moving))
	assert.Equal(t, int64(0), value(&still))
	moving.Advance(9)
	still.Advance(9)
	assert.Equal(t, int64(8), value(&moving))
	assert.Equal(t, int64(8), value(&still))
}
