package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/auth"
	"kamerad.example/client"
	"kamerad.example/internal/tests/testservice"
)

// fakeBackend is the backend of a game, which remembers what it is told.
type fakeBackend struct {
	*httptest.Server
	t    *testing.T
	keys []auth.Key
	mood atomic.Pointer[string] // away, slow, forgetful (it answers twice with an error after taking it in), or well

	mu    sync.Mutex
	calls map[int64]api.BackendCall // by their numbers
	times map[int64]int             // that each came
}

// callKeys makes a key that signs calls, calls.jwk, and calls.json, which checks them, and returns what names files
// beside them.
func callKeys(t *testing.T) (in func(name string) string) {
	folder := t.TempDir()
	in = func(name string) string { return filepath.Join(folder, name) }
	out, status := testservice.Run(
		t, testservice.Binary(t), "", nil, "key", "calls", "--keys", in("calls.json"), "--out", in("calls.jwk"),
	)
	require.Equal(t, 0, status, out)
	return in
}

// newFakeBackend runs a backend that checks calls with the keys of a file.
func newFakeBackend(t *testing.T, file string) *fakeBackend {
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	keys, err := auth.ParseKeys(raw)
	require.NoError(t, err)
	b := &fakeBackend{t: t, keys: keys, calls: map[int64]api.BackendCall{}, times: map[int64]int{}}
	b.is("well")
	b.Server = httptest.NewServer(b)
	t.Cleanup(b.Close)
	return b
}

func (b *fakeBackend) is(mood string) { b.mood.Store(&mood) }

func (b *fakeBackend) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	mood := *b.mood.Load()
	if mood == "away" {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	body, err := auth.VerifyRequest(r, b.keys, time.Now())
	if !assert.NoError(b.t, err) {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	var c api.BackendCall
	assert.NoError(b.t, json.Unmarshal(body, &c))
	if mood == "slow" {
		time.Sleep(30 * time.Millisecond)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if old, known := b.calls[c.Number]; known {
		assert.Equal(b.t, old, c, "a number is of one call")
	}
	b.calls[c.Number] = c
	b.times[c.Number]++
	if mood == "forgetful" && b.times[c.Number] == 1 {
		w.WriteHeader(http.StatusInternalServerError)
	}
}

// told returns who the backend knows to have joined, and how many calls came more than once.
func (b *fakeBackend) told(event string) (names map[string]int, twice int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	names = map[string]int{}
	for number, c := range b.calls {
		if c.Event == event {
			names[c.Name]++
		}
		if b.times[number] > 1 {
			twice++
		}
	}
	return names, twice
}

// A thousand join while the backend is away, slow and forgetful, and the service is killed in the middle: the backend
// is told of each of them, of each by one number.
func TestTheBackendIsToldOfEachJoin(t *testing.T) {
	in := callKeys(t)
	b := newFakeBackend(t, in("calls.json"))
	p := testservice.Start(t, "serve", "--backend", b.URL+"/kamerad", "--backend-key", in("calls.jwk"))
	v, err := p.Publish(
		t.Context(),
		"crowd.kam",
		"contract crowd language 1\nseats 200 grace 5s\nentity Diver per player { n: int 0..9 }\n",
		nil,
	)
	require.NoError(t, err)
	s, err := p.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)

	joins := 100
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_JOINS")); err == nil {
		joins = n
	}
	moods := []string{"away", "slow", "forgetful", "away", "well"}
	seated := map[string]bool{}
	var mu sync.Mutex
	for i, mood := range moods {
		b.is(mood)
		var all sync.WaitGroup
		for n := range 4 {
			all.Go(func() {
				for k := n; k < joins/len(moods); k += 4 {
					name := fmt.Sprintf("d%d x%d", i, k)
					c, err := client.Join(t.Context(), p.Service, s.ID, name, "", client.Options{})
					if err != nil {
						continue // killed meanwhile
					}
					mu.Lock()
					seated[name] = true // it has had its hello
					mu.Unlock()
					c.Close()
				}
			})
		}
		if i == 1 || i == 3 {
			time.Sleep(200 * time.Millisecond)
			p.Kill()
			all.Wait()
			p.Restart()
		}
		all.Wait()
	}
	b.is("well")
	_, err = p.Close(t.Context(), s.ID, "the dive is over")
	require.NoError(t, err)
	require.Greater(t, len(seated), joins/2)
	missing := func() (out []string) {
		names, _ := b.told("join")
		for name := range seated {
			if names[name] != 1 {
				out = append(out, fmt.Sprintf("%s %d times", name, names[name]))
			}
		}
		return out
	}
	if !assert.Eventually(t, func() bool { return len(missing()) == 0 }, 60*time.Second, 100*time.Millisecond) {
		t.Fatal(missing())
	}
	require.Eventually(t, func() bool {
		joined, _ := b.told("join")
		left, _ := b.told("leave")
		ended, _ := b.told("end")
		return len(left) == len(joined) && len(ended) == 1
	}, 60*time.Second, 100*time.Millisecond, "whoever came has left, and the session has ended")
	joined, twice := b.told("join")
	t.Logf(
		"%d were seated, %d joins and as many leaves were told, %d calls came more than once",
		len(seated),
		len(joined),
		twice,
	)
	assert.Positive(t, twice)
	shown := ""
	require.Eventually(t, func() bool {
		var status int
		shown, status = p.Run("", "backend")
		return status == 0 && !strings.Contains(shown, "waits") && !strings.Contains(shown, "✕")
	}, 60*time.Second, 200*time.Millisecond, shown)
	assert.Contains(t, shown, "the dive is over")
}

