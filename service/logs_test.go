package service

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
)

// What a client logs comes to who watches, with its side and the tick of its copy; a long line is cut, and of too many
// the surplus is dropped.
func TestLinesOfAClientsLogComeToWhoWatches(t *testing.T) {
	v, admin := alone(t)
	x := opened(t, v, admin, false)
	lines := make(chan api.LogLine, 1000)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	began := make(chan struct{})
	go func() {
		_ = admin.Watch(ctx, x.Runner().ID(), func(m api.Watch) error {
			if m.Type == api.WatchSheet {
				close(began)
			}
			for _, l := range m.Logs {
				lines <- l
			}
			return nil
		})
	}()
	<-began
	c, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "player", client.Options{})
	require.NoError(t, err)
	defer c.Close()
	c.Ready()
	require.Eventually(t, func() bool { return x.Runner().LastTick() > 3 }, 5*time.Second, 10*time.Millisecond)
	c.Log("the rope is taut")
	first := <-lines
	assert.Equal(t, "the rope is taut", first.Text)
	assert.Equal(t, c.Me().Number, first.Side)
	assert.Positive(t, first.Seen)
	assert.GreaterOrEqual(t, first.Tick, first.Seen)
	c.Log(strings.Repeat("ä", wire.MaxLog))
	second := <-lines
	assert.LessOrEqual(t, len(second.Text), wire.MaxLog)
	assert.True(t, strings.HasSuffix(second.Text, "ä…"))
	for range 300 {
		c.Log("again")
	}
	require.Eventually(t, func() bool { return len(lines) >= 40 }, 10*time.Second, 10*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	assert.Less(t, len(lines), 250, "the surplus is dropped")
}
