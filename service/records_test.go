package service

import (
	"bytes"
	"fmt"
	"log/slog"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/client"
	"kamerad.example/internal/tests/contracts"
	"kamerad.example/internal/tests/testservice"
	"kamerad.example/store"
)

// captureLog lets the test read what is logged.
func captureLog(t *testing.T) *bytes.Buffer {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	t.Cleanup(func() { slog.SetDefault(before) })
	return &log
}

// taken is records whose database another service may have.
type taken struct{ *store.Memory }

func (taken) Held() bool { return false }

// No session is opened while the database is not held for this service, and who looks is told.
func TestNothingIsOpenedOnADatabaseThatIsNotHeld(t *testing.T) {
	records := taken{&store.Memory{}}
	v, err := New(t.Context(), Options{Records: records, Recorder: records.Memory, Console: page})
	require.NoError(t, err)
	admin := serve(t, v)
	_, err = admin.Publish(t.Context(), "knock.kam", contracts.Knock, nil)
	require.NoError(t, err)
	status, body, _ := get(t, "POST", admin.Service+"/api/sessions", `{"contract":"knock"}`, nil)
	assert.Equal(t, http.StatusServiceUnavailable, status, body)
	status, body, _ = get(t, "GET", admin.Service+"/readyz", "", nil)
	assert.Equal(t, http.StatusServiceUnavailable, status, body)
	_, body, _ = get(t, "GET", admin.Service+"/api/service", "", nil)
	assert.Contains(t, body, `"held":false`)
	assert.Contains(t, body, `"records_waiting":0`, fmt.Sprint(body))
}

// A session that another service has closed, while the hold on the database was lost, ends here as well; those that it
// left alone go on.
func TestASessionThatAnotherServiceClosedEnds(t *testing.T) {
	db, err := store.Open(t.Context(), testservice.Database(t))
	require.NoError(t, err)
	t.Cleanup(db.Close)
	v, err := New(t.Context(), Options{Records: db, Recorder: store.NewRecorder(db), Console: page})
	require.NoError(t, err)
	admin := serve(t, v)
	taken := opened(t, v, admin, false)
	kept := opened(t, v, admin, false)
	ana, err := client.Join(t.Context(), admin.Service, taken.Runner().ID(), "Ana", "player", client.Options{})
	require.NoError(t, err)
	bo, err := client.Join(t.Context(), admin.Service, kept.Runner().ID(), "Bo", "player", client.Options{})
	require.NoError(t, err)
	require.NoError(t, db.CloseSession(t.Context(), taken.Runner().ID(), "another service began", 1))
	v.registry.CloseTaken(t.Context())
	select {
	case <-ana.Ended():
	case <-time.After(10 * time.Second):
		require.Fail(t, "the session goes on")
	}
	assert.Contains(t, ana.Reason(), "another service has taken the database and closed it")
	assert.Nil(t, v.registry.Find(taken.Runner().ID()))
	assert.NotNil(t, v.registry.Find(kept.Runner().ID()))
	select {
	case <-bo.Ended():
		require.Fail(t, bo.Reason())
	default:
	}
	row, err := db.Session(t.Context(), taken.Runner().ID())
	require.NoError(t, err)
	assert.Equal(t, "another service began", *row.CloseReason, "what the other one stored stands")
}
