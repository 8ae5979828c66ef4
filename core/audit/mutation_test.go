package audit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad.example/core/compile"
	"kamerad.example/core/contract"
	"kamerad.example/core/drill"
	"kamerad.example/core/syntax"
	"kamerad.example/internal/tests/guards"
)

const demo = "../../demo"

// files opens the demo's files, with another text of the contract.
func files(t testing.TB, text string) syntax.Open {
	return func(name string) (string, error) {
		if name == "tidewreck.kam" {
			return text, nil
		}
		raw, err := os.ReadFile(filepath.Join(demo, filepath.Base(name)))
		return string(raw), err
	}
}

// Each guard of Tidewreck is deleted in turn: nearly all of these holes are found by a finding, by one of its drills or
// by the audit.
func TestEachDeletedGuardIsFound(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	text := string(raw)
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	all := guards.Of(text)
	by := map[string]int{}
	silent := []string{}
	for _, g := range all {
		mutant := text[:g.Start] + text[g.End:]
		open := files(t, mutant)
		c, problems := compile.LoadWith("tidewreck.kam", mutant, open)
		switch {
		case len(problems) > 0:
			by["a finding"]++
			continue
		case drilled(t, names, open):
			by["a drill"]++
			continue
		}
		r, err := Run(context.Background(), c, Options{Seed: 1, Rounds: 2, Ticks: 200})
		require.NoError(t, err)
		if !r.Clean() {
			by["the audit"]++
			continue
		}
		silent = append(silent, g.What+" of "+g.Of)
	}
	t.Logf(
		"%d guards deleted in turn: found by %v; not found: %d\n%s", len(all), by, len(silent),
		strings.Join(silent, "\n"),
	)
	assert.LessOrEqual(t, float64(len(silent)), 0.05*float64(len(all)))
}

// Each declaration of Tidewreck, and each clause that may be left out, is deleted in turn: nearly all of that is told
// by a mistake, a warning or a red drill, which names it.
func TestEachForgottenPartIsTold(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	text := string(raw)
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	all := guards.Parts(text)
	by := map[string]int{}
	silent := []string{}
	unnamed := []string{}
	whole, problems := compile.LoadWith("tidewreck.kam", text, files(t, text))
	require.NotNil(t, whole, problems.Error())
	require.Empty(t, redDrill(t, names, files(t, text)), "the drills pass as it is")
	same := 0
	for _, g := range all {
		mutant := text[:g.Start] + text[g.End:]
		open := files(t, mutant)
		c, problems := compile.LoadWith("tidewreck.kam", mutant, open)
		if c != nil &&
			(g.What == "=" && slices.Equal(startsAt(whole, g.Of), startsAt(c, g.Of)) ||
				g.What == "tick" && c.TickRate == whole.TickRate) {
			same++ // it says what is so without it
			continue
		}
		words := problems.Error()
		how := "the checker"
		if len(problems) == 0 {
			words = redDrill(t, names, open)
			how = "a drill"
		}
		if words == "" {
			silent = append(silent, g.What+" of "+g.Of)
			continue
		}
		by[how]++
		if !named(words, g.Of) {
			unnamed = append(unnamed, g.What+" of "+g.Of)
		}
	}
	t.Logf(
		"%d parts deleted in turn: %d say what is so without them; told by %v; not told: %d\n%s\n"+
			"told without its name: %d\n%s",
		len(all), same, by, len(silent), strings.Join(silent, "\n"), len(unnamed), strings.Join(unnamed, "\n"),
	)
	assert.LessOrEqual(t, float64(len(silent)), 0.05*float64(len(all)-same))
}

// startsAt returns the default of a property, by the name of its kind and its own.
func startsAt(c *contract.Contract, name string) []int64 {
	kind, property, _ := strings.Cut(name, ".")
	for _, k := range c.Kinds {
		if p := k.Property(property); k.Name == kind && p != nil {
			return p.Default
		}
	}
	return nil
}

// named reports whether words have a name, or the last part of it.
func named(words, name string) bool {
	words = strings.ToLower(words)
	for _, part := range strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '.' || r == ' ' }) {
		if part != "on" && part != "every" && strings.Contains(words, part) {
			return true
		}
	}
	return false
}

// drilled reports whether a drill fails.
func drilled(t *testing.T, names []string, open syntax.Open) bool {
	return redDrill(t, names, open) != ""
}

// redDrill returns what the first drill that fails says of it, or "" when all pass.
func redDrill(t *testing.T, names []string, open syntax.Open) string {
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		drills, problems := drill.Load(name, string(raw), open)
		if len(problems) > 0 {
			return problems.Error() // it speaks of what is no longer there
		}
		for _, d := range drills {
			r, err := d.Run(context.Background(), drill.Options{})
			require.NoError(t, err, fmt.Sprint(name, d.Name))
			if !r.Passed {
				return d.Name + ": " + r.Failure.Text + ": " + r.Failure.Message + strings.Join(
					append(r.Failure.Before, r.Failure.Causes...), "\n",
				)
			}
		}
	}
	return ""
}
