package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/store"
)

// Requests that are refused are all counted, and stored only as many as one client may have; long arguments are stored
// as their length. What others do is stored as ever.
func TestAFloodIsCountedAndNotStored(t *testing.T) {
	records := &store.Memory{}
	v, err := New(t.Context(), records, records, page)
	require.NoError(t, err)
	api := serve(t, v)
	_, err = api.Publish(t.Context(), "knock.kam", knock, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "knock", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	long := json.RawMessage(`"` + strings.Repeat("x", 10_000) + `"`)
	require.NoError(t, x.do(t.Context(), func() {
		clock := time.Now()
		x.now = func() time.Time { return clock }
		eve, err := x.join(joinRequest{Join: wire.Join{Name: "Eve"}, pipe: true})
		require.NoError(t, err)
		ana, err := x.join(joinRequest{Join: wire.Join{Name: "Ana"}, pipe: true})
		require.NoError(t, err)
		x.tick()
		seq := uint64(0)
		for range 400 { // twenty seconds
			clock = clock.Add(50 * time.Millisecond)
			for range 20 {
				seq++
				x.session.Ask(
					eve.client,
					x.session.ReadRequest(wire.Ask{Seq: seq, Request: "Diver.none", Args: []json.RawMessage{long}}),
				)
			}
			x.session.Ask(
				ana.client, x.session.ReadRequest(wire.Ask{Seq: seq, Request: "Diver.tap", Args: []json.RawMessage{}}),
			)
			x.tick()
			for _, c := range []*connection{eve, ana} {
				if raw, marks := c.outbox.take(); raw != nil {
					c.outbox.done(raw, marks, clock)
				}
				x.session.Confirm(c.client, x.session.Now())
				x.handle(&inboundMessage{
					from:      c,
					typ:       "seen",
					confirmed: x.session.Now(),
					at:        clock,
				})
			}
		}
	}))
	list, err := records.Decisions(t.Context(), s.ID, 100_000)
	require.NoError(t, err)
	counts := map[string]int{}
	bytes := 0
	for _, d := range list {
		counts[d.Name]++
		bytes += len(d.Args)
	}
	assert.Equal(t, 400, counts["Ana"])
	assert.InDelta(t, 250, counts["Eve"], 15, "ten a second and fifty at once")
	assert.Less(t, bytes, 40_000)
	_, metrics, _ := get(t, "GET", api.Service+"/metrics", "", nil)
	assert.Contains(t, metrics, `kamerad_decisions_total{outcome="malformed",stage="types"} 8000`)
}

// captureLog has the test read what is logged.
func captureLog(t *testing.T) *bytes.Buffer {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	t.Cleanup(func() { slog.SetDefault(before) })
	return &log
}

// A timer that fails again and again is logged once a minute, with how often it did.
func TestATimerThatFailsIsLoggedWithACount(t *testing.T) {
	log := captureLog(t)
	v, api := alone(t)
	_, err := api.Publish(
		t.Context(), "fails.kam",
		"contract fails language 1\nroles player\nshared Sea { n: int 0..9 = 0; every 50ms { n = 3 / n } }", nil,
	)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "fails", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	require.NoError(t, x.do(t.Context(), func() {
		clock := time.Now()
		x.now = func() time.Time { return clock }
		for range 3000 { // 150 seconds
			clock = clock.Add(50 * time.Millisecond)
			x.tick()
		}
	}))
	assert.Equal(t, 3, strings.Count(log.String(), "division by zero"), "%.500s", log.String())
	assert.Contains(t, log.String(), "times=1200")
}

// taken is records whose database another service may have.
type taken struct{ *store.Memory }

func (taken) Held() bool { return false }

// No session is opened while the database is not held for this service, and who looks is told.
func TestNothingIsOpenedOnADatabaseThatIsNotHeld(t *testing.T) {
	records := taken{&store.Memory{}}
	v, err := New(t.Context(), records, records.Memory, page)
	require.NoError(t, err)
	api := serve(t, v)
	_, err = api.Publish(t.Context(), "knock.kam", knock, nil)
	require.NoError(t, err)
	status, body, _ := get(t, "POST", api.Service+"/api/sessions", `{"contract":"knock"}`, nil)
	assert.Equal(t, http.StatusServiceUnavailable, status, body)
	status, body, _ = get(t, "GET", api.Service+"/readyz", "", nil)
	assert.Equal(t, http.StatusServiceUnavailable, status, body)
	_, body, _ = get(t, "GET", api.Service+"/api/service", "", nil)
	assert.Contains(t, body, `"held":false`)
	assert.Contains(t, body, `"records_waiting":0`, fmt.Sprint(body))
}

// A session whose ticks take longer than there is between them is seen: how long, and by what.
func TestASlowSessionIsSeen(t *testing.T) {
	log := captureLog(t)
	v, api := alone(t)
	_, err := api.Publish(t.Context(), "slow.kam", `contract slow language 1
roles player
entity Rock { n: int 0..9 = 0 }
shared Sea {
  n: int 0..99 = 0
  on start { for i in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { for j in [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] { spawn Rock } } }
  every 50ms { for a in Rock { for b in Rock { n = (n + 1) % 99 } } }
}`, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "slow", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	require.NoError(t, x.do(t.Context(), func() {
		clock := time.Now()
		x.now = func() time.Time { clock = clock.Add(80 * time.Millisecond); return clock }
		for range 10 {
			x.tick()
		}
	}))
	_, body, _ := get(t, "GET", api.Service+"/api/sessions", "", nil)
	assert.Contains(t, body, `"slow":{"ticks":10,"ms":80,"of":"a timer of Sea"}`)
	assert.Equal(t, 1, strings.Count(log.String(), "take longer than there is between them"))
	_, metrics, _ := get(t, "GET", api.Service+"/metrics", "", nil)
	assert.Contains(t, metrics, "kamerad_tick_overruns_total 10")
}

// A session that another service has closed, while the hold on the database was lost, ends here as well; those that it
// left alone go on.
func TestASessionThatAnotherServiceClosedEnds(t *testing.T) {
	v, api := start(t, page)
	taken := opened(t, v, api, false)
	kept := opened(t, v, api, false)
	ana, err := client.Join(t.Context(), api.Service, taken.id, "Ana", "player", client.Options{})
	require.NoError(t, err)
	bo, err := client.Join(t.Context(), api.Service, kept.id, "Bo", "player", client.Options{})
	require.NoError(t, err)
	require.NoError(t, v.store.(*store.Store).CloseSession(t.Context(), taken.id, "another service began", 1))
	v.closeTaken(t.Context())
	select {
	case <-ana.Ended():
	case <-time.After(10 * time.Second):
		require.Fail(t, "the session goes on")
	}
	assert.Contains(t, ana.Reason(), "another service has taken the database and closed it")
	assert.Nil(t, v.runner(taken.id))
	assert.NotNil(t, v.runner(kept.id))
	select {
	case <-bo.Ended():
		require.Fail(t, bo.Reason())
	default:
	}
	row, err := v.store.Session(t.Context(), taken.id)
	require.NoError(t, err)
	assert.Equal(t, "another service began", *row.CloseReason, "what the other one stored stands")
}
