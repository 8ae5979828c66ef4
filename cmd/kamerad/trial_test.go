package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/core/audit"
	"kamerad.example/internal/tests/testservice"
)

// What a version was put to in the service is printed as if it had run here, and stands with the version.
func TestTrialsOfAPublishedVersion(t *testing.T) {
	p := testservice.Start(t)
	dir := folder(t, map[string]string{
		"wreck.kam": wreck,
		"all.drill": "drill \"mends\"\nuse \"wreck.kam\"\nclients ana, bo\nana asks Diver.patch() -> accepted\n" +
			"settle\nexpect bo sees ana.Diver.hull == 85\n",
		"bad.drill": "drill \"wrong\"\nuse \"wreck.kam\"\nclients ana\nexpect ana sees ana.Diver.hull == 61\n",
	})
	run := func(args ...string) (string, int) { return command(t, dir, append(args, "--service", p.Service)...) }
	out, status := run("contract", "publish", "wreck.kam")
	require.Equal(t, 0, status, out)
	out, _ = run("contract", "show", "wreck")
	assert.Contains(t, out, "not put to drills or an audit yet")

	out, status = run("drill", "all.drill", "--published", "wreck", "--shake", "5")
	assert.Equal(t, 0, status, out)
	assert.Contains(t, out, "✓ mends")
	out, status = run("drill", dir, "--published", "wreck@1")
	assert.Equal(t, 1, status, out)
	assert.Contains(t, out, "✕ wrong")
	assert.Contains(t, out, "61")
	out, status = run("audit", "--published", "wreck", "--rounds", "2", "--ticks", "60", "--json")
	assert.Equal(t, 0, status, out)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(out), &report))
	assert.NotZero(t, report.Tried)

	out, status = run("contract", "show", "wreck")
	assert.Equal(t, 0, status)
	for _, words := range []string{
		"drills  ✓  1 drill passed, over 5 random links each", "drills  ✕  1 drill failed, 1 passed", "audit   ✓",
		"0 effects",
	} {
		assert.Contains(t, out, words)
	}
	for _, args := range [][]string{
		{
			"drill", "all.drill", "--published", "wreck@2",
		},
		{"drill", "all.drill", "--published", "wreck@x"},
		{"drill", "all.drill", "--published", "reef"},
		{
			"drill", "all.drill", "--published", "wreck", "--only", "x",
		},
		{"audit", "--published", "reef"},
		{"audit", "wreck.kam", "--published", "wreck"},
	} {
		out, status = run(args...)
		assert.Equal(t, 2, status, "%v: %s", args, out)
	}
}

// The audit of a session that runs goes over its sockets: it finds what is open to everybody, and nothing once that is
// mended.
func TestAuditOfASession(t *testing.T) {
	p := testservice.Start(t)
	for version, hole := range []string{
		"from player\n    limit 4 per second\n  { hull -= 1 }", "from owner\n    limit 4 per second\n  { hull -= 1 }",
	} {
		text := strings.Replace(wreck, "request patch()", "request shove() "+hole+"\n  request patch()", 1)
		_, err := p.Publish(t.Context(), "wreck.kam", text, nil)
		require.NoError(t, err)
		s, err := p.Open(t.Context(), api.OpenSession{Contract: "wreck"})
		require.NoError(t, err)
		id := strconv.FormatInt(s.ID, 10)
		dir := t.TempDir()
		audit := func() (string, int) {
			return command(
				t, dir, "audit", "--session", id, "--for", "4s", "--html", "page.html", "--service", p.Service,
			)
		}
		out, status := audit()
		// A machine that is busy with other things plays so few ticks in 4 s that the hole may not be tried: it says so.
		for more := 0; strings.Contains(out, "· Diver.shove, not the owner: ") && more < 5; more++ {
			out, status = audit()
		}
		if version == 0 {
			assert.Equal(t, 1, status, out)
			assert.Contains(t, out, "belongs to somebody else, and nothing is checked")
		} else {
			assert.Equal(t, 0, status, out)
			assert.Contains(t, out, "nothing was changed that may not be")
		}
		assert.NotContains(t, out, "of a client that had left")
		page, err := os.ReadFile(filepath.Join(dir, "page.html"))
		require.NoError(t, err)
		assert.Contains(t, string(page), "went to a running session")
		assert.NotContains(t, string(page), "one of two sessions")
		still, err := p.Session(t.Context(), s.ID)
		require.NoError(t, err)
		assert.True(t, still.Open)
		_, err = p.Pause(t.Context(), s.ID, true)
		require.NoError(t, err)
		out, status = command(t, t.TempDir(), "audit", "--session", id, "--service", p.Service)
		assert.Equal(t, 2, status)
		assert.Contains(t, out, "does not run")
	}
	out, status := command(t, t.TempDir(), "audit", "--session", "1", "--service", "http://192.0.2.1:7707")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "not on this machine")
}

