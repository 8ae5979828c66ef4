package load

import (
	"context"
	"net"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/wire"
	"kamerad.example/demo"
	"kamerad.example/service"
	"kamerad.example/store"
)

func open(t *testing.T) (address string, session int64) {
	records := &store.Memory{}
	v, err := service.New(t.Context(), service.Options{Records: records, Recorder: records, Console: fstest.MapFS{}})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- v.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	admin := api.Client{Service: "http://" + l.Addr().String()}
	_, err = admin.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
	require.NoError(t, err)
	return admin.Service, s.ID
}

// Clients of a load act by the contract: nothing that they send is malformed or from somebody who may not, and they
// stay in step.
func TestALoadActsByTheContract(t *testing.T) {
	address, session := open(t)
	joined := 0
	r, err := Run(t.Context(), Options{
		Service: address,
		Session: session,
		Clients: 6,
		For:     1500 * time.Millisecond,
		Asks:    12,
		Writes:  5,
		Name:    "Diver",
		Seed:    3,
		OnJoin:  func(n int) { joined = n },
		OnTime:  func(time.Duration) {},
	})
	require.NoError(t, err)
	assert.Equal(t, 6, joined)
	assert.Greater(t, r.Asked+r.Kept, 40)
	assert.Greater(t, r.Written, 20)
	assert.Positive(t, r.Frames)
	assert.Positive(t, r.Bytes)
	assert.Zero(t, r.Decisions[wire.Malformed]+r.Decisions[wire.Faulted])
	assert.NotContains(t, r.Reasons, "not the owner")
	assert.NotContains(t, r.Reasons, "not allowed")
	assert.Positive(t, r.Compared)
	assert.Zero(t, r.Differed)
	assert.Empty(t, r.Out)
	assert.Equal(t, r.Asked, r.Delay.Count)
	assert.LessOrEqual(t, r.Delay.P50, r.Delay.P99)
}

func TestALoadThatCannotBeIsRefused(t *testing.T) {
	address, session := open(t)
	for message, o := range map[string]Options{
		"with 0 clients: from 1 to 1000":        {For: time.Second},
		"for 0s: it has to last some time":      {Clients: 1},
		"with 900 requests":                     {Clients: 1, For: time.Second, Asks: 900},
		"all 16 seats of the session are taken": {Clients: 17, For: time.Second, Name: "Diver"},
	} {
		o.Service = address
		o.Session = session
		_, err := Run(t.Context(), o)
		require.ErrorContains(t, err, message)
	}
}

// A client that is out is counted once, whatever it was doing.
func TestAClientThatIsOutIsCountedOnce(t *testing.T) {
	address, session := open(t)
	admin := api.Client{Service: address}
	joined := make(chan struct{}, 6)
	go func() {
		for range 6 {
			<-joined
		}
		_, _ = admin.Close(context.Background(), session, "enough")
	}()
	r, err := Run(t.Context(), Options{
		Service: address,
		Session: session,
		Clients: 6,
		For:     20 * time.Second,
		Asks:    12,
		Writes:  20,
		Name:    "Diver",
		Seed:    3,
		OnJoin:  func(int) { joined <- struct{}{} },
	})
	require.NoError(t, err)
	out := 0
	for _, n := range r.Out {
		out += n
	}
	assert.Equal(t, 6, out)
}
