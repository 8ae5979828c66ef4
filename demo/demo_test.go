package demo_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/compile"
	"kamerad.example/core/syntax"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
)

func TestTidewreckIsRightAndInTheStyle(t *testing.T) {
	_, problems := compile.LoadWith("tidewreck.kam", demo.Contract, demo.Files.Open)
	assert.Empty(t, problems, problems.Error())
	out, _ := syntax.Format(syntax.NewSource("tidewreck.kam", demo.Contract))
	assert.Equal(t, demo.Contract, out)
}

// A bot plays as a player would: mostly what is allowed, over a long time, and it stops when it is told to.
func TestABotPlaysByItsCopy(t *testing.T) {
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	s, err := p.Open(
		t.Context(),
		api.OpenSession{Contract: "tidewreck", Settings: map[string]json.RawMessage{"divers": json.RawMessage("1")}},
	)
	require.NoError(t, err)
	bot, err := client.Join(t.Context(), p.Service, s.ID, "Ana", "player", client.Options{})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- demo.Play(ctx, bot, 1, 10*time.Millisecond) }()
	outcomes := map[wire.Outcome]int{}
	asked := map[string]int{}
	watching, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	err = p.Watch(watching, s.ID, func(m api.Watch) error {
		for _, d := range m.Decisions {
			outcomes[d.Outcome]++
			asked[d.Request]++
		}
		if outcomes[wire.Accepted] >= 40 && outcomes[wire.Denied] > 0 {
			return context.Canceled
		}
		return nil
	})
	require.ErrorIs(t, err, context.Canceled, "%v", outcomes)
	assert.Zero(t, outcomes[wire.Malformed]+outcomes[wire.Faulted], "%v", outcomes)
	assert.NotEmpty(t, asked["Diver.search"])
	assert.NotEmpty(t, asked["Diver.use"])
	stop()
	require.NoError(t, <-done)
	<-bot.Ended()
	require.Eventually(t, func() bool {
		s, err := p.Session(t.Context(), s.ID)
		return err == nil && len(s.Clients) == 0
	}, 5*time.Second, 10*time.Millisecond, "its seat is free")

	again, err := client.Join(t.Context(), p.Service, s.ID, "Ana", "referee", client.Options{})
	require.NoError(t, err)
	d, err := again.Forge(t.Context(), 0, "Strongbox.guess", json.RawMessage("2"))
	require.NoError(t, err)
	assert.Equal(t, "not allowed", d.Reason)
	for _, request := range []string{"Dive.end_dive", "Dive.begin"} {
		d, err := again.Forge(t.Context(), 0, request)
		require.NoError(t, err)
		assert.Equal(t, wire.Accepted, d.Outcome, request)
	}
	played := make(chan error, 1)
	go func() { played <- demo.Play(t.Context(), again, 1, time.Millisecond) }()
	_, err = p.Close(t.Context(), s.ID, "enough")
	require.NoError(t, err)
	assert.NoError(t, <-played, "a bot ends with its session")
}
