package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/service/gateway"
	"kamerad.example/store"
)

var page = fstest.MapFS{"index.html": {Data: []byte("<title>page</title>")}, "assets/app.js": {Data: []byte("1")}}

// start runs a service in this process.
func start(t *testing.T, console fs.FS) (*Service, api.Client) {
	db, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	v, err := New(t.Context(), Options{Records: db, Recorder: store.NewRecorder(db), Console: console})
	require.NoError(t, err)
	t.Cleanup(db.Close) // after the service has ended
	return v, serve(t, v)
}

// serve lets a service listen until the test ends.
func serve(t *testing.T, v *Service) api.Client {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- v.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	return api.Client{Service: "http://" + l.Addr().String()}
}

func opened(t *testing.T, v *Service, admin api.Client, paused bool) *gateway.Connections {
	_, err := admin.Publish(t.Context(), "tidewreck.kam", testservice.Contract, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck", Paused: paused})
	require.NoError(t, err)
	return v.registry.Find(s.ID)
}

func get(t *testing.T, method, url, body string, header map[string]string) (status int, content string, kind string) {
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	for k, v := range header {
		if k == "Host" {
			req.Host = v
		} else {
			req.Header.Set(k, v)
		}
	}
	answer, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(raw), answer.Header.Get("Content-Type")
}

func TestPagesFromElsewhereAreTurnedAway(t *testing.T) {
	_, admin := start(t, page)
	host := strings.TrimPrefix(admin.Service, "http://")
	for _, c := range []struct {
		header map[string]string
		status int
	}{
		{nil, 200},
		{map[string]string{"Host": "localhost:99"}, 200},
		{map[string]string{"Host": "[::1]:99"}, 200},
		{map[string]string{"Origin": "http://" + host}, 200},
		{map[string]string{"Host": "wreck.example"}, 403},
		{map[string]string{"Host": "127.0.0.1.wreck.example"}, 403},
		{map[string]string{"Origin": "http://wreck.example"}, 403},
		{map[string]string{"Origin": "null"}, 403},
		{map[string]string{"Origin": "http://localhost:1"}, 403},
	} {
		status, body, kind := get(t, "GET", admin.Service+"/api/sessions", "", c.header)
		assert.Equal(t, c.status, status, "%v: %s", c.header, body)
		if status == 403 {
			assert.Equal(t, "application/problem+json", kind)
		}
	}
}

func TestTheConsoleIsServed(t *testing.T) {
	_, admin := start(t, page)
	for path, want := range map[string]string{
		"/":               "page",
		"/sessions/7":     "page",
		"/index.html":     "page",
		"/assets/app.js":  "1",
		"/assets/none.js": "no such file",
		"/healthz":        "alive",
		"/readyz":         "ready",
	} {
		status, body, _ := get(t, "GET", admin.Service+path, "", nil)
		assert.Contains(t, body, want, path)
		assert.Equal(t, path == "/assets/none.js", status == 404, path)
	}
	_, bare := start(t, fstest.MapFS{})
	status, body, _ := get(t, "GET", bare.Service+"/", "", nil)
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "./run build")
}

func TestBadCallsAreProblems(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, true)
	base := fmt.Sprintf("/api/sessions/%d", x.Runner().ID())
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/api/nothing", "", 404, "the API has nothing at"},
		{"DELETE", "/api/sessions", "", 405, "cannot be done"},
		{"POST", "/api/sessions", "{", 400, "read what was sent"},
		{"POST", "/api/sessions", `{"contract":"tidewreck","colour":1}`, 400, "colour"},
		{"POST", "/api/sessions", `{"contract":"tidewreck","version":-1}`, 400, "whole number"},
		{"POST", "/api/contracts", `{"source":"` + strings.Repeat("x", 3<<20) + `"}`, 413, "longer than"},
		{
			"POST", "/api/contracts", `{"source":"contract a language 1 // ` + strings.Repeat("x", 1<<20) + `"}`, 422,
			"1 mistake",
		},
		{"GET", "/api/contracts/tidewreck/versions/x", "", 400, "whole number"},
		{"GET", "/api/contracts/a%00b", "", 404, "no contract"},
		{"GET", "/api/contracts/none/versions/1", "", 404, "tidewreck"},
		{"GET", "/api/sessions/x", "", 404, "no session x"},
		{"GET", base + "/decisions?limit=0", "", 400, "from 1 to 10000"},
		{"POST", base + "/step", `{"ticks":0}`, 400, "from 1 to 10000"},
		{"POST", base + "/close", `{"reason":""}`, 400, "1 to 100 characters"},
		{"POST", base + "/clients", `{"name":""}`, 400, "1 to 24 characters"},
		{"POST", base + "/clients/9/ask", `{"request":"Diver.search"}`, 404, "no test client 9"},
		{"GET", base + "/join", "", 426, "asks for none"},
	} {
		status, body, kind := get(t, c.method, admin.Service+c.path, c.body, nil)
		assert.Equal(t, c.status, status, "%s %s: %.200s", c.method, c.path, body)
		assert.Equal(t, "application/problem+json", kind, c.path)
		var p api.Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p))
		assert.Equal(t, c.status, p.Status)
		assert.Contains(t, body, c.want, "%s %s", c.method, c.path)
	}
}

