package findings_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/findings"
)

// Each finding has at least three contracts that have it, and three near ones that have not. Their messages stand in
// them, and are held against what is told by TestEveryMistakeIsToldOnItsLine.
func TestEveryFindingHasItsContracts(t *testing.T) {
	files, err := filepath.Glob("../compile/testdata/danger/*.kam")
	require.NoError(t, err)
	var names []string
	for _, f := range findings.Findings() {
		names = append(names, f.Name)
	}
	has := map[string]int{}
	near := map[string]int{}
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		name, rest, _ := strings.Cut(strings.TrimSuffix(filepath.Base(file), ".kam"), "-")
		require.Contains(t, names, name)
		c, problems := compile.Load(file, string(raw))
		require.NotNil(t, c, problems.Error())
		if strings.HasPrefix(rest, "near") {
			near[name]++
			assert.Empty(t, problems, file)
			continue
		}
		has[name]++
		assert.NotEmpty(t, problems, file)
		for _, p := range problems {
			assert.Equal(t, name, p.Code, file)
		}
	}
	for _, name := range names {
		assert.GreaterOrEqual(t, has[name], 3, name)
		assert.GreaterOrEqual(t, near[name], 3, name)
	}
	assert.GreaterOrEqual(t, has["leak"], 15)
	t.Logf("%d contracts: %v have what they are named after, %v are near", len(files), has, near)
}

// What is explained is true: the example has the finding and no other, and mended it has none.
func TestEveryFindingIsExplained(t *testing.T) {
	list := findings.Findings()
	require.Len(t, list, 12)
	for _, f := range list {
		assert.NotEmpty(t, f.Title)
		assert.Greater(t, len(f.Harm), 100, f.Name)
		c, problems := compile.Load(f.Name+".kam", f.Example)
		require.NotNil(t, c, problems.Error())
		require.NotEmpty(t, problems, f.Name)
		for _, p := range problems {
			assert.Equal(t, f.Name, p.Code, p.Message)
		}
		_, problems = compile.Load(f.Name+".kam", f.Mended)
		assert.Empty(t, problems, f.Name)
	}
}

// A finding that is accepted above its declaration is not told; elsewhere it is.
func TestAFindingIsAcceptedWhereItStands(t *testing.T) {
	text := `contract wreck language 1
shared Strongbox {
  answer: int 0..4 = 0 clamped to nobody
  opened: int 0..4 = 0
  accept leak "one guess in ten seconds is what they may learn"
  request guess() from player
    limit 1 per 10s
    check answer > 2 else deny "wrong"
  { opened = 1 }
  request peek() from player
    limit 1 per 10s
    check opened < 3 else deny "wrong"
  { opened = answer; answer += 1 }
}
`
	_, problems := compile.Load("wreck.kam", text)
	require.Len(t, problems, 1)
	assert.Equal(t, "leak", problems[0].Code)
	assert.Equal(t, 13, problems[0].Line)
	assert.Equal(
		t, "`Strongbox.answer` goes to nobody, and shows in `Strongbox.opened`, which goes to everyone",
		problems[0].Message,
	)
	_, problems = compile.Load("wreck.kam", strings.Replace(text, "accept leak", "accept unfair", 1))
	require.Len(t, problems, 3)
}
