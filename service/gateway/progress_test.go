package gateway

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/link"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/testservice"
)

// A client that reads nothing is noticed though the system's buffers would take what it is sent for a long time; so is
// one that reads and confirms nothing.
func TestASilentClientIsBehindAndCut(t *testing.T) {
	x := newTestSession(t, contracts.Tally, true)
	deaf := x.ask(t, wire.Join{Name: "Deaf"})
	require.NoError(t, deaf.WriteMessage(websocket.TextMessage, []byte(`{"type":"ready"}`)))
	var c *connection
	clock := time.Now()
	require.Eventually(t, func() (heard bool) {
		_ = x.do(t.Context(), func() {
			x.Receive()
			x.now = func() time.Time { return clock }
			c = x.byClient[1]
			heard = c != nil && c.socket != nil
		})
		return heard
	}, 5*time.Second, time.Millisecond)
	behind := time.Duration(0)
	cut := time.Duration(0)
	for passed := time.Duration(0); passed < 40*time.Second && cut == 0; passed += 50 * time.Millisecond {
		require.NoError(t, x.do(t.Context(), func() {
			clock = clock.Add(50 * time.Millisecond)
			x.tick()
			if c.behind && behind == 0 {
				behind = passed
			}
			if !c.is().seated() && cut == 0 {
				cut = passed
			}
		}))
	}
	assert.InDelta(t, 1.3, behind.Seconds(), 0.5)
	assert.InDelta(
		t, 11.7, cut.Seconds(), 1.8, "after ten seconds and twelve of the round trips that the system has measured",
	)
}

// An honest client on the worst link for which strikes are fair, two seconds each way that lose one message in twenty,
// is not cut in an hour.
func TestAnHonestClientFarAwayIsNeverCut(t *testing.T) {
	x := newTestSession(t, contracts.Tally, true)
	hour := 72_000
	if testing.Short() {
		hour = 6000
	}
	began := time.Now()
	clock := began
	for seed := range uint64(3) {
		require.NoError(t, x.do(t.Context(), func() {
			x.now = func() time.Time { return clock }
			c, err := x.join(seatOf(wire.Join{Name: fmt.Sprint("Far ", seed)}, true, false))
			require.NoError(t, err)
			down, _ := link.New(seed, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			up, _ := link.New(seed+100, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			var copied replicate.Copy
			reader := x.session().Reader(0)
			x.handle(saidReady(c, clock))
			frames := 0
			behind := 0
			late := int64(0)
			for range hour {
				clock = clock.Add(50 * time.Millisecond)
				at := clock.Sub(began)
				if bytes, marks := c.outbox.take(); bytes != nil {
					from := 0
					for _, m := range marks {
						if m.tick > 0 {
							down.Send(at, append([]byte(nil), bytes[from:m.end]...))
						}
						from = m.end
					}
					c.outbox.done(bytes, marks, clock)
				}
				for _, raw := range down.Receive(at) {
					f, err := reader.Read(raw)
					require.NoError(t, err)
					copied.Apply(f)
					frames++
					up.Send(at, []byte(fmt.Sprint(f.Tick)))
				}
				for _, raw := range up.Receive(at) {
					var tick int64
					_, _ = fmt.Sscan(string(raw), &tick)
					x.handle(saidSeen(c, tick, clock))
				}
				if c.behind {
					behind++
				}
				if x.tick(); !c.is().seated() {
					break
				}
				late += x.session().Now() - max(copied.Tick, 0)
			}
			assert.True(t, c.is().seated(), "%s", c.reason)
			t.Logf(
				"seed %d: %d frames, behind in %.1f %% of the ticks, what it holds is %.1f s old", seed, frames,
				100*float64(behind)/float64(hour), float64(late)/float64(hour)/20,
			)
			x.runner.Leave(c.client, "enough")
		}))
	}
}

// A client that takes nothing falls behind, is sent a snapshot if it goes on, and is cut in the end; the others get
// every tick.
func TestASlowClientHoldsUpNobody(t *testing.T) {
	x := newTestSession(t, testservice.Contract, true)
	clock := time.Now()
	var slow, dead, quick *connection
	require.NoError(t, x.do(t.Context(), func() {
		x.now = func() time.Time { return clock }
		for i, c := range []**connection{&slow, &dead, &quick} {
			*c, _ = x.join(seatOf(wire.Join{Name: fmt.Sprint("Diver ", i)}, true, false))
			x.session().Ready((*c).client)
		}
	}))
	// takes reads all that waits for a client, and tells what frames there are.
	reader := x.session().Reader(0)
	takes := func(c *connection) (frames []*wire.Frame) {
		raw, marks := c.outbox.take()
		from := 0
		for _, m := range marks {
			if m.tick > 0 {
				f, err := reader.Read(raw[from:m.end])
				require.NoError(t, err)
				frames = append(frames, f)
			}
			from = m.end
		}
		if raw != nil {
			c.outbox.done(raw, marks, clock)
		}
		return frames
	}
	most := 0
	served := 0
	i := 0
	tick := func() {
		require.NoError(t, x.do(t.Context(), func() {
			i++
			call := x.session().ReadRequest(
				wire.Ask{
					Seq:     uint64(i),
					Request: "Diver.paint",
					Args:    []json.RawMessage{[]byte([]string{`"rust"`, `"kelp"`}[i%2])},
				},
			)
			x.session().Ask(quick.client, call)
			clock = clock.Add(50 * time.Millisecond)
			x.tick()
			got := 0
			quick.outbox.mu.Lock()
			got = len(quick.outbox.bytes)
			quick.outbox.bytes = nil
			quick.outbox.marks = nil
			quick.outbox.oldest = time.Time{}
			quick.outbox.mu.Unlock()
			x.handle(saidSeen(quick, x.session().Now(), clock))
			if got > 0 {
				served++
			}
			dead.outbox.mu.Lock()
			most = max(most, len(dead.outbox.bytes))
			dead.outbox.mu.Unlock()
		}))
	}
	// how far away they are is known
	slow.progress.minRoundTrip, dead.progress.minRoundTrip = time.Millisecond, time.Millisecond
	confirm := func(c *connection, frames []*wire.Frame) {
		if len(frames) > 0 {
			require.NoError(t, x.do(t.Context(), func() {
				x.handle(saidSeen(c, frames[len(frames)-1].Tick, clock))
			}))
		}
	}
	for range 60 {
		tick()
	}
	assert.True(t, slow.behind)
	first := takes(slow)
	assert.Empty(t, first, "what was not taken was dropped: a snapshot takes its place")
	tick()
	frames := takes(slow)
	require.Len(t, frames, 1)
	assert.True(t, frames[0].Snapshot)
	assert.NotEmpty(t, frames[0].Events, "the events that it missed are in it: a welcome")
	confirm(slow, frames)
	assert.Less(t, most, 20_000, "what waits is bounded")
	for range 130 {
		tick()
		require.NotContains(t, dead.reason, "nothing")
		confirm(slow, takes(slow))
	}
	for range 20 {
		tick()
		confirm(slow, takes(slow))
	}
	assert.Equal(t, "it confirmed nothing of what it was sent for 10s", dead.reason)
	assert.Greater(t, served, i*9/10, "the quick one gets what there is")
	assert.Equal(t, 2, len(x.byClient), "the slow one is there")
}
