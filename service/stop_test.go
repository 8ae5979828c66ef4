package service

import (
	"context"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/service/registry"
	"kamerad.example/service/runner"
	"kamerad.example/service/trials"
	"kamerad.example/store"
)

// serving runs a service until stop is called, which returns what Serve gave.
func serving(t *testing.T, records *store.Memory) (v *Service, admin api.Client, stop func() error) {
	v, err := New(t.Context(), Options{Records: records, Recorder: records, Console: page})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- v.Serve(ctx, l) }()
	return v, api.Client{
		Service: "http://" + l.Addr().String(),
	}, sync.OnceValue(func() error { cancel(); return <-done })
}

// A tick that does not end keeps a service from stopping no longer than it says; the other sessions' clients are told,
// all ends are stored, and what could not be done is named.
func TestStoppingHasADeadline(t *testing.T) {
	records := &store.Memory{}
	_, admin, stop := serving(t, records)
	_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
	require.NoError(t, err)
	var stuck atomic.Int32
	release := make(chan struct{})
	defer runner.Failpoints.TickBegins.Set(func() {
		if stuck.CompareAndSwap(1, 2) {
			<-release
		}
	})()
	first, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	ana, err := client.Join(t.Context(), admin.Service, first.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	stuck.Store(1)
	require.Eventually(t, func() bool { return stuck.Load() == 2 }, 5*time.Second, time.Millisecond)
	second, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	bo, err := client.Join(t.Context(), admin.Service, second.ID, "Bo", "", client.Options{})
	require.NoError(t, err)

	began := time.Now()
	list, err := admin.Sessions(t.Context())
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
	v, admin, stop := serving(t, records)
	_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
	require.NoError(t, err)
	var joined []*client.Client
	for _, name := range []string{"Ana", "Bo"} {
		s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally", Paused: true})
		require.NoError(t, err)
		c, err := client.Join(t.Context(), admin.Service, s.ID, name, "", client.Options{})
		require.NoError(t, err)
		joined = append(joined, c)
	}
	var once atomic.Bool
	defer runner.Failpoints.TickBegins.Set(func() {
		if once.CompareAndSwap(false, true) {
			panic("a fault that nobody has thought of")
		}
	})()
	_, err = admin.Step(t.Context(), 1, 1)
	assert.Error(t, err)
	<-joined[0].Ended()
	assert.Equal(t, "the session closed: it failed inside", joined[0].Reason())
	require.Eventually(t, func() bool { return v.registry.Find(1) == nil }, 5*time.Second, time.Millisecond)
	var row store.Session
	require.Eventually(t, func() bool {
		row, err = records.Session(t.Context(), 1)
		return err == nil && row.CloseReason != nil
	}, 5*time.Second, time.Millisecond)
	assert.Equal(t, "it failed inside", *row.CloseReason)
	_, err = admin.Step(t.Context(), 2, 10)
	assert.NoError(t, err)
	assert.Empty(t, joined[1].Reason())
	status, metrics, _ := get(t, "GET", admin.Service+"/metrics", "", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, metrics, "kamerad_session_failures_total 1")
	assert.NoError(t, stop())
}

// A session whose tick takes longer than who closes it waits is closed once that has ended.
func TestACloseThatWasNotWaitedForIsStored(t *testing.T) {
	records := &store.Memory{}
	v, admin, stop := serving(t, records)
	_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
	require.NoError(t, err)
	s, err := admin.Open(t.Context(), api.OpenSession{Contract: "tally"})
	require.NoError(t, err)
	held := make(chan struct{}, 1)
	release := make(chan struct{})
	clear := runner.Failpoints.TickBegins.Set(func() {
		select {
		case held <- struct{}{}:
		default:
		}
		<-release
	})
	<-held
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.Error(t, v.registry.End(ctx, v.registry.Find(s.ID), "enough"))
	clear()
	close(release)
	assert.Eventually(t, func() bool {
		row, err := records.Session(t.Context(), s.ID)
		return err == nil && row.ClosedAt != nil && *row.CloseReason == "enough" && v.registry.Find(s.ID) == nil
	}, 5*time.Second, time.Millisecond)
	assert.NoError(t, stop())
}

// A session that is being opened while the service stops either runs and is closed with the others, or never runs:
// nothing stays open, and nothing is sent to who has ended.
func TestASessionOpenedWhileTheServiceStops(t *testing.T) {
	for range testservice.Often() {
		records := &store.Memory{}
		v, admin, stop := serving(t, records)
		_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
		require.NoError(t, err)
		stopped := make(chan error, 1)
		clear := registry.Failpoints.SessionStored.Set(func() {
			go func() { stopped <- stop() }()
			for begun := false; !begun; {
				begun = v.registry.Stopping()
			}
		})
		_, err = admin.Open(t.Context(), api.OpenSession{Contract: "tally"})
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
	for range testservice.Often() {
		records := &store.Memory{}
		v, admin, stop := serving(t, records)
		_, err := admin.Publish(t.Context(), "tally.kam", contracts.Tally, nil)
		require.NoError(t, err)
		stopped := make(chan error, 1)
		clear := trials.Failpoints.TrialChecked.Set(func() {
			go func() { stopped <- stop() }()
			for begun := false; !begun; {
				begun = v.registry.Stopping()
			}
		})
		body := `{"what":"drills","drills":{"a.drill":` + string(api.Encode(drill)) + `}}`
		status, answer, _ := get(t, "POST", admin.Service+"/api/contracts/tally/versions/1/trials", body, nil)
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
