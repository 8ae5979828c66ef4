package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// locked is a service that wants tickets and tokens, with what makes them.
type locked struct {
	*Service
	db       *store.Store
	database string // its URL
	key      auth.Key
	admin    api.Client // with the right to run
	offset   *time.Duration
}

// lock runs a service that wants tickets and tokens on a database. key signs its tickets.
func lock(t *testing.T, database string, key auth.Key) *locked {
	db, err := store.Open(t.Context(), database)
	require.NoError(t, err)
	x := &locked{db: db, database: database, key: key, offset: new(time.Duration)}
	x.Service, err = New(t.Context(), Options{
		Records:     db,
		Recorder:    store.NewRecorder(db),
		Recordings:  db,
		DoorRecords: db,
		Console:     page,
		Tokens:      true,
		Tickets: &auth.Tickets{
			Keys: func() []auth.Key { return []auth.Key{key} },
			Now:  func() time.Time { return time.Now().Add(*x.offset) },
		},
	})
	require.NoError(t, err)
	t.Cleanup(db.Close)
	x.admin = serve(t, x.Service)
	x.admin.Token = x.token(t, auth.Run, nil)
	return x
}

// lockNew is lock on a database of its own.
func lockNew(t *testing.T) *locked {
	key, err := auth.NewKey("backend", auth.EdDSA)
	require.NoError(t, err)
	return lock(t, testservice.Database(t), key)
}

// token makes a token with a right.
func (x *locked) token(t *testing.T, right auth.Right, until *time.Time) string {
	text := auth.NewToken()
	row := store.Token{
		Name:      "op " + string(right),
		Access:    string(right),
		MadeBy:    "test",
		ExpiresAt: until,
	}
	_, err := x.db.AddToken(t.Context(), row, auth.HashToken(text))
	require.NoError(t, err)
	require.NoError(t, x.door.Refresh(t.Context()))
	return text
}

// as returns a client of the API that has a right.
func (x *locked) as(t *testing.T, right auth.Right) api.Client {
	return api.Client{Service: x.admin.Service, Token: x.token(t, right, nil)}
}

// ticket makes a ticket for a session, which change may change before it is signed.
func (x *locked) ticket(t *testing.T, session int64, player, name string, change func(*auth.Ticket)) string {
	out := auth.Ticket{
		Player:  player,
		Name:    name,
		Session: session,
		Expires: time.Now().Add(time.Minute),
	}
	if change != nil {
		change(&out)
	}
	text, err := auth.Sign(x.key, out, time.Now())
	require.NoError(t, err)
	return text
}

