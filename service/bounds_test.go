package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad/client"
	"kamerad/core/link"
	"kamerad/core/replicate"
	"kamerad/core/wire"
)

// counted gives the same bytes again and again, up to a bound, and counts them.
type counted struct {
	unit []byte
	left int
	read int
	at   int
}

func (c *counted) Read(to []byte) (int, error) {
	if c.left <= 0 {
		return 0, io.EOF
	}
	n := len(to) / len(c.unit) * len(c.unit)
	if n == 0 || c.at > 0 { // a unit comes in several pieces
		n = copy(to, c.unit[c.at:])
		if c.at += n; c.at == len(c.unit) {
			c.at, c.left, c.read = 0, c.left-1, c.read+1
		}
		return n, nil
	}
	n = min(n, c.left*len(c.unit))
	for i := 0; i < n; i += len(c.unit) {
		copy(to[i:], c.unit)
	}
	c.left -= n / len(c.unit)
	c.read += n / len(c.unit)
	return n, nil
}

func tallied(t *testing.T, paused bool) (*Service, client.API, *room) {
	v, api := alone(t)
	_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "tally", Paused: paused})
	require.NoError(t, err)
	return v, api, v.room(s.ID)
}

// A flood of control frames and empty parts takes a session no more time than anybody may take, and who does not stop is cut.
func TestControlFramesCountAgainstTheirSender(t *testing.T) {
	for name, frame := range map[string][]byte{
		"pings": said(final|opPing, nil), "long pings": said(final|opPing, bytes.Repeat([]byte{1}, 125)), "pongs": said(final|opPong, nil),
		"empty parts": said(opMore, nil), "messages": said(final|opText, []byte(`{"type":"ready"}`)), "long messages": said(final|opText, append([]byte(`{"type":"ready"}`), bytes.Repeat([]byte{' '}, 10000)...)),
	} {
		t.Run(name, func(t *testing.T) {
			_, _, x := tallied(t, true)
			near, far := net.Pipe()
			defer far.Close()
			go func() { _, _ = io.Copy(io.Discard, far) }()
			var c *conn
			require.NoError(t, x.do(t.Context(), func() {
				c, _ = x.join(joining{name: "Eve", json: true})
				flood := &counted{unit: frame, left: 100_000}
				if l := newHearer(x, c, newWired(c.box, near, &x.slow, func(error) {}, nil)); assert.NotNil(t, l) {
					l.in.conn = flood
					if name == "empty parts" {
						l.in.conn = io.MultiReader(bytes.NewReader(said(opText, nil)), flood)
					}
					now, visits := time.Now(), 0
					for ; visits < 400 && c.seated && flood.left > 0; visits++ {
						before := flood.read
						if visits == 0 {
							x.hearOut(l, now)
						} else if x.ears.waiting = nil; l.waits {
							l.waits = false
							x.hearOut(l, now)
						}
						assert.LessOrEqual(t, flood.read-before, 300, "visit %d", visits)
						now = now.Add(50 * time.Millisecond)
					}
					if strings.Contains(name, "messages") {
						assert.True(t, c.seated, "who sends messages waits")
						assert.Less(t, flood.read, 10_000)
						return
					}
					assert.False(t, c.seated, "who floods is cut")
					assert.InDelta(t, 200, visits, 20, "after ten seconds")
					assert.Contains(t, c.reason, "frames a second without a message")
				}
			}))
		})
	}
}

