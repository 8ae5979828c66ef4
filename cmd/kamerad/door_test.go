package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/internal/tests/testservice"
)

// secured runs a service that wants tickets and tokens, on loopback without TLS, and returns the folder that `secure`
// made for it.
func secured(t *testing.T, more ...string) (p *testservice.Process, folder string) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	folder = filepath.Join(t.TempDir(), "door")
	database := testservice.Database(t)
	out, status := testservice.Run(
		t, testservice.Binary(t), "", []string{"KAMERAD_DATABASE=" + database}, "secure", folder, "--host", "127.0.0.1",
	)
	require.Equal(t, 0, status, out)
	settings, err := os.ReadFile(filepath.Join(folder, "kamerad.toml"))
	require.NoError(t, err)
	var open bytes.Buffer
	for line := range strings.SplitSeq(string(settings), "\n") {
		if !strings.HasPrefix(line, "tls-") {
			fmt.Fprintln(&open, line)
		}
	}
	file := filepath.Join(folder, "open.toml")
	require.NoError(t, os.WriteFile(file, open.Bytes(), 0o600))
	p = testservice.StartOn(t, database, append([]string{"demo", "--config", file}, more...)...)
	p.Token = read(t, folder, "operator.token")
	return p, folder
}

// read returns what is in a file, without what stands around it.
func read(t *testing.T, folder, name string) string {
	raw, err := os.ReadFile(filepath.Join(folder, name))
	require.NoError(t, err)
	return strings.TrimSpace(string(raw))
}