// join joins with a ticket, and leaves with the test.
func (x *locked) join(t *testing.T, session int64, name, role, ticket string) (*client.Client, error) {
	c, err := client.Join(t.Context(), x.admin.Service, session, name, role, client.Options{Ticket: ticket})
	if err == nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

// joined is join of who has to be seated.
func (x *locked) joined(t *testing.T, session int64, player, name string) *client.Client {
	c, err := x.join(t, session, "", "", x.ticket(t, session, player, name, nil))
	require.NoError(t, err)
	return c
}

// open opens a session of a contract.
func (x *locked) open(t *testing.T, source string) int64 {
	v, err := x.admin.Publish(t.Context(), "wreck.kam", source, nil)
	require.NoError(t, err)
	s, err := x.admin.Open(t.Context(), api.OpenSession{Contract: v.Contract, Seed: 7})
	require.NoError(t, err)
	return s.ID
}

const lockedContract = `contract wreck language 1
roles player, referee by ticket
strikes 1 in 60s
seats 8 grace 30s

shared Strongbox {
  answer: int 0..9 = 7 to nobody
  open:   bool
  request guess(n: int 0..9) from player or referee limit 4 per second
    check n == answer else deny "wrong"
  { open = true }
}

entity Diver per player {
  score: int 0..99 keep
  request score_up() limit 20 per second check score < 99 else deny "full" { score += 1 }
  request cheat() limit 9 per second check score > 200 else expel "cheating" { score = 0 }
}
`

// public says of a route that everybody may call it, byTicket that the door asks clients for tickets.
const (
	public   auth.Right = "public"
	byTicket auth.Right = "ticket"
	inBody   auth.Right = "body" // the token stands in the body: TestBrowsersSignIn
)

// routeRights are the rights that routes take.
var routeRights = map[string]auth.Right{
	"GET /healthz": public,
	"GET /readyz":  public,
	"GET /metrics": auth.Look,
	"GET /*":       public,

	"GET /api/me":                     auth.Look,
	"POST /api/sign-in":               inBody,
	"POST /api/sign-out":              public,
	"GET /api/openapi.json":           public,
	"GET /api/service":                auth.Look,
	"GET /api/findings":               auth.Look,
	"GET /api/tokens":                 auth.Run,
	"POST /api/tokens":                auth.Run,
	"POST /api/tokens/{token}/revoke": auth.Run,
	"GET /api/bans":                   auth.Look,
	"POST /api/bans":                  auth.Run,
	"POST /api/bans/lift":             auth.Run,
	"GET /api/acts":                   auth.Run,
	"GET /api/backend":                auth.Look,

	"POST /api/contracts":                                  auth.Run,
	"GET /api/contracts":                                   auth.Look,
	"GET /api/contracts/{name}":                            auth.Look,
	"GET /api/contracts/{name}/versions/{version}":         auth.Look,
	"GET /api/contracts/{name}/versions/{version}/report":  auth.Look,
	"GET /api/contracts/{name}/compare":                    auth.Look,
	"POST /api/contracts/{name}/versions/{version}/trials": auth.Play,
	"GET /api/contracts/{name}/versions/{version}/trials":  auth.Look,
	"POST /api/contracts/{name}/versions/{version}/play":   auth.Play,
	"GET /api/trials/{trial}":                              auth.Look,
	"GET /api/trials/{trial}/effects/{effect}/play":        auth.Look,
	"POST /api/trials/{trial}/stop":                        auth.Play,

	"POST /api/sessions":                             auth.Run,
	"GET /api/sessions":                              auth.Look,
	"GET /api/sessions/{id}":                         auth.Look,
	"POST /api/sessions/{id}/close":                  auth.Run,
	"POST /api/sessions/{id}/pause":                  auth.Run,
	"POST /api/sessions/{id}/step":                   auth.Run,
	"GET /api/sessions/{id}/decisions":               auth.Look,
	"GET /api/sessions/{id}/clients":                 auth.Look,
	"POST /api/sessions/{id}/clients":                auth.Play,
	"POST /api/sessions/{id}/clients/{client}/ask":   auth.Play,
	"POST /api/sessions/{id}/clients/{client}/hold":  auth.Play,
	"POST /api/sessions/{id}/clients/{client}/write": auth.Play,
	"GET /api/sessions/{id}/clients/{client}/link":   auth.Look,
	"POST /api/sessions/{id}/clients/{client}/link":  auth.Play,
	"POST /api/sessions/{id}/clients/{client}/close": auth.Play,
	"GET /api/sessions/{id}/outline":                 auth.Look,
	"GET /api/sessions/{id}/drill":                   auth.Run,
	"POST /api/sessions/{id}/drill/expect":           auth.Play,
	"GET /api/sessions/{id}/acts":                    auth.Look,
	"GET /api/sessions/{id}/join":                    byTicket,
	"GET /api/sessions/{id}/watch":                   auth.Look,
	"GET /api/recordings":                            auth.Look,
	"POST /api/recordings":                           auth.Run,
	"GET /api/recordings/{id}":                       auth.Look,
	"DELETE /api/recordings/{id}":                    auth.Run,
	"POST /api/recordings/{id}/replay":               auth.Run,
	"GET /api/recordings/{id}/state":                 auth.Run,
	"GET /api/recordings/{id}/why":                   auth.Run,
	"GET /api/recordings/{id}/play":                  auth.Run,
	"GET /api/recordings/{id}/drill":                 auth.Run,
	"GET /api/recordings/{id}/compare":               auth.Run,
	"GET /api/recordings/{id}/export":                auth.Run,
	"GET /api/players":                               auth.Run,
	"GET /api/players/{name}":                        auth.Run,
	"PUT /api/players/{name}":                        auth.Run,
	"DELETE /api/players/{name}":                     auth.Run,
	"GET /api/worlds":                                auth.Run,
	"GET /api/worlds/{name}":                         auth.Run,
	"PUT /api/worlds/{name}":                         auth.Run,
	"DELETE /api/worlds/{name}":                      auth.Run,
}

// Every route of the router is asked with no token, with tokens that are none, and with each right.
func TestEveryRouteTakesItsRight(t *testing.T) {
	x := lockNew(t)
	soon := time.Now().Add(-time.Second)
	expired := x.token(t, auth.Run, &soon)
	revoked := x.token(t, auth.Run, nil)
	list, err := x.admin.Tokens(t.Context())
	require.NoError(t, err)
	_, err = x.admin.RevokeToken(t.Context(), list[0].ID)
	require.NoError(t, err)
	tokens := map[auth.Right]string{}
	for _, right := range auth.Rights() {
		tokens[right] = x.token(t, right, nil)
	}
	faulty := []struct{ token, code string }{
		{"", api.CodeTokenMissing},
		{auth.NewToken(), api.CodeTokenWrong},
		{tokens[auth.Run][:20], api.CodeTokenWrong},
		{expired, api.CodeTokenExpired},
		{revoked, api.CodeTokenRevoked},
	}
	inPath := regexp.MustCompile(`\{\w+\}`)
	ask := func(route, token string) (status int, code string) {
		method, path, _ := strings.Cut(route, " ")
		header := map[string]string{}
		if token != "" {
			header["Authorization"] = "Bearer " + token
		}
		url := x.admin.Service + strings.TrimSuffix(inPath.ReplaceAllString(path, "999999"), "*")
		status, body, _ := get(t, method, url, "", header)
		var problem api.Problem
		_ = json.Unmarshal([]byte(body), &problem)
		return status, problem.Code
	}
	seen := map[string]bool{}
	walk := func(method, path string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		route := method + " " + path
		seen[route] = true
		right, known := routeRights[route]
		if !assert.True(t, known, "%s has no row: who may call it?", route) {
			return nil
		}
		if right == inBody {
			return nil
		}
		isOpen := right == public || right == byTicket
		for _, f := range faulty {
			status, code := ask(route, f.token)
			if isOpen {
				assert.NotContains(t, []string{f.code, api.CodeRightMissing}, code, route)
				continue
			}
			assert.Equal(t, http.StatusUnauthorized, status, "%s with %q", route, f.code)
			assert.Equal(t, f.code, code, route)
		}
		for _, held := range auth.Rights() {
			status, code := ask(route, tokens[held])
			if isOpen || held.Includes(right) {
				assert.NotEqual(t, http.StatusUnauthorized, status, "%s with %s", route, held)
				assert.NotEqual(t, api.CodeRightMissing, code, "%s with %s", route, held)
				continue
			}
			assert.Equal(t, http.StatusForbidden, status, "%s with %s", route, held)
			assert.Equal(t, api.CodeRightMissing, code, "%s with %s", route, held)
		}
		return nil
	}
	require.NoError(t, chi.Walk(x.Handler().(chi.Routes), walk))
	for route := range routeRights {
		assert.True(t, seen[route], "there is no route %s any more", route)
	}
}

// The sockets are asked as clients ask them, and as those do who watch.
func TestSocketsTakeTicketsAndTokens(t *testing.T) {
	x := lockNew(t)
	session := x.open(t, lockedContract)
	for _, right := range auth.Rights() {
		ctx, cancel := context.WithCancel(t.Context())
		err := x.as(t, right).Watch(ctx, session, func(api.Watch) error { cancel(); return context.Canceled })
		require.ErrorIs(t, err, context.Canceled, right)
	}
	nobody := api.Client{Service: x.admin.Service}
	require.ErrorContains(t, nobody.Watch(t.Context(), session, nil), "sign in with a token")

	refused := func(want auth.Fault, name, role, ticket string) {
		_, err := x.join(t, session, name, role, ticket)
		var no *client.Refused
		require.ErrorAs(t, err, &no, want)
		assert.Equal(t, string(want), no.Code, no.Reason)
	}
	refused(auth.TicketMissing, "Ana", "", "")
	refused(auth.TicketUnfit, "Ana", "", "hello")
	refused(auth.TicketUnfit, "Ana", "", x.admin.Token)
	refused(auth.TicketSession, "", "", x.ticket(t, session+1, "a", "Ana", nil))
	refused(auth.TicketName, "Bo", "", x.ticket(t, session, "a", "Ana", nil))
	refused(auth.TicketRole, "", "referee", x.ticket(t, session, "a", "Ana", nil))
	refused(
		auth.TicketRole,
		"",
		"referee",
		x.ticket(t, session, "a", "Ana", func(k *auth.Ticket) { k.Role = "player" }),
	)
	other, err := auth.NewKey("backend", auth.EdDSA)
	require.NoError(t, err)
	forged := *x
	forged.key = other
	refused(auth.TicketAltered, "", "", forged.ticket(t, session, "a", "Ana", nil))
	*x.offset = 3 * time.Minute
	refused(auth.TicketExpired, "", "", x.ticket(t, session, "a", "Ana", nil))
	*x.offset = -3 * time.Minute
	refused(auth.TicketEarly, "", "", x.ticket(t, session, "a", "Ana", nil))
	*x.offset = 0

	ticket := x.ticket(t, session, "a", "Ana", func(k *auth.Ticket) { k.Role = "referee" })
	ana, err := x.join(t, session, "", "", ticket)
	require.NoError(t, err)
	assert.Equal(t, "referee", ana.Me().Role)
	assert.Equal(t, "Ana", ana.Me().Name)
	refused(auth.TicketSpent, "", "", ticket)

	// A ticket is good once on all services of the database, and is not burnt by who finds no seat.
	twin := lockTwin(t, x)
	_, err = client.Join(t.Context(), twin.Service, session, "", "", client.Options{Ticket: ticket})
	require.Error(t, err)
	again := x.ticket(t, session, "b", "Ana", nil) // a name that is taken
	_, err = x.join(t, session, "", "", again)
	require.ErrorContains(t, err, "in use")
	ana.Close()
	require.Eventually(t, func() bool {
		_, err := x.join(t, session, "", "", again)
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
}

// lockTwin runs another service on the database of one.
func lockTwin(t *testing.T, x *locked) api.Client {
	return lock(t, x.database, x.key).admin
}

// Of many who use one ticket at once, one is seated.
func TestATicketSeatsOne(t *testing.T) {
	x := lockNew(t)
	session := x.open(t, lockedContract)
	for n := range 5 {
		ticket := x.ticket(t, session, fmt.Sprintf("p%d", n), fmt.Sprintf("Ana %d", n), nil)
		var all sync.WaitGroup
		var mu sync.Mutex
		var codes []string
		for range 8 {
			all.Go(func() {
				_, err := x.join(t, session, "", "", ticket)
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					codes = append(codes, "seated")
					return
				}
				var no *client.Refused
				if assert.ErrorAs(t, err, &no) {
					codes = append(codes, no.Code)
				}
			})
		}
		all.Wait()
		slices.Sort(codes)
		assert.Equal(t, "seated", codes[0])
		for _, code := range codes[1:] {
			assert.Equal(t, string(auth.TicketSpent), code)
		}
	}
}

// A player goes by its identity: it has one seat, which another ticket gives back to it; what it keeps, an expulsion
// and a ban are its own under any name, and outlive the service.
func TestPlayersGoByTheirIdentity(t *testing.T) {
	x := lockNew(t)
	session := x.open(t, lockedContract)
	ana := x.joined(t, session, "diver-1", "Ana")
	d, err := ana.Ask(t.Context(), 0, "Diver.score_up")
	require.NoError(t, err)
	require.Equal(t, "accepted", string(d.Outcome), d.Reason)

	again := x.joined(t, session, "diver-1", "Ana")
	assert.Equal(t, ana.Me().Number, again.Me().Number, "the seat is the player's")
	require.Eventually(t, func() bool { return len(x.clients(t, session)) == 1 }, 10*time.Second, 20*time.Millisecond)
	renamed := x.joined(t, session, "diver-1", "Anna")
	assert.NotEqual(t, ana.Me().Number, renamed.Me().Number)
	require.Eventually(t, func() bool {
		return slices.Equal(x.clients(t, session), []string{"Anna"})
	}, 10*time.Second, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		kept, err := x.admin.KeptBy(t.Context(), api.Players, "diver-1")
		return err == nil && len(kept) == 1 && string(kept[0].Values["Diver.score"]) == "1"
	}, 10*time.Second, 20*time.Millisecond)
	_, err = renamed.Ask(t.Context(), 0, "Diver.score_up")
	require.NoError(t, err)

	d, err = renamed.Forge(t.Context(), 0, "Diver.cheat")
	require.NoError(t, err, d)
	require.Eventually(t, func() bool { return len(x.clients(t, session)) == 0 }, 10*time.Second, 20*time.Millisecond)
	_, err = x.join(t, session, "", "", x.ticket(t, session, "diver-1", "Somebody", nil))
	require.ErrorContains(t, err, "expelled")
	_, err = x.join(t, session, "", "", x.ticket(t, session, "diver-2", "Anna", nil))
	require.NoError(t, err, "the name is free")

	_, err = x.admin.Ban(t.Context(), api.SetBan{Player: "diver-2", Reason: "ramming", Contract: "quay"})
	require.ErrorContains(t, err, "no contract")
	_, err = x.admin.Ban(t.Context(), api.SetBan{Player: "diver-2", Reason: "ramming", Seconds: 3600})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(x.clients(t, session)) == 0 }, 10*time.Second, 20*time.Millisecond)
	for _, admin := range []api.Client{x.admin, lockTwin(t, x)} {
		bans, err := admin.Bans(t.Context())
		if assert.NoError(t, err) && assert.Len(t, bans, 1) {
			assert.Equal(t, "diver-2", bans[0].Player)
			assert.Equal(t, "op run", bans[0].By)
		}
	}
	other := x.open(t, strings.Replace(lockedContract, "contract wreck", "contract reef", 1))
	_, err = x.join(t, other, "", "", x.ticket(t, other, "diver-2", "Cleo", nil))
	require.ErrorContains(t, err, "ramming")
	_, err = x.admin.LiftBan(t.Context(), "diver-2", "")
	require.NoError(t, err)
	_, err = x.admin.LiftBan(t.Context(), "diver-2", "")
	require.ErrorContains(t, err, "not banned")
	x.joined(t, other, "diver-2", "Cleo")
}

