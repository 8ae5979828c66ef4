package session

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

const crowdText = `contract crowd language 1
seats 1000
audience near(d: Diver) = distance(viewer.Diver.pos, d.pos) <= 30
audience mates(d: Diver) = viewer.Diver.crew == d.crew
entity Diver per player {
  pos:   vec2 -500..500 step 0.01
  crew:  int 0..3 = 0
  hull:  int 0..100 = 100
  air:   int 0..100 = 100 to owner
  plan:  int 0..99 = 0 to mates(self)
  close: int 0..99 = 0 to near(self)
}
entity Rock { n: int 0..1000 = 0 }
shared Sea { on start { SPAWNS } }
`

// BenchmarkCrowd is a tick of a session with all classes of audiences: a tenth of the clients move, each has a value of
// its own that changes, and so do a hundred values that everyone sees.
func BenchmarkCrowd(b *testing.B) {
	for _, n := range []int{100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s, act := newBenchCrowd(b, n)
			sent := 0
			b.ReportAllocs()
			b.ResetTimer()
			for range b.N {
				act()
				for _, f := range s.Tick().Frames {
					sent += len(f.Bytes)
				}
			}
			b.ReportMetric(float64(sent)/float64(b.N)/float64(n), "bytes/client")
		})
	}
}

// BenchmarkCheckpoint is a checkpoint of the same sessions, which their goroutine waits for now and then.
func BenchmarkCheckpoint(b *testing.B) {
	for _, n := range []int{100, 200, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s, act := newBenchCrowd(b, n)
			act()
			s.Tick()
			size := 0
			b.ResetTimer()
			for range b.N {
				data, _, err := s.Checkpoint()
				require.NoError(b, err)
				size = len(data)
			}
			b.ReportMetric(float64(size), "bytes")
		})
	}
}

// newBenchCrowd returns a session of n clients, and what has it change before each tick.
func newBenchCrowd(b *testing.B, n int) (s *Session, act func()) {
	c, problems := compile.Load(
		"crowd.kam", strings.Replace(crowdText, "SPAWNS", strings.Repeat("spawn Rock; ", 100), 1),
	)
	require.NotNil(b, c, problems.Error())
	s, err := New(c, Options{})
	require.NoError(b, err)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range n {
		_, err := s.Join(fmt.Sprint("c", i), "")
		require.NoError(b, err)
	}
	s.Tick()
	diver := c.Kinds[0]
	rock := c.Kinds[1]
	for _, e := range s.world.OfKind(diver.Index) {
		s.world.Set(e, diver.Property("pos"), []int64{r.Int64N(100000) - 50000, r.Int64N(100000) - 50000})
		s.world.Set(e, diver.Property("crew"), []int64{r.Int64N(4)})
	}
	s.endTransaction(nil)
	s.Tick()
	return s, func() {
		for _, e := range s.world.OfKind(rock.Index) {
			s.world.Set(e, rock.Property("n"), []int64{r.Int64N(1000)})
		}
		for i, e := range s.world.OfKind(diver.Index) {
			if i%10 == 0 {
				to := []int64{min(max(e.Nums[0]+r.Int64N(80)-40, -50000), 50000), e.Nums[1]}
				s.world.Set(e, diver.Property("pos"), to)
			}
			s.world.Set(e, diver.Property("air"), []int64{r.Int64N(100)})
		}
		s.endTransaction(nil)
	}
}