func TestTestClientsPlayThroughTheAPI(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, false)
	base := fmt.Sprintf("%s/api/sessions/%d/clients", admin.Service, x.Runner().ID())
	status, body, _ := get(t, "POST", base, `{"name":"Ana"}`, nil)
	require.Equal(t, 200, status, body)
	assert.JSONEq(t, `{"number":1,"name":"Ana","role":"player"}`, body)
	_, body, _ = get(t, "POST", base+"/1/ask", `{"request":"Diver.search"}`, nil)
	assert.JSONEq(t, `{"seq":1,"outcome":"accepted","check":-1}`, body)
	_, body, _ = get(t, "POST", base+"/1/ask", `{"request":"Strongbox.guess","args":["rust"]}`, nil)
	assert.JSONEq(t, `{"seq":2,"outcome":"accepted","check":-1,"reply":false}`, body)
	_, body, _ = get(t, "POST", base+"/1/ask", `{"request":"Diver.use","args":["relic"]}`, nil)
	assert.Contains(t, body, `"reason":"not carried"`)
	status, body, _ = get(t, "POST", base, `{"name":"Ana"}`, nil)
	assert.Equal(t, 400, status, body)
	status, _, _ = get(t, "POST", base+"/1/close", "", nil)
	assert.Equal(t, 200, status)
	require.Eventually(t, func() bool {
		status, _, _ := get(t, "POST", base+"/1/ask", `{"request":"Diver.search"}`, nil)
		s, err := admin.Session(t.Context(), x.Runner().ID())
		return status == 404 && err == nil && len(s.Clients) == 0
	}, 5*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool {
		_, body, _ := get(t, "GET", base, "", nil)
		return strings.Contains(body, `"left_reason":"the client left"`)
	}, 5*time.Second, 20*time.Millisecond, "who took part is stored")
	_, body, _ = get(t, "GET", admin.Service+"/metrics", "", nil)
	assert.Contains(t, body, `kamerad_decisions_total{outcome="accepted",stage=""} 2`)
	assert.Contains(t, body, `kamerad_decisions_total{outcome="denied",stage="check"} 1`)
	assert.Contains(t, body, "kamerad_sessions 1")
}

// What watchers are shown of a client is what it has confirmed, not what it was sent.
func TestACopyIsShownAsConfirmed(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, true)
	conn := ask(t, admin, x.Runner().ID(), wire.Join{Name: "Ana"})
	_, _, err := conn.ReadMessage() // once the hello is there, it has its seat
	require.NoError(t, err)
	say := func(m string) { require.NoError(t, conn.WriteMessage(websocket.TextMessage, []byte(m))) }

	seen := make(chan api.Watch, 100)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		_ = admin.Watch(ctx, x.Runner().ID(), func(m api.Watch) error { seen <- m; return nil })
	}()
	sheet := <-seen
	require.Equal(t, api.WatchSheet, sheet.Type)
	step := func() api.Watch {
		_, err := admin.Step(t.Context(), x.Runner().ID(), 1)
		require.NoError(t, err)
		return <-seen
	}
	m := step()
	require.Len(t, m.Clients, 1)
	assert.Equal(
		t, []any{int64(0), int64(1), int64(1), 0},
		[]any{m.Clients[0].Seen, m.Clients[0].Sent, m.Clients[0].Waits, len(m.Clients[0].Frames)},
	)

	say(`{"type":"seen","seen":1}`)
	say(`{"type":"ask","seq":1,"request":"Diver.search","args":[],"seen":1}`)
	require.Eventually(
		t, func() bool { s, _ := admin.Session(t.Context(), x.Runner().ID()); return s.Queued == 1 }, 5*time.Second,
		time.Millisecond,
	)
	m = step()
	assert.Equal(
		t, []any{int64(1), int64(2), int64(2), 1},
		[]any{m.Clients[0].Seen, m.Clients[0].Sent, m.Clients[0].Waits, len(m.Clients[0].Frames)},
	)
	assert.Contains(t, frameOf(t, m), `"hull":100`)
	assert.NotContains(t, frameOf(t, m), `"events"`)
	require.Len(t, m.Decisions, 1)
	assert.Equal(t, []string{"hull", "air", "satchel", "finds"}, changed(m.Decisions[0]))

	say(`{"type":"seen","seen":999}`) // more than it was sent says nothing
	say(`{"type":"seen","seen":2}`)
	require.Eventually(t, func() (confirmed bool) {
		require.NoError(t, x.Runner().Do(t.Context(), func() { confirmed = x.Runner().Session().Seen(1) == 2 }))
		return confirmed
	}, 5*time.Second, time.Millisecond)
	m = step()
	require.Len(t, m.Clients[0].Frames, 1)
	assert.Contains(t, frameOf(t, m), `"hull":93`)

	// Somebody who comes later gets the same.
	err = admin.Watch(t.Context(), x.Runner().ID(), func(m api.Watch) error {
		require.Len(t, m.Clients, 1)
		assert.Contains(t, frameOf(t, m), `"hull":93`)
		assert.Contains(t, string(m.Server), `"finds":1`)
		assert.NotContains(t, frameOf(t, m), `"finds"`)
		return errors.New("enough")
	})
	assert.EqualError(t, err, "enough")
}

