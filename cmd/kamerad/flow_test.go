package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

// sessionWithTests opens a session of Tidewreck's test contract with test clients that stay, and has the first one use
// a patch.
func sessionWithTests(t *testing.T, names ...string) (*testservice.Process, api.Client, string) {
	service := testservice.Start(t, "serve")
	admin := service.Client
	_, err := admin.Publish(t.Context(), "tidewreck.kam", testservice.Contract, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
	require.NoError(t, err)
	for _, name := range names {
		_, err := admin.OpenTestClient(t.Context(), s.ID, name, "player")
		require.NoError(t, err)
	}
	return service, admin, fmt.Sprint(s.ID)
}

// `flow` tells a request, its decision, and when each client had what it may have of it; and which link was slow.
func TestFlowTellsWhatBecameOfARequest(t *testing.T) {
	service, admin, session := sessionWithTests(t, "Ana", "Bo")
	var id int64
	_, err := fmt.Sscan(session, &id)
	require.NoError(t, err)
	_, err = admin.SetLink(t.Context(), id, 2, api.Link{DelayMs: 400})
	require.NoError(t, err)
	d, err := admin.AskAs(t.Context(), id, 1, 0, "Diver.paint", json.RawMessage(`"kelp"`))
	require.NoError(t, err)
	require.Equal(t, wire.Accepted, d.Outcome)
	seq := fmt.Sprint(d.Seq)
	time.Sleep(1200 * time.Millisecond)
	out, status := service.Run("", "flow", session, seq, "--json")
	require.Equal(t, 0, status, out)
	var f flow
	require.NoError(t, json.Unmarshal([]byte(out), &f))
	require.True(t, f.Known)
	require.Len(t, f.To, 2)
	assert.Equal(t, []string{"Ana.Diver.tint coral → kelp"}, f.To[0].Changes)
	assert.Equal(t, []string{"Ana.Diver.tint coral → kelp"}, f.To[1].Changes)
	assert.False(t, f.isLate(f.To[0]), "%+v", f.To[0])
	assert.True(t, f.isLate(f.To[1]), "%+v", f.To[1])
	assert.GreaterOrEqual(t, f.ms(f.To[1].Tick), int64(400))

	out, status = service.Run("", "flow", session, seq, "--as", "Ana")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "A ▲ Ana → server  Diver.paint(kelp)")
	assert.Regexp(t, `server → B ● Bo  Ana.Diver.tint coral → kelp  late`, out)
	out, status = service.Run("", "flow", session, seq, "--mermaid")
	assert.Equal(t, 0, status)
	assert.True(t, strings.HasPrefix(out, "sequenceDiagram\n  participant C1 as Ana\n"), out)
	assert.Regexp(t, `S-->>C2: Ana.Diver.tint coral → kelp \(tick \d+, \d+ ms\)`, out)

	out, status = service.Run("", "flow", session, "77")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "does not remember request 77; the last ones are 1 of Ana")
	out, _ = service.Run("", "flow", session, seq, "--as", "Bo")
	assert.Contains(t, out, "remembers no request of Bo")
}

// `traffic` tells each client's bytes and what they were spent on, and counts one client alone when asked to.
func TestTrafficTellsWhatBytesAreSpentOn(t *testing.T) {
	service, _, session := sessionWithTests(t, "Ana", "Bo")
	out, status := service.Run("", "traffic", session, "--for", "2s", "--json")
	require.Equal(t, 0, status, out)
	var all traffic
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all.Clients, 2)
	sum := int64(0)
	for _, c := range all.Clients {
		assert.Positive(t, c.BytesDown)
		assert.Positive(t, c.MessagesUp)
		sum += c.BytesDown + c.BytesUp
	}
	rows := int64(0)
	for i, r := range all.Rows {
		rows += r.Bits
		if i > 0 {
			assert.LessOrEqual(t, r.Bits, all.Rows[i-1].Bits, "the costliest first")
		}
	}
	assert.InDelta(t, sum, rows/8, 2)
	out, status = service.Run("", "traffic", session, "--for", "1s", "--client", "Bo")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "B ● Bo")
	assert.NotContains(t, out, "A ▲ Ana")
	assert.Contains(t, out, "confirmations")
	out, status = service.Run("", "traffic", session, "--client", "Zed")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, `has no client "Zed"`)
	out, status = service.Run("", "traffic", session, "--for", "1ms")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "--for is from 1s to 1h0m0s")
}
