package service

import (
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
)

// What a session with very many entities took is given back soon after its end.
func TestASessionsMemoryIsGivenBack(t *testing.T) {
	_, admin := alone(t)
	_, err := admin.Publish(t.Context(), "crowded.kam", `contract crowded language 1
roles player
entity Rock { a: int 0..9 = 0; b: list<int 0..99> max 60; c: list<int 0..99> max 60 }
shared Sea { on start {
  for i in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for j in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for k in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for l in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { spawn Rock } } } }
} }`, nil)
	require.NoError(t, err)
	held := func() float64 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.Sys-m.HeapReleased) / 1e6
	}
	runtime.GC()
	before := held()
	var ids []int64
	for range 12 {
		s, err := admin.Open(t.Context(), api.OpenSession{Contract: "crowded", Paused: true})
		require.NoError(t, err)
		ids = append(ids, s.ID)
	}
	full := held()
	require.Greater(t, full, before+150, "the sessions take much")
	for _, id := range ids {
		_, err := admin.Close(t.Context(), id, "enough")
		require.NoError(t, err)
	}
	assert.Eventually(
		t, func() bool { return held() < before+(full-before)/2 }, 15*time.Second, 100*time.Millisecond,
		"%.0f MB before, %.0f MB full", before, full,
	)
}
