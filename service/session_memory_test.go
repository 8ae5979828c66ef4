package service

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/store"
)

// A session keeps to the memory that the service gives it: one that needs more is not opened, how much of it is taken
// is told, and nobody looks at so much that the copies of its clients take far more.
func TestASessionKeepsToItsMemory(t *testing.T) {
	records := &store.Memory{}
	v, err := New(t.Context(), Options{Records: records, Recorder: records, Console: page, SessionMemory: 4 << 20})
	require.NoError(t, err)
	admin := serve(t, v)
	open := func(name, text string) (api.Session, error) {
		_, err := admin.Publish(t.Context(), name+".kam", "contract "+name+" language 1\n"+text, nil)
		require.NoError(t, err)
		return admin.Open(t.Context(), api.OpenSession{Contract: name})
	}
	_, err = open("wide", "seats 1000\nroles player\nentity Diver per player { l: list<int 0..9> max 200 = [] }")
	require.Error(t, err)
	assert.Contains(
		t, err.Error(),
		"once all 1000 seats are taken may take 49 MB of memory, and a session of this service has 4 MB",
	)
	assert.Contains(t, err.Error(), "--session-memory")

	s, err := open("wide_sea", `seats 20
roles player
entity Diver per player { n: int 0..9 = 0 }
entity Rock { n: int 0..9 = 0 }
shared Sea {
  on tick { if count(Rock) < 2800 { for i in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { for j in [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] { spawn Rock } } } }
}`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := admin.Session(t.Context(), s.ID)
		require.NoError(t, err)
		require.LessOrEqual(t, now.Memory, now.MemoryMost)
		require.True(t, now.Open)
		return now.Memory > now.MemoryMost*8/10
	}, 20*time.Second, 20*time.Millisecond)

	watches := func() error {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		return admin.Watch(ctx, s.ID, func(api.Watch) error { cancel(); return nil })
	}
	ana, err := client.Join(t.Context(), admin.Service, s.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	defer ana.Close()
	assert.ErrorIs(t, watches(), context.Canceled)
	for i := range 9 {
		c, err := client.Join(t.Context(), admin.Service, s.ID, fmt.Sprint("Diver ", i), "", client.Options{})
		require.NoError(t, err)
		defer c.Close()
	}
	assert.ErrorContains(t, watches(), "too much to show side by side")
}
