package service

import (
	"context"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/store"
)

// often is how many times a race is tried: 1,000 times with KAMERAD_OFTEN=1000.
func often() int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		return n
	}
	return 50
}

// serving runs a service until stop is called, which returns what Serve gave.
func serving(t *testing.T, records *store.Memory) (v *Service, api client.API, stop func() error) {
	v, err := New(t.Context(), records, records, page)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- v.Serve(ctx, l) }()
	return v, client.API{
		Service: "http://" + l.Addr().String(),
	}, sync.OnceValue(func() error { cancel(); return <-done })
}

// A tick that does not end keeps a service from stopping no longer than it says; the other sessions' clients are told,
// all ends are stored, and what could not be done is named.
func TestStoppingHasADeadline(t *testing.T) {
	records := &store.Memory{}
	_, api, stop := serving(t, records)
	_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
	require.NoError(t, err)
	var stuck atomic.Int32
	release := make(chan struct{})
	defer failpoints.tickBegins.Set(func() {
		if stuck.CompareAndSwap(1, 2) {
			<-release
		}
	})()
	first, err := api.Open(t.Context(), client.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	ana, err := client.Join(t.Context(), api.Service, first.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	stuck.Store(1)
	require.Eventually(t, func() bool { return stuck.Load() == 2 }, 5*time.Second, time.Millisecond)
	second, err := api.Open(t.Context(), client.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	bo, err := client.Join(t.Context(), api.Service, second.ID, "Bo", "", client.Options{})
	require.NoError(t, err)

	began := time.Now()
	list, err := api.Sessions(t.Context())
	require.NoError(t, err)
	assert.Less(t, time.Since(began), 2*time.Second, "who lists sessions waits for none")
	assert.Len(t, list, 2)

	time.AfterFunc(20*time.Second, func() { close(release) })
	began = time.Now()
	err = stop()
	assert.Less(t, time.Since(began), 10500*time.Millisecond)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "session 1: its tick did not end in time")
	assert.NotContains(t, err.Error(), "session 2")
	<-ana.Ended()
	<-bo.Ended()
	assert.Equal(t, "the session closed: the service is stopping", ana.Reason())
	assert.Equal(t, "the session closed: the service is stopping", bo.Reason())
	rows, err := records.Sessions(t.Context(), 10)
	require.NoError(t, err)
	for _, row := range rows {
		assert.NotNil(t, row.ClosedAt, "session %d", row.ID)
	}
}

// A panic in one session closes that one, and is noticed by nobody else.
func TestAPanicInASessionIsItsOwn(t *testing.T) {
	records := &store.Memory{}
	v, api, stop := serving(t, records)
	_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
	require.NoError(t, err)
	var joined []*client.Client
	for _, name := range []string{"Ana", "Bo"} {
		s, err := api.Open(t.Context(), client.OpenSession{Contract: "tally", Paused: true})
		require.NoError(t, err)
		c, err := client.Join(t.Context(), api.Service, s.ID, name, "", client.Options{})
		require.NoError(t, err)
		joined = append(joined, c)
	}
	var once atomic.Bool
	defer failpoints.tickBegins.Set(func() {
		if once.CompareAndSwap(false, true) {
			panic("a fault that nobody has thought of")
		}
	})()
	_, err = api.Step(t.Context(), 1, 1)
	assert.Error(t, err)
	<-joined[0].Ended()
	assert.Equal(t, "the session closed: it failed inside", joined[0].Reason())
	require.Eventually(t, func() bool { return v.runner(1) == nil }, 5*time.Second, time.Millisecond)
	var row store.Session
	require.Eventually(t, func() bool {
		row, err = records.Session(t.Context(), 1)
		return err == nil && row.CloseReason != nil
	}, 5*time.Second, time.Millisecond)
	assert.Equal(t, "it failed inside", *row.CloseReason)
	_, err = api.Step(t.Context(), 2, 10)
	assert.NoError(t, err)
	assert.Empty(t, joined[1].Reason())
	status, metrics, _ := get(t, "GET", api.Service+"/metrics", "", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, metrics, "kamerad_session_failures_total 1")
	assert.NoError(t, stop())
}

// A session whose tick takes longer than who closes it waits is closed once that has ended.
func TestACloseThatWasNotWaitedForIsStored(t *testing.T) {
	records := &store.Memory{}
	v, api, stop := serving(t, records)
	_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	held := make(chan struct{}, 1)
	release := make(chan struct{})
	clear := failpoints.tickBegins.Set(func() {
		select {
		case held <- struct{}{}:
		default:
		}
		<-release
	})
	<-held
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.Error(t, v.endSession(ctx, v.runner(s.ID), "enough"))
	clear()
	close(release)
	assert.Eventually(t, func() bool {
		row, err := records.Session(t.Context(), s.ID)
		return err == nil && row.ClosedAt != nil && *row.CloseReason == "enough" && v.runner(s.ID) == nil
	}, 5*time.Second, time.Millisecond)
	assert.NoError(t, stop())
}

// A session that is being opened while the service stops either runs and is closed with the others, or never runs:
// nothing stays open, and nothing is sent to who has ended.
func TestASessionOpenedWhileTheServiceStops(t *testing.T) {
	for range often() {
		records := &store.Memory{}
		v, api, stop := serving(t, records)
		_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
		require.NoError(t, err)
		stopped := make(chan error, 1)
		clear := failpoints.sessionStored.Set(func() {
			go func() { stopped <- stop() }()
			for begun := false; !begun; {
				v.mu.Lock()
				begun = v.stopping
				v.mu.Unlock()
			}
		})
		_, err = api.Open(t.Context(), client.OpenSession{Contract: "tally"})
		clear()
		assert.ErrorContains(t, err, "the service is stopping")
		require.NoError(t, <-stopped)
		rows, err := records.Sessions(t.Context(), 10)
		require.NoError(t, err)
		for _, row := range rows {
			require.NotNil(t, row.ClosedAt)
		}
	}
}

// A trial that is being started while the service stops is refused, or stored as one that was stopped.
func TestATrialStartedWhileTheServiceStops(t *testing.T) {
	const drill = "drill \"a tick\"\nuse \"tally.kam\" seed 1\nclients ana\nsettle\n"
	for range often() {
		records := &store.Memory{}
		v, api, stop := serving(t, records)
		_, err := api.Publish(t.Context(), "tally.kam", tally, nil)
		require.NoError(t, err)
		stopped := make(chan error, 1)
		clear := failpoints.trialChecked.Set(func() {
			go func() { stopped <- stop() }()
			for begun := false; !begun; {
				v.mu.Lock()
				begun = v.stopping
				v.mu.Unlock()
			}
		})
		body := `{"what":"drills","drills":{"a.drill":` + string(encode(drill)) + `}}`
		status, answer, _ := get(t, "POST", api.Service+"/api/contracts/tally/versions/1/trials", body, nil)
		clear()
		require.Contains(t, []int{200, 400}, status, answer)
		require.NoError(t, <-stopped)
		list, err := records.Trials(t.Context(), "tally", 1, 10)
		require.NoError(t, err)
		for _, row := range list {
			require.NotContains(t, []string{"waiting", "running"}, row.State)
		}
		if status == 400 {
			require.True(t, strings.Contains(answer, "stopping"), answer)
		}
	}
}

// A session that its contract has ended is closed once, however many ticks that takes.
func TestTheEndOfASessionIsToldOnce(t *testing.T) {
	v, api := alone(t)
	_, err := api.Publish(
		t.Context(), "short.kam",
		"contract short language 1\nroles player\n"+
			"shared Sea { n: int 0..9 = 0; after 1s { close \"the tide is out\" } }",
		nil,
	)
	require.NoError(t, err)
	s, err := api.Open(t.Context(), client.OpenSession{Contract: "short", Paused: true})
	require.NoError(t, err)
	x := v.runner(s.ID)
	var calls atomic.Int32
	told := make(chan string, 2000)
	require.NoError(t, x.do(t.Context(), func() {
		x.ended = func(reason string) { calls.Add(1); told <- reason }
		for range 1000 {
			x.tick()
		}
	}))
	assert.Equal(t, "the tide is out", <-told)
	require.NoError(t, x.do(t.Context(), x.tick))
	assert.EqualValues(t, 1, calls.Load())
}
