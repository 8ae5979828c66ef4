package client

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/wire"
)

// often is how many times a race is tried: 1,000 times with KAMERAD_OFTEN=1000.
func often() int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		return n
	}
	return 50
}

// waiting is the hello of a seat that waits for a lost connection.
func waiting(t *testing.T) string {
	return strings.Replace(hello(t), `"grace_ms":0`, `"grace_ms":60000`, 1)
}

// within fails the test when something takes longer than anything here may.
func within(t *testing.T, what string, f func()) {
	done := make(chan struct{})
	go func() { defer close(done); f() }()
	select {
	case <-done:
	case <-time.After(3 * time.Second):
		require.Fail(t, what+" does not end")
	}
}

func (f *fake) closed() bool {
	select {
	case <-f.done:
		return true
	default:
		return false
	}
}

// Close ends while a connection is being made again; a seat that was taken anew meanwhile is given up.
func TestCloseWhileTheConnectionIsMadeAgain(t *testing.T) {
	greeting := waiting(t)
	for i := range often() {
		first := newFake(greeting)
		second := newFake(greeting)
		asked := make(chan struct{})
		let := make(chan struct{})
		c, err := New(t.Context(), first, Options{Again: func(ctx context.Context, _ Seat) (Transport, error) {
			close(asked)
			if i%2 == 0 {
				<-ctx.Done()
				return nil, ctx.Err()
			}
			<-let
			return second, nil
		}})
		require.NoError(t, err)
		first.Close("")
		<-asked
		closed := make(chan struct{})
		go func() { c.Close(); close(closed) }()
		if i%2 == 1 {
			for closing := false; !closing; {
				c.mu.Lock()
				closing = c.closing
				c.mu.Unlock()
			}
			close(let)
		}
		within(t, "Close", func() { <-closed })
		if i%2 == 1 {
			require.True(t, second.closed(), "the new connection is closed")
		}
	}
}

// A client that says it is ready while it has no connection says so over the next one.
func TestReadyWhileTheConnectionIsMadeAgain(t *testing.T) {
	greeting := waiting(t)
	for range often() {
		first := newFake(greeting)
		second := newFake(greeting)
		var c *Client
		made := make(chan struct{})
		back := make(chan struct{})
		c, err := New(
			t.Context(), first,
			Options{
				NotReady: true,
				OnBack:   func() { close(back) },
				Again: func(context.Context, Seat) (Transport, error) {
					<-made
					c.Ready()
					return second, nil
				},
			},
		)
		require.NoError(t, err)
		close(made)
		first.Close("")
		within(t, "the new connection", func() { <-back })
		require.Contains(t, second.sent(), `{"type":"ready"}`)
		within(t, "Close", c.Close)
	}
}

// A connection whose hello is none is closed, and the next one is tried.
func TestAConnectionWithoutAHelloIsClosed(t *testing.T) {
	greeting := waiting(t)
	for range often() {
		first := newFake(greeting)
		bad := newFake(`{"type":"frame","tick":1}`)
		good := newFake(greeting)
		other := newFake(strings.Replace(greeting, `"fingerprint":"`, `"fingerprint":"x`, 1))
		var tries atomic.Int32
		back := make(chan struct{})
		c, err := New(
			t.Context(), first,
			Options{OnBack: func() { close(back) }, Again: func(context.Context, Seat) (Transport, error) {
				return []Transport{bad, other, good}[tries.Add(1)-1], nil
			}},
		)
		require.NoError(t, err)
		first.Close("")
		within(t, "the new connection", func() { <-back })
		require.True(t, bad.closed())
		require.True(t, other.closed())
		require.False(t, good.closed())
		within(t, "Close", c.Close)
	}
}

// A server that goes away with a reason may be there again; one that closes for good is not asked again.
func TestWhoGoesAwayIsAskedAgain(t *testing.T) {
	greeting := waiting(t)
	for status, again := range map[int]bool{
		websocket.CloseGoingAway:      true,
		websocket.CloseServiceRestart: true,
		4410:                          false,
		websocket.CloseNormalClosure:  false,
	} {
		var joins atomic.Int32
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			up := websocket.Upgrader{Subprotocols: []string{wire.Protocol}}
			conn, err := up.Upgrade(w, r, nil)
			if err != nil {
				return
			}
			_ = conn.WriteMessage(websocket.TextMessage, []byte(greeting))
			if joins.Add(1) == 1 {
				goodbye := websocket.FormatCloseMessage(status, "the service restarts")
				_ = conn.WriteControl(websocket.CloseMessage, goodbye, time.Now().Add(time.Second))
				_, _, _ = conn.ReadMessage() // the answer
				conn.Close()
				return
			}
			for err == nil {
				_, _, err = conn.ReadMessage()
			}
		}))
		back := make(chan struct{}, 1)
		c, err := Join(
			t.Context(), server.URL, 1, "Ana", "", Options{JSON: true, OnBack: func() { back <- struct{}{} }},
		)
		require.NoError(t, err)
		select {
		case <-back:
			assert.True(t, again, "%d", status)
			within(t, "Close", c.Close)
		case <-c.Ended():
			assert.False(t, again, "%d", status)
			assert.Equal(t, "the service restarts", c.Reason())
		}
		server.Close()
	}
}

// stuck is a connection that takes nothing.
type stuck struct{ *fake }

func (s stuck) Write(ctx context.Context, m []byte) error {
	if strings.Contains(string(m), "leave") || strings.Contains(string(m), "ready") {
		return nil
	}
	select {
	case <-s.done:
		return errors.New("gone")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Who asks waits no longer than he says, whatever the connection does.
func TestAskEndsAtItsOwnTime(t *testing.T) {
	greeting := waiting(t)
	ask := func(c *Client) time.Duration {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		began := time.Now()
		within(t, "Forge", func() {
			_, err := c.Forge(ctx, 0, "A.b")
			assert.ErrorIs(t, err, context.DeadlineExceeded)
		})
		return time.Since(began)
	}
	c, err := New(t.Context(), stuck{newFake(greeting)}, Options{})
	require.NoError(t, err)
	for range 3 {
		assert.Less(t, ask(c), 2*time.Second, "over a connection that takes nothing")
	}
	within(t, "Close", c.Close)

	first := newFake(greeting)
	asked := make(chan struct{})
	c, err = New(t.Context(), first, Options{Again: func(ctx context.Context, _ Seat) (Transport, error) {
		close(asked)
		<-ctx.Done()
		return nil, ctx.Err()
	}})
	require.NoError(t, err)
	first.Close("")
	<-asked
	for range 3 {
		assert.Less(t, ask(c), 2*time.Second, "while the connection is made again")
	}
	within(t, "Close", c.Close)
}
