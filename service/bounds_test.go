package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/core/link"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
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
		c.at += n
		if c.at == len(c.unit) {
			c.at = 0
			c.left = c.left - 1
			c.read = c.read + 1
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

func tallied(t *testing.T, paused bool) (*Service, client.API, *runner) {
	v, api := alone(t)
	_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "tally", Paused: paused})
	require.NoError(t, err)
	return v, api, v.runner(s.ID)
}

// A flood of control frames and empty parts takes a session no more time than anybody may take, and who does not stop
// is cut.
func TestControlFramesCountAgainstTheirSender(t *testing.T) {
	for name, frame := range map[string][]byte{
		"pings": said(
			final|opPing, nil,
		), "long pings": said(final|opPing, bytes.Repeat([]byte{1}, 125)), "pongs": said(final|opPong, nil),
		"empty parts": said(
			opMore, nil,
		), "messages": said(
			final|opText, []byte(`{"type":"ready"}`),
		), "long messages": said(final|opText, append([]byte(`{"type":"ready"}`), bytes.Repeat([]byte{' '}, 10000)...)),
	} {
		t.Run(name, func(t *testing.T) {
			_, _, x := tallied(t, true)
			near, far := net.Pipe()
			defer far.Close()
			go func() { _, _ = io.Copy(io.Discard, far) }()
			var c *connection
			require.NoError(t, x.do(t.Context(), func() {
				c, _ = x.join(joinRequest{Join: wire.Join{Name: "Eve"}, json: true})
				flood := &counted{unit: frame, left: 100_000}
				if l := newMessageReader(
					c, newClientSocket(c.outbox, near, &x.slowSockets, func(error) {}, nil), nil,
				); assert.NotNil(
					t, l,
				) {
					l.frames.conn = flood
					if name == "empty parts" {
						l.frames.conn = io.MultiReader(bytes.NewReader(said(opText, nil)), flood)
					}
					now := time.Now()
					visits := 0
					for ; visits < 400 && c.seated && flood.left > 0; visits++ {
						before := flood.read
						if visits == 0 {
							x.readFrom(l, now)
						} else if x.readers.waiting = nil; l.isWaiting {
							l.isWaiting = false
							x.readFrom(l, now)
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

// Nothing happens to a session for a request that is no handshake for one of its protocols, or that a page from
// elsewhere sent, nor for a connection whose first message is late or no `join`.
func TestOnlyAJoinTakesASeat(t *testing.T) {
	_, api, x := tallied(t, false)
	url := fmt.Sprintf("%s/api/sessions/%d/join", api.Service, x.id)
	shake := func(more map[string]string) map[string]string {
		h := map[string]string{
			"Connection":             "Upgrade",
			"Upgrade":                "websocket",
			"Sec-WebSocket-Version":  "13",
			"Sec-WebSocket-Key":      "AAAAAAAAAAAAAAAAAAAAAA==",
			"Sec-WebSocket-Protocol": wire.Binary,
		}
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
	status, _, _ := get(
		t, "GET", api.Service+"/sessions/1", "",
		map[string]string{"Sec-Fetch-Site": "cross-site", "Sec-Fetch-Mode": "navigate"},
	)
	assert.Equal(t, 200, status, "a link from elsewhere leads to the console")

	t.Run("first messages", func(t *testing.T) {
		for reason, first := range map[string]string{
			"did not come within 5s": "",
			"is no `join`":           `[]`,
			`has the type "ask"`:     `{"type":"ask","seq":1,"request":"Tally.add","args":[]}`,
			`has the type ""`:        `{"name":"Eve"}`,
			"longer than 4096 bytes": `{"type":"join","name":"Eve","more":"` + strings.Repeat(
				"x", 4096,
			) + `"}`,
			"takes no tickets":                     `{"type":"join","name":"Eve","ticket":"t"}`,
			"ticks are from 0 to 9007199254740991": `{"type":"join","token":"t","seen":-1}`,
			"is binary":                            "\x01",
		} {
			t.Run(reason, func(t *testing.T) {
				t.Parallel()
				c := dial(t, api, x.id, wire.Binary)
				switch {
				case first == "\x01":
					require.NoError(t, c.Write(t.Context(), websocket.MessageBinary, []byte(first)))
				case first != "":
					require.NoError(t, c.Write(t.Context(), websocket.MessageText, []byte(first)))
				}
				bye := turnedAway(t, c, statusBroken)
				assert.Equal(t, codeNoJoin, bye.Code)
				assert.Contains(t, bye.Reason, reason)
				require.NoError(t, x.do(t.Context(), func() { assert.Empty(t, x.session.Clients()) }))
			})
		}
	})
	c := dial(t, api, x.id, wire.Binary)
	require.NoError(
		t,
		c.Write(
			t.Context(), websocket.MessageText, []byte(`{"type":"join","name":"Ana","of_a_later_version":{"any":[1]}}`),
		),
	)
	_, hello, err := c.Read(t.Context())
	require.NoError(t, err)
	assert.Contains(t, string(hello), `"protocol":"kamerad.v2","revision":1`)
}

// dial opens a connection to a session and says nothing.
func dial(t *testing.T, api client.API, session int64, protocols ...string) *websocket.Conn {
	address := strings.Replace(api.Service, "http", "ws", 1) + fmt.Sprintf("/api/sessions/%d/join", session)
	c, _, err := websocket.Dial(t.Context(), address, &websocket.DialOptions{Subprotocols: protocols})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.CloseNow() })
	c.SetReadLimit(1 << 20)
	return c
}

// ask opens a connection to a session and asks for a seat.
func ask(t *testing.T, api client.API, session int64, j wire.Join) *websocket.Conn {
	c := dial(t, api, session, wire.Protocol)
	require.NoError(t, c.Write(t.Context(), websocket.MessageText, j.JSON()))
	return c
}

// turnedAway reads the last message of a connection that gets no seat.
func turnedAway(t *testing.T, c *websocket.Conn, status int) (bye wire.Bye) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	_, raw, err := c.Read(ctx)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &bye), "%s", raw)
	assert.Equal(t, "bye", bye.Type)
	_, _, err = c.Read(ctx)
	assert.EqualValues(t, status, websocket.CloseStatus(err))
	return bye
}

// Connections whose first message does not come make room for others: the one that has waited longest is closed.
func TestConnectionsWithoutAFirstMessageGiveWay(t *testing.T) {
	v, api, x := tallied(t, false)
	oldest := dial(t, api, x.id, wire.Binary)
	require.Eventually(
		t, func() bool { v.greeting.mu.Lock(); defer v.greeting.mu.Unlock(); return v.greeting.list.Len() == 1 },
		10*time.Second, time.Millisecond,
	)
	for range maxIdle {
		near, far := net.Pipe()
		defer far.Close()
		v.greeting.add(near)
	}
	_, _, err := oldest.Read(t.Context())
	require.Error(t, err)
	assert.Equal(t, maxIdle, v.greeting.list.Len())
	_, hello, err := ask(t, api, x.id, wire.Join{Name: "Ana"}).Read(t.Context())
	require.NoError(t, err)
	assert.Contains(t, string(hello), `"hello"`)
}

// Who joins and drops the connection, ready or not, holds no session full: a seat is free within five seconds, and one
// who had said that it is ready finds its own again.
func TestAbruptJoinsLeaveSeats(t *testing.T) {
	for _, ready := range []bool{false, true} {
		_, api, x := tallied(t, false)
		seats := x.session.Contract().Seats
		for i := range seats {
			c := ask(t, api, x.id, wire.Join{Name: fmt.Sprint("Eve", i)})
			if ready {
				require.NoError(t, c.Write(t.Context(), websocket.MessageText, []byte(`{"type":"ready"}`)))
				require.Eventually(t, func() (done bool) {
					_ = x.do(t.Context(), func() { done = true; x.handleInbound() })
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

// A client that reads nothing is noticed though the system's buffers would take what it is sent for a long time; so is
// one that reads and confirms nothing.
func TestASilentClientIsBehindAndCut(t *testing.T) {
	_, api, x := tallied(t, true)
	deaf := ask(t, api, x.id, wire.Join{Name: "Deaf"})
	require.NoError(t, deaf.Write(t.Context(), websocket.MessageText, []byte(`{"type":"ready"}`)))
	var c *connection
	clock := time.Now()
	require.Eventually(t, func() (heard bool) {
		_ = x.do(t.Context(), func() {
			x.handleInbound()
			x.now = func() time.Time { return clock }
			c = x.conns[1]
			heard = c != nil && c.socket != nil
		})
		return heard
	}, 5*time.Second, time.Millisecond)
	behind := time.Duration(0)
	cut := time.Duration(0)
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
	assert.InDelta(
		t, 11.7, cut.Seconds(), 1.8, "after ten seconds and twelve of the round trips that the system has measured",
	)
}

// An honest client on the worst link for which strikes are fair, two seconds each way that lose one message in twenty,
// is not cut in an hour.
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
			c, err := x.join(joinRequest{Join: wire.Join{Name: fmt.Sprint("Far ", seed)}, pipe: true})
			require.NoError(t, err)
			down, _ := link.New(seed, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			up, _ := link.New(seed+100, link.Conditions{Delay: 2 * time.Second, Loss: 0.05})
			var copied replicate.Copy
			reader := x.session.Reader(0)
			x.handle(&inboundMessage{from: c, typ: "ready", at: clock})
			frames := 0
			behind := 0
			late := int64(0)
			for range hour {
				clock = clock.Add(50 * time.Millisecond)
				at := clock.Sub(began)
				if bytes, marks := c.outbox.take(); bytes != nil {
					from := 0
					for _, m := range marks {
						if m.tick > 0 {
							down.Send(at, append([]byte(nil), bytes[from:m.end]...))
						}
						from = m.end
					}
					c.outbox.done(bytes, marks, clock)
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
					x.handle(&inboundMessage{
						from:      c,
						typ:       "seen",
						confirmed: tick,
						at:        clock,
					})
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
			t.Logf(
				"seed %d: %d frames, behind in %.1f %% of the ticks, what it holds is %.1f s old", seed, frames,
				100*float64(behind)/float64(hour), float64(late)/float64(hour)/20,
			)
			x.dropSeat(c.client, "enough")
		}))
	}
}

// readied seats a client that has said that it is ready.
func readied(t *testing.T, x *runner) *connection {
	c, err := x.join(joinRequest{Join: wire.Join{Name: "Ana"}, pipe: true})
	require.NoError(t, err)
	x.handle(&inboundMessage{from: c, typ: "ready", at: time.Now()})
	return c
}

// A connection whose hello is lost does not cost the seat: the token that it was taken with stays good until something
// comes over the new connection, and no longer.
func TestALostHelloCostsNoSeat(t *testing.T) {
	_, _, x := tallied(t, true)
	r := rand.New(rand.NewPCG(3, 4))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			x.loseConnection(c, "it broke")
			x.tick()
			back, err := x.join(joinRequest{Join: wire.Join{Token: token, Seen: x.session.Now()}, pipe: true})
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			require.Equal(t, c.client, back.client)
			x.tick()
			c = back
			if r.IntN(2) == 0 {
				continue // its hello never arrived: the client knows the old token alone
			}
			x.handle(&inboundMessage{
				from:      c,
				typ:       "seen",
				confirmed: 1,
				at:        time.Now(),
			})
			_, err = x.join(joinRequest{Join: wire.Join{Token: token}, pipe: true})
			require.ErrorContains(
				t, err, "no seat waits", "what was heard over the new connection makes the old token void",
			)
			token = c.token
		}
		assert.LessOrEqual(t, len(x.seatByToken), 8, "no token is kept that nobody can have")
	}))
}

// A client whose connection breaks tries again and again, with the token that it has. The service may come to its tries
// in any order, and find that a try's connection is gone; whichever hello the client has got, it gets its seat back,
// and it is told no goodbye.
func TestALateHandshakeCostsNoSeat(t *testing.T) {
	_, _, x := tallied(t, true)
	r := rand.New(rand.NewPCG(5, 6))
	require.NoError(t, x.do(t.Context(), func() {
		c := readied(t, x)
		token := c.token
		for i := range 1000 {
			void := token
			x.loseConnection(c, "it broke")
			x.tick()
			tries := make([]*connection, 1+r.IntN(4))
			for k := range tries {
				again, err := x.join(joinRequest{Join: wire.Join{Token: token, Seen: x.session.Now()}, pipe: true})
				if !assert.NoError(t, err, "round %d, try %d", i, k) {
					return
				}
				tries[k] = again
			}
			for _, overtaken := range tries[:len(tries)-1] {
				assert.True(t, overtaken.silent, "the client that has this one is told no goodbye")
			}
			token = tries[r.IntN(len(tries))].token // of the hello that arrived
			x.loseConnection(tries[len(tries)-1], "its client had gone away")
			back, err := x.join(joinRequest{Join: wire.Join{Token: token, Seen: x.session.Now()}, pipe: true})
			if !assert.NoError(t, err, "round %d", i) {
				return
			}
			c = back
			x.handle(&inboundMessage{
				from:      c,
				typ:       "seen",
				confirmed: 1,
				at:        time.Now(),
			})
			token = c.token
			assert.Equal(t, map[string]int{token: c.client}, x.seatByToken, "what was heard makes all others void")
			_, err = x.join(joinRequest{Join: wire.Join{Token: void}, pipe: true})
			require.ErrorContains(t, err, "no seat waits")
		}
		x.dropSeat(c.client, "enough")
		assert.Empty(t, x.seatByToken)
	}))
}

// A client that has gone away before its hello could be read keeps the seat that it comes back to.
func TestAConnectionThatIsGoneCostsNoSeat(t *testing.T) {
	_, api, x := tallied(t, false)
	var ana *connection
	require.NoError(t, x.do(t.Context(), func() {
		ana = readied(t, x)
		x.loseConnection(ana, "it broke")
	}))
	for range 200 {
		require.NoError(t, ask(t, api, x.id, wire.Join{Token: ana.token}).CloseNow())
	}
	require.NoError(t, x.do(t.Context(), func() {
		assert.Len(t, x.seatRows, 1)
		assert.LessOrEqual(t, len(x.seatByToken), 8)
		back, err := x.join(joinRequest{Join: wire.Join{Token: ana.token}, pipe: true})
		require.NoError(t, err)
		assert.Equal(t, ana.client, back.client)
	}))
}

// Why a client is not seated has a code that a program can read.
func TestRefusalsHaveCodes(t *testing.T) {
	v, api, x := tallied(t, false)
	_, err := client.Join(t.Context(), api.Service, x.id, "Ana", "", client.Options{})
	require.NoError(t, err)
	_, err = api.Publish(
		t.Context(), "tiny.kam",
		"contract tiny language 1\nseats 1\nroles player\n"+
			"entity Diver per player { n: int 0..9 = 0; request go() { n = 1 } }",
		nil,
	)
	require.NoError(t, err)
	tiny, err := api.Open(t.Context(), client.OpenSession{Contract: "tiny"})
	require.NoError(t, err)
	_, err = v.Host(t.Context(), tiny.ID, "Bo", "", client.Options{})
	require.NoError(t, err)
	for code, c := range map[string]struct {
		session int64
		join    wire.Join
	}{
		"name_taken":    {x.id, wire.Join{Name: "Ana"}},
		"name_unfit":    {x.id, wire.Join{Name: "\a"}},
		"role_unknown":  {x.id, wire.Join{Name: "Bo", Role: "captain"}},
		"token_spent":   {x.id, wire.Join{Token: "none"}},
		"other_outline": {x.id, wire.Join{Name: "Bo", Outline: "abc"}},
		"seats_taken":   {tiny.ID, wire.Join{Name: "Cleo"}},
		"not_running":   {999, wire.Join{Name: "Ana"}},
	} {
		bye := turnedAway(t, ask(t, api, c.session, c.join), statusRefused)
		assert.Equal(t, code, bye.Code)
		assert.NotEmpty(t, bye.Reason)
		var refusal *client.Refused
		_, err := client.Join(t.Context(), api.Service, c.session, c.join.Name, c.join.Role, client.Options{})
		if c.join.Token == "" && c.join.Outline == "" && assert.ErrorAs(t, err, &refusal, code) {
			assert.Equal(t, code, refusal.Code)
		}
	}
}