// A drill is written of what clients did in a session with a seed, and comes to the same when it is played.
func TestDrillFromASession(t *testing.T) {
	p := testservice.Start(t)
	dir := folder(t, map[string]string{"wreck.kam": wreck})
	run := func(args ...string) (string, int) { return command(t, dir, append(args, "--service", p.Service)...) }
	out, status := run("contract", "publish", "wreck.kam")
	require.Equal(t, 0, status, out)
	for range 2 {
		s, err := p.Open(t.Context(), api.OpenSession{Contract: "wreck", Seed: 9})
		require.NoError(t, err)
		assert.Equal(t, uint64(9), s.Seed)
		id := strconv.FormatInt(s.ID, 10)
		ana := seat(t, p, s.ID, "Ana", "")
		bo := seat(t, p, s.ID, "Bo", "")
		for range 3 {
			_, err := ana.Forge(t.Context(), 0, "Diver.patch")
			require.NoError(t, err)
		}
		middle, err := p.Session(t.Context(), s.ID)
		require.NoError(t, err)
		_, err = bo.Forge(t.Context(), ana.entity(ana.Me().Number), "Diver.patch")
		require.NoError(t, err)
		_, err = bo.Forge(t.Context(), 0, "Diver.patch", json.RawMessage("1"))
		require.NoError(t, err)
		bo.Close()
		require.Eventually(t, func() bool {
			s, err := p.Session(t.Context(), s.ID)
			return err == nil &&
				len(s.Clients) == 1
		}, 10*time.Second, 5*time.Millisecond)
		file := filepath.Join(dir, id+".drill")
		out, status = run("drill", "from", id, "--out", file, "--name", "two patches "+id)
		require.Equal(t, 0, status, out)
		assert.Contains(t, out, "it comes to the same")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, words := range []string{
			`use "wreck.kam" seed 9`, "ana asks Diver.patch() -> accepted", `ana asks Diver.patch() -> denied "whole"`,
			`bo asks ana.Diver.patch() -> denied "not the owner"`, "bo forges Diver.patch(1) -> malformed", "leave bo",
			"expect server sees ana.Diver.hull == 100",
		} {
			assert.Contains(t, string(text), words)
		}
		out, status = run("drill", "from", id, "--out", file)
		assert.Equal(t, 2, status, out)
		assert.Contains(t, out, "there is a file of that name")
		stretch := filepath.Join(dir, "stretch"+id+".drill")
		from := strconv.FormatInt(middle.Tick, 10)
		out, status = run("drill", "from", id, "--from", from, "--out", stretch)
		require.Equal(t, 0, status, out)
		assert.Contains(t, out, "it comes to the same")
		text, err = os.ReadFile(stretch)
		require.NoError(t, err)
		assert.Contains(t, string(text), `use "wreck.kam" from "stretch`+id+`.ndjson" at `+from)
		assert.Contains(t, string(text), `bo asks ana.Diver.patch() -> denied "not the owner"`)
		assert.NotContains(t, string(text), "ana asks")
		out, status = run("drill", "from", id, "--from", "900000", "--out", filepath.Join(dir, "late.drill"))
		assert.Equal(t, 2, status, out)
		assert.Contains(t, out, "it has no tick 900000")
		out, status = run("drill", "from", id, "--from", from)
		assert.Equal(t, 2, status, out)
		assert.Contains(t, out, "name its file with --out")
	}
	out, status = run("drill", dir) // all that was written passes
	assert.Equal(t, 0, status, out)
	assert.Contains(t, out, "4 drills passed")

	s, err := p.Open(t.Context(), api.OpenSession{Contract: "wreck"})
	require.NoError(t, err)
	out, status = run("drill", "from", strconv.FormatInt(s.ID, 10))
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "without a seed")
	_, err = p.Open(t.Context(), api.OpenSession{Contract: "wreck", Seed: 1, Key: strings.Repeat("0", 64)})
	assert.ErrorContains(t, err, "not with both")
}
