package drill

import (
	"context"
	"fmt"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// busy is a contract of which 24 values change in every tick.
const busy = `contract busy language 1
tick 20 per second
entity Diver per player { pos: vec2 -200..200 step 0.01; air: int 0..100000 = 0 to owner; score: int 0..1000 = 0 }
entity Eel { n: int 0..1000 = 0 }
shared Keeper to nobody {
  on start { for i in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12] { spawn Eel } }
  every 50ms {
    for e in Eel { e.n = (e.n + 7) % 1001 }
    for d in Diver { d.air = (d.air + 13) % 100001; d.pos = d.pos + vec(0.01, 0); d.score = (d.score + 1) % 1001 }
  }
}
`

// BenchmarkBusyTick is a tick of a drill with four clients and 24 changes, on one core.
func BenchmarkBusyTick(b *testing.B) {
	open := func(string) (string, error) { return busy, nil }
	drills, problems := Load(
		"busy.drill",
		fmt.Sprintf(
			"drill \"busy\"\nuse \"busy.kam\"\nclients ana, bo, cleo, dov\nrepeat %d { wait 1 tick }\n",
			min(b.N, MaxRepeats),
		),
		open,
	)
	require.Empty(b, problems)
	defer debug.SetGCPercent(debug.SetGCPercent(GCPercent))
	b.ReportAllocs()
	b.ResetTimer()
	ticks := int64(0)
	began := time.Now()
	for ticks < int64(b.N) {
		r, err := drills[0].Run(context.Background(), Options{})
		require.NoError(b, err)
		require.True(b, r.Passed)
		ticks += r.Ticks
	}
	b.ReportMetric(float64(ticks)/time.Since(began).Seconds(), "ticks/s")
}