// Nothing happens to a session for a request that is no handshake for one of its protocols, or that a page from elsewhere sent.
func TestOnlyAHandshakeTakesASeat(t *testing.T) {
	_, api, x := tallied(t, false)
	url := fmt.Sprintf("%s/api/sessions/%d/join?name=Eve", api.Service, x.id)
	shake := func(more map[string]string) map[string]string {
		h := map[string]string{"Connection": "Upgrade", "Upgrade": "websocket", "Sec-WebSocket-Version": "13", "Sec-WebSocket-Key": "AAAAAAAAAAAAAAAAAAAAAA==", "Sec-WebSocket-Protocol": wire.Binary}
		for k, v := range more {
			h[k] = v
		}
		return h
	}
	for name, c := range map[string]struct {
		header map[string]string
		status int
	}{
		"a picture":                {nil, 426},
		"a picture from elsewhere": {map[string]string{"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Dest": "image"}, 403},
		"no protocol":              {shake(map[string]string{"Sec-WebSocket-Protocol": ""}), 400},
		"another protocol":         {shake(map[string]string{"Sec-WebSocket-Protocol": "chat"}), 400},
		"another origin":           {shake(map[string]string{"Origin": "http://wreck.example"}), 403},
		"another site":             {shake(map[string]string{"Sec-Fetch-Site": "cross-site"}), 403},
		"the same site":            {shake(map[string]string{"Sec-Fetch-Site": "same-site"}), 403},
	} {
		status, body, _ := get(t, "GET", url, "", c.header)
		assert.Equal(t, c.status, status, "%s: %s", name, body)
		require.NoError(t, x.do(t.Context(), func() { assert.Empty(t, x.session.Clients(), name) }))
	}
	status, _, _ := get(t, "GET", api.Service+"/sessions/1", "", map[string]string{"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "navigate"})
	assert.Equal(t, 200, status, "a link from elsewhere leads to the console")
}

// raw opens a connection and says nothing.
func raw(t *testing.T, api client.API, x *room, query string) *websocket.Conn {
	address := strings.Replace(api.Service, "http", "ws", 1) + fmt.Sprintf("/api/sessions/%d/join?%s", x.id, query)
	c, _, err := websocket.Dial(t.Context(), address, &websocket.DialOptions{Subprotocols: []string{wire.Protocol}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.CloseNow() })
	c.SetReadLimit(1 << 20)
	return c
}

// Who joins and drops the connection, ready or not, holds no session full: a seat is free within five seconds, and one who had said that it is
// ready finds its own again.
func TestAbruptJoinsLeaveSeats(t *testing.T) {
	for _, ready := range []bool{false, true} {
		_, api, x := tallied(t, false)
		seats := x.session.Contract().Seats
		for i := range seats {
			c := raw(t, api, x, fmt.Sprintf("name=Eve%d", i))
			if ready {
				require.NoError(t, c.Write(t.Context(), websocket.MessageText, []byte(`{"type":"ready"}`)))
				require.Eventually(t, func() (done bool) {
					_ = x.do(t.Context(), func() { done = true; x.open() })
					return done
				}, 5*time.Second, time.Millisecond)
			}
			_ = c.CloseNow()
		}
		began := time.Now()
		require.Eventually(t, func() bool {
			c, err := client.Join(t.Context(), api.Service, x.id, "Ana", "", client.Options{})
			if err == nil {
				c.Close()
			}
			return err == nil
		}, 5*time.Second, 20*time.Millisecond, "ready: %v", ready)
		t.Logf("ready %v: a seat was free after %s", ready, time.Since(began).Round(time.Millisecond))
	}
}

// A client that reads nothing is noticed though the system's buffers would take what it is sent for a long time; so is one that reads and
// confirms nothing.
func TestASilentClientIsBehindAndCut(t *testing.T) {
	_, api, x := tallied(t, true)
	deaf := raw(t, api, x, "name=Deaf")
	require.NoError(t, deaf.Write(t.Context(), websocket.MessageText, []byte(`{"type":"ready"}`)))
	var c *conn
	clock := time.Now()
	require.Eventually(t, func() (heard bool) {
		_ = x.do(t.Context(), func() {
			x.open()
			x.now = func() time.Time { return clock }
			c = x.conns[1]
			heard = c != nil && c.wired != nil
		})
		return heard
	}, 5*time.Second, time.Millisecond)
	behind, cut := time.Duration(0), time.Duration(0)
	for passed := time.Duration(0); passed < 40*time.Second && cut == 0; passed += 50 * time.Millisecond {
		require.NoError(t, x.do(t.Context(), func() {
			clock = clock.Add(50 * time.Millisecond)
			x.tick()
			if c.behind && behind == 0 {
				behind = passed
			}
			if !c.seated && cut == 0 {
				cut = passed
			}
		}))
	}
	assert.InDelta(t, 1.3, behind.Seconds(), 0.5)
	assert.InDelta(t, 11.7, cut.Seconds(), 1.8, "after ten seconds and twelve of the round trips that the system has measured")
}

// An honest client on the worst link for which strikes are fair, two seconds each way that lose one message in twenty, is not cut in an hour.
func TestAnHonestClientFarAwayIsNeverCut(t *testing.T) {
	_, _, x := tallied(t, true)
	hour := 72_000
	if testing.Short() {
		hour = 6000
	}
	began := time.Now()
	clock := began
	for seed := range uint64(3) {
		require.NoError(t, x.do(t.Context(), func() {
			x.now = func() time.Time { return clock }
			c, err := x.join(joining{name: fmt.Sprint("Far ", seed), pipe: true})
			require.NoError(t, err)
			down, _ := link.New(seed, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			up, _ := link.New(seed+100, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			var copied replicate.Copy
			reader := x.session.Reader(0)
			x.handle(&letter{from: c, what: "ready", at: clock})
			frames, behind, late := 0, 0, int64(0)
			for range hour {
				clock = clock.Add(50 * time.Millisecond)
				at := clock.Sub(began)
				if bytes, marks := c.box.take(); bytes != nil {
					from := 0
					for _, m := range marks {
						if m.tick > 0 {
							down.Send(at, append([]byte(nil), bytes[from:m.end]...))
						}
						from = m.end
					}
					c.box.done(bytes, marks, clock)
				}
				for _, raw := range down.Receive(at) {
					f, err := reader.Read(raw)
					require.NoError(t, err)
					copied.Apply(f)
					frames++
					up.Send(at, []byte(fmt.Sprint(f.Tick)))
				}
				for _, raw := range up.Receive(at) {
					var tick int64
					_, _ = fmt.Sscan(string(raw), &tick)
					x.handle(&letter{from: c, what: "seen", seen: tick, at: clock})
				}
				if c.behind {
					behind++
				}
				if x.tick(); !c.seated {
					break
				}
				late += x.session.Now() - max(copied.Tick, 0)
			}
			assert.True(t, c.seated, "%s", c.reason)
			t.Logf("seed %d: %d frames, behind in %.1f %% of the ticks, what it holds is %.1f s old", seed, frames, 100*float64(behind)/float64(hour), float64(late)/float64(hour)/20)
			x.drop(c.client, "enough")
		}))
	}
}

// readied seats a client that has said that it is ready.
func readied(t *testing.T, x *room) *conn {
	c, err := x.join(joining{name: "Ana", pipe: true})
	require.NoError(t, err)
	x.handle(&letter{from: c, what: "ready", at: time.Now()})
	return c
}

// A connection whose hello is lost does not cost the seat: the token that it was taken with stays good until something comes over the new
// connection, and no longer.
func TestALostHelloCostsNoSeat(t *testing.T) {
	_, _, x := tallied(t, true)
	r := rand.New(rand.NewPCG(3, 4))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			x.lose(c, "it broke")
			x.tick()
			back, err := x.join(joining{token: token, pipe: true, seen: x.session.Now()})
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			require.Equal(t, c.client, back.client)
			x.tick()
			if c = back; r.IntN(2) == 0 {
				continue // its hello never arrived: the client knows the old token alone
			}
			x.handle(&letter{from: c, what: "seen", seen: 1, at: time.Now()})
			_, err = x.join(joining{token: token, pipe: true})
			require.ErrorContains(t, err, "no seat waits", "what was heard over the new connection makes the old token void")
			token = c.token
		}
		assert.LessOrEqual(t, len(x.tokens), 8, "no token is kept that nobody can have")
	}))
}

