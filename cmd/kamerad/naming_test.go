package main

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
)

const yard = `contract yard language 1
roles player
shared Yard { on start { spawn Rig { }; spawn Rig { } } }
entity Rig {
  load: int 0..9 = 0
  by:   client = nothing
  mate: ref Diver = nothing
  request lift(n: int 0..9, by: client, mate: ref Diver) from player { self.load = n; self.by = by; self.mate = mate }
  request crash(n: int 0..9) from player { load = 5 / n }
}
entity Diver per player {
  said: text max 40 = ""
  hold wink lease 1s when said != ""
  request say(words: text max 40) { said = words }
}
`

// Any entity has a name in the terminal, which stands before a request as well as for a value; texts stand in quotes; a
// refused hold is told, and so is what failed inside.
func TestTheTerminalNamesAnyEntity(t *testing.T) {
	p := testservice.Start(t)
	file := filepath.Join(t.TempDir(), "yard.kam")
	require.NoError(t, os.WriteFile(file, []byte(yard), 0o644))
	out, status := p.Run("", "contract", "publish", file)
	require.Equal(t, 0, status, out)
	out, status = p.Run("", "session", "open", "yard")
	require.Equal(t, 0, status, out)
	const lines = "hold Diver.wink\nsay \"hello <there> & you\"\nRig[2].lift 3 Dov Dov\n" +
		"Rig[1].lift 4 Dov Dov.Diver\nRig[2].crash 0\nsee\nRig[3].lift 1 Dov Dov\nRig[1].lift 1 Bo Dov\n" +
		"#77.lift 1 Dov nothing\n\"oh\nquit\n"
	out, status = p.Run(lines, "join", "1", "--as", "Dov")
	require.Equal(t, 0, status, out)
	assert.Regexp(t, `hold Diver\.wink ✕ denied: when`, out)
	assert.Regexp(t, `Dov.Diver +#\d+ +said +"hello <there> & you"`, out)
	rows := regexp.MustCompile(
		`(?s)Rig\[1\] +#(\d+) +load +4\n +by +Dov\n +mate +Dov.Diver\nRig\[2\] +#(\d+) +load +3\n`,
	).FindStringSubmatch(
		out,
	)
	require.NotNil(t, rows, out)
	assert.Contains(t, out, "! faulted: ")
	assert.Contains(t, out, "this client holds no Rig[3]; it holds Dov.Diver, Rig[1], Rig[2]")
	assert.Contains(t, out, "no client is called Bo; here are Dov")
	assert.Contains(t, out, "denied: no such")
	assert.Contains(t, out, "is no text in quotes")
	out, status = p.Run("", "ask", "1", "#"+rows[2]+".lift", "7", "Cleo", "nothing", "--as", "Cleo")
	assert.Equal(t, 0, status, out)
	out, status = p.Run("see\n", "join", "1", "--as", "Cleo")
	assert.Equal(t, 0, status, out)
	assert.Regexp(t, `Rig\[2\] +#`+rows[2]+` +load +7\n`, out)
	out, status = p.Run("", "session", "show", "1")
	assert.Equal(t, 0, status, out)
	assert.Contains(t, out, "Diver.say(hello <there> & you)")
	assert.Regexp(t, `open .*! failed inside 1 time`, out)
	assert.Regexp(t, `1 +request crash of Rig, line 9 of yard.kam +asked by Dov with 0 +division by zero`, out)
}

// A drill may stand in a folder of its own; what a contract includes lies in the contract's.
func TestADrillNamesAContractElsewhere(t *testing.T) {
	dir := folder(t, map[string]string{"wreck.kam": wreck, "apart.kam": "include \"../wreck.kam\"\n"})
	drills := filepath.Join(dir, "drills")
	require.NoError(t, os.Mkdir(drills, 0o700))
	for name, text := range map[string]string{
		"it.drill":    "drill \"it\"\nuse \"../wreck.kam\"\nclients ana\nana asks Diver.patch() -> accepted\n",
		"apart.drill": "drill \"it\"\nuse \"../apart.kam\"\nclients ana\n",
		"far.drill":   "drill \"it\"\nuse \"" + filepath.Join(dir, "wreck.kam") + "\"\nclients ana\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(drills, name), []byte(text), 0o600))
	}
	out, status := command(t, dir, "drill", "drills/it.drill")
	assert.Equal(t, 0, status, out)
	out, status = command(t, drills, "check", "it.drill")
	assert.Equal(t, 0, status, out)
	out, status = command(t, dir, "drill", "drills/apart.drill")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, out, "leads out of the contract's folder")
	out, status = command(t, dir, "drill", "drills/far.drill")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, out, "is not told from the drill's folder")
}