// clients returns the names of a session's clients.
func (x *locked) clients(t *testing.T, session int64) []string {
	s, err := x.admin.Session(t.Context(), session)
	require.NoError(t, err)
	var out []string
	for _, c := range s.Clients {
		out = append(out, c.Name)
	}
	return out
}

// Who may not run sees neither seeds nor what is nobody's, nor what checks saw of it; it is noted who did what.
func TestSecretsAreForThoseWhoRun(t *testing.T) {
	x := lockNew(t)
	session := x.open(t, lockedContract)
	test, err := x.as(t, auth.Play).OpenTestClient(t.Context(), session, "Tess", "player")
	require.NoError(t, err)
	_, err = x.as(t, auth.Play).OpenTestClient(t.Context(), session, "Ref", "referee")
	require.ErrorContains(t, err, "by ticket")
	_, err = x.admin.OpenTestClient(t.Context(), session, "Ref", "referee")
	require.NoError(t, err)

	watch := func(c api.Client) string {
		var all strings.Builder
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		asking := make(chan struct{})
		asked := false
		defer func() {
			cancel()
			if asked {
				<-asking
			}
		}()
		err := c.Watch(ctx, session, func(w api.Watch) error {
			all.Write(api.Encode(w))
			if !asked {
				asked = true
				go func() {
					defer close(asking)
					_, err := x.admin.AskAs(ctx, session, test.Number, 0, "Strongbox.guess", json.RawMessage("3"))
					assert.True(t, err == nil || ctx.Err() != nil, err)
				}()
			}
			if len(w.Decisions) > 0 {
				return context.Canceled
			}
			return nil
		})
		require.ErrorIs(t, err, context.Canceled)
		return all.String()
	}
	isSecret := regexp.MustCompile(`"answer":7|"seed":7|"value":7,"words":"7"`)
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(isSecret.FindAllString(watch(x.admin), -1)))), 3)
	for _, right := range []auth.Right{auth.Look, auth.Play} {
		text := watch(x.as(t, right))
		assert.Empty(t, isSecret.FindAllString(text, -1), right)
		assert.Contains(t, text, `"open":false`, right)
		s, err := x.as(t, right).Session(t.Context(), session)
		require.NoError(t, err)
		assert.Zero(t, s.Seed)
		list, err := x.as(t, right).Sessions(t.Context())
		require.NoError(t, err)
		assert.Zero(t, list[0].Seed)
	}
	s, err := x.admin.Session(t.Context(), session)
	require.NoError(t, err)
	assert.EqualValues(t, 7, s.Seed)

	_, err = x.admin.Pause(t.Context(), session, true)
	require.NoError(t, err)
	acts, err := x.as(t, auth.Look).Acts(t.Context(), session)
	require.NoError(t, err)
	var said []string
	for _, a := range acts {
		said = append(said, a.Operator+" "+a.Act)
	}
	assert.Equal(t, []string{
		"op run paused it", "op run opened the test client Ref", "op play opened the test client Tess", "op run opened it",
	}, said)
}