// A client whose connection breaks tries again and again, with the token that it has. The service may come to its tries in any order, and
// find that a try's connection is gone; whichever hello the client has got, it gets its seat back, and it is told no goodbye.
func TestALateHandshakeCostsNoSeat(t *testing.T) {
	_, _, x := tallied(t, true)
	r := rand.New(rand.NewPCG(5, 6))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			void := token
			x.lose(c, "it broke")
			x.tick()
			tries := make([]*conn, 1+r.IntN(4))
			for k := range tries {
				again, err := x.join(joining{token: token, pipe: true, seen: x.session.Now()})
				if !assert.NoError(t, err, "round %d, try %d", i, k) {
					return
				}
				tries[k] = again
			}
			for _, overtaken := range tries[:len(tries)-1] {
				assert.True(t, overtaken.silent, "the client that has this one is told no goodbye")
			}
			token = tries[r.IntN(len(tries))].token // of the hello that arrived
			x.lose(tries[len(tries)-1], "its client had gone away")
			back, err := x.join(joining{token: token, pipe: true, seen: x.session.Now()})
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			c = back
			x.handle(&letter{from: c, what: "seen", seen: 1, at: time.Now()})
			token = c.token
			assert.Equal(t, map[string]int{token: c.client}, x.tokens, "what was heard makes all others void")
			_, err = x.join(joining{token: void, pipe: true})
			require.ErrorContains(t, err, "no seat waits")
		}
		x.drop(c.client, "enough")
		assert.Empty(t, x.tokens)
	}))
}

