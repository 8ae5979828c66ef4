package gateway

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/session"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/service/door"
	"kamerad.example/service/runner"
	"kamerad.example/store"
)

// testSession is a session with its runner and its connections, without a service around it.
type testSession struct {
	*Connections
	records *store.Memory
	metrics *prometheus.Registry
	now     func() time.Time // the runner's clock; a test sets it on the runner's goroutine
	url     string           // where its WebSocket is, for dial
}

// newTestSession opens a session of a contract and runs it until the test ends.
func newTestSession(t testing.TB, source string, paused bool) *testSession {
	s, err := session.New(contracts.Load(t, source), session.Options{
		Trace:    true,
		Headroom: Headroom,
		Memory:   session.DefaultMemory,
	})
	require.NoError(t, err)
	x := &testSession{records: &store.Memory{}, metrics: prometheus.NewRegistry(), now: time.Now}
	r := runner.New(runner.Options{
		Row:      store.Session{ID: 1, Contract: s.Contract().Name, Version: 1},
		Session:  s,
		Recorder: x.records,
		Meters:   runner.NewMeters(x.metrics),
		Paused:   paused,
		Now:      func() time.Time { return x.now() },
	})
	g := New(x.metrics)
	x.Connections = g.Connect(r)
	go r.Run()
	g.Door = door.New(door.Options{})
	server := httptest.NewServer(g.Join(
		func(*http.Request) (*Connections, error) { return x.Connections, nil },
		func(*http.Request) *door.Address { return nil },
	))
	x.url = strings.Replace(server.URL, "http", "ws", 1)
	t.Cleanup(func() {
		r.Close(context.Background(), "the test has ended")
		g.Halt()
		g.Wait()
		g.Stop()
		server.Close()
	})
	return x
}

func (x *testSession) do(ctx context.Context, f func()) error { return x.runner.Do(ctx, f) }

func (x *testSession) tick() { x.runner.Tick() }

func (x *testSession) session() *session.Session { return x.runner.Session() }

// metric returns the value of a counter or a gauge.
func (x *testSession) metric(t testing.TB, name string) float64 {
	families, err := x.metrics.Gather()
	require.NoError(t, err)
	for _, family := range families {
		if family.GetName() == name {
			return family.GetMetric()[0].GetCounter().GetValue() + family.GetMetric()[0].GetGauge().GetValue()
		}
	}
	require.Fail(t, "there is no such metric", name)
	return 0
}

// seatOf returns what a connection asks for that is a pipe or a socket, in JSON or binary.
func seatOf(j wire.Join, pipe, json bool) seatRequest {
	return seatRequest{SeatRequest: runner.SeatRequest{Join: j}, pipe: pipe, json: json}
}

// saidReady is a client's message that it is ready.
func saidReady(c *connection, at time.Time) *inboundMessage {
	return &inboundMessage{Message: runner.Message{Type: wire.MessageReady, At: at}, from: c}
}

// saidSeen is a client's message that it has applied the frames up to a tick.
func saidSeen(c *connection, tick int64, at time.Time) *inboundMessage {
	return &inboundMessage{Message: runner.Message{Type: wire.MessageSeen, Confirmed: tick, At: at}, from: c}
}

// dial opens a connection to the session and says nothing.
func (x *testSession) dial(t *testing.T, protocol string) *websocket.Conn {
	dialer := websocket.Dialer{Subprotocols: []string{protocol}}
	c, _, err := dialer.DialContext(t.Context(), x.url, nil)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// ask opens a connection to the session and asks for a seat.
func (x *testSession) ask(t *testing.T, j wire.Join) *websocket.Conn {
	c := x.dial(t, wire.Protocol)
	require.NoError(t, c.WriteMessage(websocket.TextMessage, j.JSON()))
	return c
}