// A browser is signed in by a cookie that no script reads and that no page from elsewhere can use; revoking the token
// signs it out.
func TestBrowsersSignIn(t *testing.T) {
	x := lockNew(t)
	url := x.admin.Service
	post := func(path, body, cookie, origin string) (status int, set *http.Cookie) {
		req, err := http.NewRequestWithContext(t.Context(), "POST", url+path, strings.NewReader(body))
		require.NoError(t, err)
		if cookie != "" {
			req.AddCookie(&http.Cookie{Name: "kamerad_sign_in", Value: cookie})
		}
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		answer.Body.Close()
		if all := answer.Cookies(); len(all) > 0 {
			set = all[0]
		}
		return answer.StatusCode, set
	}
	status, set := post("/api/sign-in", `{"token":"kamerad-wrong"}`, "", url)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Nil(t, set)
	token := x.token(t, auth.Run, nil)
	status, set = post("/api/sign-in", fmt.Sprintf(`{"token":%q}`, token), "", url)
	require.Equal(t, http.StatusOK, status)
	assert.True(t, set.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, set.SameSite)
	assert.NotContains(t, set.Value, token)
	const ban = `{"player":"x"}`
	for _, c := range []struct {
		cookie, origin string
		status         int
	}{
		{set.Value, url, 200},
		{set.Value, "", 403},
		{set.Value, "https://elsewhere.example", 403},
		{"made up", url, 401},
	} {
		status, _ := post("/api/bans", ban, c.cookie, c.origin)
		assert.Equal(t, c.status, status, "%+v", c)
	}
	status, _, _ = get(t, "GET", url+"/api/me", "", map[string]string{"Cookie": "kamerad_sign_in=" + set.Value})
	assert.Equal(t, 200, status)
	list, err := x.admin.Tokens(t.Context())
	require.NoError(t, err)
	require.NotNil(t, list[0].Name)
	_, err = x.admin.RevokeToken(t.Context(), list[0].ID)
	require.NoError(t, err)
	status, body, _ := get(t, "GET", url+"/api/me", "", map[string]string{"Cookie": "kamerad_sign_in=" + set.Value})
	assert.Equal(t, 401, status)
	assert.Contains(t, body, api.CodeSignedOut)

	status, set = post("/api/sign-in", fmt.Sprintf(`{"token":%q}`, x.token(t, auth.Look, nil)), "", url)
	require.Equal(t, http.StatusOK, status)
	status, gone := post("/api/sign-out", "", set.Value, url)
	assert.Equal(t, http.StatusNoContent, status)
	assert.Negative(t, gone.MaxAge)
	status, _, _ = get(t, "GET", url+"/api/me", "", map[string]string{"Cookie": "kamerad_sign_in=" + set.Value})
	assert.Equal(t, 401, status)
}
