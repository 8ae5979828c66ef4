package audit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kamerad/core/contract"
	"kamerad/core/drill"
	"kamerad/core/syntax"
	"kamerad/internal/tests/guards"
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

// Each guard of Tidewreck is deleted in turn: nearly all of these holes are found by a finding, by one of its drills or by the audit.
func TestEachDeletedGuardIsFound(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join(demo, "tidewreck.kam"))
	require.NoError(t, err)
	text := string(raw)
	names, err := filepath.Glob(filepath.Join(demo, "*.drill"))
	require.NoError(t, err)
	all := guards.Of(text)
	by, silent := map[string]int{}, []string{}
	for _, g := range all {
		mutant := text[:g.Start] + text[g.End:]
		open := files(t, mutant)
		c, problems := contract.LoadWith("tidewreck.kam", mutant, open)
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
	t.Logf("%d guards deleted in turn: found by %v; not found: %d\n%s", len(all), by, len(silent), strings.Join(silent, "\n"))
	assert.LessOrEqual(t, float64(len(silent)), 0.05*float64(len(all)))
}

// drilled tells whether a drill fails.
func drilled(t *testing.T, names []string, open syntax.Open) bool {
	for _, name := range names {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		drills, problems := drill.Load(name, string(raw), open)
		if len(problems) > 0 {
			return true // it speaks of what is no longer there
		}
		for _, d := range drills {
			r, err := d.Run(context.Background(), drill.Options{})
			require.NoError(t, err, fmt.Sprint(name, d.Name))
			if !r.Passed {
				return true
			}
		}
	}
	return false
}
