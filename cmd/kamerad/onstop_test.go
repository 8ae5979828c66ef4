package main

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

// A service that leaves its sessions open is stopped and started again in the middle of play: nothing is undone,
// nobody leaves, and clients are back by themselves.
func TestSessionsAreLeftOpenForTheNextService(t *testing.T) {
	p := testservice.Start(t, "serve", "--on-stop", "leave")
	text := strings.Replace(testservice.Contract, "seats 16", "seats 16 grace 30s", 1)
	v, err := p.Publish(t.Context(), "tidewreck.kam", text, nil)
	require.NoError(t, err)
	opened, err := p.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)
	session := opened.ID
	var back, undone atomic.Int32
	ended := make(chan string, 1)
	me, err := client.Join(t.Context(), p.Service, session, "Ana", "", client.Options{
		OnBack:   func() { back.Add(1) },
		OnUndone: func(list []uint64, _ int64) { undone.Add(int32(len(list))) },
		OnEnd:    func(reason string) { ended <- reason },
	})
	require.NoError(t, err)
	defer me.Close()
	ask := func() wire.Decision {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		d, err := me.Ask(ctx, 0, "Diver.use", []byte(`"patch"`))
		require.NoError(t, err)
		return d
	}
	assert.Equal(t, wire.Accepted, ask().Outcome)
	before, err := p.Session(t.Context(), session)
	require.NoError(t, err)
	assert.Equal(t, 0, p.Stop(), p.Log())
	assert.True(t, strings.Contains(p.Log(), "session left open"), p.Log())
	p.Restart()
	require.Eventually(t, func() bool { return back.Load() == 1 }, 30*time.Second, 20*time.Millisecond)
	assert.Zero(t, undone.Load(), "all that was decided had been stored")
	assert.Equal(t, wire.Accepted, ask().Outcome, "the second of two patches")
	assert.NotEqual(t, wire.Accepted, ask().Outcome, "there is no third one")
	after, err := p.Session(t.Context(), session)
	require.NoError(t, err)
	assert.True(t, after.Open)
	assert.Greater(t, after.Tick, before.Tick)
	assert.Len(t, after.Clients, 1)
	select {
	case reason := <-ended:
		t.Fatal("the client was ended: " + reason)
	default:
	}
}
