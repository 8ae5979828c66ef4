package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/api"
	"kamerad.example/client"
	"kamerad.example/core/record"
	"kamerad.example/core/wire"
	"kamerad.example/internal/tests/testservice"
)

const reefText = `contract reef language 2
entity Diver per player {
  hull: int 0..100 = 100 clamped
  tint: int 0..5 = 0 keep
  request hit(by: int 0..100) from everyone check hull > 20 else deny "spent" { hull -= by }
  request paint(hue: int 0..5) from owner { tint = hue }
}
`

// The past of a session is asked by commands, while it runs and once it has closed.
func TestThePastIsAskedByCommands(t *testing.T) {
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "reef.kam", reefText, nil)
	require.NoError(t, err)
	s, err := p.Open(t.Context(), api.OpenSession{Contract: "reef"})
	require.NoError(t, err)
	ana, err := client.Join(t.Context(), p.Service, s.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	defer ana.Close()
	for _, args := range [][]string{{"Diver.hit", "30"}, {"Diver.hit", "45"}, {"Diver.paint", "4"}} {
		d, err := ana.Ask(t.Context(), 0, args[0], json.RawMessage(args[1]))
		require.NoError(t, err)
		require.Equal(t, wire.Accepted, d.Outcome)
	}
	run := func(want int, args ...string) string {
		out, status := p.Run("", args...)
		assert.Equal(t, want, status, out)
		return out
	}
	ask := func(more ...string) {
		out := run(0, append([]string{"why", "1", "Ana.Diver.hull"}, more...)...)
		assert.Regexp(t, `(?s)Ana\.Diver\.hull is 25 at tick .*Ana asked Diver\.hit\(45\)`, out)
		assert.Regexp(t, `Diver 1\.hull: 70 → 25`, out)
		assert.Regexp(t, `✓ hull > 20   hull was 70`, out)
		assert.Regexp(t, `Ana +\d+ +\d+`, out)
		out = run(0, "replay", "1")
		assert.Contains(t, out, "every frame is what was sent then, byte for byte")
		out = run(0, "record", "list")
		assert.Regexp(t, `1 +reef 1 +(open|closed)`, out)
	}
	ask()
	var r record.Reason
	require.NoError(t, json.Unmarshal([]byte(run(0, "why", "1", "Ana.Diver.hull", "--json")), &r))
	out := run(0, "why", "1", "Diver[1].tint", "--at", "1")
	assert.Contains(t, out, "Ana joined")
	out = run(2, "why", "1", "Bo.Diver.hull")
	assert.Contains(t, out, "there is no Bo.Diver at tick")
	out = run(2, "why", "1", "Ana.Diver.hulk")
	assert.Contains(t, out, `a Diver has no property "hulk"`)
	out = run(2, "why", "9", "Ana.Diver.hull")
	assert.Contains(t, out, "no session")
	out = run(0, "replay", "1", "--to", "1", "--state")
	assert.Contains(t, out, `"kind": "Diver"`)
	out = run(2, "replay", "1", "--client", "7")
	assert.Contains(t, out, "no client 7")

	file := filepath.Join(t.TempDir(), "reef.ndjson")
	require.NoError(t, os.WriteFile(file, []byte(run(0, "record", "export", "1")), 0o600))
	assert.Contains(t, run(0, "replay", file), "every frame is what was sent then")
	assert.Contains(t, run(0, "replay", file, "--state"), `"kind": "Diver"`)
	importExports(t, p, run, file)
	out = run(2, "record", "delete", "1")
	assert.Contains(t, out, "close it first")
	out = run(2, "player", "set", "Ana", "Diver.tint", "2", "--contract", "reef")
	assert.Contains(t, out, "plays in session 1")
	_, err = p.Close(t.Context(), s.ID, "enough")
	require.NoError(t, err)
	out = run(2, "why", "1", "Ana.Diver.hull", "--at", "100000")
	assert.Contains(t, out, "ask about an earlier one with --at")
	ask() // when she was last there
	ask("--at", fmt.Sprint(r.At))
	assert.Regexp(t, `Ana +reef +Diver\.tint 4 +–`, run(0, "player", "show", "Ana"))
	set := func(want int, property, value, contract string) string {
		return run(want, "player", "set", "Ana", property, value, "--contract", contract)
	}
	assert.Regexp(t, `Ana +reef +Diver\.tint 2`, set(0, "Diver.tint", "2", "reef"))
	assert.Contains(t, set(2, "Diver.tint", "9", "reef"), "a whole number from 0 to 5")
	assert.Contains(t, set(2, "Diver.hull", "9", "reef"), "it keeps no")
	assert.Contains(t, set(2, "Diver.tint", "1", "none"), "there is no contract")
	assert.JSONEq(t, `2`, string(exported(t, run(0, "player", "export", "Ana"))))
	assert.Regexp(t, `Ana +reef`, run(0, "player", "list"))
	file = filepath.Join(t.TempDir(), "named.ndjson")
	require.NoError(t, os.WriteFile(file, []byte(run(0, "record", "export", "1")), 0o600))
	still, err := p.Open(t.Context(), api.OpenSession{Contract: "reef"})
	require.NoError(t, err)
	again, err := client.Join(t.Context(), p.Service, still.ID, "Ana", "", client.Options{})
	require.NoError(t, err)
	assert.Contains(t, run(2, "player", "delete", "Ana"), "plays in session")
	again.Close()
	<-again.Ended()
	require.Eventually(t, func() bool { // its seat is stored a moment later
		return len(p.Query("select from seats where session = $1", still.ID)) > 0
	}, 10*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool {
		out, status := p.Run("", "player", "delete", "Ana")
		return status == 0 && assert.Regexp(t, fmt.Sprintf(`(?s)forgot what Ana keeps of 1 contracts.*`+
			`3 recordings are nameless now.*still have the name: \[%d\]`, still.ID), out)
	}, 10*time.Second, 50*time.Millisecond)
	nameless := run(0, "record", "export", "1")
	assert.NotContains(t, nameless, "Ana")
	assert.Contains(t, run(0, "replay", "1"), "every frame is what was sent then")
	other := filepath.Join(t.TempDir(), "nameless.ndjson")
	require.NoError(t, os.WriteFile(other, []byte(nameless), 0o600))
	assert.Contains(t, run(0, "record", "compare", file, other), "they hold the same")
	_, err = p.Close(t.Context(), still.ID, "enough")
	require.NoError(t, err)
	assert.Contains(t, run(0, "player", "delete", "Ana"), "1 recordings are nameless now")
	assert.Empty(t, p.Query("select name from seats where name = 'Ana' union select name from decisions where name = 'Ana'"))
	assert.Contains(t, run(2, "player", "show", "Ana"), `no player called "Ana" keeps anything`)
	run(0, "record", "show", "1")
	assert.Contains(t, run(0, "record", "delete", "1"), "deleted the recording of session 1")
	assert.Contains(t, run(2, "why", "1", "Diver[1].hull"), "before there were recordings")
}

