package service

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/wire"
)

// A test client holds what it is told to until it is released, and writes what it may; who watches is told of a write
// that was refused, and of a connection that is lost.
func TestATestClientHoldsAndWrites(t *testing.T) {
	v, admin := alone(t)
	_, err := admin.Publish(t.Context(), "reef.kam", `contract reef language 1
seats 8 grace 30s
roles player
entity Diver per player {
  hull: int 0..100 = 60
  pos:  vec2 -200..200 step 0.1 = vec(0, 0) set by owner pace distance(old, new) 5 per second burst 5
  hold kick lease 3s
}
`, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "reef"})
	require.NoError(t, err)
	test, err := admin.OpenTestClient(t.Context(), s.ID, "Ana", "player")
	require.NoError(t, err)
	refused := make(chan api.Refused, 100)
	lost := make(chan bool, 1000)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		_ = admin.Watch(ctx, s.ID, func(m api.Watch) error {
			for _, r := range m.Refused {
				refused <- r
			}
			for _, c := range m.Clients {
				lost <- c.Lost
			}
			return nil
		})
	}()
	runner := v.registry.Find(s.ID).Runner()
	holds := func() (kick string) {
		require.NoError(t, runner.Do(t.Context(), func() {
			for _, x := range runner.Session().ServerState().Spawned {
				for _, f := range x.Fields {
					if x.Kind == "Diver" && f.Name == "kick" {
						kick = f.Type.Format(f.Value)
					}
				}
			}
		}))
		return kick
	}
	eventually := func(want string) {
		require.Eventually(t, func() bool { return holds() == want }, 15*time.Second, 10*time.Millisecond)
	}
	held, err := admin.Hold(t.Context(), s.ID, test.Number, api.Hold{Property: "Diver.kick"})
	require.NoError(t, err)
	assert.True(t, held.Pressed)
	eventually("true")
	time.Sleep(3500 * time.Millisecond) // longer than its lease
	assert.Equal(t, "true", holds(), "it is renewed")
	held, err = admin.Hold(t.Context(), s.ID, test.Number, api.Hold{Property: "Diver.kick", Release: true})
	require.NoError(t, err)
	assert.False(t, held.Pressed)
	eventually("false")
	_, err = admin.Hold(t.Context(), s.ID, test.Number, api.Hold{Property: "Diver.hull"})
	assert.ErrorContains(t, err, "the outline has no such hold")
	_, err = admin.Hold(t.Context(), s.ID, 77, api.Hold{Property: "Diver.kick"})
	assert.ErrorContains(t, err, "has no test client 77")

	_, err = admin.Write(t.Context(), s.ID, test.Number, api.Write{
		Property: "Diver.pos", Value: json.RawMessage(`[150,150]`),
	})
	require.NoError(t, err)
	told := <-refused
	assert.Equal(t, "Diver.pos", told.Property)
	assert.Equal(t, "write", told.Type)
	assert.Equal(t, wire.Denied, told.Outcome)
	assert.Equal(t, "Ana", told.Client.Name)
	_, err = admin.SetLink(t.Context(), s.ID, test.Number, api.Link{Cut: true})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return <-lost }, 5*time.Second, time.Millisecond)
}
