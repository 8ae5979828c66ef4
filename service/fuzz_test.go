package service

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
	"kamerad.example/store"
)

// paths are the calls that take a body. Nothing that they open stays.
var paths = []string{
	"/api/contracts", "/api/sessions", "/api/sessions/1/clients", "/api/sessions/1/clients/1/ask", "/api/sessions/1/clients/1/link",
	"/api/contracts/knock/versions/1/trials", "/api/sessions/2/close", "/api/trials/1/stop",
}

func fuzzed(t testing.TB, paused bool) *Service {
	records := &store.Memory{}
	v, err := New(t.Context(), records, records, page)
	require.NoError(t, err)
	t.Cleanup(func() { _ = v.stop(func(context.Context) error { return nil }) })
	call(v, "POST", "/api/contracts", `{"file":"knock.kam","source":`+string(encode(knock))+`}`)
	answer := call(v, "POST", "/api/sessions", fmt.Sprintf(`{"contract":"knock","paused":%t}`, paused))
	require.Equal(t, http.StatusOK, answer.Code, answer.Body.String())
	return v
}

func call(v *Service, method, path, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, "http://127.0.0.1"+path, strings.NewReader(body))
	w := httptest.NewRecorder()
	v.Handler().ServeHTTP(w, r)
	return w
}

// Whatever a body holds, the answer says what is wrong with it; nothing fails inside.
func FuzzBodies(f *testing.F) {
	for i, body := range []string{
		`{"file":"a.kam","source":"contract a language 1\nshared A { n: int 0..9 }"}`, `{"contract":"knock","version":1,"seed":7,"settings":{"a":1}}`,
		`{"name":"Ana","role":"player"}`, `{"entity":1,"request":"Diver.tap","args":[1,"x",null]}`, `{"delay_ms":10,"loss":0.5,"cut":true}`,
		`{"what":"drills","drills":{"a.drill":"drill \"a\"\nuse \"knock.kam\" seed 1\nclients ana\n"},"shake":2}`, `{"reason":"enough"}`, `{}`,
	} {
		f.Add(uint8(i), body)
	}
	v := fuzzed(f, false)
	f.Fuzz(func(t *testing.T, at uint8, body string) {
		path := paths[int(at)%len(paths)]
		answer := call(v, "POST", path, body)
		if answer.Code >= 500 && answer.Code != http.StatusServiceUnavailable {
			t.Fatalf("%s with %q: %d %s", path, body, answer.Code, answer.Body)
		}
		// over a link that is cut, who asks waits for ten seconds
		call(v, "POST", "/api/sessions/1/clients/1/link", "{}")
		for _, r := range v.openRunners() { // what was opened goes again
			if r.id > 1 {
				_ = v.endSession(t.Context(), r, "enough")
			}
		}
	})
}

// Whatever a client of the JSON sub-protocol sends, it is carried out, refused or cuts who sent it; the session goes
// on, and the frames that come of it can be read.
func FuzzJSONProtocol(f *testing.F) {
	for _, message := range []string{
		`{"type":"ready"}`, `{"type":"ask","seq":1,"request":"Diver.tap","args":[]}`, `{"type":"ask","seq":2,"entity":7,"request":"Diver.none","args":["\ud800",1e400]}`,
		`{"type":"write","seq":3,"property":"Diver.n","value":3,"seen":9}`, `{"type":"press","press":1,"property":"Diver.n"}`, `{"type":"seen","seen":12}`, `{"type":"differs","seen":1}`,
	} {
		f.Add(message, `{"type":"ready"}`)
	}
	v := fuzzed(f, true)
	x := v.runner(1)
	n := 0
	f.Fuzz(func(t *testing.T, first, second string) {
		require.NoError(t, x.do(t.Context(), func() {
			n++
			c, err := x.join(joinRequest{Join: wire.Join{Name: fmt.Sprint("Eve ", n)}, pipe: true, json: true})
			require.NoError(t, err)
			x.tick()
			for _, message := range []string{first, second} {
				if l, err := x.readMessage(c, []byte(message), time.Now()); err == nil {
					x.handle(&l)
				}
				x.tick()
			}
			raw, marks := c.outbox.take()
			from := 0
			for _, m := range marks {
				if m.tick > 0 {
					_, bye, err := wire.ParseFrame(raw[from:m.end], x.outline)
					require.NoError(t, err, "%s", raw[from:m.end])
					require.Empty(t, bye)
				}
				from = m.end
			}
			x.dropSeat(c.client, "enough")
			x.tick()
		}))
		require.NotNil(t, v.runner(1))
	})
}
