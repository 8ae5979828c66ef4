package service

import (
	"context"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/core/wire"
)

const knock = `contract knock language 1
seats 4 grace 60s
roles player
entity Diver per player { n: int 0..999999 = 0; request tap() { n += 1 } }
`

// What a client sends over a new connection is heard as from that one, also while something of the old one is still
// being delivered.
func TestANewConnectionIsHeardWhileTheOldOneStillDelivers(t *testing.T) {
	v, api := alone(t)
	_, err := api.Publish(t.Context(), "knock.kam", knock, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "knock"})
	require.NoError(t, err)
	back := make(chan struct{}, 1)
	ana, line, err := v.runner(s.ID).seatInside(
		t.Context(), joinRequest{Join: wire.Join{Name: "Ana"}, test: true},
		client.Options{OnBack: func() { back <- struct{}{} }},
	)
	require.NoError(t, err)
	for i := range often() {
		held := make(chan struct{}, 1)
		release := make(chan struct{})
		clear := failpoints.uplinkArrived.Set(func() {
			select {
			case held <- struct{}{}:
				<-release
			default:
			}
		})
		said := wire.FromClient{Type: "seen", Ask: wire.Ask{Seen: 1}}
		require.NoError(t, ana.Send(said.JSON()))
		<-held
		require.NoError(t, line.set(client.Link{Cut: true}))
		require.NoError(t, line.set(client.Link{}))
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
	v, api := alone(t)
	_, err := api.Publish(t.Context(), "knock.kam", knock, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "knock", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	ended := make(chan string, 1)
	ana, line, err := x.seatInside(
		t.Context(), joinRequest{Join: wire.Join{Name: "Ana"}, test: true},
		client.Options{OnEnd: func(reason string) { ended <- reason }},
	)
	require.NoError(t, err)
	require.NoError(t, line.set(client.Link{DelayMs: 200, Bandwidth: 100}))
	require.NoError(t, x.do(t.Context(), func() {
		for range 3 {
			x.tick()
		}
		x.dropSeat(ana.Me().Number, "enough")
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
