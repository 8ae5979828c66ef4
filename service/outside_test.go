package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/service/door"
	"kamerad.example/service/gateway"
	"kamerad.example/service/httpapi"
	"kamerad.example/store"
)

// behindProxy runs a service behind a proxy on this machine, for which a test calls, with small limits.
func behindProxy(t *testing.T) *locked {
	db, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	x := &locked{db: db}
	x.Service, err = New(t.Context(), Options{
		Records:     db,
		Recorder:    store.NewRecorder(db),
		Recordings:  db,
		DoorRecords: db,
		Console:     page,
		Tokens:      true,
		Outside: httpapi.Outside{
			Anywhere: true,
			Proxies:  []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("10.0.0.0/8")},
			Origins:  []string{"https://play.wreck.example"},
		},
		Limits: door.Limits{Connections: 2, Joins: 1, Failures: 1},
	})
	require.NoError(t, err)
	t.Cleanup(db.Close)
	x.admin = serve(t, x.Service)
	x.admin.Token = x.token(t, auth.Run, nil)
	return x
}

func TestAWrongTokenCountsAgainstItsAddress(t *testing.T) {
	x := behindProxy(t)
	try := func(token string, header map[string]string) (status int, code string) {
		all := map[string]string{"Authorization": "Bearer " + token}
		for k, v := range header {
			all[k] = v
		}
		status, body, _ := get(t, "GET", x.admin.Service+"/api/me", "", all)
		var problem api.Problem
		_ = json.Unmarshal([]byte(body), &problem)
		return status, problem.Code
	}
	for _, from := range []map[string]string{
		{"X-Forwarded-For": "203.0.113.5"},
		{"Forwarded": "for=203.0.113.6;proto=https"},
		// what stands before the last address that is no proxy's, anybody may have written
		{"X-Forwarded-For": "203.0.113.99, 203.0.113.7, 10.1.2.3"},
		{"Forwarded": `for="[2001:db8::1]:4711"`},
	} {
		refused := 0
		for range 8 {
			status, code := try("kamerad-wrong", from)
			if status == http.StatusTooManyRequests {
				assert.Equal(t, api.CodeTooMany, code)
				refused++
			}
		}
		assert.Equal(t, 4, refused, "%v: four tries are looked at", from)
		status, _ := try(x.admin.Token, from)
		assert.Equal(t, http.StatusOK, status, "who has a right token is not kept out by others of the address")
	}
	status, _ := try("kamerad-wrong", map[string]string{"X-Forwarded-For": "203.0.113.7"})
	assert.Equal(t, http.StatusTooManyRequests, status, "the address beside the proxy was meant above")
	status, _ = try("kamerad-wrong", map[string]string{"X-Forwarded-For": "203.0.113.99"})
	assert.Equal(t, http.StatusUnauthorized, status)
	status, _ = try("kamerad-wrong", map[string]string{"Forwarded": `for="[2001:db8::2]"`})
	assert.Equal(t, http.StatusTooManyRequests, status, "a network of IPv6 is one address")
}

func TestOneAddressHasSoManyClients(t *testing.T) {
	x := behindProxy(t)
	session := x.open(t, lockedContract)
	url := strings.Replace(x.admin.Service, "http", "ws", 1) + fmt.Sprintf("/api/sessions/%d/join", session)
	join := func(from, origin, name string) (*websocket.Conn, int) {
		header := http.Header{"X-Forwarded-For": {from}, "X-Forwarded-Proto": {"https"}}
		if origin != "" {
			header.Set("Origin", origin)
		}
		d := websocket.Dialer{Subprotocols: []string{wire.Protocol}}
		c, answer, err := d.DialContext(t.Context(), url, header)
		if err != nil {
			require.NotNil(t, answer, err)
			return nil, answer.StatusCode
		}
		t.Cleanup(func() { c.Close() })
		require.NoError(t, c.WriteMessage(websocket.TextMessage, wire.Join{Name: name}.JSON()))
		_, hello, err := c.ReadMessage()
		require.NoError(t, err)
		require.Contains(t, string(hello), `"hello"`)
		return c, http.StatusSwitchingProtocols
	}
	_, status := join("203.0.113.5", "https://play.wreck.example", "Ana")
	assert.Equal(t, http.StatusSwitchingProtocols, status)
	_, status = join("203.0.113.5", "https://elsewhere.example", "Bo")
	assert.Equal(t, http.StatusForbidden, status)
	_, status = join("203.0.113.5", "", "Bo")
	assert.Equal(t, http.StatusSwitchingProtocols, status)
	_, status = join("203.0.113.5", "", "Cleo")
	assert.Equal(t, http.StatusTooManyRequests, status, "two are connected")
	_, status = join("203.0.113.6", "", "Cleo")
	assert.Equal(t, http.StatusSwitchingProtocols, status)

	// The page elsewhere may have players join, and nothing else.
	status, _, _ = get(t, "GET", x.admin.Service+"/api/sessions", "", map[string]string{
		"Authorization": "Bearer " + x.admin.Token, "Origin": "https://play.wreck.example",
	})
	assert.Equal(t, http.StatusForbidden, status)

	// Cookies of a service behind TLS stay behind TLS.
	body := fmt.Sprintf(`{"token":%q}`, x.admin.Token)
	req, err := http.NewRequestWithContext(t.Context(), "POST", x.admin.Service+"/api/sign-in", strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("X-Forwarded-Proto", "https")
	answer, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Len(t, answer.Cookies(), 1)
	assert.True(t, answer.Cookies()[0].Secure)
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "wss://")
}

// A service without keys takes no tickets.
func TestAnOpenServiceTakesNoTickets(t *testing.T) {
	v, admin := start(t, page)
	x := opened(t, v, admin, false)
	c := ask(t, admin, x.Runner().ID(), wire.Join{Name: "Eve", Ticket: "t"})
	bye := turnedAway(t, c, gateway.StatusRefused)
	assert.Equal(t, string(auth.TicketUnwanted), bye.Code)
	assert.Contains(t, bye.Reason, "no keys")
}

// A service whose TLS ends at a proxy answers nobody else from beyond its machine, and a host that is none gets into no
// header.
func TestOnlyTheProxyCalls(t *testing.T) {
	o := httpapi.Outside{
		Anywhere:     true,
		ProxiesAlone: true,
		Proxies:      []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")},
	}
	db, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	v, err := New(t.Context(), Options{
		Records:     db,
		Recorder:    store.NewRecorder(db),
		DoorRecords: db,
		Console:     page,
		Tokens:      true,
		Outside:     o,
	})
	require.NoError(t, err)
	serve(t, v)
	for _, c := range []struct {
		from, host string
		status     int
		policy     string
	}{
		{"10.1.2.3:1", "wreck.example", 200, "connect-src 'self' ws://wreck.example;"},
		{"127.0.0.1:1", "wreck.example", 200, "connect-src 'self' ws://wreck.example;"},
		{"203.0.113.5:1", "wreck.example", 403, ""},
		{"10.1.2.3:1", "wreck.example;script-src", 200, "connect-src 'self' ;"},
	} {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "http://wreck.example/healthz", nil)
		r.RemoteAddr = c.from
		r.Host = c.host
		answer := httptest.NewRecorder()
		v.Handler().ServeHTTP(answer, r)
		assert.Equal(t, c.status, answer.Code, "%+v", c)
		if c.policy != "" {
			assert.Contains(t, answer.Header().Get("Content-Security-Policy"), c.policy, "%+v", c)
		}
	}
}
