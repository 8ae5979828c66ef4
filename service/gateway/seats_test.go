package gateway

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
)

// readied seats a client that has said that it is ready.
func readied(t *testing.T, x *testSession) *connection {
	c, err := x.join(seatOf(wire.Join{Name: "Ana"}, true, false))
	require.NoError(t, err)
	x.handle(saidReady(c, time.Now()))
	return c
}

// A connection whose hello is lost does not cost the seat: the token that it was taken with stays good until something
// comes over the new connection, and no longer.
func TestALostHelloCostsNoSeat(t *testing.T) {
	x := newTestSession(t, contracts.Tally, true)
	r := rand.New(rand.NewPCG(3, 4))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			x.lose(c, "it broke")
			x.tick()
			back, err := x.join(seatOf(wire.Join{Token: token, Seen: x.session().Now()}, true, false))
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			require.Equal(t, c.client, back.client)
			x.tick()
			c = back
			if r.IntN(2) == 0 {
				continue // its hello never arrived: the client knows the old token alone
			}
			x.handle(saidSeen(c, 1, time.Now()))
			_, err = x.join(seatOf(wire.Join{Token: token}, true, false))
			require.ErrorContains(
				t, err, "no seat waits", "what was heard over the new connection makes the old token void",
			)
			token = c.token
		}
	}))
}

// A client whose connection breaks tries again and again, with the token that it has. The service may come to its tries
// in any order, and find that a try's connection is gone; whichever hello the client has got, it gets its seat back,
// and it is told no goodbye.
func TestALateHandshakeCostsNoSeat(t *testing.T) {
	x := newTestSession(t, contracts.Tally, true)
	r := rand.New(rand.NewPCG(5, 6))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			void := token
			x.lose(c, "it broke")
			x.tick()
			tries := make([]*connection, 1+r.IntN(4))
			for k := range tries {
				again, err := x.join(seatOf(wire.Join{Token: token, Seen: x.session().Now()}, true, false))
				if !assert.NoError(t, err, "round %d, try %d", i, k) {
					return
				}
				tries[k] = again
			}
			for _, overtaken := range tries[:len(tries)-1] {
				assert.Equal(t, connectionReplaced, overtaken.is(), "the client that has this one is told no goodbye")
			}
			token = tries[r.IntN(len(tries))].token // of the hello that arrived
			x.lose(tries[len(tries)-1], "its client had gone away")
			back, err := x.join(seatOf(wire.Join{Token: token, Seen: x.session().Now()}, true, false))
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			c = back
			x.handle(saidSeen(c, 1, time.Now()))
			token = c.token
			_, err = x.join(seatOf(wire.Join{Token: void}, true, false))
			require.ErrorContains(t, err, "no seat waits")
		}
		x.runner.Leave(c.client, "enough")
		_, err := x.join(seatOf(wire.Join{Token: token}, true, false))
		assert.ErrorContains(t, err, "no seat waits", "who has left has no token")
	}))
}

// A client that has gone away before its hello could be read keeps the seat that it comes back to.
func TestAConnectionThatIsGoneCostsNoSeat(t *testing.T) {
	x := newTestSession(t, contracts.Tally, false)
	var ana *connection
	require.NoError(t, x.do(t.Context(), func() {
		ana = readied(t, x)
		x.lose(ana, "it broke")
	}))
	for range 200 {
		require.NoError(t, x.ask(t, wire.Join{Token: ana.token}).NetConn().Close())
	}
	require.NoError(t, x.do(t.Context(), func() {
		assert.Len(t, x.session().Clients(), 1)
		back, err := x.join(seatOf(wire.Join{Token: ana.token}, true, false))
		require.NoError(t, err)
		assert.Equal(t, ana.client, back.client)
	}))
}

// Every event leads from every state to one: what has ended stays so, for the first reason, and only what nothing has
// come over can be replaced.
func TestConnectionTransitions(t *testing.T) {
	for from := range connectionStates {
		for event := range connectionEvents {
			var c connection
			c.state.Store(uint32(from))
			c.on(event)
			switch {
			case !from.seated():
				assert.Equal(t, from, c.is(), "%d on %d", from, event)
			case event == somethingCame:
				assert.Equal(t, connectionOpen, c.is(), "%d on %d", from, event)
			default:
				assert.False(t, c.is().seated(), "%d on %d", from, event)
				replaced := from == connectionNew && event == seatRetaken || event == sessionSuspended
				assert.Equal(t, replaced, c.is() == connectionReplaced, "%d on %d", from, event)
			}
		}
	}
}
