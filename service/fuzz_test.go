package service

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/store"
)

// paths are the calls that take a body. Nothing that they open stays.
var paths = []string{
	"/api/contracts", "/api/sessions", "/api/sessions/1/clients", "/api/sessions/1/clients/1/ask",
	"/api/sessions/1/clients/1/link",
	"/api/contracts/knock/versions/1/trials", "/api/sessions/2/close", "/api/trials/1/stop",
}

func fuzzed(t testing.TB, paused bool) *Service {
	records := &store.Memory{}
	v, err := New(t.Context(), Options{Records: records, Recorder: records, Console: page})
	require.NoError(t, err)
	t.Cleanup(func() { _ = v.stop(func(context.Context) error { return nil }) })
	call(v, "POST", "/api/contracts", `{"file":"knock.kam","source":`+string(api.Encode(contracts.Knock))+`}`)
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
		`{"file":"a.kam","source":"contract a language 1\nshared A { n: int 0..9 }"}`,
		`{"contract":"knock","version":1,"seed":7,"settings":{"a":1}}`,
		`{"name":"Ana","role":"player"}`, `{"entity":1,"request":"Diver.tap","args":[1,"x",null]}`,
		`{"delay_ms":10,"loss":0.5,"cut":true}`,
		`{"what":"drills","drills":{"a.drill":"drill \"a\"\nuse \"knock.kam\" seed 1\nclients ana\n"},"shake":2}`,
		`{"reason":"enough"}`, `{}`,
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
		for _, r := range v.registry.All() { // what was opened goes again
			if r.Runner().ID() > 1 {
				_ = v.registry.End(t.Context(), r, "enough")
			}
		}
	})
}