// From a login to a ban, by commands alone.
func TestTheDoorByCommands(t *testing.T) {
	p, folder := secured(t)
	key := filepath.Join(folder, "backend.jwk")
	run := func(stdin string, args ...string) string {
		out, status := p.Run(stdin, args...)
		require.Equal(t, 0, status, "%v: %s", args, out)
		return out
	}
	fails := func(stdin string, args ...string) string {
		out, status := p.Run(stdin, args...)
		require.Equal(t, 2, status, "%v: %s", args, out)
		return out
	}
	assert.Contains(t, fails("", "session", "list"), "sign in with a token")
	assert.Contains(t, fails("kamerad-wrong\n", "login"), "none of this service")
	assert.Contains(t, fails("", "login"), "no token came")
	assert.Contains(t, fails(p.Token, "login", "http://wreck.example:7707"), "not encrypted")
	assert.Contains(t, run(p.Token+"\n", "login"), "as operator, who may run")
	config, err := os.UserConfigDir()
	require.NoError(t, err)
	logins := filepath.Join(config, "kamerad", "logins.json")
	info, err := os.Stat(logins)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, run("", "session", "list"), "tidewreck 1")
	require.NoError(t, os.Chmod(logins, 0o644))
	assert.Contains(t, fails("", "session", "list"), "others can read")
	require.NoError(t, os.Chmod(logins, 0o600))

	look := strings.TrimSpace(run("", "token", "create", "Eda", "--for", "1h"))
	t.Setenv("KAMERAD_TOKEN", look)
	assert.Contains(t, run("", "session", "show", "1"), "opened it")
	assert.Contains(t, fails("", "session", "close", "1"), "takes the right to run")
	t.Setenv("KAMERAD_TOKEN", "")
	assert.Contains(t, run("", "token", "list"), "Eda")
	assert.Contains(t, fails("", "token", "create", "Eda", "--right", "admin"), "look play run")
	assert.Contains(t, run("", "token", "revoke", "2"), "revoked")
	t.Setenv("KAMERAD_TOKEN", look)
	assert.Contains(t, fails("", "session", "list"), "was revoked")
	t.Setenv("KAMERAD_TOKEN", "")

	ticket := func(more ...string) []string {
		return append(
			[]string{"ticket", "--session", "1", "--player", "diver-1", "--name", "Cleo", "--key", key},
			more...)
	}
	cleo := strings.TrimSpace(run("", ticket()...))
	assert.Contains(t, run(cleo+"\n", "join", "1", "--ticket", "-"), "You are C ■ Cleo, client 3")
	assert.Contains(t, fails("", ticket("--for", "48h")...), "at most 24h")
	assert.Contains(t, fails("", ticket("--contract", "tidewreck")...), "either for one `session`")
	t.Setenv("KAMERAD_TICKET", cleo)
	assert.Contains(t, fails("", "ask", "1", "use", "patch"), "used before")
	t.Setenv("KAMERAD_TICKET", strings.TrimSpace(run("", ticket()...)))
	assert.Contains(t, fails("", "ask", "1", "begin", "--role", "referee"), "can only be had by one that does")
	t.Setenv("KAMERAD_TICKET", "")
	assert.Contains(t, run("", "player", "ban", "diver-1", "--for", "1h", "--reason", "ramming"), "ramming")
	out := filepath.Join(folder, "late.ticket")
	run("", ticket("--out", out)...)
	assert.Contains(t, fails("", "join", "1", "--ticket", out), "banned for another 1h0m0s: ramming")
	assert.Contains(t, run("", "player", "bans"), "diver-1")
	assert.Regexp(t, `(?s)Banned:.*diver-1`, run("", "player", "list"))
	assert.Contains(t, run("", "player", "unban", "diver-1"), "Nobody is banned")
	assert.Contains(t, run("", "join", "1", "--ticket", out), "You are D ◆ Cleo", "who was banned has used no ticket")

	// Keys are changed while the service runs.
	keys := filepath.Join(folder, "tickets.json")
	second := filepath.Join(folder, "second.jwk")
	assert.Contains(t, run("", "key", "second", "--keys", keys, "--out", second), "checks them")
	run("", "key", "backend", "--keys", keys, "--remove")
	assert.Contains(t, fails("", "key", "second", "--keys", keys, "--remove"), "the only one")
	require.Eventually(t, func() bool {
		old, _ := p.Run(strings.TrimSpace(run("", ticket()...)), "join", "1", "--ticket", "-")
		return strings.Contains(old, "names no key of this service")
	}, 20*time.Second, 100*time.Millisecond)
	fresh := run("", "ticket", "--session", "1", "--player", "diver-2", "--name", "Dov", "--key", second)
	assert.Contains(t, run(fresh, "join", "1", "--ticket", "-"), "Dov")
	assert.Contains(t, run("", "logout"), "forgot")
	assert.Contains(t, fails("", "session", "list"), "sign in with a token")
}