// importExports imports what session 1 was exported as, in both forms, holds it against the session, and against a
// contract in which a hit weighs half.
func importExports(t *testing.T, p *testservice.Process, run func(want int, args ...string) string, file string) {
	table := filepath.Join(t.TempDir(), "reef.csv")
	require.NoError(t, os.WriteFile(table, []byte(run(0, "record", "export", "1", "--csv")), 0o600))
	assert.Contains(t, run(0, "record", "import", file), "imported as session 2")
	assert.Contains(t, run(0, "record", "import", table), "imported as session 3")
	assert.Contains(t, run(0, "replay", "3"), "every frame is what was sent then")
	assert.Contains(t, run(0, "why", "3", "Ana.Diver.hull"), "Ana asked Diver.hit(45)")
	assert.Contains(t, run(0, "record", "compare", "2", "2"), "they hold the same")
	assert.Contains(t, run(1, "record", "compare", "2", "1"), "the first ends")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	other := strings.Replace(string(text), "hull -= by", "hull -= by / 3", 1)
	require.NoError(t, os.WriteFile(file, []byte(other), 0o600))
	assert.Contains(t, run(2, "record", "import", file), "--publish")
	assert.Contains(t, run(2, "record", "import", file, "--publish"), "its frames are not those that were sent then")

	half := strings.Replace(reefText, "hull -= by", "hull -= by / 3", 1)
	_, err = p.Publish(t.Context(), "reef.kam", half, nil) // version 2, as --publish has done
	require.NoError(t, err)
	out := run(1, "record", "compare", "1", "--version", "2")
	assert.Regexp(t, `(?s)differ in tick \d+.*Diver 1\.hull +70 +90.*Why in the first.*70.*Why in the second.*90`, out)
	assert.Contains(t, run(2, "record", "compare", "1"), "name another session, or --version")
	contract := filepath.Join(filepath.Dir(table), "reef.kam")
	require.NoError(t, os.WriteFile(contract, []byte(half), 0o600))
	kept := filepath.Join(filepath.Dir(table), "kept.ndjson")
	require.NoError(t, os.WriteFile(kept, text, 0o600))
	out = run(1, "record", "compare", kept, "--contract", contract)
	assert.Regexp(t, `(?s)Diver 1\.hull +70 +90.*✓ hull > 20 +hull was 100`, out)
	assert.Contains(t, run(0, "record", "compare", kept, kept), "they hold the same")
}

// exported returns the tint that an export has.
func exported(t *testing.T, raw string) json.RawMessage {
	var list []api.Kept
	require.NoError(t, json.Unmarshal([]byte(raw), &list))
	require.Len(t, list, 1)
	return list[0].Values["Diver.tint"]
}
