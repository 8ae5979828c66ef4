package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/store"
)

// broken is records that cannot be read, with an error as a driver words it.
type broken struct{ *store.Memory }

func (broken) Sessions(context.Context, int) ([]store.Session, error) {
	return nil, errors.New(
		"failed to connect to `user=kamerad database=wreck`: 127.0.0.1:5440 (barge.example): dial error",
	)
}

// What the service fails of inside stands in its log; who calls is not told of the database.
func TestAFailureInsideTellsNothing(t *testing.T) {
	records := broken{&store.Memory{}}
	v, err := New(t.Context(), Options{Records: records, Recorder: records.Memory, Console: page})
	require.NoError(t, err)
	admin := serve(t, v)
	status, body, _ := get(t, "GET", admin.Service+"/api/sessions", "", nil)
	assert.Equal(t, http.StatusInternalServerError, status)
	for _, secret := range []string{"kamerad", "wreck", "5440", "barge"} {
		assert.NotContains(t, body, secret)
	}
}

// Who goes away before the answer fills no log.
func TestWhoGoesAwayIsNoFailure(t *testing.T) {
	log := captureLog(t)
	v, _, x := tallied(t, true)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for range 100 {
		request := httptest.NewRequestWithContext(
			ctx, "GET", fmt.Sprintf("http://127.0.0.1/api/sessions/%d", x.Runner().ID()), nil,
		)
		v.Handler().ServeHTTP(httptest.NewRecorder(), request)
	}
	assert.NotContains(t, log.String(), "a call failed")
}

// Who opens connections and says nothing, or sends a body that does not end, keeps nobody else out.
func TestIdleConnectionsAndSlowBodiesGiveWay(t *testing.T) {
	_, admin := alone(t)
	address := strings.TrimPrefix(admin.Service, "http://")
	dial := func() net.Conn {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return c
	}
	slow := dial()
	_, err := fmt.Fprintf(slow, "POST /api/contracts HTTP/1.1\r\nHost: %s\r\nContent-Length: 1000\r\n\r\n{", address)
	require.NoError(t, err)
	began := time.Now()
	refused := make(chan string, 2) // their bodies go on as well, a byte at a time
	for _, path := range []string{"/api/none", "/api/sessions/99/clients/1/ask"} {
		c := dial()
		_, err := fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: %s\r\nContent-Length: 1000\r\n\r\n{", path, address)
		require.NoError(t, err)
		go func() { // what it reads is there, even when the other side is gone by the next byte
			_ = c.SetReadDeadline(began.Add(20 * time.Second))
			answer, _ := io.ReadAll(c)
			refused <- string(answer)
		}()
		go func() {
			for tick := time.NewTicker(time.Second); ; <-tick.C {
				if _, err := c.Write([]byte(" ")); err != nil {
					tick.Stop()
					return
				}
			}
		}()
	}
	var quiet []net.Conn
	for range 1500 {
		quiet = append(quiet, dial())
	}
	status, _, _ := get(t, "GET", admin.Service+"/healthz", "", nil)
	assert.Equal(t, 200, status)
	_ = quiet[0].SetReadDeadline(time.Now().Add(3 * time.Second))
	_, err = quiet[0].Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "the oldest gave way")
	_ = slow.SetReadDeadline(began.Add(20 * time.Second))
	answer, err := io.ReadAll(slow)
	require.NoError(t, err)
	assert.Contains(t, string(answer), "408 Request Timeout")
	for range cap(refused) {
		assert.Regexp(t, "^HTTP/1.1 (404 Not Found|408 Request Timeout)", <-refused)
	}
	assert.InDelta(t, 10, time.Since(began).Seconds(), 4)
}
