package load

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/demo"
	"kamerad.example/internal/tests/testservice"
)

// attackFor is how long the service is attacked: two minutes in CI, longer with KAMERAD_HOSTILE=10m.
func attackFor(t *testing.T) time.Duration {
	if d, err := time.ParseDuration(os.Getenv("KAMERAD_HOSTILE")); err == nil {
		return d
	}
	if os.Getenv("CI") != "" {
		return 2 * time.Minute
	}
	return 10 * time.Second
}

// Eight hostile clients that may send anything: nobody honest, in the session that is attacked or in another one, is
// cut or out of step, no session fails, and memory stays where it was.
func TestHostileClientsHarmNobody(t *testing.T) {
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "tidewreck.kam", demo.Contract, demo.Files)
	require.NoError(t, err)
	var sessions []int64
	for range 2 {
		s, err := p.Open(t.Context(), api.OpenSession{Contract: "tidewreck"})
		require.NoError(t, err)
		sessions = append(sessions, s.ID)
	}
	long := attackFor(t)
	reports := make(chan *Report, 2)
	failed := make(chan error, 2)
	for i, id := range sessions {
		go func() {
			r, err := Run(t.Context(), Options{
				Service: p.Service,
				Session: id,
				Clients: 4 + 2*i,
				For:     long + time.Second,
				Asks:    4,
				Name:    fmt.Sprint("Honest ", id), // what a player keeps is in one session at a time
				Seed:    uint64(i),
			})
			reports <- r
			failed <- err
		}()
	}
	require.Eventually(t, func() bool {
		a, errA := p.Session(t.Context(), sessions[0])
		b, errB := p.Session(t.Context(), sessions[1])
		return errA == nil && errB == nil && len(a.Clients) == 4 && len(b.Clients) == 6
	}, 20*time.Second, 20*time.Millisecond)
	before := memory(t, p)
	hostile, err := RunHostile(t.Context(), Options{
		Service: p.Service,
		Session: sessions[0],
		Clients: 8,
		For:     long,
		Name:    "Eve",
		Seed:    3,
	})
	require.NoError(t, err)
	after := memory(t, p)
	t.Logf(
		"%d connections, %d messages, %d frames, %.0f MB; memory %.0f MB before, %.0f MB after", hostile.Connections,
		hostile.Messages, hostile.Frames, float64(hostile.Bytes)/1e6, before/1e6, after/1e6,
	)
	assert.Greater(t, hostile.Messages, 1000)
	assert.Greater(t, len(hostile.Cut), 3)
	for range 2 {
		require.NoError(t, <-failed)
		r := <-reports
		assert.Empty(t, r.Out, "nobody honest is out")
		assert.Positive(t, r.Compared)
		assert.Zero(t, r.Differed, "nobody honest is out of step")
		assert.Greater(t, r.Asked+r.Kept, 10)
	}
	metrics := metricsOf(t, p)
	assert.Contains(t, metrics, "kamerad_session_failures_total 0")
	assert.Contains(t, metrics, "kamerad_misordered_frames_total 0")
	assert.NotContains(t, p.Log(), "DATA RACE")
	assert.Less(t, after, before+64e6*growth())
}

// growth is how much more memory a build takes that looks for races.
func growth() float64 {
	if os.Getenv("KAMERAD_TEST_BINARY") != "" {
		return 6
	}
	return 1
}

func metricsOf(t *testing.T, p *testservice.Process) string {
	answer, err := http.Get(p.Service + "/metrics")
	require.NoError(t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(raw)
}

// memory returns the memory that the service's process has, in bytes.
func memory(t *testing.T, p *testservice.Process) float64 {
	for line := range strings.Lines(metricsOf(t, p)) {
		if rest, ok := strings.CutPrefix(line, "process_resident_memory_bytes "); ok {
			n, err := strconv.ParseFloat(strings.TrimSpace(rest), 64)
			require.NoError(t, err)
			return n
		}
	}
	require.Fail(t, "the service does not tell its memory")
	return 0
}
