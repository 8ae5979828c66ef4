package kamerad

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// network makes a network of its own that reaches this machine at an address, and returns what runs commands in it.
func network(t *testing.T, here, there string) func(env []string, line string) (string, error) {
	name := fmt.Sprintf("kam%d", os.Getpid())
	ip := func(args ...string) {
		out, err := exec.Command("ip", args...).CombinedOutput()
		require.NoError(t, err, "ip %v: %s", args, out)
	}
	ip("netns", "add", name)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "delete", name).Run() })
	ip("link", "add", name+"a", "type", "veth", "peer", "name", name+"b", "netns", name)
	ip("address", "add", here+"/24", "dev", name+"a")
	ip("link", "set", name+"a", "up")
	ip("-n", name, "address", "add", there+"/24", "dev", name+"b")
	ip("-n", name, "link", "set", name+"b", "up")
	ip("-n", name, "link", "set", "lo", "up")
	return func(env []string, line string) (string, error) {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, "ip", "netns", "exec", name, "bash", "-ec", line)
		cmd.Env = append(os.Environ(), env...)
		cmd.Stdin = strings.NewReader("see\nquit\n")
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
}

// TestOthersReachTheDemo follows the README to where others reach the service, from a network of its own, with the
// command line and with the console.
func TestOthersReachTheDemo(t *testing.T) {
	if testing.Short() || os.Geteuid() != 0 {
		t.Skip("starts PostgreSQL, and makes a network, which only root may")
	}
	const here, there = "10.231.77.1", "10.231.77.2"
	elsewhere := network(t, here, there)
	state, err := os.MkdirTemp("/var/tmp", "kamerad-outside-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(state, 0o755))
	env := []string{"KAMERAD_STATE=" + state, "NO_COLOR=1", "XDG_CONFIG_HOME=" + t.TempDir()}
	local := func(line string) (string, error) {
		cmd := exec.Command("bash", "-ec", line)
		cmd.Env = append(os.Environ(), env...)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	t.Cleanup(func() {
		_, _ = local("./run stop")
		_ = os.RemoveAll(state)
	})
	readme, err := os.ReadFile("README.md")
	require.NoError(t, err)
	block := regexp.MustCompile("(?s)```shell\n(.*?)```").FindSubmatch(readme)
	require.NotNil(t, block)
	lines := strings.Split(strings.TrimSpace(string(block[1])), "\n")
	require.LessOrEqual(t, len(lines), 6, "it takes few commands")
	ticket := filepath.Join(t.TempDir(), "cleo.ticket")
	service := ""
	for _, line := range lines {
		line = strings.NewReplacer("wreck.example", here, ".run/", state+"/", "cleo.ticket", ticket).Replace(line)
		run := local
		if strings.Contains(line, "login") || strings.Contains(line, "join") {
			line = strings.ReplaceAll(line, "https://"+here+":7707", service)
			run = func(line string) (string, error) { return elsewhere(env, line) }
		}
		out, err := run(line)
		require.NoError(t, err, "%s\n%s", line, out)
		if strings.HasPrefix(line, "./run") {
			service = regexp.MustCompile(`https://\S+`).FindString(out) // its port is another one when that is taken
		}
		if strings.Contains(line, "login") {
			assert.Contains(t, out, "operator, who may run")
		}
		if strings.Contains(line, "join") {
			assert.Contains(t, out, "You are C ■ Cleo")
			assert.Contains(t, out, "Cleo.Diver")
		}
	}
	out, err := elsewhere(env, "bin/kamerad session list --service "+service)
	require.NoError(t, err, out)
	assert.Contains(t, out, "tidewreck 1")
	ca := state + "/door/service.crt"
	out, err = elsewhere(env, fmt.Sprintf("bin/kamerad join 1 --service %s --ca %s --as Eve", service, ca))
	require.Error(t, err)
	assert.Contains(t, out, "wants a ticket")
	out, err = elsewhere(
		append(env, "KAMERAD_OUTSIDE="+service, "KAMERAD_TOKEN_FILE="+state+"/door/operator.token"),
		"cd console && node_modules/.bin/vitest run tests/outside.test.ts",
	)
	require.NoError(t, err, out)
	assert.Contains(t, out, "1 passed")
}
