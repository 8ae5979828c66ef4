// Package testservice runs the real binary on a database of its own, for tests.
//
// Start runs `kamerad serve` on a free port and waits until it answers; the test's end stops it and drops the database.
// Database makes one on the server that KAMERAD_TEST_DATABASE names, which `./run test` starts. Run runs any command
// and returns what it printed.
package testservice

import (
	"bytes"
	"context"
	"crypto/rand"
	_ "embed"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
)

// Contract is a small contract about one dive, for tests that need a session and no whole game.
//
//go:embed dive.kam
var Contract string

// Process is a running service.
type Process struct {
	api.Client
	Database string // its URL
	Binary   string
	t        testing.TB
	command  []string
	cmd      *exec.Cmd
	log      *lockedBuffer
	done     chan struct{}
}

type lockedBuffer struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.String()
}

// Database makes an empty database on the server that KAMERAD_TEST_DATABASE names, and drops it after the test.
func Database(t testing.TB) string {
	admin := os.Getenv("KAMERAD_TEST_DATABASE")
	if admin == "" {
		t.Fatal(
			"KAMERAD_TEST_DATABASE is not set: run the tests with ./run test, or set it to what ./run postgres prints",
		)
	}
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, admin)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var random [6]byte
	_, _ = rand.Read(random[:])
	name := "test_" + hex.EncodeToString(random[:])
	_, err = conn.Exec(ctx, "create database "+name)
	require.NoError(t, err)
	t.Cleanup(func() {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			_, _ = conn.Exec(ctx, "drop database "+name+" with (force)")
			conn.Close(ctx)
		}
	})
	u, err := url.Parse(admin)
	require.NoError(t, err)
	u.Path = "/" + name
	return u.String()
}

var build = sync.OnceValues(func() (string, error) {
	if path := os.Getenv("KAMERAD_TEST_BINARY"); path != "" {
		return path, nil
	}
	dir, err := os.MkdirTemp("", "kamerad-binary")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "kamerad")
	command := exec.Command("go", "build", "-tags", "failpoints", "-o", path, "kamerad.example/cmd/kamerad")
	out, err := command.CombinedOutput()
	if err != nil {
		os.Stderr.Write(out)
	}
	return path, err
})

// Binary returns the path of the command.
func Binary(t testing.TB) string {
	path, err := build()
	require.NoError(t, err)
	return path
}

// Start runs `kamerad serve` (or another command with the same flags) on a free port and a fresh database.
func Start(t testing.TB, command ...string) *Process { return StartOn(t, Database(t), command...) }

// StartOn is Start on a database that is there.
func StartOn(t testing.TB, database string, command ...string) *Process {
	return StartAt(t, database, "127.0.0.1:0", command...)
}

// StartAt is StartOn where it is to listen.
func StartAt(t testing.TB, database, listen string, command ...string) *Process {
	if len(command) == 0 {
		command = []string{"serve"}
	}
	p := &Process{
		Database: database,
		Binary:   Binary(t),
		t:        t,
		command:  command,
		log:      &lockedBuffer{},
	}
	p.start(listen)
	t.Cleanup(func() {
		p.Stop()
		p.checkSecrets()
		if t.Failed() {
			t.Log("the service said:\n" + p.Log())
		}
	})
	return p
}

// start starts the process, and waits until it answers.
func (p *Process) start(listen string) {
	p.launch(listen)
	require.False(p.t, p.ended(), p.Log())
}

// launch starts the process with something more in its environment, and waits until it answers or has ended.
func (p *Process) launch(listen string, env ...string) {
	file := filepath.Join(p.t.TempDir(), "address")
	p.done = make(chan struct{})
	p.cmd = exec.Command(p.Binary, append(p.command, "--listen", listen, "--address-file", file)...)
	p.cmd.Env = append(append(os.Environ(), "KAMERAD_DATABASE="+p.Database), env...)
	p.cmd.Stdout = p.log
	p.cmd.Stderr = p.log
	require.NoError(p.t, p.cmd.Start())
	cmd, done := p.cmd, p.done
	go func() { _ = cmd.Wait(); close(done) }()
	require.Eventually(p.t, func() bool {
		raw, err := os.ReadFile(file)
		if err == nil && strings.HasSuffix(string(raw), "\n") {
			p.Service = strings.TrimSpace(string(raw))
			return true
		}
		return p.ended()
	}, 2*time.Minute, 5*time.Millisecond)
}

// Kill ends the process as a crash does: it has no time for anything.
func (p *Process) Kill() {
	_ = p.cmd.Process.Kill()
	<-p.done
}

// Restart starts the process again, on the same database and address.
func (p *Process) Restart() { p.start(strings.TrimPrefix(p.Service, "http://")) }

// RestartUntil starts the process again to be killed at a failpoint, when that is hit for the nth time, and reports
// whether it was within some time; it has ended in any case.
func (p *Process) RestartUntil(point string, nth int, within time.Duration) bool {
	p.launch(strings.TrimPrefix(p.Service, "http://"), fmt.Sprintf("KAMERAD_FAILPOINT=%s %d", point, nth))
	select {
	case <-p.done:
		return true
	case <-time.After(within):
		p.Kill()
		return false
	}
}

// ended reports whether the process has ended.
func (p *Process) ended() bool {
	select {
	case <-p.done:
		return true
	default:
		return false
	}
}

// Resident returns how many bytes of the process are in memory; 0 where there is no /proc.
func (p *Process) Resident() int64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	var size, resident int64
	_, _ = fmt.Sscan(string(raw), &size, &resident)
	return resident * int64(os.Getpagesize())
}

// Log returns what the service has printed so far.
func (p *Process) Log() string { return p.log.String() }

// Stop sends SIGTERM, waits for the end and returns the exit status.
func (p *Process) Stop() int {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(20 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.done
	}
	return p.cmd.ProcessState.ExitCode()
}

// Run runs a command of the binary against the service, and returns what it printed and its exit status.
func (p *Process) Run(stdin string, args ...string) (output string, status int) {
	return Run(p.t, p.Binary, stdin, []string{
		"KAMERAD_SERVICE=" + p.Service, "KAMERAD_DATABASE=" + p.Database,
	}, args...)
}

// Run runs the binary.
func Run(t testing.TB, binary, stdin string, env []string, args ...string) (output string, status int) {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append(append(os.Environ(), "NO_COLOR=1"), env...)
	cmd.Stdin = strings.NewReader(stdin)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// Query reads rows from the service's database, each as its columns.
func (p *Process) Query(sql string, args ...any) [][]any {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, p.Database)
	require.NoError(p.t, err)
	defer conn.Close(ctx)
	rows, _ := conn.Query(ctx, sql, args...)
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) ([]any, error) { return r.Values() })
	require.NoError(p.t, err)
	return out
}

// Often is how many times a race is tried: 50, or as often as KAMERAD_OFTEN says.
func Often() int {
	if n, err := strconv.Atoi(os.Getenv("KAMERAD_OFTEN")); err == nil {
		return n
	}
	return 50
}
