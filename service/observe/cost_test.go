package observe

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/session"
	"kamerad.example/internal/tests/contracts"
)

const shoal = `contract shoal language 2
tick 20 per second
seats 64
roles player
entity Fish {
  pos:  vec2 -200..200 step 0.01 = vec(0, 0) follows vel
  vel:  vec2 -20..20 step 0.01 = vec(0, 0)
  hull: int 0..100 = 100
}
shared Sea to nobody {
  on start {
    for i in 1..500 {
      spawn Fish { pos = vec(roll(-100..100), roll(-100..100)), vel = vec(roll(-3..3), roll(-3..3)) }
    }
  }
  every 50ms { for f in Fish where f.hull > 0 { if roll(1..10) == 1 { f.hull = roll(1..100) } } }
}
entity Diver per player { score: int 0..9 = 0 }
`

// BenchmarkTickWatched is a tick of a session with 30 clients and 500 entities, with and without somebody who looks.
// What looking costs the goroutine of the session is measured, and not what it costs the one that describes it.
func BenchmarkTickWatched(b *testing.B) {
	for _, watched := range []bool{false, true} {
		b.Run(fmt.Sprintf("watched=%t", watched), func(b *testing.B) {
			s, err := session.New(contracts.Load(b, shoal), session.Options{Trace: true, Memory: session.DefaultMemory})
			require.NoError(b, err)
			s.SetWatched(false)
			o := New(s)
			var follower *Follower
			var clients []int
			for i := range 30 {
				n, err := s.Join(fmt.Sprint("Diver ", i), "player")
				require.NoError(b, err)
				o.Joined(n)
				clients = append(clients, n)
			}
			if watched {
				follower = o.Begin()
			}
			bytes := 0
			for b.Loop() {
				step := s.Tick()
				if m := o.Tick(step, false); m != nil {
					b.StopTimer()
					if msg := follower.Tick(m); false && msg != nil {
						bytes += len(api.Encode(*msg))
					}
					b.StartTimer()
				}
				for _, n := range clients {
					s.Confirm(n, step.Tick)
					o.Confirmed(n)
				}
			}
			b.ReportMetric(float64(bytes)/float64(b.N), "bytes/tick")
		})
	}
}