// What is secret turns up nowhere, whatever is done with it and however it is wrong: not in what the service logs or
// stores, not in recordings and figures, and not in the list of processes.
func TestNothingSecretIsTold(t *testing.T) {
	p, folder := secured(t)
	password := strings.SplitN(strings.SplitN(p.Database, ":", 3)[2], "@", 2)[0]
	var private struct{ D string }
	require.NoError(t, json.Unmarshal([]byte(read(t, folder, "backend.jwk")), &private))
	canaries := map[string]string{
		"the database's password": password,
		"the first token":         p.Token,
		"the private key":         private.D,
	}

	ended := make(chan struct{})
	var watching sync.WaitGroup
	var processes bytes.Buffer
	watching.Go(func() { // every command line that there is meanwhile
		for {
			files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
			for _, file := range files {
				raw, _ := os.ReadFile(file)
				if bytes.Contains(raw, []byte("kamerad")) {
					processes.Write(append(raw, '\n'))
				}
			}
			select {
			case <-ended:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	})
	var said strings.Builder // by all commands but those that print a secret
	run := func(stdin string, args ...string) string {
		out, _ := p.Run(stdin, args...)
		said.WriteString(out)
		return out
	}
	run(p.Token, "login")
	made, _ := p.Run("", "token", "create", "Cleo", "--right", "play")
	canaries["another token"] = strings.TrimSpace(made)
	ticket, _ := p.Run(
		"", "ticket", "--session", "1", "--player", "diver-1", "--name", "Cleo", "--key",
		filepath.Join(folder, "backend.jwk"),
	)
	canaries["a ticket"] = strings.TrimSpace(ticket)
	run(ticket, "join", "1", "--ticket", "-")
	run(ticket, "join", "1", "--ticket", "-") // spent
	run(ticket[:len(ticket)-9], "join", "1", "--ticket", "-")
	run("", "token", "list")
	run("", "serve", "--print-config", "--config", filepath.Join(folder, "open.toml"))
	run("", "session", "show", "1")
	run("", "session", "close", "1")
	run("", "replay", "1")
	exported := run("", "record", "export", "1")
	for _, header := range []string{"Bearer " + made, "Bearer " + p.Token[:20], "Basic " + p.Token} {
		for _, path := range []string{"/api/sessions", "/api/sessions/1/join", "/api/nowhere", "/metrics"} {
			req, err := http.NewRequestWithContext(t.Context(), "GET", p.Service+path, nil)
			require.NoError(t, err)
			req.Header.Set("Authorization", strings.TrimSpace(header))
			answer, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			var body bytes.Buffer
			_, _ = body.ReadFrom(answer.Body)
			answer.Body.Close()
			said.Write(body.Bytes())
		}
	}
	_, err := p.Acts(t.Context(), 0)
	require.NoError(t, err)
	_, err = api.Client{Service: p.Service, Token: "kamerad-wrong"}.Sessions(t.Context())
	require.Error(t, err)
	close(ended)
	watching.Wait()

	var stored strings.Builder
	for _, table := range p.Query("select table_name::text from information_schema.tables where table_schema = 'public'") {
		for _, row := range p.Query(fmt.Sprintf("select t::text from %q t", table[0])) {
			fmt.Fprintln(&stored, row[0])
		}
	}
	require.Contains(t, stored.String(), "opened it")
	require.Contains(t, processes.String(), "--ticket")
	require.Contains(t, exported, "diver-1")
	for what, secret := range canaries {
		require.Greater(t, len(secret), 20, what)
		for where, text := range map[string]string{
			"the log":               p.Log(),
			"what commands print":   said.String(),
			"the database":          stored.String(),
			"the list of processes": processes.String(),
			"a recording":           exported,
		} {
			assert.NotContains(t, text, secret, "%s stands in %s", what, where)
		}
	}
}

// With tickets on, the audit of a session tries the door first, and nobody reaches a role, a name or a seat that is not
// theirs; many clients load it by tickets of their own.
func TestTheAuditTriesTheDoor(t *testing.T) {
	p, folder := secured(t, "--pause", "5s")
	key := filepath.Join(folder, "backend.jwk")
	t.Setenv("KAMERAD_TOKEN", p.Token)
	out, status := p.Run("", "audit", "--session", "1", "--for", "2s")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "say which key signs")
	out, status = p.Run("", "audit", "--session", "1", "--for", "3s", "--key", key, "--json")
	assert.Equal(t, 0, status, out)
	var report struct {
		Door     int
		Findings []string
		Tried    int
	}
	require.NoError(t, json.Unmarshal([]byte(out), &report), out)
	assert.Equal(t, 14, report.Door, "nine ways, three roles by tickets for others, the referee by none, and one twice")
	assert.Empty(t, report.Findings)
	assert.Positive(t, report.Tried)
	out, status = p.Run("", "load", "1", "--clients", "5", "--for", "1s", "--key", key)
	assert.Equal(t, 0, status, out)

	open := testservice.Start(t, "demo")
	out, status = open.Run("", "audit", "--session", "1", "--for", "2s", "--json")
	assert.Equal(t, 0, status, out)
	assert.NotContains(t, out, `"door"`, "an open service has none")
}
