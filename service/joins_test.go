package service

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/service/gateway"
)

func tallied(t *testing.T, paused bool) (*Service, api.Client, *gateway.Connections) {
	v, admin := alone(t)
	_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally", Paused: paused})
	require.NoError(t, err)
	return v, admin, v.registry.Find(s.ID)
}

// Nothing happens to a session for a request that is no handshake for one of its protocols, or that a page from
// elsewhere sent, nor for a connection whose first message is late or no `join`.
func TestOnlyAJoinTakesASeat(t *testing.T) {
	_, admin, x := tallied(t, false)
	url := fmt.Sprintf("%s/api/sessions/%d/join", admin.Service, x.Runner().ID())
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
		require.NoError(t, x.Runner().Do(t.Context(), func() { assert.Empty(t, x.Runner().Session().Clients(), name) }))
	}
	status, _, _ := get(
		t, "GET", admin.Service+"/sessions/1", "",
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
			"ticks are from 0 to 9007199254740991": `{"type":"join","token":"t","seen":-1}`,
			"is binary":                            "\x01",
		} {
			t.Run(reason, func(t *testing.T) {
				t.Parallel()
				c := dial(t, admin, x.Runner().ID(), wire.Binary)
				switch {
				case first == "\x01":
					require.NoError(t, c.WriteMessage(websocket.BinaryMessage, []byte(first)))
				case first != "":
					require.NoError(t, c.WriteMessage(websocket.TextMessage, []byte(first)))
				}
				bye := turnedAway(t, c, gateway.StatusBroken)
				assert.Equal(t, api.CodeNoJoin, bye.Code)
				assert.Contains(t, bye.Reason, reason)
				running := x.Runner()
				require.NoError(t, running.Do(t.Context(), func() { assert.Empty(t, running.Session().Clients()) }))
			})
		}
	})
	c := dial(t, admin, x.Runner().ID(), wire.Binary)
	require.NoError(
		t,
		c.WriteMessage(
			websocket.TextMessage, []byte(`{"type":"join","name":"Ana","of_a_later_version":{"any":[1]}}`),
		),
	)
	_, hello, err := c.ReadMessage()
	require.NoError(t, err)
	assert.Contains(t, string(hello), `"protocol":"kamerad.v2","revision":2`)
}

// dial opens a connection to a session and says nothing.
func dial(t *testing.T, admin api.Client, session int64, protocols ...string) *websocket.Conn {
	address := strings.Replace(admin.Service, "http", "ws", 1) + fmt.Sprintf("/api/sessions/%d/join", session)
	d := websocket.Dialer{Subprotocols: protocols}
	c, _, err := d.DialContext(t.Context(), address, nil)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// ask opens a connection to a session and asks for a seat.
func ask(t *testing.T, admin api.Client, session int64, j wire.Join) *websocket.Conn {
	c := dial(t, admin, session, wire.Protocol)
	require.NoError(t, c.WriteMessage(websocket.TextMessage, j.JSON()))
	return c
}

// turnedAway reads the last message of a connection that gets no seat.
func turnedAway(t *testing.T, c *websocket.Conn, status int) (bye wire.Bye) {
	require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
	_, raw, err := c.ReadMessage()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &bye), "%s", raw)
	assert.Equal(t, wire.MessageBye, bye.Type)
	_, _, err = c.ReadMessage()
	assert.True(t, websocket.IsCloseError(err, status), "%v", err)
	return bye
}

// Who joins and drops the connection, ready or not, holds no session full: a seat is free within five seconds, and one
// who had said that it is ready finds its own again.
func TestAbruptJoinsLeaveSeats(t *testing.T) {
	for _, ready := range []bool{false, true} {
		_, admin, x := tallied(t, false)
		seats := x.Runner().Session().Contract().Seats
		for i := range seats {
			c := ask(t, admin, x.Runner().ID(), wire.Join{Name: fmt.Sprint("Eve", i)})
			if ready {
				require.NoError(t, c.WriteMessage(websocket.TextMessage, []byte(`{"type":"ready"}`)))
				require.Eventually(t, func() (done bool) {
					_ = x.Runner().Do(t.Context(), func() { done = true; x.Receive() })
					return done
				}, 5*time.Second, time.Millisecond)
			}
			c.Close()
		}
		began := time.Now()
		require.Eventually(t, func() bool {
			c, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", client.Options{})
			if err == nil {
				c.Close()
			}
			return err == nil
		}, 5*time.Second, 20*time.Millisecond, "ready: %v", ready)
		t.Logf("ready %v: a seat was free after %s", ready, time.Since(began).Round(time.Millisecond))
	}
}

// Why a client is not seated has a code that a program can read.
func TestRefusalsHaveCodes(t *testing.T) {
	v, admin, x := tallied(t, false)
	_, err := client.Join(t.Context(), admin.Service, x.Runner().ID(), "Ana", "", client.Options{})
	require.NoError(t, err)
	_, err = admin.Publish(
		t.Context(), "tiny.kam",
		"contract tiny language 1\nseats 1\nroles player\n"+
			"entity Diver per player { n: int 0..9 = 0; request go() { n = 1 } }",
		nil,
	)
	require.NoError(t, err)
	tiny, err := admin.Open(t.Context(), api.OpenSession{Contract: "tiny"})
	require.NoError(t, err)
	_, err = v.Host(t.Context(), tiny.ID, "Bo", "", client.Options{})
	require.NoError(t, err)
	for code, c := range map[string]struct {
		session int64
		join    wire.Join
	}{
		"name_taken":    {x.Runner().ID(), wire.Join{Name: "Ana"}},
		"name_unfit":    {x.Runner().ID(), wire.Join{Name: "\a"}},
		"role_unknown":  {x.Runner().ID(), wire.Join{Name: "Bo", Role: "captain"}},
		"token_spent":   {x.Runner().ID(), wire.Join{Token: "none"}},
		"other_outline": {x.Runner().ID(), wire.Join{Name: "Bo", Outline: "abc"}},
		"seats_taken":   {tiny.ID, wire.Join{Name: "Cleo"}},
		"not_running":   {999, wire.Join{Name: "Ana"}},
	} {
		bye := turnedAway(t, ask(t, admin, c.session, c.join), gateway.StatusRefused)
		assert.Equal(t, code, bye.Code)
		assert.NotEmpty(t, bye.Reason)
		var refusal *client.Refused
		_, err := client.Join(t.Context(), admin.Service, c.session, c.join.Name, c.join.Role, client.Options{})
		if c.join.Token == "" && c.join.Outline == "" && assert.ErrorAs(t, err, &refusal, code) {
			assert.Equal(t, code, refusal.Code)
		}
	}
}
