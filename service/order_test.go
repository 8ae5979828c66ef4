package service

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/service/gateway"
)

// Clients join and leave all the time while writers are held up at random: each client gets its frames in order,
// 100,000 in all, and its last message after them.
func TestFramesAreInOrderWhileClientsComeAndGo(t *testing.T) {
	v, admin := alone(t)
	_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally", Paused: true})
	require.NoError(t, err)
	x := v.registry.Find(s.ID)
	var random sync.Mutex
	dice := rand.New(rand.NewPCG(1, 2))
	defer gateway.Failpoints.BatchTaken.Set(func() {
		random.Lock()
		n := dice.IntN(40)
		random.Unlock()
		if n < 12 {
			time.Sleep(time.Duration(n) * 20 * time.Microsecond)
		}
	})()
	var frames atomic.Int64
	var ends sync.Map
	join := func(name string) *client.Client {
		last := int64(0)
		c, err := client.Join(t.Context(), admin.Service, s.ID, name, "", client.Options{
			OnFrame: func(f *wire.Frame, _ []replicate.Notice) {
				frames.Add(1)
				if f.Tick <= last {
					ends.Store(name, fmt.Sprintf("tick %d after %d", f.Tick, last))
				}
				last = f.Tick
			},
			OnLost: func(reason string) { ends.Store(name, "lost: "+reason) },
			OnEnd: func(reason string) {
				if strings.Contains(reason, "broken") {
					ends.Store(name, reason)
				}
			},
		})
		require.NoError(t, err)
		return c
	}
	var stay []*client.Client
	for i := range 24 {
		stay = append(stay, join(fmt.Sprint("Diver ", i)))
	}
	tick := func(n int) {
		for range n {
			require.NoError(t, x.Runner().Do(t.Context(), x.Runner().Tick))
		}
	}
	caughtUp := func() bool {
		late := false
		require.NoError(t, x.Runner().Do(t.Context(), func() {
			x.Receive()
			for _, c := range stay {
				late = late || x.Runner().Session().Seen(c.Me().Number) < x.Runner().Session().Now()-2
			}
		}))
		return !late
	}
	clean := func() bool {
		clean := true
		ends.Range(func(any, any) bool { clean = false; return false })
		return clean
	}
	guest := 0
	began := time.Now()
	var guests []*client.Client
	var leaving sync.WaitGroup
	for frames.Load() < 100_000 && time.Since(began) < 2*time.Minute {
		tick(2)
		guest++
		if guest%3 > 0 || len(guests) == 0 {
			guests = append(guests, join(fmt.Sprint("Guest ", guest)))
		} else {
			leaving.Go(guests[0].Close)
			guests = guests[1:]
		}
		for len(guests) > 8 {
			leaving.Go(guests[0].Close)
			guests = guests[1:]
		}
		tick(4)
		for clean() && !caughtUp() {
			runtime.Gosched()
		}
		if !clean() {
			break
		}
	}
	if !clean() {
		_ = x.Runner().Do(t.Context(), func() { x.Runner().SetPaused(false) })
	}
	ends.Range(func(name, what any) bool {
		assert.Fail(t, "a client did not get its frames in order", "%s: %s", name, what)
		return true
	})
	if t.Failed() {
		return
	}
	require.NoError(t, x.Runner().Do(t.Context(), func() { x.Runner().SetPaused(false) }))
	leaving.Wait()
	_, err = admin.Close(t.Context(), s.ID, "enough")
	require.NoError(t, err)
	for _, c := range append(stay, guests...) {
		<-c.Ended()
		assert.Equal(t, "the session closed: enough", c.Reason())
	}
	_, metrics, _ := get(t, "GET", admin.Service+"/metrics", "", nil)
	assert.Contains(t, metrics, "kamerad_misordered_frames_total 0")
	t.Logf("%d frames, %d guests, %s", frames.Load(), guest, time.Since(began).Round(time.Millisecond))
}
