package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// served returns the address of a server that hands each WebSocket of the protocol "wreck" to f.
func served(t *testing.T, f func(conn *websocket.Conn)) string {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		up := websocket.Upgrader{Subprotocols: []string{"wreck"}}
		conn, err := up.Upgrade(w, r, nil)
		if err != nil {
			return
		}
		defer conn.Close()
		f(conn)
	}))
	t.Cleanup(server.Close)
	return strings.Replace(server.URL, "http", "ws", 1)
}

func dialed(t *testing.T, f func(conn *websocket.Conn)) *Socket {
	s, err := DialWebSocket(t.Context(), served(t, f), "wreck", Dialing{MaxMessage: 1000})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close(websocket.CloseNormalClosure, "over") })
	return s
}

func TestMessagesAreTextWhenTheyAreJSON(t *testing.T) {
	kinds := make(chan int, 2)
	s := dialed(t, func(conn *websocket.Conn) {
		for range 2 {
			kind, message, err := conn.ReadMessage()
			if err != nil {
				return
			}
			kinds <- kind
			_ = conn.WriteMessage(kind, message)
		}
		_, _, _ = conn.ReadMessage()
	})
	for message, kind := range map[string]int{`{"a":1}`: websocket.TextMessage, "\x01": websocket.BinaryMessage} {
		require.NoError(t, s.Write(t.Context(), []byte(message)))
		assert.Equal(t, kind, <-kinds)
		back, err := s.Read(t.Context())
		require.NoError(t, err)
		assert.Equal(t, message, string(back))
	}
}

// What the other side says when it closes is the error of a read; a connection that is cut is another error.
func TestReadSaysHowTheOtherSideClosed(t *testing.T) {
	for reason, want := range map[string]string{
		"the wreck has sunk": "the wreck has sunk",
		"":                   "the other side has closed the connection (status 4321)",
	} {
		s := dialed(t, func(conn *websocket.Conn) {
			goodbye := websocket.FormatCloseMessage(4321, reason)
			_ = conn.WriteControl(websocket.CloseMessage, goodbye, time.Now().Add(time.Second))
			_, _, _ = conn.ReadMessage()
		})
		_, err := s.Read(t.Context())
		var closed *Closed
		require.ErrorAs(t, err, &closed)
		assert.Equal(t, 4321, closed.Status)
		assert.EqualError(t, err, want)
	}
	s := dialed(t, func(*websocket.Conn) {})
	_, err := s.Read(t.Context())
	var closed *Closed
	require.Error(t, err)
	assert.NotErrorAs(t, err, &closed)
}

func TestReadAndWriteEndWithTheirContext(t *testing.T) {
	silent := func(*websocket.Conn) { <-t.Context().Done() } // it neither reads nor writes
	for name, use := range map[string]func(s *Socket, ctx context.Context) error{
		"read": func(s *Socket, ctx context.Context) error { _, err := s.Read(ctx); return err },
		"write": func(s *Socket, ctx context.Context) error {
			for {
				if err := s.Write(ctx, make([]byte, 1<<20)); err != nil {
					return err
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, err := DialWebSocket(t.Context(), served(t, silent), "wreck", Dialing{MaxMessage: 1000})
			require.NoError(t, err)
			ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
			defer cancel()
			assert.ErrorIs(t, use(s, ctx), context.DeadlineExceeded)
		})
	}
}

// Close waits until the other side has read everything that was said before, and has answered.
func TestCloseLosesNothing(t *testing.T) {
	for _, reading := range []bool{false, true} {
		var last string
		var status error
		served := make(chan struct{})
		s := dialed(t, func(conn *websocket.Conn) {
			defer close(served)
			_ = conn.WriteMessage(websocket.TextMessage, []byte(strings.Repeat("x", 900))) // nobody reads it
			time.Sleep(50 * time.Millisecond)
			for {
				_, message, err := conn.ReadMessage()
				if err != nil {
					status = err
					return
				}
				last = string(message)
			}
		})
		if reading {
			go func() {
				for {
					if _, err := s.Read(t.Context()); err != nil {
						return
					}
				}
			}()
		}
		require.NoError(t, s.Write(t.Context(), []byte("the last word")))
		began := time.Now()
		s.Close(4400, strings.Repeat("ä", 100)) // more than a close frame has room for
		assert.Less(t, time.Since(began), goodbyeWithin)
		<-served
		assert.Equal(t, "the last word", last)
		assert.True(t, websocket.IsCloseError(status, 4400), "%v", status)
	}
}

func TestAHandshakeThatFailsSaysWhy(t *testing.T) {
	_, err := DialWebSocket(t.Context(), served(t, func(*websocket.Conn) {}), "reef", Dialing{MaxMessage: 1000})
	assert.EqualError(t, err, "the server does not speak reef")

	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNotFound)
		_ = json.NewEncoder(w).Encode(Problem{Status: http.StatusNotFound, Detail: "no such dive"})
	}))
	defer server.Close()
	_, err = DialWebSocket(
		t.Context(),
		strings.Replace(server.URL, "http", "ws", 1),
		"wreck",
		Dialing{MaxMessage: 1000},
	)
	var problem *Problem
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, "no such dive", problem.Detail)
}

func TestALongMessageEndsTheSocket(t *testing.T) {
	s := dialed(t, func(conn *websocket.Conn) {
		_ = conn.WriteMessage(websocket.BinaryMessage, make([]byte, 1001))
		_, _, _ = conn.ReadMessage()
	})
	_, err := s.Read(t.Context())
	assert.ErrorIs(t, err, websocket.ErrReadLimit)
}