// Who watches is told what a client with a limit of bytes was sent, and that what it has not is on its way.
func TestWhatWaitsForBytesIsShown(t *testing.T) {
	v, admin := start(t, page)
	text := `contract buoys language 2
each client at most 500 bytes per second
entity Buoy { words: text max 40 = "a buoy that nobody has painted so far"; on spawn { words = "painted" } }
shared Dive { on start { for n in 1..99 { spawn Buoy } } }
`
	_, err := admin.Publish(t.Context(), "buoys.kam", text, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "buoys", Paused: true})
	require.NoError(t, err)
	_, err = v.Host(t.Context(), s.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	_, err = admin.Step(t.Context(), s.ID, 3)
	require.NoError(t, err)
	err = admin.Watch(t.Context(), s.ID, func(m api.Watch) error {
		require.Len(t, m.Clients, 1)
		bytes := m.Clients[0].Bytes
		require.NotNil(t, bytes)
		assert.Equal(t, 500, bytes.Limit)
		assert.Greater(t, bytes.Sent, 100)
		assert.Greater(t, bytes.Waiting, 50)
		assert.EqualValues(t, 1, m.Clients[0].Waits)
		return errors.New("enough")
	})
	assert.EqualError(t, err, "enough")
}

// Who comes to watch is told what requests changed before, too.
func TestWhatWasDecidedBeforeIsShown(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, false)
	ana, err := v.Host(t.Context(), x.Runner().ID(), "Ana", "", client.Options{})
	require.NoError(t, err)
	d, err := ana.Forge(t.Context(), 0, "Diver.search")
	require.NoError(t, err)
	require.Equal(t, wire.Accepted, d.Outcome)
	err = admin.Watch(t.Context(), x.Runner().ID(), func(m api.Watch) error {
		require.Len(t, m.Decisions, 1)
		assert.Equal(t, []string{"hull", "air", "satchel", "finds"}, changed(m.Decisions[0]))
		assert.Contains(t, string(m.Server), `"finds":1`)
		return errors.New("enough")
	})
	assert.EqualError(t, err, "enough")
}

func changed(d api.Decision) (out []string) {
	for _, c := range d.Changes {
		out = append(out, c.Property)
	}
	return out
}

// A hundred sessions with clients come and go, and nothing of them stays.
func TestNothingSurvivesASession(t *testing.T) {
	v, admin := start(t, page)
	opened(t, v, admin, false)
	before := runtime.NumGoroutine()
	var group sync.WaitGroup
	for range 10 {
		group.Add(1)
		go func() {
			defer group.Done()
			for range 10 {
				s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
				if !assert.NoError(t, err) {
					return
				}
				a, err := client.Join(t.Context(), admin.Service, s.ID, "Ana", "", client.Options{})
				assert.NoError(t, err)
				b, err := client.Join(t.Context(), admin.Service, s.ID, "Bo", "", client.Options{})
				assert.NoError(t, err)
				_, err = a.Forge(t.Context(), 0, "Diver.search")
				assert.NoError(t, err)
				a.Close()
				_, err = admin.Close(t.Context(), s.ID, "enough")
				assert.NoError(t, err)
				<-b.Ended()
				assert.Equal(t, "the session closed: enough", b.Reason())
			}
		}()
	}
	group.Wait()
	assert.Len(t, v.registry.All(), 1)
	http.DefaultClient.CloseIdleConnections()
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+5 }, 10*time.Second, 20*time.Millisecond,
		"%d goroutines before", before)
}

// frameOf returns the frame of the only client of a message, as JSON.
func frameOf(t *testing.T, m api.Watch) string {
	require.Len(t, m.Clients, 1)
	require.Len(t, m.Clients[0].Frames, 1)
	raw, err := m.Frame(m.Clients[0].Frames[0])
	require.NoError(t, err)
	return string(raw)
}