// handshake asks for a seat without a connection that a socket could be made of, and returns the status of the answer.
func handshake(ctx context.Context, v *Service, x *room, query string) int {
	request := httptest.NewRequestWithContext(ctx, "GET", fmt.Sprintf("http://127.0.0.1/api/sessions/%d/join?%s", x.id, query), nil)
	for name, value := range map[string]string{
		"Connection":             "Upgrade",
		"Upgrade":                "websocket",
		"Sec-WebSocket-Version":  "13",
		"Sec-WebSocket-Key":      "dGhlIHNhbXBsZSBub25jZQ==",
		"Sec-WebSocket-Protocol": wire.Binary,
	} {
		request.Header.Set(name, value)
	}
	answer := httptest.NewRecorder()
	v.Handler().ServeHTTP(answer, request)
	return answer.Code
}

// A client that has gone away before its handshake is answered keeps the seat that it comes back to, and takes none if it is new.
func TestAHandshakeThatFailsCostsNoSeat(t *testing.T) {
	v, _, x := tallied(t, false)
	var ana *conn
	require.NoError(t, x.do(t.Context(), func() {
		ana = readied(t, x)
		x.lose(ana, "it broke")
	}))
	for i := range 1000 {
		require.Equal(t, http.StatusInternalServerError, handshake(t.Context(), v, x, "token="+ana.token), "round %d", i)
	}
	require.Equal(t, http.StatusInternalServerError, handshake(t.Context(), v, x, "name=Bo"))
	require.NoError(t, x.do(t.Context(), func() {
		assert.Len(t, x.names, 1, "who never had a connection has no seat")
		assert.LessOrEqual(t, len(x.tokens), 8)
		back, err := x.join(joining{token: ana.token, pipe: true})
		require.NoError(t, err)
		assert.Equal(t, ana.client, back.client)
	}))
}

// Why a client is not seated has a code that a program can read; a client whose handshake's answer cannot be read asks for it as a message.
func TestRefusalsHaveCodes(t *testing.T) {
	v, api, x := tallied(t, false)
	_, err := client.Join(t.Context(), api.Service, x.id, "Ana", "", client.Options{})
	require.NoError(t, err)
	_, err = api.Publish(t.Context(), "tiny.kam", "contract tiny language 1\nseats 1\nroles player\nentity Diver per player { n: int 0..9 = 0; request go() { n = 1 } }", nil)
	require.NoError(t, err)
	tiny, err := api.Open(t.Context(), client.OpenSession{Contract: "tiny"})
	require.NoError(t, err)
	_, err = v.Host(t.Context(), tiny.ID, "Bo", "", client.Options{})
	require.NoError(t, err)
	for code, path := range map[string]string{
		"name_taken":    fmt.Sprintf("%d/join?name=Ana", x.id),
		"name_unfit":    fmt.Sprintf("%d/join?name=%%07", x.id),
		"role_unknown":  fmt.Sprintf("%d/join?name=Bo&role=captain", x.id),
		"token_spent":   fmt.Sprintf("%d/join?token=none", x.id),
		"other_outline": fmt.Sprintf("%d/join?name=Bo&outline=abc", x.id),
		"seats_taken":   fmt.Sprintf("%d/join?name=Cleo", tiny.ID),
		"not_running":   "999/join?name=Ana",
	} {
		address := strings.Replace(api.Service, "http", "ws", 1) + "/api/sessions/" + path
		dial := func(query string) (*websocket.Conn, *http.Response, error) {
			return websocket.Dial(t.Context(), address+query, &websocket.DialOptions{Subprotocols: []string{wire.Binary}})
		}
		_, answer, err := dial("")
		require.Error(t, err, code)
		body, _ := io.ReadAll(answer.Body)
		var p struct{ Code string }
		require.NoError(t, json.Unmarshal(body, &p), "%s", body)
		assert.Equal(t, code, p.Code, "%s", body)
		c, _, err := dial("&refusal=message")
		if !assert.NoError(t, err, code) {
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		_, message, err := c.Read(ctx)
		require.NoError(t, err)
		var bye struct{ Type, Reason, Code string }
		require.NoError(t, json.Unmarshal(message, &bye))
		assert.Equal(t, "bye", bye.Type)
		assert.Equal(t, code, bye.Code)
		assert.NotEmpty(t, bye.Reason)
		_, _, err = c.Read(ctx)
		assert.EqualValues(t, 4403, websocket.CloseStatus(err))
		cancel()
	}
}
