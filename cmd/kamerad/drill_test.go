package main

import (
	"bufio"
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/audit"
	"kamerad.example/core/drill"
	"kamerad.example/internal/tests/testservice"
)

// command runs the program in a folder and returns what it printed and its exit status.
func command(t *testing.T, dir string, args ...string) (out string, status int) {
	c := exec.Command(testservice.Binary(t), args...)
	c.Dir = dir
	raw, err := c.CombinedOutput()
	if c.ProcessState == nil {
		require.NoError(t, err)
	}
	return string(raw), c.ProcessState.ExitCode()
}

const wreck = `contract wreck language 1
entity Diver per player {
  hull: int 0..100 = 60 clamped
  request patch()
    limit 4 per second
    check hull < 100 else deny "whole"
  { hull += 25 }
}
`

func folder(t *testing.T, files map[string]string) string {
	dir := t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

func TestDrillCommand(t *testing.T) {
	dir := folder(t, map[string]string{
		"wreck.kam": wreck,
		"good.drill": "drill \"mends\"\nuse \"wreck.kam\"\nclients ana, bo\nana asks Diver.patch() -> accepted\n" +
			"settle\nexpect bo sees ana.Diver.hull == 85\n",
		"bad.drill": "drill \"it's hurried\"\nuse \"wreck.kam\"\nclients ana, bo\nana asks Diver.patch()\n" +
			"wait 3 ticks\nexpect bo sees ana.Diver.hull == 85\ndrill \"wrong\"\nuse \"wreck.kam\"\nclients ana\n" +
			"expect ana sees ana.Diver.hull == 61\n",
		"torn.drill": "drill \"torn\"\nuse \"wreck.kam\"\nclients ana\nana asks Diver.vanish()\n",
	})
	out, status := command(t, dir, "drill", "good.drill", "--junit", "good.xml")
	assert.Equal(t, 0, status, out)
	assert.Contains(t, out, "✓ mends")
	out, status = command(t, dir, "drill", "good.drill", "bad.drill", "--junit", "all.xml")
	assert.Equal(t, 1, status, out)
	for _, part := range []string{
		"✕ wrong bad.drill:10, tick 2", "ana sees it otherwise", "server      60",
		"kamerad drill bad.drill --only '^wrong$'", "1 drill failed, 2 passed",
	} {
		assert.Contains(t, out, part)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "all.xml"))
	require.NoError(t, err)
	var suites junitSuites
	require.NoError(t, xml.Unmarshal(raw, &suites))
	assert.Equal(t, 3, suites.Tests)
	assert.Equal(t, 1, suites.Failures)
	assert.Contains(t, suites.Suites[1].Cases[1].Failure.Text, "bad.drill:10: expect ana sees ana.Diver.hull == 61")

	out, status = command(t, dir, "drill", "bad.drill", "--only", "hurried", "--shake", "40", "--json")
	assert.Equal(t, 1, status, out)
	var report drill.Report
	require.NoError(t, json.Unmarshal([]byte(out), &report), out)
	require.NotNil(t, report.Results[0].Shaken)
	back := again(report.Results[0]) // the printed command brings it back, through a shell
	c := exec.Command("sh", "-c", strings.Replace(back, "kamerad", testservice.Binary(t), 1))
	c.Dir = dir
	raw, _ = c.CombinedOutput()
	assert.Equal(t, 1, c.ProcessState.ExitCode(), "%s\n%s", back, raw)
	assert.Contains(t, string(raw), report.Results[0].Failure.Message)

	for args, says := range map[string]string{
		"drill":                                "wrong number of arguments",
		"drill none.drill":                     "read drills",
		"drill torn.drill":                     "Diver has no request `vanish`",
		"drill good.drill --only x":            "none of them is called",
		"drill good.drill --only (":            "read --only",
		"drill good.drill --shake -1":          "read --shake",
		"drill good.drill --faults ana-delays": "read the fault",
	} {
		out, status := command(t, dir, strings.Fields(args)...)
		assert.Equal(t, 2, status, "%s: %s", args, out)
		assert.Contains(t, out, says, args)
	}
	out, status = command(t, dir, "check", "torn.drill")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "torn.drill:4:16: Diver has no request `vanish`")
	out, status = command(t, dir, "fmt", "--check", "good.drill")
	assert.Equal(t, 0, status, out)
	trace, status := command(t, dir, "drill", "good.drill", "--trace", "trace.txt")
	assert.Equal(t, 0, status, trace)
	raw, err = os.ReadFile(filepath.Join(dir, "trace.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "1 ana < ")
}

func TestAuditCommand(t *testing.T) {
	dir := folder(
		t,
		map[string]string{
			"wreck.kam": wreck,
			"weak.kam":  strings.Replace(wreck, "check hull < 100 else deny \"whole\"\n", "from everyone\n", 1),
			"torn.kam":  "contract torn",
		},
	)
	out, status := command(t, dir, "audit", "wreck.kam", "--rounds", "2", "--ticks", "80", "--html", "page.html")
	assert.Equal(t, 0, status, out)
	assert.Contains(t, out, "✓ nothing was changed, and nothing was learned")
	raw, err := os.ReadFile(filepath.Join(dir, "page.html"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "Audit of wreck")
	assert.NotContains(t, string(raw), "<script")
	assert.NotContains(t, string(raw), "http")
	out, status = command(t, dir, "audit", "weak.kam", "--rounds", "2", "--ticks", "80", "--json")
	assert.Equal(t, 1, status, out)
	var r audit.Report
	require.NoError(t, json.Unmarshal([]byte(out), &r), out)
	assert.NotEmpty(t, r.Findings)
	out, status = command(t, dir, "audit", "torn.kam")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "its mistakes have to be mended first")
	out, status = command(t, dir, "audit", "wreck.kam", "--rounds", "-1")
	assert.Equal(t, 2, status, out)
}

// With --watch the drills are played again whenever a file changes, until the command is interrupted.
func TestDrillsAreWatched(t *testing.T) {
	text := "drill \"mends\"\nuse \"wreck.kam\"\nclients ana\nexpect ana sees ana.Diver.hull == 60\n"
	dir := folder(t, map[string]string{"wreck.kam": wreck, "all.drill": text})
	c := exec.Command(testservice.Binary(t), "drill", dir, "--watch")
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	lines := bufio.NewScanner(out)
	until := func(words string) {
		for lines.Scan() {
			if strings.Contains(lines.Text(), words) {
				return
			}
		}
		t.Fatalf("the command ended before it said %q", words)
	}
	until("1 drill passed")
	until("Waiting for a change")
	require.NoError(
		t, os.WriteFile(filepath.Join(dir, "all.drill"), []byte(strings.Replace(text, "60", "61", 1)), 0o600),
	)
	until("1 drill failed")
	until("Waiting for a change")
	require.NoError(
		t, os.WriteFile(filepath.Join(dir, "wreck.kam"), []byte(strings.Replace(wreck, "= 60", "= 61", 1)), 0o600),
	)
	until("1 drill passed")
	until("Waiting for a change")
	require.NoError(t, c.Process.Signal(os.Interrupt))
	require.NoError(t, c.Wait())
}
