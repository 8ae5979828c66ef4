package replicate

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/contract"
	"kamerad.example/core/wire"
)

// Whatever frames say, copies that apply the blocks which they share come to what the frames themselves bring them to;
// and nothing that is said stands in two blocks.
func TestSharedBlocksSayWhatFramesSay(t *testing.T) {
	number := &contract.Type{Form: contract.FormInt}
	several := 0
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 1))
		const clients = 5
		var own, shared [clients]Copy
		for tick := int64(1); tick <= 20; tick++ {
			frames := randomFrames(random, number, tick, clients)
			blocks, of := wire.Share(frames)
			require.Len(t, of, clients)
			said := map[string]int{} // how many blocks say it
			for _, b := range blocks {
				require.False(t, b.Empty())
				for _, u := range b.Values {
					for _, f := range u.Fields {
						said[fmt.Sprint(u.Entity, f.Name, f.Value.Num)]++
					}
				}
			}
			for what, times := range said {
				require.Equal(t, 1, times, "seed %d: %s", seed, what)
			}
			for i, f := range frames {
				own[i].Apply(f)
				again := &wire.Frame{Tick: f.Tick, Snapshot: f.Snapshot}
				for _, at := range of[i] {
					again.Blocks = append(again.Blocks, blocks[at])
				}
				shared[i].Apply(again)
				want, got := own[i].Snapshot(), shared[i].Snapshot()
				assert.ElementsMatch(t, want.Joined, got.Joined)
				require.Equal(t, sortedFields(want), sortedFields(got), "seed %d, tick %d, client %d", seed, tick, i)
			}
			stand := map[int]int{} // by block: in how many frames
			for _, list := range of {
				for _, at := range list {
					stand[at]++
				}
			}
			for _, frames := range stand {
				if frames > 1 {
					several++
				}
			}
		}
	}
	assert.Positive(t, several)
}

// randomFrames returns a frame for each client: all are told of some things, and some of others.
func randomFrames(random *rand.Rand, typ *contract.Type, tick int64, clients int) []*wire.Frame {
	frames := make([]*wire.Frame, clients)
	for i := range frames {
		frames[i] = &wire.Frame{Tick: tick, Snapshot: random.IntN(30) == 0, Blocks: []*wire.Block{{}}}
	}
	field := func() wire.Field {
		return wire.Field{
			Name: fmt.Sprint("p", random.IntN(3)), Type: typ, Value: contract.Value{Num: random.Int64N(3)},
		}
	}
	said := map[string]bool{} // a frame says nothing twice
	for range 40 {
		entity := uint32(1 + random.IntN(5))
		to := 1 + random.IntN(1<<clients-1)
		what := random.IntN(8)
		f := field()
		other := random.IntN(4)
		for i, frame := range frames {
			b := frame.Blocks[0]
			key := fmt.Sprint(i, min(what, 5), entity, f.Name)
			switch what {
			case 0, 4:
				key = fmt.Sprint(i, what, other)
			case 1, 2, 3:
				key = fmt.Sprint(i, what, entity)
			}
			if to&(1<<i) == 0 || said[key] {
				continue
			}
			said[key] = true
			switch what {
			case 0:
				b.Joined = append(b.Joined, wire.Client{Number: 1 + other, Name: "Ana", Role: f.Name})
			case 1:
				b.Spawned = append(b.Spawned, wire.Spawn{Entity: entity, Kind: "Eel", Fields: []wire.Field{f}})
			case 2:
				b.Owned = append(b.Owned, wire.Owned{Entity: entity, Owner: other})
			case 3:
				b.Gone = append(b.Gone, entity)
			case 4:
				b.Left = append(b.Left, 1+other)
			case 5:
				b.Values = append(b.Values, wire.Update{Entity: entity, Kind: "Eel", Withdrawn: []string{f.Name}})
			default:
				b.Values = append(b.Values, wire.Update{Entity: entity, Kind: "Eel", Fields: []wire.Field{f}})
			}
		}
	}
	return frames
}

// sortedFields returns what a snapshot says of entities, whatever the order of their fields.
func sortedFields(b *wire.Block) map[string]string {
	out := map[string]string{}
	for _, s := range b.Spawned {
		out[fmt.Sprint(s.Entity)] = fmt.Sprint(s.Kind, s.Owner)
		for _, f := range s.Fields {
			out[fmt.Sprint(s.Entity, f.Name)] = f.Type.Format(f.Value)
		}
	}
	return out
}
