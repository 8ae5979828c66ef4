package runner

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/journal"
)

// Every event leads from every state to one, and what a seat has come to know stays: that its client is ready.
func TestSeatTransitions(t *testing.T) {
	for from := range seatStates {
		for event := range seatEvents {
			s := seat{state: from}
			s.on(event)
			switch event {
			case connectionLost:
				assert.False(t, s.state.connected(), "%d on %d", from, event)
				assert.Equal(t, from.ready(), s.state.ready(), "%d on %d", from, event)
			case connectionCame:
				assert.True(t, s.state.connected(), "%d on %d", from, event)
				assert.Equal(t, from.ready(), s.state.ready(), "%d on %d", from, event)
			case clientReady:
				assert.Equal(t, from.connected(), s.state.connected(), "%d on %d", from, event)
				assert.Equal(t, from.connected() || from.ready(), s.state.ready(), "%d on %d", from, event)
			default:
				assert.Fail(t, "an event without a rule", "%d", event)
			}
		}
	}
}

// Of the tokens of one seat only so many are good at once, and only one once its client is known to have it.
func TestTokensAreBounded(t *testing.T) {
	r, connections := newTestRunner(t, contracts.Tally, Options{})
	first, err := r.TakeSeat(SeatRequest{Join: wire.Join{Name: "Ana"}})
	require.NoError(t, err)
	n := first.Hello.Client.Number
	var last Seating
	for range 20 {
		r.Lose(n, "it broke")
		last, err = r.TakeSeat(SeatRequest{Join: wire.Join{Token: first.Hello.Token}})
		require.NoError(t, err)
		assert.True(t, last.ByToken)
		assert.LessOrEqual(t, len(r.seatByToken), maxTokens)
	}
	assert.Len(t, connections.replaced, 20)
	r.KeepToken(n, last.Hello.Token)
	assert.Equal(t, map[tokenHash]int{journal.HashToken(last.Hello.Token): n}, r.seatByToken)
	r.Leave(n, "enough")
	assert.Empty(t, r.seatByToken)
	assert.Equal(t, "enough", connections.ended[n])
}

// A seat whose client never was ready waits for two seconds, one whose client was for as long as the contract says.
func TestLostSeatsExpire(t *testing.T) {
	for ready, waits := range map[bool]time.Duration{false: 2 * time.Second, true: 30 * time.Second} {
		clock := time.Now()
		r, _ := newTestRunner(t, contracts.Tally, Options{Now: func() time.Time { return clock }})
		ana, err := r.TakeSeat(SeatRequest{Join: wire.Join{Name: "Ana"}})
		require.NoError(t, err)
		n := ana.Hello.Client.Number
		if ready {
			r.Handle(n, &Message{Type: wire.MessageReady})
		}
		r.Lose(n, "it broke")
		began := clock
		for len(r.seats) > 0 && clock.Sub(began) < time.Minute {
			clock = clock.Add(50 * time.Millisecond)
			r.Tick()
		}
		assert.InDelta(t, waits.Seconds(), clock.Sub(began).Seconds(), 0.5, "ready: %v", ready)
	}
}
