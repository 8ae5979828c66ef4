package testservice

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Cluster is a PostgreSQL server of a test's own, which it can kill.
type Cluster struct {
	URL  string // of its database
	t    testing.TB
	bin  string
	data string
	port int
	as   []string // what runs its programs as another user than root
}

// NewCluster makes a server on a free port, and starts it. The test's end stops it.
func NewCluster(t testing.TB) *Cluster {
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(t, err)
	require.NotEmpty(t, bins, "PostgreSQL is not installed")
	dir, err := os.MkdirTemp("/var/tmp", "kamerad-test")
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &Cluster{
		t:    t,
		bin:  bins[len(bins)-1],
		data: filepath.Join(dir, "data"),
		port: l.Addr().(*net.TCPAddr).Port,
	}
	l.Close()
	if os.Getuid() == 0 {
		c.as = []string{"runuser", "-u", "postgres", "--"}
		u, err := user.Lookup("postgres")
		require.NoError(t, err)
		id, err := strconv.Atoi(u.Uid)
		require.NoError(t, err)
		require.NoError(t, os.Chown(dir, id, -1))
	}
	t.Cleanup(func() {
		_ = c.run("pg_ctl", "-D", c.data, "-m", "immediate", "stop")
		_ = os.RemoveAll(dir)
	})
	require.NoError(t, c.run("initdb", "-D", c.data, "-U", "kamerad", "-A", "trust", "-N"))
	c.URL = fmt.Sprintf("postgres://kamerad@127.0.0.1:%d/postgres?sslmode=disable", c.port)
	c.Start()
	return c
}

// run runs one of the server's programs.
func (c *Cluster) run(name string, args ...string) error {
	all := append(append([]string{}, c.as...), filepath.Join(c.bin, name))
	all = append(all, args...)
	cmd := exec.Command(all[0], all[1:]...)
	cmd.Dir = "/"
	return cmd.Run()
}

// Start starts the server, once what is left of a killed one has gone, and waits until it answers.
func (c *Cluster) Start() {
	options := fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories=''", c.port)
	require.Eventually(c.t, func() bool {
		err := c.run("pg_ctl", "-D", c.data, "-w", "-t", "30", "-l", c.data+".log", "-o", options, "start")
		if err != nil {
			return false
		}
		conn, err := pgx.Connect(context.Background(), c.URL)
		if err == nil {
			conn.Close(context.Background())
		}
		return err == nil
	}, time.Minute, 50*time.Millisecond)
}

// Kill ends the server as a crash does.
func (c *Cluster) Kill() {
	raw, err := os.ReadFile(filepath.Join(c.data, "postmaster.pid"))
	require.NoError(c.t, err)
	first, _, _ := strings.Cut(string(raw), "\n")
	pid, err := strconv.Atoi(first)
	require.NoError(c.t, err)
	process, err := os.FindProcess(pid)
	require.NoError(c.t, err)
	require.NoError(c.t, process.Kill())
}
