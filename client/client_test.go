package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/replicate"
	"kamerad.example/core/wire"
)

// fake is a server's end of a connection, played by a test.
type fake struct {
	out  chan []byte
	mu   sync.Mutex
	got  []string
	once sync.Once
	done chan struct{}
}

func newFake(messages ...string) *fake {
	f := &fake{out: make(chan []byte, 100), done: make(chan struct{})}
	for _, m := range messages {
		f.out <- []byte(m)
	}
	return f
}

func (f *fake) Read(ctx context.Context) ([]byte, error) {
	select {
	case m := <-f.out:
		return m, nil
	case <-f.done:
		return nil, errors.New("gone")
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (f *fake) Write(_ context.Context, m []byte) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.got = append(f.got, string(m))
	return nil
}

func (f *fake) Close(string) { f.once.Do(func() { close(f.done) }) }

func (f *fake) sent() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]string{}, f.got...)
}

func hello(t *testing.T) string {
	c, problems := compile.Load("a.kam", "contract a language 1\nshared A { n: int 0..9; event said() }")
	require.NotNil(t, c, problems.Error())
	raw, err := json.Marshal(wire.Hello{
		Type:     wire.MessageHello,
		Protocol: wire.Protocol,
		Client:   wire.Client{Number: 3, Name: "Ana", Role: "player"},
		Outline:  c.Outline(),
	})
	require.NoError(t, err)
	return string(raw)
}

func TestAClientFollowsItsFrames(t *testing.T) {
	f := newFake(
		hello(t),
		`{"type":"frame","tick":5,"snapshot":true,"state":[`+
			`{"spawned":[{"entity":9,"kind":"A","owner":0,"values":{"n":4}}]}]}`,
	)
	var seen []string
	arrived := make(chan struct{}, 10)
	c, err := New(t.Context(), f, Options{OnFrame: func(frame *wire.Frame, notices []replicate.Notice) {
		for _, n := range notices {
			seen = append(seen, string(n.Type)+" "+n.Field.Name)
		}
		arrived <- struct{}{}
	}})
	require.NoError(t, err)
	<-arrived
	f.out <- []byte(`{"type":"frame","tick":6,"state":[{"values":[{"entity":9,"kind":"A","values":{"n":7}}]}]}`)
	<-arrived
	assert.Equal(t, []string{"spawned ", "changed n"}, seen)
	c.Look(func(held *replicate.Copy) {
		v, _ := held.Entity(9).Value("n")
		assert.EqualValues(t, 7, v.Num)
		assert.EqualValues(t, 6, held.Tick)
	})
	require.Eventually(t, func() bool { return len(f.sent()) == 3 }, 5*time.Second, time.Millisecond)
	assert.Equal(t, []string{`{"type":"ready"}`, `{"seen":5,"type":"seen"}`, `{"seen":6,"type":"seen"}`}, f.sent())

	answer := make(chan wire.Decision, 1)
	go func() {
		d, err := c.Forge(t.Context(), 0, "A.b", json.RawMessage("1"))
		assert.NoError(t, err)
		answer <- d
	}()
	require.Eventually(t, func() bool { return len(f.sent()) == 4 }, 5*time.Second, time.Millisecond)
	assert.JSONEq(t, `{"type":"ask","seq":1,"request":"A.b","args":[1],"seen":6}`, f.sent()[3])
	f.out <- []byte(
		`{"type":"frame","tick":7,"decisions":[{"seq":99,"outcome":"accepted","check":-1},` +
			`{"seq":1,"outcome":"denied","stage":"check","reason":"no","check":0}]}`,
	)
	assert.Equal(t, wire.Decision{
		Seq:     1,
		Outcome: wire.Denied,
		Stage:   wire.StageCheck,
		Reason:  "no",
	}, <-answer)
	_, err = c.Forge(t.Context(), 0, "A.b", json.RawMessage("{"))
	assert.ErrorContains(t, err, "argument 1 is not JSON")

	f.out <- []byte(`{"type":"bye","reason":"the session closed: enough"}`)
	<-c.Ended()
	assert.Equal(t, "the session closed: enough", c.Reason())
	_, err = c.Forge(t.Context(), 0, "A.b")
	assert.ErrorIs(t, err, ErrEnded)
}

func TestAClientThatIsToldNonsenseEnds(t *testing.T) {
	for name, first := range map[string]string{
		"no JSON": "{", "a frame": `{"type":"frame","tick":1}`, "no outline": `{"type":"hello"}`,
	} {
		_, err := New(t.Context(), newFake(first), Options{})
		assert.ErrorContains(t, err, "is no hello", name)
	}
	_, err := New(t.Context(), newFake(`{"type":"bye","reason":"all seats are taken"}`), Options{})
	assert.EqualError(t, err, "all seats are taken")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = New(ctx, newFake(), Options{})
	assert.ErrorIs(t, err, context.Canceled)

	for _, frame := range []string{
		`nonsense`, `{"type":"cake"}`,
		`{"type":"frame","tick":1,"state":[{"spawned":[{"entity":1,"kind":"B","values":{}}]}]}`,
		`{"type":"frame","tick":1,"state":[{"values":[{"entity":1,"kind":"A","values":{"n":77}}]}]}`,
		`{"type":"frame","tick":1,"events":[{"event":"A.unknown","values":{}}]}`,
	} {
		ended := make(chan string, 1)
		_, err := New(t.Context(), newFake(hello(t), frame), Options{OnEnd: func(reason string) { ended <- reason }})
		require.NoError(t, err)
		assert.Contains(t, <-ended, "read", frame)
	}
}

func TestNoMoreThanTheBoundIsUndecided(t *testing.T) {
	f := newFake(hello(t))
	c, err := New(t.Context(), f, Options{NotReady: true})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	for range wire.MaxUndone + 10 {
		group.Add(1)
		go func() {
			defer group.Done()
			_, err := c.Forge(ctx, 0, "A.b")
			assert.Error(t, err)
		}()
	}
	require.Eventually(t, func() bool { return len(f.sent()) == wire.MaxUndone }, 5*time.Second, time.Millisecond)
	cancel()
	group.Wait()
	require.Len(t, f.sent(), wire.MaxUndone)
	for i, m := range f.sent() {
		assert.Contains(t, m, fmt.Sprintf(`"seq":%d,`, i+1), "in the order of their numbers")
	}
	limited, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	_, err = c.Forge(limited, 0, "A.b")
	assert.ErrorIs(t, err, context.DeadlineExceeded, "who gave up has not given back the place")
	f.out <- []byte(`{"type":"frame","tick":1,"decisions":[{"seq":1,"outcome":"accepted","check":-1}]}`)
	go func() { _, _ = c.Forge(t.Context(), 0, "A.b") }()
	require.Eventually(
		t, func() bool { return strings.Contains(strings.Join(f.sent(), ""), `"seq":65,`) }, 5*time.Second,
		time.Millisecond,
	)
	c.Close()
	assert.NotEmpty(t, c.Reason())
}
