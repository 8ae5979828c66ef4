package main

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/internal/tests/testservice"
)

const wharfText = `contract wharf language 2
shared Wharf {
  bell: int 0..99 = 3 clamped keep
  calm: bool = true
  request ring() from everyone { bell += 1; calm = false }
}
`

// What is kept of shared kinds goes from session to session of a world, over a service that is killed, and is in one
// session at a time.
func TestAWorldLasts(t *testing.T) {
	p := testservice.Start(t)
	_, err := p.Publish(t.Context(), "wharf.kam", wharfText, nil)
	require.NoError(t, err)
	run := func(want int, args ...string) string {
		out, status := p.Run("", args...)
		assert.Equal(t, want, status, out)
		return out
	}
	state := func(session string) string { return run(0, "replay", session, "--state") }
	run(0, "session", "open", "wharf", "--world", "harbour")
	run(0, "ask", "1", "Wharf.ring", "--as", "Ana")
	out := run(2, "session", "open", "wharf", "--world", "harbour")
	assert.Contains(t, out, "the world harbour is in session 1")
	p.Kill()
	p.Restart()
	run(0, "ask", "1", "Wharf.ring", "--as", "Bo")
	assert.Contains(t, run(0, "replay", "1"), "every frame is what was sent then")
	out = run(2, "world", "set", "harbour", "Wharf.bell", "7", "--contract", "wharf")
	assert.Contains(t, out, "the world harbour is in session 1")
	run(0, "session", "close", "1")
	assert.Regexp(t, `harbour +wharf +Wharf\.bell 5`, run(0, "world", "show", "harbour"))
	assert.Contains(t, run(2, "world", "set", "harbour", "Wharf.calm", "false", "--contract", "wharf"), "it keeps no")
	run(0, "world", "set", "harbour", "Wharf.bell", "7", "--contract", "wharf")

	opened := run(0, "session", "open", "wharf", "--world", "harbour", "--json")
	assert.Contains(t, opened, `"world": "harbour"`)
	number := regexpFirst(t, `"id": (\d+)`, opened)
	run(0, "ask", number, "Wharf.ring", "--as", "Ana")
	assert.Regexp(t, `"bell": 8,\s+"calm": false`, state(number))
	other := regexpFirst(t, `"id": (\d+)`, run(0, "session", "open", "wharf", "--json"))
	run(0, "ask", other, "Wharf.ring", "--as", "Ana")
	assert.Contains(t, state(other), `"bell": 4`, "a session without a world has the defaults")
	assert.Contains(t, run(2, "session", "open", "wharf", "--world", "the harbour"), "letters, digits")
	_, err = p.Publish(t.Context(), "reef.kam", reefText, nil)
	require.NoError(t, err)
	assert.Contains(t, run(2, "session", "open", "reef", "--world", "harbour"), "keeps nothing of a shared kind")
	assert.Contains(t, run(0, "world", "list"), "harbour")
	run(0, "session", "close", number)
	assert.Contains(t, run(0, "world", "delete", "harbour"), "forgot what harbour keeps of 1 contracts")

	// A drill goes on in the same world.
	dir := folder(t, map[string]string{"wharf.kam": wharfText, "wharf.drill": `drill "the bell"
use "wharf.kam"
join ana
ana asks Wharf.ring() -> accepted
settle
next session
join ana
expect server sees Wharf.bell == 4 and Wharf.calm
`})
	out, status := command(t, dir, "drill", "wharf.drill")
	assert.Equal(t, 0, status, out)
}

// regexpFirst returns what the group of a pattern matches first.
func regexpFirst(t *testing.T, pattern, text string) string {
	found := regexp.MustCompile(pattern).FindStringSubmatch(text)
	require.NotNil(t, found, text)
	return found[1]
}
