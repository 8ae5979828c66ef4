package policy

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
)

// plain keeps to every rule.
const plain = `contract wreck language 2
tick 20 per second
strikes 3 in 10s
entity Diver per player {
  hull: int 0..100 = 100 clamped
  depth: int 0..9 = 0 set by owner pace abs(new - old) 3 per second when new < 8
  request patch() limit 2 per second check hull > 0 else deny "sunk" { hull += 1 }
  request push() from everyone limit 2 per second check hull > 9 else deny "sunk" { hull -= 1 }
}
`

// broken is what takes the place of what in plain so that each rule is broken, and on which line that is told.
var broken = map[string]struct {
	what, by string
	line     int
}{
	"checks":      {` check hull > 9 else deny "sunk"`, "", 8},
	"limits":      {" limit 2 per second check hull > 0", " check hull > 0", 7},
	"open-limits": {" limit 2 per second check hull > 9", " check hull > 9", 8},
	"paces":       {" pace abs(new - old) 3 per second", "", 6},
	"strikes":     {"strikes 3 in 10s\n", "\n", 1},
	"when":        {" when new < 8", "", 6},
}

// Each rule passes what keeps to it, and tells on its line what does not.
func TestEachRuleTellsWhatBreaksIt(t *testing.T) {
	require.Len(t, broken, len(Rules()))
	for _, rule := range Rules() {
		p, err := Read([]byte(`{"require": ["` + rule.Name + `"]}`))
		require.NoError(t, err)
		c, warnings := compile.Load("wreck.kam", plain)
		require.NotNil(t, c, warnings.Error())
		problems, isRefused := p.Apply(c, warnings)
		assert.False(t, isRefused, "%s: %s", rule.Name, problems.Error())

		b := broken[rule.Name]
		require.Contains(t, plain, b.what)
		c, warnings = compile.Load("wreck.kam", strings.Replace(plain, b.what, b.by, 1))
		require.NotNil(t, c, warnings.Error())
		problems, isRefused = p.Apply(c, warnings)
		assert.True(t, isRefused, rule.Name)
		var lines []int
		for _, problem := range problems {
			if problem.Code == Code {
				lines = append(lines, problem.Line)
				assert.Contains(t, problem.Message, "("+rule.Name+")")
				assert.False(t, problem.Warning)
			}
		}
		assert.Equal(t, []int{b.line}, lines, rule.Name)
	}
}

// A finding becomes a mistake unless it is accepted; one that may never be accepted is told at the line that accepts it.
func TestFindingsBecomeMistakes(t *testing.T) {
	const open = `contract wreck language 2
entity Diver per player {
  hull: int 0..100 = 100 clamped
  ACCEPT
  request push() from everyone limit 2 per second { hull -= 1 }
}
`
	apply := func(policy, text string) (codes []string, isRefused bool) {
		p, err := Read([]byte(policy))
		require.NoError(t, err)
		c, warnings := compile.Load("wreck.kam", text)
		require.NotNil(t, c, warnings.Error())
		problems, isRefused := p.Apply(c, warnings)
		for _, problem := range problems {
			codes = append(codes, problem.Code)
			assert.Equal(t, 4, problem.Line, "the request, or the line that accepts")
		}
		return codes, isRefused
	}
	found := strings.Replace(open, "  ACCEPT\n", "", 1)
	accepted := strings.Replace(open, "ACCEPT", `accept unguarded "a game of pushing"`, 1)
	codes, isRefused := apply(`{}`, found)
	assert.Equal(t, []string{"unguarded"}, codes)
	assert.False(t, isRefused)
	_, isRefused = apply(`{"mistakes": ["leak"]}`, found)
	assert.False(t, isRefused)
	codes, isRefused = apply(`{"mistakes": ["unguarded"]}`, found)
	assert.Equal(t, []string{"unguarded"}, codes)
	assert.True(t, isRefused)
	codes, isRefused = apply(`{"mistakes": ["unguarded"]}`, accepted)
	assert.Empty(t, codes)
	assert.False(t, isRefused)
	codes, isRefused = apply(`{"never_accept": ["unguarded"]}`, accepted)
	assert.Equal(t, []string{Code}, codes)
	assert.True(t, isRefused)
	_, isRefused = apply(`{"never_accept": ["unguarded"]}`, found)
	assert.True(t, isRefused)
}

func TestAWrongPolicyIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		`[]`:                            "it is an object",
		`{"mistake": []}`:               "unknown field",
		`{} {}`:                         "behind its object",
		`{"mistakes": ["leek"]}`:        "there is no finding \"leek\"; there are abandoned",
		`{"never_accept": ["x"]}`:       "there is no finding",
		`{"require": ["limit"]}`:        "there is no rule \"limit\"; there are checks, limits",
		`{"require": ["when", "when"]}`: "stands twice",
		`{"mistakes": ["leak"], "never_accept": ["leak"]}`: "stands twice",
		`{"require": []}` + strings.Repeat(" ", MaxSize):   "may have 65536",
	} {
		_, err := Read([]byte(text))
		require.ErrorContains(t, err, want)
	}
	c, warnings := compile.Load("wreck.kam", plain)
	var none *Policy
	problems, isRefused := none.Apply(c, warnings)
	assert.Equal(t, warnings, problems)
	assert.False(t, isRefused)
}

// The reference shows a policy that can be read, and all rules with their titles.
func TestTheReferenceTellsAllRules(t *testing.T) {
	raw, err := os.ReadFile("../../docs/language.md")
	require.NoError(t, err)
	_, section, found := strings.Cut(string(raw), "### A team's policy\n")
	require.True(t, found)
	block := regexp.MustCompile("(?s)```policy\n(.*?)```").FindStringSubmatch(section)
	require.NotNil(t, block)
	_, err = Read([]byte(block[1]))
	require.NoError(t, err)
	for _, rule := range Rules() {
		assert.Contains(t, section, "| `"+rule.Name+"` | "+rule.Title+" |")
	}
}