// The settings of a backend are looked at before anything begins; the example of the document is a call.
func TestBackendSettings(t *testing.T) {
	in := callKeys(t)
	var set auth.KeySet
	require.NoError(t, json.Unmarshal([]byte(read(t, in(""), "calls.json")), &set))
	require.NoError(t, os.WriteFile(in("public.jwk"), set.Keys[0], 0o600))
	for _, c := range []struct{ url, key, want string }{
		{"https://backend.example/k", "", "go together"},
		{"", in("calls.jwk"), "go together"},
		{"http://backend.example/k", in("calls.jwk"), "it is like https:"},
		{"https://a:b@backend.example/k", in("calls.jwk"), "no password"},
		{"https://backend.example/k", in("public.jwk"), "only checks"},
		{"https://backend.example/k", in("none.jwk"), "no such file"},
	} {
		out, status := testservice.Run(
			t,
			testservice.Binary(t),
			"",
			[]string{"KAMERAD_DATABASE=postgres://nobody@127.0.0.1:1/none"},
			"serve",
			"--listen",
			"127.0.0.1:0",
			"--backend",
			c.url,
			"--backend-key",
			c.key,
		)
		assert.Equal(t, 2, status, "%+v", c)
		assert.Contains(t, out, c.want, "%+v", c)
	}
	raw, err := os.ReadFile(filepath.Join(root, "docs/backend.md"))
	require.NoError(t, err)
	example := regexp.MustCompile("(?s)```callback\n(.*?)```").FindStringSubmatch(string(raw))
	require.NotNil(t, example)
	decoder := json.NewDecoder(strings.NewReader(example[1]))
	decoder.DisallowUnknownFields()
	var c api.BackendCall
	require.NoError(t, decoder.Decode(&c))
}

// What a session comes to is told to who runs it, and to the backend.
func TestTheBackendIsToldTheResult(t *testing.T) {
	in := callKeys(t)
	b := newFakeBackend(t, in("calls.json"))
	p := testservice.Start(t, "serve", "--backend", b.URL, "--backend-key", in("calls.jwk"))
	v, err := p.Publish(t.Context(), "race.kam", `contract race language 1
result Outcome
type Outcome { winner: client, laps: int 0..9 }
entity Diver per player {
  request finish() limit 1 per second { close "the race is over" with Outcome(winner = caller, laps = 3) }
}
`, nil)
	require.NoError(t, err)
	s, err := p.Open(t.Context(), api.OpenSession{Contract: v.Contract})
	require.NoError(t, err)
	shown, status := p.Run("", "ask", fmt.Sprint(s.ID), "finish", "--as", "Ana")
	require.Equal(t, 0, status, shown)
	require.Eventually(t, func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		for _, c := range b.calls {
			if c.Event == "end" {
				return c.Reason == "the race is over" && string(c.Result) == `{"laps":3,"winner":1}`
			}
		}
		return false
	}, 30*time.Second, 50*time.Millisecond)
	shown, status = p.Run("", "session", "show", fmt.Sprint(s.ID))
	assert.Equal(t, 0, status)
	assert.Contains(t, shown, `it came to {"winner":1,"laps":3}`)
}
