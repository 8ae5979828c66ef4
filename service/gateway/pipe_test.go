package gateway

import (
	"context"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/testservice"
)

// What a client sends over a new connection is heard as from that one, also while something of the old one is still
// being delivered.
func TestANewConnectionIsHeardWhileTheOldOneStillDelivers(t *testing.T) {
	x := newTestSession(t, contracts.Knock, false)
	back := make(chan struct{}, 1)
	ana, err := x.SeatInside(
		t.Context(), wire.Join{Name: "Ana"}, true,
		client.Options{OnBack: func() { back <- struct{}{} }},
	)
	require.NoError(t, err)
	for i := range testservice.Often() {
		held := make(chan struct{}, 1)
		release := make(chan struct{})
		clear := Failpoints.UplinkArrived.Set(func() {
			select {
			case held <- struct{}{}:
				<-release
			default:
			}
		})
		said := wire.FromClient{Type: wire.MessageSeen, Ask: wire.Ask{Seen: 1}}
		require.NoError(t, ana.Send(said.JSON()))
		<-held
		require.NoError(t, ana.Link.Set(api.Link{Cut: true}))
		require.NoError(t, ana.Link.Set(api.Link{}))
		select {
		case <-back:
		case <-ana.Ended():
			require.Fail(t, "the client is out", ana.Reason())
		case <-time.After(5 * time.Second):
			require.Fail(t, "the client is not back")
		}
		clear()
		close(release)
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		d, err := ana.Forge(ctx, 0, "Diver.tap")
		cancel()
		require.NoError(t, err, "round %d", i)
		require.Equal(t, wire.Accepted, d.Outcome)
	}
	ana.Close()
}

// A connection whose seat is gone waits for what its slow link still carries, and does not spin.
func TestASlowLinkIsWaitedFor(t *testing.T) {
	x := newTestSession(t, contracts.Knock, true)
	ended := make(chan string, 1)
	ana, err := x.SeatInside(
		t.Context(), wire.Join{Name: "Ana"}, true,
		client.Options{OnEnd: func(reason string) { ended <- reason }},
	)
	require.NoError(t, err)
	require.NoError(t, ana.Link.Set(api.Link{DelayMs: 200, Bandwidth: 100}))
	require.NoError(t, x.do(t.Context(), func() {
		for range 3 {
			x.tick()
		}
		x.runner.Leave(ana.Me().Number, "enough")
	}))
	used := func() time.Duration {
		var u syscall.Rusage
		require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	before := used()
	began := time.Now()
	reason := <-ended
	assert.Equal(t, "enough", reason)
	assert.Greater(t, time.Since(began), 150*time.Millisecond)
	assert.Less(t, used()-before, time.Since(began)/2, "of %s", time.Since(began))
}
