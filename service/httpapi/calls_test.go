package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/service/door"
	"kamerad.example/service/gateway"
	"kamerad.example/store"
)

// No more contracts are checked at once than may be: one that comes meanwhile waits for its turn, or goes when its
// caller does.
func TestAContractWaitsForItsTurn(t *testing.T) {
	records := &store.Memory{}
	metrics := prometheus.NewRegistry()
	a := New(Options{
		Records: records,
		Backlog: records.Backlog,
		Gateway: gateway.New(metrics),
		Door:    door.New(door.Options{}),
		Metrics: metrics,
		Console: fstest.MapFS{},
	})
	server := httptest.NewServer(a.Handler())
	defer server.Close()
	admin := api.Client{Service: server.URL}
	publish := func(i int) error {
		text := strings.Replace(contracts.Tally, "tally", fmt.Sprint("tally", i), 1)
		_, err := admin.Publish(t.Context(), "tally.kam", text, nil)
		return err
	}
	for range publishings {
		a.publishing <- struct{}{}
	}
	impatient, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	answer := httptest.NewRecorder() // without a connection, whose end the service notices when it can
	body := strings.NewReader(`{"file": "tally.kam", "source": "contract tally0 language 1"}`)
	a.Handler().ServeHTTP(
		answer, httptest.NewRequestWithContext(impatient, "POST", "http://127.0.0.1/api/contracts", body),
	)
	require.Equal(t, http.StatusServiceUnavailable, answer.Code, answer.Body)
	var all sync.WaitGroup
	for i := range 12 {
		all.Go(func() { assert.NoError(t, publish(i+1)) })
	}
	list, err := admin.Contracts(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	for range publishings {
		<-a.publishing
	}
	all.Wait()
	list, err = admin.Contracts(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 12)
}

// An export has a bound of its own, and is not held to that of other bodies.
func TestAnExportMayBeLongerThanAContract(t *testing.T) {
	long := strings.Repeat(" ", maxBody+1)
	for path, want := range map[string]int{
		"/api/recordings": http.StatusUnprocessableEntity, // it is no export
		"/api/contracts":  http.StatusRequestEntityTooLarge,
	} {
		answer := httptest.NewRecorder()
		call := httptest.NewRequestWithContext(t.Context(), "POST", "http://127.0.0.1"+path, strings.NewReader(long))
		everyRoute().Handler().ServeHTTP(answer, call)
		assert.Equal(t, want, answer.Code, "%s: %s", path, answer.Body)
	}
}
