package kamerad

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
)

// TestRunScript goes through the life of ./run demo with a state folder of its own, and through what may befall its
// database.
func TestRunScript(t *testing.T) {
	if testing.Short() {
		t.Skip("starts PostgreSQL several times")
	}
	state, err := os.MkdirTemp("/var/tmp", "kamerad-run-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(state, 0o755)) // PostgreSQL's own user has to get through
	run := func(args ...string) string {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, "./run", args...)
		cmd.Env = append(os.Environ(), "KAMERAD_STATE="+state)
		var out strings.Builder
		cmd.Stdout = &out
		cmd.Stderr = &out
		require.NoError(t, cmd.Run(), out.String())
		return out.String()
	}
	t.Cleanup(func() {
		cmd := exec.Command("./run", "stop")
		cmd.Env = append(os.Environ(), "KAMERAD_STATE="+state)
		_ = cmd.Run()
		_ = os.RemoveAll(state)
	})
	data := filepath.Join(state, "postgres", "data")
	lock := filepath.Join(data, "postmaster.pid")
	server := func() int {
		raw, err := os.ReadFile(lock)
		require.NoError(t, err)
		pid, err := strconv.Atoi(strings.SplitN(string(raw), "\n", 2)[0])
		require.NoError(t, err)
		return pid
	}
	address := regexp.MustCompile(`postgres://\S+`)
	query := func(url, sql string) error {
		conn, err := pgx.Connect(t.Context(), url)
		require.NoError(t, err)
		defer conn.Close(t.Context())
		_, err = conn.Exec(t.Context(), sql)
		return err
	}

	out := run("postgres")
	assert.Contains(t, out, "Making a database cluster")
	url := address.FindString(out)
	require.NoError(t, query(url, "create table kept (n int)"))
	first := server()
	assert.NotContains(t, run("postgres"), "Starting", "a second start uses the running one")
	assert.Equal(t, first, server())

	require.NoError(t, syscall.Kill(first, syscall.SIGKILL))
	out = run("postgres")
	assert.NotEqual(t, first, server())
	require.NoError(t, query(address.FindString(out), "select from kept"), "a killed server comes back with its data")

	run("stop")
	// a lock whose process is another one by now
	raw := fmt.Sprintf("%d\n%s\n1\n5440\n\n127.0.0.1\n", os.Getpid(), data)
	require.NoError(t, os.WriteFile(lock, []byte(raw), 0o600))
	out = run("postgres")
	assert.Contains(t, out, "Removing the lock of a PostgreSQL that is gone")
	require.NoError(t, query(address.FindString(out), "select from kept"))

	run("stop")
	require.NoError(t, os.Remove(filepath.Join(state, "postgres", "complete")))
	require.NoError(t, os.Remove(filepath.Join(data, "PG_VERSION")))

	out = run("demo")
	assert.Contains(t, out, "left half-made; making it anew")
	console := regexp.MustCompile(`Console: +(http://\S+)`).FindStringSubmatch(out)
	require.NotNil(t, console, out)
	answer, err := http.Get(console[1] + "/sessions/1")
	require.NoError(t, err)
	page, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	assert.Contains(t, string(page), "<title>Kamerad</title>")
	changed := map[int]bool{}
	done := errors.New("both divers changed something")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	err = api.Client{Service: console[1]}.Watch(ctx, 1, func(m api.Watch) error {
		for _, d := range m.Decisions {
			if len(d.Changes) > 0 {
				changed[d.Client.Number] = true
			}
		}
		if len(changed) == 2 {
			return done
		}
		return nil
	})
	require.ErrorIs(t, err, done)
	assert.Contains(t, run("demo"), "runs already")

	pid, err := os.ReadFile(filepath.Join(state, "pid"))
	require.NoError(t, err)
	process := filepath.Join("/proc", strings.TrimSpace(string(pid)))
	assert.DirExists(t, process)
	run("stop")
	assert.NoDirExists(t, process) // its port may be somebody else's by now
	assert.NoFileExists(t, lock)
}
